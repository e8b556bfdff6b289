//! Tables that keep every change, or every version, killed again and again under load: compared with what the application
//! itself wrote down of each of its changes.
//!
//! `scripts/soak kept N` kills as many times as it is told; the ordinary suite a few times.

use crate::harness::{Folder, Mirror, Quay};
use moorage_testkit::{PostgresServer, Session};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng as StdRng;
use rstest::rstest;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

/// Two tables, and what an application writes down of each change: which transaction made it, and what the row was then. A
/// change of the key is the old row's end and the new one's beginning.
const TABLES: &str = "
CREATE TABLE berths (id int PRIMARY KEY, val int, note text); CREATE TABLE stays (LIKE berths INCLUDING ALL);
ALTER TABLE berths ALTER note SET STORAGE EXTERNAL; ALTER TABLE stays ALTER note SET STORAGE EXTERNAL;
INSERT INTO berths SELECT i, i, repeat('x', 4000) FROM generate_series(1, 20) i; INSERT INTO stays SELECT * FROM berths;
CREATE SCHEMA office;
CREATE TABLE office.book (seq bigserial PRIMARY KEY, tx text DEFAULT pg_current_xact_id()::text, tab text, op text, id int, val int, len int);
CREATE FUNCTION office.write() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
  IF TG_OP = 'TRUNCATE' THEN INSERT INTO office.book (tab, op) VALUES (TG_TABLE_NAME, 'truncate'); RETURN NULL; END IF;
  IF TG_OP = 'DELETE' OR (TG_OP = 'UPDATE' AND OLD.id <> NEW.id) THEN
    INSERT INTO office.book (tab, op, id) VALUES (TG_TABLE_NAME, 'delete', OLD.id); END IF;
  IF TG_OP <> 'DELETE' THEN INSERT INTO office.book (tab, op, id, val, len) VALUES (TG_TABLE_NAME,
    CASE WHEN TG_OP = 'INSERT' OR OLD.id <> NEW.id THEN 'insert' ELSE 'update' END, NEW.id, NEW.val, length(NEW.note)); END IF;
  RETURN NULL; END $$;
CREATE TRIGGER book AFTER INSERT OR UPDATE OR DELETE ON berths FOR EACH ROW EXECUTE FUNCTION office.write();
CREATE TRIGGER book AFTER INSERT OR UPDATE OR DELETE ON stays FOR EACH ROW EXECUTE FUNCTION office.write();
CREATE TRIGGER books AFTER TRUNCATE ON berths EXECUTE FUNCTION office.write();
CREATE TRIGGER books AFTER TRUNCATE ON stays EXECUTE FUNCTION office.write();";

/// The same in a file, where the application says which transaction it is in.
const FILE_TABLES: &str = "
CREATE TABLE berths (id INTEGER PRIMARY KEY, val INT, note TEXT); CREATE TABLE stays (id INTEGER PRIMARY KEY, val INT, note TEXT);
WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 20) INSERT INTO berths SELECT i, i, hex(zeroblob(2000)) FROM n;
INSERT INTO stays SELECT * FROM berths;
CREATE TABLE office_tx (tx INT); INSERT INTO office_tx VALUES (0);
CREATE TABLE office_book (seq INTEGER PRIMARY KEY, tx INT, tab TEXT, op TEXT, id INT, val INT, len INT);";

fn file_book() -> String {
    let of = |tab: &str| {
        let write = |op: &str, row: &str| {
            let values =
                if op == "delete" { "NULL, NULL".into() } else { format!("{row}.val, length({row}.note)") };
            format!(
                "INSERT INTO office_book (tx, tab, op, id, val, len) SELECT tx, '{tab}', '{op}', {row}.id, {values} FROM office_tx;"
            )
        };
        format!(
            "CREATE TRIGGER {tab}_i AFTER INSERT ON {tab} BEGIN {} END;
             CREATE TRIGGER {tab}_d AFTER DELETE ON {tab} BEGIN {} END;
             CREATE TRIGGER {tab}_u AFTER UPDATE ON {tab} WHEN OLD.id = NEW.id BEGIN {} END;
             CREATE TRIGGER {tab}_m AFTER UPDATE ON {tab} WHEN OLD.id <> NEW.id BEGIN {} {} END;",
            write("insert", "NEW"),
            write("delete", "OLD"),
            write("update", "NEW"),
            write("delete", "OLD"),
            write("insert", "NEW")
        )
    };
    format!("{}{}", of("berths"), of("stays"))
}

/// One random transaction; it may fail, and then it leaves nothing.
fn transaction(random: &mut StdRng, on_server: bool) -> String {
    let mut all = Vec::new();
    for _ in 0..random.random_range(1..5) {
        let tab = ["berths", "stays"][random.random_range(0..2)];
        let (id, val) = (random.random_range(1..40), random.random_range(0..1_000_000_000));
        let large =
            if on_server { "repeat('y', 3000 + mod(VAL, 3000))" } else { "hex(zeroblob(1000 + VAL % 2000))" };
        let large = large.replace("VAL", &val.to_string());
        all.push(match random.random_range(0..100) {
            0..25 => format!("INSERT INTO {tab} SELECT {id}, {val}, {large} WHERE NOT EXISTS (SELECT 1 FROM {tab} WHERE id = {id})"),
            25..60 => format!("UPDATE {tab} SET val = {val} WHERE id = {id}"),
            60..70 => format!("UPDATE {tab} SET val = {val}, note = {large} WHERE id = {id}"),
            70..80 => {
                let to = random.random_range(1..40);
                format!("UPDATE {tab} SET id = {to} WHERE id = {id} AND id <> {to} AND NOT EXISTS (SELECT 1 FROM {tab} WHERE id = {to})")
            }
            99 if on_server && random.random_range(0..4) == 0 => format!("TRUNCATE {tab}"),
            _ => format!("DELETE FROM {tab} WHERE id = {id}"),
        });
    }
    if !on_server {
        all.insert(0, "UPDATE office_tx SET tx = tx + 1".into());
    }
    format!("BEGIN; {}; COMMIT", all.join("; "))
}

/// A row of a trail, or of what the application wrote down.
type Told = (String, String, Option<i64>, Option<i64>, Option<i64>);

/// An operation, with the values behind it.
type Happened = (String, Option<i64>, Option<i64>);

/// What happened to each row between two truncates, in order.
fn by_row(told: &[Told]) -> BTreeMap<(usize, i64), Vec<Happened>> {
    let (mut emptied, mut rows) = (0, BTreeMap::new());
    for (_, op, id, val, len) in told {
        match id {
            None => emptied += 1,
            Some(id) => rows.entry((emptied, *id)).or_insert_with(Vec::new).push((op.clone(), *val, *len)),
        }
    }
    rows.insert((emptied, -1), vec![("truncates".into(), Some(emptied as i64), None)]);
    rows
}

/// The states of each row that transactions left, one behind the other: its values, or that it is not there.
type States = BTreeMap<i64, Vec<Option<(i64, i64)>>>;

/// The states that transactions left behind, by what the application wrote down.
fn states(began: &[(i64, i64, i64)], told: &[Told]) -> States {
    let mut all: States = began.iter().map(|(id, val, len)| (*id, vec![Some((*val, *len))])).collect();
    let mut last: BTreeMap<i64, String> = BTreeMap::new();
    for (tx, op, id, val, len) in told {
        let ids: Vec<i64> = match id {
            Some(id) => vec![*id],
            None => all.keys().copied().collect(),
        };
        for id in ids {
            let states = all.entry(id).or_default();
            let now = (op != "delete" && op != "truncate").then(|| (val.unwrap(), len.unwrap()));
            // What its own transaction left of it for a moment was never there.
            if last.get(&id) == Some(tx) {
                states.pop();
            }
            let was = states.last().copied().flatten();
            if now.is_some() || was.is_some() || last.get(&id) == Some(tx) && states.is_empty() {
                states.push(now);
            } else {
                states.push(None);
            }
            last.insert(id, tx.clone());
        }
    }
    for states in all.values_mut() {
        states.dedup_by(|a, b| a.is_none() && b.is_none());
        if states.first() == Some(&None) {
            states.remove(0);
        }
    }
    all.retain(|_, states| !states.is_empty());
    all
}

/// The same by the versions that the target has: values, and whether the next one begins when it ends.
fn states_kept(versions: &[(i64, i64, i64, String, Option<String>)]) -> States {
    let mut all = States::new();
    for (at, (id, val, len, since, until)) in versions.iter().enumerate() {
        let states = all.entry(*id).or_default();
        states.push(Some((*val, *len)));
        assert!(until.as_ref().is_none_or(|until| since < until), "{id} from {since} to {until:?}");
        let next = versions.get(at + 1).filter(|next| next.0 == *id);
        if let (Some(next), Some(until)) = (next, until) {
            assert!(*until <= next.3, "versions of {id} overlap");
        }
        assert!(next.is_none() || until.is_some(), "{id} has two versions that are valid");
        if until.is_some() && next.is_none_or(|next| Some(&next.3) != until.as_ref()) {
            states.push(None);
        }
    }
    all
}

fn kills() -> usize {
    std::env::var("MOORAGE_KEPT").ok().and_then(|n| n.parse().ok()).unwrap_or(5)
}

/// Starts and kills the program beside the application, which goes on until the last of them.
fn kill_again_and_again(folder: &Folder, seed: u64, work: impl Fn(u64) -> Box<dyn FnMut() + Send>) {
    let stop = Arc::new(AtomicBool::new(false));
    let workers: Vec<_> = (0..3)
        .map(|number| {
            let (stop, mut work) = (stop.clone(), work(number));
            std::thread::spawn(move || {
                while !stop.load(Ordering::Relaxed) {
                    work();
                }
            })
        })
        .collect();
    let mut random = StdRng::seed_from_u64(seed);
    for _ in 0..kills() {
        let mut running = folder.start(&["run"]);
        running.wait_for("following changes");
        // However long: the test says when it is killed, not when it is done.
        std::thread::sleep(Duration::from_millis(random.random_range(20..900)));
        running.kill();
    }
    stop.store(true, Ordering::Relaxed);
    workers.into_iter().for_each(|worker| worker.join().unwrap());
}

const KEPT: &str = "include = [\"*.berths\", \"*.stays\"]\n[[pipelines.NAME.rule]]\nmatch = \"*.berths\"\nkeep = \"changes\"\n
[[pipelines.NAME.rule]]\nmatch = \"*.stays\"\nkeep = \"versions\"\n";

fn texts(session: Option<&Session>, folder: &Folder, sql: &str) -> Vec<String> {
    match session {
        Some(session) => session.rows(sql).iter().map(|row| row.get(0)).collect(),
        None => {
            let db = folder.warehouse();
            let mut query = db.prepare(&sql.replace("mirror.", "").replace("::text", "")).unwrap();
            query.query_map([], |r| r.get(0)).unwrap().map(Result::unwrap).collect()
        }
    }
}

fn number(text: &str) -> Option<i64> {
    text.parse().ok()
}

/// What both tables of the target have come to.
fn kept(session: Option<&Session>, folder: &Folder) -> (Vec<Told>, States) {
    let sql = "SELECT coalesce(moorage_operation, '') || '|' || coalesce(id::text, '') || '|' || coalesce(val::text, '') || '|' || coalesce(length(note)::text, '') || '|' || coalesce(moorage_unchanged::text, '')
        FROM mirror.berths WHERE moorage_operation <> 'snapshot' ORDER BY moorage_position, moorage_order";
    let trail = texts(session, folder, sql).into_iter().map(|text| {
        let parts: Vec<&str> = text.split('|').collect();
        assert_eq!(parts[4], "", "all values are known: {text}");
        (String::new(), parts[0].into(), number(parts[1]), number(parts[2]), number(parts[3]))
    });
    let trail = trail.collect();
    let sql = "SELECT id::text || '|' || val::text || '|' || length(note)::text || '|' || moorage_since::text || '|' || coalesce(moorage_until::text, '')
        FROM mirror.stays ORDER BY id, moorage_since";
    let versions = texts(session, folder, sql).into_iter().map(|text| {
        let parts: Vec<&str> = text.split('|').collect();
        let until = (!parts[4].is_empty()).then(|| parts[4].to_string());
        (
            number(parts[0]).unwrap(),
            number(parts[1]).unwrap(),
            number(parts[2]).unwrap(),
            parts[3].to_string(),
            until,
        )
    });
    (trail, states_kept(&versions.collect::<Vec<_>>()))
}

fn began() -> Vec<(i64, i64, i64)> {
    (1..=20).map(|id| (id, id, 4000)).collect()
}

#[rstest]
fn every_change_and_every_version_is_there_once(
    #[values("log", "trigger")] capture: &str,
    #[values("database", "file")] target: &str,
) {
    let name = format!("kept_{capture}_{target}");
    let mirror = Mirror::new(&name, TABLES);
    mirror.replace("include = [\"public.*\"]\n", "");
    mirror.append(&KEPT.replace("NAME", &name));
    if target == "file" {
        mirror.has_file_as_target();
    }
    if capture == "trigger" {
        let before = "[sources.harbour]\nkind = \"postgres\"\n";
        mirror.replace(before, &format!("{before}capture = \"trigger\"\n"));
    }
    // A table of its own beside each, from the same capture.
    mirror.replace(
        "match = \"*.berths\"\n",
        "match = \"*.berths\"\nalso = [{ into = \"{table}_now\", deletes = \"mark\" }]\n",
    );
    mirror.catch_up();
    kill_again_and_again(&mirror, name.len() as u64, |number| {
        let session = mirror.another_session();
        let mut random = StdRng::seed_from_u64(number);
        Box::new(move || {
            if session.try_run(&transaction(&mut random, true)).is_err() {
                session.run("ROLLBACK");
            }
        })
    });
    mirror.catch_up();
    let book = |tab: &str| -> Vec<Told> {
        let sql = format!(
            "SELECT tx, op, id::bigint, val::bigint, len::bigint FROM office.book WHERE tab = '{tab}' ORDER BY seq"
        );
        mirror.source.rows(&sql).iter().map(|r| (r.get(0), r.get(1), r.get(2), r.get(3), r.get(4))).collect()
    };
    let session = (target == "database").then_some(&mirror.target);
    let (trail, versions) = kept(session, &mirror);
    let (told, stays) = (book("berths"), book("stays"));
    assert!(told.len() > 100 && stays.len() > 100, "the application worked");
    assert_eq!(by_row(&trail), by_row(&told));
    assert_eq!(versions, states(&began(), &stays));
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// A file does not tell which changes were committed together: those of one look make one version.
#[rstest]
fn of_a_file_every_change_is_there_once_and_versions_are_states_that_there_were(
    #[values("file", "database")] target: &str,
) {
    let quay = Quay::new(&format!("{FILE_TABLES}{}", file_book()));
    let server = PostgresServer::shared();
    let session = (target == "database").then(|| {
        server.session("postgres").run("CREATE DATABASE kept_from_a_file");
        let url = server.url("kept_from_a_file");
        quay.replace(
            "[targets.warehouse]\nkind = \"sqlite\"\npath = \"warehouse.db\"",
            &format!("[targets.warehouse]\nkind = \"postgres\"\nurl = \"{url}\"\nschema = \"mirror\""),
        );
        server.session("kept_from_a_file")
    });
    quay.append(&KEPT.replace("NAME", "quayside"));
    quay.catch_up();
    kill_again_and_again(&quay, 7, |number| {
        let db = quay.harbour();
        let mut random = StdRng::seed_from_u64(number);
        Box::new(move || {
            if db
                .execute_batch(&transaction(&mut random, false).replace("BEGIN;", "BEGIN IMMEDIATE;"))
                .is_err()
            {
                // It is over already where the file was busy.
                let _ = db.execute_batch("ROLLBACK");
            }
        })
    });
    quay.catch_up();
    let db = quay.harbour();
    let book = |tab: &str| -> Vec<Told> {
        let mut query = db
            .prepare("SELECT CAST(tx AS TEXT), op, id, val, len FROM office_book WHERE tab = ?1 ORDER BY seq")
            .unwrap();
        let row = |r: &rusqlite::Row<'_>| Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?, r.get(4)?));
        query.query_map([tab], row).unwrap().map(Result::unwrap).collect()
    };
    let (trail, versions) = kept(session.as_ref(), &quay);
    let (told, stays) = (book("berths"), book("stays"));
    assert!(told.len() > 100 && stays.len() > 100, "the application worked");
    assert_eq!(by_row(&trail), by_row(&told));
    let expected = states(&began(), &stays);
    assert_eq!(
        versions.keys().collect::<Vec<_>>(),
        versions.keys().filter(|id| expected.contains_key(id)).collect::<Vec<_>>()
    );
    for (id, all) in &expected {
        let kept = versions.get(id).cloned().unwrap_or_default();
        let mut there = all.iter();
        let is_part = kept.iter().flatten().all(|state| there.any(|other| other.as_ref() == Some(state)));
        assert!(is_part, "row {id}: {kept:?} are not among {all:?}");
        assert_eq!(kept.last().copied().flatten(), all.last().copied().flatten(), "row {id}");
    }
    quay.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

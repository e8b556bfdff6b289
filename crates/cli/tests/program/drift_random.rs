//! Random sequences of changes of structure and rows against a PostgreSQL source, with kills, lost connections and a target
//! that is stalled now and then: the target is compared at every checkpoint that is met, with a journal of the source.
//!
//! Each table has an application of its own, which writes down what the table holds after each of its transactions, which
//! one that was, and between which places of the log it was committed. A checkpoint of the target names a place, or a
//! snapshot where triggers capture, and so the entry of each table that the target must equal there; or one of two
//! where a commit was under way.

use crate::harness::{Folder, Mirror, Running};
use crate::one_moment::{Moment, rows_of};
use moorage_testkit::{PostgresServer, Session};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng as StdRng;
use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

const TABLES: usize = 6;

/// What a table held.
#[derive(Clone, Debug)]
struct Entry {
    /// The transaction.
    xid: u64,
    /// The end of the log before the transaction committed, and after.
    log: (u64, u64),
    columns: Vec<String>,
    rows: Vec<Vec<Option<String>>>,
    /// What the transaction was.
    done: String,
}

type Journal = Arc<Mutex<BTreeMap<String, Vec<Entry>>>>;

fn lsn(text: &str) -> u64 {
    let (high, low) = text.split_once('/').unwrap();
    (u64::from_str_radix(high, 16).unwrap() << 32) | u64::from_str_radix(low, 16).unwrap()
}

/// How changes are captured, and where they go.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Way {
    Log,
    /// The same where an event trigger tells of changes of structure.
    Event,
    Trigger,
    /// By the log, into a file.
    IntoFile,
}

/// Where a checkpoint or a mark stands.
#[derive(Clone, Debug)]
enum Place {
    /// In the log.
    Log(u64),
    /// A snapshot: its end, and the transactions that it does not see below.
    Snapshot(u64, Vec<u64>),
}

impl Place {
    fn read(text: &str, way: Way) -> Self {
        if way != Way::Trigger {
            return Self::Log(lsn(text));
        }
        let parts: Vec<&str> = text.split(':').collect();
        let open = parts[2].split(',').filter(|n| !n.is_empty()).map(|n| n.parse().unwrap());
        Self::Snapshot(parts[1].parse().unwrap(), open.collect())
    }

    /// Whether all that the other holds is held here too.
    fn reaches(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Log(here), Self::Log(there)) => here >= there,
            (Self::Snapshot(end, open), Self::Snapshot(other_end, other_open)) => {
                (*end, other_open.len()) >= (*other_end, open.len())
            }
            _ => false,
        }
    }

    /// Whether an entry is held; none if that cannot be told.
    fn holds(&self, entry: &Entry) -> Option<bool> {
        match self {
            Self::Log(at) if entry.log.1 <= *at => Some(true),
            Self::Log(at) => (entry.log.0 >= *at).then_some(false),
            Self::Snapshot(end, open) => Some(entry.xid < *end && !open.contains(&entry.xid)),
        }
    }
}

fn end_of_log(session: &Session) -> u64 {
    lsn(&session.value::<String>("SELECT pg_current_wal_insert_lsn()::text"))
}

/// An application that owns a table.
struct Application {
    random: StdRng,
    session: Session,
    table: String,
    /// Its columns but for the key, with a word for their types.
    columns: Vec<(String, &'static str)>,
    names: u32,
    next_id: i32,
    /// Whether it has rows written anew.
    rewrites: bool,
}

const TYPES: [&str; 4] = ["int", "text", "numeric(8,2)", "varchar(20)"];

impl Application {
    fn new_name(&mut self) -> String {
        self.names += 1;
        format!("c{}", self.names)
    }

    fn value(&mut self, of: &str) -> String {
        let n = self.random.random_range(0..1000);
        match (self.random.random_range(0..6), of) {
            (0, _) => "NULL".into(),
            (_, "int" | "bigint") => n.to_string(),
            (_, "text" | "varchar(20)" | "varchar(40)") => format!("'v{n}'"),
            _ => format!("{n}.25"),
        }
    }

    /// A row that is new, so that something stands behind whatever was done before.
    fn insert(&mut self) -> String {
        let columns = self.columns.clone();
        let values: Vec<String> = columns.iter().map(|(_, of)| self.value(of)).collect();
        let names: Vec<&str> = columns.iter().map(|c| c.0.as_str()).collect();
        self.next_id += 1;
        let list = std::iter::once("id").chain(names).collect::<Vec<_>>().join(", ");
        let values = std::iter::once(self.next_id.to_string()).chain(values).collect::<Vec<_>>();
        format!("INSERT INTO {} ({list}) VALUES ({})", self.table, values.join(", "))
    }

    fn of_rows(&mut self) -> String {
        let (table, id) = (self.table.clone(), self.random.random_range(0..self.next_id.max(1)));
        match self.random.random_range(0..10) {
            0..=3 => self.insert(),
            4..=7 if !self.columns.is_empty() => {
                let (name, of) = self.columns[self.random.random_range(0..self.columns.len())].clone();
                let value = self.value(of);
                format!("UPDATE {table} SET {name} = {value} WHERE id % 3 = {}", id % 3)
            }
            8 => format!("UPDATE {table} SET id = -id WHERE id = {id}"),
            _ => format!("DELETE FROM {table} WHERE id = {id}"),
        }
    }

    /// A change of structure, which the list of columns goes along with.
    fn of_structure(&mut self) -> String {
        let table = self.table.clone();
        let some = (!self.columns.is_empty()).then(|| self.random.random_range(0..self.columns.len()));
        match (self.random.random_range(0..16), some) {
            (0..=4, _) | (_, None) => {
                let (name, of) = (self.new_name(), TYPES[self.random.random_range(0..TYPES.len())]);
                let default = self.value(of);
                let rest = match self.random.random_range(0..8) {
                    0..=2 => String::new(),
                    3..=5 => format!(" DEFAULT {default}"),
                    6 => format!(" NOT NULL DEFAULT {}", if of == "int" { "5" } else { "'6'" }),
                    // Each row gets another one.
                    _ => match of {
                        "int" if self.rewrites => " DEFAULT (random() * 100)::int".into(),
                        _ => format!(" DEFAULT {default}"),
                    },
                };
                self.columns.push((name.clone(), of));
                format!("ALTER TABLE {table} ADD {name} {of}{rest}")
            }
            (5..=6, Some(at)) => format!("ALTER TABLE {table} DROP {}", self.columns.remove(at).0),
            (7..=8, Some(at)) => {
                let name = self.new_name();
                let was = std::mem::replace(&mut self.columns[at].0, name.clone());
                format!("ALTER TABLE {table} RENAME {was} TO {name}")
            }
            (9, Some(at)) if self.columns.len() > 1 => {
                let other = (at + 1) % self.columns.len();
                let (a, b) = (self.columns[at].0.clone(), self.columns[other].0.clone());
                (self.columns[at].0, self.columns[other].0) = (b.clone(), a.clone());
                format!(
                    "ALTER TABLE {table} RENAME {a} TO between; ALTER TABLE {table} RENAME {b} TO {a}; ALTER TABLE {table} RENAME between TO {b}"
                )
            }
            (10..=11, Some(at)) => {
                let (name, of) = self.columns[at].clone();
                let to = match of {
                    "int" if self.rewrites => "bigint",
                    "numeric(8,2)" => "numeric(12,2)",
                    "varchar(20)" => "varchar(40)",
                    other => other,
                };
                self.columns[at].1 = to;
                format!("ALTER TABLE {table} ALTER {name} TYPE {to}")
            }
            (12, Some(at)) if self.rewrites && self.columns[at].1 == "int" => {
                let name = self.columns[at].0.clone();
                format!("ALTER TABLE {table} ALTER {name} TYPE int USING {name} + 1000")
            }
            (13, Some(at)) => {
                let (name, of) = self.columns[at].clone();
                let value = self.value(of);
                format!("ALTER TABLE {table} ALTER {name} SET DEFAULT {value}")
            }
            (15, _) => format!("TRUNCATE {table}"),
            (_, Some(at)) => format!("ALTER TABLE {table} ALTER {} SET STATISTICS 50", self.columns[at].0),
        }
    }

    /// One transaction: up to three changes of structure, with rows before, between and behind, some of it undone.
    fn transaction(&mut self) -> Vec<String> {
        let mut all = vec![
            ["BEGIN", "BEGIN ISOLATION LEVEL REPEATABLE READ"][self.random.random_range(0..2)].to_string(),
        ];
        for part in 0..self.random.random_range(1..=4) {
            for _ in 0..self.random.random_range(0..3) {
                all.push(self.of_rows());
            }
            if part > 0 || self.random.random_bool(0.3) {
                let undone = self.random.random_bool(0.2);
                let (columns, before) = (self.columns.clone(), all.len());
                all.push(self.of_structure());
                if undone {
                    all.insert(before, "SAVEPOINT s".into());
                    all.push(self.of_rows());
                    all.push("ROLLBACK TO s".into());
                    self.columns = columns;
                }
            }
        }
        all.push(self.insert());
        all
    }

    fn write_down(&self, journal: &Journal, (xid, before): (u64, u64), done: String) {
        let columns: Vec<String> =
            std::iter::once("id".to_string()).chain(self.columns.iter().map(|c| c.0.clone())).collect();
        let rows = rows_of(&self.session, &self.table, &columns);
        let entry = Entry { xid, log: (before, end_of_log(&self.session)), columns, rows, done };
        journal.lock().unwrap().entry(self.table.clone()).or_default().push(entry);
    }

    fn work(mut self, journal: &Journal, transactions: u32) {
        for _ in 0..transactions {
            if self.random.random_range(0..12) == 0 {
                let what = ["VACUUM FULL", "ANALYZE", "VACUUM"][self.random.random_range(0..3)];
                self.session.run(&format!("{what} {}", self.table));
            }
            let columns = self.columns.clone();
            let statements = match self.random.random_range(0..3) {
                0 => self.transaction(),
                _ => vec!["BEGIN".into(), self.of_rows(), self.of_rows()],
            };
            // A null where there may be none, a key that is there: the application's own affair. Nothing else may fail.
            let failed = statements.iter().find_map(|statement| self.session.try_run(statement).err());
            if let Some(failed) = failed {
                let is_its_own = ["null value in column", "duplicate key"].iter().any(|w| failed.contains(w));
                assert!(is_its_own, "{failed}, in {statements:?}");
                self.session.run("ROLLBACK");
                self.columns = columns;
                continue;
            }
            let xid: i64 = self.session.value("SELECT pg_current_xact_id()::text::bigint");
            let before = end_of_log(&self.session);
            self.session.run("COMMIT");
            self.write_down(journal, (xid as u64, before), statements.join("; "));
            std::thread::sleep(Duration::from_millis(self.random.random_range(0..150)));
        }
    }
}

/// Compares the target with what it has to hold at its checkpoint, but for tables that are read again.
fn compare(
    mirror: &Mirror,
    (journal, way): (&Journal, Way),
    never_made: &mut Vec<(String, String, String)>,
) -> Result<usize, String> {
    let tables: Vec<String> = (0..TABLES).map(|i| format!("t{i}")).collect();
    let moment = match way {
        Way::IntoFile => Some(Moment::of_file(mirror)),
        Way::Log | Way::Event | Way::Trigger => Moment::of_server(&mirror.target, &tables),
    };
    let Some(moment) = moment else { return Ok(0) };
    let mut compared = 0;
    let Some(at) = moment.position().map(|text| Place::read(&text, way)) else { return Ok(0) };
    let is_reached = |mark: &String| at.reaches(&Place::read(mark, way));
    let live = moment.live().into_iter().filter(|(_, mark)| mark.as_ref().is_none_or(is_reached));
    for (table, _) in live.filter(|(table, _)| table.starts_with('t')) {
        let (table, at) = (&table, &at);
        let has = moment.columns(table);
        let journal = journal.lock().unwrap();
        let Some(entries) = journal.get(table) else { continue };
        let last = entries.iter().rposition(|entry| at.holds(entry) == Some(true));
        let may_be = entries
            .iter()
            .enumerate()
            .filter(|(i, e)| Some(*i) == last || (last.is_none_or(|l| *i > l) && at.holds(e) != Some(false)));
        let may_be: Vec<Entry> = may_be.map(|(_, e)| e.clone()).collect();
        // An entry may not be written down yet.
        let is_open = last.is_none_or(|last| last + 1 == entries.len());
        drop(journal);
        // Columns that were gone again when someone looked are never made: those that are missing have to go.
        let equals = |entry: &Entry| {
            let (there, missing): (Vec<usize>, Vec<usize>) =
                (0..entry.columns.len()).partition(|&c| has.contains(&entry.columns[c]));
            let columns: Vec<String> = there.iter().map(|&c| entry.columns[c].clone()).collect();
            let part = |row: &Vec<Option<String>>| there.iter().map(|&c| row[c].clone()).collect::<Vec<_>>();
            let mut expected: Vec<Vec<Option<String>>> = entry.rows.iter().map(part).collect();
            expected.sort();
            let when = || format!("at {at:x?}, with {has:?}, taken for {entry:?}");
            let missing = missing.into_iter().map(|c| (table.clone(), entry.columns[c].clone(), when()));
            (moment.rows(table, &columns) == expected).then(|| missing.collect::<Vec<_>>())
        };
        if let Some(missing) = may_be.iter().filter_map(equals).min_by_key(Vec::len) {
            never_made.extend(missing);
            compared += 1;
            continue;
        }
        if may_be.is_empty() {
            continue;
        }
        if !is_open {
            let last = may_be.first().unwrap();
            let found = moment.rows(table, &has);
            let done: Vec<&str> = may_be.iter().map(|e| e.done.as_str()).collect();
            return Err(format!(
                "{table} at {at:x?}: has {has:?} {found:?}\nexpected {last:?}\nafter one of {done:?}"
            ));
        }
    }
    Ok(compared)
}

fn start(folder: &Folder) -> Running {
    let running = folder.start(&["run"]);
    let began = std::time::Instant::now();
    while !running.log().contains("following changes") {
        assert!(began.elapsed() < Duration::from_secs(60), "it does not come to follow:\n{}", running.log());
        std::thread::sleep(Duration::from_millis(10));
    }
    running
}

/// Ends the load also where the test fails.
struct Over(Arc<AtomicBool>);

impl Drop for Over {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

#[expect(clippy::print_stdout, reason = "a measurement, and what is needed to understand a failure")]
fn one(seed: u64, way: Way) {
    let name = format!("drift_random_{seed}_{}", format!("{way:?}").to_lowercase());
    let mirror = Mirror::new(&name, "");
    match way {
        Way::Log => {}
        Way::Event => {
            let script =
                mirror.moorage(&["check", "--sql", "source", "--part", "event-trigger"]).expect(0, &[]);
            mirror.source.run(&script.out);
        }
        Way::Trigger => mirror.replace("[sources.harbour]", "[sources.harbour]\ncapture = \"trigger\""),
        Way::IntoFile => mirror.has_file_as_target(),
    }
    // Of some, renames are held, and someone decides now and then.
    let holds = seed.is_multiple_of(3);
    let renamed = if holds { "hold" } else { "follow" };
    mirror.add(&format!(
        "[pipelines.{name}.drift]\ncolumn_renamed = \"{renamed}\"\ncolumn_dropped = \"follow\""
    ));
    let journal: Journal = Arc::default();
    let mut random = StdRng::seed_from_u64(seed);
    let applications: Vec<Application> = (0..TABLES)
        .map(|i| {
            let session = PostgresServer::shared().session(&name);
            session.run(&format!("CREATE TABLE t{i} (id int PRIMARY KEY, a int, b text); INSERT INTO t{i} SELECT i, i, 'x' || i FROM generate_series(1, 20) i"));
            if random.random_bool(0.3) {
                session.run(&format!("ALTER TABLE t{i} REPLICA IDENTITY FULL"));
            }
            let columns = vec![("a".to_string(), "int"), ("b".to_string(), "text")];
            let rewrites = random.random_bool(0.25);
            let random = StdRng::seed_from_u64(seed * 100 + i as u64);
            Application { rewrites, random, session, table: format!("t{i}"), columns, names: 0, next_id: 20 }
        })
        .collect();
    mirror
        .source
        .run("CREATE TABLE busy (id int PRIMARY KEY, n int); INSERT INTO busy VALUES (1, 0), (2, 0)");
    for application in &applications {
        application.write_down(&journal, (0, 0), String::new());
    }
    mirror.catch_up();
    let over = Arc::new(AtomicBool::new(false));
    let _over = Over(over.clone());
    let mut others: Vec<std::thread::JoinHandle<()>> = (1..=2)
        .map(|id| {
            let (session, over) = (PostgresServer::shared().session(&name), over.clone());
            std::thread::spawn(move || {
                while !over.load(Ordering::Relaxed) {
                    session.run(&format!("UPDATE busy SET n = n + 1 WHERE id = {id}"));
                }
            })
        })
        .collect();
    let mut running = start(&mirror);
    let working: Vec<std::thread::JoinHandle<()>> = applications
        .into_iter()
        .map(|application| {
            let journal = journal.clone();
            std::thread::spawn(move || application.work(&journal, 14))
        })
        .collect();
    let (mut compared, mut logs, mut never_made) = (0, String::new(), Vec::new());
    while working.iter().any(|w| !w.is_finished()) {
        compared += compare(&mirror, (&journal, way), &mut never_made)
            .unwrap_or_else(|differs| panic!("{differs}\n{logs}{}", running.log()));
        match random.random_range(0..40) {
            0 => {
                logs += &running.log();
                running.kill();
                running = start(&mirror);
            }
            1 => mirror.source.run("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND application_name LIKE 'moorage%'"),
            2 if way != Way::IntoFile => {
                mirror.target.run("BEGIN; LOCK TABLE moorage_state.checkpoints IN EXCLUSIVE MODE");
                std::thread::sleep(Duration::from_millis(2500));
                mirror.target.run("COMMIT");
            }
            3..=5 if holds => {
                let decision = ["follow", "follow", "reread"][random.random_range(0..3)];
                let decided = mirror.moorage(&["drift", decision, "--all"]);
                // What came meanwhile waits for another decision.
                assert!([0, 3].contains(&decided.code), "{}", decided.all());
            }
            _ => std::thread::sleep(Duration::from_millis(20)),
        }
    }
    working.into_iter().for_each(|w| w.join().unwrap());
    over.store(true, Ordering::Relaxed);
    others.drain(..).for_each(|o| o.join().unwrap());
    logs += &running.log();
    running.signal("INT");
    assert_eq!(running.end(), 0, "{}", running.log());
    logs += &mirror.catch_up().all();
    while holds && mirror.moorage(&["drift"]).code == 3 {
        mirror.moorage(&["drift", "follow", "--all"]).expect(0, &[]);
        logs += &mirror.catch_up().all();
    }
    compare(&mirror, (&journal, way), &mut never_made).unwrap_or_else(|differs| panic!("{differs}\n{logs}"));
    for i in 0..TABLES {
        let table = format!("t{i}");
        let entries = journal.lock().unwrap()[&table].clone();
        let last = entries.last().unwrap();
        // A name that was swapped is another column's by now.
        let is_swapped = |column: &str| {
            entries.iter().any(|e| e.done.contains("between") && e.done.contains(&format!(" {column}")))
        };
        let came_back = never_made
            .iter()
            .find(|(of, column, _)| *of == table && last.columns.contains(column) && !is_swapped(column));
        assert_eq!(came_back, None, "the column was missing once, and is there\n{logs}");
        let moment = match way {
            Way::IntoFile => Moment::of_file(&mirror),
            Way::Log | Way::Event | Way::Trigger => {
                Moment::of_server(&mirror.target, std::slice::from_ref(&table)).unwrap()
            }
        };
        let found = moment.rows(&table, &last.columns);
        let is_same = found == last.rows;
        if !is_same {
            let done: Vec<&str> = entries.iter().map(|e| e.done.as_str()).collect();
            println!("{table} was made by\n{}\n{logs}", done.join("; COMMIT;\n"));
        }
        assert!(is_same, "seed {seed}: {table} has {found:?}\nand not {last:?}");
    }
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    let reread = (0..TABLES).filter(|i| {
        logs.lines().any(|l| l.contains(&format!("public.t{i}:")) && l.contains("is read again"))
    });
    if std::env::var_os("MOORAGE_TELL").is_some() {
        println!("{logs}");
    }
    println!("seed {seed}: {compared} comparisons, {} of {TABLES} tables read again", reread.count());
}

/// With `MOORAGE_DRIFT_SEEDS=FROM..TO` those instead, `share` tests of them beside each other.
fn seeds(seed: u64, share: u64, way: Way) {
    let Ok(range) = std::env::var("MOORAGE_DRIFT_SEEDS") else { return one(seed, way) };
    let (from, to) = range.split_once("..").unwrap();
    let (from, to): (u64, u64) = (from.parse().unwrap(), to.parse().unwrap());
    (from..to).filter(|s| s % share == seed % share).for_each(|seed| one(seed, way));
}

#[rstest::rstest]
fn random_changes_of_structure_are_followed(
    #[values(Way::Log, Way::Trigger)] way: Way,
    #[values(1, 2, 3, 4, 5, 6, 7, 8, 9, 10)] seed: u64,
) {
    seeds(seed, 10, way);
}

#[rstest::rstest]
fn they_are_followed_into_a_file_and_as_an_event_trigger_tells(
    #[values(Way::Event, Way::IntoFile)] way: Way,
    #[values(1, 2, 3, 4, 5)] seed: u64,
) {
    seeds(seed, 5, way);
}

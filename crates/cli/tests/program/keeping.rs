//! Tables that keep every change, or every version of a row.

use crate::harness::{Folder, Mirror, Quay, all_rows};
use rstest::rstest;

const BERTHS: &str = "CREATE TABLE berths (id INTEGER PRIMARY KEY, name TEXT, depth REAL);
    INSERT INTO berths VALUES (1, 'A1', 2.5), (2, 'A2', 3), (3, 'B1', NULL);";

fn keep(quay: &Folder, pipeline: &str, keep: &str) {
    quay.add(&format!("[[pipelines.{pipeline}.rule]]\nmatch = \"*.berths\"\nkeep = \"{keep}\"\n"));
}

fn texts(db: &rusqlite::Connection, sql: &str) -> Vec<String> {
    let mut query = db.prepare(sql).unwrap();
    query.query_map([], |r| r.get(0)).unwrap().map(Result::unwrap).collect()
}

/// The rows of a trail in order.
const TRAIL: &str = "SELECT concat_ws(' ', moorage_operation, id, name, depth, moorage_unchanged) FROM berths
    ORDER BY moorage_position, moorage_order, id";
/// The versions of each row, with how they follow each other.
const VERSIONS: &str = "SELECT concat_ws(' ', id, name, depth, iif(moorage_until IS NULL, 'valid', 'ended'),
    iif(lag(moorage_until) OVER (PARTITION BY id ORDER BY moorage_since) = moorage_since, 'at once', NULL))
    FROM berths ORDER BY id, moorage_since";

/// What an application does in one transaction, and then in others.
const WORK: [&str; 4] = [
    "BEGIN; UPDATE berths SET name = 'A9' WHERE id = 1; UPDATE berths SET name = 'A1x' WHERE id = 1;
     INSERT INTO berths VALUES (4, 'C1', 1); DELETE FROM berths WHERE id = 4; COMMIT",
    "UPDATE berths SET id = 20 WHERE id = 2",
    "UPDATE berths SET depth = 4 WHERE id = 20; DELETE FROM berths WHERE id = 3",
    "INSERT INTO berths VALUES (3, 'B1 again', 7)",
];

#[test]
fn a_trail_has_each_change_in_order_and_a_view_beside_it_has_the_rows_as_they_are() {
    let quay = Quay::new(BERTHS);
    keep(&quay, "quayside", "changes");
    quay.catch_up();
    let view = |quay: &Quay| all_rows(&quay.warehouse(), "berths_current");
    assert_eq!(view(&quay), all_rows(&quay.harbour(), "berths"), "from the first minute");
    quay.change(&WORK.join("; "));
    quay.catch_up();
    let trail = texts(&quay.warehouse(), TRAIL);
    let (read, made) = trail.split_at(3);
    assert_eq!(read, ["snapshot 1 A1 2.5", "snapshot 2 A2 3.0", "snapshot 3 B1"]);
    assert_eq!(
        made,
        [
            "update 1 A9 2.5",
            "update 1 A1x 2.5",
            "insert 4 C1 1.0",
            "delete 4",
            "delete 2",
            "insert 20 A2 3.0",
            "update 20 A2 4.0",
            "delete 3",
            "insert 3 B1 again 7.0"
        ]
    );
    assert_eq!(view(&quay), all_rows(&quay.harbour(), "berths"));
    quay.moorage(&["verify"]).expect(0, &["both sides agree"]);
    let sql = "SELECT inserts + updates + deletes - merged - reduced - filtered FROM moorage_tables";
    assert_eq!(quay.value::<i64>(sql), 0, "counters reconcile");
    // What someone else did to it is found.
    quay.tamper("UPDATE berths SET name = 'X' WHERE name = 'B1 again'");
    quay.moorage(&["verify"]).expect(3, &["B1 again"]);
    quay.moorage(&["resnapshot", "main.berths"]).expect(0, &[]);
    quay.change("DELETE FROM berths WHERE id = 20");
    quay.catch_up();
    assert_eq!(view(&quay), all_rows(&quay.harbour(), "berths"), "read again");
    let trail = texts(&quay.warehouse(), TRAIL);
    assert!(trail.ends_with(&["snapshot 3 B1 again 7.0".into()]), "only what differs: {trail:?}");
    quay.moorage(&["verify"]).expect(0, &["both sides agree"]);
    quay.moorage(&["teardown", "--target"]).expect(0, &[]);
    let left = "SELECT count(*) FROM sqlite_schema WHERE name LIKE '%berths%'";
    assert!(!quay.path("warehouse.db").exists() || quay.value::<i64>(left) == 0, "the view too");
}

#[test]
fn versions_follow_each_other_without_gap_and_those_that_are_valid_are_the_rows() {
    let quay = Quay::new(BERTHS);
    keep(&quay, "quayside", "versions");
    quay.catch_up();
    for work in WORK {
        quay.change(work);
        quay.catch_up();
    }
    assert_eq!(
        texts(&quay.warehouse(), VERSIONS),
        [
            "1 A1 2.5 ended",
            "1 A1x 2.5 valid at once",
            "2 A2 3.0 ended",
            "3 B1 ended",
            "3 B1 again 7.0 valid",
            "20 A2 3.0 ended",
            "20 A2 4.0 valid at once"
        ]
    );
    quay.moorage(&["verify"]).expect(0, &["both sides agree"]);
    quay.tamper("UPDATE berths SET name = 'X' WHERE name = 'B1 again'; DELETE FROM berths WHERE id = 20 AND moorage_until IS NULL");
    quay.moorage(&["verify"]).expect(3, &["B1 again", "20"]);
    quay.moorage(&["resnapshot", "main.berths"]).expect(0, &[]);
    quay.catch_up();
    quay.moorage(&["verify"]).expect(0, &["both sides agree"]);
    let versions = texts(&quay.warehouse(), VERSIONS);
    assert!(
        versions.contains(&"3 X 7.0 ended".into())
            && versions.contains(&"3 B1 again 7.0 valid at once".into()),
        "{versions:?}"
    );
    assert_eq!(quay.value::<i64>("SELECT count(*) FROM berths WHERE moorage_since >= moorage_until"), 0);
}

/// The same, by log and by triggers, into a database and into a file.
#[rstest]
fn a_database_keeps_changes_and_versions(
    #[values("log", "trigger")] capture: &str,
    #[values("database", "file")] target: &str,
) {
    let name = format!("keeping_{capture}_{target}");
    let long = "repeat(md5('x'), 400)";
    let mirror = Mirror::new(
        &name,
        &format!(
            "CREATE TABLE berths (id int PRIMARY KEY, name text, note text); CREATE TABLE stays (LIKE berths INCLUDING ALL);
             ALTER TABLE berths ALTER note SET STORAGE EXTERNAL; ALTER TABLE stays ALTER note SET STORAGE EXTERNAL;
             INSERT INTO berths VALUES (1, 'A1', {long}), (2, 'A2', 'n'), (3, 'B1', NULL); INSERT INTO stays SELECT * FROM berths"
        ),
    );
    if target == "file" {
        mirror.has_file_as_target();
    }
    if capture == "trigger" {
        let before = "[sources.harbour]
kind = \"postgres\"
";
        mirror.replace(
            before,
            &format!(
                "{before}capture = \"trigger\"
"
            ),
        );
    }
    keep(&mirror, &name, "changes");
    mirror.add(&format!("[[pipelines.{name}.rule]]\nmatch = \"*.stays\"\nkeep = \"versions\"\n"));
    mirror.catch_up();
    for table in ["berths", "stays"] {
        mirror.source.run(&format!("UPDATE {table} SET name = 'A1x' WHERE id = 1"));
        mirror.source.run(&format!(
            "BEGIN; UPDATE {table} SET name = 'A1y' WHERE id = 1; UPDATE {table} SET name = 'A1z' WHERE id = 1; INSERT INTO {table} VALUES (5, 'x', 'y'); DELETE FROM {table} WHERE id = 5; COMMIT"
        ));
        mirror.source.run(&format!("UPDATE {table} SET id = 30 WHERE id = 1"));
        mirror.source.run(&format!("DELETE FROM {table} WHERE id = 2"));
    }
    mirror.catch_up();
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    let trail = "SELECT concat_ws(' ', moorage_operation, id, name, length(note), moorage_unchanged) FROM mirror.berths ORDER BY moorage_position, moorage_order, id";
    let versions = "SELECT concat_ws(' ', id, name, length(note), (moorage_until IS NULL)::text) FROM mirror.stays ORDER BY id, moorage_since";
    let told = |sql: &str| match target {
        "file" => texts(
            &mirror.warehouse(),
            &sql.replace("mirror.", "")
                .replace("(moorage_until IS NULL)::text", "iif(moorage_until IS NULL, 'true', 'false')"),
        ),
        _ => mirror.target.rows(sql).iter().map(|row| row.get(0)).collect(),
    };
    assert_eq!(
        told(trail),
        [
            "snapshot 1 A1 12800",
            "snapshot 2 A2 1",
            "snapshot 3 B1",
            "update 1 A1x 12800",
            "update 1 A1y 12800",
            "update 1 A1z 12800",
            "insert 5 x 1",
            "delete 5",
            "delete 1",
            "insert 30 A1z 12800",
            "delete 2"
        ]
    );
    assert_eq!(
        told(versions),
        [
            "1 A1 12800 false",
            "1 A1x 12800 false",
            "1 A1z 12800 false",
            "2 A2 1 false",
            "3 B1 true",
            "30 A1z 12800 true"
        ]
    );
    mirror.source.run("TRUNCATE berths, stays");
    mirror.source.run("INSERT INTO berths VALUES (1, 'new', 'n'); INSERT INTO stays VALUES (1, 'new', 'n')");
    mirror.catch_up();
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    assert!(told(trail).ends_with(&["truncate".into(), "insert 1 new 1".into()]), "{:?}", told(trail));
    assert_eq!(told(versions).iter().filter(|v| v.ends_with("true")).collect::<Vec<_>>(), ["1 new 1 true"]);
}

/// Rows that were deleted stay, marked or as they were; what is read again agrees with that.
#[rstest]
fn deleted_rows_stay_as_the_file_says(
    #[values("log", "trigger", "file")] from: &str,
    #[values("database", "file")] to: &str,
) {
    let name = format!("deletes_{from}_{to}");
    let make = "CREATE TABLE berths (id INTEGER PRIMARY KEY, name text); CREATE TABLE stays (id INTEGER PRIMARY KEY, name text);
        INSERT INTO berths VALUES (1, 'A1'), (2, 'A2'), (3, 'A3'); INSERT INTO stays SELECT * FROM berths;";
    let mirror = Mirror::new(&name, if from == "file" { "" } else { make });
    if to == "file" {
        mirror.has_file_as_target();
    }
    let source = "[sources.harbour]\nkind = \"postgres\"\n";
    match from {
        "trigger" => mirror.replace(source, &format!("{source}capture = \"trigger\"\n")),
        "file" => {
            let text = std::fs::read_to_string(mirror.path("moorage.toml")).unwrap();
            let rest = &text[text.find("[targets.").unwrap()..];
            let rest = rest.replace("include = [\"public.*\"]\n", "");
            let text = format!("[sources.harbour]\nkind = \"sqlite\"\npath = \"harbour.db\"\n{rest}");
            std::fs::write(mirror.path("moorage.toml"), text).unwrap();
            let db = rusqlite::Connection::open(mirror.path("harbour.db")).unwrap();
            db.execute_batch(&format!("PRAGMA journal_mode = WAL; {make}")).unwrap();
        }
        _ => {}
    }
    let change = |sql: &str| match from {
        "file" => {
            rusqlite::Connection::open(mirror.path("harbour.db")).unwrap().execute_batch(sql).unwrap();
        }
        _ => mirror.source.run(sql),
    };
    mirror.append(&format!(
        "[[pipelines.{name}.rule]]\nmatch = \"*.berths\"\ndeletes = \"mark\"\n[[pipelines.{name}.rule]]\nmatch = \"*.stays\"\noperations = [\"insert\", \"update\"]\n"
    ));
    let told = |sql: &str| match to {
        "file" => texts(&mirror.warehouse(), &sql.replace("mirror.", "")),
        _ => mirror.target.rows(sql).iter().map(|row| row.get(0)).collect(),
    };
    let is_marked = if to == "file" {
        "iif(moorage_deleted_at IS NULL, '', 'deleted')"
    } else {
        "CASE WHEN moorage_deleted_at IS NULL THEN '' ELSE 'deleted' END"
    };
    let marked = format!("SELECT concat_ws(' ', id, name, {is_marked}) FROM mirror.berths ORDER BY id");
    let kept = "SELECT concat_ws(' ', id, name) FROM mirror.stays ORDER BY id";
    mirror.catch_up();
    for table in ["berths", "stays"] {
        change(&format!("DELETE FROM {table} WHERE id = 1"));
        change(&format!("DELETE FROM {table} WHERE id = 2"));
        change(&format!("INSERT INTO {table} VALUES (2, 'again')"));
        change(&format!(
            "BEGIN; INSERT INTO {table} VALUES (4, 'A4'); DELETE FROM {table} WHERE id = 4; COMMIT"
        ));
        change(&format!("UPDATE {table} SET id = 30 WHERE id = 3"));
    }
    mirror.catch_up();
    assert_eq!(told(&marked), ["1 A1 deleted", "2 again ", "4 A4 deleted", "30 A3 "]);
    assert_eq!(told(kept), ["1 A1", "2 again", "4 A4", "30 A3"]);
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    mirror.moorage(&["verify", "--counts-only"]).expect(3, &["counts tell nothing"]);
    // Read again beside, with what is gone and what has come meanwhile.
    mirror.moorage(&["resnapshot", "--all"]).expect(0, &[]);
    change("DELETE FROM berths WHERE id = 30; INSERT INTO berths VALUES (1, 'A1 again')");
    change("DELETE FROM stays WHERE id = 30; INSERT INTO stays VALUES (1, 'A1 again')");
    mirror.catch_up();
    assert_eq!(told(&marked), ["1 A1 again ", "2 again ", "4 A4 deleted", "30 A3 deleted"]);
    assert_eq!(told(kept), ["1 A1 again", "2 again", "4 A4", "30 A3"]);
    change("UPDATE berths SET name = 'x'; UPDATE stays SET name = 'x'");
    change("DELETE FROM berths");
    mirror.catch_up();
    assert_eq!(told(&marked), ["1 x deleted", "2 x deleted", "4 A4 deleted", "30 A3 deleted"]);
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    if from != "file" {
        change("TRUNCATE stays; INSERT INTO berths VALUES (2, 'new'); ");
        change("TRUNCATE berths");
        mirror.catch_up();
        assert_eq!(told(&marked), ["1 x deleted", "2 new deleted", "4 A4 deleted", "30 A3 deleted"]);
        assert_eq!(told(kept).len(), 4);
        mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    }
}

#[test]
fn what_a_table_keeps_stays_what_it_is_until_it_is_another_table() {
    let quay = Quay::new(BERTHS);
    keep(&quay, "quayside", "versions");
    quay.catch_up();
    quay.replace("keep = \"versions\"", "keep = \"changes\"");
    quay.moorage(&["plan"])
        .expect(3, &["was made with keep = \"versions\"", "moorage resnapshot main.berths"]);
    quay.refuses(&["was made with keep = \"versions\" and stays so"]);
    // The advice.
    quay.replace("keep = \"changes\"", "keep = \"changes\"\ninto = \"berths_trail\"");
    quay.moorage(&["resnapshot", "main.berths"]).expect(0, &[]);
    quay.catch_up();
    quay.change("UPDATE berths SET name = 'A9' WHERE id = 1");
    quay.catch_up();
    assert_eq!(quay.value::<i64>("SELECT count(*) FROM berths_trail"), 4);
    assert_eq!(all_rows(&quay.warehouse(), "berths_trail_current"), all_rows(&quay.harbour(), "berths"));
    quay.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// Old values, another name of the view, and columns that come, go and are called otherwise.
#[rstest]
fn a_trail_follows_the_structure_of_its_table(#[values("database", "file")] to: &str) {
    let name = format!("trail_drift_{to}");
    let mirror = Mirror::new(
        &name,
        "CREATE TABLE berths (id int PRIMARY KEY, name text); ALTER TABLE berths REPLICA IDENTITY FULL; INSERT INTO berths VALUES (1, 'A1'), (2, 'A2');
         CREATE TABLE stays (id int PRIMARY KEY, name text); INSERT INTO stays SELECT * FROM berths",
    );
    if to == "file" {
        mirror.has_file_as_target();
    }
    mirror.append(&format!(
        "[[pipelines.{name}.rule]]\nmatch = \"*.berths\"\nkeep = \"changes\"\nold_values = true\nview = \"{{table}}_now\"\ndrift = {{ column_renamed = \"follow\" }}\n
         [[pipelines.{name}.rule]]\nmatch = \"*.stays\"\nkeep = \"versions\"\n"
    ));
    let told = |sql: &str| match to {
        "file" => texts(&mirror.warehouse(), &sql.replace("mirror.", "")),
        _ => mirror.target.rows(sql).iter().map(|row| row.get(0)).collect(),
    };
    mirror.catch_up();
    if to == "database" {
        mirror.target.run("CREATE ROLE trail_reader; GRANT SELECT ON mirror.berths_now TO trail_reader");
    }
    mirror
        .source
        .run("UPDATE berths SET name = 'A1x' WHERE id = 1; UPDATE stays SET name = 'A1x' WHERE id = 1");
    for table in ["berths", "stays"] {
        mirror.source.run(&format!("ALTER TABLE {table} ADD depth int DEFAULT 7"));
        mirror.source.run(&format!("UPDATE {table} SET depth = 8 WHERE id = 2"));
    }
    mirror.catch_up();
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    let trail = "SELECT concat_ws(' ', moorage_operation, id, name, depth, '/', old_id, old_name, old_depth) FROM mirror.berths WHERE moorage_operation <> 'snapshot' ORDER BY moorage_position, moorage_order";
    assert_eq!(told(trail), ["update 1 A1x 7 / 1 A1", "update 2 A2 8 / 2 A2 7"]);
    assert_eq!(
        told("SELECT concat_ws(' ', id, name, depth) FROM mirror.berths_now ORDER BY id"),
        ["1 A1x 7", "2 A2 8"]
    );
    assert_eq!(
        told("SELECT concat_ws(' ', id, name, depth) FROM mirror.stays ORDER BY id, moorage_since"),
        ["1 A1 7", "1 A1x 7", "2 A2 7", "2 A2 8"]
    );
    mirror.source.run("ALTER TABLE berths RENAME name TO called");
    mirror.source.run("UPDATE berths SET called = 'A2x' WHERE id = 2");
    mirror.catch_up();
    assert_eq!(
        told("SELECT concat_ws(' ', id, called, depth) FROM mirror.berths_now ORDER BY id"),
        ["1 A1x 7", "2 A2x 8"]
    );
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    // A default that is not the same for all is read: versions begin where a value differs.
    for table in ["berths", "stays"] {
        mirror.source.run(&format!("ALTER TABLE {table} ADD lot int DEFAULT (random() * 0)::int + 5"));
        mirror.source.run(&format!("ALTER TABLE {table} DROP COLUMN depth"));
    }
    mirror.catch_up();
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    assert_eq!(
        told("SELECT concat_ws(' ', id, called, lot) FROM mirror.berths_now ORDER BY id"),
        ["1 A1x 5", "2 A2x 5"]
    );
    if to == "database" {
        let sql = "SELECT has_table_privilege('trail_reader', 'mirror.berths_now', 'SELECT')::text";
        assert_eq!(mirror.target.value::<String>(sql), "true");
        mirror.target.run("REVOKE ALL ON mirror.berths_now FROM trail_reader; DROP ROLE trail_reader");
    }
}

/// What a trail holds is not written anew: a column that comes back with another type holds that table alone, and the advice mends it.
#[rstest]
fn a_column_that_comes_back_with_another_type_is_no_matter_of_other_tables(
    #[values("database", "file")] to: &str,
) {
    let name = format!("retyped_{to}");
    let mirror = Mirror::new(
        &name,
        "CREATE TABLE berths (id int PRIMARY KEY, lot int); INSERT INTO berths VALUES (1, 7), (2, 8); CREATE TABLE stays (id int PRIMARY KEY)",
    );
    if to == "file" {
        mirror.has_file_as_target();
    }
    mirror.append(&format!(
        "[[pipelines.{name}.rule]]\nmatch = \"*.berths\"\nalso = [{{ keep = \"changes\", into = \"{{table}}_trail\" }}]\n"
    ));
    let told = |sql: &str| match to {
        "file" => texts(&mirror.warehouse(), &sql.replace("mirror.", "")),
        _ => mirror.target.rows(sql).iter().map(|row| row.get(0)).collect(),
    };
    mirror.catch_up();
    mirror.source.run("ALTER TABLE berths DROP COLUMN lot; ALTER TABLE berths ADD lot text DEFAULT '007'");
    mirror.source.run("UPDATE berths SET lot = '0010' WHERE id = 2; INSERT INTO stays VALUES (1)");
    let why = "berths is left out: it could not be read again, and waits for that: column lot";
    let said = mirror.moorage(&["run", "--until", "caught-up"]).expect(3, &[why]).all();
    assert_eq!(told("SELECT concat_ws(' ', id) FROM mirror.stays"), ["1"]);
    mirror.moorage(&["verify"]).expect(3, &["was not compared"]);
    mirror.moorage(&["status"]).expect(0, &["wrong", "waits for that: column lot"]);
    match (to, said.split_once("by hand (").and_then(|(_, rest)| rest.split_once("), or "))) {
        ("database", Some((statements, _))) => mirror.target.run(statements),
        _ => mirror.replace("_trail", "_trail2"),
    }
    mirror.moorage(&["resnapshot", "public.berths"]).expect(0, &[]);
    mirror.catch_up();
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    let view = if to == "file" { "berths_trail2_current" } else { "mirror.berths_trail_current" };
    assert_eq!(told(&format!("SELECT concat_ws(' ', id, lot) FROM {view} ORDER BY id")), ["1 007", "2 0010"]);
}

/// What a table was stays known, also where its structure is the first thing that changes.
#[rstest]
fn versions_that_are_read_again_begin_when_they_are(#[values("database", "file")] to: &str) {
    let name = format!("versions_again_{to}");
    let mirror =
        Mirror::new(&name, "CREATE TABLE berths (id int PRIMARY KEY); INSERT INTO berths VALUES (1), (2)");
    if to == "file" {
        mirror.has_file_as_target();
    }
    mirror.append(&format!("[[pipelines.{name}.rule]]\nmatch = \"*.berths\"\nalso = [{{ keep = \"versions\", into = \"{{table}}_history\" }}]\n"));
    let told = |sql: &str| -> Vec<String> {
        match to {
            "file" => texts(&mirror.warehouse(), &sql.replace("mirror.", "")),
            _ => mirror.target.rows(sql).iter().map(|row| row.get(0)).collect(),
        }
    };
    mirror.catch_up();
    mirror.source.run("ALTER TABLE berths ADD lot int DEFAULT (random() * 0)::int + 5");
    mirror.source.run("UPDATE berths SET lot = 6 WHERE id = 2");
    mirror.catch_up();
    let versions = "SELECT concat_ws(' ', id, lot, CASE WHEN moorage_until IS NULL THEN 'valid' WHEN moorage_until > moorage_since THEN 'ended' ELSE 'empty' END)
        FROM mirror.berths_history ORDER BY id, moorage_since";
    assert_eq!(told(versions), ["1 ended", "1 5 valid", "2 ended", "2 6 valid"]);
    // A form that comes later knows nothing of what was before it.
    mirror.replace("also = [", "also = [{ keep = \"versions\", into = \"{table}_later\" }, ");
    mirror.catch_up();
    let later = "SELECT CAST(min(l.moorage_since) > max(h.moorage_since) AS text) FROM mirror.berths_later l, mirror.berths_history h";
    assert!(["1", "true"].contains(&told(later)[0].as_str()));
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// Statements that people wrote make the trail and its view, and what they chose stays.
#[rstest]
fn a_trail_is_made_by_statements_that_were_changed_by_hand(#[values("database", "file")] to: &str) {
    let name = format!("trail_by_hand_{to}");
    let mirror = Mirror::new(
        &name,
        "CREATE TABLE berths (id int PRIMARY KEY, name text); INSERT INTO berths VALUES (1, 'A1')",
    );
    if to == "file" {
        mirror.has_file_as_target();
    }
    mirror.append(&format!("[[pipelines.{name}.rule]]\nmatch = \"*.berths\"\nkeep = \"changes\"\n"));
    mirror.replace(&format!("[pipelines.{name}]"), &format!("[pipelines.{name}]\nddl_dir = \"ddl\""));
    mirror.moorage(&["plan", "--ddl-dir", "ddl"]).expect(0, &["written"]);
    let file = std::fs::read_dir(mirror.path("ddl")).unwrap().next().unwrap().unwrap().path();
    let text = std::fs::read_to_string(&file).unwrap();
    let (found, chosen) = match to {
        "file" => ("\"name\" TEXT", "\"name\" VARCHAR(40)"),
        _ => ("\"name\" text", "\"name\" varchar(40)"),
    };
    assert!(text.contains(found), "{text}");
    std::fs::write(&file, text.replace(found, chosen)).unwrap();
    mirror.catch_up();
    mirror.source.run("UPDATE berths SET name = 'A1x'");
    mirror.catch_up();
    mirror.moorage(&["resnapshot", "public.berths"]).expect(0, &[]);
    mirror.source.run("INSERT INTO berths VALUES (2, 'A2')");
    mirror.catch_up();
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    let current = "SELECT concat_ws(' ', id, name) FROM mirror.berths_current ORDER BY id";
    let told: Vec<String> = match to {
        "file" => texts(&mirror.warehouse(), &current.replace("mirror.", "")),
        _ => mirror.target.rows(current).iter().map(|row| row.get(0)).collect(),
    };
    assert_eq!(told, ["1 A1x", "2 A2"]);
    mirror.moorage(&["teardown", "--target"]).expect(0, &["berths"]);
    if to == "database" {
        let left = "SELECT count(*) FROM pg_class WHERE relname LIKE 'berths%' AND relnamespace = 'mirror'::regnamespace";
        assert_eq!(mirror.target.value::<i64>(left), 0, "the view too");
    }
}

/// One table in three forms, from one capture: added to a running pipeline, read again, altered, and taken down together.
#[rstest]
fn one_table_is_kept_in_several_forms(
    #[values("database", "file")] to: &str,
    #[values(None, Some("trigger"))] capture: Option<&str>,
) {
    let name = format!("also_{to}_{}", capture.unwrap_or("log"));
    let mirror = Mirror::new(
        &name,
        "CREATE TABLE berths (id int PRIMARY KEY, name text); INSERT INTO berths VALUES (1, 'A1'), (2, 'A2'); CREATE TABLE stays (id int PRIMARY KEY)",
    );
    if to == "file" {
        mirror.has_file_as_target();
    }
    if let Some(capture) = capture {
        let source = "[sources.harbour]\nkind = \"postgres\"\n";
        mirror.replace(source, &format!("{source}capture = \"{capture}\"\n"));
    }
    let told = |sql: &str| match to {
        "file" => texts(&mirror.warehouse(), &sql.replace("mirror.", "")),
        _ => mirror.target.rows(sql).iter().map(|row| row.get(0)).collect(),
    };
    let now = "SELECT concat_ws(' ', id, name) FROM mirror.berths ORDER BY id";
    let trail = "SELECT concat_ws(' ', moorage_operation, id, name) FROM mirror.berths_trail ORDER BY moorage_position, moorage_order, id";
    let versions = "SELECT concat_ws(' ', id, name) FROM mirror.berths_history ORDER BY id, moorage_since";
    mirror.append(&format!(
        "[[pipelines.{name}.rule]]\nmatch = \"*.berths\"\nalso = [{{ keep = \"changes\", into = \"{{table}}_trail\" }}]\n"
    ));
    mirror.moorage(&["plan"]).expect(
        0,
        &["also mirror.berths_trail, which keeps every change"
            .replace("mirror.", if to == "file" { "" } else { "mirror." })
            .as_str()],
    );
    mirror.catch_up();
    mirror.source.run("UPDATE berths SET name = 'A1x' WHERE id = 1");
    mirror.catch_up();
    assert_eq!(told(now), ["1 A1x", "2 A2"]);
    assert_eq!(told(trail), ["snapshot 1 A1", "snapshot 2 A2", "update 1 A1x"]);
    // One more form: it is read beside the running stream, and the trail stays as it is.
    mirror.replace("_trail\" }]", "_trail\" }, { keep = \"versions\", into = \"{table}_history\" }]");
    mirror.catch_up();
    match to {
        "file" => mirror.tamper("DROP VIEW berths_trail_current"),
        _ => mirror.target.run("DROP VIEW mirror.berths_trail_current"),
    }
    mirror.source.run("UPDATE berths SET name = 'A2x' WHERE id = 2; DELETE FROM berths WHERE id = 1");
    mirror.catch_up();
    assert_eq!(told(now), ["2 A2x"]);
    assert_eq!(
        told(&now.replace("berths", "berths_trail_current")),
        ["2 A2x"],
        "put back with the next change"
    );
    assert_eq!(told(trail), ["snapshot 1 A1", "snapshot 2 A2", "update 1 A1x", "update 2 A2x", "delete 1"]);
    assert_eq!(told(versions), ["1 A1x", "2 A2", "2 A2x"]);
    mirror.moorage(&["verify"]).expect(0, &["both sides agree", "berths_history"]);
    // All of them are altered.
    mirror.source.run("ALTER TABLE berths ADD depth int DEFAULT 3");
    mirror.source.run("INSERT INTO berths VALUES (3, 'B1', 4)");
    mirror.catch_up();
    for table in ["berths", "berths_trail_current", "berths_history"] {
        assert_eq!(told(&format!("SELECT concat_ws(' ', depth) FROM mirror.{table} WHERE id = 3")), ["4"]);
    }
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    // What was done to each of them behind our back is found, and mended by reading the table again.
    let broken = "UPDATE mirror.berths_history SET name = 'X' WHERE id = 2 AND moorage_until IS NULL; UPDATE mirror.berths_trail SET name = 'Y' WHERE id = 3; DELETE FROM mirror.berths WHERE id = 2";
    match to {
        "file" => mirror.tamper(&broken.replace("mirror.", "")),
        _ => mirror.target.run(broken),
    }
    let differs = mirror.moorage(&["verify"]).expect(3, &[]);
    assert_eq!(differs.out.lines().filter(|line| line.starts_with("DIFFERS")).count(), 3, "{}", differs.out);
    mirror.moorage(&["resnapshot", "public.berths"]).expect(0, &[]);
    mirror.catch_up();
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    assert_eq!(told(versions), ["1 A1x", "2 A2", "2 X", "2 A2x", "3 B1"]);
    mirror.moorage(&["status"]).expect(0, &["berths, ", "berths_trail", "berths_history"]);
    mirror.moorage(&["teardown", "--target"]).expect(0, &["berths_trail", "berths_history"]);
}

/// The table in the docs, row by row.
#[test]
fn what_goes_together_is_what_the_docs_say() {
    let docs =
        std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/keeping.md")).unwrap();
    let rows = docs.lines().skip_while(|line| !line.starts_with("| keep | deletes | operations |")).skip(2);
    let quay = Quay::new(BERTHS);
    let project = std::fs::read_to_string(quay.path("moorage.toml")).unwrap();
    let mut tried = 0;
    for row in rows.take_while(|line| line.starts_with('|')) {
        let cells: Vec<&str> = row.split('|').map(str::trim).collect();
        let [_, keep, deletes, operations, outcome, disjoint, _] = cells[..] else { panic!("{row}") };
        let mut lines = format!("keep = \"{keep}\"\n");
        if !deletes.is_empty() {
            lines += &format!("deletes = \"{deletes}\"\n");
        }
        if !operations.is_empty() {
            let operations: Vec<&str> = operations.split(", ").collect();
            lines += &format!("operations = {operations:?}\n");
        }
        std::fs::write(quay.path("moorage.toml"), format!("{project}{lines}")).unwrap();
        let (word, why) = outcome.split_once(": ").unwrap_or((outcome, ""));
        let planned = quay.moorage(&["plan"]);
        match word {
            "right" => {
                let planned = planned.expect(0, &[]);
                let has_view = planned.out.contains("view berths_current");
                assert_eq!(has_view, keep == "changes" && !why.contains("no view"), "{row}: {}", planned.out);
            }
            "refused" => drop(planned.expect(3, &[why])),
            other => panic!("{other}: {row}"),
        }
        // So when it is gathered.
        let gathered = "[[pipelines.quayside.rule]]\nmatch = \"*.berths\"\ngather = true\ninto = \"all\"\n";
        for (more, outcome) in [("", outcome), ("disjoint_keys = true\n", disjoint)] {
            std::fs::write(quay.path("moorage.toml"), format!("{project}{lines}{gathered}{more}")).unwrap();
            let (word, why) = outcome.split_once(": ").unwrap_or((outcome, ""));
            let planned = quay.moorage(&["plan"]);
            match word {
                "right" => drop(planned.expect(0, &["moorage_from"])),
                _ => drop(planned.expect(3, &[why])),
            }
        }
        tried += 1;
    }
    assert!(tried >= 20, "{tried}");
}

/// A pipeline begins at a time, as far back as a slot reaches that was there before: with each change from then on, and none
/// from before.
#[test]
fn a_trail_begins_at_a_time_that_the_slot_reaches() {
    let name = "start_at_time";
    let mirror = Mirror::new(
        name,
        "CREATE TABLE berths (id int PRIMARY KEY, name text); INSERT INTO berths VALUES (0, 'read by nobody')",
    );
    mirror.append(&format!("slot = \"quay_slot\"\npublication = \"quay_publication\"\n[[pipelines.{name}.rule]]\nmatch = \"*.berths\"\nkeep = \"changes\"\n"));
    let time = || {
        mirror.source.value::<String>(
            "SELECT to_char(clock_timestamp() AT TIME ZONE 'UTC', 'YYYY-MM-DD\"T\"HH24:MI:SS.US\"Z\"')",
        )
    };
    let before_all = time();
    mirror
        .moorage(&["run", "--start", &before_all, "--until", "caught-up"])
        .expect(1, &["There is no slot yet that kept earlier changes"]);
    mirror.source.run("CREATE PUBLICATION quay_publication FOR TABLE berths");
    mirror.source.run("SELECT pg_create_logical_replication_slot('quay_slot', 'pgoutput')");
    mirror
        .moorage(&["run", "--start", &before_all, "--until", "caught-up"])
        .expect(1, &["No change is kept"]);
    for id in 1..4 {
        mirror.source.run(&format!("INSERT INTO berths VALUES ({id}, 'early')"));
    }
    let wanted = time();
    // Nothing of an earlier transaction, of which one commits between later ones.
    mirror.source.run("INSERT INTO berths VALUES (4, 'late'); UPDATE berths SET name = 'late' WHERE id = 1");
    mirror.source.run("DELETE FROM berths WHERE id = 2");
    mirror
        .moorage(&["run", "--start", &before_all, "--until", "caught-up"])
        .expect(1, &["the first change that is kept", "the stream cannot start at"]);
    for (odd, why) in
        [("2126-06-01T14:00:00Z", "by the source's clock it is"), ("2026-06-01T14:00:00", "with its zone")]
    {
        mirror.moorage(&["run", "--start", odd, "--until", "caught-up"]).expect(1, &[why]);
    }
    mirror.moorage(&["run", "--start", &wanted, "--until", "caught-up"]).expect(0, &["caught up"]);
    let trail = "SELECT concat_ws(' ', moorage_operation, id, name) FROM mirror.berths ORDER BY moorage_position, moorage_order";
    let told = || -> Vec<String> { mirror.target.rows(trail).iter().map(|row| row.get(0)).collect() };
    assert_eq!(told(), ["insert 4 late", "update 1 late", "delete 2"]);
    mirror.source.run("DELETE FROM berths WHERE id = 3");
    mirror.catch_up();
    assert_eq!(told().last().unwrap(), "delete 3");
}

/// Columns and words as a downstream model wants them.
#[test]
fn a_trail_is_called_as_its_readers_want_it() {
    let quay = Quay::new(BERTHS);
    quay.add(
        "column_names = \"{column:upper}\"\ncommit_times = \"milliseconds\"\noperation_words = { snapshot = \"R\", insert = \"I\", update = \"U\", delete = \"D\" }\n
         added_columns = { operation = \"OP\", committed_at = \"CHANGED\", is_delete = \"IS_DELETED\", since = \"FROM_TIME\" }\n
         [[pipelines.quayside.rule]]\nmatch = \"*.berths\"\nkeep = \"changes\"\nrename = { depth = \"metres\" }\nalso = [{ keep = \"versions\", into = \"berths_history\" }]\n",
    );
    quay.catch_up();
    quay.change("UPDATE berths SET name = 'A9' WHERE id = 1; DELETE FROM berths WHERE id = 2");
    quay.catch_up();
    let trail = "SELECT concat_ws(' ', OP, ID, NAME, metres, IS_DELETED, CHANGED > 1600000000000 AND CHANGED < 9000000000000) FROM berths ORDER BY moorage_position, moorage_order, id";
    assert_eq!(
        texts(&quay.warehouse(), trail),
        ["R 1 A1 2.5 0", "R 2 A2 3.0 0", "R 3 B1 0", "U 1 A9 2.5 0 1", "D 2 1 1"]
    );
    assert_eq!(all_rows(&quay.warehouse(), "berths_current"), all_rows(&quay.harbour(), "berths"));
    assert_eq!(quay.value::<i64>("SELECT count(*) FROM berths_history WHERE FROM_TIME IS NOT NULL"), 4);
    quay.moorage(&["verify"]).expect(0, &["both sides agree"]);
    // Another name is another name; other words would not be told from those that are there.
    quay.replace("operation = \"OP\"", "operation = \"WHAT\"");
    quay.catch_up();
    assert_eq!(quay.value::<i64>("SELECT count(*) FROM berths WHERE WHAT = 'D'"), 1);
    quay.moorage(&["verify"]).expect(0, &["both sides agree"]);
    quay.replace("delete = \"D\"", "delete = \"X\"");
    quay.refuses(&["was made with keep = \"changes\", operation_words", "delete = \"D\""]);
    quay.replace("delete = \"X\"", "delete = \"U\"");
    quay.moorage(&["plan"]).expect(2, &["for two operations"]);
    quay.replace("delete = \"U\"", "delete = \"D\"");
    quay.replace("{column:upper}", "{table}");
    quay.moorage(&["plan"]).expect(2, &["only {column} stands for something"]);
}

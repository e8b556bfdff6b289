//! A SQLite file as a source: what triggers capture, and what they cannot.

use crate::harness::{Quay, all_rows};
use moorage_testkit::wait_until;

const BERTHS: &str = "CREATE TABLE berths (id INTEGER PRIMARY KEY, name TEXT UNIQUE, length_m DECIMAL(5,2), has_power BOOLEAN, draught REAL, plan BLOB, at DATETIME);
    CREATE TABLE gate_log (at TEXT, gate TEXT);
    CREATE TABLE readings (berth INTEGER NOT NULL, read_at DATETIME NOT NULL, kwh DECIMAL(9,2), PRIMARY KEY (berth, read_at));";

#[test]
fn every_kind_of_change_arrives() {
    let quay = Quay::new(BERTHS);
    quay.change(
        "INSERT INTO berths VALUES (1, 'A1', 12.5, 1, 1e300, x'00ff', '2026-06-01 10:00:00'), (2, 'A2', 4, 0, -0.5, NULL, NULL), (3, '', NULL, NULL, 2, x'', NULL);
         INSERT INTO gate_log VALUES ('6', 'north'), ('6', 'north'), (NULL, NULL); INSERT INTO readings VALUES (1, '2026-06-01 00:00:00', 1.5)",
    );
    quay.assert_follows(&["berths", "gate_log", "readings"]);
    quay.change(
        "UPDATE berths SET id = 20 WHERE id = 2; UPDATE berths SET name = 'A0' WHERE id = 1; DELETE FROM berths WHERE id = 3;
         INSERT INTO berths (id, name) VALUES (20, 'upserted') ON CONFLICT (id) DO UPDATE SET name = excluded.name;
         INSERT INTO readings VALUES (1, '2026-06-01 06:00:00', 7); UPDATE readings SET berth = berth + 1;
         DELETE FROM gate_log WHERE rowid = 1; UPDATE gate_log SET gate = 'south' WHERE gate IS NULL",
    );
    quay.assert_follows(&["berths", "gate_log", "readings"]);
    quay.change("DELETE FROM gate_log; DELETE FROM berths; INSERT INTO berths (id) VALUES (1)");
    quay.assert_follows(&["berths", "gate_log", "readings"]);
}

/// `OR REPLACE` removes rows that no delete trigger hears of; `OR IGNORE` leaves rows that a trigger heard of.
#[rstest::rstest]
#[case::by_key("INSERT OR REPLACE INTO berths (id, name) VALUES (1, 'new')")]
#[case::by_another_unique_column("INSERT OR REPLACE INTO berths (id, name) VALUES (9, 'A2')")]
#[case::two_rows_at_once("INSERT OR REPLACE INTO berths (id, name) VALUES (1, 'A2')")]
#[case::by_update("UPDATE OR REPLACE berths SET name = 'A2' WHERE id = 3")]
#[case::by_update_of_the_key("UPDATE OR REPLACE berths SET id = 2 WHERE id = 3")]
#[case::ignored("INSERT OR IGNORE INTO berths (id, name) VALUES (1, 'x'), (9, 'A2'), (8, 'A8')")]
#[case::ignored_then_deleted(
    "INSERT OR IGNORE INTO berths (id, name) VALUES (1, 'x'); DELETE FROM berths WHERE id = 1"
)]
#[case::replaced_then_made_again(
    "INSERT OR REPLACE INTO berths (id, name) VALUES (9, 'A2'); INSERT INTO berths (id, name) VALUES (2, 'back')"
)]
#[case::with_recursive_triggers(
    "PRAGMA recursive_triggers = ON; INSERT OR REPLACE INTO berths (id, name) VALUES (1, 'A2')"
)]
fn replaced_and_ignored_rows_are_told_apart(#[case] statements: &str) {
    let quay = Quay::new(BERTHS);
    quay.change("INSERT INTO berths (id, name) VALUES (1, 'A1'), (2, 'A2'), (3, 'A3'), (4, 'A4')");
    quay.catch_up();
    quay.change(statements);
    quay.assert_follows(&["berths"]);
}

/// What a statement did before it failed stays with `OR FAIL`, and SQLite does not write down which number a change was given
/// last.
#[rstest::rstest]
#[case::inserts(
    "DELETE FROM berths WHERE id = 5; INSERT OR FAIL INTO berths (id, name) VALUES (5, 'A5'), (2, 'again')"
)]
#[case::updates(
    "UPDATE OR FAIL berths SET name = 'A3' || (id = 1) WHERE id <> 2; UPDATE OR FAIL berths SET name = 'same' WHERE id IN (1, 3)"
)]
#[case::by_a_trigger(
    "CREATE TEMP TRIGGER no BEFORE UPDATE ON berths WHEN OLD.id = 3 BEGIN SELECT RAISE(FAIL, 'no'); END; UPDATE berths SET has_power = 1"
)]
fn what_a_failed_statement_keeps_is_captured(#[case] statement: &str) {
    let quay = Quay::new(BERTHS);
    quay.change("INSERT INTO berths (id, name) VALUES (1, 'A1'), (2, 'A2'), (3, 'A3')");
    quay.catch_up();
    for _ in 0..2 {
        quay.harbour().execute_batch(statement).unwrap_err();
        quay.assert_follows(&["berths"]);
    }
    quay.change("UPDATE berths SET name = name || '!'");
    quay.assert_follows(&["berths"]);
}

#[test]
fn rows_that_foreign_keys_delete_are_captured() {
    let quay = Quay::new(
        "CREATE TABLE stays (id INTEGER PRIMARY KEY); CREATE TABLE notes (id INTEGER PRIMARY KEY, stay INTEGER REFERENCES stays ON DELETE CASCADE)",
    );
    quay.change("INSERT INTO stays VALUES (1), (2); INSERT INTO notes VALUES (1, 1), (2, 1), (3, 2)");
    quay.catch_up();
    quay.change("PRAGMA foreign_keys = ON; DELETE FROM stays WHERE id = 1");
    quay.assert_follows(&["stays", "notes"]);
}

#[rstest::rstest]
#[case::without_rowid("CREATE TABLE t (id INTEGER PRIMARY KEY, a TEXT) WITHOUT ROWID", "WITHOUT ROWID")]
#[case::no_type("CREATE TABLE t (id INTEGER PRIMARY KEY, a)", "column a: it is declared without a type")]
#[case::trigger_on_itself(
    "CREATE TABLE t (id INTEGER PRIMARY KEY, a TEXT); CREATE TRIGGER tidy AFTER INSERT ON t BEGIN UPDATE t SET a = 'x' WHERE id = NEW.id; END",
    "trigger tidy of the database changes the table it fires for"
)]
#[case::expression(
    "CREATE TABLE t (id INTEGER PRIMARY KEY, a TEXT); CREATE UNIQUE INDEX low ON t (lower(a))",
    "unique index low is over an expression"
)]
#[case::virtual_table("CREATE VIRTUAL TABLE t USING fts5(a)", "virtual table")]
fn what_cannot_be_carried_exactly_is_refused_by_name(#[case] statements: &str, #[case] why: &str) {
    let quay = Quay::new(&format!("CREATE TABLE berths (id INTEGER PRIMARY KEY); {statements}"));
    quay.moorage(&["plan"]).expect(3, &["main.t: blocked", why]);
    quay.moorage(&["run", "--until", "caught-up"]).expect(3, &["main.t is left out", "caught up"]);
}

#[rstest::rstest]
#[case::in_the_snapshot(false)]
#[case::in_the_stream(true)]
fn a_value_that_does_not_fit_its_declared_type_is_named(#[case] later: bool) {
    let quay = Quay::new("CREATE TABLE berths (id INTEGER PRIMARY KEY, length_m DECIMAL(5,2), at DATETIME)");
    if later {
        quay.catch_up();
    }
    quay.change("INSERT INTO berths VALUES (7, 1.5, 'noon')");
    quay.refuses(&["main.berths: column at", "\"noon\" is not a value of type timestamp"]);
    quay.change("UPDATE berths SET at = '2026-06-01 12:00:00', length_m = 1.005");
    quay.refuses(&["main.berths: column"]);
}

const VESSELS: &str = "CREATE TABLE vessels (id INTEGER PRIMARY KEY, name TEXT UNIQUE, n INT, note TEXT); CREATE TABLE readings (berth INTEGER NOT NULL, read_at TEXT NOT NULL, kwh INT, PRIMARY KEY (berth, read_at));
    INSERT INTO vessels VALUES (1, 'Heron', 1, 'x'), (2, 'Tern', 2, NULL), (3, 'Grebe', 3, 'y'); INSERT INTO readings VALUES (1, 'a', 5), (1, 'b', 6), (2, 'a', 7)";

/// No statement of the application fails because of what captures it, and everything arrives.
#[rstest::rstest]
fn changes_of_structure_are_followed(
    #[values(false, true)] running: bool,
    #[values(
        "ALTER TABLE vessels ADD COLUMN colour TEXT DEFAULT 'red'",
        "ALTER TABLE vessels ADD COLUMN colour TEXT DEFAULT 'red'; UPDATE vessels SET colour = NULL WHERE id = 1; INSERT INTO vessels (id, colour) VALUES (9, 'blue')",
        "ALTER TABLE vessels DROP COLUMN n",
        "ALTER TABLE vessels RENAME COLUMN n TO number",
        "ALTER TABLE vessels RENAME COLUMN id TO vessel_id; UPDATE vessels SET n = 8 WHERE vessel_id = 2",
        "ALTER TABLE readings RENAME COLUMN berth TO b; UPDATE readings SET read_at = 'c' WHERE b = 2; DELETE FROM readings WHERE b = 1 AND read_at = 'a'",
        "ALTER TABLE vessels DROP COLUMN note; ALTER TABLE vessels ADD COLUMN note TEXT DEFAULT 'new'",
        "ALTER TABLE vessels DROP COLUMN note; ALTER TABLE vessels ADD COLUMN other TEXT; UPDATE vessels SET other = 'z' WHERE id = 3",
        "BEGIN; UPDATE vessels SET n = n + 1; ALTER TABLE vessels DROP COLUMN n; INSERT INTO vessels VALUES (7, 'Rail', 'q'); ALTER TABLE vessels ADD COLUMN n INT DEFAULT 4; DELETE FROM vessels WHERE id = 1; COMMIT",
        "CREATE TABLE v (id INTEGER PRIMARY KEY, name TEXT, n TEXT, m INT DEFAULT 3); INSERT INTO v (id, name, n) SELECT id, name, n || ' m' FROM vessels; DROP TABLE vessels; ALTER TABLE v RENAME TO vessels; UPDATE vessels SET m = 4 WHERE id = 1"
    )]
    statements: &str,
) {
    let quay = Quay::new(VESSELS);
    quay.add("[pipelines.quayside.drift]\ncolumn_renamed = \"follow\"");
    quay.catch_up();
    let run = running.then(|| {
        let mut run = quay.start(&["run"]);
        run.wait_for("following changes");
        run
    });
    quay.change(statements);
    if let Some(mut run) = run {
        run.wait_for("main.");
        run.signal("INT");
        assert_eq!(run.end(), 0);
    }
    // What is read again begins beside the stream, which may end before.
    quay.catch_up();
    quay.catch_up();
    ["vessels", "readings"].iter().for_each(|table| quay.assert_same(table));
    quay.change("UPDATE vessels SET name = name || '!'; UPDATE readings SET kwh = kwh + 1");
    quay.catch_up();
    ["vessels", "readings"].iter().for_each(|table| quay.assert_same(table));
    quay.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// A column that was dropped and came again between two looks, called and declared as before, is not taken for the old one.
#[rstest::rstest]
fn a_column_that_was_emptied_by_dropping_it_is_read_again(#[values(false, true)] stopped: bool) {
    let quay = Quay::new(VESSELS);
    quay.catch_up();
    let run = (!stopped).then(|| {
        let mut run = quay.start(&["run"]);
        run.wait_for("following changes");
        run
    });
    quay.change(
        "BEGIN; ALTER TABLE vessels DROP COLUMN note; ALTER TABLE vessels ADD COLUMN note TEXT; COMMIT",
    );
    if let Some(mut run) = run {
        run.wait_for("several changes of its structure fit what it is now");
        run.signal("INT");
        assert_eq!(run.end(), 0);
    }
    quay.catch_up();
    quay.catch_up();
    assert_eq!(quay.value::<i64>("SELECT count(note) FROM vessels"), 0);
    quay.assert_follows(&["vessels"]);
}

/// A decision is carried out also where nothing else is written to the source.
#[rstest::rstest]
fn a_held_table_of_a_quiet_file_goes_on_when_someone_decides(#[values(false, true)] running: bool) {
    let quay = Quay::new(VESSELS);
    quay.catch_up();
    quay.change("UPDATE vessels SET n = 7 WHERE id = 1; ALTER TABLE vessels RENAME COLUMN n TO number; UPDATE vessels SET number = 8 WHERE id = 2");
    quay.catch_up().expect(0, &["column n is called number now; it is held"]);
    let run = running.then(|| {
        let mut run = quay.start(&["run"]);
        run.wait_for("following changes");
        run
    });
    quay.moorage(&["drift", "follow", "1"]).expect(0, &[]);
    if let Some(mut run) = run {
        let sql = "SELECT count(*) FROM moorage_tables WHERE state = 'held'";
        wait_until("it is decided", || quay.value::<i64>(sql) == 0);
        run.signal("INT");
        assert_eq!(run.end(), 0);
    }
    quay.assert_follows(&["vessels"]);
    quay.moorage(&["verify"]).expect(0, &["both sides agree"]);
    quay.moorage(&["drift"]).expect(0, &["followed"]);
}

/// Other tables' changes are no reason to read a table again, nor are those that Moorage makes.
#[test]
fn tables_that_were_not_changed_are_left_alone() {
    let quay = Quay::new(VESSELS);
    quay.catch_up();
    quay.change("CREATE TABLE tariffs (id INTEGER PRIMARY KEY, price INT, unused TEXT); CREATE INDEX i ON vessels (n); CREATE VIEW v AS SELECT 1 AS a");
    let log = quay.catch_up().all();
    quay.change("CREATE TABLE more (a INT)");
    let log = log + &quay.catch_up().all() + &quay.catch_up().all();
    assert!(!log.contains("read again"), "{log}");
    quay.assert_follows(&["vessels", "readings", "tariffs", "more"]);
}

/// A table without a key is captured row by row, and its triggers name its columns.
#[test]
fn a_table_without_a_key_is_read_again_when_a_column_comes() {
    let quay = Quay::new(
        "CREATE TABLE gate_log (at TEXT, gate TEXT); INSERT INTO gate_log VALUES ('6', 'north'), ('6', 'north')",
    );
    quay.catch_up();
    quay.change("ALTER TABLE gate_log ADD COLUMN by_whom TEXT DEFAULT 'me'; INSERT INTO gate_log VALUES ('7', 'south', 'you')");
    quay.catch_up();
    quay.assert_follows(&["gate_log"]);
    let refused = quay.harbour().execute_batch("ALTER TABLE gate_log DROP COLUMN gate").unwrap_err();
    assert!(refused.to_string().contains("error in trigger"), "{refused}");
    quay.moorage(&["plan"]).expect(0, &["DROP COLUMN"]);
    quay.change("DROP TABLE gate_log; CREATE TABLE gate_log (at TEXT, gate TEXT)");
    quay.catch_up().expect(0, &["main.gate_log: what captures its changes was altered by someone"]);
}

/// An older copy of the source, and one that has gone on differently, are refused.
#[test]
fn a_restored_source_is_recognised() {
    let quay = Quay::new(BERTHS);
    quay.change("INSERT INTO berths (id) VALUES (1)");
    quay.catch_up();
    quay.change("INSERT INTO berths (id) VALUES (2); PRAGMA wal_checkpoint(TRUNCATE)");
    std::fs::copy(quay.path("harbour.db"), quay.path("backup.db")).unwrap();
    quay.change("INSERT INTO berths (id) VALUES (3); INSERT INTO berths (id) VALUES (4)");
    quay.catch_up();
    quay.change("PRAGMA wal_checkpoint(TRUNCATE)");
    for suffix in ["-wal", "-shm"] {
        let _ = std::fs::remove_file(quay.path(&format!("harbour.db{suffix}")));
    }
    std::fs::copy(quay.path("backup.db"), quay.path("harbour.db")).unwrap();
    quay.refuses(&["restored to an earlier state"]);
    quay.change("INSERT INTO berths (id) VALUES (5); INSERT INTO berths (id) VALUES (6); INSERT INTO berths (id) VALUES (7)");
    quay.refuses(&["the source's history is not the one the checkpoint was taken from"]);
    quay.moorage(&["resnapshot", "--all"]).expect(0, &[]);
    quay.assert_follows(&["berths"]);
}

#[test]
fn teardown_leaves_the_source_as_it_was() {
    let quay = Quay::new(BERTHS);
    let schema = || all_rows(&quay.harbour(), "sqlite_schema");
    let before = schema();
    quay.catch_up();
    assert_ne!(schema(), before);
    quay.moorage(&["teardown"])
        .expect(0, &["change table moorage_quayside_changes", "nothing of this pipeline is left"]);
    quay.change("DROP TABLE IF EXISTS sqlite_stat1");
    let names = |all: Vec<String>| all.iter().filter(|r| !r.contains("sqlite_sequence")).count();
    assert_eq!(names(schema()), names(before));
}

/// Pipelines may be chained, and read and write one file; what one writes is picked by its full name only.
#[test]
fn what_a_pipeline_writes_is_never_picked_by_a_pattern() {
    let quay = Quay::new(BERTHS);
    quay.change("INSERT INTO berths (id) VALUES (1)");
    quay.replace("path = \"warehouse.db\"", "path = \"harbour.db\"");
    quay.refuses(&["main.berths would be its own target", "into"]);
    assert_eq!(all_rows(&quay.harbour(), "berths").len(), 1);
    quay.replace("into = \"{table}\"", "into = \"mirror_{table}\"");
    quay.catch_up();
    quay.change("INSERT INTO berths (id) VALUES (2)");
    quay.catch_up();
    assert_eq!(all_rows(&quay.harbour(), "mirror_berths").len(), 2);
    quay.moorage(&["tables"]).expect(0, &["pipeline quayside writes it", "3 of 6 tables are picked"]);
    quay.add(
        "[targets.far]\nkind = \"sqlite\"\npath = \"warehouse.db\"\n[pipelines.outer]\nsource = \"harbour\"\ntarget = \"far\"\ninto = \"{table}\"\ninclude = [\"main.mirror_berths\"]\n[[pipelines.outer.rule]]\nmatch = \"*.*\"\ndrop = [\"draught\"]",
    );
    let outer = ["run", "outer", "--until", "caught-up"];
    quay.moorage(&outer).expect(0, &["caught up"]);
    quay.change("DELETE FROM berths WHERE id = 1");
    quay.moorage(&["run", "quayside", "--until", "caught-up"]).expect(0, &[]);
    quay.moorage(&["resnapshot", "berths", "--pipeline", "quayside"]).expect(0, &[]);
    quay.moorage(&["run", "quayside", "--until", "caught-up"]).expect(0, &[]);
    quay.moorage(&outer).expect(0, &["caught up"]);
    assert_eq!(quay.value::<String>("SELECT group_concat(id) FROM mirror_berths"), "2");
}

/// A.4: rows collide by their number too, where that is not the key.
#[test]
fn rows_replaced_by_their_number_are_captured() {
    let quay = Quay::new("CREATE TABLE vessels (code TEXT PRIMARY KEY, n INT); CREATE TABLE log (what TEXT, n INT); CREATE TABLE both (id INT, code TEXT UNIQUE, n INT);
        INSERT INTO vessels VALUES ('a', 1), ('b', 2), ('c', 3), ('d', 4); INSERT INTO log VALUES ('x', 1), ('x', 1), ('y', 2), ('z', 3); INSERT INTO both VALUES (1, 'a', 1), (2, 'b', 2), (3, 'c', 3)");
    quay.catch_up();
    quay.change("INSERT OR REPLACE INTO vessels (rowid, code, n) VALUES (2, 'e', 5); UPDATE OR REPLACE vessels SET rowid = 3 WHERE code = 'a'; INSERT OR REPLACE INTO vessels (rowid, code, n) VALUES (4, 'a', 6);
        INSERT OR REPLACE INTO log (rowid, what, n) VALUES (1, 'w', 9); UPDATE OR REPLACE log SET rowid = 3 WHERE rowid = 2; REPLACE INTO both (rowid, id, code, n) VALUES (1, 9, 'c', 9); INSERT INTO log VALUES ('v', 7)");
    quay.assert_follows(&["vessels", "log", "both"]);
    quay.change("BEGIN; REPLACE INTO log (rowid, what, n) VALUES (3, 'u', 1); REPLACE INTO log (rowid, what, n) VALUES (3, 't', 2); DELETE FROM log WHERE rowid = 3; INSERT INTO log (rowid, what, n) VALUES (3, 's', 3); COMMIT");
    quay.assert_follows(&["vessels", "log", "both"]);
    quay.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// A.4: a row that is its own parent is changed by its own foreign key before its image is captured.
#[test]
fn updates_carried_along_to_the_same_table_are_refused_by_name() {
    let quay = Quay::new("CREATE TABLE berths (id INTEGER PRIMARY KEY, parent INT REFERENCES berths (id) ON UPDATE CASCADE);
        CREATE TABLE tree (id INTEGER PRIMARY KEY, parent INT REFERENCES tree (id) ON DELETE CASCADE); INSERT INTO tree VALUES (1, 1), (2, 1), (3, 2);
        CREATE TABLE a (id INTEGER PRIMARY KEY, b INT REFERENCES b (id) ON UPDATE SET NULL); CREATE TABLE b (id INTEGER PRIMARY KEY, a INT REFERENCES a (id) ON UPDATE CASCADE)");
    quay.moorage(&["plan"]).expect(
        3,
        &[
            "ON UPDATE CASCADE of a foreign key of table berths changes the table it fires for",
            "ON UPDATE SET NULL of a foreign key of table a",
        ],
    );
    quay.replace("merge_every", "include = [\"main.tree\"]\nmerge_every");
    quay.catch_up();
    quay.change("PRAGMA foreign_keys = ON; INSERT INTO tree VALUES (4, 4), (5, 4); DELETE FROM tree WHERE id = 4; DELETE FROM tree WHERE id = 1; INSERT INTO tree VALUES (9, 9)");
    quay.assert_follows(&["tree"]);
}

/// What capturing costs a statement of the application does not grow with the table: no trigger reads all of it.
#[test]
fn triggers_look_rows_up_and_read_no_whole_table() {
    let quay = Quay::new(
        "CREATE TABLE meter_readings (berth_id INTEGER NOT NULL, read_at TEXT NOT NULL, kwh REAL, seal TEXT UNIQUE COLLATE NOCASE, PRIMARY KEY (berth_id, read_at));
         CREATE TABLE gate_log (at TEXT, gate TEXT); CREATE TABLE vessels (id INTEGER PRIMARY KEY, name TEXT UNIQUE)",
    );
    quay.catch_up();
    quay.change(
        "WITH RECURSIVE c(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM c WHERE i < 3000) INSERT INTO meter_readings SELECT i % 9, i, i, 's' || i FROM c;
         INSERT INTO vessels SELECT rowid, seal FROM meter_readings; INSERT INTO gate_log SELECT read_at, 'north' FROM meter_readings; ANALYZE",
    );
    let db = quay.harbour();
    for statement in [
        "INSERT INTO meter_readings VALUES (1, 'now', 1, 'S-new')",
        "INSERT OR REPLACE INTO meter_readings VALUES (1, '1', 1, 'S7')",
        "UPDATE meter_readings SET kwh = 5, read_at = 'later' WHERE berth_id = 2 AND read_at = '2'",
        "DELETE FROM meter_readings WHERE berth_id = 3 AND read_at = '3'",
        "INSERT INTO vessels VALUES (7777, 'Heron')",
        "UPDATE vessels SET name = 'Grebe' WHERE id = 5",
        "INSERT INTO gate_log VALUES ('now', 'south')",
        "DELETE FROM gate_log WHERE rowid = 4",
    ] {
        let mut prepared = db.prepare(statement).unwrap();
        assert_eq!(prepared.execute([]).unwrap(), 1, "{statement}");
        assert_eq!(prepared.get_status(rusqlite::StatementStatus::FullscanStep), 0, "{statement}");
    }
    quay.assert_follows(&["meter_readings", "vessels", "gate_log"]);
}

/// Where nothing is to be made in the source, a run begins and catches up beside a transaction that someone leaves open.
#[test]
fn a_run_that_goes_on_waits_for_no_writer() {
    let quay = Quay::new(BERTHS);
    quay.change("INSERT INTO berths (id) VALUES (1)");
    quay.catch_up();
    quay.change("INSERT INTO berths (id) VALUES (2)");
    let writer = quay.harbour();
    writer.execute_batch("BEGIN IMMEDIATE; INSERT INTO berths (id) VALUES (3)").unwrap();
    quay.catch_up().expect(0, &["triggers on 3 tables: already so"]);
    assert_eq!(quay.value::<i64>("SELECT max(id) FROM berths"), 2);
    writer.execute_batch("COMMIT").unwrap();
    quay.assert_follows(&["berths"]);
}

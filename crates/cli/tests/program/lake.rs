//! Lake tables, as engines of other makes read them: their rows are those of the source, at every version.
//!
//! `scripts/soak lake N` kills as often as it is told; the ordinary suite a few times.

use crate::harness::{Folder, Project, Quay};
use moorage_testkit::{PostgresServer, Session};
use rstest::rstest;
use std::collections::BTreeMap;
use std::path::Path;
use std::process::Command;
use std::time::Duration;

/// What each engine reads: the rows as JSON, sorted.
type Read = BTreeMap<String, Vec<String>>;

/// Reads tables with every engine. A table is named with its folder in the lake, and perhaps a version behind `@`.
fn read(lake: &Path, tables: &[String]) -> BTreeMap<String, Read> {
    // `scripts/test` puts them there.
    let python = Path::new(env!("CARGO_TARGET_TMPDIR")).join("../lake-readers/bin/python");
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/program/lake_read.py");
    let ran = Command::new(&python).arg(script).arg(lake).args(tables).output();
    let ran = ran.unwrap_or_else(|e| panic!("{}: {e}; scripts/test installs it", python.display()));
    assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
    let empty = || ["duckdb", "deltalake"].map(|engine| (engine.to_string(), Vec::new())).into();
    let mut all: BTreeMap<String, Read> = tables.iter().map(|table| (table.clone(), empty())).collect();
    for line in String::from_utf8(ran.stdout).unwrap().lines() {
        let mut parts = line.splitn(3, '\t').map(str::to_string);
        let [engine, table, row] = [(); 3].map(|()| parts.next().unwrap());
        all.get_mut(&table).unwrap().get_mut(&engine).unwrap().push(row);
    }
    all
}

/// A project from a database of the shared server to a lake.
fn to_lake(name: &str, more: &str) -> Project {
    let project = Project::new(name);
    project.write(&PostgresServer::shared().url(name), name, more);
    has_lake(&project, "");
    project
}

/// Has a lake as the target instead.
fn has_lake(folder: &Folder, more: &str) {
    folder.replace(
        "kind = \"sqlite\"\npath = \"warehouse.db\"",
        &format!("kind = \"delta\"\npath = \"lake\"\n{more}"),
    );
}

/// The rows of a query in the source, each as JSON, sorted.
fn source_rows(session: &Session, sql: &str) -> Vec<String> {
    let mut rows: Vec<String> = session.rows(sql).iter().map(|row| row.get(0)).collect();
    rows.sort();
    rows
}

/// Ends the test unless every engine reads these rows.
#[track_caller]
fn assert_read(lake: &Path, table: &str, expected: &[String]) {
    for (engine, rows) in &read(lake, &[table.to_string()])[table] {
        assert_eq!(rows, expected, "{table} by {engine}");
    }
}

const TYPES: &str = "
CREATE TABLE values_of (id int, part text, yes boolean, small smallint, large bigint, one real, two double precision,
  exact numeric(38,10), any_size numeric, words text, raw bytea, day date, moment timestamp, instant timestamptz,
  clock time, long_ago interval, who uuid, what jsonb, PRIMARY KEY (id, part));
INSERT INTO values_of VALUES
  (1, 'a', true, -32768, 9223372036854775807, 0.1, 1e300, 1234567890123456789012345678.0123456789, 1e50, 'Liegeplatz Ä 🛥', '\\x00ff', '0001-01-01', '2026-06-01 06:00:00.123456', '1969-12-31 23:59:59.999999+00', '24:00', '1 mon -2 days', 'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11', '{\"a\": [1, null]}'),
  (1, 'b', false, 32767, -9223372036854775808, -0.0, 5e-324, -9999999999999999999999999999.9999999999, -0.00, '', '', '9999-12-31', '9999-12-31 23:59:59.999999', '0001-01-01 00:00:00+00', '00:00', '0', '00000000-0000-0000-0000-000000000000', 'null'),
  (2, 'a', NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL);";

/// As the engines give it back. Texts are compared as the source prints them.
const TYPES_READ: &str = "
SELECT json_build_array(id, part, yes, small, large, exact::text, any_size::text, words, encode(raw, 'hex'), day::text,
  to_char(moment, CASE WHEN moment = date_trunc('second', moment) THEN 'YYYY-MM-DD\"T\"HH24:MI:SS' ELSE 'YYYY-MM-DD\"T\"HH24:MI:SS.US' END),
  to_char(instant AT TIME ZONE 'UTC', CASE WHEN instant = date_trunc('second', instant) THEN 'YYYY-MM-DD\"T\"HH24:MI:SS\"+00:00\"' ELSE 'YYYY-MM-DD\"T\"HH24:MI:SS.US\"+00:00\"' END),
  clock::text, who::text, what::text)::text FROM values_of";

/// Every type, with nulls and at its ends; values that the log leaves out, keys that change, rows without a key, an emptied table.
#[rstest]
#[case::with_vectors("lake_types", "")]
#[case::written_again("lake_types_again", "vectors = false\n")]
fn every_engine_reads_what_the_source_holds(#[case] name: &str, #[case] more: &str) {
    // Floats, and what only we write as text, have other texts elsewhere.
    let rules = format!(
        "[[pipelines.{name}.rule]]\nmatch = \"public.values_of\"\ndrop = [\"one\", \"two\", \"long_ago\"]"
    );
    let project = to_lake(name, &rules);
    project.replace("path = \"lake\"\n", &format!("path = \"lake\"\n{more}"));
    let lake = project.path("lake");
    project.session.run(TYPES);
    project.session.run(
        "CREATE TABLE stays (id int PRIMARY KEY, val int, note text); ALTER TABLE stays ALTER note SET STORAGE EXTERNAL;
         INSERT INTO stays SELECT i, i, repeat(i::text, 3000) FROM generate_series(1, 300) i;
         CREATE TABLE gate_log (at int, gate text); ALTER TABLE gate_log REPLICA IDENTITY FULL;
         INSERT INTO gate_log SELECT i % 7, CASE WHEN i % 3 > 0 THEN 'in' END FROM generate_series(1, 60) i;
         CREATE TABLE incidents (id int PRIMARY KEY); INSERT INTO incidents VALUES (1), (2);",
    );
    project.catch_up();
    assert_read(&lake, "values_of", &source_rows(&project.session, TYPES_READ));
    project.session.run(
        "UPDATE values_of SET words = part || id, large = 7 WHERE id = 2; UPDATE values_of SET part = 'c' WHERE part = 'a' AND id = 1;
         UPDATE stays SET val = val + 1 WHERE id % 3 = 0; UPDATE stays SET id = id + 1000, val = 0 WHERE id % 7 = 0;
         BEGIN; DELETE FROM stays WHERE id % 5 = 0; INSERT INTO stays VALUES (5, 50, 'again'); UPDATE stays SET id = 6 WHERE id = 5 AND NOT EXISTS (SELECT 1 FROM stays WHERE id = 6); COMMIT;
         DELETE FROM gate_log WHERE ctid IN (SELECT ctid FROM gate_log WHERE at = 3 LIMIT 2); UPDATE gate_log SET gate = 'out' WHERE at = 5 AND gate IS NULL;
         TRUNCATE incidents; INSERT INTO incidents VALUES (7)",
    );
    project.catch_up();
    project.session.run("UPDATE stays SET val = -1 WHERE id % 2 = 0");
    project.catch_up();
    assert_read(&lake, "values_of", &source_rows(&project.session, TYPES_READ));
    for (table, row) in [("stays", "id, val, note"), ("gate_log", "at, gate"), ("incidents", "id")] {
        let rows =
            source_rows(&project.session, &format!("SELECT json_build_array({row})::text FROM {table}"));
        assert_read(&lake, table, &rows);
    }
    project.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// What does not fit its type is told, with the way out, and nothing of its batch is applied; the way out is one.
#[test]
fn a_value_that_the_lake_has_no_type_for_is_told() {
    let project = to_lake("lake_unfit", "");
    project.session.run(
        "CREATE TABLE stays (id int PRIMARY KEY, leaves date); INSERT INTO stays VALUES (1, '2026-06-01')",
    );
    project.catch_up();
    project.session.run("INSERT INTO stays VALUES (2, '2026-07-01'), (3, 'infinity')");
    project.refuses(&[
        "row id = 3",
        "column leaves is of type date",
        "infinity",
        "cast = { \"leaves\" = \"text\" }",
    ]);
    assert_read(&project.path("lake"), "stays", &["[1, \"2026-06-01\"]".into()]);
    project.append("[[pipelines.lake_unfit.rule]]\nmatch = \"public.stays\"\ncast = { leaves = \"text\" }\n");
    project.moorage(&["resnapshot", "stays"]);
    project.catch_up();
    let expected = ["[1, \"2026-06-01\"]", "[2, \"2026-07-01\"]", "[3, \"infinity\"]"].map(str::to_string);
    assert_read(&project.path("lake"), "stays", &expected);
}

fn kills() -> usize {
    std::env::var("MOORAGE_LAKE").ok().and_then(|n| n.parse().ok()).unwrap_or(5)
}

/// Each transaction moves something from one row to another, and some of them rows to other keys, or away and back: so every version
/// of the table has the same sum.
const MOVES: &str = "
BEGIN; UPDATE berths SET val = val - 1 WHERE id = (SELECT min(id) FROM berths);
UPDATE berths SET val = val + 1 WHERE id = (SELECT max(id) FROM berths);
UPDATE berths SET id = id + 1000 WHERE id = (SELECT min(id) FROM berths); COMMIT;
BEGIN; UPDATE stays SET val = val + 1, note = note || 'x' WHERE id % 10 = 3; DELETE FROM stays WHERE id % 50 = 7; COMMIT;
INSERT INTO stays SELECT max(id) + 1, 0, 'new' FROM stays";

/// Killed again and again under load: at the end every engine reads what the source holds, and at twenty older versions what it
/// held at the end of some transaction.
#[test]
fn killed_under_load_every_version_is_whole() {
    let project = to_lake("lake_killed", "");
    project.session.run(
        "CREATE TABLE berths (id int PRIMARY KEY, val int); INSERT INTO berths SELECT i, 10 FROM generate_series(1, 40) i;
         CREATE TABLE stays (id int PRIMARY KEY, val int, note text); INSERT INTO stays SELECT i, 0, 'x' FROM generate_series(1, 500) i",
    );
    let load = project.load(MOVES);
    let mut pause = 150;
    for round in 0..kills() as u64 {
        let run = project.start(&["run"]);
        std::thread::sleep(Duration::from_millis(pause));
        run.kill();
        pause = (pause * 13 / 10 + round * 37) % 1500 + 150;
    }
    drop(load);
    project.catch_up();
    let lake = project.path("lake");
    for (table, row) in [("berths", "id, val"), ("stays", "id, val, note")] {
        let rows =
            source_rows(&project.session, &format!("SELECT json_build_array({row})::text FROM {table}"));
        assert_read(&lake, table, &rows);
    }
    project.moorage(&["verify"]).expect(0, &["both sides agree"]);
    let log = std::fs::read_dir(lake.join("berths/_delta_log")).unwrap();
    let names = log.map(|entry| entry.unwrap().file_name().into_string().unwrap());
    let versions: Vec<u64> = names.filter_map(|name| name.strip_suffix(".json")?.parse().ok()).collect();
    let newest = versions.into_iter().max().unwrap();
    let first = newest.saturating_sub(20).max(2);
    let older: Vec<String> = (first..newest).map(|version| format!("berths@{version}")).collect();
    assert!(older.len() > 3, "{newest} versions");
    for (table, engines) in read(&lake, &older) {
        for (engine, rows) in engines {
            let values = rows.iter().map(|row| serde_json::from_str::<[i64; 2]>(row).unwrap()[1]);
            assert_eq!((rows.len(), values.sum::<i64>()), (40, 400), "{table} by {engine}");
        }
    }
}

/// The same from a file.
#[test]
fn a_file_is_carried_into_a_lake_under_kills() {
    let quay = Quay::new(
        "CREATE TABLE stays (id INTEGER PRIMARY KEY, val INT, note TEXT); CREATE TABLE gate_log (at INT, gate TEXT);
         WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 400) INSERT INTO stays SELECT i, 0, 'x' || i FROM n;",
    );
    has_lake(&quay, "");
    let db = quay.harbour();
    for round in 0..kills() as i64 {
        let run = quay.start(&["run"]);
        for at in 0..15 {
            let id = (round * 67 + at * 29) % 400;
            db.execute_batch(&format!(
                "BEGIN; UPDATE stays SET val = val + 1 WHERE id % 9 = {at} % 9; UPDATE stays SET id = id + 2000 WHERE id = {id};
                 DELETE FROM stays WHERE id = {id} + 1; INSERT INTO gate_log VALUES ({at}, 'in'), ({at}, 'in'); COMMIT;
                 DELETE FROM gate_log WHERE rowid = (SELECT min(rowid) FROM gate_log)"
            ))
            .unwrap();
            std::thread::sleep(Duration::from_millis(20));
        }
        run.kill();
    }
    quay.catch_up();
    for (table, row) in [("stays", "id, val, note"), ("gate_log", "at, gate")] {
        let mut query = db.prepare(&format!("SELECT json_array({row}) FROM {table}")).unwrap();
        let rows = query.query_map([], |r| r.get::<_, String>(0)).unwrap();
        let mut rows: Vec<String> = rows.map(|row| row.unwrap().replace(',', ", ")).collect();
        rows.sort();
        assert_read(&quay.path("lake"), table, &rows);
    }
    quay.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// One transaction that is larger than what is held in memory at once is one version.
#[test]
fn a_large_transaction_is_one_version() {
    let project = to_lake("lake_large", "");
    project.session.run("CREATE TABLE t (id int PRIMARY KEY, a int); INSERT INTO t SELECT i, 0 FROM generate_series(1, 60000) i");
    project.catch_up();
    project.session.run(
        "BEGIN; UPDATE t SET a = 1 WHERE id % 2 = 0; INSERT INTO t SELECT i, 2 FROM generate_series(60001, 90000) i;
         UPDATE t SET a = a + 1 WHERE id > 50000; DELETE FROM t WHERE id % 3 = 0; COMMIT",
    );
    project.catch_up();
    let versions = std::fs::read_dir(project.path("lake/t/_delta_log")).unwrap().count();
    assert_eq!(versions, 3, "made, loaded, merged");
    let rows = source_rows(&project.session, "SELECT json_build_array(id, a)::text FROM t");
    assert_read(&project.path("lake"), "t", &rows);
}

/// Two writers on one lake by mistake: one goes on, also when the other slept.
#[test]
fn of_two_writers_one_goes_on() {
    let project = to_lake("lake_two", "");
    project.session.run("CREATE TABLE t (id int PRIMARY KEY); INSERT INTO t VALUES (1)");
    let run = project.follow();
    let other = project.elsewhere();
    other.moorage(&["run", "--until", "caught-up"]).expect(1, &["already run by process"]);
    run.kill();
    other.catch_up();
    project.session.run("INSERT INTO t VALUES (2)");
    project.catch_up();
    assert_read(&project.path("lake"), "t", &["[1]".into(), "[2]".into()]);
}

/// Taking away what Moorage made leaves what others put there.
#[test]
fn what_was_made_is_taken_away() {
    let project = to_lake("lake_gone", "");
    project.session.run("CREATE TABLE t (id int PRIMARY KEY); INSERT INTO t VALUES (1)");
    project.catch_up();
    std::fs::write(project.path("lake/README"), "theirs").unwrap();
    project.moorage(&["teardown", "--target", "--dry-run"]).expect(0, &["lake table t", "would be removed"]);
    assert!(project.path("lake/t").exists());
    project.moorage(&["teardown", "--target"]).expect(0, &["removed"]);
    let left: Vec<_> =
        std::fs::read_dir(project.path("lake")).unwrap().map(|e| e.unwrap().file_name()).collect();
    assert_eq!(left, ["README"]);
}

/// A place that is none is told before anything is made.
#[test]
fn a_lake_that_cannot_be_written_to_is_told() {
    let project = to_lake("lake_shut", "");
    project.session.run("CREATE TABLE t (id int PRIMARY KEY); INSERT INTO t VALUES (1)");
    std::fs::write(project.path("lake"), "a file, and no folder").unwrap();
    project.moorage(&["check"]).expect(3, &["nothing can be written there"]);
}

/// A table whose structure changes is read again: its readers see the old rows until the new ones take their place.
#[test]
fn a_table_that_gets_a_column_is_never_seen_empty() {
    let project = to_lake("lake_column", "");
    project
        .session
        .run("CREATE TABLE t (id int PRIMARY KEY, a int); INSERT INTO t VALUES (1, 1), (2, 2), (3, 3)");
    project.catch_up();
    project.session.run("ALTER TABLE t ADD depth int DEFAULT 4; UPDATE t SET depth = 5 WHERE id = 2");
    project.catch_up();
    project.session.run("UPDATE t SET depth = 6 WHERE id = 1");
    project.catch_up();
    let lake = project.path("lake");
    assert_read(
        &lake,
        "t",
        &source_rows(&project.session, "SELECT json_build_array(id, a, depth)::text FROM t"),
    );
    let versions = std::fs::read_dir(lake.join("t/_delta_log")).unwrap().count() as u64;
    let all: Vec<String> = (1..versions).map(|version| format!("t@{version}")).collect();
    for (table, engines) in read(&lake, &all) {
        assert!(engines.values().all(|rows| rows.len() == 3), "{table}: {engines:?}");
    }
    project.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// Nothing in a lake sees to it that a key is one: a declared one is looked at when the table is read, and at each row that comes.
#[rstest]
#[case::twice("lake_twice", "(1, 1), (2, 1), (1, 2)", "is not unique")]
#[case::null("lake_null", "(NULL, 1), (2, 2)", "does not fit")]
#[case::later("lake_later", "(1, 1), (2, 1)", "same declared key (id)")]
fn a_declared_key_that_is_none_is_refused(#[case] name: &str, #[case] rows: &str, #[case] words: &str) {
    let project = to_lake(name, &format!("[[pipelines.{name}.rule]]\nmatch = \"public.t\"\nkey = [\"id\"]"));
    project.session.run(&format!(
        "CREATE TABLE t (id int, a int); ALTER TABLE t REPLICA IDENTITY FULL; INSERT INTO t VALUES {rows}"
    ));
    if name == "lake_later" {
        project.catch_up();
        project.session.run("INSERT INTO t VALUES (1, 7)");
    }
    project.refuses(&["public.t", "(id)", words]);
}

/// The advice for a row that someone took away mends it.
#[test]
fn a_row_that_others_took_away_is_told_and_the_advice_mends_it() {
    let project = to_lake("lake_differs", "");
    project.session.run("CREATE TABLE t (id int PRIMARY KEY, a int); INSERT INTO t VALUES (1, 1), (2, 2)");
    project.catch_up();
    // All of its rows are taken away, as another program would: by a version that names the file no more.
    let log = project.path("lake/t/_delta_log");
    let versions = std::fs::read_dir(&log).unwrap().count();
    let last = std::fs::read_to_string(log.join(format!("{:020}.json", versions - 1))).unwrap();
    let add = last.lines().find(|line| line.starts_with("{\"add\"")).unwrap();
    let add: serde_json::Value = serde_json::from_str(add).unwrap();
    let remove = serde_json::json!({"remove": {"path": add["add"]["path"], "deletionTimestamp": 1, "dataChange": true}});
    std::fs::write(log.join(format!("{versions:020}.json")), remove.to_string()).unwrap();
    project.session.run("UPDATE t SET a = 5 WHERE id = 1");
    project.refuses(&[
        "the row id = 1 was to be updated and is not there",
        "resnapshot public.t",
        "mismatch = \"adjust\"",
    ]);
    project.append("[[pipelines.lake_differs.rule]]\nmatch = \"public.t\"\nmismatch = \"adjust\"\n");
    project.catch_up();
    assert_read(&project.path("lake"), "t", &["[1, 5]".into()]);
    project.moorage(&["resnapshot", "public.t"]).expect(0, &[]);
    project.catch_up();
    assert_read(&project.path("lake"), "t", &["[1, 5]".into(), "[2, 2]".into()]);
}

//! `verify`, `row`, `preview` and `changes`.

use crate::harness::{Project, Quay, Running};
use serde_json::Value;

const MARINA: &str = "CREATE TABLE vessels (id INTEGER PRIMARY KEY, name TEXT, length_m DECIMAL(5,2));
    CREATE TABLE gate_log (at TEXT, gate TEXT);
    INSERT INTO vessels VALUES (1, 'Curlew', 9.5), (2, 'Limpet', 7), (3, 'Samphire', 12.25);
    INSERT INTO gate_log VALUES ('6', 'north'), ('6', 'north'), ('7', 'south');";

#[rstest::rstest]
#[case::missing("DELETE FROM vessels WHERE id = 2", "missing", "id = 2")]
#[case::extra("INSERT INTO vessels VALUES (9, 'Ghost', 1)", "extra", "only in the target")]
#[case::different("UPDATE vessels SET length_m = 12.26 WHERE id = 3", "different", "length_m  12.25   12.26")]
#[case::of_another_class(
    "UPDATE vessels SET id = 30, name = x'00' WHERE id = 3; UPDATE vessels SET id = 3 WHERE id = 30",
    "different",
    "blob of 1 bytes"
)]
#[case::another_key("UPDATE vessels SET id = 30 WHERE id = 3", "missing", "id = 30")]
#[case::one_of_two_equal_rows("DELETE FROM gate_log WHERE rowid = 1", "missing", "at = 6, gate = north")]
#[case::a_third_equal_row("INSERT INTO gate_log VALUES ('6', 'north')", "extra", "only in the target")]
fn a_change_behind_our_back_is_found(#[case] tampering: &str, #[case] count: &str, #[case] shown: &str) {
    let quay = Quay::new(MARINA);
    quay.catch_up();
    quay.moorage(&["verify"]).expect(0, &["both sides agree: 6 rows in 2 tables"]);
    quay.tamper(tampering);
    quay.moorage(&["verify"]).expect(3, &["DIFFERS", shown]);
    let found = quay.moorage(&["verify", "--format", "json"]).expect(3, &[]);
    let found: Value = serde_json::from_str(&found.out).unwrap();
    let sum: u64 = found[0]["tables"].as_array().unwrap().iter().map(|t| t[count].as_u64().unwrap()).sum();
    assert_eq!(sum, 1, "{found}");
}

#[test]
fn verify_compares_one_table_counts_or_what_waits() {
    let quay = Quay::new(MARINA);
    quay.moorage(&["verify"]).expect(1, &["was never run"]);
    quay.catch_up();
    quay.tamper("DELETE FROM gate_log");
    quay.moorage(&["verify", "--table", "vessels"]).expect(0, &["3 rows in 1 tables"]);
    quay.moorage(&["verify", "--table", "nosuch"]).expect(2, &["carries no table nosuch"]);
    quay.moorage(&["verify", "--counts-only"]).expect(3, &["DIFFERS  main.gate_log"]);
    // What was captured and not merged is no difference; what is wrong beside it still is. A key that moved is two changes.
    quay.change("UPDATE vessels SET name = 'Heron' WHERE id = 1; DELETE FROM vessels WHERE id = 2; UPDATE vessels SET id = 33 WHERE id = 3");
    quay.moorage(&["verify", "--table", "vessels"]).expect(0, &["4 captured changes were on their way"]);
    quay.moorage(&["verify", "--table", "vessels", "--counts-only"])
        .expect(0, &["both sides agree: 2 row counts"]);
    quay.tamper("INSERT INTO vessels VALUES (4, 'Ghost', 1)");
    quay.moorage(&["verify", "--table", "vessels"]).expect(3, &["id = 4"]);
}

#[test]
fn rows_from_before_the_pipeline_are_told_apart() {
    let quay = Quay::new(MARINA);
    quay.add("existing_rows = \"keep\"");
    quay.tamper(
        "CREATE TABLE vessels (id INTEGER PRIMARY KEY, name TEXT, length_m DECIMAL(5,2)); INSERT INTO vessels VALUES (3, 'old', 1), (80, 'old', 1);
         CREATE TABLE gate_log (at TEXT, gate TEXT); INSERT INTO gate_log VALUES ('6', 'north'), ('1', 'old')",
    );
    quay.catch_up();
    let found = quay.moorage(&["verify", "--format", "json"]).expect(0, &[]);
    let found: Value = serde_json::from_str(&found.out).unwrap();
    let kept = |at: usize| found[0]["tables"][at]["kept"].as_u64().unwrap();
    assert_eq!((kept(0), kept(1)), (2, 1), "{found}");
    quay.tamper("INSERT INTO vessels VALUES (81, 'Ghost', 1)");
    quay.moorage(&["verify"]).expect(3, &["id = 81"]);
}

/// While PostgreSQL is written to and a run merges, no look reports a false difference, and a tampered row
/// between constantly changing neighbours is found each time.
#[rstest::rstest]
#[case::by_log("log", "")]
#[case::by_trigger("trigger", "capture = \"trigger\"")]
fn verify_is_exact_while_changes_go_on(#[case] name: &str, #[case] capture: &str) {
    let project = Project::new(&format!("busy_{name}"));
    project.replace("kind = \"postgres\"", &format!("kind = \"postgres\"\n{capture}"));
    project.session.run(
        "CREATE TABLE vessels (id text PRIMARY KEY, n numeric(12,2), at timestamptz DEFAULT now()); CREATE SEQUENCE s;
         INSERT INTO vessels SELECT 'V' || i, i FROM generate_series(1, 400) i; CREATE TABLE gate_log (a int, b text)",
    );
    if name == "log" {
        project.session.run("ALTER TABLE gate_log REPLICA IDENTITY FULL");
    }
    project.catch_up();
    let mut running: Running = project.start(&["run"]);
    running.wait_for("following changes");
    let load = project.load(
        "BEGIN; UPDATE vessels SET n = n + 0.01, at = clock_timestamp() WHERE id IN (SELECT 'V' || (1 + (random() * 399)::int) FROM generate_series(1, 5)) AND id <> 'V200';
         INSERT INTO vessels VALUES ('W' || nextval('s'), 1); UPDATE vessels SET id = 'X' || nextval('s') WHERE id = (SELECT min(id) FROM vessels WHERE id LIKE 'W%');
         DELETE FROM vessels WHERE id = (SELECT min(id) FROM vessels WHERE id LIKE 'X%'); INSERT INTO gate_log VALUES (1, 'in');
         DELETE FROM gate_log WHERE ctid = (SELECT min(ctid) FROM gate_log) AND random() < 0.5; COMMIT",
    );
    for _ in 0..12 {
        project.moorage(&["verify"]).expect(0, &["both sides agree"]);
    }
    let db = rusqlite::Connection::open(project.path("warehouse.db")).unwrap();
    db.busy_timeout(std::time::Duration::from_secs(20)).unwrap();
    db.execute_batch("UPDATE vessels SET n = -1 WHERE id = 'V200'").unwrap();
    for _ in 0..5 {
        project.moorage(&["verify"]).expect(3, &["id = V200", "n       200.00  -1"]);
    }
    drop(load);
    running.signal("INT");
    assert_eq!(running.end(), 0);
    project.moorage(&["teardown"]).expect(0, &["nothing of this pipeline is left"]);
}

#[test]
fn one_row_is_shown_on_both_sides_and_waited_for() {
    let quay = Quay::new(MARINA);
    quay.catch_up();
    quay.moorage(&["row", "vessels", "1"]).expect(0, &["Curlew", "both sides agree"]);
    quay.moorage(&["row", "vessels", "99"]).expect(0, &["neither side has such a row"]);
    quay.moorage(&["row", "vessels", "x"]).expect(1, &["\"x\" is not a value of key column id"]);
    quay.moorage(&["row", "gate_log", "1"]).expect(2, &["it has no key"]);
    quay.change("UPDATE vessels SET name = 'Heron' WHERE id = 1");
    quay.moorage(&["row", "vessels", "1"]).expect(3, &["≠  name", "Heron", "the two sides differ"]);
    quay.moorage(&["row", "vessels", "1", "--wait", "--for", "200ms"])
        .expect(3, &["the pipeline is not running"]);
    let mut running = quay.start(&["run"]);
    running.wait_for("following changes");
    quay.change("UPDATE vessels SET name = 'Egret' WHERE id = 1");
    let steps = ["seen in the source", "committed", "captured", "merged", "readable", "both sides agree"];
    quay.moorage(&["row", "vessels", "1", "--wait"]).expect(0, &steps);
}

#[test]
fn first_and_newest_rows_are_shown() {
    let quay = Quay::new(MARINA);
    quay.add("[[pipelines.quayside.rule]]\nmatch = \"main.vessels\"\nrename = { name = \"called\" }");
    quay.moorage(&["preview"])
        .expect(0, &["main.vessels → vessels", "called", "Curlew", "main.gate_log → gate_log"]);
    quay.moorage(&["preview", "--target"]).expect(1, &["was never run"]);
    quay.moorage(&["preview", "nosuch"]).expect(2, &["carries no table nosuch"]);
    quay.catch_up();
    let newest = quay.moorage(&["preview", "vessels", "--target", "--newest", "1"]).expect(0, &["Samphire"]);
    assert!(!newest.out.contains("Curlew"), "{}", newest.out);
}

#[test]
fn changes_are_followed_without_moving_the_pipeline() {
    let quay = Quay::new(MARINA);
    quay.moorage(&["changes", "vessels"]).expect(2, &["carries no table vessels", "was never run"]);
    quay.catch_up();
    quay.change("UPDATE vessels SET name = 'Heron' WHERE id = 1; INSERT INTO vessels VALUES (4, 'Grebe', NULL); DELETE FROM vessels WHERE id = 2");
    let texts = [
        "update    id=1  name: Heron, length_m: 9.5",
        "insert    id=4  name: Grebe, length_m: null",
        "delete    id=2",
    ];
    quay.moorage(&["changes", "vessels", "--from", "start", "--limit", "3"]).expect(0, &texts);
    let lines = quay
        .moorage(&["changes", "vessels", "--from", "1", "--limit", "2", "--format", "json"])
        .expect(0, &[]);
    let first: Value = serde_json::from_str(lines.out.lines().next().unwrap()).unwrap();
    assert_eq!(
        (&first["operation"], &first["key"]["id"]),
        (&"insert".into(), &4.into()),
        "behind position 1"
    );
    assert_eq!((&first["old"], &first["new"]["name"]), (&Value::Null, &"Grebe".into()));
    // Our own colours are colours, not written out like what comes from outside.
    let coloured =
        quay.moorage(&["--color", "always", "changes", "vessels", "--from", "start", "--limit", "3"]);
    assert!(
        coloured.out.contains("\u{1b}[32minsert") && !coloured.out.contains("\\u{1b}"),
        "{}",
        coloured.out
    );
    quay.moorage(&["changes", "vessels", "--from", "soon"]).expect(2, &["\"soon\" is no place to begin"]);
    quay.moorage(&["changes", "vessels", "--for", "100ms"]).expect(0, &["from now on"]);
    let waiting = quay.moorage(&["status"]).expect(0, &["3 changes wait"]);
    assert!(!waiting.out.contains("killed"), "{}", waiting.out);
    quay.assert_follows(&["vessels"]);
}

/// Looking at a row needs the right to read both files, and nothing else.
#[test]
fn a_row_can_be_looked_at_without_the_right_to_write() {
    use std::os::unix::fs::PermissionsExt;
    let quay = Quay::new(MARINA);
    quay.catch_up();
    std::fs::copy(env!("CARGO_BIN_EXE_moorage"), quay.path("moorage")).unwrap();
    let read_only = |path: &std::path::Path, mode| {
        std::fs::set_permissions(path, std::fs::Permissions::from_mode(mode)).unwrap();
    };
    for entry in std::fs::read_dir(quay.folder()).unwrap() {
        let path = entry.unwrap().path();
        let runs = path.is_dir() || path.ends_with("moorage");
        read_only(&path, if runs { 0o555 } else { 0o444 });
    }
    read_only(quay.folder(), 0o555);
    // The superuser may write anything: then someone else looks.
    let is_root = user_number() == "0";
    let mut command = std::process::Command::new(if is_root { "setpriv" } else { "env" });
    if is_root {
        command.args(["--reuid", "65534", "--regid", "65534", "--clear-groups"]);
    }
    command.arg(quay.path("moorage")).args(["row", "vessels", "1"]);
    let output = command.current_dir(quay.folder()).output().unwrap();
    let said =
        String::from_utf8_lossy(&output.stderr).into_owned() + &String::from_utf8_lossy(&output.stdout);
    read_only(quay.folder(), 0o755);
    assert!(output.status.success() && said.contains("both sides agree"), "{said}");
}

fn user_number() -> String {
    let output = std::process::Command::new("id").arg("-u").output().unwrap();
    String::from_utf8(output.stdout).unwrap().trim().into()
}

/// A role that may do nothing but read sees a row on both sides, and waits for it.
#[rstest::rstest]
#[case::by_log("seen_log", "")]
#[case::by_trigger("seen_trigger", "capture = \"trigger\"")]
fn a_role_that_may_only_read_follows_a_row(#[case] name: &str, #[case] capture: &str) {
    let project = Project::new(name);
    project.replace("kind = \"postgres\"", &format!("kind = \"postgres\"\n{capture}"));
    project.session.run(&format!(
        "CREATE TABLE vessels (id int PRIMARY KEY, n int); INSERT INTO vessels VALUES (1, 1); CREATE ROLE reader_{name} LOGIN; GRANT SELECT ON vessels TO reader_{name}"
    ));
    project.catch_up();
    let mut running = project.start(&["run"]);
    running.wait_for("following changes");
    project.replace("postgres://postgres@", &format!("postgres://reader_{name}@"));
    project.session.run("UPDATE vessels SET n = 2");
    project.moorage(&["row", "vessels", "1", "--wait"]).expect(0, &["readable", "both sides agree"]);
}

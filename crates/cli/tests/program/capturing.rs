//! What captures changes, altered by others: found, and only the tables it is about are read again.

use crate::harness::{Project, Quay};
use moorage_testkit::wait_until;
use rstest::rstest;

const TABLES: &str =
    "CREATE TABLE berths (id int PRIMARY KEY, name text); CREATE TABLE vessels (id int PRIMARY KEY, n int);
    INSERT INTO berths VALUES (1, 'north'); INSERT INTO vessels SELECT i, 0 FROM generate_series(1, 50) i";

fn started(name: &str, trigger: bool) -> Project {
    let project = Project::new(name);
    if trigger {
        project.replace("kind = \"postgres\"", "kind = \"postgres\"\ncapture = \"trigger\"");
    }
    project.session.run(TABLES);
    project.catch_up();
    project.session.run("INSERT INTO vessels VALUES (51, 1)");
    project.catch_up();
    project
}

fn rows_read(project: &Project, table: &str) -> i64 {
    project.value(&format!("SELECT snapshot_rows FROM moorage_tables WHERE target = '{table}'"))
}

/// A.5: put back exactly as it was: only what remembers its own changes can tell.
#[rstest]
#[case::taken_out(
    "ALTER PUBLICATION moorage_P DROP TABLE berths",
    "ALTER PUBLICATION moorage_P ADD TABLE ONLY berths",
    false,
    false
)]
#[case::left_out("ALTER PUBLICATION moorage_P DROP TABLE berths", "SELECT 1", false, false)]
#[case::other_changes(
    "ALTER PUBLICATION moorage_P SET (publish = 'insert')",
    "ALTER PUBLICATION moorage_P SET (publish = 'insert, update, delete, truncate')",
    false,
    true
)]
#[case::disabled(
    "ALTER TABLE berths DISABLE TRIGGER ALL",
    "ALTER TABLE berths ENABLE TRIGGER ALL",
    true,
    false
)]
#[case::dropped("ALTER TABLE berths DISABLE TRIGGER USER", "SELECT 1", true, false)]
fn a_gap_in_what_captures_a_table_has_it_read_again(
    #[case] away: &str,
    #[case] back: &str,
    #[case] trigger: bool,
    #[case] all: bool,
    #[values(false, true)] running: bool,
) {
    let name = format!("gap_{}_{}", away.len() + back.len(), u8::from(running) + 2 * u8::from(trigger));
    let project = started(&name, trigger);
    let mut process = running.then(|| project.start(&["run"]));
    if let Some(process) = &mut process {
        process.wait_for("following changes");
    }
    for statement in [away, "UPDATE berths SET name = 'missed'; DELETE FROM vessels WHERE id < 3", back] {
        project.session.run(&statement.replace("_P", &format!("_{name}__{name}")));
    }
    if let Some(mut process) = process {
        process.wait_for("read again");
        wait_until("the missed change is there", || {
            project.value::<i64>("SELECT count(*) FROM berths WHERE name = 'missed'") == 1
        });
        process.signal("INT");
        assert_eq!(process.end(), 0, "{}", process.log());
    }
    let ran = project.catch_up();
    assert!(
        running || ran.all().contains("public.berths: what captures its changes was altered"),
        "{}",
        ran.all()
    );
    project.assert_same("berths", "berths");
    project.assert_same("vessels", "vessels");
    let again = rows_read(&project, "vessels") != 50;
    assert_eq!(again, all, "only what has a gap is read again");
    let quiet = project.catch_up();
    assert!(!quiet.all().contains("read again"), "once: {}", quiet.all());
}

/// A.5: the same of a SQLite source, whose triggers can only be dropped. A VACUUM is no gap.
#[test]
fn triggers_put_back_exactly_as_they_were_are_told_from_a_vacuum() {
    let quay = Quay::new(
        "CREATE TABLE berths (id INTEGER PRIMARY KEY, name TEXT); CREATE TABLE vessels (id INTEGER PRIMARY KEY, n INT); INSERT INTO berths VALUES (1, 'north'); INSERT INTO vessels VALUES (1, 1), (2, 2)",
    );
    quay.catch_up();
    quay.change("VACUUM");
    let ran = quay.catch_up();
    assert!(!ran.all().contains("read again"), "{}", ran.all());
    let db = quay.harbour();
    let mut query = db
        .prepare("SELECT name, sql FROM sqlite_schema WHERE type = 'trigger' AND tbl_name = 'berths'")
        .unwrap();
    let triggers: Vec<(String, String)> =
        query.query_map([], |r| Ok((r.get(0)?, r.get(1)?))).unwrap().map(Result::unwrap).collect();
    drop(query);
    for (name, _) in &triggers {
        db.execute_batch(&format!("DROP TRIGGER \"{name}\"")).unwrap();
    }
    db.execute_batch("UPDATE berths SET name = 'missed'; INSERT INTO vessels VALUES (3, 3)").unwrap();
    for (_, sql) in &triggers {
        db.execute_batch(sql).unwrap();
    }
    quay.catch_up().expect(0, &["berths: what captures its changes was altered"]);
    quay.assert_follows(&["berths", "vessels"]);
    assert_eq!(quay.value::<i64>("SELECT snapshot_rows FROM moorage_tables WHERE target = 'vessels'"), 2);
    // Beside a running pipeline too, and made again with other rows.
    let mut running = quay.start(&["run"]);
    running.wait_for("following changes");
    quay.change("DROP TABLE berths; CREATE TABLE berths (id INTEGER PRIMARY KEY, name TEXT); INSERT INTO berths VALUES (7, 'made again')");
    wait_until("it is read again", || quay.value::<i64>("SELECT count(*) FROM berths WHERE id = 7") == 1);
    running.signal("INT");
    assert_eq!(running.end(), 0, "{}", running.log());
    quay.assert_follows(&["berths", "vessels"]);
}

/// A.6: a table that never has changes is dropped and made again while another one is busy.
#[rstest]
#[case::log(false)]
#[case::trigger(true)]
fn what_a_look_finds_takes_effect_however_busy_the_others_are(#[case] trigger: bool) {
    let project = started(&format!("busy_look_{}", u8::from(trigger)), trigger);
    let mut running = project.start(&["run"]);
    running.wait_for("following changes");
    let load = project.load("UPDATE vessels SET n = n + 1 WHERE id % 5 = 1");
    project.session.run("DROP TABLE berths; CREATE TABLE berths (id int PRIMARY KEY, name text); INSERT INTO berths VALUES (9, 'made again')");
    running.wait_for("public.berths: it was dropped and made again");
    moorage_testkit::wait_until("the new one is there", || {
        project.value::<i64>("SELECT count(*) FROM berths WHERE id = 9") == 1
    });
    drop(load);
    running.signal("INT");
    assert_eq!(running.end(), 0, "{}", running.log());
    project.catch_up();
    project.assert_same("berths", "berths");
    project.assert_same("vessels", "vessels");
}

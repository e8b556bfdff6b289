//! Reading a table again while the others go on.

use crate::harness::{Project, Quay};
use rusqlite::Connection;

/// Readers see the old rows or the new ones, never half, however often they look; the other table goes on.
#[test]
fn readers_see_the_old_rows_or_the_new_ones() {
    let quay = Quay::new(
        "CREATE TABLE berths (id INTEGER PRIMARY KEY, n INTEGER); CREATE TABLE stays (id INTEGER PRIMARY KEY, n INTEGER); CREATE TABLE gate_log (at TEXT)",
    );
    quay.change(
        "WITH RECURSIVE c(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM c WHERE i < 60000) INSERT INTO berths SELECT i, 1 FROM c;
         INSERT INTO stays VALUES (1, 0); INSERT INTO gate_log VALUES ('a'), ('a'), ('b')",
    );
    quay.catch_up();
    quay.tamper("UPDATE berths SET n = 7; DELETE FROM gate_log; CREATE INDEX mine ON berths (n); CREATE VIEW all_berths AS SELECT * FROM berths");
    let mut running = quay.start(&["run"]);
    running.wait_for("following changes");
    let path = quay.path("warehouse.db");
    let (stop, stopped) = std::sync::mpsc::channel::<()>();
    let reader = std::thread::spawn(move || {
        let db = Connection::open(path).unwrap();
        let mut seen = std::collections::BTreeSet::new();
        while stopped.try_recv().is_err() {
            let sums: (i64, i64) = db
                .query_row("SELECT count(*), sum(n) FROM all_berths WHERE id <= 60000", [], |r| {
                    Ok((r.get(0)?, r.get(1)?))
                })
                .unwrap();
            seen.insert(sums);
        }
        seen
    });
    let again = quay.start(&["resnapshot", "berths", "gate_log"]);
    for i in 0..200 {
        quay.change(&format!("UPDATE stays SET n = {i}; INSERT INTO berths VALUES ({}, 1); INSERT INTO gate_log VALUES ('{i}')", 100_000 + i));
    }
    let mut again = again;
    assert_eq!(again.end(), 0, "{}", again.log());
    assert!(again.log().contains("main.berths was read again"), "{}", again.log());
    stop.send(()).unwrap();
    let seen = reader.join().unwrap();
    assert!(seen.iter().all(|s| *s == (60_000, 420_000) || *s == (60_000, 60_000)), "{seen:?}");
    running.signal("INT");
    assert_eq!(running.end(), 0, "{}", running.log());
    quay.assert_follows(&["berths", "stays", "gate_log"]);
    assert_eq!(
        quay.value::<i64>("SELECT count(*) FROM sqlite_schema WHERE name IN ('mine', 'all_berths')"),
        2
    );
    quay.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// Killed while a table is read again, the next run does it.
#[test]
fn a_run_that_was_killed_meanwhile_reads_the_table_when_it_is_started_again() {
    let project = Project::new("again");
    project.session.run("CREATE TABLE vessels (id int PRIMARY KEY, n int); INSERT INTO vessels SELECT i, 0 FROM generate_series(1, 3000) i");
    project.catch_up();
    let db = Connection::open(project.path("warehouse.db")).unwrap();
    db.execute_batch("UPDATE vessels SET n = 5 WHERE id = 77").unwrap();
    // A transaction that holds the table's new snapshot up.
    let open = project.another_session();
    open.run("BEGIN; UPDATE vessels SET n = 1 WHERE id = 78");
    let mut running = project.start(&["run"]);
    running.wait_for("following changes");
    let again = project.start(&["resnapshot", "vessels"]);
    moorage_testkit::wait_until("the running process begins", || {
        let sql = "SELECT count(*) FROM sqlite_schema WHERE name = 'moorage_again_vessels'";
        project.value::<i64>(sql) == 1
    });
    running.kill();
    drop(again);
    open.run("COMMIT");
    project.catch_up().expect(0, &["read public.vessels again"]);
    project.assert_same("vessels", "vessels");
    project.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// Asked for in the middle of a transaction that is merged in parts, it begins when that is done.
#[test]
fn it_waits_for_a_large_transaction_to_be_merged() {
    let quay = Quay::new(
        "CREATE TABLE berths (id INTEGER PRIMARY KEY, n INTEGER); CREATE TABLE stays (id INTEGER PRIMARY KEY)",
    );
    quay.change("INSERT INTO berths VALUES (1, 1)");
    quay.catch_up();
    quay.change("WITH RECURSIVE c(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM c WHERE i < 400000) INSERT INTO stays SELECT i FROM c");
    let mut running = quay.start(&["run"]);
    running.wait_for("following changes");
    assert_eq!(quay.value::<i64>("SELECT count(*) FROM stays"), 0, "it is still being merged");
    quay.moorage(&["resnapshot", "berths"]).expect(0, &["main.berths was read again"]);
    assert_eq!(quay.value::<i64>("SELECT count(*) FROM stays"), 400_000);
    running.signal("INT");
    assert_eq!(running.end(), 0, "{}", running.log());
    quay.assert_follows(&["berths", "stays"]);
}

/// A.8: a key that is equal and not the same is corrected by reading again.
#[test]
fn keys_that_are_equal_and_not_the_same_are_corrected() {
    let mirror = crate::harness::Mirror::new("equal_keys", "CREATE TABLE slots (every interval PRIMARY KEY, n int); CREATE TABLE marks (f float8, d numeric, PRIMARY KEY (f, d));
        INSERT INTO slots VALUES ('1 mon', 1), ('2 days', 2); INSERT INTO marks VALUES ('-0', 1.0), (1, 2.00)");
    mirror.catch_up();
    mirror.target.run("UPDATE mirror.slots SET every = '30 days' WHERE n = 1; UPDATE mirror.marks SET f = 0, d = 1.000 WHERE f = 0");
    mirror.moorage(&["verify"]).expect(3, &[]);
    for table in ["slots", "marks"] {
        mirror.moorage(&["resnapshot", table]).expect(0, &[]);
    }
    mirror.assert_follows(&["slots", "marks"]);
    let text: String = mirror.target.value("SELECT every::text FROM mirror.slots WHERE n = 1");
    assert_eq!(text, "P1M");
}

/// B.14: parents and children that refer to each other are read again together: readers see all old rows or all new ones.
#[rstest::rstest]
#[case::at_once("")]
#[case::deferrable(" DEFERRABLE INITIALLY DEFERRED")]
fn tables_that_refer_to_each_other_are_read_again_together(
    #[case] deferrable: &str,
    #[values(false, true)] running: bool,
) {
    let name = format!("family_{}_{}", deferrable.len(), u8::from(running));
    let mirror = crate::harness::Mirror::new(&name, "CREATE TABLE vessels (id int PRIMARY KEY, name text); CREATE TABLE stays (id int PRIMARY KEY, vessel int REFERENCES vessels); CREATE TABLE nights (id int PRIMARY KEY, stay int REFERENCES stays);
        INSERT INTO vessels SELECT i, 'v' FROM generate_series(1, 50) i; INSERT INTO stays SELECT i, i FROM generate_series(1, 50) i; INSERT INTO nights SELECT i, i FROM generate_series(1, 50) i");
    mirror.catch_up();
    mirror.target.run(&format!("ALTER TABLE mirror.stays ADD FOREIGN KEY (vessel) REFERENCES mirror.vessels{deferrable}; ALTER TABLE mirror.nights ADD FOREIGN KEY (stay) REFERENCES mirror.stays{deferrable}"));
    // Rows that the source does not have, and some missing that it has.
    mirror.target.run("INSERT INTO mirror.vessels VALUES (100, 'x'); INSERT INTO mirror.stays VALUES (100, 100); INSERT INTO mirror.nights VALUES (100, 100); DELETE FROM mirror.nights WHERE id < 5; DELETE FROM mirror.stays WHERE id < 5; DELETE FROM mirror.vessels WHERE id < 5; UPDATE mirror.vessels SET name = 'y' WHERE id > 30");
    let mut process = running.then(|| mirror.start(&["run"]));
    if let Some(process) = &mut process {
        process.wait_for("following changes");
    }
    mirror.moorage(&["resnapshot", "vessels", "nights", "stays"]).expect(0, &[]);
    if let Some(mut process) = process {
        process.signal("INT");
        assert_eq!(process.end(), 0, "{}", process.log());
    }
    mirror.assert_follows(&["vessels", "stays", "nights"]);
}

/// B.14: rows come to their places also where a relative that is to be read as well is left out of the run.
#[test]
fn rows_do_not_wait_for_relatives_that_the_run_leaves_out() {
    let mirror = crate::harness::Mirror::new("left_out", "CREATE TABLE vessels (id int PRIMARY KEY, name text); CREATE TABLE stays (id int PRIMARY KEY, vessel int REFERENCES vessels);
        INSERT INTO vessels VALUES (1, 'Curlew'); INSERT INTO stays VALUES (1, 1)");
    mirror.catch_up();
    mirror.target.run("ALTER TABLE mirror.stays ADD FOREIGN KEY (vessel) REFERENCES mirror.vessels; UPDATE mirror.vessels SET name = 'y'");
    mirror.moorage(&["resnapshot", "vessels", "stays"]).expect(0, &[]);
    mirror.replace("include = [\"public.*\"]", "include = [\"public.*\"]\nexclude = [\"public.stays\"]");
    mirror.assert_follows(&["vessels"]);
}

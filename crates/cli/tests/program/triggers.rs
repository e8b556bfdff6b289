//! PostgreSQL captured by triggers.

use crate::harness::Project;
use moorage_testkit::PostgresServer;

fn by_trigger(name: &str) -> Project {
    let project = Project::new(name);
    project.replace("kind = \"postgres\"", "kind = \"postgres\"\ncapture = \"trigger\"");
    project
}

#[test]
fn every_kind_of_change_arrives_without_logical_replication() {
    let server = PostgresServer::start(&["wal_level = replica"]);
    let project = Project::on(&server, "plain");
    project.replace("kind = \"postgres\"", "kind = \"postgres\"\ncapture = \"trigger\"");
    project.session.run(
        "CREATE DOMAIN metres AS numeric(5,2) NOT NULL; CREATE TYPE state AS ENUM ('booked', 'alongside');
         CREATE TABLE \"Berths\" (id int PRIMARY KEY, length metres, state state, tags text[], f float8, b bytea, note text, twice int GENERATED ALWAYS AS (id * 2) STORED);
         CREATE TABLE gate_log (at timestamptz, gate text); CREATE TABLE late (id int PRIMARY KEY DEFERRABLE INITIALLY DEFERRED, a int);
         INSERT INTO \"Berths\" VALUES (1, 1.5, 'booked', '{a,NULL}', 'NaN', '\\x00', repeat('x', 5000)), (2, 2, NULL, NULL, '-0', NULL, NULL);
         INSERT INTO gate_log VALUES (now(), 'n'), (NULL, NULL), (NULL, NULL); INSERT INTO late VALUES (1, 1), (2, 2)",
    );
    project.catch_up();
    project.session.run(
        "SET DateStyle = 'German'; SET TimeZone = 'Asia/Tokyo'; SET extra_float_digits = 0; SET bytea_output = 'escape';
         UPDATE \"Berths\" SET f = 0.1 + 0.2, b = '\\xdeadbeef' WHERE id = 1; UPDATE \"Berths\" SET id = 20 WHERE id = 2;
         INSERT INTO gate_log VALUES ('2026-06-01 12:00+02', 's'); DELETE FROM gate_log WHERE ctid = (SELECT min(ctid) FROM gate_log WHERE gate IS NULL);
         BEGIN; INSERT INTO \"Berths\" VALUES (3, 3); SAVEPOINT a; INSERT INTO \"Berths\" VALUES (4, 4); ROLLBACK TO a; INSERT INTO \"Berths\" VALUES (5, 5); COMMIT;
         UPDATE late SET id = 3 - id; RESET ALL",
    );
    project.catch_up();
    for (source, target) in [("\"Berths\"", "Berths"), ("gate_log", "gate_log"), ("late", "late")] {
        project.assert_same(source, target);
    }
    project.session.run("TRUNCATE \"Berths\", gate_log; INSERT INTO \"Berths\" VALUES (9, 9)");
    project.catch_up();
    project.assert_same("\"Berths\"", "Berths");
    project.moorage(&["verify"]).expect(0, &["both sides agree"]);
    project.moorage(&["status"]).expect(0, &["in change tables", "(limit 1.0 GiB each)"]);
    project.moorage(&["teardown"]).expect(0, &["nothing of this pipeline is left"]);
    let left = "SELECT count(*) FROM pg_trigger WHERE NOT tgisinternal";
    assert_eq!(project.session.rows(left)[0].get::<_, i64>(0), 0);
}

/// A transaction that took its number early and commits late, under load, is never skipped.
#[test]
fn a_transaction_that_commits_late_is_not_skipped() {
    let project = by_trigger("late");
    project.session.run("CREATE TABLE vessels (id int PRIMARY KEY, n int); INSERT INTO vessels SELECT i, 0 FROM generate_series(1, 1000) i");
    project.catch_up();
    let late = project.another_session();
    late.run("BEGIN; UPDATE vessels SET n = 7 WHERE id = 1; INSERT INTO vessels VALUES (2001, 7)");
    let mut running = project.start(&["run"]);
    running.wait_for("following changes");
    let held = std::time::Instant::now();
    let mut round = 0;
    // The load goes on for as long as the transaction is held: that is what the test is about.
    while held.elapsed() < std::time::Duration::from_secs(30) {
        round += 1;
        project.session.run(&format!(
            "UPDATE vessels SET n = {round} WHERE id BETWEEN {} AND {}",
            2 + round % 900,
            20 + round % 900
        ));
    }
    moorage_testkit::wait_until("later transactions arrive before it", || {
        project.value::<i64>("SELECT max(n) FROM vessels") == i64::from(round)
    });
    assert_eq!(project.value::<i64>("SELECT count(*) FROM vessels WHERE id = 2001"), 0);
    late.run("COMMIT");
    moorage_testkit::wait_until("it arrives once it is committed", || {
        project.value::<i64>("SELECT count(*) FROM vessels WHERE n = 7 AND id IN (1, 2001)") == 2
    });
    running.signal("INT");
    running.end();
    project.catch_up();
    project.assert_same("vessels", "vessels");
    // What was acknowledged is deleted from the change tables.
    let mut running = project.start(&["run"]);
    running.wait_for("following changes");
    moorage_testkit::wait_until("the change table is pruned", || {
        project.session.run("UPDATE vessels SET n = n + 1 WHERE id = 5");
        let sql = "SELECT (SELECT count(*) FROM vessels) > 0, (xpath('/row/c/text()', query_to_xml(format('SELECT count(*) AS c FROM moorage_late.%I', relname), false, true, '')))[1]::text::bigint
                   FROM pg_class WHERE relname LIKE 'changes_%' AND relkind = 'r'";
        project.session.rows(sql)[0].get::<_, i64>(1) < 1000
    });
}

#[test]
fn a_full_change_table_ends_capturing_and_never_a_write() {
    let project = by_trigger("brimful");
    project.replace("capture = \"trigger\"", "capture = \"trigger\"\nchange_table_limit = \"64KiB\"");
    project.session.run("CREATE TABLE vessels (id int PRIMARY KEY, n int)");
    project.catch_up();
    project.session.run("INSERT INTO vessels SELECT i, 0 FROM generate_series(1, 20000) i");
    project.refuses(&["capturing by triggers has ended", "moorage resnapshot --all", "change_table_limit"]);
    project.moorage(&["check"]).expect(3, &["capturing has ended: a change table reached its limit"]);
    project.moorage(&["resnapshot", "--all"]).expect(0, &[]);
    project.catch_up();
    project.assert_same("vessels", "vessels");
    project.moorage(&["check"]).expect(0, &["ready"]);
}

#[test]
fn killed_at_many_moments_nothing_is_lost() {
    let project = by_trigger("struck");
    project.session.run("CREATE TABLE vessels (id int PRIMARY KEY, n int); CREATE TABLE gate_log (a int); INSERT INTO vessels SELECT i, 0 FROM generate_series(1, 2000) i");
    let session = project.another_session();
    let (stop, stopped) = std::sync::mpsc::channel::<()>();
    let load = std::thread::spawn(move || {
        while stopped.try_recv().is_err() {
            session.run("BEGIN; UPDATE vessels SET n = n + 1 WHERE id = 1 + (random() * 1999)::int; INSERT INTO gate_log VALUES (1), (1); DELETE FROM gate_log WHERE ctid = (SELECT ctid FROM gate_log LIMIT 1); COMMIT");
        }
    });
    for pause in [30, 80, 150, 300, 60, 500, 200, 400] {
        let running = project.start(&["run"]);
        std::thread::sleep(std::time::Duration::from_millis(pause));
        running.kill();
    }
    stop.send(()).unwrap();
    load.join().unwrap();
    project.catch_up();
    project.assert_same("vessels", "vessels");
    project.assert_same("gate_log", "gate_log");
}

//! The snapshot joined to the stream, and transactions of every kind.

use crate::harness::Project;
use moorage_testkit::{PostgresServer, wait_until};

#[test]
fn savepoints_prepared_and_rolled_back_transactions() {
    let server = PostgresServer::start(&[]);
    let project = Project::on(&server, "savepoints");
    project.session.run(
        "CREATE TABLE t (id int PRIMARY KEY, a int); INSERT INTO t SELECT i, 0 FROM generate_series(1, 10) i",
    );
    project.catch_up();
    project.session.run("BEGIN; UPDATE t SET a = 1 WHERE id = 1; SAVEPOINT s; UPDATE t SET a = 2 WHERE id = 2; DELETE FROM t WHERE id = 3; ROLLBACK TO s; UPDATE t SET a = 4 WHERE id = 4; COMMIT");
    project.session.run("BEGIN; DELETE FROM t; ROLLBACK");
    project.session.run(
        "SELECT pg_replication_origin_create('elsewhere'), pg_replication_origin_session_setup('elsewhere')",
    );
    project.session.run("INSERT INTO t VALUES (50, 0); SELECT pg_logical_emit_message(false, 'other', 'x'), pg_logical_emit_message(true, 'other', 'y')");
    project.session.run("SELECT pg_replication_origin_session_reset()");
    // Prepared transactions hold up every slot that is made on the server: it has one of its own.
    project.session.run("BEGIN; UPDATE t SET a = 5 WHERE id = 5; PREPARE TRANSACTION 'kept'");
    project.session.run("BEGIN; UPDATE t SET a = 6 WHERE id = 6; PREPARE TRANSACTION 'undone'");
    project.catch_up();
    assert_eq!(project.value::<i64>("SELECT a FROM t WHERE id = 5"), 0, "prepared is not committed");
    project.session.run("COMMIT PREPARED 'kept'");
    project.session.run("ROLLBACK PREPARED 'undone'");
    project.catch_up();
    project.assert_same("t", "t");
}

#[test]
fn unique_values_may_be_swapped_within_a_batch() {
    let project = Project::new("swaps");
    project.session.run("CREATE TABLE t (id int PRIMARY KEY, slot int UNIQUE DEFERRABLE INITIALLY DEFERRED); INSERT INTO t SELECT i, i FROM generate_series(1, 20) i");
    project.catch_up();
    project.session.run(
        "BEGIN; UPDATE t SET slot = 21 - slot; UPDATE t SET id = -id; UPDATE t SET id = 21 + id; COMMIT",
    );
    project.catch_up();
    project.assert_same("t", "t");
}

#[test]
fn a_transaction_in_parts_is_seen_whole_or_not_at_all() {
    let project = Project::new("in_parts");
    project.session.run("CREATE TABLE t (id int PRIMARY KEY, a text); INSERT INTO t SELECT i, '' FROM generate_series(1, 1000) i");
    project.catch_up();
    let mut running = project.start(&["run"]);
    running.wait_for("following changes");
    project.session.run("BEGIN; INSERT INTO t SELECT i, repeat('x', 100) FROM generate_series(1001, 150000) i; UPDATE t SET a = 'y'; DELETE FROM t WHERE id % 3 = 0; COMMIT");
    let expected: i64 = project.session.value("SELECT count(*) FROM t");
    let mut counts = vec![1000];
    moorage_testkit::wait_until("the transaction is in the target", || {
        counts.push(project.value("SELECT count(*) FROM t"));
        counts.last() == Some(&expected)
    });
    counts.dedup();
    assert_eq!(counts, [1000, expected], "readers saw it come as one");
    running.signal("TERM");
    assert_eq!(running.end(), 0);
    project.assert_same("t", "t");
}

/// Writers with savepoints and key moves go on while the snapshot is taken, in many rounds; one of the
/// transactions was open before anything was set up.
#[test]
fn a_snapshot_taken_under_load_joins_the_stream_exactly() {
    let server = PostgresServer::shared();
    let project = Project::new("under_load");
    project.session.run("CREATE TABLE t (id int PRIMARY KEY, a int, pad text); INSERT INTO t SELECT i, 0, repeat('p', 200) FROM generate_series(1, 20000) i");
    let script = project.path("load.sql");
    std::fs::write(
        &script,
        "\\set id random(1, 20000)\n\\set new random(20001, 90000)\nBEGIN;\nUPDATE t SET a = a + 1 WHERE id = :id;\nSAVEPOINT s;\nUPDATE t SET a = a + 10 WHERE id = :id;\nROLLBACK TO s;\nSAVEPOINT s2;\nINSERT INTO t VALUES (:new, 1, '') ON CONFLICT (id) DO UPDATE SET a = t.a + 1;\nDELETE FROM t WHERE id = :new + 1;\nCOMMIT;\n",
    )
    .unwrap();
    let mut load = server
        .tool(
            "pgbench",
            &["-n", "-c", "8", "-j", "2", "-T", "8", "-f", script.to_str().unwrap()],
            "under_load",
        )
        .stdout(std::process::Stdio::null())
        .stderr(std::process::Stdio::null())
        .spawn()
        .unwrap();
    while load.try_wait().unwrap().is_none() {
        project.catch_up();
        project.moorage(&["resnapshot", "public.t"]).expect(0, &[]);
    }
    project.catch_up();
    project.assert_same("t", "t");
}

#[test]
fn a_table_is_added_while_an_old_transaction_writes_to_it() {
    let server = PostgresServer::shared();
    let project = Project::new("added_table");
    project.session.run("CREATE TABLE a (id int PRIMARY KEY); CREATE TABLE b (id int PRIMARY KEY, x int); INSERT INTO b VALUES (1, 1)");
    project.replace("merge_every", "include = [\"public.a\"]\nmerge_every");
    project.catch_up();
    let writer = server.session("added_table");
    writer.run("BEGIN; INSERT INTO b VALUES (2, 2); UPDATE b SET x = 10 WHERE id = 1");
    project.replace("[\"public.a\"]", "[\"public.*\"]");
    let mut running = project.start(&["run", "--until", "caught-up"]);
    running.wait_for("waits for transaction of pid");
    writer.run("INSERT INTO b VALUES (3, 3); COMMIT");
    assert_eq!(running.end(), 0, "{}", running.log());
    project.assert_same("b", "b");
    project.session.run("UPDATE b SET x = 0");
    project.catch_up();
    project.assert_same("b", "b");
}

#[test]
fn a_truncate_while_the_copy_is_about_to_begin_is_waited_for() {
    let server = PostgresServer::shared();
    let project = Project::new("truncate_race");
    project.session.run("CREATE TABLE t (id int PRIMARY KEY); INSERT INTO t SELECT generate_series(1, 1000)");
    let other = server.session("truncate_race");
    other.run("BEGIN; LOCK TABLE t IN ACCESS EXCLUSIVE MODE");
    let mut running = project.start(&["run", "--until", "caught-up"]);
    running.wait_for("waits for transaction of pid");
    other.run("TRUNCATE t; INSERT INTO t VALUES (7); COMMIT");
    assert_eq!(running.end(), 0, "{}", running.log());
    project.assert_same("t", "t");
    assert_eq!(project.value::<i64>("SELECT count(*) FROM t"), 1);
}

#[test]
fn making_the_slot_names_the_transactions_it_waits_for() {
    let server = PostgresServer::shared();
    let project = Project::new("slot_waits");
    project.session.run("CREATE TABLE t (id int PRIMARY KEY)");
    let other = server.session("slot_waits");
    other.run("SET application_name = 'booking app'; BEGIN; INSERT INTO t VALUES (1)");
    let mut running = project.start(&["run", "--until", "caught-up"]);
    running.wait_for("making slot moorage_slot_waits__slot_waits: waits for transaction of pid");
    running.wait_for("booking app");
    running.wait_for("open since");
    other.run("COMMIT");
    assert_eq!(running.end(), 0, "{}", running.log());
    project.assert_same("t", "t");
}

#[test]
fn what_makes_a_transaction_wait_is_named_before_it() {
    let server = PostgresServer::start(&["max_prepared_transactions = 2"]);
    let project = Project::on(&server, "chained");
    project.session.run("CREATE TABLE t (id int PRIMARY KEY, n int); INSERT INTO t VALUES (1, 0)");
    project.session.run("BEGIN; UPDATE t SET n = 1; PREPARE TRANSACTION 'left behind'");
    std::thread::scope(|scope| {
        let stuck = scope.spawn(|| {
            server
                .session("chained")
                .run("BEGIN; INSERT INTO t VALUES (2, 2); UPDATE t SET n = n + 1; COMMIT")
        });
        wait_until("it waits for the row", || {
            project.session.value("SELECT EXISTS (SELECT 1 FROM pg_locks WHERE NOT granted)")
        });
        let mut running = project.start(&["run", "--until", "caught-up"]);
        running.wait_for("waits for prepared transaction left behind, prepared at");
        project.session.run("COMMIT PREPARED 'left behind'");
        stuck.join().unwrap();
        assert_eq!(running.end(), 0, "{}", running.log());
    });
    project.assert_same("t", "t");
}

//! Crashes of Moorage, of the source and of the connection between them; a target that is busy or full.

use crate::harness::Project;
use moorage_testkit::PostgresServer;
use std::process::Stdio;

/// Killed at many moments, during the snapshot and the stream, under load: at the end both sides are the
/// same and the counters add up.
#[test]
fn killed_at_random_moments_nothing_is_lost_and_nothing_comes_twice() {
    let server = PostgresServer::shared();
    let project = Project::new("killed");
    let tool = |arguments: &[&str]| {
        server
            .tool("pgbench", arguments, "killed")
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap()
    };
    assert!(tool(&["-i", "-s", "3", "-q"]).wait().unwrap().success());
    project.session.run("ALTER TABLE pgbench_history REPLICA IDENTITY FULL");
    let mut load = tool(&["-n", "-c", "4", "-T", "12"]);
    let mut pause = 40;
    for round in 0..20 {
        let running = project.start(&["run"]);
        std::thread::sleep(std::time::Duration::from_millis(pause));
        running.kill();
        // From the first moments of the set-up to half a second of streaming.
        pause = (pause * 13 / 10 + round * 7) % 600 + 30;
    }
    load.wait().unwrap();
    project.catch_up();
    for table in ["pgbench_accounts", "pgbench_branches", "pgbench_tellers", "pgbench_history"] {
        project.assert_same(table, table);
    }
    let status = project.moorage(&["status", "--format", "json"]).expect(0, &[]);
    let status: serde_json::Value = serde_json::from_str(&status.out).unwrap();
    for table in status[0]["tables"].as_array().unwrap() {
        let count = |path: &str| table.pointer(path).unwrap().as_u64().unwrap();
        let read = count("/changes/read/inserts")
            + count("/changes/read/updates")
            + count("/changes/read/deletes")
            + count("/changes/read/truncates");
        assert_eq!(read, count("/changes/merged") + count("/changes/reduced"), "{table}");
        let rows = count("/snapshot_rows") + count("/changes/read/inserts") - count("/changes/read/deletes");
        assert_eq!(rows, count("/rows"), "{table}");
    }
}

#[test]
fn a_source_that_crashes_or_cuts_the_line_is_tried_again() {
    let mut server =
        PostgresServer::start(&["synchronous_commit = off", "wal_writer_delay = 10s", "fsync = on"]);
    let project = Project::on(&server, "crashing");
    project.session.run("CREATE TABLE t (id int PRIMARY KEY, a int); INSERT INTO t SELECT i, 0 FROM generate_series(1, 5000) i");
    project.catch_up();
    let mut running = project.start(&["run"]);
    running.wait_for("following changes");
    project.session.run("SELECT pg_terminate_backend(pid) FROM pg_stat_replication");
    running.wait_for("trying again");
    project.session.run("UPDATE t SET a = 1");
    // Committed asynchronously, perhaps never flushed: after the crash both sides must still agree.
    project.session.run("INSERT INTO t SELECT i, 2 FROM generate_series(6000, 6100) i");
    server.restart();
    let session = server.session("crashing");
    session.run("UPDATE t SET a = a + 1 WHERE id % 2 = 0; INSERT INTO t VALUES (9999, 9)");
    moorage_testkit::wait_until("the row after the crash arrives", || {
        project.value::<i64>("SELECT count(*) FROM t WHERE id = 9999") == 1
    });
    running.signal("INT");
    assert_eq!(running.end(), 0, "{}", running.log());
    let sums = "SELECT count(*)::text || '/' || sum(id * 31 + a)::text FROM t";
    assert_eq!(project.value::<String>(&sums.replace("::text", "")), session.value::<String>(sums));
}

#[test]
fn a_running_pipeline_does_not_hold_up_the_shutdown_of_its_source() {
    let mut server = PostgresServer::start(&[]);
    let project = Project::on(&server, "shutdown");
    project.session.run("CREATE TABLE t (id int PRIMARY KEY)");
    project.catch_up();
    let mut running = project.start(&["run"]);
    running.wait_for("following changes");
    project.session.run("INSERT INTO t VALUES (1)");
    moorage_testkit::wait_until("the row arrives", || project.value::<i64>("SELECT count(*) FROM t") == 1);
    assert!(server.stop_within(20), "the server waits for the pipeline: {}", running.log());
    running.wait_for("trying again");
    project.moorage(&["status"]).expect(0, &["not reached", "retrying: "]);
    server.restart();
    server.session("shutdown").run("INSERT INTO t VALUES (2)");
    moorage_testkit::wait_until("the next row arrives", || {
        project.value::<i64>("SELECT count(*) FROM t") == 2
    });
}

/// The server gives up on a receiver that is silent for a second; the target is held up for longer.
#[test]
fn the_connection_is_kept_alive_while_the_target_is_busy() {
    let server = PostgresServer::start(&["wal_sender_timeout = 1s"]);
    let project = Project::on(&server, "busy_target");
    project.session.run("CREATE TABLE t (id int PRIMARY KEY)");
    project.catch_up();
    let mut running = project.start(&["run"]);
    running.wait_for("following changes");
    let writer = rusqlite::Connection::open(project.path("warehouse.db")).unwrap();
    writer.execute_batch("BEGIN IMMEDIATE; CREATE TABLE held (x)").unwrap();
    project.session.run("INSERT INTO t SELECT generate_series(1, 100)");
    let kept = "SELECT count(*) FROM pg_stat_replication WHERE backend_start < now() - interval '4 s'";
    moorage_testkit::wait_until("the connection is four seconds old", || {
        project.session.value::<i64>(kept) == 1
    });
    assert_eq!(project.value::<i64>("SELECT count(*) FROM t"), 0);
    writer.execute_batch("ROLLBACK").unwrap();
    moorage_testkit::wait_until("the rows arrive", || project.value::<i64>("SELECT count(*) FROM t") == 100);
    assert!(!running.log().contains("trying again"), "{}", running.log());
}

#[test]
fn an_idle_pipeline_lets_the_source_drop_a_log_that_others_fill() {
    let server = PostgresServer::start(&[]);
    let project = Project::on(&server, "idle");
    project.session.run("CREATE TABLE t (id int PRIMARY KEY); CREATE TABLE busy (x text)");
    project.replace("merge_every", "include = [\"public.t\"]\nmerge_every");
    project.catch_up();
    let mut running = project.start(&["run"]);
    running.wait_for("following changes");
    project.session.run("INSERT INTO busy SELECT repeat('x', 1000) FROM generate_series(1, 10000)");
    let behind = "SELECT pg_current_wal_lsn() - confirmed_flush_lsn < 1000000 FROM pg_replication_slots";
    assert!(!project.session.value::<bool>(behind));
    moorage_testkit::wait_until("the source may let go of its log", || project.session.value::<bool>(behind));
}

#[test]
fn a_full_disk_is_said_and_waited_out() {
    let project = Project::new("full_disk");
    project.session.run("CREATE TABLE t (id int PRIMARY KEY, a text)");
    project.catch_up();
    project.session.run("INSERT INTO t SELECT i, repeat('x', 1000) FROM generate_series(1, 20000) i");
    // A limit on the size of files stands for the end of the disk; the signal it sends is ignored.
    let mut limited = project.start_by(&[
        "/bin/bash",
        "-c",
        "trap '' XFSZ; ulimit -S -f 4000; exec \"$0\" run --until caught-up",
    ]);
    limited.wait_for("warehouse.db");
    limited.wait_for("trying again");
    assert_eq!(project.value::<i64>("SELECT count(*) FROM t"), 0);
    let pid = limited.child.id().to_string();
    assert!(
        std::process::Command::new("prlimit")
            .args(["--fsize=unlimited", "--pid", &pid])
            .status()
            .unwrap()
            .success()
    );
    assert_eq!(limited.end(), 0, "{}", limited.log());
    project.assert_same("t", "t");
}

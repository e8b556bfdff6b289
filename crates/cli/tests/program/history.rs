//! Checkpoints whose source, slot or target is not the one they were taken from.

use crate::harness::Project;
use moorage_testkit::PostgresServer;

const BERTHS: &str =
    "CREATE TABLE berths (id int PRIMARY KEY, name text); INSERT INTO berths VALUES (1, 'north')";

fn started(server: &PostgresServer, name: &str) -> Project {
    let project = Project::on(server, name);
    project.session.run(BERTHS);
    project.catch_up();
    project.session.run("INSERT INTO berths VALUES (2, 'south')");
    project.catch_up();
    project
}

/// Reading everything again is always a way out.
fn mended(project: &Project) {
    project.moorage(&["resnapshot", "--all"]).expect(0, &["reads again"]);
    project.catch_up();
    project.assert_same("berths", "berths");
}

#[test]
fn another_system_or_a_database_made_again_is_refused() {
    let project = started(PostgresServer::shared(), "other_system");
    let other = PostgresServer::start(&[]);
    let session = other.database("other_system");
    session.run(BERTHS);
    project.write(&other.url("other_system"), "other_system", "");
    project.refuses(&["not the one this target was filled from"]);
    let shared = PostgresServer::shared();
    project.write(&shared.url("other_system"), "other_system", "");
    project.moorage(&["teardown"]).expect(0, &[]);
    let admin = shared.session("postgres");
    admin.run("SELECT pg_terminate_backend(pid, 5000) FROM pg_stat_activity WHERE datname = 'other_system'");
    admin.run("ALTER DATABASE other_system RENAME TO other_system_before");
    let again = shared.database("other_system");
    again.run(BERTHS);
    project.refuses(&["dropped and made again counts as another one"]);
}

/// A copy of the disk has the same identifiers, the same slot and, after a while, a log as long.
#[test]
fn a_clone_of_the_source_is_refused_also_when_its_log_has_grown_past_the_checkpoint() {
    let mut server = PostgresServer::start(&[]);
    let project = started(&server, "cloned");
    let clone = server.clone_files();
    let session = server.session("cloned");
    session.run("INSERT INTO berths VALUES (3, 'only here')");
    project.catch_up();
    project.write(&clone.url("cloned"), "cloned", "");
    project.refuses(&["restored to an earlier state", "resnapshot --all"]);
    let other = clone.session("cloned");
    other.run("CREATE TABLE filler AS SELECT i, repeat('x', 500) FROM generate_series(1, 20000) i; DROP TABLE filler; INSERT INTO berths VALUES (4, 'only there')");
    project.refuses(&["not the one the checkpoint was taken from", "resnapshot --all"]);
    assert_eq!(project.value::<i64>("SELECT count(*) FROM berths WHERE id = 4"), 0);
}

#[test]
fn a_source_on_another_timeline_is_refused() {
    let mut server = PostgresServer::start(&[]);
    let project = started(&server, "failed_over");
    server.private_file("standby.signal", "");
    server.restart();
    let session = server.session("failed_over");
    assert!(session.value::<bool>("SELECT pg_promote()"));
    project.refuses(&["restored or failed over", "timeline 2", "timeline 1", "resnapshot --all"]);
    mended_on(&server, &project, "failed_over");
}

fn mended_on(server: &PostgresServer, project: &Project, name: &str) {
    project.moorage(&["resnapshot", "--all"]).expect(0, &[]);
    project.catch_up();
    let rows: i64 = server.session(name).value("SELECT count(*) FROM berths");
    assert_eq!(project.value::<i64>("SELECT count(*) FROM berths"), rows);
}

#[test]
fn a_slot_made_again_under_the_same_name_is_refused() {
    let project = started(PostgresServer::shared(), "slot_again");
    project.session.run("SELECT pg_drop_replication_slot('moorage_slot_again__slot_again')");
    project.session.run("INSERT INTO berths VALUES (3, 'lost')");
    project.refuses(&["slot moorage_slot_again__slot_again is gone", "resnapshot --all"]);
    project
        .session
        .run("SELECT pg_create_logical_replication_slot('moorage_slot_again__slot_again', 'pgoutput')");
    project.refuses(&["after the checkpoint", "made again", "resnapshot --all"]);
    mended(&project);
    project
        .session
        .run("COMMENT ON PUBLICATION moorage_slot_again__slot_again IS 'made by moorage, token another'");
    project.refuses(&["carries another mark", "resnapshot --all"]);
    mended(&project);
}

#[test]
fn a_slot_that_is_dropped_or_invalidated_while_running_stops_the_run() {
    let mut server = PostgresServer::start(&[
        "max_slot_wal_keep_size = 1MB",
        "min_wal_size = 32MB",
        "max_wal_size = 32MB",
    ]);
    let project = started(&server, "slot_lost");
    project.session.run("CREATE TABLE filler (x text); ALTER TABLE filler REPLICA IDENTITY FULL");
    for _ in 0..6 {
        project.session.run("INSERT INTO filler SELECT repeat('x', 1000) FROM generate_series(1, 10000)");
        project.session.run("SELECT pg_switch_wal()");
        project.session.run("CHECKPOINT");
    }
    assert_eq!(project.session.value::<String>("SELECT wal_status FROM pg_replication_slots"), "lost");
    project.refuses(&["invalidated", "resnapshot --all"]);
    project.moorage(&["check"]).expect(3, &["the server let go of it", "resnapshot --all"]);
    mended(&project);
    let mut running = project.start(&["run"]);
    running.wait_for("following changes");
    project.session.run("SELECT pg_terminate_backend(active_pid), pg_sleep(0.1) FROM pg_replication_slots; SELECT pg_drop_replication_slot('moorage_slot_lost__slot_lost')");
    assert_eq!(running.end(), 1, "{}", running.log());
    assert!(running.log().contains("is gone") && running.log().contains("resnapshot"), "{}", running.log());
    server.crash();
}

#[test]
fn a_slot_that_someone_else_reads_and_a_publication_that_was_dropped_are_named() {
    let server = PostgresServer::shared();
    let project = started(server, "slot_in_use");
    let other = [
        "--slot",
        "moorage_slot_in_use__slot_in_use",
        "--start",
        "-o",
        "proto_version=1",
        "-o",
        "publication_names=moorage_slot_in_use__slot_in_use",
        "-f",
        "/dev/null",
        "-d",
    ];
    let mut reader = server.tool("pg_recvlogical", &other, "slot_in_use").spawn().unwrap();
    let active =
        "SELECT active FROM pg_replication_slots WHERE slot_name = 'moorage_slot_in_use__slot_in_use'";
    moorage_testkit::wait_until("the slot is in use", || project.session.value::<bool>(active));
    project.refuses(&["slot moorage_slot_in_use__slot_in_use is in use by pid", "pg_recvlogical"]);
    reader.kill().unwrap();
    reader.wait().unwrap();
    moorage_testkit::wait_until("the slot is free", || !project.session.value::<bool>(active));
    let mut running = project.start(&["run"]);
    running.wait_for("following changes");
    project
        .session
        .run("DROP PUBLICATION moorage_slot_in_use__slot_in_use; INSERT INTO berths VALUES (3, 'east')");
    assert_eq!(running.end(), 1, "{}", running.log());
    assert!(running.log().contains("resnapshot --all"), "{}", running.log());
    mended(&project);
}

#[test]
fn an_older_target_file_is_refused() {
    let project = started(PostgresServer::shared(), "older_target");
    std::fs::copy(project.path("warehouse.db"), project.path("backup.db")).unwrap();
    project.session.run("INSERT INTO berths VALUES (3, 'east')");
    project.catch_up();
    project.session.run("INSERT INTO berths VALUES (4, 'west')");
    project.catch_up();
    std::fs::rename(project.path("backup.db"), project.path("warehouse.db")).unwrap();
    project.refuses(&["the target is an older copy", "resnapshot --all"]);
    mended(&project);
}

#[test]
fn leftovers_of_a_trial_are_refused_and_teardown_is_the_way_out() {
    let project = started(PostgresServer::shared(), "leftovers");
    std::fs::remove_file(project.path("warehouse.db")).unwrap();
    project.refuses(&["already there, and this target knows nothing of it", "moorage teardown"]);
    project.moorage(&["teardown"]).expect(0, &["removed"]);
    project.catch_up();
    project.assert_same("berths", "berths");
}

#[test]
fn losing_the_state_folder_loses_nothing() {
    let project = started(PostgresServer::shared(), "no_state");
    std::fs::remove_dir_all(project.path(".moorage")).unwrap();
    project.session.run("UPDATE berths SET name = 'x'");
    project.catch_up();
    project.assert_same("berths", "berths");
    project.moorage(&["status"]).expect(0, &["live"]);
}

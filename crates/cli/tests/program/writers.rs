//! One writer at a time, whatever happens to the answer of a commit, and wherever the runs are.

use crate::harness::{Folder, Mirror, Project, Quay};
use moorage_testkit::{PostgresServer, Proxy, wait_until};

const TABLES: &str = "CREATE TABLE gate_log (at int, what text); ALTER TABLE gate_log REPLICA IDENTITY FULL;
    CREATE TABLE berths (id int PRIMARY KEY, name text);
    INSERT INTO gate_log SELECT i, 'in' FROM generate_series(1, 20) i; INSERT INTO berths VALUES (1, 'north')";

/// A.1: the answer of COMMIT is lost while it waits for a standby that never comes; the new session must not apply
/// the batch again beside it.
#[test]
fn a_batch_whose_commit_went_unanswered_is_not_applied_twice() {
    let mut server = PostgresServer::start(&[]);
    let proxy = Proxy::to(server.port());
    let mirror = Mirror::between((PostgresServer::shared(), ""), (&server, ""), "unanswered", TABLES);
    mirror.replace(&server.port().to_string(), &proxy.port().to_string());
    mirror.catch_up();
    let mut running = mirror.start(&["run"]);
    running.wait_for("following changes");
    let waiting =
        "SELECT count(*) FROM pg_stat_activity WHERE wait_event = 'SyncRep' AND query LIKE 'COMMIT%'";
    server.set("synchronous_standby_names", "nosuch");
    for round in 0..3 {
        mirror.source.run("INSERT INTO gate_log VALUES (100, 'in'), (100, 'in'); DELETE FROM gate_log WHERE at % 7 = 3; UPDATE berths SET name = name || 'x'");
        wait_until("a commit waits", || mirror.target.value::<i64>(waiting) > 0);
        proxy.cut();
        let follows = |times: usize| running.log().matches("following changes").count() == times;
        wait_until("it goes on after the line was cut", || follows(round + 2));
    }
    server.set("synchronous_standby_names", "");
    running.signal("INT");
    assert_eq!(running.end(), 0, "{}", running.log());
    mirror.assert_follows(&["gate_log", "berths"]);
    server.restart();
}

/// A.1: killed while COMMIT waits, and started again at once.
#[test]
fn killed_while_its_commit_waits_the_next_run_ends_what_is_left() {
    let server = PostgresServer::start(&[]);
    let mirror = Mirror::between((PostgresServer::shared(), ""), (&server, ""), "killed_waiting", TABLES);
    mirror.catch_up();
    let mut running = mirror.start(&["run"]);
    running.wait_for("following changes");
    server.set("synchronous_standby_names", "nosuch");
    mirror
        .source
        .run("INSERT INTO gate_log VALUES (100, 'in'), (100, 'in'); DELETE FROM gate_log WHERE at < 5");
    let waiting =
        "SELECT count(*) FROM pg_stat_activity WHERE wait_event = 'SyncRep' AND query LIKE 'COMMIT%'";
    wait_until("a commit waits", || mirror.target.value::<i64>(waiting) > 0);
    running.kill();
    let mut again = mirror.start(&["run"]);
    again.wait_for("following changes");
    server.set("synchronous_standby_names", "");
    again.signal("INT");
    assert_eq!(again.end(), 0, "{}", again.log());
    mirror.assert_follows(&["gate_log"]);
}

fn refused_elsewhere(here: &Folder, change: impl Fn()) {
    let other = here.elsewhere();
    let mut running = here.start(&["run"]);
    running.wait_for("following changes");
    let holder = format!("process {} on ", running.child.id());
    other.refuses(&["is already run by", &holder, " since 20", "from another folder or machine"]);
    for command in
        [&["run", "--snapshot-only"][..], &["resnapshot", "--all"], &["teardown", "--target"], &["teardown"]]
    {
        other.moorage(command).expect(1, &["is already run by", &holder]);
    }
    other.moorage(&["status"]).expect(0, &[&holder]);
    // Without its folder it is still refused.
    std::fs::remove_dir_all(here.path(".moorage")).unwrap();
    here.refuses(&["is already run by", &holder]);
    change();
    // Gone for good: the next one takes over at once, wherever it runs.
    running.kill();
    other.catch_up();
    here.catch_up();
}

/// A.2
#[test]
fn a_second_run_with_another_folder_is_refused_by_a_file() {
    let quay = Quay::new("CREATE TABLE gate_log (at int, what text); INSERT INTO gate_log VALUES (1, 'in')");
    refused_elsewhere(&quay, || quay.change("INSERT INTO gate_log VALUES (2, 'in'), (2, 'in')"));
    quay.assert_follows(&["gate_log"]);
}

/// A.2
#[test]
fn a_second_run_with_another_folder_is_refused_by_a_server() {
    let mirror = Mirror::new("two_folders", TABLES);
    refused_elsewhere(&mirror, || mirror.source.run("INSERT INTO gate_log VALUES (100, 'in')"));
    mirror.assert_follows(&["gate_log"]);
}

/// A.2: two first runs at the same time: one sets up, the other goes on after it or is refused, and nothing is left
/// that teardown does not know.
#[test]
fn two_first_runs_at_once_leave_one_copy() {
    let mirror = Mirror::new("two_first", TABLES);
    let other = mirror.elsewhere();
    let (mut one, mut two) =
        (mirror.start(&["run", "--until", "caught-up"]), other.start(&["run", "--until", "caught-up"]));
    let codes = [one.end(), two.end()];
    assert!(codes.contains(&0), "{}{}", one.log(), two.log());
    mirror.assert_follows(&["gate_log", "berths"]);
    mirror.moorage(&["teardown", "--target"]).expect(0, &[]);
    let left: i64 = mirror.target.value("SELECT count(*) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname IN ('mirror', 'moorage_state')");
    assert_eq!(left, 0);
    let slots = format!("SELECT count(*) FROM pg_replication_slots WHERE database = '{}'", "two_first");
    assert_eq!(mirror.source.value::<i64>(&slots), 0);
}

/// A.2: a process that slept while its turn ran out, and another took it, writes nothing when it wakes up.
#[test]
fn a_process_that_slept_past_its_turn_writes_nothing() {
    let quay = Quay::new("CREATE TABLE gate_log (at int, what text); INSERT INTO gate_log VALUES (1, 'in')");
    quay.catch_up();
    let mut asleep = quay.start(&["run"]);
    asleep.wait_for("following changes");
    asleep.signal("STOP");
    // As if it had slept for long.
    quay.tamper("UPDATE moorage_writers SET renewed_at = '2026-01-01T00:00:00Z'");
    quay.change("INSERT INTO gate_log VALUES (2, 'in'), (2, 'in')");
    let other = quay.elsewhere();
    other.catch_up();
    let mut awake = other.start(&["run"]);
    awake.wait_for("following changes");
    asleep.signal("CONT");
    assert_eq!(asleep.end(), 1, "{}", asleep.log());
    assert!(asleep.log().contains("is written by another process since"), "{}", asleep.log());
    quay.change("INSERT INTO gate_log VALUES (3, 'out')");
    awake.signal("INT");
    assert_eq!(awake.end(), 0, "{}", awake.log());
    other.catch_up();
    assert_eq!(quay.value::<i64>("SELECT count(*) FROM gate_log"), 4);
}

/// A.2: the same with a server, whose administrator ended the sleeping process's sessions.
#[test]
fn a_process_whose_sessions_were_ended_while_it_slept_writes_nothing() {
    let mirror = Mirror::new("slept", TABLES);
    mirror.catch_up();
    let mut asleep = mirror.start(&["run"]);
    asleep.wait_for("following changes");
    asleep.signal("STOP");
    mirror.target.run("SELECT pg_terminate_backend(pid, 5000) FROM pg_stat_activity WHERE datname = 'slept_w' AND application_name = 'moorage'");
    mirror.source.run("SELECT pg_terminate_backend(pid, 5000) FROM pg_stat_activity WHERE datname = 'slept' AND application_name = 'moorage'");
    mirror.source.run("INSERT INTO gate_log VALUES (2, 'in'), (2, 'in')");
    let other = mirror.elsewhere();
    let mut awake = other.start(&["run"]);
    awake.wait_for("following changes");
    asleep.signal("CONT");
    mirror.source.run("DELETE FROM gate_log WHERE at = 2");
    assert_eq!(asleep.end(), 1, "{}", asleep.log());
    assert!(asleep.log().contains("is already run by process"), "{}", asleep.log());
    awake.signal("INT");
    assert_eq!(awake.end(), 0, "{}", awake.log());
    mirror.folder.moorage(&["run", "--until", "caught-up"]).expect(0, &[]);
    mirror.assert_same("gate_log");
}

/// A.1: a batch goes on only from the checkpoint it knows.
#[test]
fn a_checkpoint_changed_by_others_stops_the_run() {
    let project = Project::new("moved_checkpoint");
    project.session.run(TABLES);
    project.catch_up();
    let mut running = project.start(&["run"]);
    running.wait_for("following changes");
    let db = rusqlite::Connection::open(project.path("warehouse.db")).unwrap();
    db.busy_timeout(std::time::Duration::from_secs(20)).unwrap();
    db.execute_batch("UPDATE moorage_checkpoints SET checkpoint = json_set(checkpoint, '$.position', '0/1')")
        .unwrap();
    project.session.run("INSERT INTO berths VALUES (7, 'south')");
    assert_eq!(running.end(), 1, "{}", running.log());
    assert!(running.log().contains("the checkpoint is at 0/1"), "{}", running.log());
    assert_eq!(project.value::<i64>("SELECT count(*) FROM berths"), 1, "nothing was written");
}

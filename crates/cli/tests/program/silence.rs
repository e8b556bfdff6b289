//! B.15, B.16: peers that are connected and say nothing, and troubles of one that are not the others'.

use crate::harness::{Mirror, Project};
use moorage_testkit::{PostgresServer, Proxy, Weather, wait_until};
use std::time::Instant;

const TABLE: &str =
    "CREATE TABLE berths (id int PRIMARY KEY, name text); INSERT INTO berths VALUES (1, 'north')";

#[test]
fn a_first_connection_to_a_silent_peer_ends_soon_and_hears_a_stop() {
    let server = PostgresServer::shared();
    let proxy = Proxy::to(server.port());
    let project = Project::new("silent_first");
    project.session.run(TABLE);
    project.replace(&server.port().to_string(), &proxy.port().to_string());
    proxy.set(Weather::Silent);
    let begun = Instant::now();
    project.refuses(&["timed out", "no answer"]);
    assert!(begun.elapsed().as_secs() < 30);
    let mut running = project.start(&["run"]);
    running.signal("TERM");
    running.end();
    assert!(!running.log().contains("following"), "{}", running.log());
}

/// The stream: noticed within the server's own limit, and gone on with.
#[test]
fn a_stalled_stream_is_noticed_and_gone_on_with() {
    let server = PostgresServer::start(&["wal_sender_timeout = 9s"]);
    let proxy = Proxy::to(server.port());
    let project = Project::on(&server, "stalled");
    project.session.run(TABLE);
    project.replace(&server.port().to_string(), &proxy.port().to_string());
    project.catch_up();
    let mut running = project.start(&["run"]);
    running.wait_for("following changes");
    proxy.set(Weather::Silent);
    project.session.run("INSERT INTO berths VALUES (2, 'south')");
    running.wait_for("trying again");
    assert!(running.log().contains("nothing came for"), "{}", running.log());
    proxy.set(Weather::Fair);
    wait_until("the row arrives", || project.value::<i64>("SELECT count(*) FROM berths") == 2);
    running.signal("TERM");
    assert_eq!(running.end(), 0, "{}", running.log());
}

/// A target that takes a batch and never says so: `status` tells, a stop is heard, and the next run goes on.
#[test]
fn a_target_that_falls_silent_is_told_of_and_a_stop_is_heard() {
    let server = PostgresServer::start(&[]);
    let proxy = Proxy::to(server.port());
    let mirror = Mirror::between((PostgresServer::shared(), ""), (&server, ""), "silent_target", TABLE);
    mirror.catch_up();
    let direct = std::fs::read_to_string(mirror.path("moorage.toml")).unwrap();
    mirror.replace(&server.port().to_string(), &proxy.port().to_string());
    let mut running = mirror.start(&["run"]);
    running.wait_for("following changes");
    proxy.set(Weather::Silent);
    mirror.source.run("INSERT INTO berths VALUES (2, 'south')");
    running.wait_for("the target to take a batch");
    std::fs::write(mirror.path("moorage.toml"), direct).unwrap();
    mirror.moorage(&["status"]).expect(0, &["the target to take a batch, since"]);
    running.signal("TERM");
    let begun = Instant::now();
    running.end();
    assert!(begun.elapsed().as_secs() < 60, "{}", running.log());
    proxy.set(Weather::Fair);
    mirror.assert_follows(&["berths"]);
}

/// B.16
#[test]
fn one_unreachable_source_does_not_end_the_other_pipelines() {
    let project = Project::new("two_of_us");
    project.session.run(TABLE);
    project.add("[sources.nowhere]\nkind = \"postgres\"\nurl = \"postgres://postgres@127.0.0.1:1/x\"\n[pipelines.away]\nsource = \"nowhere\"\ntarget = \"warehouse\"\ninto = \"away_{table}\"");
    let ran = project
        .moorage(&["run", "--until", "caught-up"])
        .expect(1, &["error: away: cannot connect", "two_of_us: caught up"]);
    assert_eq!(ran.err.matches("pipeline away failed").count(), 1);
    project.assert_same("berths", "berths");
    let mut running = project.start(&["run"]);
    running.wait_for("error: away: cannot connect");
    project.session.run("INSERT INTO berths VALUES (2, 'south')");
    wait_until("the other goes on", || project.value::<i64>("SELECT count(*) FROM berths") == 2);
    running.signal("INT");
    assert_eq!(running.end(), 1);
}

/// A set-up that loses its connection while the server is still making what it asked for: the slot that appears
/// afterwards is known as this pipeline's own.
#[test]
fn a_set_up_that_was_cut_off_is_taken_up_again() {
    let server = PostgresServer::start(&[]);
    let proxy = Proxy::to(server.port());
    let project = Project::on(&server, "cut_off");
    project.session.run(TABLE);
    project.replace(&server.port().to_string(), &proxy.port().to_string());
    // A slot is not complete while a transaction that began before it goes on.
    let open = server.session("cut_off");
    open.run("BEGIN; INSERT INTO berths VALUES (3, 'late')");
    let mut running = project.start(&["run"]);
    let slots = "SELECT count(*) FROM pg_replication_slots";
    wait_until("the slot is being made", || project.session.value::<i64>(slots) == 1);
    proxy.set(Weather::Closed);
    proxy.cut();
    running.wait_for("trying again");
    open.run("COMMIT");
    wait_until("nobody waits any more", || {
        project.session.value::<i64>("SELECT count(*) FROM pg_stat_activity WHERE wait_event_type = 'Lock'")
            == 0
    });
    proxy.set(Weather::Fair);
    running.wait_for("following changes");
    wait_until("the row arrives", || project.value::<i64>("SELECT count(*) FROM berths WHERE id = 3") == 1);
    running.signal("TERM");
    assert_eq!(running.end(), 0, "{}", running.log());
    assert_eq!(project.session.value::<i64>(slots), 1);
}

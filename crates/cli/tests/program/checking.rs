//! Every finding of `check`: the fault is made on a real server, found, mended as printed, and gone.

use crate::harness::{Folder, Project, Quay};
use moorage_testkit::{PostgresServer, pool_before};
use rstest::rstest;
use serde_json::Value;

const BERTHS: &str =
    "CREATE TABLE berths (id int PRIMARY KEY, name text); INSERT INTO berths VALUES (1, 'north')";

/// The finding of this name, if it is not `ok`.
#[track_caller]
fn finding(folder: &Folder, check: &str) -> Option<Value> {
    let ran = folder.moorage(&["check", "--format", "json"]);
    let all: Value = serde_json::from_str(&ran.out).unwrap_or_else(|e| panic!("{e}: {}", ran.all()));
    let findings = all[0]["findings"].as_array().unwrap();
    let blocked = findings.iter().any(|f| f["severity"] == "blocker");
    assert_eq!(ran.code, if blocked { 3 } else { 0 }, "{}", ran.out);
    findings.iter().find(|f| f["check"] == check && f["severity"] != "ok").cloned()
}

/// Ends the test unless there is such a finding of this severity that says all it has to.
#[track_caller]
fn found(folder: &Folder, check: &str, severity: &str) -> Value {
    let found = finding(folder, check).unwrap_or_else(|| panic!("{}", folder.moorage(&["check"]).out));
    assert_eq!(found["severity"], severity, "{found}");
    assert!(found["why"].as_str().unwrap().len() > 10, "{found}");
    let fix = &found["fix"];
    assert!(!fix["statements"].as_array().unwrap().is_empty() || !fix["step"].as_str().unwrap().is_empty());
    found
}

fn statements(found: &Value) -> Vec<String> {
    let all = found["fix"]["statements"].as_array().unwrap();
    all.iter().map(|s| s.as_str().unwrap().to_string()).collect()
}

/// Runs what is printed, as an administrator would.
#[track_caller]
fn run_fix(project: &Project, found: &Value) {
    let all = statements(found);
    assert!(!all.is_empty(), "{found}");
    all.iter().for_each(|s| project.session.run(s));
}

#[track_caller]
fn gone(folder: &Folder, check: &str) {
    assert!(finding(folder, check).is_none(), "{}", folder.moorage(&["check"]).out);
}

/// A project that logs in as a role of its own, with just the rights it needs to begin with.
fn as_role(name: &str, more: &str) -> Project {
    let project = Project::new(name);
    project.session.run(BERTHS);
    project.session.run(&format!(
        "CREATE ROLE {name}_role LOGIN REPLICATION; GRANT SELECT ON berths TO {name}_role; GRANT CREATE ON DATABASE {name} TO {name}_role; ALTER TABLE berths OWNER TO {name}_role"
    ));
    let url = PostgresServer::shared().url(name).replace("postgres@", &format!("{name}_role@"));
    project.write(&url, name, more);
    project
}

#[rstest]
#[case::replication("c_replication", "replication", "blocker", "ALTER ROLE c_replication_role NOREPLICATION")]
#[case::unreadable("c_unreadable", "table", "blocker", "CREATE TABLE hidden (id int PRIMARY KEY)")]
#[case::unlogged(
    "c_unlogged",
    "table",
    "blocker",
    "CREATE UNLOGGED TABLE quick (id int PRIMARY KEY); GRANT SELECT ON quick TO PUBLIC; ALTER TABLE quick OWNER TO c_unlogged_role"
)]
#[case::no_identity(
    "c_identity",
    "table",
    "blocker",
    "CREATE TABLE gate_log (what text); ALTER TABLE gate_log OWNER TO c_identity_role"
)]
#[case::deferrable(
    "c_deferrable",
    "table",
    "blocker",
    "CREATE TABLE late (id int PRIMARY KEY DEFERRABLE); ALTER TABLE late OWNER TO c_deferrable_role"
)]
#[case::row_security(
    "c_row_security",
    "table",
    "blocker",
    "CREATE TABLE rows (id int PRIMARY KEY); ALTER TABLE rows ENABLE ROW LEVEL SECURITY; GRANT SELECT ON rows TO PUBLIC"
)]
#[case::no_publication(
    "c_publication",
    "publication",
    "blocker",
    "ALTER TABLE berths OWNER TO postgres; GRANT SELECT ON berths TO c_publication_role"
)]
#[case::some_operations(
    "c_operations",
    "publication",
    "blocker",
    "CREATE PUBLICATION moorage_c_operations__c_operations FOR TABLE berths WITH (publish = 'insert')"
)]
#[case::via_root(
    "c_root",
    "publication",
    "blocker",
    "CREATE PUBLICATION moorage_c_root__c_root FOR TABLE berths WITH (publish_via_partition_root = true)"
)]
#[case::lacks_a_table(
    "c_lacks",
    "publication",
    "blocker",
    "CREATE TABLE stays (id int PRIMARY KEY); GRANT SELECT ON stays TO c_lacks_role; CREATE PUBLICATION moorage_c_lacks__c_lacks FOR TABLE berths"
)]
#[case::filters(
    "c_filters",
    "publication_filters",
    "blocker",
    "CREATE PUBLICATION moorage_c_filters__c_filters FOR TABLE berths (id, name) WHERE (id > 7)"
)]
#[case::readable_beyond(
    "c_readable",
    "readable_beyond",
    "warning",
    "DO $$ BEGIN FOR i IN 1..12 LOOP EXECUTE format('CREATE TABLE x%s (id int PRIMARY KEY); GRANT SELECT ON x%s TO c_readable_role', i, i); END LOOP; END $$"
)]
#[case::streams_beyond(
    "c_streams",
    "streams_beyond",
    "warning",
    "CREATE TABLE secrets (id int PRIMARY KEY); CREATE PUBLICATION others FOR TABLE secrets, berths"
)]
#[case::free_space(
    "c_space",
    "free_space",
    "warning",
    "UPDATE pg_class SET relpages = 2000000000, reltuples = 1 WHERE relname = 'berths'"
)]
fn a_fault_of_the_database_is_found_and_mended(
    #[case] name: &str,
    #[case] check: &str,
    #[case] severity: &str,
    #[case] fault: &str,
) {
    let only = ["c_readable", "c_streams"].contains(&name);
    let project = as_role(name, if only { "include = [\"berths\"]" } else { "" });
    project.moorage(&["check"]).expect(0, &["ready"]);
    project.session.run(fault);
    let found = found(&project, check, severity);
    match check {
        // Room is made by the table becoming what it says it is.
        "free_space" => project.session.run("ANALYZE berths"),
        _ => run_fix(&project, &found),
    }
    gone(&project, check);
}

#[test]
fn what_patterns_and_the_file_itself_say_wrong_is_found_and_mended() {
    let project = as_role("c_file", "include = [\"public.berth\"]");
    let wrong = found(&project, "pattern", "blocker");
    assert!(wrong["found"].as_str().unwrap().contains("did you mean public.berths?"), "{wrong}");
    found(&project, "tables", "blocker");
    project.replace("\"public.berth\"", "\"public.*\"");
    gone(&project, "pattern");
    gone(&project, "tables");
    // A publication that the file names: not there, then with more than is picked.
    project.replace("include = [", "publication = \"ours\"\ninclude = [");
    run_fix(&project, &found(&project, "publication", "blocker"));
    gone(&project, "publication");
    project.session.run("CREATE TABLE more (id int PRIMARY KEY); GRANT SELECT ON more TO c_file_role; ALTER PUBLICATION ours ADD TABLE more");
    project.replace("include = [", "exclude = ['more']\ninclude = [");
    run_fix(&project, &found(&project, "publication_beyond", "warning"));
    gone(&project, "publication_beyond");
    project.replace("publication = \"ours\"\n", "");
    project.session.run("DROP TABLE more");
    project.replace("exclude = ['more']\n", "");
    // A database without an encoding.
    project
        .session
        .run("CREATE DATABASE c_ascii TEMPLATE template0 ENCODING SQL_ASCII LC_COLLATE 'C' LC_CTYPE 'C'");
    project.replace("/c_file\"", "/c_ascii\"");
    found(&project, "encoding", "warning");
    project.replace("/c_ascii\"", "/c_file\"");
    gone(&project, "encoding");
    // A view, a foreign table, a partitioned and a temporary one: only what is meant by a pattern is told.
    project.session.run("CREATE EXTENSION postgres_fdw; CREATE SERVER elsewhere FOREIGN DATA WRAPPER postgres_fdw; CREATE FOREIGN TABLE away (id int) SERVER elsewhere");
    let away = found(&project, "not_carried", "warning");
    assert_eq!(
        (&away["table"], away["found"].as_str().unwrap().contains("foreign")),
        (&"public.away".into(), true)
    );
    project.replace("include = [", "exclude = ['public.away']\ninclude = [");
    gone(&project, "not_carried");
    project.session.run("CREATE TABLE parted (id int PRIMARY KEY, place point) PARTITION BY RANGE (id); CREATE TABLE part1 PARTITION OF parted FOR VALUES FROM (0) TO (9); ALTER TABLE part1 OWNER TO c_file_role; CREATE TEMP TABLE scratch (id int)");
    let ran = project.moorage(&["check"]).expect(0, &["travel as text: public.part1.place (point)"]);
    assert!(!ran.out.contains("scratch"), "{}", ran.out);
    project.replace("'public.away'", "'public.away', 'scratch'");
    project.moorage(&["tables"]).expect(
        0,
        &[
            "scratch",
            "excluded by scratch",
            "public.parted",
            "its partitions stand together in one target table",
        ],
    );
    // Rows told apart by all columns.
    project.session.run("CREATE TABLE gate_log (what text); ALTER TABLE gate_log OWNER TO c_file_role; ALTER TABLE gate_log REPLICA IDENTITY FULL");
    found(&project, "no_key", "warning");
    project.add("[[pipelines.c_file.rule]]\nmatch = 'public.gate_log'\nkey = [\"what\"]");
    gone(&project, "no_key");
    // A password in the file.
    project.replace("c_file_role@", "c_file_role:secret@");
    let secret = found(&project, "secrets", "warning");
    assert!(
        !project.moorage(&["check"]).all().contains(":secret@")
            && secret["fix"]["step"].as_str().unwrap().contains("password = { env = ")
    );
    project.replace("c_file_role:secret@", "c_file_role@");
    gone(&project, "secrets");
    // Statements changed by hand that cannot be read.
    project.replace("exclude = ", "ddl_dir = \"ddl\"\nexclude = ");
    std::fs::create_dir_all(project.path("ddl/berths.sql")).unwrap();
    found(&project, "ddl_dir", "blocker");
    std::fs::remove_dir(project.path("ddl/berths.sql")).unwrap();
    gone(&project, "ddl_dir");
    // A target table that is in the way, and one that cannot be.
    let db = rusqlite::Connection::open(project.path("warehouse.db")).unwrap();
    db.execute_batch("CREATE TABLE berths (x TEXT)").unwrap();
    found(&project, "clash", "blocker");
    db.execute_batch("DROP TABLE berths").unwrap();
    gone(&project, "clash");
    project.replace("path = \"warehouse.db\"", "path = \"nowhere/warehouse.db\"");
    found(&project, "writing", "blocker");
    std::fs::create_dir(project.path("nowhere")).unwrap();
    gone(&project, "writing");
    // A clock that is off.
    let mut command = project.command(&["check", "--format", "json"]);
    let fake = libfaketime();
    let out = command
        .envs([("LD_PRELOAD", fake.as_str()), ("FAKETIME", "+1h"), ("FAKETIME_DONT_FAKE_MONOTONIC", "1")])
        .output()
        .unwrap();
    let all: Value = serde_json::from_slice(&out.stdout).unwrap();
    let clock = all[0]["findings"].as_array().unwrap().iter().find(|f| f["check"] == "clock").unwrap();
    assert_eq!(clock["severity"], "warning", "{clock}");
    gone(&project, "clock");
}

/// The library that gives a program another clock, wherever this machine's kind of Debian keeps it.
pub fn libfaketime() -> String {
    let folders = std::fs::read_dir("/usr/lib").unwrap().map(|f| f.unwrap().path());
    let file = folders.map(|f| f.join("faketime/libfaketime.so.1")).find(|f| f.exists());
    file.expect("libfaketime is not installed: scripts/test installs it").to_str().unwrap().into()
}

#[test]
fn a_setting_that_is_in_the_way_is_found_and_mended() {
    let mut server = PostgresServer::start(&[
        "wal_level = replica",
        "max_replication_slots = 1",
        "max_wal_senders = 1",
        "wal_sender_timeout = 5s",
        "old_snapshot_threshold = 10min",
    ]);
    let project = Project::on(&server, "settings");
    project.session.run(BERTHS);
    let restart = |found: &Value| {
        assert!(found["fix"]["step"].as_str().unwrap().contains("restart the server"), "{found}")
    };
    let level = found(&project, "wal_level", "blocker");
    restart(&level);
    run_fix(&project, &level);
    let snapshots = found(&project, "old_snapshot_threshold", "warning");
    restart(&snapshots);
    run_fix(&project, &snapshots);
    // What is set and not in force is told as such, also before the settings are loaded again.
    let level = found(&project, "wal_level", "blocker");
    assert!(statements(&level).is_empty() && level["found"].as_str().unwrap().contains("not yet in force"));
    restart(&found(&project, "pending_restart", "warning"));
    drop(project.session);
    server.restart();
    let project = Project { session: server.session("settings"), ..project };
    ["wal_level", "old_snapshot_threshold", "pending_restart"].into_iter().for_each(|c| gone(&project, c));
    for check in ["max_slot_wal_keep_size", "wal_sender_timeout"] {
        run_fix(&project, &found(&project, check, "warning"));
        gone(&project, check);
    }
    project.session.run("ALTER SYSTEM SET max_slot_wal_keep_size = '16MB'");
    project.session.run("ALTER SYSTEM SET wal_sender_timeout = 0");
    project.session.run("SELECT pg_reload_conf()");
    for check in ["max_slot_wal_keep_size", "wal_sender_timeout"] {
        run_fix(&project, &found(&project, check, "warning"));
        gone(&project, check);
    }
    // The only slot and the only sender are taken.
    project.session.run("SELECT pg_create_logical_replication_slot('others', 'pgoutput')");
    let receive = server
        .tool(
            "pg_recvlogical",
            &[
                "--slot",
                "others",
                "--start",
                "-f",
                "-",
                "-o",
                "proto_version=1",
                "-o",
                "publication_names=none",
                "-d",
            ],
            "settings",
        )
        .stdout(std::process::Stdio::null())
        .stderr(std::process::Stdio::null())
        .spawn();
    let mut receive = receive.unwrap();
    moorage_testkit::wait_until("someone streams", || {
        project.session.value::<i64>("SELECT count(*) FROM pg_stat_replication") == 1
    });
    for check in ["slots", "senders"] {
        let full = found(&project, check, "blocker");
        restart(&full);
        run_fix(&project, &full);
    }
    receive.kill().unwrap();
    receive.wait().unwrap();
    drop(project.session);
    server.restart();
    let project = Project { session: server.session("settings"), ..project };
    ["slots", "senders"].into_iter().for_each(|c| gone(&project, c));
    // A provider keeps the settings: other words, and another grant.
    project
        .session
        .run("SELECT pg_drop_replication_slot('others'); CREATE ROLE rds_superuser; CREATE ROLE watch LOGIN");
    project.session.run("ALTER SYSTEM SET wal_level = 'replica'");
    drop(project.session);
    server.restart();
    let project = Project { session: server.session("settings"), ..project };
    project.replace("postgres@", "watch@");
    project
        .moorage(&["check"])
        .expect(3, &["rds.logical_replication = 1", "GRANT rds_replication TO \"watch\"", "managed server"]);
    project.session.run("DROP ROLE rds_superuser");
    project.moorage(&["check"]).expect(3, &["ALTER ROLE \"watch\" REPLICATION"]);
}

#[test]
fn who_is_in_the_way_now_is_found_and_mended() {
    let mut server = PostgresServer::start(&[
        "max_replication_slots = 1",
        "max_slot_wal_keep_size = 32MB",
        "wal_keep_size = 0",
        "min_wal_size = 32MB",
        "max_wal_size = 1GB",
    ]);
    let project = Project::on(&server, "in_the_way");
    project.session.run(BERTHS);
    // An open transaction, and one that is prepared: the server waits for both before it makes a slot.
    let writer = server.session("in_the_way");
    writer.run("BEGIN; INSERT INTO berths VALUES (2, 'south')");
    let waits = found(&project, "making_a_slot", "warning");
    assert!(waits["found"].as_str().unwrap().contains("transaction of pid"), "{waits}");
    run_fix(&project, &waits);
    gone(&project, "making_a_slot");
    project.session.run("BEGIN; INSERT INTO berths VALUES (3, 'east'); PREPARE TRANSACTION 'kept'");
    run_fix(&project, &found(&project, "making_a_slot", "warning"));
    gone(&project, "making_a_slot");
    // A table that is locked.
    let holder = server.session("in_the_way");
    holder.run("BEGIN; LOCK TABLE berths IN ACCESS EXCLUSIVE MODE");
    run_fix(&project, &found(&project, "locked", "warning"));
    gone(&project, "locked");
    // A table and a folder of the server that are broken.
    let broken = |check: &str, path: std::path::PathBuf| {
        let away = path.with_extension("away");
        std::fs::rename(&path, &away).unwrap();
        found(&project, check, "blocker");
        std::fs::rename(&away, &path).unwrap();
        gone(&project, check);
    };
    let file: String = project.session.value("SELECT pg_relation_filepath('berths')");
    broken("reading", server.data().join(file));
    broken("making_a_slot", server.data().join("pg_replslot"));
    // No slot is left for the temporary copies of our own, which is about to be lost.
    project.catch_up();
    run_fix(&project, &found(&project, "slots", "warning"));
    project.session.run("CREATE TABLE filler (x text)");
    for _ in 0..5 {
        project.session.run("INSERT INTO filler SELECT repeat('x', 1000) FROM generate_series(1, 10000)");
    }
    project.session.run("DROP TABLE filler");
    let slot = found(&project, "slot", "warning");
    assert!(slot["fix"]["step"].as_str().unwrap().contains("moorage run now"), "{slot}");
    // The server lets go of its log when it next notes which transactions are open.
    moorage_testkit::wait_until("the slot has moved on", || {
        project.session.run("UPDATE berths SET name = 'moved' WHERE id = 1");
        project.catch_up();
        finding(&project, "slot").is_none()
    });
    // A pool of connections leaves out what the session asks for.
    project.session.run("ALTER ROLE postgres SET statement_timeout = '1h'");
    let port = pool_before(server.port());
    let (own, pool) = (format!(":{}/", server.port()), format!(":{port}/"));
    gone(&project, "time_outs");
    project.replace(&own, &pool);
    run_fix(&project, &found(&project, "time_outs", "blocker"));
    gone(&project, "time_outs");
    project.replace(&pool, &own);
    // A standby.
    drop((project.session, writer, holder));
    server.private_file("standby.signal", "");
    server.restart();
    let project = Project { session: server.session("in_the_way"), ..project };
    run_fix(&project, &found(&project, "standby", "blocker"));
    gone(&project, "standby");
    gone(&project, "slots");
}

#[test]
fn the_rights_that_triggers_need_are_found_and_mended() {
    let project = as_role("c_triggers", "");
    project.replace("[targets", "capture = \"trigger\"\n\n[targets");
    project.session.run("ALTER ROLE c_triggers_role NOREPLICATION; ALTER TABLE berths OWNER TO postgres; REVOKE CREATE ON DATABASE c_triggers FROM c_triggers_role; GRANT SELECT ON berths TO c_triggers_role");
    for check in ["change_tables", "triggers"] {
        run_fix(&project, &found(&project, check, "blocker"));
        gone(&project, check);
    }
    project.catch_up();
    project.moorage(&["check"]).expect(0, &["ready"]);
}

#[test]
fn a_sqlite_file_that_is_not_ready_is_found_and_mended() {
    let quay = Quay::new("CREATE TABLE berths (id INTEGER PRIMARY KEY, name TEXT)");
    quay.moorage(&["check"]).expect(0, &["ready: "]);
    quay.change("PRAGMA journal_mode = DELETE");
    let mode = found(&quay, "journal_mode", "warning");
    statements(&mode).iter().for_each(|s| quay.change(s));
    gone(&quay, "journal_mode");
    quay.change("CREATE TABLE gate_log (what TEXT)");
    found(&quay, "no_key", "warning");
    quay.replace("into", "exclude = [\"gate_log\"]\ninto");
    gone(&quay, "no_key");
    // Triggers that the target knows nothing of.
    quay.catch_up();
    quay.moorage(&["check"]).expect(0, &["the source is the one the target was filled from"]);
    std::fs::remove_file(quay.path("warehouse.db")).unwrap();
    let history = found(&quay, "history", "blocker");
    assert!(history["found"].as_str().unwrap().contains("`moorage teardown`"), "{history}");
    quay.moorage(&["teardown"]).expect(0, &[]);
    gone(&quay, "history");
    // A file of a later format may be read, not written (https://www.sqlite.org/fileformat.html, section 1.3.3).
    quay.change("PRAGMA journal_mode = DELETE");
    let path = quay.path("harbour.db");
    let mut bytes = std::fs::read(&path).unwrap();
    bytes[18] = 3;
    std::fs::write(&path, &bytes).unwrap();
    found(&quay, "writing", "blocker");
    bytes[18] = 1;
    std::fs::write(&path, &bytes).unwrap();
    gone(&quay, "writing");
    std::fs::rename(&path, quay.path("elsewhere.db")).unwrap();
    found(&quay, "connection", "blocker");
    std::fs::rename(quay.path("elsewhere.db"), &path).unwrap();
    gone(&quay, "connection");
}

/// The script, run by a superuser, is all a pipeline needs; the other one takes it back.
#[rstest]
#[case::by_log("least_log", "")]
#[case::by_trigger("least_trigger", "capture = \"trigger\"\n")]
fn a_role_made_by_the_script_carries_a_pipeline_with_nothing_more_granted(
    #[case] name: &str,
    #[case] capture: &str,
) {
    let server = PostgresServer::start(&[]);
    let project = Project::on(&server, name);
    project.session.run(&format!("REVOKE ALL ON DATABASE {name} FROM PUBLIC; REVOKE ALL ON SCHEMA public FROM PUBLIC; CREATE SCHEMA \"Quay 2\""));
    project.session.run(BERTHS);
    project.session.run("CREATE TABLE gate_log (what text); INSERT INTO gate_log VALUES ('in'), ('in'); CREATE TABLE \"Quay 2\".\"o'dd\" (id int PRIMARY KEY, v text); CREATE TABLE private (id int PRIMARY KEY)");
    project.replace("into", "include = [\"*.*\"]\nexclude = [\"private\"]\ninto");
    project.replace("[targets", &format!("{capture}[targets"));
    found(&project, "superuser", "warning");
    let script = project
        .moorage(&["check", "--sql", "source", "--role", "Harbour Master"])
        .expect(0, &["CREATE ROLE"])
        .out;
    // It is the same when the role itself asks for it, which may read nothing yet.
    project.session.run(&format!(
        "CREATE ROLE \"Harbour Master\" LOGIN; GRANT CONNECT ON DATABASE {name} TO \"Harbour Master\""
    ));
    project.replace("postgres@", "Harbour%20Master@");
    assert_eq!(project.moorage(&["check", "--sql", "source"]).expect(0, &[]).out, script);
    let psql = |script: &str| {
        std::fs::write(project.path("script.sql"), script).unwrap();
        let file = project.path("script.sql");
        let out = server
            .tool("psql", &["-v", "ON_ERROR_STOP=1", "-q", "-f", file.to_str().unwrap()], name)
            .output()
            .unwrap();
        assert!(out.status.success(), "{}\n{script}", String::from_utf8_lossy(&out.stderr));
    };
    psql(&script);
    psql(&script);
    if capture.is_empty() {
        let named: Vec<&str> =
            script.lines().filter_map(|l| l.strip_prefix("--   ")).filter(|l| l.contains(" = ")).collect();
        assert_eq!(named.len(), 2, "{script}");
        project.replace("into", &format!("{}\ninto", named.join("\n")));
    }
    project.moorage(&["check"]).expect(0, &["ready"]);
    gone(&project, "superuser");
    project.catch_up();
    project.session.run("INSERT INTO berths VALUES (2, 'south'); DELETE FROM gate_log WHERE ctid = '(0,1)'; INSERT INTO \"Quay 2\".\"o'dd\" VALUES (7, 'x')");
    project.catch_up();
    project.moorage(&["verify"]).expect(0, &["both sides agree"]);
    project.session.run("CREATE TABLE later (id int PRIMARY KEY)");
    // C.24: nothing that no pattern picks, now or later.
    assert!(
        !project.session.value::<bool>("SELECT has_table_privilege('Harbour Master', 'later', 'SELECT')")
    );
    assert!(script.contains("A table that is made later and is to be carried needs its own: GRANT SELECT"));
    assert!(!project.session.value::<bool>("SELECT rolsuper FROM pg_roles WHERE rolname = 'Harbour Master'"));
    project.session.run("DROP TABLE later");
    let undo = project.moorage(&["check", "--sql", "source", "--undo"]).expect(0, &["DROP ROLE"]).out;
    psql(&undo);
    assert_eq!(
        project.session.value::<i64>("SELECT count(*) FROM pg_roles WHERE rolname = 'Harbour Master'"),
        0
    );
    assert_eq!(project.session.value::<i64>("SELECT (SELECT count(*) FROM pg_replication_slots) + (SELECT count(*) FROM pg_publication) + (SELECT count(*) FROM pg_namespace WHERE nspname ~ '^moorage')"), 0);
}

/// B.17: checkpoint and slot are looked at one after the other, while a run moves both.
#[test]
fn a_look_beside_a_busy_run_finds_nothing_wrong() {
    let project = Project::new("busy_check");
    project.session.run(BERTHS);
    project.catch_up();
    let mut running = project.start(&["run"]);
    running.wait_for("following changes");
    let load = project.load("UPDATE berths SET name = 'north' WHERE id = 1");
    let all: Vec<_> = (0..15).map(|_| project.moorage(&["check"])).collect();
    drop(load);
    let wrong: Vec<_> = all.iter().filter(|ran| ran.code != 0).map(|ran| &ran.out).collect();
    assert!(wrong.is_empty(), "{} of {}: {}", wrong.len(), all.len(), wrong[0]);
    running.signal("TERM");
    assert_eq!(running.end(), 0);
}

/// Only owners' triggers fire for every session: who is none is told, before and after the triggers are made.
#[test]
fn triggers_that_some_sessions_bypass_are_named() {
    let project = as_role("bypassing", "");
    project.replace("kind = \"postgres\"", "kind = \"postgres\"\ncapture = \"trigger\"");
    gone(&project, "bypassed");
    project
        .session
        .run("ALTER TABLE berths OWNER TO postgres; GRANT SELECT, TRIGGER ON berths TO bypassing_role");
    let before = found(&project, "bypassed", "warning");
    assert_eq!(statements(&before), ["GRANT postgres TO \"bypassing_role\""]);
    project.catch_up();
    let after = found(&project, "bypassed", "warning");
    assert_eq!(statements(&after).len(), 3, "{after}");
    project.session.run("SET session_replication_role = replica; INSERT INTO berths VALUES (2, 'missed'); RESET session_replication_role");
    run_fix(&project, &after);
    gone(&project, "bypassed");
    project.catch_up();
    project.assert_same("berths", "berths");
}

//! Setting up in a source: what is refused, what is left to an administrator, what may be repeated.

use crate::harness::{Folder, Project};
use moorage_testkit::{PostgresServer, wait_until};

const BERTHS: &str =
    "CREATE TABLE berths (id int PRIMARY KEY, name text); INSERT INTO berths VALUES (1, 'north')";

fn assert_nothing_made(project: &Project) {
    assert!(!project.path("warehouse.db").exists(), "no target file");
    assert_eq!(project.session.value::<i64>("SELECT count(*) FROM pg_publication"), 0, "no publication");
    assert_eq!(
        project
            .session
            .value::<i64>("SELECT count(*) FROM pg_replication_slots WHERE database = current_database()"),
        0,
        "no slot"
    );
}

#[test]
fn a_log_level_that_is_too_low_or_not_yet_in_force_is_named() {
    let mut server = PostgresServer::start(&["wal_level = replica"]);
    let project = Project::on(&server, "log_level");
    project.session.run(BERTHS);
    project.refuses(&["wal_level is replica", "ALTER SYSTEM SET wal_level = logical", "--snapshot-only"]);
    assert_nothing_made(&project);
    project
        .moorage(&["check"])
        .expect(3, &["replica", "ALTER SYSTEM SET wal_level = 'logical'", "restart the server"]);
    project.session.run("ALTER SYSTEM SET wal_level = logical");
    project.session.run("SELECT pg_reload_conf()");
    moorage_testkit::wait_until("the setting waits for a restart", || {
        project.session.value("SELECT pending_restart FROM pg_settings WHERE name = 'wal_level'")
    });
    project.refuses(&["not yet in force: restart the server"]);
    project.moorage(&["check"]).expect(3, &["not yet in force", "restart the server"]);
    project.moorage(&["run", "--snapshot-only"]).expect(0, &["copied"]);
    server.restart();
    project.catch_up();
}

#[test]
fn missing_rights_become_statements_for_the_administrator_and_leave_nothing_behind() {
    let server = PostgresServer::shared();
    let project = Project::new("rights");
    project.session.run(BERTHS);
    project.session.run("CREATE ROLE mooring LOGIN");
    project.write(&server.url("rights").replace("postgres@", "mooring@"), "rights", "");
    project.refuses(&[
        "public.berths is left out: the user may not read it",
        "GRANT SELECT",
        "every picked table was refused",
    ]);
    project.session.run("GRANT SELECT ON berths TO mooring");
    project.refuses(&[
        "the user may not publish these tables",
        "CREATE PUBLICATION \"moorage_rights__rights\" FOR TABLE ONLY \"public\".\"berths\"",
    ]);
    assert_nothing_made(&project);
    project.moorage(&["check"]).expect(
        3,
        &[
            "may not replicate",
            "ALTER ROLE \"mooring\" REPLICATION",
            "CREATE PUBLICATION \"moorage_rights__rights\"",
        ],
    );
    project.session.run("GRANT CREATE ON DATABASE rights TO mooring; ALTER TABLE berths OWNER TO mooring");
    project.refuses(&["user mooring may not make a slot", "ALTER ROLE \"mooring\" REPLICATION"]);
    assert_nothing_made(&project);
    project.session.run("ALTER ROLE mooring REPLICATION");
    project.catch_up();
    // A right that is taken away later stops the run; nothing is lost until it is given back.
    project.session.run("ALTER TABLE berths OWNER TO postgres; REVOKE SELECT ON berths FROM mooring; UPDATE berths SET name = 'x'");
    project.refuses(&["public.berths cannot be carried any more: the user may not read it"]);
    project.session.run("GRANT SELECT ON berths TO mooring");
    project.catch_up();
    project.assert_same("berths", "berths");
}

#[test]
fn a_publication_made_by_an_administrator_is_used_and_must_hold_all_tables_as_they_are() {
    let server = PostgresServer::shared();
    let project = Project::new("by_admin");
    project.session.run(BERTHS);
    project.session.run("CREATE TABLE vessels (id int PRIMARY KEY, name text)");
    project.session.run(
        "CREATE ROLE follower LOGIN REPLICATION; GRANT SELECT ON ALL TABLES IN SCHEMA public TO follower",
    );
    project.write(
        &server.url("by_admin").replace("postgres@", "follower@"),
        "by_admin",
        "publication = \"harbour_tables\"",
    );
    project.refuses(&[
        "publication harbour_tables, which the project file names, is not there",
        "CREATE PUBLICATION",
    ]);
    project.session.run("CREATE PUBLICATION harbour_tables FOR TABLE berths");
    project.refuses(&[
        "does not hold all picked tables",
        "ALTER PUBLICATION \"harbour_tables\" ADD TABLE ONLY \"public\".\"vessels\"",
    ]);
    for (change, words) in [
        ("FOR TABLE berths WHERE (id > 1), vessels", "row filters or column lists"),
        ("FOR TABLE berths (id), vessels", "row filters or column lists"),
        (
            "FOR TABLE berths, vessels WITH (publish = 'insert')",
            "does not publish inserts, updates, deletes and truncates",
        ),
        ("FOR TABLE berths, vessels WITH (publish_via_partition_root = true)", "through their root"),
    ] {
        project
            .session
            .run(&format!("DROP PUBLICATION harbour_tables; CREATE PUBLICATION harbour_tables {change}"));
        project.refuses(&[words]);
    }
    project
        .session
        .run("DROP PUBLICATION harbour_tables; CREATE PUBLICATION harbour_tables FOR TABLE berths, vessels");
    project.catch_up().expect(0, &["publication harbour_tables: already so"]);
    project.session.run("INSERT INTO vessels VALUES (1, 'Curlew')");
    project.catch_up();
    project.assert_same("vessels", "vessels");
}

#[test]
fn row_level_security_that_hides_rows_is_refused() {
    let server = PostgresServer::shared();
    let project = Project::new("row_security");
    project.session.run(BERTHS);
    project.session.run("CREATE ROLE limited LOGIN REPLICATION; GRANT SELECT ON berths TO limited; ALTER TABLE berths ENABLE ROW LEVEL SECURITY; CREATE POLICY p ON berths USING (id > 100); CREATE PUBLICATION all_of_it FOR ALL TABLES");
    project.write(
        &server.url("row_security").replace("postgres@", "limited@"),
        "row_security",
        "publication = \"all_of_it\"",
    );
    project.refuses(&["row-level security hides rows", "BYPASSRLS"]);
    project.session.run("ALTER ROLE limited BYPASSRLS");
    project.catch_up();
    project.assert_same("berths", "berths");
}

#[test]
fn a_standby_is_refused_by_name() {
    let server = PostgresServer::start(&[]);
    let project = Project::on(&server, "standby");
    project.session.run(BERTHS);
    let mut server = server;
    server.private_file("standby.signal", "");
    server.configure(&["hot_standby = on"]);
    server.restart();
    project.refuses(&["the source is a standby", "primary"]);
    project.moorage(&["check"]).expect(3, &["a standby"]);
}

#[test]
fn a_target_that_cannot_be_written_is_named_before_anything_is_made() {
    let project = Project::new("unwritable");
    project.session.run(BERTHS);
    project.replace("warehouse.db", "nowhere/warehouse.db");
    project.refuses(&["nowhere/warehouse.db", "does not exist"]);
    std::fs::write(project.path("text.db"), "this is not a database, it is a text of some length").unwrap();
    project.replace("nowhere/warehouse.db", "text.db");
    project.refuses(&["text.db", "not a database"]);
    assert_nothing_made(&project);
    assert_eq!(std::fs::read_to_string(project.path("text.db")).unwrap().len(), 51);
}

#[test]
fn setting_up_may_be_repeated_and_survives_being_killed() {
    let server = PostgresServer::shared();
    let project = Project::new("killed_set_up");
    project.session.run(BERTHS);
    let other = server.session("killed_set_up");
    other.run("BEGIN; INSERT INTO berths VALUES (2, 'open')");
    let mut running = project.start(&["run"]);
    running.wait_for("making slot");
    running.kill();
    other.run("COMMIT");
    project.catch_up();
    project.catch_up().expect(0, &["publication moorage_killed_set_up__killed_set_up: already so"]);
    project.assert_same("berths", "berths");
}

/// A server has one list of slots for all its databases.
#[test]
fn pipelines_of_one_name_in_two_databases_of_a_server_do_not_meet() {
    let (one, other) = (Project::new("two_of_a_name"), Project::new("two_of_a_name_2"));
    other.replace("pipelines.two_of_a_name_2", "pipelines.two_of_a_name");
    for (project, name) in [(&one, "east"), (&other, "west")] {
        project.session.run(BERTHS);
        project.session.run(&format!("INSERT INTO berths VALUES (7, '{name}')"));
        project.catch_up();
    }
    for (project, name) in [(&one, "east"), (&other, "west")] {
        project.session.run("INSERT INTO berths VALUES (8, 'more')");
        project.catch_up();
        project.assert_same("berths", "berths");
        assert_eq!(project.value::<String>("SELECT name FROM berths WHERE id = 7"), name);
    }
    one.moorage(&["teardown"]).expect(0, &["nothing of this pipeline is left"]);
    other.session.run("INSERT INTO berths VALUES (9, 'and more')");
    other.catch_up();
    other.assert_same("berths", "berths");
}

/// Earlier versions named slots after the pipeline alone. Such a slot is gone on with, and is not left behind where nobody
/// remembers it.
#[test]
fn a_slot_of_an_earlier_version_keeps_its_name() {
    let project = Project::new("earlier_slot");
    project.session.run(BERTHS);
    let named = "slot = \"moorage_earlier_slot\"\npublication = \"moorage_earlier_slot\"\n";
    project.session.run("CREATE PUBLICATION moorage_earlier_slot FOR TABLE berths");
    project.session.run("SELECT pg_create_logical_replication_slot('moorage_earlier_slot', 'pgoutput')");
    project.replace("merge_every", &format!("{named}merge_every"));
    project.catch_up();
    project.replace(named, "");
    project.session.run("INSERT INTO berths VALUES (8, 'more')");
    project.catch_up();
    project.assert_same("berths", "berths");
    let slots =
        "SELECT string_agg(slot_name, ' ') FROM pg_replication_slots WHERE database = current_database()";
    assert_eq!(project.session.value::<String>(slots), "moorage_earlier_slot");
    project.moorage(&["status"]).expect(0, &["0 changes wait"]);
    std::fs::remove_file(project.path("warehouse.db")).unwrap();
    project.refuses(&["slot moorage_earlier_slot is already there", "moorage teardown"]);
    project
        .moorage(&["teardown"])
        .expect(0, &["slot moorage_earlier_slot", "nothing of this pipeline is left"]);
    assert_eq!(project.session.value::<Option<String>>(slots), None);
}

/// Neither the checkpoint's history nor the slot depends on what a database is called.
#[test]
fn a_database_that_is_renamed_is_gone_on_with() {
    let server = PostgresServer::start(&[]);
    let admin = server.session("postgres");
    admin.run("CREATE DATABASE named_first");
    let run = |statements: &str, database: &str| server.session(database).run(statements);
    let project = |database: &str| {
        format!(
            "[sources.harbour]\nkind = \"postgres\"\nurl = \"{}\"\n[targets.warehouse]\nkind = \"sqlite\"\npath = \"warehouse.db\"\n\
             [pipelines.quayside]\nsource = \"harbour\"\ntarget = \"warehouse\"\ninto = \"{{table}}\"\n",
            server.url(database)
        )
    };
    run(BERTHS, "named_first");
    let folder = Folder::with(&project("named_first"));
    folder.catch_up();
    wait_until("nobody is in the database", || {
        admin.value("SELECT count(*) = 0 FROM pg_stat_activity WHERE datname = 'named_first'")
    });
    admin.run("ALTER DATABASE named_first RENAME TO named_later");
    std::fs::write(folder.path("moorage.toml"), project("named_later")).unwrap();
    run("INSERT INTO berths VALUES (8, 'more')", "named_later");
    folder.catch_up();
    assert_eq!(folder.value::<i64>("SELECT count(*) FROM berths WHERE id = 8"), 1);
    let slots = "SELECT string_agg(slot_name, ' ') FROM pg_replication_slots";
    assert_eq!(admin.value::<String>(slots), "moorage_named_first__quayside");
    // Also where nobody remembers it.
    std::fs::remove_file(folder.path("warehouse.db")).unwrap();
    folder
        .moorage(&["teardown"])
        .expect(0, &["slot moorage_named_first__quayside", "nothing of this pipeline is left"]);
    assert_eq!(admin.value::<Option<String>>(slots), None);
}

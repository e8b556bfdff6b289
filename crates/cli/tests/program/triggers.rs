//! PostgreSQL captured by triggers.

use crate::harness::Project;
use moorage_testkit::{PostgresServer, Proxy, Weather, wait_until};
use rstest::rstest;
use std::time::Duration;

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
    wait_until("later transactions arrive before it", || {
        project.value::<i64>("SELECT max(n) FROM vessels") == i64::from(round)
    });
    assert_eq!(project.value::<i64>("SELECT count(*) FROM vessels WHERE id = 2001"), 0);
    late.run("COMMIT");
    wait_until("it arrives once it is committed", || {
        project.value::<i64>("SELECT count(*) FROM vessels WHERE n = 7 AND id IN (1, 2001)") == 2
    });
    running.signal("INT");
    running.end();
    project.catch_up();
    project.assert_same("vessels", "vessels");
    // What was acknowledged is deleted from the change tables.
    let mut running = project.start(&["run"]);
    running.wait_for("following changes");
    wait_until("the change table is pruned", || {
        project.session.run("UPDATE vessels SET n = n + 1 WHERE id = 5");
        let sql = "SELECT (SELECT count(*) FROM vessels) > 0, (xpath('/row/c/text()', query_to_xml(format('SELECT count(*) AS c FROM moorage_late.%I', relname), false, true, '')))[1]::text::bigint
                   FROM pg_class WHERE relname LIKE 'rows_%' AND relkind = 'r'";
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
    let load = project.load("BEGIN; UPDATE vessels SET n = n + 1 WHERE id = 1 + (random() * 1999)::int; INSERT INTO gate_log VALUES (1), (1); DELETE FROM gate_log WHERE ctid = (SELECT ctid FROM gate_log LIMIT 1); COMMIT");
    for pause in [30, 80, 150, 300, 60, 500, 200, 400] {
        let running = project.start(&["run"]);
        std::thread::sleep(std::time::Duration::from_millis(pause));
        running.kill();
    }
    drop(load);
    project.catch_up();
    project.assert_same("vessels", "vessels");
    project.assert_same("gate_log", "gate_log");
}

const VESSELS: &str = "CREATE TABLE vessels (id int PRIMARY KEY, name text, n int NOT NULL DEFAULT 0);
    CREATE TABLE log (id int, name text, n int); INSERT INTO vessels SELECT i, 'v' || i FROM generate_series(1, 60) i; INSERT INTO log SELECT i % 7, 'x', 0 FROM generate_series(1, 40) i";

/// A.3: an application's own triggers on the same tables, whatever they are called and whenever they fire.
#[rstest]
#[case::same_row("AFTER INSERT OR UPDATE", "UPDATE T SET n = n + 1 WHERE id = NEW.id")]
#[case::other_rows("AFTER UPDATE", "UPDATE T SET n = n + 100 WHERE id % 5 = NEW.id % 5")]
#[case::key_moves("AFTER UPDATE", "UPDATE T SET id = id + 1000 WHERE id = NEW.id AND id < 1000")]
#[case::key_reused("AFTER DELETE", "INSERT INTO T VALUES (OLD.id, 'again', OLD.n + 1)")]
#[case::deletes_others("AFTER UPDATE", "DELETE FROM T WHERE id = NEW.id + 3")]
#[case::inserts_others(
    "AFTER DELETE",
    "INSERT INTO T SELECT OLD.id + 5000 + (SELECT count(*) FROM T), 'new', 1"
)]
#[case::makes_way("BEFORE INSERT", "DELETE FROM T WHERE id = NEW.id")]
#[case::before_others("BEFORE UPDATE", "UPDATE T SET n = n + 7 WHERE id < OLD.id AND id > OLD.id - 3")]
#[case::deferred("CONSTRAINT", "UPDATE T SET n = n + 1, id = id + 2000 WHERE id = NEW.id AND id < 2000")]
fn triggers_of_the_application_change_the_same_table(
    #[case] when: &str,
    #[case] action: &str,
    #[values("!!first", "zzz last")] name: &str,
) {
    let number = action.len() * 100 + when.len() * 10 + name.len();
    let project = by_trigger(&format!("own_triggers_{number}_{}", u8::from(name.starts_with('z'))));
    project.session.run(VESSELS);
    project.catch_up();
    for table in ["vessels", "log"] {
        let (constraint, events) = match when {
            "CONSTRAINT" => ("CONSTRAINT ", "AFTER INSERT OR UPDATE"),
            when => ("", when),
        };
        let deferred = if constraint.is_empty() { "" } else { "DEFERRABLE INITIALLY DEFERRED " };
        let gives = if events.starts_with("BEFORE") { "NEW" } else { "NULL" };
        project.session.run(&format!(
            "CREATE FUNCTION act_{table}() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF pg_trigger_depth() < 2 THEN {}; END IF; RETURN {gives}; END $$;
             CREATE {constraint}TRIGGER \"{name}\" {events} ON {table} {deferred}FOR EACH ROW EXECUTE FUNCTION act_{table}()",
            action.replace(" T ", &format!(" {table} ")).replace("FROM T)", &format!("FROM {table})"))
        ));
    }
    for statements in [
        "UPDATE T SET name = name || 'a' WHERE id BETWEEN 3 AND 12",
        "BEGIN; UPDATE T SET name = name || 'b' WHERE id % 2 = 0; DELETE FROM T WHERE id BETWEEN 20 AND 25; INSERT INTO T SELECT 300 + i, 'c', i FROM generate_series(1, 5) i; SAVEPOINT s; UPDATE T SET n = 0; ROLLBACK TO s; UPDATE T SET n = n + 1 WHERE id < 10; COMMIT",
        "DELETE FROM T WHERE id < 5; INSERT INTO T VALUES (1, 'one', 1), (2, 'two', 2)",
    ] {
        for table in ["vessels", "log"] {
            // Some of these meet the application's own unique key: that is its own affair.
            let _ = project.session.try_run(&statements.replace(" T ", &format!(" {table} ")));
            let _ = project.session.try_run("ROLLBACK");
        }
    }
    project.catch_up();
    project.assert_same("vessels", "vessels");
    project.assert_same("log", "log");
    // With deferred triggers pending, the server refuses a second TRUNCATE.
    let again = if when == "CONSTRAINT" { "DELETE FROM log" } else { "TRUNCATE log" };
    project.session.run(&format!("BEGIN; TRUNCATE log; INSERT INTO log VALUES (9, 'x', 0); UPDATE log SET n = 5; {again}; INSERT INTO log VALUES (8, 'y', 1); UPDATE log SET n = 6; COMMIT"));
    project.catch_up();
    project.assert_same("log", "log");
    project.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// A.3: no write of the application fails, whatever becomes of the table's structure.
#[rstest]
fn structure_changes_never_fail_a_write(#[values(false, true)] running: bool) {
    let project = by_trigger(&format!("reshaped_{running}"));
    project.replace(
        "merge_every",
        "drift = { column_renamed = \"follow\", column_dropped = \"follow\" }\nmerge_every",
    );
    project.session.run(VESSELS);
    project
        .session
        .run("CREATE TYPE state AS ENUM ('a', 'b'); ALTER TABLE vessels ADD state state DEFAULT 'a'");
    project.catch_up();
    let run = running.then(|| {
        let mut run = project.start(&["run"]);
        run.wait_for("following changes");
        run
    });
    project.session.run("ALTER TABLE vessels ADD extra int DEFAULT 5; UPDATE vessels SET n = 1 WHERE id = 1");
    let another = project.another_session();
    for statement in [
        "ALTER TABLE vessels RENAME name TO title",
        "INSERT INTO vessels VALUES (1001, 'x', 1, 'b', 3) ON CONFLICT (id) DO UPDATE SET n = 5",
        "ALTER TABLE vessels ALTER n TYPE bigint",
        "BEGIN; ALTER TABLE vessels DROP COLUMN title; UPDATE vessels SET n = n + 1; ALTER TABLE vessels ADD title text; DELETE FROM vessels WHERE id = 2; COMMIT",
        "WITH moved AS (DELETE FROM vessels WHERE id = 3 RETURNING *) INSERT INTO vessels SELECT id + 5000, n, state, extra, title FROM moved",
        "ALTER TABLE vessels RENAME TO boats; UPDATE boats SET n = 0; ALTER TABLE boats RENAME TO vessels",
        "ALTER TABLE vessels DROP COLUMN state; DROP TYPE state",
        "UPDATE vessels SET n = 3 WHERE id = 4",
    ] {
        project.session.run(statement);
        another.run("UPDATE vessels SET n = n + 1 WHERE id = 9");
    }
    if let Some(mut run) = run {
        run.signal("INT");
        assert_eq!(run.end(), 0, "{}", run.log());
    }
    project.catch_up();
    project.catch_up();
    project.assert_same("vessels", "vessels");
    project.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// A transaction that keeps its first snapshot writes rows in a structure that it does not see in the catalogue.
#[rstest]
#[case::added("ALTER TABLE vessels ADD extra int DEFAULT 5", "UPDATE vessels SET extra = 7 WHERE id = 2")]
#[case::dropped("ALTER TABLE vessels DROP name", "UPDATE vessels SET n = 7 WHERE id = 2")]
#[case::renamed("ALTER TABLE vessels RENAME name TO title", "UPDATE vessels SET title = 'x' WHERE id = 2")]
#[case::swapped(
    "ALTER TABLE vessels RENAME name TO b; ALTER TABLE vessels RENAME note TO name; ALTER TABLE vessels RENAME b TO note",
    "UPDATE vessels SET name = 'of note' WHERE id = 2"
)]
#[case::made_again(
    "ALTER TABLE vessels DROP note; ALTER TABLE vessels ADD note text DEFAULT 'new'",
    "UPDATE vessels SET note = 'written' WHERE id = 2"
)]
#[case::retyped(
    "ALTER TABLE vessels ALTER n TYPE text USING n || ' m'",
    "UPDATE vessels SET n = '8 m' WHERE id = 2"
)]
fn rows_of_a_transaction_with_an_older_snapshot_are_read_as_they_are(
    #[case] change: &str,
    #[case] statement: &str,
    #[values(false, true)] others_write: bool,
) {
    let project = by_trigger(&format!("older_{}_{others_write}", change.len()));
    project.replace("merge_every", "drift = { column_renamed = \"follow\", column_dropped = \"follow\", type_changed = \"reread\" }\nmerge_every");
    project.session.run(
        "CREATE TABLE vessels (id int PRIMARY KEY, name text, n int, note text); INSERT INTO vessels SELECT i, 'v' || i, i, 'n' FROM generate_series(1, 5) i; CREATE TABLE other (a int)",
    );
    project.catch_up();
    let older = project.another_session();
    older.run("BEGIN ISOLATION LEVEL REPEATABLE READ; SELECT * FROM other");
    project.session.run(change);
    if others_write {
        project.session.run("UPDATE vessels SET id = 30 WHERE id = 3");
    }
    older.run(statement);
    older.run("COMMIT");
    project.catch_up();
    project.session.run("DELETE FROM vessels WHERE id = 1");
    project.catch_up();
    project.assert_same("vessels", "vessels");
    project.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// Rows that come to a partition through its root have no statement of the partition's own.
#[test]
fn rows_that_come_through_a_partitioned_table_are_captured() {
    let project = by_trigger("parted");
    project.replace("[pipelines.parted]", "[pipelines.parted]\npartitions = \"apart\"");
    project.session.run("CREATE TABLE stays (id int PRIMARY KEY, n int) PARTITION BY RANGE (id); CREATE TABLE stays_1 PARTITION OF stays FOR VALUES FROM (0) TO (100); CREATE TABLE stays_2 PARTITION OF stays FOR VALUES FROM (100) TO (200)");
    project.catch_up();
    project.session.run("INSERT INTO stays SELECT i, 0 FROM generate_series(50, 150) i; UPDATE stays SET id = id + 120 WHERE id < 80; INSERT INTO stays_1 VALUES (1, 1); ALTER TABLE stays ADD more int; UPDATE stays SET n = 5 WHERE id > 100; DELETE FROM stays WHERE id = 1");
    project.catch_up();
    for table in ["stays_1", "stays_2"] {
        project.assert_same(table, table);
    }
    project.session.run("DELETE FROM stays; INSERT INTO stays SELECT i, 0 FROM generate_series(1, 20) i; UPDATE stays SET id = id + 180 WHERE id < 10");
    project.catch_up();
    for table in ["stays_1", "stays_2"] {
        project.assert_same(table, table);
    }
}

/// A.3: change tables of the earlier form are taken over with what is in them.
#[test]
fn change_tables_of_the_earlier_form_are_taken_over() {
    let project = by_trigger("earlier_form");
    project.session.run("CREATE TABLE vessels (id int PRIMARY KEY, name text); INSERT INTO vessels VALUES (1, 'Heron'), (2, 'Tern')");
    project.catch_up();
    let id: u32 = project.session.value("SELECT 'vessels'::regclass::oid");
    // As version 0.1 made it.
    project.session.run(&format!(
        "DROP TABLE moorage_earlier_form.structures, moorage_earlier_form.rows_{id}; DROP TRIGGER moorage_earlier_form_statement ON vessels;
         CREATE TABLE moorage_earlier_form.changes_{id} (number bigint NOT NULL, xid xid8 NOT NULL DEFAULT pg_current_xact_id(), at timestamptz NOT NULL DEFAULT clock_timestamp(), kind \"char\" NOT NULL, o1 int, n1 int, o2 text, n2 text);
         CREATE OR REPLACE FUNCTION moorage_earlier_form.capture_{id}() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER AS $$ DECLARE change bigint := nextval('moorage_earlier_form.numbers'); BEGIN
           IF TG_OP = 'INSERT' THEN INSERT INTO moorage_earlier_form.changes_{id} (number, kind, n1, n2) VALUES (change, 'I', NEW.id, NEW.name);
           ELSIF TG_OP = 'UPDATE' THEN INSERT INTO moorage_earlier_form.changes_{id} (number, kind, o1, o2, n1, n2) VALUES (change, 'U', OLD.id, OLD.name, NEW.id, NEW.name);
           ELSE INSERT INTO moorage_earlier_form.changes_{id} (number, kind, o1, o2) VALUES (change, 'D', OLD.id, OLD.name); END IF; RETURN NULL; END $$"
    ));
    project.session.run("UPDATE vessels SET name = 'Egret' WHERE id = 1; INSERT INTO vessels VALUES (3, NULL); DELETE FROM vessels WHERE id = 2");
    project.catch_up();
    project.assert_same("vessels", "vessels");
    project
        .session
        .run("UPDATE vessels SET name = name || ' \"x\"' WHERE id = 1; INSERT INTO vessels VALUES (2, '')");
    project.catch_up();
    project.assert_same("vessels", "vessels");
    project.session.run("DELETE FROM vessels WHERE id = 3");
    let mut running = project.start(&["run"]);
    let left = format!("SELECT count(*) FROM moorage_earlier_form.changes_{id}");
    wait_until("what was read of the earlier form is deleted", || project.session.value::<i64>(&left) == 0);
    running.signal("INT");
    assert_eq!(running.end(), 0);
    project.catch_up();
    project.assert_same("vessels", "vessels");
    assert_eq!(
        project.session.value::<Option<String>>(&format!(
            "SELECT to_regclass('moorage_earlier_form.changes_{id}')::text"
        )),
        None
    );
}

/// Likewise those of the form before, whose structures are known by names and types alone.
#[rstest]
fn change_tables_of_the_form_before_are_taken_over(#[values(false, true)] altered: bool) {
    let project = by_trigger(&format!("form_before_{altered}"));
    project.session.run("CREATE TABLE vessels (id int PRIMARY KEY, name text); INSERT INTO vessels VALUES (1, 'Heron'), (2, 'Tern')");
    project.catch_up();
    let id: u32 = project.session.value("SELECT 'vessels'::regclass::oid");
    let schema = format!("moorage_form_before_{altered}");
    project
        .session
        .run("UPDATE vessels SET name = 'Egret' WHERE id = 1; INSERT INTO vessels VALUES (3, NULL)");
    if altered {
        project.session.run("ALTER TABLE vessels ADD n int DEFAULT 4; UPDATE vessels SET n = 5 WHERE id = 2");
    }
    // What was captured looks as if it had been by then.
    project.session.run(&format!(
        "UPDATE {schema}.structures SET columns = (SELECT json_agg(json_build_array(c->>1, c->>4)) FROM json_array_elements((state::json)->1) c), state = NULL;
         ALTER TABLE {schema}.rows_{id} DROP COLUMN layout; COMMENT ON TABLE {schema}.rows_{id} IS 'whole rows as text, 1'"
    ));
    project.catch_up();
    project.catch_up();
    project.assert_same("vessels", "vessels");
    project.session.run("UPDATE vessels SET name = name || '!'; ALTER TABLE vessels ADD more text DEFAULT 'x'; DELETE FROM vessels WHERE id = 2");
    let log = project.catch_up().all();
    assert!(log.contains("column more was added (text); the target follows"), "{log}");
    project.assert_same("vessels", "vessels");
}

/// What was changed between the triggers and the copy is in the copy: nothing waits, and `status` says so.
#[test]
fn changes_that_the_first_copy_holds_do_not_wait() {
    let server = PostgresServer::shared();
    let project = by_trigger("held_by_copy");
    project.session.run("CREATE TABLE berths (id int PRIMARY KEY)");
    let proxy = Proxy::to(server.port());
    project.replace(&server.port().to_string(), &proxy.port().to_string());
    // So slow that there is time between the triggers and the copy.
    proxy.set(Weather::Slow(Duration::from_millis(40)));
    let mut running = project.start(&["run"]);
    let mut next = 0;
    wait_until("the copy", || {
        next += 1;
        project.session.run(&format!("INSERT INTO berths VALUES ({next})"));
        running.log().contains("reading 1 table")
    });
    proxy.set(Weather::Fair);
    running.wait_for("following changes");
    wait_until("nothing waits", || {
        project.moorage(&["status"]).expect(0, &[]).out.contains("0 changes wait")
    });
    running.signal("INT");
    assert_eq!(running.end(), 0, "{}", running.log());
    project.assert_same("berths", "berths");
}

/// Only tables that nobody carries change: the tables come to their places all the same.
#[test]
fn tables_are_read_again_while_nothing_else_changes_in_them() {
    let project = by_trigger("quiet_again");
    project.session.run(
        "CREATE TABLE vessels (id int PRIMARY KEY, name text); INSERT INTO vessels SELECT i, 'v' FROM generate_series(1, 50) i;
         CREATE SCHEMA elsewhere; CREATE TABLE elsewhere.notes (a int)",
    );
    project.catch_up();
    // A snapshot later than the checkpoint, with no change between that is carried.
    project.session.run("INSERT INTO elsewhere.notes VALUES (1)");
    project.session.run("INSERT INTO elsewhere.notes VALUES (2)");
    project.moorage(&["resnapshot", "vessels"]).expect(0, &["the next `moorage run` reads again"]);
    project.catch_up();
    let mut running = project.start(&["run"]);
    running.wait_for("following changes");
    project.session.run("INSERT INTO elsewhere.notes VALUES (3)");
    project.moorage(&["resnapshot", "vessels"]).expect(0, &[]);
    running.signal("INT");
    assert_eq!(running.end(), 0, "{}", running.log());
    project.assert_same("vessels", "vessels");
}

/// Triggers of tables that the user owns fire for every session, also for those that apply what comes from elsewhere.
#[test]
fn sessions_that_bypass_triggers_are_captured_where_the_user_owns_the_table() {
    let project = by_trigger("replica_role");
    project
        .session
        .run("CREATE TABLE berths (id int PRIMARY KEY, name text); INSERT INTO berths VALUES (1, 'north')");
    project.catch_up();
    let bypassing = project.another_session();
    bypassing.run("SET session_replication_role = replica; INSERT INTO berths VALUES (2, 'south'); UPDATE berths SET name = 'east' WHERE id = 1");
    project.catch_up();
    project.assert_same("berths", "berths");
    bypassing.run("TRUNCATE berths");
    project.catch_up();
    assert_eq!(project.value::<i64>("SELECT count(*) FROM berths"), 0);
}

/// Whoever waits for a lock holds up all that come behind: a transaction that stays open must not stop the application's
/// other writers, neither while triggers are made nor while they are removed.
#[test]
fn nobody_is_held_up_behind_a_lock_that_is_waited_for() {
    let server = PostgresServer::start(&["max_prepared_transactions = 4"]);
    let project = Project::on(&server, "held_up");
    project.replace("kind = \"postgres\"", "kind = \"postgres\"\ncapture = \"trigger\"");
    project.session.run("CREATE TABLE berths (id int PRIMARY KEY); SET lock_timeout = '120s'");
    let open = server.session("held_up");
    open.run("BEGIN; INSERT INTO berths VALUES (1)");
    let mut running = project.start(&["run"]);
    running.wait_for("making triggers on public.berths: waits for transaction of pid");
    running.wait_for("asks again in");
    project.session.run("INSERT INTO berths VALUES (2)");
    open.run("COMMIT");
    running.wait_for("following changes");
    running.signal("TERM");
    assert_eq!(running.end(), 0);
    project.assert_same("berths", "berths");
    open.run("BEGIN; SELECT FROM berths");
    let mut removing = project.start(&["teardown"]);
    removing.wait_for("asks again in");
    project.session.run("INSERT INTO berths VALUES (3)");
    open.run("PREPARE TRANSACTION 'held_up'");
    removing.wait_for("waits for prepared transaction held_up");
    open.run("COMMIT PREPARED 'held_up'");
    removing.wait_for("nothing of this pipeline is left");
    assert_eq!(removing.end(), 0);
}

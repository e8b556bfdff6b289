//! Tables that come while a pipeline runs.

use crate::harness::{Mirror, Quay};
use moorage_testkit::wait_until;
use rstest::rstest;

fn mirror(name: &str, trigger: bool, statements: &str) -> Mirror {
    let mirror = Mirror::new(name, statements);
    if trigger {
        mirror.replace("[sources.harbour]", "[sources.harbour]\ncapture = \"trigger\"");
    }
    mirror
}

/// Writers are at work in a new table from its first moment on, and in the others all the while.
#[rstest]
fn a_table_that_is_made_joins_under_load(#[values(false, true)] trigger: bool) {
    let mirror = mirror(
        &format!("joins_{trigger}"),
        trigger,
        "CREATE TABLE vessels (id int PRIMARY KEY, n int); INSERT INTO vessels SELECT i, 0 FROM generate_series(1, 50) i",
    );
    mirror.catch_up();
    let mut run = mirror.start(&["run"]);
    run.wait_for("following changes");
    let busy = mirror.load("UPDATE vessels SET n = n + 1 WHERE id = 1 + (random() * 49)::int");
    mirror.source.run("CREATE TABLE tariffs (id int PRIMARY KEY, price int); INSERT INTO tariffs SELECT i, i FROM generate_series(1, 200) i");
    let writers = mirror.load("BEGIN; UPDATE tariffs SET price = price + 1 WHERE id % 7 = (random() * 6)::int; INSERT INTO tariffs SELECT max(id) + 1, 0 FROM tariffs; COMMIT");
    // A transaction that began before the table was picked, and ends long after. (Triggers have to wait for its end.)
    let late = mirror.another_session();
    late.run("BEGIN; UPDATE tariffs SET price = -1 WHERE id = 5");
    if !trigger {
        run.wait_for("public.tariffs: it was made; it joins");
    }
    late.run("INSERT INTO tariffs VALUES (-5, 5); COMMIT");
    run.wait_for("public.tariffs: it was made; it joins");
    wait_until("its rows are there", || {
        mirror.target.value::<bool>("SELECT to_regclass('mirror.tariffs') IS NOT NULL")
    });
    mirror.source.run(
        "CREATE TABLE \"Jetties\" (id int PRIMARY KEY, a text); INSERT INTO \"Jetties\" VALUES (1, 'x')",
    );
    wait_until("the next one is there", || {
        mirror.target.value::<bool>("SELECT to_regclass('mirror.\"Jetties\"') IS NOT NULL")
    });
    drop((busy, writers));
    run.signal("INT");
    assert_eq!(run.end(), 0, "{}", run.log());
    mirror.assert_follows(&["vessels", "tariffs", "\"Jetties\""]);
    mirror.moorage(&["status"]).expect(0, &["public.tariffs"]);
}

/// Triggers cannot be made before those who write to the table are done; the other tables need not wait for them.
#[test]
fn whoever_writes_to_a_new_table_keeps_the_others_from_nothing() {
    let mirror = mirror("joins_open", true, "CREATE TABLE vessels (id int PRIMARY KEY, n int)");
    mirror.catch_up();
    let mut run = mirror.start(&["run"]);
    run.wait_for("following changes");
    let late = mirror.another_session();
    late.run("CREATE TABLE tariffs (id int PRIMARY KEY, price int)");
    late.run("BEGIN; INSERT INTO tariffs VALUES (1, 5)");
    run.wait_for("making triggers on public.tariffs: waits for");
    mirror.source.run("INSERT INTO vessels VALUES (1, 1)");
    wait_until("the others go on", || mirror.target.value::<i64>("SELECT count(*) FROM mirror.vessels") == 1);
    late.run("INSERT INTO tariffs VALUES (2, 6); COMMIT");
    run.wait_for("public.tariffs: it was made; it joins");
    run.signal("INT");
    assert_eq!(run.end(), 0, "{}", run.log());
    mirror.assert_follows(&["vessels", "tariffs"]);
}

#[test]
fn a_table_that_is_made_in_a_file_joins() {
    let quay =
        Quay::new("CREATE TABLE vessels (id INTEGER PRIMARY KEY, n INT); INSERT INTO vessels VALUES (1, 1)");
    quay.catch_up();
    let mut run = quay.start(&["run"]);
    run.wait_for("following changes");
    quay.change("CREATE TABLE tariffs (id INTEGER PRIMARY KEY, price INT); INSERT INTO tariffs VALUES (1, 5); UPDATE vessels SET n = 2");
    run.wait_for("main.tariffs: it was made; it joins");
    quay.change("UPDATE tariffs SET price = 6; INSERT INTO tariffs VALUES (2, 7)");
    run.signal("INT");
    assert_eq!(run.end(), 0, "{}", run.log());
    quay.assert_follows(&["vessels", "tariffs"]);
}

/// A table that is made again between two looks is in nobody's way, nor in that of one that is made with it.
#[test]
fn a_table_that_is_made_again_and_a_new_one_are_both_carried() {
    let mirror = Mirror::new(
        "joins_again",
        "CREATE TABLE tariffs (id int PRIMARY KEY, price int); INSERT INTO tariffs VALUES (1, 1)",
    );
    mirror.catch_up();
    let mut run = mirror.start(&["run"]);
    run.wait_for("following changes");
    mirror.source.run("BEGIN; DROP TABLE tariffs; CREATE TABLE tariffs (id int PRIMARY KEY, price int); INSERT INTO tariffs VALUES (2, 2); CREATE TABLE quays (id int PRIMARY KEY); INSERT INTO quays VALUES (7); COMMIT");
    wait_until("the new one is there", || {
        mirror.target.value::<bool>("SELECT to_regclass('mirror.quays') IS NOT NULL")
    });
    run.signal("INT");
    assert_eq!(run.end(), 0, "{}", run.log());
    assert!(!run.log().contains("does not join"), "{}", run.log());
    mirror.assert_follows(&["tariffs", "quays"]);
}

/// Where the project file says to leave them, they are left, at the next start too.
#[test]
fn tables_that_come_are_left_where_the_file_says_so() {
    let quay = Quay::new("CREATE TABLE vessels (id INTEGER PRIMARY KEY, n INT)");
    quay.add("drift = { table_added = \"leave\" }");
    quay.catch_up();
    quay.change(
        "CREATE TABLE tariffs (id INTEGER PRIMARY KEY, price INT); INSERT INTO tariffs VALUES (1, 5)",
    );
    quay.catch_up();
    assert_eq!(quay.value::<i64>("SELECT count(*) FROM sqlite_schema WHERE name = 'tariffs'"), 0);
    quay.replace("table_added = \"leave\"", "table_added = \"follow\"");
    quay.assert_follows(&["tariffs"]);
}

/// A table that would take another one's target table does not stop it.
#[test]
fn a_table_that_would_be_in_the_way_of_another_one_does_not_join() {
    let mirror =
        Mirror::new("joins_way", "CREATE TABLE vessels (id int PRIMARY KEY, n int); CREATE SCHEMA old");
    mirror.replace("include = [\"public.*\"]", "include = [\"*.*\"]");
    mirror.catch_up();
    let mut run = mirror.start(&["run"]);
    run.wait_for("following changes");
    mirror.source.run("CREATE TABLE old.vessels (id int PRIMARY KEY)");
    run.wait_for("a table was made, and does not join");
    mirror.source.run("INSERT INTO vessels VALUES (1, 1)");
    wait_until("the others go on", || mirror.target.value::<i64>("SELECT count(*) FROM mirror.vessels") == 1);
    run.signal("INT");
    assert_eq!(run.end(), 0, "{}", run.log());
}

/// What the role may not publish does not join, and nothing else minds. The statement is said once.
#[test]
fn a_table_that_only_an_administrator_can_publish_is_left_out_and_the_others_go_on() {
    let mirror = Mirror::new("joins_not", "CREATE TABLE vessels (id int PRIMARY KEY, n int)");
    mirror.source.run(
        "CREATE ROLE joins_reader LOGIN REPLICATION; GRANT CREATE ON DATABASE joins_not TO joins_reader;
         GRANT USAGE ON SCHEMA public TO joins_reader; ALTER TABLE vessels OWNER TO joins_reader;
         ALTER DEFAULT PRIVILEGES IN SCHEMA public GRANT SELECT ON TABLES TO joins_reader",
    );
    let text = std::fs::read_to_string(mirror.path("moorage.toml")).unwrap();
    let text = text.replacen("postgres://postgres@", "postgres://joins_reader@", 1);
    std::fs::write(mirror.path("moorage.toml"), text).unwrap();
    mirror.catch_up();
    let mut run = mirror.start(&["run"]);
    run.wait_for("following changes");
    mirror.source.run("CREATE TABLE tariffs (id int PRIMARY KEY, price int)");
    run.wait_for("public.tariffs cannot join");
    run.wait_for("ADD TABLE");
    mirror.source.run("INSERT INTO vessels VALUES (1, 1); CREATE TABLE more (id int PRIMARY KEY)");
    run.wait_for("public.more cannot join");
    wait_until("the others go on", || mirror.target.value::<i64>("SELECT count(*) FROM mirror.vessels") == 1);
    run.signal("INT");
    assert_eq!(run.end(), 0, "{}", run.log());
    assert_eq!(run.log().matches("public.tariffs cannot join").count(), 1, "{}", run.log());
}

/// With `hold`, a table that comes is listed until someone decides, and nothing is done about it meanwhile, also at later starts.
#[test]
fn tables_that_come_wait_for_a_decision_where_the_file_says_so() {
    let mirror = Mirror::new("offered", "CREATE TABLE berths (id int PRIMARY KEY)");
    mirror.add("[pipelines.offered.drift]\ntable_added = \"hold\"");
    mirror.catch_up();
    let mut run = mirror.start(&["run"]);
    run.wait_for("following changes");
    mirror.source.run("CREATE TABLE stays (id int PRIMARY KEY); INSERT INTO stays VALUES (1); CREATE TABLE tariffs (id int PRIMARY KEY)");
    run.wait_for("public.stays: it was made");
    run.wait_for("public.tariffs: it was made");
    mirror.moorage(&["drift"]).expect(3, &["public.stays", "it was made", "held"]);
    let is_there = |table: &str| {
        mirror.target.value::<bool>(&format!("SELECT to_regclass('mirror.{table}') IS NOT NULL"))
    };
    assert!(!is_there("stays"));
    mirror.moorage(&["drift", "follow", "1"]).expect(0, &["the pipeline goes on"]);
    mirror.source.run("INSERT INTO stays VALUES (2); INSERT INTO berths VALUES (1)");
    wait_until("it joins", || {
        is_there("stays") && mirror.target.value::<i64>("SELECT count(*) FROM mirror.stays") == 2
    });
    run.signal("INT");
    assert_eq!(run.end(), 0, "{}", run.log());
    mirror.catch_up();
    mirror.moorage(&["drift"]).expect(3, &["public.tariffs", "held"]);
    mirror.moorage(&["drift", "leave", "2"]).expect(0, &["the next run does it"]);
    mirror.catch_up();
    let log = mirror.catch_up().all();
    assert!(!is_there("tariffs") && !log.contains("tariffs"), "{log}");
    mirror.moorage(&["drift"]).expect(0, &["left"]);
    ["berths", "stays"].iter().for_each(|table| mirror.assert_same(table));
    // One of that name that is made later is another one.
    mirror.source.run("INSERT INTO stays VALUES (3); DROP TABLE stays");
    mirror.catch_up();
    mirror.target.run("DROP TABLE mirror.stays");
    mirror.moorage(&["teardown", "--table", "stays"]);
    mirror.source.run("CREATE TABLE stays (id int PRIMARY KEY, a int)");
    mirror.catch_up();
    mirror.moorage(&["drift"]).expect(3, &["public.stays"]);
}

/// A role that may read none of the tables that come, and an administrator who has made the function that lets them in: those
/// that the patterns mean join by themselves, and no other, nor those whose updates would fail.
#[rstest]
fn a_function_of_the_administrator_lets_tables_in(#[values(false, true)] trigger: bool) {
    let name = format!("let_in_{trigger}");
    let reader = format!("let_in_reader_{trigger}");
    let mirror = mirror(
        &name,
        trigger,
        &format!(
            "CREATE TABLE vessels (id int PRIMARY KEY, n int); CREATE SCHEMA private; CREATE TABLE private.secrets (id int PRIMARY KEY);
             CREATE ROLE {reader} LOGIN REPLICATION; GRANT CREATE ON DATABASE {name} TO {reader};
             GRANT USAGE ON SCHEMA public TO {reader}; ALTER TABLE vessels OWNER TO {reader}"
        ),
    );
    mirror.replace(
        "include = [\"public.*\"]",
        "include = [\"public.[!x]*\", \"*.{Größe?,vessels}\"]\nexclude = [\"*_tmp\"]",
    );
    let as_admin = mirror.moorage(&["check", "--sql", "source", "--part", "new-tables", "--role", &reader]);
    let script = as_admin.expect(0, &["Makes the function", "superuser"]).out;
    let text = std::fs::read_to_string(mirror.path("moorage.toml")).unwrap();
    let text = text.replacen("postgres://postgres@", &format!("postgres://{reader}@"), 1);
    std::fs::write(mirror.path("moorage.toml"), text).unwrap();
    mirror.moorage(&["check", "--sql", "source"]).expect(0, &["--part new-tables"]);
    mirror.catch_up();
    mirror.source.run(&script);
    mirror.source.run(&script);
    let mut run = mirror.start(&["run"]);
    run.wait_for("following changes");
    mirror.source.run("CREATE TABLE tariffs (id int PRIMARY KEY, price int); INSERT INTO tariffs VALUES (1, 5); CREATE TABLE notes (a text)");
    wait_until("it joins", || {
        mirror.target.value::<bool>("SELECT to_regclass('mirror.tariffs') IS NOT NULL")
    });
    mirror.source.run("UPDATE tariffs SET price = 6; INSERT INTO tariffs VALUES (2, 7); INSERT INTO notes VALUES ('x'); UPDATE notes SET a = 'y'");
    mirror.source.run("CREATE SCHEMA \"o'dd %I\"; CREATE TABLE \"o'dd %I\".\"Größe1\" (id int PRIMARY KEY); CREATE TABLE x_not (id int PRIMARY KEY); CREATE TABLE a_tmp (id int PRIMARY KEY)");
    let odd = "SELECT to_regclass('mirror.\"Größe1\"') IS NOT NULL";
    wait_until("the odd one joins", || mirror.target.value::<bool>(odd));
    run.signal("INT");
    assert_eq!(run.end(), 0, "{}", run.log());
    // Whoever picks a table is told by the exit code, too, that it is not carried.
    mirror.moorage(&["run", "--until", "caught-up"]).expect(if trigger { 0 } else { 3 }, &[]);
    mirror.replace("\"*_tmp\"", "\"*_tmp\", \"public.notes\"");
    mirror.assert_follows(&["vessels", "tariffs"]);
    assert_eq!(run.log().contains("public.notes is not let in: it has no key"), !trigger, "{}", run.log());
    let session = mirror.another_session();
    session.run(&format!("SET ROLE {reader}"));
    let function = mirror.source.value::<String>(
        "SELECT oid::regproc::text FROM pg_proc WHERE pronamespace = 'moorage_new_tables'::regnamespace",
    );
    for table in ["private.secrets", "x_not", "a_tmp", "pg_authid", "pg_publication"] {
        let id = mirror.source.value::<u32>(&format!("SELECT '{table}'::regclass::oid"));
        let why = session.try_run(&format!("SELECT {function}({id}, true)")).unwrap_err();
        assert!(why.contains("it is not among") || why.contains("no permanent table"), "{table}: {why}");
        let may = mirror
            .source
            .value::<bool>(&format!("SELECT has_table_privilege('{reader}', {id}::oid, 'SELECT')"));
        assert_eq!(may, table == "pg_publication", "{table}");
    }
    let undo = ["check", "--sql", "source", "--part", "new-tables", "--undo"];
    mirror.source.run(&mirror.moorage(&undo).expect(0, &[]).out);
    assert!(!mirror.source.value::<bool>("SELECT to_regnamespace('moorage_new_tables') IS NOT NULL"));
    // Triggers, too, go by themselves, on tables that others own.
    mirror.moorage(&["teardown"]).expect(0, &[]);
    let left = "SELECT count(*) FROM pg_trigger WHERE tgname LIKE 'moorage%'";
    assert_eq!(mirror.source.value::<i64>(left), 0);
}

/// Whoever owns the schema could put anything into the function's place.
#[test]
fn a_schema_that_someone_else_made_is_not_taken_for_the_administrators() {
    let mirror = Mirror::new(
        "let_in_not",
        "CREATE TABLE vessels (id int PRIMARY KEY); CREATE ROLE stranger_let_in; CREATE SCHEMA moorage_new_tables AUTHORIZATION stranger_let_in; CREATE SCHEMA moorage_structure AUTHORIZATION stranger_let_in",
    );
    for part in ["new-tables", "event-trigger"] {
        let script = mirror.moorage(&["check", "--sql", "source", "--part", part]).expect(0, &[]).out;
        let why = mirror.source.try_run(&script).unwrap_err();
        assert!(why.contains("belongs to someone who is no administrator"), "{why}");
    }
}

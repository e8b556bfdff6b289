//! How rows are told apart: keys, replica identities, rows without a key.

use crate::harness::Project;
use rstest::rstest;

/// Tables in every form of identity, changed in every way.
#[rstest]
#[case::primary_key("id_default", "CREATE TABLE t (id int PRIMARY KEY, a text)", "key (id)")]
#[case::several_columns(
    "id_several",
    "CREATE TABLE t (a text NOT NULL, id int, PRIMARY KEY (id, a))",
    "key (id, a)"
)]
#[case::full(
    "id_full",
    "CREATE TABLE t (id int PRIMARY KEY, a text); ALTER TABLE t REPLICA IDENTITY FULL",
    "key (id)"
)]
#[case::other_index(
    "id_index",
    "CREATE TABLE t (pk int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, id int NOT NULL UNIQUE, a text); ALTER TABLE t REPLICA IDENTITY USING INDEX t_id_key",
    "key (id)"
)]
#[case::deferrable_full(
    "id_deferrable",
    "CREATE TABLE t (id int PRIMARY KEY DEFERRABLE INITIALLY DEFERRED, a text); ALTER TABLE t REPLICA IDENTITY FULL",
    "no key: rows are matched by all columns"
)]
#[case::none_full(
    "id_none",
    "CREATE TABLE t (id int, a text); ALTER TABLE t REPLICA IDENTITY FULL",
    "no key: rows are matched by all columns"
)]
fn rows_are_told_apart_by(#[case] name: &str, #[case] table: &str, #[case] plan: &str) {
    let project = Project::new(name);
    project.session.run(table);
    project.session.run("INSERT INTO t (id, a) SELECT i, 'row ' || i FROM generate_series(1, 50) i");
    project.moorage(&["plan"]).expect(0, &[plan]);
    project.catch_up();
    project.session.run("UPDATE t SET a = 'changed' WHERE id < 10; DELETE FROM t WHERE id > 45; UPDATE t SET id = id + 1000 WHERE id = 20");
    project.session.run("BEGIN; DELETE FROM t WHERE id = 1; INSERT INTO t (id, a) VALUES (1, 'again'); UPDATE t SET id = 99 WHERE id = 1; COMMIT");
    project.session.run("BEGIN; UPDATE t SET id = -1 WHERE id = 2; UPDATE t SET id = 2 WHERE id = 3; UPDATE t SET id = 3 WHERE id = -1; COMMIT");
    if plan.starts_with("no key") {
        project.session.run("UPDATE t SET id = id + 1");
    }
    project.catch_up();
    project.assert_same("t", "t");
}

#[test]
fn equal_rows_without_a_key_are_removed_one_by_one() {
    let project = Project::new("duplicates");
    project
        .session
        .run("CREATE TABLE gate_log (at timestamptz, what text); ALTER TABLE gate_log REPLICA IDENTITY FULL");
    project.session.run("INSERT INTO gate_log SELECT '2026-01-01', 'in' FROM generate_series(1, 5); INSERT INTO gate_log VALUES (NULL, NULL), (NULL, NULL)");
    project.catch_up();
    project
        .session
        .run("DELETE FROM gate_log WHERE ctid IN (SELECT ctid FROM gate_log WHERE what = 'in' LIMIT 2)");
    project.session.run("DELETE FROM gate_log WHERE ctid = (SELECT ctid FROM gate_log WHERE what IS NULL LIMIT 1); UPDATE gate_log SET what = 'out' WHERE ctid = (SELECT max(ctid) FROM gate_log)");
    project.catch_up();
    project.assert_same("gate_log", "gate_log");
    assert_eq!(project.value::<i64>("SELECT count(*) FROM gate_log"), 4);
}

/// Publishing these would make the application's own updates fail.
#[rstest]
#[case::no_key("unsafe_none", "CREATE TABLE t (id int)", "REPLICA IDENTITY FULL")]
#[case::nothing(
    "unsafe_nothing",
    "CREATE TABLE t (id int PRIMARY KEY); ALTER TABLE t REPLICA IDENTITY NOTHING",
    "REPLICA IDENTITY DEFAULT"
)]
#[case::deferrable(
    "unsafe_deferrable",
    "CREATE TABLE t (id int PRIMARY KEY DEFERRABLE)",
    "REPLICA IDENTITY FULL"
)]
#[case::index_gone(
    "unsafe_index",
    "CREATE TABLE t (id int NOT NULL UNIQUE); ALTER TABLE t REPLICA IDENTITY USING INDEX t_id_key; ALTER TABLE t DROP CONSTRAINT t_id_key",
    "REPLICA IDENTITY FULL"
)]
#[case::unlogged("unsafe_unlogged", "CREATE UNLOGGED TABLE t (id int PRIMARY KEY)", "SET LOGGED")]
fn a_table_whose_updates_would_fail_is_never_published(
    #[case] name: &str,
    #[case] table: &str,
    #[case] fix: &str,
) {
    let project = Project::new(name);
    project.session.run(table);
    project.session.run("CREATE TABLE fine (id int PRIMARY KEY); INSERT INTO t VALUES (1)");
    project.moorage(&["run", "--until", "caught-up"]).expect(3, &["public.t is left out", fix]);
    project.session.run("UPDATE t SET id = 2; DELETE FROM t");
    project.moorage(&["plan"]).expect(3, &["public.t: blocked", fix]);
}

#[test]
fn a_declared_key_is_used_and_checked() {
    let project = Project::new("declared_key");
    project.session.run("CREATE TABLE meter_readings (berth int, at int, kwh int); ALTER TABLE meter_readings REPLICA IDENTITY FULL");
    project.session.run("INSERT INTO meter_readings SELECT i, j, i * j FROM generate_series(1, 10) i, generate_series(1, 10) j");
    project
        .add("[[pipelines.declared_key.rule]]\nmatch = \"public.meter_readings\"\nkey = [\"berth\", \"at\"]");
    project.catch_up();
    project.session.run("UPDATE meter_readings SET kwh = 0 WHERE berth = 3; DELETE FROM meter_readings WHERE berth = 4; UPDATE meter_readings SET at = at + 100 WHERE berth = 5");
    project.catch_up();
    project.assert_same("meter_readings", "meter_readings");
    project.session.run("INSERT INTO meter_readings VALUES (1, 1, 77)");
    project.refuses(&["public.meter_readings", "same declared key (berth, at)"]);
    assert_eq!(project.value::<i64>("SELECT kwh FROM meter_readings WHERE berth = 1 AND at = 1"), 1);
}

#[rstest]
#[case::twice("declared_twice", "(1, 1), (1, 2)", "is not unique")]
#[case::null("declared_null", "(NULL, 1), (2, 2)", "does not fit")]
fn a_declared_key_with_duplicates_or_nulls_is_refused(
    #[case] name: &str,
    #[case] rows: &str,
    #[case] words: &str,
) {
    let project = Project::new(name);
    project.session.run(&format!(
        "CREATE TABLE t (id int, a int); ALTER TABLE t REPLICA IDENTITY FULL; INSERT INTO t VALUES {rows}"
    ));
    project.add(&format!("[[pipelines.{name}.rule]]\nmatch = \"public.t\"\nkey = [\"id\"]"));
    project.refuses(&["public.t", "(id)", words]);
}

#[test]
fn a_replica_identity_that_was_changed_has_the_table_held_until_it_is_read_again() {
    let project = Project::new("identity_changed");
    project
        .session
        .run("CREATE TABLE t (id int PRIMARY KEY, other int NOT NULL UNIQUE); INSERT INTO t VALUES (1, 1)");
    project.catch_up();
    project.session.run("ALTER TABLE t REPLICA IDENTITY USING INDEX t_other_key; UPDATE t SET id = 5");
    project.catch_up().expect(0, &["public.t: its key or its replica identity was changed", "held"]);
    project.moorage(&["drift", "reread", "--all"]).expect(0, &["drift 1: noted: the next run does it"]);
    project.catch_up();
    project.session.run("UPDATE t SET other = 6; UPDATE t SET id = 7");
    project.catch_up();
    project.assert_same("t", "t");
}

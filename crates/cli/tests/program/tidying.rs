//! `tidy`: what is old in tables that keep changes is folded, and what they come to stays the same.

use crate::harness::Mirror;
use moorage_testkit::wait_until;
use rstest::rstest;

const TABLES: &str = "CREATE TABLE stays (id numeric PRIMARY KEY, name text); INSERT INTO stays SELECT i, 's' || i FROM generate_series(1, 50) i;
    CREATE TABLE gate_log (what text); ALTER TABLE gate_log REPLICA IDENTITY FULL; INSERT INTO gate_log VALUES ('open')";

fn mirror(name: &str, target: &str, more: &str) -> Mirror {
    let mirror = Mirror::new(name, TABLES);
    if target == "file" {
        mirror.has_file_as_target();
    }
    mirror
        .replace(&format!("[pipelines.{name}]"), &format!("[pipelines.{name}]\nkeep = \"changes\"\n{more}"));
    mirror
}

fn at_target(mirror: &Mirror, sql: &str) -> String {
    match mirror.path("warehouse.db").exists() {
        true => mirror.value(sql),
        false => {
            mirror.target.value(&sql.replace("FROM ", "FROM mirror.").replace("group_concat(", "string_agg("))
        }
    }
}

/// What the trail says row by row, and what its view does.
fn now(mirror: &Mirror) -> String {
    at_target(
        mirror,
        "SELECT group_concat(concat_ws(' ', CAST(id AS int), name), '; ' ORDER BY CAST(id AS int)) FROM stays_current",
    )
}

fn operations(mirror: &Mirror) -> String {
    at_target(
        mirror,
        "SELECT concat_ws(' ', count(*), count(CASE WHEN moorage_operation = 'snapshot' THEN 1 END), count(CASE WHEN moorage_operation = 'truncate' THEN 1 END)) FROM stays",
    )
}

/// A number of the key that is written in two ways is one key, deletes and what was before the table was emptied go, and what comes
/// later finds the rows that it changes.
#[rstest]
fn what_is_old_is_folded_and_the_view_stays_right(#[values("database", "file")] target: &str) {
    let mirror = mirror(&format!("tidy_{target}"), target, "");
    mirror.catch_up();
    mirror.moorage(&["tidy"]).expect(2, &["--older-than 90d", "tidy_after = \"90d\""]);
    mirror.source.run(
        "TRUNCATE stays; INSERT INTO stays SELECT i, 'x' || i FROM generate_series(1, 20) i; UPDATE stays SET name = 'y' WHERE id < 5;
         DELETE FROM stays WHERE id = 7; DELETE FROM stays WHERE id = 8; INSERT INTO stays VALUES (8.00, 'again'); UPDATE stays SET id = id + 100 WHERE id = 9",
    );
    mirror.catch_up();
    let before = now(&mirror);
    assert_eq!(operations(&mirror), "80 50 1");
    mirror.moorage(&["tidy", "--older-than", "1h"]).expect(0, &["stays", "gate_log", "its rows have no key"]);
    assert_eq!(operations(&mirror), "80 50 1", "nothing is that old");
    let outlook =
        mirror.moorage(&["tidy", "--older-than", "0s", "--dry-run"]).expect(0, &["nothing was changed"]);
    let counts = |text: &str| {
        text.lines().any(|line| line.contains("stays") && line.contains("61") && line.contains("19"))
    };
    assert!(counts(&outlook.out), "{}", outlook.out);
    assert_eq!(operations(&mirror), "80 50 1");
    let done = mirror.moorage(&["tidy", "--older-than", "0s"]).expect(0, &[]);
    assert!(counts(&done.out), "{}", done.out);
    assert_eq!(operations(&mirror), "19 19 0");
    assert_eq!(now(&mirror), before);
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    mirror.source.run("UPDATE stays SET name = 'z' WHERE id IN (1, 8, 109); DELETE FROM stays WHERE id = 2; INSERT INTO stays VALUES (7, 'back')");
    mirror.catch_up();
    mirror.moorage(&["resnapshot", "stays"]).expect(0, &[]);
    mirror.catch_up();
    let before = now(&mirror);
    assert_eq!(operations(&mirror), "24 19 0", "and nothing was read again that was there");
    mirror.moorage(&["tidy", "--older-than", "0s"]).expect(0, &[]);
    assert_eq!((now(&mirror), operations(&mirror)), (before, "19 19 0".into()));
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// A run folds by itself, while changes come.
#[rstest]
fn a_run_folds_what_has_become_old(#[values("database", "file")] target: &str) {
    let mirror = mirror(&format!("tidies_{target}"), target, "tidy_after = \"1s\"");
    let mut run = mirror.follow();
    let load = mirror.load("INSERT INTO stays VALUES ((random() * 99)::int, md5(random()::text)) ON CONFLICT (id) DO UPDATE SET name = excluded.name");
    run.wait_for("rows removed");
    let removed = || run.log().matches("rows removed").count();
    wait_until("it is done again and again", || removed() > 2);
    drop(load);
    run.signal("INT");
    assert_eq!(run.end(), 0, "{}", run.log());
    mirror.catch_up();
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    let expected: String =
        mirror.source.value("SELECT string_agg(concat_ws(' ', id, name), '; ' ORDER BY id) FROM stays");
    assert_eq!(now(&mirror), expected);
}

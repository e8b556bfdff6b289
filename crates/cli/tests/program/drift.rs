//! Changes of structure that are followed, in their place among the rows, while the program runs and while it does not.

use crate::harness::Mirror;
use moorage_testkit::wait_until;
use rstest::rstest;

/// Kinds of changes, each with rows before, between and behind, on a table `(id int PRIMARY KEY, a int, b text)` of its own
/// whose name stands for `T`.
const FOLLOWED: [(&str, &str); 15] = [
    (
        "added_null",
        "UPDATE T SET a = 10 WHERE id = 1; ALTER TABLE T ADD c int; INSERT INTO T VALUES (4, 4, 'd', 44); UPDATE T SET c = 7 WHERE id = 2",
    ),
    (
        "added_default",
        "ALTER TABLE T ADD c numeric(8,2) DEFAULT 1.50; INSERT INTO T VALUES (4, 4, 'd', NULL); UPDATE T SET c = NULL WHERE id = 2; UPDATE T SET b = 'x' WHERE id = 3",
    ),
    ("added_now", "ALTER TABLE T ADD c timestamptz NOT NULL DEFAULT now(); INSERT INTO T (id) VALUES (4)"),
    (
        "added_default_set_later",
        "ALTER TABLE T ADD c int DEFAULT 5; ALTER TABLE T ALTER c SET DEFAULT 9; INSERT INTO T (id) VALUES (4)",
    ),
    ("added_no_rows_behind", "ALTER TABLE T ADD c text DEFAULT 'it''s \\ here'"),
    ("added_volatile", "ALTER TABLE T ADD c float8 DEFAULT random(); INSERT INTO T (id) VALUES (4)"),
    ("added_identity", "ALTER TABLE T ADD c int GENERATED ALWAYS AS IDENTITY; INSERT INTO T (id) VALUES (4)"),
    (
        "added_and_filled",
        "BEGIN; ALTER TABLE T ADD c int DEFAULT 1; INSERT INTO T VALUES (4, 4, 'd', 8); ALTER TABLE T ADD e int DEFAULT 2; INSERT INTO T VALUES (5, 5, 'e', 9, 9); COMMIT",
    ),
    (
        "added_in_a_savepoint",
        "BEGIN; INSERT INTO T VALUES (4); SAVEPOINT s; ALTER TABLE T ADD c int DEFAULT 1; INSERT INTO T VALUES (5); ROLLBACK TO s; INSERT INTO T VALUES (6); ALTER TABLE T ADD e int DEFAULT 3; INSERT INTO T VALUES (7); COMMIT",
    ),
    (
        "dropped",
        "UPDATE T SET b = 'z' WHERE id = 1; ALTER TABLE T DROP b; INSERT INTO T VALUES (4, 4); UPDATE T SET a = 0 WHERE id = 2",
    ),
    (
        "dropped_and_added",
        "ALTER TABLE T DROP b; ALTER TABLE T ADD c text DEFAULT 'n'; INSERT INTO T VALUES (4, 4, 'd')",
    ),
    (
        "widened",
        "ALTER TABLE T ADD n numeric(6,2) DEFAULT 1.25; INSERT INTO T VALUES (4, 4, 'd', 2); ALTER TABLE T ALTER n TYPE numeric(12,2); INSERT INTO T VALUES (5, 5, 'e', 123456789.25)",
    ),
    ("rewritten_wider", "ALTER TABLE T ALTER a TYPE bigint; INSERT INTO T VALUES (4, 1099511627776, 'd')"),
    ("same_type_using", "ALTER TABLE T ALTER a TYPE int USING a + 100; INSERT INTO T VALUES (4, 4, 'd')"),
    (
        "only_moved",
        "VACUUM FULL T; INSERT INTO T VALUES (4, 4, 'd'); ALTER TABLE T ALTER b SET NOT NULL; ALTER TABLE T ALTER a SET DEFAULT 3; UPDATE T SET a = 5 WHERE id = 1",
    ),
];

fn tables() -> String {
    let one = |(name, _): &(&str, &str)| {
        format!(
            "CREATE TABLE {name} (id int PRIMARY KEY, a int, b text); INSERT INTO {name} VALUES (1, 1, 'a'), (2, 2, 'b'), (3, 3, 'c');"
        )
    };
    FOLLOWED.iter().map(one).collect::<String>() + "CREATE TABLE done (id int PRIMARY KEY)"
}

fn changes() -> Vec<String> {
    let statements = |(name, changes): &(&str, &str)| {
        changes
            .replace("TABLE T", &format!("TABLE {name}"))
            .replace("INTO T", &format!("INTO {name}"))
            .replace("UPDATE T", &format!("UPDATE {name}"))
            .replace("FULL T", &format!("FULL {name}"))
    };
    FOLLOWED.iter().map(statements).collect()
}

#[rstest]
#[case::live(true)]
#[case::while_stopped(false)]
fn changes_of_structure_are_followed_in_order(#[case] live: bool) {
    let name = format!("followed_{}", u8::from(live));
    let mirror = Mirror::new(&name, &tables());
    mirror.catch_up();
    let mut running = live.then(|| mirror.start(&["run"]));
    if let Some(running) = &mut running {
        running.wait_for("following changes");
    }
    for changes in changes() {
        // One by one: VACUUM takes no company.
        changes.split("; ").for_each(|statement| mirror.source.run(statement));
    }
    mirror.source.run("INSERT INTO done VALUES (1)");
    if let Some(mut running) = running {
        let count = || mirror.target.value::<i64>("SELECT count(*) FROM mirror.done");
        wait_until("all of it is there", || count() == 1);
        running.signal("INT");
        assert_eq!(running.end(), 0, "{}", running.log());
        println!("{}", running.log());
    }
    println!("{}", mirror.catch_up().all());
    for (table, _) in FOLLOWED {
        mirror.assert_same(table);
    }
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

//! Changes that the target refuses: found, set aside, waited behind, retried, dropped; and differences adjusted.

use crate::harness::Mirror;
use rstest::rstest;

const BERTHS: &str = "CREATE TABLE berths (id int PRIMARY KEY, name text UNIQUE, length int);
    INSERT INTO berths SELECT i, 'berth ' || i, i FROM generate_series(1, 400) i";

fn with(name: &str, statements: &str, keys: &str) -> Mirror {
    let mirror = Mirror::new(name, statements);
    mirror.replace("merge_every", &format!("{keys}\nmerge_every"));
    mirror.catch_up();
    mirror
}

#[test]
fn values_swapped_between_rows_under_a_unique_index_are_applied() {
    let mirror = with("rej_swap", BERTHS, "");
    mirror.target.run("CREATE UNIQUE INDEX ON mirror.berths (name)");
    mirror.source.run("BEGIN; UPDATE berths SET name = 'x' WHERE id = 1; UPDATE berths SET name = 'berth 1' WHERE id = 2; UPDATE berths SET name = 'berth 2' WHERE id = 1;
        DELETE FROM berths WHERE id = 3; INSERT INTO berths VALUES (1003, 'berth 3', 0); COMMIT");
    mirror.assert_follows(&["berths"]);
    // Reading the table again meets the same.
    mirror.moorage(&["resnapshot", "public.berths"]).expect(0, &[]);
    mirror.source.run("BEGIN; UPDATE berths SET name = 'x' WHERE id = 4; UPDATE berths SET name = 'berth 4' WHERE id = 5; UPDATE berths SET name = 'berth 5' WHERE id = 4; COMMIT");
    mirror.assert_follows(&["berths"]);
}

#[test]
fn one_bad_row_among_many_is_set_aside_and_the_swap_beside_it_applied() {
    let mirror = with("rej_one", BERTHS, "on_reject = \"set_aside\"");
    mirror.target.run("CREATE UNIQUE INDEX ON mirror.berths (name); ALTER TABLE mirror.berths ADD CONSTRAINT short CHECK (length < 5000)");
    mirror.source.run("BEGIN; UPDATE berths SET length = length + 1; UPDATE berths SET length = 9999 WHERE id = 77;
        UPDATE berths SET name = 'x' WHERE id = 1; UPDATE berths SET name = 'berth 1' WHERE id = 2; UPDATE berths SET name = 'berth 2' WHERE id = 1;
        INSERT INTO berths SELECT i, 'more ' || i, CASE i WHEN 500 THEN 6000 ELSE 1 END FROM generate_series(450, 800) i; COMMIT");
    mirror
        .catch_up()
        .expect(0, &["3 changes of public.berths refused by the target and set aside: `moorage rejects`"]);
    let differing: i64 = mirror.target.value("SELECT count(*) FROM mirror.berths WHERE id IN (77, 500)");
    assert_eq!(differing, 1, "the row as it was, and no new one");
    mirror
        .moorage(&["rejects"])
        .expect(0, &["id = 77", "id = 500", "update", "insert", "violates check constraint \"short\""]);
    mirror.moorage(&["status"]).expect(0, &["public.berths: 3 changes are set aside"]);
    mirror.moorage(&["verify"]).expect(3, &["77", "500"]);
    mirror.moorage(&["rejects", "retry", "--all"]).expect(3, &["0 changes applied, 3 changes still refused"]);
    mirror.target.run("ALTER TABLE mirror.berths DROP CONSTRAINT short");
    mirror.moorage(&["rejects", "retry", "--all"]).expect(0, &["3 changes applied"]);
    mirror.assert_follows(&["berths"]);
    let unbalanced: i64 = mirror.target.value("SELECT count(*) FROM moorage_state.tables WHERE rejected <> 0 OR inserts + updates + deletes <> merged + reduced + dropped");
    assert_eq!(unbalanced, 0, "counters reconcile");
}

#[test]
fn later_changes_of_a_row_wait_behind_its_reject_and_are_applied_in_order() {
    let mirror = with("rej_order", BERTHS, "on_reject = \"set_aside\"");
    mirror.target.run("ALTER TABLE mirror.berths ADD CONSTRAINT named CHECK (name <> 'bad')");
    for change in [
        "UPDATE berths SET name = 'bad' WHERE id = 5",
        "UPDATE berths SET id = 5005 WHERE id = 5",
        "INSERT INTO berths VALUES (5, 'new', 1)",
        "DELETE FROM berths WHERE id = 6",
    ] {
        mirror.source.run(change);
        mirror.catch_up();
    }
    let all =
        "SELECT string_agg(id || ' ' || name, ', ' ORDER BY id) FROM mirror.berths WHERE id IN (5, 6, 5005)";
    assert_eq!(
        mirror.target.value::<String>(all),
        "5 berth 5",
        "nothing goes around the reject, and other rows go on"
    );
    let list =
        mirror.moorage(&["rejects", "public.berths", "--format", "json"]).expect(0, &["waits behind reject"]);
    let list: serde_json::Value = serde_json::from_str(&list.out).unwrap();
    let ids: Vec<i64> = list.as_array().unwrap().iter().map(|r| r["id"].as_i64().unwrap()).collect();
    assert_eq!(ids.len(), 3);
    mirror
        .moorage(&["rejects", "show", &ids[0].to_string()])
        .expect(0, &["update of public.berths (id = 5)", "violates check constraint", "bad"]);
    mirror
        .moorage(&["rejects", "drop", &ids[0].to_string()])
        .expect(3, &["1 change dropped, 2 changes still refused", "id = 5005"]);
    mirror.source.run("UPDATE berths SET name = 'good' WHERE id = 5005");
    mirror.catch_up();
    assert_eq!(mirror.target.value::<String>(all), "5 berth 5", "it waits too");
    mirror.moorage(&["rejects", "retry", &ids[2].to_string()]).expect(0, &["3 changes applied"]);
    mirror.assert_follows(&["berths"]);
    mirror.moorage(&["rejects"]).expect(0, &["nothing is set aside"]);
    mirror.moorage(&["rejects", "retry", "99"]).expect(1, &["has none of this number"]);
}

#[test]
fn without_a_word_a_refused_change_stops_the_pipeline_with_nothing_of_its_batch_applied() {
    let mirror = with("rej_stop", BERTHS, "");
    mirror.target.run("ALTER TABLE mirror.berths ADD CONSTRAINT short CHECK (length < 5000)");
    mirror.source.run(
        "BEGIN; UPDATE berths SET length = 9999 WHERE id = 77; DELETE FROM berths WHERE id = 78; COMMIT",
    );
    mirror.refuses(&[
        "public.berths: target table mirror.berths refuses the update of the row id = 77",
        "violates check constraint \"short\"",
        "on_reject = \"set_aside\"",
    ]);
    assert_eq!(mirror.target.value::<i64>("SELECT count(*) FROM mirror.berths WHERE id = 78"), 1);
    mirror.target.run("ALTER TABLE mirror.berths DROP CONSTRAINT short");
    mirror.assert_follows(&["berths"]);
}

#[test]
fn a_truncate_or_reading_again_ends_what_was_set_aside() {
    let mirror = with("rej_end", BERTHS, "on_reject = \"set_aside\"");
    mirror.target.run("ALTER TABLE mirror.berths ADD CONSTRAINT short CHECK (length < 5000)");
    mirror.source.run("UPDATE berths SET length = 9999 WHERE id = 77");
    mirror.catch_up();
    mirror.source.run("BEGIN; TRUNCATE berths; INSERT INTO berths VALUES (77, 'new', 1); COMMIT");
    mirror.assert_follows(&["berths"]);
    mirror.moorage(&["status"]).expect(0, &["1 set aside and given up"]);
    mirror.source.run("UPDATE berths SET length = 9999 WHERE id = 77");
    mirror.catch_up();
    mirror.source.run("UPDATE berths SET length = 1 WHERE id = 77");
    mirror.moorage(&["resnapshot", "public.berths"]).expect(0, &[]);
    mirror.assert_follows(&["berths"]);
    mirror.moorage(&["rejects"]).expect(0, &["nothing is set aside"]);
}

#[test]
fn foreign_keys_in_the_target_are_met_whatever_the_order_of_tables() {
    let mirror = Mirror::new("rej_fk", "CREATE TABLE invoices (id int PRIMARY KEY, total int); CREATE TABLE a_lines (id int PRIMARY KEY, invoice int REFERENCES invoices ON DELETE CASCADE, amount int);
        INSERT INTO invoices SELECT i, 0 FROM generate_series(1, 50) i; INSERT INTO a_lines SELECT i, i % 50 + 1, i FROM generate_series(1, 200) i");
    mirror.replace("merge_every", "on_reject = \"set_aside\"\nmerge_every");
    mirror.target.run("CREATE SCHEMA mirror; CREATE TABLE mirror.invoices (id int PRIMARY KEY, total int); CREATE TABLE mirror.a_lines (id int PRIMARY KEY, invoice int REFERENCES mirror.invoices ON DELETE CASCADE, amount int)");
    mirror.assert_follows(&["invoices", "a_lines"]);
    mirror.source.run("BEGIN; INSERT INTO invoices VALUES (100, 1); INSERT INTO a_lines VALUES (1000, 100, 1); DELETE FROM invoices WHERE id = 7;
        UPDATE a_lines SET invoice = 100 WHERE invoice = 8; DELETE FROM invoices WHERE id = 8; COMMIT");
    mirror.source.run("BEGIN; UPDATE invoices SET id = 200 WHERE id = 100 AND false; DELETE FROM a_lines WHERE invoice = 9; DELETE FROM invoices WHERE id = 9; COMMIT");
    mirror.assert_follows(&["invoices", "a_lines"]);
    mirror.moorage(&["rejects"]).expect(0, &["nothing is set aside"]);
    mirror.moorage(&["resnapshot", "--all"]).expect(0, &[]);
    mirror.assert_follows(&["invoices", "a_lines"]);
}

#[rstest]
#[case::refused("rej_mismatch", false)]
#[case::adjusted("rej_adjust", true)]
fn a_target_that_is_not_what_changes_assume_is_told_or_adjusted(#[case] name: &str, #[case] adjust: bool) {
    let mirror = with(name, BERTHS, "on_reject = \"set_aside\"");
    if adjust {
        mirror.add(&format!("[[pipelines.{name}.rule]]\nmatch = \"public.berths\"\nmismatch = \"adjust\""));
    }
    mirror.target.run("DELETE FROM mirror.berths WHERE id IN (1, 2, 3); INSERT INTO mirror.berths VALUES (900, 'theirs', 0)");
    mirror.source.run("UPDATE berths SET length = 7777 WHERE id IN (1, 4); DELETE FROM berths WHERE id IN (2, 5); INSERT INTO berths VALUES (900, 'ours', 1), (901, 'x', 1)");
    mirror.catch_up();
    if adjust {
        mirror.moorage(&["status"]).expect(0, &["1 updates of missing rows became inserts, 1 inserts of present rows became updates, 1 deletes of missing rows did nothing"]);
        mirror.moorage(&["verify"]).expect(3, &["3"]);
        assert_eq!(mirror.target.value::<String>("SELECT string_agg(id || ' ' || name || ' ' || length, ', ' ORDER BY id) FROM mirror.berths WHERE id IN (1, 900)"), "1 berth 1 7777, 900 ours 1");
    } else {
        mirror.moorage(&["rejects"]).expect(
            0,
            &[
                "id = 1",
                "id = 2",
                "id = 900",
                "the row to be updated is not in the target",
                "the row to be deleted is not in the target",
                "duplicate key value",
            ],
        );
        assert_eq!(mirror.target.value::<i64>("SELECT count(*) FROM moorage_state.rejects"), 3);
        assert_eq!(
            mirror
                .target
                .value::<i64>("SELECT count(*) FROM mirror.berths WHERE id IN (901) OR length = 7777"),
            2,
            "the others are applied"
        );
    }
}

/// B.11: a change of a filtered table that was refused is retried like any other.
#[test]
fn rejects_of_a_filtered_table_are_retried() {
    let mirror = Mirror::new(
        "rej_filtered",
        "CREATE TABLE stays (id int PRIMARY KEY, state int, note text); INSERT INTO stays SELECT i, 1 - i % 2, 'n' FROM generate_series(1, 20) i",
    );
    mirror.replace("merge_every", "on_reject = \"set_aside\"\nmerge_every");
    mirror.add("[[pipelines.rej_filtered.rule]]\nmatch = \"public.stays\"\nwhere = \"state = 1\"");
    mirror.catch_up();
    mirror.target.run("ALTER TABLE mirror.stays ADD CONSTRAINT polite CHECK (note <> 'rude')");
    mirror.source.run("UPDATE stays SET note = 'rude', state = 1 WHERE id IN (2, 3); UPDATE stays SET note = 'rude', state = 0 WHERE id = 4; INSERT INTO stays VALUES (30, 1, 'rude'), (31, 0, 'rude')");
    mirror.catch_up();
    mirror.moorage(&["rejects"]).expect(0, &["id = 2", "id = 3", "id = 30"]);
    mirror.target.run("ALTER TABLE mirror.stays DROP CONSTRAINT polite");
    mirror.moorage(&["rejects", "retry", "--all"]).expect(0, &["3 changes applied"]);
    mirror.catch_up();
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    let rows: String = mirror
        .target
        .value("SELECT string_agg(id::text, ',' ORDER BY id) FROM mirror.stays WHERE note = 'rude'");
    assert_eq!(rows, "2,3,30");
    let unbalanced: i64 = mirror.target.value("SELECT count(*) FROM moorage_state.tables WHERE rejected <> 0 OR inserts + updates + deletes + truncates <> merged + reduced + filtered + dropped");
    assert_eq!(unbalanced, 0, "counters reconcile");
}

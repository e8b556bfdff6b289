//! Rows on their way: chosen, converted, added to, filtered; the same by snapshot, by changes and in `verify`.

use crate::harness::{Folder, Project, Quay};

const STAYS: &str = "CREATE TABLE stays (id INTEGER PRIMARY KEY, berth TEXT, nights INT, state TEXT, fee DECIMAL(8,2));
    INSERT INTO stays VALUES (1, 'A1', 3, 'booked', 10.5), (2, 'B2', 1, 'cancelled', 3), (3, 'A2', 9, 'departed', 99.99)";

const RULE: &str = r#"
[[pipelines.quayside.rule]]
match = "stays"
only = ["id", "berth", "fee"]
rename = { fee = "fee_text" }
cast = { fee = "text" }
where = "state <> 'cancelled' AND nights > 1"
add.pier = { expression = "substring(berth from 1 for 1)" }
add.weekly = { expression = "nights >= 7" }
add.origin = { from = "source" }
add.moorage_position = { from = "position" }
"#;

fn mapped(folder: &Folder, table: &str) -> Vec<String> {
    let db = folder.warehouse();
    let sql =
        format!("SELECT concat_ws(' ', id, berth, fee_text, pier, weekly, origin) FROM {table} ORDER BY id");
    let mut query = db.prepare(&sql).unwrap();
    query.query_map([], |r| r.get(0)).unwrap().map(Result::unwrap).collect()
}

#[test]
fn a_row_that_moves_in_or_out_of_the_filter_comes_and_goes() {
    let quay = Quay::new(STAYS);
    quay.add(RULE);
    quay.catch_up();
    let first = ["1 A1 10.5 A 0 harbour", "3 A2 99.99 A 1 harbour"];
    assert_eq!(mapped(&quay, "stays"), first);
    // In, out, outside all the time, in and out at once, a new key, a new value.
    quay.change(
        "UPDATE stays SET nights = 2, state = 'booked' WHERE id = 2; UPDATE stays SET state = 'cancelled' WHERE id = 1;
         INSERT INTO stays VALUES (4, 'C1', 1, 'booked', 1), (5, 'C2', 5, 'booked', 2), (6, 'C3', 5, 'booked', 2), (7, 'C4', 5, 'cancelled', 2);
         UPDATE stays SET berth = 'C9' WHERE id = 4; DELETE FROM stays WHERE id IN (4, 5);
         UPDATE stays SET id = 30 WHERE id = 3; UPDATE stays SET nights = 8 WHERE id = 6",
    );
    quay.catch_up();
    let now = ["2 B2 3 B 0 harbour", "6 C3 2 C 1 harbour", "30 A2 99.99 A 1 harbour"];
    assert_eq!(mapped(&quay, "stays"), now);
    quay.moorage(&["verify"]).expect(0, &["both sides agree"]);
    quay.moorage(&["verify", "--counts-only"]).expect(0, &[]);
    assert_eq!(
        quay.value::<i64>("SELECT count(*) FROM stays WHERE moorage_position IS NULL"),
        0,
        "all changed"
    );
    let sql = "SELECT inserts + updates + deletes - merged - reduced - filtered FROM moorage_tables";
    assert_eq!(quay.value::<i64>(sql), 0, "counters reconcile");
    assert!(quay.value::<i64>("SELECT filtered FROM moorage_tables") >= 1);
    quay.tamper("UPDATE stays SET pier = 'X' WHERE id = 6; DELETE FROM stays WHERE id = 30");
    quay.moorage(&["verify"]).expect(3, &["pier", "30"]);
    quay.moorage(&["row", "stays", "1"]).expect(0, &["filter"]);
    quay.moorage(&["resnapshot", "main.stays"]).expect(0, &[]);
    quay.catch_up();
    assert_eq!(mapped(&quay, "stays"), now);
}

#[test]
fn the_log_alone_is_enough_for_a_filter_even_if_it_does_not_say_how_rows_were() {
    let project = Project::new("mapping_by_log");
    project.session.run(&STAYS.replace("INTEGER PRIMARY", "int PRIMARY").replace("INT,", "int,"));
    let rule = RULE.replace("quayside", "mapping_by_log").replace("state <> 'cancelled' AND ", "");
    project.add(&rule.replace("substring(berth from 1 for 1)", "'B'"));
    let warning = "may come without berth";
    project.moorage(&["plan"]).expect(0, &[warning, "REPLICA IDENTITY FULL"]);
    project.moorage(&["check"]).expect(0, &[warning]);
    project.catch_up();
    project.session.run(
        "BEGIN; UPDATE stays SET nights = 1 WHERE id = 1; UPDATE stays SET nights = 4 WHERE id = 1; UPDATE stays SET nights = 1 WHERE id = 3; COMMIT;
         UPDATE stays SET nights = 7 WHERE id = 2; UPDATE stays SET id = 20 WHERE id = 2; INSERT INTO stays VALUES (5, 'C2', 1, 'x', 2); DELETE FROM stays WHERE id = 5",
    );
    project.catch_up();
    assert_eq!(mapped(&project, "stays"), ["1 A1 10.50 B 0 harbour", "20 B2 3.00 B 1 harbour"]);
    project.moorage(&["verify"]).expect(0, &["both sides agree"]);
    // A filter over what the log may leave out is refused before the first row, with the way out.
    project.replace("nights > 1", "state <> 'cancelled' AND nights > 1");
    project
        .moorage(&["plan"])
        .expect(3, &["where reads column state", "ALTER TABLE \"public\".\"stays\" REPLICA IDENTITY FULL"]);
    project.session.run("ALTER TABLE \"public\".\"stays\" REPLICA IDENTITY FULL");
    assert!(!project.moorage(&["check"]).out.contains(warning), "mended");
    // The table was read by another rule, and what the log said of its rows was not enough for this one: the plan says what to
    // do, and that works.
    let told = [
        "it was read when the project file",
        "where reads column state",
        "`moorage resnapshot public.stays`",
    ];
    project.moorage(&["plan"]).expect(3, &told);
    project.moorage(&["check"]).expect(3, &told);
    project.refuses(&["where reads column state", "resnapshot public.stays"]);
    project.moorage(&["resnapshot", "public.stays"]).expect(0, &[]);
    project.moorage(&["plan"]).expect(0, &["a run reads it again from empty"]);
    project.catch_up();
    project.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

#[test]
fn a_value_that_does_not_fit_stops_the_run_with_its_row_and_nothing_is_lost() {
    let quay = Quay::new(
        "CREATE TABLE berths (id INTEGER PRIMARY KEY, depth TEXT); INSERT INTO berths VALUES (1, '3.5'), (2, 'deep')",
    );
    quay.add("[[pipelines.quayside.rule]]\nmatch = \"main.berths\"\ncast = { depth = \"decimal(5,1)\" }");
    quay.refuses(&[
        "main.berths",
        "column depth: \"deep\" does not fit decimal(5,1) (row id = 2)",
        "misfit = \"null\"",
    ]);
    quay.replace("\"decimal(5,1)\"", "{ to = \"decimal(5,1)\", misfit = \"null\" }");
    quay.moorage(&["plan"]).expect(0, &["a value that does not fit decimal(5,1) becomes null"]);
    quay.catch_up();
    assert_eq!(quay.value::<String>("SELECT group_concat(coalesce(depth, 'null')) FROM berths"), "3.5,null");
    quay.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// What is advised for an expression can be done to an expression, and mends it.
#[rstest::rstest]
#[case("add = { d = { expression = \"100 % id\" } }", "100 % id", "100 % (id + 1)", "Change the expression")]
#[case(
    "add = { d = { expression = \"100 % id\" } }",
    "add = {",
    "where = \"id <> 0\"\nadd = {",
    "leave such rows out"
)]
#[case("where = \"100 % id = 0\"", "100 % id", "0", "Change the `where`")]
fn an_expression_that_fails_for_a_row_is_mended_as_advised(
    #[case] rule: &str,
    #[case] from: &str,
    #[case] to: &str,
    #[case] advice: &str,
) {
    let quay =
        Quay::new("CREATE TABLE berths (id INTEGER PRIMARY KEY); INSERT INTO berths VALUES (1), (0), (10)");
    quay.add(&format!("[[pipelines.quayside.rule]]\nmatch = \"main.berths\"\n{rule}"));
    let refused = quay.refuses(&["(row id = 0)", advice, "`moorage resnapshot main.berths`"]);
    assert!(!refused.all().contains("misfit"), "{}", refused.all());
    quay.replace(from, to);
    quay.moorage(&["resnapshot", "main.berths"]).expect(0, &[]);
    quay.catch_up();
    quay.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

#[test]
fn preview_shows_rows_as_the_target_will_hold_them_or_as_they_are() {
    let quay = Quay::new(STAYS);
    quay.add(RULE);
    quay.moorage(&["preview", "stays"]).expect(0, &["fee_text", "pier", "99.99"]);
    let there =
        quay.moorage(&["preview", "stays", "--source", "--rows", "2"]).expect(0, &["nights", "cancelled"]);
    assert!(!there.out.contains("pier") && !there.out.contains("99.99"), "{}", there.out);
}

/// An expression that is none is a mistake in the project file, in every command, before anything is touched.
#[rstest::rstest]
#[case("where = \"n >\"", 16, "`where` cannot be read")]
#[case("add = { x = { expression = \"n +\" } }", 16, "column x of `add` cannot be read")]
#[case("keep = \"everything\"", 13, "unknown value `everything`")]
fn what_cannot_be_read_is_a_mistake_in_the_project_file(
    #[case] line: &str,
    #[case] number: usize,
    #[case] words: &str,
) {
    let quay =
        Quay::new("CREATE TABLE berths (id INTEGER PRIMARY KEY, n INT); INSERT INTO berths VALUES (1, 1)");
    if line.starts_with("keep") {
        quay.replace("merge_every", &format!("{line}\nmerge_every"));
    } else {
        quay.add(&format!("[[pipelines.quayside.rule]]\nmatch = \"main.berths\"\n{line}"));
    }
    let place = format!("moorage.toml:{number}:");
    for command in [
        &["run", "--until", "caught-up"][..],
        &["plan"],
        &["check"],
        &["tables"],
        &["status"],
        &["verify"],
        &["teardown"],
    ] {
        quay.moorage(command).expect(2, &[words, &place]);
    }
    assert!(!quay.path("warehouse.db").exists());
}

/// A.10: a picked table that is left out is said, and a run that ends by itself does not end as if all were well.
#[test]
fn a_picked_table_that_is_left_out_is_a_warning_and_no_success() {
    let quay = Quay::new(
        "CREATE TABLE berths (id INTEGER PRIMARY KEY, n INT); CREATE TABLE odd (x); INSERT INTO berths VALUES (1, 1)",
    );
    quay.moorage(&["run", "--snapshot-only"]).expect(3, &["warning: main.odd is left out", "copied"]);
    quay.moorage(&["run", "--until", "caught-up"]).expect(3, &["warning: main.odd is left out", "caught up"]);
    quay.moorage(&["-q", "run", "--until", "caught-up"]).expect(3, &["warning: main.odd is left out"]);
    quay.replace("merge_every", "exclude = [\"main.odd\"]\nmerge_every");
    quay.catch_up();
    quay.add("[[pipelines.quayside.rule]]\nmatch = \"main.berths\"\nwhere = \"no_such_column > 1\"");
    quay.refuses(&["main.berths", "no_such_column"]);
}

/// A.8: zeros of both signs are equal, and not the same row.
#[test]
fn zeros_of_both_signs_are_told_apart_without_a_key() {
    let project = crate::harness::Project::new("zeros");
    project.session.run("CREATE TABLE log (f float8, n int); ALTER TABLE log REPLICA IDENTITY FULL; INSERT INTO log VALUES ('-0', 1), (0, 1), (0, 1), ('NaN', 1), (NULL, 1)");
    project.catch_up();
    project.session.run("DELETE FROM log WHERE f::text = '0' AND ctid = (SELECT max(ctid) FROM log WHERE f::text = '0'); UPDATE log SET n = 2 WHERE f::text = '-0'; DELETE FROM log WHERE f = 'NaN'");
    project.catch_up();
    project.assert_same("log", "log");
}

/// B.12: a row moves into the filter with a large value that did not change: the old row has it.
#[test]
fn a_row_moves_into_the_filter_with_its_large_value() {
    let project = crate::harness::Project::new("large_into_filter");
    project.session.run("CREATE TABLE stays (id int PRIMARY KEY, state text, note text); ALTER TABLE stays ALTER note SET STORAGE EXTERNAL; ALTER TABLE stays REPLICA IDENTITY FULL;
        INSERT INTO stays SELECT i, 'gone', repeat(md5(i::text), 400) FROM generate_series(1, 5) i");
    project
        .add("[[pipelines.large_into_filter.rule]]\nmatch = \"public.stays\"\nwhere = \"state = 'booked'\"");
    project.catch_up();
    project.session.run("UPDATE stays SET state = 'booked' WHERE id < 4; UPDATE stays SET state = 'gone' WHERE id = 2; UPDATE stays SET state = 'booked' WHERE id = 2; UPDATE stays SET id = 9 WHERE id = 3");
    project.catch_up();
    project.moorage(&["verify"]).expect(0, &["both sides agree"]);
    assert_eq!(
        project.value::<String>(
            "SELECT group_concat(id || ':' || length(note)) FROM (SELECT * FROM stays ORDER BY id)"
        ),
        "1:12800,2:12800,9:12800"
    );
}

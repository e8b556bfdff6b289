//! Changes of structure that are followed, in their place among the rows, while the program runs and while it does not.

use crate::harness::{Folder, Mirror, Project};
use moorage_testkit::{Session, wait_until};
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

/// Carries all kinds into a target, live or while nothing runs, with what tells when the last of it is there.
fn follow_all(folder: &Folder, source: &Session, live: bool, is_there: impl Fn() -> bool) {
    folder.catch_up();
    let mut running = live.then(|| folder.start(&["run"]));
    if let Some(running) = &mut running {
        running.wait_for("following changes");
    }
    for changes in changes() {
        // One by one: VACUUM takes no company.
        changes.split("; ").for_each(|statement| source.run(statement));
    }
    source.run("INSERT INTO done VALUES (1)");
    if let Some(mut running) = running {
        wait_until("all of it is there", is_there);
        running.signal("INT");
        assert_eq!(running.end(), 0, "{}", running.log());
    }
    folder.catch_up();
}

#[rstest]
#[case::live(true)]
#[case::while_stopped(false)]
fn changes_of_structure_are_followed_in_order(#[case] live: bool) {
    let name = format!("followed_{}", u8::from(live));
    let mirror = Mirror::new(&name, &tables());
    let count = || mirror.target.value::<i64>("SELECT count(*) FROM mirror.done");
    follow_all(&mirror, &mirror.source, live, || count() == 1);
    for (table, _) in FOLLOWED {
        mirror.assert_same(table);
    }
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

#[rstest]
#[case::live(true)]
#[case::while_stopped(false)]
fn changes_of_structure_are_followed_into_a_file(#[case] live: bool) {
    let project = Project::new(&format!("followed_file_{}", u8::from(live)));
    project.session.run(&tables());
    follow_all(&project, &project.session, live, || project.value::<i64>("SELECT count(*) FROM done") == 1);
    for (table, _) in FOLLOWED.iter().filter(|(table, _)| !table.starts_with("dropped")) {
        project.assert_same(table, table);
    }
    // What was dropped stays as it was.
    assert_eq!(project.value::<i64>("SELECT count(*) FROM dropped WHERE b = 'z' OR b IS NULL"), 2);
    project.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

const ALL_STOP: &str = "column_added = \"stop\"\ncolumn_dropped = \"stop\"\ncolumn_renamed = \"stop\"\ntype_widened = \"stop\"\ntype_changed = \"stop\"";

#[rstest]
#[case::added("stop_added", "ALTER TABLE t ADD b text DEFAULT 'new'", "column b was added")]
#[case::dropped("stop_dropped", "ALTER TABLE t DROP a", "column a was dropped")]
#[case::renamed("stop_renamed", "ALTER TABLE t RENAME a TO z", "column a is called z now")]
#[case::retyped(
    "stop_retyped",
    "ALTER TABLE t ALTER a TYPE varchar(40)",
    "column a is of type character varying(40)"
)]
fn a_change_of_structure_stops_in_order_where_the_file_says_so(
    #[case] name: &str,
    #[case] change: &str,
    #[case] words: &str,
) {
    let project = Project::new(name);
    project.add(&format!("[pipelines.{name}.drift]\n{ALL_STOP}"));
    project.session.run("CREATE TABLE t (id int PRIMARY KEY, a text); CREATE TABLE u (id int PRIMARY KEY); INSERT INTO t VALUES (1, 'a'), (2, 'b')");
    project.catch_up();
    let mut running = project.start(&["run"]);
    running.wait_for("following changes");
    project.session.run(&format!(
        "INSERT INTO u VALUES (1); {change}; INSERT INTO t (id) VALUES (3); INSERT INTO u VALUES (2)"
    ));
    assert_eq!(running.end(), 1);
    assert!(
        running.log().contains(words) && running.log().contains("resnapshot public.t"),
        "{}",
        running.log()
    );
    assert_eq!(project.value::<i64>("SELECT count(*) FROM t"), 2, "nothing behind the change was applied");
    project.refuses(&["public.t: column"]);
    // Programs are told which table, beside the words.
    let refused = project.moorage(&["run", "--format", "json"]).expect(1, &[]);
    assert!(
        refused.err.contains("{\"code\":\"drift\",\"pipeline\":null,\"object\":\"table public.t\""),
        "{}",
        refused.err
    );
    project.moorage(&["resnapshot", "public.t"]).expect(0, &[]);
    project.catch_up();
    project.assert_same("t", "t");
    project.assert_same("u", "u");
}

/// What the project file says is checked where it stands.
#[rstest]
#[case::kind("column_add = \"follow\"", &["no kind of drift `column_add`", "column_added"])]
#[case::policy("column_renamed = \"folow\"", &["`folow` cannot be done about column_renamed", "`follow`"])]
#[case::not_for_this("type_changed = \"leave\"", &["`leave` cannot be done about type_changed", "`hold` or `reread` or `stop`"])]
fn policies_that_cannot_be_meant_are_named(#[case] line: &str, #[case] words: &[&str]) {
    let mirror = crate::harness::Quay::new("CREATE TABLE t (id INTEGER PRIMARY KEY)");
    mirror.add(&format!("[pipelines.quayside.drift]\n{line}"));
    mirror.moorage(&["plan"]).expect(2, words);
}

/// Between a change of structure and the run that follows it, both sides are told apart from rows that differ.
#[test]
fn a_change_that_the_target_has_not_come_to_is_no_difference_of_rows() {
    let mirror = Mirror::new(
        "not_there_yet",
        "CREATE TABLE t (id int PRIMARY KEY, a int); INSERT INTO t VALUES (1, 1)",
    );
    mirror.catch_up();
    mirror.source.run("ALTER TABLE t DROP a; INSERT INTO t VALUES (2)");
    mirror
        .moorage(&["verify"])
        .expect(3, &["public.t", "column a is not there any more", "the target has not come there yet"]);
    let row = ["row", "public.t", "1"];
    let words = ["column a was dropped; the target has not come there yet: `moorage run` does"];
    mirror.moorage(&row).expect(3, &words);
    mirror.catch_up();
    mirror.moorage(&row).expect(0, &["both sides agree"]);
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// The server keeps a table that is listed from being unlogged; of one that is published with all others it does not.
#[test]
fn a_table_that_is_unlogged_for_a_while_is_read_again() {
    let mirror = Mirror::new(
        "unlogged",
        "CREATE TABLE t (id int PRIMARY KEY, a int); INSERT INTO t VALUES (1, 1); CREATE TABLE u (id int PRIMARY KEY); CREATE PUBLICATION all_of_it FOR ALL TABLES",
    );
    mirror.add("publication = \"all_of_it\"");
    mirror.catch_up();
    mirror.source.run("TRUNCATE t; INSERT INTO t VALUES (2, 2)");
    let log = mirror.catch_up().all();
    assert!(!log.contains("read again"), "a truncated table is followed: {log}");
    mirror.source.run("ALTER TABLE t SET UNLOGGED; INSERT INTO t VALUES (3, 3); ALTER TABLE t SET LOGGED; INSERT INTO t VALUES (4, 4)");
    mirror.catch_up().expect(0, &["may not have been logged for a while", "read again"]);
    mirror.assert_same("t");
    mirror.source.run("ALTER TABLE t SET UNLOGGED; INSERT INTO t VALUES (5, 5); INSERT INTO u VALUES (1)");
    mirror.catch_up().expect(0, &["unlogged", "held"]);
    assert_eq!(mirror.target.value::<i64>("SELECT count(*) FROM mirror.u"), 1, "the others go on");
    mirror.moorage(&["drift"]).expect(3, &["unlogged", "held"]);
    mirror.moorage(&["drift", "follow", "2"]);
    mirror.catch_up().expect(0, &["cannot be carried"]);
    mirror.source.run("INSERT INTO t VALUES (6, 6); ALTER TABLE t SET LOGGED; INSERT INTO t VALUES (7, 7)");
    mirror.catch_up();
    mirror.moorage(&["drift", "reread", "2"]).expect(0, &["the next run does it"]);
    mirror.catch_up();
    mirror.assert_same("t");
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    mirror.moorage(&["drift"]).expect(0, &[]);
}

/// What becomes of the target of a table that is dropped is said in the file, and all that became of whole tables is listed.
#[rstest]
#[case::while_running(true)]
#[case::while_stopped(false)]
fn whole_tables_that_come_and_go_are_followed_and_listed(#[case] live: bool) {
    let mirror = Mirror::new(
        &format!("whole_{}", u8::from(live)),
        "CREATE TABLE t (id int PRIMARY KEY); INSERT INTO t VALUES (1); CREATE TABLE u (id int PRIMARY KEY); CREATE TABLE v (id int PRIMARY KEY); INSERT INTO v VALUES (1)",
    );
    let name = mirror.source.value::<String>("SELECT current_database()::text");
    mirror.add(&format!("[pipelines.{name}.drift]\ntable_dropped = \"follow\""));
    mirror.catch_up();
    let mut run = live.then(|| mirror.start(&["run"]));
    if let Some(run) = &mut run {
        run.wait_for("following changes");
    }
    mirror.source.run("INSERT INTO u VALUES (1); DROP TABLE t; DROP TABLE v; CREATE TABLE v (id int PRIMARY KEY, a int); INSERT INTO v VALUES (2, 2)");
    mirror
        .source
        .run("CREATE TABLE w (id int PRIMARY KEY); INSERT INTO w VALUES (3); INSERT INTO u VALUES (2)");
    if let Some(mut run) = run {
        let all = "SELECT to_regclass('mirror.t') IS NULL AND to_regclass('mirror.w') IS NOT NULL";
        wait_until("it is gone, and another one is there", || mirror.target.value::<bool>(all));
        run.signal("INT");
        assert_eq!(run.end(), 0, "{}", run.log());
    }
    mirror.catch_up();
    ["u", "v", "w"].iter().for_each(|table| mirror.assert_same(table));
    assert!(mirror.target.value::<bool>("SELECT to_regclass('mirror.t') IS NULL"));
    let seen = mirror.moorage(&["drift", "--format", "json"]).expect(0, &[]);
    for kind in ["table_dropped", "table_made_again", "table_added"] {
        assert_eq!(seen.out.matches(kind).count(), 1, "{kind}: {}", seen.out);
    }
    mirror.moorage(&["drift", "show", "1"]).expect(0, &["public."]);
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

#[test]
fn a_table_that_is_dropped_stops_the_pipeline_where_the_file_says_so() {
    let mirror =
        Mirror::new("drop_stops", "CREATE TABLE t (id int PRIMARY KEY); CREATE TABLE u (id int PRIMARY KEY)");
    mirror.add("[pipelines.drop_stops.drift]\ntable_dropped = \"stop\"");
    mirror.catch_up();
    mirror.source.run("DROP TABLE t; INSERT INTO u VALUES (1)");
    mirror.refuses(&["public.t", "it is not in the source any more"]);
    assert!(mirror.target.value::<bool>("SELECT to_regclass('mirror.t') IS NOT NULL"));
    mirror.replace("\"stop\"", "\"leave\"");
    mirror.catch_up();
    mirror.assert_same("u");
}

/// What cannot be told apart by looks is told by the trigger that an administrator may make: nothing is read again for it.
#[test]
fn an_event_trigger_tells_what_looks_cannot() {
    let mirror = Mirror::new(
        "event_trigger",
        "CREATE TABLE t (id int PRIMARY KEY, a int, b int); INSERT INTO t VALUES (1, 1, 1), (2, 2, 2); CREATE TABLE u (id int PRIMARY KEY)
           PARTITION BY RANGE (id); CREATE TABLE u_1 PARTITION OF u FOR VALUES FROM (0) TO (100); INSERT INTO u VALUES (1); CREATE TYPE mark AS (a int)",
    );
    mirror.add("[pipelines.event_trigger.drift]\ncolumn_renamed = \"follow\"\ncolumn_dropped = \"follow\"");
    let sql = |more: &[&str]| {
        let part = [&["check", "--sql", "source", "--part", "event-trigger"], more].concat();
        mirror.moorage(&part).expect(0, &["superuser"]).out
    };
    mirror.moorage(&["check", "--sql", "source"]).expect(0, &["--part event-trigger"]);
    mirror.moorage(&["check"]).expect(0, &["told by looking at the catalogue"]);
    mirror.source.run(&sql(&[]));
    mirror.source.run(&sql(&[]));
    mirror.moorage(&["check"]).expect(0, &["an event trigger tells"]);
    mirror.catch_up();
    // In one look, as nothing runs: which rows are of which column, only the trigger tells. So of undone ones.
    mirror.source.run(
        "BEGIN; UPDATE t SET b = 5 WHERE id = 1; ALTER TABLE t DROP b; ALTER TABLE t ADD b int DEFAULT 7; UPDATE t SET b = NULL WHERE id = 2; COMMIT;
         INSERT INTO t VALUES (3, 3, 3); ALTER TABLE t RENAME b TO c; ALTER TABLE t RENAME a TO b; ALTER TABLE t RENAME c TO a; INSERT INTO t VALUES (4, 4, 5);
         BEGIN; SAVEPOINT s; ALTER TABLE t DROP a; INSERT INTO t VALUES (8, 8); ROLLBACK TO s; INSERT INTO t VALUES (5, 5, 6); COMMIT;
         SET session_replication_role = replica; ALTER TABLE t ADD m mark; RESET session_replication_role; INSERT INTO t VALUES (6, 6, 6, '(1)');
         DO $$ BEGIN ALTER TABLE t DROP a; EXECUTE 'ALTER TABLE t ADD a int DEFAULT 9'; END $$; INSERT INTO t VALUES (7, 7, NULL, 7);
         DROP TYPE mark CASCADE; ALTER TABLE t ADD m int DEFAULT 1; INSERT INTO t VALUES (9, 9, 9, NULL);
         ALTER TABLE u ADD n int DEFAULT 4; INSERT INTO u VALUES (2, NULL)",
    );
    let log = mirror.catch_up().all();
    assert!(!log.contains("read again"), "{log}");
    mirror.assert_same("t");
    let rows = |of: &str| format!("SELECT string_agg(concat_ws(' ', id, n), '; ' ORDER BY id) FROM {of}");
    let expected: String = mirror.source.value(&rows("u"));
    assert_eq!(mirror.target.value::<String>(&rows("mirror.u WHERE moorage_from = 'public.u_1'")), expected);
    mirror.source.run("VACUUM FULL t");
    mirror.source.run("INSERT INTO t VALUES (12, 12, 12, 12)");
    assert!(!mirror.catch_up().all().contains("read again"), "rows were only moved");
    mirror.assert_same("t");
    mirror.source.run("ALTER TABLE t ALTER b TYPE bigint USING b * 2; INSERT INTO t VALUES (10, 10, 10, 10)");
    mirror.catch_up().expect(0, &["rows were written anew with column b", "read again"]);
    mirror.assert_same("t");
    // Someone else's words are held against the log and the catalogue.
    mirror.source.run(
        "SELECT pg_logical_emit_message(true, 'moorage structure', format('[1,%s,%s,false,[9,[[1,\"id\",23,-1,\"integer\",true,false,\"0:0\",null,[23,-1]],[2,\"b\",25,-1,\"text\",false,false,\"0:0\",null,[25,-1]]]]]', 't'::regclass::oid::bigint, pg_relation_filenode('t')));
         SELECT pg_logical_emit_message(true, 'moorage structure', '{\"broken\"'); INSERT INTO t VALUES (11, 11, 11, 11); UPDATE t SET m = 3 WHERE id = 1",
    );
    mirror.catch_up();
    mirror.catch_up();
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    mirror.source.run(&sql(&["--undo"]));
    mirror.moorage(&["check"]).expect(0, &["told by looking at the catalogue"]);
}

/// While the program looks at the catalogue again and again, what the trigger told is not taken back by a look that is older.
#[test]
fn what_an_event_trigger_tells_beside_looks_stands() {
    let mirror = Mirror::new(
        "told_beside",
        "CREATE TABLE t (id int PRIMARY KEY); CREATE TABLE done (id int PRIMARY KEY)",
    );
    let sql = mirror.moorage(&["check", "--sql", "source", "--part", "event-trigger"]).expect(0, &[]).out;
    mirror.source.run(&sql);
    mirror.catch_up();
    let mut running = mirror.start(&["run"]);
    running.wait_for("following changes");
    for n in 1..60 {
        mirror.source.run(&format!(
            "ALTER TABLE t ADD c{n} int DEFAULT 5; INSERT INTO t (id, c{n}) VALUES ({n}, NULL)"
        ));
        mirror.source.run(&format!("ALTER TABLE t ADD d{n} int DEFAULT 4"));
    }
    mirror.source.run("INSERT INTO done VALUES (1)");
    wait_until("all of it is there", || mirror.target.value::<i64>("SELECT count(*) FROM mirror.done") == 1);
    running.signal("INT");
    assert_eq!(running.end(), 0, "{}", running.log());
    let log = running.log();
    assert!(!log.contains("read again") && !log.contains("was dropped"), "{log}");
    mirror.assert_same("t");
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// Names that are swapped are names: each table keeps its rows.
#[rstest]
#[case::by_the_log("log")]
#[case::by_triggers("trigger")]
fn tables_that_swap_their_names_keep_their_targets(#[case] capture: &str) {
    let mirror = Mirror::new(
        &format!("swapped_{capture}"),
        "CREATE TABLE t (id int PRIMARY KEY, a int); CREATE TABLE u (id int PRIMARY KEY, a int); INSERT INTO t VALUES (1, 1); INSERT INTO u VALUES (1, 2)",
    );
    mirror.replace("[sources.harbour]", &format!("[sources.harbour]\ncapture = \"{capture}\""));
    mirror.catch_up();
    mirror.source.run("INSERT INTO t VALUES (2, 1); BEGIN; ALTER TABLE t RENAME TO x; ALTER TABLE u RENAME TO t; ALTER TABLE x RENAME TO u; COMMIT; INSERT INTO t VALUES (3, 2); UPDATE u SET a = 5 WHERE id = 1");
    mirror.catch_up();
    mirror.source.run("INSERT INTO t VALUES (4, 2); INSERT INTO u VALUES (4, 1)");
    mirror.catch_up();
    let rows = |of: &Session, table: &str| {
        of.value::<String>(&format!("SELECT string_agg(t::text, ' ' ORDER BY id) FROM {table} t"))
    };
    assert_eq!(rows(&mirror.target, "mirror.t"), rows(&mirror.source, "u"));
    assert_eq!(rows(&mirror.target, "mirror.u"), rows(&mirror.source, "t"));
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// What people made on a target table is not lost over a key that is another one: its table waits, and the others go on.
#[rstest]
#[case::database(false)]
#[case::file(true)]
fn a_view_in_the_way_of_reading_again_leaves_its_table_out_and_the_others_go_on(#[case] file: bool) {
    let name = format!("view_key_{}", u8::from(file));
    let mirror = Mirror::new(
        &name,
        "CREATE TABLE t (id int PRIMARY KEY, a int NOT NULL); INSERT INTO t VALUES (1, 1), (2, 2); CREATE TABLE u (id int PRIMARY KEY)",
    );
    mirror.add(&format!("[pipelines.{name}.drift]\nkey_changed = \"reread\""));
    if file {
        mirror.has_file_as_target();
    }
    mirror.catch_up();
    let view = "CREATE VIEW of_t AS SELECT a FROM t";
    if file {
        mirror.tamper(view);
    } else {
        mirror.target.run(&format!("SET search_path = mirror; {view}; RESET search_path"));
    }
    let mut run = mirror.start(&["run"]);
    run.wait_for("following changes");
    mirror.source.run("ALTER TABLE t DROP CONSTRAINT t_pkey, ADD PRIMARY KEY (a); INSERT INTO t VALUES (1, 3); INSERT INTO u VALUES (1)");
    run.wait_for("public.t is left out: it could not be read again");
    mirror.source.run("INSERT INTO t VALUES (1, 4); INSERT INTO u VALUES (2)");
    let count = |sql: &str| {
        if file {
            mirror.value::<i64>(sql)
        } else {
            mirror.target.value::<i64>(&sql.replace("FROM ", "FROM mirror."))
        }
    };
    wait_until("the others go on", || count("SELECT count(*) FROM u") == 2);
    assert_eq!(count("SELECT count(*) FROM t"), 2, "it is as it was");
    // Nor does the next run, whatever became of the table meanwhile.
    run.signal("INT");
    assert_eq!(run.end(), 0, "{}", run.log());
    mirror.source.run("ALTER TABLE t ADD z int DEFAULT 3; INSERT INTO u VALUES (3)");
    let mut run = mirror.start(&["run"]);
    run.wait_for("public.t is left out: it could not be read again");
    wait_until("the others go on", || count("SELECT count(*) FROM u") == 3);
    if file {
        mirror.tamper("DROP VIEW of_t");
    } else {
        mirror.target.run("DROP VIEW mirror.of_t");
    }
    mirror.moorage(&["resnapshot", "public.t"]).expect(0, &[]);
    wait_until("it is read again", || count("SELECT count(*) FROM t") == 4);
    mirror.source.run("INSERT INTO t (id, a) VALUES (1, 5)");
    wait_until("it is followed", || count("SELECT count(*) FROM t") == 5);
    run.signal("INT");
    assert_eq!(run.end(), 0, "{}", run.log());
    mirror.catch_up();
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// What the project file says of a followed table takes effect at the next start; what the target's rows lack is read beside the
/// running stream, of that table alone.
#[rstest]
#[case::database(false)]
#[case::file(true)]
fn a_changed_mapping_takes_effect_at_the_next_start(#[case] file: bool) {
    let name = format!("remapped_{}", u8::from(file));
    let mirror = Mirror::new(
        &name,
        "CREATE TABLE t (id int PRIMARY KEY, a int, b text, secret text); INSERT INTO t VALUES (1, 1, 'x', 's'), (2, 2, 'y', 's');
         CREATE TABLE u (id int PRIMARY KEY); INSERT INTO u VALUES (1)",
    );
    if file {
        mirror.has_file_as_target();
    }
    let rule = |lines: &str| {
        let text = std::fs::read_to_string(mirror.path("moorage.toml")).unwrap();
        let before = text.split("\n[[pipelines.").next().unwrap();
        let text = format!("{before}\n[[pipelines.{name}.rule]]\nmatch = \"public.t\"\n{lines}\n");
        std::fs::write(mirror.path("moorage.toml"), text).unwrap();
    };
    let rows = |columns: &str| -> String {
        let texts: Vec<String> =
            columns.split(' ').map(|c| format!("coalesce(CAST({c} AS text), '-')")).collect();
        let texts = texts.join(" || ',' || ");
        if file {
            return mirror.value(&format!(
                "SELECT group_concat(r, ' ') FROM (SELECT {texts} AS r FROM t ORDER BY id)"
            ));
        }
        mirror.target.value(&format!("SELECT string_agg({texts}, ' ' ORDER BY id) FROM mirror.t"))
    };
    rule("drop = [\"secret\"]");
    mirror.catch_up();
    mirror.source.run("INSERT INTO t VALUES (3, 3, 'z', 's')");
    // At once: another name, and a column that is not carried any more.
    rule("drop = [\"secret\", \"a\"]\nrename = { b = \"note\" }");
    mirror.moorage(&["plan"]).expect(0, &["note", "0 blocked"]);
    let log = mirror.catch_up().all();
    assert!(
        log.contains("public.t: the project file maps it in another way") && !log.contains("read again"),
        "{log}"
    );
    // What came before it was read is with the columns that it had then.
    assert_eq!(rows("id a note"), "1,1,x 2,2,y 3,-,z");
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    // Read beside: a column that is carried again, one that is computed, and another condition.
    for (lines, columns, expected) in [
        ("drop = [\"a\"]\nrename = { b = \"note\" }", "id note secret", "1,x,s 2,y,s 3,z,s"),
        (
            "only = [\"id\", \"a\"]\nadd = { twice = { expression = \"a * 2\" } }",
            "id a twice",
            "1,1,2 2,2,4 3,3,6",
        ),
        ("only = [\"id\", \"a\"]\nwhere = \"a > 1\"", "id a", "2,2 3,3"),
        (
            "only = [\"id\", \"a\"]\nadd = { quay = { constant = \"north\" } }",
            "id a quay",
            "1,1,north 2,2,north 3,3,north",
        ),
    ] {
        rule(lines);
        let log = mirror.catch_up().all();
        assert!(log.contains("reading public.t again") && !log.contains("public.u"), "{log}");
        assert_eq!(rows(columns), expected, "{lines}");
        mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    }
    // What cannot be is said, and nothing is touched.
    rule("only = [\"id\", \"gone\"]");
    mirror.refuses(&["column gone"]);
    assert_eq!(rows("id a quay"), "1,1,north 2,2,north 3,3,north");
}

/// Whoever looks on sees rows as they were captured, whatever becomes of the table meanwhile.
#[rstest]
#[case::by_the_log("log")]
#[case::by_triggers("trigger")]
fn changes_are_shown_across_changes_of_structure(#[case] capture: &str) {
    let mirror = Mirror::new(
        &format!("shown_{capture}"),
        "CREATE TABLE t (id int PRIMARY KEY, a int, b text); INSERT INTO t VALUES (1, 1, 'x')",
    );
    mirror.replace("[sources.harbour]", &format!("[sources.harbour]\ncapture = \"{capture}\""));
    mirror.catch_up();
    mirror.source.run(
        "INSERT INTO t VALUES (2, 2, 'y'); ALTER TABLE t ADD c numeric(6,2) DEFAULT 1.5; INSERT INTO t VALUES (3, 3, 'z', 2.25); ALTER TABLE t DROP b;
         ALTER TABLE t RENAME a TO d; UPDATE t SET d = 9 WHERE id = 1; ALTER TABLE t DROP CONSTRAINT t_pkey, ADD PRIMARY KEY (d); DELETE FROM t WHERE d = 9",
    );
    let shown = mirror
        .moorage(&["changes", "t", "--from", "start", "--limit", "4", "--format", "json"])
        .expect(0, &[]);
    let lines: Vec<serde_json::Value> =
        shown.out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let of = |at: usize, part: &str| lines[at][part].to_string();
    assert_eq!(of(0, "new"), r#"{"id":2,"a":2,"b":"y"}"#);
    assert_eq!(of(1, "new"), r#"{"id":3,"a":3,"b":"z","c":"2.25"}"#);
    assert_eq!(of(2, "new"), r#"{"id":1,"d":9,"c":"1.50"}"#);
    if capture == "log" {
        // Triggers write down whole rows; by what they are told apart is known as of a look.
        assert_eq!(of(2, "key"), r#"{"id":1}"#);
    }
    assert_eq!((of(3, "operation"), of(3, "key")), ("\"delete\"".into(), r#"{"d":9}"#.into()));
}

/// What was set aside goes along with its table, and is applied as if it had been written behind the change.
#[test]
fn what_was_set_aside_goes_along_with_changes_of_structure() {
    let mirror = Mirror::new(
        "aside",
        "CREATE TYPE state AS ENUM ('booked', 'paid'); CREATE TABLE t (id int PRIMARY KEY, a int, b text, s state, n numeric(6,2)); INSERT INTO t VALUES (1, 1, 'x', 'booked', 1)",
    );
    mirror.add("on_reject = \"set_aside\"\n[pipelines.aside.drift]\ncolumn_renamed = \"follow\"\ncolumn_dropped = \"follow\"");
    mirror.catch_up();
    mirror.target.run("ALTER TABLE mirror.t ADD CONSTRAINT small CHECK (a < 10)");
    mirror.source.run("INSERT INTO t VALUES (2, 20, 'y', 'booked', 2.5), (3, 3, 'z', 'paid', 3); UPDATE t SET a = 30 WHERE id = 1");
    mirror.catch_up();
    mirror.moorage(&["rejects"]).expect(0, &["public.t", "small"]);
    mirror.source.run(
        "ALTER TABLE t ADD c int DEFAULT 7; ALTER TABLE t RENAME a TO d; ALTER TABLE t DROP b; ALTER TYPE state RENAME VALUE 'booked' TO 'open';
         ALTER TABLE t ALTER n TYPE numeric(9,2); UPDATE t SET n = 123456.25 WHERE id = 3",
    );
    mirror.catch_up();
    mirror.moorage(&["rejects", "show", "1"]).expect(0, &["open", "20"]);
    mirror.moorage(&["rejects", "retry", "--all"]).expect(3, &["small"]);
    mirror.target.run("ALTER TABLE mirror.t DROP CONSTRAINT small");
    mirror.moorage(&["rejects", "retry", "--all"]).expect(0, &[]);
    mirror.assert_same("t");
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

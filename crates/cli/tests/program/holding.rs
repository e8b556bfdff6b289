//! Tables that are held: what is kept of them, what people decide or do in the target by hand, and where there is no room.

use crate::harness::Mirror;
use moorage_testkit::wait_until;
use rstest::rstest;

/// What is held of a table is all that there is of its last rows once it is dropped: it stays held, and is applied, or not, as
/// someone decides.
#[rstest]
#[case::while_running(true)]
#[case::while_nothing_runs(false)]
fn a_held_table_that_is_dropped_loses_nothing(#[case] running: bool) {
    let mirror = Mirror::new(
        &format!("held_dropped_{running}"),
        "CREATE TABLE t (id int PRIMARY KEY, a int); INSERT INTO t VALUES (1, 1), (2, 2); CREATE TABLE u (id int PRIMARY KEY)",
    );
    mirror.catch_up();
    let renamed = "ALTER TABLE t RENAME a TO c; INSERT INTO t VALUES (3, 3); DELETE FROM t WHERE id = 1";
    let run = running.then(|| {
        let mut run = mirror.start(&["run"]);
        run.wait_for("following changes");
        mirror.source.run(renamed);
        run.wait_for("it is held until someone decides");
        mirror.source.run("DROP TABLE t");
        run.wait_for("what is held of it waits for a decision");
        run
    });
    if run.is_none() {
        mirror.source.run(renamed);
        mirror.catch_up();
        mirror.source.run("DROP TABLE t");
        mirror.catch_up().expect(0, &["public.t is not in the source any more", "waits for a decision"]);
    }
    mirror.source.run("INSERT INTO u VALUES (1)");
    wait_until("the others go on", || {
        if run.is_none() {
            mirror.catch_up();
        }
        mirror.target.value::<i64>("SELECT count(*) FROM mirror.u") == 1
    });
    mirror.moorage(&["drift"]).expect(3, &["public.t", "held"]);
    mirror.moorage(&["drift", "reread", "1"]);
    mirror.moorage(&["drift", "follow", "1"]);
    if let Some(mut run) = run {
        run.wait_for("decided: it catches up");
        run.signal("INT");
        assert_eq!(run.end(), 0, "{}", run.log());
        assert!(run.log().contains("so it cannot be read again"), "{}", run.log());
    }
    mirror.catch_up();
    let rows = "SELECT string_agg(format('%s %s', id, c), ', ' ORDER BY id) FROM mirror.t";
    assert_eq!(mirror.target.value::<String>(rows), "2 2, 3 3");
    mirror.catch_up();
    mirror.moorage(&["drift"]).expect(0, &["public.t"]);
    mirror.moorage(&["verify"]).expect(0, &["both sides agree", "public.t is not followed any more"]);
}

/// A table that is held waits, with all that is made in it, for someone who decides, and everything else goes on; also over
/// a kill and with our own folder gone. Then it is as if it had never waited.
#[rstest]
#[case::followed_while_running("follow", true)]
#[case::followed_by_the_next_run("follow", false)]
#[case::left("leave", true)]
#[case::read_again("reread", true)]
fn a_held_table_catches_up_once_someone_decides(#[case] decision: &str, #[case] running: bool) {
    let name = format!("held_{decision}_{}", u8::from(running));
    let mirror = Mirror::new(
        &name,
        "CREATE TABLE t (id int PRIMARY KEY, a int, b text); INSERT INTO t VALUES (1, 1, 'a'), (2, 2, 'b'); CREATE TABLE u (id int PRIMARY KEY)",
    );
    mirror.catch_up();
    mirror.source.run("UPDATE t SET a = 5 WHERE id = 1; ALTER TABLE t RENAME a TO c; INSERT INTO t VALUES (3, 3, 'c'); INSERT INTO u VALUES (1)");
    mirror.catch_up().expect(0, &["public.t: column a is called c now", "moorage drift follow 1"]);
    assert_eq!(mirror.target.value::<i64>("SELECT count(*) FROM mirror.u"), 1, "the others go on");
    assert_eq!(
        mirror.target.value::<i64>("SELECT sum(a)::bigint FROM mirror.t"),
        7,
        "what came before it is there"
    );
    mirror.moorage(&["drift"]).expect(3, &["public.t", "column a is called c now", "hold", "held"]);
    mirror.moorage(&["verify"]).expect(3, &["public.t", "held until someone decides"]);
    mirror.moorage(&["plan"]).expect(0, &["2 rows; its changes are held until someone decides"]);
    // A column is the same one, whatever it is called.
    mirror.moorage(&["row", "public.t", "1"]).expect(3, &["c → a", "changes are held until someone decides"]);
    let shown = mirror.moorage(&["row", "public.t", "1", "--format", "json"]).expect(3, &[]);
    let shown: serde_json::Value = serde_json::from_str(&shown.out).unwrap();
    assert!(shown["columns"].as_array().unwrap().iter().all(|c| c["same"] == true), "{shown}");
    let told =
        ["public.t: held since", "column a is called c now; 1 change is kept", "`moorage drift show 1`"];
    mirror.moorage(&["status"]).expect(0, &told);
    // Once more, and later without all that is ours.
    std::fs::remove_dir_all(mirror.path(".moorage")).unwrap();
    mirror.source.run("DELETE FROM t WHERE id = 2; ALTER TABLE t ADD d int DEFAULT 9; UPDATE t SET b = 'z' WHERE id = 1; INSERT INTO u VALUES (2)");
    mirror.catch_up();
    let mut run = running.then(|| mirror.start(&["run"]));
    if let Some(run) = &mut run {
        run.wait_for("following changes");
    }
    mirror.moorage(&["drift", "show", "1"]).expect(3, &["integer", "held"]);
    let word = if running { "the pipeline goes on" } else { "the next run does it" };
    mirror.moorage(&["drift", decision, "1"]).expect(0, &[word]);
    if let Some(mut run) = run {
        let sql = "SELECT count(*) FROM moorage_state.tables WHERE state = 'held'";
        wait_until("it is decided", || mirror.target.value::<i64>(sql) == 0);
        run.signal("INT");
        assert_eq!(run.end(), 0, "{}", run.log());
    }
    mirror.source.run("INSERT INTO t VALUES (4, 4, 'd', 4)");
    mirror.catch_up();
    if decision == "leave" {
        let rows = "SELECT string_agg(format('%s %s %s %s', id, a, b, d), ', ' ORDER BY id) FROM mirror.t";
        assert_eq!(mirror.target.value::<String>(rows), "1 5 z 9, 3 3 c 9, 4 4 d 4");
    } else {
        mirror.assert_same("t");
    }
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    mirror.moorage(&["drift"]).expect(0, &["public.t"]);
    assert_eq!(
        mirror.target.value::<i64>(
            "SELECT count(*) FROM moorage_state.memos WHERE kind = 'held' OR name LIKE 'step%'"
        ),
        0
    );
}

/// Runs statements in the target, whichever it is.
fn in_the_target(mirror: &Mirror, file: bool, statements: &str) {
    if file {
        mirror.tamper(statements);
    } else {
        mirror.target.run(statements);
    }
}

/// What `drift show` says that following takes may be done in the target by hand: a run that goes on sees it if all of it is,
/// and so does the next one, which does what is left if someone decides.
#[rstest]
fn what_is_done_in_the_target_by_hand_is_not_done_again(
    #[values(false, true)] file: bool,
    #[values("all", "some", "running")] how: &str,
) {
    let name = format!("by_hand_{how}_{}", u8::from(file));
    let mirror = Mirror::new(
        &name,
        "CREATE TABLE t (id int PRIMARY KEY, a int, b text); INSERT INTO t VALUES (1, 1, 'a'), (2, 2, 'b')",
    );
    mirror.add(&format!("[pipelines.{name}.drift]\ncolumn_added = \"hold\""));
    if file {
        mirror.has_file_as_target();
    }
    mirror.catch_up();
    let of = if file { "t" } else { "mirror.t" };
    in_the_target(
        &mirror,
        file,
        &format!("CREATE VIEW seen_by AS SELECT id FROM {of}; CREATE VIEW another AS SELECT 'tt' AS t_1"),
    );
    mirror.source.run("ALTER TABLE t RENAME a TO c; INSERT INTO t VALUES (3, 3, 'c')");
    mirror.catch_up();
    mirror.source.run(
        "ALTER TABLE t ADD d numeric(8,2) DEFAULT 1.50, ADD e timestamptz DEFAULT '2026-03-01 12:00+00', ADD f bool DEFAULT true,
           ADD g float8 DEFAULT -2.5, ADD h bytea DEFAULT '\\x00ff', ADD i varchar(9) DEFAULT 'it''s', ADD j int, ADD k date DEFAULT '0044-03-15 BC';
         UPDATE t SET d = NULL, b = 'z' WHERE id = 1; INSERT INTO t (id, j) VALUES (4, 4)",
    );
    mirror.catch_up();
    let shown = mirror.moorage(&["drift", "--format", "json"]).expect(3, &[]);
    let shown: serde_json::Value = serde_json::from_str(&shown.out).unwrap();
    let statements = |at: usize| {
        let found = shown[at]["statements"].as_array().unwrap().iter().map(|s| s.as_str().unwrap());
        found.collect::<Vec<_>>().join(";")
    };
    let told = ["following it does in the target", "ADD COLUMN \"d\"", "views that read", "seen_by"];
    let shown = mirror.moorage(&["drift", "show", "2"]).expect(3, &told);
    assert!(!shown.out.contains("another"), "{}", shown.out);
    let mut running = (how == "running").then(|| mirror.start(&["run"]));
    if let Some(running) = &mut running {
        running.wait_for("following changes");
    }
    in_the_target(&mirror, file, &statements(0));
    if how == "some" {
        // The column without its value.
        let all = statements(1);
        in_the_target(&mirror, file, all.split(" DEFAULT").next().unwrap());
        mirror.catch_up();
        mirror.moorage(&["drift"]).expect(3, &["public.t"]);
        mirror.moorage(&["drift", "follow", "--all"]).expect(0, &[]);
    } else {
        in_the_target(&mirror, file, &statements(1));
    }
    mirror.source.run("UPDATE t SET d = 7 WHERE id = 4");
    let told = ["public.t: column a is called c now", "it catches up"];
    match running {
        Some(mut running) => {
            told.iter().for_each(|text| running.wait_for(text));
            running.signal("INT");
            assert_eq!(running.end(), 0, "{}", running.log());
            mirror.catch_up();
        }
        None => drop(mirror.catch_up().expect(0, &told)),
    }
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    if !file {
        mirror.assert_same("t");
    }
    mirror.moorage(&["drift"]).expect(0, &["public.t", "followed"]);
}

/// A column that somebody has made for something else is not taken for the one that comes.
#[rstest]
fn a_column_of_the_targets_own_is_left_alone(#[values(false, true)] file: bool) {
    let mirror = Mirror::new(
        &format!("own_column_{}", u8::from(file)),
        "CREATE TABLE t (id int PRIMARY KEY, a text); INSERT INTO t VALUES (1, 'a'), (2, 'b'); CREATE TABLE u (id int PRIMARY KEY)",
    );
    if file {
        mirror.has_file_as_target();
    }
    mirror.catch_up();
    let table = if file { "t" } else { "mirror.t" };
    in_the_target(
        &mirror,
        file,
        &format!("ALTER TABLE {table} ADD note text; UPDATE {table} SET note = 'mine' WHERE id = 2"),
    );
    mirror.source.run("ALTER TABLE t ADD note text DEFAULT 'new'; INSERT INTO t VALUES (3, 'c', 'its'); INSERT INTO u VALUES (1)");
    let advice = "column note is there, with other values: rename or drop that column there";
    mirror.catch_up().expect(0, &[advice]);
    mirror.moorage(&["drift"]).expect(3, &[advice]);
    in_the_target(&mirror, file, &format!("ALTER TABLE {table} RENAME note TO ours"));
    mirror.catch_up();
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    let ours = format!("SELECT count(*) FROM {table} WHERE ours = 'mine' AND note = 'new'");
    let count: i64 = if file { mirror.value(&ours) } else { mirror.target.value(&ours) };
    assert_eq!(count, 1);
}

/// A column that somebody has made, and that does not take the values of the one that comes, holds its table alone.
#[rstest]
#[case::by_its_own_rule("CONSTRAINT not_new CHECK (note <> 'new')", "DEFAULT 'new'", "not_new")]
#[case::whatever_comes("GENERATED ALWAYS AS ('own') STORED", "", "rename or drop that column there")]
fn a_column_made_by_hand_that_refuses_the_value_holds_its_table(
    #[case] own: &str,
    #[case] added: &str,
    #[case] why: &str,
    #[values(false, true)] file: bool,
) {
    let mirror = Mirror::new(
        &format!("refusing_column_{}_{}", added.len(), u8::from(file)),
        "CREATE TABLE t (id int PRIMARY KEY); INSERT INTO t VALUES (1); CREATE TABLE u (id int PRIMARY KEY)",
    );
    if file {
        mirror.has_file_as_target();
    }
    mirror.catch_up();
    let (t, u) = if file { ("t", "u") } else { ("mirror.t", "mirror.u") };
    // SQLite adds none that is stored.
    let own = if file { own.trim_end_matches(" STORED") } else { own };
    in_the_target(&mirror, file, &format!("ALTER TABLE {t} ADD note text {own}"));
    mirror.source.run(&format!(
        "ALTER TABLE t ADD note text {added}; INSERT INTO t VALUES (2, 'its'); INSERT INTO u VALUES (1)"
    ));
    mirror.catch_up().expect(0, &[why, "held until someone decides"]);
    let count = format!("SELECT count(*) FROM {u}");
    let count: i64 = if file { mirror.value(&count) } else { mirror.target.value(&count) };
    assert_eq!(count, 1, "the others go on");
    in_the_target(&mirror, file, &format!("ALTER TABLE {t} RENAME note TO ours"));
    mirror.catch_up();
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// What there is no room for is gone, with its table alone, which the next run reads again.
#[test]
fn a_table_with_more_held_than_there_is_room_for_is_read_again() {
    let mirror = Mirror::new(
        "held_full",
        "CREATE TABLE t (id int PRIMARY KEY, a text); CREATE TABLE u (id int PRIMARY KEY)",
    );
    mirror.add("hold_limit = \"64KiB\"");
    mirror.catch_up();
    mirror.source.run("ALTER TABLE t RENAME a TO b; INSERT INTO t VALUES (1, 'x')");
    mirror.catch_up();
    mirror.source.run(
        "INSERT INTO t SELECT i, md5(i::text) FROM generate_series(2, 5000) i; INSERT INTO u VALUES (1)",
    );
    mirror.catch_up().expect(0, &["more changes were held than `hold_limit` allows", "resnapshot public.t"]);
    assert_eq!(mirror.target.value::<i64>("SELECT count(*) FROM mirror.u"), 1);
    mirror.moorage(&["status"]).expect(0, &["needs resnapshot"]);
    mirror.catch_up();
    mirror.assert_same("t");
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// What comes behind changes that are gone is not taken for all there is: whatever is changed or decided, the table waits until
/// it is read again, by the run that goes on too.
#[rstest]
fn a_table_without_room_is_not_merged_before_it_is_read_again(#[values(false, true)] file: bool) {
    let mirror = Mirror::new(
        &format!("without_room_{}", u8::from(file)),
        "CREATE TABLE t (id int PRIMARY KEY, a text); INSERT INTO t VALUES (0, 'first'); CREATE TABLE u (id int PRIMARY KEY)",
    );
    mirror.add("hold_limit = \"64KiB\"");
    if file {
        mirror.has_file_as_target();
    }
    mirror.catch_up();
    let mut running = mirror.start(&["run"]);
    running.wait_for("following changes");
    let others_go_on = |n: i64| {
        mirror.source.run(&format!("INSERT INTO u VALUES ({n})"));
        wait_until("the others go on", || match file {
            true => mirror.value::<i64>("SELECT count(*) FROM u") == n,
            false => mirror.target.value::<i64>("SELECT count(*) FROM mirror.u") == n,
        });
    };
    mirror.source.run("ALTER TABLE t RENAME a TO b; INSERT INTO t VALUES (1, 'x')");
    others_go_on(1);
    mirror.source.run("INSERT INTO t SELECT i, md5(i::text) FROM generate_series(2, 5000) i");
    running.wait_for("more changes were held than `hold_limit` allows");
    mirror.source.run(
        "ALTER TABLE t RENAME b TO c; INSERT INTO t VALUES (6000, 'y'); ALTER TABLE t ADD d int DEFAULT 5",
    );
    others_go_on(2);
    mirror.moorage(&["drift"]).expect(0, &["column b is called c now", "read again"]);
    mirror.moorage(&["drift", "follow", "--all"]).expect(0, &["nothing is held"]);
    mirror.moorage(&["status"]).expect(0, &["needs resnapshot"]);
    mirror.moorage(&["resnapshot", "public.t"]).expect(0, &[]);
    mirror.source.run("INSERT INTO t VALUES (6001, 'z', 7); DELETE FROM t WHERE id = 0");
    others_go_on(3);
    running.signal("INT");
    assert_eq!(running.end(), 0, "{}", running.log());
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    mirror.catch_up();
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// What depends on a column in the target has its table held, and is named; once it is gone, the table goes on.
#[test]
fn a_view_that_is_in_the_way_holds_its_table_and_is_named() {
    let mirror = Mirror::new(
        "in_the_way",
        "CREATE TABLE t (id int PRIMARY KEY, a numeric(6,2)); INSERT INTO t VALUES (1, 1); CREATE TABLE u (id int PRIMARY KEY)",
    );
    mirror.catch_up();
    mirror.target.run("CREATE VIEW mirror.sums AS SELECT sum(a) FROM mirror.t");
    mirror.source.run("ALTER TABLE t ALTER a TYPE numeric(12,2); INSERT INTO t VALUES (2, 123456789); INSERT INTO u VALUES (1)");
    mirror.catch_up().expect(0, &["mirror.sums", "held until someone decides"]);
    assert_eq!(mirror.target.value::<i64>("SELECT count(*) FROM mirror.u"), 1, "the others go on");
    mirror.catch_up().expect(0, &["stays held", "mirror.sums"]);
    mirror.moorage(&["drift"]).expect(3, &["numeric(12,2)", "mirror.sums"]);
    mirror.moorage(&["drift", "show", "1"]).expect(3, &["may be in the way", "mirror.sums (a)"]);
    // Whoever decides while it is in the way is told so, as often as they do, and nothing ends over it.
    let mut running = mirror.start(&["run"]);
    running.wait_for("stays held");
    let refused = ["the target does not take it", "mirror.sums"];
    for n in 2..4 {
        mirror.moorage(&["drift", "follow", "1"]).expect(3, &refused);
        mirror.source.run(&format!("INSERT INTO u VALUES ({n})"));
        let there = "SELECT count(*) FROM mirror.u";
        wait_until("the others go on", || mirror.target.value::<i64>(there) == n);
    }
    mirror.target.run("DROP VIEW mirror.sums");
    mirror.moorage(&["drift", "follow", "1"]).expect(0, &["goes on with it"]);
    mirror.assert_same("t");
    running.signal("INT");
    assert_eq!(running.end(), 0, "{}", running.log());
    mirror.catch_up();
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    mirror.moorage(&["drift"]).expect(0, &["followed"]);
}

/// Reading a held table again is a decision too, however it is asked for.
#[test]
fn a_held_table_that_is_read_again_is_not_held_any_more() {
    let mirror = Mirror::new(
        "held_resnapshot",
        "CREATE TABLE t (id int PRIMARY KEY, a int); INSERT INTO t VALUES (1, 1)",
    );
    mirror.catch_up();
    mirror.source.run("ALTER TABLE t RENAME a TO b; INSERT INTO t VALUES (2, 2)");
    mirror.catch_up().expect(0, &["held until someone decides"]);
    mirror.moorage(&["drift", "follow", "7"]).expect(1, &["has met no drift 7"]);
    mirror.moorage(&["resnapshot", "t"]).expect(0, &[]);
    mirror.catch_up();
    mirror.assert_same("t");
    mirror.moorage(&["drift"]).expect(0, &["read again"]);
    mirror.moorage(&["drift", "follow", "1"]).expect(1, &["waits for no decision"]);
    let kept = "SELECT count(*) FROM moorage_state.memos WHERE kind = 'held' OR name LIKE 'step%'";
    assert_eq!(mirror.target.value::<i64>(kept), 0);
}

/// Policies of the project file that change while a table is held are a decision as well, at the next start.
#[test]
fn a_held_table_goes_on_once_the_project_file_says_so() {
    let mirror =
        Mirror::new("held_policy", "CREATE TABLE t (id int PRIMARY KEY, a int); INSERT INTO t VALUES (1, 1)");
    mirror.catch_up();
    mirror.source.run("ALTER TABLE t RENAME a TO b; UPDATE t SET b = 2; ALTER TABLE t RENAME TO s; INSERT INTO s VALUES (2, 2)");
    mirror.catch_up().expect(0, &["held until someone decides"]);
    mirror.add("[pipelines.held_policy.drift]\ncolumn_renamed = \"follow\"");
    mirror.catch_up();
    let rows = "SELECT string_agg(format('%s %s', id, b), ', ' ORDER BY id) FROM mirror.t";
    assert_eq!(mirror.target.value::<String>(rows), "1 2, 2 2", "the table keeps its name in the target");
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    mirror
        .moorage(&["drift", "--format", "json"])
        .expect(0, &["\"table_renamed\"", "\"state\": \"followed\""]);
}

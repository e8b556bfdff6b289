//! What each command says, and how a run ends.

use crate::harness::{Project, Quay};

const BERTHS: &str = "CREATE TABLE berths (id int PRIMARY KEY, name text); INSERT INTO berths VALUES (1, 'north'), (2, 'south'); CREATE TABLE incidents (id int PRIMARY KEY)";

#[test]
fn the_words_of_a_first_session() {
    let project = Project::new("first_session");
    project.session.run(BERTHS);
    project.session.run("CREATE TABLE gate_log (what text)");
    project
        .moorage(&["status"])
        .expect(0, &["pipeline first_session", "database first_session, user postgres", "never run"]);
    project.moorage(&["check"]).expect(
        3,
        &[
            "wal_level",
            "moorage_first_session__first_session will be made",
            "1 blocker to mend",
            "REPLICA IDENTITY FULL",
        ],
    );
    assert!(!project.path("warehouse.db").exists(), "looking leaves nothing behind");
    project.session.run("DROP TABLE gate_log");
    project.moorage(&["check"]).expect(0, &["ready, ", "warnings: `moorage plan`"]);
    project.moorage(&["tables"]).expect(0, &["public.berths", "2 of 2 tables are picked"]);
    project
        .moorage(&["plan"])
        .expect(0, &["public.berths → berths, key (id)", "2 tables to carry, 0 blocked"]);
    project
        .moorage(&["plan", "--ddl"])
        .expect(0, &["CREATE TABLE \"berths\" (\n  \"id\" INTEGER PRIMARY KEY,\n  \"name\" TEXT\n);"]);
    project.catch_up().expect(
        0,
        &[
            "publication moorage_first_session__first_session: made",
            "slot moorage_first_session__first_session: made",
            "first rows can be read in berths",
            "read public.incidents: 0 rows",
        ],
    );
    project.moorage(&["status"]).expect(0, &["0 changes wait", "public.incidents", "live", "first look"]);
    project.session.run("INSERT INTO berths VALUES (3, 'east'); UPDATE berths SET name = 'East' WHERE id = 3; DELETE FROM berths WHERE id = 1");
    project
        .moorage(&["status"])
        .expect(0, &["3 changes wait", "not running; the last run ended", "done, caught up"]);
    project.catch_up();
    project.moorage(&["status"]).expect(0, &["+3", "target complete up to source commit"]);
    project.moorage(&["status"]).expect(0, &["none"]);
}

#[test]
fn json_is_one_stable_document() {
    let project = Project::new("json_forms");
    project.session.run(BERTHS);
    let ran = project.moorage(&["run", "--until", "caught-up", "--format", "json"]);
    let last: serde_json::Value = serde_json::from_str(ran.out.lines().last().unwrap()).unwrap();
    assert_eq!(last["outcome"], "caught_up");
    let parse = |arguments: &[&str]| -> serde_json::Value {
        let ran = project.moorage(arguments).expect(0, &[]);
        serde_json::from_str(&ran.out).unwrap_or_else(|e| panic!("{arguments:?}: {e}: {}", ran.out))
    };
    let status = parse(&["status", "--format", "json"]);
    assert_eq!(
        (&status[0]["tables"][0]["table"], &status[0]["tables"][0]["rows"]),
        (&"public.berths".into(), &2.into())
    );
    assert_eq!(status[0]["waiting"]["changes"], 0);
    assert_eq!(parse(&["plan", "--format", "json"])[0]["tables"][0]["columns"][0]["target_type"], "INTEGER");
    assert_eq!(parse(&["tables", "--format", "json"])[0]["tables"][0]["picked"], true);
    assert_eq!(parse(&["check", "--format", "json"])[0]["findings"][1]["severity"], "ok");
}

/// Whenever it comes: one that came while handlers were being put in place was lost, and the run went on. (SIGTERM, because a
/// shell has what it starts in the background ignore SIGINT, so that one before the first line of ours is nobody's.)
#[test]
fn a_stop_that_comes_while_the_program_starts_is_heard() {
    let quay = crate::harness::Quay::new("CREATE TABLE berths (id INTEGER PRIMARY KEY)");
    for step in 0..60 {
        let mut running = quay.start(&["run"]);
        // Not to wait for something: any moment of the start will do.
        std::thread::sleep(std::time::Duration::from_micros(step * 700));
        running.signal_if_alive("TERM");
        moorage_testkit::wait_until("it ends", || !running.is_alive());
        running.end();
    }
}

#[test]
fn ctrl_c_finishes_the_batch_and_ends_well_and_a_second_one_ends_at_once() {
    let project = Project::new("stopping");
    project.session.run(BERTHS);
    let mut running = project.start(&["run"]);
    running.wait_for("following changes");
    project.session.run("INSERT INTO berths SELECT i, 'x' FROM generate_series(10, 20000) i");
    let begun = std::time::Instant::now();
    running.signal("INT");
    assert_eq!(running.end(), 0, "{}", running.log());
    assert!(begun.elapsed().as_secs() < 5);
    assert!(running.log().contains("stopped by Ctrl-C"));
    project.moorage(&["status"]).expect(0, &["stopped, Ctrl-C"]);
    project.catch_up();
    project.assert_same("berths", "berths");
}

#[test]
fn a_run_for_a_time_ends_by_itself() {
    let project = Project::new("for_a_time");
    project.session.run(BERTHS);
    project.catch_up();
    project.session.run("INSERT INTO berths VALUES (77)");
    project.moorage(&["run", "--for", "500ms"]).expect(0, &["stopped by --for"]);
    // However little it got done in that time, nothing is lost.
    project.catch_up();
    project.assert_same("berths", "berths");
}

#[test]
fn a_snapshot_only_needs_no_replication_right_and_leaves_no_slot() {
    let project = Project::new("copy_only");
    project.session.run(BERTHS);
    project.session.run("CREATE ROLE reader LOGIN; GRANT SELECT ON ALL TABLES IN SCHEMA public TO reader");
    let url = moorage_testkit::PostgresServer::shared().url("copy_only").replace("postgres@", "reader@");
    project.write(&url, "copy_only", "");
    project.moorage(&["run", "--snapshot-only"]).expect(0, &["copied; nothing is followed"]);
    project.assert_same("berths", "berths");
    assert_eq!(
        project
            .session
            .value::<i64>("SELECT count(*) FROM pg_replication_slots WHERE database = 'copy_only'"),
        0
    );
    project.moorage(&["status"]).expect(0, &["copied once; nothing is followed"]);
    project.session.run("DELETE FROM berths WHERE id = 1");
    project.moorage(&["run", "--snapshot-only"]).expect(0, &["copied"]);
    project.assert_same("berths", "berths");
    project.write(&moorage_testkit::PostgresServer::shared().url("copy_only"), "copy_only", "");
    project.catch_up();
    project.moorage(&["run", "--snapshot-only"]).expect(1, &["follows changes already"]);
}

#[test]
fn changes_only_start_now_or_where_a_slot_still_reaches() {
    let project = Project::new("changes_only");
    project.session.run(BERTHS);
    project
        .moorage(&["run", "--start", "0/1", "--for", "1s"])
        .expect(1, &["earliest possible position is now"]);
    assert!(!project.path("warehouse.db").exists(), "a refused start leaves nothing");
    project.moorage(&["run", "--start", "soon"]).expect(1, &["\"soon\" is not a position"]);
    project.moorage(&["run", "--start", "now", "--until", "caught-up"]).expect(0, &["caught up"]);
    project.session.run("INSERT INTO berths VALUES (5, 'new'); UPDATE berths SET name = 'seen' WHERE id = 1");
    project.catch_up();
    assert_eq!(project.value::<i64>("SELECT count(*) FROM berths"), 2, "only what was changed");
    project.moorage(&["status"]).expect(0, &["changes only"]);
    project.moorage(&["run", "--start", "now"]).expect(1, &["already has a checkpoint"]);

    let other = Project::new("changes_from");
    other.session.run(BERTHS);
    other.session.run("CREATE PUBLICATION mine FOR ALL TABLES");
    other.session.run("SELECT pg_create_logical_replication_slot('changes_from_slot', 'pgoutput')");
    other.session.run("INSERT INTO berths VALUES (6, 'kept')");
    let position: String = other.session.value(
        "SELECT confirmed_flush_lsn::text FROM pg_replication_slots WHERE slot_name = 'changes_from_slot'",
    );
    other.replace("merge_every", "slot = \"changes_from_slot\"\npublication = \"mine\"\nmerge_every");
    other
        .moorage(&["run", "--start", "0/10", "--for", "1s"])
        .expect(1, &["earliest possible position is", &position]);
    other.moorage(&["run", "--start", &position, "--until", "caught-up"]).expect(0, &[]);
    assert_eq!(other.value::<String>("SELECT name FROM berths"), "kept");
    other.moorage(&["teardown"]).expect(0, &["left: the project file names it"]);
}

#[test]
fn teardown_lists_removes_and_proves() {
    let project = Project::new("teardown");
    project.session.run(BERTHS);
    project.catch_up();
    project
        .moorage(&["teardown", "--dry-run", "--target"])
        .expect(0, &["slot moorage_teardown__teardown", "would be removed", "nothing was changed"]);
    project.catch_up();
    project.moorage(&["teardown"]).expect(
        0,
        &["removed", "nothing of this pipeline is left in the source", "the target keeps its tables"],
    );
    let left = "SELECT count(*) FROM pg_replication_slots WHERE database = 'teardown'";
    assert_eq!(project.session.value::<i64>(left), 0);
    assert_eq!(project.session.value::<i64>("SELECT count(*) FROM pg_publication"), 0);
    project.moorage(&["teardown", "--target"]).expect(0, &["not there", "target table berths", "removed"]);
    assert_eq!(project.value::<i64>("SELECT count(*) FROM sqlite_schema"), 0);
    project.catch_up();
    project.assert_same("berths", "berths");
}

#[test]
fn rows_that_were_there_before_are_not_touched_without_a_word() {
    let project = Project::new("existing_rows");
    project.session.run(BERTHS);
    let db = rusqlite::Connection::open(project.path("warehouse.db")).unwrap();
    db.execute_batch("CREATE TABLE berths (id INTEGER PRIMARY KEY, name TEXT); INSERT INTO berths VALUES (1, 'old'), (77, 'mine')").unwrap();
    project.moorage(&["plan"]).expect(3, &["blocked: target table berths is already there", "holds 2 rows"]);
    project.refuses(&["it holds 2 rows", "existing_rows = \"replace\" or \"keep\""]);
    assert_eq!(project.session.value::<i64>("SELECT count(*) FROM pg_publication"), 0, "nothing half-made");
    project.replace("merge_every", "existing_rows = \"keep\"\nmerge_every");
    project.catch_up();
    assert_eq!(
        project.value::<String>("SELECT group_concat(id || name) FROM (SELECT * FROM berths ORDER BY id)"),
        "1north,2south,77mine"
    );
    project.session.run("TRUNCATE berths");
    project.refuses(&["public.berths was truncated", "keeps rows from before"]);
    assert_eq!(project.value::<i64>("SELECT count(*) FROM berths"), 3);
    project.moorage(&["teardown", "--target"]).expect(0, &["left: it was there before"]);
    project.replace("\"keep\"", "\"replace\"");
    project.session.run("INSERT INTO berths VALUES (4, 'only')");
    project.catch_up();
    project.assert_same("berths", "berths");
}

#[test]
fn a_target_table_with_other_columns_is_refused() {
    let project = Project::new("other_columns");
    project.session.run(BERTHS);
    let db = rusqlite::Connection::open(project.path("warehouse.db")).unwrap();
    db.execute_batch("CREATE TABLE berths (id INTEGER PRIMARY KEY, title TEXT)").unwrap();
    project.refuses(&[
        "target table berths is already there",
        "other columns (id INTEGER, title TEXT) than the plan (id INTEGER, name TEXT)",
    ]);
    assert_eq!(project.session.value::<i64>("SELECT count(*) FROM pg_publication"), 0, "nothing half-made");
}

#[test]
fn a_project_file_with_a_mistake_is_refused_with_its_line() {
    let project = Project::new("mistakes");
    project.replace("source = \"harbour\"", "sauce = \"harbour\"");
    project.moorage(&["run"]).expect(
        2,
        &["moorage.toml:10:1: unknown key `sauce`", " 10 | sauce = \"harbour\"", "expected", "`source`"],
    );
    project.moorage(&["run", "-f", "nowhere.toml"]).expect(2, &["project file nowhere.toml", "--file"]);
    project.replace("sauce", "source");
    project.moorage(&["run", "elsewhere"]).expect(2, &["there is no pipeline elsewhere; there is mistakes"]);
    project.moorage(&["run", "--for", "soon"]).expect(2, &["a number with ms, s, m, h or d"]);
    project.moorage(&["run"]).expect(1, &["no table of the source matches"]);
    project.moorage(&["resnapshot", "public.x"]).expect(2, &["carries no table public.x"]);
    project.moorage(&["resnapshot"]).expect(2, &["TABLE"]);
}

#[test]
fn several_pipelines_run_together_and_a_failure_is_said_at_once() {
    let project = Project::new("several");
    project.session.run(BERTHS);
    project
        .add("[pipelines.broken]\nsource = \"harbour\"\ntarget = \"warehouse\"\ninclude = [\"nowhere.*\"]");
    let mut running = project.start(&["run"]);
    running.wait_for("error: broken: pattern `nowhere.*` of `include` means no table");
    running.wait_for("several: following changes");
    running.signal("INT");
    assert_eq!(running.end(), 1, "{}", running.log());
    assert!(running.log().contains("pipeline broken failed, see above"), "{}", running.log());
}

#[test]
fn two_processes_on_one_pipeline_the_second_is_refused() {
    let project = Project::new("two_processes");
    project.session.run(BERTHS);
    let mut running = project.start(&["run"]);
    running.wait_for("following changes");
    let pid = running.child.id().to_string();
    project.refuses(&["already run by process", &pid]);
    project.moorage(&["status"]).expect(0, &[&format!("process {pid} on"), "following changes from"]);
    project.moorage(&["teardown"]).expect(1, &["already run by process"]);
}

/// Whoever reads JSON gets errors so, with a word that does not change and the exit code of the text form.
#[test]
fn errors_are_json_where_everything_is() {
    let quay = Quay::new("CREATE TABLE berths (id INTEGER PRIMARY KEY)");
    let error = |arguments: &[&str], code: i32| -> (String, String) {
        let ran = quay.moorage(&[arguments, &["--format", "json"]].concat()).expect(code, &[]);
        assert_eq!(ran.err.trim().lines().count(), 1, "{}", ran.err);
        let document: serde_json::Value = serde_json::from_str(ran.err.trim()).unwrap();
        let text = |name: &str| document["error"][name].as_str().unwrap().to_string();
        assert!(document["error"]["object"].is_null() || text("object").starts_with("table "), "{document}");
        (text("code"), text("message"))
    };
    assert_eq!(error(&["verify"], 1).0, "never_run");
    assert_eq!(error(&["preview", "main.\u{1b}nowhere"], 2).0, "unknown_table");
    assert_eq!(error(&["status", "another"], 2).0, "usage");
    assert_eq!(error(&["status", "--nonsense"], 2).0, "usage");
    quay.replace("harbour.db", "nowhere.db");
    let (code, message) = error(&["tables"], 1);
    assert!(code == "cannot_connect" && message.contains("nowhere.db"), "{code}: {message}");
    let (code, message) = error(&["run"], 1);
    assert!(code == "cannot_connect" && message.contains("nowhere.db"), "{code}: {message}");
}

/// The reference in the docs is what the program says of itself.
#[test]
fn the_command_reference_is_what_help_says() {
    let help = |arguments: &[&str]| {
        let folder = crate::harness::Folder::with("");
        let said = folder.moorage(&[arguments, &["--help"]].concat()).expect(0, &[]).out;
        said.lines().map(|line| format!("{}\n", line.trim_end())).collect::<String>()
    };
    let whole = help(&[]);
    let commands = whole.lines().skip_while(|line| *line != "Commands:").skip(1);
    let commands: Vec<&str> = commands
        .take_while(|line| !line.is_empty())
        .filter_map(|line| line.split_whitespace().next())
        .filter(|command| *command != "help")
        .collect();
    assert!(commands.len() > 10, "{commands:?}");
    let mut wanted = format!(
        "# Commands\n\nWhat `moorage --help` says, and `--help` of each command.\n\n```text\n{whole}```\n"
    );
    for command in commands {
        wanted.push_str(&format!("\n## {command}\n\n```text\n{}```\n", help(&[command])));
    }
    // Asked when it runs: where builds share their folder, a binary may have been compiled for another checkout.
    let docs = format!("{}/../../docs/commands.md", std::env::var("CARGO_MANIFEST_DIR").unwrap());
    let found = std::fs::read_to_string(docs).unwrap_or_default();
    if found != wanted {
        let new = concat!(env!("CARGO_TARGET_TMPDIR"), "/commands.md");
        std::fs::write(new, &wanted).unwrap();
        panic!("docs/commands.md is not what --help says: copy {new} there");
    }
}

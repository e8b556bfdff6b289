//! Looking, choosing, mapping and planning before the first row moves.

use crate::harness::{Folder, Project, Quay, ident};
use moorage_testkit::PostgresServer;
use rstest::rstest;
use serde_json::Value;

const MARINA: &str =
    "CREATE TABLE berths (id INTEGER PRIMARY KEY, name TEXT); CREATE TABLE stays (id INTEGER PRIMARY KEY);
    CREATE TABLE stays_tmp (id INTEGER PRIMARY KEY); INSERT INTO berths VALUES (1, 'north'), (2, 'south')";

fn json(folder: &Folder, arguments: &[&str], code: i32) -> Value {
    let ran = folder.moorage(&[arguments, &["--format", "json"]].concat()).expect(code, &[]);
    serde_json::from_str(&ran.out).unwrap_or_else(|e| panic!("{e}: {}", ran.all()))
}

#[test]
fn tables_are_picked_by_pattern_and_it_is_said_by_which_and_why_not() {
    let quay = Quay::new(MARINA);
    quay.replace("into", "include = [\"main.*\", \"berths\"]\nexclude = [\"*_tmp\"]\ninto");
    quay.moorage(&["tables"]).expect(0, &["2 of 3 tables are picked", "excluded by *_tmp", "by berths"]);
    quay.moorage(&["tables", "--columns", "--include", "stays?tmp"])
        .expect(0, &["excluded by *_tmp", "INTEGER"]);
    let listed = json(&quay, &["tables", "--include", "stay*"], 0);
    let of = |at: usize, key: &str| listed[0]["tables"][at][key].clone();
    assert_eq!(
        (of(0, "picked"), of(1, "picked"), of(1, "picked_by")),
        (false.into(), true.into(), "stay*".into())
    );
    assert_eq!(
        (&listed[0]["schemas"][0]["tables"], &listed[0]["schemas"][0]["picked"]),
        (&3.into(), &1.into())
    );
    // A pattern that means nothing is an error, with what is near; a run does not begin.
    quay.replace("\"berths\"", "\"main.brths\"");
    let near = "pattern `main.brths` of `include` means no table of the source; did you mean main.berths?";
    quay.moorage(&["tables"]).expect(2, &[near]);
    quay.moorage(&["plan"]).expect(3, &[near]);
    quay.refuses(&[near]);
    assert!(!quay.path("warehouse.db").exists());
    quay.replace("\"main.brths\"", "\"MAIN.berths\"");
    quay.moorage(&["tables"]).expect(2, &["did you mean main.berths?"]);
    quay.replace("\"MAIN.berths\"", "\"main.ber[\"");
    quay.moorage(&["tables"]).expect(2, &["`main.ber[` is not a pattern"]);
}

#[test]
fn a_pasted_list_becomes_the_include_list_and_comments_stay() {
    let quay = Quay::new(MARINA);
    quay.replace("[pipelines", "# ours\n[pipelines");
    std::fs::write(quay.path("wanted.txt"), "berths; main.stays\n\tberths,\n").unwrap();
    let printed = quay.moorage(&["tables", "--from-list", "wanted.txt"]).expect(0, &[]).out;
    assert_eq!(printed.trim(), "include = [\n  \"main.berths\",\n  \"main.stays\",\n]");
    quay.moorage(&["tables", "--from-list", "wanted.txt", "--write"]).expect(0, &["names 2 tables"]);
    let text = std::fs::read_to_string(quay.path("moorage.toml")).unwrap();
    assert!(text.contains("# ours\n[pipelines.quayside]") && text.contains("  \"main.stays\",\n"), "{text}");
    quay.moorage(&["tables"]).expect(0, &["2 of 3"]);
    std::fs::write(quay.path("wanted.txt"), "berths stais").unwrap();
    quay.moorage(&["tables", "--from-list", "wanted.txt", "--write"]).expect(2, &["`stais`", "main.stays"]);
    quay.moorage(&["tables"]).expect(0, &["2 of 3"]);
}

#[test]
fn a_plan_says_what_happens_to_rows_that_are_there_and_what_is_read() {
    let quay = Quay::new(MARINA);
    quay.add("[[pipelines.quayside.rule]]\nmatch = 'berths'\ndrop = [\"name\"]\nadd.label = { expression = \"upper(name)\" }");
    quay.tamper("CREATE TABLE stays (id INTEGER PRIMARY KEY); INSERT INTO stays VALUES (7)");
    quay.moorage(&["plan"]).expect(
        3,
        &[
            "main.stays → stays",
            "blocked: target table stays is already there",
            "1 blocked",
            "rows a second, measured just now",
        ],
    );
    quay.replace("into", "existing_rows = \"replace\"\ninto");
    quay.moorage(&["plan"])
        .expect(0, &["1 rows, which are replaced", "will be created", "upper(name)", "dropped by a rule"]);
    let plan = json(&quay, &["plan"], 0);
    let berths = &plan[0]["tables"][0];
    assert_eq!((&berths["action"], &berths["row_estimate"]), (&"create".into(), &2.into()));
    assert!(berths["bytes"].as_u64().unwrap() >= 512);
    assert_eq!(
        (&berths["columns"][1]["source"], &berths["columns"][1]["logical_type"]),
        (&"upper(name)".into(), &"text".into())
    );
    assert_eq!(plan[0]["tables"][1]["existing_rows_become"], "replaced");
    assert!(plan[0]["estimate"]["rows_per_second"].as_u64().unwrap() > 0);
    quay.catch_up();
    assert_eq!(quay.value::<String>("SELECT group_concat(label) FROM berths"), "NORTH,SOUTH");
    quay.moorage(&["plan"]).expect(0, &["a run goes on with it"]);
    quay.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

#[test]
fn statements_that_were_changed_by_hand_make_the_table_and_stay_through_a_resnapshot() {
    let quay = Quay::new(MARINA);
    quay.moorage(&["plan", "--ddl-dir", "ddl"]).expect(0, &["ddl/berths.sql: written", "ddl_dir = \"ddl\""]);
    quay.replace("into", "ddl_dir = \"ddl\"\ninto");
    let path = quay.path("ddl/berths.sql");
    let text = std::fs::read_to_string(&path).unwrap();
    let by_hand = |from: &str, to: &str| {
        assert!(text.contains(from), "{text}");
        std::fs::write(&path, text.replace(from, to)).unwrap();
    };
    by_hand("\"name\" TEXT", "\"label\" TEXT");
    quay.moorage(&["plan"]).expect(3, &["has no column name"]);
    quay.refuses(&["changed by hand", "has no column name"]);
    by_hand("CREATE TABLE", "CREATE TABEL");
    quay.moorage(&["plan"]).expect(3, &["syntax error", "Mend the file"]);
    by_hand("\"name\" TEXT", "\"name\" TEXT COLLATE NOCASE, loaded_by TEXT DEFAULT 'moorage'");
    quay.moorage(&["plan", "--ddl-dir", "ddl"])
        .expect(0, &["ddl/berths.sql: left alone, it was changed by hand", "ddl/stays.sql: written"]);
    quay.moorage(&["plan"]).expect(0, &["made by statements that were changed by hand"]);
    quay.catch_up();
    let count = "SELECT count(*) FROM berths WHERE name = 'NORTH' AND loaded_by = 'moorage'";
    assert_eq!(quay.value::<i64>(count), 1, "the collation is the one that was written by hand");
    quay.moorage(&["resnapshot", "main.berths"]).expect(0, &[]);
    quay.catch_up();
    assert_eq!(quay.value::<i64>(count), 1);
    quay.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

#[test]
fn a_naming_rule_is_found_from_one_example_and_tried_on_all_tables() {
    let quay = Quay::new(MARINA);
    quay.moorage(&["plan", "--example", "main.berths=quay_berths"])
        .expect(0, &["into = \"quay_{table}\"", "quay_stays", "explains 3 of 3"]);
    quay.tamper("CREATE TABLE q_BERTHS (id INTEGER PRIMARY KEY); CREATE TABLE q_STAYS (id INTEGER PRIMARY KEY); CREATE TABLE other (x)");
    quay.moorage(&["plan", "--example", "berths=q_BERTHS", "--write"]).expect(
        3,
        &[
            "into = \"q_{table:upper}\"",
            "the target has no table of that name",
            "explains 2 of 3",
            "names nothing of: other",
        ],
    );
    let text = std::fs::read_to_string(quay.path("moorage.toml")).unwrap();
    assert!(text.contains("into = \"q_{table:upper}\""), "{text}");
    quay.moorage(&["plan", "--example", "main.berts=x"]).expect(2, &["did you mean main.berths?"]);
    quay.moorage(&["plan", "--example", "main.berths=pier"]).expect(2, &["no rule makes"]);
    quay.moorage(&["plan", "--example", "main.berths"]).expect(2, &["give a table and its target"]);
}

#[test]
fn init_writes_what_was_said_and_never_a_password() {
    let project = Project::new("init_flags");
    project.session.run(
        "CREATE TABLE berths (id int PRIMARY KEY); CREATE ROLE init_role LOGIN SUPERUSER PASSWORD 'sesame'",
    );
    let url = PostgresServer::shared().url("init_flags").replace("postgres@", "init_role:sesame@");
    let init = [
        "init",
        "--kind",
        "postgres",
        "--url",
        &url,
        "--include",
        "public.*",
        "--into",
        "{table}",
        "--pipeline",
        "quay",
    ];
    project.moorage(&init).expect(2, &["is there already", "--force"]);
    let forced = [&init[..], &["--force"]].concat();
    project.moorage(&forced).expect(0, &["connected: PostgreSQL 15", "1 tables", "INIT_FLAGS_PASSWORD"]);
    let text = std::fs::read_to_string(project.path("moorage.toml")).unwrap();
    assert!(
        !text.contains("sesame") && text.contains("password = { env = \"INIT_FLAGS_PASSWORD\" }"),
        "{text}"
    );
    project.moorage(&["plan"]).expect(1, &["INIT_FLAGS_PASSWORD is not set"]);
    let ran = project.command(&["plan"]).env("INIT_FLAGS_PASSWORD", "sesame").output().unwrap();
    assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
    let wrong = url.replace("init_flags", "nowhere");
    project.moorage(&["init", "--force", "--kind", "postgres", "--url", &wrong]).expect(1, &["nowhere"]);
    project.moorage(&["init", "-f", "x.toml"]).expect(2, &["asks only on a terminal"]);
    project.moorage(&["init", "-f", "x.toml", "--kind", "sqlite"]).expect(2, &["needs --path"]);
    assert!(!project.path("x.toml").exists());
}

#[test]
fn init_asks_on_a_terminal_and_tests_the_connection_at_once() {
    let quay = Quay::new(MARINA);
    std::fs::remove_file(quay.path("moorage.toml")).unwrap();
    let mut command = std::process::Command::new(env!("CARGO_BIN_EXE_moorage"));
    command.arg("init").current_dir(quay.folder()).env("TERM", "xterm");
    let mut terminal = rexpect::session::spawn_command(command, Some(20_000)).unwrap();
    let mut answer = |question: &str, keys: &str| {
        terminal.exp_string(question).unwrap_or_else(|e| panic!("{question}: {e}"));
        terminal.send(keys).unwrap();
        terminal.flush().unwrap();
    };
    answer("Where do rows come from?", "SQLite\r");
    answer("Which file?", "nowhere.db\r");
    answer("What now?", "\r");
    answer("Which file?", "harbour.db\r");
    answer("Which schemas?", "\r");
    answer("Which tables of main?", "some\r");
    answer("Pick with the space bar:", " \u{1b}[B \r");
    answer("Where do rows go:", "\r");
    answer("How are target tables named?", "quay_{table}\r");
    answer("What is the pipeline called?", "\r");
    terminal.exp_string("is written").unwrap();
    let text = std::fs::read_to_string(quay.path("moorage.toml")).unwrap();
    assert!(
        text.contains("\"main.berths\"") && text.contains("\"main.stays\"") && !text.contains("stays_tmp"),
        "{text}"
    );
    quay.moorage(&["plan"]).expect(0, &["2 tables to carry"]);
}

/// Names that are hard: quotes, dots, blanks, reserved words, other scripts, 63 bytes, two that differ by case.
const ODD: [&str; 8] = [
    "it's \"odd\".really",
    "select",
    "Größe und 🛥",
    "a.b",
    "*",
    "[x]",
    "012345678901234567890123456789012345678901234567890123456789abc",
    "end; drop",
];

fn odd_tables(schema: &str, key: &str) -> String {
    let column = |i: usize| ident(ODD[(i + 3) % ODD.len()]);
    let table = |(i, name): (usize, &&str)| {
        let table = format!("{schema}{}", ident(name));
        format!(
            "CREATE TABLE {table} (id {key} PRIMARY KEY, {} text); INSERT INTO {table} VALUES (1, 'one'), (2, null);",
            column(i)
        )
    };
    ODD.iter().enumerate().map(table).collect()
}

/// All commands see the same tables, by the names that they print themselves.
#[track_caller]
fn goes_all_the_way(folder: &Folder, change: impl Fn(&str), schema: &str) {
    let listed = json(folder, &["tables"], 0);
    let names: Vec<String> =
        listed[0]["tables"].as_array().unwrap().iter().map(|t| t["table"].as_str().unwrap().into()).collect();
    assert_eq!(names.len(), ODD.len());
    let list = names.join(", ");
    std::fs::write(folder.path("list.txt"), &list).unwrap();
    folder.moorage(&["tables", "--from-list", "list.txt", "--write"]).expect(0, &["names 8 tables"]);
    folder.moorage(&["check"]).expect(0, &["ready"]);
    folder.moorage(&["plan"]).expect(0, &["8 tables to carry, 0 blocked"]);
    folder.moorage(&["plan", "--ddl-dir", "ddl"]).expect(0, &[]);
    assert_eq!(std::fs::read_dir(folder.path("ddl")).unwrap().count(), ODD.len());
    folder.catch_up();
    for name in ODD {
        change(&format!(
            "INSERT INTO {schema}{0} VALUES (3, 'three'); DELETE FROM {schema}{0} WHERE id = 2",
            ident(name)
        ));
    }
    folder.catch_up();
    let status = json(folder, &["status"], 0);
    let tables = status[0]["tables"].as_array().unwrap();
    assert!(tables.len() == 8 && tables.iter().all(|t| t["rows"] == 2 && t["state"] == "live"), "{status}");
    folder.moorage(&["verify"]).expect(0, &["both sides agree"]);
    for name in &names {
        folder.moorage(&["row", name, "3"]).expect(0, &["both sides agree"]);
        folder.moorage(&["preview", name, "--rows", "1"]).expect(0, &["one"]);
    }
}

#[test]
fn odd_names_go_all_the_way_from_sqlite() {
    let quay = Quay::new(&odd_tables("", "INTEGER"));
    goes_all_the_way(&quay, |sql| quay.change(sql), "");
}

#[rstest]
#[case::by_log("odd_log", "")]
#[case::by_trigger("odd_trigger", "capture = \"trigger\"\n")]
fn odd_names_go_all_the_way_from_postgresql(#[case] name: &str, #[case] capture: &str) {
    let project = Project::new(name);
    let schema = "\"My \"\"Schema\"\".2\".";
    project.session.run(&format!(
        "CREATE SCHEMA {}; {}",
        schema.trim_end_matches('.'),
        odd_tables(schema, "int")
    ));
    project.replace("[targets", &format!("{capture}[targets"));
    goes_all_the_way(&project, |sql| project.session.run(sql), schema);
    // Two names that SQLite does not tell apart are refused by name, and mended by the naming rule's help.
    project
        .session
        .run("CREATE TABLE \"Stays\" (id int PRIMARY KEY); CREATE TABLE stays (id int PRIMARY KEY)");
    project.replace("into = \"{table}\"", "into = \"{table}\"\nexclude = []");
    project
        .moorage(&["tables", "--include", "public.*", "--include", "public.Stays"])
        .expect(0, &["public.Stays", "2 of 10"]);
    project.replace("include = [", "include = [\"public.*\", ");
    project.moorage(&["plan"]).expect(3, &["public.Stays: blocked", "would be shared with public.stays"]);
    project
        .add(&format!("[[pipelines.{name}.rule]]\nmatch = \"public.Stays\"\ninto = \"{{table:lower}}_old\""));
    project.moorage(&["plan"]).expect(0, &["public.Stays → stays_old", "10 tables to carry"]);
    project.catch_up();
    project.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

#[test]
fn looking_asks_the_catalogue_as_often_for_many_tables_as_for_few() {
    let server = PostgresServer::start(&["log_statement = all", "max_locks_per_transaction = 512"]);
    let asked = |name: &str, tables: usize| {
        let project = Project::on(&server, name);
        project.session.run(&format!("DO $$ BEGIN FOR i IN 1..{tables} LOOP EXECUTE format('CREATE TABLE t%s (id int PRIMARY KEY, a text)', i); END LOOP; END $$"));
        ["tables", "check", "plan"].map(|command| {
            let count = || {
                let log = std::fs::read_to_string(server.log()).unwrap();
                log.lines().filter(|l| l.contains("LOG:  execute") || l.contains("LOG:  statement")).count()
            };
            let before = count();
            project.moorage(&[command]).expect(0, &[]);
            count() - before
        })
    };
    assert_eq!(asked("few", 3), asked("many", 90));
}

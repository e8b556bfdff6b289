//! Several tables of a source that stand together in one target table: partitions, schemas of the same tables, pipelines.

use crate::harness::Mirror;
use moorage_testkit::{PostgresServer, wait_until};
use rstest::rstest;
use serde_json::Value;

/// Readings by month, in partitions.
const READINGS: &str = "CREATE TABLE readings (id int, at date, val text, PRIMARY KEY (id, at)) PARTITION BY RANGE (at);
    CREATE TABLE readings_01 PARTITION OF readings FOR VALUES FROM ('2026-01-01') TO ('2026-02-01');
    CREATE TABLE readings_02 PARTITION OF readings FOR VALUES FROM ('2026-02-01') TO ('2026-03-01');
    CREATE TABLE readings_03 PARTITION OF readings FOR VALUES FROM ('2026-03-01') TO ('2026-04-01');
    INSERT INTO readings SELECT i, date '2026-01-01' + i % 90, 'v' || i FROM generate_series(1, 900) i;
    CREATE TABLE spare (val text, gone int, at date, id int, PRIMARY KEY (id, at)); ALTER TABLE spare DROP gone;
    INSERT INTO spare SELECT 's' || i, date '2026-06-01' + i, i FROM generate_series(1, 20) i";
/// Rows that come, change, go, and go from one partition to another.
const WORK: &str = "DO $$ BEGIN
    INSERT INTO readings VALUES ((random() * 900)::int, date '2026-01-01' + (random() * 150)::int, md5(random()::text))
      ON CONFLICT (id, at) DO UPDATE SET val = excluded.val;
    UPDATE readings SET at = date '2026-01-01' + (random() * 180)::int WHERE id = (random() * 900)::int;
    DELETE FROM readings WHERE id = (random() * 900)::int;
  EXCEPTION WHEN check_violation OR unique_violation THEN NULL; END $$";

/// How many rows of the gathered table came from a table.
fn from(mirror: &Mirror, table: &str) -> i64 {
    let which = format!("WHERE moorage_from = 'public.{table}'");
    match mirror.path("warehouse.db").exists() {
        true => mirror.value(&format!("SELECT count(*) FROM readings {which}")),
        false => mirror.target.value(&format!("SELECT count(*) FROM mirror.readings {which}")),
    }
}

/// Ends the test unless the target has exactly the rows of the partitioned table, each once.
#[track_caller]
fn same_as_root(mirror: &Mirror) {
    let rows = |text: &str| format!("SELECT string_agg({text}, '; ' ORDER BY id, at) FROM");
    let expected: String =
        mirror.source.value(&format!("{} readings", rows("concat_ws(' ', id, at, val, tableoid::regclass)")));
    let found: String = match mirror.path("warehouse.db").exists() {
        true => mirror.value(
            "SELECT group_concat(concat_ws(' ', id, at, val, replace(moorage_from, 'public.', '')), '; ' ORDER BY id, at) FROM readings",
        ),
        false => mirror.target.value(&format!(
            "{} mirror.readings",
            rows("concat_ws(' ', id, at, val, replace(moorage_from, 'public.', ''))")
        )),
    };
    assert_eq!(found, expected);
}

/// Under load: partitions come, are attached, detached, dropped and emptied, and rows go from one to another.
#[rstest]
fn the_partitions_of_a_table_stand_together_whatever_becomes_of_them(
    #[values("log", "trigger")] capture: &str,
    #[values("database", "file")] target: &str,
) {
    let name = format!("parts_{capture}_{target}");
    let mirror = Mirror::new(&name, READINGS);
    if target == "file" {
        mirror.has_file_as_target();
    }
    mirror.replace("[sources.harbour]", &format!("[sources.harbour]\ncapture = \"{capture}\""));
    let planned = mirror.moorage(&["plan"]).expect(0, &["public.readings_01", "readings", "moorage_from"]);
    assert!(!planned.out.contains("unique in each partition"), "{}", planned.out);
    mirror.moorage(&["tables"]).expect(0, &["its partitions stand together in one target table"]);
    mirror.catch_up();
    same_as_root(&mirror);
    let mut running = mirror.start(&["run"]);
    running.wait_for("following changes");
    let load = mirror.load(WORK);
    mirror.source.run(
        "CREATE TABLE readings_04 PARTITION OF readings FOR VALUES FROM ('2026-04-01') TO ('2026-05-01')",
    );
    wait_until("the new one joins", || from(&mirror, "readings_04") > 0);
    mirror
        .source
        .run("ALTER TABLE readings ATTACH PARTITION spare FOR VALUES FROM ('2026-06-01') TO ('2026-07-01')");
    wait_until("what was attached joins", || from(&mirror, "spare") >= 20);
    mirror.source.run("ALTER TABLE readings DETACH PARTITION readings_01");
    wait_until("what was detached is gone", || from(&mirror, "readings_01") == 0);
    mirror.source.run("TRUNCATE readings_02");
    mirror.source.run("DROP TABLE readings_03");
    wait_until("what was dropped is gone", || from(&mirror, "readings_03") == 0);
    drop(load);
    running.signal("INT");
    assert_eq!(running.end(), 0, "{}", running.log());
    mirror.catch_up();
    same_as_root(&mirror);
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    let sql = "SELECT count(*) FROM readings_01";
    let alone: i64 = match target {
        "file" => mirror.value(sql),
        _ => mirror.target.value("SELECT count(*) FROM mirror.readings_01"),
    };
    assert_eq!(alone, mirror.source.value::<i64>(sql), "what was detached is a table of its own");
    for not_so in ["may have been missed", "it is read again", "public.readings_01: it was made"] {
        assert!(!running.log().contains(not_so), "{not_so}: {}", running.log());
    }
}

/// The same table in three schemas, which do not have the same columns, and a quay that a row's number is free to be used in each.
const QUAYS: &str = "CREATE SCHEMA east; CREATE SCHEMA north; CREATE SCHEMA west;
    CREATE TABLE east.berths (id int PRIMARY KEY, name text, depth int);
    CREATE TABLE north.berths (name text, id int PRIMARY KEY);
    CREATE TABLE west.berths (id int PRIMARY KEY, name text, lit bool);
    INSERT INTO east.berths SELECT i, 'e' || i, i FROM generate_series(1, 300) i;
    INSERT INTO north.berths SELECT 'n' || i, i FROM generate_series(1, 300) i;
    INSERT INTO west.berths SELECT i, 'w' || i, i % 2 = 0 FROM generate_series(1, 300) i";
const QUAYS_WORK: &str = "DO $$ BEGIN
    INSERT INTO east.berths VALUES ((random() * 900)::int, md5(random()::text), 1) ON CONFLICT (id) DO UPDATE SET name = excluded.name;
    UPDATE east.berths SET id = (random() * 900)::int WHERE id = (random() * 900)::int;
    DELETE FROM east.berths WHERE id = (random() * 900)::int;
  EXCEPTION WHEN unique_violation THEN NULL; END $$";

/// Tables of all schemas, gathered; `rule` is what else is said of them.
fn gathers(name: &str, tables: &str, target: &str, rule: &str) -> Mirror {
    let mirror = Mirror::new(name, tables);
    if target == "file" {
        mirror.has_file_as_target();
    }
    mirror.replace("include = [\"public.*\"]", "include = [\"*.berths\"]");
    mirror.add(&format!(
        "[[pipelines.{name}.rule]]\nmatch = \"*.berths\"\ngather = true\ninto = \"berths\"\n{rule}"
    ));
    mirror
}

/// The first value of a query of the target; `berths` in it is the target's.
fn at_target(mirror: &Mirror, sql: &str) -> String {
    match mirror.path("warehouse.db").exists() {
        true => mirror.value(sql),
        false => mirror
            .target
            .value(&sql.replace(" berths", " mirror.berths").replace("group_concat(", "string_agg(")),
    }
}

/// All gathered rows, as text, against what the schemas have.
#[track_caller]
fn same_as_quays(mirror: &Mirror) {
    let all = "SELECT id, name, depth, NULL::bool AS lit, 'east.berths' AS f FROM east.berths
        UNION ALL SELECT id, name, NULL, NULL, 'north.berths' FROM north.berths
        UNION ALL SELECT id, name, NULL, lit, 'west.berths' FROM west.berths";
    let text = "concat_ws(' ', id, name, depth, CAST(lit AS int), ";
    let expected: String =
        mirror.source.value(&format!("SELECT string_agg({text} f), '; ' ORDER BY f, id) FROM ({all}) a"));
    let found = at_target(
        mirror,
        &format!("SELECT group_concat({text} moorage_from), '; ' ORDER BY moorage_from, id) FROM berths"),
    );
    assert_eq!(found, expected);
}

/// While one of three is read again under load, nothing becomes of the rows of the others; nor when it is emptied, altered or let go of.
#[rstest]
fn what_becomes_of_one_table_is_nothing_to_the_rows_of_the_others(
    #[values("database", "file")] target: &str,
) {
    let mirror = gathers(&format!("quays_{target}"), QUAYS, target, "");
    mirror.catch_up();
    same_as_quays(&mirror);
    let places = || match target {
        "file" => at_target(
            &mirror,
            "SELECT group_concat(rowid || name, ' ' ORDER BY rowid) FROM berths WHERE moorage_from <> 'east.berths'",
        ),
        _ => at_target(
            &mirror,
            "SELECT string_agg(ctid::text || xmin::text || name, ' ' ORDER BY ctid) FROM berths WHERE moorage_from <> 'east.berths'",
        ),
    };
    let before = places();
    let mut running = mirror.follow();
    let load = mirror.load(QUAYS_WORK);
    for times in 1..=3 {
        mirror.moorage(&["resnapshot", "east.berths"]).expect(0, &[]);
        wait_until("it is read again", || running.log().matches("read east.berths").count() >= times);
    }
    mirror.source.run("TRUNCATE east.berths; INSERT INTO east.berths VALUES (1, 'anew', 4)");
    drop(load);
    running.signal("INT");
    assert_eq!(running.end(), 0, "{}", running.log());
    mirror.catch_up();
    same_as_quays(&mirror);
    assert_eq!(places(), before);
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    // A column that one of them loses stays the others', and one that it gains is null in theirs.
    mirror.source.run("ALTER TABLE east.berths ADD colour text DEFAULT 'red'; INSERT INTO east.berths VALUES (2, 'two', 5, 'blue')");
    mirror.catch_up();
    let colours = "SELECT group_concat(DISTINCT moorage_from || COALESCE(colour, '-'), ' ' ORDER BY moorage_from || COALESCE(colour, '-')) FROM berths";
    match target {
        "file" => assert_eq!(
            at_target(
                &mirror,
                "SELECT count(DISTINCT moorage_from || COALESCE(colour, '-')) || '' FROM berths"
            ),
            "4"
        ),
        _ => assert_eq!(
            at_target(&mirror, colours),
            "east.berthsblue east.berthsred north.berths- west.berths-"
        ),
    }
    mirror.replace("include = [\"*.berths\"]", "include = [\"*.berths\"]\nexclude = [\"east.berths\"]");
    mirror.catch_up();
    mirror.moorage(&["teardown", "--target", "--table", "east.berths"]).expect(0, &["its rows are removed"]);
    assert_eq!(
        at_target(&mirror, "SELECT count(*) || '' FROM berths WHERE moorage_from = 'east.berths'"),
        "0"
    );
    assert_eq!(at_target(&mirror, "SELECT count(*) || '' FROM berths"), "600");
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// Each keeps what it keeps, of its own rows: emptied, read again, deleted, with its key changed.
#[rstest]
fn tables_that_keep_more_stand_together(
    #[values("database", "file")] target: &str,
    #[values("keep = \"changes\"", "keep = \"versions\"", "deletes = \"mark\"", "deletes = \"ignore\"")] rule: &str,
) {
    let word = rule.split('"').nth(1).unwrap();
    let mirror = gathers(&format!("more_{word}_{target}"), QUAYS, target, rule);
    mirror.catch_up();
    mirror.source.run(
        "UPDATE east.berths SET name = 'x' WHERE id < 5; UPDATE east.berths SET id = id + 1000 WHERE id = 7; DELETE FROM east.berths WHERE id = 8;
         INSERT INTO east.berths VALUES (8, 'again', 8); TRUNCATE north.berths; INSERT INTO north.berths VALUES ('one', 1), ('two', 2);
         DELETE FROM west.berths WHERE id = 3",
    );
    mirror.catch_up();
    mirror.moorage(&["resnapshot", "west.berths"]).expect(0, &[]);
    mirror.source.run("UPDATE west.berths SET name = 'last' WHERE id = 4");
    mirror.catch_up();
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    let (of, sql) = match word {
        "changes" => ("berths_current", ""),
        "versions" => ("berths", "WHERE moorage_until IS NULL"),
        "mark" => ("berths", "WHERE moorage_deleted_at IS NULL"),
        // Those that are gone stay.
        _ => (
            "berths",
            "WHERE NOT (moorage_from = 'north.berths' AND id > 2) AND NOT (moorage_from = 'west.berths' AND id = 3)",
        ),
    };
    let text = "concat_ws(' ', id, name, moorage_from)";
    let found = at_target(
        &mirror,
        &format!("SELECT group_concat({text}, '; ' ORDER BY moorage_from, id) FROM {of} {sql}"),
    );
    let expected: String = mirror.source.value(
        "SELECT string_agg(concat_ws(' ', id, name, f), '; ' ORDER BY f, id) FROM (SELECT id, name, 'east.berths' AS f FROM east.berths
         UNION ALL SELECT id, name, 'north.berths' FROM north.berths UNION ALL SELECT id, name, 'west.berths' FROM west.berths) a",
    );
    assert_eq!(found, expected);
    let count = at_target(&mirror, "SELECT count(*) || '' FROM berths WHERE moorage_from = 'north.berths'");
    let expected = match word {
        "changes" => 300 + 1 + 2,
        "versions" => 300 + 2,
        _ => 300,
    };
    assert_eq!(count, expected.to_string());
}

/// Where keys are said to be disjoint, that is held against every row: no row is ever taken from another table.
#[rstest]
#[case("database", "set_aside")]
#[case("database", "stop")]
#[case("file", "stop")]
fn keys_that_are_said_to_be_disjoint_are_checked(#[case] target: &str, #[case] on_reject: &str) {
    let tables = "CREATE SCHEMA east; CREATE SCHEMA west; CREATE TABLE east.berths (id int PRIMARY KEY, name text);
        CREATE TABLE west.berths (id int PRIMARY KEY, name text); INSERT INTO east.berths VALUES (1, 'e'), (2, 'e'); INSERT INTO west.berths VALUES (11, 'w'), (2, 'w')";
    let reject = if target == "file" { String::new() } else { format!("on_reject = \"{on_reject}\"") };
    let name = format!("disjoint_{on_reject}_{target}");
    let mirror = gathers(&name, tables, target, &["disjoint_keys = true", &reject].join("\n"));
    let rows =
        || at_target(&mirror, "SELECT group_concat(id || name || moorage_from, ' ' ORDER BY id) FROM berths");
    // Already when they are read.
    let into = if target == "file" { "berths" } else { "mirror.berths" };
    mirror.refuses(&["a row with the same key", &format!("then run `moorage resnapshot {into}`")]);
    mirror.source.run("UPDATE west.berths SET id = 12 WHERE id = 2");
    mirror.moorage(&["resnapshot", into]).expect(0, &["east.berths, west.berths"]);
    mirror.catch_up();
    assert_eq!(rows(), "1eeast.berths 2eeast.berths 11wwest.berths 12wwest.berths");
    mirror.source.run("INSERT INTO west.berths VALUES (1, 'twice'), (13, 'w')");
    if on_reject == "stop" {
        mirror.refuses(&["berths", "1"]);
        mirror.source.run("DELETE FROM west.berths WHERE id = 1");
        mirror.moorage(&["resnapshot", "west.berths"]).expect(0, &[]);
    }
    mirror.catch_up();
    assert_eq!(rows(), "1eeast.berths 2eeast.berths 11wwest.berths 12wwest.berths 13wwest.berths");
    if on_reject == "set_aside" {
        mirror.moorage(&["rejects"]).expect(0, &["west.berths"]);
        mirror.moorage(&["verify"]).expect(3, &[]);
        // One goes from one to the other in one transaction, in whatever order.
        mirror.source.run("DELETE FROM west.berths WHERE id = 1; BEGIN; INSERT INTO west.berths VALUES (2, 'moved'); DELETE FROM east.berths WHERE id = 2; COMMIT");
        mirror.catch_up();
        assert_eq!(rows(), "1eeast.berths 2movedwest.berths 11wwest.berths 12wwest.berths 13wwest.berths");
    }
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// Two sources, two pipelines, one table: a pipeline that is torn down takes its rows along.
#[rstest]
fn pipelines_with_different_sources_write_into_one_table(#[values("database", "file")] target: &str) {
    let name = format!("shards_{target}");
    let rule = "from_name = \"{source}\"\nfrom_column = \"shard\"";
    let mirror = gathers(
        &name,
        "CREATE TABLE berths (id int PRIMARY KEY, name text); INSERT INTO berths VALUES (1, 'a'), (2, 'a')",
        target,
        rule,
    );
    let other = format!("{name}_2");
    PostgresServer::shared().session("postgres").run(&format!("CREATE DATABASE {other}"));
    let second = PostgresServer::shared().session(&other);
    second.run("CREATE TABLE berths (id int PRIMARY KEY, name text, more int); INSERT INTO berths VALUES (1, 'b', 5)");
    let url = std::fs::read_to_string(mirror.path("moorage.toml")).unwrap();
    let url = url
        .lines()
        .find(|line| line.starts_with("url"))
        .unwrap()
        .replace(&format!("/{name}\""), &format!("/{other}\""));
    mirror.add(&format!(
        "[sources.second]\nkind = \"postgres\"\n{url}\n[pipelines.{other}]\nsource = \"second\"\ntarget = \"warehouse\"\ninclude = [\"*.berths\"]
         [[pipelines.{other}.rule]]\nmatch = \"*.berths\"\ngather = true\ninto = \"berths\"\n{rule}",
    ));
    mirror.catch_up();
    let rows = || {
        at_target(
            &mirror,
            "SELECT group_concat(concat_ws(' ', shard, id, name, more), '; ' ORDER BY shard, id) FROM berths",
        )
    };
    assert_eq!(rows(), "harbour 1 a; harbour 2 a; second 1 b 5");
    mirror.source.run(
        "UPDATE berths SET name = 'c' WHERE id = 1; TRUNCATE berths; INSERT INTO berths VALUES (1, 'd')",
    );
    second.run("INSERT INTO berths VALUES (2, 'e', 6)");
    mirror.catch_up();
    assert_eq!(rows(), "harbour 1 d; second 1 b 5; second 2 e 6");
    mirror.moorage(&["verify"]).expect(0, &["both sides agree: 1 rows", "both sides agree: 2 rows"]);
    // One that says another key, or that rows come from the same place, is told so.
    mirror.replace(&format!("[pipelines.{other}]"), &format!("[pipelines.third]\nsource = \"second\"\ntarget = \"warehouse\"\ninclude = [\"*.berths\"]
         [[pipelines.third.rule]]\nmatch = \"*.berths\"\ngather = true\ninto = \"berths\"\n{rule}\n[pipelines.{other}]"));
    mirror
        .moorage(&["run", "third", "--until", "caught-up"])
        .expect(1, &["already writes rows there that are said to come from second", "from_name"]);
    mirror.replace("match = \"*.berths\"\ngather = true\ninto = \"berths\"\nfrom_name = \"{source}\"\nfrom_column = \"shard\"\n[pipelines", "match = \"*.berths\"\ngather = true\ninto = \"berths\"\nfrom_name = \"third\"\n[pipelines");
    mirror
        .moorage(&["run", "third", "--until", "caught-up"])
        .expect(1, &["stands there already", "from_column"]);
    assert_eq!(rows(), "harbour 1 d; second 1 b 5; second 2 e 6");
    mirror.moorage(&["teardown", &other, "--target"]).expect(0, &["its rows are removed"]);
    assert_eq!(rows(), "harbour 1 d");
}

/// What does not fit is named before anything is done.
#[test]
fn tables_that_do_not_fit_each_other_are_refused_by_name() {
    let tables = "CREATE SCHEMA east; CREATE SCHEMA west; CREATE TABLE east.berths (id int PRIMARY KEY, name text, depth int);
        CREATE TABLE west.berths (id int PRIMARY KEY, name text, depth text)";
    let mirror = gathers("misfits", tables, "database", "");
    let says = |rule: &str, words: &[&str]| {
        mirror.replace("into = \"berths\"\n", &format!("into = \"berths\"\n{rule}\n"));
        mirror.moorage(&["plan"]).expect(3, words);
        mirror.replace(&format!("{rule}\n"), "");
    };
    mirror.moorage(&["plan"]).expect(
        3,
        &["west.berths", "column depth would be integer for one and text for the other", "`cast`"],
    );
    says(
        "cast = { depth = \"text\" }\nfrom_name = \"{table}\"",
        &["rows of both would be said to come from berths"],
    );
    says("existing_rows = \"keep\"", &["existing_rows = \"keep\""]);
    says("disjoint_keys = true\nkeep = \"changes\"", &["`disjoint_keys` cannot be checked"]);
    says("disjoint_keys = true\ndeletes = \"ignore\"", &["`disjoint_keys` cannot be checked"]);
    mirror.replace("into = \"berths\"\n", "into = \"berths\"\ncast = { depth = \"text\" }\n");
    let planned = mirror.moorage(&["plan", "--format", "json"]).expect(0, &[]);
    let planned: Value = serde_json::from_str(&planned.out).unwrap();
    assert!(planned.to_string().contains("moorage_from"), "{planned}");
    mirror.catch_up();
}

/// What is altered of a partitioned table is altered of all its partitions at once, and new ones come with it.
#[rstest]
fn a_partitioned_table_is_altered_as_one(
    #[values("database", "file")] target: &str,
    #[values("", "keep = \"changes\"")] keep: &str,
) {
    let name = format!("altered_{target}_{}", keep.len());
    let mirror = Mirror::new(&name, READINGS);
    if target == "file" {
        mirror.has_file_as_target();
    }
    mirror.replace(&format!("[pipelines.{name}]"), &format!("[pipelines.{name}]\n{keep}"));
    mirror.catch_up();
    let run = mirror.follow();
    mirror.source.run(
        "BEGIN; ALTER TABLE readings ADD deep int DEFAULT 3; ALTER TABLE readings ALTER id TYPE bigint;
         CREATE TABLE readings_04 PARTITION OF readings FOR VALUES FROM ('2026-04-01') TO ('2026-05-01');
         INSERT INTO readings VALUES (5000000007, '2026-04-03', 'n', 4), (5000000008, '2026-01-03', 'n', 5); COMMIT;
         UPDATE readings SET deep = 9 WHERE id = 5",
    );
    let of = if keep.is_empty() { "readings" } else { "readings_current" };
    let rows = |table: &str| {
        format!("SELECT concat_ws(' ', count(*), sum(id), sum(deep), sum(length(val))) FROM {table}")
    };
    let found = || match target {
        "file" => mirror.value::<String>(&rows(of)),
        _ => mirror.target.value(&rows(&format!("mirror.{of}"))),
    };
    let expected: String = mirror.source.value(&rows("readings"));
    wait_until("all are as the source has them", || {
        mirror.moorage(&["status"]).out.contains("readings_04") && found() == expected
    });
    drop(run);
    mirror.catch_up();
    assert_eq!(found(), expected);
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// A pipeline whose partitions are tables of their own from before goes on so, and what `plan` says changes it over.
#[test]
fn partitions_that_were_apart_stay_so_until_the_file_says_otherwise() {
    let mirror = Mirror::new("apart_before", READINGS);
    let section = "[pipelines.apart_before]";
    mirror.replace(section, &format!("{section}\npartitions = \"apart\""));
    mirror.catch_up();
    mirror.replace("partitions = \"apart\"\n", "");
    mirror.moorage(&["plan"]).expect(
        0,
        &["the partitions of public.readings stay tables of their own", "partitions = \"together\""],
    );
    mirror.source.run("INSERT INTO readings VALUES (1000, '2026-01-05', 'more'); CREATE TABLE readings_05 PARTITION OF readings FOR VALUES FROM ('2026-05-01') TO ('2026-06-01')");
    mirror.catch_up();
    ["readings_01", "readings_05"].iter().for_each(|table| mirror.assert_same(table));
    mirror.replace(section, &format!("{section}\npartitions = \"together\""));
    mirror.moorage(&["plan"]).expect(
        0,
        &[
            "its rows have moorage_from = 'public.readings_02', where 4 tables stand together",
            "columns as of public.readings_01",
        ],
    );
    mirror.source.run("UPDATE readings SET val = 'last' WHERE id = 1000");
    mirror.catch_up();
    same_as_root(&mirror);
    mirror.moorage(&["verify"]).expect(0, &["both sides agree", "teardown --table mirror.readings_01"]);
    mirror
        .moorage(&["teardown", "--target", "--table", "mirror.readings_01"])
        .expect(0, &["mirror.readings_01: removed"]);
    mirror
        .moorage(&["teardown", "--target", "--table", "public.readings_02"])
        .expect(0, &["mirror.readings_02: removed"]);
    mirror.catch_up();
    same_as_root(&mirror);
}

/// Tables of any structure in one, a document for each row: what is altered in the source alters nothing there.
#[rstest]
fn tables_of_any_structure_stand_in_one_as_documents(
    #[values("log", "trigger")] capture: &str,
    #[values("database", "file")] target: &str,
) {
    let name = format!("documents_{capture}_{target}");
    let mirror = Mirror::new(
        &name,
        "CREATE TABLE berths (id int PRIMARY KEY, name text, depth numeric(6,2)); CREATE TABLE stays (berth int, since timestamptz, paid bool, PRIMARY KEY (berth, since));
         INSERT INTO berths SELECT i, CASE WHEN i > 2 THEN 'b' || i END, i * 1.5 FROM generate_series(1, 5) i; INSERT INTO stays VALUES (1, '2026-06-01 08:00+02', true), (2, '2026-06-02', NULL);
         CREATE TABLE gate_log (what text)",
    );
    if target == "file" {
        mirror.has_file_as_target();
    }
    mirror.replace("[sources.harbour]", &format!("[sources.harbour]\ncapture = \"{capture}\""));
    mirror.replace("into = \"{table}\"", "into = \"everything\"\nshape = \"document\"");
    if capture == "log" {
        mirror.moorage(&["plan"]).expect(3, &["needs all values of a row", "REPLICA IDENTITY FULL"]);
        mirror.source.run("ALTER TABLE berths REPLICA IDENTITY FULL");
    } else {
        mirror.moorage(&["plan"]).expect(3, &["needs rows that can be told apart"]);
    }
    mirror.source.run("DROP TABLE gate_log");
    mirror
        .moorage(&["plan"])
        .expect(0, &["moorage_table", "moorage_key", "moorage_row", "2 tables stand together"]);
    mirror.catch_up();
    let rows = || {
        match target {
        "file" => mirror.value::<String>("SELECT group_concat(concat_ws(' ', moorage_table, moorage_key, moorage_row), '; ' ORDER BY moorage_table, moorage_key) FROM everything"),
        _ => mirror.target.value(
            "SELECT string_agg(concat_ws(' ', moorage_table, moorage_key, moorage_row), '; ' ORDER BY moorage_table COLLATE \"C\", moorage_key COLLATE \"C\") FROM mirror.everything",
        ),
    }
    };
    let expect = |expected: &[&str]| {
        let plain = |text: &str| text.replace([' ', '"', '\\'], "");
        assert_eq!(plain(&rows()).replace(";", "\n"), plain(&expected.join("\n")));
    };
    let stays = "public.stays [\"2\",\"2026-06-02 00:00:00+00:00\"] {\"berth\":2,\"since\":\"2026-06-02 00:00:00+00:00\"}";
    let first = "public.stays [\"1\",\"2026-06-01 06:00:00+00:00\"] {\"berth\":1,\"paid\":true,\"since\":\"2026-06-01 06:00:00+00:00\"}";
    expect(&[
        "public.berths 1 {\"depth\":\"1.50\",\"id\":1}",
        "public.berths 2 {\"depth\":\"3.00\",\"id\":2}",
        "public.berths 3 {\"depth\":\"4.50\",\"id\":3,\"name\":\"b3\"}",
        "public.berths 4 {\"depth\":\"6.00\",\"id\":4,\"name\":\"b4\"}",
        "public.berths 5 {\"depth\":\"7.50\",\"id\":5,\"name\":\"b5\"}",
        first,
        stays,
    ]);
    mirror.source.run(
        "UPDATE berths SET id = 9 WHERE id = 3; DELETE FROM berths WHERE id = 4; UPDATE berths SET name = 'x' WHERE id = 1; INSERT INTO berths VALUES (2000, 'y', NULL);
         UPDATE stays SET since = '2026-06-03' WHERE berth = 1",
    );
    mirror.catch_up();
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    // What comes without a value of its own alters no document, and what has one is read again.
    mirror.source.run("ALTER TABLE berths ADD lit bool; UPDATE berths SET lit = true WHERE id = 2000");
    let log = mirror.catch_up().all();
    assert!(!log.contains("read again"), "{log}");
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    mirror.source.run("ALTER TABLE berths ADD colour text DEFAULT 'red'; INSERT INTO berths VALUES (3000, 'z', 1, NULL, 'blue')");
    mirror.catch_up();
    mirror.source.run("TRUNCATE stays; INSERT INTO stays VALUES (2, '2026-06-02'); DELETE FROM berths WHERE id IN (2, 5, 9); ALTER TABLE berths DROP depth");
    mirror.catch_up();
    mirror.source.run("UPDATE berths SET name = 'last' WHERE id = 1");
    mirror.catch_up();
    expect(&[
        "public.berths 1 {\"colour\":\"red\",\"id\":1,\"name\":\"last\"}",
        "public.berths 2000 {\"colour\":\"red\",\"id\":2000,\"lit\":true,\"name\":\"y\"}",
        "public.berths 3000 {\"colour\":\"blue\",\"id\":3000,\"name\":\"z\"}",
        stays,
    ]);
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
    mirror.moorage(&["row", "public.berths", "2000"]).expect(0, &["moorage_row"]);
    // Numbers that no float holds stand there digit by digit.
    mirror.source.run("CREATE TABLE notes (id int PRIMARY KEY, said json); ALTER TABLE notes REPLICA IDENTITY FULL; INSERT INTO notes VALUES (1, '{\"a\":12345678901234567890.10, \"a\":1.00}')");
    mirror.catch_up();
    assert!(rows().contains(r#""said":{"a":12345678901234567890.10, "a":1.00}"#), "{}", rows());
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// A partitioned table that is called otherwise goes on where it was, and so does one of its partitions.
#[rstest]
fn a_partitioned_table_that_is_renamed_stays_where_it_is(#[values(false, true)] live: bool) {
    let name = format!("renamed_root_{}", u8::from(live));
    let mirror = Mirror::new(&name, READINGS);
    mirror.catch_up();
    mirror.target.run("CREATE VIEW ours AS SELECT * FROM mirror.readings");
    let run = live.then(|| mirror.follow());
    mirror.source.run("ALTER TABLE readings RENAME TO meters; ALTER TABLE readings_02 RENAME TO february; INSERT INTO meters VALUES (1, '2026-02-20', 'x')");
    mirror.source.run("CREATE TABLE meters_04 PARTITION OF meters FOR VALUES FROM ('2026-04-01') TO ('2026-05-01'); INSERT INTO meters VALUES (1, '2026-04-20', 'y')");
    if run.is_some() {
        wait_until("the new one joins", || from(&mirror, "meters_04") == 1);
    }
    drop(run);
    let log = mirror.catch_up().all();
    assert!(!log.contains("is no partition of"), "{log}");
    let sum = "SELECT concat_ws(' ', count(*), sum(id), sum(length(val))) FROM";
    let expected: String = mirror.source.value(&format!("{sum} meters"));
    assert_eq!(mirror.target.value::<String>(&format!("{sum} ours")), expected);
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

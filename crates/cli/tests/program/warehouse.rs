//! PostgreSQL as a target: rows, crashes, tables that others made or hang things on, other encodings.

use crate::harness::Mirror;
use moorage_testkit::{PostgresServer, wait_until};
use rstest::rstest;

const BUSINESS: &str = "
CREATE TABLE berths (id int PRIMARY KEY, name text NOT NULL, length numeric(5,2), chart text);
COMMENT ON TABLE berths IS 'where \\vessels lie'; COMMENT ON COLUMN berths.length IS 'metres, ''usable''';
CREATE TABLE readings (berth int, at timestamptz, kwh numeric(8,3), PRIMARY KEY (berth, at));
CREATE TABLE gate_log (at timestamptz, what text, extra jsonb); ALTER TABLE gate_log REPLICA IDENTITY FULL;
CREATE TABLE \"Odd \"\"name.\" (\"select\" text PRIMARY KEY, \"a.b\" int);
ALTER TABLE berths ALTER chart SET STORAGE EXTERNAL;
INSERT INTO berths SELECT i, 'berth ' || i, i / 7.0, repeat('x', 3000) FROM generate_series(1, 300) i;
INSERT INTO readings SELECT i % 300, '2026-01-01'::timestamptz + i * interval '1 hour', i / 3.0 FROM generate_series(1, 2000) i;
INSERT INTO gate_log SELECT NULL, 'in', NULL FROM generate_series(1, 5);
INSERT INTO \"Odd \"\"name.\" VALUES ('ä', 1), ('', 2)";

/// One transaction of everything that can happen to rows: large values that the log leaves out, keys that move
/// and are swapped, equal rows without a key, rows that come and go.
const TRAFFIC: &str = "BEGIN;
UPDATE berths SET name = name || '!' WHERE id % 3 = 0;
UPDATE berths SET id = id + 10000 WHERE id BETWEEN 20 AND 30;
UPDATE berths SET id = -1 WHERE id = 1; UPDATE berths SET id = 1 WHERE id = 2; UPDATE berths SET id = 2 WHERE id = -1;
UPDATE berths SET chart = repeat('y', 2500), id = id + 20000 WHERE id = 40;
DELETE FROM berths WHERE id = 41; INSERT INTO berths VALUES (41, 'again', NULL, NULL);
INSERT INTO readings SELECT 7, now() + i * interval '1 second', i FROM generate_series(1, 500) i;
UPDATE readings SET kwh = kwh + 1 WHERE berth < 5; DELETE FROM readings WHERE berth = 9;
INSERT INTO gate_log VALUES (now(), 'out', '{\"b\": [1.50, null]}'), (NULL, 'in', NULL);
DELETE FROM gate_log WHERE ctid IN (SELECT ctid FROM gate_log WHERE what = 'in' LIMIT 2);
UPDATE \"Odd \"\"name.\" SET \"a.b\" = \"a.b\" + 1; COMMIT";

const TABLES: [&str; 4] = ["berths", "readings", "gate_log", "\"Odd \"\"name.\""];

#[test]
fn everything_that_happens_to_rows_arrives_also_through_crashes() {
    let mirror = Mirror::new("wh_traffic", BUSINESS);
    mirror.assert_follows(&TABLES);
    let comments: String = mirror.target.value(
        "SELECT concat_ws('|', obj_description('mirror.berths'::regclass, 'pg_class'), col_description('mirror.berths'::regclass, 3))",
    );
    let written = "Written by pipeline wh_traffic of Moorage, from public.berths";
    assert_eq!(comments, format!("where \\vessels lie\n{written}|metres, 'usable'"));
    for round in 0..4 {
        mirror.source.run(
            TRAFFIC
                .replace("20000", &format!("{}", 30000 + round * 1000))
                .replace("10000", &format!("{}", 50000 + round * 1000))
                .as_str(),
        );
        let mut running = mirror.start(&["run"]);
        running.wait_for("following changes");
        mirror.source.run("INSERT INTO gate_log VALUES (now(), 'late', NULL)");
        running.kill();
    }
    mirror.source.run("BEGIN; TRUNCATE readings; INSERT INTO readings VALUES (1, '2026-02-02', 0); COMMIT");
    mirror.assert_follows(&TABLES);
    let unbalanced: i64 = mirror.target.value(
        "SELECT count(*) FROM moorage_state.tables WHERE inserts + updates + deletes + truncates <> merged + reduced + filtered + rejected + dropped",
    );
    assert_eq!(unbalanced, 0, "counters reconcile");
}

#[test]
fn no_merge_reads_a_whole_table_whatever_the_size_of_its_batch() {
    let mirror = Mirror::new("wh_probes", "CREATE TABLE berths (id int, side text, chart text, PRIMARY KEY (id, side)); ALTER TABLE berths ALTER chart SET STORAGE EXTERNAL;
        CREATE TABLE gate_log (at int, what text); ALTER TABLE gate_log REPLICA IDENTITY FULL;
        INSERT INTO berths SELECT i, 'port', CASE WHEN i % 100 = 0 THEN repeat('x', 3000) END FROM generate_series(1, 20000) i; INSERT INTO gate_log SELECT i, 'in' FROM generate_series(1, 20000) i");
    mirror.assert_follows(&["berths", "gate_log"]);
    let scans = "SELECT pg_stat_clear_snapshot()::text || string_agg(concat_ws(' ', relname, seq_scan, seq_tup_read), ', ' ORDER BY relname) FROM pg_stat_user_tables WHERE schemaname = 'mirror'";
    // A session's counts are there when it is gone, and this one's when they are asked for.
    let gone = || {
        mirror.target.run("SELECT pg_stat_force_next_flush()");
        wait_until("no session of the program is left", || {
            mirror.target.value::<i64>("SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND application_name = 'moorage'") == 0
        });
    };
    gone();
    let before: String = mirror.target.value(scans);
    for from in ["id = 7", "id BETWEEN 100 AND 900", "id < 15000"] {
        let at = from.replace("id", "at");
        mirror.source.run(&format!("BEGIN; UPDATE berths SET chart = chart || '!' WHERE {from}; UPDATE berths SET side = side || '.' WHERE {from} AND id % 2 = 0; DELETE FROM berths WHERE {from} AND id % 5 = 0;
            INSERT INTO berths SELECT DISTINCT id, 'bow {from}', NULL FROM berths WHERE {from}; UPDATE gate_log SET what = 'out' WHERE {at}; DELETE FROM gate_log WHERE {at} AND at % 3 = 0; COMMIT"));
        mirror.catch_up();
    }
    gone();
    assert_eq!(mirror.target.value::<String>(scans), before);
    mirror.assert_follows(&["berths", "gate_log"]);
}

#[test]
fn a_table_of_others_is_taken_over_with_what_it_has_more() {
    let mirror = Mirror::new(
        "wh_adopt",
        "CREATE TABLE berths (id int PRIMARY KEY, name text, length numeric(5,2)); INSERT INTO berths VALUES (1, 'North', 9.5), (2, 'South', 12)",
    );
    mirror.target.run("CREATE SCHEMA mirror; CREATE TABLE mirror.berths (id bigint, painted text DEFAULT 'grey', length numeric(4,2), note text NOT NULL)");
    mirror.moorage(&["plan"]).expect(
        3,
        &[
            "it has no column name",
            "column length is of type numeric(4,2), which does not hold every numeric(5,2)",
            "column note must have a value",
        ],
    );
    mirror.refuses(&["it has no column name"]);
    mirror.target.run("ALTER TABLE mirror.berths ADD name varchar(8), ALTER length TYPE numeric(7,3), ALTER note DROP NOT NULL; INSERT INTO mirror.berths (id, note) VALUES (1, 'old'), (7, 'old')");
    mirror.refuses(&["holds 2 rows", "existing_rows = \"replace\" or \"keep\""]);
    mirror.replace("merge_every", "existing_rows = \"keep\"\nmerge_every");
    mirror.catch_up();
    let all = "SELECT string_agg(concat_ws(' ', id, name, length, painted, note), '; ' ORDER BY id) FROM mirror.berths";
    assert_eq!(mirror.target.value::<String>(all), "1 North 9.500 grey old; 2 South 12.000 grey; 7 grey old");
    mirror.moorage(&["verify"]).expect(0, &[]);
    mirror.source.run("UPDATE berths SET name = 'N' WHERE id = 1; DELETE FROM berths WHERE id = 2");
    mirror.catch_up();
    assert_eq!(mirror.target.value::<String>(all), "1 N 9.500 grey old; 7 grey old");
    mirror.moorage(&["teardown", "--target"]).expect(0, &["it was there before the pipeline"]);
    assert_eq!(mirror.target.value::<i64>("SELECT count(*) FROM mirror.berths"), 2, "what was there stays");
    assert!(mirror.target.value::<bool>("SELECT to_regnamespace('moorage_state') IS NULL"));
}

/// What people hang on a target table.
const HUNG: &str = "CREATE ROLE reader_NAME; GRANT SELECT ON mirror.berths TO reader_NAME; ALTER TABLE mirror.readings OWNER TO reader_NAME;
CREATE VIEW long_berths AS SELECT id FROM mirror.berths WHERE length > 20;
CREATE INDEX by_name ON mirror.berths (name); COMMENT ON COLUMN mirror.berths.name IS 'painted on the pier';
CREATE TABLE signs (berth int REFERENCES mirror.berths, words text); INSERT INTO signs VALUES (5, 'mind the step')";

#[rstest]
#[case::while_stopped("wh_hung_stopped", false)]
#[case::while_running("wh_hung_running", true)]
fn what_people_hang_on_a_table_survives_reading_it_again(#[case] name: &str, #[case] while_running: bool) {
    let mirror = Mirror::new(name, BUSINESS);
    mirror.catch_up();
    mirror.target.run(&HUNG.replace("NAME", name));
    let hung = "SELECT concat_ws(' ', (SELECT count(*) FROM long_berths), (SELECT relowner::regrole FROM pg_class WHERE oid = 'mirror.readings'::regclass), has_table_privilege('reader_NAME', 'mirror.berths', 'SELECT'),
      (SELECT count(*) FROM pg_indexes WHERE indexname = 'by_name'), col_description('mirror.berths'::regclass, 2),
      (SELECT count(*) FROM pg_constraint WHERE contype = 'f'), (SELECT count(*) FROM signs))".replace("NAME", name);
    let before: String = mirror.target.value(&hung);
    // Rows that the source does not have, rows that it has otherwise, and rows that are missing.
    mirror.target.run("INSERT INTO mirror.berths VALUES (-5, 'ghost', 0, NULL); UPDATE mirror.berths SET name = 'wrong' WHERE id < 9; DELETE FROM mirror.berths WHERE id > 290");
    mirror.target.run("UPDATE mirror.readings SET kwh = -kwh; DELETE FROM mirror.gate_log");
    if while_running {
        let mut running = mirror.start(&["run"]);
        running.wait_for("following changes");
        mirror
            .moorage(&["resnapshot", "public.berths", "public.readings", "public.gate_log"])
            .expect(0, &["public.gate_log was read again"]);
        running.signal("INT");
        assert_eq!(running.end(), 0, "{}", running.log());
    } else {
        mirror.moorage(&["resnapshot", "--all"]).expect(0, &[]);
    }
    mirror.source.run("INSERT INTO berths VALUES (999, 'new', 30, NULL)");
    mirror.assert_follows(&TABLES);
    let long: i64 = before.split(' ').next().unwrap().parse().unwrap();
    assert_eq!(
        mirror.target.value::<String>(&hung),
        before.replacen(&long.to_string(), &(long + 1).to_string(), 1)
    );
    let left: i64 = mirror.target.value("SELECT count(*) FROM pg_class c JOIN pg_namespace n ON n.oid = relnamespace WHERE nspname = 'moorage_state' AND relname ~ '^again'");
    assert_eq!(left, 0, "nothing is left beside the tables");
}

#[test]
fn a_table_whose_columns_change_is_made_anew_only_if_nothing_hangs_on_it() {
    let mirror = Mirror::new(
        "wh_anew",
        "CREATE TABLE berths (id int PRIMARY KEY, name text); INSERT INTO berths VALUES (1, 'North')",
    );
    mirror.catch_up();
    mirror.target.run("CREATE VIEW names AS SELECT name FROM mirror.berths");
    mirror.source.run("ALTER TABLE berths ADD length int; UPDATE berths SET length = 9");
    mirror.moorage(&["resnapshot", "public.berths"]).expect(0, &[]);
    mirror.refuses(&["view public.names would be lost"]);
    assert_eq!(mirror.target.value::<String>("SELECT name FROM names"), "North");
    mirror.target.run("DROP VIEW names");
    mirror.assert_follows(&["berths"]);
}

#[test]
fn the_source_may_be_the_target_and_pipelines_may_chain_but_not_in_a_ring() {
    let mirror = Mirror::new(
        "wh_chain",
        "CREATE TABLE berths (id int PRIMARY KEY, name text); INSERT INTO berths VALUES (1, 'North')",
    );
    // First into a schema of the same database, then from there into the other one.
    mirror.replace("wh_chain_w", "wh_chain");
    let server = PostgresServer::shared();
    mirror.add(&format!("[targets.far]\nkind = \"postgres\"\nurl = \"{}\"\n\n[pipelines.onwards]\nsource = \"harbour\"\ntarget = \"far\"\ninclude = [\"mirror.berths\"]\ninto = \"mirror.{{table}}\"\nmerge_every = \"0s\"", server.url("wh_chain_w")));
    mirror.moorage(&["run", "wh_chain", "--until", "caught-up"]).expect(0, &["caught up"]);
    mirror.moorage(&["tables", "wh_chain", "--include", "*.*"]).expect(0, &["pipeline wh_chain writes it"]);
    mirror.source.run("INSERT INTO berths VALUES (2, 'South'); UPDATE berths SET name = 'Nord' WHERE id = 1");
    for _ in 0..2 {
        for pipeline in ["wh_chain", "onwards"] {
            mirror.moorage(&["run", pipeline, "--until", "caught-up"]).expect(0, &["caught up"]);
            mirror.moorage(&["verify", pipeline]).expect(0, &[]);
        }
    }
    mirror.assert_same("berths");
    mirror.add("[pipelines.back]\nsource = \"harbour\"\ntarget = \"warehouse\"\ninclude = [\"mirror.berths\"]\ninto = \"public.{table}\"\nexisting_rows = \"replace\"");
    let ring = mirror.moorage(&["run", "back", "--until", "caught-up"]);
    ring.expect(1, &["public.berths (pipeline wh_chain) → mirror.berths (pipeline back) → public.berths"]);
    mirror.replace("into = \"public.{table}\"", "into = \"mirror.{table}\"");
    mirror
        .moorage(&["run", "back", "--until", "caught-up"])
        .expect(1, &["mirror.berths would be its own target"]);
}

#[rstest]
#[case::latin_to_utf8(
    "wh_latin",
    "ENCODING 'LATIN1' LOCALE 'C' TEMPLATE template0",
    "LOCALE 'C.UTF-8' TEMPLATE template0"
)]
#[case::utf8_to_latin(
    "wh_utf8",
    "LOCALE 'C.UTF-8' TEMPLATE template0",
    "ENCODING 'LATIN1' LOCALE 'C' TEMPLATE template0"
)]
fn texts_survive_other_encodings_collations_and_time_zones(
    #[case] name: &str,
    #[case] from: &str,
    #[case] to: &str,
) {
    let server = PostgresServer::shared();
    let mirror = Mirror::between((server, from), (server, to), name, "SET TimeZone = 'Asia/Kathmandu';
        CREATE TABLE notes (id text PRIMARY KEY, body text, doc json, docb jsonb, raw bytea, at timestamptz, wall timestamp)");
    mirror.source.run(&format!("ALTER DATABASE {name} SET TimeZone = 'Asia/Kathmandu'; ALTER DATABASE {name} SET DateStyle = 'German'; ALTER DATABASE {name}_w SET TimeZone = 'America/St_Johns'; ALTER DATABASE {name}_w SET bytea_output = 'escape'; ALTER DATABASE {name}_w SET standard_conforming_strings = off"));
    let insert = |id: &str| {
        format!(
            "INSERT INTO notes VALUES ('{id} Größe', E'é\\t\\\\N\\n''ß', '{{\"ö\":  1.0, \"ö\": 2}}', '{{\"ö\": \"ÿ\"}}', '\\x00ff5c27', '2026-03-29 02:30:00+05:45', '2026-03-29 02:30:00')"
        )
    };
    mirror.source.run(&insert("a"));
    mirror.assert_follows(&["notes"]);
    mirror.source.run(&insert("B"));
    mirror
        .source
        .run("UPDATE notes SET body = body || 'Ä' WHERE id LIKE 'a%'; DELETE FROM notes WHERE id = 'none'");
    mirror.assert_follows(&["notes"]);
    mirror.moorage(&["row", "notes", "B Größe"]).expect(0, &["both sides agree"]);
    if name == "wh_utf8" {
        mirror.moorage(&["check"]).expect(0, &["LATIN1", "characters that this encoding does not have"]);
        mirror.source.run("INSERT INTO notes (id, body) VALUES ('c', '⚓')");
        mirror.refuses(&["refuses the insert of the row id = c", "has no equivalent in encoding \"LATIN1\""]);
        mirror.replace("merge_every", "on_reject = \"set_aside\"\nmerge_every");
        mirror.catch_up();
        mirror.moorage(&["rejects"]).expect(0, &["id = c", "no equivalent"]);
    }
}

#[test]
fn a_lock_or_a_deadlock_is_waited_out_and_the_batch_tried_again() {
    let mirror = Mirror::new(
        "wh_locks",
        "CREATE TABLE berths (id int PRIMARY KEY, name text); INSERT INTO berths VALUES (1, 'North'), (2, 'South')",
    );
    mirror.replace("schema = \"mirror\"", "schema = \"mirror\"\nlock_timeout = \"300ms\"");
    mirror.catch_up();
    // The first batch meets what the server says of a deadlock.
    mirror.target.run("CREATE SEQUENCE tries; CREATE FUNCTION once() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
        IF nextval('public.tries') = 1 THEN RAISE EXCEPTION 'deadlock detected' USING ERRCODE = '40P01'; END IF; RETURN NEW; END $$;
        CREATE TRIGGER once BEFORE INSERT OR UPDATE ON mirror.berths FOR EACH ROW EXECUTE FUNCTION once()");
    mirror.source.run("UPDATE berths SET name = 'N' WHERE id = 1");
    mirror.catch_up().expect(0, &["deadlock detected", "trying again"]);
    mirror.assert_same("berths");
    mirror.target.run("BEGIN; UPDATE mirror.berths SET name = 'mine' WHERE id = 2");
    mirror.source.run("UPDATE berths SET name = 'S' WHERE id = 2");
    let mut running = mirror.start(&["run", "--until", "caught-up"]);
    running.wait_for("lock timeout");
    mirror.target.run("ROLLBACK");
    assert_eq!(running.end(), 0, "{}", running.log());
    mirror.assert_same("berths");
}

#[test]
fn the_target_going_away_is_waited_out_but_one_that_was_never_there_is_not() {
    let mut server = PostgresServer::start(&[]);
    let mirror = Mirror::between((PostgresServer::shared(), ""), (&server, ""), "wh_away", BUSINESS);
    mirror.catch_up();
    let mut running = mirror.start(&["run"]);
    running.wait_for("following changes");
    server.crash();
    mirror.source.run(TRAFFIC);
    running.wait_for("trying again");
    server.restart();
    wait_until("it goes on", || running.log().matches("following changes").count() > 1);
    running.signal("INT");
    assert_eq!(running.end(), 0, "{}", running.log());
    let mirror = Mirror { target: server.session("wh_away_w"), ..mirror };
    mirror.assert_follows(&TABLES);
    server.crash();
    mirror.refuses(&["cannot connect to", "connection refused"]);
}

#[test]
fn the_script_gives_a_role_just_enough_to_write_a_target() {
    let server = PostgresServer::start(&[]);
    let mirror = Mirror::between((PostgresServer::shared(), ""), (&server, ""), "wh_rights", BUSINESS);
    mirror
        .target
        .run("REVOKE ALL ON DATABASE wh_rights_w FROM PUBLIC; REVOKE ALL ON SCHEMA public FROM PUBLIC");
    mirror.replace(&server.url("wh_rights_w"), &server.url("wh_rights_w").replace("postgres@", "keeper@"));
    let script = |undo: &[&str]| {
        let printed = mirror
            .moorage(&[&["check", "--format", "json", "--sql", "target"], undo].concat())
            .expect(0, &[]);
        let scripts: serde_json::Value = serde_json::from_str(&printed.out).unwrap();
        scripts["script"].as_str().unwrap().to_string()
    };
    for _ in 0..2 {
        mirror.target.run(&script(&[]));
    }
    mirror.moorage(&["check"]).expect(
        0,
        &["schema moorage_state is there, and may be written", "works: a table was made in schema mirror"],
    );
    mirror.assert_follows(&TABLES);
    mirror.source.run(TRAFFIC);
    mirror.assert_follows(&TABLES);
    mirror.moorage(&["resnapshot", "--all"]).expect(0, &[]);
    mirror.assert_follows(&TABLES);
    mirror.moorage(&["teardown", "--target"]).expect(0, &[]);
    mirror.target.run(&script(&["--undo"]));
    mirror.target.run("DROP SCHEMA mirror; DROP ROLE keeper");
    mirror.moorage(&["check"]).expect(3, &["log-in"]);
}

#[test]
fn statements_changed_by_hand_make_the_table_or_are_refused_by_name() {
    let mirror = Mirror::new(
        "wh_hand",
        "CREATE TABLE berths (id int PRIMARY KEY, name text); INSERT INTO berths VALUES (1, 'North')",
    );
    mirror.replace("merge_every", "ddl_dir = \"ddl\"\nmerge_every");
    mirror.moorage(&["plan", "--ddl-dir", "ddl"]).expect(0, &[]);
    let file = std::fs::read_dir(mirror.path("ddl")).unwrap().next().unwrap().unwrap().path();
    let written = std::fs::read_to_string(&file).unwrap();
    std::fs::write(&file, written.replace("name", "nom")).unwrap();
    mirror.moorage(&["plan"]).expect(3, &["it has no column name"]);
    std::fs::write(
        &file,
        written
            .replace("\"name\" text", "\"name\" text CHECK (name <> ''), painted date DEFAULT '2026-01-01'"),
    )
    .unwrap();
    mirror.assert_follows(&["berths"]);
    assert_eq!(
        mirror.target.value::<i64>("SELECT count(*) FROM mirror.berths WHERE painted = '2026-01-01'"),
        1
    );
}

#[test]
fn a_transaction_is_never_seen_in_part_while_it_is_merged() {
    let mirror =
        Mirror::new("wh_whole", "CREATE TABLE a (id int PRIMARY KEY); CREATE TABLE b (id int PRIMARY KEY)");
    mirror.catch_up();
    let mut running = mirror.start(&["run"]);
    running.wait_for("following changes");
    for i in 0..50 {
        mirror.source.run(&format!("BEGIN; INSERT INTO a VALUES ({i}); INSERT INTO b VALUES ({i}); COMMIT"));
        let both =
            mirror.target.rows("SELECT (SELECT count(*) FROM mirror.a), (SELECT count(*) FROM mirror.b)");
        assert_eq!(both[0].get::<_, i64>(0), both[0].get::<_, i64>(1));
    }
    wait_until("all is there", || mirror.target.value::<i64>("SELECT count(*) FROM mirror.b") == 50);
    running.signal("TERM");
    assert_eq!(running.end(), 0);
}

//! Several tables of a source that stand together in one target table: partitions, schemas of the same tables, pipelines.

use crate::harness::Mirror;
use moorage_testkit::wait_until;
use rstest::rstest;

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
    mirror.moorage(&["plan"]).expect(0, &["public.readings_01", "readings", "moorage_from"]);
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

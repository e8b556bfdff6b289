//! Every value arrives as it is, by snapshot and by stream.

use crate::harness::{Mirror, Project};
use rstest::rstest;

/// Types with values at their edges. Each set of values is inserted once before and once after the copy.
#[rstest]
#[case::integers(
    "smallint, b integer, c bigint, d oid",
    "(-32768, -2147483648, -9223372036854775808, 4294967295), (32767, NULL, 9223372036854775807, 0)"
)]
#[case::floats(
    "real, b double precision",
    "('NaN', 'NaN'), ('Infinity', '-Infinity'), ('-0', '-0'), (0, 0), (0.1, 0.1), (1.17549435e-38, 5e-324), (3.4028235e38, 1.7976931348623157e308), (16777217, 9007199254740993)"
)]
#[case::decimals(
    "numeric, b numeric(12,2), c numeric(15,15), d numeric(18,0), e numeric(5,-3), f numeric(38,10)",
    "('NaN', 'NaN', 0.123456789012345, 999999999999999999, 12345000, 1234567890123456789012345678.0123456789), (1e-20, -9999999999.99, 0.000000000000001, -1, -99999000, NULL), ('Infinity', 0.10, -0.999999999999999, 0, 0, 0.0000000001)"
)]
#[case::huge_decimals(
    "numeric",
    "(('1' || repeat('7', 999))::numeric), (('-0.' || repeat('3', 900))::numeric), (0), (10000000000000000000000000000000)"
)]
#[case::texts(
    "text, b varchar(20), c char(5), d name",
    "('', '', '', ''), (NULL, NULL, NULL, NULL), (E'tab\\there\\nline \\\\ back\\rslash \\\\N', E'\\b\\f\\x0b', 'ab', 'n'), ('Größe ⚓ 𝄞', 'ß', 'é', 'x'), ('007', '1e5', '12', ' 3 ')"
)]
#[case::bytes("bytea", "('\\x'), ('\\x00ff5c'), (NULL), ('abc')")]
#[case::days_and_times(
    "date, b time, c timestamp, d timestamptz, e timetz",
    "('2026-11-23', '24:00:00', '2026-11-23 12:00:00.5', '2026-11-23 12:00:00.000001+02', '12:00+05:30'), ('0044-03-15 BC', '00:00', '4713-01-01 00:00 BC', '0044-03-15 12:00+00 BC', '24:00-12'), ('infinity', '23:59:59.999999', 'infinity', '-infinity', NULL), ('5874897-12-31', '23:59:60', '294276-12-31 23:59:59.999999', '294276-12-31 23:59:59.999999+00', '0:0:0+0')"
)]
#[case::intervals(
    "interval",
    "('1 year 2 mons -3 days 04:05:06.000007'), ('-178000000 years'), ('0'), ('1 mon'), ('30 days'), ('720:00')"
)]
#[case::others(
    "uuid, b json, c jsonb, d inet, e cidr, f macaddr, g money, h bit(5), i varbit, j xml, k boolean, l \"char\"",
    "('00000000-0000-0000-0000-00000000000a', '{\"b\": 1,  \"a\": [1.0, null]}', '{\"b\": 1, \"a\": [1.0, null]}', '10.0.0.1/8', '10.0.0.0/8', '08:00:2b:01:02:03', '-1234.56', B'10101', B'', '<a/>', true, 'x'), (NULL, 'null', 'null', '::1', '::/0', NULL, 0, NULL, B'1', '', false, '')"
)]
#[case::containers(
    "int[], b text[], c int4range, d mood, e positive, f pair, g int[][], h daterange[]",
    "('{1,NULL,3}', '{\"a,b\",NULL,\"NULL\",\"\"}', '[1,5)', 'calm', 7, '(1,\"a b\")', '{{1,2},{3,4}}', '{}'), ('{}', '[0:1]={x,y}', 'empty', 'rough', NULL, '(,)', NULL, '{\"[2026-01-01,infinity)\"}')"
)]
#[case::geometry_and_search(
    "point, b box, c tsvector, d tsquery, e pg_lsn, f txid_snapshot, g regclass, h jsonpath",
    "('(1.5,-0)', '(1,1),(0,0)', 'a:1 b:2', 'a & b', '16/B374D848', '10:20:10,14', 'pg_class', '$.a')"
)]
fn values_arrive_as_they_are(
    #[case] columns: &str,
    #[case] rows: &str,
    #[values(false, true)] in_postgres: bool,
) {
    let digest = columns.bytes().fold(7u64, |h, b| h.wrapping_mul(31).wrapping_add(b.into()));
    if in_postgres {
        return values_arrive_in_postgres(&format!("valued_{digest:x}"), columns, rows);
    }
    let project = Project::new(&format!("values_{digest:x}"));
    project.session.run("CREATE TYPE mood AS ENUM ('calm', 'rough'); CREATE DOMAIN positive AS int CHECK (VALUE > 0); CREATE TYPE pair AS (a int, b text)");
    project
        .session
        .run(&format!("CREATE TABLE v (id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, a {columns})"));
    let names: String = project
        .session
        .value("SELECT string_agg(quote_ident(attname), ', ' ORDER BY attnum) FROM pg_attribute WHERE attrelid = 'v'::regclass AND attnum > 1");
    let insert = format!("INSERT INTO v ({names}) VALUES {rows}");
    project.session.run(&insert);
    project.catch_up();
    project.assert_same("v", "v");
    project.session.run(&insert);
    project.session.run("UPDATE v SET id = DEFAULT WHERE id = 1");
    project.catch_up();
    project.assert_same("v", "v");
}

fn values_arrive_in_postgres(name: &str, columns: &str, rows: &str) {
    let mirror = Mirror::new(
        name,
        &format!(
            "CREATE TYPE mood AS ENUM ('calm', 'rough'); CREATE DOMAIN positive AS int CHECK (VALUE > 0); CREATE TYPE pair AS (a int, b text);
             CREATE TABLE v (id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, a {columns})"
        ),
    );
    let names: String = mirror
        .source
        .value("SELECT string_agg(quote_ident(attname), ', ' ORDER BY attnum) FROM pg_attribute WHERE attrelid = 'v'::regclass AND attnum > 1");
    let insert = format!("INSERT INTO v ({names}) VALUES {rows}");
    mirror.source.run(&insert);
    mirror.assert_follows(&["v"]);
    mirror.source.run(&insert);
    // A hundred rows more are copied in, not handed over as arrays.
    mirror.source.run(&format!("DO $$ BEGIN FOR i IN 1..100 LOOP {insert}; END LOOP; END $$"));
    mirror.source.run("UPDATE v SET id = DEFAULT WHERE id = 1");
    mirror.assert_follows(&["v"]);
}

#[test]
fn decimals_and_times_still_sort_compare_and_sum_or_the_plan_says_so() {
    let project = Project::new("sorting");
    project
        .session
        .run("CREATE TABLE v (id int PRIMARY KEY, price numeric(10,2), wide numeric, at timestamptz)");
    project.session.run("INSERT INTO v VALUES (1, 9.50, 9, '2026-01-01 09:00:00.5+00'), (2, 10.25, 10, '2026-01-01 09:00:00+00'), (3, -3.00, 1, '2026-01-01 10:00:00.25+00')");
    project.catch_up();
    assert_eq!(
        project.value::<String>("SELECT group_concat(id) FROM (SELECT id FROM v ORDER BY price)"),
        "3,1,2"
    );
    assert_eq!(
        project.value::<String>("SELECT group_concat(id) FROM (SELECT id FROM v ORDER BY at)"),
        "2,1,3"
    );
    assert_eq!(project.value::<f64>("SELECT round(sum(price), 2) FROM v"), 16.75);
    assert_eq!(
        project.value::<String>("SELECT datetime(at, '+1 hour') FROM v WHERE id = 2"),
        "2026-01-01 10:00:00"
    );
    project.moorage(&["plan"]).expect(0, &["does not sort or sum as a number", "sorts from year 1 to 9999"]);
}

#[test]
fn large_values_that_an_update_leaves_out_stay() {
    let project = Project::new("large_values");
    let table = "id int PRIMARY KEY, small int, big text";
    project.session.run(&format!("CREATE TABLE d ({table}); CREATE TABLE f ({table}); ALTER TABLE f REPLICA IDENTITY FULL; CREATE TABLE w (small int, big text); ALTER TABLE w REPLICA IDENTITY FULL"));
    project.session.run("ALTER TABLE d ALTER big SET STORAGE EXTERNAL; ALTER TABLE f ALTER big SET STORAGE EXTERNAL; ALTER TABLE w ALTER big SET STORAGE EXTERNAL");
    let big = "(SELECT string_agg(md5(i::text), '') FROM generate_series(1, 2000) i)";
    for table in ["d", "f"] {
        project
            .session
            .run(&format!("INSERT INTO {table} SELECT i, 0, i || {big} FROM generate_series(1, 4) i"));
    }
    project.session.run(&format!("INSERT INTO w SELECT i, i || {big} FROM generate_series(1, 2) i"));
    project.catch_up();
    for table in ["d", "f"] {
        // Alone, with a new key, swapped keys, twice in one transaction, and inserted in the same batch.
        project.session.run(&format!(
            "UPDATE {table} SET small = 1 WHERE id = 1; UPDATE {table} SET id = 12, small = 2 WHERE id = 2"
        ));
        project.session.run(&format!("BEGIN; UPDATE {table} SET id = 0 WHERE id = 3; UPDATE {table} SET id = 3, small = 9 WHERE id = 4; UPDATE {table} SET id = 4 WHERE id = 0; COMMIT"));
        project.session.run(&format!("BEGIN; INSERT INTO {table} SELECT 20, 0, {big}; UPDATE {table} SET small = 5 WHERE id = 20; UPDATE {table} SET id = 21 WHERE id = 20; COMMIT"));
        project.session.run(&format!("BEGIN; UPDATE {table} SET big = 'short' WHERE id = 1; UPDATE {table} SET small = 7 WHERE id = 1; COMMIT"));
    }
    project.session.run("UPDATE w SET small = small + 10");
    project.catch_up();
    for table in ["d", "f", "w"] {
        project.assert_same(table, table);
    }
}

#[test]
fn a_key_column_may_itself_be_a_large_value_that_did_not_change() {
    let project = Project::new("large_key");
    project.session.run("CREATE TABLE k (part text, id int, note text, PRIMARY KEY (part, id)); ALTER TABLE k ALTER part SET STORAGE EXTERNAL");
    // Just large enough to be stored out of line, small enough for an index.
    project
        .session
        .run("INSERT INTO k SELECT repeat(i::text, 2100), i, repeat('x', 1500) FROM generate_series(1, 3) i");
    project.catch_up();
    project.session.run("UPDATE k SET note = 'a' WHERE id = 1; UPDATE k SET id = 12 WHERE id = 2; UPDATE k SET part = repeat('z', 2100) WHERE id = 3");
    project.catch_up();
    project.assert_same("k", "k");
}

#[test]
fn text_that_is_not_utf_8_stops_the_run_by_name_and_loses_nothing() {
    let project = Project::new("bad_text");
    project.session.run("CREATE DATABASE ascii_only ENCODING 'SQL_ASCII' LOCALE 'C' TEMPLATE template0");
    let server = moorage_testkit::PostgresServer::shared();
    let session = server.session("ascii_only");
    session.run("SET client_encoding = 'SQL_ASCII'; CREATE TABLE berths (id int PRIMARY KEY, name text); INSERT INTO berths VALUES (1, 'fine')");
    project.write(&server.url("ascii_only"), "bad_text", "");
    project.catch_up();
    project.moorage(&["check"]).expect(0, &["SQL_ASCII"]);
    session.run("INSERT INTO berths VALUES (2, E'bad \\xff')");
    project.refuses(&["reading the replication stream", "0xff", "not valid UTF-8", "resnapshot --all"]);
    assert_eq!(project.value::<i64>("SELECT count(*) FROM berths"), 1);
    project.moorage(&["resnapshot", "--all"]).expect(0, &["reads again"]);
    project.refuses(&["reading public.berths", "0xff"]);
    session.run("UPDATE berths SET name = 'good' WHERE id = 2");
    project.catch_up();
    assert_eq!(project.value::<i64>("SELECT count(*) FROM berths"), 2);
}

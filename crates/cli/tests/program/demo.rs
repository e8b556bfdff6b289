//! The demo and the load that it makes.

use crate::harness::{Quay, all_rows};
use rusqlite::Connection;
use std::collections::BTreeMap;

const TABLES: [&str; 9] = [
    "berths",
    "vessels",
    "stays",
    "meter_readings",
    "invoices",
    "invoice_lines",
    "gate_log",
    "incidents",
    "tariffs",
];
const WRONG_TOTALS: &str = "SELECT count(*) FROM invoices i WHERE abs(total - coalesce((SELECT sum(amount) FROM invoice_lines l WHERE l.invoice_id = i.id), 0)) > 0.004";
const OVERLAPS: &str = "SELECT count(*) FROM stays a JOIN stays b ON a.berth_id = b.berth_id AND a.id < b.id AND a.arrives < b.leaves AND b.arrives < a.leaves WHERE a.state <> 'cancelled' AND b.state <> 'cancelled'";

#[test]
fn the_demo_ends_with_both_sides_equal_and_can_be_run_again_after_a_kill() {
    let quay = Quay::new("");
    let arguments = ["demo", "quay", "--rows", "2000", "--seconds", "2"];
    let mut killed = quay.start(&arguments);
    killed.wait_for("The marina opens");
    killed.kill();
    let ran = quay.moorage(&arguments).expect(0, &["going on from there", "Both sides agree, row by row"]);
    let ran = ran.expect(
        0,
        &[
            "main.vessels: column insured was added (TEXT); the target follows",
            "main.tariffs: it was made; it joins",
            "moorage drift",
        ],
    );
    assert!(ran.out.matches("both sides agree").count() == 2, "while changes go on, and after: {}", ran.out);
    let open = |name: &str| Connection::open(quay.path("quay").join(name)).unwrap();
    let (harbour, warehouse) = (open("harbour.db"), open("warehouse.db"));
    for table in TABLES {
        assert_eq!(all_rows(&harbour, table), all_rows(&warehouse, table), "{table}");
    }
    let count = |db: &Connection, sql: &str| db.query_row(sql, [], |r| r.get::<_, i64>(0)).unwrap();
    assert_eq!((count(&harbour, OVERLAPS), count(&warehouse, WRONG_TOTALS)), (0, 0));
    std::fs::write(quay.path("taken"), "x").unwrap();
    quay.moorage(&["demo", "."]).expect(2, &["holds other files already"]);
}

#[test]
fn the_same_seed_gives_the_same_data() {
    let fill = |seed: &str| {
        let quay = Quay::new("");
        quay.moorage(&["demo", "quay", "--rows", "1000", "--seconds", "2", "--seed", seed]).expect(0, &[]);
        let db = Connection::open(quay.path("quay/harbour.db")).unwrap();
        // Vessels of the beginning: business may rename them, or give some another number, but not more.
        let mut query =
            db.prepare("SELECT id, length_m || ' ' || draught_m FROM vessels WHERE id <= 40").unwrap();
        let rows = query.query_map([], |r| Ok((r.get(0)?, r.get(1)?))).unwrap();
        rows.map(Result::unwrap).collect::<BTreeMap<i64, String>>()
    };
    let (first, again, other) = (fill("3"), fill("3"), fill("4"));
    let same = |with: &BTreeMap<i64, String>| -> Vec<bool> {
        first.iter().filter_map(|(id, vessel)| with.get(id).map(|v| v == vessel)).collect()
    };
    assert!(same(&again).len() > 5 && !same(&again).contains(&false), "{first:?} {again:?}");
    assert!(same(&other).contains(&false), "another seed gives other data");
}

/// Every table is exact after many transactions and kills, and whoever reads the target meanwhile finds each
/// invoice's total to be the sum of its lines.
#[test]
fn invoices_add_up_at_every_read_while_runs_are_killed() {
    let quay = Quay::new("");
    quay.moorage(&["demo", "quay", "--rows", "1000", "--seconds", "2"]).expect(0, &[]);
    let file = quay.path("quay/moorage.toml");
    let file = ["--file", file.to_str().unwrap()];
    let mut churn = quay.start(
        &[&file[..], &["churn", "harbour", "--rate", "0", "--until", "6000", "--burst", "50"]].concat(),
    );
    let reader = Connection::open(quay.path("quay/warehouse.db")).unwrap();
    let mut reads = 0;
    for pause in [120, 300, 60, 500, 200, 700] {
        let running = quay.start(&[&file[..], &["run"]].concat());
        let began = std::time::Instant::now();
        while began.elapsed() < std::time::Duration::from_millis(pause) {
            assert_eq!(reader.query_row(WRONG_TOTALS, [], |r| r.get::<_, i64>(0)).unwrap(), 0);
            reads += 1;
        }
        running.kill();
    }
    assert!(reads > 20, "{reads}");
    assert_eq!(churn.end(), 0);
    quay.moorage(&[&file[..], &["run", "--until", "caught-up"]].concat()).expect(0, &[]);
    quay.moorage(&[&file[..], &["verify"]].concat()).expect(0, &["both sides agree"]);
    let harbour = Connection::open(quay.path("quay/harbour.db")).unwrap();
    for table in TABLES {
        assert_eq!(all_rows(&harbour, table), all_rows(&reader, table), "{table}");
    }
}

#[test]
fn churn_runs_statements_of_ones_own() {
    let quay = Quay::new("CREATE TABLE t (id INTEGER PRIMARY KEY, n INTEGER); INSERT INTO t VALUES (1, 0)");
    std::fs::write(quay.path("busy.sql"), "UPDATE t SET n = n + 1; INSERT INTO t (n) VALUES (0);").unwrap();
    quay.moorage(&["churn", "harbour", "--script", "busy.sql", "--until", "25", "--rate", "0"])
        .expect(0, &["25 transactions committed"]);
    let n: i64 = quay.harbour().query_row("SELECT n FROM t WHERE id = 1", [], |r| r.get(0)).unwrap();
    assert_eq!(n, 25);
    quay.moorage(&["churn", "harbour"]).expect(1, &["does not look like the demo's marina"]);
    quay.moorage(&["churn", "nosuch"]).expect(2, &["there is no source nosuch; there is harbour"]);
    std::fs::write(quay.path("busy.sql"), "nonsense").unwrap();
    quay.moorage(&["churn", "harbour", "--script", "busy.sql"]).expect(1, &["syntax error"]);
}

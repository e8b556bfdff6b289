//! What the store keeps of long times.

use super::base::StateStore;
use chrono::{DateTime, TimeDelta, Utc};
use moorage_core::change::counters::Operations;
use moorage_core::watch::lag::Steps;
use moorage_core::watch::sample::{AppliedTransaction, Sample, TableSample};
use rstest::rstest;
use std::time::Duration;

const DAY_S: i64 = 24 * 3600;

fn noon() -> DateTime<Utc> {
    DateTime::from_timestamp(1_800_014_400, 0).unwrap()
}

/// A lag of a made-up day: some milliseconds, minutes at times, in between whatever the number says.
fn lag(number: u64) -> Duration {
    let spread = number.wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 40;
    let tail = if number.is_multiple_of(97) { 5_000_000 } else { 0 }
        + if number.is_multiple_of(1009) { 90_000_000 } else { 0 };
    Duration::from_micros(3000 + spread % 40_000 + tail * (1 + spread % 7))
}

fn exact(lags: &mut [Duration], share: f64) -> f64 {
    lags.sort_unstable();
    lags[((share * lags.len() as f64).ceil() as usize).max(1) - 1].as_secs_f64()
}

/// One sample every half minute for so long, thinned every minute; gives all lags with their times.
fn a_long_run(store: &StateStore, for_s: i64) -> Vec<(DateTime<Utc>, Duration)> {
    let mut all = Vec::new();
    for at_s in (0..for_s).step_by(30) {
        let from = noon() + TimeDelta::seconds(at_s);
        let mut sample = Sample { span: Duration::from_secs(1), ..Sample::begin(from) };
        for number in 0..5 {
            let lag = lag(at_s as u64 * 5 + number);
            all.push((from, lag));
            sample.lags.record(&Steps { apply: lag, ..Steps::default() });
            sample.transactions += 1;
            sample.operations.updates += 2;
        }
        store.keep_sample("quayside", &sample);
        if at_s % 60 == 0 {
            store.thin("quayside", from);
        }
    }
    all
}

/// Pipelines that begin at the same moment make the file at once.
#[test]
fn many_that_make_the_store_at_once_all_have_it() {
    for _ in 0..150 {
        let folder = tempfile::tempdir().unwrap();
        let gate = std::sync::Barrier::new(12);
        std::thread::scope(|scope| {
            let open = || {
                gate.wait();
                StateStore::open(folder.path()).map(drop)
            };
            let all: Vec<_> = (0..12).map(|_| scope.spawn(open)).collect();
            for one in all {
                one.join().unwrap().unwrap();
            }
        });
    }
}

#[test]
fn quantiles_of_thinned_samples_are_those_of_the_day() {
    let folder = tempfile::tempdir().unwrap();
    let store = StateStore::open(folder.path()).unwrap();
    let all = a_long_run(&store, DAY_S + 7200);
    let end = noon() + TimeDelta::seconds(DAY_S + 7200);
    for hours in [1, 6, 24] {
        let from = end - TimeDelta::hours(hours);
        let mut of: Vec<Duration> = all.iter().filter(|(at, _)| *at >= from).map(|(_, lag)| *lag).collect();
        let told = store.period("quayside", from, end).unwrap();
        let lag = told.lag.unwrap();
        for (share, told_us) in [(0.5, lag.p50_us), (0.95, lag.p95_us), (0.99, lag.p99_us), (1.0, lag.max_us)]
        {
            let (exact, told) = (exact(&mut of, share), told_us as f64 / 1e6);
            assert!((told - exact).abs() <= exact * 0.05, "{hours} h, {share}: {told} for {exact}");
        }
        let off = told.transactions.abs_diff(of.len() as u64);
        assert!(off <= 10, "{hours} h: {} transactions for {}", told.transactions, of.len());
    }
    let whole = store.period("quayside", noon() - TimeDelta::days(1), end).unwrap();
    assert_eq!(whole.transactions, all.len() as u64, "nothing is lost on its way to the next tier");
    assert_eq!(whole.operations, Operations { updates: 2 * all.len() as u64, ..Operations::default() });
    let rows = |span: i64| -> i64 {
        let sql = "SELECT count(*) FROM samples WHERE span = ?1";
        store.db().query_row(sql, [span], |r| r.get(0)).unwrap()
    };
    assert!(rows(1) <= 367 && rows(60) <= 1440 && rows(3600) >= 1, "{} {} {}", rows(1), rows(60), rows(3600));
}

#[rstest]
#[case::few_tables(3, 3 * DAY_S / 3600)]
fn of_tables_minutes_become_hours_and_nothing_is_lost(#[case] tables: u64, #[case] hours: i64) {
    let folder = tempfile::tempdir().unwrap();
    let store = StateStore::open(folder.path()).unwrap();
    let mut minutes = 0;
    for minute in (0..hours * 60).step_by(7) {
        let until = noon() + TimeDelta::minutes(minute + 1);
        let of = |number: u64| {
            let mut sample = TableSample::begin(format!("public.t{number}"));
            sample.operations.inserts = number + 1;
            sample.lag.record(Duration::from_millis(20), 1);
            sample
        };
        store.keep_table_samples("quayside", until, &(0..tables).map(of).collect::<Vec<_>>());
        minutes += 1;
        if minute % 70 == 0 {
            store.thin("quayside", until);
        }
    }
    let end = noon() + TimeDelta::hours(hours);
    store.thin("quayside", end);
    let all = store.table_periods("quayside", noon() - TimeDelta::days(1), end).unwrap();
    let inserts: Vec<u64> = all.iter().map(|t| t.operations.inserts).collect();
    assert_eq!(inserts, (1..=tables).map(|n| n * minutes).collect::<Vec<_>>());
    let old: i64 = {
        let sql = "SELECT count(*) FROM table_samples WHERE span = 60 AND at < ?1";
        store.db().query_row(sql, [end.timestamp() - DAY_S - 3600], |r| r.get(0)).unwrap()
    };
    assert_eq!(old, 0);
}

/// Bytes that a table of the store takes by row.
fn bytes_by_row(store: &StateStore, table: &str) -> f64 {
    let sql = format!(
        "SELECT (SELECT sum(pgsize) FROM dbstat WHERE name = '{table}') * 1.0 / (SELECT count(*) FROM {table})"
    );
    store.db().query_row(&sql, [], |r| r.get(0)).unwrap()
}

/// What busy tables take, all of them changed sixty times a minute and with lags from 5 ms to 5 s, times the most rows that there
/// can be.
#[test]
fn a_year_of_a_pipeline_with_500_busy_tables_stays_below_100_mib() {
    let folder = tempfile::tempdir().unwrap();
    let store = StateStore::open(folder.path()).unwrap();
    let busy = |number: u64| Duration::from_micros(5000 << (lag(number).as_micros() % 10)) + lag(number) / 10;
    for minute in 0..20 {
        let until = noon() + TimeDelta::minutes(minute + 1);
        let of = |table: u64| {
            let mut sample = TableSample::begin(format!("public.a_table_with_a_name_{table}"));
            sample.operations = Operations { inserts: 4000, updates: 300_000, deletes: 70, truncates: 0 };
            sample.bytes = 500_000_000;
            (0..60).for_each(|n| sample.lag.record(busy(table * 60 + n), 1));
            sample
        };
        store.keep_table_samples("quayside", until, &(0..500).map(of).collect::<Vec<_>>());
    }
    for second in 0..300 {
        let mut sample =
            Sample { span: Duration::from_secs(1), ..Sample::begin(noon() + TimeDelta::seconds(second)) };
        for n in 0..500 {
            let apply = busy(second as u64 * 500 + n);
            sample.lags.record(&Steps { capture: apply / 2, queue: apply / 3, apply });
            sample.is_slow(AppliedTransaction {
                committed_at: sample.from,
                position: "1A/2B3C4D5E".into(),
                changes: n,
                tables: (0..8).map(|t| (format!("public.a_table_with_a_name_{t}"), n)).collect(),
                capture_us: n,
                queue_us: n * 1000,
                apply_us: 1_000_000,
            });
        }
        store.keep_sample("quayside", &sample);
    }
    let tables =
        bytes_by_row(&store, "table_samples") * super::thinning::MOST_ROWS.iter().sum::<i64>() as f64;
    let stretches = 3600.0 + 1440.0 + 366.0 * 24.0;
    let pipeline =
        (bytes_by_row(&store, "samples") + 3.0 * bytes_by_row(&store, "slow_transactions")) * stretches;
    let mib = |bytes: f64| bytes / f64::from(1 << 20);
    let all = format!(
        "tables {:.1} MiB ({:.0} bytes each), pipeline {:.1} MiB",
        mib(tables),
        bytes_by_row(&store, "table_samples"),
        mib(pipeline)
    );
    // Runs and events have room beside it.
    assert!(mib(tables + pipeline) < 75.0, "{all}");
}

//! What lies in the folder of local state, broken on purpose: no panic, and the way out that is said mends it.

use crate::{Published, RunSums, StateStore};
use chrono::{DateTime, TimeDelta};
use moorage_adapter::Event;
use moorage_core::change::counters::Operations;
use moorage_core::watch::lag::Steps;
use moorage_core::watch::meter::TableTotals;
use moorage_core::watch::sample::{AppliedTransaction, Sample, TableSample};
use proptest::prelude::*;
use proptest::sample::Index;
use std::path::Path;
use std::sync::LazyLock;
use std::time::Duration;

const WAY_OUT: &str = "Remove this file and run again";

/// All that is ever asked of the store.
fn use_all(folder: &Path) -> crate::Result<()> {
    let store = StateStore::open(folder)?;
    let run = store.begin_run("quayside")?;
    store.keep_event("quayside", run, &Event::Warning { message: "the gauge is wet".into() });
    store.run_does(run, "following changes");
    let now = DateTime::from_timestamp(1_800_000_000, 0).unwrap();
    store.publishes_anew("quayside");
    for age in [200_000, 100_000, 99_990, 4000, 61, 0] {
        let (at, mut sample, mut table) =
            (now - TimeDelta::seconds(age), Sample::begin(now), TableSample::begin("public.berths"));
        let steps = Steps { apply: Duration::from_millis(7), ..Steps::default() };
        (sample.from, sample.span, sample.operations.inserts) = (at, Duration::from_secs(1), 3);
        sample.lags.record(&steps);
        sample.is_slow(AppliedTransaction {
            committed_at: at,
            position: "0/15E8F30".into(),
            changes: 3,
            tables: vec![("public.berths".into(), 3)],
            capture_us: 1,
            queue_us: 2,
            apply_us: 7000,
        });
        table.lag.record(steps.apply, 1);
        store.keep_sample("quayside", &sample);
        store.keep_table_samples("quayside", at, &[table]);
    }
    store.thin("quayside", now);
    store.publish(
        "quayside",
        now,
        &Published::default(),
        &[("public.berths".into(), TableTotals::default())],
    );
    store.run_has_done(run, &RunSums::default());
    store.look("quayside", "public.berths", &Operations { inserts: 1, ..Operations::default() })?;
    store.look_at_kept("quayside", 1 << 20)?;
    store.ask_again("quayside", &["public.berths".into(), "public.stays".into()])?;
    store.answer_again("quayside", "public.stays", "no such table");
    store.asked_again("quayside")?;
    store.answer_to_again("quayside", "public.stays")?;
    store.unask_again("quayside", "public.stays");
    store.end_run(run, "done", "caught up");
    let long_ago = now - TimeDelta::days(400);
    store.period("quayside", long_ago, now)?;
    store.table_periods("quayside", long_ago, now)?;
    store.slow_transactions("quayside", (long_ago, now), Duration::ZERO, 10)?;
    store.published("quayside")?;
    store.published_tables("quayside")?;
    store.events_of_run(run)?;
    store.last_run("quayside")?;
    store.run(run)?;
    Ok(())
}

/// A store with something in each of its tables.
static WHOLE: LazyLock<Vec<u8>> = LazyLock::new(|| {
    let folder = tempfile::tempdir().unwrap();
    use_all(folder.path()).unwrap();
    std::fs::read(folder.path().join("state.db")).unwrap()
});

/// Works, or says what to do; and having done it, works.
fn works_or_is_mended_by_its_advice(folder: &Path) -> Result<(), TestCaseError> {
    if let Err(error) = use_all(folder) {
        prop_assert!(error.to_string().contains(WAY_OUT), "{}", error);
        std::fs::remove_file(folder.join("state.db")).unwrap();
        use_all(folder).unwrap();
    }
    Ok(())
}

#[test]
fn a_store_whose_header_forbids_writing_is_mended_by_its_advice() {
    let folder = tempfile::tempdir().unwrap();
    let mut bytes = WHOLE.clone();
    bytes[18] = 3;
    std::fs::write(folder.path().join("state.db"), bytes).unwrap();
    assert!(use_all(folder.path()).is_err());
    works_or_is_mended_by_its_advice(folder.path()).unwrap();
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn a_damaged_store_works_or_is_mended_by_its_advice(
        changed in prop::collection::vec((any::<Index>(), any::<u8>()), 0..40),
        doubled in prop::option::of((any::<Index>(), any::<Index>())),
        cut in prop::option::of(any::<Index>()),
    ) {
        let mut bytes = WHOLE.clone();
        for (at, byte) in changed {
            let at = at.index(bytes.len());
            bytes[at] = byte;
        }
        // A page in the place of another one.
        if let Some((from, to)) = doubled {
            let pages = bytes.len() / 4096;
            let (from, to) = (from.index(pages) * 4096, to.index(pages) * 4096);
            bytes.copy_within(from..from + 4096, to);
        }
        if let Some(cut) = cut {
            bytes.truncate(cut.index(bytes.len()));
        }
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("state.db"), bytes).unwrap();
        works_or_is_mended_by_its_advice(folder.path())?;
    }

    #[test]
    fn a_store_of_another_shape_works_or_is_mended_by_its_advice(
        table in prop::sample::select(vec![
            "runs", "events", "samples", "table_samples", "slow_transactions", "published", "published_tables", "pipelines",
            "source_tables", "table_states", "kept_in_source", "asked_again",
        ]),
        change in prop::sample::select(vec![
            "DROP TABLE {}; CREATE TABLE {} (other TEXT)",
            "DROP TABLE {}; CREATE VIEW {} AS SELECT 1 AS other",
            "CREATE TRIGGER t BEFORE INSERT ON {} BEGIN SELECT RAISE(ABORT, 'no'); END",
            "CREATE TRIGGER t AFTER INSERT ON {} BEGIN DELETE FROM {}; END",
            "DELETE FROM {}; CREATE UNIQUE INDEX one ON {} ((1))",
        ]),
        value in prop::sample::select(vec!["x'ff'", "'many'", "-1", "1e300", "NULL", "9223372036854775807", "CAST(x'ff' AS TEXT)"]),
    ) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("state.db");
        for change in [change.replace("{}", table), column_by_column(table, value)] {
            std::fs::write(&path, &*WHOLE).unwrap();
            rusqlite::Connection::open(&path).unwrap().execute_batch(&change).unwrap();
            works_or_is_mended_by_its_advice(folder.path())?;
        }
    }
}

/// The statement that puts a value into every column of a table that takes it.
fn column_by_column(table: &str, value: &str) -> String {
    let columns: &[&str] = match table {
        "runs" => &["started_at", "outcome", "message", "doing", "doing_since"],
        "events" => &["at", "severity", "event"],
        "samples" => {
            &["at", "seconds", "inserts", "bytes", "merging_us", "behind_us", "kept_bytes", "lag", "apply"]
        }
        "table_samples" => &["at", "updates", "bytes", "lag"],
        "slow_transactions" => &["at", "committed_at", "changes", "tables", "queue_us"],
        "published" => &["at", "content"],
        "published_tables" => &["deletes", "lag_us", "committed_at"],
        "pipelines" | "source_tables" => &["name"],
        "table_states" => &["inserts", "updates", "deletes", "truncates"],
        "kept_in_source" => &["seen_at", "bytes"],
        _ => &["source_table", "outcome"],
    };
    let put = |column: &&str| format!("UPDATE OR IGNORE {table} SET {column} = {value};");
    columns.iter().map(put).collect()
}

//! What lies in the folder of local state, broken on purpose: no panic, and the way out that is said mends it.

use crate::pipeline::error::EngineError;
use crate::pipeline::lock::PipelineLock;
use crate::pipeline::process::{self, Life};
use crate::pipeline::state::StateStore;
use moorage_adapter::Event;
use moorage_core::change::counters::Operations;
use proptest::prelude::*;
use proptest::sample::Index;
use std::path::Path;
use std::sync::LazyLock;

const WAY_OUT: &str = "Remove this file and run again";

/// All that is ever asked of the store.
fn use_all(folder: &Path) -> Result<(), EngineError> {
    let store = StateStore::open(folder)?;
    let run = store.begin_run("quayside")?;
    store.record("quayside", run, &Event::Stopping { by: "SIGTERM".into() });
    let merged = Event::Merged {
        changes: 3,
        transactions: 1,
        committed_at: chrono::Utc::now(),
        position: "0/15E8F30".into(),
        lag_ms: 3,
        merge_ms: 1,
    };
    store.record("quayside", run, &merged);
    store.look("quayside", "public.berths", &Operations { inserts: 1, ..Operations::default() })?;
    store.look_at_kept("quayside", 1 << 20)?;
    store.ask_again("quayside", &["public.berths".into(), "public.stays".into()])?;
    store.answer_again("quayside", "public.stays", "no such table");
    store.asked_again("quayside")?;
    store.answer_to_again("quayside", "public.stays")?;
    store.unask_again("quayside", "public.stays");
    store.last_run("quayside")?;
    store.end_run(run, "done", "caught up");
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
    #![proptest_config(ProptestConfig { cases: 96, failure_persistence: None, ..ProptestConfig::default() })]

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
        table in prop::sample::select(vec!["runs", "positions", "table_states", "kept_in_source", "asked_again"]),
        change in prop::sample::select(vec![
            "DROP TABLE {}; CREATE TABLE {} (other TEXT)",
            "DROP TABLE {}; CREATE VIEW {} AS SELECT 1 AS other",
            "CREATE TRIGGER t BEFORE INSERT ON {} BEGIN SELECT RAISE(ABORT, 'no'); END",
            "CREATE TRIGGER t AFTER INSERT ON {} BEGIN DELETE FROM {}; END",
            "CREATE UNIQUE INDEX one ON {} ((1))",
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

    #[test]
    fn a_lock_file_may_hold_anything(
        bytes in prop_oneof![
            prop::collection::vec(any::<u8>(), 0..300),
            ("[0-9-]{1,25}", ".*", ".*").prop_map(|(pid, host, place)| {
                let since = "2026-01-01T00:00:00Z";
                let holder = serde_json::json!({ "id": "x", "host": host, "place": place, "since": since });
                holder.to_string().replacen('{', &format!("{{\"pid\":{pid},"), 1).into_bytes()
            }),
        ],
    ) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("quayside.lock");
        std::fs::write(&path, &bytes).unwrap();
        let me = process::me();
        {
            let other = std::fs::File::open(&path).unwrap();
            other.lock().unwrap();
            let refused = PipelineLock::take(folder.path(), "quayside", &me);
            prop_assert!(matches!(refused, Err(EngineError::Locked { .. })), "{:?}", refused);
            // Whoever it is said to be: a process that is not known to be there is not taken for one.
            if let Some(holder) = PipelineLock::holder(folder.path(), "quayside") {
                prop_assert_ne!(process::life(&holder), Life::There);
            }
        }
        let _mine = PipelineLock::take(folder.path(), "quayside", &me).unwrap();
        prop_assert_eq!(PipelineLock::holder(folder.path(), "quayside"), Some(me));
    }
}

/// The statement that puts a value into every column of a table that takes it.
fn column_by_column(table: &str, value: &str) -> String {
    let columns: &[&str] = match table {
        "runs" => &["started_at", "outcome", "message", "doing", "doing_since"],
        "positions" => &["position", "changes", "lag_ms"],
        "table_states" => &["inserts", "updates", "deletes", "truncates"],
        "kept_in_source" => &["seen_at", "bytes"],
        _ => &["source_table", "outcome"],
    };
    let put = |column: &&str| format!("UPDATE OR IGNORE {table} SET {column} = {value};");
    columns.iter().map(put).collect()
}

//! What lies in the folder of local state, broken on purpose: no panic, and nobody is taken for someone else.

use crate::pipeline::error::EngineError;
use crate::pipeline::lock::PipelineLock;
use crate::pipeline::process::{self, Life};
use proptest::prelude::*;

proptest! {
    #![proptest_config(ProptestConfig { cases: 96, failure_persistence: None, ..ProptestConfig::default() })]

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

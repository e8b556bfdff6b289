//! Every call of a source and of a target fails once, before or after it was carried out; the run is then repeated. The
//! target always ends as the source is, nothing is applied twice, and nothing is acknowledged that the target does not hold.

use crate::ends::{caught_up, pipeline};
use moorage_adapter::RecallTarget;
use moorage_engine::{Counting, status};
use moorage_testkit::{FaultySource, FaultyTarget, MemorySource, MemoryTarget, Op, row};
use std::sync::Arc;

/// Whose calls fail.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Whose {
    Source,
    Target,
}

#[rstest::rstest]
#[tokio::test]
async fn whichever_call_fails_the_next_run_mends_it(
    #[values(Whose::Source, Whose::Target)] whose: Whose,
    #[values(false, true)] after: bool,
) {
    for fail_at in 1.. {
        let (source, target, folder) =
            (MemorySource::default(), MemoryTarget::default(), tempfile::tempdir().unwrap());
        source.commit(&[Op::Insert(row(1, "one")), Op::Insert(row(2, "two")), Op::Insert(row(3, "three"))]);
        let of = |asked| if whose == asked { fail_at } else { 0 };
        let from = FaultySource::new(Arc::new(source.clone()), of(Whose::Source), after);
        let to = FaultyTarget::new(Arc::new(target.clone()), of(Whose::Target), after);
        let pipeline = pipeline(Arc::new(from.clone()), Arc::new(to.clone()), folder.path());
        let mut failures = 0;
        for round in 0..4 {
            failures += usize::from(caught_up(&pipeline).await.is_err());
            let held =
                target.checkpoint("p").await.unwrap().and_then(|c| c.position.parse().ok()).unwrap_or(0);
            assert!(source.acknowledged() <= held, "call {fail_at}: acknowledged beyond the checkpoint");
            source.commit(&[
                Op::Update(1, row(1, &format!("round {round}"))),
                Op::Insert(row(10 + round, "new")),
            ]);
            source.commit(&[Op::Delete(10 + round)]);
        }
        while caught_up(&pipeline).await.is_err() {
            failures += 1;
            assert_eq!(failures, 1, "call {fail_at}: a call fails once");
        }
        assert_eq!(target.rows("public_berths"), source.rows(), "call {fail_at}");
        // Looking at the status, too, asks the source.
        let calls = if whose == Whose::Source { from.calls() } else { to.calls() };
        let counters = status(&pipeline, Counting::Exactly).await.unwrap().tables[0].changes;
        assert_eq!(counters.read.total(), counters.merged + counters.reduced, "call {fail_at}");
        if calls < fail_at {
            assert!(fail_at > 8 && failures == 0, "all calls have failed in turn");
            return;
        }
        assert_eq!(failures, 1, "call {fail_at}");
    }
}

//! The engine with in-memory ends: the fakes against the suites, what a target is handed, and every call
//! of the target failing in turn.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    reason = "test code stops at the first surprise"
)]

use moorage_adapter::{Events, RecallTarget, Source, Target};
use moorage_core::plan::table::TablePlan;
use moorage_core::project::config::Project;
use moorage_engine::{EngineError, Outcome, Pipeline, RunOptions, run, status, stop_pair};
use moorage_testkit::conformance::{SourceUnderTest, TargetUnderTest, check_source, check_target};
use moorage_testkit::{AnyKind, FaultyTarget, MemorySource, MemoryTarget, Op, Row, row};
use std::sync::Arc;

struct FakeSource(MemorySource);

impl SourceUnderTest for FakeSource {
    fn source(&self) -> Arc<dyn Source> {
        Arc::new(self.0.clone())
    }
    fn commit(&self, ops: &[Op]) {
        self.0.commit(ops);
    }
    fn roll_back(&self, _: &[Op]) {}
}

struct FakeTarget(MemoryTarget);

impl TargetUnderTest for FakeTarget {
    fn target(&self) -> Arc<dyn Target> {
        Arc::new(self.0.clone())
    }
    fn another(&self) -> Arc<dyn Target> {
        Arc::new(self.0.another())
    }
    fn rows(&self, table: &str) -> Vec<Row> {
        self.0.rows(table)
    }
    fn put(&self, plan: &TablePlan, rows: &[Row]) {
        self.0.put(&plan.target, rows.to_vec());
    }
    fn forbid(&self, table: &str, name: &str) {
        self.0.forbid(table, name);
    }
}

#[tokio::test]
async fn the_fake_source_does_what_is_asked_of_a_source() {
    check_source(&FakeSource(MemorySource::default())).await;
}

#[tokio::test]
async fn the_fake_target_does_what_is_asked_of_a_target() {
    check_target(&FakeTarget(MemoryTarget::default())).await;
}

#[tokio::test]
async fn a_wrapper_that_never_fails_changes_nothing() {
    struct Wrapped(MemoryTarget);
    impl TargetUnderTest for Wrapped {
        fn target(&self) -> Arc<dyn Target> {
            Arc::new(FaultyTarget::new(Arc::new(self.0.clone()), 0, false))
        }
        fn another(&self) -> Arc<dyn Target> {
            Arc::new(self.0.another())
        }
        fn rows(&self, table: &str) -> Vec<Row> {
            self.0.rows(table)
        }
        fn put(&self, plan: &TablePlan, rows: &[Row]) {
            self.0.put(&plan.target, rows.to_vec());
        }
        fn forbid(&self, table: &str, name: &str) {
            self.0.forbid(table, name);
        }
    }
    check_target(&Wrapped(MemoryTarget::default())).await;
}

fn pipeline(source: &MemorySource, target: Arc<dyn Target>, folder: &std::path::Path) -> Pipeline {
    let text = "[sources.s]\nkind=\"memory\"\n[targets.t]\nkind=\"memory\"\n[pipelines.p]\nsource=\"s\"\ntarget=\"t\"\nmerge_every=\"0s\"";
    let project = Project::parse("f", text, &AnyKind).unwrap();
    Pipeline {
        connections: 1,
        ddl_folder: None,
        project_findings: Vec::new(),
        name: "p".into(),
        config: project.pipelines["p"].clone(),
        source: Arc::new(source.clone()),
        target,
        state_folder: folder.into(),
    }
}

async fn caught_up(pipeline: &Pipeline) -> Result<Outcome, EngineError> {
    let silent: Events = Arc::new(|_| {});
    let (_stopper, stop) = stop_pair();
    let options = RunOptions { until_caught_up: true, ..RunOptions::default() };
    run(pipeline, &options, silent, stop).await
}

#[tokio::test]
async fn a_target_is_handed_every_change_of_a_key_in_order() {
    let (source, target, folder) =
        (MemorySource::default(), MemoryTarget::default(), tempfile::tempdir().unwrap());
    let pipeline = pipeline(&source, Arc::new(target.clone()), folder.path());
    assert_eq!(caught_up(&pipeline).await.unwrap(), Outcome::CaughtUp);
    let changes = [Op::Insert(row(1, "a")), Op::Update(1, row(1, "b")), Op::Delete(1)];
    source.commit(&changes);
    caught_up(&pipeline).await.unwrap();
    assert_eq!(target.seen(), changes, "three changes, though nothing is left of the row");
    assert!(target.rows("public_berths").is_empty());
    let counters = status(&pipeline).await.unwrap().tables[0].changes;
    assert_eq!((counters.read.total(), counters.merged, counters.reduced), (3, 1, 2));
}

/// Every writing call fails once, before or after it was carried out; the run is then repeated. The
/// target always ends as the source is, nothing is applied twice, and nothing is acknowledged that the
/// target does not hold.
#[rstest::rstest]
#[tokio::test]
async fn whichever_call_of_the_target_fails_the_next_run_mends_it(#[values(false, true)] after: bool) {
    for fail_at in 1.. {
        let (source, target, folder) =
            (MemorySource::default(), MemoryTarget::default(), tempfile::tempdir().unwrap());
        source.commit(&[Op::Insert(row(1, "one")), Op::Insert(row(2, "two")), Op::Insert(row(3, "three"))]);
        let faulty = FaultyTarget::new(Arc::new(target.clone()), fail_at, after);
        let pipeline = pipeline(&source, Arc::new(faulty.clone()), folder.path());
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
        let counters = status(&pipeline).await.unwrap().tables[0].changes;
        assert_eq!(counters.read.total(), counters.merged + counters.reduced, "call {fail_at}");
        if faulty.calls() < fail_at {
            assert!(fail_at > 8 && failures == 0, "all calls have failed in turn");
            return;
        }
        assert_eq!(failures, 1, "call {fail_at}");
    }
}

#[tokio::test]
async fn a_second_process_is_refused_with_the_first_ones_number() {
    let (source, target, folder) =
        (MemorySource::default(), MemoryTarget::default(), tempfile::tempdir().unwrap());
    let pipeline = pipeline(&source, Arc::new(target), folder.path());
    let (stopper, stop) = stop_pair();
    let first = {
        let pipeline = pipeline.clone();
        let (began, begins) = tokio::sync::oneshot::channel();
        let began = std::sync::Mutex::new(Some(began));
        let events: Events = Arc::new(move |event| {
            if matches!(event, moorage_adapter::Event::Streaming { .. }) {
                began.lock().unwrap().take().map(|b| b.send(()));
            }
        });
        let task = tokio::spawn(async move { run(&pipeline, &RunOptions::default(), events, stop).await });
        begins.await.unwrap();
        task
    };
    let refused = caught_up(&pipeline).await.unwrap_err().to_string();
    assert!(refused.contains(&format!("process {}", std::process::id())), "{refused}");
    stopper.stop("the test");
    assert_eq!(first.await.unwrap().unwrap(), Outcome::Stopped { by: "the test".into() });
}

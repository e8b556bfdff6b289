//! The engine with in-memory ends: the fakes and the wrappers against the suites, and what a target is handed.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    reason = "test code stops at the first surprise"
)]

mod ends;
mod faults;
mod following;
mod lacking;
mod measuring;

use ends::{caught_up, pipeline};
use moorage_adapter::{Events, Source, Target};
use moorage_core::plan::table::TablePlan;
use moorage_engine::{Counting, Outcome, RunOptions, run, status, stop_pair};
use moorage_testkit::conformance::{SourceUnderTest, TargetUnderTest, check_source, check_target};
use moorage_testkit::{FaultySource, FaultyTarget, FolderTarget, MemorySource, MemoryTarget, Op, Row, row};
use std::path::PathBuf;
use std::sync::Arc;

struct FakeSource(Arc<dyn Source>, MemorySource);

impl SourceUnderTest for FakeSource {
    fn source(&self) -> Arc<dyn Source> {
        self.0.clone()
    }
    fn commit(&self, ops: &[Op]) {
        self.1.commit(ops);
    }
    fn roll_back(&self, _: &[Op]) {}
    fn add_column(&self) {
        self.1.add_column();
    }
}

/// A target that is asked everything, with what is behind it.
struct Fake<T> {
    target: Arc<dyn Target>,
    behind: T,
}

/// What is behind a target under test.
trait Behind {
    fn another(&self) -> Arc<dyn Target>;
    fn rows(&self, table: &str) -> Vec<Row>;
    fn put(&self, table: &str, rows: &[Row]);
    fn forbid(&self, table: &str, name: &str);
}

impl Behind for MemoryTarget {
    fn another(&self) -> Arc<dyn Target> {
        Arc::new(self.another())
    }
    fn rows(&self, table: &str) -> Vec<Row> {
        self.rows(table)
    }
    fn put(&self, table: &str, rows: &[Row]) {
        self.put(table, rows.to_vec());
    }
    fn forbid(&self, table: &str, name: &str) {
        self.forbid(table, name);
    }
}

impl Behind for (FolderTarget, PathBuf) {
    fn another(&self) -> Arc<dyn Target> {
        Arc::new(FolderTarget::new(&self.1))
    }
    fn rows(&self, table: &str) -> Vec<Row> {
        self.0.rows(table)
    }
    fn put(&self, table: &str, rows: &[Row]) {
        self.0.put(table, rows);
    }
    fn forbid(&self, table: &str, name: &str) {
        self.0.forbid(table, name);
    }
}

impl<T: Behind> TargetUnderTest for Fake<T> {
    fn target(&self) -> Arc<dyn Target> {
        self.target.clone()
    }
    fn another(&self) -> Arc<dyn Target> {
        self.behind.another()
    }
    fn rows(&self, table: &str) -> Vec<Row> {
        self.behind.rows(table)
    }
    fn put(&self, plan: &TablePlan, rows: &[Row]) {
        self.behind.put(&plan.target, rows);
    }
    fn forbid(&self, table: &str, name: &str) {
        self.behind.forbid(table, name);
    }
}

#[tokio::test]
async fn the_fake_source_does_what_is_asked_of_a_source() {
    let source = MemorySource::default();
    check_source(&FakeSource(Arc::new(source.clone()), source)).await;
}

#[tokio::test]
async fn a_wrapper_of_a_source_that_never_fails_changes_nothing() {
    let source = MemorySource::default();
    let wrapped = FaultySource::new(Arc::new(source.clone()), 0, false);
    check_source(&FakeSource(Arc::new(wrapped), source)).await;
}

#[tokio::test]
async fn the_fake_target_does_what_is_asked_of_a_target() {
    let behind = MemoryTarget::default();
    check_target(&Fake { target: Arc::new(behind.clone()), behind }).await;
}

#[tokio::test]
async fn the_folder_does_what_is_asked_of_a_target() {
    let folder = tempfile::tempdir().unwrap();
    let behind = (FolderTarget::new(folder.path()), folder.path().to_path_buf());
    check_target(&Fake { target: Arc::new(behind.0.clone()), behind }).await;
}

#[tokio::test]
async fn a_wrapper_of_a_target_that_never_fails_changes_nothing() {
    let behind = MemoryTarget::default();
    let target = FaultyTarget::new(Arc::new(behind.clone()), 0, false);
    check_target(&Fake { target: Arc::new(target), behind }).await;
}

#[tokio::test]
async fn a_target_is_handed_every_change_of_a_key_in_order() {
    let (source, target, folder) =
        (MemorySource::default(), MemoryTarget::default(), tempfile::tempdir().unwrap());
    let pipeline = pipeline(Arc::new(source.clone()), Arc::new(target.clone()), folder.path());
    assert_eq!(caught_up(&pipeline).await.unwrap(), Outcome::CaughtUp);
    let changes = [Op::Insert(row(1, "a")), Op::Update(1, row(1, "b")), Op::Delete(1)];
    source.commit(&changes);
    caught_up(&pipeline).await.unwrap();
    assert_eq!(target.seen(), changes, "three changes, though nothing is left of the row");
    assert!(target.rows("public_berths").is_empty());
    let counters = status(&pipeline, Counting::Exactly).await.unwrap().tables[0].changes;
    assert_eq!((counters.read.total(), counters.merged, counters.reduced), (3, 1, 2));
}

#[tokio::test]
async fn a_second_process_is_refused_with_the_first_ones_number() {
    let (source, target, folder) =
        (MemorySource::default(), MemoryTarget::default(), tempfile::tempdir().unwrap());
    let pipeline = pipeline(Arc::new(source.clone()), Arc::new(target), folder.path());
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

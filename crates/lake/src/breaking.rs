//! The power goes before, or right behind, each step of writing to a lake in turn: the next run, which collects other batches, ends
//! as if nothing had happened.

use crate::LakeTarget;
use crate::as_target::ledger::Ledger;
use crate::conformance::rows_in;
use crate::store::Store;
use async_trait::async_trait;
use futures_util::stream::BoxStream;
use moorage_adapter::{Events, RecallTarget, Target};
use moorage_core::project::config::Project;
use moorage_engine::{Counting, EngineError, Outcome, Pipeline, RunOptions, run, status, stop_pair};
use moorage_testkit::{AnyKind, MemorySource, Op, Row, row};
use object_store::local::LocalFileSystem;
use object_store::path::Path;
use object_store::{
    CopyOptions, Error, GetOptions, GetResult, ListResult, MultipartUpload, ObjectMeta, ObjectStore,
    PutMultipartOptions, PutOptions, PutPayload, PutResult, Result,
};
use std::path::{Path as Folder, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};

/// A store with power for so many writes.
#[derive(Debug)]
struct Fused {
    inner: LocalFileSystem,
    power: Arc<AtomicUsize>,
    breaks: Break,
    /// What was sent and has not arrived.
    in_flight: InFlight,
}

type InFlight = Arc<Mutex<Vec<(Path, PutPayload, PutOptions)>>>;

/// What becomes of the write at which the power goes.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Break {
    /// Nothing.
    Before,
    /// It is carried out, and its answer is lost.
    Behind,
    /// It arrives when another process has gone on.
    Late,
}

impl std::fmt::Display for Fused {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "a store with a fuse")
    }
}

fn dark() -> Error {
    Error::Generic { store: "fused", source: "the power is gone".into() }
}

impl Fused {
    fn is_dark(&self) -> bool {
        self.power.load(Ordering::SeqCst) == 0
    }

    /// Takes the power for a write; gives whether it is the last one.
    fn spend(&self) -> Result<bool> {
        let left = self.power.fetch_update(Ordering::SeqCst, Ordering::SeqCst, |left| left.checked_sub(1));
        left.map(|before| before == 1).map_err(|_| dark())
    }
}

#[async_trait]
impl ObjectStore for Fused {
    async fn put_opts(&self, location: &Path, payload: PutPayload, options: PutOptions) -> Result<PutResult> {
        let is_last = self.spend()?;
        if is_last && self.breaks == Break::Late {
            self.in_flight.lock().unwrap().push((location.clone(), payload, options));
            return Err(dark());
        }
        if is_last && self.breaks == Break::Before {
            return Err(dark());
        }
        let put = self.inner.put_opts(location, payload, options).await;
        if is_last { Err(dark()) } else { put }
    }

    async fn put_multipart_opts(&self, _: &Path, _: PutMultipartOptions) -> Result<Box<dyn MultipartUpload>> {
        Err(dark())
    }

    async fn get_opts(&self, location: &Path, options: GetOptions) -> Result<GetResult> {
        if self.is_dark() { Err(dark()) } else { self.inner.get_opts(location, options).await }
    }

    fn delete_stream(&self, locations: BoxStream<'static, Result<Path>>) -> BoxStream<'static, Result<Path>> {
        self.inner.delete_stream(locations)
    }

    fn list(&self, prefix: Option<&Path>) -> BoxStream<'static, Result<ObjectMeta>> {
        self.inner.list(prefix)
    }

    async fn list_with_delimiter(&self, prefix: Option<&Path>) -> Result<ListResult> {
        if self.is_dark() { Err(dark()) } else { self.inner.list_with_delimiter(prefix).await }
    }

    async fn copy_opts(&self, _: &Path, _: &Path, _: CopyOptions) -> Result<()> {
        Err(dark())
    }
}

const TABLES: [&str; 3] = ["berths", "jetties", "moles"];

/// A lake whose power may go, as a process of its own has it.
struct Lake {
    target: LakeTarget,
    power: Arc<AtomicUsize>,
    folder: PathBuf,
    in_flight: InFlight,
}

impl Lake {
    fn new(folder: &Folder, steps: usize, breaks: Break) -> Self {
        std::fs::create_dir_all(folder).unwrap();
        let inner = LocalFileSystem::new_with_prefix(folder).unwrap();
        let power = Arc::new(AtomicUsize::new(steps));
        let in_flight = InFlight::default();
        let fused = Fused { inner, power: power.clone(), breaks, in_flight: in_flight.clone() };
        let store = Store::over(Arc::new(fused), "a lake", Some(folder.into()));
        let target = LakeTarget::in_store(store, Some(folder.join("../keys")));
        Self { target, power, folder: folder.into(), in_flight }
    }

    fn is_dark(&self) -> bool {
        self.power.load(Ordering::SeqCst) == 0
    }

    /// What was sent arrives; what was to be new is not written over anything.
    async fn arrives(&self) {
        let inner = LocalFileSystem::new_with_prefix(&self.folder).unwrap();
        let sent = std::mem::take(&mut *self.in_flight.lock().unwrap());
        for (location, payload, options) in sent {
            drop(inner.put_opts(&location, payload, options).await);
        }
    }

    async fn rows(&self, table: usize) -> Vec<Row> {
        rows_in(Arc::new(Store::folder(&self.folder)), &format!("public_{}", TABLES[table])).await
    }

    /// Has the process that wrote to it be one that has ended.
    async fn end_process(&self) {
        let Some(mut ledger) = Ledger::open(&Arc::new(Store::folder(&self.folder)), "p").await.unwrap()
        else {
            return;
        };
        let mut turn = ledger.turn().unwrap();
        if let Some(holder) = &mut turn.holder {
            holder.started = "another".into();
            assert!(ledger.take_turn(&turn).await.unwrap());
        }
    }
}

fn between(source: &MemorySource, lake: &Lake, folder: &Folder) -> Pipeline {
    let ends = "[sources.s]\nkind=\"memory\"\n[targets.t]\nkind=\"memory\"\n";
    let text = format!("{ends}[pipelines.p]\nsource=\"s\"\ntarget=\"t\"\nmerge_every=\"0s\"\n");
    let project = Project::parse("f", &text, &AnyKind).unwrap();
    Pipeline {
        connections: 1,
        ddl_folder: None,
        project_findings: Vec::new(),
        name: "p".into(),
        config: project.pipelines["p"].clone(),
        source: Arc::new(source.clone()),
        target: Arc::new(lake.target.clone()) as Arc<dyn Target>,
        state_folder: folder.into(),
    }
}

async fn caught_up(pipeline: &Pipeline) -> std::result::Result<Outcome, EngineError> {
    let silent: Events = Arc::new(|_| {});
    let (_stopper, stop) = stop_pair();
    run(pipeline, &RunOptions { until_caught_up: true, ..RunOptions::default() }, silent, stop).await
}

/// Changes that make themselves felt if they are applied twice, or left out.
fn work(source: &MemorySource, round: i64) {
    let old = round - 1;
    source.commit_in(&[
        (0, Op::Insert(row(round, "new"))),
        (1, Op::Insert(row(round, "new"))),
        (0, Op::Update(old, row(-round, "moved"))),
        (2, Op::Insert(row(round, "new"))),
    ]);
    source.commit_in(&[(1, Op::Delete(old)), (2, Op::Truncate), (2, Op::Insert(row(round, "again")))]);
    source.commit_in(&[(2, Op::Update(round, row(round, "named")))]);
}

/// With `from_nothing`, the power goes while the tables are made and read first.
#[rstest::rstest]
#[tokio::test(flavor = "multi_thread")]
async fn wherever_the_power_goes_the_next_run_ends_the_same(
    #[values(Break::Before, Break::Behind, Break::Late)] breaks: Break,
    #[values(false, true)] from_nothing: bool,
) {
    for steps in 1.. {
        let folder = tempfile::tempdir().unwrap();
        let (there, state) = (folder.path().join("lake"), folder.path().join("state"));
        let source = MemorySource::with_tables(&TABLES);
        source.commit_in(&[0, 1, 2].map(|table| (table, Op::Insert(row(0, "there")))));
        if !from_nothing {
            caught_up(&between(&source, &Lake::new(&there, usize::MAX, Break::Before), &state))
                .await
                .unwrap();
            work(&source, 1);
        }
        let broken = Lake::new(&there, steps, breaks);
        let done = caught_up(&between(&source, &broken, &state)).await.is_ok();
        broken.end_process().await;
        if from_nothing {
            work(&source, 1);
        }
        // More has come by now: what is collected now would end elsewhere. And the power goes once more.
        work(&source, 2);
        let again = Lake::new(&there, steps, breaks);
        let _ = caught_up(&between(&source, &again, &state)).await;
        broken.arrives().await;
        again.end_process().await;
        work(&source, 3);
        let lake = Lake::new(&there, usize::MAX, Break::Before);
        let mended = between(&source, &lake, &state);
        caught_up(&mended).await.unwrap_or_else(|error| panic!("{steps} steps: {error}"));
        assert!(lake.target.settled("p").await.unwrap().is_none(), "{steps} steps");
        again.arrives().await;
        let counted = status(&mended, Counting::Exactly).await.unwrap().tables;
        for at in 0..TABLES.len() {
            let expected = source.rows_in(at);
            assert_eq!(lake.rows(at).await, expected, "{steps} steps: {}", TABLES[at]);
            let table = counted.iter().find(|t| t.target == format!("public_{}", TABLES[at])).unwrap();
            let read = table.changes.read.total();
            let all = [6, 6, 12][at];
            assert!(
                read == all || (from_nothing && read < all),
                "{steps} steps: {}: {read} changes",
                TABLES[at]
            );
        }
        if done && !broken.is_dark() {
            assert!(steps > 10, "every step has failed in turn: {steps}");
            return;
        }
    }
}

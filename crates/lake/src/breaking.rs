//! The power goes before, or right behind, each step of writing to a lake in turn: the next run, which collects other batches, ends
//! as if nothing had happened.

use crate::LakeTarget;
use crate::as_target::ledger::Ledger;
use crate::conformance::{put_in, rows_in};
use crate::store::Store;
use arrow::array::{ArrayRef, Int64Array, RecordBatch, StringArray};
use async_trait::async_trait;
use futures_util::stream::BoxStream;
use moorage_adapter::{
    AdapterError, DecideTarget, Events, InspectTarget, LoadTarget, RecallTarget, Replacement, TakeFrom,
    Target, Turn, WriteTarget,
};
use moorage_core::Column;
use moorage_core::mapping::outputs::Mapping;
use moorage_core::model::policy::ExistingRows;
use moorage_core::model::schema::{RowIdentity, TableSchema};
use moorage_core::plan::table::{PlannedColumn, TablePlan};
use moorage_core::project::config::Project;
use moorage_engine::{Counting, EngineError, Outcome, Pipeline, RunOptions, run, status, stop_pair};
use moorage_testkit::conformance::handed::{PIPELINE, begun, checkpoint, holder, live, loaded, plan, taken};
use moorage_testkit::{AnyKind, MemorySource, Op, Row, row};
use object_store::local::LocalFileSystem;
use object_store::path::Path;
use object_store::{
    CopyOptions, Error, GetOptions, GetResult, ListResult, MultipartUpload, ObjectMeta, ObjectStore,
    PutMultipartOptions, PutOptions, PutPayload, PutResult, Result,
};
use std::collections::BTreeSet;
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

    async fn berths(&self) -> Vec<Row> {
        rows_in(Arc::new(Store::folder(&self.folder)), "berths").await
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

/// The same table with one column more.
fn deeper(plan: &TablePlan) -> TablePlan {
    let mut columns = plan.schema.columns.clone();
    columns.push(Column { name: "depth".into(), ..columns[2].clone() });
    let schema = Arc::new(TableSchema { columns, ..(*plan.schema).clone() });
    let mapping = Mapping::plain(schema.columns.len());
    let mut deeper = TablePlan { mapped: schema.clone(), schema, mapping, ..plan.clone() };
    deeper.columns.push(PlannedColumn { name: "depth".into(), ..deeper.columns[2].clone() });
    deeper
}

/// A row of berths with or without a depth.
fn rows_of(plan: &TablePlan, id: i64) -> RecordBatch {
    let text = |name: &str| Arc::new(StringArray::from(vec![name])) as ArrayRef;
    let mut columns: Vec<ArrayRef> = vec![Arc::new(Int64Array::from(vec![id])), text("read"), text("again")];
    columns.extend((plan.columns.len() > 3).then(|| text("deep")));
    RecordBatch::try_new(plan.schema.arrow(), columns).unwrap()
}

/// A table that is read again with other columns is carried as it is, wherever the power goes while its rows are replaced.
#[rstest::rstest]
#[tokio::test(flavor = "multi_thread")]
async fn a_table_is_carried_as_its_rows_are(#[values(Break::Before, Break::Behind)] breaks: Break) {
    let mut places = BTreeSet::new();
    for steps in 1.. {
        let folder = tempfile::tempdir().unwrap();
        let there = folder.path().join("lake");
        let begin = Lake::new(&there, usize::MAX, breaks);
        assert_eq!(taken(&begin.target, &holder("one"), TakeFrom::Nobody, true).await, Turn::Taken);
        begin.target.save_checkpoint(&checkpoint("0")).await.unwrap();
        let berths = plan(&begin.target, "berths", RowIdentity::Key(vec![0]));
        loaded(&begin.target, &berths, &[row(1, "first")]).await;
        let broken = Lake::new(&there, steps, breaks);
        let deeper = deeper(&berths);
        let replaced: std::result::Result<(), AdapterError> = async {
            let silent: Events = Arc::new(|_| {});
            let from = TakeFrom::Gone(&holder("one"));
            let turn = broken.target.take_turn(PIPELINE, &holder("two"), from, true, &silent).await?;
            assert_eq!(turn, Turn::Taken);
            broken.target.create_again(PIPELINE, &deeper).await?;
            broken.target.load(&deeper, rows_of(&deeper, 7)).await?;
            let mut merge = broken.target.begin(&checkpoint("0")).await?;
            let later = Box::new(std::iter::empty());
            merge.replace(vec![Replacement { plan: &deeper, later, end: live() }]).await?;
            merge.commit_durably(checkpoint("5")).await.map(drop)
        }
        .await;
        let mended = Lake::new(&there, usize::MAX, breaks);
        // Where the power went before the turn was taken, the first one has it still.
        let held = mended.target.holder(PIPELINE).await.unwrap().unwrap_or(holder("one"));
        assert_eq!(taken(&mended.target, &holder("three"), TakeFrom::Gone(&held), true).await, Turn::Taken);
        let stored = mended.target.tables(PIPELINE).await.unwrap().remove(0);
        let is_new = stored.plan.columns.len() > 3;
        let columns = mended.target.columns("berths").await.unwrap();
        assert_eq!(columns.len(), stored.plan.columns.len(), "{steps} steps");
        let ids: Vec<i64> = mended.berths().await.iter().map(|row| row.0).collect();
        assert_eq!(ids, [if is_new { 7 } else { 1 }], "{steps} steps");
        // It can be gone on with, from the end that was settled.
        let log = mended.target.log("berths", None).await.unwrap().unwrap();
        let opened = mended.target.open_table(&stored.plan, log).await;
        assert!(opened.is_ok(), "{steps} steps: {:?}", opened.err());
        let settled = mended.target.settled(PIPELINE).await.unwrap().map(|settled| settled.position);
        let end = settled.clone().unwrap_or("6".into());
        let _durable = begun(&mended.target).await.commit_durably(checkpoint(&end)).await.unwrap();
        assert!(mended.target.settled(PIPELINE).await.unwrap().is_none());
        places.insert((is_new, settled));
        if replaced.is_ok() && !broken.is_dark() {
            assert!(places.len() == 3, "old, new and settled, new and done: {places:?}");
            return;
        }
    }
}

/// Rows of others that are to be kept are kept, and their table is left when all is taken away, wherever the power goes while it is
/// taken over.
#[rstest::rstest]
#[tokio::test(flavor = "multi_thread")]
async fn rows_of_others_are_kept_wherever_the_power_goes(
    #[values(Break::Before, Break::Behind)] breaks: Break,
) {
    for steps in 1.. {
        let folder = tempfile::tempdir().unwrap();
        let there = folder.path().join("lake");
        let mut berths =
            plan(&Lake::new(&there, usize::MAX, breaks).target, "berths", RowIdentity::Key(vec![0]));
        berths.existing_rows = Some(ExistingRows::Keep);
        put_in(Arc::new(Store::folder(&there)), &berths, &[row(1, "theirs"), row(2, "theirs")]).await;
        let broken = Lake::new(&there, steps, breaks);
        let done: std::result::Result<(), AdapterError> = async {
            let silent: Events = Arc::new(|_| {});
            let turn =
                broken.target.take_turn(PIPELINE, &holder("one"), TakeFrom::Nobody, true, &silent).await?;
            assert_eq!(turn, Turn::Taken);
            broken.target.create(PIPELINE, &berths).await?;
            broken.target.load(&berths, rows_of(&berths, 2)).await?;
            broken.target.finish_load(PIPELINE, &berths, live()).await
        }
        .await;
        let mended = Lake::new(&there, usize::MAX, breaks);
        assert_eq!(
            taken(&mended.target, &holder("two"), TakeFrom::Gone(&holder("one")), true).await,
            Turn::Taken
        );
        mended.target.create(PIPELINE, &berths).await.unwrap();
        mended.target.load(&berths, rows_of(&berths, 2)).await.unwrap();
        mended.target.finish_load(PIPELINE, &berths, live()).await.unwrap();
        let names: Vec<_> = mended.berths().await.into_iter().map(|row| (row.0, row.1.unwrap())).collect();
        assert_eq!(names, [(1, "theirs".into()), (2, "read".into())], "{steps} steps");
        mended.target.teardown(PIPELINE, false).await.unwrap();
        assert_eq!(mended.berths().await.len(), 2, "{steps} steps: what was there before is left");
        if done.is_ok() && !broken.is_dark() {
            return;
        }
    }
}

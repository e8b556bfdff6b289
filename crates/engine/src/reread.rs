//! Reading one table again while the others stream.
//!
//! From the moment it begins, every change of the table is kept in a spool beside being merged as usual; then
//! the source takes a snapshot, whose mark says which of these changes it holds. When all rows are loaded
//! beside the table, and the target has come past the mark, one batch writes the kept changes that the mark
//! does not cover to the loaded rows, and puts these in the table's place. Readers see the old rows up to
//! that batch's commit and the new ones from then on, consistent with all other tables.

use crate::error::Result;
use crate::mappers::Mappers;
use crate::pipeline::Pipeline;
use crate::spool::Spool;
use arrow::array::RecordBatch;
use async_trait::async_trait;
use moorage_adapter::{
    AdapterError, Event, Events, LoadedTable, Merge, SnapshotMark, SnapshotSink, Source, TableState, Target,
};
use moorage_core::Position;
use moorage_core::change::Segment;
use moorage_core::plan::TablePlan;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;
use tokio::sync::RwLock;
use tokio::task::JoinHandle;

/// A table that is being read again.
pub(crate) struct Rereading {
    pub(crate) plan: TablePlan,
    spool: Spool,
    mappers: Mappers,
    task: JoinHandle<moorage_adapter::Result<SnapshotMark>>,
    mark: Option<SnapshotMark>,
    rows: Arc<AtomicU64>,
    began: Instant,
    /// Whether rows may still be loaded. Once the room beside the table is gone, they would end up in the table.
    open: Arc<RwLock<bool>>,
}

struct Beside {
    target: Arc<dyn Target>,
    open: Arc<RwLock<bool>>,
    plan: TablePlan,
    mappers: Mappers,
    rows: Arc<AtomicU64>,
    mark: Mutex<Option<SnapshotMark>>,
}

#[async_trait]
impl SnapshotSink for Beside {
    async fn rows(&self, _: usize, rows: RecordBatch) -> moorage_adapter::Result<()> {
        let open = self.open.read().await;
        if !*open {
            return Err(AdapterError::refused(
                "loading rows beside a table",
                "reading it again was given up",
            ));
        }
        let rows = self.mappers.rows(self.plan.table(), rows)?;
        let count = rows.num_rows() as u64;
        if count > 0 {
            self.target.load(&self.plan, rows).await?;
        }
        self.rows.fetch_add(count, Ordering::Relaxed);
        Ok(())
    }

    async fn finished(&self, _: usize, mark: SnapshotMark) -> moorage_adapter::Result<()> {
        *self.mark.lock().unwrap_or_else(PoisonError::into_inner) = Some(mark);
        Ok(())
    }
}

impl Rereading {
    /// Begins. Changes that were taken from the stream before this are held by the snapshot.
    pub(crate) async fn begin(pipeline: &Pipeline, plan: &TablePlan, events: &Events) -> Result<Self> {
        let path = pipeline.state_folder.join(format!("{}.again", pipeline.name));
        let mappers = Mappers::new([plan])?;
        let spool = Spool::create(&path, plan.schema.clone())?;
        pipeline.target.create_again(&pipeline.name, plan).await?;
        events(Event::ReadingAgain { table: plan.table().to_string() });
        let rows = Arc::new(AtomicU64::new(0));
        let open = Arc::new(RwLock::new(true));
        let sink = Arc::new(Beside {
            target: pipeline.target.clone(),
            open: open.clone(),
            plan: plan.clone(),
            mappers: mappers.clone(),
            rows: rows.clone(),
            mark: Mutex::default(),
        });
        let task = tokio::spawn(read(pipeline.clone(), plan.clone(), sink, events.clone()));
        let plan = plan.clone();
        Ok(Self { plan, spool, mappers, task, mark: None, rows, began: Instant::now(), open })
    }

    /// Ends it and removes what was loaded. No batch may be open, because loads wait for it.
    pub(crate) async fn remove(self, target: &dyn Target) -> Result<()> {
        self.task.abort();
        *self.open.write().await = false;
        Ok(target.drop_again(&self.plan).await?)
    }

    /// Keeps the table's changes; `false` if there are too many.
    pub(crate) fn keep(&mut self, segment: &Segment) -> Result<bool> {
        for block in segment.blocks.iter().filter(|b| b.schema().table == *self.plan.table()) {
            if !self.spool.push(block)? {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Waits until all rows are loaded; then never ends.
    pub(crate) async fn loaded(&mut self) -> moorage_adapter::Result<()> {
        if self.mark.is_some() {
            return std::future::pending().await;
        }
        let done = (&mut self.task).await.map_err(|e| AdapterError::Io {
            what: format!("reading {} again", self.plan.table()),
            reason: e.to_string(),
        })?;
        self.mark = Some(done?);
        Ok(())
    }

    /// Whether the rows can take the table's place in a batch that ends at `position`.
    pub(crate) fn is_due(&self, position: &Position) -> bool {
        self.mark.as_ref().is_some_and(|mark| *position >= mark.complete_at)
    }

    /// Puts the rows in the table's place, in an open batch that has everything kept so far.
    pub(crate) async fn replace(&mut self, source: &dyn Source, merge: &mut dyn Merge) -> Result<()> {
        let Some(mark) = self.mark.clone() else { return Ok(()) };
        let later = self.spool.blocks()?;
        let mappers = &self.mappers;
        let mut later =
            later.map(|block| mappers.block(block?.only(|transaction| !source.covers(&mark, transaction))));
        let end = LoadedTable { state: TableState::Live, mark: Some(mark.clone()) };
        Ok(merge.replace(&self.plan, &mut later, end).await?)
    }

    /// What is told when it is done.
    pub(crate) fn done(&self) -> Event {
        Event::ReadAgain {
            table: self.plan.table().to_string(),
            rows: self.rows.load(Ordering::Relaxed),
            elapsed_ms: self.began.elapsed().as_millis() as u64,
        }
    }
}

impl Drop for Rereading {
    fn drop(&mut self) {
        self.task.abort();
    }
}

async fn read(
    pipeline: Pipeline,
    plan: TablePlan,
    sink: Arc<Beside>,
    events: Events,
) -> moorage_adapter::Result<SnapshotMark> {
    let capture = pipeline.capture();
    pipeline.source.snapshot(std::slice::from_ref(&plan), Some(&capture), sink.clone(), &events).await?;
    pipeline.target.ready_again(&plan).await?;
    // Behind the mark there must be something for the target to come past, also on a quiet source.
    pipeline.source.send_note(&format!("{} was read again", plan.table())).await?;
    let mark = sink.mark.lock().unwrap_or_else(PoisonError::into_inner).take();
    mark.ok_or_else(|| AdapterError::Value {
        table: plan.table().to_string(),
        what: "its snapshot ended without a mark".into(),
    })
}

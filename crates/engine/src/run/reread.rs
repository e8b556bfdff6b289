//! Reading tables again while the others stream.
//!
//! From the moment it begins, every change of the tables is kept in a spool beside being merged as usual; then
//! the source takes a snapshot, whose mark says which of these changes it holds. When all rows are loaded
//! beside the table, and the target has come past the mark, one batch writes the kept changes that the mark
//! does not cover to the loaded rows, and puts these in the table's place. Readers see the old rows up to
//! that batch's commit and the new ones from then on, consistent with all other tables. Tables that were asked for
//! together take their places together.

use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::Result;
use crate::pipeline::mappers::Mappers;
use crate::run::load::load_forms;
use crate::run::spool::Spool;
use arrow::array::RecordBatch;
use async_trait::async_trait;
use moorage_adapter::{
    AdapterError, CapturePlan, CountsFrom, Doing, Event, Events, Lack, LoadedTable, Merge, Replacement,
    SnapshotMark, SnapshotSink, Source, TableState, Target,
};
use moorage_core::apply::prepare::TableBatch;
use moorage_core::change::segment::Segment;
use moorage_core::plan::table::TablePlan;
use moorage_core::value::moment::Moment;
use moorage_core::{Position, TableName};
use moorage_monitor::folder;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;
use tokio::sync::RwLock;
use tokio::task::JoinHandle;

/// One of the tables that are being read again.
struct Table {
    plan: TablePlan,
    spool: Spool,
    /// What captures its changes.
    captured_by: Option<String>,
    rows: Arc<AtomicU64>,
    /// Whether it has not been read before.
    first: bool,
}

/// Tables that are being read again.
pub(crate) struct Rereading {
    tables: Vec<Table>,
    mappers: Mappers,
    task: JoinHandle<moorage_adapter::Result<Vec<SnapshotMark>>>,
    marks: Option<Vec<SnapshotMark>>,
    began: Instant,
    /// Whether rows may still be loaded. Once the room beside the tables is gone, they would end up in the tables.
    open: Arc<RwLock<bool>>,
}

struct Beside {
    target: Arc<dyn Target>,
    open: Arc<RwLock<bool>>,
    plans: Vec<TablePlan>,
    mappers: Mappers,
    rows: Vec<Arc<AtomicU64>>,
    marks: Mutex<Vec<Option<SnapshotMark>>>,
}

#[async_trait]
impl SnapshotSink for Beside {
    async fn rows(&self, table: usize, rows: RecordBatch) -> moorage_adapter::Result<()> {
        let open = self.open.read().await;
        if !*open {
            return Err(AdapterError::refused(
                "loading rows beside a table",
                "reading it again was given up",
            ));
        }
        let plan = &self.plans[table];
        let rows = self.mappers.rows(plan.table(), rows)?;
        let count = rows.num_rows() as u64;
        if count > 0 {
            // Beside a table the rows are what they are now.
            load_forms(self.target.as_ref(), plan, rows, Moment::default()).await?;
        }
        self.rows[table].fetch_add(count, Ordering::Relaxed);
        Ok(())
    }

    async fn finished(&self, table: usize, mark: SnapshotMark) -> moorage_adapter::Result<()> {
        self.marks.lock().unwrap_or_else(PoisonError::into_inner)[table] = Some(mark);
        Ok(())
    }
}

impl Rereading {
    /// Begins. Changes that were taken from the stream before this are held by the snapshot.
    pub(crate) async fn begin(
        pipeline: &Pipeline,
        capture: &CapturePlan,
        plans: &[TablePlan],
        is_first: &(dyn Fn(&TableName) -> bool + Sync),
        events: &Events,
    ) -> Result<Self> {
        // Beside a table the current rows alone are loaded, whatever it keeps.
        let of_current: Vec<TablePlan> = plans.iter().map(TablePlan::of_current).collect();
        let mappers = Mappers::new(&of_current)?;
        let captured_by = pipeline.source.captured_by(capture, plans).await?;
        let mut tables = Vec::with_capacity(plans.len());
        for (at, (plan, captured_by)) in plans.iter().zip(captured_by).enumerate() {
            let path = folder::file(&pipeline.state_folder, &pipeline.name, &format!("{at}.again"));
            let spool = Spool::create(&path, plan.schema.clone()).await?;
            pipeline.target.create_again(&pipeline.name, plan).await?;
            let first = is_first(plan.table());
            events(Event::ReadingAgain { table: plan.table().to_string(), first });
            tables.push(Table { plan: plan.clone(), spool, captured_by, rows: Arc::default(), first });
        }
        let open = Arc::new(RwLock::new(true));
        let sink = Arc::new(Beside {
            target: pipeline.target.clone(),
            open: open.clone(),
            plans: plans.to_vec(),
            mappers: mappers.clone(),
            rows: tables.iter().map(|t| t.rows.clone()).collect(),
            marks: Mutex::new(vec![None; plans.len()]),
        });
        let task = tokio::spawn(read(pipeline.clone(), capture.clone(), sink, events.clone()));
        Ok(Self { tables, mappers, task, marks: None, began: Instant::now(), open })
    }

    /// Whether a table is among them.
    pub(crate) fn reads(&self, table: &TableName) -> bool {
        self.tables().any(|t| t == table)
    }

    /// The tables.
    pub(crate) fn tables(&self) -> impl Iterator<Item = &TableName> {
        self.tables.iter().map(|t| t.plan.table())
    }

    /// How they are carried.
    pub(crate) fn plans(&self) -> impl Iterator<Item = &TablePlan> {
        self.tables.iter().map(|t| &t.plan)
    }

    /// The tables' names.
    pub(crate) fn names(&self) -> Vec<String> {
        self.tables.iter().map(|t| t.plan.table().to_string()).collect()
    }

    /// Ends it and removes what was loaded. No batch may be open, because loads wait for it.
    pub(crate) async fn remove(self, target: &dyn Target) -> Result<()> {
        self.task.abort();
        *self.open.write().await = false;
        for table in &self.tables {
            target.drop_again(&table.plan).await?;
        }
        Ok(())
    }

    /// Keeps the tables' changes.
    ///
    /// # Errors
    /// Why the tables cannot be read again, in words.
    pub(crate) async fn keep(&mut self, segment: &Segment) -> std::result::Result<(), String> {
        for block in segment.blocks.iter().chain(&segment.fleeting) {
            let table = self.tables.iter_mut().find(|t| *t.plan.table() == block.schema().table);
            if let Some(table) = table {
                // Blocks are shared columns: cloning copies no rows.
                table.spool.push(block.clone()).await?;
            }
        }
        Ok(())
    }

    /// Waits until all rows are loaded, and gives the place at which all marks are complete; then never ends.
    pub(crate) async fn loaded(&mut self) -> moorage_adapter::Result<Position> {
        if self.marks.is_some() {
            return std::future::pending().await;
        }
        let done = (&mut self.task).await.map_err(|e| AdapterError::Io {
            doing: Doing::to("reading again", self.names().join(", ")),
            reason: e.to_string(),
        })?;
        let marks = self.marks.insert(done?);
        let complete_at = marks.iter().map(|mark| mark.complete_at.clone()).max();
        complete_at.ok_or_else(|| AdapterError::refused("reading tables again", "there are none"))
    }

    /// Puts the rows in the tables' places, in an open batch that has everything kept so far. In a table that keeps more than
    /// the current rows they count from a moment on that is not before anything in the batch.
    pub(crate) async fn replace(
        &mut self,
        source: &dyn Source,
        merge: &mut dyn Merge,
        from: &CountsFrom,
    ) -> Result<()> {
        let Some(marks) = self.marks.clone() else { return Ok(()) };
        let mappers = &self.mappers;
        let mut replaced = Vec::with_capacity(self.tables.len());
        for (Table { plan, spool, captured_by, .. }, mark) in self.tables.iter_mut().zip(marks) {
            let plan: &TablePlan = plan;
            for form in std::iter::once(plan).chain(plan.also.iter().map(AsRef::as_ref)) {
                let covering = mark.clone();
                let to = Arc::new(form.of_current());
                // A stretch may begin before the mark, and what it came to is not what came behind that.
                let in_sum = source.lacks().contains(&Lack::EachChange) && !plan.each_change;
                let later = spool.blocks().await?.map(move |block| {
                    let block = block?.only(|transaction| !source.covers(&covering, transaction));
                    let block = mappers.block(block)?;
                    let block = if in_sum { block.blindly() } else { block };
                    Ok(TableBatch::of(to.clone(), vec![block], false)?)
                });
                let (from, captured_by, mark) = (from.clone(), captured_by.clone(), Some(mark.clone()));
                let end = LoadedTable { from, state: TableState::Live, mark, captured_by };
                replaced.push(Replacement { plan: form, later: Box::new(later), end });
            }
        }
        Ok(merge.replace(replaced).await?)
    }

    /// What is told when it is done.
    pub(crate) fn done(&self) -> impl Iterator<Item = Event> {
        self.tables.iter().map(|table| Event::ReadAgain {
            table: table.plan.table().to_string(),
            rows: table.rows.load(Ordering::Relaxed),
            elapsed_ms: self.began.elapsed().as_millis() as u64,
            first: table.first,
        })
    }
}

impl Drop for Rereading {
    fn drop(&mut self) {
        self.task.abort();
    }
}

async fn read(
    pipeline: Pipeline,
    capture: CapturePlan,
    sink: Arc<Beside>,
    events: Events,
) -> moorage_adapter::Result<Vec<SnapshotMark>> {
    pipeline.source.snapshot(&sink.plans, Some(&capture), sink.clone(), &events).await?;
    for plan in &sink.plans {
        pipeline.target.ready_again(plan).await?;
    }
    // Behind the marks there must be something for the target to come past, also on a quiet source.
    pipeline.source.send_note("tables were read again").await?;
    let marks = std::mem::take(&mut *sink.marks.lock().unwrap_or_else(PoisonError::into_inner));
    let known = |(plan, mark): (&TablePlan, Option<SnapshotMark>)| {
        mark.ok_or_else(|| AdapterError::Value {
            table: plan.table().to_string(),
            what: "its snapshot ended without a mark".into(),
        })
    };
    sink.plans.iter().zip(marks).map(known).collect()
}

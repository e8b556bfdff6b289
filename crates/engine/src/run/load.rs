//! Taking a snapshot's chunks into the target.

use crate::pipeline::context::Context;
use crate::pipeline::mappers::Mappers;
use arrow::array::RecordBatch;
use async_trait::async_trait;
use moorage_adapter::{
    CountsFrom, Event, Events, LoadedTable, Result, SnapshotMark, SnapshotSink, TableState, Target,
};
use moorage_core::plan::table::TablePlan;
use moorage_core::value::moment::Moment;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Instant;

/// Loads rows of a snapshot, mapped for the first form of a table, into all of its forms. They count from a moment on.
pub(crate) async fn load_forms(
    target: &dyn Target,
    plan: &TablePlan,
    rows: RecordBatch,
    valid_from: Moment,
) -> Result<()> {
    for form in &plan.also {
        target.load(form, TablePlan::snapshot_rows(form, &rows, valid_from)?).await?;
    }
    target.load(plan, rows).await
}

/// Loads chunks and finishes tables.
pub(crate) struct Loader {
    pub(crate) pipeline: String,
    pub(crate) target: Arc<dyn Target>,
    pub(crate) tables: Vec<TablePlan>,
    mappers: Mappers,
    pub(crate) finished_as: TableState,
    pub(crate) events: Events,
    pub(crate) run_began: Instant,
    rows: Vec<AtomicU64>,
    /// For each table what captures its changes.
    captured_by: Vec<Option<String>>,
    /// From when on the rows count.
    from: CountsFrom,
    /// For each table whether readers see old rows until all new ones are there.
    hidden: Vec<bool>,
    first: AtomicBool,
    began: Instant,
}

impl Loader {
    pub(crate) fn new(
        context: &Context,
        tables: &[TablePlan],
        finished_as: TableState,
        hidden: Vec<bool>,
        captured_by: Vec<Option<String>>,
        from: CountsFrom,
    ) -> Result<Self> {
        Ok(Self {
            pipeline: context.pipeline.name.clone(),
            target: context.pipeline.target.clone(),
            mappers: Mappers::new(tables)?.reading_at(from.valid_from),
            tables: tables.to_vec(),
            finished_as,
            events: context.events.clone(),
            run_began: context.began,
            rows: tables.iter().map(|_| AtomicU64::new(0)).collect(),
            captured_by,
            from,
            hidden,
            first: AtomicBool::new(true),
            began: Instant::now(),
        })
    }
}

#[async_trait]
impl SnapshotSink for Loader {
    async fn rows(&self, table: usize, rows: RecordBatch) -> Result<()> {
        let plan = &self.tables[table];
        let rows = self.mappers.rows(plan.table(), rows)?;
        let count = rows.num_rows() as u64;
        if count > 0 {
            load_forms(self.target.as_ref(), plan, rows, self.from.valid_from).await?;
        }
        if count > 0 && !self.hidden[table] && self.first.swap(false, Ordering::Relaxed) {
            let elapsed_ms = self.run_began.elapsed().as_millis() as u64;
            (self.events)(Event::FirstRowReadable { table: plan.target.clone(), elapsed_ms });
        }
        let rows = self.rows[table].fetch_add(count, Ordering::Relaxed) + count;
        (self.events)(Event::SnapshotRows { table: plan.table().to_string(), rows });
        Ok(())
    }

    async fn finished(&self, table: usize, mark: SnapshotMark) -> Result<()> {
        let plan = &self.tables[table];
        let mark = (self.finished_as == TableState::Live).then_some(mark);
        let captured_by = self.captured_by[table].clone();
        let end = LoadedTable { from: self.from.clone(), state: self.finished_as, mark, captured_by };
        self.target.finish_load(&self.pipeline, plan, end).await?;
        (self.events)(Event::SnapshotFinished {
            table: plan.table().to_string(),
            rows: self.rows[table].load(Ordering::Relaxed),
            elapsed_ms: self.began.elapsed().as_millis() as u64,
        });
        Ok(())
    }
}

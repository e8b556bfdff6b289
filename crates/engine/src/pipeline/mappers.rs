//! Mapping rows between source and target: what stands between the two for each table.

use arrow::array::RecordBatch;
use moorage_adapter::{AdapterError, Result};
use moorage_core::change::block::ChangeBlock;
use moorage_core::change::segment::Segment;
use moorage_core::compare::rows::LookedRows;
use moorage_core::mapping::mapper::{MapError, Mapper};
use moorage_core::plan::table::TablePlan;
use moorage_core::value::moment::Moment;
use moorage_core::{TableName, TableSchema};
use std::collections::HashMap;
use std::sync::Arc;

/// The mappers of some tables. Tables whose rows go over as they are have none.
#[derive(Clone, Debug, Default)]
pub(crate) struct Mappers {
    mappers: HashMap<TableName, Mapper>,
    /// What is read of each.
    read: HashMap<TableName, Arc<TableSchema>>,
}

fn refused(table: &TableName, why: impl ToString) -> AdapterError {
    AdapterError::Value { table: table.to_string(), what: why.to_string() }
}

fn unmapped(table: &TableName, error: &MapError) -> AdapterError {
    let way_out = match error.way_out {
        "" => String::new(),
        way_out => {
            format!(". {way_out}; then run `moorage resnapshot {table}`. Nothing is lost meanwhile")
        }
    };
    refused(table, format!("{error}{way_out}"))
}

impl Mappers {
    /// For these tables.
    pub(crate) fn new<'a>(plans: impl IntoIterator<Item = &'a TablePlan>) -> Result<Self> {
        let mut all = Self::default();
        for plan in plans {
            all.add(plan)?;
        }
        Ok(all)
    }

    /// The same where rows of a snapshot count from a moment on.
    #[must_use]
    pub(crate) fn reading_at(mut self, valid_from: Moment) -> Self {
        self.mappers = self.mappers.into_iter().map(|(table, m)| (table, m.reading_at(valid_from))).collect();
        self
    }

    fn add(&mut self, plan: &TablePlan) -> Result<()> {
        let mapper = plan.mapper().map_err(|why| refused(plan.table(), why))?;
        self.mappers.extend(mapper.map(|m| (plan.table().clone(), m)));
        self.read.insert(plan.table().clone(), plan.schema.clone());
        Ok(())
    }

    /// Nothing is read of a table, and nothing mapped: its changes go over as they come.
    pub(crate) fn remove(&mut self, plan: &TablePlan) {
        self.mappers.remove(plan.table());
        self.read.remove(plan.table());
    }

    /// Another plan takes the place of one.
    pub(crate) fn replace(&mut self, before: &TablePlan, after: &TablePlan) -> Result<()> {
        self.mappers.remove(before.table());
        self.read.remove(before.table());
        self.add(after)
    }

    /// Changes with the columns alone that are read: a source that follows a table's structure hands on all that it logs.
    pub(crate) fn read(&self, segment: Segment) -> Result<Segment> {
        segment.each(|block| self.read_block(block))
    }

    /// The same of one block.
    pub(crate) fn read_block(&self, block: ChangeBlock) -> Result<ChangeBlock> {
        match self.read.get(&block.schema().table) {
            Some(schema) if !Arc::ptr_eq(schema, block.schema()) && schema != block.schema() => {
                let table = block.schema().table.clone();
                block.onto(schema).map_err(|e| refused(&table, e))
            }
            _ => Ok(block),
        }
    }

    /// Whether some rows of a table are not carried.
    pub(crate) fn filters(&self, table: &TableName) -> bool {
        self.mappers.get(table).is_some_and(Mapper::filters)
    }

    /// Rows as the target holds them.
    pub(crate) fn rows(&self, table: &TableName, rows: RecordBatch) -> Result<RecordBatch> {
        match self.mappers.get(table) {
            None => Ok(rows),
            Some(mapper) => mapper.rows(&rows).map_err(|e| unmapped(table, &e)),
        }
    }

    /// Rows of the source that are looked at.
    pub(crate) fn looked(&self, table: &TableName, rows: LookedRows) -> Result<LookedRows> {
        Ok(LookedRows { rows: self.rows(table, rows.rows)?, ..rows })
    }

    /// Changes as the target takes them.
    pub(crate) fn block(&self, block: ChangeBlock) -> Result<ChangeBlock> {
        let schema = block.schema().clone();
        match self.mappers.get(&schema.table) {
            None => Ok(block),
            Some(mapper) => mapper.block(block).map_err(|e| unmapped(&schema.table, &e)),
        }
    }

    /// A stretch of the stream, likewise.
    pub(crate) fn segment(&self, mut segment: Segment) -> Result<Segment> {
        if !self.mappers.is_empty() {
            segment.blocks = segment.blocks.into_iter().map(|b| self.block(b)).collect::<Result<_>>()?;
        }
        Ok(segment)
    }
}

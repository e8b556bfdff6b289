//! Mapping rows between source and target: what stands between the two for each table.

use arrow::array::RecordBatch;
use moorage_adapter::{AdapterError, Result};
use moorage_core::TableName;
use moorage_core::change::block::ChangeBlock;
use moorage_core::change::segment::Segment;
use moorage_core::compare::rows::LookedRows;
use moorage_core::mapping::mapper::{MapError, Mapper};
use moorage_core::plan::table::TablePlan;
use std::collections::HashMap;

/// The mappers of some tables. Tables whose rows go over as they are have none.
#[derive(Clone, Debug, Default)]
pub(crate) struct Mappers(HashMap<TableName, Mapper>);

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
        let mut all = HashMap::new();
        for plan in plans {
            let mapper = plan.mapper().map_err(|why| refused(plan.table(), why))?;
            all.extend(mapper.map(|m| (plan.table().clone(), m)));
        }
        Ok(Self(all))
    }

    /// Whether some rows of a table are not carried.
    pub(crate) fn filters(&self, table: &TableName) -> bool {
        self.0.get(table).is_some_and(Mapper::filters)
    }

    /// Rows as the target holds them.
    pub(crate) fn rows(&self, table: &TableName, rows: RecordBatch) -> Result<RecordBatch> {
        match self.0.get(table) {
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
        let table = &block.schema().table;
        match self.0.get(table) {
            None => Ok(block),
            Some(mapper) => mapper.block(&block).map_err(|e| unmapped(table, &e)),
        }
    }

    /// A stretch of the stream, likewise.
    pub(crate) fn segment(&self, mut segment: Segment) -> Result<Segment> {
        if !self.0.is_empty() {
            segment.blocks = segment.blocks.into_iter().map(|b| self.block(b)).collect::<Result<_>>()?;
        }
        Ok(segment)
    }
}

//! Preparing a batch: from changes to what they do to each table. It needs no target, and can go on while another batch
//! is applied.

use crate::apply::net::ReduceError;
use crate::apply::reduce::reduce;
use crate::apply::write_set::WriteSet;
use crate::change::block::ChangeBlock;
use crate::plan::carried::CarriedTables;
use crate::plan::table::TablePlan;
use std::collections::BTreeMap;
use std::sync::Arc;

/// The changes of one table in a batch, or in a part of one.
#[derive(Clone, Debug)]
pub struct TableBatch {
    /// The table.
    pub plan: Arc<TablePlan>,
    /// Its changes, in order; the write set points into them.
    pub blocks: Vec<ChangeBlock>,
    /// What they come down to.
    pub set: WriteSet,
}

impl TableBatch {
    /// Prepares the changes of one table, given in order.
    ///
    /// # Errors
    /// See [`ReduceError`].
    pub fn of(plan: Arc<TablePlan>, blocks: Vec<ChangeBlock>) -> Result<Self, ReduceError> {
        let set = reduce(&blocks.iter().collect::<Vec<_>>())?;
        Ok(Self { plan, blocks, set })
    }
}

/// Prepares a batch, or a part of one: the tables in the order in which they are carried. Changes of tables that are not
/// carried, and blocks without any news, are left out.
///
/// # Errors
/// See [`ReduceError`].
pub fn prepare(blocks: Vec<ChangeBlock>, tables: &CarriedTables) -> Result<Vec<TableBatch>, ReduceError> {
    let mut met: BTreeMap<usize, (Arc<TablePlan>, Vec<ChangeBlock>)> = BTreeMap::new();
    for block in blocks.into_iter().filter(|b| !b.is_empty() || b.read().total() > 0) {
        if let Some((place, plan)) = tables.of(&block.schema().table) {
            met.entry(place).or_insert_with(|| (plan.clone(), Vec::new())).1.push(block);
        }
    }
    met.into_values().map(|(plan, blocks)| TableBatch::of(plan, blocks)).collect()
}

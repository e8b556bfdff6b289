//! What lies between the two looks of a comparison.

use crate::pipeline::error::{EngineError, Result};
use crate::pipeline::mappers::Mappers;
use moorage_adapter::{AdapterError, SourceLook};
use moorage_core::change::block::ChangeBlock;
use moorage_core::change::kind::{Change, ChangeKind};
use moorage_core::compare::hash::KeyHasher;
use moorage_core::plan::table::TablePlan;
use moorage_core::value::column::{Value, value_at};
use std::collections::HashSet;
use tokio::sync::mpsc;

/// How many changed rows between the looks are kept in mind; each takes about 40 bytes.
const MOST_BETWEEN: usize = 2_000_000;

/// What lies between the two looks, for one table.
#[derive(Default)]
pub(super) struct TableBetween {
    /// The keys that changes are about.
    pub(super) keys: HashSet<u128>,
    /// Without a key: hashes of rows that the source has more of (1) or fewer (-1) than the target.
    pub(super) rows: Vec<(u128, i64)>,
    /// The table was emptied: every row is in flight.
    pub(super) emptied: bool,
    /// Rows that the source has more than the target.
    pub(super) net: i64,
    /// By how much that may be wrong, because the log does not say how rows were before a filter.
    pub(super) unsure: u64,
}

pub(super) struct Between {
    pub(super) tables: Vec<TableBetween>,
    pub(super) changes: u64,
}

impl Between {
    pub(super) async fn gather(
        source: &mut dyn SourceLook,
        plans: &[TablePlan],
        mappers: &Mappers,
    ) -> Result<Self> {
        let mut between =
            Self { tables: plans.iter().map(|_| TableBetween::default()).collect(), changes: 0 };
        let (sender, mut blocks) = mpsc::channel(4);
        let take = async {
            while let Some(block) = blocks.recv().await {
                between.add(plans, &mappers.block(block)?)?;
            }
            Ok(())
        };
        let (read, taken) = tokio::join!(source.between(sender), take);
        taken.and(read.map_err(EngineError::from))?;
        Ok(between)
    }

    fn add(&mut self, plans: &[TablePlan], block: &ChangeBlock) -> Result<()> {
        let Some(at) = plans.iter().position(|p| *p.table() == block.schema().table) else { return Ok(()) };
        let table = &mut self.tables[at];
        self.changes += block.len() as u64;
        if block.is_blind() {
            table.unsure += block.len() as u64;
        }
        let schema = block.schema();
        let all: Vec<usize> = (0..schema.columns.len()).collect();
        let keyed = schema.identity.key();
        let mut hasher = KeyHasher::new(&schema.columns, keyed.unwrap_or(&all));
        for change in block.changes() {
            table.net += match change.kind {
                ChangeKind::Insert => 1,
                ChangeKind::Delete => -1,
                ChangeKind::Update => 0,
                ChangeKind::Truncate => {
                    table.emptied = true;
                    0
                }
            };
            let new = change.new.map(|_| hasher.hash(|c| new_value(block, &change, c)));
            let old =
                change.old.map(|row| hasher.hash(|c| value_at(block.old_rows().column(c).as_ref(), row)));
            if keyed.is_some() {
                table.keys.extend(new.into_iter().chain(old));
            } else {
                table.rows.extend(new.map(|hash| (hash, 1)).into_iter().chain(old.map(|hash| (hash, -1))));
            }
        }
        if table.keys.len() + table.rows.len() > MOST_BETWEEN {
            return Err(AdapterError::refused(
                "comparing both sides",
                format!(
                    "more than {MOST_BETWEEN} captured changes to {} wait to be merged: let the pipeline catch up (`moorage run --until caught-up`), then verify",
                    schema.table
                ),
            )
            .into());
        }
        Ok(())
    }
}

/// A value of the new image; of the old one where the log did not carry it.
fn new_value<'a>(block: &'a ChangeBlock, change: &Change<'_>, column: usize) -> Value<'a> {
    let unchanged = change.unchanged.is_some_and(|u| u[column]);
    match (unchanged, change.old, change.new) {
        (true, Some(old), _) => value_at(block.old_rows().column(column).as_ref(), old),
        (_, _, Some(new)) => value_at(block.new_rows().column(column).as_ref(), new),
        _ => Value::Null,
    }
}

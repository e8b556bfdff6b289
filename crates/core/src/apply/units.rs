//! Which changes of a batch hang together: those that touch the same rows must be applied, or set aside,
//! together, while all others can go without them.

use crate::apply::net::{ReduceError, new_cells, old_cells, write_keys};
use crate::change::block::ChangeBlock;
use crate::change::kind::{Change, ChangeKind};
use crate::value::column::Value;
use hashbrown::HashMap;

/// Changes whose keys are connected, in their order.
#[derive(Clone, Debug, Default)]
pub struct Unit {
    /// Index of the block, and of the change in it.
    pub changes: Vec<(usize, usize)>,
    /// The keys that they touch, in the form of [`Value::write_key`].
    pub keys: Vec<Vec<u8>>,
}

/// The changes of one table, taken apart.
#[derive(Clone, Debug, Default)]
pub struct Units {
    /// Whether the table was emptied; what came before that is in `void`.
    pub truncate: bool,
    /// How many changes a truncate made pointless, the truncates themselves among them.
    pub void: u64,
    /// The rest, in the order of their first changes.
    pub units: Vec<Unit>,
}

impl Units {
    /// The changes of some of the units as blocks again, in their order.
    pub fn pick<'a>(
        blocks: &[&ChangeBlock],
        units: impl IntoIterator<Item = &'a Unit>,
    ) -> Result<Vec<ChangeBlock>, arrow::error::ArrowError> {
        let mut wanted: Vec<Vec<usize>> = vec![Vec::new(); blocks.len()];
        for unit in units {
            unit.changes.iter().for_each(|(block, change)| wanted[*block].push(*change));
        }
        let mut picked = Vec::new();
        for (block, changes) in blocks.iter().zip(&mut wanted) {
            changes.sort_unstable();
            if !changes.is_empty() {
                picked.push(block.pick(changes)?);
            }
        }
        Ok(picked)
    }
}

/// Takes the changes of one table apart. All `blocks` must be of one table and one structure, in order.
///
/// # Errors
/// If a change does not say which row it is about.
pub fn units(blocks: &[&ChangeBlock]) -> Result<Units, ReduceError> {
    let Some(first) = blocks.first() else { return Ok(Units::default()) };
    let schema = first.schema();
    let width = schema.columns.len();
    let key = schema.identity.key().map(<[usize]>::to_vec);
    let mut found = Grouping::default();
    for (b, block) in blocks.iter().enumerate() {
        for (at, change) in block.changes().enumerate() {
            if change.kind == ChangeKind::Truncate {
                found.truncate();
                continue;
            }
            let mut keys: Vec<Vec<u8>> = Vec::with_capacity(2);
            for cells in touched(b as u32, &change, width, key.as_deref().unwrap_or(&[])) {
                let mut bytes = Vec::new();
                match &key {
                    Some(key) => write_keys(blocks, &cells, key, &mut bytes)?,
                    None => (0..width).for_each(|c| {
                        let value = cells.at(c).map_or(Value::Null, |image| image.value(blocks, c));
                        value.write_key(&mut bytes);
                    }),
                }
                keys.push(bytes);
            }
            found.add((b, at), keys);
        }
    }
    Ok(found.finish())
}

/// The rows that a change is about: the old one, the new one, or both.
fn touched(block: u32, change: &Change<'_>, width: usize, key: &[usize]) -> Vec<crate::apply::net::Cells> {
    let new = change.new.map(|_| new_cells(block, change, width, key));
    let old = change.old.map(|_| old_cells(block, change));
    old.into_iter().chain(new).collect()
}

/// Union-find over keys (Tarjan 1975), each group with its changes.
#[derive(Default)]
struct Grouping {
    truncate: bool,
    void: u64,
    index: HashMap<Vec<u8>, usize>,
    parent: Vec<usize>,
    changes: Vec<((usize, usize), usize)>,
}

impl Grouping {
    fn truncate(&mut self) {
        self.void += self.changes.len() as u64 + 1;
        self.truncate = true;
        self.index.clear();
        self.parent.clear();
        self.changes.clear();
    }

    fn root(&mut self, mut at: usize) -> usize {
        while self.parent[at] != at {
            self.parent[at] = self.parent[self.parent[at]];
            at = self.parent[at];
        }
        at
    }

    fn add(&mut self, change: (usize, usize), keys: Vec<Vec<u8>>) {
        let mut into = None;
        for key in keys {
            let next = self.parent.len();
            let at = *self.index.entry(key).or_insert(next);
            if at == next {
                self.parent.push(next);
            }
            let root = self.root(at);
            match into {
                None => into = Some(root),
                Some(other) => self.parent[root] = self.root(other),
            }
        }
        self.changes.extend(into.map(|group| (change, group)));
    }

    fn finish(mut self) -> Units {
        let mut units: Vec<Unit> = Vec::new();
        let mut place: HashMap<usize, usize> = HashMap::new();
        for (change, group) in std::mem::take(&mut self.changes) {
            let root = self.root(group);
            let at = *place.entry(root).or_insert_with(|| {
                units.push(Unit::default());
                units.len() - 1
            });
            units[at].changes.push(change);
        }
        for (key, at) in std::mem::take(&mut self.index) {
            let root = self.root(at);
            if let Some(at) = place.get(&root) {
                units[*at].keys.push(key);
            }
        }
        Units { truncate: self.truncate, void: self.void, units }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::change::builder::{ChangeBlockBuilder, Images};
    use crate::change::kind::Transaction;
    use crate::model::name::TableName;
    use crate::model::position::Position;
    use crate::model::schema::{Column, RowIdentity, TableSchema};
    use crate::model::types::LogicalType;
    use std::sync::Arc;

    /// Changes of a table with one integer column, its key: old key and new key.
    fn block(changes: &[(ChangeKind, Option<i64>, Option<i64>)]) -> ChangeBlock {
        let column = Column {
            name: "id".into(),
            logical: LogicalType::Int64,
            source_type: "bigint".into(),
            nullable: false,
        };
        let schema = Arc::new(TableSchema {
            table: TableName::new("public", "berths"),
            columns: vec![column],
            identity: RowIdentity::Key(vec![0]),
        });
        let transaction = Arc::new(Transaction {
            position: Position::new(&[1], "1"),
            proof: String::new(),
            committed_at: chrono::DateTime::UNIX_EPOCH,
            found: None,
        });
        let mut builder = ChangeBlockBuilder::new(schema);
        for (order, (kind, old, new)) in changes.iter().enumerate() {
            let images = Images { new: new.is_some(), old: old.map(|_| false), unchanged: None };
            new.iter().for_each(|k| assert!(builder.new.columns[0].push(Value::Int(*k))));
            old.iter().for_each(|k| assert!(builder.old.columns[0].push(Value::Int(*k))));
            builder.push(*kind, order as u64, &transaction, images, 1);
        }
        builder.finish().unwrap()
    }

    #[test]
    fn changes_hang_together_by_the_rows_they_touch() {
        use ChangeKind::{Delete, Insert, Truncate, Update};
        let block = block(&[
            (Insert, None, Some(7)),
            (Truncate, None, None),
            (Insert, None, Some(1)),
            (Insert, None, Some(2)),
            (Update, Some(1), Some(3)),
            (Delete, Some(9), None),
            (Update, Some(3), Some(2)),
            (Insert, None, Some(4)),
        ]);
        let found = units(&[&block]).unwrap();
        let changes: Vec<Vec<usize>> =
            found.units.iter().map(|u| u.changes.iter().map(|c| c.1).collect()).collect();
        assert_eq!((found.truncate, found.void), (true, 2), "what a truncate made pointless is counted");
        assert_eq!(changes, [vec![2, 3, 4, 6], vec![5], vec![7]]);
        assert_eq!(found.units[0].keys.len(), 3);
        let picked = Units::pick(&[&block], [&found.units[0]]).unwrap();
        assert_eq!(picked[0].changes().map(|c| c.order).collect::<Vec<_>>(), [2, 3, 4, 6]);
        assert_eq!(picked[0].new_rows().num_rows(), 4);
    }
}

//! The invariant of the module, by property: reduced and applied = applied one by one.

use super::reduce::reduce;
use crate::apply::net::{Cells, ReduceError};
use crate::apply::write_set::{Write, WriteSet};
use crate::change::block::ChangeBlock;
use crate::change::builder::{ChangeBlockBuilder, Images};
use crate::change::kind::{ChangeKind, Transaction};
use crate::model::name::TableName;
use crate::model::position::Position;
use crate::model::schema::{Column, RowIdentity, TableSchema};
use crate::model::types::LogicalType;
use crate::value::column::Value;
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::sync::Arc;

pub(super) type Row = [i64; 3];
pub(super) type Table = BTreeMap<i64, Row>;

/// A change before it is known whether its row exists.
#[derive(Clone, Debug)]
pub(super) enum Wish {
    Insert(i64, i64, i64),
    /// Row, new key, which of the two other columns get a value.
    Update(i64, Option<i64>, Option<i64>, Option<i64>),
    Delete(i64),
    Truncate,
}

pub(super) fn wish() -> impl Strategy<Value = Wish> {
    let key = || 0i64..6;
    let value = || prop::option::of(0i64..100);
    prop_oneof![
        3 => (key(), 0i64..100, 0i64..100).prop_map(|(k, a, b)| Wish::Insert(k, a, b)),
        5 => (key(), prop::option::weighted(0.4, key()), value(), value())
            .prop_map(|(k, to, a, b)| Wish::Update(k, to, a, b)),
        2 => key().prop_map(Wish::Delete),
        1 => Just(Wish::Truncate),
    ]
}

fn schema(identity: RowIdentity) -> Arc<TableSchema> {
    let column = |name: &str| Column {
        name: name.into(),
        logical: LogicalType::Int64,
        source_type: "bigint".into(),
        nullable: true,
    };
    let columns = ["id", "a", "b"].map(column).to_vec();
    Arc::new(TableSchema { table: TableName::new("public", "t"), columns, identity })
}

/// Writes the wishes that are possible into blocks, as a log would, and returns the final table.
pub(super) struct Log {
    pub(super) builder: ChangeBlockBuilder,
    pub(super) transaction: Arc<Transaction>,
    pub(super) order: u64,
    pub(super) full: bool,
}

impl Log {
    pub(super) fn new(identity: RowIdentity) -> Self {
        let full = identity == RowIdentity::WholeRow;
        let transaction = Transaction {
            position: Position::new(&[1], "1"),
            proof: String::new(),
            committed_at: chrono::DateTime::UNIX_EPOCH,
            found: None,
        };
        Self {
            builder: ChangeBlockBuilder::new(schema(identity)),
            transaction: transaction.into(),
            order: 0,
            full,
        }
    }

    pub(super) fn push(
        &mut self,
        kind: ChangeKind,
        new: Option<[Option<i64>; 3]>,
        old: Option<[Option<i64>; 3]>,
    ) {
        let unchanged: Option<Unchanged> =
            new.filter(|n| n.contains(&None)).map(|n| n.map(|v| v.is_none()).into());
        for (rows, image) in [(&mut self.builder.new, new), (&mut self.builder.old, old)] {
            for (column, value) in rows.columns.iter_mut().zip(image.into_iter().flatten()) {
                assert!(column.push(value.map_or(Value::Null, Value::Int)));
            }
        }
        self.order += 1;
        let images = Images { new: new.is_some(), old: old.map(|_| self.full), unchanged };
        self.builder.push(kind, self.order, &self.transaction, images, 1);
    }

    /// The old image as the log would carry it.
    fn old(&self, row: Row) -> [Option<i64>; 3] {
        if self.full { row.map(Some) } else { [Some(row[0]), None, None] }
    }
}

use crate::change::kind::Unchanged;

pub(super) fn play(wishes: &[Wish], table: &mut Table, log: &mut Log) {
    for wish in wishes {
        match *wish {
            Wish::Insert(k, a, b) if !table.contains_key(&k) => {
                table.insert(k, [k, a, b]);
                log.push(ChangeKind::Insert, Some([Some(k), Some(a), Some(b)]), None);
            }
            Wish::Update(k, to, a, b) if table.contains_key(&k) => {
                let to = to.unwrap_or(k);
                if to != k && table.contains_key(&to) {
                    continue;
                }
                let before = table.remove(&k).unwrap();
                table.insert(to, [to, a.unwrap_or(before[1]), b.unwrap_or(before[2])]);
                let old = (to != k || log.full).then(|| log.old(before));
                log.push(ChangeKind::Update, Some([Some(to), a, b]), old);
            }
            Wish::Delete(k) => {
                if let Some(before) = table.remove(&k) {
                    log.push(ChangeKind::Delete, None, Some(log.old(before)));
                }
            }
            Wish::Truncate => {
                table.clear();
                log.push(ChangeKind::Truncate, None, None);
            }
            _ => {}
        }
    }
}

pub(super) fn int(value: Value<'_>) -> i64 {
    match value {
        Value::Int(i) => i,
        other => panic!("{other:?}"),
    }
}

/// Carries out a write set as a plain target would.
fn carry_out(set: &WriteSet, blocks: &[&ChangeBlock], table: &mut Table) {
    let at = |cells: &Cells, column: usize| cells.at(column).map(|image| int(image.value(blocks, column)));
    let borrowed: BTreeMap<usize, Row> =
        set.borrowed().map(|(row, key)| (row, table[&at(key, 0).unwrap()])).collect();
    for step in set.steps() {
        match step {
            Write::Empty => table.clear(),
            Write::Remove(gone) => gone.iter().for_each(|g| {
                table.remove(&at(&g.key, 0).unwrap());
            }),
            Write::Put(rows) => rows.into_iter().for_each(|row| {
                let cells = &set.rows[row].cells;
                let key = at(cells, 0).unwrap();
                let is_new = set.rows[row].must_be_new;
                assert!(!(is_new && table.contains_key(&key)), "must be new, but {key} is there");
                let cell = |c: usize| at(cells, c).unwrap_or_else(|| borrowed[&row][c]);
                table.insert(key, [key, cell(1), cell(2)]);
            }),
            Write::Patch(rows) => rows.into_iter().for_each(|row| {
                let cells = &set.rows[row].cells;
                let there = table.get_mut(&at(cells, 0).unwrap()).expect("a row to build on");
                (1..3).for_each(|c| there[c] = at(cells, c).unwrap_or(there[c]));
            }),
            other => panic!("{other:?} in a table of current rows with a key"),
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, cases: 2000, ..ProptestConfig::default() })]

    #[test]
    fn reduced_and_applied_equals_applied_one_by_one(
        before in prop::collection::btree_map(0i64..6, (0i64..100, 0i64..100), 0..6),
        wishes in prop::collection::vec(wish(), 0..24),
    ) {
        let before: Table = before.into_iter().map(|(k, (a, b))| (k, [k, a, b])).collect();
        let (mut expected, mut log) = (before.clone(), Log::new(RowIdentity::Key(vec![0])));
        play(&wishes, &mut expected, &mut log);
        let block = log.builder.finish().unwrap();
        let reduced = reduce(&[&block]).unwrap();
        let mut table = before;
        carry_out(&reduced, &[&block], &mut table);
        prop_assert_eq!(table, expected);
        let counters = reduced.counters;
        prop_assert_eq!(counters.read.total(), block.len() as u64);
        prop_assert_eq!(counters.read.total(), counters.merged + counters.reduced);
    }

    #[test]
    fn rows_without_a_key_end_as_the_same_multiset(
        before in prop::collection::btree_map(0i64..6, (0i64..2, 0i64..2), 0..6),
        wishes in prop::collection::vec(wish(), 0..24),
    ) {
        let before: Table = before.into_iter().map(|(k, (a, b))| (k, [k, a, b])).collect();
        let (mut expected, mut log) = (before.clone(), Log::new(RowIdentity::WholeRow));
        play(&wishes, &mut expected, &mut log);
        let block = log.builder.finish().unwrap();
        let reduced = reduce(&[&block]).unwrap();
        let row = |cells: &Cells| [0, 1, 2].map(|c| int(cells.at(c).unwrap().value(&[&block], c)));
        let mut rows: Vec<Row> = before.into_values().collect();
        for step in reduced.steps() {
            match step {
                Write::Empty => rows.clear(),
                Write::RemoveEqual(gone) => gone.iter().for_each(|g| {
                    let at = rows.iter().position(|r| *r == row(&g.key));
                    rows.swap_remove(at.expect("a deleted row was there"));
                }),
                Write::Append(new) => rows.extend(new.iter().map(|at| row(&reduced.rows[*at].cells))),
                other => panic!("{other:?} in a table without a key"),
            }
        }
        rows.sort_unstable();
        prop_assert_eq!(rows, expected.into_values().collect::<Vec<_>>());
    }
}

#[test]
fn a_second_row_with_a_declared_key_is_refused() {
    let mut log = Log::new(RowIdentity::DeclaredKey(vec![0]));
    for _ in 0..2 {
        log.push(ChangeKind::Insert, Some([Some(1), Some(2), Some(3)]), None);
    }
    let block = log.builder.finish().unwrap();
    assert!(matches!(reduce(&[&block]), Err(ReduceError::DuplicateKey { .. })));
}

#[test]
fn a_large_key_column_that_the_new_row_lacks_is_taken_from_the_old_one() {
    let mut log = Log::new(RowIdentity::Key(vec![0, 1]));
    log.push(ChangeKind::Update, Some([Some(9), None, Some(3)]), Some([Some(1), Some(2), None]));
    let block = log.builder.finish().unwrap();
    let reduced = reduce(&[&block]).unwrap();
    let row = &reduced.rows[0];
    let cell = |c| row.cells.at(c).map(|i| int(i.value(&[&block], c)));
    assert_eq!((cell(0), cell(1), cell(2)), (Some(9), Some(2), Some(3)));
    assert_eq!(reduced.gone.len(), 1);
}

/// A batch is cut where a table is altered: what stands before is written as the table was, what stands behind as it is.
#[test]
fn nothing_is_reduced_across_an_alteration() {
    use super::batch::Collected;
    use super::prepare::{Deed, prepare as prepare_all};
    use crate::drift::held::Release;
    use crate::drift::tests::alteration;
    use crate::plan::carried::CarriedTables;
    let alteration = Arc::new(alteration("1:id", "1:id 2:depth"));
    let block = |id: i64| {
        let schema = alteration.before.schema.clone();
        let mut builder = ChangeBlockBuilder::new(schema);
        assert!(builder.new.columns[0].push(Value::Int(id)));
        let images = Images { new: true, old: None, unchanged: None };
        let position = Position::new(&[1], "1");
        let committed_at = chrono::DateTime::UNIX_EPOCH;
        let transaction = Arc::new(Transaction { position, proof: String::new(), committed_at, found: None });
        builder.push(ChangeKind::Insert, 1, &transaction, images, 8);
        Collected::Rows(Box::new(builder.finish().unwrap()))
    };
    let collected = vec![block(1), block(2), Collected::Alter(alteration.clone()), block(1)];
    let mut tables: CarriedTables = [(*alteration.before).clone()].into_iter().collect();
    let deeds = prepare_all(collected, &mut tables, false).unwrap();
    let told = |deeds: Vec<Deed>| -> Vec<String> {
        let told = deeds.iter().map(|deed| match deed {
            Deed::Write(batch) => {
                format!("{} columns, {} blocks", batch[0].plan.columns.len(), batch[0].blocks.len())
            }
            Deed::Alter(alteration) => format!("{:?}, {} steps", alteration.then, alteration.steps.len()),
            other => format!("{other:?}"),
        });
        told.collect()
    };
    assert_eq!(told(deeds.clone()), ["1 columns, 2 blocks", "Merges, 1 steps", "2 columns, 1 blocks"]);
    // Of a table that is given up only what it has come to is left; with another one, all of it.
    let all = || deeds.clone().into_iter();
    let is_it = |target: &str| target == alteration.before.target;
    assert_eq!(told(all().filter_map(|deed| deed.without(is_it)).collect()), ["Rereads, 0 steps"]);
    assert_eq!(all().filter_map(|deed| deed.without(|target| !is_it(target))).count(), 3);
    let held = Deed::Keep(alteration.before.clone(), Vec::new());
    assert!(held.without(is_it).is_none());
    let released = Release { alterations: vec![alteration.clone()], decisions: vec![None] };
    let left = Deed::Release(Arc::new(released)).without(is_it);
    assert_eq!(told(left.into_iter().collect()), ["Rereads, 0 steps"]);
}

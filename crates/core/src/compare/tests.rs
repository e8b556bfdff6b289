use crate::compare::difference::{ColumnDifference, Counts, Difference, DifferenceKind, Side};
use crate::compare::hash::KeyHasher;
use crate::compare::keyed::KeyedCompare;
use crate::compare::rows::{LookedRows, Misfit};
use crate::compare::tally::Tally;
use crate::model::name::TableName;
use crate::model::schema::{Column, RowIdentity, TableSchema};
use crate::model::types::LogicalType;
use crate::value::column::{RowsBuilder, Value};
use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

type Row = (i64, Option<String>);

fn schema(identity: RowIdentity) -> Arc<TableSchema> {
    let column =
        |name: &str, logical| Column { name: name.into(), logical, source_type: "x".into(), nullable: true };
    let columns = vec![column("id", LogicalType::Int64), column("note", LogicalType::Text)];
    Arc::new(TableSchema { table: TableName::new("main", "berths"), columns, identity })
}

fn looked(rows: &[Row]) -> LookedRows {
    let mut builder = RowsBuilder::new(schema(RowIdentity::WholeRow));
    for (id, note) in rows {
        assert!(builder.columns[0].push(Value::Int(*id)));
        assert!(builder.columns[1].push(note.as_deref().map_or(Value::Null, Value::Text)));
        builder.end_row(1);
    }
    LookedRows::fitting(builder.finish().unwrap())
}

fn key_hash(id: i64) -> u128 {
    let schema = schema(RowIdentity::Key(vec![0]));
    KeyHasher::new(&schema.columns, &[0]).hash(|_| Value::Int(id))
}

fn compare(
    source: &[Row],
    target: &[Row],
    in_flight: &BTreeSet<i64>,
    chunk: usize,
) -> (Counts, Vec<Difference>) {
    let schema = schema(RowIdentity::Key(vec![0]));
    let mut compare = KeyedCompare::new(&schema.columns, &[0], 3);
    let hashes: BTreeSet<u128> = in_flight.iter().map(|id| key_hash(*id)).collect();
    let mut chunks = [source.chunks(chunk), target.chunks(chunk)];
    while let Some(side) = compare.wants() {
        match chunks[if side == Side::Source { 0 } else { 1 }].next() {
            Some(rows) => compare.push(side, looked(rows)).unwrap(),
            None => compare.end(side),
        }
        compare.walk(&|hash| hashes.contains(&hash));
    }
    (compare.counts, compare.differences)
}

fn row(id: i64, note: &str) -> Row {
    (id, Some(note.into()))
}

#[test]
fn missing_extra_and_different_rows_are_found_with_their_columns() {
    let source = [row(1, "a"), row(2, "b"), row(4, "d")];
    let target = [row(1, "a"), row(2, "x"), row(3, "c")];
    let (counts, differences) = compare(&source, &target, &BTreeSet::new(), 2);
    assert_eq!((counts.missing, counts.extra, counts.different), (1, 1, 1));
    assert_eq!((counts.source_rows, counts.target_rows), (3, 3));
    let column =
        ColumnDifference { column: "note".into(), source: Some("b".into()), target: Some("x".into()) };
    assert_eq!(differences[0].columns, [column]);
    assert_eq!(differences[1].key, [("id".to_string(), Some("3".to_string()))]);
}

#[test]
fn a_value_that_fits_no_type_differs_and_a_key_that_fits_none_is_extra() {
    let schema = schema(RowIdentity::Key(vec![0]));
    let mut compare = KeyedCompare::new(&schema.columns, &[0], 3);
    let mut target = looked(&[row(1, "a"), (0, None)]);
    target.misfits.push(Misfit { row: 0, column: 1, shown: "integer 7".into() });
    target.misfits.push(Misfit { row: 1, column: 0, shown: "text \"x\"".into() });
    compare.push(Side::Source, looked(&[row(1, "a")])).unwrap();
    compare.push(Side::Target, target).unwrap();
    compare.end(Side::Source);
    compare.end(Side::Target);
    compare.walk(&|_| false);
    assert_eq!((compare.counts.different, compare.counts.extra), (1, 1));
}

#[test]
fn rows_out_of_order_are_refused() {
    let schema = schema(RowIdentity::Key(vec![0]));
    let mut compare = KeyedCompare::new(&schema.columns, &[0], 3);
    compare.push(Side::Source, looked(&[row(5, "a")])).unwrap();
    assert!(compare.push(Side::Source, looked(&[row(4, "a")])).is_err());
}

fn tally(source: &[Row], target: &[Row], shares: u64) -> (u64, u64) {
    let schema = schema(RowIdentity::WholeRow);
    (0..shares)
        .map(|share| {
            let mut tally = Tally::new(&schema.columns, &[0, 1], share, shares);
            tally.add(Side::Source, &looked(source));
            tally.add(Side::Target, &looked(target));
            tally.found()
        })
        .fold((0, 0), |a, b| (a.0 + b.0, a.1 + b.1))
}

#[test]
fn rows_without_a_key_are_shown_with_how_many_are_too_few() {
    let schema = schema(RowIdentity::WholeRow);
    let mut tally = Tally::new(&schema.columns, &[0, 1], 0, 1);
    let source = looked(&[row(1, "a"), row(1, "a"), row(2, "b")]);
    tally.add(Side::Source, &source);
    tally.add(Side::Target, &looked(&[row(2, "b")]));
    let mut shown = Vec::new();
    tally.show(Side::Source, &source, 5, &mut shown);
    assert_eq!(shown.iter().map(|d| (d.kind, d.rows)).collect::<Vec<_>>(), [(DifferenceKind::Missing, 2)]);
}

fn rows() -> impl Strategy<Value = BTreeMap<i64, Option<String>>> {
    proptest::collection::btree_map(0i64..20, proptest::option::of("[ab]{0,1}"), 0..15)
}

proptest! {
    /// The walk finds what looking up every row one by one finds, however the rows are cut into chunks.
    #[test]
    fn the_walk_equals_looking_up_every_row(source in rows(), target in rows(), flying in proptest::collection::btree_set(0i64..20, 0..4), chunk in 1usize..6) {
        let list = |map: &BTreeMap<i64, Option<String>>| map.iter().map(|(k, v)| (*k, v.clone())).collect::<Vec<_>>();
        let (counts, _) = compare(&list(&source), &list(&target), &flying, chunk);
        let mut expected = Counts { source_rows: source.len() as u64, target_rows: target.len() as u64, ..Counts::default() };
        for id in source.keys().chain(target.keys()).collect::<BTreeSet<_>>() {
            let (a, b) = (source.get(id), target.get(id));
            match (a, b) {
                (a, b) if a == b => {}
                _ if flying.contains(id) => expected.in_flight += 1,
                (Some(_), None) => expected.missing += 1,
                (None, Some(_)) => expected.extra += 1,
                _ => expected.different += 1,
            }
        }
        prop_assert_eq!(counts, expected);
    }

    #[test]
    fn a_tally_in_shares_equals_multiset_difference(source in proptest::collection::vec((0i64..4, proptest::option::of("[ab]")), 0..12), target in proptest::collection::vec((0i64..4, proptest::option::of("[ab]")), 0..12), shares in 1u64..4) {
        let mut counts: BTreeMap<&Row, i64> = BTreeMap::new();
        source.iter().for_each(|r| *counts.entry(r).or_default() += 1);
        target.iter().for_each(|r| *counts.entry(r).or_default() -= 1);
        let sum = |sign: i64| counts.values().map(|n| (n * sign).max(0) as u64).sum::<u64>();
        prop_assert_eq!(tally(&source, &target, shares), (sum(1), sum(-1)));
    }
}

//! What the meter measures, with times handed in.

use super::lag::ClockSkew;
use super::meter::{Fate, Meter};
use crate::change::block::ChangeBlock;
use crate::change::builder::{ChangeBlockBuilder, Images};
use crate::change::counters::Operations;
use crate::change::kind::{ChangeKind, Transaction};
use crate::change::segment::Segment;
use crate::model::name::TableName;
use crate::model::position::Position;
use crate::model::schema::{Column, RowIdentity, TableSchema};
use crate::model::types::LogicalType;
use crate::value::column::Value;
use chrono::{DateTime, TimeDelta, Utc};
use proptest::prelude::*;
use rstest::rstest;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

fn at(ms: i64) -> DateTime<Utc> {
    DateTime::from_timestamp_millis(1_800_000_000_000 + ms).unwrap()
}

fn ms(duration: Option<Duration>) -> Option<u64> {
    duration.map(|d| d.as_millis() as u64)
}

fn schema(table: &str) -> Arc<TableSchema> {
    let (source_type, nullable) = (String::new(), false);
    let id = Column { name: "id".into(), logical: LogicalType::Int64, source_type, nullable };
    let table = TableName::new("public", table);
    Arc::new(TableSchema { table, columns: vec![id], identity: RowIdentity::Key(vec![0]) })
}

fn transaction(number: u64, committed_ms: i64, proof: &str) -> Arc<Transaction> {
    let position = Position::new(&[number], number.to_string());
    Arc::new(Transaction { position, proof: proof.into(), committed_at: at(committed_ms), found: None })
}

/// Inserts into a table by a transaction that was committed at a time, by the source's clock.
fn block(table: &str, number: u64, committed_ms: i64, changes: u64, proof: &str) -> ChangeBlock {
    let transaction = transaction(number, committed_ms, proof);
    let mut builder = ChangeBlockBuilder::new(schema(table));
    for order in 0..changes {
        assert!(builder.new.columns[0].push(Value::Int(order as i64)));
        builder.push(ChangeKind::Insert, order, &transaction, Images { new: true, ..Images::default() }, 100);
    }
    builder.finish().unwrap()
}

fn segment(blocks: Vec<ChangeBlock>, read_ms: i64) -> Segment {
    Segment { blocks, read_at: Some(at(read_ms)), ..Segment::default() }
}

fn merged(_: &TableName) -> Fate {
    Fate::Merged
}

fn applied(meter: &mut Meter, now_ms: i64) {
    meter.applied(at(now_ms), Duration::ZERO, std::iter::empty());
}

#[test]
fn each_step_of_each_transaction_is_told_apart() {
    let mut meter = Meter::new(at(0));
    meter.skewed(ClockSkew { source_ahead_us: 600_000_000 });
    let of_both = vec![
        block("berths", 1, 600_000, 2, "1"),
        block("vessels", 1, 600_000, 1, "1"),
        block("berths", 2, 600_040, 1, "2"),
    ];
    meter.read(&segment(of_both, 50), at(55), merged);
    meter.taken(at(150));
    let counted = [(TableName::new("public", "berths"), Operations { inserts: 3, ..Operations::default() })];
    meter.applied(at(450), Duration::from_millis(300), counted.iter().map(|(table, of)| (table, *of)));
    let sample = meter.sample(at(1000));
    let slow: Vec<_> = sample
        .slowest
        .iter()
        .map(|t| (t.position.as_str(), t.changes, t.capture_us, t.queue_us, t.apply_us))
        .collect();
    assert_eq!(slow, [("1", 3, 50_000, 100_000, 300_000), ("2", 1, 10_000, 100_000, 300_000)]);
    let tables: Vec<&str> = sample.slowest[0].tables.iter().map(|(table, _)| table.as_str()).collect();
    assert_eq!(tables, ["public.berths", "public.vessels"]);
    assert_eq!((sample.transactions, sample.operations.inserts, sample.bytes), (2, 3, 400));
    assert_eq!(meter.recent().map(|t| t.position.as_str()).collect::<Vec<_>>(), ["2", "1"]);
    assert_eq!(ms(meter.lag(at(1000))), Some(960), "complete up to the last commit");
    let tables = meter.sample_tables();
    assert_eq!(tables.iter().map(|t| t.lag.count()).collect::<Vec<_>>(), [2, 1]);
}

/// An hour of a source of which nothing comes, but that nothing was missing, every second.
#[test]
fn an_idle_source_has_no_lag_and_a_silent_one_does() {
    let mut meter = Meter::new(at(0));
    for second in 0..3600 {
        let seen = Segment::nothing_missing_at(at(second * 1000));
        meter.read(&seen, at(second * 1000 + 30), merged);
        let lag = ms(meter.lag(at(second * 1000 + 999))).unwrap();
        assert!(lag < 2000, "{lag} ms behind at second {second}");
        assert!(ms(meter.sample(at(second * 1000 + 999)).behind).unwrap() < 2000);
    }
    assert_eq!(ms(meter.lag(at(4_200_000))), Some(601_000), "nothing was said for ten minutes");
    assert_eq!(ms(meter.sample(at(4_200_000)).behind), Some(601_000));
}

#[test]
fn what_the_source_says_counts_once_all_before_it_is_applied() {
    let mut meter = Meter::new(at(0));
    meter.read(&segment(vec![block("berths", 1, 0, 1, "1")], 10), at(10), merged);
    meter.read(&Segment::nothing_missing_at(at(1000)), at(1010), merged);
    assert_eq!(meter.complete_until(), None, "the first is still on its way");
    meter.taken(at(1100));
    meter.read(&Segment::nothing_missing_at(at(2000)), at(2010), merged);
    assert_eq!(meter.complete_until(), None, "the target is at it");
    applied(&mut meter, 5000);
    assert_eq!(meter.complete_until(), Some(at(2000)));
    assert_eq!(ms(meter.lag(at(6000))), Some(4000));
}

/// Our clock is set back by an hour, and then the source falls silent.
#[test]
fn a_clock_that_is_set_back_hides_nothing() {
    let mut meter = Meter::new(at(0));
    meter.read(&Segment::nothing_missing_at(at(10_000)), at(10_010), merged);
    let back = -3_600_000;
    assert_eq!(ms(meter.sample(at(back + 11_000)).behind), Some(0));
    assert_eq!(ms(meter.lag(at(back + 71_000))), Some(60_000));
    meter.read(&Segment::nothing_missing_at(at(back + 80_000)), at(back + 80_010), merged);
    assert_eq!(ms(meter.lag(at(back + 81_000))), Some(1000));
}

#[test]
fn what_is_on_its_way_when_the_stream_breaks_is_read_again() {
    let mut meter = Meter::new(at(0));
    let first = || segment(vec![block("berths", 1, 0, 1, "1")], 10);
    meter.read(&first(), at(10), merged);
    meter.taken(at(20));
    meter.begins(Some(at(-5000)));
    assert_eq!(ms(meter.lag(at(0))), Some(5000));
    meter.read(&first(), at(30), merged);
    meter.taken(at(40));
    applied(&mut meter, 50);
    assert_eq!(meter.sample(at(60)).transactions, 1);
}

/// The time of a change that a trigger caught is that of its statement; its transaction was open for half a minute.
#[rstest]
#[case::bounded(Some(29_990), 30)]
#[case::unbounded(None, 30_020)]
fn a_transaction_that_was_open_for_long_has_no_lag_of_that(
    #[case] unseen_ms: Option<i64>,
    #[case] lag_ms: u64,
) {
    let mut meter = Meter::new(at(0));
    let looked =
        Segment { unseen_at: unseen_ms.map(at), ..segment(vec![block("berths", 1, 0, 1, "")], 30_010) };
    meter.read(&looked, at(30_010), merged);
    meter.taken(at(30_010));
    let lag = meter.applied(at(30_020), Duration::ZERO, std::iter::empty());
    assert_eq!(ms(lag), Some(lag_ms));
    assert_eq!(meter.recent().map(|t| t.lag_us() / 1000).collect::<Vec<_>>(), [lag_ms]);
}

/// Where a source cannot tell transactions apart, all that comes together is one, over any number of parts.
#[test]
fn changes_without_a_transaction_of_their_own_count_as_one_by_stretch() {
    let mut meter = Meter::new(at(0));
    for stretch in 0..2 {
        let part = segment(
            vec![block("berths", 10 * stretch, 0, 2, ""), block("vessels", 10 * stretch + 1, 5, 1, "")],
            10,
        );
        meter.read(&Segment { in_transaction: true, ..part.clone() }, at(10), merged);
        meter.read(&part, at(11), merged);
    }
    meter.taken(at(20));
    applied(&mut meter, 30);
    assert_eq!(meter.recent().map(|t| t.changes).collect::<Vec<_>>(), [6, 6]);
}

#[test]
fn standing_still_for_want_of_room_is_queueing() {
    let mut meter = Meter::new(at(0));
    let stalled = Some((at(100), at(900)));
    meter.read(&Segment { stalled, ..segment(vec![block("berths", 1, 90, 1, "1")], 100) }, at(900), merged);
    meter.read(&segment(vec![block("berths", 2, 300, 1, "2")], 910), at(910), merged);
    meter.taken(at(1000));
    applied(&mut meter, 1000);
    let steps: Vec<_> = meter.recent().map(|t| (t.capture_us / 1000, t.queue_us / 1000)).collect();
    assert_eq!(steps, [(10, 690), (10, 900)]);
}

#[test]
fn kept_changes_are_no_lag_of_the_others_until_there_are_no_others() {
    let mut meter = Meter::new(at(0));
    let berths = TableName::new("public", "berths");
    let fate = |table: &TableName| if *table == berths { Fate::Kept } else { Fate::Merged };
    let both = vec![block("berths", 1, 0, 1, "1"), block("vessels", 1, 0, 1, "1")];
    meter.read(&Segment { seen_at: Some(at(5)), ..segment(both, 10) }, at(10), fate);
    meter.taken(at(10));
    applied(&mut meter, 20);
    meter.read(&Segment::nothing_missing_at(at(60_000)), at(60_000), fate);
    assert_eq!(meter.recent().map(|t| t.changes).collect::<Vec<_>>(), [1]);
    assert_eq!(ms(meter.lag(at(60_000))), Some(0));
    assert_eq!(meter.held().collect::<Vec<_>>(), [("public.berths", at(0))]);
    meter.merges_any(false);
    assert_eq!(ms(meter.lag(at(60_000))), Some(60_000), "nothing is merged any more");
    meter.only_holds(at(70_000), |_| false);
    meter.merges_any(true);
    assert_eq!(ms(meter.lag(at(60_000))), Some(0));
    let kept = meter.sample_tables().into_iter().find(|t| t.table == "public.berths").unwrap();
    assert!(kept.lag.longest().unwrap().as_secs() >= 69, "its changes took that long");
}

#[test]
fn a_day_of_transactions_holds_no_more_than_the_last_and_the_slowest() {
    let mut meter = Meter::new(at(0));
    for number in 0..2000 {
        let now = number as i64 * 100;
        meter.read(
            &segment(vec![block("berths", number, now, 1, &number.to_string())], now),
            at(now),
            merged,
        );
        meter.taken(at(now));
        applied(&mut meter, now + 1 + number as i64 % 7);
    }
    assert_eq!(meter.recent().count(), 50);
    let sample = meter.sample(at(0) + TimeDelta::days(1));
    assert_eq!((sample.transactions, sample.slowest.len()), (2000, 3));
    assert_eq!(meter.on_the_way(), (0, 0));
}

proptest! {
    /// However the transactions of tables stand in blocks, in parts or all at once, each counts once, for itself and for each of its
    /// tables.
    #[test]
    fn transactions_are_told_apart_however_they_stand_in_blocks(
        blocks in prop::collection::vec((0..3_usize, prop::collection::vec((0..12_u64, 1..4_u64), 1..6), any::<bool>()), 1..20)
    ) {
        let names = ["berths", "stays", "vessels"];
        let mut meter = Meter::new(at(0));
        let mut expected: BTreeMap<u64, BTreeMap<String, u64>> = BTreeMap::new();
        let shared: Vec<_> = (0..12).map(|number| transaction(number, 1000 - 10 * number as i64, &number.to_string())).collect();
        for (table, changes, is_shared) in blocks {
            let mut builder = ChangeBlockBuilder::new(schema(names[table]));
            for (order, (number, count)) in changes.into_iter().enumerate() {
                // The same one may be told of by another object.
                let own = Arc::new((*shared[number as usize]).clone());
                let of = if is_shared { &shared[number as usize] } else { &own };
                for _ in 0..count {
                    assert!(builder.new.columns[0].push(Value::Int(1)));
                    builder.push(ChangeKind::Insert, order as u64, of, Images { new: true, ..Images::default() }, 1);
                }
                *expected.entry(number).or_default().entry(format!("public.{}", names[table])).or_default() += count;
            }
            meter.read(&segment(vec![builder.finish().unwrap()], 2000), at(2000), merged);
        }
        meter.taken(at(3000));
        applied(&mut meter, 4000);
        let sample = meter.sample(at(5000));
        prop_assert_eq!(sample.transactions, expected.len() as u64);
        for lag in [&sample.lags.whole, &sample.lags.queue, &sample.lags.apply] {
            prop_assert_eq!(lag.count(), expected.len() as u64);
        }
        prop_assert_eq!(ms(sample.lags.apply.longest()).unwrap() / 10, 100);
        let found: BTreeMap<u64, BTreeMap<String, u64>> =
            meter.recent().map(|t| (t.position.parse().unwrap(), t.tables.iter().cloned().collect())).collect();
        prop_assert_eq!(&found, &expected);
        let slowest: Vec<u64> = sample.slowest.iter().map(|t| t.position.parse().unwrap()).collect();
        // The later their number, the earlier they were committed.
        let last: Vec<u64> = expected.keys().rev().take(3).copied().collect();
        prop_assert_eq!(slowest, last);
        for table in meter.sample_tables() {
            let of = expected.values().filter(|tables| tables.contains_key(&table.table)).count();
            prop_assert_eq!(table.lag.count(), of as u64);
        }
    }
}

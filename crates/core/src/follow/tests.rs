//! The step function against a made-up world: a log, a queue, a target that takes its time, and a clock of our own.

use super::machine::{End, Follow, FollowError, Looked, Next, Piece, PieceEnd, Settings};
use crate::apply::batch::Limits;
use crate::apply::prepare::{Deed, TableBatch};
use crate::change::block::ChangeBlock;
use crate::change::builder::{ChangeBlockBuilder, Images};
use crate::change::kind::{ChangeKind, Transaction};
use crate::change::place::Place;
use crate::change::segment::Segment;
use crate::change::structure::SchemaChange;
use crate::mapping::outputs::Mapping;
use crate::model::kept_as::KeptAs;
use crate::model::name::TableName;
use crate::model::position::Position;
use crate::model::schema::{Column, RowIdentity, TableSchema};
use crate::model::types::LogicalType;
use crate::plan::carried::CarriedTables;
use crate::plan::table::TablePlan;
use crate::value::column::Value;
use crate::value::moment::Moment;
use chrono::DateTime;
use proptest::prelude::*;
use std::collections::VecDeque;
use std::sync::Arc;
use std::time::{Duration, Instant};

type Machine = Follow<&'static str>;

fn plan(name: &str) -> TablePlan {
    let column = Column {
        name: "id".into(),
        logical: LogicalType::Int64,
        source_type: String::new(),
        nullable: false,
    };
    let identity = RowIdentity::Key(vec![0]);
    let table = TableName::new("public", name);
    let schema = Arc::new(TableSchema { table, columns: vec![column], identity });
    TablePlan {
        mapped: schema.clone(),
        mapping: Mapping::plain(1),
        schema,
        source_id: 1,
        target: name.into(),
        gathered: None,
        columns: Vec::new(),
        left_out: Vec::new(),
        existing_rows: None,
        ddl: None,
        on_reject: Default::default(),
        mismatch: Default::default(),
        comment: None,
        kept_as: KeptAs::default(),
        also: Vec::new(),
        beside: None,
        fingerprint: String::new(),
        structure: None,
        each_change: false,
    }
}

fn position(at: u64) -> Position {
    Position::new(&[at], at.to_string())
}

/// Changes with these numbers, of the transaction that ends at `at`: even ones of one table, odd ones of another.
fn blocks(at: u64, orders: impl Iterator<Item = u64>) -> Vec<ChangeBlock> {
    let transaction = Arc::new(Transaction {
        position: position(at),
        proof: String::new(),
        committed_at: DateTime::UNIX_EPOCH,
        found: None,
    });
    let mut builders = ["berths", "vessels"].map(|name| ChangeBlockBuilder::new(plan(name).schema));
    for order in orders {
        let builder = &mut builders[(order % 2) as usize];
        assert!(builder.new.columns[0].push(Value::Int(order as i64)));
        builder.push(ChangeKind::Insert, order, &transaction, Images { new: true, ..Images::default() }, 100);
    }
    builders.into_iter().filter(|b| !b.is_empty()).map(|b| b.finish().unwrap()).collect()
}

fn settings(rows: usize) -> Settings {
    Settings {
        limits: Limits { rows, bytes: usize::MAX, age: Duration::from_secs(1) },
        tables: CarriedTables::from_iter([plan("berths"), plan("vessels")]),
        at: Some(position(0)),
        done: None,
        sequence: 0,
        valid_from: Moment::default(),
        settled: None,
        until: None,
    }
}

/// A transaction that ends at `at`, in segments of so many changes.
fn transaction(at: u64, first: u64, count: u64, per_segment: u64) -> Vec<Segment> {
    let mut segments: Vec<Segment> = (first..first + count)
        .step_by(per_segment as usize)
        .map(|from| Segment {
            blocks: blocks(at, from..(from + per_segment).min(first + count)),
            in_transaction: true,
            ..Segment::default()
        })
        .collect();
    let end = Transaction {
        position: position(at),
        proof: String::new(),
        committed_at: DateTime::UNIX_EPOCH,
        found: None,
    };
    let last = segments.last_mut().unwrap();
    (last.in_transaction, last.commits, last.last_commit) = (false, 1, Some(Arc::new(end)));
    segments
}

/// What a target was handed.
#[derive(Debug, Default)]
struct Applied {
    /// Numbers of changes with the sequence of their transactions, in order, behind each piece sorted over both tables.
    changes: Vec<(u64, u64)>,
    /// Where batches ended, with the number of changes until there, and whether rows were replaced.
    ends: Vec<(u64, usize, bool)>,
    /// From when on what the last one wrote is valid.
    valid_from: Moment,
}

impl Applied {
    fn take(&mut self, piece: &Piece) {
        let mut own: Vec<(u64, u64)> = Vec::new();
        let written = piece.deeds.iter().flat_map(|deed| match deed {
            Deed::Write(batch) => batch.iter().collect(),
            Deed::Alter(_) | Deed::Keep(..) | Deed::Release(_) | Deed::Clear(_) => Vec::new(),
        });
        for block in written.flat_map(|of: &TableBatch| &of.blocks) {
            own.extend(block.changes().enumerate().map(|(i, c)| (c.order, block.place(i).sequence)));
        }
        own.sort_unstable();
        self.changes.extend(own);
        match &piece.end {
            PieceEnd::Open => {}
            PieceEnd::Batch(ended) => {
                assert!(ended.place.sequence >= self.changes.last().map_or(0, |c| c.1));
                let at = ended.end.transaction.position.first();
                self.ends.push((at, self.changes.len(), ended.replaces));
                self.comes_to(ended.place, ended.replaces);
            }
            PieceEnd::Replacing(place) => {
                self.comes_to(*place, true);
                let at = self.ends.last().map_or(0, |e| e.0);
                self.ends.push((at, self.changes.len(), true));
            }
        }
    }
}

impl Applied {
    /// Rows that are put in place have a moment of their own: what was valid before is history by then.
    fn comes_to(&mut self, place: Place, replaces: bool) {
        assert!(place.valid_from >= self.valid_from);
        assert!(!replaces || place.valid_from > self.valid_from, "{place:?}");
        self.valid_from = place.valid_from;
    }
}

/// Drives a machine over a log, with a target that is done whenever `slow` says so, until it ends. Now and then someone
/// asks for a table to be read again; its rows are there once all is fed that was there then.
fn drive(
    machine: &mut Machine,
    mut log: VecDeque<Segment>,
    mut slow: impl Iterator<Item = bool>,
) -> Result<(Applied, End<&'static str>), FollowError> {
    let (mut applied, mut at_target, mut now) = (Applied::default(), None::<Piece>, Instant::now());
    let (fed, mut rereads) = (std::cell::Cell::new(0), 0);
    let mut feed = |machine: &mut Machine, now| match log.pop_front() {
        Some(segment) => {
            fed.set(segment.last_commit.as_ref().map_or(fed.get(), |t| t.position.first()));
            machine.segment(segment, now, DateTime::UNIX_EPOCH).map(|()| true)
        }
        None => Ok(false),
    };
    for _ in 0..100_000 {
        match machine.next(now)? {
            Next::Apply(piece) => {
                assert!(at_target.replace(piece).is_none(), "one piece at a time");
            }
            Next::Gather => {
                if !slow.next().unwrap_or(false) && feed(machine, now)? {
                    continue;
                }
                machine.gathered();
            }
            Next::Ask => machine.answered(slow.next().unwrap_or(false), now),
            Next::Begin => {
                assert!(at_target.is_none(), "no batch is open");
                rereads += 1;
                machine.loaded(position(fed.get()));
            }
            Next::Remove => machine.removed(),
            Next::Wait { until, reads } => {
                let fed = reads && feed(machine, now)?;
                if let Some(piece) = at_target.take_if(|_| !fed || !slow.next().unwrap_or(false)) {
                    applied.take(&piece);
                    machine.applied();
                }
                if !fed {
                    now = until.unwrap_or(now).max(now + Duration::from_millis(1));
                }
            }
            Next::End(end) => {
                assert!(at_target.is_none(), "what was handed out is applied");
                let replaced = applied.ends.iter().filter(|end| end.2).count();
                assert!(replaced == rereads || end != End::CaughtUp, "all that was asked for was read again");
                return Ok((applied, end));
            }
        }
    }
    panic!("it does not end");
}

fn with_note(mut log: Vec<Segment>) -> VecDeque<Segment> {
    log.push(Segment { notes: vec!["the end".into()], ..Segment::default() });
    log.into()
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, cases: 400, ..ProptestConfig::default() })]

    /// However the log is cut, however large batches may be, however slow the target is: everything is applied once, in
    /// its order, with the same numbers, and batches end where transactions end.
    #[test]
    fn all_is_applied_once_in_order_and_cut_between_transactions(
        transactions in prop::collection::vec((1u64..12, 1u64..5), 1..20),
        rows in 1usize..30,
        slow in prop::collection::vec(any::<bool>(), 0..100),
        settled in prop::option::of(any::<prop::sample::Index>()),
    ) {
        let (mut log, mut ends, mut next) = (Vec::new(), vec![(0, 0)], 1);
        for (at, (count, per_segment)) in (1..).zip(&transactions) {
            log.extend(transaction(at, next, *count, *per_segment));
            next += count;
            ends.push((at, next as usize - 1));
        }
        let settled = settled.map(|index| *index.get(&ends[1..]));
        let until = Some("the end".to_string());
        let wanted = Settings { until, settled: settled.map(|(at, _)| (position(at), at)), ..settings(rows) };
        let mut machine = Machine::new(wanted, Instant::now());
        let (applied, end) = drive(&mut machine, with_note(log), slow.into_iter()).unwrap();
        prop_assert_eq!(end, End::CaughtUp);
        let of = |order: u64| ends.iter().position(|(_, until)| order as usize <= *until).unwrap() as u64;
        let expected: Vec<(u64, u64)> = (1..next).map(|order| (order, of(order))).collect();
        prop_assert_eq!(&applied.changes, &expected);
        for (at, changes, _) in &applied.ends {
            prop_assert!(ends.contains(&(*at, *changes)), "{:?} is no end of {:?}", (at, changes), ends);
        }
        if let Some((at, _)) = settled {
            let first = applied.ends.iter().find(|end| end.0 > 0).unwrap();
            prop_assert_eq!(first.0, at, "the first batch ends where it was to end before");
        }
    }
}

#[test]
fn the_next_batch_is_collected_and_closed_while_one_is_applied_and_no_more_than_that() {
    let mut machine = Machine::new(settings(4), Instant::now());
    let now = Instant::now();
    let mut log: VecDeque<Segment> = (1..=9).flat_map(|at| transaction(at, at * 10, 2, 5)).collect();
    let (mut handed_out, mut fed) = (Vec::new(), 0);
    loop {
        match machine.next(now).unwrap() {
            Next::Apply(piece) => handed_out.push(piece),
            Next::Ask => machine.answered(false, now),
            Next::Wait { reads: true, .. } => {
                machine.segment(log.pop_front().unwrap(), now, DateTime::UNIX_EPOCH).unwrap();
                fed += 1;
            }
            Next::Wait { reads: false, .. } => break,
            other => panic!("{other:?}"),
        }
    }
    assert_eq!(
        (handed_out.len(), fed),
        (1, 4),
        "two transactions with the target, two ready, and no more is taken"
    );
    machine.applied();
    assert!(matches!(machine.next(now), Ok(Next::Apply(_))), "the next one was ready");
}

#[test]
fn nothing_goes_behind_a_change_of_structure_and_all_before_it_is_applied() {
    let mut machine = Machine::new(settings(100), Instant::now());
    let mut log = transaction(1, 1, 3, 2);
    let what = SchemaChange {
        table: plan("berths").table().clone(),
        order: 4,
        what: "new".into(),
        ends: false,
        step: None,
    };
    log.push(Segment { schema: vec![what.clone()], ..Segment::default() });
    log.extend(transaction(2, 5, 3, 2));
    let (applied, end) = drive(&mut machine, log.into(), std::iter::empty()).unwrap();
    assert_eq!((applied.ends, end), (vec![(1, 3, false)], End::Schema(what)));
}

#[test]
fn a_stream_that_comes_past_a_settled_end_is_an_error() {
    let wanted = Settings { settled: Some((position(1), 1)), ..settings(100) };
    let log = transaction(2, 1, 3, 3);
    let error = drive(&mut Machine::new(wanted, Instant::now()), log.into(), std::iter::empty()).unwrap_err();
    assert_eq!(error, FollowError::Missed { wanted: position(1), at: position(2) });
}

#[test]
fn numbers_go_on_behind_those_that_a_broken_off_batch_has_used() {
    // The first try had three transactions where the second one has one, as looks do that see more at once.
    let until = Some("the end".to_string());
    let wanted = Settings { settled: Some((position(3), 3)), until, ..settings(100) };
    let mut log = transaction(3, 1, 3, 3);
    log.extend(transaction(4, 4, 1, 1));
    let mut machine = Machine::new(wanted, Instant::now());
    let (applied, _) = drive(&mut machine, with_note(log), std::iter::repeat(true)).unwrap();
    assert_eq!(applied.changes, [(1, 1), (2, 1), (3, 1), (4, 4)]);
}

/// Rows that were read again take their places in the first batch that ends where their marks are complete, or later;
/// on a quiet source in one of their own.
#[rstest::rstest]
#[case::in_a_batch(2, true, (3, 2, true))]
#[case::on_a_quiet_source(1, false, (1, 1, true))]
fn rows_that_were_read_again_come_at_their_marks(
    #[case] complete_at: u64,
    #[case] goes_on: bool,
    #[case] expected: (u64, usize, bool),
) {
    let now = Instant::now();
    let mut machine = Machine::new(settings(100), now);
    let mut applied = Applied::default();
    assert!(matches!(machine.next(now), Ok(Next::Ask)));
    machine.answered(true, now);
    assert!(matches!(machine.next(now), Ok(Next::Begin)));
    let until_quiet = |machine: &mut Machine, applied: &mut Applied, now: Instant| {
        loop {
            match machine.next(now).unwrap() {
                Next::Apply(piece) => {
                    applied.take(&piece);
                    machine.applied();
                }
                Next::Gather => machine.gathered(),
                Next::Ask => machine.answered(false, now),
                Next::Wait { .. } => return,
                other => panic!("{other:?}"),
            }
        }
    };
    machine.segment(transaction(1, 1, 1, 1).remove(0), now, DateTime::UNIX_EPOCH).unwrap();
    until_quiet(&mut machine, &mut applied, now + Duration::from_secs(2));
    assert_eq!(applied.ends, [(1, 1, false)], "not before they are loaded");
    machine.loaded(position(complete_at));
    if goes_on {
        machine.segment(transaction(3, 2, 1, 1).remove(0), now, DateTime::UNIX_EPOCH).unwrap();
    }
    until_quiet(&mut machine, &mut applied, now + Duration::from_secs(4));
    assert_eq!(applied.ends, [(1, 1, false), expected]);
    assert!(
        matches!(machine.next(now + Duration::from_secs(9)), Ok(Next::Ask)),
        "others may be asked for again"
    );
}

#[test]
fn what_a_look_found_takes_effect_where_the_look_was_and_at_once_if_all_was_applied() {
    let now = Instant::now();
    let look = |at| Looked { head: position(at), found: Some("altered"), held_back: None };
    let mut idle = Machine::new(settings(100), now);
    assert!(matches!(idle.next(now), Ok(Next::Ask)));
    idle.answered(false, now);
    assert_eq!(idle.looked(look(7)), None, "nothing to wait for");
    assert!(matches!(idle.next(now), Ok(Next::End(End::Found("altered")))));

    let mut busy = Machine::new(settings(100), now);
    let mut log = transaction(7, 1, 4, 2);
    busy.segment(log.remove(0), now, DateTime::UNIX_EPOCH).unwrap();
    assert!(busy.looked(look(7)).is_some(), "something for the stream to pass");
    let (applied, end) = drive(&mut busy, log.into(), std::iter::empty()).unwrap();
    assert_eq!((applied.ends, end), (vec![(7, 4, false)], End::Found("altered")));
}

#[test]
fn a_quiet_pipeline_moves_on_where_others_fill_the_log() {
    let mut machine = Machine::new(settings(100), Instant::now());
    let look = |bytes| Looked { head: position(9), found: None, held_back: bytes };
    assert_eq!((machine.looked(look(None)), machine.looked(look(Some(1000)))), (None, None));
    assert!(machine.looked(look(Some(2 << 20))).is_some());
}

#[test]
fn who_is_asked_to_stop_applies_what_is_whole_and_takes_no_more() {
    let now = Instant::now();
    let mut machine = Machine::new(settings(100), now);
    machine.segment(transaction(1, 1, 2, 2).remove(0), now, DateTime::UNIX_EPOCH).unwrap();
    machine.stop("SIGTERM".into());
    let log: VecDeque<Segment> = transaction(2, 3, 2, 2).into();
    let (applied, end) = drive(&mut machine, log, std::iter::empty()).unwrap();
    assert_eq!((applied.ends, end), (vec![(1, 2, false)], End::Stopped("SIGTERM".into())));

    // Of a transaction that is not whole nothing stays.
    let mut machine = Machine::new(settings(1), now);
    assert!(matches!(machine.next(now), Ok(Next::Ask)));
    machine.answered(false, now);
    machine.segment(transaction(1, 1, 4, 2).remove(0), now, DateTime::UNIX_EPOCH).unwrap();
    assert!(matches!(machine.next(now), Ok(Next::Apply(Piece { end: PieceEnd::Open, .. }))));
    machine.stop("SIGTERM".into());
    assert!(matches!(machine.next(now), Ok(Next::Wait { reads: false, .. })), "the target is not broken off");
    machine.applied();
    assert!(matches!(machine.next(now), Ok(Next::End(End::Stopped(_)))));
}

#[test]
fn reading_again_that_was_given_up_is_cleared_away_between_batches() {
    let now = Instant::now();
    let mut machine = Machine::new(settings(1), now);
    assert!(matches!(machine.next(now), Ok(Next::Ask)));
    machine.answered(true, now);
    assert!(matches!(machine.next(now), Ok(Next::Begin)));
    let mut log = transaction(1, 1, 4, 2);
    machine.segment(log.remove(0), now, DateTime::UNIX_EPOCH).unwrap();
    assert!(matches!(machine.next(now), Ok(Next::Apply(_))));
    machine.gave_up();
    machine.applied();
    assert!(matches!(machine.next(now), Ok(Next::Wait { .. })), "a batch is open");
    machine.segment(log.remove(0), now, DateTime::UNIX_EPOCH).unwrap();
    assert!(matches!(machine.next(now), Ok(Next::Apply(_))));
    machine.applied();
    assert!(matches!(machine.next(now), Ok(Next::Remove)));
    machine.removed();
    assert!(matches!(machine.next(now + Duration::from_secs(1)), Ok(Next::Ask)));
}

#[test]
fn who_asks_is_heard_on_a_source_that_always_has_a_next_batch() {
    let mut now = Instant::now();
    let mut machine = Machine::new(settings(1), now);
    assert!(matches!(machine.next(now), Ok(Next::Ask)));
    machine.answered(false, now);
    let mut at = 0;
    let mut feed = |machine: &mut Machine, now| {
        at += 1;
        machine.segment(transaction(at, at, 1, 1).remove(0), now, DateTime::UNIX_EPOCH).unwrap();
    };
    feed(&mut machine, now);
    for _ in 0..10 {
        assert!(matches!(machine.next(now), Ok(Next::Apply(_))));
        assert!(matches!(machine.next(now), Ok(Next::Wait { reads: true, .. })));
        feed(&mut machine, now);
        assert!(matches!(machine.next(now), Ok(Next::Wait { reads: false, .. })), "the next one is ready");
        machine.applied();
    }
    now += Duration::from_secs(1);
    assert!(matches!(machine.next(now), Ok(Next::Ask)), "although a batch is ready");
    assert!(matches!(machine.next(now), Ok(Next::Apply(_))), "which does not wait for the answer");
    machine.answered(true, now);
    assert!(matches!(machine.next(now), Ok(Next::Wait { reads: true, .. })), "a batch is open");
    feed(&mut machine, now);
    machine.applied();
    assert!(matches!(machine.next(now), Ok(Next::Begin)), "it begins before the next one");
    assert!(matches!(machine.next(now), Ok(Next::Apply(_))), "and the others go on");
}

#[test]
fn all_has_arrived_only_when_it_is_known_that_nobody_asked() {
    let now = Instant::now();
    let until = Some("the end".to_string());
    let mut machine = Machine::new(Settings { until, ..settings(100) }, now);
    assert!(matches!(machine.next(now), Ok(Next::Ask)));
    // The end arrives while the answer is waited for.
    let mut log = with_note(transaction(1, 1, 2, 2));
    while let Some(segment) = log.pop_front() {
        machine.segment(segment, now, DateTime::UNIX_EPOCH).unwrap();
    }
    assert!(matches!(machine.next(now), Ok(Next::Gather)));
    machine.gathered();
    assert!(matches!(machine.next(now), Ok(Next::Apply(_))));
    machine.applied();
    assert!(matches!(machine.next(now), Ok(Next::Wait { .. })), "the end waits for the answer");
    machine.answered(true, now);
    assert!(matches!(machine.next(now), Ok(Next::Begin)));
    assert!(matches!(machine.next(now), Ok(Next::Wait { .. })), "and for the rows");
    machine.loaded(position(1));
    assert!(matches!(machine.next(now), Ok(Next::Apply(Piece { end: PieceEnd::Replacing(_), .. }))));
    machine.applied();
    assert!(matches!(machine.next(now), Ok(Next::End(End::CaughtUp))));
}

/// The first changes of a table that has to be read again are not merged, and nothing else may have come.
#[test]
fn rows_are_put_in_place_at_a_moment_of_their_own_where_nothing_came_but_the_end_of_a_transaction() {
    let now = Instant::now();
    let mut machine = Machine::new(settings(100), now);
    assert!(matches!(machine.next(now), Ok(Next::Ask)));
    machine.answered(true, now);
    assert!(matches!(machine.next(now), Ok(Next::Begin)));
    let mut segment = transaction(1, 1, 1, 1).remove(0);
    segment.blocks.clear();
    let committed_at = DateTime::UNIX_EPOCH + Duration::from_secs(5);
    segment.last_commit =
        segment.last_commit.map(|last| Arc::new(Transaction { committed_at, ..(*last).clone() }));
    machine.segment(segment, now, DateTime::UNIX_EPOCH).unwrap();
    machine.loaded(position(1));
    let now = now + Duration::from_secs(1);
    assert!(matches!(machine.next(now), Ok(Next::Gather)));
    machine.gathered();
    let Ok(Next::Apply(Piece { end: PieceEnd::Batch(ended), .. })) = machine.next(now) else {
        panic!("a batch")
    };
    assert!(ended.replaces);
    assert_eq!(ended.place.valid_from, Moment::of(committed_at));
}

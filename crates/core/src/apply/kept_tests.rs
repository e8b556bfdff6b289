//! What tables that keep changes or versions hold, by property: against the rows at each position.

use super::prepare::TableBatch;
use super::tests::{Log, Row, Table, Wish, int, play, wish};
use super::trail::unknown;
use super::write_set::{Write, WriteSet};
use crate::apply::net::Cells;
use crate::change::block::ChangeBlock;
use crate::change::kind::Transaction;
use crate::change::sequence::Sequence;
use crate::drift::tests::{config, planned, table};
use crate::model::described::{LogIdentity, SourceTable};
use crate::model::kept_as::Added;
use crate::model::position::Position;
use crate::model::schema::RowIdentity;
use crate::plan::table::TablePlan;
use crate::value::column::{Value, value_text};
use crate::value::moment::Moment;
use chrono::{DateTime, TimeDelta};
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::sync::Arc;

/// A transaction: when its source says that it was committed, in seconds, and what it does, in one or two stretches.
pub(super) type Wished = (i64, Vec<Wish>, Vec<Wish>);

/// Whether a batch ends behind a transaction, and whether one is written in two parts.
pub(super) type Cuts = (bool, bool);

pub(super) fn wished() -> impl Strategy<Value = Vec<(Wished, Cuts)>> {
    let wishes = || prop::collection::vec(wish(), 0..5);
    let transaction = (0i64..3, wishes(), wishes());
    prop::collection::vec((transaction, any::<Cuts>()), 0..10)
}

fn seconds(at: i64) -> DateTime<chrono::Utc> {
    DateTime::UNIX_EPOCH + TimeDelta::seconds(1_000_000 + at)
}

/// When the first snapshot was taken: later than the source says of many commits behind it.
fn snapshot_at() -> Moment {
    Moment::of(seconds(1))
}

fn plan_of(keep: &str, identity: LogIdentity) -> Arc<TablePlan> {
    planned_by(&format!("keep = \"{keep}\""), identity)
}

pub(super) fn planned_by(lines: &str, identity: LogIdentity) -> Arc<TablePlan> {
    let source = table("1:id:int64 2:a:int64 3:b:int64");
    planned(&config(lines), &SourceTable { identity, ..source })
}

/// The state of the table behind a transaction.
struct State {
    valid_from: Moment,
    position: String,
    rows: Table,
}

/// Plays transactions, hands their batches to a target, and gives the states that there were.
fn play_all(
    plan: &Arc<TablePlan>,
    before: &Table,
    wished: &[(Wished, Cuts)],
    full: bool,
    mut apply: impl FnMut(&TableBatch),
) -> Vec<State> {
    let mut rows = before.clone();
    let mut states = vec![State { valid_from: snapshot_at(), position: String::new(), rows: rows.clone() }];
    let mut sequence = Sequence::behind(0, snapshot_at());
    let mapper = plan.mapper().unwrap();
    let (mut waiting, mut goes_on, mut order) = (Vec::new(), false, 0);
    let mut flush = |waiting: &mut Vec<ChangeBlock>, goes_on| {
        if !waiting.is_empty() {
            apply(&TableBatch::of(plan.clone(), std::mem::take(waiting), goes_on).unwrap());
        }
    };
    for (number, ((at, first, second), (ends, in_parts))) in wished.iter().enumerate() {
        let position = Position::new(&[number as u64 + 1], number.to_string());
        let transaction =
            Transaction { position, proof: String::new(), committed_at: seconds(*at), found: None };
        let transaction = Arc::new(transaction);
        for (stretch, wishes) in [first, second].into_iter().enumerate() {
            let mut log = Log::new(plan.schema.identity.clone());
            log.builder = crate::change::builder::ChangeBlockBuilder::new(plan.schema.clone());
            (log.transaction, log.order, log.full) = (transaction.clone(), order, full);
            play(wishes, &mut rows, &mut log);
            order = log.order;
            let block = log.builder.finish().unwrap();
            let block =
                mapper.as_ref().map_or_else(|| block.clone(), |mapper| mapper.block(block.clone()).unwrap());
            let mut blocks = [block];
            sequence.number(&mut blocks);
            waiting.extend(blocks.into_iter().filter(|b| !b.is_empty()));
            if stretch == 0 && *in_parts && !waiting.is_empty() {
                flush(&mut waiting, goes_on);
                goes_on = true;
            }
        }
        let position = transaction.position.sortable();
        states.push(State { valid_from: sequence.last().valid_from, position, rows: rows.clone() });
        if *ends {
            flush(&mut waiting, goes_on);
            goes_on = false;
        }
    }
    flush(&mut waiting, goes_on);
    states
}

fn text(cells: &Cells, images: &[&ChangeBlock], column: usize) -> Option<String> {
    value_text(cells.at(column).map_or(Value::Null, |image| image.value(images, column)))
}

fn number(cells: &Cells, images: &[&ChangeBlock], column: usize) -> Option<i64> {
    match cells.at(column).map_or(Value::Null, |image| image.value(images, column)) {
        Value::Null => None,
        value => Some(int(value)),
    }
}

/// A row of a trail.
#[derive(Clone, Debug)]
struct Change {
    operation: String,
    at: (String, i64),
    row: [Option<i64>; 3],
    unchanged: Option<String>,
}

/// A plain target for a trail.
#[derive(Default)]
struct Trail(Vec<Change>);

impl Trail {
    fn read(rows: &Table) -> Self {
        let row = |row: &Row| Change {
            operation: "snapshot".into(),
            at: (String::new(), 0),
            row: row.map(Some),
            unchanged: None,
        };
        Self(rows.values().map(row).collect())
    }

    fn apply(&mut self, batch: &TableBatch) {
        let images = batch.images();
        let place = |added| batch.plan.place_of(added).unwrap();
        let last_of = |of: &Cells| {
            let key = number(of, &images, 0);
            self.0.iter().rev().find(|change| change.row[0] == key).cloned()
        };
        let found: Vec<Option<Change>> =
            batch.set.rows.iter().map(|row| row.moved_from.as_ref().and_then(last_of)).collect();
        for step in batch.set.steps() {
            let Write::Append(rows) = step else { panic!("{step:?} in a trail") };
            for at in rows {
                let row = &batch.set.rows[at];
                let own = |c: usize| number(&row.cells, &images, c);
                let of_before = |c: usize| found[at].as_ref().and_then(|found| found.row[c]);
                let cell = |c: usize| if row.cells.at(c).is_some() { own(c) } else { of_before(c) };
                let unchanged = match &row.moved_from {
                    Some(_) => unknown(&batch.plan, row, found[at].as_ref().map(|f| f.unchanged.as_deref())),
                    None => text(&row.cells, &images, place(Added::Unchanged)),
                };
                self.0.push(Change {
                    operation: text(&row.cells, &images, place(Added::Operation)).unwrap(),
                    at: (
                        text(&row.cells, &images, place(Added::Position)).unwrap(),
                        number(&row.cells, &images, place(Added::Order)).unwrap(),
                    ),
                    row: [cell(0), cell(1), cell(2)],
                    unchanged,
                });
            }
        }
    }

    /// Folds what is old up to a place: by the rule, told otherwise than in SQL.
    fn tidy(&mut self, last: &(String, i64)) {
        let (old, mut later): (Vec<_>, Vec<_>) =
            std::mem::take(&mut self.0).into_iter().partition(|c| c.at <= *last);
        let mut kept: BTreeMap<i64, Change> = BTreeMap::new();
        for change in old {
            match (change.operation.as_str(), change.row[0]) {
                ("truncate", _) => kept.clear(),
                ("delete", Some(key)) => drop(kept.remove(&key)),
                (_, key) => {
                    drop(kept.insert(key.unwrap(), Change { operation: "snapshot".into(), ..change }))
                }
            }
        }
        self.0 = kept.into_values().collect();
        self.0.sort_by(|a, b| a.at.cmp(&b.at));
        self.0.append(&mut later);
    }

    /// The rows at a position, by a plain replay.
    fn replayed(&self, position: &str) -> Table {
        let mut rows = Table::new();
        for change in self.0.iter().filter(|change| change.at.0.as_str() <= position) {
            let key = change.row[0];
            match change.operation.as_str() {
                "truncate" => rows.clear(),
                "delete" => assert!(rows.remove(&key.unwrap()).is_some(), "{change:?} of no row"),
                operation => {
                    let before = rows.insert(key.unwrap(), change.row.map(|c| c.expect("a value")));
                    assert_eq!(before.is_some(), operation == "update", "{change:?}");
                }
            }
        }
        rows
    }
}

/// A version of a row.
#[derive(Clone, Debug)]
struct Version {
    row: Row,
    since: String,
    until: Option<String>,
}

/// A plain target for versions.
struct Versions(Vec<Version>);

impl Versions {
    fn read(rows: &Table) -> Self {
        let since = snapshot_at().to_string();
        Self(rows.values().map(|row| Version { row: *row, since: since.clone(), until: None }).collect())
    }

    fn valid(&self, key: i64) -> Option<usize> {
        self.0.iter().position(|version| version.row[0] == key && version.until.is_none())
    }

    fn end(&mut self, at: usize, moment: Moment, goes_on: bool) {
        match self.0[at].since == moment.to_string() {
            true => {
                assert!(goes_on, "a version of no time");
                self.0.swap_remove(at);
            }
            false => self.0[at].until = Some(moment.to_string()),
        }
    }

    fn apply(&mut self, batch: &TableBatch) {
        let images = batch.images();
        let place = |added| batch.plan.place_of(added).unwrap();
        let set: &WriteSet = &batch.set;
        let borrowed: BTreeMap<usize, Row> = set
            .borrowed()
            .map(|(at, key)| (at, self.0[self.valid(number(key, &images, 0).unwrap()).unwrap()].row))
            .collect();
        let goes_on = set.ends.as_ref().unwrap().goes_on;
        for step in set.steps() {
            match step {
                Write::End(gone, moments) => {
                    for (gone, moment) in gone.iter().zip(moments) {
                        let key = number(&gone.key, &images, 0).unwrap();
                        let valid = self.valid(key);
                        assert!(valid.is_some() || !gone.was_there, "a version that is valid");
                        let Some(at) = valid else { continue };
                        self.end(at, *moment, goes_on);
                    }
                }
                Write::EndRest(moment) => {
                    while let Some(at) = self.0.iter().position(|version| version.until.is_none()) {
                        self.end(at, moment, goes_on);
                    }
                }
                Write::Append(rows) => {
                    for at in rows {
                        let cells = &set.rows[at].cells;
                        let cell = |c| number(cells, &images, c).unwrap_or_else(|| borrowed[&at][c]);
                        let since = text(cells, &images, place(Added::Since)).unwrap();
                        let until = text(cells, &images, place(Added::Until));
                        self.0.push(Version { row: [cell(0), cell(1), cell(2)], since, until });
                    }
                }
                other => panic!("{other:?} in a table of versions"),
            }
        }
    }

    fn at(&self, moment: Moment) -> Table {
        let moment = moment.to_string();
        let is_valid = |version: &&Version| {
            version.since <= moment && version.until.as_ref().is_none_or(|until| moment < *until)
        };
        let valid: Vec<&Version> = self.0.iter().filter(is_valid).collect();
        let rows: Table = valid.iter().map(|version| (version.row[0], version.row)).collect();
        assert_eq!(rows.len(), valid.len(), "two versions of a key are valid at {moment}");
        rows
    }
}

/// A plain target whose deleted rows stay: each with the time at which it was deleted, if that is marked.
#[derive(Clone, Debug, PartialEq)]
struct Staying(BTreeMap<i64, (Row, Option<String>)>);

impl Staying {
    fn read(rows: &Table) -> Self {
        Self(rows.iter().map(|(key, row)| (*key, (*row, None))).collect())
    }

    fn apply(&mut self, batch: &TableBatch) {
        let images = batch.images();
        let set = &batch.set;
        let key = |cells: &Cells| number(cells, &images, 0).unwrap();
        let borrowed: BTreeMap<usize, Row> =
            set.borrowed().map(|(at, cells)| (at, self.0[&key(cells)].0)).collect();
        let deleted_at = |at: usize| {
            let place = batch.plan.place_of(Added::DeletedAt)?;
            text(&set.rows[at].cells, &images, place)
        };
        for step in set.steps() {
            match step {
                Write::Remove(gone) => gone.iter().for_each(|gone| {
                    self.0.remove(&key(&gone.key));
                }),
                Write::Mark(moment) => {
                    let alive = self.0.values_mut().filter(|(_, deleted_at)| deleted_at.is_none());
                    alive.for_each(|(_, deleted_at)| *deleted_at = Some(moment.to_string()));
                }
                Write::Put(rows) | Write::Patch(rows) => {
                    for at in rows {
                        let cells = &set.rows[at].cells;
                        let there =
                            borrowed.get(&at).or(self.0.get(&key(cells)).map(|(row, _)| row)).copied();
                        let cell = |c| number(cells, &images, c).unwrap_or_else(|| there.expect("a row")[c]);
                        self.0.insert(key(cells), ([cell(0), cell(1), cell(2)], deleted_at(at)));
                    }
                }
                other => panic!("{other:?} where deleted rows stay"),
            }
        }
    }

    /// The same, each change by itself.
    fn apply_one_by_one(&mut self, batch: &TableBatch) {
        let all = batch.blocks.iter().flat_map(|block| (0..block.len()).map(move |at| block.pick(&[at])));
        for block in all {
            self.apply(&TableBatch::of(batch.plan.clone(), vec![block.unwrap()], true).unwrap());
        }
    }

    fn alive(&self) -> Table {
        let alive = self.0.iter().filter(|(_, (_, deleted_at))| deleted_at.is_none());
        alive.map(|(key, (row, _))| (*key, *row)).collect()
    }
}

fn as_table(rows: BTreeMap<i64, (i64, i64)>) -> Table {
    rows.into_iter().map(|(k, (a, b))| (k, [k, a, b])).collect()
}

fn identity(full: bool) -> LogIdentity {
    let key = vec!["id".to_string()];
    if full { LogIdentity::Full { key: Some(key) } } else { LogIdentity::Key(key) }
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, cases: 600, ..ProptestConfig::default() })]

    #[test]
    fn replaying_a_trail_gives_the_rows_at_every_position(
        before in prop::collection::btree_map(0i64..6, (0i64..100, 0i64..100), 0..6),
        wished in wished(),
        full in any::<bool>(),
    ) {
        let before = as_table(before);
        let mut trail = Trail::read(&before);
        let states = play_all(&plan_of("changes", identity(full)), &before, &wished, full, |batch| trail.apply(batch));
        for state in &states {
            prop_assert_eq!(&trail.replayed(&state.position), &state.rows, "at {}", state.position);
        }
        prop_assert!(trail.0.iter().all(|change| change.unchanged.is_none()), "the snapshot knows all");
        let places: Vec<_> = trail.0.iter().filter(|c| c.operation != "snapshot").map(|c| &c.at).collect();
        prop_assert!(places.is_sorted_by(|a, b| a < b), "in order, none twice: {:?}", places);
    }

    /// Also what comes later, which takes values from the rows that are left.
    #[test]
    fn a_trail_that_is_folded_in_between_gives_the_rows_at_every_later_position(
        before in prop::collection::btree_map(0i64..6, (0i64..100, 0i64..100), 0..6),
        wished in wished(),
        full in any::<bool>(),
        folds in prop::collection::vec(prop::option::of(0usize..40), 0..10),
    ) {
        let before = as_table(before);
        let mut trail = Trail::read(&before);
        let (mut folds, mut last) = (folds.into_iter(), String::new());
        let states = play_all(&plan_of("changes", identity(full)), &before, &wished, full, |batch| {
            trail.apply(batch);
            let place = folds.next().flatten().and_then(|at| trail.0.get(at)).map(|change| change.at.clone());
            if let Some(place) = place {
                trail.tidy(&place);
                last = last.clone().max(place.0);
            }
        });
        for state in states.iter().filter(|state| state.position >= last) {
            prop_assert_eq!(&trail.replayed(&state.position), &state.rows, "at {}", state.position);
        }
        prop_assert!(trail.0.iter().all(|change| change.unchanged.is_none()), "all stays known");
    }

    #[test]
    fn the_versions_that_are_valid_at_a_time_are_the_rows_at_that_time(
        before in prop::collection::btree_map(0i64..6, (0i64..100, 0i64..100), 0..6),
        wished in wished(),
        full in any::<bool>(),
    ) {
        let before = as_table(before);
        let mut versions = Versions::read(&before);
        let states = play_all(&plan_of("versions", identity(full)), &before, &wished, full, |batch| versions.apply(batch));
        for version in &versions.0 {
            prop_assert!(version.until.as_ref().is_none_or(|until| version.since < *until), "{version:?} is of no time");
        }
        for (at, state) in states.iter().enumerate() {
            let next = states.get(at + 1).map_or(Moment::of(seconds(100)), |next| next.valid_from);
            // A transaction that changed nothing has no time of its own.
            if next > state.valid_from {
                prop_assert_eq!(&versions.at(state.valid_from), &state.rows, "at {}", state.valid_from);
            }
        }
    }

    #[test]
    fn a_trail_of_rows_without_a_key_adds_up_to_the_rows(
        before in prop::collection::btree_map(0i64..6, (0i64..2, 0i64..2), 0..6),
        wished in wished(),
    ) {
        let before = as_table(before);
        let plan = plan_of("changes", LogIdentity::Full { key: None });
        prop_assert_eq!(&plan.mapped.identity, &RowIdentity::WholeRow);
        let mut trail = Trail::read(&before);
        let states = play_all(&plan, &before, &wished, true, |batch| trail.apply(batch));
        let mut rows: Vec<Row> = Vec::new();
        for change in &trail.0 {
            let row = change.row.map(|c| c.unwrap_or(-1));
            match change.operation.as_str() {
                "truncate" => rows.clear(),
                "delete" => {
                    let at = rows.iter().position(|other| *other == row);
                    rows.swap_remove(at.expect("a deleted row was there"));
                }
                _ => rows.push(row),
            }
        }
        rows.sort_unstable();
        prop_assert_eq!(rows, states.last().unwrap().rows.values().copied().collect::<Vec<_>>());
    }
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, cases: 600, ..ProptestConfig::default() })]

    #[test]
    fn deleted_rows_stay_marked_until_they_come_again(
        before in prop::collection::btree_map(0i64..6, (0i64..100, 0i64..100), 0..6),
        wished in wished(),
        full in any::<bool>(),
    ) {
        let before = as_table(before);
        let plan = planned_by("deletes = \"mark\"", identity(full));
        let (mut target, mut slow) = (Staying::read(&before), Staying::read(&before));
        let states = play_all(&plan, &before, &wished, full, |batch| {
            target.apply(batch);
            slow.apply_one_by_one(batch);
        });
        prop_assert_eq!(&target, &slow);
        prop_assert_eq!(&target.alive(), &states.last().unwrap().rows);
    }

    #[test]
    fn deleted_rows_stay_as_they_were_where_deletes_are_ignored(
        before in prop::collection::btree_map(0i64..6, (0i64..100, 0i64..100), 0..6),
        wished in wished(),
        full in any::<bool>(),
    ) {
        let before = as_table(before);
        let plan = planned_by("operations = [\"insert\", \"update\"]", identity(full));
        let (mut target, mut slow) = (Staying::read(&before), Staying::read(&before));
        let states = play_all(&plan, &before, &wished, full, |batch| {
            target.apply(batch);
            slow.apply_one_by_one(batch);
        });
        prop_assert_eq!(&target, &slow);
        let rows = target.alive();
        prop_assert!(states.last().unwrap().rows.iter().all(|(key, row)| rows[key] == *row));
        // Of versions those stay valid that were valid when their rows were deleted.
        let plan = planned_by("keep = \"versions\"\ndeletes = \"ignore\"", identity(full));
        let mut versions = Versions::read(&before);
        play_all(&plan, &before, &wished, full, |batch| versions.apply(batch));
        let last = versions.at(Moment::of(seconds(100)));
        prop_assert_eq!(&last, &rows);
    }

    #[test]
    fn a_trail_has_the_operations_that_were_asked_for(
        wished in wished(),
        operations in prop::sample::subsequence(vec!["insert", "update", "delete"], 1..3),
    ) {
        let all = plan_of("changes", identity(true));
        let some = planned_by(&format!("keep = \"changes\"\noperations = {operations:?}"), identity(true));
        prop_assert!(some.kept_as.view.is_none() && all.kept_as.view.is_some());
        let (mut whole, mut part) = (Trail::default(), Trail::default());
        let before = Table::new();
        play_all(&all, &before, &wished, true, |batch| whole.apply(batch));
        play_all(&some, &before, &wished, true, |batch| part.apply(batch));
        // An update of a key is an update: it is there whole or not at all.
        let updates = operations.contains(&"update");
        let told = |trail: &Trail| -> Vec<(String, Option<i64>)> {
            trail.0.iter().map(|change| (change.operation.clone(), change.row[0])).collect()
        };
        let plain = |(operation, _): &(String, Option<i64>)| match operation.as_str() {
            "truncate" => operations.contains(&"delete"),
            operation => operations.contains(&operation),
        };
        if updates || part.0.is_empty() {
            prop_assert!(told(&part).len() <= told(&whole).len());
        }
        prop_assert!(told(&part).iter().all(|change| updates || plain(change)));
    }
}

/// Without a snapshot nobody knows what the log leaves out, until it tells.
#[test]
fn values_that_nobody_knows_are_named() {
    let plan = plan_of("changes", identity(false));
    let before: Table = [(1, [1, 10, 20])].into();
    let mut trail = Trail::default();
    let update = |a, b| Wish::Update(1, None, a, b);
    let wished = [
        ((0, vec![update(Some(11), None)], vec![]), (true, false)),
        ((0, vec![update(None, Some(21)), update(Some(12), None)], vec![]), (true, false)),
        ((0, vec![update(Some(13), None)], vec![]), (true, false)),
    ];
    play_all(&plan, &before, &wished, false, |batch| trail.apply(batch));
    let told: Vec<_> = trail.0.iter().map(|c| (c.row, c.unchanged.as_deref())).collect();
    assert_eq!(
        told,
        [
            ([Some(1), Some(11), None], Some("[\"b\"]")),
            ([Some(1), Some(11), Some(21)], None),
            ([Some(1), Some(12), Some(21)], None),
            ([Some(1), Some(13), Some(21)], None),
        ]
    );
}

//! What a run measures: how long each transaction was on its way, how much of what was applied, and until when the target is
//! complete.
//!
//! [`Meter`] is told what happens, with the time at which it did, and looks at no clock. The order: [`read`](Meter::read) for
//! each segment; [`taken`](Meter::taken) when a batch that ends with all that was read is handed to the target;
//! [`applied`](Meter::applied) when it has committed; [`broken`](Meter::broken) when the stream has ended and what was on its way
//! will be read again.
//!
//! **Complete until.** The target holds everything that was committed before a moment. It moves on with each batch, and, where
//! nothing happens, with what the source says: that nothing was missing at a time ([`Segment::seen_at`]). A source that is silent
//! moves nothing: so an idle pipeline is complete until a moment ago, and a stuck one is behind, and ever further.

use super::flight::Flight;
use super::lag::ClockSkew;
use super::sample::{AppliedTransaction, SLOWEST, Sample, TableSample};
use super::stalls::Stalls;
use crate::change::counters::Operations;
use crate::change::segment::Segment;
use crate::model::name::TableName;
use chrono::{DateTime, Utc};
use indexmap::IndexSet;
use std::collections::{BTreeMap, HashMap, VecDeque};
use std::time::Duration;

/// How many of the last transactions are remembered.
pub const RECENT: usize = 50;

/// What becomes of a table's changes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fate {
    /// They are merged.
    Merged,
    /// They are kept until someone decides about the table's structure.
    Kept,
    /// They are left out: the table is read again as a whole.
    LeftOut,
}

/// Sums of a table since the run began.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct TableTotals {
    /// Changes that were applied.
    pub operations: Operations,
    /// Their bytes as read from the source.
    pub bytes: u64,
    /// The lag of the last transaction that changed it, in microseconds.
    pub lag_us: u64,
    /// When that was committed, by the source's clock.
    pub committed_at: Option<DateTime<Utc>>,
}

/// What a look at the source says of how much lies there.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct AtSource {
    /// When the source was looked at, by our clock.
    pub at: DateTime<Utc>,
    /// Bytes of the source's log, or of what stands for it.
    pub unread_bytes: Option<u64>,
    /// What the source keeps for the pipeline, in bytes.
    pub kept_bytes: Option<u64>,
    /// What it may keep.
    pub limit_bytes: Option<u64>,
}

/// Measures a run.
#[derive(Debug)]
pub struct Meter {
    skew: ClockSkew,
    names: IndexSet<String>,
    stalls: Stalls,
    /// Read, and not in a batch that was handed over.
    collected: Flight,
    /// Handed over at a time.
    taken: Option<(Flight, DateTime<Utc>)>,
    complete_until: Option<DateTime<Utc>>,
    /// Tables whose changes are kept, with the commit of the first of them, by our clock.
    held: HashMap<usize, DateTime<Utc>>,
    /// Whether there is any table whose changes are merged.
    merges_any: bool,
    at_source: AtSource,
    /// Changes that were read since the run began, and their bytes.
    read: (u64, u64),
    interval: Sample,
    /// Since the last time they were asked for.
    tables: BTreeMap<usize, TableSample>,
    totals: HashMap<usize, TableTotals>,
    /// Whose totals have changed since they were last asked for.
    changed: Vec<usize>,
    recent: VecDeque<AppliedTransaction>,
}

impl Meter {
    /// Begins at a time.
    pub fn new(now: DateTime<Utc>) -> Self {
        Self {
            skew: ClockSkew::default(),
            names: IndexSet::new(),
            stalls: Stalls::default(),
            collected: Flight::default(),
            taken: None,
            complete_until: None,
            held: HashMap::new(),
            merges_any: true,
            at_source: AtSource::default(),
            read: (0, 0),
            interval: Sample::begin(now),
            tables: BTreeMap::new(),
            totals: HashMap::new(),
            changed: Vec::new(),
            recent: VecDeque::new(),
        }
    }

    /// The source's clock against ours was measured.
    pub fn skewed(&mut self, skew: ClockSkew) {
        self.skew = skew;
    }

    /// The source's clock against ours.
    pub fn skew(&self) -> ClockSkew {
        self.skew
    }

    /// A stream begins at a checkpoint whose last transaction was committed at a time, by the source's clock.
    pub fn begins(&mut self, committed_at: Option<DateTime<Utc>>) {
        self.broken();
        let until = committed_at.map(|at| self.skew.by_our_clock(at));
        self.complete_until = self.complete_until.max(until);
    }

    /// The source was looked at.
    pub fn looked(&mut self, found: AtSource) {
        self.at_source = found;
    }

    /// Whether there is any table whose changes are merged.
    pub fn merges_any(&mut self, any: bool) {
        self.merges_any = any;
    }

    /// A table's changes are kept, the first of them committed at a time, by the source's clock; none if there is none yet.
    pub fn holds(&mut self, table: &TableName, first: Option<DateTime<Utc>>) {
        let (at, first) = (self.number(table), first.map(|at| self.skew.by_our_clock(at)));
        if let Some(first) = first {
            self.held.entry(at).or_insert(first);
        }
    }

    /// What was kept of all other tables is applied, or gone.
    pub fn only_holds(&mut self, now: DateTime<Utc>, is_held: impl Fn(&str) -> bool) {
        let name = |at: usize| self.names.get_index(at).map_or("", String::as_str);
        let (held, done): (HashMap<_, _>, HashMap<_, _>) =
            self.held.drain().partition(|(at, _)| is_held(name(*at)));
        self.held = held;
        for (at, first) in done {
            let lag = (now - first).to_std().unwrap_or_default();
            Self::of_table(&mut self.tables, &self.names, at).lag.record(lag, 1);
        }
    }

    fn number(&mut self, table: &TableName) -> usize {
        let name = table.to_string();
        match self.names.get_index_of(&name) {
            Some(at) => at,
            None => self.names.insert_full(name).0,
        }
    }

    /// A segment was read, with its rows as they were captured.
    pub fn read(&mut self, segment: &Segment, now: DateTime<Utc>, fate: impl Fn(&TableName) -> Fate) {
        if let Some((from, to)) = segment.stalled {
            self.stalls.add(from, to);
        }
        let read_at = segment.read_at.unwrap_or(now);
        for block in &segment.blocks {
            let table = &block.schema().table;
            let at = self.number(table);
            self.read.0 += block.len() as u64;
            self.read.1 += block.came_bytes() as u64;
            match fate(table) {
                Fate::Merged => self.collected.add(at, block, read_at),
                Fate::Kept => self.collected.hold(at, block),
                Fate::LeftOut => {}
            }
        }
        if !segment.in_transaction {
            self.collected.stretch_ends(segment.unseen_at);
            self.collected.seen_at = self.collected.seen_at.max(segment.seen_at);
            self.is_complete(now);
        }
    }

    /// All that was read is handed to the target, as one batch.
    pub fn taken(&mut self, now: DateTime<Utc>) {
        self.taken = Some((std::mem::take(&mut self.collected), now));
    }

    /// The target has committed the batch that was handed to it; it was at it for a while, and counted these changes of source
    /// tables, among them what was kept before. Gives the lag of its last transaction, if it had one.
    pub fn applied<'a>(
        &mut self,
        now: DateTime<Utc>,
        took: Duration,
        counted: impl Iterator<Item = (&'a TableName, Operations)>,
    ) -> Option<Duration> {
        self.interval.merges += 1;
        self.interval.merging += took;
        for (table, operations) in counted {
            let at = self.number(table);
            self.interval.operations += operations;
            Self::of_table(&mut self.tables, &self.names, at).operations += operations;
            self.totals.entry(at).or_default().operations += operations;
            self.changed.push(at);
        }
        let (flight, taken_at) = self.taken.take()?;
        let last_lag = self.are_applied(&flight, taken_at, now);
        for (at, of_table) in &flight.tables {
            self.interval.bytes += of_table.bytes;
            Self::of_table(&mut self.tables, &self.names, *at).bytes += of_table.bytes;
            self.totals.entry(*at).or_default().bytes += of_table.bytes;
            self.changed.push(*at);
        }
        for (at, first) in flight.held {
            self.held.entry(at).or_insert(self.skew.by_our_clock(first));
        }
        let last = flight.read.last().map(|read| self.skew.by_our_clock(read.transaction.committed_at));
        self.advance(last.max(flight.seen_at), now);
        self.is_complete(now);
        last_lag
    }

    /// The transactions of a batch. Gives the lag of the last one.
    fn are_applied(
        &mut self,
        flight: &Flight,
        taken_at: DateTime<Utc>,
        now: DateTime<Utc>,
    ) -> Option<Duration> {
        let mut waits = self.stalls.waits();
        let mut recording = self.interval.lags.recording();
        let mut lags = Vec::with_capacity(flight.read.len());
        let mut slowest: Vec<(Duration, usize)> = Vec::with_capacity(SLOWEST + 1);
        for (at, read) in flight.read.iter().enumerate() {
            let steps = read.steps(self.skew, &mut waits, taken_at, now);
            recording.record(&steps);
            let whole = steps.whole();
            lags.push(whole);
            if slowest.len() < SLOWEST || slowest.last().is_some_and(|slow| slow.0 < whole) {
                slowest.insert(slowest.partition_point(|slow| slow.0 >= whole), (whole, at));
                slowest.truncate(SLOWEST);
            }
        }
        drop(recording);
        self.interval.transactions += lags.len() as u64;
        // Which table each was last counted for: once for each.
        let mut counted_for = vec![usize::MAX; lags.len()];
        for (at, of_table) in &flight.tables {
            let table = Self::of_table(&mut self.tables, &self.names, *at);
            let totals = self.totals.entry(*at).or_default();
            let mut last = None;
            for (place, _) in &of_table.by {
                if std::mem::replace(&mut counted_for[*place], *at) != *at {
                    table.lag.record(lags[*place], 1);
                    last = last.max(Some(*place));
                }
            }
            if let Some(last) = last {
                totals.lag_us = lags[last].as_micros() as u64;
                totals.committed_at = Some(flight.read[last].committed_at);
            }
        }
        let recent = flight.read.len().saturating_sub(RECENT)..flight.read.len();
        let mut kept: Vec<usize> = slowest.iter().map(|slow| slow.1).chain(recent.clone()).collect();
        kept.sort_unstable();
        kept.dedup();
        for (at, tables) in kept.iter().zip(flight.tables_of(&kept)) {
            let read = &flight.read[*at];
            let steps = read.steps(self.skew, &mut waits, taken_at, now);
            let name = |(table, changes): &(usize, u64)| {
                (self.names.get_index(*table).cloned().unwrap_or_default(), *changes)
            };
            let applied = AppliedTransaction {
                committed_at: read.committed_at,
                position: read.transaction.position.to_string(),
                changes: tables.iter().map(|(_, changes)| changes).sum(),
                tables: tables.iter().map(name).collect(),
                capture_us: steps.capture.as_micros() as u64,
                queue_us: steps.queue.as_micros() as u64,
                apply_us: steps.apply.as_micros() as u64,
            };
            if recent.contains(at) {
                self.recent.push_front(applied.clone());
                self.recent.truncate(RECENT);
            }
            self.interval.is_slow(applied);
        }
        lags.last().copied()
    }

    fn of_table<'a>(
        tables: &'a mut BTreeMap<usize, TableSample>,
        names: &IndexSet<String>,
        at: usize,
    ) -> &'a mut TableSample {
        let name = || names.get_index(at).cloned().unwrap_or_default();
        tables.entry(at).or_insert_with(|| TableSample::begin(name()))
    }

    /// The stream has ended: what was on its way is read again.
    pub fn broken(&mut self) {
        (self.collected, self.taken) = (Flight::default(), None);
    }

    /// Where nothing is on its way, the target is complete until the source was seen.
    fn is_complete(&mut self, now: DateTime<Utc>) {
        if self.collected.is_empty() && self.taken.is_none() {
            let seen_at = self.collected.seen_at.take();
            self.advance(seen_at, now);
        }
    }

    fn advance(&mut self, to: Option<DateTime<Utc>>, now: DateTime<Utc>) {
        self.note_lag(now);
        self.complete_until = self.complete_until.max(to).map(|until| until.min(now));
    }

    fn note_lag(&mut self, now: DateTime<Utc>) {
        // A clock that was set back must not make a moment that is yet to come look as if it had been.
        self.complete_until = self.complete_until.map(|until| until.min(now));
        self.interval.behind = self.interval.behind.max(self.lag(now));
    }

    /// Everything that was committed before this moment, by our clock, is in the target; none if nothing is known yet. While the
    /// changes of all tables are kept, only what came before the first of them.
    pub fn complete_until(&self) -> Option<DateTime<Utc>> {
        let first_held = self.held.values().min().filter(|_| !self.merges_any);
        self.complete_until.map(|until| first_held.map_or(until, |held| until.min(*held)))
    }

    /// How far the target is behind at a time.
    pub fn lag(&self, now: DateTime<Utc>) -> Option<Duration> {
        self.complete_until().map(|until| (now - until).to_std().unwrap_or_default())
    }

    /// The tables whose changes are kept, with the commit of the first, by our clock.
    pub fn held(&self) -> impl Iterator<Item = (&str, DateTime<Utc>)> {
        self.held.iter().filter_map(|(at, first)| Some((self.names.get_index(*at)?.as_str(), *first)))
    }

    /// The last transactions that were applied, the last first.
    pub fn recent(&self) -> impl Iterator<Item = &AppliedTransaction> {
        self.recent.iter()
    }

    /// How many changes were read since the run began, and their bytes.
    pub fn has_read(&self) -> (u64, u64) {
        self.read
    }

    /// How many changes wait for their batch, or are in one that the target is at; with their bytes.
    pub fn on_the_way(&self) -> (u64, u64) {
        let flights = [Some(&self.collected), self.taken.as_ref().map(|taken| &taken.0)];
        let tables = flights.into_iter().flatten().flat_map(|flight| flight.tables.values());
        tables.fold((0, 0), |(changes, bytes), of| (changes + of.changes, bytes + of.bytes))
    }

    /// What was measured since the last time.
    pub fn sample(&mut self, now: DateTime<Utc>) -> Sample {
        self.note_lag(now);
        let mut sample = std::mem::replace(&mut self.interval, Sample::begin(now));
        sample.span = (now - sample.from).to_std().unwrap_or_default();
        // What was there at the look is done once the target is complete until then, also where nothing of it was carried.
        let is_done = self.complete_until.is_some_and(|until| until >= self.at_source.at);
        sample.unread_bytes = self.at_source.unread_bytes.map(|unread| if is_done { 0 } else { unread });
        sample.kept_bytes = self.at_source.kept_bytes;
        sample.limit_bytes = self.at_source.limit_bytes;
        sample
    }

    /// What was measured of the tables since the last time that was asked for.
    pub fn sample_tables(&mut self) -> Vec<TableSample> {
        std::mem::take(&mut self.tables).into_values().collect()
    }

    /// The totals that have changed since the last time.
    pub fn changed_totals(&mut self) -> Vec<(String, TableTotals)> {
        let mut changed = std::mem::take(&mut self.changed);
        changed.sort_unstable();
        changed.dedup();
        let of = |at: usize| Some((self.names.get_index(at)?.clone(), *self.totals.get(&at)?));
        changed.into_iter().filter_map(of).collect()
    }
}

//! What is kept of a run in the state folder: what it does, what happens in it, what it measures.

use chrono::{DateTime, Utc};
use moorage_adapter::Event;
use moorage_core::watch::meter::{RECENT, TableTotals};
use moorage_core::watch::sample::{AppliedTransaction, Lags, Sample, TableSample};
use moorage_monitor::{
    BrokenOff, Published, ReadingTable, RunSums, Severity, Standing, Standings, StateStore,
};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// How often samples are thinned.
const THIN_EVERY: Duration = Duration::from_secs(60);

/// What was measured since the last time.
pub(crate) struct Measured {
    pub(crate) at: DateTime<Utc>,
    pub(crate) sample: Sample,
    /// Of the tables, every minute or so.
    pub(crate) tables: Vec<TableSample>,
    pub(crate) totals: Vec<(String, TableTotals)>,
    /// How the run stands, but for what is summed up here.
    pub(crate) published: Published,
}

/// Keeps what is said of one run.
pub(super) struct Keeper {
    folder: PathBuf,
    pub(super) state: StateStore,
    pub(super) pipeline: String,
    run: i64,
    sums: RunSums,
    /// The lag of what was applied.
    lags: Lags,
    /// The last transactions of earlier runs.
    earlier: Vec<AppliedTransaction>,
    /// Tables that are being read.
    reading: Vec<ReadingTable>,
    /// Tables whose reading was broken off.
    broken_off: Vec<BrokenOff>,
    /// What it tries again after, and since when nothing was carried.
    retrying: Option<Standing>,
    /// Whether the last word was that something is waited for.
    waits: bool,
    thinned: Instant,
    /// What was published last, and when.
    last: (DateTime<Utc>, Published),
}

impl Keeper {
    pub(super) fn new(folder: &Path, state: StateStore, pipeline: &str, run: i64) -> Self {
        state.publishes_anew(pipeline);
        let earlier = state.published(pipeline).ok().flatten().map(|(_, said)| said).unwrap_or_default();
        let long_ago = Instant::now().checked_sub(THIN_EVERY);
        Self {
            folder: folder.into(),
            state,
            pipeline: pipeline.into(),
            run,
            sums: RunSums::default(),
            lags: Lags::default(),
            earlier: earlier.recent,
            reading: Vec::new(),
            broken_off: earlier.broken_off,
            retrying: None,
            waits: false,
            thinned: long_ago.unwrap_or_else(Instant::now),
            last: Default::default(),
        }
    }

    /// Notes what an event says of the run.
    pub(super) fn event(&mut self, event: &Event) {
        match event {
            Event::SnapshotFinished { rows, .. } | Event::ReadAgain { rows, .. } => {
                self.sums.snapshot_rows += rows
            }
            Event::Retrying { .. } => self.sums.retries += 1,
            _ if Severity::of(event) == Some(Severity::Warning) => self.sums.warnings += 1,
            _ => {}
        }
        self.reads(event);
        self.state.keep_event(&self.pipeline, self.run, event);
        let doing = match event {
            Event::Waiting { what, .. } => what.clone(),
            Event::SnapshotStarted { tables } => format!("reading {} tables", tables.len()),
            Event::Streaming { position } => format!("following changes from {position}"),
            Event::Retrying { reason, .. } => format!("retrying: {reason}"),
            Event::Stopping { by } => format!("stopping ({by})"),
            Event::Merged { position, .. } if self.waits => format!("following changes from {position}"),
            _ => return,
        };
        self.waits = matches!(event, Event::Waiting { .. });
        self.state.run_does(self.run, &doing);
    }

    /// Notes how far tables are read.
    fn reads(&mut self, event: &Event) {
        match event {
            Event::SnapshotStarted { tables } => {
                let begun = |(table, of): &(String, Option<u64>)| ReadingTable {
                    table: table.clone(),
                    rows: 0,
                    of: *of,
                };
                self.reading.extend(tables.iter().map(begun));
            }
            Event::ReadingAgain { table, .. } => {
                self.reading.push(ReadingTable { table: table.clone(), rows: 0, of: None });
            }
            Event::SnapshotRows { table, rows } => {
                self.retrying = None;
                self.reading.iter_mut().filter(|r| r.table == *table).for_each(|r| r.rows = *rows);
            }
            Event::SnapshotFinished { table, .. } | Event::ReadAgain { table, .. } => {
                self.reading.retain(|r| r.table != *table);
                self.broken_off.retain(|broken| broken.table != *table);
            }
            Event::Retrying { reason, .. } => {
                self.breaks_off(reason);
                let standing = || Standing { doing: String::new(), since: Utc::now() };
                self.retrying.get_or_insert_with(standing).doing.clone_from(reason);
            }
            Event::Streaming { .. } => {
                self.reading.clear();
                self.broken_off.clear();
            }
            Event::Merged { .. } => self.retrying = None,
            _ => {}
        }
    }

    /// What was being read is broken off.
    fn breaks_off(&mut self, why: &str) {
        for ReadingTable { table, .. } in std::mem::take(&mut self.reading) {
            self.broken_off.retain(|broken| broken.table != table);
            self.broken_off.push(BrokenOff { table, why: why.into() });
        }
    }

    /// Someone may have removed the folder beside the run: whoever looks and asks does it in a new one.
    fn goes_on_in_place(&mut self) {
        if self.state.is_in_place() {
            return;
        }
        let begun =
            StateStore::open(&self.folder).and_then(|state| Ok((state.begin_run(&self.pipeline)?, state)));
        match begun {
            Ok((run, state)) => {
                (self.run, self.state) = (run, state);
                self.state.run_does(run, "running; what was known of it before was removed");
            }
            Err(error) => tracing::debug!("{error}"),
        }
    }

    /// Keeps what was measured.
    pub(super) fn measured(&mut self, measured: Measured) {
        self.goes_on_in_place();
        let Measured { at, sample, tables, totals, published } = measured;
        self.lags.add(&sample.lags);
        self.sums.operations += sample.operations;
        self.sums.bytes += sample.bytes;
        self.sums.transactions += sample.transactions;
        self.sums.merges += sample.merges;
        self.state.run_has_done(self.run, &self.sums);
        self.state.keep_sample(&self.pipeline, &sample);
        if !tables.is_empty() {
            self.state.keep_table_samples(&self.pipeline, at, &tables);
        }
        let mut published =
            Published { run: self.run, sums: self.sums, lags: (&self.lags).into(), ..published };
        // An idle source says that nothing is missing any more.
        if self
            .retrying
            .as_ref()
            .is_some_and(|since| published.complete_until.is_some_and(|until| until > since.since))
        {
            self.retrying = None;
        }
        published.retrying.clone_from(&self.retrying);
        published.reading.clone_from(&self.reading);
        published.broken_off.clone_from(&self.broken_off);
        self.last = (at, published.clone());
        published
            .recent
            .extend(self.earlier.iter().take(RECENT.saturating_sub(published.recent.len())).cloned());
        self.state.publish(&self.pipeline, at, &published, &totals);
        if self.thinned.elapsed() >= THIN_EVERY {
            self.thinned = Instant::now();
            self.state.thin(&self.pipeline, at);
        }
    }

    /// Tells how the tables stand.
    pub(super) fn stand(&mut self, at: DateTime<Utc>, standings: &Standings) {
        self.state.tell_standings(&self.pipeline, at, standings);
    }

    /// Notes how the run ended.
    pub(super) fn end(&mut self, outcome: &str, words: &str) {
        if outcome == "failed" && !self.reading.is_empty() {
            self.breaks_off(words);
            let (at, mut published) = std::mem::take(&mut self.last);
            (published.reading, published.broken_off) = (Vec::new(), self.broken_off.clone());
            self.state.publish(&self.pipeline, at, &published, &[]);
        }
        self.state.run_has_done(self.run, &self.sums);
        self.state.end_run(self.run, outcome, words);
    }
}

//! What is measured of a run: told by what follows changes, and published every second by a task of its own, also while nothing
//! else goes on.

use super::ends::Pipeline;
use super::keeper::Measured;
use super::notes::Notes;
use chrono::{DateTime, Utc};
use moorage_adapter::{LeftOut, QueueGauge};
use moorage_core::watch::meter::Meter;
use moorage_monitor::{HeldTable, MERGES, Published, Rates, Standing, WAITS_FOR_SOURCE};
use std::collections::VecDeque;
use std::convert::Infallible;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tokio::sync::Notify;

/// How often is published how the run stands.
const PUBLISH_EVERY: Duration = Duration::from_millis(900);
/// How long is waited beyond that for the target to be complete until a later moment.
const CLOSER_WITHIN: Duration = Duration::from_millis(300);
/// How often is kept what was measured of each table.
const TABLES_EVERY: Duration = Duration::from_secs(60);

/// What is measured of a run; cheap to clone.
#[derive(Clone)]
pub(crate) struct Measuring(Arc<Shared>);

struct Shared {
    measures: Mutex<Measures>,
    /// Told when the target is complete until a later moment than before.
    comes_closer: Notify,
}

/// All of it.
pub(crate) struct Measures {
    pub(crate) meter: Meter,
    /// The room between reader and batch, while there is a stream.
    pub(crate) gauge: Option<QueueGauge>,
    /// Since when the target is at a batch.
    pub(crate) applying_since: Option<DateTime<Utc>>,
    /// Whether tables may stand otherwise than it was told last.
    pub(crate) standings_may_differ: bool,
    /// Tables that were left out, with why.
    pub(crate) left_out: LeftOut,
    /// When the reader last gave something to be applied.
    pub(crate) read_at: Option<DateTime<Utc>>,
    standings: [Option<Standing>; 3],
    /// What had been done at each of the last times.
    done: VecDeque<Done>,
    /// What was applied since the run began: changes and merges.
    applied: (u64, u64),
}

/// What had been done at a time.
struct Done {
    at: DateTime<Utc>,
    read: (u64, u64),
    /// Changes and merges.
    applied: (u64, u64),
}

/// Over how many times a rate is taken.
const RATE_OVER: usize = 10;

impl Measuring {
    pub(crate) fn begin() -> Self {
        let measures = Measures {
            meter: Meter::new(Utc::now()),
            gauge: None,
            applying_since: None,
            standings_may_differ: true,
            left_out: LeftOut::default(),
            read_at: None,
            standings: Default::default(),
            done: VecDeque::new(),
            applied: (0, 0),
        };
        Self(Arc::new(Shared { measures: Mutex::new(measures), comes_closer: Notify::new() }))
    }

    /// Tells, or asks.
    pub(crate) fn with<T>(&self, told: impl FnOnce(&mut Measures) -> T) -> T {
        let mut measures = self.0.measures.lock().unwrap_or_else(PoisonError::into_inner);
        let before = measures.meter.complete_until();
        let answer = told(&mut measures);
        if measures.meter.complete_until() > before {
            self.0.comes_closer.notify_one();
        }
        answer
    }

    /// Publishes every second, and never ends.
    pub(crate) async fn publish(&self, pipeline: &Pipeline, notes: &Notes) -> Infallible {
        let mut tables_at = Instant::now() + TABLES_EVERY;
        loop {
            tokio::time::sleep(PUBLISH_EVERY).await;
            // An idle source says every second until when nothing was missing: what is published is told right behind that, and is
            // not a second old before it is.
            let _ = tokio::time::timeout(CLOSER_WITHIN, self.0.comes_closer.notified()).await;
            let tables = Instant::now() >= tables_at;
            if tables {
                tables_at = Instant::now() + TABLES_EVERY;
            }
            notes.measured(self.take(pipeline, tables));
        }
    }

    /// What was measured since the last time; with what was measured of the tables if they are wanted.
    pub(crate) fn take(&self, pipeline: &Pipeline, tables: bool) -> Measured {
        let mut measured = self.with(|m| m.take(Utc::now(), tables));
        measured.published.source_usage = pipeline.source.usage();
        measured.published.target_usage = pipeline.target.usage();
        measured
    }
}

impl Measures {
    fn take(&mut self, at: DateTime<Utc>, tables: bool) -> Measured {
        self.stand(at);
        let sample = self.meter.sample(at);
        self.applied.0 += sample.operations.total();
        self.applied.1 += sample.merges;
        let rates = self.rates(at);
        let [reader, queue, writer] = self.standings.clone();
        let held = self.meter.held().map(|(table, since)| HeldTable { table: table.into(), since });
        let published = Published {
            complete_until: self.meter.complete_until(),
            behind_us: self.meter.lag(at).map(|lag| lag.as_micros() as u64),
            clock_skew_us: self.meter.skew().source_ahead_us,
            unread_bytes: sample.unread_bytes,
            kept_bytes: sample.kept_bytes,
            limit_bytes: sample.limit_bytes,
            on_the_way: self.meter.on_the_way(),
            queued_bytes: self.gauge.as_ref().map(QueueGauge::bytes).unwrap_or_default(),
            rates,
            reader,
            queue,
            writer,
            held: held.collect(),
            recent: self.meter.recent().cloned().collect(),
            ..Published::default()
        };
        Measured {
            at,
            sample,
            tables: if tables { self.meter.sample_tables() } else { Vec::new() },
            totals: self.meter.changed_totals(),
            published,
        }
    }

    /// The stream has ended; what was on its way is read again.
    pub(crate) fn stream_ends(&mut self) {
        self.meter.broken();
        (self.gauge, self.applying_since) = (None, None);
    }

    fn rates(&mut self, at: DateTime<Utc>) -> Rates {
        let now = Done { at, read: self.meter.has_read(), applied: self.applied };
        let rates = self.done.front().map_or(Rates::default(), |first| {
            let seconds = (at - first.at).as_seconds_f64().max(0.001);
            let rate = |now: u64, then: u64| now.saturating_sub(then) as f64 / seconds;
            Rates {
                read: rate(now.read.0, first.read.0),
                read_bytes: rate(now.read.1, first.read.1),
                applied: rate(now.applied.0, first.applied.0),
                merges: rate(now.applied.1, first.applied.1),
            }
        });
        self.done.push_back(now);
        if self.done.len() > RATE_OVER {
            self.done.pop_front();
        }
        rates
    }

    /// What each part is at now.
    fn stand(&mut self, at: DateTime<Utc>) {
        let Some(gauge) = &self.gauge else {
            self.standings = Default::default();
            return;
        };
        let (waiting, _) = self.meter.on_the_way();
        let stalled = gauge.stalled_since();
        let is_quiet = self.read_at.is_none_or(|read| (at - read).num_seconds() >= 1);
        let reader = match stalled {
            Some(since) => ("waits for room in the queue", Some(since)),
            None if is_quiet => (WAITS_FOR_SOURCE, self.read_at),
            None => ("reads", None),
        };
        let queue = match (waiting, self.applying_since) {
            (0, _) => ("is empty", None),
            (_, None) => ("collects a batch", None),
            (_, Some(since)) => ("waits for the target", Some(since)),
        };
        let writer = match self.applying_since {
            Some(since) => (MERGES, Some(since)),
            None => ("waits for a batch", None),
        };
        for (standing, (doing, since)) in self.standings.iter_mut().zip([reader, queue, writer]) {
            let known = standing.as_ref().filter(|s| s.doing == doing).map(|s| s.since);
            *standing = Some(Standing { doing: doing.into(), since: since.or(known).unwrap_or(at) });
        }
    }
}

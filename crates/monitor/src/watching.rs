//! A pipeline as whoever watches it sees it: read from the state store, second by second. Nothing else is asked, and nothing
//! that runs waits for it.

use crate::alerting::seen::seen;
use crate::error::Result;
use crate::store::base::StateStore;
use crate::store::published::Published;
use crate::store::runs::RunRecord;
use crate::store::samples::Point;
use crate::store::standings::Standings;
use chrono::{DateTime, TimeDelta, Utc};
use moorage_core::change::counters::Operations;
use moorage_core::watch::alerts::seen::{Seen, Stands, TableSeen};
use moorage_core::watch::alerts::step::{Key, Standing as AlertStanding};
use moorage_core::watch::meter::TableTotals;
use std::collections::BTreeMap;
use std::time::Duration;

/// Over how long a rate is taken.
const RATE_OVER: TimeDelta = TimeDelta::seconds(10);

/// A pipeline, watched.
#[derive(Clone, Debug)]
pub struct Watched {
    /// Its name.
    pub pipeline: String,
    /// How it stands.
    pub seen: Seen,
    /// How far it was behind when that was said; none if it is not known, or nothing runs.
    pub behind: Option<Duration>,
    /// Its newest run.
    pub run: Option<RunRecord>,
    /// What its last run said of itself last.
    pub said: Published,
    /// Its tables.
    pub tables: Vec<WatchedTable>,
    /// Its samples, oldest first.
    pub points: Vec<Point>,
    /// Changes in a second, on the average of the last ten.
    pub rates: OperationRates,
    /// Alerts that are raised.
    pub raised: Vec<(Key, AlertStanding)>,
}

/// Changes in a second.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct OperationRates {
    /// Inserts.
    pub inserts: f64,
    /// Updates.
    pub updates: f64,
    /// Deletes.
    pub deletes: f64,
    /// Truncates.
    pub truncates: f64,
}

/// A table, watched.
#[derive(Clone, Debug)]
pub struct WatchedTable {
    /// How it stands.
    pub seen: TableSeen,
    /// How much of it is read, of 100, while it is being read and that is known.
    pub percent: Option<u64>,
    /// Rows that were read until now, while it is being read.
    pub reading: Option<u64>,
    /// What the last run has done to it.
    pub totals: TableTotals,
}

impl Watched {
    /// Whether a run is going on that says how it stands.
    pub fn is_running(&self) -> bool {
        matches!(self.seen.stands, Some(Stands::Runs | Stands::Retries { .. }))
    }

    /// Whether nothing runs, or says anything, because of something: nobody stopped it, and it was not done.
    pub fn stopped_badly(&self) -> bool {
        let outcome = self.run.as_ref().map(|run| run.outcome.as_deref());
        let is_well = matches!(outcome, None | Some(Some("done" | "stopped")));
        matches!(self.seen.stands, Some(Stands::Stopped { .. })) && !is_well
    }

    /// What is wrong, in words, each with the next command; the worst first.
    pub fn troubles(&self) -> Vec<(String, String)> {
        let mut all = Vec::new();
        match &self.seen.stands {
            Some(Stands::Stopped { why, .. }) if self.stopped_badly() => {
                all.push((why.clone(), format!("moorage run {}", self.pipeline)));
            }
            Some(Stands::Retries { why, .. }) => {
                all.push((format!("it tries again: {why}"), format!("moorage status {}", self.pipeline)));
            }
            _ => {}
        }
        let of_tables = self.tables.iter().flat_map(|table| {
            let name = &table.seen.table;
            let troubles = table.seen.held.iter().chain(&table.seen.failed);
            troubles.map(move |trouble| (format!("{name}: {}", trouble.what), trouble.next.clone()))
        });
        all.extend(of_tables);
        let rejects: u64 = self.tables.iter().map(|table| table.seen.rejects).sum();
        if rejects > 0 {
            let s = if rejects == 1 { " is" } else { "s are" };
            all.push((
                format!("{rejects} change{s} set aside"),
                format!("moorage rejects --pipeline {}", self.pipeline),
            ));
        }
        let is_held =
            |table: &str| self.tables.iter().any(|t| t.seen.table == table && t.seen.held.is_some());
        let undecided = self.seen.undecided.iter().flatten().filter(|waits| !is_held(&waits.table));
        all.extend(undecided.map(|waits| {
            let next = format!("moorage drift show {} --pipeline {}", waits.id, self.pipeline);
            (format!("{} waits for a decision: {}", waits.table, waits.what), next)
        }));
        // What is raised of a table is said above.
        let raised = self.raised.iter().filter(|(key, _)| key.table.is_none());
        all.extend(raised.map(|(key, standing)| {
            (format!("alert {}: {}", key.alert, standing.what), standing.next.clone())
        }));
        all
    }
}

/// Looks at a pipeline; with its samples from a time on.
///
/// # Errors
/// If the store cannot be read.
pub fn watched(
    state: &StateStore,
    pipeline: &str,
    since: DateTime<Utc>,
    now: DateTime<Utc>,
) -> Result<Watched> {
    let said = state.published_by_newest(pipeline)?.map(|(_, said)| said).unwrap_or_default();
    let points = state.points(pipeline, since.min(now - RATE_OVER), now)?;
    let seen = seen(state, pipeline, now)?;
    let is_running = matches!(seen.stands, Some(Stands::Runs | Stands::Retries { .. }));
    let standings = state.standings(pipeline)?.unwrap_or_default();
    let totals = state.published_tables(pipeline)?;
    let memory = state.alert_memory(pipeline)?;
    Ok(Watched {
        pipeline: pipeline.into(),
        behind: said.behind_us.filter(|_| is_running).map(Duration::from_micros),
        run: state.last_run(pipeline)?,
        tables: tables(standings, totals, if is_running { Some(&said) } else { None }),
        rates: if is_running { rates(&points, now) } else { OperationRates::default() },
        raised: memory.standings.into_iter().filter(|(_, standing)| standing.raised_at.is_some()).collect(),
        points,
        seen,
        said,
    })
}

/// All that is known of tables, by name.
fn tables(
    standings: Standings,
    totals: Vec<(String, TableTotals)>,
    said: Option<&Published>,
) -> Vec<WatchedTable> {
    let begin = |table: &str| WatchedTable {
        seen: TableSeen { table: table.into(), ..TableSeen::default() },
        percent: None,
        reading: None,
        totals: TableTotals::default(),
    };
    let mut all: BTreeMap<String, WatchedTable> = BTreeMap::new();
    for seen in standings.tables {
        let table = begin(&seen.table);
        all.insert(seen.table.clone(), WatchedTable { seen, ..table });
    }
    for (name, totals) in totals {
        all.entry(name.clone()).or_insert_with(|| begin(&name)).totals = totals;
    }
    for reading in said.iter().flat_map(|said| &said.reading) {
        let table = all.entry(reading.table.clone()).or_insert_with(|| begin(&reading.table));
        (table.percent, table.reading) = (reading.percent(), Some(reading.rows));
        // What the target remembers of it is as old as its begin.
        table.seen.state = "reading".into();
    }
    all.into_values().collect()
}

fn rates(points: &[Point], now: DateTime<Utc>) -> OperationRates {
    let mut sum = Operations::default();
    let recent = points.iter().rev().take_while(|point| now - point.at <= RATE_OVER);
    recent.filter(|point| point.span <= Duration::from_secs(2)).for_each(|point| sum += point.operations);
    let rate = |count: u64| count as f64 / RATE_OVER.as_seconds_f64();
    OperationRates {
        inserts: rate(sum.inserts),
        updates: rate(sum.updates),
        deletes: rate(sum.deletes),
        truncates: rate(sum.truncates),
    }
}

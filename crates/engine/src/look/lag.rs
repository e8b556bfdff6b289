//! Lag over time: how it was distributed, which transactions were slow, which came last.

use super::behind::{Behind, behind};
use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::Result;
use chrono::{DateTime, TimeDelta, Utc};
use moorage_core::watch::sample::AppliedTransaction;
use moorage_monitor::{Period, StateStore, TablePeriod};
use serde::Serialize;
use std::time::Duration;

/// What is wanted of lag.
#[derive(Clone, Debug)]
pub struct WantedLag {
    /// From when on; the last hour, and beside it a minute, a day and a week, if not given.
    pub since: Option<DateTime<Utc>>,
    /// Whether by table.
    pub by_table: bool,
    /// The slowest transactions with at least this lag.
    pub over: Duration,
    /// How many transactions are listed.
    pub most: usize,
    /// Into how many stretches of the same length the time is cut.
    pub points: u32,
}

/// A stretch of time with its name.
#[derive(Clone, Debug, Serialize)]
pub struct NamedPeriod {
    /// `last minute`, `last hour`, `since 2026-06-01T12:00:00Z`.
    pub name: String,
    /// What was measured in it.
    #[serde(flatten)]
    pub period: Period,
}

/// Lag of a pipeline.
#[derive(Clone, Debug, Serialize)]
pub struct LagView {
    /// The pipeline.
    pub pipeline: String,
    /// Now.
    pub now: Behind,
    /// Over stretches of time, the shortest first.
    pub periods: Vec<NamedPeriod>,
    /// By table, over the stretch that was asked for; none if it was not asked by table.
    pub tables: Option<Vec<TablePeriod>>,
    /// The stretch that was asked for, cut into points, oldest first.
    pub points: Vec<Period>,
    /// The slowest transactions in it, the slowest first.
    pub slowest: Vec<AppliedTransaction>,
    /// The last ones of the last run, the last first.
    pub recent: Vec<AppliedTransaction>,
}

/// Looks at the lag of a pipeline.
///
/// # Errors
/// If the state folder, or where nothing runs the target, cannot be read.
pub async fn lag(pipeline: &Pipeline, wanted: &WantedLag) -> Result<LagView> {
    let behind = behind(pipeline).await?;
    let (state, now) = (StateStore::open(&pipeline.state_folder)?, Utc::now());
    let of = |from: DateTime<Utc>| state.period(&pipeline.name, from, now);
    let mut periods = Vec::new();
    let usual = [
        ("last minute", TimeDelta::minutes(1)),
        ("last hour", TimeDelta::hours(1)),
        ("last day", TimeDelta::days(1)),
        ("last week", TimeDelta::weeks(1)),
    ];
    match wanted.since {
        Some(since) => {
            let name = format!("since {}", since.to_rfc3339_opts(chrono::SecondsFormat::Secs, true));
            periods.push(NamedPeriod { name, period: of(since)? });
        }
        None => {
            for (name, long) in usual {
                periods.push(NamedPeriod { name: name.into(), period: of(now - long)? });
            }
        }
    }
    let from = wanted.since.unwrap_or(now - TimeDelta::hours(1)).min(now);
    let tables = match wanted.by_table {
        true => Some(state.table_periods(&pipeline.name, from, now)?),
        false => None,
    };
    let recent = behind.published.as_ref().map(|said| said.recent.clone()).unwrap_or_default();
    Ok(LagView {
        pipeline: pipeline.name.clone(),
        periods,
        tables,
        points: points(&state, &pipeline.name, (from, now), wanted.points)?,
        slowest: state.slow_transactions(&pipeline.name, (from, now), wanted.over, wanted.most)?,
        recent: recent.into_iter().take(wanted.most).collect(),
        now: behind,
    })
}

/// A stretch of time cut into so many of the same length.
pub(super) fn points(
    state: &StateStore,
    pipeline: &str,
    (from, to): (DateTime<Utc>, DateTime<Utc>),
    count: u32,
) -> Result<Vec<Period>> {
    let samples = state.samples(pipeline, from, to)?;
    let step = (to - from) / count.max(1) as i32;
    let mut rest = &samples[..];
    let mut points = Vec::with_capacity(count as usize);
    for at in 0..count as i32 {
        let (begin, end) = (from + step * at, from + step * (at + 1));
        let (of, behind) = rest.split_at(rest.partition_point(|sample| sample.from < end));
        points.push(Period::of(begin, end, of));
        rest = behind;
    }
    Ok(points)
}

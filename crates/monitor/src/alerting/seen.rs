//! How a pipeline is seen to stand by what its run keeps in the state store. Nothing else is asked.

use crate::error::Result;
use crate::store::base::StateStore;
use crate::store::published::Published;
use crate::store::runs::RunRecord;
use crate::store::standings::Standings;
use chrono::{DateTime, SecondsFormat, TimeDelta, Utc};
use moorage_core::watch::alerts::seen::{Seen, Stands};
use std::hash::{DefaultHasher, Hash, Hasher};
use std::time::Duration;

/// A run says every second how it stands. What was said longer ago than this counts as silence.
pub const SILENT_AFTER: TimeDelta = TimeDelta::seconds(5);
/// Said of a pipeline where no run is known.
const NEVER: &str = "nothing runs, and no run of it is known here";
/// Below this nobody asks why.
const NOTICED: Duration = Duration::from_secs(3);

fn time(text: &str) -> Option<DateTime<Utc>> {
    DateTime::parse_from_rfc3339(text).ok().map(|at| at.to_utc())
}

fn shown(at: DateTime<Utc>) -> String {
    at.to_rfc3339_opts(SecondsFormat::Secs, true)
}

/// How a run that has ended did so, in one line; none if it has not, or nobody knows.
pub fn ended(run: &RunRecord) -> Option<String> {
    let (outcome, message) = (run.outcome.as_deref()?, run.message.as_deref().unwrap_or_default());
    let at = shown(time(run.ended_at.as_deref()?)?);
    let first = message.lines().next().unwrap_or_default();
    Some(format!("nothing runs; the last run ended at {at}: {outcome}, {first}"))
}

/// A run that has ended, or that says nothing, stands still; one that follows, reads or tries again does that.
pub fn stands(
    run: Option<&RunRecord>,
    said: Option<(DateTime<Utc>, &Published)>,
    now: DateTime<Utc>,
) -> Stands {
    let Some(run) = run else { return Stands::Stopped { since: None, why: NEVER.into() } };
    if let Some(why) = ended(run) {
        return Stands::Stopped { since: run.ended_at.as_deref().and_then(time), why };
    }
    let begun = time(&run.started_at).unwrap_or(now);
    let said = said.filter(|(_, said)| said.run == run.run);
    let last_word = said.map_or(begun, |(at, _)| at.max(begun));
    if now - last_word >= SILENT_AFTER {
        let why = format!("the run has said nothing since {}", shown(last_word));
        return Stands::Stopped { since: Some(last_word), why };
    }
    match said.and_then(|(_, said)| said.retrying.clone()) {
        Some(retrying) => Stands::Retries { since: retrying.since, why: retrying.doing },
        None => Stands::Runs,
    }
}

/// Adds what a run says of itself.
pub fn add_published(seen: &mut Seen, said: &Published) {
    let done = &said.sums;
    let mut progress = DefaultHasher::new();
    (done.operations.total(), done.snapshot_rows, said.run, said.complete_until).hash(&mut progress);
    said.reading.iter().for_each(|reading| (&reading.table, reading.rows).hash(&mut progress));
    seen.progress = Some(progress.finish());
    let waits =
        said.on_the_way.0 > 0 || !said.reading.is_empty() || said.unread_bytes.is_some_and(|bytes| bytes > 0);
    seen.waits = (waits || said.unread_bytes.is_some()).then_some(waits);
    seen.room = said.kept_bytes.zip(said.limit_bytes.filter(|limit| *limit > 0));
    let broken = said.broken_off.iter().map(|table| (table.table.clone(), table.why.clone()));
    seen.broken_off = Some(broken.collect());
}

/// Adds how its tables stand; what is being read now is no trouble any more.
pub fn add_standings(seen: &mut Seen, standings: Standings, said: Option<&Published>) {
    let mut tables = standings.tables;
    let is_read =
        |table: &str| said.is_some_and(|said| said.reading.iter().any(|reading| reading.table == table));
    tables.iter_mut().filter(|table| is_read(&table.table)).for_each(|table| table.failed = None);
    seen.tables = Some(tables);
    seen.undecided = Some(standings.undecided);
    seen.drift = Some(standings.drift);
}

/// How a pipeline stands whose run is one of this process, or was.
///
/// # Errors
/// If the store cannot be read.
pub fn seen(state: &StateStore, pipeline: &str, now: DateTime<Utc>) -> Result<Seen> {
    let mut seen = Seen::nothing(pipeline);
    let run = state.last_run(pipeline)?;
    let said = state.published_by_newest(pipeline)?;
    let stands = stands(run.as_ref(), said.as_ref().map(|(at, said)| (*at, said)), now);
    if let Some((_, said)) = &said {
        add_published(&mut seen, said);
        if !matches!(stands, Stands::Stopped { .. }) {
            seen.behind = said.complete_until.map(|until| (now - until).to_std().unwrap_or_default());
            let doing = run.as_ref().and_then(|run| run.doing.clone()).unwrap_or_default();
            seen.why = seen.behind.filter(|behind| *behind >= NOTICED).map(|_| said.why(&doing));
        }
    }
    if let Some(standings) = state.standings(pipeline)? {
        let is_going_on = !matches!(stands, Stands::Stopped { .. });
        add_standings(&mut seen, standings, said.as_ref().map(|(_, said)| said).filter(|_| is_going_on));
    }
    seen.stands = Some(stands);
    Ok(seen)
}

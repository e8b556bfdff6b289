//! Which conditions a pipeline meets.

use super::seen::{Seen, Stands, Trouble};
use crate::project::alert::{AlertRule, Condition};
use chrono::{DateTime, TimeDelta, Utc};
use std::time::Duration;

/// A condition that is met, of a pipeline or of one of its tables.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Met {
    /// The source table, where it is about one.
    pub table: Option<String>,
    /// What is wrong, as a part of a sentence.
    pub what: String,
    /// Since when at least; none if that is not known: then since it was first seen.
    pub since: Option<DateTime<Utc>>,
    /// Whether it has lasted for longer than anyone remembers.
    pub always: bool,
    /// What to do next: a command.
    pub next: String,
}

impl Met {
    fn new(what: impl Into<String>, since: Option<DateTime<Utc>>, next: String) -> Self {
        Self { table: None, what: what.into(), since, always: false, next }
    }

    fn of(table: &str, trouble: &Trouble) -> Self {
        let Trouble { what, since, next } = trouble.clone();
        Self { table: Some(table.into()), ..Self::new(what, since, next) }
    }
}

/// What of a rule's condition is met; none if it cannot be told. `still_since` is when anything was carried last, as far as that is
/// remembered.
pub fn met(
    rule: &AlertRule,
    seen: &Seen,
    still_since: Option<DateTime<Utc>>,
    now: DateTime<Utc>,
) -> Option<Vec<Met>> {
    let pipeline = &seen.pipeline;
    let all = match rule.condition {
        Condition::Lag(over) => lag(seen, over, now)?,
        Condition::NoProgress => {
            // What was carried just now is no standstill.
            let since = still_since.filter(|since| *since < now);
            let what = match &seen.why {
                Some(why) => format!("changes wait, and nothing is carried: {why}"),
                None => "changes wait, and nothing is carried".into(),
            };
            let met = Met::new(what, since, format!("moorage status {pipeline} -v"));
            Vec::from_iter(seen.waits?.then_some(met).filter(|_| since.is_some()))
        }
        Condition::SourceRoom(percent) => {
            let (kept, limit) = seen.room?;
            let share = kept.saturating_mul(100).checked_div(limit)?;
            let what = format!("the source keeps {share} % of what it may for this pipeline");
            Vec::from_iter(
                (share >= percent).then(|| Met::new(what, None, format!("moorage status {pipeline}"))),
            )
        }
        Condition::NotRunning => Vec::from_iter(not_running(pipeline, seen.stands.as_ref()?)),
        Condition::SnapshotFailed => {
            let failed = |(table, why): &(String, String)| Met {
                table: Some(table.clone()),
                ..Met::new(
                    format!("reading it was broken off: {why}"),
                    None,
                    format!("moorage status {pipeline}"),
                )
            };
            seen.broken_off.as_ref()?.iter().map(failed).collect()
        }
        Condition::Decision => undecided(seen)?,
        Condition::Rejects(over) => {
            let tables = seen.tables.as_ref()?.iter().filter(|table| table.rejects > over);
            let next = format!("moorage rejects --pipeline {pipeline}");
            let of = |rejects| match rejects {
                1 => "1 change is set aside".to_string(),
                many => format!("{many} changes are set aside"),
            };
            let met = tables
                .map(|t| Met { table: Some(t.table.clone()), ..Met::new(of(t.rejects), None, next.clone()) });
            met.collect()
        }
        Condition::TableHeld => {
            let tables = seen.tables.as_ref()?.iter();
            tables.filter_map(|t| Some(Met::of(&t.table, t.held.as_ref()?))).collect()
        }
        Condition::TableFailed => {
            let tables = seen.tables.as_ref()?.iter();
            tables.filter_map(|t| Some(Met::of(&t.table, t.failed.as_ref()?))).collect()
        }
        // Told when it happens, and no state.
        Condition::Drift => Vec::new(),
    };
    let is_meant = |met: &Met| met.table.as_ref().is_none_or(|table| rule.is_of_table(table));
    Some(all.into_iter().filter(is_meant).collect())
}

/// Lag grows by no more than a second a second: it has been over the threshold for at least as long as it is over it now.
fn lag(seen: &Seen, over: Duration, now: DateTime<Utc>) -> Option<Vec<Met>> {
    let behind = seen.behind?;
    let Some(beyond) = behind.checked_sub(over) else { return Some(Vec::new()) };
    let since = TimeDelta::from_std(beyond).ok().and_then(|beyond| now.checked_sub_signed(beyond));
    let why = seen.why.as_ref().map(|why| format!(": {why}")).unwrap_or_default();
    let what = format!("{} s behind{why}", behind.as_secs());
    Some(vec![Met::new(what, since, format!("moorage lag {}", seen.pipeline))])
}

fn not_running(pipeline: &str, stands: &Stands) -> Option<Met> {
    match stands {
        Stands::Runs => None,
        Stands::Retries { since, why } => {
            let next = format!("moorage status {pipeline}");
            Some(Met::new(format!("it tries again: {why}"), Some(*since), next))
        }
        Stands::Stopped { since, why } => {
            let next = format!("moorage run {pipeline}");
            Some(Met { always: since.is_none(), ..Met::new(why, *since, next) })
        }
    }
}

/// By table, with all that it waits for.
fn undecided(seen: &Seen) -> Option<Vec<Met>> {
    let mut all: Vec<Met> = Vec::new();
    for waits in seen.undecided.as_ref()? {
        let what = format!("waits for a decision: {}", waits.what);
        match all.iter_mut().find(|met| met.table.as_ref() == Some(&waits.table)) {
            Some(met) => {
                met.what = format!("{}; {}", met.what, waits.what);
                met.since = met.since.min(Some(waits.since));
            }
            None => all.push(Met {
                table: Some(waits.table.clone()),
                ..Met::new(
                    what,
                    Some(waits.since),
                    format!("moorage drift show {} --pipeline {}", waits.id, seen.pipeline),
                )
            }),
        }
    }
    Some(all)
}

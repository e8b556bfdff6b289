//! From what is seen and what is remembered to what is told: [`step`].
//!
//! | condition | lasted | raised | told again | |
//! |---|---|---|---|---|
//! | met | shorter than `for` | no | | nothing; since when is remembered |
//! | met | `for` or longer | no | | told: raised |
//! | met | | yes | `repeat_every` ago or longer | told: repeated |
//! | not met | gone for shorter than `clear_after` | yes | | nothing; it is still raised |
//! | not met | gone for longer | yes | | told: cleared |
//! | not met | | no | | forgotten |
//! | not known | | | | all stays as it is |

use super::conditions::{Met, met};
use super::seen::{DriftSeen, Seen};
use crate::project::alert::{AlertRule, Condition};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::time::Duration;

/// What an alert is about.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct Key {
    /// The rule's name.
    pub alert: String,
    /// The pipeline.
    pub pipeline: String,
    /// The source table, where it is about one.
    pub table: Option<String>,
}

/// How an alert stands that is raised, or will be if it lasts.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Standing {
    /// Since when its condition is met.
    pub since: DateTime<Utc>,
    /// When it was raised; none if it is not yet.
    pub raised_at: Option<DateTime<Utc>>,
    /// When it was last told.
    pub told_at: Option<DateTime<Utc>>,
    /// Since when its condition is not met any more, while it is not cleared.
    pub gone_at: Option<DateTime<Utc>>,
    /// What is wrong.
    pub what: String,
    /// What to do next.
    pub next: String,
}

/// What is remembered of the alerts of one pipeline.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Memory {
    /// Those that are raised, or will be.
    pub standings: Vec<(Key, Standing)>,
    /// The number of the last change of structure that was told of.
    pub drift: Option<u64>,
    /// What of it was carried, and since when nothing more.
    pub progress: Option<(u64, DateTime<Utc>)>,
}

/// What is said of an alert.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Said {
    /// It is raised now.
    Raised,
    /// It is still raised.
    Repeated,
    /// It is not raised any more.
    Cleared,
    /// Something happened that is no state.
    Happened,
    /// Nothing: someone wants to see whether it arrives.
    Test,
}

impl Said {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Raised => "raised",
            Self::Repeated => "repeated",
            Self::Cleared => "cleared",
            Self::Happened => "happened",
            Self::Test => "test",
        }
    }
}

/// A message for the receivers of an alert.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Notice {
    /// What it is about.
    #[serde(flatten)]
    pub key: Key,
    /// The word for its condition.
    pub condition: String,
    /// What is said.
    pub said: Said,
    /// What is, or was, wrong.
    pub what: String,
    /// Since when.
    pub since: DateTime<Utc>,
    /// When it is said.
    pub at: DateTime<Utc>,
    /// What to do next: a command.
    pub next: String,
    /// What changed in a structure, of an alert about that.
    pub drift: Option<DriftSeen>,
}

/// How far back a change of structure is told of where nothing is remembered.
const DRIFT_FROM: Duration = Duration::from_secs(600);

/// Whether this much time has passed. A clock that was set back makes it none.
fn passed(since: DateTime<Utc>, now: DateTime<Utc>, time: Duration) -> bool {
    (now - since).to_std().unwrap_or_default() >= time
}

/// Looks at what is seen of a pipeline, and says what is told now.
pub fn step(memory: &mut Memory, rules: &[AlertRule], seen: &Seen, now: DateTime<Utc>) -> Vec<Notice> {
    let of: Vec<&AlertRule> = rules.iter().filter(|rule| rule.is_of(&seen.pipeline)).collect();
    // It changes all the time: it is remembered only where it is asked for.
    let is_asked = of.iter().any(|rule| rule.condition == Condition::NoProgress);
    let still_since = if is_asked { carried(memory, seen, now) } else { None };
    let mut before: BTreeMap<Key, Standing> = std::mem::take(&mut memory.standings).into_iter().collect();
    let mut notices = Vec::new();
    for rule in of {
        let key =
            |table: Option<String>| Key { alert: rule.name.clone(), pipeline: seen.pipeline.clone(), table };
        let is_known = met(rule, seen, still_since, now);
        for met in is_known.iter().flatten() {
            let key = key(met.table.clone());
            let (standing, said) = met_now(rule, before.remove(&key), met, now);
            notices.extend(said.map(|said| notice(rule, &key, &standing, said, now)));
            memory.standings.push((key, standing));
        }
        // What is left of this rule was met before and is not any more, or it is not known.
        let mine: Vec<Key> = before.keys().filter(|key| key.alert == rule.name).cloned().collect();
        for key in mine {
            let Some(standing) = before.remove(&key) else { continue };
            if is_known.is_none() {
                memory.standings.push((key, standing));
            } else if let Some(standing) = still_raised(rule, &standing, now) {
                memory.standings.push((key, standing));
            } else if standing.raised_at.is_some() {
                notices.push(notice(rule, &key, &standing, Said::Cleared, now));
            }
        }
        if rule.condition == Condition::Drift {
            notices.extend(happened(rule, memory.drift, seen, now));
        }
    }
    if let Some(drift) = &seen.drift {
        memory.drift = Some(drift.iter().map(|drift| drift.id).max().unwrap_or(0));
    }
    notices
}

/// Remembers whether anything was carried since the last time; gives when it last was, if that is known.
fn carried(memory: &mut Memory, seen: &Seen, now: DateTime<Utc>) -> Option<DateTime<Utc>> {
    let progress = seen.progress?;
    let known = memory.progress.filter(|(before, _)| *before == progress);
    let (_, since) = *memory.progress.insert(known.unwrap_or((progress, now)));
    Some(since)
}

/// What becomes of an alert whose condition is met, and what is said of it.
fn met_now(
    rule: &AlertRule,
    before: Option<Standing>,
    met: &Met,
    now: DateTime<Utc>,
) -> (Standing, Option<Said>) {
    let known = before.as_ref().map(|standing| standing.since);
    let since = [known, met.since].into_iter().flatten().min().unwrap_or(now);
    let (raised_at, told_at) = before.map_or((None, None), |standing| (standing.raised_at, standing.told_at));
    let mut standing =
        Standing { since, raised_at, told_at, gone_at: None, what: met.what.clone(), next: met.next.clone() };
    let again = rule.repeat_every.zip(told_at).is_some_and(|(every, told)| passed(told, now, every));
    let said = match raised_at {
        None if met.always || passed(since, now, rule.lasting) => Some(Said::Raised),
        Some(_) if again => Some(Said::Repeated),
        _ => None,
    };
    if said.is_some() {
        (standing.raised_at, standing.told_at) = (raised_at.or(Some(now)), Some(now));
    }
    (standing, said)
}

/// An alert whose condition is not met any more, if it stays raised for a while.
fn still_raised(rule: &AlertRule, standing: &Standing, now: DateTime<Utc>) -> Option<Standing> {
    let gone = standing.gone_at.unwrap_or(now);
    let stays = standing.raised_at.is_some() && !passed(gone, now, rule.clear_after);
    stays.then(|| Standing { gone_at: Some(gone), ..standing.clone() })
}

fn notice(rule: &AlertRule, key: &Key, standing: &Standing, said: Said, now: DateTime<Utc>) -> Notice {
    Notice {
        key: key.clone(),
        condition: rule.condition.word().into(),
        said,
        what: standing.what.clone(),
        since: standing.since,
        at: now,
        next: standing.next.clone(),
        drift: None,
    }
}

/// Changes of structure that nobody was told of.
fn happened(rule: &AlertRule, told: Option<u64>, seen: &Seen, now: DateTime<Utc>) -> Vec<Notice> {
    let Some(drift) = &seen.drift else { return Vec::new() };
    // Numbers begin anew with a pipeline that was set up anew.
    let told = told.filter(|told| drift.last().is_some_and(|last| last.id >= *told));
    let is_new = |drift: &&DriftSeen| match told {
        Some(told) => drift.id > told,
        None => !passed(drift.at, now, DRIFT_FROM),
    };
    let meant = drift.iter().filter(is_new).filter(|drift| rule.is_of_table(&drift.table));
    let notice = |drift: &DriftSeen| Notice {
        key: Key {
            alert: rule.name.clone(),
            pipeline: seen.pipeline.clone(),
            table: Some(drift.table.clone()),
        },
        condition: rule.condition.word().into(),
        said: Said::Happened,
        what: format!("{}: {}", drift.what, drift.done),
        since: drift.at,
        at: now,
        next: format!("moorage drift show {} --pipeline {}", drift.id, seen.pipeline),
        drift: Some(drift.clone()),
    };
    meant.map(notice).collect()
}

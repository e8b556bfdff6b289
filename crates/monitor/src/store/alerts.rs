//! What is remembered of alerts, and messages that wait to be sent.

use super::base::StateStore;
use crate::error::Result;
use chrono::{DateTime, TimeDelta, Utc};
use moorage_core::project::alert::{AlertRule, LOG};
use moorage_core::watch::alerts::seen::Seen;
use moorage_core::watch::alerts::step::{Memory, Notice, Said, step};
use rusqlite::{Connection, OptionalExtension, Row, params};
use serde::Serialize;
use std::time::Duration;

/// How many messages may wait for a receiver. More are lost, the oldest first, and counted.
const MOST_WAITING: u32 = 1_000;
/// How old a message may become.
const OLDEST: TimeDelta = TimeDelta::days(1);
/// How many notices are remembered for reports, of all pipelines.
const KEPT_NOTICES: u32 = 2_000;
/// Characters of what is told, beyond which it is cut: what comes from servers may be of any length.
const LONGEST: usize = 500;
/// The longest pause between two tries.
const LONGEST_PAUSE_MS: i64 = 60_000;

/// A message that waits to be sent.
#[derive(Clone, Debug)]
pub struct Waiting {
    /// Its place.
    pub(crate) place: i64,
    /// Its number, the same however often it is sent.
    pub id: String,
    /// What is said.
    pub notice: Notice,
    /// How often it was tried.
    pub tries: u32,
}

/// How a receiver stands.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct ReceiverStanding {
    /// How many messages wait for it.
    pub waiting: u32,
    /// When the oldest of them was to be sent, RFC 3339.
    pub waiting_since: Option<String>,
    /// When it last took one, RFC 3339.
    pub taken_at: Option<String>,
    /// What it answered then.
    pub answer: Option<String>,
    /// Since when it takes none, RFC 3339; none if it took the last one.
    pub failing_since: Option<String>,
    /// Why not.
    pub problem: Option<String>,
    /// How many messages were given up.
    pub lost: u32,
}

fn cut(text: &str) -> String {
    match text.char_indices().nth(LONGEST) {
        Some((at, _)) => format!("{}…", &text[..at]),
        None => text.into(),
    }
}

fn memory_of(db: &Connection, pipeline: &str) -> rusqlite::Result<Memory> {
    let sql = "SELECT content FROM alert_memory WHERE pipeline = ?1";
    let found: Option<String> = db.query_row(sql, [pipeline], |r| r.get(0)).optional()?;
    // What an earlier or later version wrote otherwise is begun anew.
    Ok(found.and_then(|content| serde_json::from_str(&content).ok()).unwrap_or_default())
}

impl StateStore {
    /// What is remembered of the alerts of a pipeline.
    ///
    /// # Errors
    /// If the store cannot be read.
    pub fn alert_memory(&self, pipeline: &str) -> Result<Memory> {
        memory_of(&self.db(), pipeline).map_err(|e| self.failed(&e))
    }

    /// Looks at what is seen of a pipeline, remembers what came of it, and queues what is to be sent, all or nothing: whoever else
    /// looks at the same time tells nothing twice. Gives what is said now.
    ///
    /// # Errors
    /// If the store cannot be read or written.
    pub fn alert_step(&self, rules: &[AlertRule], seen: &Seen, now: DateTime<Utc>) -> Result<Vec<Notice>> {
        let mut memory = self.alert_memory(&seen.pipeline)?;
        let before = memory.clone();
        // Mostly nothing has changed, and nothing is to be written.
        if step(&mut memory, rules, seen, now).is_empty() && memory == before {
            return Ok(Vec::new());
        }
        let stepped = self.in_transaction(|db| {
            let mut memory = memory_of(db, &seen.pipeline)?;
            let mut notices = step(&mut memory, rules, seen, now);
            let content = serde_json::to_string(&memory).unwrap_or_default();
            db.execute(
                "INSERT OR REPLACE INTO alert_memory (pipeline, content) VALUES (?1, ?2)",
                params![seen.pipeline, content],
            )?;
            for notice in &mut notices {
                notice.what = cut(&notice.what);
                let rule = rules.iter().find(|rule| rule.name == notice.key.alert);
                let to = rule.iter().flat_map(|rule| &rule.to).filter(|to| *to != LOG);
                to.into_iter().try_for_each(|to| queue(db, to, notice))?;
                log(db, notice)?;
            }
            Ok(notices)
        });
        stepped.map_err(|e| self.failed(&e))
    }

    /// Whether there is a message for a receiver that it is time to send, and that nobody is at.
    ///
    /// # Errors
    /// If the store cannot be read.
    pub(crate) fn has_message(&self, receiver: &str, now: DateTime<Utc>) -> Result<bool> {
        let first = first_due(&self.db(), receiver, now).map_err(|e| self.failed(&e))?;
        Ok(first.is_some())
    }

    /// The oldest message for a receiver, if it is time to send it and nobody else is at it; it is ours for this time.
    ///
    /// # Errors
    /// If the store cannot be read or written.
    pub(crate) fn claim_message(
        &self,
        receiver: &str,
        now: DateTime<Utc>,
        time: Duration,
    ) -> Result<Option<Waiting>> {
        if !self.has_message(receiver, now)? {
            return Ok(None);
        }
        let until =
            now.timestamp_millis().saturating_add(i64::try_from(time.as_millis()).unwrap_or(i64::MAX));
        let claimed = self.in_transaction(|db| {
            let Some((place, id, notice, tries)) = first_due(db, receiver, now)? else { return Ok(None) };
            let Ok(notice) = serde_json::from_str(&notice) else {
                // A later version's: nobody here can send it.
                db.execute("DELETE FROM alert_messages WHERE id = ?1", [place])?;
                return Ok(None);
            };
            db.execute("UPDATE alert_messages SET claimed_until = ?2 WHERE id = ?1", params![place, until])?;
            Ok(Some(Waiting { place, id, notice, tries }))
        });
        claimed.map_err(|e| self.failed(&e))
    }

    /// Notes what came of sending a message.
    pub fn message_sent(
        &self,
        receiver: &str,
        message: &Waiting,
        sent: &std::result::Result<String, String>,
        now: DateTime<Utc>,
    ) {
        self.note(self.in_transaction(|db| {
            let at = now.to_rfc3339();
            db.execute("INSERT OR IGNORE INTO alert_receivers (name) VALUES (?1)", [receiver])?;
            match sent {
                Ok(answer) => {
                    db.execute("DELETE FROM alert_messages WHERE id = ?1", [message.place])?;
                    let sql = "UPDATE alert_receivers SET taken_at = ?2, answer = ?3, failing_since = NULL, problem = NULL WHERE name = ?1";
                    db.execute(sql, params![receiver, at, cut(answer)])
                }
                Err(problem) => {
                    let pause = (500_i64 << message.tries.min(10)).min(LONGEST_PAUSE_MS);
                    let next = now.timestamp_millis() + pause;
                    let sql = "UPDATE alert_messages SET tries = tries + 1, next_at = ?2, claimed_until = 0 WHERE id = ?1";
                    db.execute(sql, params![message.place, next])?;
                    let sql = "UPDATE alert_receivers SET failing_since = coalesce(failing_since, ?2), problem = ?3 WHERE name = ?1";
                    db.execute(sql, params![receiver, at, cut(problem)])?;
                    let oldest = (now - OLDEST).to_rfc3339();
                    let gone = db.execute("DELETE FROM alert_messages WHERE receiver = ?1 AND at < ?2", params![receiver, oldest])?;
                    lose(db, receiver, gone)
                }
            }
        }));
    }

    /// How a receiver stands.
    ///
    /// # Errors
    /// If the store cannot be read.
    pub fn receiver_standing(&self, receiver: &str) -> Result<ReceiverStanding> {
        let sql = "SELECT (SELECT count(*) FROM alert_messages WHERE receiver = ?1), (SELECT min(at) FROM alert_messages WHERE receiver = ?1),
          taken_at, answer, failing_since, problem, coalesce(lost, 0) FROM (SELECT 1) LEFT JOIN alert_receivers ON name = ?1";
        let read = |r: &Row<'_>| {
            Ok(ReceiverStanding {
                waiting: r.get(0)?,
                waiting_since: r.get(1)?,
                taken_at: r.get(2)?,
                answer: r.get(3)?,
                failing_since: r.get(4)?,
                problem: r.get(5)?,
                lost: r.get(6)?,
            })
        };
        self.db().query_row(sql, [receiver], read).map_err(|e| self.failed(&e))
    }

    /// What was said of a pipeline's alerts in a stretch of time, in order.
    ///
    /// # Errors
    /// If the store cannot be read.
    pub fn notices(&self, pipeline: &str, from: DateTime<Utc>, to: DateTime<Utc>) -> Result<Vec<Notice>> {
        let sql =
            "SELECT notice FROM alert_notices WHERE pipeline = ?1 AND at >= ?2 AND at <= ?3 ORDER BY id";
        let bounds = params![pipeline, from.timestamp_millis(), to.timestamp_millis()];
        let read = |r: &Row<'_>| Ok(serde_json::from_str(&r.get::<_, String>(0)?).ok());
        Ok(self.all(sql, bounds, read)?.into_iter().flatten().collect())
    }
}

/// Place, number, content and tries of the oldest message for a receiver, if it is to be sent now.
fn first_due(
    db: &Connection,
    receiver: &str,
    now: DateTime<Utc>,
) -> rusqlite::Result<Option<(i64, String, String, u32)>> {
    let sql = "SELECT id, uid, notice, tries, next_at, claimed_until FROM alert_messages WHERE receiver = ?1 ORDER BY id LIMIT 1";
    let now = now.timestamp_millis();
    let read = |r: &Row<'_>| {
        let (next_at, claimed_until): (i64, i64) = (r.get(4)?, r.get(5)?);
        // A clock that was set back is no reason to wait for it.
        let is_due = next_at <= now || next_at > now + 2 * LONGEST_PAUSE_MS;
        let is_free = claimed_until <= now || claimed_until > now + 10 * LONGEST_PAUSE_MS;
        let message = (r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?);
        Ok((is_due && is_free).then_some(message))
    };
    Ok(db.prepare_cached(sql)?.query_row([receiver], read).optional()?.flatten())
}

/// Puts a message behind the others of its receiver. That something is still so is not said while that waits to be said.
fn queue(db: &Connection, receiver: &str, notice: &Notice) -> rusqlite::Result<()> {
    let key = serde_json::to_string(&notice.key).unwrap_or_default();
    if notice.said == Said::Repeated {
        let sql = "SELECT count(*) FROM alert_messages WHERE receiver = ?1 AND about = ?2";
        let waits: i64 = db.query_row(sql, params![receiver, key], |r| r.get(0))?;
        if waits > 0 {
            return Ok(());
        }
    }
    let content = serde_json::to_string(notice).unwrap_or_default();
    let sql = "INSERT INTO alert_messages (uid, receiver, about, at, notice, tries, next_at, claimed_until) VALUES (?1, ?2, ?3, ?4, ?5, 0, 0, 0)";
    db.execute(
        sql,
        params![uuid::Uuid::new_v4().to_string(), receiver, key, notice.at.to_rfc3339(), content],
    )?;
    let sql = "DELETE FROM alert_messages WHERE receiver = ?1 AND id <= (SELECT id FROM alert_messages WHERE receiver = ?1 ORDER BY id DESC LIMIT 1 OFFSET ?2)";
    let gone = db.execute(sql, params![receiver, MOST_WAITING])?;
    lose(db, receiver, gone).map(drop)
}

fn lose(db: &Connection, receiver: &str, gone: usize) -> rusqlite::Result<usize> {
    if gone > 0 {
        db.execute("INSERT OR IGNORE INTO alert_receivers (name) VALUES (?1)", [receiver])?;
        db.execute("UPDATE alert_receivers SET lost = lost + ?2 WHERE name = ?1", params![receiver, gone])?;
    }
    Ok(gone)
}

fn log(db: &Connection, notice: &Notice) -> rusqlite::Result<()> {
    let content = serde_json::to_string(notice).unwrap_or_default();
    let said = params![notice.key.pipeline, notice.at.timestamp_millis(), content];
    db.execute("INSERT INTO alert_notices (pipeline, at, notice) VALUES (?1, ?2, ?3)", said)?;
    let sql = "DELETE FROM alert_notices WHERE id <= (SELECT id FROM alert_notices ORDER BY id DESC LIMIT 1 OFFSET ?1)";
    db.execute(sql, [KEPT_NOTICES]).map(drop)
}

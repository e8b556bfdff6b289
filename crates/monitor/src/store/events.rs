//! What happened in runs, in order.

use super::base::StateStore;
use crate::error::Result;
use chrono::Utc;
use moorage_adapter::Event;
use rusqlite::{Row, params};
use serde::Serialize;

/// How many events of a pipeline are remembered: with [`LONGEST`] at most 20 MiB.
const KEPT_EVENTS: i64 = 5_000;
/// Bytes of an event, as JSON, beyond which only its beginning is kept as a warning.
const LONGEST: usize = 4096;

/// How much an event matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Severity {
    /// It was to be expected.
    Info,
    /// Someone should know.
    Warning,
}

impl Severity {
    fn word(self) -> &'static str {
        match self {
            Self::Info => "info",
            Self::Warning => "warning",
        }
    }

    /// Of an event; none if it is not kept, because it comes all the time.
    pub fn of(event: &Event) -> Option<Self> {
        match event {
            Event::SnapshotRows { .. } | Event::Merged { .. } | Event::Comparing { .. } => None,
            Event::Waiting { .. } | Event::FirstRowReadable { .. } => None,
            Event::Warning { .. } | Event::Retrying { .. } | Event::TableLeftOut { .. } => {
                Some(Self::Warning)
            }
            Event::Prepared { .. }
            | Event::SnapshotStarted { .. }
            | Event::SnapshotFinished { .. }
            | Event::ReadingAgain { .. }
            | Event::ReadAgain { .. }
            | Event::Streaming { .. }
            | Event::Stopping { .. }
            | Event::Tidied { .. }
            | Event::StructureChanged { .. } => Some(Self::Info),
        }
    }
}

/// An event of a run.
#[derive(Clone, Debug, Serialize)]
pub struct RunEvent {
    /// Its number: later ones have higher ones.
    pub id: i64,
    /// The run.
    pub run: i64,
    /// When, RFC 3339.
    pub at: String,
    /// How much it matters.
    pub severity: Severity,
    /// What.
    pub what: Event,
}

impl RunEvent {
    fn read(r: &Row<'_>) -> rusqlite::Result<Self> {
        let severity = match r.get_ref(3)?.as_str()? {
            "warning" => Severity::Warning,
            _ => Severity::Info,
        };
        let text = r.get_ref(4)?.as_str()?;
        // An event of a later version is shown as it was written.
        let what = serde_json::from_str(text).unwrap_or_else(|_| Event::Warning { message: text.into() });
        Ok(Self { id: r.get(0)?, run: r.get(1)?, at: r.get(2)?, severity, what })
    }
}

impl StateStore {
    /// Keeps an event of a run, if it is one that is kept.
    pub fn keep_event(&self, pipeline: &str, run: i64, event: &Event) {
        let Some(severity) = Severity::of(event) else { return };
        let Ok(mut text) = serde_json::to_string(event) else { return };
        if text.len() > LONGEST {
            let message = text.chars().take(LONGEST / 4).chain(['…']).collect();
            text = serde_json::to_string(&Event::Warning { message }).unwrap_or_default();
        }
        let db = self.db();
        let sql = "INSERT INTO events (pipeline, run, at, severity, event) VALUES (?1, ?2, ?3, ?4, ?5)";
        self.note(db.execute(sql, params![pipeline, run, Utc::now().to_rfc3339(), severity.word(), text]));
        let sql = "DELETE FROM events WHERE pipeline = ?1 AND id <= (SELECT id FROM events WHERE pipeline = ?1 ORDER BY id DESC LIMIT 1 OFFSET ?2)";
        self.note(db.execute(sql, params![pipeline, KEPT_EVENTS]));
    }

    /// The events of a run, in their order.
    ///
    /// # Errors
    /// If the store cannot be read.
    pub fn events_of_run(&self, run: i64) -> Result<Vec<RunEvent>> {
        let sql = "SELECT id, run, at, severity, event FROM events WHERE run = ?1 ORDER BY id";
        self.all(sql, params![run], RunEvent::read)
    }
}

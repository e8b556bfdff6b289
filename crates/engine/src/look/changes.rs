//! Following a table's changes for people, beside the pipeline.

use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::{EngineError, Result};
use crate::pipeline::select::find_table;
use chrono::{DateTime, Utc};
use moorage_adapter::{ChangeStream, TailFrom};
use moorage_core::Position;
use moorage_core::change::describe::{CapturedChange, describe};

/// Changes of one table as they are captured.
pub struct ChangeFeed {
    stream: Box<dyn ChangeStream>,
    /// The source table.
    pub table: String,
    /// The position behind which it begins.
    pub from: Position,
    since: Option<DateTime<Utc>>,
}

/// Reads where to begin: `now`, `start`, a position of the source, or a time as in RFC 3339.
///
/// # Errors
/// If it is none of these.
pub fn parse_from(pipeline: &Pipeline, text: &str) -> Result<TailFrom> {
    Ok(match text {
        "now" => TailFrom::Now,
        "start" => TailFrom::Start,
        _ => match (DateTime::parse_from_rfc3339(text), pipeline.source.parse_position(text)) {
            (Ok(at), _) => TailFrom::Time(at.to_utc()),
            (_, Some(position)) => TailFrom::Behind(position),
            _ => return Err(EngineError::NotABeginning { text: text.into() }),
        },
    })
}

/// Begins to follow a table's changes. The pipeline's own position does not move.
///
/// # Errors
/// If the table is not the pipeline's, or the source does not have changes from there on.
pub async fn changes(pipeline: &Pipeline, table: &str, from: &TailFrom) -> Result<ChangeFeed> {
    let stored = pipeline.target.tables(&pipeline.name).await?;
    let plan = find_table(pipeline, &stored, table)?.plan.clone();
    let checkpoint = pipeline.target.checkpoint(&pipeline.name).await?;
    let never = || EngineError::NeverRun { pipeline: pipeline.name.clone() };
    checkpoint.filter(|c| !c.position.is_empty()).ok_or_else(never)?;
    let capture = pipeline.known_capture().await?;
    let tail = pipeline.source.tail(&capture, std::slice::from_ref(&plan), from).await?;
    let since = match from {
        TailFrom::Time(at) => Some(*at),
        _ => None,
    };
    Ok(ChangeFeed { stream: tail.stream, table: plan.table().to_string(), from: tail.from, since })
}

impl ChangeFeed {
    /// The next changes. Waits for as long as there are none. May be cancelled without loss.
    ///
    /// # Errors
    /// If the source is lost, or the table's structure changes.
    pub async fn next(&mut self) -> Result<Vec<CapturedChange>> {
        loop {
            let segment = self.stream.next().await?;
            let wanted = |c: &CapturedChange| self.since.is_none_or(|since| c.committed_at >= since);
            let found: Vec<_> = segment.segment.blocks.iter().flat_map(describe).filter(wanted).collect();
            if !found.is_empty() {
                return Ok(found);
            }
        }
    }
}

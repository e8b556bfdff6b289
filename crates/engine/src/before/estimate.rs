//! How long a snapshot will take, from a short measured read.

use super::draft::Draft;
use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::Result;
use moorage_adapter::{Surveyed, TableState};
use moorage_core::plan::table::TablePlan;
use serde::Serialize;
use std::time::{Duration, Instant};

/// How many tables are read for a moment to tell how long the snapshot will take: the largest ones.
const MEASURED_TABLES: usize = 4;

/// How many rows are read of each.
const MEASURED_ROWS: usize = 20_000;

/// No new table is begun after this.
const MEASURED_FOR: Duration = Duration::from_millis(800);

/// How long reading a snapshot will take, from a short measured read.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct Estimate {
    /// Tables whose snapshot is still to be read.
    pub tables: u64,
    /// About how many rows they have.
    pub rows: u64,
    /// About their size in the source in bytes, as far as it is known.
    pub bytes: u64,
    /// Rows of one connection in a second, as measured.
    pub rows_per_second: u64,
    /// How many connections will read.
    pub connections: u64,
    /// About how long it will take, in milliseconds, if the target keeps up.
    pub elapsed_ms: u64,
}

/// Measures the source for a moment; nothing where there is nothing to read or to measure.
///
/// # Errors
/// If the source cannot be read.
pub async fn estimate(pipeline: &Pipeline, draft: &Draft) -> Result<Option<Estimate>> {
    let loaded = |s: &Surveyed| s.state.is_some_and(|state| !state.is_unread() && state != TableState::Gone);
    let mut missing: Vec<(&TablePlan, u64, u64)> = draft
        .plan
        .tables
        .iter()
        .zip(&draft.surveyed)
        .filter(|(_, s)| !loaded(s))
        .map(|(t, _)| {
            let source = draft.source_table(t);
            let rows = source.and_then(|s| s.row_estimate).unwrap_or(0);
            (t, rows, source.and_then(|s| s.bytes).unwrap_or(0))
        })
        .collect();
    missing.sort_by_key(|(_, rows, _)| std::cmp::Reverse(*rows));
    let rows: u64 = missing.iter().map(|m| m.1).sum();
    let begun = Instant::now();
    let (mut read, mut took) = (0, Duration::ZERO);
    for (table, ..) in missing.iter().take(MEASURED_TABLES).filter(|m| m.1 > 0) {
        if begun.elapsed() > MEASURED_FOR {
            break;
        }
        let began = Instant::now();
        read += pipeline.source.sample(table, MEASURED_ROWS).await?.num_rows();
        took += began.elapsed();
    }
    if read == 0 {
        return Ok(None);
    }
    let rows_per_second = (read as f64 / took.as_secs_f64().max(1e-6)) as u64;
    let connections = pipeline.connections.max(1) as u64;
    Ok(Some(Estimate {
        tables: missing.len() as u64,
        rows,
        bytes: missing.iter().map(|m| m.2).sum(),
        rows_per_second,
        connections,
        elapsed_ms: rows.saturating_mul(1000) / rows_per_second.max(1),
    }))
}

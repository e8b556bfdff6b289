//! What a pipeline is doing, from the target, the state store and the source; also while nothing runs.

use super::behind::{Behind, behind};
use super::problems::{Problem, problems};
use super::running::RunningNow;
use super::tables::{HeldStatus, TableStatus};
use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::Result;
use crate::run::holding;
use crate::run::standings::left_out;
use chrono::{DateTime, Utc};
use moorage_adapter::{LeftOut, MemoKind, StoredTable, TableState, Waiting};
use moorage_core::change::counters::Operations;
use moorage_core::checkpoint::stored::Stage;
use moorage_core::drift::record::{DriftRecord, DriftState};
use moorage_core::plan::table::TablePlan;
use moorage_core::watch::meter::TableTotals;
use moorage_monitor::{RunRecord, StateStore};
use serde::Serialize;
use std::collections::HashMap;
use std::time::{Duration, Instant};

/// A whole pipeline.
#[derive(Clone, Debug, Serialize)]
pub struct PipelineStatus {
    /// Its name.
    pub pipeline: String,
    /// Who runs it now.
    pub running: Option<RunningNow>,
    /// Its newest run.
    pub last_run: Option<RunRecord>,
    /// Whether anything was set up at all.
    pub stage: Option<Stage>,
    /// Whether it began without a snapshot.
    pub changes_only: bool,
    /// The checkpoint's position.
    pub position: Option<String>,
    /// The target is complete up to this source commit.
    pub complete_up_to: Option<DateTime<Utc>>,
    /// What waits in the source; none if it could not be asked.
    pub waiting: Option<Waiting>,
    /// What the source kept for this pipeline at the last look: when (RFC 3339), and how many bytes.
    pub kept_at_last_look: Option<(String, u64)>,
    /// Why the source could not be asked.
    pub source_problem: Option<String>,
    /// How far behind it is, and why.
    pub behind: Behind,
    /// What is wrong, the worst first.
    pub problems: Vec<Problem>,
    /// Its tables.
    pub tables: Vec<TableStatus>,
}

/// Whether rows in the target are counted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Counting {
    /// As far as that is quick: within this time for all tables together.
    Within(Duration),
    /// However long it takes.
    Exactly,
    /// Not, and what was seen is not remembered for the next look: a program asks again and again.
    No,
}

/// Looks at a pipeline. Changes nothing but the memory of this look.
///
/// # Errors
/// If the target or the state folder cannot be read. A source that cannot be reached is part of the answer.
pub async fn status(pipeline: &Pipeline, counting: Counting) -> Result<PipelineStatus> {
    let behind = behind(pipeline).await?;
    let state = StateStore::open(&pipeline.state_folder)?;
    let checkpoint = pipeline.target.checkpoint(&pipeline.name).await?;
    let stored = pipeline.target.tables(&pipeline.name).await?;
    let records = match stored.iter().any(|s| s.state == TableState::Held) {
        true => holding::records(&pipeline.target.memos(&pipeline.name, MemoKind::Structure).await?)?,
        false => Vec::new(),
    };
    let totals: HashMap<String, TableTotals> = state.published_tables(&pipeline.name)?.into_iter().collect();
    let counts = Counts::begin(pipeline, counting);
    let remembered = (counting != Counting::No).then_some(&state);
    let mut tables = Vec::new();
    for stored in stored {
        let held = match stored.state {
            TableState::Held => Some(held_status(pipeline, &records, &stored.plan.target).await?),
            _ => None,
        };
        let rows = counts.of(&stored.plan).await?;
        let table = table_status(pipeline, remembered, stored)?;
        let lag_us = totals.get(&table.table).filter(|t| t.committed_at.is_some()).map(|t| t.lag_us);
        let catching_up = table.state == TableState::Live && behind.is_catching_up();
        let percent = behind.percent_of(&table.table);
        tables.push(TableStatus { held, rows, lag_us, catching_up, percent, ..table });
    }
    // Where no run says how it stands, the source was asked already.
    let (mut waiting, mut source_problem) = (behind.waiting.clone(), behind.source_problem.clone());
    let is_asked = waiting.is_some() || source_problem.is_some();
    if let Some(checkpoint) = checkpoint.as_ref().filter(|c| c.stage == Stage::Following && !is_asked) {
        let waits = async {
            let capture = pipeline.capture(Some(checkpoint)).await?;
            pipeline.source.waiting(&capture, checkpoint).await
        };
        match waits.await {
            Ok(found) => waiting = Some(found),
            Err(error) => source_problem = Some(error.to_string()),
        }
    }
    let kept_at_last_look = match &waiting {
        Some(waiting) if counting != Counting::No => {
            state.look_at_kept(&pipeline.name, waiting.retained_bytes)?
        }
        _ => None,
    };
    let left_out = match &behind.last_run {
        Some(run) => left_out(&state.events_of_run(run.run)?),
        None => LeftOut::default(),
    };
    Ok(PipelineStatus {
        problems: problems(&behind, &tables, source_problem.as_deref(), left_out.tables()),
        kept_at_last_look,
        pipeline: pipeline.name.clone(),
        running: behind.running.clone(),
        last_run: behind.last_run.clone(),
        stage: checkpoint.as_ref().map(|c| c.stage),
        changes_only: checkpoint.as_ref().is_some_and(|c| c.changes_only),
        position: checkpoint.as_ref().map(|c| c.position.clone()).filter(|p| !p.is_empty()),
        complete_up_to: checkpoint.and_then(|c| c.committed_at),
        waiting,
        source_problem,
        behind,
        tables,
    })
}

/// Counts rows for as long as it is given time.
struct Counts<'a> {
    pipeline: &'a Pipeline,
    counting: Counting,
    until: Instant,
}

impl<'a> Counts<'a> {
    fn begin(pipeline: &'a Pipeline, counting: Counting) -> Self {
        let time = match counting {
            Counting::Within(time) => time,
            Counting::Exactly | Counting::No => Duration::ZERO,
        };
        Self { pipeline, counting, until: Instant::now() + time }
    }

    /// The rows of a target table; none if there is no time. What is broken off is given up by the target by itself.
    async fn of(&self, plan: &TablePlan) -> Result<Option<u64>> {
        let count = self.pipeline.target.count(plan);
        match self.counting {
            Counting::No => Ok(None),
            Counting::Exactly => Ok(Some(count.await?)),
            Counting::Within(_) => match tokio::time::timeout_at(self.until.into(), count).await {
                Ok(counted) => Ok(Some(counted?)),
                Err(_) => Ok(None),
            },
        }
    }
}

fn table_status(
    pipeline: &Pipeline,
    remembered: Option<&StateStore>,
    stored: StoredTable,
) -> Result<TableStatus> {
    let table = stored.plan.table().to_string();
    let now = stored.counters.read;
    let before = remembered.map(|state| state.look(&pipeline.name, &table, &now)).transpose()?.flatten();
    let since = before.map(|b| Operations {
        inserts: now.inserts.saturating_sub(b.inserts),
        updates: now.updates.saturating_sub(b.updates),
        deletes: now.deletes.saturating_sub(b.deletes),
        truncates: now.truncates.saturating_sub(b.truncates),
    });
    Ok(TableStatus {
        rows: None,
        percent: None,
        catching_up: false,
        lag_us: None,
        table,
        target: stored.plan.stands_in().into(),
        also: stored.plan.also.iter().map(|form| form.stands_in().into()).collect(),
        state: stored.state,
        snapshot_rows: stored.snapshot_rows,
        changes: stored.counters,
        since_last_look: since,
        last_change_at: stored.last_change_at,
        held: None,
    })
}

async fn held_status(pipeline: &Pipeline, records: &[DriftRecord], target: &str) -> Result<HeldStatus> {
    let waits = |r: &&DriftRecord| r.target == target && r.state == DriftState::Held;
    let waits: Vec<&DriftRecord> = records.iter().filter(waits).collect();
    let totals = holding::kept(pipeline, target).await?;
    Ok(HeldStatus {
        since: waits.iter().map(|r| r.seen_at).min(),
        waits_for: waits.iter().map(|r| r.id).collect(),
        detail: waits.iter().map(|r| r.detail.as_str()).collect::<Vec<_>>().join("; "),
        changes: totals.changes,
        bytes: totals.bytes,
    })
}

//! What a pipeline is doing, from the target, the state store and the source; also while nothing runs.

use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::Result;
use crate::pipeline::lock::PipelineLock;
use crate::pipeline::process::{Life, life};
use crate::run::holding;
use chrono::{DateTime, Utc};
use moorage_adapter::{Holder, MemoKind, StoredTable, TableState, Waiting};
use moorage_core::change::counters::{Operations, TableCounters};
use moorage_core::checkpoint::stored::Stage;
use moorage_core::drift::record::{DriftRecord, DriftState};
use moorage_monitor::{RunRecord, StateStore};
use serde::Serialize;

/// The process that runs a pipeline now.
#[derive(Clone, Debug, Serialize)]
pub struct RunningNow {
    /// Its number.
    pub pid: u32,
    /// Where it runs.
    pub host: String,
    /// Since when.
    pub since: DateTime<Utc>,
}

/// One table.
#[derive(Clone, Debug, Serialize)]
pub struct TableStatus {
    /// In the source.
    pub table: String,
    /// In the target.
    pub target: String,
    /// How far it has come.
    pub state: TableState,
    /// Rows in the target now.
    pub rows: u64,
    /// Rows that came by snapshot.
    pub snapshot_rows: u64,
    /// What was read and merged since.
    pub changes: TableCounters,
    /// What was added since the last look; none at the first.
    pub since_last_look: Option<Operations>,
    /// When the last change was merged, RFC 3339.
    pub last_change_at: Option<String>,
    /// What is kept of its changes until someone decides; none if they are merged.
    pub held: Option<HeldStatus>,
}

/// A table whose changes are kept until someone decides.
#[derive(Clone, Debug, Serialize)]
pub struct HeldStatus {
    /// Since when.
    pub since: Option<DateTime<Utc>>,
    /// Which changes of structure it waits for, by the numbers that `drift` gives them.
    pub waits_for: Vec<u64>,
    /// What they are, for people.
    pub detail: String,
    /// How many changes of rows are kept.
    pub changes: u64,
    /// Bytes of them.
    pub bytes: u64,
}

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
    /// Its tables.
    pub tables: Vec<TableStatus>,
}

/// The process that runs a pipeline now, if one does. Needs no source and no target.
pub fn running(pipeline: &Pipeline) -> Option<RunningNow> {
    PipelineLock::holder(&pipeline.state_folder, &pipeline.name).map(RunningNow::from)
}

/// The same, also for one that runs from another folder or machine.
pub(super) async fn running_anywhere(pipeline: &Pipeline) -> Option<RunningNow> {
    match running(pipeline) {
        Some(here) => Some(here),
        None => match pipeline.target.holder(&pipeline.name).await {
            Ok(held) => held.filter(|h| life(h) != Life::Gone).map(RunningNow::from),
            Err(_) => None,
        },
    }
}

impl From<Holder> for RunningNow {
    fn from(holder: Holder) -> Self {
        Self { pid: holder.pid, host: holder.host, since: holder.since }
    }
}

/// Looks at a pipeline. Changes nothing but the memory of this look.
///
/// # Errors
/// If the target or the state folder cannot be read. A source that cannot be reached is part of the answer.
pub async fn status(pipeline: &Pipeline) -> Result<PipelineStatus> {
    let state = StateStore::open(&pipeline.state_folder)?;
    let checkpoint = pipeline.target.checkpoint(&pipeline.name).await?;
    let stored = pipeline.target.tables(&pipeline.name).await?;
    let records = match stored.iter().any(|s| s.state == TableState::Held) {
        true => holding::records(&pipeline.target.memos(&pipeline.name, MemoKind::Structure).await?)?,
        false => Vec::new(),
    };
    let mut tables = Vec::new();
    for stored in stored {
        let held = match stored.state {
            TableState::Held => Some(held_status(pipeline, &records, &stored.plan.target).await?),
            _ => None,
        };
        tables.push(TableStatus { held, ..table_status(pipeline, &state, stored).await? });
    }
    let mut waiting = None;
    let mut source_problem = None;
    if let Some(checkpoint) = checkpoint.as_ref().filter(|c| c.stage == Stage::Following) {
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
        Some(waiting) => state.look_at_kept(&pipeline.name, waiting.retained_bytes)?,
        None => None,
    };
    Ok(PipelineStatus {
        kept_at_last_look,
        pipeline: pipeline.name.clone(),
        running: running_anywhere(pipeline).await,
        last_run: state.last_run(&pipeline.name)?,
        stage: checkpoint.as_ref().map(|c| c.stage),
        changes_only: checkpoint.as_ref().is_some_and(|c| c.changes_only),
        position: checkpoint.as_ref().map(|c| c.position.clone()).filter(|p| !p.is_empty()),
        complete_up_to: checkpoint.and_then(|c| c.committed_at),
        waiting,
        source_problem,
        tables,
    })
}

async fn table_status(pipeline: &Pipeline, state: &StateStore, stored: StoredTable) -> Result<TableStatus> {
    let table = stored.plan.table().to_string();
    let now = stored.counters.read;
    let before = state.look(&pipeline.name, &table, &now)?;
    let since = before.map(|b| Operations {
        inserts: now.inserts.saturating_sub(b.inserts),
        updates: now.updates.saturating_sub(b.updates),
        deletes: now.deletes.saturating_sub(b.deletes),
        truncates: now.truncates.saturating_sub(b.truncates),
    });
    Ok(TableStatus {
        rows: pipeline.target.count(&stored.plan.target).await?,
        table,
        target: stored.plan.target,
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

//! Changes of structure that were met, and deciding about those that are held.

use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::{EngineError, Result};
use crate::pipeline::lock::PipelineLock;
use crate::run::holding;
use moorage_adapter::{DependentView, MemoKind};
use moorage_core::TableName;
use moorage_core::drift::record::{DriftRecord, DriftState, RecordedColumn};
use moorage_core::model::drift::DriftPolicy;
use moorage_core::pick::pattern::shown_parts;
use moorage_monitor::StateStore;
use serde::Serialize;
use std::collections::HashMap;

/// A change of structure that was met.
#[derive(Clone, Debug, Serialize)]
pub struct SeenDrift {
    /// Its number.
    pub id: u64,
    /// The source table.
    pub table: String,
    /// The target table.
    pub target: String,
    /// What kinds of changes it was, by the words of the project file: `column_added, column_dropped`.
    pub kind: String,
    /// What changed, for people.
    pub detail: String,
    /// The position of the transaction that it took effect with.
    pub position: String,
    /// When that was committed, RFC 3339.
    pub committed_at: Option<String>,
    /// When it was met, RFC 3339.
    pub seen_at: String,
    /// What the project file says of such changes now, or what someone decided.
    pub policy: String,
    /// What became of it.
    pub state: DriftState,
    /// Whether the pipeline stands before it, because the project file says to stop.
    #[serde(skip)]
    pub stops: bool,
    /// How many changes of rows are held; of all changes of structure that the table waits for.
    pub held_changes: u64,
    /// Bytes of them.
    pub held_bytes: u64,
    /// The statements that were carried out in the target, or would be.
    pub statements: Vec<String>,
    /// The columns before.
    pub before: Vec<RecordedColumn>,
    /// The columns after.
    pub after: Vec<RecordedColumn>,
}

/// One of them, with what may be in the way of following it.
#[derive(Clone, Debug, Serialize)]
pub struct ShownDrift {
    /// The change.
    #[serde(flatten)]
    pub seen: SeenDrift,
    /// The views that read the target's table, of a change that waits.
    pub views: Vec<DependentView>,
}

impl SeenDrift {
    /// Whether it waits for a decision.
    pub fn waits(&self) -> bool {
        self.state == DriftState::Held
    }
}

/// What was met of drift, the oldest first; only of a table if one is named.
///
/// # Errors
/// If the target cannot be read.
pub async fn drift(pipeline: &Pipeline, table: Option<&str>) -> Result<Vec<SeenDrift>> {
    let memos = pipeline.target.memos(&pipeline.name, MemoKind::Structure).await?;
    let at = pipeline.target.checkpoint(&pipeline.name).await?.map(|checkpoint| checkpoint.position);
    let mut held = HashMap::new();
    let mut all = Vec::new();
    for record in holding::records(&memos)? {
        if table.is_some_and(|name| !goes_by(&record, name)) {
            continue;
        }
        let waits = record.state == DriftState::Held;
        if waits && !held.contains_key(&record.target) {
            held.insert(record.target.clone(), holding::kept(pipeline, &record.target).await?);
        }
        let totals = held.get(&record.target).filter(|_| waits).copied().unwrap_or_default();
        let position = record.position.clone();
        all.push(SeenDrift {
            kind: record.kinds.iter().map(|k| k.word()).collect::<Vec<_>>().join(", "),
            policy: policy(pipeline, &record),
            id: record.id,
            table: record.table,
            target: record.target,
            detail: record.detail,
            position: position.clone(),
            committed_at: record.committed_at.map(|at| at.to_rfc3339()),
            seen_at: record.seen_at.to_rfc3339(),
            state: record.state,
            // Behind it nothing was merged yet.
            stops: record.state == DriftState::Stopped && at.as_ref() == Some(&position),
            held_changes: totals.changes,
            held_bytes: totals.bytes,
            statements: record.statements,
            before: record.before,
            after: record.after,
        });
    }
    Ok(all)
}

fn goes_by(record: &DriftRecord, name: &str) -> bool {
    record.table == name || record.target == name || record.table.ends_with(&format!(".{name}"))
}

fn policy(pipeline: &Pipeline, record: &DriftRecord) -> String {
    if let Some(decision) = &record.decision {
        return decision.clone();
    }
    let (schema, name) = shown_parts(&record.table).unwrap_or_default();
    let policies = pipeline.config.picker().rule(&TableName::new(schema, name)).drift;
    let mut words: Vec<&str> = record.kinds.iter().map(|kind| policies.of(*kind).word()).collect();
    words.dedup();
    words.join(", ")
}

/// One of them.
///
/// # Errors
/// If there is none of this number.
pub async fn drift_of(pipeline: &Pipeline, id: u64) -> Result<ShownDrift> {
    let found = drift(pipeline, None).await?.into_iter().find(|seen| seen.id == id);
    let seen = found.ok_or_else(|| EngineError::UnknownDrift { id, pipeline: pipeline.name.clone() })?;
    let stored = pipeline.target.tables(&pipeline.name).await?;
    let plan = stored.iter().map(|stored| &stored.plan).find(|plan| plan.target == seen.target);
    let table = plan.map_or(seen.target.as_str(), |plan| plan.stands_in());
    let views = if seen.waits() { pipeline.target.views(table).await? } else { Vec::new() };
    Ok(ShownDrift { seen, views })
}

/// How decisions will be carried out.
#[derive(Clone, Debug)]
#[must_use]
pub enum Decides {
    /// By the next run.
    NextRun(Vec<u64>),
    /// By the process that runs the pipeline; [`decision_outcome`] tells when.
    Running(Vec<u64>),
}

/// Decides about changes that are held, or about all that are.
///
/// # Errors
/// If there is none of a number, or it is not held; nothing is decided then.
pub async fn decide(pipeline: &Pipeline, ids: Option<&[u64]>, decision: DriftPolicy) -> Result<Decides> {
    let all = drift(pipeline, None).await?;
    let ids: Vec<u64> = match ids {
        None => all.iter().filter(|seen| seen.waits()).map(|seen| seen.id).collect(),
        Some(ids) => ids.to_vec(),
    };
    for id in &ids {
        match all.iter().find(|seen| seen.id == *id) {
            None => return Err(EngineError::UnknownDrift { id: *id, pipeline: pipeline.name.clone() }),
            Some(seen) if !seen.waits() => {
                return Err(EngineError::NotHeld { id: *id, state: seen.state.word().into() });
            }
            Some(_) => {}
        }
    }
    let state = StateStore::open(&pipeline.state_folder)?;
    for id in &ids {
        state.ask_decision(&pipeline.name, *id, decision)?;
    }
    Ok(match PipelineLock::holder(&pipeline.state_folder, &pipeline.name) {
        Some(_) => Decides::Running(ids),
        None => Decides::NextRun(ids),
    })
}

/// What came of a decision: none as long as that is not known; otherwise empty if it was carried out, or why not.
///
/// # Errors
/// If the state folder cannot be read.
pub fn decision_outcome(pipeline: &Pipeline, id: u64) -> Result<Option<String>> {
    Ok(StateStore::open(&pipeline.state_folder)?.answer_to_decision(&pipeline.name, id)?)
}

//! What is kept beside the rows of a held table, in the commits of the batches around it: the source can let go of its log,
//! and nothing is lost with our own folder.
//!
//! Of each held table, under its target's name and a line break: totals; the changes of structure, from number 0 on; blocks
//! of changes as they were read, each behind the change of structure that it came behind. What was met of drift is kept
//! for people in records.

use crate::pipeline::ends::Pipeline;
use chrono::{DateTime, Utc};
use moorage_adapter::{AdapterError, Memo, MemoKind, Merge, Result};
use moorage_core::change::structure::Step;
use moorage_core::drift::alter::Alteration;
use moorage_core::drift::record::{DriftRecord, state_of};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// How much is kept of a held table.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct HeldTotals {
    /// Changes of rows.
    pub changes: u64,
    /// Bytes of them as they are kept.
    pub bytes: u64,
    /// The number of the next block.
    pub(super) next: u64,
    /// How many changes of structure.
    pub(super) steps: u32,
    /// The number of the last transaction in front of the batch that kept the last of it.
    #[serde(default)]
    pub(super) batch: u64,
    /// When the first of them was committed, by the source's clock; none if nothing is kept, or an earlier version kept it.
    #[serde(default)]
    pub first_at: Option<DateTime<Utc>>,
}

/// Begins the names of all that is kept of a table.
pub(crate) fn begin(target: &str) -> String {
    format!("{target}\n")
}

pub(super) fn step_name(target: &str, place: u32) -> String {
    format!("step {target}\n{place:06}")
}

fn record_name(id: u64) -> String {
    format!("drift {id:010}")
}

pub(super) fn unreadable(what: &str, error: impl ToString) -> AdapterError {
    AdapterError::Protocol {
        address: "what the target remembers".into(),
        what: format!("{what} cannot be read: {}", error.to_string()),
    }
}

pub(super) fn written(error: impl ToString) -> AdapterError {
    AdapterError::Io { doing: "writing down what is held".into(), reason: error.to_string() }
}

/// Reads totals as they are kept.
///
/// # Errors
/// If they are not.
pub(crate) fn read_totals(content: &[u8]) -> Result<HeldTotals> {
    serde_json::from_slice(content).map_err(|e| unreadable("how much is held", e))
}

/// How much is kept of a table.
///
/// # Errors
/// If the target cannot be read.
pub(crate) async fn kept(pipeline: &Pipeline, target: &str) -> Result<HeldTotals> {
    let found = pipeline.target.memo(&pipeline.name, MemoKind::Held, &begin(target)).await?;
    Ok(found.map(|content| read_totals(&content)).transpose()?.unwrap_or_default())
}

/// All records among the structure memos, oldest first.
///
/// # Errors
/// If one cannot be read.
pub(crate) fn records(memos: &[(String, Vec<u8>)]) -> Result<Vec<DriftRecord>> {
    let of = memos.iter().filter(|(name, _)| name.starts_with("drift "));
    of.map(|(_, content)| serde_json::from_slice(content).map_err(|e| unreadable("a record of drift", e)))
        .collect()
}

/// The changes of structure that are kept of a held table, among the structure memos, in order.
///
/// # Errors
/// If one cannot be read.
pub(crate) fn steps(memos: &[(String, Vec<u8>)], target: &str) -> Result<Vec<Arc<Step>>> {
    let begin = format!("step {}", begin(target));
    let of = memos.iter().filter(|(name, _)| name.starts_with(&begin));
    of.map(|(_, content)| {
        Step::from_bytes(content).map(Arc::new).map_err(|e| unreadable("a held change of structure", e))
    })
    .collect()
}

/// The memo that keeps a record.
pub(crate) fn record_memo(record: &DriftRecord) -> Result<Memo> {
    let content = serde_json::to_vec(record).map_err(written)?;
    Ok(Memo { kind: MemoKind::Structure, name: record_name(record.id), content: Some(content) })
}

pub(super) async fn one(merge: &mut dyn Merge, kind: MemoKind, name: &str) -> Result<Option<Vec<u8>>> {
    let found = merge.recall(kind, name, "").await?;
    Ok(found.into_iter().find(|(found, _)| found == name).map(|(_, content)| content))
}

/// Changes a record that is kept.
pub(crate) async fn amend(
    merge: &mut dyn Merge,
    id: u64,
    amend: impl FnOnce(&mut DriftRecord),
) -> Result<()> {
    let name = record_name(id);
    let Some(content) = one(merge, MemoKind::Structure, &name).await? else { return Ok(()) };
    let mut record: DriftRecord =
        serde_json::from_slice(&content).map_err(|e| unreadable("a record of drift", e))?;
    amend(&mut record);
    merge.remember(&[record_memo(&record)?]).await
}

/// Has a record say what became of its change.
pub(crate) async fn decided(
    merge: &mut dyn Merge,
    alteration: &Alteration,
    statements: Vec<String>,
    decision: Option<String>,
) -> Result<()> {
    let state = state_of(alteration);
    amend(merge, alteration.id, |record| {
        (record.state, record.statements, record.held_place) = (state, statements, None);
        record.decision = decision.or(record.decision.take());
    })
    .await
}

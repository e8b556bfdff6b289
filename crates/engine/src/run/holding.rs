//! What is kept beside the rows of a held table, in the commits of the batches around it: the source can let go of its log,
//! and nothing is lost with our own folder.
//!
//! Of each held table, under its target's name and a line break: totals; the changes of structure, from number 0 on; blocks
//! of changes as they were read, each behind the change of structure that it came behind. What was met of drift is kept
//! for people in records.

use crate::pipeline::ends::Pipeline;
use crate::pipeline::mappers::Mappers;
use moorage_adapter::{AdapterError, Memo, MemoKind, Merge, Result};
use moorage_core::apply::prepare::TableBatch;
use moorage_core::change::block::ChangeBlock;
use moorage_core::change::structure::Step;
use moorage_core::drift::alter::{Alteration, Then};
use moorage_core::drift::held::Release;
use moorage_core::drift::record::{DriftRecord, DriftState, state_of};
use moorage_core::plan::table::TablePlan;
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
    next: u64,
    /// How many changes of structure.
    steps: u32,
    /// Bytes of the last block, if others may be joined to it.
    #[serde(default)]
    last: u64,
}

/// Begins the names of all that is kept of a table.
pub(crate) fn begin(target: &str) -> String {
    format!("{target}\n")
}

fn step_name(target: &str, place: u32) -> String {
    format!("step {target}\n{place:06}")
}

fn record_name(id: u64) -> String {
    format!("drift {id:010}")
}

fn unreadable(what: &str, error: impl ToString) -> AdapterError {
    AdapterError::Protocol {
        address: "what the target remembers".into(),
        what: format!("{what} cannot be read: {}", error.to_string()),
    }
}

fn written(error: impl ToString) -> AdapterError {
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

async fn one(merge: &mut dyn Merge, kind: MemoKind, name: &str) -> Result<Option<Vec<u8>>> {
    let found = merge.recall(kind, name, "").await?;
    Ok(found.into_iter().find(|(found, _)| found == name).map(|(_, content)| content))
}

async fn totals(merge: &mut dyn Merge, target: &str) -> Result<Option<HeldTotals>> {
    one(merge, MemoKind::Held, &begin(target)).await?.map(|content| read_totals(&content)).transpose()
}

fn totals_memo(target: &str, totals: &HeldTotals) -> Result<Memo> {
    let content = serde_json::to_vec(totals).map_err(written)?;
    Ok(Memo { kind: MemoKind::Held, name: begin(target), content: Some(content) })
}

/// Keeps a change of structure of a held table; gives its place among them.
pub(crate) async fn keep_step(merge: &mut dyn Merge, alteration: &Alteration) -> Result<u32> {
    let target = &alteration.before.target;
    let mut totals = totals(merge, target).await?.unwrap_or_default();
    let (name, content) = (step_name(target, totals.steps), alteration.step.to_bytes().map_err(written)?);
    (totals.steps, totals.last) = (totals.steps + 1, 0);
    let step = Memo { kind: MemoKind::Structure, name, content: Some(content) };
    merge.remember(&[step, totals_memo(target, &totals)?]).await?;
    Ok(totals.steps - 1)
}

/// A block that has fewer bytes is joined with the next one.
const JOINED_BELOW: u64 = 8 << 10;

fn block_name(target: &str, totals: &HeldTotals) -> String {
    format!("{}{:06} {:012}", begin(target), totals.steps, totals.next)
}

/// What came of keeping changes.
#[must_use]
pub(crate) enum Kept {
    /// They are kept, or the table is not held any more.
    Done,
    /// There is no room: what was kept is gone.
    Full,
}

/// Keeps changes of a held table, `limit` bytes at most.
pub(crate) async fn keep(
    merge: &mut dyn Merge,
    plan: &TablePlan,
    blocks: Vec<ChangeBlock>,
    limit: u64,
) -> Result<Kept> {
    let target = &plan.target;
    let Some(mut totals) = totals(merge, target).await? else { return Ok(Kept::Done) };
    let mut memos = Vec::with_capacity(blocks.len() + 1);
    for block in blocks {
        totals.changes += block.len() as u64;
        // A batch of a change or two would take some kilobytes by itself.
        let before = match totals.last {
            1..JOINED_BELOW if memos.is_empty() => {
                totals.next -= 1;
                one(merge, MemoKind::Held, &block_name(target, &totals)).await?
            }
            _ => None,
        };
        let (replaced, block) = match before {
            Some(before) => {
                let read = ChangeBlock::from_bytes(block.schema().clone(), &before);
                let read = read.map_err(|e| unreadable("held changes", e))?;
                (before.len(), read.joined(&block).map_err(written)?)
            }
            None => (0, block),
        };
        let content = block.to_bytes().map_err(written)?;
        totals.bytes = totals.bytes + content.len() as u64 - replaced as u64;
        totals.last = content.len() as u64;
        let name = block_name(target, &totals);
        totals.next += 1;
        memos.push(Memo { kind: MemoKind::Held, name, content: Some(content) });
    }
    if totals.bytes > limit {
        clear(merge, target).await?;
        return Ok(Kept::Full);
    }
    memos.push(totals_memo(target, &totals)?);
    merge.remember(&memos).await?;
    Ok(Kept::Done)
}

/// Takes away all that is kept of a table.
pub(crate) async fn forget(merge: &mut dyn Merge, target: &str) -> Result<()> {
    for (kind, begin) in
        [(MemoKind::Held, begin(target)), (MemoKind::Structure, format!("step {}", begin(target)))]
    {
        loop {
            let found = merge.recall(kind, &begin, "").await?;
            if found.is_empty() {
                break;
            }
            let gone = found.into_iter().map(|(name, _)| Memo { kind, name, content: None });
            merge.remember(&gone.collect::<Vec<_>>()).await?;
        }
    }
    Ok(())
}

/// Takes away all that is kept of a table that is read again instead, and has its records say so.
pub(crate) async fn clear(merge: &mut dyn Merge, target: &str) -> Result<()> {
    forget(merge, target).await?;
    let mut after = String::new();
    loop {
        let found = merge.recall(MemoKind::Structure, "drift ", &after).await?;
        let Some((last, _)) = found.last() else { return Ok(()) };
        after.clone_from(last);
        for mut record in records(&found)? {
            if record.target == target && record.state == DriftState::Held {
                (record.state, record.held_place) = (DriftState::Rereading, None);
                merge.remember(&[record_memo(&record)?]).await?;
            }
        }
    }
}

/// Applies what was kept of a table, in order, and takes it away.
pub(crate) async fn release(merge: &mut dyn Merge, release: &Release) -> Result<()> {
    let Some((before, _)) = release.plans() else { return Ok(()) };
    let target = before.target.clone();
    if let Some(last) = release.alterations.last().filter(|_| release.rereads()) {
        // All of it is in what will be read.
        let (steps, then) = (Vec::new(), Then::Rereads);
        merge.alter(&Alteration { steps, then, ..(**last).clone() }).await?;
        return forget(merge, &target).await;
    }
    for (place, alteration) in release.alterations.iter().enumerate() {
        merge.alter(alteration).await?;
        let mappers = Mappers::new([alteration.after.as_ref()])?;
        let begin = format!("{}{:06} ", begin(&target), place + 1);
        loop {
            let found = merge.recall(MemoKind::Held, &begin, "").await?;
            if found.is_empty() {
                break;
            }
            let mut gone = Vec::with_capacity(found.len());
            for (name, content) in found {
                let block = ChangeBlock::from_bytes(alteration.step.schema.clone(), &content)
                    .map_err(|e| unreadable("held changes", e))?;
                let block = mappers.block(mappers.read_block(block)?)?;
                let batch = TableBatch::of(alteration.after.clone(), vec![block])?;
                merge.write([batch].into()).await?;
                gone.push(Memo { kind: MemoKind::Held, name, content: None });
            }
            merge.remember(&gone).await?;
        }
    }
    forget(merge, &target).await
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

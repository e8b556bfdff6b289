//! Changes that the target refused: kept in the target itself, in the transaction that holds everything around
//! them, with the keys of the rows they are about. Later changes of these rows wait behind them.

use super::careful::{self, Part, Refused};
use super::form::{Form, References, find};
use crate::as_target::held::{Held, WAITS};
use crate::as_target::merge::{Into, key_words};
use crate::as_target::state;
use crate::wire::connect::Session;
use crate::wire::trouble::Refusal;
use moorage_adapter::{AdapterError, Reject, Result, Settle, Settled};
use moorage_core::apply::prepare::TableBatch;
use moorage_core::apply::units::Unit;
use moorage_core::change::block::ChangeBlock;
use moorage_core::change::counters::TableCounters;
use moorage_core::change::kind::ChangeKind;
use moorage_core::drift::alter::{Alteration, Then};
use moorage_core::model::policy::OnReject;
use moorage_core::plan::table::TablePlan;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;
use tokio_postgres::Row;

fn operation(kind: ChangeKind) -> &'static str {
    match kind {
        ChangeKind::Insert => "insert",
        ChangeKind::Update => "update",
        ChangeKind::Delete => "delete",
        ChangeKind::Truncate => "truncate",
    }
}

/// The changes of a unit, each as a block of its own.
fn singles(blocks: &[&ChangeBlock], unit: &Unit) -> Result<Vec<ChangeBlock>> {
    unit.changes.iter().map(|(block, at)| Ok(blocks[*block].pick(&[*at])?)).collect()
}

/// What stops a pipeline that is to stop.
fn stops(plan: &TablePlan, blocks: &[&ChangeBlock], unit: &Unit, refusal: &Refusal) -> AdapterError {
    let last = singles(blocks, unit).ok().and_then(|mut all| all.pop());
    let (kind, at) = last.as_ref().map_or((ChangeKind::Update, String::new()), |block| {
        let kind = block.changes().next().map_or(ChangeKind::Update, |c| c.kind);
        let at = block.transaction(0).map(|t| format!(" at {}", t.position)).unwrap_or_default();
        (kind, at)
    });
    let key = last.map(|block| key_words(plan, &[block])).unwrap_or_default();
    AdapterError::Value {
        table: plan.table().to_string(),
        what: format!(
            "target table {} refuses the {} of the row {key}{at}: {}. Nothing of its batch was applied. \
             Change what refuses it in the target or mend the row in the source and run again; or let such changes be set aside: on_reject = \"set_aside\" in the project file",
            plan.target,
            operation(kind),
            refusal.reason
        ),
    }
}

/// Keeps what was refused, each change by itself.
///
/// # Errors
/// If the pipeline is to stop at it.
pub(crate) async fn keep(
    session: &Session,
    pipeline: &str,
    parts: &[Part<'_>],
    refused: &[Refused],
) -> Result<()> {
    for Refused { part, unit, refusal } in refused {
        let (into, blocks) = (parts[*part].into, &parts[*part].blocks());
        if into.plan.on_reject == OnReject::Stop && refusal.code != WAITS {
            return Err(stops(&into.plan, blocks, unit, refusal));
        }
        set_aside(session, pipeline, &into.plan, blocks, unit, refusal).await?;
    }
    Ok(())
}

async fn set_aside(
    session: &Session,
    pipeline: &str,
    plan: &TablePlan,
    blocks: &[&ChangeBlock],
    unit: &Unit,
    refusal: &Refusal,
) -> Result<()> {
    let sql = "INSERT INTO moorage_state.rejects
                 (pipeline, target, source_table, key, operation, reason, code, committed_at, position, keys, change)
               VALUES ($1, $2, $3, $4, $5, $6, $7, $8::text::timestamptz, $9, $10, $11)";
    let table = plan.table().to_string();
    for block in singles(blocks, unit)? {
        let Some(change) = block.changes().next() else { continue };
        let word = operation(change.kind);
        let transaction = block.transaction(0).cloned();
        let committed_at = transaction.as_ref().map(|t| t.committed_at).unwrap_or_default().to_rfc3339();
        let position = transaction.map(|t| t.position.to_string()).unwrap_or_default();
        let bytes = block.to_bytes()?;
        let key = key_words(plan, std::slice::from_ref(&block));
        let parameters: [&(dyn tokio_postgres::types::ToSql + Sync); 11] = [
            &pipeline,
            &plan.target,
            &table,
            &key,
            &word,
            &refusal.reason,
            &refusal.code,
            &committed_at,
            &position,
            &unit.keys,
            &bytes,
        ];
        session.cached("setting a change aside", sql, &parameters).await?;
    }
    Ok(())
}

const LIST: &str = "
SELECT id, source_table, target, key, operation, reason, code,
       to_char(committed_at AT TIME ZONE 'UTC', 'YYYY-MM-DD\"T\"HH24:MI:SS.US+00:00'), position,
       to_char(set_aside_at AT TIME ZONE 'UTC', 'YYYY-MM-DD\"T\"HH24:MI:SS.US+00:00'), tries, keys, change
FROM moorage_state.rejects WHERE pipeline = $1 ORDER BY id";

fn reject(row: &Row) -> Reject {
    Reject {
        id: row.get(0),
        table: row.get(1),
        target: row.get(2),
        key: row.get(3),
        operation: row.get(4),
        reason: row.get(5),
        waits: row.get::<_, &str>(6) == WAITS,
        committed_at: row.get(7),
        position: row.get(8),
        set_aside_at: row.get(9),
        tries: row.get::<_, i64>(10).max(0) as u64,
    }
}

/// All rejects of a pipeline, the oldest first.
pub(crate) async fn list(session: &Session, pipeline: &str) -> Result<Vec<Reject>> {
    if !state::exists(session).await? {
        return Ok(Vec::new());
    }
    let rows = session.rows("reading rejects", LIST, &[&pipeline]).await?;
    Ok(rows.iter().map(reject).collect())
}

/// One reject with its change.
pub(crate) async fn one(session: &Session, pipeline: &str, id: i64) -> Result<Option<(Reject, ChangeBlock)>> {
    if !state::exists(session).await? {
        return Ok(None);
    }
    let rows = session.rows("reading rejects", LIST, &[&pipeline]).await?;
    let Some(row) = rows.iter().find(|r| r.get::<_, i64>(0) == id) else { return Ok(None) };
    let target: &str = row.get(2);
    let stored = state::tables(session, pipeline).await?;
    let plan = stored.into_iter().find(|s| s.plan.target == target).map(|s| s.plan);
    let plan = plan.ok_or_else(|| {
        AdapterError::refused(
            format!("reject {id}"),
            format!("its table {target} is not remembered any more"),
        )
    })?;
    let change = ChangeBlock::from_bytes(plan.mapped.clone(), row.get(12))?;
    Ok(Some((reject(row), change)))
}

/// What is set aside of a table goes along with what becomes of the table.
pub(crate) async fn carry(session: &Session, pipeline: &str, alteration: &Alteration) -> Result<()> {
    let is_same = alteration.steps.is_empty() && alteration.before.mapped == alteration.after.mapped;
    if alteration.then != Then::Merges || is_same {
        return Ok(());
    }
    let sql = "SELECT id, change FROM moorage_state.rejects WHERE pipeline = $1 AND target = $2";
    let rows = session.rows("reading rejects", sql, &[&pipeline, &alteration.before.target]).await?;
    for row in rows {
        let change = ChangeBlock::from_bytes(alteration.before.mapped.clone(), row.get(1))?;
        let change = alteration.carried(change)?.to_bytes()?;
        let table = alteration.after.table().to_string();
        let sql = "UPDATE moorage_state.rejects SET change = $2, source_table = $3 WHERE id = $1";
        session
            .execute("carrying on what was set aside", sql, &[&row.get::<_, i64>(0), &change, &table])
            .await?;
    }
    Ok(())
}

/// A reject on its way through a decision.
struct Kept {
    id: i64,
    target: String,
    keys: Vec<Vec<u8>>,
    change: Vec<u8>,
}

/// The rejects that hang together with some by their rows.
fn connected(all: &[Kept], with: &BTreeSet<i64>) -> BTreeSet<i64> {
    let mut found = with.clone();
    let mut keys: BTreeSet<(&str, &[u8])> = BTreeSet::new();
    loop {
        let before = (found.len(), keys.len());
        for kept in all {
            let touches = kept.keys.iter().any(|k| keys.contains(&(kept.target.as_str(), k.as_slice())));
            if found.contains(&kept.id) || touches {
                found.insert(kept.id);
                keys.extend(kept.keys.iter().map(|k| (kept.target.as_str(), k.as_slice())));
            }
        }
        if (found.len(), keys.len()) == before {
            return found;
        }
    }
}

/// Carries out a decision about some rejects, or all, in one transaction. Changes that hang together with them are
/// tried again in their order.
pub(crate) async fn settle(
    session: &Session,
    pipeline: &str,
    ids: Option<&[i64]>,
    how: Settle,
) -> Result<Settled> {
    session.run("opening a transaction", "BEGIN; SET CONSTRAINTS ALL DEFERRED").await?;
    let done = settle_inside(session, pipeline, ids, how).await;
    let end = if done.is_ok() { "COMMIT" } else { "ROLLBACK" };
    session.run("carrying out a decision about rejects", end).await?;
    done
}

async fn settle_inside(
    session: &Session,
    pipeline: &str,
    ids: Option<&[i64]>,
    how: Settle,
) -> Result<Settled> {
    state::lock_out_batches(session, pipeline).await?;
    let rows = session.rows("reading rejects", LIST, &[&pipeline]).await?;
    let all: Vec<Kept> = rows
        .iter()
        .map(|r| Kept { id: r.get(0), target: r.get(2), keys: r.get(11), change: r.get(12) })
        .collect();
    let wanted: BTreeSet<i64> = match ids {
        Some(ids) => ids.iter().copied().collect(),
        None => all.iter().map(|k| k.id).collect(),
    };
    if let Some(unknown) = wanted.iter().find(|id| all.iter().all(|k| k.id != **id)) {
        return Err(AdapterError::refused(
            format!("reject {unknown}"),
            format!("pipeline {pipeline} has none of this number; `moorage rejects` lists them"),
        ));
    }
    let taken = connected(&all, &wanted);
    let dropped = |id: &i64| how == Settle::Drop && wanted.contains(id);
    let mut by_target: BTreeMap<&str, (Vec<&Kept>, u64)> = BTreeMap::new();
    for kept in all.iter().filter(|k| taken.contains(&k.id)) {
        let of = by_target.entry(kept.target.as_str()).or_default();
        if dropped(&kept.id) { of.1 += 1 } else { of.0.push(kept) }
    }
    let Tried { counted, refused } = try_again(session, pipeline, &by_target).await?;
    let gone: Vec<i64> = taken.iter().copied().filter(|id| !refused.contains_key(id)).collect();
    let sql = "DELETE FROM moorage_state.rejects WHERE id = ANY($1)";
    session.execute("taking rejects away", sql, &[&gone]).await?;
    for (id, refusal) in &refused {
        let sql = "UPDATE moorage_state.rejects SET tries = tries + 1, reason = $2, code = $3 WHERE id = $1";
        session.execute("noting a try", sql, &[id, &refusal.reason, &refusal.code]).await?;
    }
    let mut settled = Settled::default();
    for (target, (tried, dropped)) in &by_target {
        let mut counters = counted.get(*target).copied().unwrap_or_default();
        // They were counted as read when they came.
        counters.read = Default::default();
        counters.dropped += dropped;
        settled.applied += tried.len() as u64 - counters.rejected;
        settled.dropped += dropped;
        let rejected = counters.rejected as i64 - (tried.len() as i64 + *dropped as i64);
        state::count(session, target, &counters, rejected).await?;
    }
    state::count_rejects(session, pipeline).await?;
    let left = list(session, pipeline).await?;
    settled.refused = left.into_iter().filter(|r| refused.contains_key(&r.id)).collect();
    Ok(settled)
}

/// What became of changes that were tried again.
#[derive(Default)]
struct Tried {
    counted: BTreeMap<String, TableCounters>,
    /// By number.
    refused: BTreeMap<i64, Refusal>,
}

/// Applies kept changes, tables in the order of their foreign keys.
async fn try_again(
    session: &Session,
    pipeline: &str,
    by_target: &BTreeMap<&str, (Vec<&Kept>, u64)>,
) -> Result<Tried> {
    let targets: Vec<&str> = by_target.keys().copied().collect();
    let standings = state::standings(session, pipeline, &targets).await?;
    let stored = state::tables(session, pipeline).await?;
    let mut tables: HashMap<u32, (Into, TableBatch, Vec<i64>)> = HashMap::new();
    for (target, (kept, _)) in by_target.iter().filter(|(_, (kept, _))| !kept.is_empty()) {
        let gone = || AdapterError::refused(format!("target table {target}"), "it is gone");
        let plan = stored.iter().find(|s| s.plan.target == *target).map(|s| &s.plan).ok_or_else(gone)?;
        let found = find(session, &[plan.stands_in()]).await?.pop().flatten().ok_or_else(gone)?;
        let form = Form::new(plan, super::dialect::relation(plan.stands_in()), &found)?;
        let standing = standings.iter().find(|s| s.target == *target);
        let plan = Arc::new(plan.clone());
        let decode = |k: &&Kept| ChangeBlock::from_bytes(plan.mapped.clone(), &k.change);
        let blocks = kept.iter().map(decode).collect::<std::result::Result<Vec<_>, _>>()?;
        let id = form.id;
        let numbers = kept.iter().map(|k| k.id).collect();
        let batch = TableBatch::of(plan.clone(), blocks, true)?;
        tables.insert(id, (Into::of(plan, Arc::new(form), standing), batch, numbers));
    }
    let ids: Vec<u32> = tables.keys().copied().collect();
    let references = References::read(session, &ids).await?;
    let ordered: Vec<_> = references.order(&ids).iter().filter_map(|id| tables.get(id)).collect();
    let parts: Vec<Part<'_>> = ordered.iter().map(|(into, batch, _)| Part { into, batch }).collect();
    // All that hangs together with these is among them: nothing else holds them back.
    let outcome = careful::apply(session, pipeline, &parts, &references, &Held::default()).await?;
    let mut tried = Tried { counted: outcome.counted, ..Tried::default() };
    for Refused { part, unit, refusal } in outcome.refused {
        // Each change is a block of its own.
        let numbers = unit.changes.iter().map(|(block, _)| ordered[part].2[*block]);
        tried.refused.extend(numbers.map(|id| (id, refusal.clone())));
    }
    Ok(tried)
}

//! Preparing a batch: from changes to what they do to each table. It needs no target, and can go on while another batch
//! is applied.

use crate::apply::batch::Collected;
use crate::apply::distinct::distinct;
use crate::apply::net::ReduceError;
use crate::apply::reduce::{lenient, marking, reduce};
use crate::apply::trail::trail;
use crate::apply::versions::versions;
use crate::apply::write_set::WriteSet;
use crate::change::block::ChangeBlock;
use crate::change::kind::ChangeKind;
use crate::drift::alter::{Alteration, Then};
use crate::drift::held::Release;
use crate::model::kept_as::{Deletes, Keep, Operation};
use crate::plan::carried::CarriedTables;
use crate::plan::table::TablePlan;
use arrow::error::ArrowError;
use std::collections::BTreeMap;
use std::sync::Arc;

/// The changes of one table in a batch, or in a part of one.
#[derive(Clone, Debug)]
pub struct TableBatch {
    /// The table.
    pub plan: Arc<TablePlan>,
    /// Its changes, in order; the write set points into them.
    pub blocks: Vec<ChangeBlock>,
    /// Images of what the table adds to rows for what it keeps, if it does.
    pub added: Option<ChangeBlock>,
    /// What they come down to.
    pub set: WriteSet,
}

impl TableBatch {
    /// Prepares the changes of one table, given in order. With `goes_on`, an earlier part of the first transaction may be in
    /// the target.
    ///
    /// # Errors
    /// See [`ReduceError`].
    pub fn of(plan: Arc<TablePlan>, blocks: Vec<ChangeBlock>, goes_on: bool) -> Result<Self, ReduceError> {
        distinct(&plan, &blocks)?;
        let blocks = applied(&plan, blocks)?;
        let (set, added) = match plan.kept_as.keep {
            Keep::Current if plan.kept_as.deletes == Deletes::Mark => marking(&plan, &blocks)?,
            Keep::Current if !plan.kept_as.is_exact() => (lenient(&blocks.iter().collect::<Vec<_>>())?, None),
            Keep::Current => (reduce(&blocks.iter().collect::<Vec<_>>())?, None),
            Keep::Changes => trail(&plan, &blocks)?,
            Keep::Versions => versions(&plan, &blocks, goes_on)?,
        };
        Ok(Self { plan, blocks, added, set })
    }

    /// Prepares the same changes for every form of a table, the first one first.
    ///
    /// # Errors
    /// See [`ReduceError`].
    pub fn of_forms(
        plan: &Arc<TablePlan>,
        blocks: Vec<ChangeBlock>,
        goes_on: bool,
    ) -> Result<Vec<Self>, ReduceError> {
        let mut all = Vec::with_capacity(1 + plan.also.len());
        for form in &plan.also {
            let (schema, width) = (form.mapped.arrow(), plan.width());
            let reshaped = blocks.iter().map(|block| block.clone().in_form(&form.mapped, &schema, width));
            let reshaped = reshaped.collect::<Result<_, _>>().map_err(|e| failed(form, &e))?;
            all.push(Self::of(form.clone(), reshaped, goes_on)?);
        }
        all.insert(0, Self::of(plan.clone(), blocks, goes_on)?);
        Ok(all)
    }

    /// Whether a row that is not as the changes assume is an error, as far as the table's plan is concerned.
    pub fn is_exact(&self) -> bool {
        self.plan.kept_as.is_exact()
    }

    /// What the images of the write set point into.
    pub fn images(&self) -> Vec<&ChangeBlock> {
        self.blocks.iter().chain(&self.added).collect()
    }
}

/// The changes without those that are not applied.
fn applied(plan: &TablePlan, blocks: Vec<ChangeBlock>) -> Result<Vec<ChangeBlock>, ReduceError> {
    let kept_as = &plan.kept_as;
    if kept_as.leaves_out.is_empty() {
        return Ok(blocks);
    }
    let goes = |kind| {
        kept_as.leaves_out(match kind {
            ChangeKind::Insert => Operation::Insert,
            ChangeKind::Update => Operation::Update,
            ChangeKind::Delete => Operation::Delete,
            ChangeKind::Truncate => Operation::Truncate,
        })
    };
    blocks.into_iter().map(|block| block.without(goes).map_err(|e| failed(plan, &e))).collect()
}

fn failed(plan: &TablePlan, error: &ArrowError) -> ReduceError {
    ReduceError::Added { table: plan.table().to_string(), what: error.to_string() }
}

/// One thing that is done to the target.
#[derive(Clone, Debug)]
pub enum Deed {
    /// Rows are written.
    Write(Arc<[TableBatch]>),
    /// A table is altered.
    Alter(Arc<Alteration>),
    /// Changes of a held table are kept, as they were read.
    Keep(Arc<TablePlan>, Vec<ChangeBlock>),
    /// A table that was held goes on: what was kept of it is applied.
    Release(Arc<Release>),
    /// What was kept of a target's table is of no use any more.
    Clear(String),
}

impl Deed {
    /// The alterations that it carries out.
    pub fn alterations(&self) -> impl Iterator<Item = &Arc<Alteration>> {
        let (one, more) = match self {
            Self::Alter(alteration) => (Some(alteration), None),
            Self::Release(release) => (None, Some(&release.alterations)),
            Self::Write(_) | Self::Keep(..) | Self::Clear(_) => (None, None),
        };
        one.into_iter().chain(more.into_iter().flatten())
    }

    /// What is left of it, if anything is, where target tables are given up until they are read again: nothing is written to
    /// them or kept of them, and what they have come to in the source is only noted.
    pub fn without(self, is_given_up: impl Fn(&str) -> bool) -> Option<Self> {
        match self {
            Self::Write(batches) if batches.iter().any(|batch| is_given_up(batch.plan.unit())) => {
                let rest = batches.iter().filter(|batch| !is_given_up(batch.plan.unit()));
                let rest: Vec<TableBatch> = rest.cloned().collect();
                (!rest.is_empty()).then(|| Self::Write(rest.into()))
            }
            Self::Keep(plan, _) if is_given_up(&plan.target) => None,
            Self::Alter(alteration) if is_given_up(&alteration.before.target) => {
                Some(Self::Alter(Arc::new(alteration.unread())))
            }
            Self::Release(release) => match (release.plans(), release.alterations.last()) {
                (Some((before, _)), Some(last)) if is_given_up(&before.target) => {
                    // What became of its records was noted with what was kept.
                    let (before, id) = (before.clone(), 0);
                    Some(Self::Alter(Arc::new(Alteration { before, id, ..last.unread() })))
                }
                _ => Some(Self::Release(release)),
            },
            deed => Some(deed),
        }
    }
}

/// Prepares a batch, or a part of one. `tables` are those that are carried where it begins, and then those where it ends.
/// Changes of a table are reduced from one alteration of it to the next, never across. With `goes_on`, an earlier part of the
/// first transaction is in the target.
///
/// # Errors
/// See [`ReduceError`].
pub fn prepare(
    collected: Vec<Collected>,
    tables: &mut CarriedTables,
    mut goes_on: bool,
) -> Result<Vec<Deed>, ReduceError> {
    let mut deeds = Vec::new();
    let mut blocks = Vec::new();
    for next in collected {
        if let Collected::Rows(block) = next {
            blocks.push(*block);
            continue;
        }
        stretch(std::mem::take(&mut blocks), tables, goes_on, &mut deeds)?;
        // A transaction may go on behind what it alters.
        goes_on = true;
        match next {
            Collected::Rows(_) => {}
            Collected::Alter(alteration) => {
                let held = alteration.then == Then::Holds;
                *tables = tables.with(&alteration.before, alteration.after.clone(), held);
                deeds.push(Deed::Alter(alteration));
            }
            Collected::Release(release) => {
                if let Some((before, after)) = release.plans() {
                    *tables = tables.with(before, after.clone(), false);
                }
                deeds.push(Deed::Release(release));
            }
            Collected::Clear(target) => deeds.push(Deed::Clear(target)),
        }
    }
    stretch(blocks, tables, goes_on, &mut deeds)?;
    Ok(deeds)
}

/// What is done between two alterations.
fn stretch(
    blocks: Vec<ChangeBlock>,
    tables: &CarriedTables,
    goes_on: bool,
    deeds: &mut Vec<Deed>,
) -> Result<(), ReduceError> {
    let (held, merged): (Vec<_>, Vec<_>) =
        blocks.into_iter().partition(|block| tables.is_held(&block.schema().table));
    let rows = prepare_rows(merged, tables, goes_on)?;
    deeds.extend((!rows.is_empty()).then(|| Deed::Write(rows.into())));
    let mut kept: BTreeMap<usize, Vec<ChangeBlock>> = BTreeMap::new();
    for block in held.into_iter().filter(|block| !block.is_empty()) {
        if let Some((place, _)) = tables.of(&block.schema().table) {
            kept.entry(place).or_default().push(block);
        }
    }
    for (place, blocks) in kept {
        deeds.extend(tables.at(place).map(|plan| Deed::Keep(plan.clone(), blocks)));
    }
    Ok(())
}

/// The tables in the order in which they are carried. Changes of tables that are not carried, and blocks without any news,
/// are left out.
///
/// # Errors
/// See [`ReduceError`].
fn prepare_rows(
    blocks: Vec<ChangeBlock>,
    tables: &CarriedTables,
    goes_on: bool,
) -> Result<Vec<TableBatch>, ReduceError> {
    let mut met: BTreeMap<usize, (Arc<TablePlan>, Vec<ChangeBlock>)> = BTreeMap::new();
    for block in blocks.into_iter().filter(|b| !b.is_empty() || b.read().total() > 0) {
        if let Some((place, plan)) = tables.of(&block.schema().table) {
            met.entry(place).or_insert_with(|| (plan.clone(), Vec::new())).1.push(block);
        }
    }
    let mut all = Vec::with_capacity(met.len());
    for (plan, blocks) in met.into_values() {
        all.extend(TableBatch::of_forms(&plan, blocks, goes_on)?);
    }
    Ok(all)
}

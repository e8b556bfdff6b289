//! Applying changes of which some are refused: everything that can be applied is, and the rest is found.
//!
//! Changes that touch the same rows go together, as a unit; units are independent of each other but for what
//! constraints say. For each table, parents before children, its units are tried
//!
//! 1. all at once, as in a batch of which nothing is refused;
//! 2. all at once, but everything that they touch is removed first, so that values can be swapped between rows;
//! 3. in halves, and halves of halves, until the ones that are refused stand alone;
//! 4. those together once more as in 2, one after the other, without those that fail, until none does: so that
//!    rows that only wait for each other are not taken for refused ones.
//!
//! Rows that are only to be removed go first, children before parents; where a foreign key forbids that, or would
//! change other rows, last. What is refused then is tried once more, because rows have come and gone meanwhile.

use super::form::References;
use crate::as_target::deferred::check_deferred;
use crate::as_target::held::{Held, WAITS};
use crate::as_target::merge::{Into, Work, truncate};
use crate::wire::connect::Session;
use crate::wire::trouble::{Refusal, Trouble};
use moorage_adapter::{AdapterError, Result};
use moorage_core::apply::prepare::TableBatch;
use moorage_core::apply::units::{Unit, Units, units};
use moorage_core::change::block::ChangeBlock;
use moorage_core::change::counters::TableCounters;
use moorage_core::change::kind::ChangeKind;
use moorage_core::model::policy::Mismatch;
use std::collections::BTreeMap;

/// More refused units than this are not tried together once more: it would take a statement each.
const MOST_TOGETHER: usize = 2000;

/// The changes of one table.
pub(crate) struct Part<'a> {
    pub(crate) into: &'a Into,
    pub(crate) batch: &'a TableBatch,
}

impl<'a> Part<'a> {
    /// Its changes, in order.
    pub(crate) fn blocks(&self) -> Vec<&'a ChangeBlock> {
        self.batch.blocks.iter().collect()
    }
}

/// How units are applied.
#[derive(Clone, Copy, PartialEq, Eq)]
enum How {
    /// Rows are overwritten.
    InPlace,
    /// Rows are removed and inserted.
    Anew,
}

struct Table<'a> {
    part: &'a Part<'a>,
    units: Units,
    counters: TableCounters,
    refused: Vec<(Unit, Refusal)>,
}

/// Applies the changes, parents first, inside the caller's transaction, but for those that are refused.
pub(crate) async fn apply(
    session: &Session,
    pipeline: &str,
    parts: &[Part<'_>],
    references: &References,
    held: &Held,
) -> Result<Outcome> {
    let mut tables = Vec::with_capacity(parts.len());
    for part in parts {
        tables.push(Table::new(part)?);
    }
    for table in tables.iter_mut().rev() {
        table.empty(session, pipeline).await?;
    }
    let mut last: Vec<Vec<Unit>> = Vec::with_capacity(tables.len());
    for table in tables.iter_mut().rev() {
        table.hold_back(held);
        last.push(table.remove_first(session, references).await?);
    }
    last.reverse();
    for table in &mut tables {
        let all = std::mem::take(&mut table.units.units);
        table.settle(session, all, references).await?;
    }
    for (table, units) in tables.iter_mut().zip(last).rev() {
        table.settle(session, units, references).await?;
    }
    for table in &mut tables {
        table.once_more(session, references).await?;
    }
    let mut outcome = Outcome::default();
    for (part, mut table) in tables.into_iter().enumerate() {
        // In the order in which the source made them.
        table.refused.sort_by_key(|(unit, _)| unit.changes.first().copied());
        let changes: usize = table.refused.iter().map(|(unit, _)| unit.changes.len()).sum();
        table.counters.rejected += changes as u64;
        outcome.counted.insert(table.part.into.plan.target.clone(), table.counters);
        let refused = table.refused.into_iter().map(|(unit, refusal)| Refused { part, unit, refusal });
        outcome.refused.extend(refused);
    }
    Ok(outcome)
}

/// Changes that were refused.
#[derive(Debug)]
pub(crate) struct Refused {
    /// Which of the parts they are of.
    pub(crate) part: usize,
    pub(crate) unit: Unit,
    pub(crate) refusal: Refusal,
}

/// What became of the changes.
#[derive(Debug, Default)]
pub(crate) struct Outcome {
    /// By target; what was refused is counted as rejected.
    pub(crate) counted: BTreeMap<String, TableCounters>,
    pub(crate) refused: Vec<Refused>,
}

impl<'a> Table<'a> {
    fn new(part: &'a Part<'a>) -> Result<Self> {
        let mut counters = TableCounters::default();
        for block in &part.batch.blocks {
            let read = block.read();
            counters.read += read;
            counters.filtered += read.total() - block.len() as u64;
        }
        Ok(Self { part, units: units(&part.blocks())?, counters, refused: Vec::new() })
    }

    /// A truncate ends all that was before it, also what was set aside.
    async fn empty(&mut self, session: &Session, pipeline: &str) -> Result<()> {
        if !self.units.truncate {
            return Ok(());
        }
        match truncate(session, self.part.into).await {
            Ok(()) => {}
            Err(Trouble::Failed(error)) => return Err(error),
            Err(Trouble::Refused(refusal)) => {
                return Err(AdapterError::refused("emptying a table", refusal.reason));
            }
        }
        self.counters.merged += 1;
        self.counters.reduced += self.units.void - 1;
        self.counters.dropped +=
            super::state::forget_rejects(session, pipeline, &self.part.into.plan.target).await?;
        Ok(())
    }

    /// Changes of rows of which earlier ones are set aside wait behind them.
    fn hold_back(&mut self, held: &Held) {
        let target = &self.part.into.plan.target;
        let Some(held) = held.of(target).filter(|_| !self.units.truncate) else { return };
        let all = std::mem::take(&mut self.units.units);
        for unit in all {
            match unit.keys.iter().filter_map(|k| held.get(k)).min() {
                Some(id) => {
                    let reason = format!("waits behind reject {id}, an earlier change of the same row");
                    self.refused.push((unit, Refusal { code: WAITS.into(), reason }));
                }
                None => self.units.units.push(unit),
            }
        }
    }

    /// Removes rows that are not written again; gives the units for which that has to wait.
    async fn remove_first(&mut self, session: &Session, references: &References) -> Result<Vec<Unit>> {
        let ends_gone = |unit: &Unit| {
            let last = unit.changes.last().and_then(|(b, at)| self.part.batch.blocks[*b].changes().nth(*at));
            last.is_some_and(|change| change.kind == ChangeKind::Delete)
        };
        let (gone, rest): (Vec<Unit>, Vec<Unit>) =
            std::mem::take(&mut self.units.units).into_iter().partition(ends_gone);
        self.units.units = rest;
        if references.acts(self.part.into.form.id) {
            return Ok(gone);
        }
        let all: Vec<&Unit> = gone.iter().collect();
        match self.attempt(session, &all, How::InPlace).await? {
            Ok(()) => Ok(Vec::new()),
            Err(refusal) if refusal.is_reference() => Ok(gone),
            Err(_) => {
                // Not a matter of order.
                self.units.units.extend(gone);
                Ok(Vec::new())
            }
        }
    }

    /// Applies units as one step that can be undone.
    async fn attempt(
        &mut self,
        session: &Session,
        units: &[&Unit],
        how: How,
    ) -> Result<std::result::Result<(), Refusal>> {
        if units.is_empty() {
            return Ok(Ok(()));
        }
        session.run("trying", "SAVEPOINT moorage_try").await?;
        let done = self.carry_out(session, units, how).await;
        let (end, outcome) = match done {
            Ok(counters) => {
                self.counters += counters;
                ("RELEASE SAVEPOINT moorage_try", Ok(()))
            }
            Err(Trouble::Refused(refusal)) => (UNDO, Err(refusal)),
            Err(Trouble::Failed(error)) => return Err(error),
        };
        session.run("ending a try", end).await?;
        Ok(outcome)
    }

    async fn carry_out(
        &self,
        session: &Session,
        units: &[&Unit],
        how: How,
    ) -> std::result::Result<TableCounters, Trouble> {
        let picked = Units::pick(&self.part.blocks(), units.iter().copied())?;
        let mut work = Work::some(session, self.part.into, picked.iter().collect()).await?;
        let mut adjusted;
        match how {
            How::InPlace => {
                adjusted = work.delete().await?;
                adjusted += work.write().await?;
            }
            How::Anew => {
                work.complete().await?;
                adjusted = work.delete().await?;
                adjusted += work.clear().await?;
                work.insert_all().await?;
            }
        }
        check_deferred(session).await?;
        let counts = self.part.into.plan.mismatch == Mismatch::Adjust;
        let reduced = work.set.counters;
        Ok(TableCounters {
            merged: reduced.merged,
            reduced: reduced.reduced,
            adjusted: if counts { adjusted } else { Default::default() },
            ..TableCounters::default()
        })
    }

    /// Applies all units that can be; the others are noted as refused.
    async fn settle(&mut self, session: &Session, all: Vec<Unit>, references: &References) -> Result<()> {
        let units: Vec<&Unit> = all.iter().collect();
        if self.attempt(session, &units, How::InPlace).await?.is_ok() {
            return Ok(());
        }
        // Removing rows that others refer to would change those.
        let anew = !self.part.into.form.key.is_empty() && !references.acts(self.part.into.form.id);
        if anew && self.attempt(session, &units, How::Anew).await?.is_ok() {
            return Ok(());
        }
        let mut refused: Vec<(&Unit, Refusal)> = Vec::new();
        let mut left = vec![units];
        while let Some(some) = left.pop() {
            match self.attempt(session, &some, How::InPlace).await? {
                Ok(()) => {}
                Err(refusal) if some.len() == 1 => refused.push((some[0], refusal)),
                Err(_) => {
                    let (first, second) = some.split_at(some.len() / 2);
                    // The first half is tried first.
                    left.push(second.to_vec());
                    left.push(first.to_vec());
                }
            }
        }
        if anew && (2..=MOST_TOGETHER).contains(&refused.len()) {
            refused = self.together(session, refused).await?;
        }
        self.refused.extend(refused.into_iter().map(|(unit, refusal)| (unit.clone(), refusal)));
        Ok(())
    }

    /// What was refused because of rows that have come, or gone, since.
    async fn once_more(&mut self, session: &Session, references: &References) -> Result<()> {
        let (waiting, refused): (Vec<_>, Vec<_>) =
            std::mem::take(&mut self.refused).into_iter().partition(|(_, refusal)| refusal.code == WAITS);
        self.refused = waiting;
        if refused.is_empty() {
            return Ok(());
        }
        self.settle(session, refused.into_iter().map(|(unit, _)| unit).collect(), references).await
    }

    /// Applies those of some refused units that can be applied together; gives the others.
    async fn together<'u>(
        &mut self,
        session: &Session,
        mut candidates: Vec<(&'u Unit, Refusal)>,
    ) -> Result<Vec<(&'u Unit, Refusal)>> {
        let mut refused = Vec::new();
        while !candidates.is_empty() {
            session.run("trying", "SAVEPOINT moorage_try").await?;
            let failed = match self.one_by_one(session, &candidates).await {
                Ok(failed) => failed,
                Err(Trouble::Failed(error)) => return Err(error),
                // Not even removing works: then nothing is won here.
                Err(Trouble::Refused(_)) => candidates.iter().map(|_| true).collect(),
            };
            if failed.iter().all(|f| !f) {
                session.run("ending a try", "RELEASE SAVEPOINT moorage_try").await?;
                self.counters.merged += candidates.len() as u64;
                let changes: usize = candidates.iter().map(|(u, _)| u.changes.len()).sum();
                self.counters.reduced += (changes - candidates.len()) as u64;
                return Ok(refused);
            }
            session.run("ending a try", UNDO).await?;
            let mut kept = Vec::new();
            for (candidate, failed) in candidates.into_iter().zip(failed) {
                if failed { refused.push(candidate) } else { kept.push(candidate) }
            }
            candidates = kept;
        }
        Ok(refused)
    }

    /// Removes all that the units touch, then inserts one unit after the other; tells which failed.
    async fn one_by_one(
        &self,
        session: &Session,
        candidates: &[(&Unit, Refusal)],
    ) -> std::result::Result<Vec<bool>, Trouble> {
        let mut picked = Vec::with_capacity(candidates.len());
        for (unit, _) in candidates {
            picked.push(Units::pick(&self.part.blocks(), [*unit])?);
        }
        let mut works = Vec::with_capacity(candidates.len());
        for blocks in &picked {
            let mut work = Work::some(session, self.part.into, blocks.iter().collect()).await?;
            work.complete().await?;
            works.push(work);
        }
        for work in &works {
            work.delete().await?;
            work.clear().await?;
        }
        let mut failed = Vec::with_capacity(works.len());
        for work in &works {
            session.run("trying", "SAVEPOINT moorage_row").await?;
            let done = async {
                work.insert_all().await?;
                check_deferred(session).await
            };
            match done.await {
                Ok(()) => {
                    session.run("ending a try", "RELEASE SAVEPOINT moorage_row").await?;
                    failed.push(false);
                }
                Err(Trouble::Refused(_)) => {
                    let undo = "ROLLBACK TO SAVEPOINT moorage_row; RELEASE SAVEPOINT moorage_row";
                    session.run("ending a try", undo).await?;
                    failed.push(true);
                }
                Err(failed) => return Err(failed),
            }
        }
        Ok(failed)
    }
}

const UNDO: &str = "ROLLBACK TO SAVEPOINT moorage_try; RELEASE SAVEPOINT moorage_try";

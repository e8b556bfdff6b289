//! What people decide about changes of structure, or do in the target, while the pipeline runs.

use super::Driver;
use crate::pipeline::error::Result;
use moorage_adapter::{AdapterError, Event};
use moorage_core::TableName;
use moorage_core::drift::standing::TargetColumns;
use moorage_core::model::drift::DriftPolicy;
use moorage_core::pick::pattern::shown_parts;
use std::sync::PoisonError;
use tokio::sync::oneshot;

impl Driver<'_> {
    /// At the begin of a run: held tables go on that nothing holds any more, because the project file was changed, or the
    /// target by hand.
    pub(super) async fn go_on_with_held(&mut self) -> Result<()> {
        for plan in self.carrying.held() {
            let table = plan.table();
            if let Some(why) = self.in_the_way(table) {
                let message = format!("{table} stays held: {why}");
                self.context.say(Event::Warning { message });
            } else if let Ok((next, event)) = self.carrying.release(&self.context.pipeline, table) {
                self.put(next, Some(event));
                self.send_note("the project file decided");
                continue;
            }
            let there = self.context.pipeline.target.columns(plan.stands_in()).await?;
            self.stands(table, there);
        }
        Ok(())
    }

    /// Looks at the target tables of held tables, while all else goes on: somebody may do there what following takes.
    pub(super) fn look_at_held(&mut self) {
        let held = self.carrying.held();
        if held.is_empty() || self.standing.is_some() {
            return;
        }
        let (sender, standing) = oneshot::channel();
        self.standing = Some(standing);
        let target = self.context.pipeline.target.clone();
        tokio::spawn(async move {
            let mut all = Vec::with_capacity(held.len());
            for plan in held {
                match target.columns(&plan.target).await {
                    Ok(there) => all.push((plan.table().clone(), there)),
                    // What is wrong with the target is met by what is merged into it.
                    Err(error) => tracing::debug!("{} was not looked at: {error}", plan.target),
                }
            }
            let _ = sender.send(all);
        });
    }

    /// How the target table of a held table stands. It goes on if somebody has done there what following its changes takes;
    /// where that was tried, not before the target table is altered again.
    pub(super) fn stands(&mut self, table: &TableName, there: TargetColumns) {
        let is_news = match self.stood.insert(table.clone(), there.clone()) {
            None => self.in_the_way(table).is_none(),
            Some(before) => before != there,
        };
        if !is_news {
            return;
        }
        if let Some((next, event)) = self.carrying.done_by_hand(&self.context.pipeline, table, there) {
            self.tries(table);
            self.put(next, Some(event));
            self.send_note("it was done in the target");
        }
    }

    /// What was in the way may be gone: it is tried once more.
    pub(super) fn tries(&self, table: &TableName) {
        for known in [&self.context.in_the_way, &self.context.not_taken] {
            known.lock().unwrap_or_else(PoisonError::into_inner).remove(table);
        }
    }

    /// Why the target did not take what was read again of a table, if it was tried in this run.
    pub(super) fn not_taken(&self, table: &TableName) -> Option<String> {
        self.context.not_taken.lock().unwrap_or_else(PoisonError::into_inner).get(table).cloned()
    }

    /// The target would not take what was decided about a table, or what was read again of it: whoever asked for that is told.
    pub(super) fn is_refused(&mut self, table: &TableName, why: &str) {
        self.context.notes.answer(&table.to_string(), why);
        let why = format!("the target does not take it, and {table} stays held: {why}");
        for (id, _) in self.deciding.extract_if(|_, of| of == table) {
            self.context.notes.decided(id, &why);
        }
    }

    /// Carries out what someone decided. Where nothing else comes, a note ends the batch that does it.
    ///
    /// # Errors
    /// `Appeared` where it is about a table that came: setting up anew has it join, or leaves it.
    pub(super) fn decided(&mut self, decisions: Vec<(u64, DriftPolicy)>) -> Result<()> {
        let mut appeared = None;
        let is_offered = |(id, _): &(u64, DriftPolicy)| self.offered.contains_key(id);
        let (of_tables, others): (Vec<_>, Vec<_>) = decisions.into_iter().partition(is_offered);
        for (id, decision) in of_tables {
            if let Some(table) = self.offered.remove(&id) {
                self.context.decided.lock().unwrap_or_else(PoisonError::into_inner).push((id, decision));
                let (schema, name) = shown_parts(&table).unwrap_or_default();
                appeared = Some(AdapterError::Appeared { table: TableName::new(schema, name) });
            }
        }
        if let Some(error) = appeared {
            // The others are asked for again.
            return Err(error.into());
        }
        // All are noted before the first table goes on: another one may be about the same.
        let mut decided: Vec<(TableName, Vec<u64>)> = Vec::new();
        for (id, decision) in others.into_iter().filter(|(id, _)| !self.deciding.contains_key(id)) {
            match self.carrying.decide(id, decision) {
                Some(table) => match decided.iter_mut().find(|(of, _)| *of == table) {
                    Some((_, ids)) => ids.push(id),
                    None => decided.push((table, vec![id])),
                },
                None => self.not_done(&[id], "no change of this number is held"),
            }
        }
        for (table, ids) in decided {
            match self.carrying.release(&self.context.pipeline, &table) {
                Ok((next, event)) => {
                    self.tries(&table);
                    self.put(next, Some(event));
                    self.send_note("someone decided");
                    self.deciding.extend(ids.into_iter().map(|id| (id, table.clone())));
                }
                Err(why) => self.not_done(&ids, &why),
            }
        }
        Ok(())
    }

    /// Says what does not come of decisions. Whoever decided may not be there any more.
    fn not_done(&self, ids: &[u64], why: &str) {
        for &id in ids {
            let message = format!("what was decided about change {id} is not done: {why}");
            self.context.say(Event::Warning { message });
            self.context.notes.decided(id, why);
        }
    }
}

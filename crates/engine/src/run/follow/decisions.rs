//! What people decide about changes of structure, while the pipeline runs.

use super::Driver;
use crate::pipeline::error::Result;
use moorage_adapter::{AdapterError, Event};
use moorage_core::TableName;
use moorage_core::model::drift::DriftPolicy;
use moorage_core::pick::pattern::shown_parts;
use std::sync::PoisonError;

impl Driver<'_> {
    /// At the begin of a run: held tables go on that nothing holds any more, because the project file was changed, or the
    /// target by hand.
    pub(super) async fn go_on_with_held(&mut self) -> Result<()> {
        let pipeline = &self.context.pipeline;
        for plan in self.carrying.held() {
            let table = plan.table();
            if let Some(why) = self.in_the_way(table) {
                let message = format!("{table} stays held: {why}");
                self.context.say(Event::Warning { message });
                continue;
            }
            let (released, why) = match self.carrying.release(pipeline, table) {
                Ok(released) => (Some(released), "the project file decided"),
                Err(_) => {
                    let there = pipeline.target.columns(&plan.target).await?;
                    (self.carrying.done_by_hand(pipeline, table, there), "it was done in the target")
                }
            };
            if let Some((next, event)) = released {
                self.put(next, Some(event));
                self.send_note(why);
            }
        }
        Ok(())
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
        for (id, decision) in others {
            if self.deciding.contains(&id) {
                continue;
            }
            match self.carrying.decide(&self.context.pipeline, id, decision) {
                Ok((next, event)) => {
                    self.put(next, Some(event));
                    self.send_note("someone decided");
                    self.deciding.push(id);
                }
                Err(why) => {
                    // Whoever decided may not be there any more.
                    let message = format!("what was decided about change {id} is not done: {why}");
                    self.context.say(Event::Warning { message });
                    self.context.notes.decided(id, &why);
                }
            }
        }
        Ok(())
    }
}

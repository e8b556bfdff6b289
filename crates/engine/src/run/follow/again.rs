//! Tables that are read again while the others are followed: who asks, and what becomes of it.

use super::Driver;
use crate::before::lacks;
use crate::pipeline::error::{EngineError, Result};
use crate::run::reread::Rereading;
use moorage_adapter::{AdapterError, Event};
use moorage_core::TableName;
use moorage_core::plan::table::TablePlan;
use std::time::Instant;

impl Driver<'_> {
    /// Takes note of the tables that someone asked for. One time at once: who asked before one began, and is answered
    /// after it ended, would be told of it once more.
    pub(super) fn asked_for(&mut self, asked: &[String]) {
        self.wanted = self.carrying.unmerged().cloned().collect();
        for table in asked {
            match self.carrying.named(table) {
                Some(plan) if self.wanted.contains(plan) => self.tries(plan.table()),
                Some(plan) if self.carrying.is_held(plan.table()) => {
                    let why =
                        "it is held: `moorage drift reread` for the change that it waits for reads it again";
                    self.context.notes.answer(table, why);
                }
                Some(plan) => {
                    self.tries(plan.table());
                    self.wanted.push(plan.clone());
                }
                None => self.context.notes.answer(table, "the pipeline does not carry it"),
            }
        }
        self.machine.answered(!self.wanted.is_empty(), Instant::now());
    }

    /// Begins to read tables again: all that were asked for, together, as they may refer to each other.
    pub(super) async fn begin_rereading(&mut self) -> Result<()> {
        let mut plans: Vec<TablePlan> =
            std::mem::take(&mut self.wanted).iter().map(|p| (**p).clone()).collect();
        if self.one_by_one {
            plans.truncate(1);
        }
        // It was tried in this run, and what the target does not take it does not take a moment later.
        if let Some(why) = plans.iter().find_map(|plan| self.not_taken(plan.table())) {
            self.not_read_again(&plans, &why);
            return Ok(());
        }
        let names: Vec<String> = plans.iter().map(|p| p.table().to_string()).collect();
        if let Some(message) = lacks::of_replacing(&self.context.pipeline, &names) {
            self.context.say(Event::Warning { message });
        }
        let capture = self.context.pipeline.capture(Some(&self.checkpoint)).await?;
        let is_first = |table: &TableName| self.carrying.is_first(table);
        let (pipeline, events) = (&self.context.pipeline, &self.context.events);
        let begun = Rereading::begin(pipeline, &capture, &plans, &is_first, events).await;
        match begun {
            Ok(begun) => self.rereading = Some(begun),
            Err(EngineError::Adapter(AdapterError::Refused { reason, .. })) => {
                self.not_read_again(&plans, &reason)
            }
            Err(error) => return Err(error),
        }
        Ok(())
    }

    /// The target would not take a table's rows in the place of those that it has: the others go on.
    pub(super) fn not_read_again(&mut self, plans: &[TablePlan], why: &str) {
        self.machine.gave_up();
        self.machine.removed();
        let [plan] = plans else {
            // Which of them it is shows when they are read one by one.
            self.one_by_one = true;
            self.machine.wants_reread(Instant::now());
            return;
        };
        self.one_by_one = false;
        self.context.notes.answer(&plan.table().to_string(), why);
        let unmerged = self.carrying.unmerged().any(|p| p.table() == plan.table());
        if unmerged {
            self.carrying.leave_out(plan.table());
        }
        let table = plan.table().to_string();
        self.context.say(match unmerged {
            true => Event::TableLeftOut {
                table,
                why: format!("it could not be read again, and waits for that: {why}"),
            },
            false => Event::Warning {
                message: format!("{table} was not read again, and goes on as it was: {why}"),
            },
        });
        if self.carrying.unmerged().next().is_some() {
            self.machine.wants_reread(Instant::now());
        }
    }

    pub(super) fn give_up_rereading(&mut self, why: &str) {
        let Some(rereading) = self.rereading.take() else { return };
        self.machine.gave_up();
        let tables = rereading.names();
        tables.iter().for_each(|table| self.context.notes.answer(table, why));
        let message = format!("{} was not read again: {why}. Its rows are as they were", tables.join(", "));
        self.context.say(Event::Warning { message });
        self.given_up = Some(rereading);
    }
}

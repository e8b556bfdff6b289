//! Handing pieces to the target, and what is taken note of once they are there.

use super::{Driver, SAY_EVERY};
use crate::pipeline::error::Result;
use crate::run::apply::{Applied, Applying, Committed, Job, Open};
use crate::run::reread::Rereading;
use chrono::Utc;
use moorage_adapter::{ChangeStream, Event, TableProgress};
use moorage_core::apply::prepare::Deed;
use moorage_core::follow::machine::{Piece, PieceEnd};
use std::sync::PoisonError;
use std::time::Instant;

impl Driver<'_> {
    pub(super) fn apply(&mut self, piece: Piece) {
        let replaces = match &piece.end {
            PieceEnd::Open => false,
            PieceEnd::Batch(ended) => ended.replaces,
            PieceEnd::Replacing(_) => true,
        };
        let (merge, records) = match self.open.take() {
            Some(Open { merge, records }) => (Some(merge), records),
            None => (None, Vec::new()),
        };
        let releases = piece.deeds.iter().filter(|deed| matches!(deed, Deed::Release(_)));
        self.releasing.extend(releases.flat_map(Deed::alterations).map(|alteration| alteration.id));
        self.is_taken(&piece);
        let job = Job {
            source: self.context.pipeline.source.clone(),
            target: self.context.pipeline.target.clone(),
            from: self.checkpoint.clone(),
            merge,
            records,
            keeping: std::mem::take(&mut self.keeping),
            hold_limit: self.context.pipeline.config.hold_limit_bytes(),
            piece,
            // What is fed from now on comes behind the rows that are put in place.
            rereading: self.rereading.take_if(|_| replaces),
        };
        self.carrying.replaces(job.rereading.iter().flat_map(Rereading::tables));
        let applying = Applying::begin(job);
        self.say_at = applying.began() + SAY_EVERY;
        self.applying = Some(applying);
    }

    pub(super) fn applied(&mut self, applied: Applied, stream: &dyn ChangeStream) {
        (self.open, self.keeping) = (applied.open, applied.keeping);
        self.context.measuring.with(|m| m.applying_since = None);
        for target in applied.full {
            let plan = self.carrying.plans().iter().find(|plan| plan.target == target);
            let table = plan.map_or(target.clone(), |plan| plan.table().to_string());
            if let Some(next) = self.carrying.is_full(&self.context.pipeline, &target) {
                self.put(next, None);
                self.send_note("there was no room for what was held");
            }
            let message = format!(
                "{table}: more changes were held than `hold_limit` allows, and they are gone. Its rows are as they were; it is \
                 read again by the next run, or now with `moorage resnapshot {table}`"
            );
            self.context.say(Event::Warning { message });
        }
        if let Some(committed) = applied.committed {
            self.committed(committed, stream);
        }
        if let Some(replaced) = applied.replaced {
            replaced.names().iter().for_each(|table| self.context.notes.answer(table, ""));
            replaced.done().for_each(|event| self.context.say(event));
        }
        self.machine.applied();
    }

    fn committed(&mut self, committed: Committed, stream: &dyn ChangeStream) {
        let Committed { durable, progress, ended, took } = committed;
        self.tell_of_rejects(&progress);
        let lag = self.is_committed(&progress, took);
        self.checkpoint = durable.checkpoint().clone();
        let Some(ended) = ended else { return };
        stream.acknowledge(&durable);
        for id in self.releasing.drain(..) {
            self.deciding.remove(&id);
            self.context.notes.decided(id, "");
        }
        let transaction = &ended.end.transaction;
        *self.merged_to.lock().unwrap_or_else(PoisonError::into_inner) = Some(transaction.position.clone());
        self.merged = true;
        self.context.say(Event::Merged {
            changes: ended.changes,
            transactions: ended.end.commits,
            committed_at: transaction.committed_at,
            position: self.checkpoint.position.clone(),
            lag_ms: lag.unwrap_or_else(|| self.skew.lag(transaction.committed_at, Utc::now())).as_millis()
                as u64,
            merge_ms: took.as_millis() as u64,
        });
    }

    /// Waits for what the target is at, and takes note of it.
    pub(super) async fn finish_applying(&mut self, stream: &dyn ChangeStream) -> Result<()> {
        while let Some(applying) = &mut self.applying {
            let done = tokio::select! {
                done = applying.done() => Some(done),
                () = tokio::time::sleep_until(self.say_at.into()) => None,
            };
            match done {
                None => self.say_slow(),
                Some(done) => {
                    self.applying = None;
                    self.applied(done?, stream);
                }
            }
        }
        Ok(())
    }

    pub(super) fn say_slow(&mut self) {
        self.say_at = Instant::now() + SAY_EVERY;
        let Some(applying) = &self.applying else { return };
        let (what, waited) = ("the target to take a batch".to_string(), applying.began().elapsed());
        self.context.say(Event::Waiting { what, waited_ms: waited.as_millis() as u64 });
    }

    fn tell_of_rejects(&self, progress: &[TableProgress]) {
        for TableProgress { target, counters } in progress.iter().filter(|p| p.counters.rejected > 0) {
            let plans = self.carrying.plans();
            let table = plans.iter().find(|p| p.target == *target).map(|p| p.table().to_string());
            let changes = match counters.rejected {
                1 => "1 change".to_string(),
                many => format!("{many} changes"),
            };
            let message = format!(
                "{changes} of {} refused by the target and set aside: `moorage rejects` shows what and why",
                table.as_ref().unwrap_or(target)
            );
            self.context.say(Event::Warning { message });
        }
    }
}

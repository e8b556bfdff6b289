//! A piece of a batch on its way into the target, in a task of its own: the next one is collected and prepared meanwhile.
//!
//! It is never broken off by what happens to the stream. Only when the whole run is dropped it is too; what was not
//! committed by then is undone.

use crate::pipeline::error::{EngineError, Result};
use crate::run::holding;
use crate::run::keeping::{Keeping, Kept};
use crate::run::reread::Rereading;
use crate::run::waiting::unread;
use chrono::Utc;
use moorage_adapter::{AdapterError, CountsFrom, Durable, Merge, Source, TableProgress, Target};
use moorage_core::apply::prepare::Deed;
use moorage_core::checkpoint::stored::{Checkpoint, Stage};
use moorage_core::drift::alter::{AlterStep, Alteration, Then};
use moorage_core::drift::record::DriftRecord;
use moorage_core::follow::machine::{Ended, Piece, PieceEnd};
use moorage_core::plan::table::TablePlan;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::task::JoinHandle;

/// What a piece needs on its way.
pub(crate) struct Job {
    pub(crate) source: Arc<dyn Source>,
    pub(crate) target: Arc<dyn Target>,
    /// What a batch goes on from.
    pub(crate) from: Checkpoint,
    /// The batch that is open already.
    pub(crate) merge: Option<Box<dyn Merge>>,
    /// What is to be kept of drift that it met so far.
    pub(crate) records: Vec<DriftRecord>,
    /// What is kept of held tables so far.
    pub(crate) keeping: Keeping,
    /// How many bytes are kept of each held table.
    pub(crate) hold_limit: u64,
    pub(crate) piece: Piece,
    /// Whose rows are put in place, if the piece says so.
    pub(crate) rereading: Option<Rereading>,
}

/// What came of it.
pub(crate) struct Applied {
    /// What is kept of held tables by now.
    pub(crate) keeping: Keeping,
    /// The batch that is still open.
    pub(crate) open: Option<Open>,
    /// The one that was committed.
    pub(crate) committed: Option<Committed>,
    /// What was put in place.
    pub(crate) replaced: Option<Rereading>,
    /// The tables that there was no more room to hold.
    pub(crate) full: Vec<String>,
}

/// A batch of which more follows.
pub(crate) struct Open {
    pub(crate) merge: Box<dyn Merge>,
    pub(crate) records: Vec<DriftRecord>,
}

/// A batch that was committed.
pub(crate) struct Committed {
    pub(crate) durable: Durable,
    pub(crate) progress: Vec<TableProgress>,
    /// Its end; none if it only put rows in place.
    pub(crate) ended: Option<Ended>,
    pub(crate) took: Duration,
}

/// The task.
pub(crate) struct Applying {
    task: JoinHandle<Result<Applied>>,
    began: Instant,
}

impl Applying {
    pub(crate) fn begin(job: Job) -> Self {
        let began = Instant::now();
        Self { task: tokio::spawn(job.carry_out(began)), began }
    }

    /// Since when.
    pub(crate) fn began(&self) -> Instant {
        self.began
    }

    /// Waits for its end. May be broken off, and asked again.
    pub(crate) async fn done(&mut self) -> Result<Applied> {
        match (&mut self.task).await {
            Ok(done) => done,
            Err(error) => {
                Err(AdapterError::Io { doing: "applying a batch".into(), reason: error.to_string() }.into())
            }
        }
    }
}

impl Drop for Applying {
    fn drop(&mut self) {
        self.task.abort();
    }
}

impl Job {
    async fn carry_out(mut self, began: Instant) -> Result<Applied> {
        self.keeping.begin(self.from.sequence);
        let mut merge = match self.merge.take() {
            Some(merge) => merge,
            None => self.target.begin(&self.from).await?,
        };
        let altered = self
            .piece
            .deeds
            .iter()
            .flat_map(Deed::alterations)
            .filter(|a| a.steps.iter().any(AlterStep::is_of_table));
        let altered: Vec<Arc<TablePlan>> = altered.map(|alteration| alteration.before.clone()).collect();
        if !altered.is_empty() {
            // All at once: nobody is to wait for one of them until another one is free.
            let replaced = self.rereading.iter().flat_map(Rereading::plans);
            merge.reserve(&altered.iter().map(AsRef::as_ref).chain(replaced).collect::<Vec<_>>()).await?;
        }
        let mut full = Vec::new();
        for deed in std::mem::take(&mut self.piece.deeds) {
            // The stream is ahead: what it gives of such a table was read before anybody there knew.
            let Some(deed) = deed.without(|target| self.keeping.has_given_up(target)) else { continue };
            full.extend(self.carry_out_deed(merge.as_mut(), deed).await?);
        }
        let ended = match self.piece.end {
            PieceEnd::Open => {
                let open = Some(Open { merge, records: self.records });
                return Ok(Applied { keeping: self.keeping, open, committed: None, replaced: None, full });
            }
            PieceEnd::Batch(ended) => Some(ended),
            PieceEnd::Replacing(place) => {
                self.from.valid_from = place.valid_from;
                None
            }
        };
        if let Some(rereading) = &mut self.rereading {
            let from = match &ended {
                Some(ended) => {
                    CountsFrom::behind(Some(&ended.end.transaction.position), ended.place.valid_from)
                }
                None => {
                    let position = self.source.parse_position(&self.from.position);
                    CountsFrom::behind(position.as_ref(), self.from.valid_from)
                }
            };
            let replaced = rereading.replace(self.source.as_ref(), merge.as_mut(), &from).await;
            replaced.map_err(|error| not_replaced(rereading, error))?;
            rereading.plans().for_each(|plan| self.keeping.takes_again(&plan.target));
        }
        let mut memos = Vec::with_capacity(self.records.len());
        for mut record in self.records {
            if let Some(ended) = &ended {
                record.position = ended.end.transaction.position.to_string();
                record.committed_at = Some(ended.end.transaction.committed_at);
            }
            memos.push(holding::record_memo(&record)?);
        }
        if !memos.is_empty() {
            merge.remember(&memos).await?;
        }
        let checkpoint = match &ended {
            Some(ended) => after(&self.from, ended),
            None => self.from,
        };
        let (durable, progress) = merge.commit_durably(checkpoint).await?;
        let committed = Committed { durable, progress, ended, took: began.elapsed() };
        let (keeping, replaced) = (self.keeping, self.rereading);
        Ok(Applied { keeping, open: None, committed: Some(committed), replaced, full })
    }

    /// Gives the target table that there was no more room for, if there is one.
    async fn carry_out_deed(&mut self, merge: &mut dyn Merge, deed: Deed) -> Result<Option<String>> {
        match deed {
            Deed::Write(batch) => merge.write(batch).await?,
            Deed::Alter(alteration) => {
                merge.alter(&alteration).await.map_err(|e| in_the_way(&alteration, e))?;
                if alteration.id == 0 {
                    return Ok(None);
                }
                let would = alteration.would.as_deref();
                let statements = self.target.alteration(would.unwrap_or(&alteration));
                let mut record = DriftRecord::of(alteration.id, &alteration, statements, Utc::now());
                if alteration.then == Then::Holds {
                    record.held_place = Some(self.keeping.keep_step(merge, &alteration).await?);
                }
                self.records.push(record);
            }
            Deed::Keep(plan, blocks) => {
                let (target, limit) = (&plan.target, self.hold_limit);
                if let Kept::Full = self.keeping.keep(merge, target, &blocks, limit).await? {
                    merge.alter(&unread(&plan)).await?;
                    return Ok(Some(plan.target.clone()));
                }
            }
            Deed::Clear(target) => self.keeping.clear(merge, &target).await?,
            Deed::Release(release) => {
                let Some(first) = release.alterations.first() else { return Ok(None) };
                self.keeping.release(merge, &release).await.map_err(|e| in_the_way(first, e))?;
                for (alteration, decision) in release.alterations.iter().zip(&release.decisions) {
                    let statements = self.target.alteration(alteration);
                    holding::decided(merge, alteration, statements, decision.clone()).await?;
                }
            }
        }
        Ok(None)
    }
}

/// What a target refuses to alter is not the end of the pipeline: the table is held.
fn in_the_way(alteration: &Alteration, error: AdapterError) -> EngineError {
    match error {
        AdapterError::Refused { reason, .. } => {
            EngineError::InTheWay { table: alteration.before.table().clone(), reason }
        }
        error => error.into(),
    }
}

/// Nor is that it does not take what was read again.
fn not_replaced(rereading: &Rereading, error: EngineError) -> EngineError {
    match (error, rereading.tables().next()) {
        (EngineError::Adapter(AdapterError::Refused { doing, reason }), Some(first)) => {
            let is_named = |plan: &&TablePlan| doing.object.as_ref() == Some(&plan.target);
            let table = rereading.plans().find(is_named).map_or(first, |plan| plan.table());
            EngineError::InTheWay { table: table.clone(), reason }
        }
        (error, _) => error,
    }
}

/// The checkpoint behind a batch.
fn after(before: &Checkpoint, ended: &Ended) -> Checkpoint {
    let transaction = &ended.end.transaction;
    Checkpoint {
        stage: Stage::Following,
        position: transaction.position.to_string(),
        proof: transaction.proof.clone(),
        sequence: ended.place.sequence,
        valid_from: ended.place.valid_from,
        committed_at: Some(transaction.committed_at),
        captured_at: ended.captured_at,
        merged_at: Some(Utc::now()),
        ..before.clone()
    }
}

//! A piece of a batch on its way into the target, in a task of its own: the next one is collected and prepared meanwhile.
//!
//! It is never broken off by what happens to the stream. Only when the whole run is dropped it is too; what was not
//! committed by then is undone.

use crate::pipeline::error::Result;
use crate::run::reread::Rereading;
use chrono::Utc;
use moorage_adapter::{AdapterError, Durable, Merge, Source, TableProgress, Target};
use moorage_core::apply::prepare::Deed;
use moorage_core::checkpoint::stored::{Checkpoint, Stage};
use moorage_core::follow::machine::{Ended, Piece, PieceEnd};
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
    pub(crate) piece: Piece,
    /// Whose rows are put in place, if the piece says so.
    pub(crate) rereading: Option<Rereading>,
}

/// What came of it.
pub(crate) struct Applied {
    /// The batch that is still open.
    pub(crate) merge: Option<Box<dyn Merge>>,
    /// The one that was committed.
    pub(crate) committed: Option<Committed>,
    /// What was put in place.
    pub(crate) replaced: Option<Rereading>,
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
        let mut merge = match self.merge.take() {
            Some(merge) => merge,
            None => self.target.begin(&self.from).await?,
        };
        for deed in std::mem::take(&mut self.piece.deeds) {
            match deed {
                Deed::Write(batch) => merge.write(batch).await?,
                Deed::Alter(alteration) => merge.alter(&alteration).await?,
            }
        }
        let ended = match self.piece.end {
            PieceEnd::Open => return Ok(Applied { merge: Some(merge), committed: None, replaced: None }),
            PieceEnd::Batch(ended) => Some(ended),
            PieceEnd::Replacing => None,
        };
        if let Some(rereading) = &mut self.rereading {
            rereading.replace(self.source.as_ref(), merge.as_mut()).await?;
        }
        let checkpoint = match &ended {
            Some(ended) => after(&self.from, ended),
            None => self.from,
        };
        let (durable, progress) = merge.commit_durably(checkpoint).await?;
        let committed = Committed { durable, progress, ended, took: began.elapsed() };
        Ok(Applied { merge: None, committed: Some(committed), replaced: self.rereading })
    }
}

/// The checkpoint behind a batch.
fn after(before: &Checkpoint, ended: &Ended) -> Checkpoint {
    let transaction = &ended.end.transaction;
    Checkpoint {
        stage: Stage::Following,
        position: transaction.position.to_string(),
        proof: transaction.proof.clone(),
        sequence: ended.sequence,
        committed_at: Some(transaction.committed_at),
        captured_at: ended.captured_at,
        merged_at: Some(Utc::now()),
        ..before.clone()
    }
}

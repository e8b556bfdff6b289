//! Following changes: stream → batch → merge → acknowledge.
//!
//! The driver of [`Batcher`]. It waits for a segment, a due time or a wish to stop, and carries out what
//! the batcher says. A source position is acknowledged only with the [`Durable`] that a target's commit
//! hands out. A merge is never broken off in the middle; while it runs, the stream goes on reading into
//! its bounded queue.

use crate::error::{EngineError, Result};
use crate::mappers::Mappers;
use crate::pipeline::Pipeline;
use crate::prepare::Following;
use crate::reread::Rereading;
use crate::run::{Context, Outcome};
use chrono::{DateTime, Utc};
use futures_util::FutureExt;
use moorage_adapter::{
    AdapterError, CapturePlan, ChangeStream, Event, Head, Merge, Source, StreamStart, StreamedSegment,
    TableProgress,
};
use moorage_core::batch::{Action, Batcher, Limits};
use moorage_core::checkpoint::{Checkpoint, Durable, Stage};
use moorage_core::lag::ClockSkew;
use moorage_core::plan::TablePlan;
use moorage_core::{Position, TableSchema};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::mpsc;
use tokio::task::JoinHandle;

/// How often the source is looked at for a log that grows without our changes.
const LOOK_EVERY: Duration = Duration::from_secs(10);
/// At every how many of these looks the catalogue is read too, for structure changes that the log does not
/// tell of. Reading it costs the source more.
const CATALOGUE_EVERY: u32 = 3;
/// How often it is seen whether a table is to be read again.
const ASKED_EVERY: Duration = Duration::from_millis(500);
/// How much of the log may grow past an idle pipeline before a note is written, so that the source can
/// let go of it.
const IDLE_GROWTH: u128 = 1 << 20;

/// A stream that ended in an error.
pub(crate) struct Failed {
    pub(crate) error: EngineError,
    /// Whether something had been merged, so that trying again may start with short pauses.
    pub(crate) merged: bool,
}

struct Follower<'a> {
    context: &'a Context,
    plans: Vec<TablePlan>,
    mappers: Mappers,
    checkpoint: Checkpoint,
    batcher: Batcher,
    merge: Option<Box<dyn Merge>>,
    changes_in_batch: u64,
    skew: ClockSkew,
    /// The note that tells that everything before it has arrived.
    note: Option<String>,
    note_arrived: bool,
    /// When the last whole transaction was read.
    captured_at: Option<DateTime<Utc>>,
    stopping: Option<String>,
    merged: bool,
    rereading: Option<Rereading>,
    /// What was given up, until no batch is open in which it could be removed.
    given_up: Option<Rereading>,
    /// When it is next seen whether a table is to be read again.
    next_ask: Instant,
}

enum Woken {
    Segment(StreamedSegment),
    Due,
    Stop(String),
    Looked(moorage_adapter::Result<Look>),
    /// All rows of a table that is read again are loaded, or that failed.
    Loaded(moorage_adapter::Result<()>),
    /// Time to see whether something was asked for.
    Asked,
}

/// Follows changes until the run is to end.
pub(crate) async fn follow(context: &Context, following: Following) -> std::result::Result<Outcome, Failed> {
    let limits = Limits { age: context.pipeline.config.merge_age(), ..Limits::default() };
    let mappers = Mappers::new(following.tables.iter().map(|t| &t.plan));
    let mappers = mappers.map_err(|e| Failed { error: e.into(), merged: false })?;
    let mut follower = Follower {
        context,
        plans: following.tables.iter().map(|t| t.plan.clone()).collect(),
        mappers,
        checkpoint: following.checkpoint.clone(),
        batcher: Batcher::new(limits),
        merge: None,
        changes_in_batch: 0,
        skew: ClockSkew::default(),
        note: None,
        note_arrived: false,
        captured_at: None,
        stopping: None,
        merged: false,
        rereading: None,
        given_up: None,
        next_ask: Instant::now() + ASKED_EVERY,
    };
    let done = follower.stream(following).await;
    done.map_err(|error| Failed { error, merged: follower.merged })
}

impl Follower<'_> {
    async fn stream(&mut self, following: Following) -> Result<Outcome> {
        let source = &self.context.pipeline.source;
        self.skew = source.head(&following.capture).await?.skew;
        let Following { checkpoint, capture, tables } = following;
        let start = StreamStart { checkpoint, capture, tables };
        let mut stream = source.changes(start, &self.context.events).await?;
        self.context.say(Event::Streaming { position: self.checkpoint.position.clone() });
        if self.context.options.until_caught_up {
            let note = format!("caught up {}", uuid::Uuid::new_v4());
            source.send_note(&note).await?;
            self.note = Some(note);
        }
        let done = self.drive(stream.as_mut()).await;
        // A merge that is still open holds part of a transaction: it is undone.
        self.merge = None;
        stream.close().await;
        done
    }

    async fn drive(&mut self, stream: &mut dyn ChangeStream) -> Result<Outcome> {
        let mut looks = Looks::start(&self.context.pipeline, self.plans.clone());
        self.begin_rereading().await?;
        loop {
            let flush = self.stopping.is_some() || self.note_arrived;
            let due = match self.batcher.next(Instant::now(), flush) {
                Action::Commit => {
                    // What waits already goes along: otherwise a source that is quicker than one commit after
                    // the other would get ever further ahead.
                    if !self.batcher.is_full()
                        && let Some(segment) = stream.next().now_or_never()
                    {
                        self.take(segment?).await?;
                        continue;
                    }
                    self.commit(stream).await?;
                    continue;
                }
                Action::WritePart => {
                    let blocks = self.batcher.take_part();
                    self.open_merge().await?.write(&blocks).await?;
                    continue;
                }
                Action::WaitUntil(due) => Some(due),
                Action::Wait => None,
            };
            if let Some(by) = self.stopping.take() {
                return Ok(Outcome::Stopped { by });
            }
            self.replace_when_quiet().await?;
            self.remove_given_up().await?;
            if self.note_arrived && !self.batcher.in_transaction() && self.rereading.is_none() {
                return Ok(Outcome::CaughtUp);
            }
            let next_ask = self.next_ask;
            match wait(self.context, stream, due, &mut looks, self.rereading.as_mut(), next_ask).await? {
                Woken::Segment(segment) => self.take(segment).await?,
                Woken::Due => {}
                Woken::Asked => {
                    self.next_ask = Instant::now() + ASKED_EVERY;
                    self.begin_rereading().await?;
                }
                Woken::Loaded(Ok(())) => {}
                Woken::Loaded(Err(error)) => self.give_up_rereading(&error.to_string()),
                Woken::Stop(by) => {
                    self.context.say(Event::Stopping { by: by.clone() });
                    self.stopping = Some(by);
                }
                Woken::Looked(found) => self.looked(found?)?,
            }
        }
    }

    async fn take(&mut self, arrived: StreamedSegment) -> Result<()> {
        let segment = arrived.segment;
        if segment.last_commit.is_some() {
            self.captured_at = Some(Utc::now());
        }
        if let Some(rereading) = &mut self.rereading
            && !rereading.keep(&segment)?
        {
            self.give_up_rereading("too much changed in the table while it was read (more than 1 GiB)");
        }
        self.note_arrived |= self.note.as_ref().is_some_and(|note| segment.notes.contains(note));
        self.changes_in_batch += segment.blocks.iter().map(|b| b.len() as u64).sum::<u64>();
        self.batcher.add(self.mappers.segment(segment)?, Instant::now());
        Ok(())
    }

    /// Begins to read the next table again that someone asked for.
    async fn begin_rereading(&mut self) -> Result<()> {
        // One at a time; and room for it cannot be made while a batch is open.
        if self.rereading.is_some() || self.given_up.is_some() || self.merge.is_some() {
            return Ok(());
        }
        let name = &self.context.pipeline.name;
        for table in self.context.state.asked_again(name)? {
            match self.plans.iter().find(|p| p.table().to_string() == table).cloned() {
                Some(plan) => {
                    let begun = Rereading::begin(&self.context.pipeline, &plan, &self.context.events).await?;
                    self.rereading = Some(begun);
                    return Ok(());
                }
                None => self.context.state.answer_again(name, &table, "the pipeline does not carry it"),
            }
        }
        Ok(())
    }

    fn give_up_rereading(&mut self, why: &str) {
        let Some(rereading) = self.rereading.take() else { return };
        let table = rereading.plan.table().to_string();
        self.context.state.answer_again(&self.context.pipeline.name, &table, why);
        let message = format!("{table} was not read again: {why}. Its rows are as they were");
        self.context.say(Event::Warning { message });
        self.given_up = Some(rereading);
    }

    /// The target has one writer: while a batch is open, nothing else can be changed in it.
    async fn remove_given_up(&mut self) -> Result<()> {
        match self.given_up.take() {
            Some(rereading) if self.merge.is_none() => {
                rereading.remove(self.context.pipeline.target.as_ref()).await
            }
            kept => {
                self.given_up = kept;
                Ok(())
            }
        }
    }

    /// On a quiet source no batch comes: then the loaded rows take their place in one of their own.
    async fn replace_when_quiet(&mut self) -> Result<()> {
        let source = &self.context.pipeline.source;
        let quiet = self.merge.is_none() && self.batcher.rows() == 0 && !self.batcher.in_transaction();
        let here = source.parse_position(&self.checkpoint.position);
        let due = self.rereading.as_ref().zip(here.as_ref()).is_some_and(|(r, here)| r.is_due(here));
        if !quiet || !due {
            return Ok(());
        }
        self.open_merge().await?;
        self.replace_reread().await?;
        let Some(merge) = self.merge.take() else { return Ok(()) };
        let (durable, _) = merge.commit(self.checkpoint.clone()).await?;
        self.checkpoint = durable.checkpoint().clone();
        self.reread_done()
    }

    async fn replace_reread(&mut self) -> Result<()> {
        let source = self.context.pipeline.source.clone();
        if let (Some(rereading), Some(merge)) = (&mut self.rereading, &mut self.merge) {
            rereading.replace(source.as_ref(), merge.as_mut()).await?;
        }
        Ok(())
    }

    fn reread_done(&mut self) -> Result<()> {
        if let Some(rereading) = self.rereading.take() {
            let (name, table) = (&self.context.pipeline.name, rereading.plan.table().to_string());
            self.context.state.answer_again(name, &table, "");
            self.context.say(rereading.done());
        }
        Ok(())
    }

    /// The open target transaction, begun if there is none.
    async fn open_merge(&mut self) -> Result<&mut Box<dyn Merge>> {
        match &mut self.merge {
            Some(merge) => Ok(merge),
            none => {
                let target = &self.context.pipeline.target;
                Ok(none.insert(target.begin(&self.context.pipeline.name, &self.plans).await?))
            }
        }
    }

    async fn commit(&mut self, stream: &dyn ChangeStream) -> Result<()> {
        let began = Instant::now();
        let Some((blocks, end)) = self.batcher.close() else { return Ok(()) };
        self.open_merge().await?.write(&blocks).await?;
        let replaces = self.rereading.as_ref().is_some_and(|r| r.is_due(&end.transaction.position));
        if replaces {
            self.replace_reread().await?;
        }
        let Some(merge) = self.merge.take() else { return Ok(()) };
        let checkpoint = Checkpoint {
            stage: Stage::Following,
            position: end.transaction.position.to_string(),
            proof: end.transaction.proof.clone(),
            committed_at: Some(end.transaction.committed_at),
            captured_at: self.captured_at,
            merged_at: Some(Utc::now()),
            ..self.checkpoint.clone()
        };
        let (durable, progress): (Durable, _) = merge.commit(checkpoint).await?;
        self.tell_of_rejects(&progress);
        stream.acknowledge(&durable);
        self.checkpoint = durable.checkpoint().clone();
        self.merged = true;
        let lag = self.skew.lag(end.transaction.committed_at, Utc::now());
        self.context.say(Event::Merged {
            changes: std::mem::take(&mut self.changes_in_batch),
            transactions: end.commits,
            committed_at: end.transaction.committed_at,
            position: self.checkpoint.position.clone(),
            lag_ms: lag.as_millis() as u64,
            merge_ms: began.elapsed().as_millis() as u64,
        });
        if replaces {
            self.reread_done()?;
        }
        Ok(())
    }

    fn tell_of_rejects(&self, progress: &[TableProgress]) {
        for TableProgress { target, counters } in progress.iter().filter(|p| p.counters.rejected > 0) {
            let table = self.plans.iter().find(|p| p.target == *target).map(|p| p.table().to_string());
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

    /// Refuses structure changes that the log does not tell of, and keeps an idle pipeline's checkpoint
    /// near the end of a log that others fill.
    fn looked(&mut self, look: Look) -> Result<()> {
        self.skew = look.head.skew;
        let idle = self.batcher.rows() == 0 && self.merge.is_none() && !self.batcher.in_transaction();
        if !idle {
            return Ok(());
        }
        if let Some((schema, what)) = look.drifted.into_iter().next() {
            return Err(AdapterError::Drift { table: schema.table.to_string(), what }.into());
        }
        if look.head.holds_log_back && self.is_far_behind(&look.head.position) {
            let source = self.context.pipeline.source.clone();
            tokio::spawn(async move {
                if let Err(error) = source.send_note("the log grew while no carried table changed").await {
                    tracing::warn!("the source keeps more of its log than needed: {error}");
                }
            });
        }
        Ok(())
    }

    fn is_far_behind(&self, head: &Position) -> bool {
        let at = self.context.pipeline.source.parse_position(&self.checkpoint.position);
        at.is_some_and(|at| head.rank().saturating_sub(at.rank()) > IDLE_GROWTH)
    }
}

/// Waits for what comes first.
async fn wait(
    context: &Context,
    stream: &mut dyn ChangeStream,
    due: Option<Instant>,
    looks: &mut Looks,
    rereading: Option<&mut Rereading>,
    next_ask: Instant,
) -> Result<Woken> {
    let loaded = async {
        match rereading {
            Some(rereading) => rereading.loaded().await,
            None => std::future::pending().await,
        }
    };
    let sleep = async {
        match due {
            Some(due) => tokio::time::sleep_until(due.into()).await,
            None => std::future::pending().await,
        }
    };
    tokio::select! {
        biased;
        by = context.asked_to_stop() => Ok(Woken::Stop(by)),
        () = sleep => Ok(Woken::Due),
        loaded = loaded => Ok(Woken::Loaded(loaded)),
        () = tokio::time::sleep_until(next_ask.into()) => Ok(Woken::Asked),
        segment = stream.next() => Ok(Woken::Segment(segment?)),
        look = looks.next() => Ok(Woken::Looked(look)),

    }
}

/// What a look at the source found.
struct Look {
    head: Head,
    drifted: Vec<(Arc<TableSchema>, String)>,
}

/// Looks at the source from a task of its own, so that no merge waits for it.
struct Looks {
    found: mpsc::Receiver<moorage_adapter::Result<Look>>,
    task: JoinHandle<()>,
}

impl Looks {
    fn start(pipeline: &Pipeline, plans: Vec<TablePlan>) -> Self {
        let (sender, found) = mpsc::channel(1);
        let (source, capture) = (pipeline.source.clone(), pipeline.capture());
        let task = tokio::spawn(async move {
            for round in 1u32.. {
                tokio::time::sleep(LOOK_EVERY).await;
                let catalogue = round.is_multiple_of(CATALOGUE_EVERY);
                match look(source.as_ref(), &capture, if catalogue { &plans } else { &[] }).await {
                    // The stream itself tells when the source is gone.
                    Err(error) if error.is_transient() => {}
                    found => {
                        if sender.send(found).await.is_err() {
                            return;
                        }
                    }
                }
            }
        });
        Self { found, task }
    }

    async fn next(&mut self) -> moorage_adapter::Result<Look> {
        match self.found.recv().await {
            Some(look) => look,
            None => std::future::pending().await,
        }
    }
}

impl Drop for Looks {
    fn drop(&mut self) {
        self.task.abort();
    }
}

async fn look(
    source: &dyn Source,
    capture: &CapturePlan,
    plans: &[TablePlan],
) -> moorage_adapter::Result<Look> {
    let head = source.head(capture).await?;
    let drifted = if plans.is_empty() { Vec::new() } else { source.drifted(capture, plans).await? };
    Ok(Look { head, drifted })
}

//! Following changes: stream → batch → merge → acknowledge.
//!
//! The driver of [`Batcher`]. It waits for a segment, a due time or a wish to stop, and carries out what
//! the batcher says. A source position is acknowledged only with the [`Durable`] that a target's commit
//! hands out. A merge is never broken off in the middle; while it runs, the stream goes on reading into
//! its bounded queue.

use crate::error::{EngineError, Result};
use crate::looks::{Look, Looks};
use crate::mappers::Mappers;
use crate::prepare::Following;
use crate::reread::Rereading;
use crate::run::{Context, Outcome};
use chrono::{DateTime, Utc};
use futures_util::FutureExt;
use moorage_adapter::{
    AdapterError, ChangeStream, Event, Merge, StreamStart, StreamedSegment, TableProgress,
};
use moorage_core::Position;
use moorage_core::batch::{Action, Batcher, Limits};
use moorage_core::checkpoint::{Checkpoint, Durable, Stage};
use moorage_core::lag::ClockSkew;
use moorage_core::plan::TablePlan;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// How often it is seen whether a table is to be read again.
const ASKED_EVERY: Duration = Duration::from_millis(500);
/// How much of the log may grow past an idle pipeline before a note is written, so that the source can
/// let go of it.
const IDLE_GROWTH: u128 = 1 << 20;

/// How often it is said that a merge takes long.
const SAY_EVERY: Duration = Duration::from_secs(5);

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
    /// Up to where everything was merged, for those who look.
    merged_to: Arc<Mutex<Option<Position>>>,
    /// What a look found that takes effect once the stream has passed the look.
    found: Option<Found>,
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
        merged_to: Arc::default(),
        found: None,
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
        let Following { checkpoint, capture, tables, captured_by } = following;
        let mut looks =
            Looks::start(&self.context.pipeline, self.plans.clone(), captured_by, self.merged_to.clone());
        let start = StreamStart { checkpoint, capture, tables };
        let mut stream = source.changes(start, &self.context.events).await?;
        self.context.say(Event::Streaming { position: self.checkpoint.position.clone() });
        if self.context.options.until_caught_up {
            let note = format!("caught up {}", uuid::Uuid::new_v4());
            source.send_note(&note).await?;
            self.note = Some(note);
        }
        let done = self.drive(stream.as_mut(), &mut looks).await;
        // A merge that is still open holds part of a transaction: it is undone.
        self.merge = None;
        stream.close().await;
        done
    }

    async fn drive(&mut self, stream: &mut dyn ChangeStream, looks: &mut Looks) -> Result<Outcome> {
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
            match wait(self.context, stream, due, looks, self.rereading.as_mut(), next_ask).await? {
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
        match self.rereading.as_mut().map(|rereading| rereading.keep(&segment)) {
            Some(Ok(false)) => {
                self.give_up_rereading("too much changed in the table while it was read (more than 1 GiB)");
            }
            // A full disk here, say: the pipeline itself needs no spool.
            Some(Err(error)) => self.give_up_rereading(&error.to_string()),
            Some(Ok(true)) | None => {}
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
        let mut plans = Vec::new();
        for table in self.context.state.asked_again(name)? {
            match self.plans.iter().find(|p| p.table().to_string() == table) {
                Some(plan) => plans.push(plan.clone()),
                None => self.context.state.answer_again(name, &table, "the pipeline does not carry it"),
            }
        }
        if !plans.is_empty() {
            // All that were asked for, together: they may refer to each other.
            let begun = Rereading::begin(&self.context.pipeline, &plans, &self.context.events).await?;
            self.rereading = Some(begun);
        }
        Ok(())
    }

    fn give_up_rereading(&mut self, why: &str) {
        let Some(rereading) = self.rereading.take() else { return };
        let tables = rereading.names();
        let name = &self.context.pipeline.name;
        tables.iter().for_each(|table| self.context.state.answer_again(name, table, why));
        let message = format!("{} was not read again: {why}. Its rows are as they were", tables.join(", "));
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
            let name = &self.context.pipeline.name;
            rereading.names().iter().for_each(|table| self.context.state.answer_again(name, table, ""));
            rereading.done().for_each(|event| self.context.say(event));
        }
        Ok(())
    }

    /// The open target transaction, begun if there is none.
    async fn open_merge(&mut self) -> Result<&mut Box<dyn Merge>> {
        match &mut self.merge {
            Some(merge) => Ok(merge),
            none => {
                let target = &self.context.pipeline.target;
                Ok(none.insert(target.begin(&self.checkpoint, &self.plans).await?))
            }
        }
    }

    /// Merges and commits what was collected; while that takes long, says so.
    async fn commit(&mut self, stream: &dyn ChangeStream) -> Result<()> {
        let (began, events) = (Instant::now(), self.context.events.clone());
        let mut merging = std::pin::pin!(self.commit_batch(stream));
        loop {
            tokio::select! {
                done = &mut merging => return done,
                () = tokio::time::sleep(SAY_EVERY) => {}
            }
            let what = "the target to take a batch".to_string();
            events(Event::Waiting { what, waited_ms: began.elapsed().as_millis() as u64 });
        }
    }

    async fn commit_batch(&mut self, stream: &dyn ChangeStream) -> Result<()> {
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
        *self.merged_to.lock().unwrap_or_else(PoisonError::into_inner) =
            Some(end.transaction.position.clone());
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
        self.take_effect(false)
    }

    /// What a look found stops the stream where the look was taken: not before, for what came earlier is as it was; and
    /// not never, however busy the other tables are.
    fn take_effect(&mut self, idle: bool) -> Result<()> {
        let at = self.context.pipeline.source.parse_position(&self.checkpoint.position);
        let passed = |found: &Found| idle || at.is_some_and(|at| at >= found.position);
        match self.found.take() {
            Some(found) if passed(&found) => Err(found.error.into()),
            found => {
                self.found = found;
                Ok(())
            }
        }
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
        if let Some(error) = look.found {
            self.found.get_or_insert(Found { position: look.head.position.clone(), error });
            if !idle {
                // Something for the stream to pass, also if nothing else comes.
                self.send_note("the source was looked at");
            }
        }
        self.take_effect(idle)?;
        if !idle {
            return Ok(());
        }
        if look.head.holds_log_back && self.is_far_behind(&look.head.position) {
            self.send_note("the log grew while no carried table changed");
        }
        Ok(())
    }

    /// Sends a note without waiting for it.
    fn send_note(&self, note: &'static str) {
        let source = self.context.pipeline.source.clone();
        tokio::spawn(async move {
            if let Err(error) = source.send_note(note).await {
                tracing::warn!("the source keeps more of its log than needed: {error}");
            }
        });
    }

    fn is_far_behind(&self, head: &Position) -> bool {
        let at = self.context.pipeline.source.parse_position(&self.checkpoint.position);
        at.is_some_and(|at| head.rank().saturating_sub(at.rank()) > IDLE_GROWTH)
    }
}

/// What takes effect at a position.
struct Found {
    position: Position,
    error: AdapterError,
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

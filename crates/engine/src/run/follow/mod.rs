//! Following changes: stream → batch → merge → acknowledge.
//!
//! The driver of [`Follow`], which decides; here it is carried out. A source position is acknowledged only with the
//! [`Durable`](moorage_adapter::Durable) that a target's commit hands out. Nothing on this loop waits for the target or for
//! a disk, but to make or clear room for reading tables again: pieces are applied in a task ([`Applying`]), notes and
//! spools are kept by threads of their own.

mod again;
mod applying;
mod decisions;
mod measure;

use crate::pipeline::context::{Context, Following, Outcome};
use crate::pipeline::error::{EngineError, Result};
use crate::pipeline::measuring::Measures;
use crate::pipeline::notes::Asked;
use crate::run::apply::{Applied, Applying, Open};
use crate::run::came_and_went::write_down_the_stop;
use crate::run::carrying::{Carrying, Led};
use crate::run::keeping::Keeping;
use crate::run::looks::{Look, LookAt, Looks};
use crate::run::reread::Rereading;
use crate::run::waiting::unread;
use chrono::Utc;
use futures_util::FutureExt;
use moorage_adapter::{AdapterError, ChangeStream, Event, StreamStart, StreamTable, StreamedSegment};
use moorage_core::apply::batch::{Collected, Limits};
use moorage_core::change::kind::Transaction;
use moorage_core::change::structure::SchemaChange;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::drift::record::DriftRecord;
use moorage_core::drift::standing::TargetColumns;
use moorage_core::follow::machine::{End, Follow, FollowError, Looked, Next, Settings};
use moorage_core::plan::table::TablePlan;
use moorage_core::watch::lag::ClockSkew;
use moorage_core::{Position, TableName};
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tokio::sync::oneshot;

/// How often it is said that a merge takes long.
const SAY_EVERY: Duration = Duration::from_secs(5);

/// A stream that ended in an error.
pub(crate) struct Failed {
    pub(crate) error: EngineError,
    /// Whether something had been merged, so that trying again may start with short pauses.
    pub(crate) merged: bool,
}

struct Driver<'a> {
    context: &'a Context,
    /// The tables, behind all that was read.
    carrying: Carrying,
    machine: Follow<AdapterError>,
    checkpoint: Checkpoint,
    skew: ClockSkew,
    /// The batch that is open in the target, while nothing is applied.
    open: Option<Open>,
    /// What is kept of held tables, while nothing is applied.
    keeping: Keeping,
    applying: Option<Applying>,
    /// When it is next said that the target takes long.
    say_at: Instant,
    stopping: bool,
    merged: bool,
    /// Up to where everything was merged, for those who look.
    merged_to: Arc<Mutex<Option<Position>>>,
    rereading: Option<Rereading>,
    /// What was given up, until it can be cleared away.
    given_up: Option<Rereading>,
    asking: Option<oneshot::Receiver<Result<Asked>>>,
    /// Tables that are to be read again, until that can begin.
    wanted: Vec<Arc<TablePlan>>,
    /// What was decided, by numbers, about which tables, and is answered once it is done: until then it is asked for again and
    /// again.
    deciding: HashMap<u64, TableName>,
    /// Those among them that the open batch carries out.
    releasing: Vec<u64>,
    /// Whether the open batch applies or drops what was kept of a table.
    lets_go: bool,
    /// Tables that wait to be let in, by the numbers of their records.
    offered: HashMap<u64, String>,
    /// Whether they are read one by one, because together they could not be.
    one_by_one: bool,
    /// What is recorded of the change that the stream ends with.
    stops_before: Option<Box<DriftRecord>>,
    /// A look at the target tables of held tables.
    standing: Option<oneshot::Receiver<Standing>>,
    /// How they stood when they were last looked at.
    stood: HashMap<TableName, TargetColumns>,
}

/// Held tables, and what columns their target tables have.
type Standing = Vec<(TableName, TargetColumns)>;

enum Woken {
    Segment(StreamedSegment),
    Due,
    Stop(String),
    Looked(moorage_adapter::Result<Look>),
    Applied(Result<Box<Applied>>),
    /// The target has been at it for a while.
    Slow,
    /// All rows of the tables that are read again are loaded, or that failed.
    Loaded(moorage_adapter::Result<Position>),
    /// What someone has asked for.
    Asked(Result<Asked>),
    /// How the target tables of held tables stand.
    Standing(Standing),
}

/// Follows changes until the run is to end.
pub(crate) async fn follow(context: &Context, following: Following) -> std::result::Result<Outcome, Failed> {
    let mut driver = match Driver::new(context, &following).await {
        Ok(driver) => driver,
        Err(error) => return Err(Failed { error, merged: false }),
    };
    let done = driver.stream(following).await;
    done.map_err(|error| Failed { error, merged: driver.merged })
}

impl<'a> Driver<'a> {
    async fn new(context: &'a Context, following: &Following) -> Result<Self> {
        let (source, target) = (&context.pipeline.source, &context.pipeline.target);
        let checkpoint = following.checkpoint.clone();
        let settled = target.settled(&context.pipeline.name).await?;
        let settled = settled.filter(|settled| settled.position != checkpoint.position);
        let carrying = Carrying::new(following)?;
        let keeping = Keeping::new(checkpoint.sequence, settled.is_some());
        let until = || format!("caught up {}", uuid::Uuid::new_v4());
        let settings = Settings {
            limits: Limits { age: context.pipeline.config.merge_age(), ..Limits::default() },
            tables: carrying.plans().clone(),
            done: source.parse_position(&checkpoint.position).zip(checkpoint.committed_at).map(
                |(position, committed_at)| {
                    Arc::new(Transaction {
                        position,
                        proof: checkpoint.proof.clone(),
                        committed_at,
                        found: None,
                    })
                },
            ),
            at: source.parse_position(&checkpoint.position),
            sequence: checkpoint.sequence,
            valid_from: checkpoint.valid_from,
            settled: settled.and_then(|s| Some((source.parse_position(&s.position)?, s.sequence))),
            until: context.options.until_caught_up.then(until),
        };
        Ok(Self {
            context,
            carrying,
            machine: Follow::new(settings, Instant::now()),
            checkpoint,
            skew: ClockSkew::default(),
            open: None,
            keeping,
            applying: None,
            say_at: Instant::now(),
            stopping: false,
            merged: false,
            merged_to: Arc::default(),
            rereading: None,
            given_up: None,
            asking: None,
            offered: following.offered.clone(),
            deciding: HashMap::new(),
            releasing: Vec::new(),
            lets_go: false,
            wanted: Vec::new(),
            one_by_one: false,
            stops_before: None,
            standing: None,
            stood: HashMap::new(),
        })
    }

    async fn stream(&mut self, following: Following) -> Result<Outcome> {
        let source = &self.context.pipeline.source;
        self.skew = source.head(&following.capture).await?.skew;
        self.measuring_begins().await?;
        let Following {
            checkpoint,
            capture,
            tables,
            captured_by,
            held_before,
            found,
            refused,
            remapped,
            orphans,
            as_they_are,
            ..
        } = following;
        let by_number = self.carrying.plans().iter().map(|plan| plan.source_id).zip(&captured_by);
        let by_number: HashMap<u64, &Option<String>> = by_number.collect();
        let captures = |t: &StreamTable| by_number.get(&t.plan.source_id).and_then(|by| (*by).clone());
        let captured: Vec<Option<String>> = tables.iter().map(captures).collect();
        let there = self.carrying.plans().iter().filter(|plan| !orphans.contains(plan.table()));
        let at = LookAt {
            capture: capture.clone(),
            plans: there.map(|plan| (**plan).clone()).collect(),
            captured_by,
            found,
            refused,
        };
        let mut looks = Looks::start(self.context, at, self.merged_to.clone());
        let settled = self.machine.settled().cloned();
        let start = StreamStart { checkpoint, capture, tables, captured_by: captured, settled };
        let mut stream = source.changes(start, &self.context.events).await?;
        self.context.measuring.with(|m| m.gauge = Some(stream.gauge()));
        self.context.say(Event::Streaming { position: self.checkpoint.position.clone() });
        if let Some(note) = self.machine.until() {
            source.send_note(note).await?;
        }
        for target in held_before {
            self.machine.put(Collected::Clear(target), Instant::now());
            self.send_note("tables were read again");
        }
        if self.carrying.unmerged().next().is_some() {
            self.machine.wants_reread(Instant::now());
        }
        for table in as_they_are {
            if let Some((_, plan)) = self.carrying.plans().of(&table) {
                let planned = Collected::Alter(Arc::new(unread(plan)));
                self.put(planned, None);
                self.send_note("a table is to be read again");
            }
        }
        for table in remapped {
            let (next, event) = self
                .carrying
                .remap(&self.context.pipeline, &table)
                .map_err(|what| AdapterError::Drift { table, what })?;
            self.put(next, Some(event));
            self.send_note("the project file was changed");
        }
        self.go_on_with_held().await?;
        let done = self.drive(stream.as_mut(), &mut looks).await;
        // Whatever became of the stream: what the target is at is not broken off.
        let applied = self.finish_applying(stream.as_ref()).await;
        // A batch that is still open holds part of a transaction: it is undone.
        self.open = None;
        self.context.measuring.with(Measures::stream_ends);
        stream.close().await;
        let ended = done.and_then(|outcome| applied.map(|()| outcome));
        if let Err(EngineError::InTheWay { table, reason }) = &ended {
            self.is_refused(table, reason);
        }
        if let (Err(EngineError::Adapter(AdapterError::Drift { .. })), Some(record)) =
            (&ended, self.stops_before.take())
        {
            self.context.noted.lock().unwrap_or_else(PoisonError::into_inner).push(*record);
            write_down_the_stop(self.context, &self.checkpoint, self.carrying.next_id()).await;
        }
        ended
    }

    async fn drive(&mut self, stream: &mut dyn ChangeStream, looks: &mut Looks) -> Result<Outcome> {
        loop {
            match self.machine.next(Instant::now()).map_err(failed)? {
                Next::Apply(piece) => self.apply(piece),
                Next::Gather => match stream.next().now_or_never() {
                    Some(segment) => self.take(segment?).await?,
                    None => self.machine.gathered(),
                },
                Next::Ask => self.asking = Some(self.context.notes.ask()),
                Next::Begin => self.begin_rereading().await?,
                Next::Remove => {
                    if let Some(given_up) = self.given_up.take() {
                        given_up.remove(self.context.pipeline.target.as_ref()).await?;
                    }
                    self.machine.removed();
                }
                Next::End(End::CaughtUp) => return caught_up(self.context, looks).await,
                Next::End(end) => return ended(end),
                Next::Wait { until, reads } => {
                    let woken = self.wait(stream, looks, until, reads).await?;
                    self.woken(woken, stream).await?;
                }
            }
        }
    }

    async fn woken(&mut self, woken: Woken, stream: &dyn ChangeStream) -> Result<()> {
        match woken {
            Woken::Segment(segment) => self.take(segment).await?,
            Woken::Due => {}
            Woken::Stop(by) => {
                self.context.say(Event::Stopping { by: by.clone() });
                self.stopping = true;
                self.machine.stop(by);
            }
            Woken::Looked(look) => {
                self.looked(look?);
                self.look_at_held();
            }
            Woken::Applied(applied) => {
                self.applying = None;
                self.applied(*applied?, stream);
            }
            Woken::Slow => self.say_slow(),
            Woken::Loaded(Ok(complete_at)) => self.machine.loaded(complete_at),
            Woken::Loaded(Err(error)) => self.give_up_rereading(&error.to_string()),
            Woken::Asked(asked) => {
                self.asking = None;
                let Asked { tables, decisions } = asked?;
                self.decided(decisions)?;
                self.asked_for(&tables);
            }
            Woken::Standing(all) => {
                self.standing = None;
                all.into_iter().for_each(|(table, there)| self.stands(&table, there));
            }
        }
        Ok(())
    }

    async fn take(&mut self, arrived: StreamedSegment) -> Result<()> {
        let mut segment = self.carrying.read(arrived.segment)?;
        self.measure(&segment);
        for change in std::mem::take(&mut segment.schema) {
            segment.schema.extend(self.structure(change)?);
        }
        if let Some(rereading) = &mut self.rereading
            && let Err(why) = rereading.keep(&segment).await
        {
            // A full disk here, say: the pipeline itself needs no spool.
            self.give_up_rereading(&why);
        }
        let mapped = self.carrying.merged(segment)?;
        self.machine.segment(mapped, Instant::now(), Utc::now()).map_err(failed)
    }

    /// A table's structure has changed. Gives the change if the stream ends with it.
    fn structure(&mut self, change: SchemaChange) -> Result<Option<SchemaChange>> {
        let table = change.table.clone();
        let in_the_way = self.in_the_way(&table);
        let led = self.carrying.change(&self.context.pipeline, change, in_the_way.as_ref())?;
        let (next, event) = match led {
            Led::Nowhere => return Ok(None),
            Led::Ends(change, record) => {
                self.stops_before = record;
                return Ok(Some(change));
            }
            Led::To(next, event) => (next, event),
        };
        if self.rereading.as_ref().is_some_and(|rereading| rereading.reads(&table)) {
            // What was loaded has the structure that the table had. It is asked for again with the one that it has.
            self.give_up_rereading("its structure was changed meanwhile");
        }
        self.put(next, event);
        Ok(None)
    }

    /// What had the target not alter a table.
    fn in_the_way(&self, table: &TableName) -> Option<String> {
        self.context.in_the_way.lock().unwrap_or_else(PoisonError::into_inner).get(table).cloned()
    }

    /// Something is done to a table, behind all that was read.
    fn put(&mut self, next: Collected, event: Option<Event>) {
        if self.carrying.unmerged().next().is_some() {
            self.machine.wants_reread(Instant::now());
        }
        self.machine.put(next, Instant::now());
        event.into_iter().for_each(|event| self.context.say(event));
    }

    fn looked(&mut self, look: Look) {
        let source = &self.context.pipeline.source;
        self.skew = look.head.skew;
        self.measure_look(&look.head);
        let at = source.parse_position(&self.checkpoint.position);
        let behind = at.filter(|_| look.head.holds_log_back);
        let held_back = behind.and_then(|at| source.bytes_between(&at, &look.head.position));
        let looked = Looked { head: look.head.position, found: look.found, held_back };
        if let Some(note) = self.machine.looked(looked) {
            self.send_note(note);
        }
    }

    /// Writes a note into the source's log. Nobody waits for it.
    fn send_note(&self, note: &'static str) {
        let source = self.context.pipeline.source.clone();
        tokio::spawn(async move {
            if let Err(error) = source.send_note(note).await {
                tracing::warn!("the source keeps more of its log than needed: {error}");
            }
        });
    }

    /// Waits for what comes first.
    async fn wait(
        &mut self,
        stream: &mut dyn ChangeStream,
        looks: &mut Looks,
        until: Option<Instant>,
        reads: bool,
    ) -> Result<Woken> {
        let (context, is_applying) = (self.context, self.applying.is_some());
        let applied = optional(self.applying.as_mut().map(Applying::done));
        let loaded = optional(self.rereading.as_mut().map(Rereading::loaded));
        let asked = optional(self.asking.as_mut());
        let standing = optional(self.standing.as_mut());
        let due = optional(until.map(|until| tokio::time::sleep_until(until.into())));
        tokio::select! {
            biased;
            by = context.asked_to_stop(), if !self.stopping => Ok(Woken::Stop(by)),
            applied = applied => Ok(Woken::Applied(applied.map(Box::new))),
            () = due => Ok(Woken::Due),
            loaded = loaded => Ok(Woken::Loaded(loaded)),
            // Nobody keeps notes any more: nobody asks.
            asked = asked => Ok(Woken::Asked(asked.unwrap_or_else(|_| Ok(Asked::default())))),
            standing = standing => Ok(Woken::Standing(standing.unwrap_or_default())),
            segment = stream.next(), if reads => Ok(Woken::Segment(segment?)),
            look = looks.next() => Ok(Woken::Looked(look)),
            () = tokio::time::sleep_until(self.say_at.into()), if is_applying => Ok(Woken::Slow),
        }
    }
}

/// A future, or one that never ends.
async fn optional<T>(future: Option<impl Future<Output = T>>) -> T {
    match future {
        Some(future) => future.await,
        None => std::future::pending().await,
    }
}

/// What was missed without the stream's knowledge is not caught up with.
async fn caught_up(context: &Context, looks: &Looks) -> Result<Outcome> {
    match looks.missed(context.pipeline.source.as_ref()).await? {
        Some(gap) => Err(gap.into()),
        None => Ok(Outcome::CaughtUp),
    }
}

fn ended(end: End<AdapterError>) -> Result<Outcome> {
    match end {
        End::Stopped(by) => Ok(Outcome::Stopped { by }),
        End::CaughtUp => Ok(Outcome::CaughtUp),
        End::Found(error) => Err(error.into()),
        // Setting up anew leaves such a table behind, and the others go on.
        End::Schema(SchemaChange { table, what, ends: true, .. }) => {
            Err(AdapterError::cut_off(table, what).into())
        }
        End::Schema(SchemaChange { table, what, .. }) => Err(AdapterError::Drift { table, what }.into()),
    }
}

fn failed(error: FollowError) -> EngineError {
    let error = match error {
        FollowError::Reduce(error) => AdapterError::from(error),
        FollowError::Missed { .. } => {
            AdapterError::Protocol { address: "the source's stream".into(), what: error.to_string() }
        }
    };
    error.into()
}

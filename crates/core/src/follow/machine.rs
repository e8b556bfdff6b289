//! The step function: [`Follow`] is told what happened and says what is to be done.
//!
//! The driver asks [`next`](Follow::next), carries out what it says, and tells what came of it. The order that it must keep:
//!
//! 1. [`Next::Apply`]: a [`Piece`] is written into the open target batch, which is opened if there is none. If the piece
//!    ends it, the loaded rows are put in place if it says so, the batch is committed, and only then the source may be told.
//!    Then [`applied`](Follow::applied). Until then no other piece is handed out; the driver goes on feeding segments, so
//!    that the next batch is collected and prepared while this one is applied.
//! 2. [`Next::Gather`]: what has arrived already is fed; when there is nothing, [`gathered`](Follow::gathered).
//! 3. [`Next::Wait`]: nothing to do until something happens or the time comes. Segments are taken only if it says so:
//!    that bounds what is held here to one batch that is applied and one that is collected or ready.
//! 4. [`Next::End`]: the stream is closed. A batch that is still open holds part of a transaction, and is undone.
//!
//! Invariants: what is applied is everything that was fed, in its order, cut only at the ends of transactions; a batch is
//! prepared once; nothing is handed out behind a change of structure; rows that were read again are put in place by a batch
//! that ends where their marks are complete, or later.

use crate::apply::batch::{Action, BatchEnd, Batcher, Collected, Limits};
use crate::apply::net::ReduceError;
use crate::apply::prepare::{Deed, prepare};
use crate::change::kind::Transaction;
use crate::change::place::Place;
use crate::change::segment::Segment;
use crate::change::sequence::Sequence;
use crate::change::structure::SchemaChange;
use crate::follow::reread::Reread;
use crate::model::position::Position;
use crate::plan::carried::CarriedTables;
use crate::value::moment::Moment;
use chrono::{DateTime, Utc};
use std::sync::Arc;
use std::time::{Duration, Instant};

/// How often it is seen whether a table is to be read again.
const ASKED_EVERY: Duration = Duration::from_millis(500);
/// How much of the log may grow past an idle pipeline before a note is written, so that the source can let go of it.
const IDLE_GROWTH_BYTES: u64 = 1 << 20;

/// What following begins with.
#[derive(Clone, Debug)]
pub struct Settings {
    /// When a batch is closed.
    pub limits: Limits,
    /// The tables whose changes come, as they are carried where the stream begins.
    pub tables: CarriedTables,
    /// Everything up to here is in the target; none if nothing is known.
    pub at: Option<Position>,
    /// The last transaction there; none if nothing was merged yet.
    pub done: Option<Arc<Transaction>>,
    /// The number of the last transaction there.
    pub sequence: u64,
    /// From when on what the last transaction there made is [valid](crate::change::place::Place::valid_from).
    pub valid_from: Moment,
    /// Where the first batch has to end, because a batch that was to end there may be in the target in part; with the number
    /// of its last transaction.
    pub settled: Option<(Position, u64)>,
    /// The note behind which everything has arrived; none if there is no end.
    pub until: Option<String>,
}

/// What is applied to the target at once.
#[derive(Debug)]
pub struct Piece {
    /// What it does, in order.
    pub deeds: Vec<Deed>,
    /// How it ends.
    pub end: PieceEnd,
}

/// How a piece of a batch ends.
#[derive(Clone, Debug)]
pub enum PieceEnd {
    /// More of the batch follows.
    Open,
    /// The batch ends here.
    Batch(Ended),
    /// Nothing was collected: rows that were read again are put in place, and the checkpoint stays at its position. What is
    /// read now is valid from this place on.
    Replacing(Place),
}

/// The end of a batch.
#[derive(Clone, Debug)]
pub struct Ended {
    /// Its last transaction, and how many it holds.
    pub end: BatchEnd,
    /// How many changes were read for it.
    pub changes: u64,
    /// When its last transaction had been read, by Moorage's clock.
    pub captured_at: Option<DateTime<Utc>>,
    /// Where its last transaction stands.
    pub place: Place,
    /// Whether rows that were read again are put in place by it.
    pub replaces: bool,
}

/// Why following ends.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum End<F> {
    /// It was asked to.
    Stopped(String),
    /// Everything has arrived.
    CaughtUp,
    /// A table has another structure from here on.
    Schema(SchemaChange),
    /// What a look at the source found, once the stream has passed the look.
    Found(F),
}

/// What the driver does next.
#[derive(Debug)]
#[must_use]
pub enum Next<F> {
    /// Apply a piece.
    Apply(Piece),
    /// Feed what is there already.
    Gather,
    /// Ask whether tables are to be read again. Nothing waits for the answer but the end.
    Ask,
    /// Begin to read tables again: those of the last answer. No batch is open.
    Begin,
    /// Take away what was loaded of tables whose reading was given up.
    Remove,
    /// Wait for whatever comes, until a time at most.
    Wait {
        /// The time.
        until: Option<Instant>,
        /// Whether segments are taken.
        reads: bool,
    },
    /// It is over.
    End(End<F>),
}

/// Why following cannot go on.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum FollowError {
    /// A batch cannot be reduced.
    #[error(transparent)]
    Reduce(#[from] ReduceError),
    /// The stream did not end a stretch where it had to.
    #[error(
        "an earlier batch was to end at {wanted}, and the stream went from before it to {at}: parts of that batch may be in the target. \
         Run `moorage resnapshot --all`, then `moorage run`: all tables are read again"
    )]
    Missed {
        /// Where the batch ends.
        wanted: Position,
        /// Where the stream is.
        at: Position,
    },
}

/// What a look at the source says.
#[derive(Clone, Debug)]
pub struct Looked<F> {
    /// The end of the log at the look.
    pub head: Position,
    /// Why the stream cannot go on as it is.
    pub found: Option<F>,
    /// How many bytes of log lie between the target's place and there, where the log grows past the capture point.
    pub held_back: Option<u64>,
}

/// The state of following.
pub struct Follow<F> {
    batcher: Batcher,
    /// As they are carried behind all that was prepared.
    tables: CarriedTables,
    sequence: Sequence,
    /// From when on what the last batch wrote is valid.
    valid_from: Moment,
    /// The number of the last transaction of the batch that is to end where an earlier one was to.
    settled: Option<u64>,
    until: Option<String>,
    arrived: bool,
    stopping: Option<String>,
    schema: Option<SchemaChange>,
    /// Takes effect once the target has come to the position.
    found: Option<(Position, F)>,
    at: Option<Position>,
    changes: u64,
    captured_at: Option<DateTime<Utc>>,
    /// The batch that is collected holds all that had arrived when it was due.
    gathered: bool,
    /// Closed, and waiting for the target.
    ready: Option<Piece>,
    /// What the target is at, and where it will be then.
    applying: Option<Option<Position>>,
    /// Whether a batch of the target is open: part of it was applied.
    open: bool,
    reread: Reread,
    next_ask: Instant,
    asked: bool,
}

impl<F> Follow<F> {
    /// Begins at `now`.
    pub fn new(settings: Settings, now: Instant) -> Self {
        Self {
            batcher: Batcher::new(settings.limits)
                .ending_at(settings.settled.as_ref().map(|s| s.0.clone()))
                .behind(settings.done),
            settled: settings.settled.map(|settled| settled.1),
            tables: settings.tables,
            sequence: Sequence::behind(settings.sequence, settings.valid_from),
            valid_from: settings.valid_from,
            until: settings.until,
            arrived: false,
            stopping: None,
            schema: None,
            found: None,
            at: settings.at,
            changes: 0,
            captured_at: None,
            gathered: false,
            ready: None,
            applying: None,
            open: false,
            reread: Reread::Nothing,
            next_ask: now,
            asked: false,
        }
    }

    /// A segment arrived, with its rows mapped; `at` is the time for people.
    ///
    /// # Errors
    /// If the stream came past the place where it had to end a stretch.
    pub fn segment(
        &mut self,
        mut segment: Segment,
        now: Instant,
        at: DateTime<Utc>,
    ) -> Result<(), FollowError> {
        if segment.is_idle() {
            return Ok(());
        }
        self.gathered = false;
        self.sequence.number(&mut segment.blocks);
        if segment.last_commit.is_some() {
            self.captured_at = Some(at);
        }
        self.arrived |= self.until.as_ref().is_some_and(|note| segment.notes.contains(note));
        self.changes += segment.blocks.iter().map(|b| b.len() as u64).sum::<u64>();
        let schema = std::mem::take(&mut segment.schema).into_iter().next();
        self.schema = self.schema.take().or(schema);
        self.batcher.add(segment, now);
        match self.batcher.missed() {
            Some((wanted, at)) => Err(FollowError::Missed { wanted: wanted.clone(), at: at.clone() }),
            None => Ok(()),
        }
    }

    /// Something is done to a table, behind all that was fed and in front of all that will be.
    pub fn put(&mut self, next: Collected, now: Instant) {
        self.gathered = false;
        self.batcher.put(next, now);
    }

    /// There are tables to be read again: that is asked for at once, and nothing ends before.
    pub fn wants_reread(&mut self, now: Instant) {
        (self.asked, self.next_ask) = (false, now);
    }

    /// Where the first batch has to end.
    pub fn settled(&self) -> Option<&Position> {
        self.batcher.end()
    }

    /// The note behind which everything has arrived, if there is an end.
    pub fn until(&self) -> Option<&str> {
        self.until.as_deref()
    }

    /// Nothing more has arrived now.
    pub fn gathered(&mut self) {
        self.gathered = true;
    }

    /// The piece that was handed out is applied; with `replaced`, rows were put in place with it.
    pub fn applied(&mut self) {
        if let Some(Some(at)) = self.applying.take() {
            self.at = Some(at);
        }
        if self.reread == Reread::Commit {
            self.reread = Reread::Nothing;
        }
    }

    /// It is asked to stop.
    pub fn stop(&mut self, by: String) {
        self.stopping.get_or_insert(by);
    }

    /// The answer to [`Next::Ask`]: whether tables are to be read again.
    pub fn answered(&mut self, wanted: bool, now: Instant) {
        self.asked = true;
        self.next_ask = now + ASKED_EVERY;
        self.reread = if wanted { Reread::Wanted } else { Reread::Nothing };
    }

    /// All rows of the tables that are read again are loaded; their marks are complete at `at`.
    pub fn loaded(&mut self, at: Position) {
        if self.reread == Reread::Rows {
            self.reread = Reread::Place(at);
        }
    }

    /// Reading tables again failed, or was given up.
    pub fn gave_up(&mut self) {
        if matches!(self.reread, Reread::Rows | Reread::Place(_)) {
            self.reread = Reread::Removal;
        }
    }

    /// What [`Next::Remove`] asked for is done.
    pub fn removed(&mut self) {
        self.reread = Reread::Nothing;
    }

    /// The source was looked at. Gives the note that is to be written into its log, if one is.
    pub fn looked(&mut self, looked: Looked<F>) -> Option<&'static str> {
        let idle = self.is_idle();
        if let Some(found) = looked.found {
            // An idle stream has nothing behind it that the look did not see.
            let from =
                if idle { self.at.clone().unwrap_or_else(|| looked.head.clone()) } else { looked.head };
            self.found.get_or_insert((from, found));
            // Something for the stream to pass, also if nothing else comes.
            return (!idle).then_some("the source was looked at");
        }
        let grown = looked.held_back.is_some_and(|bytes| bytes > IDLE_GROWTH_BYTES);
        (idle && grown).then_some("the log grew while no carried table changed")
    }

    /// What is to be done.
    ///
    /// # Errors
    /// If a batch cannot be prepared.
    pub fn next(&mut self, now: Instant) -> Result<Next<F>, FollowError> {
        let flush = self.stopping.is_some() || self.arrived || self.schema.is_some();
        let mut due = None;
        if self.ready.is_none() {
            match self.batcher.next(now, flush) {
                Action::WritePart => self.ready = Some(self.part()?),
                Action::Commit if self.batcher.is_full() => self.ready = self.close()?,
                // What waits already goes along: otherwise a source that is quicker than one commit after the other would
                // get ever further ahead. While a batch is applied, so does all that comes.
                Action::Commit if self.applying.is_none() => match self.gathered || !self.reads() {
                    true => self.ready = self.close()?,
                    false => return Ok(Next::Gather),
                },
                Action::Commit | Action::Wait => {}
                Action::WaitUntil(time) => due = Some(time),
            }
        }
        if self.reread == Reread::Nothing && self.reads() {
            if now >= self.next_ask {
                self.reread = Reread::Answer;
                return Ok(Next::Ask);
            }
            due = Some(due.map_or(self.next_ask, |due: Instant| due.min(self.next_ask)));
        }
        if self.applying.is_some() {
            let asks = (self.reread == Reread::Nothing && self.reads()).then_some(self.next_ask);
            return Ok(Next::Wait { until: asks, reads: self.ready.is_none() && self.reads() });
        }
        // Also where one batch comes right after the other.
        if let Some(next) = self.between_batches() {
            return Ok(next);
        }
        if let Some(piece) = self.ready.take() {
            return Ok(Next::Apply(self.hand_out(piece)));
        }
        if let Some(end) = self.end() {
            return Ok(Next::End(end));
        }
        // On a quiet source no batch comes: then the loaded rows take their place in one of their own.
        if self.is_idle() && self.at.clone().is_some_and(|at| self.is_due(&at)) {
            let place = self.sequence.tick();
            self.valid_from = place.valid_from;
            let piece = Piece { deeds: Vec::new(), end: PieceEnd::Replacing(place) };
            return Ok(Next::Apply(self.hand_out(piece)));
        }
        Ok(Next::Wait { until: due, reads: self.reads() })
    }

    /// What needs a target without an open batch, and does not wait for a quiet one: whoever asks for tables to be read
    /// again is heard on a busy source too.
    fn between_batches(&mut self) -> Option<Next<F>> {
        if self.open || !self.reads() {
            return None;
        }
        match self.reread {
            Reread::Removal => Some(Next::Remove),
            Reread::Wanted => {
                self.reread = Reread::Rows;
                Some(Next::Begin)
            }
            _ => None,
        }
    }

    /// Whether it is over, with nothing left to apply.
    fn end(&mut self) -> Option<End<F>> {
        if let Some(by) = self.stopping.take() {
            return Some(End::Stopped(by));
        }
        if let Some(schema) = self.schema.take() {
            return Some(End::Schema(schema));
        }
        if self.found.as_ref().is_some_and(|(from, _)| self.at.as_ref().is_some_and(|at| at >= from)) {
            return self.found.take().map(|(_, found)| End::Found(found));
        }
        let rereads = !matches!(self.reread, Reread::Nothing) || !self.asked;
        let all = self.arrived && !self.batcher.in_transaction() && !rereads;
        all.then_some(End::CaughtUp)
    }

    /// Whether more of the stream is wanted at all.
    fn reads(&self) -> bool {
        self.stopping.is_none() && self.schema.is_none()
    }

    /// Whether nothing was collected that the target does not hold.
    fn is_idle(&self) -> bool {
        let is_free = !self.open && self.applying.is_none() && self.ready.is_none();
        is_free && self.batcher.rows() == 0 && !self.batcher.in_transaction()
    }

    /// Whether loaded rows can take their tables' places in a batch that ends here.
    fn is_due(&self, at: &Position) -> bool {
        matches!(&self.reread, Reread::Place(complete) if complete <= at)
    }

    fn part(&mut self) -> Result<Piece, FollowError> {
        let deeds = prepare(self.batcher.take_part(), &mut self.tables, self.open)?;
        Ok(Piece { deeds, end: PieceEnd::Open })
    }

    fn close(&mut self) -> Result<Option<Piece>, FollowError> {
        let Some((collected, end)) = self.batcher.close() else { return Ok(None) };
        let deeds = prepare(collected, &mut self.tables, self.open)?;
        self.gathered = false;
        // The earlier one may have been cut in another way on its way here, and its numbers are in the target.
        self.sequence.skip_to(self.settled.take().unwrap_or(0));
        self.sequence.reach(&end.transaction);
        let replaces = self.is_due(&end.transaction.position);
        if replaces && self.sequence.last().valid_from == self.valid_from {
            // It ends where the one before it did: rows that are put in place need a moment that is not one of before.
            self.sequence.tick();
        }
        self.valid_from = self.sequence.last().valid_from;
        let ended = Ended {
            end,
            changes: std::mem::take(&mut self.changes),
            captured_at: self.captured_at,
            place: self.sequence.last(),
            replaces,
        };
        Ok(Some(Piece { deeds, end: PieceEnd::Batch(ended) }))
    }

    fn hand_out(&mut self, mut piece: Piece) -> Piece {
        let due = match &mut piece.end {
            PieceEnd::Open => {
                self.open = true;
                self.applying = Some(None);
                return piece;
            }
            PieceEnd::Replacing(_) => true,
            PieceEnd::Batch(ended) => {
                // It may have been given up since.
                ended.replaces = ended.replaces && self.is_due(&ended.end.transaction.position);
                ended.replaces
            }
        };
        if due {
            self.reread = Reread::Commit;
        }
        self.open = false;
        let at = match &piece.end {
            PieceEnd::Batch(ended) => Some(ended.end.transaction.position.clone()),
            PieceEnd::Open | PieceEnd::Replacing(_) => None,
        };
        self.applying = Some(at);
        piece
    }
}

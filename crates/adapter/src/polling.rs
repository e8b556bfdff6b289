//! Streams of sources that tell nothing by themselves and are asked again and again.
//!
//! One driver for all of them: a source says how it looks ([`Polled`]) and at what pace; when to look, what becomes of
//! notes, where a stretch has to end, and when what was acknowledged may be deleted is decided here.

use crate::{
    AdapterError, ChangeStream, Durable, QueueGauge, Result, SegmentSender, StreamedSegment, segment_channel,
};
use async_trait::async_trait;
use chrono::{DateTime, TimeDelta, Utc};
use moorage_core::Position;
use moorage_core::change::segment::Segment;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tokio::sync::{mpsc, watch};
use tokio::task::JoinHandle;

/// Notes that wait for the next look: it begins behind everything that was committed before they were written.
#[derive(Clone, Debug, Default)]
pub struct WaitingNotes(Arc<Mutex<Vec<String>>>);

impl WaitingNotes {
    /// Adds one.
    pub fn push(&self, note: &str) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).push(note.into());
    }

    fn take(&self) -> Vec<String> {
        std::mem::take(&mut *self.0.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

/// How often what is done.
#[derive(Clone, Copy, Debug)]
pub struct Pace {
    /// Looking for something new.
    pub look_every: Duration,
    /// Deleting what was acknowledged.
    pub forget_every: Duration,
    /// How long what was acknowledged is kept for others who follow the same changes.
    pub keep_for: Duration,
}

/// What a look is for.
#[derive(Clone, Copy, Debug)]
pub struct Wanted<'a> {
    /// It reads exactly up to here; what is there now if that is not given.
    pub until: Option<&'a Position>,
    /// It hands on its position even if there was no change: someone may wait for that.
    pub moves: bool,
}

/// What a look came to.
#[derive(Debug)]
#[must_use]
pub enum Seen {
    /// Everything up to a place, of which all but this last segment was handed on.
    All(Segment),
    /// Nobody listens any more.
    Unheard,
}

/// A source that can be asked for what is new.
///
/// The same two places give the same changes in the same order, until what lies between them was acknowledged, of tables
/// whose plans say that each change is needed. Of others a source may tell what the changes between two places came to: by
/// key the row that there is, in a look that sees nothing behind the second.
#[async_trait]
pub trait Polled: Send + 'static {
    /// Whether there may be something new; cheap.
    async fn has_news(&mut self) -> Result<bool>;

    /// Reads what was committed since the last look. All segments but the last are handed on as parts of one
    /// transaction. Before anything is read behind a change of structure, it fails with that.
    async fn look(&mut self, wanted: Wanted<'_>, sender: &SegmentSender) -> Result<Seen>;

    /// The last time, by Moorage's clock, at which all tables were known to be captured, asked again now if that is due.
    async fn captured_at(&mut self) -> Result<Option<DateTime<Utc>>>;

    /// Deletes what was acknowledged up to a place. What cannot be deleted now can be later.
    async fn forget(&mut self, upto: &str);
}

/// A running stream.
struct PolledStream {
    address: String,
    segments: mpsc::Receiver<Result<StreamedSegment>>,
    acknowledged: watch::Sender<Option<String>>,
    gauge: QueueGauge,
    task: JoinHandle<()>,
}

/// What a stream begins with.
pub struct Polling<P> {
    /// What is asked.
    pub polled: P,
    /// For error messages: `the change table`.
    pub address: String,
    /// How often.
    pub pace: Pace,
    /// How many bytes may wait between the stream and the batch.
    pub queue_bytes: usize,
    /// Where notes come from.
    pub notes: WaitingNotes,
    /// Where the first stretch has to end ([`crate::StreamStart::settled`]).
    pub settled: Option<Position>,
    /// Whether the first look hands on its position whatever it finds.
    pub moves_first: bool,
    /// Whether what is acknowledged may be deleted.
    pub forgets: bool,
}

impl<P: Polled> Polling<P> {
    /// Starts.
    pub fn start(self) -> Box<dyn ChangeStream> {
        let (sender, segments) = segment_channel(self.queue_bytes);
        let (acknowledged, known) = watch::channel(None);
        let (address, gauge) = (self.address.clone(), sender.gauge());
        let task = tokio::spawn(async move {
            if let Err(error) = self.run(&sender, known).await {
                sender.fail(error).await;
            }
        });
        Box::new(PolledStream { address, segments, acknowledged, gauge, task })
    }

    async fn run(mut self, sender: &SegmentSender, known: watch::Receiver<Option<String>>) -> Result<()> {
        let mut forgetting = Forgetting::default();
        let mut moves = self.moves_first;
        let mut seen = LastSeen::default();
        loop {
            let asked_at = Utc::now();
            let settled = self.settled.take();
            // What ends earlier than at what is there now proves nothing of now.
            let is_whole = settled.is_none();
            // Notes come behind everything, and not behind a part of it.
            let notes = if settled.is_none() { self.notes.take() } else { Vec::new() };
            let captured_at = self.polled.captured_at().await?;
            let wanted = Wanted { until: settled.as_ref(), moves: moves || !notes.is_empty() };
            let looks = wanted.moves || settled.is_some() || self.polled.has_news().await?;
            if looks {
                let Seen::All(mut segment) = self.polled.look(wanted, sender).await? else { return Ok(()) };
                segment.notes.extend(notes);
                segment.unseen_at = seen.at;
                segment.seen_at = is_whole.then_some(asked_at).min(captured_at);
                let is_news = segment.last_commit.is_some() || !segment.notes.is_empty();
                if is_news && !sender.send(segment).await {
                    return Ok(());
                }
                moves = false;
            }
            if is_whole {
                seen.at = Some(asked_at);
            }
            if let Some(at) = seen.next_to_say(captured_at)
                && !sender.send(Segment::nothing_missing_at(at)).await
            {
                return Ok(());
            }
            if self.forgets && forgetting.is_due(self.pace.forget_every) {
                let upto = known.borrow().clone();
                if let Some(upto) = forgetting.ripe(upto, self.pace.keep_for) {
                    self.polled.forget(&upto).await;
                }
            }
            tokio::time::sleep(self.pace.look_every).await;
        }
    }
}

/// How often it is said, at most, that nothing is missing while nothing comes.
const SAID_EVERY: TimeDelta = TimeDelta::milliseconds(250);

/// When nothing was missing.
#[derive(Default)]
struct LastSeen {
    /// At the last look.
    at: Option<DateTime<Utc>>,
    /// At the last one of which that was said.
    said: Option<DateTime<Utc>>,
}

impl LastSeen {
    fn next_to_say(&mut self, captured_at: Option<DateTime<Utc>>) -> Option<DateTime<Utc>> {
        let at = self.at.min(captured_at);
        let at = at.filter(|at| self.said.is_none_or(|said| *at - said >= SAID_EVERY))?;
        self.said = Some(at);
        self.said
    }
}

/// What was acknowledged at earlier times, the oldest first.
struct Forgetting {
    since: Instant,
    acknowledged: Vec<(Instant, String)>,
}

impl Default for Forgetting {
    fn default() -> Self {
        Self { since: Instant::now(), acknowledged: Vec::new() }
    }
}

impl Forgetting {
    fn is_due(&self, every: Duration) -> bool {
        self.since.elapsed() >= every
    }

    /// Takes down what is acknowledged now; gives what was acknowledged long enough ago.
    fn ripe(&mut self, now: Option<String>, keep_for: Duration) -> Option<String> {
        self.since = Instant::now();
        self.acknowledged.extend(now.map(|position| (self.since, position)));
        let ripe = self.acknowledged.iter().take_while(|(at, _)| at.elapsed() >= keep_for).count();
        let (_, upto) = self.acknowledged.get(ripe.checked_sub(1)?)?.clone();
        self.acknowledged.drain(..ripe - 1);
        Some(upto)
    }
}

#[async_trait]
impl ChangeStream for PolledStream {
    async fn next(&mut self) -> Result<StreamedSegment> {
        let ended = || AdapterError::Lost { address: self.address.clone(), reason: "reading ended".into() };
        self.segments.recv().await.unwrap_or_else(|| Err(ended()))
    }

    fn gauge(&self) -> QueueGauge {
        self.gauge.clone()
    }

    fn acknowledge(&self, durable: &Durable) {
        self.acknowledged.send_replace(Some(durable.checkpoint().position.clone()));
    }

    async fn close(self: Box<Self>) {}
}

impl Drop for PolledStream {
    fn drop(&mut self) {
        self.task.abort();
    }
}

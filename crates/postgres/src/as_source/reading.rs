//! Reading the replication stream: messages come, segments go on, each with the structures that its rows have; and where nothing
//! comes, word of until when nothing was missing.

use crate::as_source::assemble::Assembler;
use crate::as_source::structure::looks::Looks;
use crate::wire::address::PostgresAddress;
use crate::wire::connect::Session;
use crate::wire::lsn;
use crate::wire::pgoutput::Message;
use crate::wire::replication::{ReplicationReader, StreamMessage};
use moorage_adapter::{AdapterError, Result, SegmentSender};
use moorage_core::change::segment::Segment;
use moorage_core::change::structure::SchemaChange;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};
use tokio::sync::{Notify, watch};

/// A segment is handed on when it has this size, whatever the transaction.
const SEGMENT_BYTES: usize = 512 << 10;
/// Small transactions that follow each other within this time are handed on together.
const GATHER: Duration = Duration::from_millis(3);
/// After how long a silence a stream counts as broken: the server's own limit, within these bounds.
const LEAST_SILENCE: Duration = Duration::from_secs(10);
const MOST_SILENCE: Duration = Duration::from_secs(60);

/// Where the source's log ends, as its server says on another connection.
pub(crate) struct LogEnd {
    address: PostgresAddress,
    /// It ended here or further on.
    known: u64,
}

/// A stream that claims to be this much further than the log was known to reach is checked.
const CLAIM_BYTES: u64 = 64 << 20;

impl LogEnd {
    /// It is known to reach this far.
    pub(crate) fn at_least(address: &PostgresAddress, known: u64) -> Self {
        Self { address: address.clone(), known }
    }

    /// A position that is not in the log must not get into the target, nor be told to the source as done.
    async fn holds(&mut self, claimed: u64) -> Result<()> {
        if claimed <= self.known.saturating_add(CLAIM_BYTES) {
            return Ok(());
        }
        let session = Session::open(&self.address).await?;
        let sql = "SELECT pg_current_wal_flush_lsn()::text";
        let end: String = session.one("reading the end of the log", sql, &[]).await?.get(0);
        self.known = lsn::parse(&end).unwrap_or(0);
        if claimed > self.known {
            let (claimed, end) = (lsn::text(claimed), lsn::text(self.known));
            return Err(AdapterError::Protocol {
                address: "the replication stream".into(),
                what: format!("a transaction that ends at {claimed}, while the log ends at {end}"),
            });
        }
        Ok(())
    }
}

/// What is told to the task that reports to the server.
#[derive(Clone)]
pub(crate) struct Told {
    /// How far has come.
    pub(crate) received: Arc<AtomicU64>,
    /// The server wants to hear from us, or we from it.
    pub(crate) asked: Arc<Notify>,
    /// We want to hear from the server how far it has come.
    pub(crate) curious: Arc<AtomicBool>,
}

impl Told {
    /// Of a stream that begins at a place in the log.
    pub(crate) fn from(place: u64) -> Self {
        let (asked, curious) = (Arc::default(), Arc::default());
        Self { received: Arc::new(AtomicU64::new(place)), asked, curious }
    }
}

/// Whether anybody listens to what is handed on.
#[derive(Clone, Copy, PartialEq, Eq)]
#[must_use]
enum Heard {
    Yes,
    No,
}

impl From<bool> for Heard {
    fn from(sent: bool) -> Self {
        if sent { Self::Yes } else { Self::No }
    }
}

/// What comes next.
enum Next {
    Message(StreamMessage),
    /// There is a look more.
    Looked,
    /// What was gathered is to go on.
    Due,
    /// The server has ended the stream.
    End,
}

/// A stream that is being read.
pub(crate) struct Reading {
    reader: ReplicationReader,
    assembler: Assembler,
    looks: Option<Looks>,
    /// Comes with each look.
    looked: Option<watch::Receiver<u64>>,
    sender: SegmentSender,
    end: LogEnd,
    /// After how long without a word the stream counts as broken.
    silence: Duration,
    told: Told,
    /// When something came last.
    heard: Instant,
    /// Since when whole transactions wait to be handed on.
    waiting_since: Option<Instant>,
    /// Everything in front of this place in the log has come.
    passed: u64,
}

impl Reading {
    /// Of a stream that has begun, whose receiver says every `pause` how far it is.
    pub(crate) fn new(
        reader: ReplicationReader,
        (assembler, looks): (Assembler, Option<Looks>),
        sender: SegmentSender,
        (end, pause): (LogEnd, Duration),
        told: Told,
    ) -> Self {
        Self {
            reader,
            assembler,
            looked: looks.as_ref().map(Looks::come),
            looks,
            sender,
            end,
            silence: (pause * 3).clamp(LEAST_SILENCE, MOST_SILENCE),
            told,
            heard: Instant::now(),
            waiting_since: None,
            passed: 0,
        }
    }

    /// Reads until it ends, or nobody listens any more.
    pub(crate) async fn read(mut self) {
        if let Err(error) = self.read_all().await {
            self.sender.fail(error).await;
        }
    }

    async fn read_all(&mut self) -> Result<()> {
        loop {
            let heard = match self.next().await? {
                Next::Due => self.hand_on().await?,
                Next::Looked => {
                    let heard = self.say_seen().await;
                    self.ask_if_awaited();
                    heard
                }
                Next::Message(message) => self.take(message).await?,
                Next::End => {
                    let reason = "the server ended it".into();
                    return Err(AdapterError::Lost { address: "the replication stream".into(), reason });
                }
            };
            if heard == Heard::No {
                return Ok(());
            }
        }
    }

    async fn next(&mut self) -> Result<Next> {
        let in_transaction = self.assembler.in_transaction();
        let due = self.waiting_since.filter(|_| !in_transaction).map(|since| since + GATHER);
        // Each report asks for an answer, so there is no longer silence from a server that is there.
        let until = due.unwrap_or(self.heard + self.silence);
        let message = tokio::select! {
            biased;
            message = self.reader.stream_next() => message?,
            () = next_look(&mut self.looked), if due.is_none() && !in_transaction => return Ok(Next::Looked),
            () = tokio::time::sleep_until(until.into()) => match due {
                Some(_) => return Ok(Next::Due),
                None => return Err(silent(self.silence)),
            },
        };
        self.heard = Instant::now();
        Ok(message.map_or(Next::End, Next::Message))
    }

    async fn take(&mut self, message: StreamMessage) -> Result<Heard> {
        match message {
            StreamMessage::Keepalive { server_end, reply } => {
                self.told.received.fetch_max(server_end, Ordering::Relaxed);
                if reply {
                    self.told.asked.notify_one();
                }
                self.passed = self.passed.max(server_end);
                if self.say_seen().await == Heard::No {
                    return Ok(Heard::No);
                }
                self.ask_if_awaited();
            }
            StreamMessage::Data { server_end, payload } => {
                self.told.received.fetch_max(server_end, Ordering::Relaxed);
                let message = Message::parse(&payload).map_err(|e| AdapterError::Protocol {
                    address: "the replication stream".into(),
                    what: e.to_string(),
                })?;
                if self.feed(message, payload.len()).await? == Heard::No {
                    return Ok(Heard::No);
                }
            }
        }
        let whole = !self.assembler.in_transaction() && !self.assembler.is_empty();
        if whole {
            self.waiting_since.get_or_insert_with(Instant::now);
        }
        let late = whole && self.waiting_since.is_some_and(|since| since.elapsed() >= GATHER);
        match late || self.assembler.bytes() >= SEGMENT_BYTES || (whole && self.assembler.is_settled()) {
            true => self.hand_on().await,
            false => Ok(Heard::Yes),
        }
    }

    async fn feed(&mut self, message: Message<'_>, size: usize) -> Result<Heard> {
        if let Some(looks) = &self.looks {
            let changes = structures(&mut self.assembler, looks, &message).await?;
            if !changes.is_empty() && self.hand_on_structures(changes).await? == Heard::No {
                return Ok(Heard::No);
            }
        }
        let fed = self.assembler.feed(message, size);
        if matches!(fed, Err(AdapterError::Drift { .. })) && !self.assembler.is_empty() {
            // All that was before it.
            self.sender.send(self.assembler.take()?).await;
        }
        fed?;
        self.end.holds(self.assembler.last_end()).await?;
        self.passed = self.passed.max(self.assembler.last_end());
        Ok(Heard::Yes)
    }

    /// Hands on what was collected.
    async fn hand_on(&mut self) -> Result<Heard> {
        self.waiting_since = None;
        Ok(self.sender.send(self.assembler.take()?).await.into())
    }

    /// Hands on what was collected, and then changes of structure.
    async fn hand_on_structures(&mut self, schema: Vec<SchemaChange>) -> Result<Heard> {
        if !self.assembler.is_empty() && !self.sender.send(self.assembler.take()?).await {
            return Ok(Heard::No);
        }
        let in_transaction = self.assembler.is_inside();
        Ok(self.sender.send(Segment { schema, in_transaction, ..Segment::default() }).await.into())
    }

    /// A walsender beside busy other tables seldom sleeps, and says nothing of its own of what it passes: it is asked, as often as
    /// reports go to it at most.
    fn ask_if_awaited(&self) {
        if self.looks.as_ref().is_some_and(Looks::is_awaited) {
            self.told.curious.store(true, Ordering::Relaxed);
            self.told.asked.notify_one();
        }
    }

    /// Says until when everything that was committed has come: everything in front of the place that was passed has.
    ///
    /// A walsender that has nothing to send says how far it has come before it sleeps (`WalSndWaitForWal` in the server's
    /// walsender.c), also past what is of other tables.
    async fn say_seen(&mut self) -> Heard {
        if self.assembler.in_transaction() {
            return Heard::Yes;
        }
        match self.looks.as_ref().and_then(|looks| looks.seen_at(self.passed)) {
            None => Heard::Yes,
            Some(at) if self.assembler.is_empty() => {
                self.sender.send(Segment::nothing_missing_at(at)).await.into()
            }
            Some(at) => {
                self.assembler.seen_at(at);
                Heard::Yes
            }
        }
    }
}

/// Waits until there is a look more.
async fn next_look(looked: &mut Option<watch::Receiver<u64>>) {
    match looked {
        // The sender lives as long as the looks do.
        Some(looked) => drop(looked.changed().await),
        None => std::future::pending().await,
    }
}

/// The changes of structure in front of a message.
async fn structures(
    assembler: &mut Assembler,
    looks: &Looks,
    message: &Message<'_>,
) -> Result<Vec<SchemaChange>> {
    match message {
        Message::Begin { commit_lsn, xid, .. } => {
            assembler.begins(looks.has_none_before(*xid, *commit_lsn, assembler.passed()));
            return Ok(Vec::new());
        }
        Message::Commit { end_lsn, .. } => {
            return assembler.passes(&looks.passed(*end_lsn, assembler.passed()));
        }
        _ => {}
    }
    let mut changes: Vec<SchemaChange> = Vec::new();
    if let Some((told, ask)) = assembler.hears(message) {
        changes.extend(assembler.told(ask, &looks.before(ask.xid, ask.commit_lsn), None)?);
        changes.extend(assembler.tells(&told, ask)?);
    }
    for ask in assembler.asks(message) {
        changes.extend(match ask.settles {
            false => assembler.told(ask, &looks.before(ask.xid, ask.commit_lsn), None)?,
            true => {
                let (before, seeing) = looks.around(ask.xid, ask.commit_lsn).await?;
                assembler.told(ask, &before, Some(&seeing))?
            }
        });
    }
    Ok(changes)
}

fn silent(since: Duration) -> AdapterError {
    AdapterError::Lost {
        address: "the replication stream".into(),
        reason: format!("nothing came for {} s, also not when asked", since.as_secs()),
    }
}

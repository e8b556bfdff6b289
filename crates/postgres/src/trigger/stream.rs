//! The running stream over change tables: looks, one after the other, and forgetting what was acknowledged.

use crate::address::PostgresAddress;
use crate::connect::Session;
use crate::trigger::objects::{self, Names};
use crate::trigger::reader::{self, NOTHING};
use async_trait::async_trait;
use moorage_adapter::{
    AdapterError, ChangeStream, Result, SegmentSender, StreamTable, StreamedSegment, segment_channel,
};
use moorage_core::change::{ChangeBlock, Segment, Transaction};
use moorage_core::checkpoint::{Durable, Refusal};
use moorage_core::sql::quote_literal;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tokio::sync::{mpsc, watch};
use tokio::task::JoinHandle;

/// How often the change tables are looked at.
const LOOK_EVERY: Duration = Duration::from_millis(30);
/// How often acknowledged changes are deleted.
const FORGET_EVERY: Duration = Duration::from_secs(2);
/// How long an acknowledged change is kept for others who follow the same tables.
const KEEP_FOR: Duration = Duration::from_secs(6);
/// How many marks of the history are kept.
const ANCHORS: i64 = 1000;
/// How much may wait between the stream and the batch.
const QUEUE_BYTES: usize = 8 << 20;

/// What was asked to be told when everything before it has been read.
pub(crate) type Notes = Arc<Mutex<Vec<String>>>;

/// Where and what a stream reads.
pub(crate) struct Begin {
    pub(crate) address: PostgresAddress,
    pub(crate) names: Names,
    pub(crate) tables: Vec<StreamTable>,
    /// The snapshot behind which changes are read.
    pub(crate) after: String,
    pub(crate) notes: Notes,
    /// Whether this is the pipeline's own stream, which marks the history and forgets what is acknowledged.
    pub(crate) owns: bool,
}

impl Begin {
    /// Whether copies of tables hold changes that lie behind the checkpoint: until it has passed them, they look as if they
    /// were waited for.
    fn copies_lie_ahead(&self) -> bool {
        let rank = |snapshot: &str| reader::position(snapshot).map(|p| p.rank());
        let after = rank(&self.after);
        self.tables.iter().filter_map(|t| t.mark.as_ref()).any(|mark| rank(&mark.text) > after)
    }
}

/// A running stream.
pub(crate) struct TriggerStream {
    segments: mpsc::Receiver<Result<StreamedSegment>>,
    acknowledged: watch::Sender<String>,
    task: JoinHandle<()>,
}

impl TriggerStream {
    pub(crate) async fn start(begin: Begin) -> Result<Self> {
        let session = Session::open(&begin.address).await?;
        let (sender, segments) = segment_channel(QUEUE_BYTES);
        let (acknowledged, known) = watch::channel(NOTHING.to_string());
        let task = tokio::spawn(async move {
            let mut looks =
                Looks { session, begin, known, forgotten: Instant::now(), acknowledged: Vec::new() };
            if let Err(error) = looks.run(&sender).await {
                sender.fail(error).await;
            }
        });
        Ok(Self { segments, acknowledged, task })
    }
}

#[async_trait]
impl ChangeStream for TriggerStream {
    async fn next(&mut self) -> Result<StreamedSegment> {
        let ended =
            || AdapterError::Lost { address: "the change tables".into(), reason: "reading ended".into() };
        self.segments.recv().await.unwrap_or_else(|| Err(ended()))
    }

    fn acknowledge(&self, durable: &Durable) {
        self.acknowledged.send_replace(durable.checkpoint().position.clone());
    }

    async fn close(self: Box<Self>) {}
}

impl Drop for TriggerStream {
    fn drop(&mut self) {
        self.task.abort();
    }
}

struct Looks {
    session: Session,
    begin: Begin,
    known: watch::Receiver<String>,
    forgotten: Instant,
    /// What was acknowledged at earlier times, oldest first.
    acknowledged: Vec<(Instant, String)>,
}

impl Looks {
    async fn run(&mut self, sender: &SegmentSender) -> Result<()> {
        let mut ahead = self.begin.owns && self.begin.copies_lie_ahead();
        loop {
            let notes = std::mem::take(&mut *self.begin.notes.lock().unwrap_or_else(PoisonError::into_inner));
            let Begin { names, tables, after, .. } = &self.begin;
            let news =
                ahead || !notes.is_empty() || reader::has_news(&self.session, names, tables, after).await?;
            if news && !self.look(notes, ahead, sender).await? {
                return Ok(());
            }
            ahead = false;
            if self.begin.owns && self.forgotten.elapsed() >= FORGET_EVERY {
                self.forget().await;
            }
            tokio::time::sleep(LOOK_EVERY).await;
        }
    }

    /// One look; `false` if nobody listens any more. `ahead`: it hands on its position even if it finds nothing.
    async fn look(&mut self, notes: Vec<String>, ahead: bool, sender: &SegmentSender) -> Result<bool> {
        let now = reader::begin(&self.session, "").await?;
        let wrong = || AdapterError::Protocol {
            address: "the source".into(),
            what: format!("{now:?} is not a snapshot"),
        };
        let position = reader::position(&now).ok_or_else(wrong)?;
        let (to_us, mut blocks) = mpsc::channel::<ChangeBlock>(2);
        let reading = async {
            let Begin { names, tables, after, .. } = &self.begin;
            let found = reader::read(&self.session, names, tables, (after, &position), &to_us).await;
            drop(to_us);
            found
        };
        // The last block waits, so that it can end the group.
        let sending = async {
            let mut last: Option<ChangeBlock> = None;
            while let Some(block) = blocks.recv().await {
                if let Some(before) = last.replace(block) {
                    let part = Segment { blocks: vec![before], in_transaction: true, ..Segment::default() };
                    if !sender.send(part).await {
                        return (last, false);
                    }
                }
            }
            (last, true)
        };
        let (found, (last, listening)) = tokio::join!(reading, sending);
        let found = found?;
        reader::end(&self.session).await?;
        let Some(found) = found.filter(|_| listening) else { return Ok(false) };
        // Asked after reading: whatever was committed before the look's snapshot was captured then.
        if reader::is_full(&self.session, &self.begin.names).await? {
            return Err(full(&self.begin.names, &self.begin.after));
        }
        // Whoever sent a note may wait for the position too: tables that were read again come to their places at it.
        let moved = now != self.begin.after && (ahead || !notes.is_empty());
        if found.changes == 0 && !moved {
            let quiet = Segment { notes, ..Segment::default() };
            return Ok(quiet.notes.is_empty() || sender.send(quiet).await);
        }
        let committed_at =
            if found.changes == 0 { reader::clock(&self.session).await? } else { found.newest };
        reader::durable(&self.session).await?;
        let proof = if self.begin.owns { self.anchor().await? } else { String::new() };
        let transaction = Transaction { position, proof, committed_at };
        let segment = Segment {
            blocks: last.into_iter().collect(),
            commits: 1,
            last_commit: Some(Arc::new(transaction)),
            in_transaction: false,
            notes,
        };
        self.begin.after = now;
        Ok(sender.send(segment).await)
    }

    /// Leaves a random mark in the source before the target can know of it: a source that does not have it has
    /// another history.
    async fn anchor(&self) -> Result<String> {
        let mark = uuid::Uuid::new_v4().to_string();
        let anchors = self.begin.names.anchors();
        let sql = format!(
            "WITH made AS (INSERT INTO {anchors} (mark) VALUES ($1) RETURNING id), gone AS (DELETE FROM {anchors} WHERE id < (SELECT id FROM made) - {ANCHORS}) SELECT 1"
        );
        self.session.one("leaving a mark of the history", &sql, &[&mark]).await?;
        Ok(mark)
    }

    /// Deletes what was acknowledged long enough ago. What cannot be deleted now can be later.
    async fn forget(&mut self) {
        self.forgotten = Instant::now();
        let known = self.known.borrow().clone();
        self.acknowledged.push((Instant::now(), known));
        let ripe = self.acknowledged.iter().take_while(|(at, _)| at.elapsed() >= KEEP_FOR).count();
        let Some((_, upto)) = ripe.checked_sub(1).and_then(|i| self.acknowledged.get(i)).cloned() else {
            return;
        };
        self.acknowledged.drain(..ripe - 1);
        if upto == NOTHING {
            return;
        }
        let snapshot = quote_literal(&upto);
        let names = &self.begin.names;
        let mut sql = format!(
            "UPDATE {} SET forgotten = {snapshot}::pg_snapshot WHERE forgotten::text <> {snapshot};",
            names.about()
        );
        let earlier = objects::earlier(&self.session, names).await.unwrap_or_default();
        for id in self.begin.tables.iter().map(|t| t.plan.source_id) {
            let before = earlier.contains(&id).then(|| names.earlier(id));
            for changes in before.into_iter().chain([names.rows(id)]) {
                sql.push_str(&format!(
                    "DELETE FROM {changes} WHERE pg_visible_in_snapshot(xid, {snapshot}::pg_snapshot);"
                ));
            }
        }
        if let Err(error) = self.session.run("forgetting acknowledged changes", &sql).await {
            tracing::debug!("acknowledged changes stay a little longer: {error}");
        }
    }
}

/// Capturing has ended.
pub(crate) fn full(names: &Names, position: &str) -> AdapterError {
    Refusal::ChangeTableFull { schema: names.schema.clone(), position: position.into() }.into()
}

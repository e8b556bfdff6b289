//! The running stream: one task reads and assembles, another tells the server how far we have come. Both have a
//! thread of their own, so that decoding goes on while a batch is merged, and so that the reader may really pause:
//! see [`ReplicationReader`](crate::wire::replication::ReplicationReader).
//!
//! The second task keeps the connection alive whatever the first is doing, also while the target is busy or
//! down: it reports at a third of the server's own time limit, whether or not anything was read.

use crate::as_source::assemble::{Assembler, followed, proof_parts};
use crate::as_source::capture;
use crate::as_source::named::Point;
use crate::as_source::reading::{LogEnd, Reading, Told};
use crate::as_source::structure::looks::{Looks, Publishing};
use crate::wire::address::PostgresAddress;
use crate::wire::connect::Session;
use crate::wire::error::COPYING_SLOT;
use crate::wire::lsn;
use crate::wire::replication::{ReplicationReader, ReplicationWriter, connect};
use async_trait::async_trait;
use moorage_adapter::{
    AdapterError, ChangeStream, Doing, Durable, QueueGauge, Result, StreamStart, StreamTable,
    StreamedSegment, Tail, TailFrom, segment_channel,
};
use moorage_core::model::sql::{quote_ident, quote_literal};
use moorage_core::plan::table::TablePlan;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;
use tokio::sync::{Notify, mpsc, oneshot, watch};
use tokio::task::JoinHandle;

/// How much may wait between the stream and the batch.
const QUEUE_BYTES: usize = 8 << 20;
/// Between two reports of acknowledged positions, so that small batches do not each cost a packet.
const REPORT_PAUSE: Duration = Duration::from_millis(200);

struct PostgresStream {
    segments: mpsc::Receiver<Result<StreamedSegment>>,
    acknowledged: watch::Sender<u64>,
    gauge: QueueGauge,
    /// Ends the stream in good order.
    stop: Arc<Notify>,
    /// Ends it at once.
    abort: Arc<Notify>,
    /// Completes when the thread is done.
    ended: oneshot::Receiver<()>,
}

/// What is said to the server to begin a stream.
struct Begin {
    address: PostgresAddress,
    /// A slot to be copied first, under the name of the one below.
    copy_of: Option<String>,
    slot: String,
    publication: String,
    from: u64,
    pause: Duration,
}

/// Opens a stream at a checkpoint.
pub(crate) async fn open(
    address: &PostgresAddress,
    start: StreamStart,
    point: Point,
) -> Result<Box<dyn ChangeStream>> {
    let session = Session::open(address).await?;
    let pause = status_interval(&session).await?;
    let ids: Vec<u32> = start.tables.iter().map(|t| t.plan.source_id as u32).collect();
    let captured = ids.iter().copied().zip(start.captured_by).filter_map(|(id, by)| Some((id, by?)));
    let publishing = Publishing { publication: point.publication.clone(), captured: captured.collect() };
    let looks = Looks::begin(address, ids, publishing).await?;
    let all_tables = capture::publishes_all(&session, &point.publication).await?;
    let mut tables = Vec::with_capacity(start.tables.len());
    let mut is_other = false;
    for table in start.tables {
        let first = looks.first(table.plan.source_id as u32);
        let of = followed(&table, first.as_ref().map(|d| &d.table));
        is_other |= first.is_none_or(|first| of.is_another_than(&first));
        let of = if all_tables { of.unlisted() } else { of };
        tables.push((table, of));
    }
    if is_other {
        // What has no rows behind it takes effect where this comes back.
        looks.leave_a_note(&session).await?;
    }
    drop(session);
    let checkpoint = &start.checkpoint;
    let from = match proof_parts(&checkpoint.proof) {
        Some((commit_lsn, _)) => commit_lsn,
        None => lsn::parse(&checkpoint.position).ok_or_else(|| AdapterError::Protocol {
            address: "the target's checkpoint".into(),
            what: format!("{:?} is not a position in a PostgreSQL log", checkpoint.position),
        })?,
    };
    let assembler = Assembler::new(tables, checkpoint)?.settling(start.settled.as_ref().map(lsn::of));
    let begin = Begin {
        address: address.clone(),
        copy_of: None,
        slot: point.slot,
        publication: point.publication,
        from,
        pause,
    };
    Ok(Box::new(PostgresStream::begin(begin, assembler, Some(looks)).await?))
}

/// Follows changes beside a pipeline, through a temporary copy of its slot.
pub(crate) async fn tail(
    address: &PostgresAddress,
    capture: &Point,
    tables: &[TablePlan],
    from: &TailFrom,
) -> Result<Tail> {
    let session = Session::open(address).await?;
    let pause = status_interval(&session).await?;
    let sql = "SELECT pg_current_wal_insert_lsn()::text, (SELECT confirmed_flush_lsn::text FROM pg_replication_slots WHERE slot_name = $1)";
    let row = session.one("looking at the slot", sql, &[&capture.slot]).await?;
    let slot = &capture.slot;
    let refuse =
        |reason: String| AdapterError::refused(format!("following changes through slot {slot}"), reason);
    let kept: Option<String> = row.get(1);
    let kept = kept
        .and_then(|k| lsn::parse(&k))
        .ok_or_else(|| refuse("it is not there: `moorage run` makes it".into()))?;
    let now = lsn::parse(row.get(0)).unwrap_or(kept);
    let begin = match from {
        TailFrom::Now => now,
        TailFrom::Start | TailFrom::Time(_) => kept,
        TailFrom::Behind(at) if lsn::of(at) < kept => {
            let earliest = lsn::text(kept);
            return Err(refuse(format!("changes before {earliest} are not kept any more: use --from start")));
        }
        TailFrom::Behind(at) => lsn::of(at),
    };
    let mut streamed = Vec::with_capacity(tables.len());
    for plan in tables {
        let columns = streamed_columns(&session, plan.source_id).await?;
        streamed.push((StreamTable { plan: plan.clone(), mark: None }, columns));
    }
    // What the checkpoint says of the source is not asked here.
    let assembler = Assembler::describing(streamed)?.leaving_out(move |commit_lsn, _| commit_lsn < begin);
    let start = Begin {
        address: address.clone(),
        copy_of: Some(slot.clone()),
        slot: format!("moorage_tail_{}", session.pid()),
        publication: capture.publication.clone(),
        from: begin,
        pause,
    };
    let stream = Box::new(PostgresStream::begin(start, assembler, None).await?);
    Ok(Tail { stream, from: lsn::position(begin) })
}

impl Begin {
    /// Connects and begins the stream.
    async fn carry_out(&self) -> Result<(ReplicationReader, ReplicationWriter)> {
        let (mut reader, mut writer) = connect(&self.address).await?;
        let slot = &self.slot;
        if let Some(other) = &self.copy_of {
            let copy = format!(
                "SELECT pg_copy_logical_replication_slot({}, {}, true)",
                quote_literal(other),
                quote_literal(slot)
            );
            writer.query(&copy).await?;
            reader.statement_ends(Doing::to(COPYING_SLOT, other)).await?;
        }
        let publications = quote_literal(&quote_ident(&self.publication));
        let sql = format!(
            "START_REPLICATION SLOT {} LOGICAL {} (proto_version '1', publication_names {publications}, messages 'true')",
            quote_ident(slot),
            lsn::text(self.from),
        );
        writer.query(&sql).await?;
        reader.stream_begins(format!("starting the stream of slot {slot}")).await?;
        Ok((reader, writer))
    }
}

/// A third of the time after which the server gives up on a silent receiver; 10 s if it never does.
async fn status_interval(session: &Session) -> Result<Duration> {
    let sql = "SELECT setting::bigint FROM pg_settings WHERE name = 'wal_sender_timeout'";
    let limit: i64 = session.one("reading wal_sender_timeout", sql, &[]).await?.get(0);
    Ok(match u64::try_from(limit) {
        Ok(ms) if ms > 0 => Duration::from_millis((ms / 3).clamp(10, 20_000)),
        _ => Duration::from_secs(10),
    })
}

/// The columns that the log carries of a table, with their types.
pub(crate) async fn streamed_columns(session: &Session, table: u64) -> Result<Vec<(String, u32)>> {
    let sql = "SELECT attname::text, atttypid FROM pg_attribute
               WHERE attrelid = $1 AND attnum > 0 AND NOT attisdropped AND attgenerated = '' ORDER BY attnum";
    let rows = session.rows("reading a table's columns", sql, &[&(table as u32)]).await?;
    Ok(rows.iter().map(|r| (r.get(0), r.get(1))).collect())
}

impl PostgresStream {
    async fn begin(begin: Begin, assembler: Assembler, looks: Option<Looks>) -> Result<Self> {
        let (sender, segments) = segment_channel(QUEUE_BYTES);
        let (acknowledged, watched) = watch::channel(begin.from);
        let (stop, abort) = (Arc::new(Notify::new()), Arc::new(Notify::new()));
        let (began, has_begun) = oneshot::channel();
        let (end, ended) = oneshot::channel();
        let gauge = sender.gauge();
        let stream = Self { segments, acknowledged, gauge, stop: stop.clone(), abort: abort.clone(), ended };
        let failed = |e: std::io::Error| AdapterError::Io {
            doing: "starting the thread of the replication stream".into(),
            reason: e.to_string(),
        };
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().map_err(failed)?;
        let follow = async move {
            let (reader, writer) = match begin.carry_out().await {
                Ok(both) => both,
                Err(error) => {
                    // Whoever asked may have given up.
                    let _ = began.send(Err(error));
                    return;
                }
            };
            if began.send(Ok(())).is_err() {
                return;
            }
            let told = Told::from(begin.from);
            let end = LogEnd::at_least(&begin.address, begin.from);
            let looking = looks.clone().map(|looks| tokio::spawn(looks.keep_looking()));
            let reading = Reading::new(reader, (assembler, looks), sender, (end, begin.pause), told.clone());
            let reading = tokio::spawn(reading.read());
            tokio::select! {
                () = abort.notified() => {}
                () = report(writer, watched, told, stop, begin.pause) => {}
            }
            reading.abort();
            looking.inspect(JoinHandle::abort);
        };
        let thread = std::thread::Builder::new().name("moorage-stream".into());
        let run = move || {
            runtime.block_on(follow);
            drop(runtime);
            let _ = end.send(());
        };
        thread.spawn(run).map_err(failed)?;
        let ended =
            || AdapterError::Lost { address: "the replication stream".into(), reason: "it ended".into() };
        has_begun.await.unwrap_or_else(|_| Err(ended()))?;
        Ok(stream)
    }
}

#[async_trait]
impl ChangeStream for PostgresStream {
    async fn next(&mut self) -> Result<StreamedSegment> {
        let ended =
            || AdapterError::Lost { address: "the replication stream".into(), reason: "it ended".into() };
        self.segments.recv().await.unwrap_or_else(|| Err(ended()))
    }

    fn gauge(&self) -> QueueGauge {
        self.gauge.clone()
    }

    fn acknowledge(&self, durable: &Durable) {
        // The last transaction itself is kept by the server: sent again on resuming, it proves that the
        // history is still the same. Its commit record is where it is found.
        if let Some((commit_lsn, _)) = proof_parts(&durable.checkpoint().proof) {
            self.acknowledged.send_if_modified(|known| {
                let further = commit_lsn > *known;
                *known = commit_lsn.max(*known);
                further
            });
        }
    }

    async fn close(mut self: Box<Self>) {
        self.stop.notify_one();
        // The server may be gone already; it keeps what was not acknowledged.
        let _ = tokio::time::timeout(Duration::from_secs(1), &mut self.ended).await;
    }
}

impl Drop for PostgresStream {
    fn drop(&mut self) {
        self.abort.notify_one();
    }
}

async fn report(
    mut writer: ReplicationWriter,
    mut acknowledged: watch::Receiver<u64>,
    heard: Told,
    stop: Arc<Notify>,
    pause: Duration,
) {
    let mut beat = tokio::time::interval(pause);
    beat.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    let mut told = 0;
    loop {
        let (mut ending, mut wants_answer) = (false, false);
        tokio::select! {
            _ = beat.tick() => wants_answer = true,
            () = heard.asked.notified() => {}
            () = stop.notified() => ending = true,
            changed = acknowledged.changed() => ending = changed.is_err(),
        }
        wants_answer |= heard.curious.swap(false, Ordering::Relaxed);
        let durable = *acknowledged.borrow_and_update();
        let received = heard.received.load(Ordering::Relaxed).max(durable);
        // A position made durable is told once. Afterwards none is, for a server that shuts down waits until
        // the position last told is the end of its log, or, if none was told, the received one is: it would
        // wait for ever for the last transaction, which is never acknowledged.
        let news = if durable > told { durable } else { 0 };
        told = durable;
        if writer.status(received, news, wants_answer).await.is_err() {
            // The reader sees the broken connection too, and says so.
            return;
        }
        if ending {
            let _ = writer.done().await;
            return;
        }
        tokio::select! {
            () = tokio::time::sleep(REPORT_PAUSE.min(pause)) => {}
            () = stop.notified() => stop.notify_one(),
        }
    }
}

//! Reading the change table: look after look, each in one read transaction.
//!
//! A look sees whole transactions, because that is all a reader of SQLite ever sees. All that one look finds
//! is handed on as one group: SQLite does not tell which statements were committed together.
//!
//! Invariant: the position behind a group is the number of the last change that the look saw, covered or
//! not, carried or not; the next look begins right behind it. What was acknowledged is deleted now and then,
//! except the last acknowledged change itself: on resuming it must still be there, with its random mark, as
//! proof that the file's history is the checkpoint's.

use crate::source::capture::{Names, captured_by, head};
use crate::source::error::source_error;
use crate::source::group::Group;
use crate::source::{catalog, open, position};
use async_trait::async_trait;
use moorage_adapter::{
    AdapterError, ChangeStream, GONE, Result, SegmentSender, StreamTable, StreamedSegment,
};
use moorage_core::TableSchema;
use moorage_core::change::{Segment, Transaction};
use moorage_core::checkpoint::Durable;
use rusqlite::{Connection, params};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tokio::runtime::Handle;
use tokio::sync::mpsc;

/// How often the file is asked whether someone committed.
const LOOK_EVERY: Duration = Duration::from_millis(20);
/// How often acknowledged changes are deleted, and how many at once, so that writers hardly notice.
const FORGET_EVERY: Duration = Duration::from_secs(2);
const FORGET_AT_ONCE: i64 = 20_000;
/// How long an acknowledged change is kept for others who follow the same change table.
const KEEP_FOR: Duration = Duration::from_secs(10);

/// What was asked to be told when everything before it has been read.
pub(crate) type Notes = Arc<Mutex<Vec<String>>>;

/// A running stream.
pub(crate) struct SqliteStream {
    segments: mpsc::Receiver<Result<StreamedSegment>>,
    acknowledged: Arc<AtomicI64>,
    stop: Arc<AtomicBool>,
}

/// Where and what a stream reads.
pub(crate) struct Begin {
    pub(crate) path: PathBuf,
    pub(crate) names: Names,
    pub(crate) tables: Vec<StreamTable>,
    /// The number behind which changes are read.
    pub(crate) from: i64,
    pub(crate) notes: Notes,
    /// Whether acknowledged changes may be deleted.
    pub(crate) forgets: bool,
}

impl SqliteStream {
    /// Starts reading on a thread of its own.
    pub(crate) fn start(
        begin: Begin,
        sender: SegmentSender,
        segments: mpsc::Receiver<Result<StreamedSegment>>,
    ) -> Self {
        let acknowledged = Arc::new(AtomicI64::new(begin.from));
        let stop = Arc::new(AtomicBool::new(false));
        let (known, ending) = (acknowledged.clone(), stop.clone());
        let runtime = Handle::current();
        tokio::task::spawn_blocking(move || {
            let done =
                Reader::open(begin).and_then(|mut reader| reader.run(&sender, &runtime, &known, &ending));
            if let Err(error) = done {
                runtime.block_on(sender.fail(error));
            }
        });
        Self { segments, acknowledged, stop }
    }
}

#[async_trait]
impl ChangeStream for SqliteStream {
    async fn next(&mut self) -> Result<StreamedSegment> {
        let ended =
            || AdapterError::Lost { address: "the change table".into(), reason: "reading ended".into() };
        self.segments.recv().await.unwrap_or_else(|| Err(ended()))
    }

    fn acknowledge(&self, durable: &Durable) {
        if let Ok(number) = durable.checkpoint().position.parse() {
            self.acknowledged.fetch_max(number, Ordering::Relaxed);
        }
    }

    async fn close(self: Box<Self>) {}
}

impl Drop for SqliteStream {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
    }
}

struct Reader {
    db: Connection,
    path: PathBuf,
    names: Names,
    group: Group,
    last: i64,
    notes: Notes,
    forgets: bool,
    seen_version: Option<i64>,
    seen_schema: Option<i64>,
    forgotten: Instant,
    /// What was acknowledged at earlier times, oldest first.
    acknowledged: Vec<(Instant, i64)>,
}

impl Reader {
    fn open(begin: Begin) -> Result<Self> {
        let db = open(&begin.path)?;
        Ok(Self {
            db,
            group: Group::new(begin.path.clone(), begin.names.clone(), begin.tables),
            path: begin.path,
            names: begin.names,
            last: begin.from,
            notes: begin.notes,
            forgets: begin.forgets,
            seen_version: None,
            seen_schema: None,
            forgotten: Instant::now(),
            acknowledged: Vec::new(),
        })
    }

    fn run(
        &mut self,
        sender: &SegmentSender,
        runtime: &Handle,
        acknowledged: &AtomicI64,
        stop: &AtomicBool,
    ) -> Result<()> {
        while !stop.load(Ordering::Relaxed) {
            let notes = std::mem::take(&mut *self.notes.lock().unwrap_or_else(PoisonError::into_inner));
            if (!notes.is_empty() || self.has_news()?) && !self.look(notes, sender, runtime)? {
                return Ok(());
            }
            if self.forgets && self.forgotten.elapsed() >= FORGET_EVERY {
                self.forget(acknowledged.load(Ordering::Relaxed));
            }
            std::thread::sleep(LOOK_EVERY);
        }
        Ok(())
    }

    fn failed(&self, error: rusqlite::Error) -> AdapterError {
        source_error(&self.path, "reading the change table", error)
    }

    /// Whether anyone committed since the last look (<https://www.sqlite.org/pragma.html#pragma_data_version>).
    fn has_news(&mut self) -> Result<bool> {
        let version =
            self.db.query_row("PRAGMA data_version", [], |r| r.get(0)).map_err(|e| self.failed(e))?;
        Ok(self.seen_version.replace(version) != Some(version))
    }

    /// Reads what is there now; `false` if nobody listens any more.
    fn look(&mut self, notes: Vec<String>, sender: &SegmentSender, runtime: &Handle) -> Result<bool> {
        let run = |me: &Self, sql: &str| me.db.execute_batch(sql).map_err(|e| me.failed(e));
        run(self, "BEGIN")?;
        let done = self.look_in_transaction(notes, sender, runtime);
        run(self, "ROLLBACK")?;
        done
    }

    fn look_in_transaction(
        &mut self,
        notes: Vec<String>,
        sender: &SegmentSender,
        runtime: &Handle,
    ) -> Result<bool> {
        let last = head(&self.db, &self.names).map_err(|e| self.failed(e))?;
        self.refuse_drift()?;
        if last <= self.last {
            let quiet = Segment { notes, ..Segment::default() };
            return Ok(quiet.notes.is_empty() || runtime.block_on(sender.send(quiet)));
        }
        let mut hand_on = |part| runtime.block_on(sender.send(part));
        let Some(end) = self.group.read(&self.db, self.last, last, &mut hand_on)? else { return Ok(false) };
        let transaction = Transaction {
            position: position(last),
            proof: proof_text(last, end.nonce),
            committed_at: end.at,
        };
        let mut segment = self.group.take(false)?;
        segment.commits = 1;
        segment.last_commit = Some(Arc::new(transaction));
        segment.notes = notes;
        self.last = last;
        Ok(runtime.block_on(sender.send(segment)))
    }

    /// Stops before anything is read behind a change of structure.
    fn refuse_drift(&mut self) -> Result<()> {
        let version =
            self.db.query_row("PRAGMA schema_version", [], |r| r.get(0)).map_err(|e| self.failed(e))?;
        if self.seen_schema == Some(version) {
            return Ok(());
        }
        let plans = self.group.plans();
        if let Some((schema, what)) =
            drifted(&self.db, &plans).map_err(|e| self.failed(e))?.into_iter().next()
        {
            let table = schema.table.to_string();
            return Err(if what == GONE {
                AdapterError::Gap { table, why: what }
            } else {
                AdapterError::Drift { table, what }
            });
        }
        for plan in &plans {
            let now = captured_by(&self.db, &self.names, plan).map_err(|e| self.failed(e))?;
            if now.is_none() {
                let why = "its triggers were removed or changed, or it was dropped and made again".into();
                return Err(AdapterError::Gap { table: plan.table().to_string(), why });
            }
        }
        self.seen_schema = Some(version);
        Ok(())
    }

    /// Deletes what was acknowledged long enough ago. What cannot be deleted now can be later.
    fn forget(&mut self, acknowledged: i64) {
        self.forgotten = Instant::now();
        self.acknowledged.push((Instant::now(), acknowledged));
        let ripe = self.acknowledged.iter().take_while(|(at, _)| at.elapsed() >= KEEP_FOR).count();
        let Some((_, upto)) = ripe.checked_sub(1).and_then(|i| self.acknowledged.get(i)).copied() else {
            return;
        };
        self.acknowledged.drain(..ripe - 1);
        let changes = self.names.changes();
        let sql = format!("DELETE FROM {changes} WHERE id < min(?1, (SELECT min(id) FROM {changes}) + ?2)");
        if let Err(error) = self.db.execute(&sql, params![upto, FORGET_AT_ONCE]) {
            tracing::debug!("acknowledged changes stay a little longer: {error}");
        }
    }
}

pub(crate) fn proof_text(number: i64, nonce: i64) -> String {
    format!("{number} {nonce}")
}

/// The structures that are not the planned ones any more.
pub(crate) fn drifted(
    db: &Connection,
    plans: &[moorage_core::plan::TablePlan],
) -> rusqlite::Result<Vec<(Arc<TableSchema>, String)>> {
    let found = catalog::discover(db)?;
    let mut all = Vec::new();
    for plan in plans {
        let what = match found.iter().find(|t| t.name == *plan.table()) {
            None => Some(GONE.to_string()),
            Some(t) if t.fingerprint() != plan.fingerprint => Some("its structure was changed".into()),
            Some(_) => None,
        };
        all.extend(what.map(|what| (plan.schema.clone(), what)));
    }
    Ok(all)
}

/// Whether the change that a checkpoint ends with is still there, as it was.
pub(crate) fn proves(
    db: &Connection,
    names: &Names,
    proof: &str,
    path: &Path,
) -> Result<std::result::Result<(), String>> {
    let Some((number, nonce)) = proof.split_once(' ') else { return Ok(Ok(())) };
    let sql = format!("SELECT nonce FROM {} WHERE id = ?1", names.changes());
    let number: i64 = number.parse().unwrap_or(-1);
    let found: Option<i64> =
        rusqlite::OptionalExtension::optional(db.query_row(&sql, [number], |r| r.get(0)))
            .map_err(|e| source_error(path, "reading the change table", e))?;
    Ok(match found {
        Some(found) if found.to_string() == nonce => Ok(()),
        Some(found) => Err(format!("change {number} with the mark {found}")),
        None => Err(format!("no change {number}")),
    })
}

//! Reading the change table: look after look, each in one read transaction.
//!
//! A look sees whole transactions, because that is all a reader of SQLite ever sees. All that one look finds
//! is handed on as one group: SQLite does not tell which statements were committed together.
//!
//! Invariant: the position behind a group is the number of the last change that the look saw, covered or
//! not, carried or not; the next look begins right behind it. What was acknowledged is deleted now and then,
//! except the last acknowledged change itself: on resuming it must still be there, with its random mark, as
//! proof that the file's history is the checkpoint's.

use crate::read::{Writer, push};
use crate::source::capture::{Names, existing_triggers, head, triggers};
use crate::source::error::source_error;
use crate::source::{catalog, open, position, replaced};
use async_trait::async_trait;
use chrono::{DateTime, Utc};
use moorage_adapter::{AdapterError, ChangeStream, Result, SegmentSender, StreamTable, StreamedSegment};
use moorage_core::TableSchema;
use moorage_core::change::{ChangeBlockBuilder, ChangeKind, Images, Segment, Transaction};
use moorage_core::checkpoint::Durable;
use moorage_core::column::RowsBuilder;
use rusqlite::{Connection, Row, params};
use std::collections::{HashMap, HashSet};
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
/// A segment is handed on when it has this size.
const SEGMENT_BYTES: usize = 512 << 10;

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

struct Carried {
    schema: Arc<TableSchema>,
    plan: moorage_core::plan::TablePlan,
    /// The snapshot holds changes up to this number.
    covered: i64,
    block: Option<ChangeBlockBuilder>,
}

/// Collects changes of the carried tables.
struct Gatherer {
    path: PathBuf,
    tables: HashMap<String, Carried>,
    order: u64,
}

struct Reader {
    db: Connection,
    path: PathBuf,
    names: Names,
    gatherer: Gatherer,
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
        let covered = |t: &StreamTable| t.mark.as_ref().and_then(|m| m.text.parse().ok()).unwrap_or(0);
        let carried = |t: StreamTable| {
            let covered = covered(&t);
            let name = t.plan.table().name.clone();
            (name, Carried { schema: t.plan.schema.clone(), plan: t.plan, covered, block: None })
        };
        let tables = begin.tables.into_iter().map(carried).collect();
        Ok(Self {
            db,
            gatherer: Gatherer { path: begin.path.clone(), tables, order: 0 },
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
        let removed = replaced::really(&self.db, &self.names, self.last, last).map_err(|e| self.failed(e))?;
        let done = self.read_changes(last, &removed, sender, runtime);
        let Some((nonce, at)) = done? else { return Ok(false) };
        let transaction =
            Transaction { position: position(last), proof: proof_text(last, nonce), committed_at: at };
        let mut segment = self.gatherer.take(false)?;
        segment.commits = 1;
        segment.last_commit = Some(Arc::new(transaction));
        segment.notes = notes;
        self.last = last;
        Ok(runtime.block_on(sender.send(segment)))
    }

    /// Hands on all but the end of a group; gives the mark of its last change and its newest time.
    fn read_changes(
        &mut self,
        last: i64,
        removed: &HashSet<i64>,
        sender: &SegmentSender,
        runtime: &Handle,
    ) -> Result<Option<(i64, DateTime<Utc>)>> {
        let path = &self.path;
        let failed = |e| source_error(path, "reading the change table", e);
        let sql = format!("SELECT * FROM {} WHERE id > ?1 AND id <= ?2 ORDER BY id", self.names.changes());
        let mut query = self.db.prepare_cached(&sql).map_err(failed)?;
        let names: Vec<String> = (0..query.column_count())
            .map(|at| query.column_name(at).unwrap_or_default().to_string())
            .collect();
        let columns = Columns::of(&names);
        let mut rows = query.query(params![self.last, last]).map_err(failed)?;
        let (mut nonce, mut newest) = (0, DateTime::UNIX_EPOCH);
        let (mut expected, mut bytes) = (self.last, 0);
        while let Some(row) = rows.next().map_err(failed)? {
            let id: i64 = row.get(0).map_err(failed)?;
            expected += 1;
            if id != expected {
                return Err(AdapterError::refused(
                    format!("{}: change {expected} is not in the change table any more", path.display()),
                    "it was deleted by someone. Read the tables again with `moorage resnapshot --all` and `moorage run`",
                ));
            }
            let at = from_julian_day(row.get(1).map_err(failed)?);
            nonce = row.get(2).map_err(failed)?;
            newest = newest.max(at);
            bytes += self.gatherer.feed(row, &columns, id, at, removed)?;
            if bytes >= SEGMENT_BYTES {
                bytes = 0;
                let part = self.gatherer.take(true)?;
                if !runtime.block_on(sender.send(part)) {
                    return Ok(None);
                }
            }
        }
        Ok(Some((nonce, newest)))
    }

    /// Stops before anything is read behind a change of structure.
    fn refuse_drift(&mut self) -> Result<()> {
        let version =
            self.db.query_row("PRAGMA schema_version", [], |r| r.get(0)).map_err(|e| self.failed(e))?;
        if self.seen_schema == Some(version) {
            return Ok(());
        }
        let plans: Vec<_> = self.gatherer.tables.values().map(|c| c.plan.clone()).collect();
        if let Some((schema, what)) =
            drifted(&self.db, &self.names, &plans).map_err(|e| self.failed(e))?.into_iter().next()
        {
            return Err(AdapterError::Drift { table: schema.table.to_string(), what });
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

impl Gatherer {
    fn take(&mut self, in_transaction: bool) -> Result<Segment> {
        let mut segment = Segment { in_transaction, ..Segment::default() };
        for carried in self.tables.values_mut() {
            if let Some(block) = carried.block.take() {
                segment.blocks.push(block.finish()?);
            }
        }
        Ok(segment)
    }

    /// Takes in one row of the change table; gives its size in bytes.
    fn feed(
        &mut self,
        row: &Row<'_>,
        columns: &Columns,
        id: i64,
        at: DateTime<Utc>,
        removed: &HashSet<i64>,
    ) -> Result<usize> {
        let path = &self.path;
        let failed = |e| source_error(path, "reading the change table", e);
        let text = |at: usize| row.get_ref(at).map_err(failed).map(|v| v.as_str().unwrap_or_default());
        let Some(carried) = self.tables.get_mut(text(3)?) else { return Ok(0) };
        let (kind, new, old) = match text(4)? {
            "I" => (ChangeKind::Insert, true, false),
            "U" => (ChangeKind::Update, true, true),
            "D" => (ChangeKind::Delete, false, true),
            _ if removed.contains(&id) => (ChangeKind::Delete, false, true),
            _ => return Ok(0),
        };
        if id <= carried.covered {
            return Ok(0);
        }
        let schema = carried.schema.clone();
        let block = carried.block.get_or_insert_with(|| ChangeBlockBuilder::new(schema.clone()));
        let wrong = |what: String| AdapterError::Value {
            table: schema.table.to_string(),
            what: format!(
                "{what}, in change {id} of the change table. Mend the value in the source, or give the column a type that fits, then `moorage resnapshot {}`",
                schema.table
            ),
        };
        let mut bytes = 32;
        if new {
            bytes += push_image(&mut block.new, row, &columns.new).map_err(wrong)?;
        }
        if old {
            bytes += push_image(&mut block.old, row, &columns.old).map_err(wrong)?;
        }
        self.order += 1;
        let transaction =
            Arc::new(Transaction { position: position(id), proof: String::new(), committed_at: at });
        let images = Images { new, old: old.then_some(true), unchanged: None };
        block.push(kind, self.order, &transaction, images, bytes);
        Ok(bytes)
    }
}

/// Where the images stand in a row of the change table.
struct Columns {
    old: Vec<usize>,
    new: Vec<usize>,
}

impl Columns {
    fn of(names: &[String]) -> Self {
        let find = |letter: char| {
            let mut found: Vec<(usize, usize)> = names
                .iter()
                .enumerate()
                .filter_map(|(at, name)| Some((name.strip_prefix(letter)?.parse().ok()?, at)))
                .collect();
            found.sort_unstable();
            found.into_iter().map(|(_, at)| at).collect()
        };
        Self { old: find('o'), new: find('n') }
    }
}

fn push_image(
    rows: &mut RowsBuilder,
    row: &Row<'_>,
    columns: &[usize],
) -> std::result::Result<usize, String> {
    let schema = rows.schema().clone();
    let mut bytes = 0;
    for ((column, builder), at) in schema.columns.iter().zip(&mut rows.columns).zip(columns) {
        let value = row.get_ref(*at).map_err(|e| e.to_string())?;
        bytes += 8 + value.as_bytes().map_or(0, <[u8]>::len);
        push(builder, &column.logical, value, Writer::Application)
            .map_err(|e| format!("column {}: {e}", column.name))?;
    }
    Ok(bytes)
}

/// From a Julian day number, which SQLite of any age can tell (<https://www.sqlite.org/lang_datefunc.html>).
fn from_julian_day(day: f64) -> DateTime<Utc> {
    const UNIX_EPOCH: f64 = 2_440_587.5;
    DateTime::from_timestamp_millis(((day - UNIX_EPOCH) * 86_400_000.0).round() as i64).unwrap_or_default()
}

pub(crate) fn proof_text(number: i64, nonce: i64) -> String {
    format!("{number} {nonce}")
}

/// The structures that are not the planned ones any more. A table whose triggers are not exactly ours was
/// made again, or someone took them away: changes were missed.
pub(crate) fn drifted(
    db: &Connection,
    names: &Names,
    plans: &[moorage_core::plan::TablePlan],
) -> rusqlite::Result<Vec<(Arc<TableSchema>, String)>> {
    let found = catalog::discover(db)?;
    let there = existing_triggers(db, names)?;
    let mut all = Vec::new();
    for plan in plans {
        let what = match found.iter().find(|t| t.name == *plan.table()) {
            None => Some("it is not in the source any more".to_string()),
            Some(t) if t.fingerprint() != plan.fingerprint => Some("its structure was changed".into()),
            Some(_) => {
                let wanted = triggers(db, names, plan)?;
                let kept = wanted.iter().all(|(n, s)| there.iter().any(|(m, _, t)| n == m && s == t));
                (!kept).then(|| {
                    "its triggers are not the ones Moorage made: it was dropped and made again, or its keys were changed".to_string()
                })
            }
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

//! A SQLite file as a source, captured by triggers into a change table.

mod capture;
mod catalog;
mod check;
mod console;
mod explain;
mod following;
mod group;
mod keys;
mod look;
mod names;
mod open;
mod replaced;
mod snapshot;
mod stream;
mod triggers;

use crate::as_source::open::{head, open as open_file, position};
use crate::file::error::source_error;
use arrow::array::RecordBatch;
use async_trait::async_trait;
use moorage_adapter::{
    AdapterError, CapturePlan, CaptureSource, CaptureState, CaptureWords, ChangeStream, Console, Event,
    Events, Head, InspectSource, Inspected, Lack, LookAtSource, Prepared, Removed, Result, SetUp,
    SetUpSource, SnapshotMark, SnapshotSink, SourceAddress, SourceLog, SourceLook, Step, StreamStart,
    StreamTable, Tail, TailFrom, Usage, Waiting, WaitingNotes, object_name,
};
use moorage_core::change::kind::Transaction;
use moorage_core::checkpoint::decide::{CapturePoint, Refusal};
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::model::described::NamedTable;
use moorage_core::model::described::{SourceIdentity, SourceTable};
use moorage_core::model::finding::Finding;
use moorage_core::plan::table::TablePlan;
use moorage_core::{Position, TableSchema};
use names::Names;
use rusqlite::{Connection, OpenFlags, TransactionBehavior, params};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use stream::Begin;

/// How many waiting changes are counted before `status` says "or more".
const COUNT_LIMIT: i64 = 100_000;

/// A SQLite file as a source.
pub struct SqliteSource {
    path: PathBuf,
    notes: WaitingNotes,
}

impl SqliteSource {
    /// A source at `path`.
    pub fn new(path: impl Into<PathBuf>) -> Self {
        Self { path: path.into(), notes: WaitingNotes::default() }
    }

    /// Makes a new, empty file in write-ahead mode, which must not be there, and gives a source on it.
    ///
    /// # Errors
    /// If the file cannot be made.
    pub fn make(path: impl Into<PathBuf>) -> Result<Self> {
        let path = path.into();
        let failed = |e| source_error(&path, "making the file", e);
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE
            | OpenFlags::SQLITE_OPEN_CREATE
            | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let db = Connection::open_with_flags(&path, flags).map_err(failed)?;
        db.execute_batch("PRAGMA journal_mode = WAL; PRAGMA user_version = 1").map_err(failed)?;
        Ok(Self::new(path))
    }

    /// Runs blocking work on a connection of its own.
    async fn with<T: Send + 'static>(
        &self,
        doing: &'static str,
        work: impl FnOnce(&mut Connection, &Path) -> Result<T> + Send + 'static,
    ) -> Result<T> {
        let path = self.path.clone();
        tokio::task::spawn_blocking(move || work(&mut open_file(&path)?, &path))
            .await
            .map_err(|e| AdapterError::Io { doing: doing.into(), reason: e.to_string() })?
    }

    /// Reads something that only needs its SQL errors worded.
    async fn sql<T: Send + 'static>(
        &self,
        doing: &'static str,
        work: impl FnOnce(&Connection) -> rusqlite::Result<T> + Send + 'static,
    ) -> Result<T> {
        self.with(doing, move |db, path| {
            // All of it sees one state.
            let run = || {
                let transaction = db.unchecked_transaction()?;
                work(&transaction)
            };
            run().map_err(|e| source_error(path, doing, e))
        })
        .await
    }

    /// Changes something in a transaction.
    async fn change<T: Send + 'static>(
        &self,
        doing: &'static str,
        work: impl FnOnce(&Connection) -> rusqlite::Result<T> + Send + 'static,
    ) -> Result<T> {
        self.with(doing, move |db, path| {
            let failed = |e| source_error(path, doing, e);
            let transaction = db.transaction_with_behavior(TransactionBehavior::Immediate).map_err(failed)?;
            let done = work(&transaction).map_err(failed)?;
            transaction.commit().map_err(failed)?;
            Ok(done)
        })
        .await
    }
}

/// The number behind which a tail begins; or the earliest possible one.
fn tail_begin(
    db: &Connection,
    names: &Names,
    from: &TailFrom,
) -> rusqlite::Result<std::result::Result<i64, i64>> {
    let head = capture::head(db, names)?;
    let changes = names.changes();
    let oldest = |condition: &str, parameter: f64| -> rusqlite::Result<i64> {
        let sql = format!("SELECT min(id) - 1 FROM {changes} WHERE {condition}");
        Ok(db.query_row(&sql, [parameter], |r| r.get::<_, Option<i64>>(0))?.unwrap_or(head))
    };
    let earliest = oldest("?1 = ?1", 0.0)?;
    Ok(match from {
        TailFrom::Now => Ok(head),
        TailFrom::Start => Ok(earliest),
        TailFrom::Behind(at) if at.first() < earliest.max(0) as u64 => Err(earliest),
        TailFrom::Behind(at) => Ok(i64::try_from(at.first()).unwrap_or(head)),
        TailFrom::Time(at) => Ok(oldest("at >= ?1", group::to_julian_day(*at))?),
    })
}

#[async_trait]
impl InspectSource for SqliteSource {
    async fn address(&self) -> Result<SourceAddress> {
        self.sql("opening", |_| Ok(())).await?;
        Ok(SourceAddress {
            system: "SQLite".into(),
            host: String::new(),
            database: self.path.display().to_string(),
            user: String::new(),
        })
    }

    async fn inspect(&self, capture: &CapturePlan, inspected: &Inspected<'_>) -> Result<Vec<Finding>> {
        let (names, place) = (Names::new(capture), self.path.display().to_string());
        let plans = inspected.plan.tables.clone();
        // It tries a write, in a transaction of its own.
        self.with("looking at the file", move |db, path| {
            check::inspect(db, &names, &place, &plans)
                .map_err(|e| source_error(path, "looking at the file", e))
        })
        .await
    }

    async fn set_up_script(&self, _: &CapturePlan, set_up: &SetUp<'_>) -> Result<String> {
        if let Some(part) = set_up.part {
            return Err(set_up.has_no(part));
        }
        Ok(check::set_up_script(&self.path, set_up.undo))
    }

    async fn discover(&self) -> Result<Vec<SourceTable>> {
        self.sql("reading the tables", catalog::discover).await
    }

    async fn table_names(&self) -> Result<Vec<NamedTable>> {
        self.sql("reading the names of tables", catalog::table_names).await
    }

    async fn console(&self) -> Result<Box<dyn Console>> {
        Ok(Box::new(console::SqliteConsole::open(&self.path)?))
    }

    fn usage(&self) -> Option<Usage> {
        None
    }

    fn lacks(&self) -> &'static [Lack] {
        &[Lack::Truncates, Lack::EachChange]
    }
}

impl SourceLog for SqliteSource {
    fn capture_words(&self) -> CaptureWords {
        CaptureWords { one: "the change table of", another: None }
    }

    fn tells_of_structure(&self) -> bool {
        true
    }

    fn parse_position(&self, text: &str) -> Option<Position> {
        text.parse().ok().filter(|n: &i64| *n >= 0).map(position)
    }

    fn bytes_between(&self, _: &Position, _: &Position) -> Option<u64> {
        None
    }

    fn is_unbroken(&self, before: &str, now: &str) -> bool {
        capture::is_unbroken(before, now)
    }

    fn covers(&self, mark: &SnapshotMark, transaction: &Transaction) -> bool {
        group::mark_parts(&mark.text)
            .is_some_and(|(newest, _)| transaction.position.first() <= newest.max(0) as u64)
    }
}

#[async_trait]
impl SetUpSource for SqliteSource {
    async fn capture_name(&self, pipeline: &str, _: Option<&str>) -> Result<String> {
        Ok(object_name(pipeline))
    }

    async fn capture_state(&self, capture: &CapturePlan) -> Result<CaptureState> {
        let names = Names::new(capture);
        self.sql("looking at the change table", move |db| {
            let token = capture::token(db, &names)?;
            let head = head(capture::head(db, &names)?);
            let point = match token {
                None => None,
                Some(token) => Some(CapturePoint {
                    active: None,
                    reaches_back_to: Some(position(capture::reaches_back_to(db, &names)?)),
                    token: Some(token),
                    named_by_user: false,
                    keep_more: "",
                }),
            };
            // A file has no name of its own that a copy would not share: token and proof tell histories apart.
            let identity = SourceIdentity {
                kind: "sqlite".into(),
                system: "file".into(),
                database: catalog::SCHEMA.into(),
                timeline: "1".into(),
            };
            Ok(CaptureState { identity, head, point })
        })
        .await
    }

    async fn prepare(
        &self,
        capture: &CapturePlan,
        tables: &[TablePlan],
        again: bool,
        events: &Events,
    ) -> Result<Prepared> {
        let (names, token, tables) = (Names::new(capture), capture.token.clone(), tables.to_vec());
        let (steps, head) = self
            .change("making the change table", move |db| {
                let steps = capture::make(db, &names, &token, again, &tables)?;
                Ok((steps, capture::head(db, &names)?))
            })
            .await?;
        steps.into_iter().for_each(|step| events(Event::Prepared { step }));
        Ok(Prepared { position: position(head) })
    }

    async fn align(&self, capture: &CapturePlan, tables: &[TablePlan], events: &Events) -> Result<()> {
        let (names, carried) = (Names::new(capture), tables.to_vec());
        let looked = move |db: &Connection| capture::aligned(db, &names, &carried);
        let step = match self.sql("looking at the triggers", looked).await? {
            Some(step) => step,
            None => {
                let (names, tables) = (Names::new(capture), tables.to_vec());
                self.change("aligning the triggers", move |db| capture::align(db, &names, &tables)).await?
            }
        };
        events(Event::Prepared { step });
        Ok(())
    }

    async fn captured_by(&self, capture: &CapturePlan, tables: &[TablePlan]) -> Result<Vec<Option<String>>> {
        let (names, tables) = (Names::new(capture), tables.to_vec());
        self.sql("looking at the triggers", move |db| {
            tables.iter().map(|plan| capture::captured_by(db, &names, plan)).collect()
        })
        .await
    }

    async fn teardown(&self, capture: &CapturePlan, dry: bool, _: &Events) -> Result<Removed> {
        let names = Names::new(capture);
        self.change("removing the change table", move |db| {
            let found = capture::listed(db, &names)?;
            let mut removed = Removed::default();
            if found.is_empty() {
                removed.steps.push(Step::new(format!("change table {}", names.changes_plain()), "not there"));
            }
            for what in found {
                removed.steps.push(Step::new(what, if dry { "would be removed" } else { "removed" }));
            }
            if !dry {
                capture::remove(db, &names)?;
                removed.proved_gone = capture::listed(db, &names)?.is_empty();
            }
            Ok(removed)
        })
        .await
    }
}

#[async_trait]
impl CaptureSource for SqliteSource {
    async fn snapshot(
        &self,
        tables: &[TablePlan],
        capture: Option<&CapturePlan>,
        sink: Arc<dyn SnapshotSink>,
        _: &Events,
    ) -> Result<()> {
        snapshot::run(self.path.clone(), capture.map(Names::new), tables, sink).await
    }

    async fn changes(&self, start: StreamStart, _: &Events) -> Result<Box<dyn ChangeStream>> {
        let names = Names::new(&start.capture);
        let (checkpoint, at) = (start.checkpoint.clone(), names.clone());
        self.with("reading the change table", move |db, path| {
            stream::proves(db, &at, &checkpoint.proof, path)?.map_err(|found| {
                AdapterError::from(Refusal::OtherHistory { position: checkpoint.position.clone(), found })
            })
        })
        .await?;
        let from = start.checkpoint.position.parse().map_err(|_| AdapterError::Protocol {
            address: "the target's checkpoint".into(),
            what: format!("{:?} is not a position in a change table", start.checkpoint.position),
        })?;
        let (path, notes) = (self.path.clone(), self.notes.clone());
        let StreamStart { tables, captured_by, settled, .. } = start;
        Ok(Begin { path, names, tables, captured_by, from, notes, settled, forgets: true }.start())
    }

    async fn send_note(&self, note: &str) -> Result<()> {
        // The next look begins after this and sees everything that was committed before.
        self.notes.push(note);
        Ok(())
    }

    async fn head(&self, capture: &CapturePlan) -> Result<Head> {
        let names = Names::new(capture);
        let look = move |db: &Connection| {
            let kept_bytes = Some(capture::kept_bytes(db, &names)?);
            Ok(Head { kept_bytes, ..head(capture::head(db, &names)?) })
        };
        self.sql("looking at the change table", look).await
    }

    async fn drifted(
        &self,
        _: &CapturePlan,
        tables: &[TablePlan],
    ) -> Result<Vec<(Arc<TableSchema>, String)>> {
        let tables = tables.to_vec();
        self.sql("reading the tables", move |db| stream::drifted(db, &tables)).await
    }
}

#[async_trait]
impl LookAtSource for SqliteSource {
    async fn waiting(&self, capture: &CapturePlan, checkpoint: &Checkpoint) -> Result<Waiting> {
        let names = Names::new(capture);
        let from: i64 = checkpoint.position.parse().unwrap_or(0);
        self.sql("counting waiting changes", move |db| {
            if capture::token(db, &names)?.is_none() {
                return Ok(Waiting::default());
            }
            let changes = names.changes();
            let sql = format!(
                "SELECT count(*) FROM (SELECT 1 FROM {changes} WHERE id > ?1 AND kind NOT IN ('M', 'm', 'N') LIMIT ?2)"
            );
            let count: i64 = db.query_row(&sql, params![from, COUNT_LIMIT], |r| r.get(0))?;
            let bytes = capture::kept_bytes(db, &names)?;
            Ok(Waiting {
                changes: Some(count.max(0) as u64),
                or_more: count >= COUNT_LIMIT,
                bytes: 0,
                retained_bytes: bytes,
                retained_in: "its change table",
                limit_bytes: None,
                oldest_open: None,
            })
        })
        .await
    }

    async fn look(
        &self,
        capture: Option<&CapturePlan>,
        tables: &[StreamTable],
    ) -> Result<Box<dyn SourceLook>> {
        Ok(Box::new(look::SqliteSourceLook::new(self.path.clone(), capture.map(Names::new), tables)))
    }

    async fn tail(&self, capture: &CapturePlan, tables: &[TablePlan], from: &TailFrom) -> Result<Tail> {
        let (names, wanted) = (Names::new(capture), from.clone());
        let at = names.clone();
        let from = self
            .with("looking at the change table", move |db, path| {
                let sql = |e| source_error(path, "looking at the change table", e);
                if capture::token(db, &at).map_err(sql)?.is_none() {
                    return Err(AdapterError::refused(
                        format!("change table {}", at.changes_plain()),
                        "it is not there: `moorage run` makes it",
                    ));
                }
                tail_begin(db, &at, &wanted).map_err(sql)?.map_err(|earliest| {
                    AdapterError::refused(
                        "following changes",
                        format!("those before {earliest} are not kept any more: use --from start"),
                    )
                })
            })
            .await?;
        let tables = tables.iter().map(|plan| StreamTable { plan: plan.clone(), mark: None }).collect();
        let (path, notes) = (self.path.clone(), WaitingNotes::default());
        let captured_by = Vec::new();
        let begin = Begin { path, names, tables, captured_by, from, notes, settled: None, forgets: false };
        Ok(Tail { stream: begin.start(), from: position(from) })
    }

    async fn row(&self, plan: &TablePlan, key: &[String]) -> Result<RecordBatch> {
        let (plan, key) = (plan.clone(), key.to_vec());
        self.with("reading a row", move |db, path| look::row(db, path, &plan, &key)).await
    }

    async fn sample(&self, plan: &TablePlan, rows: usize) -> Result<RecordBatch> {
        let plan = plan.clone();
        self.with("reading rows", move |db, path| look::sample(db, path, &plan, rows)).await
    }
}

//! Reading the change table: look after look, each in one read transaction.
//!
//! A look sees whole transactions, because that is all a reader of SQLite ever sees. All that one look finds
//! is handed on as one group: SQLite does not tell which statements were committed together.
//!
//! Invariant: the position behind a group is the number of the last change that the look saw, covered or
//! not, carried or not; the next look begins right behind it. What was acknowledged is deleted now and then,
//! except the last acknowledged change itself: on resuming it must still be there, with its random mark, as
//! proof that the file's history is the checkpoint's.

use crate::as_source::capture::{captured_by, head, is_unbroken};
use crate::as_source::catalog;
use crate::as_source::group::Group;
use crate::as_source::names::Names;
use crate::as_source::open::{open, position};
use crate::file::error::source_error;
use async_trait::async_trait;
use chrono::{DateTime, Utc};
use moorage_adapter::{
    AdapterError, ChangeStream, GONE, Pace, Polled, Polling, Result, Seen, SegmentSender, StreamTable,
    WaitingNotes, Wanted,
};
use moorage_core::change::kind::Transaction;
use moorage_core::change::segment::Segment;
use moorage_core::change::structure::SchemaChange;
use moorage_core::plan::table::TablePlan;
use moorage_core::{Position, TableSchema};
use rusqlite::{Connection, params};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use tokio::runtime::Handle;

/// How often the file is asked whether someone committed; how often acknowledged changes are deleted, and after how long.
const PACE: Pace = Pace {
    look_every: Duration::from_millis(20),
    forget_every: Duration::from_secs(2),
    keep_for: Duration::from_secs(10),
};
/// How many changes are deleted at once, so that writers hardly notice.
const FORGET_AT_ONCE: i64 = 20_000;
/// How much may wait between the stream and the batch.
const QUEUE_BYTES: usize = 8 << 20;

/// Where and what a stream reads.
pub(crate) struct Begin {
    pub(crate) path: PathBuf,
    pub(crate) names: Names,
    pub(crate) tables: Vec<StreamTable>,
    /// For each what captured it before the stream began.
    pub(crate) captured_by: Vec<Option<String>>,
    /// The number behind which changes are read.
    pub(crate) from: i64,
    pub(crate) notes: WaitingNotes,
    /// Where the first look has to end.
    pub(crate) settled: Option<Position>,
    /// Whether it is the pipeline's own stream: acknowledged changes may be deleted, and structures are followed.
    pub(crate) forgets: bool,
}

impl Begin {
    /// Starts the stream.
    pub(crate) fn start(self) -> Box<dyn ChangeStream> {
        let polling = Polling {
            address: "the change table".into(),
            pace: PACE,
            queue_bytes: QUEUE_BYTES,
            notes: self.notes.clone(),
            settled: self.settled.clone(),
            moves_first: false,
            forgets: self.forgets,
            polled: Looks(Some(State::Closed(self))),
        };
        polling.start()
    }
}

/// The file, read on threads made for blocking work: handed there and back.
struct Looks(Option<State>);

enum State {
    Closed(Begin),
    Open(Box<Reader>),
}

impl Looks {
    async fn on<T: Send + 'static>(
        &mut self,
        work: impl FnOnce(&mut Reader) -> Result<T> + Send + 'static,
    ) -> Result<T> {
        let broken = |reason: String| AdapterError::Io { doing: "reading the change table".into(), reason };
        let state = self.0.take().ok_or_else(|| broken("a look before this one was broken off".into()))?;
        let done = tokio::task::spawn_blocking(move || {
            let mut reader = match state {
                State::Closed(begin) => Box::new(Reader::open(begin)?),
                State::Open(reader) => reader,
            };
            let done = work(&mut reader)?;
            Ok::<_, AdapterError>((reader, done))
        });
        let (reader, done) = done.await.map_err(|e| broken(e.to_string()))??;
        self.0 = Some(State::Open(reader));
        Ok(done)
    }
}

#[async_trait]
impl Polled for Looks {
    async fn has_news(&mut self) -> Result<bool> {
        self.on(Reader::has_news).await
    }

    async fn look(&mut self, wanted: Wanted<'_>, sender: &SegmentSender) -> Result<Seen> {
        let (sender, runtime) = (sender.clone(), Handle::current());
        let until = wanted.until.map(|at| i64::try_from(at.first()).unwrap_or(i64::MAX));
        self.on(move |reader| reader.look(until, &mut |part| runtime.block_on(sender.send(part)))).await
    }

    async fn captured_at(&mut self) -> Result<Option<DateTime<Utc>>> {
        Ok(match &self.0 {
            Some(State::Open(reader)) => reader.captured_at,
            _ => None,
        })
    }

    async fn forget(&mut self, upto: &str) {
        let Ok(upto) = upto.parse() else { return };
        let forgotten = self.on(move |reader| {
            reader.forget(upto);
            Ok(())
        });
        if let Err(error) = forgotten.await {
            tracing::debug!("acknowledged changes stay: {error}");
        }
    }
}

struct Reader {
    db: Connection,
    path: PathBuf,
    names: Names,
    group: Group,
    last: i64,
    seen_version: Option<i64>,
    seen_schema: Option<i64>,
    /// What captured the tables before the stream began.
    captured_by: Vec<(TablePlan, String)>,
    /// In which version of the schema it was last seen whether that is still so, and whether it was.
    seen_capturing: Option<(i64, bool)>,
    /// When it was so last.
    captured_at: Option<DateTime<Utc>>,
    /// Whether structures are followed.
    follows: bool,
    /// Changes of structure that the next change comes behind.
    structures: Vec<SchemaChange>,
}

impl Reader {
    fn open(begin: Begin) -> Result<Self> {
        let db = open(&begin.path)?;
        let of = if begin.forgets { Group::following } else { Group::new };
        let known = begin.tables.iter().zip(begin.captured_by);
        let known = known.filter_map(|(table, by)| Some((table.plan.clone(), by?)));
        Ok(Self {
            captured_by: known.collect(),
            seen_capturing: None,
            captured_at: None,
            db,
            group: of(begin.path.clone(), begin.names.clone(), begin.tables),
            follows: begin.forgets,
            structures: Vec::new(),
            path: begin.path,
            names: begin.names,
            last: begin.from,
            seen_version: None,
            seen_schema: None,
        })
    }

    fn failed(&self, error: rusqlite::Error) -> AdapterError {
        source_error(&self.path, "reading the change table", error)
    }

    /// Whether anyone committed since the last look (<https://www.sqlite.org/pragma.html#pragma_data_version>).
    fn has_news(&mut self) -> Result<bool> {
        let now = Utc::now();
        if self.is_capturing().map_err(|e| self.failed(e))? {
            self.captured_at = Some(now);
        }
        let version =
            self.db.query_row("PRAGMA data_version", [], |r| r.get(0)).map_err(|e| self.failed(e))?;
        Ok(self.seen_version.replace(version) != Some(version))
    }

    /// Whether the tables are captured as they were when the stream began. Whoever takes triggers away changes the schema.
    fn is_capturing(&mut self) -> rusqlite::Result<bool> {
        let version: i64 = self.db.query_row("PRAGMA schema_version", [], |r| r.get(0))?;
        if let Some((_, is_so)) = self.seen_capturing.filter(|(seen, _)| *seen == version) {
            return Ok(is_so);
        }
        let mut is_so = true;
        for (plan, before) in &self.captured_by {
            let now = captured_by(&self.db, &self.names, plan)?;
            is_so &= now.is_some_and(|now| is_unbroken(before, &now));
        }
        self.seen_capturing = Some((version, is_so));
        Ok(is_so)
    }

    /// Reads what is there now, or up to a number.
    fn look(&mut self, until: Option<i64>, hand_on: &mut dyn FnMut(Segment) -> bool) -> Result<Seen> {
        let run = |me: &Self, sql: &str| me.db.execute_batch(sql).map_err(|e| me.failed(e));
        run(self, "BEGIN")?;
        let done = self.look_in_transaction(until, hand_on);
        run(self, "ROLLBACK")?;
        if !self.structures.is_empty() {
            self.leave_a_note();
        }
        done
    }

    /// A change of structure without changes of rows takes effect with this. What cannot be written now can be later.
    fn leave_a_note(&mut self) {
        let sql = format!(
            "INSERT INTO {} (at, tab, kind) VALUES (julianday('now'), '', 'N')",
            self.names.changes()
        );
        if let Err(error) = self.db.execute(&sql, []) {
            tracing::debug!("a note is written a little later: {error}");
        }
        self.seen_version = None;
    }

    fn look_in_transaction(
        &mut self,
        until: Option<i64>,
        hand_on: &mut dyn FnMut(Segment) -> bool,
    ) -> Result<Seen> {
        let last = head(&self.db, &self.names).map_err(|e| self.failed(e))?;
        let last = until.map_or(last, |until| until.min(last));
        let version: i64 =
            self.db.query_row("PRAGMA schema_version", [], |r| r.get(0)).map_err(|e| self.failed(e))?;
        if !self.follows {
            self.refuse_drift(version)?;
        } else if self.seen_schema != Some(version) {
            let news = self.group.see(&self.db, (self.last, last))?;
            self.structures.extend(news);
            self.seen_schema = Some(version);
        }
        if last <= self.last {
            return Ok(Seen::All(Segment::default()));
        }
        for change in std::mem::take(&mut self.structures) {
            let schema = vec![change];
            if !hand_on(Segment { schema, in_transaction: true, ..Segment::default() }) {
                return Ok(Seen::Unheard);
            }
        }
        let Some(end) = self.group.read(&self.db, self.last, last, hand_on)? else {
            return Ok(Seen::Unheard);
        };
        let proof = proof_text(last, end.nonce);
        let transaction = Transaction { position: position(last), proof, committed_at: end.at, found: None };
        let mut segment = self.group.take(false)?;
        segment.commits = 1;
        segment.last_commit = Some(Arc::new(transaction));
        self.last = last;
        Ok(Seen::All(segment))
    }

    /// Stops before anything is read behind a change of structure.
    fn refuse_drift(&mut self, version: i64) -> Result<()> {
        if self.seen_schema == Some(version) {
            return Ok(());
        }
        let plans = self.group.plans();
        if let Some((schema, what)) =
            drifted(&self.db, &plans).map_err(|e| self.failed(e))?.into_iter().next()
        {
            let table = schema.table.clone();
            return Err(if what == GONE {
                AdapterError::Gone { table }
            } else {
                AdapterError::Drift { table, what }
            });
        }
        for plan in &plans {
            let now = captured_by(&self.db, &self.names, plan).map_err(|e| self.failed(e))?;
            if now.is_none() {
                let why = "its triggers were removed or changed, or it was dropped and made again".into();
                return Err(AdapterError::Gap { table: plan.table().clone(), why });
            }
        }
        self.seen_schema = Some(version);
        Ok(())
    }

    /// Deletes what was acknowledged. What cannot be deleted now can be later.
    fn forget(&mut self, upto: i64) {
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
    plans: &[TablePlan],
) -> rusqlite::Result<Vec<(Arc<TableSchema>, String)>> {
    let found = catalog::discover(db)?;
    let mut all = Vec::new();
    for plan in plans {
        let what = match found.iter().find(|t| t.name == *plan.table()) {
            None => Some(GONE.to_string()),
            Some(t) => plan.what_changed(t, "its key, or a column that is not carried, was changed"),
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
    if proof.is_empty() {
        return Ok(Ok(()));
    }
    let Some((number, nonce)) = proof.split_once(' ') else {
        // What cannot be read proves nothing.
        return Ok(Err(format!("the target keeps {proof:?}, which cannot be read")));
    };
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

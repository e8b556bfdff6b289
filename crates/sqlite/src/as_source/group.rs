//! Reading a stretch of the change table as blocks of changes.

use crate::as_source::capture::Names;
use crate::as_source::open::position;
use crate::as_source::replaced;
use crate::file::error::source_error;
use crate::file::read::{Writer, push};
use chrono::{DateTime, Utc};
use moorage_adapter::{AdapterError, Result, StreamTable};
use moorage_core::TableSchema;
use moorage_core::change::builder::{ChangeBlockBuilder, Images};
use moorage_core::change::kind::{ChangeKind, Transaction};
use moorage_core::change::segment::Segment;
use moorage_core::plan::table::TablePlan;
use moorage_core::value::column::RowsBuilder;
use rusqlite::{Connection, Row, params};
use std::collections::{HashMap, HashSet};
use std::path::PathBuf;
use std::sync::Arc;

/// A segment is handed on when it has this size.
const SEGMENT_BYTES: usize = 512 << 10;

struct Carried {
    schema: Arc<TableSchema>,
    plan: TablePlan,
    /// The snapshot holds changes up to this number.
    covered: i64,
    block: Option<ChangeBlockBuilder>,
}

/// What the last change of a stretch says.
pub(crate) struct End {
    /// Its random mark.
    pub(crate) nonce: i64,
    /// The newest time of a change.
    pub(crate) at: DateTime<Utc>,
}

/// Collects changes of the carried tables.
pub(crate) struct Group {
    path: PathBuf,
    names: Names,
    tables: HashMap<String, Carried>,
    order: u64,
}

impl Group {
    pub(crate) fn new(path: PathBuf, names: Names, tables: Vec<StreamTable>) -> Self {
        let carried = |t: StreamTable| {
            let covered = t.mark.as_ref().and_then(|m| m.text.parse().ok()).unwrap_or(0);
            let name = t.plan.table().name.clone();
            (name, Carried { schema: t.plan.schema.clone(), plan: t.plan, covered, block: None })
        };
        Self { path, names, tables: tables.into_iter().map(carried).collect(), order: 0 }
    }

    pub(crate) fn plans(&self) -> Vec<TablePlan> {
        self.tables.values().map(|c| c.plan.clone()).collect()
    }

    /// Reads the changes behind `from` and up to `last`. Hands on all but the rest, which
    /// [`take`](Self::take) gives; none if `hand_on` said that nobody listens any more.
    pub(crate) fn read(
        &mut self,
        db: &Connection,
        from: i64,
        last: i64,
        hand_on: &mut dyn FnMut(Segment) -> bool,
    ) -> Result<Option<End>> {
        let path = self.path.clone();
        let path = path.as_path();
        let failed = |e| source_error(path, "reading the change table", e);
        let sql = format!("SELECT * FROM {} WHERE id > ?1 AND id <= ?2 ORDER BY id", self.names.changes());
        let removed = replaced::really(db, &self.names, from, last).map_err(failed)?;
        let mut query = db.prepare_cached(&sql).map_err(failed)?;
        let names: Vec<String> = (0..query.column_count())
            .map(|at| query.column_name(at).unwrap_or_default().to_string())
            .collect();
        let columns = Columns::of(&names);
        let mut rows = query.query(params![from, last]).map_err(failed)?;
        let (mut nonce, mut newest) = (0, DateTime::UNIX_EPOCH);
        let (mut expected, mut bytes) = (from, 0);
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
            bytes += self.feed(row, &columns, id, at, &removed)?;
            if bytes >= SEGMENT_BYTES {
                bytes = 0;
                let part = self.take(true)?;
                if !hand_on(part) {
                    return Ok(None);
                }
            }
        }
        Ok(Some(End { nonce, at: newest }))
    }

    /// What was read and not handed on yet.
    pub(crate) fn take(&mut self, in_transaction: bool) -> Result<Segment> {
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

const UNIX_EPOCH: f64 = 2_440_587.5;

/// The Julian day number of a time.
pub(crate) fn to_julian_day(at: DateTime<Utc>) -> f64 {
    at.timestamp_millis() as f64 / 86_400_000.0 + UNIX_EPOCH
}

/// From a Julian day number, which SQLite of any age can tell (<https://www.sqlite.org/lang_datefunc.html>).
fn from_julian_day(day: f64) -> DateTime<Utc> {
    DateTime::from_timestamp_millis(((day - UNIX_EPOCH) * 86_400_000.0).round() as i64).unwrap_or_default()
}

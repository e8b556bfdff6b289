//! Reading a stretch of the change table as blocks of changes.
//!
//! Of tables whose triggers write whole rows down, every change is read, in order. Of those whose triggers write keys down, what
//! the stretch came to in sum: for each key that was touched the row that the table has now, or that it has none.

use crate::as_source::capture::captured_by;
use crate::as_source::catalog;
use crate::as_source::following::{Followed, Rows};
use crate::as_source::keys::{AllKept, Net, Stretch, Untouched};
use crate::as_source::names::{Names, foreign_version};
use crate::as_source::open::position;
use crate::as_source::replaced;
use crate::as_source::triggers::{Form, key_now};
use crate::file::error::source_error;
use crate::file::read::{Writer, push};
use chrono::{DateTime, Utc};
use moorage_adapter::{AdapterError, GONE, Result, StreamTable};
use moorage_core::TableSchema;
use moorage_core::change::builder::{ChangeBlockBuilder, Images};
use moorage_core::change::kind::{ChangeKind, FoundIn, Transaction};
use moorage_core::change::segment::Segment;
use moorage_core::change::structure::{SchemaChange, Step, Unknown};
use moorage_core::plan::table::TablePlan;
use moorage_core::value::column::RowsBuilder;
use rusqlite::{Connection, Row, params};
use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// A segment is handed on when it has this size.
const SEGMENT_BYTES: usize = 512 << 10;

struct Carried {
    schema: Arc<TableSchema>,
    plan: TablePlan,
    /// None where structures are not followed.
    followed: Option<Followed>,
    /// The snapshot holds changes up to this number.
    covered: i64,
    /// Whether whole rows that were written down are left out, because they are of another structure than it has by now.
    skips_rows: bool,
    block: Option<ChangeBlockBuilder>,
    /// See [`Segment::fleeting`].
    fleeting: Option<ChangeBlockBuilder>,
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
    /// The names of what was in the file's schema at the last look at it.
    objects: Option<HashSet<String>>,
    order: u64,
    found: Option<FoundIn>,
}

impl Group {
    pub(crate) fn new(path: PathBuf, names: Names, tables: Vec<StreamTable>) -> Self {
        let carried = |t: StreamTable| {
            let covered = t.mark.as_ref().and_then(|m| mark_parts(&m.text)).map_or(0, |(newest, _)| newest);
            let name = t.plan.table().name.clone();
            let schema = t.plan.schema.clone();
            (
                name,
                Carried {
                    schema,
                    plan: t.plan,
                    followed: None,
                    covered,
                    skips_rows: false,
                    block: None,
                    fleeting: None,
                },
            )
        };
        Self {
            path,
            names,
            tables: tables.into_iter().map(carried).collect(),
            objects: None,
            order: 0,
            found: None,
        }
    }

    /// With the structures of the tables followed.
    pub(crate) fn following(path: PathBuf, names: Names, tables: Vec<StreamTable>) -> Self {
        let versions: HashMap<String, i64> = tables
            .iter()
            .filter_map(|t| Some((t.plan.table().name.clone(), mark_parts(&t.mark.as_ref()?.text)?.1?)))
            .collect();
        let mut group = Self::new(path, names, tables);
        for (name, carried) in &mut group.tables {
            let mut followed = Followed::new(&carried.plan);
            versions.get(name).into_iter().for_each(|version| followed.was_read_at(*version));
            carried.followed = Some(followed);
        }
        group
    }

    pub(crate) fn plans(&self) -> Vec<TablePlan> {
        self.tables.values().map(|c| c.plan.clone()).collect()
    }

    fn failed(&self, error: rusqlite::Error) -> AdapterError {
        source_error(&self.path, "reading the change table", error)
    }

    /// What has changed of the tables' structures, with changes behind `from` and up to `last` to come.
    pub(crate) fn see(&mut self, db: &Connection, (from, last): (i64, i64)) -> Result<Vec<SchemaChange>> {
        let found = catalog::discover(db).map_err(|e| self.failed(e))?;
        let version = foreign_version(db).map_err(|e| self.failed(e))?;
        let objects = objects(db).map_err(|e| self.failed(e))?;
        // Whatever has a new name was made, or renamed, by a statement of its own.
        let made =
            self.objects.replace(objects.clone()).map_or(0, |before| objects.difference(&before).count());
        let now = |carried: &Carried| found.iter().find(|t| t.name == *carried.plan.table());
        let fewest = |carried: &Carried| Some(carried.followed.as_ref()?.fewest(now(carried)?));
        let fewest: HashMap<String, u64> =
            self.tables.iter().filter_map(|(tab, carried)| Some((tab.clone(), fewest(carried)?))).collect();
        let all = made as u64 + fewest.values().sum::<u64>();
        let mut changes = Vec::new();
        for (tab, carried) in &mut self.tables {
            let failed = |e| source_error(&self.path, "reading the change table", e);
            let gap = |why: &str| AdapterError::cut_off(carried.plan.table().clone(), why.into());
            let Some(followed) = &mut carried.followed else { continue };
            let now = found.iter().find(|t| t.name == *carried.plan.table()).ok_or_else(|| gap(GONE))?;
            let is_keyed = Form::of(&carried.plan) == Form::Keys;
            let otherwise = "its key, or a column that is not carried, was changed";
            if let Some(what) = carried.plan.what_changed(now, otherwise).filter(|_| !is_keyed) {
                return Err(gap(&format!("{what}, and its triggers write down the columns that it had")));
            }
            if captured_by(db, &self.names, &carried.plan).map_err(failed)?.is_none() {
                return Err(gap("its triggers were removed or changed, or it was dropped and made again"));
            }
            let rows: Box<dyn Rows + '_> = if is_keyed {
                let key = key_now(db, &carried.plan).map_err(failed)?;
                let stretch = Stretch { db, changes: self.names.changes(), tab, key, from, last };
                Box::new(Untouched { stretch, table: carried.schema.table.name.clone() })
            } else {
                Box::new(AllKept)
            };
            let others = all - fewest.get(tab).copied().unwrap_or(0);
            let change = followed.see(now, (version, others), rows.as_ref()).map_err(failed)?;
            let Some(mut change) = change else { continue };
            if is_keyed
                && !change.what.is_empty()
                && has_rows(db, &self.names, tab, (from, last)).map_err(failed)?
            {
                carried.skips_rows = true;
                let why = "its structure was changed while whole rows of it were captured";
                change.step = change.step.map(|step| {
                    let unknown = Some(Unknown { why: why.into(), columns: None });
                    Arc::new(Step { unknown, values: None, ..(*step).clone() })
                });
            }
            // Whole rows are written down in the order of the plan.
            if let Some(step) = change.step.as_ref().filter(|_| is_keyed) {
                carried.schema = step.schema.clone();
            }
            changes.push(change);
        }
        Ok(changes)
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
        let Some(end) = self.end(db, from, last)? else { return Ok(None) };
        // Which changes of a look were committed together nobody can tell.
        self.found = Some(FoundIn { ends: position(last), nth: 0, at: end.at });
        if !self.read_rows(db, (from, last), hand_on)? || !self.read_keys(db, (from, last), hand_on)? {
            return Ok(None);
        }
        Ok(Some(end))
    }

    /// What a stretch ends with. All of it must be there.
    fn end(&self, db: &Connection, from: i64, last: i64) -> Result<Option<End>> {
        let changes = self.names.changes();
        let sql = format!("SELECT count(*), max(at), min(id) FROM {changes} WHERE id > ?1 AND id <= ?2");
        let row = |r: &Row<'_>| Ok((r.get(0)?, r.get(1)?, r.get(2)?));
        let (count, at, first): (i64, Option<f64>, Option<i64>) =
            db.query_row(&sql, params![from, last], row).map_err(|e| self.failed(e))?;
        if count != last - from {
            let missing =
                first.filter(|first| *first > from + 1).map_or(String::new(), |_| format!(" {}", from + 1));
            return Err(AdapterError::refused(
                format!("{}: change{missing} is not in the change table any more", self.path.display()),
                "it was deleted by someone. Read the tables again with `moorage resnapshot --all` and `moorage run`",
            ));
        }
        let sql = format!("SELECT nonce FROM {changes} WHERE id = ?1");
        let nonce = db.query_row(&sql, [last], |r| r.get(0)).map_err(|e| self.failed(e))?;
        Ok(Some(End { nonce, at: from_julian_day(at.unwrap_or(UNIX_EPOCH)) }))
    }

    /// Reads the changes of whole rows; `false` if nobody listens any more.
    fn read_rows(
        &mut self,
        db: &Connection,
        (from, last): (i64, i64),
        hand_on: &mut dyn FnMut(Segment) -> bool,
    ) -> Result<bool> {
        let path = self.path.clone();
        let failed = |e| source_error(&path, "reading the change table", e);
        let sql = format!(
            "SELECT * FROM {} WHERE id > ?1 AND id <= ?2 AND kind IN ('I', 'U', 'D', 'M') ORDER BY id",
            self.names.changes()
        );
        let removed = replaced::really(db, &self.names, from, last).map_err(failed)?;
        let mut query = db.prepare_cached(&sql).map_err(failed)?;
        let names: Vec<String> = (0..query.column_count())
            .map(|at| query.column_name(at).unwrap_or_default().to_string())
            .collect();
        let columns = Columns::of(&names);
        let mut rows = query.query(params![from, last]).map_err(failed)?;
        let mut bytes = 0;
        while let Some(row) = rows.next().map_err(failed)? {
            let id: i64 = row.get(0).map_err(failed)?;
            let at = from_julian_day(row.get(1).map_err(failed)?);
            bytes += self.feed(row, &columns, id, at, &removed)?;
            if bytes >= SEGMENT_BYTES {
                bytes = 0;
                let part = self.take(true)?;
                if !hand_on(part) {
                    return Ok(false);
                }
            }
        }
        Ok(true)
    }

    /// Reads what stretches of keys came to; `false` if nobody listens any more.
    fn read_keys(
        &mut self,
        db: &Connection,
        (from, last): (i64, i64),
        hand_on: &mut dyn FnMut(Segment) -> bool,
    ) -> Result<bool> {
        let changes = self.names.changes();
        let sql = format!(
            "SELECT DISTINCT tab FROM {changes} WHERE id > ?1 AND id <= ?2 AND kind IN ('i', 'u', 'd', 'm')"
        );
        let touched: Vec<String> = {
            let mut query = db.prepare_cached(&sql).map_err(|e| self.failed(e))?;
            let rows = query.query_map(params![from, last], |r| r.get(0)).map_err(|e| self.failed(e))?;
            rows.collect::<rusqlite::Result<_>>().map_err(|e| self.failed(e))?
        };
        for tab in touched {
            let Some(carried) = self.tables.get(&tab).filter(|c| Form::of(&c.plan) == Form::Keys) else {
                continue;
            };
            let failed = |e| source_error(&self.path, "reading the change table", e);
            let key = key_now(db, &carried.plan).map_err(failed)?;
            let schema = carried.schema.clone();
            let covered = carried.covered.max(from);
            let stretch = Stretch { db, changes: changes.clone(), tab: &tab, key, from: covered, last };
            // People who look on see them in the order in which they came.
            let order = if carried.followed.is_some() { "" } else { " ORDER BY touched.last" };
            let (sql, width) = (stretch.net(&schema, order), schema.identity.key().map_or(0, <[usize]>::len));
            let mut query = db.prepare(&sql).map_err(failed)?;
            let mut rows = query.query(params![covered, last, tab]).map_err(failed)?;
            let mut bytes = 0;
            while let Some(row) = rows.next().map_err(|e| self.failed(e))? {
                let Some(carried) = self.tables.get_mut(&tab) else { break };
                self.order += 1;
                bytes += carried.net(row, width, self.order, &self.path)?;
                if bytes >= SEGMENT_BYTES {
                    bytes = 0;
                    let part = self.take(true)?;
                    if !hand_on(part) {
                        return Ok(false);
                    }
                }
            }
        }
        Ok(true)
    }

    /// What was read and not handed on yet.
    pub(crate) fn take(&mut self, in_transaction: bool) -> Result<Segment> {
        let mut segment = Segment { in_transaction, ..Segment::default() };
        for carried in self.tables.values_mut() {
            let finish =
                |block: Option<ChangeBlockBuilder>| block.map(ChangeBlockBuilder::finish).transpose();
            segment.blocks.extend(finish(carried.block.take())?);
            segment.fleeting.extend(finish(carried.fleeting.take())?);
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
        if id <= carried.covered || carried.skips_rows {
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
        let (position, proof, found) = (position(id), String::new(), self.found.clone());
        let transaction = Arc::new(Transaction { position, proof, committed_at: at, found });
        let images = Images { new, old: old.then_some(true), unchanged: None };
        block.push(kind, self.order, &transaction, images, bytes);
        Ok(bytes)
    }
}

impl Carried {
    /// Takes in what a stretch came to for one key; gives its size in bytes.
    fn net(&mut self, row: &Row<'_>, width: usize, order: u64, path: &Path) -> Result<usize> {
        let failed = |e| source_error(path, "reading the change table", e);
        let net = Net::read(row).map_err(failed)?;
        let schema = self.schema.clone();
        let wrong = |what: String| AdapterError::Value {
            table: schema.table.to_string(),
            what: format!(
                "{what}. Mend the value in the source, or give the column a type that fits, then `moorage resnapshot {}`",
                schema.table
            ),
        };
        let (kind, block) = match net.kind() {
            Some(kind) => (kind, &mut self.block),
            None if net.is_fleeting() && self.followed.is_some() => (ChangeKind::Delete, &mut self.fleeting),
            None => return Ok(0),
        };
        let block = block.get_or_insert_with(|| ChangeBlockBuilder::new(schema.clone()));
        let mut bytes = 32;
        let is_there = kind != ChangeKind::Delete;
        if is_there {
            bytes += push_row(&mut block.new, row, Net::COLUMNS + width).map_err(|what| {
                let key: Vec<String> = (0..width)
                    .filter_map(|k| row.get_ref(Net::COLUMNS + k).ok().map(crate::file::read::shown))
                    .collect();
                wrong(format!("{what}, in the row with the key ({})", key.join(", ")))
            })?;
        } else {
            bytes += push_key(&mut block.old, row, Net::COLUMNS).map_err(wrong)?;
        }
        let (position, committed_at) = (position(net.last), from_julian_day(net.at));
        // Only the current rows are kept of what is told in sum.
        let (proof, found) = (String::new(), None);
        let transaction = Arc::new(Transaction { position, proof, committed_at, found });
        let images = Images { new: is_there, old: (!is_there).then_some(false), unchanged: None };
        block.push(kind, order, &transaction, images, bytes);
        Ok(bytes)
    }
}

/// The names of everything that is in the schema by a statement of its own.
fn objects(db: &Connection) -> rusqlite::Result<HashSet<String>> {
    let mut query =
        db.prepare_cached("SELECT type || ' ' || name FROM sqlite_schema WHERE name NOT LIKE 'sqlite\\_%' ESCAPE '\\' AND name NOT LIKE 'moorage\\_%' ESCAPE '\\'")?;
    query.query_map([], |r| r.get(0))?.collect()
}

/// Whether whole rows of a table were written down in a stretch, by an earlier version's triggers.
fn has_rows(db: &Connection, names: &Names, tab: &str, (from, last): (i64, i64)) -> rusqlite::Result<bool> {
    let sql = format!(
        "SELECT EXISTS (SELECT 1 FROM {} WHERE id > ?1 AND id <= ?2 AND tab = ?3 AND kind IN ('I', 'U', 'D', 'M'))",
        names.changes()
    );
    db.query_row(&sql, params![from, last, tab], |r| r.get(0))
}

/// Number of the newest change that a snapshot holds, and the version of the schema that it was read in.
pub(crate) fn mark_parts(text: &str) -> Option<(i64, Option<i64>)> {
    let mut parts = text.split(' ');
    let newest = parts.next()?.parse().ok()?;
    Some((newest, parts.next().and_then(|version| version.parse().ok())))
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

/// Pushes a row's values from a place on.
fn push_row(rows: &mut RowsBuilder, row: &Row<'_>, from: usize) -> std::result::Result<usize, String> {
    let columns: Vec<usize> = (from..from + rows.schema().columns.len()).collect();
    push_image(rows, row, &columns)
}

/// Pushes a key's values from a place on, and null everywhere else.
fn push_key(rows: &mut RowsBuilder, row: &Row<'_>, from: usize) -> std::result::Result<usize, String> {
    let schema = rows.schema().clone();
    let key = schema.identity.key().unwrap_or_default();
    for (at, (column, builder)) in schema.columns.iter().zip(&mut rows.columns).enumerate() {
        match key.iter().position(|k| *k == at) {
            None => builder.push_null(),
            Some(place) => {
                let value = row.get_ref(from + place).map_err(|e| e.to_string())?;
                push(builder, &column.logical, value, Writer::Application)
                    .map_err(|e| format!("column {}: {e}", column.name))?;
            }
        }
    }
    Ok(16 * key.len())
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

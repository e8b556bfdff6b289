//! Reading the change tables by what is visible.
//!
//! Numbers are not the order of commits: a transaction may take its number early and commit late. So a look
//! never asks for numbers behind the last one. It takes a snapshot, and reads the changes whose transactions are
//! visible in it and were not visible in the snapshot of the look before (PostgreSQL manual, section 9.27.7.1).
//! All of them together bring the target from the one state of the source to the other. Within them the numbers
//! give the order: whoever changes a row that another transaction changed has waited for that one to commit,
//! and takes its number after that.
//!
//! Not so within a transaction in which the application's own triggers changed the same table: there, numbers come in the
//! order in which triggers fired. Of such a transaction the change tables tell what it did in sum, whatever the order: a
//! version of a row that was there before and is gone is a delete, one that is there after and was not is an
//! insert. A row that was updated once stays an update, unless its key changed: its old key may be another row's
//! new one. ([`NESTED`])

use crate::as_source::mark::Mark;
use crate::as_source::snapshot::wait_until_flushed;
use crate::as_source::trigger::capture::{self, Names};
use crate::as_source::trigger::row_text;
use crate::wire::connect::Session;
use crate::wire::copy_text::fields;
use crate::wire::lsn;
use crate::wire::values::push_text;
use chrono::{DateTime, Utc};
use futures_util::TryStreamExt;
use moorage_adapter::{AdapterError, Doing, Result, SnapshotMark, StreamTable};
use moorage_core::Position;
use moorage_core::change::block::ChangeBlock;
use moorage_core::change::builder::{ChangeBlockBuilder, Images};
use moorage_core::change::kind::{ChangeKind, Transaction};
use moorage_core::model::sql::quote_literal;
use moorage_core::value::column::RowsBuilder;
use std::borrow::Cow;
use std::collections::HashMap;
use std::sync::Arc;
use tokio::sync::mpsc;

/// A block is handed on when it has this size.
const BLOCK_BYTES: usize = 512 << 10;

/// A snapshot as a position. Later snapshots have a greater one: the end of the numbers in use only grows, and
/// while it stays the same, transactions below it can only end.
pub(crate) fn position(snapshot: &str) -> Option<Position> {
    Mark::parse(snapshot, u64::MAX)?;
    let mut parts = snapshot.split(':');
    let (_, xmax, open) = (parts.next()?, parts.next()?.parse::<u64>().ok()?, parts.next()?);
    let open = open.split(',').filter(|n| !n.is_empty()).count() as u64;
    Some(Position::new(&[xmax, u64::MAX - open], snapshot))
}

/// In which nothing is visible: everything that is still in the change tables lies behind it.
pub(crate) const NOTHING: &str = "3:3:";

/// One look: the snapshot's text, in an open transaction that sees it. `lock` is run before it is taken.
pub(crate) async fn begin(session: &Session, lock: &str) -> Result<String> {
    let sql = format!("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY{lock}");
    session.run("beginning a look", &sql).await?;
    let sql = "SELECT pg_current_snapshot()::text";
    let row = session.one("taking a snapshot", sql, &[]).await?;
    Ok(row.get(0))
}

/// Ends the look.
pub(crate) async fn end(session: &Session) -> Result<()> {
    session.run("ending a look", "COMMIT").await
}

/// The source's time.
pub(crate) async fn clock(session: &Session) -> Result<DateTime<Utc>> {
    let sql = "SELECT (extract(epoch FROM clock_timestamp()) * 1000000)::bigint";
    let micros: i64 = session.one("reading the clock", sql, &[]).await?.get(0);
    Ok(DateTime::from_timestamp_micros(micros).unwrap_or_default())
}

/// Waits until what the look saw cannot be lost by a crash of the source any more.
pub(crate) async fn durable(session: &Session) -> Result<()> {
    let sql = "SELECT pg_current_wal_insert_lsn()::text";
    let end: String = session.one("reading the end of the log", sql, &[]).await?.get(0);
    let complete_at = lsn::parse(&end).map(lsn::position);
    match complete_at {
        Some(complete_at) => {
            wait_until_flushed(session, &SnapshotMark { text: String::new(), complete_at }).await
        }
        None => Ok(()),
    }
}

/// Which changes of a table lie behind a snapshot, within a later one if one is given, and are not held by the table's own
/// mark.
fn between(snapshot: &str, until: Option<&Position>, table: &StreamTable) -> String {
    let within = until.map(|until| {
        format!(" AND pg_visible_in_snapshot(xid, {}::pg_snapshot)", quote_literal(until.as_str()))
    });
    format!("{}{}", behind(snapshot, table), within.unwrap_or_default())
}

fn behind(snapshot: &str, table: &StreamTable) -> String {
    let unseen =
        |snapshot: &str| format!("NOT pg_visible_in_snapshot(xid, {}::pg_snapshot)", quote_literal(snapshot));
    match &table.mark {
        Some(mark) => format!("{} AND {}", unseen(snapshot), unseen(&mark.text)),
        None => unseen(snapshot),
    }
}

/// For each table whether there is anything to read.
async fn news(session: &Session, names: &Names, tables: &[StreamTable], after: &str) -> Result<Vec<bool>> {
    let earlier = capture::earlier(session, names).await?;
    let any = |table: &StreamTable| {
        let id = table.plan.source_id;
        let condition = behind(after, table);
        let exists = |changes: String| format!("EXISTS (SELECT FROM {changes} WHERE {condition})");
        let before = earlier.contains(&id).then(|| exists(names.earlier(id)));
        before.into_iter().chain([exists(names.rows(id))]).collect::<Vec<_>>().join(" OR ")
    };
    let sql = format!("SELECT ARRAY[{}]::boolean[]", tables.iter().map(any).collect::<Vec<_>>().join(", "));
    Ok(session.one("looking for changes", &sql, &[]).await?.get(0))
}

/// Whether there is anything to read.
pub(crate) async fn has_news(
    session: &Session,
    names: &Names,
    tables: &[StreamTable],
    after: &str,
) -> Result<bool> {
    Ok(news(session, names, tables, after).await?.contains(&true))
}

/// Whether capturing has ended because the change tables grew too large.
pub(crate) async fn is_full(session: &Session, names: &Names) -> Result<bool> {
    let sql = "SELECT pg_sequence_last_value(to_regclass($1)) IS NOT NULL";
    Ok(session.one("looking whether capturing goes on", sql, &[&names.full()]).await?.get(0))
}

/// What a look found beside the changes themselves.
#[derive(Default)]
pub(crate) struct Found {
    /// How many changes.
    pub(crate) changes: u64,
    /// The newest time of one.
    pub(crate) newest: DateTime<Utc>,
}

/// What transactions did in sum that changed a table from inside its triggers too (`c`), among others. Changes before a
/// TRUNCATE and behind it are different segments. Kinds beside the plain ones: `1`, `2` and `3` are the same update,
/// which is a delete (1) and an insert (3) if its key changed, and otherwise one update (2); `X` is a table
/// that was rewritten meanwhile, whose versions cannot be followed.
const NESTED: &str = "
, n AS (SELECT DISTINCT xid FROM c WHERE nested)
, s AS (SELECT c.*, max(number) OVER (PARTITION BY xid) AS last,
               count(*) FILTER (WHERE kind = 'T') OVER (PARTITION BY xid ORDER BY number) AS segment
        FROM c JOIN n USING (xid))
, e AS (SELECT s.*, old_at IS NOT NULL AND NOT EXISTS (SELECT FROM s p WHERE p.xid = s.xid AND p.segment = s.segment AND p.new_at = s.old_at) AS head,
               new_at IS NOT NULL AND NOT EXISTS (SELECT FROM s f WHERE f.xid = s.xid AND f.segment = s.segment AND f.old_at = s.new_at) AS tail
        FROM s)
, rewritten AS (SELECT xid FROM s WHERE kind <> 'T' GROUP BY xid, segment HAVING count(DISTINCT file) > 1)
, ordered AS (
  SELECT number AS last, 0::bigint AS segment, 0 AS phase, number, xid, at, kind::text, structure, old, new FROM c WHERE xid NOT IN (SELECT xid FROM n)
  UNION ALL SELECT last, segment, 0, number, xid, at, CASE WHEN xid IN (SELECT xid FROM rewritten) THEN 'X' ELSE 'T' END, structure, old, new
    FROM e WHERE kind = 'T' OR xid IN (SELECT xid FROM rewritten)
  UNION ALL SELECT last, segment, 1, number, xid, at, CASE WHEN head AND tail THEN '1' ELSE 'D' END, structure, old, CASE WHEN tail THEN new END FROM e WHERE head
  UNION ALL SELECT last, segment, 2, number, xid, at, '2', structure, old, new FROM e WHERE head AND tail
  UNION ALL SELECT last, segment, 3, number, xid, at, CASE WHEN head AND tail THEN '3' ELSE 'I' END, structure, CASE WHEN head THEN old END, new FROM e WHERE tail)";

/// Reads the changes behind `after` that the open look sees, and with `within` only those within `now`, table by table, and
/// sends them as blocks. None if nobody listens any more.
pub(crate) async fn read(
    session: &Session,
    names: &Names,
    tables: &[StreamTable],
    (after, now, within): (&str, &Position, bool),
    sender: &mpsc::Sender<ChangeBlock>,
) -> Result<Option<Found>> {
    let mut found = Found::default();
    let earlier = capture::earlier(session, names).await?;
    let news = news(session, names, tables, after).await?;
    for (table, _) in tables.iter().zip(news).filter(|(_, news)| *news) {
        let id = table.plan.source_id;
        let condition = between(after, within.then_some(now), table);
        let mut queries = Vec::new();
        if earlier.contains(&id) {
            queries.push((earlier_rows(table, &names.earlier(id), &condition), Form::Earlier));
        }
        let rows = names.rows(id);
        let structures = Structures::read(session, names, table).await?;
        let nested = format!("SELECT EXISTS (SELECT FROM {rows} WHERE nested AND {condition})");
        let columns = "number, xid, (extract(epoch FROM at) * 1000000)::bigint, kind, structure, old, new";
        let sql = if session.one("looking for nested changes", &nested, &[]).await?.get(0) {
            format!(
                "WITH c AS MATERIALIZED (SELECT * FROM {rows} WHERE {condition}) {NESTED} SELECT {columns} FROM ordered ORDER BY last, segment, phase, number"
            )
        } else {
            format!("SELECT {columns} FROM {rows} WHERE {condition} ORDER BY number")
        };
        queries.push((sql, Form::Rows(structures)));
        for (sql, form) in queries {
            if !send(session, table, &sql, form, now, &mut found, sender).await? {
                return Ok(None);
            }
        }
    }
    Ok(Some(found))
}

/// The changes of a change table of the earlier form: old image, then new one, column by column.
fn earlier_rows(table: &StreamTable, changes: &str, condition: &str) -> String {
    let count = table.plan.schema.columns.len();
    let images: Vec<String> =
        ["o", "n"].iter().flat_map(|letter| (1..=count).map(move |i| format!("{letter}{i}"))).collect();
    format!(
        "SELECT number, xid, (extract(epoch FROM at) * 1000000)::bigint, kind, {} FROM {changes} WHERE {condition} ORDER BY number",
        images.join(", ")
    )
}

/// Sends what one query gives; `false` if nobody listens any more.
async fn send(
    session: &Session,
    table: &StreamTable,
    sql: &str,
    form: Form,
    now: &Position,
    found: &mut Found,
    sender: &mpsc::Sender<ChangeBlock>,
) -> Result<bool> {
    let doing = Doing::to("reading changes of", table.plan.table());
    let sql = format!("COPY ({sql}) TO STDOUT");
    let lines = session.client().copy_out(&sql).await.map_err(|e| session.error(&doing, &e))?;
    let mut lines = std::pin::pin!(lines);
    let mut gathered = Gathered::new(table, now, form);
    while let Some(line) = lines.try_next().await.map_err(|e| session.error(&doing, &e))? {
        gathered.line(&line, found).map_err(|trouble| trouble.of(table))?;
        if gathered.bytes >= BLOCK_BYTES && sender.send(gathered.take()?).await.is_err() {
            return Ok(false);
        }
    }
    Ok(gathered.block.is_empty() || sender.send(gathered.take()?).await.is_ok())
}

/// How a change table holds images.
enum Form {
    /// Column by column.
    Earlier,
    /// As whole rows.
    Rows(Structures),
}

/// For each structure that rows were captured with: where in a row's text each planned column stands.
struct Structures(HashMap<i64, std::result::Result<Vec<usize>, String>>);

impl Structures {
    async fn read(session: &Session, names: &Names, table: &StreamTable) -> Result<Self> {
        let sql = format!("SELECT number, columns FROM {} WHERE source = $1", names.structures());
        let id = table.plan.source_id as u32;
        let rows = session.rows("reading structures", &sql, &[&id]).await?;
        let place = |row: &tokio_postgres::Row| {
            let columns: Vec<(String, String)> =
                serde_json::from_str(row.get(1)).map_err(|e| e.to_string())?;
            let of = |wanted: &moorage_core::Column| {
                let at = columns.iter().position(|(name, _)| *name == wanted.name);
                match at {
                    None => Err(format!("column {} is not there any more", wanted.name)),
                    Some(at) if columns[at].1 != wanted.source_type => Err(format!(
                        "column {} is of type {} and was of type {}",
                        wanted.name, columns[at].1, wanted.source_type
                    )),
                    Some(at) => Ok(at),
                }
            };
            if let Some((name, _)) = columns.iter().find(|(name, _)| !table.plan.knows(name)) {
                return Err(format!("column {name} was added"));
            }
            table.plan.schema.columns.iter().map(of).collect()
        };
        Ok(Self(rows.iter().map(|row| (row.get(0), place(row))).collect()))
    }
}

/// Why a change cannot be read.
enum Trouble {
    /// The structure is not the planned one.
    Drift(String),
    /// Anything else, in words.
    Wrong(String),
}

impl<T: Into<String>> From<T> for Trouble {
    fn from(words: T) -> Self {
        Self::Wrong(words.into())
    }
}

impl Trouble {
    fn of(self, table: &StreamTable) -> AdapterError {
        let table = table.plan.table().clone();
        match self {
            Self::Drift(what) => AdapterError::Drift { table, what },
            Self::Wrong(what) => {
                AdapterError::Value { table: table.to_string(), what: format!("{what}, in its change table") }
            }
        }
    }
}

struct Gathered<'a> {
    table: &'a StreamTable,
    now: &'a Position,
    form: Form,
    block: ChangeBlockBuilder,
    bytes: usize,
    /// The transaction of the last change: its proof is its number, by which marks are asked.
    last: Option<Arc<Transaction>>,
}

impl<'a> Gathered<'a> {
    fn new(table: &'a StreamTable, now: &'a Position, form: Form) -> Self {
        let block = ChangeBlockBuilder::new(table.plan.schema.clone());
        Self { table, now, form, block, bytes: 0, last: None }
    }

    fn take(&mut self) -> Result<ChangeBlock> {
        self.bytes = 0;
        let empty = ChangeBlockBuilder::new(self.table.plan.schema.clone());
        Ok(std::mem::replace(&mut self.block, empty).finish()?)
    }

    fn line(&mut self, line: &[u8], found: &mut Found) -> std::result::Result<(), Trouble> {
        let mut fields = fields(line);
        let mut head = || {
            let field = fields.next().flatten().ok_or("a row with too few values")?;
            String::from_utf8(field.into_owned()).map_err(|e| e.to_string())
        };
        let number: u64 = head()?.parse().map_err(|_| "a number that is none")?;
        let (xid, at, letter) = (head()?, head()?, head()?);
        let at = at.parse().ok().and_then(DateTime::from_timestamp_micros).unwrap_or_default();
        let (kind, old, new) = match letter.as_str() {
            "I" => (ChangeKind::Insert, false, true),
            "U" => (ChangeKind::Update, true, true),
            "D" => (ChangeKind::Delete, true, false),
            "T" => (ChangeKind::Truncate, false, false),
            "1" | "2" | "3" => (ChangeKind::Update, true, true),
            "X" => {
                return Err(Trouble::Drift(
                    "it was rewritten inside a transaction whose triggers change it".into(),
                ));
            }
            other => return Err(format!("a change of the unknown kind {other:?}").into()),
        };
        let (kind, old, new) = match &self.form {
            Form::Earlier => {
                for (wanted, rows) in [(old, &mut self.block.old), (new, &mut self.block.new)] {
                    push_columns(rows, wanted, &mut fields)?;
                }
                (kind, old, new)
            }
            Form::Rows(structures) => {
                let structure = fields.next().ok_or("a row with too few values")?;
                let texts = [fields.next().flatten(), fields.next().flatten()];
                let places = match structure {
                    None => &[][..],
                    Some(number) => places(structures, &number)?,
                };
                let image = |text: &'_ Option<Cow<'_, [u8]>>| match text {
                    Some(text) => row_text::values(text)
                        .map(|v| v.into_iter().map(|v| v.map(Cow::into_owned)).collect()),
                    None => Ok(Vec::new()),
                };
                let images: [Vec<Option<Vec<u8>>>; 2] = [image(&texts[0])?, image(&texts[1])?];
                let Some((kind, old, new)) =
                    in_sum(&letter, kind, old, new, || self.same_key(places, &images))
                else {
                    return Ok(());
                };
                let both = [(old, &images[0], &mut self.block.old), (new, &images[1], &mut self.block.new)];
                for (_, image, rows) in both.into_iter().filter(|(wanted, ..)| *wanted) {
                    push_places(rows, image, places)?;
                }
                (kind, old, new)
            }
        };
        let transaction = match &self.last {
            Some(last) if last.proof == xid && last.committed_at == at => last.clone(),
            _ => Arc::new(Transaction { position: self.now.clone(), proof: xid, committed_at: at }),
        };
        let images = Images { new, old: old.then_some(true), unchanged: None };
        self.block.push(kind, number, &transaction, images, line.len());
        self.last = Some(transaction);
        self.bytes += line.len();
        found.changes += 1;
        found.newest = found.newest.max(at);
        Ok(())
    }

    /// Whether an update leaves the key as it was; without a key, no other row can take its place.
    fn same_key(&self, places: &[usize], [old, new]: &[Vec<Option<Vec<u8>>>; 2]) -> bool {
        let key = self.table.plan.schema.identity.key().unwrap_or(&[]);
        key.iter().all(|&k| places.get(k).is_some_and(|&at| old.get(at) == new.get(at)))
    }
}

/// What a change is once the key of the updates in sum is known; none if it comes at another place.
fn in_sum(
    letter: &str,
    kind: ChangeKind,
    old: bool,
    new: bool,
    same_key: impl Fn() -> bool,
) -> Option<(ChangeKind, bool, bool)> {
    match letter {
        "1" => (!same_key()).then_some((ChangeKind::Delete, true, false)),
        "2" => same_key().then_some((ChangeKind::Update, true, true)),
        "3" => (!same_key()).then_some((ChangeKind::Insert, false, true)),
        _ => Some((kind, old, new)),
    }
}

/// Where the planned columns stand in rows of a structure.
fn places<'a>(structures: &'a Structures, number: &[u8]) -> std::result::Result<&'a [usize], Trouble> {
    let number = std::str::from_utf8(number)
        .ok()
        .and_then(|n| n.parse().ok())
        .ok_or("a structure that is no number")?;
    match structures.0.get(&number) {
        Some(Ok(places)) => Ok(places),
        Some(Err(what)) => Err(Trouble::Drift(what.clone())),
        None => Err(Trouble::Drift("what structure its rows have was not written down".into())),
    }
}

fn push_places(
    rows: &mut RowsBuilder,
    image: &[Option<Vec<u8>>],
    places: &[usize],
) -> std::result::Result<(), Trouble> {
    let schema = rows.schema().clone();
    for ((column, builder), &at) in schema.columns.iter().zip(&mut rows.columns).zip(places) {
        match image.get(at).ok_or("a row with too few values")? {
            None => builder.push_null(),
            Some(text) => push_text(builder, &column.logical, text)
                .map_err(|e| format!("column {}: {e}", column.name))?,
        }
    }
    Ok(())
}

fn push_columns<'a>(
    rows: &mut RowsBuilder,
    wanted: bool,
    fields: &mut impl Iterator<Item = Option<Cow<'a, [u8]>>>,
) -> std::result::Result<(), String> {
    let schema = rows.schema().clone();
    for (column, builder) in schema.columns.iter().zip(&mut rows.columns) {
        let field = fields.next().ok_or("a row with too few values")?;
        match field {
            _ if !wanted => {}
            None => builder.push_null(),
            Some(text) => push_text(builder, &column.logical, &text)
                .map_err(|e| format!("column {}: {e}", column.name))?,
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn later_snapshots_have_greater_positions() {
        let order = ["10:10:", "10:12:10,11", "10:12:10", "11:12:11", "12:12:", "12:13:"];
        let positions: Vec<_> = order.iter().map(|s| position(s).unwrap()).collect();
        assert!(positions.is_sorted(), "{positions:?}");
        assert!(position(NOTHING).unwrap() < position("10:10:").unwrap());
        assert_eq!((position("7"), position("16/B374D848")), (None, None));
    }
}

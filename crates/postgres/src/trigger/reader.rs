//! Reading the change tables by what is visible.
//!
//! Numbers are not the order of commits: a transaction may take its number early and commit late. So a look
//! never asks for numbers behind the last one. It takes a snapshot, and reads the changes whose transactions are
//! visible in it and were not visible in the snapshot of the look before (PostgreSQL manual, section 9.27.7.1).
//! All of them together bring the target from the one state of the source to the other. Within them the numbers
//! give the order: whoever changes a row that another transaction changed has waited for that one to commit,
//! and takes its number after that.

use crate::connect::Session;
use crate::copy_text::fields;
use crate::lsn;
use crate::mark::Mark;
use crate::snapshot::wait_until_flushed;
use crate::trigger::objects::{Names, image_columns};
use crate::values::push_text;
use chrono::{DateTime, Utc};
use futures_util::TryStreamExt;
use moorage_adapter::{AdapterError, Result, SnapshotMark, StreamTable};
use moorage_core::Position;
use moorage_core::change::{ChangeBlock, ChangeBlockBuilder, ChangeKind, Images, Transaction};
use moorage_core::column::RowsBuilder;
use moorage_core::sql::quote_literal;
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
    let rank = (u128::from(xmax) << 64) | u128::from(u64::MAX - open);
    Some(Position::new(rank, snapshot))
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

/// Which changes of a table lie behind a snapshot and are not held by the table's own mark.
fn behind(snapshot: &str, table: &StreamTable) -> String {
    let unseen =
        |snapshot: &str| format!("NOT pg_visible_in_snapshot(xid, {}::pg_snapshot)", quote_literal(snapshot));
    match &table.mark {
        Some(mark) => format!("{} AND {}", unseen(snapshot), unseen(&mark.text)),
        None => unseen(snapshot),
    }
}

/// Whether there is anything to read.
pub(crate) async fn has_news(
    session: &Session,
    names: &Names,
    tables: &[StreamTable],
    after: &str,
) -> Result<bool> {
    if tables.is_empty() {
        return Ok(false);
    }
    let any = |table: &StreamTable| {
        format!("EXISTS (SELECT FROM {} WHERE {})", names.changes(table.plan.source_id), behind(after, table))
    };
    let sql = format!("SELECT {}", tables.iter().map(any).collect::<Vec<_>>().join(" OR "));
    Ok(session.one("looking for changes", &sql, &[]).await?.get(0))
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

/// Reads the changes behind `after` that the open look sees, table by table, and sends them as blocks. None if
/// nobody listens any more.
pub(crate) async fn read(
    session: &Session,
    names: &Names,
    tables: &[StreamTable],
    (after, now): (&str, &Position),
    sender: &mpsc::Sender<ChangeBlock>,
) -> Result<Option<Found>> {
    let mut found = Found::default();
    for table in tables {
        let doing = format!("reading changes of {}", table.plan.table());
        let sql = format!(
            "COPY (SELECT number, xid, (extract(epoch FROM at) * 1000000)::bigint, kind, {} FROM {} WHERE {} ORDER BY number) TO STDOUT",
            image_columns(table.plan.schema.columns.len()),
            names.changes(table.plan.source_id),
            behind(after, table)
        );
        let lines = session.client().copy_out(&sql).await.map_err(|e| session.error(&doing, &e))?;
        let mut lines = std::pin::pin!(lines);
        let mut gathered = Gathered::new(table, now);
        while let Some(line) = lines.try_next().await.map_err(|e| session.error(&doing, &e))? {
            gathered.line(&line, &mut found).map_err(|what| AdapterError::Value {
                table: table.plan.table().to_string(),
                what: format!("{what}, in its change table"),
            })?;
            if gathered.bytes >= BLOCK_BYTES && sender.send(gathered.take()?).await.is_err() {
                return Ok(None);
            }
        }
        if !gathered.block.is_empty() && sender.send(gathered.take()?).await.is_err() {
            return Ok(None);
        }
    }
    Ok(Some(found))
}

struct Gathered<'a> {
    table: &'a StreamTable,
    now: &'a Position,
    block: ChangeBlockBuilder,
    bytes: usize,
    /// The transaction of the last change: its proof is its number, by which marks are asked.
    last: Option<Arc<Transaction>>,
}

impl<'a> Gathered<'a> {
    fn new(table: &'a StreamTable, now: &'a Position) -> Self {
        let block = ChangeBlockBuilder::new(table.plan.schema.clone());
        Self { table, now, block, bytes: 0, last: None }
    }

    fn take(&mut self) -> Result<ChangeBlock> {
        self.bytes = 0;
        let empty = ChangeBlockBuilder::new(self.table.plan.schema.clone());
        Ok(std::mem::replace(&mut self.block, empty).finish()?)
    }

    fn line(&mut self, line: &[u8], found: &mut Found) -> std::result::Result<(), String> {
        let mut fields = fields(line);
        let mut head = || {
            let field = fields.next().flatten().ok_or("a row with too few values")?;
            String::from_utf8(field.into_owned()).map_err(|e| e.to_string())
        };
        let number: u64 = head()?.parse().map_err(|_| "a number that is none")?;
        let (xid, at, kind) = (head()?, head()?, head()?);
        let at = at.parse().ok().and_then(DateTime::from_timestamp_micros).unwrap_or_default();
        let (kind, old, new) = match kind.as_str() {
            "I" => (ChangeKind::Insert, false, true),
            "U" => (ChangeKind::Update, true, true),
            "D" => (ChangeKind::Delete, true, false),
            "T" => (ChangeKind::Truncate, false, false),
            other => return Err(format!("a change of the unknown kind {other:?}")),
        };
        for (wanted, rows) in [(old, &mut self.block.old), (new, &mut self.block.new)] {
            push_image(rows, wanted, &mut fields)?;
        }
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
}

fn push_image<'a>(
    rows: &mut RowsBuilder,
    wanted: bool,
    fields: &mut impl Iterator<Item = Option<std::borrow::Cow<'a, [u8]>>>,
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
        let ranks: Vec<_> = order.iter().map(|s| position(s).unwrap().rank()).collect();
        assert!(ranks.is_sorted(), "{ranks:?}");
        assert!(position(NOTHING).unwrap() < position("10:10:").unwrap());
        assert_eq!((position("7"), position("16/B374D848")), (None, None));
    }
}

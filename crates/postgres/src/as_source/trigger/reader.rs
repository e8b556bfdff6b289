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
use crate::as_source::structure::catalogue::Seen;
use crate::as_source::structure::room::room_for;
use crate::as_source::trigger::capture;
use crate::as_source::trigger::following::Followed;
use crate::as_source::trigger::found::{Found, Read};
use crate::as_source::trigger::gather::{Form, Gathered};
use crate::as_source::trigger::names::Names;
use crate::as_source::trigger::written::Written;
use crate::wire::connect::Session;
use crate::wire::lsn;
use chrono::{DateTime, Utc};
use futures_util::TryStreamExt;
use moorage_adapter::{Doing, Result, SnapshotMark, StreamTable};
use moorage_core::Position;
use moorage_core::change::structure::SchemaChange;
use moorage_core::model::sql::quote_literal;
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

/// What transactions did in sum that changed a table from inside its triggers too (`c`), among others. Changes before a
/// TRUNCATE and behind it are different segments. Kinds beside the plain ones: `1`, `2` and `3` are the same update,
/// which is a delete (1) and an insert (3) if its key changed, and otherwise one update (2); `X` is a table
/// that was altered or rewritten meanwhile, whose versions cannot be followed.
const NESTED: &str = "
, n AS (SELECT DISTINCT xid FROM c WHERE nested)
, s AS (SELECT c.*, max(number) OVER (PARTITION BY xid) AS last,
               count(*) FILTER (WHERE kind = 'T') OVER (PARTITION BY xid ORDER BY number) AS segment
        FROM c JOIN n USING (xid))
, e AS (SELECT s.*, old_at IS NOT NULL AND NOT EXISTS (SELECT FROM s p WHERE p.xid = s.xid AND p.segment = s.segment AND p.new_at = s.old_at) AS head,
               new_at IS NOT NULL AND NOT EXISTS (SELECT FROM s f WHERE f.xid = s.xid AND f.segment = s.segment AND f.old_at = s.new_at) AS tail
        FROM s)
, rewritten AS (SELECT xid FROM s WHERE kind <> 'T' GROUP BY xid, segment
              HAVING count(DISTINCT file) > 1 OR count(DISTINCT structure) > 1 OR count(DISTINCT layout) > 1)
, ordered AS (
  SELECT number AS last, 0::bigint AS segment, 0 AS phase, number, xid, at, kind::text, structure, file, layout, old, new FROM c WHERE xid NOT IN (SELECT xid FROM n)
  UNION ALL SELECT last, segment, 0, number, xid, at, CASE WHEN xid IN (SELECT xid FROM rewritten) THEN 'X' ELSE 'T' END, structure, file, layout, old, new
    FROM e WHERE kind = 'T' OR xid IN (SELECT xid FROM rewritten)
  UNION ALL SELECT last, segment, 1, number, xid, at, CASE WHEN head AND tail THEN '1' ELSE 'D' END, structure, file, layout, old, CASE WHEN tail THEN new END FROM e WHERE head
  UNION ALL SELECT last, segment, 2, number, xid, at, '2', structure, file, layout, old, new FROM e WHERE head AND tail
  UNION ALL SELECT last, segment, 3, number, xid, at, CASE WHEN head AND tail THEN '3' ELSE 'I' END, structure, file, layout, CASE WHEN head THEN old END, new FROM e WHERE tail)";

/// Where a look reads.
pub(crate) struct Stretch<'a> {
    /// The snapshot behind which changes are read.
    pub(crate) after: &'a str,
    /// What the look sees, or an earlier snapshot.
    pub(crate) now: &'a Position,
    /// Whether only changes within `now` are read.
    pub(crate) within: bool,
}

/// Reads the changes of a stretch that the open look sees, table by table, and sends them. The structures of the tables are
/// followed if `followed` has them, as the catalogue has `seen` them in the same look; otherwise rows must have the
/// planned ones. None if nobody listens any more.
pub(crate) async fn read(
    session: &Session,
    names: &Names,
    tables: &[StreamTable],
    stretch: &Stretch<'_>,
    mut followed: Option<(&mut [Followed], &Seen)>,
    sender: &mpsc::Sender<Read>,
) -> Result<Option<Found>> {
    let mut found = Found::default();
    let earlier = capture::earlier(session, names).await?;
    let news = news(session, names, tables, stretch.after).await?;
    let within = stretch.within.then_some(stretch.now);
    let with_versions = tables.iter().zip(&news).filter(|(t, is)| **is && t.plan.keeps_versions());
    let mut all = Vec::new();
    for (table, _) in with_versions {
        let (id, condition) = (table.plan.source_id, between(stretch.after, within, table));
        all.extend(earlier.contains(&id).then(|| (names.earlier(id), condition.clone())));
        all.push((names.rows(id), condition));
    }
    let order = order_of_transactions(&all);
    for (at, table) in tables.iter().enumerate().filter(|(at, _)| news.get(*at) == Some(&true)) {
        let id = table.plan.source_id;
        if let Some((followed, seen)) = &mut followed {
            for change in make_room(tables, followed, seen, at) {
                found.structures += 1;
                if sender.send(Read::Change(change)).await.is_err() {
                    return Ok(None);
                }
            }
        }
        let mut of_table =
            followed.as_mut().map(|(followed, seen)| (&mut followed[at], seen.get(&(id as u32))));
        if let Some((of, seen)) = &mut of_table
            && let Some(change) = of.begins(seen.map(AsRef::as_ref))?
        {
            found.structures += 1;
            if sender.send(Read::Change(change)).await.is_err() {
                return Ok(None);
            }
        }
        let condition = between(stretch.after, within, table);
        let order = order.as_deref().filter(|_| table.plan.keeps_versions());
        let mut queries = Vec::new();
        if earlier.contains(&id) && is_any(session, &names.earlier(id), &condition).await? {
            queries.push((earlier_rows(table, &names.earlier(id), &condition, order), Form::Earlier));
        }
        let written = Written::read(session, names, id).await?;
        queries.push((rows(session, names, id, &condition, order).await?, Form::Rows(written)));
        for (sql, form) in queries {
            let of = of_table.as_mut().map(|(of, _)| &mut **of);
            let gathered = Gathered::new(table, stretch.now, form, of);
            if !send(session, &sql, gathered, &mut found, sender).await? {
                return Ok(None);
            }
        }
    }
    if let Some((followed, seen)) = followed.filter(|_| !stretch.within) {
        let horizon = Mark::parse(stretch.now.as_str(), 0).map(|mark| mark.horizon()).unwrap_or_default();
        for (at, table) in tables.iter().enumerate() {
            let mut changes = make_room(tables, followed, seen, at);
            let seen = seen.get(&(table.plan.source_id as u32));
            changes.extend(followed[at].ends(seen.map(AsRef::as_ref), horizon)?);
            for change in changes {
                found.structures += 1;
                if sender.send(Read::Change(change)).await.is_err() {
                    return Ok(None);
                }
            }
        }
    }
    Ok(Some(found))
}

/// Has other tables leave the name that one is to have by a look.
fn make_room(tables: &[StreamTable], followed: &mut [Followed], seen: &Seen, at: usize) -> Vec<SchemaChange> {
    let id = |table: &StreamTable| table.plan.source_id as u32;
    let name = |id: u32| seen.get(&id).map(|d| d.table.name.clone());
    let Some(wanted) = name(id(&tables[at])).filter(|name| followed[at].called().is_some_and(|c| c != name))
    else {
        return Vec::new();
    };
    let called = tables.iter().zip(followed.iter());
    let called: Vec<_> = called.filter_map(|(t, of)| Some((id(t), of.called()?.clone()))).collect();
    let moves = room_for(id(&tables[at]), &wanted, &called, name);
    let of = |number: u32| tables.iter().position(|t| id(t) == number);
    moves.into_iter().filter_map(|(number, to)| followed[of(number)?].moves(to)).collect()
}

async fn is_any(session: &Session, changes: &str, condition: &str) -> Result<bool> {
    let sql = format!("SELECT EXISTS (SELECT FROM {changes} WHERE {condition})");
    Ok(session.one("looking for changes", &sql, &[]).await?.get(0))
}

/// The query for a table's changes.
async fn rows(
    session: &Session,
    names: &Names,
    table: u64,
    condition: &str,
    order: Option<&str>,
) -> Result<String> {
    let rows = names.rows(table);
    let layout =
        if capture::has_layout(session, names, table).await? { "layout" } else { "NULL::text AS layout" };
    let (with, when, join) = in_order(order);
    let columns = format!("number, xid, {when}, kind, structure, file, layout, old, new");
    let all = format!("number, xid, at, kind, nested, structure, file, {layout}, old_at, new_at, old, new");
    if is_any(session, &rows, &format!("nested AND {condition}")).await? {
        return Ok(format!(
            "WITH {with}c AS MATERIALIZED (SELECT {all} FROM {rows} WHERE {condition}) {NESTED} SELECT {columns} FROM ordered{join} ORDER BY last, segment, phase, number"
        ));
    }
    let begin = if with.is_empty() { String::new() } else { format!("WITH {}", with.trim_end_matches(", ")) };
    Ok(format!(
        "{begin} SELECT {columns} FROM (SELECT {all} FROM {rows} WHERE {condition}) c{join} ORDER BY number"
    ))
}

/// The order of the transactions of a look, for tables that keep versions: of two that changed the same row, the later one has
/// waited for the earlier one, and so has the greater last number. With it a time that grows as it does: the statements'
/// own, or a microsecond behind the time before it where that was not earlier.
fn order_of_transactions(all: &[(String, String)]) -> Option<String> {
    let of = |(changes, condition): &(String, String)| {
        format!("SELECT xid, number, at FROM {changes} WHERE {condition}")
    };
    let all: Vec<String> = all.iter().map(of).collect();
    (!all.is_empty()).then(|| {
        format!(
            "placed AS MATERIALIZED (SELECT xid, nth, max(us - nth) OVER (ORDER BY nth) + nth AS us FROM
              (SELECT xid, row_number() OVER (ORDER BY max(number)) AS nth, (extract(epoch FROM max(at)) * 1000000)::bigint AS us
               FROM ({}) a GROUP BY xid) t), ",
            all.join(" UNION ALL ")
        )
    })
}

/// What stands in front of a query for changes, the columns for the time and the order of their transactions, and what joins
/// these.
fn in_order(order: Option<&str>) -> (&str, &'static str, &'static str) {
    match order {
        Some(order) => (order, "placed.us, placed.nth", " JOIN placed USING (xid)"),
        None => ("", "(extract(epoch FROM at) * 1000000)::bigint, 0", ""),
    }
}

/// The changes of a change table of the earlier form: old image, then new one, column by column.
fn earlier_rows(table: &StreamTable, changes: &str, condition: &str, order: Option<&str>) -> String {
    let (with, when, join) = in_order(order);
    let begin = if with.is_empty() { String::new() } else { format!("WITH {}", with.trim_end_matches(", ")) };
    let count = table.plan.schema.columns.len();
    let images: Vec<String> =
        ["o", "n"].iter().flat_map(|letter| (1..=count).map(move |i| format!("{letter}{i}"))).collect();
    format!(
        "{begin} SELECT number, xid, {when}, kind, {} FROM (SELECT * FROM {changes} WHERE {condition}) c{join} ORDER BY number",
        images.join(", ")
    )
}

/// Sends what one query gives; `false` if nobody listens any more.
async fn send(
    session: &Session,
    sql: &str,
    mut gathered: Gathered<'_>,
    found: &mut Found,
    sender: &mpsc::Sender<Read>,
) -> Result<bool> {
    let doing = Doing::to("reading changes of", gathered.table());
    let sql = format!("COPY ({sql}) TO STDOUT");
    let lines = session.client().copy_out(&sql).await.map_err(|e| session.error(&doing, &e))?;
    let mut lines = std::pin::pin!(lines);
    while let Some(line) = lines.try_next().await.map_err(|e| session.error(&doing, &e))? {
        for read in gathered.line(&line, found)? {
            if sender.send(read).await.is_err() {
                return Ok(false);
            }
        }
        if gathered.bytes() >= BLOCK_BYTES && sender.send(Read::Block(gathered.take()?)).await.is_err() {
            return Ok(false);
        }
    }
    Ok(gathered.is_empty() || sender.send(Read::Block(gathered.take()?)).await.is_ok())
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

//! One state of a source, with the captured changes between it and the target's.
//!
//! The changes come from a temporary copy of the pipeline's slot, made before anything is looked at: it
//! reaches back to what the target has durably, and the pipeline's own slot is not disturbed. A change lies
//! between the two looks if its transaction is visible in the fixed snapshot and behind the target's position,
//! or the other way round.

use crate::as_source::assemble::Assembler;
use crate::as_source::mark::Mark;
use crate::as_source::named::Point;
use crate::as_source::snapshot::{Chunks, wait_until_flushed};
use crate::as_source::stream::streamed_columns;
use crate::wire::address::PostgresAddress;
use crate::wire::connect::Session;
use crate::wire::error::COPYING_SLOT;
use crate::wire::lsn;
use crate::wire::pgoutput::Message;
use crate::wire::sort::sort_term;
use arrow::array::RecordBatch;
use async_trait::async_trait;
use futures_util::TryStreamExt;
use moorage_adapter::{AdapterError, Doing, Result, RowOrder, SnapshotMark, SourceLook, StreamTable};
use moorage_core::TableSchema;
use moorage_core::change::block::ChangeBlock;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::compare::rows::LookedRows;
use moorage_core::model::sql::{quote_ident, quote_literal};
use moorage_core::plan::table::TablePlan;
use tokio::sync::mpsc;

/// Changes are handed on when there are so many bytes of them.
const PART_BYTES: usize = 512 << 10;

/// A look.
pub(crate) struct PostgresLook {
    address: PostgresAddress,
    capture: Option<Point>,
    tables: Vec<StreamTable>,
    /// The session that owns the copied slot, and the slot's name.
    copy: Option<(Session, String)>,
    fixed: Option<Fixed>,
}

struct Fixed {
    session: Session,
    snapshot: Mark,
    end: u64,
    since: Option<Checkpoint>,
}

impl PostgresLook {
    pub(crate) async fn begin(
        address: &PostgresAddress,
        capture: Option<Point>,
        tables: &[StreamTable],
    ) -> Result<Self> {
        let copy = match &capture {
            Some(capture) => Some(copy_slot(address, &capture.slot).await?),
            None => None,
        };
        Ok(Self { address: address.clone(), capture, tables: tables.to_vec(), copy, fixed: None })
    }

    fn fixed(&self) -> Result<&Fixed> {
        self.fixed
            .as_ref()
            .ok_or_else(|| AdapterError::refused("looking at the source", "its state was not fixed"))
    }
}

/// A copy that ends with the session. It reaches back as far as the pipeline's own slot, also while that is
/// in use (PostgreSQL manual, section 9.27.6).
pub(crate) async fn copy_slot(address: &PostgresAddress, slot: &str) -> Result<(Session, String)> {
    // With the rights of the user itself: to read from a slot is a right of users, not of roles that are taken on.
    let address = PostgresAddress { takes_role: false, ..address.clone() };
    let session = Session::open(&address).await?;
    let name = format!("moorage_look_{}", session.pid());
    let sql = "SELECT pg_copy_logical_replication_slot($1, $2, true)";
    session.one(Doing::to(COPYING_SLOT, slot), sql, &[&slot, &name]).await?;
    Ok((session, name))
}

/// How the server sorts a key's column as core does.
fn sorted(schema: &TableSchema, column: usize) -> String {
    let column = &schema.columns[column];
    sort_term(&column.logical, &column.source_type, &quote_ident(&column.name))
}

fn by_key(schema: &TableSchema) -> String {
    match schema.identity.key() {
        None => String::new(),
        Some(key) => {
            let terms: Vec<String> =
                key.iter().map(|&k| format!("{} NULLS FIRST", sorted(schema, k))).collect();
            format!(" ORDER BY {}", terms.join(", "))
        }
    }
}

#[async_trait]
impl SourceLook for PostgresLook {
    async fn fix(&mut self, since: Option<&Checkpoint>) -> Result<()> {
        let session = Session::open(&self.address).await?;
        let lock = lock(&self.tables);
        let sql = format!("SET row_security = off; BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY{lock}");
        session.run("locking the tables against structure changes", &sql).await?;
        let row = session.one("taking the snapshot", "SELECT pg_current_snapshot()::text", &[]).await?;
        let snapshot: String = row.get(0);
        let end = "SELECT pg_current_wal_insert_lsn()::text";
        let end: String = session.one("reading the end of the log", end, &[]).await?.get(0);
        let wrong = || AdapterError::Protocol {
            address: self.address.text(),
            what: format!("{snapshot:?} at {end:?}"),
        };
        let end = lsn::parse(&end).ok_or_else(wrong)?;
        let mark = Mark::parse(&snapshot, u64::MAX).ok_or_else(wrong)?;
        if since.is_some() {
            let complete = SnapshotMark { text: snapshot, complete_at: lsn::position(end) };
            wait_until_flushed(&session, &complete).await?;
        }
        self.fixed = Some(Fixed { session, snapshot: mark, end, since: since.cloned() });
        Ok(())
    }

    async fn between(&mut self, sender: mpsc::Sender<ChangeBlock>) -> Result<()> {
        let fixed = self.fixed()?;
        let (Some(since), Some((session, slot)), Some(capture)) = (&fixed.since, &self.copy, &self.capture)
        else {
            return Ok(());
        };
        let held = lsn::parse(&since.position).unwrap_or(0);
        let snapshot = fixed.snapshot.clone();
        let mut tables = Vec::with_capacity(self.tables.len());
        for table in &self.tables {
            tables.push((table.clone(), streamed_columns(session, table.plan.source_id).await?));
        }
        let mut assembler = Assembler::following(tables)?
            .leaving_out(move |commit_lsn, xid| (commit_lsn < held) == snapshot.covers(xid, commit_lsn));
        let sql = "SELECT data FROM pg_logical_slot_get_binary_changes($1, $2::text::pg_lsn, NULL, 'proto_version', '1', 'publication_names', $3)";
        let (upto, publication) = (lsn::text(fixed.end), quote_ident(&capture.publication));
        let doing = "reading what changed since the target's checkpoint";
        let parameters: [&(dyn tokio_postgres::types::ToSql + Sync); 3] = [slot, &upto, &publication];
        let rows = session.client().query_raw(sql, parameters).await.map_err(|e| session.error(doing, &e))?;
        let mut rows = std::pin::pin!(rows);
        while let Some(row) = rows.try_next().await.map_err(|e| session.error(doing, &e))? {
            let payload: &[u8] = row.get(0);
            let message = Message::parse(payload)
                .map_err(|e| AdapterError::Protocol { address: self.address.text(), what: e.to_string() })?;
            assembler.feed(message, payload.len())?;
            if assembler.bytes() >= PART_BYTES && !send_all(&sender, assembler.take()?.blocks).await {
                return Ok(());
            }
        }
        send_all(&sender, assembler.take()?.blocks).await;
        Ok(())
    }

    async fn rows(&mut self, table: usize, order: RowOrder, sender: mpsc::Sender<LookedRows>) -> Result<()> {
        send_rows(&self.fixed()?.session, &self.tables[table].plan, order, &sender).await
    }

    async fn count(&mut self, table: usize) -> Result<u64> {
        count_rows(&self.fixed()?.session, &self.tables[table].plan).await
    }
}

/// Sends a table's rows; ends early when nobody listens any more.
pub(crate) async fn send_rows(
    session: &Session,
    plan: &TablePlan,
    order: RowOrder,
    sender: &mpsc::Sender<LookedRows>,
) -> Result<()> {
    let order = if order == RowOrder::Key { by_key(&plan.schema) } else { String::new() };
    let mut chunks = Chunks::open(session, plan, &order).await?;
    while let Some(rows) = chunks.next().await? {
        if sender.send(LookedRows::fitting(rows)).await.is_err() {
            break;
        }
    }
    Ok(())
}

/// Counts a table's rows.
pub(crate) async fn count_rows(session: &Session, plan: &TablePlan) -> Result<u64> {
    let sql = format!("SELECT count(*) FROM ONLY {}", plan.table().quoted());
    let count: i64 = session.one("counting rows", &sql, &[]).await?.get(0);
    Ok(count.max(0) as u64)
}

/// The statement that locks tables against changes of structure, and against being emptied, which a snapshot
/// does not hide.
pub(crate) fn lock(tables: &[StreamTable]) -> String {
    let list: Vec<String> = tables.iter().map(|t| format!("ONLY {}", t.plan.table().quoted())).collect();
    if list.is_empty() {
        String::new()
    } else {
        format!("; LOCK TABLE {} IN ACCESS SHARE MODE", list.join(", "))
    }
}

async fn send_all(sender: &mpsc::Sender<ChangeBlock>, blocks: Vec<ChangeBlock>) -> bool {
    for block in blocks {
        if sender.send(block).await.is_err() {
            return false;
        }
    }
    true
}

/// Reads a few rows at once; `more` goes behind FROM.
async fn few(session: &Session, plan: &TablePlan, more: &str) -> Result<RecordBatch> {
    let found = Chunks::open(session, plan, more).await?.next().await?;
    Ok(found.unwrap_or_else(|| RecordBatch::new_empty(plan.schema.arrow())))
}

/// The row with a key, if there is one.
pub(crate) async fn row(session: &Session, plan: &TablePlan, key: &[String]) -> Result<RecordBatch> {
    let names = plan.schema.key_names();
    if names.len() != key.len() {
        let what = format!("its key has {} values ({}), not {}", names.len(), names.join(", "), key.len());
        return Err(AdapterError::Value { table: plan.table().to_string(), what });
    }
    session.run("reading texts as they are", "SET standard_conforming_strings = on").await?;
    let term = |(name, text): (&&str, &String)| format!("{} = {}", quote_ident(name), quote_literal(text));
    let terms: Vec<String> = names.iter().zip(key).map(term).collect();
    few(session, plan, &format!(" WHERE {} LIMIT 1", terms.join(" AND "))).await
}

/// The first rows.
pub(crate) async fn sample(session: &Session, plan: &TablePlan, rows: usize) -> Result<RecordBatch> {
    few(session, plan, &format!(" LIMIT {rows}")).await
}

//! The snapshot: all tables in one read transaction, which is one state of the whole file.
//!
//! The mark is the newest change number in that very state: a change is in the snapshot if and only if its
//! number is not greater.

use crate::as_source::capture::head;
use crate::as_source::catalog;
use crate::as_source::names::{Names, foreign_version};
use crate::as_source::open::{open, position};
use crate::file::error::source_error;
use crate::file::read::{Writer, push};
use arrow::array::RecordBatch;
use moorage_adapter::{AdapterError, Doing, Result, SnapshotMark, SnapshotSink};
use moorage_core::TableSchema;
use moorage_core::model::described::SourceColumn;
use moorage_core::model::sql::{quote_ident, quote_list};
use moorage_core::plan::table::TablePlan;
use moorage_core::value::column::RowsBuilder;
use rusqlite::{Connection, Row};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use tokio::sync::mpsc;

/// A chunk is handed on at this many rows or bytes.
const CHUNK_ROWS: usize = 8192;
const CHUNK_BYTES: usize = 1 << 20;

enum Read {
    Rows(usize, RecordBatch),
    Finished(usize, SnapshotMark),
}

/// Reads tables; one chunk is read while the one before is loaded.
pub(crate) async fn run(
    path: PathBuf,
    names: Option<Names>,
    tables: &[TablePlan],
    sink: Arc<dyn SnapshotSink>,
) -> Result<()> {
    let (sender, mut received) = mpsc::channel(2);
    let plans = tables.to_vec();
    let reader = tokio::task::spawn_blocking(move || read_all(&path, names.as_ref(), &plans, &sender));
    while let Some(read) = received.recv().await {
        match read {
            Read::Rows(table, rows) => sink.rows(table, rows).await?,
            Read::Finished(table, mark) => sink.finished(table, mark).await?,
        }
    }
    reader
        .await
        .map_err(|e| AdapterError::Io { doing: "reading the snapshot".into(), reason: e.to_string() })?
}

fn read_all(
    path: &Path,
    names: Option<&Names>,
    plans: &[TablePlan],
    sender: &mpsc::Sender<Read>,
) -> Result<()> {
    let db = open(path)?;
    let failed = |e| source_error(path, "reading the snapshot", e);
    db.execute_batch("BEGIN").map_err(failed)?;
    // The first read fixes the state that all others see.
    let newest = names.map_or(Ok(0), |names| head(&db, names)).map_err(failed)?;
    let version = foreign_version(&db).map_err(failed)?;
    let mark = SnapshotMark { text: format!("{newest} {version}"), complete_at: position(newest) };
    unchanged(&db, plans).map_err(failed)??;
    for (table, plan) in plans.iter().enumerate() {
        let go_on = read_rows(
            path,
            &db,
            &plan.schema,
            &select(&plan.schema, ""),
            [],
            Writer::Application,
            &mut |rows| sender.blocking_send(Read::Rows(table, rows)).is_ok(),
        )?;
        // A receiver that is gone has its own error to tell.
        if !go_on || sender.blocking_send(Read::Finished(table, mark.clone())).is_err() {
            return Ok(());
        }
    }
    db.execute_batch("ROLLBACK").map_err(failed)
}

/// Nobody can change the tables' structures any more: whether they are the planned ones. One that was changed since is
/// planned anew.
fn unchanged(db: &Connection, plans: &[TablePlan]) -> rusqlite::Result<Result<()>> {
    let found = catalog::discover(db)?;
    for plan in plans {
        let Some(planned) = plan.structure.as_deref() else { continue };
        let now = found.iter().find(|t| t.name == *plan.table());
        let is_as_planned = now.is_some_and(|now| {
            let same = |(a, b): (&SourceColumn, &SourceColumn)| {
                // Whoever follows it takes it for what it was when it was read.
                (&a.column, a.generated) == (&b.column, b.generated)
            };
            now.columns.len() == planned.columns.len() && now.columns.iter().zip(&planned.columns).all(same)
        });
        if !is_as_planned {
            let reason = "its structure was changed a moment ago".into();
            return Ok(Err(AdapterError::Busy { doing: Doing::to("reading", plan.table()), reason }));
        }
    }
    Ok(Ok(()))
}

/// The statement that reads a table's carried columns, with more behind it.
pub(crate) fn select(schema: &TableSchema, more: &str) -> String {
    let columns = quote_list(schema.columns.iter().map(|c| c.name.as_str()));
    format!("SELECT {columns} FROM {}{more}", quote_ident(&schema.table.name))
}

/// Hands on the rows of a statement in chunks until `take` says no; whether it never did.
pub(crate) fn read_rows(
    path: &Path,
    db: &Connection,
    schema: &Arc<TableSchema>,
    sql: &str,
    parameters: impl rusqlite::Params,
    writer: Writer,
    take: &mut dyn FnMut(RecordBatch) -> bool,
) -> Result<bool> {
    let failed = |e| source_error(path, Doing::to("reading table", &schema.table), e);
    let mut query = db.prepare(sql).map_err(failed)?;
    let mut rows = query.query(parameters).map_err(failed)?;
    let mut chunk = RowsBuilder::new(schema.clone());
    while let Some(row) = rows.next().map_err(failed)? {
        push_row(&mut chunk, row, schema, writer)?;
        if (chunk.rows() >= CHUNK_ROWS || chunk.bytes() >= CHUNK_BYTES) && !take(chunk.finish()?) {
            return Ok(false);
        }
    }
    Ok(chunk.rows() == 0 || take(chunk.finish()?))
}

fn push_row(chunk: &mut RowsBuilder, row: &Row<'_>, schema: &Arc<TableSchema>, writer: Writer) -> Result<()> {
    let mut bytes = 0;
    for (at, column) in schema.columns.iter().enumerate() {
        let value = row
            .get_ref(at)
            .map_err(|e| AdapterError::Value { table: schema.table.to_string(), what: e.to_string() })?;
        bytes += 8 + value.as_bytes().map_or(0, <[u8]>::len);
        push(&mut chunk.columns[at], &column.logical, value, writer).map_err(|what| AdapterError::Value {
            table: schema.table.to_string(),
            what: format!(
                "column {}: {what}{}. Mend the value in the source, or leave the column out with a rule",
                column.name,
                key_text(row, schema)
            ),
        })?;
    }
    chunk.end_row(bytes);
    Ok(())
}

/// ` in the row with id = 7`, or nothing without a key.
fn key_text(row: &Row<'_>, schema: &TableSchema) -> String {
    let Some(key) = schema.identity.key() else { return String::new() };
    let parts: Vec<String> = key
        .iter()
        .filter_map(|&k| {
            Some(format!("{} = {}", schema.columns[k].name, crate::file::read::shown(row.get_ref(k).ok()?)))
        })
        .collect();
    format!(", in the row with {}", parts.join(", "))
}

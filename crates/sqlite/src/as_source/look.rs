//! One state of a source file: a read transaction on one connection. What lies between the target's checkpoint
//! and that state is read from the change table in the same transaction.

use crate::as_source::capture::head;
use crate::as_source::group::Group;
use crate::as_source::names::Names;
use crate::as_source::open::open;
use crate::as_source::snapshot::{read_rows, select};
use crate::file::error::source_error;
use crate::file::read::{Writer, key_values};
use crate::file::sort;
use arrow::array::RecordBatch;
use async_trait::async_trait;
use moorage_adapter::{AdapterError, Result, RowOrder, SourceLook, StreamTable};
use moorage_core::change::block::ChangeBlock;
use moorage_core::change::segment::Segment;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::compare::rows::LookedRows;
use moorage_core::model::sql::quote_ident;
use moorage_core::plan::table::TablePlan;
use rusqlite::{Connection, params_from_iter};
use std::path::{Path, PathBuf};
use tokio::sync::mpsc;

/// A look.
pub(crate) struct SqliteSourceLook {
    path: PathBuf,
    db: Option<Connection>,
    names: Option<Names>,
    tables: Vec<StreamTable>,
    /// The target's position, and the fixed state's.
    span: Option<(i64, i64)>,
}

impl SqliteSourceLook {
    pub(crate) fn new(path: PathBuf, names: Option<Names>, tables: &[StreamTable]) -> Self {
        Self { path, db: None, names, tables: tables.to_vec(), span: None }
    }

    async fn on<T: Send + 'static>(
        &mut self,
        work: impl FnOnce(&Connection, &Path) -> Result<T> + Send + 'static,
    ) -> Result<T> {
        let unfixed = || AdapterError::refused("looking at the source", "its state was not fixed");
        let db = self.db.take().ok_or_else(unfixed)?;
        let path = self.path.clone();
        let (db, done) = tokio::task::spawn_blocking(move || {
            let done = work(&db, &path);
            (db, done)
        })
        .await
        .map_err(|e| AdapterError::Io { doing: "looking at the source".into(), reason: e.to_string() })?;
        self.db = Some(db);
        done
    }
}

#[async_trait]
impl SourceLook for SqliteSourceLook {
    async fn fix(&mut self, since: Option<&Checkpoint>) -> Result<()> {
        let db = open(&self.path)?;
        let failed = |e| source_error(&self.path, "looking at the source", e);
        sort::prepare(&db).map_err(failed)?;
        db.execute_batch("BEGIN").map_err(failed)?;
        let now = self.names.as_ref().map_or(Ok(0), |names| head(&db, names)).map_err(failed)?;
        self.span = since.and_then(|c| c.position.parse().ok()).map(|from| (from, now));
        self.db = Some(db);
        Ok(())
    }

    async fn between(&mut self, sender: mpsc::Sender<ChangeBlock>) -> Result<()> {
        let (Some((from, upto)), Some(names)) = (self.span.filter(|s| s.0 < s.1), self.names.clone()) else {
            return Ok(());
        };
        let mut group = Group::new(self.path.clone(), names, self.tables.clone());
        self.on(move |db, _| {
            let mut hand_on =
                |part: Segment| part.blocks.into_iter().all(|block| sender.blocking_send(block).is_ok());
            if group.read(db, from, upto, &mut hand_on)?.is_some() {
                hand_on(group.take(false)?);
            }
            Ok(())
        })
        .await
    }

    async fn rows(&mut self, table: usize, order: RowOrder, sender: mpsc::Sender<LookedRows>) -> Result<()> {
        let schema = self.tables[table].plan.schema.clone();
        self.on(move |db, path| {
            let names: Vec<&str> = schema.columns.iter().map(|c| c.name.as_str()).collect();
            let order = if order == RowOrder::Key { sort::by_key(&schema, &names) } else { String::new() };
            read_rows(path, db, &schema, &select(&schema, &order), [], Writer::Application, &mut |rows| {
                sender.blocking_send(LookedRows::fitting(rows)).is_ok()
            })
            .map(|_| ())
        })
        .await
    }

    async fn count(&mut self, table: usize) -> Result<u64> {
        let table = quote_ident(&self.tables[table].plan.table().name);
        self.on(move |db, path| {
            db.query_row(&format!("SELECT count(*) FROM {table}"), [], |r| r.get(0))
                .map_err(|e| source_error(path, "counting rows", e))
        })
        .await
    }
}

/// Reads all rows of a statement at once.
fn read_few(
    db: &Connection,
    path: &Path,
    plan: &TablePlan,
    more: &str,
    parameters: impl rusqlite::Params,
) -> Result<RecordBatch> {
    let mut found = RecordBatch::new_empty(plan.schema.arrow());
    read_rows(
        path,
        db,
        &plan.schema,
        &select(&plan.schema, more),
        parameters,
        Writer::Application,
        &mut |rows| {
            found = rows;
            true
        },
    )?;
    Ok(found)
}

/// The row with a key, if there is one.
pub(crate) fn row(db: &Connection, path: &Path, plan: &TablePlan, key: &[String]) -> Result<RecordBatch> {
    let values = key_values(&plan.schema, key)
        .map_err(|what| AdapterError::Value { table: plan.table().to_string(), what })?;
    let terms: Vec<String> =
        plan.schema.key_names().iter().map(|name| format!("{} = ?", quote_ident(name))).collect();
    read_few(db, path, plan, &format!(" WHERE {} LIMIT 1", terms.join(" AND ")), params_from_iter(values))
}

/// The first rows.
pub(crate) fn sample(db: &Connection, path: &Path, plan: &TablePlan, rows: usize) -> Result<RecordBatch> {
    read_few(db, path, plan, &format!(" LIMIT {rows}"), [])
}

//! One state of a target file: a read transaction on a connection of its own, which the writer does not
//! disturb.

use crate::as_target::statements::row_id_name;
use crate::as_target::{kept, state};
use crate::file::error::sql_error;
use crate::file::read::{Writer, push};
use crate::file::{open, sort};
use async_trait::async_trait;
use moorage_adapter::{AdapterError, Doing, Result, RowOrder, Sample, StoredTable, TargetLook};
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::compare::rows::{LookedRows, Misfit};
use moorage_core::model::sql::{quote_ident, quote_list};
use moorage_core::plan::table::TablePlan;
use moorage_core::value::column::RowsBuilder;
use rusqlite::{Connection, Row, params_from_iter};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use tokio::sync::mpsc;

const CHUNK_ROWS: usize = 8192;
const CHUNK_BYTES: usize = 1 << 20;

/// A look. The connection travels to a thread that may block, and back.
pub(crate) struct SqliteTargetLook {
    path: Arc<PathBuf>,
    db: Option<Connection>,
    checkpoint: Option<Checkpoint>,
    tables: Vec<StoredTable>,
}

impl SqliteTargetLook {
    /// Fixes the state of the file now.
    pub(crate) fn open(path: Arc<PathBuf>, pipeline: &str) -> Result<Self> {
        let failed = |e| sql_error(&path, "looking at the target", e);
        let db = open::open(&path).map_err(failed)?;
        db.execute_batch("PRAGMA query_only = ON; BEGIN").map_err(failed)?;
        sort::prepare(&db).map_err(failed)?;
        let checkpoint = state::checkpoint(&db, pipeline).map_err(failed)?;
        let tables = state::tables(&db, pipeline).map_err(failed)?;
        Ok(Self { path, db: Some(db), checkpoint, tables })
    }

    async fn on<T: Send + 'static>(
        &mut self,
        work: impl FnOnce(&Connection, &Path) -> Result<T> + Send + 'static,
    ) -> Result<T> {
        let broken = || AdapterError::refused("looking at the target", "the look was broken off");
        let db = self.db.take().ok_or_else(broken)?;
        let path = self.path.clone();
        let (db, done) = tokio::task::spawn_blocking(move || {
            let done = work(&db, &path);
            (db, done)
        })
        .await
        .map_err(|e| AdapterError::Io { doing: "looking at the target".into(), reason: e.to_string() })?;
        self.db = Some(db);
        done
    }
}

/// A table's columns and whether each row was there before the pipeline.
struct Reading {
    plan: TablePlan,
    sql: String,
    knows_kept: bool,
}

impl Reading {
    /// `more` goes behind FROM.
    fn new(db: &Connection, path: &Path, plan: &TablePlan, more: &str) -> Result<Self> {
        let columns = quote_list(plan.columns.iter().map(|c| c.name.as_str()));
        let table = kept::source_of(plan);
        let knows_kept =
            state::has_kept(db, &plan.target).map_err(|e| sql_error(path, "looking for kept rows", e))?;
        let kept = if knows_kept { format!(", {}", state::is_kept(plan)) } else { String::new() };
        Ok(Self { plan: plan.clone(), sql: format!("SELECT {columns}{kept} FROM {table}{more}"), knows_kept })
    }

    fn read(
        &self,
        db: &Connection,
        path: &Path,
        parameters: impl rusqlite::Params,
        take: &mut dyn FnMut(LookedRows) -> bool,
    ) -> Result<()> {
        let failed = |e| sql_error(path, Doing::to("reading table", &self.plan.target), e);
        let mut query = db.prepare(&self.sql).map_err(failed)?;
        let mut rows = query.query(parameters).map_err(failed)?;
        let mut chunk = Chunk::new(self);
        while let Some(row) = rows.next().map_err(failed)? {
            chunk.push(row).map_err(failed)?;
            if (chunk.rows.rows() >= CHUNK_ROWS || chunk.rows.bytes() >= CHUNK_BYTES)
                && !take(chunk.finish()?)
            {
                return Ok(());
            }
        }
        take(chunk.finish()?);
        Ok(())
    }

    fn all(&self, db: &Connection, path: &Path, parameters: impl rusqlite::Params) -> Result<LookedRows> {
        let mut found = None;
        self.read(db, path, parameters, &mut |rows| {
            found.get_or_insert(rows);
            true
        })?;
        found.ok_or_else(|| AdapterError::refused("looking at the target", "nothing was read"))
    }
}

struct Chunk<'a> {
    reading: &'a Reading,
    rows: RowsBuilder,
    misfits: Vec<Misfit>,
    kept: Vec<bool>,
}

impl<'a> Chunk<'a> {
    fn new(reading: &'a Reading) -> Self {
        let rows = RowsBuilder::new(reading.plan.mapped.clone());
        Self { reading, rows, misfits: Vec::new(), kept: Vec::new() }
    }

    fn push(&mut self, row: &Row<'_>) -> rusqlite::Result<()> {
        let mut bytes = 0;
        let schema = &self.reading.plan.mapped;
        for (at, column) in schema.columns.iter().enumerate() {
            let value = row.get_ref(at)?;
            bytes += 8 + value.as_bytes().map_or(0, <[u8]>::len);
            let builder = &mut self.rows.columns[at];
            if push(builder, &column.logical, value, Writer::Moorage).is_err() {
                builder.push_null();
                self.misfits.push(Misfit {
                    row: self.rows.rows(),
                    column: at,
                    shown: crate::file::read::shown(value),
                });
            }
        }
        if self.reading.knows_kept {
            self.kept.push(row.get(schema.columns.len())?);
        }
        self.rows.end_row(bytes);
        Ok(())
    }

    fn finish(&mut self) -> Result<LookedRows> {
        Ok(LookedRows {
            rows: self.rows.finish()?,
            misfits: std::mem::take(&mut self.misfits),
            kept: std::mem::take(&mut self.kept),
        })
    }
}

fn names(plan: &TablePlan) -> Vec<&str> {
    plan.columns.iter().map(|c| c.name.as_str()).collect()
}

#[async_trait]
impl TargetLook for SqliteTargetLook {
    fn checkpoint(&self) -> Option<&Checkpoint> {
        self.checkpoint.as_ref()
    }

    fn tables(&self) -> &[StoredTable] {
        &self.tables
    }

    async fn rows(
        &mut self,
        plan: &TablePlan,
        order: RowOrder,
        sender: mpsc::Sender<LookedRows>,
    ) -> Result<()> {
        let plan = plan.clone();
        self.on(move |db, path| {
            let order = if order == RowOrder::Key {
                sort::by_key(&plan.mapped, &names(&plan))
            } else {
                String::new()
            };
            Reading::new(db, path, &plan, &order)?
                .read(db, path, [], &mut |rows| sender.blocking_send(rows).is_ok())
        })
        .await
    }

    async fn count(&mut self, plan: &TablePlan) -> Result<(u64, u64)> {
        let plan = plan.clone();
        self.on(move |db, path| {
            let failed = |e| sql_error(path, Doing::to("counting table", &plan.target), e);
            let table = kept::source_of(&plan);
            let all: u64 =
                db.query_row(&format!("SELECT count(*) FROM {table}"), [], |r| r.get(0)).map_err(failed)?;
            if !state::has_kept(db, &plan.target).map_err(failed)? {
                return Ok((all, 0));
            }
            let kept = state::count_kept(db, &plan).map_err(failed)?;
            Ok((all - kept.min(all), kept))
        })
        .await
    }

    async fn row(&mut self, plan: &TablePlan, key: &[String]) -> Result<LookedRows> {
        let (plan, key) = (plan.clone(), key.to_vec());
        self.on(move |db, path| {
            let columns: Vec<String> = plan
                .mapped
                .identity
                .key()
                .unwrap_or(&[])
                .iter()
                .map(|&k| {
                    let name = quote_ident(&plan.columns[k].name);
                    // A text is compared as the column's own affinity sees it.
                    format!("{name} = ?")
                })
                .collect();
            let more = format!(" WHERE {} LIMIT 1", columns.join(" AND "));
            let values = crate::file::read::key_values(&plan.mapped, &key)
                .map_err(|what| AdapterError::Value { table: plan.table().to_string(), what })?;
            Reading::new(db, path, &plan, &more)?.all(db, path, params_from_iter(values))
        })
        .await
    }

    async fn sample(&mut self, plan: &TablePlan, which: Sample) -> Result<LookedRows> {
        let plan = plan.clone();
        self.on(move |db, path| {
            let (order, count) = match which {
                Sample::First(count) => (String::new(), count),
                // A query over a table that keeps more has no rows of its own to be the newest.
                Sample::Newest(count) if !plan.is_a_copy() => (String::new(), count),
                Sample::Newest(count) => (format!(" ORDER BY {} DESC", row_id_name(&plan)), count),
            };
            Reading::new(db, path, &plan, &format!("{order} LIMIT {count}"))?.all(db, path, [])
        })
        .await
    }
}

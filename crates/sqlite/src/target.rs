//! The target itself: one file, one writing connection, blocking work on threads made for it.

use crate::batch::SqliteMerge;
use crate::dialect::SqliteDialect;
use crate::error::sql_error;
use crate::look::SqliteTargetLook;
use crate::statements::{Statements, create_table};
use crate::turn::{self, Mine};
use crate::values::Converter;
use crate::{again, create, meta, probe, reading};
use arrow::array::RecordBatch;
use async_trait::async_trait;
use moorage_adapter::{
    AdapterError, Events, ExistingTable, Holder, LoadedTable, Merge, Result, Step, StoredTable, Surveyed,
    TableState, TakeFrom, Target, TargetAddress, TargetLook, Turn,
};
use moorage_core::checkpoint::{Checkpoint, Durable};
use moorage_core::column::value_at;
use moorage_core::finding::Finding;
use moorage_core::plan::{TablePlan, TargetDialect};
use moorage_core::project::Mismatch;
use moorage_core::schema::RowIdentity;
use moorage_core::sql::quote_ident;
use rusqlite::{Connection, OpenFlags};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, PoisonError};
use std::time::Duration;
use tokio::sync::Mutex;

/// How long a write waits for another program's transaction on the file.
const BUSY_TIMEOUT: Duration = Duration::from_secs(30);

/// A SQLite file as a target.
pub struct SqliteTarget {
    path: Arc<PathBuf>,
    db: Arc<Mutex<Option<Connection>>>,
    dialect: SqliteDialect,
    /// Whether the file was made by this process.
    made: Arc<AtomicBool>,
    /// The turn, once it was taken.
    mine: std::sync::Mutex<Option<Mine>>,
}

impl SqliteTarget {
    /// A target at `path`. The file is made by the first write, and only then.
    pub fn new(path: impl Into<PathBuf>) -> Self {
        Self {
            path: Arc::new(path.into()),
            db: Arc::default(),
            dialect: SqliteDialect,
            made: Arc::default(),
            mine: std::sync::Mutex::default(),
        }
    }

    /// Runs blocking work with the connection. The file is made if `write` and it is missing; without
    /// `write` and without a file the answer is `None`.
    async fn with<T: Send + 'static>(
        &self,
        write: bool,
        work: impl FnOnce(&mut Connection, &Path) -> Result<T> + Send + 'static,
    ) -> Result<Option<T>> {
        let mut guard = self.db.clone().lock_owned().await;
        let (path, made) = (self.path.clone(), self.made.clone());
        blocking(move || {
            if !ensure_open(&mut guard, &path, &made, write)? {
                return Ok(None);
            }
            match guard.as_mut() {
                Some(db) => work(db, &path).map(Some),
                None => Ok(None),
            }
        })
        .await
    }

    /// Removes a file that this process made and that holds nothing.
    async fn remove_if_empty(&self) -> Result<()> {
        let mut guard = self.db.clone().lock_owned().await;
        let path = self.path.clone();
        blocking(move || {
            let Some(db) = guard.take() else { return Ok(()) };
            let objects: i64 = db
                .query_row("SELECT count(*) FROM sqlite_schema", [], |r| r.get(0))
                .map_err(|e| sql_error(&path, "looking for tables", e))?;
            if objects > 0 {
                *guard = Some(db);
                return Ok(());
            }
            drop(db);
            std::fs::remove_file(path.as_path()).map_err(|e| AdapterError::Io {
                what: format!("removing {}", path.display()),
                reason: e.to_string(),
            })
        })
        .await
    }

    /// Runs `work` in a transaction of its own, in which the turn is ours.
    async fn write<T: Send + 'static>(
        &self,
        work: impl FnOnce(&Connection, &Path) -> Result<T> + Send + 'static,
    ) -> Result<T> {
        let mine = self.mine()?;
        let done = self.with(true, move |db, path| transact(db, path, &mine, |db| work(db, path))).await?;
        done.ok_or_else(|| self.not_opened())
    }

    fn not_opened(&self) -> AdapterError {
        AdapterError::refused(format!("target {}", self.path.display()), "the file was not opened")
    }

    /// The turn that was taken.
    fn mine(&self) -> Result<Mine> {
        let mine = self.mine.lock().unwrap_or_else(PoisonError::into_inner).clone();
        mine.ok_or_else(|| AdapterError::refused("writing to the target", "the turn to write was not taken"))
    }

    async fn read<T: Send + Default + 'static>(
        &self,
        doing: &'static str,
        work: impl FnOnce(&Connection) -> rusqlite::Result<T> + Send + 'static,
    ) -> Result<T> {
        let found = self.with(false, move |db, path| work(db).map_err(|e| sql_error(path, doing, e))).await?;
        Ok(found.unwrap_or_default())
    }
}

/// Opens the file if it is not open yet, and makes what is missing if `write`; whether it is open.
fn ensure_open(db: &mut Option<Connection>, path: &Path, made: &AtomicBool, write: bool) -> Result<bool> {
    if db.is_none() {
        let exists = path.exists();
        if !write && !exists {
            return Ok(false);
        }
        made.store(!exists, Ordering::Relaxed);
        // Who only reads need not be able to write.
        let opened = if write { open(path) } else { open(path).or_else(|_| open_for_reading(path)) };
        *db = Some(opened?);
    }
    Ok(true)
}

pub(crate) async fn blocking<T: Send + 'static>(
    work: impl FnOnce() -> Result<T> + Send + 'static,
) -> Result<T> {
    tokio::task::spawn_blocking(work).await.map_err(|e| AdapterError::Io {
        what: "running work on the target file".into(),
        reason: e.to_string(),
    })?
}

pub(crate) fn open(path: &Path) -> Result<Connection> {
    let failed = |e| sql_error(path, "opening", e);
    if let Some(folder) = path.parent().filter(|p| !p.as_os_str().is_empty() && !p.exists()) {
        return Err(AdapterError::refused(
            format!("target {}", path.display()),
            format!("the folder {} does not exist", folder.display()),
        ));
    }
    if !path.exists() {
        // Rows may be as confidential as in the source: never for everyone, whatever the umask says.
        let made = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o640).open(path);
        // If it cannot be made, opening it says why.
        drop(made);
    }
    let flags =
        OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_CREATE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let db = Connection::open_with_flags(path, flags).map_err(failed)?;
    db.busy_timeout(BUSY_TIMEOUT).map_err(failed)?;
    db.set_prepared_statement_cache_capacity(256);
    // FULL: a commit in write-ahead mode is on the disk when it returns (https://www.sqlite.org/pragma.html#pragma_synchronous).
    // The cache bounds memory, also that of a transaction of any size, which spills into the log.
    db.execute_batch(
        "PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL; PRAGMA cache_size = -32768;
         PRAGMA wal_autocheckpoint = 4000; PRAGMA journal_size_limit = 67108864;",
    )
    .map_err(failed)?;
    Ok(db)
}

fn open_for_reading(path: &Path) -> Result<Connection> {
    reading::open(path).map_err(|e| sql_error(path, "opening", e))
}

/// Runs `work` in a transaction of its own, in which the turn is ours.
fn transact<T>(
    db: &mut Connection,
    path: &Path,
    mine: &Mine,
    work: impl FnOnce(&Connection) -> Result<T>,
) -> Result<T> {
    let failed = |e| sql_error(path, "committing", e);
    let transaction =
        db.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate).map_err(failed)?;
    turn::fence(&transaction, path, mine)?;
    let done = work(&transaction)?;
    transaction.commit().map_err(failed)?;
    Ok(done)
}

#[async_trait]
impl Target for SqliteTarget {
    fn address(&self) -> TargetAddress {
        TargetAddress {
            system: "SQLite".into(),
            host: String::new(),
            database: self.path.display().to_string(),
            user: String::new(),
        }
    }

    fn dialect(&self) -> &(dyn TargetDialect + Sync) {
        &self.dialect
    }

    async fn probe(&self, bytes: u64) -> Result<Vec<Finding>> {
        let path = self.path.clone();
        blocking(move || Ok(probe::probe(&path, bytes))).await
    }

    fn set_up_script(&self, _: Option<&str>, undo: bool) -> String {
        probe::set_up_script(&self.path, undo)
    }

    async fn list(&self) -> Result<Vec<String>> {
        self.read("listing tables", create::list).await
    }

    async fn survey(&self, pipeline: &str, plans: &[TablePlan]) -> Result<Vec<Surveyed>> {
        let (pipeline, all) = (pipeline.to_string(), plans.to_vec());
        let found = self.with(false, move |db, path| create::survey(db, path, &pipeline, &all)).await?;
        // Without a file all of them are new.
        Ok(found.unwrap_or_else(|| plans.iter().map(create::survey_new).collect()))
    }

    async fn describe(&self, table: &str) -> Result<Option<ExistingTable>> {
        let table = table.to_string();
        self.read("describing a table", move |db| create::describe(db, &table)).await
    }

    fn definition(&self, plan: &TablePlan) -> String {
        if let Some(ddl) = &plan.ddl {
            return ddl.clone();
        }
        let as_is = |name: &str| Ok::<_, std::convert::Infallible>(name.to_string());
        let index = match crate::statements::create_index(plan, as_is) {
            Ok(Some(statement)) => format!("\n{statement};"),
            Ok(None) => String::new(),
        };
        format!("{};{index}", create_table(plan))
    }

    async fn checkpoint(&self, pipeline: &str) -> Result<Option<Checkpoint>> {
        let pipeline = pipeline.to_string();
        self.read("reading the checkpoint", move |db| meta::checkpoint(db, &pipeline)).await
    }

    async fn tables(&self, pipeline: &str) -> Result<Vec<StoredTable>> {
        let pipeline = pipeline.to_string();
        self.read("reading table states", move |db| meta::tables(db, &pipeline)).await
    }

    async fn look(&self, pipeline: &str) -> Result<Option<Box<dyn TargetLook>>> {
        let (path, pipeline) = (self.path.clone(), pipeline.to_string());
        blocking(move || {
            if !path.exists() {
                return Ok(None);
            }
            let look: Box<dyn TargetLook> = Box::new(SqliteTargetLook::open(path, &pipeline)?);
            Ok(Some(look))
        })
        .await
    }

    async fn count(&self, table: &str) -> Result<u64> {
        let sql = format!("SELECT count(*) FROM {}", quote_ident(table));
        self.read("counting rows", move |db| db.query_row(&sql, [], |r| r.get(0))).await
    }

    async fn take_turn(
        &self,
        pipeline: &str,
        holder: &Holder,
        from: TakeFrom<'_>,
        make: bool,
        _: &Events,
    ) -> Result<Turn> {
        let (pipeline, holder) = (pipeline.to_string(), holder.clone());
        let gone = match from {
            TakeFrom::Nobody => None,
            TakeFrom::Gone(gone) => Some(gone.clone()),
        };
        let taken = self
            .with(make, move |db, path| {
                let failed = |e| sql_error(path, "taking the turn to write", e);
                if !make && !meta::exists(db).map_err(failed)? {
                    return Ok((Turn::NothingThere, None));
                }
                let transaction =
                    db.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate).map_err(failed)?;
                meta::create(&transaction).map_err(failed)?;
                let from = gone.as_ref().map_or(TakeFrom::Nobody, TakeFrom::Gone);
                let taken = turn::take(&transaction, path, &pipeline, &holder, from)?;
                transaction.commit().map_err(failed)?;
                Ok(taken)
            })
            .await?;
        let Some((turn, mine)) = taken else { return Ok(Turn::NothingThere) };
        if mine.is_some() {
            *self.mine.lock().unwrap_or_else(PoisonError::into_inner) = mine;
        }
        Ok(turn)
    }

    async fn renew_turn(&self, _: &str) -> Result<()> {
        self.write(|_, _| Ok(())).await
    }

    async fn end_turn(&self, _: &str) -> Result<()> {
        let Some(mine) = self.mine.lock().unwrap_or_else(PoisonError::into_inner).take() else {
            return Ok(());
        };
        let end = move |db: &mut Connection, path: &Path| {
            turn::end(db, &mine).map_err(|e| sql_error(path, "giving the turn back", e))
        };
        self.with(false, end).await.map(|_| ())
    }

    async fn holder(&self, pipeline: &str) -> Result<Option<Holder>> {
        let pipeline = pipeline.to_string();
        self.read("looking whose turn it is", move |db| turn::holder(db, &pipeline)).await
    }

    async fn save_checkpoint(&self, checkpoint: &Checkpoint) -> Result<Durable> {
        let checkpoint = checkpoint.clone();
        self.write(move |db, path| {
            meta::save_checkpoint(db, &checkpoint)
                .map_err(|e| sql_error(path, "saving the checkpoint", e))?;
            Ok(Durable::committed(checkpoint))
        })
        .await
    }

    async fn check(&self, pipeline: &str, plan: &TablePlan) -> Result<()> {
        let (pipeline, plan) = (pipeline.to_string(), plan.clone());
        let new = plan.clone();
        let found = self.with(false, move |db, path| create::check(db, path, &pipeline, &plan)).await?;
        found.map_or_else(|| create::try_statements(&new), Ok)
    }

    async fn create(&self, pipeline: &str, plan: &TablePlan) -> Result<()> {
        let (pipeline, plan) = (pipeline.to_string(), plan.clone());
        self.write(move |db, path| create::create(db, path, &pipeline, &plan)).await
    }

    async fn create_again(&self, _: &str, plan: &TablePlan) -> Result<()> {
        let plan = plan.clone();
        self.write(move |db, path| again::create(db, path, &plan)).await
    }

    async fn ready_again(&self, plan: &TablePlan) -> Result<()> {
        let plan = plan.clone();
        self.write(move |db, path| again::build_key(db, path, &plan)).await
    }

    async fn drop_again(&self, plan: &TablePlan) -> Result<()> {
        let plan = plan.clone();
        self.write(move |db, path| again::drop(db, path, &plan)).await
    }

    async fn load(&self, plan: &TablePlan, rows: RecordBatch) -> Result<()> {
        let (plan, mine) = (plan.clone(), self.mine()?);
        let loaded = self.with(true, move |db, path| {
            // A chunk need not be on the disk by itself: the end of the load is, and all before it.
            let relax = |db: &Connection, level| db.pragma_update(None, "synchronous", level);
            relax(db, "NORMAL").map_err(|e| sql_error(path, "loading", e))?;
            let done = transact(db, path, &mine, |db| load(db, path, &plan, rows));
            relax(db, "FULL").map_err(|e| sql_error(path, "loading", e))?;
            done
        });
        loaded.await?.ok_or_else(|| self.not_opened())
    }

    async fn finish_load(&self, pipeline: &str, plan: &TablePlan, end: LoadedTable) -> Result<()> {
        let (_, plan) = (pipeline, plan.clone());
        self.write(move |db, path| {
            if again::is_there(db, &plan.target).map_err(|e| sql_error(path, "finishing a load", e))? {
                again::build_key(db, path, &plan)?;
                let rows = again::count(db, path, &plan)?;
                return again::swap(db, path, &plan, &end, rows);
            }
            create::build_index(db, path, &plan)?;
            let mark = end.mark.as_ref().map(|m| (m.text.as_str(), m.complete_at.as_str()));
            meta::remember_loaded(db, &plan.target, end.state, mark, end.captured_by.as_deref())
                .map_err(|e| sql_error(path, "remembering a table", e))
        })
        .await
    }

    async fn remember_captured_by(&self, pipeline: &str, tables: &[(String, String)]) -> Result<()> {
        let (pipeline, tables) = (pipeline.to_string(), tables.to_vec());
        self.write(move |db, path| {
            meta::remember_captured_by(db, &pipeline, &tables)
                .map_err(|e| sql_error(path, "remembering what captures tables", e))
        })
        .await
    }

    async fn begin(&self, from: &Checkpoint, tables: &[TablePlan]) -> Result<Box<dyn Merge>> {
        let (mine, from) = (self.mine()?, from.clone());
        let states = self.tables(&from.pipeline).await?;
        let live =
            |target: &str| states.iter().any(|s| s.plan.target == target && s.state == TableState::Live);
        // Which tables keep rows of others is only known inside the batch.
        let exact = |t: &TablePlan| live(&t.target) && t.mismatch == Mismatch::Reject;
        let tables: Vec<_> = tables.iter().map(|t| (t.clone(), exact(t))).collect();
        // The connection stays with the batch from its first statement on: nobody else may come in between.
        let mut guard = self.db.clone().lock_owned().await;
        let (path, made) = (self.path.clone(), self.made.clone());
        let guard = blocking(move || {
            ensure_open(&mut guard, &path, &made, true)?;
            let failed = |e| sql_error(&path, "opening a batch", e);
            if let Some(db) = guard.as_ref() {
                db.execute_batch("BEGIN IMMEDIATE").map_err(failed)?;
                if let Err(error) = go_on(db, &path, &mine, &from) {
                    db.execute_batch("ROLLBACK").map_err(failed)?;
                    return Err(error);
                }
            }
            Ok(guard)
        })
        .await?;
        Ok(Box::new(SqliteMerge::new(self.path.clone(), guard, tables)))
    }

    async fn forget(&self, pipeline: &str, tables: &[String], checkpoint: bool) -> Result<()> {
        let (pipeline, tables) = (pipeline.to_string(), tables.to_vec());
        self.write(move |db, path| {
            meta::forget(db, &pipeline, &tables, checkpoint).map_err(|e| sql_error(path, "forgetting", e))
        })
        .await
    }

    async fn leave(&self, pipeline: &str, tables: &[String]) -> Result<()> {
        let (pipeline, tables) = (pipeline.to_string(), tables.to_vec());
        self.write(move |db, path| {
            meta::set_state(db, &pipeline, &tables, TableState::Gone)
                .map_err(|e| sql_error(path, "noting that tables are gone", e))
        })
        .await
    }

    async fn let_go(&self, pipeline: &str, tables: &[String], remove: bool) -> Result<Vec<Step>> {
        let (pipeline, tables) = (pipeline.to_string(), tables.to_vec());
        self.write(move |db, path| {
            create::let_go(db, &pipeline, &tables, remove)
                .map_err(|e| sql_error(path, "letting go of tables", e))
        })
        .await
    }

    async fn teardown(&self, pipeline: &str, dry: bool) -> Result<Vec<Step>> {
        let pipeline = pipeline.to_string();
        let remove = move |db: &Connection, path: &Path| {
            create::teardown(db, &pipeline, dry).map_err(|e| sql_error(path, "removing tables", e))
        };
        // Without a turn there is nothing to remove.
        let steps = match (dry, self.mine()) {
            (false, Ok(mine)) => {
                self.with(false, move |db, path| transact(db, path, &mine, |db| remove(db, path))).await?
            }
            _ => self.with(false, move |db, path| remove(db, path)).await?,
        };
        if !dry && self.made.load(Ordering::Relaxed) {
            self.remove_if_empty().await?;
        }
        Ok(steps.unwrap_or_default())
    }
}

/// Whether a batch may go on from a checkpoint.
fn go_on(db: &Connection, path: &Path, mine: &Mine, from: &Checkpoint) -> Result<()> {
    turn::fence(db, path, mine)?;
    let found =
        meta::checkpoint(db, &from.pipeline).map_err(|e| sql_error(path, "reading the checkpoint", e))?;
    if found.as_ref() == Some(from) {
        return Ok(());
    }
    Err(AdapterError::checkpoint_moved(format!("target {}", path.display()), from, found.as_ref()))
}

/// Writes rows. They are let go of before the last one is written: where one value is large, that is a copy less of it.
fn load(db: &Connection, path: &Path, plan: &TablePlan, rows: RecordBatch) -> Result<()> {
    let failed = |e| sql_error(path, &format!("loading table {}", plan.target), e);
    let beside = again::loading_into(db, plan).map_err(failed)?;
    let into = beside.as_ref().unwrap_or(plan);
    let converter = Converter::new(into);
    let statements = Statements::new(into);
    let keeps = meta::keeps_rows(db, &into.target).map_err(failed)?;
    let sql = if keeps && !statements.key.is_empty() { statements.upsert() } else { statements.insert() };
    let mut insert = db.prepare_cached(&sql).map_err(failed)?;
    let declared = matches!(plan.mapped.identity, RowIdentity::DeclaredKey(_));
    let (count, mut rows) = (rows.num_rows(), Some(rows));
    for row in 0..count {
        for (c, array) in rows.iter().flat_map(RecordBatch::columns).enumerate() {
            let value = converter.convert(c, value_at(array.as_ref(), row))?;
            insert.raw_bind_parameter(c + 1, value).map_err(failed)?;
        }
        if row + 1 == count {
            rows = None;
        }
        insert.raw_execute().map_err(|e| match e.sqlite_error_code() {
            Some(rusqlite::ErrorCode::ConstraintViolation) if declared => AdapterError::Value {
                table: plan.table().to_string(),
                what: format!(
                    "the declared key ({}) does not fit: {e}. Declare another key in the project file",
                    plan.mapped.key_names().join(", ")
                ),
            },
            _ => failed(e),
        })?;
    }
    insert.clear_bindings();
    // Rows beside a table are counted when they take its place.
    meta::add_snapshot_rows(db, &into.target, count).map_err(failed)
}

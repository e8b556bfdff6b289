//! The target itself: one file, one writing connection, blocking work on threads made for it.

mod alter;
mod batch;
mod beside;
mod catch_up;
mod check;
mod columns;
mod create;
pub(crate) mod dialect;
mod index;
mod kept;
mod load;
mod look;
mod merge;
mod open;
mod remove;
mod state;
mod statements;
mod tidy;
mod turn;
mod values;

use crate::as_target::batch::SqliteMerge;
use crate::as_target::dialect::SqliteDialect;
use crate::as_target::index::build_index;
use crate::as_target::look::SqliteTargetLook;
use crate::as_target::open::{blocking, ensure_open};
use crate::as_target::statements::create_table;
use crate::as_target::turn::Mine;
use crate::file::error::sql_error;
use arrow::array::RecordBatch;
use async_trait::async_trait;
use chrono::{DateTime, Utc};
use moorage_adapter::{
    AdapterError, Committing, DecideTarget, DependentView, Doing, Events, ExistingTable, Guarantees, Holder,
    InspectTarget, Lack, LoadTarget, LoadedTable, MemoKind, Merge, RecallTarget, Reject, Replacing, Result,
    Settle, Settled, Step, StoredTable, Surveyed, TableState, TakeFrom, TargetAddress, TargetLook, Turn,
    Usage, WriteTarget,
};
use moorage_core::change::block::ChangeBlock;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::drift::alter::Alteration;
use moorage_core::drift::standing::TargetColumns;
use moorage_core::model::described::SourceIdentity;
use moorage_core::model::finding::Finding;
use moorage_core::model::sql::quote_ident;
use moorage_core::plan::current_rows::is_its;
use moorage_core::plan::dialect::TargetDialect;
use moorage_core::plan::table::TablePlan;
use moorage_core::plan::tidy::{Folded, Old};
use rusqlite::{Connection, TransactionBehavior};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, PoisonError};
use tokio::sync::Mutex;

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
                doing: Doing::to("removing", path.display()),
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
impl InspectTarget for SqliteTarget {
    fn usage(&self) -> Option<Usage> {
        None
    }

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
        blocking(move || Ok(check::probe(&path, bytes))).await
    }

    fn set_up_script(&self, _: Option<&str>, undo: bool) -> String {
        check::set_up_script(&self.path, undo)
    }

    async fn list(&self) -> Result<Vec<String>> {
        self.read("listing tables", create::list).await
    }

    async fn describe(&self, table: &str) -> Result<Option<ExistingTable>> {
        let table = table.to_string();
        self.read("describing a table", move |db| create::describe(db, &table)).await
    }

    async fn columns(&self, table: &str) -> Result<TargetColumns> {
        let table = table.to_string();
        self.read("describing a table", move |db| columns::columns(db, &table)).await
    }

    async fn views(&self, table: &str) -> Result<Vec<DependentView>> {
        let table = table.to_string();
        self.read("looking for views", move |db| create::views(db, &table)).await
    }

    fn alteration(&self, alteration: &Alteration) -> Vec<String> {
        alter::statements(alteration)
    }

    fn definition(&self, plan: &TablePlan) -> String {
        if let Some(ddl) = &plan.ddl {
            return ddl.clone();
        }
        let as_is = |name: &str| Ok::<_, std::convert::Infallible>(name.to_string());
        let index = match crate::as_target::statements::create_index(plan, as_is) {
            Ok(Some(statement)) => format!("\n{statement};"),
            Ok(None) => String::new(),
        };
        let view = kept::view(plan, &[]).map(|view| format!("\n{view};")).unwrap_or_default();
        format!("{};{index}{view}", create_table(plan))
    }

    async fn count(&self, plan: &TablePlan) -> Result<u64> {
        let its = is_its(plan, "").unwrap_or_else(|| "true".into());
        let sql = format!("SELECT count(*) FROM {} WHERE {its}", quote_ident(plan.stands_in()));
        self.read("counting rows", move |db| db.query_row(&sql, [], |r| r.get(0))).await
    }

    fn guarantees(&self) -> Guarantees {
        Guarantees {
            committing: Committing::Together,
            replacing: Replacing::AtOnce,
            lacks: &[Lack::SettingAside],
        }
    }

    async fn identity(&self) -> Result<Option<SourceIdentity>> {
        Ok(None)
    }
}

#[async_trait]
impl RecallTarget for SqliteTarget {
    async fn checkpoint(&self, pipeline: &str) -> Result<Option<Checkpoint>> {
        let pipeline = pipeline.to_string();
        self.read("reading the checkpoint", move |db| state::checkpoint(db, &pipeline)).await
    }

    async fn tables(&self, pipeline: &str) -> Result<Vec<StoredTable>> {
        let pipeline = pipeline.to_string();
        self.read("reading table states", move |db| state::tables(db, &pipeline)).await
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

    async fn holder(&self, pipeline: &str) -> Result<Option<Holder>> {
        let pipeline = pipeline.to_string();
        self.read("looking whose turn it is", move |db| turn::holder(db, &pipeline)).await
    }

    async fn memos(&self, pipeline: &str, kind: MemoKind) -> Result<Vec<(String, Vec<u8>)>> {
        let pipeline = pipeline.to_string();
        self.read("reading what is remembered", move |db| state::memos(db, &pipeline, kind)).await
    }

    async fn memo(&self, pipeline: &str, kind: MemoKind, name: &str) -> Result<Option<Vec<u8>>> {
        let (pipeline, name) = (pipeline.to_string(), name.to_string());
        self.read("reading what is remembered", move |db| state::memo(db, &pipeline, kind, &name)).await
    }

    async fn settled(&self, _: &str) -> Result<Option<Checkpoint>> {
        Ok(None)
    }
}

#[async_trait]
impl WriteTarget for SqliteTarget {
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
                if !make && !state::exists(db).map_err(failed)? {
                    return Ok((Turn::NothingThere, None));
                }
                let transaction =
                    db.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate).map_err(failed)?;
                state::create(&transaction).map_err(failed)?;
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

    async fn save_checkpoint(&self, checkpoint: &Checkpoint) -> Result<()> {
        let checkpoint = checkpoint.clone();
        self.write(move |db, path| {
            state::save_checkpoint(db, &checkpoint).map_err(|e| sql_error(path, "saving the checkpoint", e))
        })
        .await
    }

    async fn begin(&self, from: &Checkpoint) -> Result<Box<dyn Merge>> {
        let (mine, from, pipeline) = (self.mine()?, from.clone(), from.pipeline.clone());
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
        Ok(Box::new(SqliteMerge::new(self.path.clone(), guard, pipeline)))
    }
}

#[async_trait]
impl LoadTarget for SqliteTarget {
    async fn survey(&self, pipeline: &str, plans: &[TablePlan]) -> Result<Vec<Surveyed>> {
        let (pipeline, all) = (pipeline.to_string(), plans.to_vec());
        let found = self.with(false, move |db, path| create::survey(db, path, &pipeline, &all)).await?;
        // Without a file all of them are new.
        Ok(found.unwrap_or_else(|| plans.iter().map(create::survey_new).collect()))
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
        self.write(move |db, path| beside::create(db, path, &plan)).await
    }

    async fn ready_again(&self, plan: &TablePlan) -> Result<()> {
        let plan = plan.clone();
        self.write(move |db, path| beside::build_key(db, path, &plan)).await
    }

    async fn drop_again(&self, plan: &TablePlan) -> Result<()> {
        let plan = plan.clone();
        self.write(move |db, path| beside::drop(db, path, &plan)).await
    }

    async fn load(&self, plan: &TablePlan, rows: RecordBatch) -> Result<()> {
        let (plan, mine) = (plan.clone(), self.mine()?);
        let loaded = self.with(true, move |db, path| {
            // A chunk need not be on the disk by itself: the end of the load is, and all before it.
            let relax = |db: &Connection, level| db.pragma_update(None, "synchronous", level);
            relax(db, "NORMAL").map_err(|e| sql_error(path, "loading", e))?;
            let done = transact(db, path, &mine, |db| load::load(db, path, &plan, rows));
            relax(db, "FULL").map_err(|e| sql_error(path, "loading", e))?;
            done
        });
        loaded.await?.ok_or_else(|| self.not_opened())
    }

    async fn finish_load(&self, pipeline: &str, plan: &TablePlan, end: LoadedTable) -> Result<()> {
        let (_, plan) = (pipeline, plan.clone());
        self.write(move |db, path| {
            if beside::is_there(db, &plan.target).map_err(|e| sql_error(path, "finishing a load", e))? {
                beside::build_key(db, path, &plan)?;
                let rows = beside::count(db, path, &plan)?;
                return beside::swap(db, path, &plan, &end, rows);
            }
            let failed = |e| sql_error(path, "looking at tables beside it", e);
            let others = state::beside_in_table(db, &plan).map_err(failed)?;
            // While others are loaded it would hold them up; the last one has it made.
            if !others.iter().any(|(_, state)| matches!(state, TableState::Waiting | TableState::Reading)) {
                build_index(db, path, &plan)?;
            }
            let mark = end.mark.as_ref().map(|m| (m.text.as_str(), m.complete_at.as_str()));
            state::remember_loaded(db, &plan.target, end.state, mark, end.captured_by.as_deref())
                .map_err(|e| sql_error(path, "remembering a table", e))
        })
        .await
    }

    async fn remember_captured_by(&self, pipeline: &str, tables: &[(String, String)]) -> Result<()> {
        let (pipeline, tables) = (pipeline.to_string(), tables.to_vec());
        self.write(move |db, path| {
            state::remember_captured_by(db, &pipeline, &tables)
                .map_err(|e| sql_error(path, "remembering what captures tables", e))
        })
        .await
    }
}

#[async_trait]
impl DecideTarget for SqliteTarget {
    async fn forget(&self, pipeline: &str, tables: &[String], checkpoint: bool) -> Result<()> {
        let (pipeline, tables) = (pipeline.to_string(), tables.to_vec());
        self.write(move |db, path| {
            state::forget(db, &pipeline, &tables, checkpoint).map_err(|e| sql_error(path, "forgetting", e))
        })
        .await
    }

    async fn leave(&self, pipeline: &str, tables: &[String]) -> Result<()> {
        let (pipeline, tables) = (pipeline.to_string(), tables.to_vec());
        self.write(move |db, path| {
            state::set_state(db, &pipeline, &tables, TableState::Gone)
                .map_err(|e| sql_error(path, "noting that tables are gone", e))
        })
        .await
    }

    async fn let_go(&self, pipeline: &str, tables: &[String], remove: bool) -> Result<Vec<Step>> {
        let (pipeline, tables) = (pipeline.to_string(), tables.to_vec());
        self.write(move |db, path| {
            remove::let_go(db, &pipeline, &tables, remove)
                .map_err(|e| sql_error(path, "letting go of tables", e))
        })
        .await
    }

    async fn teardown(&self, pipeline: &str, dry: bool) -> Result<Vec<Step>> {
        let pipeline = pipeline.to_string();
        let remove = move |db: &Connection, path: &Path| {
            remove::teardown(db, &pipeline, dry).map_err(|e| sql_error(path, "removing tables", e))
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

    async fn rejects(&self, _: &str) -> Result<Vec<Reject>> {
        Ok(Vec::new())
    }

    async fn reject(&self, _: &str, _: i64) -> Result<Option<(Reject, ChangeBlock)>> {
        Ok(None)
    }

    async fn old_rows(&self, plan: &TablePlan, since: DateTime<Utc>) -> Result<Option<Old>> {
        let plan = plan.clone();
        let found = self.with(false, move |db, path| {
            tidy::old_rows(db, &plan, since).map_err(|e| sql_error(path, "looking for what is old", e))
        });
        Ok(found.await?.flatten())
    }

    async fn fold(&self, plan: &TablePlan, old: &Old, part: u32, dry: bool) -> Result<Folded> {
        let (plan, old) = (plan.clone(), old.clone());
        let folded = self.with(false, move |db, path| {
            let failed = |e| sql_error(path, "folding what is old", e);
            let transaction = db.transaction_with_behavior(TransactionBehavior::Immediate).map_err(failed)?;
            let folded = tidy::fold(&transaction, &plan, &old, (part, dry)).map_err(failed)?;
            transaction.commit().map_err(failed)?;
            Ok(folded)
        });
        Ok(folded.await?.unwrap_or_default())
    }

    async fn settle(&self, _: &str, _: Option<&[i64]>, _: Settle) -> Result<Settled> {
        Err(AdapterError::Lacking { system: "SQLite".into(), lack: Lack::SettingAside })
    }
}

/// Whether a batch may go on from a checkpoint.
fn go_on(db: &Connection, path: &Path, mine: &Mine, from: &Checkpoint) -> Result<()> {
    turn::fence(db, path, mine)?;
    let found =
        state::checkpoint(db, &from.pipeline).map_err(|e| sql_error(path, "reading the checkpoint", e))?;
    if found.as_ref() == Some(from) {
        return Ok(());
    }
    Err(AdapterError::checkpoint_moved(format!("target {}", path.display()), from, found.as_ref()))
}

//! PostgreSQL as a target.
//!
//! One session writes merges; several load snapshots; looks and everything else have sessions of their own. What
//! a pipeline remembers is in the schema `moorage_state` of the same database, so that it is committed with the
//! rows. Tables are never replaced behind the backs of those who use them: see [`beside`]. Every writing transaction
//! begins by finding that the turn is still ours: see [`turn`].

mod batch;
mod beside;
mod careful;
mod check;
mod create;
mod deferred;
mod dialect;
mod form;
mod held;
mod index;
mod load;
mod look;
mod merge;
mod rejects;
mod remove;
pub(crate) mod settings;
mod state;
mod statements;
mod turn;

use crate::as_target::batch::{PostgresMerge, Writer};
use crate::as_target::settings::TargetSettings;
use crate::wire::address::PostgresAddress;
use crate::wire::connect::{Session, watched};
use crate::wire::server;
use arrow::array::RecordBatch;
use async_trait::async_trait;
use beside::Replaced;
use create::Into;
use dialect::PostgresDialect;
use form::{Form, References, find};
use load::Loader;
use look::PostgresTargetLook;
use moorage_adapter::{
    AdapterError, Committing, DecideTarget, Doing, Events, ExistingTable, Guarantees, Holder, InspectTarget,
    LoadTarget, LoadedTable, MemoKind, Merge, RecallTarget, Reject, Replacing, Result, Settle, Settled, Step,
    StoredTable, Surveyed, TableState, TakeFrom, TargetAddress, TargetLook, Turn, WriteTarget,
};
use moorage_core::change::block::ChangeBlock;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::model::described::SourceIdentity;
use moorage_core::model::finding::Finding;
use moorage_core::plan::dialect::TargetDialect;
use moorage_core::plan::table::TablePlan;
use std::sync::{Arc, PoisonError};
use tokio::sync::{Mutex, OwnedMutexGuard};
use turn::Mine;

/// Building a key sorts all its values: with the server's usual 64 MiB that of five million rows goes over the disk.
const BUILD_MEMORY: &str = "SELECT set_config('maintenance_work_mem', '256MB', false) WHERE pg_size_bytes(current_setting('maintenance_work_mem')) < 268435456";

/// A load that ended but cannot take its table's place before tables that it refers to.
struct Pending {
    plan: TablePlan,
    end: LoadedTable,
}

/// A PostgreSQL database as a target.
pub struct PostgresTarget {
    address: PostgresAddress,
    settings: TargetSettings,
    dialect: PostgresDialect,
    writer: Arc<Mutex<Option<Writer>>>,
    /// The turn, once it was taken.
    mine: Arc<std::sync::Mutex<Option<Mine>>>,
    loader: Loader,
    pending: Mutex<Vec<Pending>>,
    /// A session for looking, kept open between calls.
    asking: std::sync::Mutex<Option<Session>>,
}

impl PostgresTarget {
    /// A target at `address`. Nothing is made before the first write.
    pub fn new(address: PostgresAddress, settings: TargetSettings) -> Self {
        let mine = Arc::default();
        let loader = Loader::new(&address, settings.connections, Arc::clone(&mine));
        let dialect = PostgresDialect { schema: settings.schema.clone() };
        Self {
            address,
            settings,
            dialect,
            writer: Arc::default(),
            mine,
            loader,
            pending: Mutex::default(),
            asking: std::sync::Mutex::default(),
        }
    }

    /// A session for a question; it is kept for the next one unless it broke.
    async fn ask(&self) -> Result<Asking<'_>> {
        let kept = self.asking.lock().unwrap_or_else(PoisonError::into_inner).take();
        let session = match kept.filter(|s| !s.client().is_closed()) {
            Some(session) => {
                // Whoever had it may have been broken off in the middle of a transaction.
                session.run("beginning afresh", "ROLLBACK").await?;
                session
            }
            None => {
                let session = Session::open(&self.address).await?;
                session.run("setting up a session", &self.limits()).await?;
                session
            }
        };
        Ok(Asking { target: self, session: Some(session) })
    }

    /// Time limits, and commits that reach the disk whatever the role's settings say.
    fn limits(&self) -> String {
        let lock = self.settings.lock_timeout.as_millis();
        format!(
            "SET lock_timeout = {lock}; SELECT set_config('synchronous_commit', 'on', false) WHERE current_setting('synchronous_commit') = 'off'"
        )
    }

    /// A new session for writing merges.
    async fn open_writer(&self) -> Result<Writer> {
        let session = Session::open(&self.address).await?;
        // Rows are looked up by their keys; nothing here is won by reading whole tables.
        let sql = format!(
            "{}; SET statement_timeout = {}; SET jit = off; SET enable_hashjoin = off; SET enable_mergejoin = off; SET enable_seqscan = off",
            self.limits(),
            self.settings.statement_timeout.as_millis()
        );
        session.run("setting up the writing session", &sql).await?;
        Ok(Writer::new(session))
    }

    /// The writing session, with the turn; a new one if it is gone and nobody has come in between.
    async fn writer(&self) -> Result<OwnedMutexGuard<Option<Writer>>> {
        let mut guard = self.writer.clone().lock_owned().await;
        if guard.as_ref().is_none_or(|w| w.session.client().is_closed()) {
            let mine = self.mine()?;
            let writer = self.open_writer().await?;
            turn::retake(&writer.session, &mine).await?;
            *guard = Some(writer);
        }
        Ok(guard)
    }

    /// The turn that was taken.
    fn mine(&self) -> Result<Mine> {
        self.mine.lock().unwrap_or_else(PoisonError::into_inner).clone().ok_or_else(turn::without_turn)
    }

    /// Opens a transaction that writes; the turn stays ours until it ends. `more` goes behind BEGIN.
    async fn begin_writing(&self, session: &Session, more: &str) -> Result<()> {
        let mine = self.mine()?;
        session.run("opening a transaction", &format!("BEGIN{more}")).await?;
        let fenced = turn::fence(session, &mine).await;
        if fenced.is_err() {
            session.run("undoing that", "ROLLBACK").await?;
        }
        fenced
    }

    /// Where a table's rows are to be loaded.
    async fn place(&self, session: &Session, plan: &TablePlan, into: Into) -> Result<()> {
        let found = beside::id(session, plan).await?;
        let form = match into {
            Into::Beside => beside::form(session, plan, found.id).await?,
            Into::Table | Into::Kept => Form::new(plan, dialect::relation(&plan.target), &found)?,
        };
        self.loader.place(&plan.target, into, form);
        Ok(())
    }

    /// Puts loaded rows in their tables' places, in one transaction, when no table that they refer to, or that
    /// refers to them, is still being loaded. A table that waits to be read and that this run does not read is not
    /// waited for.
    async fn replace_loaded(&self, pipeline: &str) -> Result<()> {
        let mut pending = self.pending.lock().await;
        if pending.is_empty() {
            return Ok(());
        }
        let asking = self.ask().await?;
        let session = asking.session()?;
        let stored = state::tables(session, pipeline).await?;
        let is_loading = |target: &str| self.loader.where_to(target).is_some();
        let targets: Vec<&str> = stored.iter().map(|s| s.plan.target.as_str()).collect();
        let found = find(session, &targets).await?;
        let numbers: Vec<(u32, &str)> =
            found.iter().zip(&targets).filter_map(|(f, t)| Some((f.as_ref()?.id, *t))).collect();
        let ids: Vec<u32> = numbers.iter().map(|(id, _)| *id).collect();
        let references = References::read(session, &ids).await?;
        // New rows refer to parents that are still to come; the old rows of children refer to what is to go.
        let waits = |p: &Pending| {
            let id = numbers.iter().find(|(_, t)| *t == p.plan.target).map_or(0, |(id, _)| *id);
            let is_tied = |other: u32| {
                references.parents(id).contains(&other) || references.parents(other).contains(&id)
            };
            numbers.iter().any(|(other, target)| is_tied(*other) && is_loading(target))
        };
        if pending.iter().any(waits) {
            return Ok(());
        }
        let order = references.order(&ids);
        let place = |p: &Pending| {
            let id = numbers.iter().find(|(_, t)| *t == p.plan.target).map_or(0, |(id, _)| *id);
            order.iter().position(|o| *o == id)
        };
        let mut due = std::mem::take(&mut *pending);
        due.sort_by_key(place);
        self.begin_writing(session, "; SET CONSTRAINTS ALL DEFERRED").await?;
        let done = async {
            let mut tables = Vec::with_capacity(due.len());
            for Pending { plan, end } in &due {
                let found = beside::id(session, plan).await?;
                beside::ready(session, plan, found.id).await?;
                tables.push(Replaced { plan, found, end });
            }
            beside::replace(session, &tables).await
        };
        end_writing(session, "putting loaded rows in place".into(), done.await).await
    }
}

/// Commits what went well, and undoes what did not.
async fn end_writing<T>(session: &Session, doing: Doing, done: Result<T>) -> Result<T> {
    let sql = if done.is_ok() { "COMMIT" } else { "ROLLBACK" };
    let ended = session.run(doing, sql).await;
    let done = done?;
    ended.map(|()| done)
}

/// A session that goes back when it is not needed any more.
struct Asking<'a> {
    target: &'a PostgresTarget,
    session: Option<Session>,
}

impl Asking<'_> {
    fn session(&self) -> Result<&Session> {
        self.session.as_ref().ok_or_else(|| AdapterError::refused("asking the target", "the session is gone"))
    }
}

impl Drop for Asking<'_> {
    fn drop(&mut self) {
        if let Some(session) = self.session.take() {
            *self.target.asking.lock().unwrap_or_else(PoisonError::into_inner) = Some(session);
        }
    }
}

#[async_trait]
impl InspectTarget for PostgresTarget {
    fn address(&self) -> TargetAddress {
        TargetAddress {
            system: "PostgreSQL".into(),
            host: self.address.host_text(),
            database: self.address.database.clone(),
            user: self.address.user.clone(),
        }
    }

    async fn identity(&self) -> Result<Option<SourceIdentity>> {
        Ok(Some(server::place(self.ask().await?.session()?).await?))
    }

    fn dialect(&self) -> &(dyn TargetDialect + Sync) {
        &self.dialect
    }

    async fn probe(&self, _bytes: u64) -> Result<Vec<Finding>> {
        let asking = self.ask().await?;
        check::probe(&self.address, asking.session()?, &self.settings).await
    }

    fn set_up_script(&self, role: Option<&str>, undo: bool) -> String {
        check::set_up_script(&self.address, &self.settings, role, undo)
    }

    async fn list(&self) -> Result<Vec<String>> {
        create::list(self.ask().await?.session()?).await
    }

    async fn describe(&self, table: &str) -> Result<Option<ExistingTable>> {
        create::describe(self.ask().await?.session()?, table).await
    }

    fn definition(&self, plan: &TablePlan) -> String {
        statements::definition(plan)
    }

    async fn count(&self, table: &str) -> Result<u64> {
        create::count(self.ask().await?.session()?, table).await
    }

    fn guarantees(&self) -> Guarantees {
        Guarantees { committing: Committing::Together, replacing: Replacing::AtOnce, lacks: &[] }
    }
}

#[async_trait]
impl RecallTarget for PostgresTarget {
    async fn checkpoint(&self, pipeline: &str) -> Result<Option<Checkpoint>> {
        let asking = self.ask().await?;
        let session = asking.session()?;
        if state::exists(session).await? { state::checkpoint(session, pipeline).await } else { Ok(None) }
    }

    async fn tables(&self, pipeline: &str) -> Result<Vec<StoredTable>> {
        let asking = self.ask().await?;
        let session = asking.session()?;
        if state::exists(session).await? { state::tables(session, pipeline).await } else { Ok(Vec::new()) }
    }

    async fn look(&self, pipeline: &str) -> Result<Option<Box<dyn TargetLook>>> {
        let look = PostgresTargetLook::open(&self.address, pipeline).await?;
        Ok(look.map(|look| Box::new(look) as Box<dyn TargetLook>))
    }

    async fn holder(&self, pipeline: &str) -> Result<Option<Holder>> {
        let asking = self.ask().await?;
        turn::holder(asking.session()?, pipeline).await
    }

    async fn memos(&self, pipeline: &str, kind: MemoKind) -> Result<Vec<(String, Vec<u8>)>> {
        state::memos(self.ask().await?.session()?, pipeline, kind).await
    }

    async fn settled(&self, _: &str) -> Result<Option<Checkpoint>> {
        Ok(None)
    }
}

#[async_trait]
impl WriteTarget for PostgresTarget {
    async fn take_turn(
        &self,
        pipeline: &str,
        holder: &Holder,
        from: TakeFrom<'_>,
        make: bool,
        events: &Events,
    ) -> Result<Turn> {
        {
            let asking = self.ask().await?;
            if !make && !state::exists(asking.session()?).await? {
                return Ok(Turn::NothingThere);
            }
            state::create(asking.session()?).await?;
        }
        let mut guard = self.writer.clone().lock_owned().await;
        // What an earlier turn of this process has open is closed, and so undone.
        *guard = None;
        self.loader.rest_all();
        self.pending.lock().await.clear();
        let writer = self.open_writer().await?;
        let taken = turn::take(&self.address, &writer.session, pipeline, holder, from, events).await?;
        let told = turn::told(&taken);
        if let Ok(mine) = taken {
            *self.mine.lock().unwrap_or_else(PoisonError::into_inner) = Some(mine);
            *guard = Some(writer);
        }
        Ok(told)
    }

    async fn renew_turn(&self, _: &str) -> Result<()> {
        // Where a batch is open, the session is there.
        match self.writer.clone().try_lock_owned() {
            Ok(guard) => {
                drop(guard);
                self.writer().await.map(|_| ())
            }
            Err(_) => Ok(()),
        }
    }

    async fn end_turn(&self, _: &str) -> Result<()> {
        let Some(mine) = self.mine.lock().unwrap_or_else(PoisonError::into_inner).take() else {
            return Ok(());
        };
        let asking = self.ask().await?;
        let ended = turn::end(asking.session()?, &mine).await;
        self.loader.rest_all();
        *self.writer.lock().await = None;
        ended
    }

    async fn save_checkpoint(&self, checkpoint: &Checkpoint) -> Result<()> {
        let asking = self.ask().await?;
        let session = asking.session()?;
        self.begin_writing(session, "").await?;
        let saved = state::save_checkpoint(session, checkpoint).await;
        end_writing(session, "saving the checkpoint".into(), saved).await
    }

    async fn begin(&self, from: &Checkpoint) -> Result<Box<dyn Merge>> {
        let writer = self.writer().await?;
        Ok(Box::new(PostgresMerge::begin(writer, self.mine()?, from).await?))
    }
}

#[async_trait]
impl LoadTarget for PostgresTarget {
    async fn survey(&self, pipeline: &str, plans: &[TablePlan]) -> Result<Vec<Surveyed>> {
        create::survey(self.ask().await?.session()?, pipeline, plans).await
    }

    async fn check(&self, pipeline: &str, plan: &TablePlan) -> Result<()> {
        create::check(self.ask().await?.session()?, pipeline, plan).await
    }

    async fn create(&self, pipeline: &str, plan: &TablePlan) -> Result<()> {
        let asking = self.ask().await?;
        let session = asking.session()?;
        self.loader.forget(&plan.target);
        self.pending.lock().await.retain(|p| p.plan.target != plan.target);
        self.begin_writing(session, "").await?;
        let into = create::create(session, pipeline, plan).await;
        let into = end_writing(session, Doing::to("making table", &plan.target), into).await?;
        self.place(session, plan, into).await
    }

    async fn create_again(&self, _: &str, plan: &TablePlan) -> Result<()> {
        let asking = self.ask().await?;
        let session = asking.session()?;
        self.loader.forget(&plan.target);
        self.begin_writing(session, "").await?;
        let made = async {
            let found = beside::id(session, plan).await?;
            beside::create(session, plan, &found).await
        };
        end_writing(session, Doing::to("making room beside table", &plan.target), made.await).await?;
        self.place(session, plan, Into::Beside).await
    }

    async fn ready_again(&self, plan: &TablePlan) -> Result<()> {
        self.loader.finish(plan).await?;
        self.loader.rest();
        let asking = self.ask().await?;
        let session = asking.session()?;
        self.begin_writing(session, "").await?;
        let ready = async {
            let found = beside::id(session, plan).await?;
            beside::ready(session, plan, found.id).await.map(|_| ())
        };
        end_writing(session, "building the key of what was loaded".into(), ready.await).await
    }

    async fn drop_again(&self, plan: &TablePlan) -> Result<()> {
        self.loader.forget(&plan.target);
        let asking = self.ask().await?;
        let session = asking.session()?;
        self.begin_writing(session, "").await?;
        let dropped = async {
            let found = beside::id(session, plan).await?;
            beside::drop(session, found.id).await
        };
        end_writing(session, "removing what was loaded beside".into(), dropped.await).await
    }

    async fn load(&self, plan: &TablePlan, rows: RecordBatch) -> Result<()> {
        watched(&self.address, &Doing::to("loading table", &plan.target), self.loader.load(plan, &rows)).await
    }

    async fn finish_load(&self, pipeline: &str, plan: &TablePlan, end: LoadedTable) -> Result<()> {
        self.loader.finish(plan).await?;
        if self.loader.where_to(&plan.target) == Some(Into::Beside) {
            // Known as loaded before it is forgotten as loading: others look at both meanwhile.
            self.pending.lock().await.push(Pending { plan: plan.clone(), end });
            self.loader.forget(&plan.target);
            self.loader.rest();
            return self.replace_loaded(pipeline).await;
        }
        let session = Session::open(&self.address).await?;
        session.run("setting up a session", &format!("{}; {BUILD_MEMORY}", self.limits())).await?;
        self.begin_writing(&session, "").await?;
        let done = create::finish(&session, plan, &end).await;
        end_writing(&session, Doing::to("finishing table", &plan.target), done).await?;
        create::analyze(&session, plan, &end).await;
        self.loader.forget(&plan.target);
        self.loader.rest();
        self.replace_loaded(pipeline).await
    }

    async fn remember_captured_by(&self, pipeline: &str, tables: &[(String, String)]) -> Result<()> {
        let asking = self.ask().await?;
        let session = asking.session()?;
        self.begin_writing(session, "").await?;
        let done = state::remember_captured_by(session, pipeline, tables).await;
        end_writing(session, "remembering what captures tables".into(), done).await
    }
}

#[async_trait]
impl DecideTarget for PostgresTarget {
    async fn forget(&self, pipeline: &str, tables: &[String], checkpoint: bool) -> Result<()> {
        let asking = self.ask().await?;
        let session = asking.session()?;
        if !state::exists(session).await? {
            return Ok(());
        }
        self.begin_writing(session, "").await?;
        let done = state::forget(session, pipeline, tables, checkpoint).await;
        end_writing(session, "forgetting tables".into(), done).await
    }

    async fn leave(&self, pipeline: &str, tables: &[String]) -> Result<()> {
        let asking = self.ask().await?;
        let session = asking.session()?;
        self.begin_writing(session, "").await?;
        let done = state::set_state(session, pipeline, tables, TableState::Gone).await;
        end_writing(session, "noting that tables are gone".into(), done).await
    }

    async fn let_go(&self, pipeline: &str, tables: &[String], remove: bool) -> Result<Vec<Step>> {
        let asking = self.ask().await?;
        let session = asking.session()?;
        self.begin_writing(session, "").await?;
        let done = remove::let_go(session, pipeline, tables, remove).await;
        end_writing(session, "letting go of tables".into(), done).await
    }

    async fn teardown(&self, pipeline: &str, dry: bool) -> Result<Vec<Step>> {
        let asking = self.ask().await?;
        let session = asking.session()?;
        if dry || !state::exists(session).await? {
            return remove::teardown(session, pipeline, true).await;
        }
        self.begin_writing(session, "").await?;
        let done = remove::teardown(session, pipeline, false).await;
        end_writing(session, "removing tables".into(), done).await
    }

    async fn rejects(&self, pipeline: &str) -> Result<Vec<Reject>> {
        rejects::list(self.ask().await?.session()?, pipeline).await
    }

    async fn reject(&self, pipeline: &str, id: i64) -> Result<Option<(Reject, ChangeBlock)>> {
        rejects::one(self.ask().await?.session()?, pipeline, id).await
    }

    async fn settle(&self, pipeline: &str, ids: Option<&[i64]>, how: Settle) -> Result<Settled> {
        // Beside whoever has the turn: the checkpoint's row keeps the two apart.
        let writer = self.open_writer().await?;
        rejects::settle(&writer.session, pipeline, ids, how).await
    }
}

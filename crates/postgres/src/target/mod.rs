//! PostgreSQL as a target.
//!
//! One session writes merges; several load snapshots; looks and everything else have sessions of their own. What
//! a pipeline remembers is in the schema `moorage_state` of the same database, so that it is committed with the
//! rows. Tables are never replaced behind the backs of those who use them: see [`again`].

mod again;
mod batch;
mod binary;
mod careful;
mod create;
mod dialect;
mod encode;
mod form;
mod load;
mod look;
mod merge;
mod meta;
mod probe;
mod rejects;
mod trouble;

use crate::address::PostgresAddress;
use crate::capture;
use crate::connect::Session;
use arrow::array::RecordBatch;
use async_trait::async_trait;
use create::Into;
use dialect::PostgresDialect;
use form::{Form, References, find};
use load::Loader;
use look::PostgresTargetLook;
use merge::{PostgresMerge, Writer};
use moorage_adapter::{
    AdapterError, ExistingTable, LoadedTable, Merge, Reject, Result, Settle, Settled, Step, StoredTable,
    Surveyed, Target, TargetAddress, TargetLook,
};
use moorage_core::change::ChangeBlock;
use moorage_core::checkpoint::{Checkpoint, Durable, SourceIdentity};
use moorage_core::finding::Finding;
use moorage_core::plan::{TablePlan, TargetDialect};
use std::sync::{Arc, PoisonError};
use std::time::Duration;
use tokio::sync::{Mutex, OwnedMutexGuard};

/// How a target is used.
#[derive(Clone, Debug)]
pub struct TargetSettings {
    /// The schema of tables for which none is named.
    pub schema: String,
    /// How long a statement waits for a lock; zero for ever.
    pub lock_timeout: Duration,
    /// How long a statement of a merge may take; zero for ever.
    pub statement_timeout: Duration,
    /// How many sessions load snapshots (at least 1).
    pub connections: usize,
}

impl Default for TargetSettings {
    fn default() -> Self {
        Self {
            schema: "public".into(),
            lock_timeout: Duration::from_secs(30),
            statement_timeout: Duration::ZERO,
            connections: 4,
        }
    }
}

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
    loader: Loader,
    pending: Mutex<Vec<Pending>>,
    /// A session for looking, kept open between calls.
    asking: std::sync::Mutex<Option<Session>>,
}

impl PostgresTarget {
    /// A target at `address`. Nothing is made before the first write.
    pub fn new(address: PostgresAddress, settings: TargetSettings) -> Self {
        let loader = Loader::new(&address, settings.connections);
        let dialect = PostgresDialect { schema: settings.schema.clone() };
        Self {
            address,
            settings,
            dialect,
            writer: Arc::default(),
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

    /// The writing session, opened if it is not.
    async fn writer(&self) -> Result<OwnedMutexGuard<Option<Writer>>> {
        let mut guard = self.writer.clone().lock_owned().await;
        if guard.as_ref().is_none_or(|w| w.session.client().is_closed()) {
            let session = Session::open(&self.address).await?;
            meta::create(&session).await?;
            // Rows are looked up by their keys; nothing here is won by reading whole tables.
            let sql = format!(
                "{}; SET statement_timeout = {}; SET jit = off; SET enable_hashjoin = off; SET enable_mergejoin = off; SET enable_seqscan = off",
                self.limits(),
                self.settings.statement_timeout.as_millis()
            );
            session.run("setting up the writing session", &sql).await?;
            *guard = Some(Writer::new(session));
        }
        Ok(guard)
    }

    /// Where a table's rows are to be loaded.
    async fn place(&self, session: &Session, plan: &TablePlan, into: Into) -> Result<()> {
        let found = again::id(session, plan).await?;
        let form = match into {
            Into::Beside => again::form(session, plan, found.id).await?,
            Into::Table | Into::Kept => Form::new(plan, dialect::relation(&plan.target), &found)?,
        };
        self.loader.place(&plan.target, into, form);
        Ok(())
    }

    /// Puts loaded rows in their tables' places, in one transaction, when no table that they refer to is still
    /// being loaded.
    async fn replace_loaded(&self, pipeline: &str, plan: &TablePlan, end: LoadedTable) -> Result<()> {
        let mut pending = self.pending.lock().await;
        pending.push(Pending { plan: plan.clone(), end });
        let asking = self.ask().await?;
        let session = asking.session()?;
        let stored = meta::tables(session, pipeline).await?;
        let is_loading = |target: &str| {
            stored.iter().any(|s| s.plan.target == target && s.state == moorage_adapter::TableState::Loading)
                && !pending.iter().any(|p| p.plan.target == target)
        };
        let targets: Vec<&str> = stored.iter().map(|s| s.plan.target.as_str()).collect();
        let found = find(session, &targets).await?;
        let numbers: Vec<(u32, &str)> =
            found.iter().zip(&targets).filter_map(|(f, t)| Some((f.as_ref()?.id, *t))).collect();
        let ids: Vec<u32> = numbers.iter().map(|(id, _)| *id).collect();
        let references = References::read(session, &ids).await?;
        let name = |id: u32| numbers.iter().find(|(i, _)| *i == id).map(|(_, target)| *target);
        let waits = |p: &Pending| {
            let id = numbers.iter().find(|(_, t)| *t == p.plan.target).map_or(0, |(id, _)| *id);
            references.parents(id).iter().filter_map(|parent| name(*parent)).any(is_loading)
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
        session.run("opening a transaction", "BEGIN; SET CONSTRAINTS ALL DEFERRED").await?;
        let done = async {
            for Pending { plan, end } in &due {
                let found = again::id(session, plan).await?;
                again::ready(session, plan, found.id).await?;
                again::replace(session, plan, &found, end).await?;
            }
            Ok(())
        };
        let done = done.await;
        let sql = if done.is_ok() { "COMMIT" } else { "ROLLBACK" };
        session.run("putting loaded rows in place", sql).await?;
        done
    }
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
impl Target for PostgresTarget {
    fn address(&self) -> TargetAddress {
        TargetAddress {
            system: "PostgreSQL".into(),
            host: self.address.host_text(),
            database: self.address.database.clone(),
            user: self.address.user.clone(),
        }
    }

    async fn identity(&self) -> Result<Option<SourceIdentity>> {
        Ok(Some(capture::place(self.ask().await?.session()?).await?))
    }

    fn dialect(&self) -> &(dyn TargetDialect + Sync) {
        &self.dialect
    }

    async fn probe(&self, _bytes: u64) -> Result<Vec<Finding>> {
        let asking = self.ask().await?;
        probe::probe(&self.address, asking.session()?, &self.settings).await
    }

    fn set_up_script(&self, undo: bool) -> String {
        probe::set_up_script(&self.address, &self.settings, undo)
    }

    async fn list(&self) -> Result<Vec<String>> {
        create::list(self.ask().await?.session()?).await
    }

    async fn survey(&self, pipeline: &str, plans: &[TablePlan]) -> Result<Vec<Surveyed>> {
        create::survey(self.ask().await?.session()?, pipeline, plans).await
    }

    async fn describe(&self, table: &str) -> Result<Option<ExistingTable>> {
        create::describe(self.ask().await?.session()?, table).await
    }

    fn definition(&self, plan: &TablePlan) -> String {
        create::definition(plan)
    }

    async fn checkpoint(&self, pipeline: &str) -> Result<Option<Checkpoint>> {
        let asking = self.ask().await?;
        let session = asking.session()?;
        if meta::exists(session).await? { meta::checkpoint(session, pipeline).await } else { Ok(None) }
    }

    async fn tables(&self, pipeline: &str) -> Result<Vec<StoredTable>> {
        let asking = self.ask().await?;
        let session = asking.session()?;
        if meta::exists(session).await? { meta::tables(session, pipeline).await } else { Ok(Vec::new()) }
    }

    async fn look(&self, pipeline: &str) -> Result<Option<Box<dyn TargetLook>>> {
        let look = PostgresTargetLook::open(&self.address, pipeline).await?;
        Ok(look.map(|look| Box::new(look) as Box<dyn TargetLook>))
    }

    async fn count(&self, table: &str) -> Result<u64> {
        create::count(self.ask().await?.session()?, table).await
    }

    async fn save_checkpoint(&self, checkpoint: &Checkpoint) -> Result<Durable> {
        let asking = self.ask().await?;
        let session = asking.session()?;
        meta::create(session).await?;
        meta::save_checkpoint(session, checkpoint).await?;
        Ok(Durable::committed(checkpoint.clone()))
    }

    async fn check(&self, pipeline: &str, plan: &TablePlan) -> Result<()> {
        create::check(self.ask().await?.session()?, pipeline, plan).await
    }

    async fn create(&self, pipeline: &str, plan: &TablePlan) -> Result<()> {
        let asking = self.ask().await?;
        let session = asking.session()?;
        meta::create(session).await?;
        self.loader.forget(&plan.target);
        self.pending.lock().await.retain(|p| p.plan.target != plan.target);
        let into = create::create(session, pipeline, plan).await?;
        self.place(session, plan, into).await
    }

    async fn create_again(&self, _: &str, plan: &TablePlan) -> Result<()> {
        let asking = self.ask().await?;
        let session = asking.session()?;
        self.loader.forget(&plan.target);
        let found = again::id(session, plan).await?;
        again::create(session, plan, &found).await?;
        self.place(session, plan, Into::Beside).await
    }

    async fn ready_again(&self, plan: &TablePlan) -> Result<()> {
        self.loader.finish(plan).await?;
        self.loader.rest();
        let asking = self.ask().await?;
        let session = asking.session()?;
        let found = again::id(session, plan).await?;
        again::ready(session, plan, found.id).await.map(|_| ())
    }

    async fn drop_again(&self, plan: &TablePlan) -> Result<()> {
        self.loader.forget(&plan.target);
        let asking = self.ask().await?;
        let session = asking.session()?;
        let found = again::id(session, plan).await?;
        again::drop(session, found.id).await
    }

    async fn load(&self, plan: &TablePlan, rows: RecordBatch) -> Result<()> {
        self.loader.load(plan, &rows).await
    }

    async fn finish_load(&self, pipeline: &str, plan: &TablePlan, end: LoadedTable) -> Result<()> {
        self.loader.finish(plan).await?;
        let into = self.loader.where_to(&plan.target);
        self.loader.forget(&plan.target);
        self.loader.rest();
        if into == Some(Into::Beside) {
            return self.replace_loaded(pipeline, plan, end).await;
        }
        let session = Session::open(&self.address).await?;
        session.run("setting up a session", &format!("{}; {BUILD_MEMORY}", self.limits())).await?;
        create::finish(&session, plan, &end).await
    }

    async fn begin(&self, pipeline: &str, tables: &[TablePlan]) -> Result<Box<dyn Merge>> {
        let writer = self.writer().await?;
        Ok(Box::new(PostgresMerge::begin(writer, pipeline, tables).await?))
    }

    async fn forget(&self, pipeline: &str, tables: &[String], checkpoint: bool) -> Result<()> {
        let asking = self.ask().await?;
        let session = asking.session()?;
        if !meta::exists(session).await? {
            return Ok(());
        }
        meta::forget(session, pipeline, tables, checkpoint).await
    }

    async fn teardown(&self, pipeline: &str, dry: bool) -> Result<Vec<Step>> {
        let asking = self.ask().await?;
        let session = asking.session()?;
        session.run("opening a transaction", "BEGIN").await?;
        let done = create::teardown(session, pipeline, dry).await;
        let sql = if done.is_ok() { "COMMIT" } else { "ROLLBACK" };
        session.run("removing tables", sql).await?;
        // What the session knew of the schema is gone with it.
        *self.writer.lock().await = None;
        done
    }

    async fn rejects(&self, pipeline: &str) -> Result<Vec<Reject>> {
        rejects::list(self.ask().await?.session()?, pipeline).await
    }

    async fn reject(&self, pipeline: &str, id: i64) -> Result<Option<(Reject, ChangeBlock)>> {
        rejects::one(self.ask().await?.session()?, pipeline, id).await
    }

    async fn settle(&self, pipeline: &str, ids: Option<&[i64]>, how: Settle) -> Result<Settled> {
        let mut writer = self.writer().await?;
        // Taken out: one that is broken off, or fails, is closed, which undoes what it has open.
        let open = writer.take().ok_or_else(|| AdapterError::refused("rejects", "there is no session"))?;
        let settled = rejects::settle(&open.session, pipeline, ids, how).await?;
        *writer = Some(open);
        Ok(settled)
    }
}

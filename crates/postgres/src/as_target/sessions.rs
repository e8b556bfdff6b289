//! The target with its sessions: one that writes merges, several that load, one kept for questions.

use crate::as_target::batch::Writer;
use crate::as_target::beside::{self, Replaced};
use crate::as_target::create::Into;
use crate::as_target::dialect::{self, PostgresDialect};
use crate::as_target::form::{Form, References, find};
use crate::as_target::load::Loader;
use crate::as_target::settings::TargetSettings;
use crate::as_target::state;
use crate::as_target::turn::{self, Mine};
use crate::wire::address::PostgresAddress;
use crate::wire::connect::Session;
use moorage_adapter::{AdapterError, Doing, LoadedTable, Result};
use moorage_core::plan::table::TablePlan;
use std::sync::{Arc, PoisonError};
use tokio::sync::{Mutex, OwnedMutexGuard};

/// A load that ended but cannot take its table's place before tables that it refers to.
pub(super) struct Pending {
    pub(super) plan: TablePlan,
    pub(super) end: LoadedTable,
}

/// A PostgreSQL database as a target.
pub struct PostgresTarget {
    pub(super) address: PostgresAddress,
    pub(super) settings: TargetSettings,
    pub(super) dialect: PostgresDialect,
    pub(super) writer: Arc<Mutex<Option<Writer>>>,
    /// The turn, once it was taken.
    pub(super) mine: Arc<std::sync::Mutex<Option<Mine>>>,
    pub(super) loader: Loader,
    pub(super) pending: Mutex<Vec<Pending>>,
    /// A session for looking, kept open between calls.
    pub(super) asking: std::sync::Mutex<Option<Session>>,
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
    pub(super) async fn ask(&self) -> Result<Asking<'_>> {
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
    pub(super) fn limits(&self) -> String {
        let lock = self.settings.lock_timeout.as_millis();
        format!(
            "SET lock_timeout = {lock}; SELECT set_config('synchronous_commit', 'on', false) WHERE current_setting('synchronous_commit') = 'off'"
        )
    }

    /// A new session for writing merges.
    pub(super) async fn open_writer(&self) -> Result<Writer> {
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
    pub(super) async fn writer(&self) -> Result<OwnedMutexGuard<Option<Writer>>> {
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
    pub(super) fn mine(&self) -> Result<Mine> {
        self.mine.lock().unwrap_or_else(PoisonError::into_inner).clone().ok_or_else(turn::without_turn)
    }

    /// Opens a transaction that writes; the turn stays ours until it ends. `more` goes behind BEGIN.
    pub(super) async fn begin_writing(&self, session: &Session, more: &str) -> Result<()> {
        let mine = self.mine()?;
        session.run("opening a transaction", &format!("BEGIN{more}")).await?;
        let fenced = turn::fence(session, &mine).await;
        if fenced.is_err() {
            session.run("undoing that", "ROLLBACK").await?;
        }
        fenced
    }

    /// Where a table's rows are to be loaded.
    pub(super) async fn place(&self, session: &Session, plan: &TablePlan, into: Into) -> Result<()> {
        let found = beside::id(session, plan).await?;
        let form = match into {
            Into::Beside => beside::form(session, plan, found.id).await?,
            Into::Table | Into::Kept => Form::new(plan, dialect::relation(plan.stands_in()), &found)?,
        };
        self.loader.place(&plan.target, into, form);
        Ok(())
    }

    /// Puts loaded rows in their tables' places, in one transaction, when no table that they refer to, or that
    /// refers to them, is still being loaded. A table that waits to be read and that this run does not read is not
    /// waited for.
    pub(super) async fn replace_loaded(&self, pipeline: &str) -> Result<()> {
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
        let pipeline = self.mine()?.pipeline;
        self.begin_writing(session, "; SET CONSTRAINTS ALL DEFERRED").await?;
        let done = async {
            let mut tables = Vec::with_capacity(due.len());
            for Pending { plan, end } in &due {
                let found = beside::id(session, plan).await?;
                beside::ready(session, plan, found.id).await?;
                tables.push(Replaced { plan, found, end });
            }
            beside::replace(session, &pipeline, &tables).await
        };
        end_writing(session, "putting loaded rows in place".into(), done.await).await
    }
}

/// Commits what went well, and undoes what did not.
pub(super) async fn end_writing<T>(session: &Session, doing: Doing, done: Result<T>) -> Result<T> {
    let sql = if done.is_ok() { "COMMIT" } else { "ROLLBACK" };
    let ended = session.run(doing, sql).await;
    let done = done?;
    ended.map(|()| done)
}

/// A session that goes back when it is not needed any more.
pub(super) struct Asking<'a> {
    target: &'a PostgresTarget,
    session: Option<Session>,
}

impl Asking<'_> {
    pub(super) fn session(&self) -> Result<&Session> {
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

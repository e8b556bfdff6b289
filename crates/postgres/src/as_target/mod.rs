//! PostgreSQL as a target.
//!
//! One session writes merges; several load snapshots; looks and everything else have sessions of their own. What
//! a pipeline remembers is in the schema `moorage_state` of the same database, so that it is committed with the
//! rows. Tables are never replaced behind the backs of those who use them: see [`beside`]. Every writing transaction
//! begins by finding that the turn is still ours: see [`turn`].

mod alter;
mod batch;
mod beside;
mod careful;
mod catch_up;
mod check;
mod create;
mod deferred;
mod dialect;
mod form;
mod held;
mod index;
mod kept;
mod load;
mod look;
mod merge;
mod rejects;
mod remove;
mod sessions;
pub(crate) mod settings;
mod state;
mod statements;
mod tidy;
mod turn;

pub use sessions::PostgresTarget;

use crate::as_target::batch::PostgresMerge;
use crate::wire::connect::{Session, watched};
use crate::wire::server;
use arrow::array::RecordBatch;
use async_trait::async_trait;
use chrono::{DateTime, Utc};
use create::Into;
use look::PostgresTargetLook;
use moorage_adapter::{
    Committing, DecideTarget, DependentView, Doing, Events, ExistingTable, Guarantees, Holder, InspectTarget,
    LoadTarget, LoadedTable, MemoKind, Merge, RecallTarget, Reject, Replacing, Result, Settle, Settled, Step,
    StoredTable, Surveyed, TableState, TakeFrom, TargetAddress, TargetLook, Turn, Usage, WriteTarget,
};
use moorage_core::change::block::ChangeBlock;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::drift::alter::Alteration;
use moorage_core::drift::standing::TargetColumns;
use moorage_core::model::described::SourceIdentity;
use moorage_core::model::finding::Finding;
use moorage_core::plan::dialect::TargetDialect;
use moorage_core::plan::table::TablePlan;
use moorage_core::plan::tidy::{Folded, Old};
use sessions::{Pending, end_writing};
use std::sync::PoisonError;

/// Building a key sorts all its values: with the server's usual 64 MiB that of five million rows goes over the disk.
const BUILD_MEMORY: &str = "SELECT set_config('maintenance_work_mem', '256MB', false) WHERE pg_size_bytes(current_setting('maintenance_work_mem')) < 268435456";

#[async_trait]
impl InspectTarget for PostgresTarget {
    fn usage(&self) -> Option<Usage> {
        Some(self.address.usage.so_far())
    }

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

    async fn columns(&self, table: &str) -> Result<TargetColumns> {
        create::columns(self.ask().await?.session()?, table).await
    }

    async fn views(&self, table: &str) -> Result<Vec<DependentView>> {
        create::views(self.ask().await?.session()?, table).await
    }

    fn alteration(&self, alteration: &Alteration) -> Vec<String> {
        alter::statements(alteration)
    }

    fn definition(&self, plan: &TablePlan) -> String {
        statements::definition(plan)
    }

    async fn count(&self, plan: &TablePlan) -> Result<u64> {
        create::count(self.ask().await?.session()?, plan).await
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

    async fn memo(&self, pipeline: &str, kind: MemoKind, name: &str) -> Result<Option<Vec<u8>>> {
        state::memo(self.ask().await?.session()?, pipeline, kind, name).await
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
            beside::drop(session, plan, found.id).await
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

    async fn old_rows(&self, plan: &TablePlan, since: DateTime<Utc>) -> Result<Option<Old>> {
        tidy::old_rows(self.ask().await?.session()?, plan, since).await
    }

    async fn fold(&self, plan: &TablePlan, old: &Old, part: u32, dry: bool) -> Result<Folded> {
        // On a session of its own: whoever asks meanwhile does not wait.
        let writer = self.open_writer().await?;
        tidy::fold(&writer.session, plan, old, (part, dry)).await
    }

    async fn settle(&self, pipeline: &str, ids: Option<&[i64]>, how: Settle) -> Result<Settled> {
        // Beside whoever has the turn: the checkpoint's row keeps the two apart.
        let writer = self.open_writer().await?;
        rejects::settle(&writer.session, pipeline, ids, how).await
    }
}

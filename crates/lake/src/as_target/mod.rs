//! The target itself: tables in an open format, each committed by itself, and the pipeline's ledger last.

mod batch;
mod check;
mod decide;
pub(crate) mod dialect;
pub(crate) mod ledger;
mod load;
mod look;
mod memos;
mod merge;
mod place;
mod remembered;
mod settings;
mod turn;
mod upkeep;
mod values;

use crate::as_target::batch::LakeMerge;
use crate::as_target::ledger::{Entries, Ledger, STATE};
use crate::as_target::look::LakeLook;
use crate::as_target::remembered::OwnWord;
use crate::format::names::{folder_of, table_of};
use crate::table::log::Log;
use crate::table::{KeyOf, Table};
use async_trait::async_trait;
use moorage_adapter::{
    AdapterError, Committing, DependentView, Events, ExistingTable, Guarantees, Holder, InspectTarget, Lack,
    MemoKind, Merge, RecallTarget, Replacing, Result, StoredTable, TakeFrom, TargetAddress, TargetLook, Turn,
    Usage, WriteTarget,
};
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::drift::alter::Alteration;
use moorage_core::drift::standing::TargetColumns;
use moorage_core::model::described::SourceIdentity;
use moorage_core::model::finding::Finding;
use moorage_core::plan::dialect::TargetDialect;
use moorage_core::plan::table::TablePlan;

pub use place::LakeTarget;

impl LakeTarget {
    /// A pipeline's ledger as it is now; none if it has none.
    pub(crate) async fn ledger(&self, pipeline: &str) -> Result<Option<Ledger>> {
        Ledger::open(&self.store, pipeline).await
    }

    /// How many rows live in a table.
    pub(crate) async fn count_rows(&self, log: Log) -> Result<u64> {
        let cache = self.key_cache(&log.folder, "");
        let mut table = Table::new(log, KeyOf::Nothing, cache)?;
        table.look_at_files().await?;
        Ok(table.rows())
    }
}

#[async_trait]
impl InspectTarget for LakeTarget {
    fn usage(&self) -> Option<Usage> {
        None
    }

    fn address(&self) -> TargetAddress {
        TargetAddress {
            system: "Delta".into(),
            host: String::new(),
            database: self.store.words().into(),
            user: String::new(),
        }
    }

    fn guarantees(&self) -> Guarantees {
        Guarantees {
            committing: Committing::Following,
            replacing: Replacing::AtOnce,
            lacks: &[Lack::SettingAside, Lack::Altering, Lack::Keeping, Lack::Gathering],
        }
    }

    fn dialect(&self) -> &(dyn TargetDialect + Sync) {
        self.dialect.as_ref()
    }

    fn alteration(&self, alteration: &Alteration) -> Vec<String> {
        alteration.steps.iter().map(|step| format!("{step:?}")).collect()
    }

    fn definition(&self, plan: &TablePlan) -> String {
        let columns = plan.columns.iter().map(|c| format!("  {} {}", c.name, c.declared.sql));
        format!(
            "lake table {} in folder {}:\n{}\n",
            plan.target,
            folder_of(&plan.target),
            columns.collect::<Vec<_>>().join("\n")
        )
    }

    fn set_up_script(&self, _: Option<&str>, _: bool) -> String {
        check::set_up_script(self)
    }

    async fn identity(&self) -> Result<Option<SourceIdentity>> {
        Ok(None)
    }

    async fn probe(&self, bytes: u64) -> Result<Vec<Finding>> {
        check::probe(self, bytes).await
    }

    async fn list(&self) -> Result<Vec<String>> {
        let folders = self.store.folders("").await?;
        let mut found: Vec<String> =
            folders.iter().filter(|f| *f != STATE).filter_map(|f| table_of(f)).collect();
        found.sort();
        Ok(found)
    }

    async fn describe(&self, table: &str) -> Result<Option<ExistingTable>> {
        let Some(log) = self.log(table, None).await? else { return Ok(None) };
        let schema =
            log.state.schema().map_err(|e| AdapterError::refused(format!("the schema of {table}"), e))?;
        let columns = schema.fields.iter().map(|field| (field.name.clone(), field.words())).collect();
        let owner = OwnWord::all(&log.state).into_iter().next().map(|word| word.pipeline);
        Ok(Some(ExistingTable { columns, rows: self.count_rows(log).await?, owner }))
    }

    async fn columns(&self, table: &str) -> Result<TargetColumns> {
        let Some(log) = self.log(table, None).await? else { return Ok(Vec::new()) };
        let schema =
            log.state.schema().map_err(|e| AdapterError::refused(format!("the schema of {table}"), e))?;
        Ok(schema.fields.iter().map(|field| (field.name.clone(), field.words())).collect())
    }

    async fn views(&self, _: &str) -> Result<Vec<DependentView>> {
        Ok(Vec::new())
    }

    async fn count(&self, plan: &TablePlan) -> Result<u64> {
        match self.log(&plan.target, None).await? {
            Some(log) => self.count_rows(log).await,
            None => Ok(0),
        }
    }
}

#[async_trait]
impl RecallTarget for LakeTarget {
    async fn checkpoint(&self, pipeline: &str) -> Result<Option<Checkpoint>> {
        self.ledger(pipeline).await?.map_or(Ok(None), |ledger| ledger.checkpoint())
    }

    async fn settled(&self, pipeline: &str) -> Result<Option<Checkpoint>> {
        self.ledger(pipeline).await?.map_or(Ok(None), |ledger| ledger.settled())
    }

    async fn tables(&self, pipeline: &str) -> Result<Vec<StoredTable>> {
        let Some(ledger) = self.ledger(pipeline).await? else { return Ok(Vec::new()) };
        let tables = ledger.tables()?.into_iter();
        Ok(tables.map(|(of, plan)| of.stored(plan)).collect())
    }

    async fn memos(&self, pipeline: &str, kind: MemoKind) -> Result<Vec<(String, Vec<u8>)>> {
        let Some(table) = self.memo_table(pipeline).await? else { return Ok(Vec::new()) };
        Ok(memos::of_kind(&table, kind).await?.into_iter().collect())
    }

    async fn memo(&self, pipeline: &str, kind: MemoKind, name: &str) -> Result<Option<Vec<u8>>> {
        let all = self.memos(pipeline, kind).await?;
        Ok(all.into_iter().find(|(found, _)| found == name).map(|(_, content)| content))
    }

    async fn holder(&self, pipeline: &str) -> Result<Option<Holder>> {
        self.turn_holder(pipeline).await
    }

    async fn look(&self, pipeline: &str) -> Result<Option<Box<dyn TargetLook>>> {
        let look = LakeLook::open(self, pipeline).await?;
        Ok(look.map(|look| Box::new(look) as Box<dyn TargetLook>))
    }
}

#[async_trait]
impl WriteTarget for LakeTarget {
    async fn take_turn(
        &self,
        pipeline: &str,
        holder: &Holder,
        from: TakeFrom<'_>,
        make: bool,
        events: &Events,
    ) -> Result<Turn> {
        self.take(pipeline, holder, from, make, events).await
    }

    async fn renew_turn(&self, _: &str) -> Result<()> {
        self.renew().await
    }

    async fn end_turn(&self, pipeline: &str) -> Result<()> {
        self.end(pipeline).await
    }

    async fn save_checkpoint(&self, checkpoint: &Checkpoint) -> Result<()> {
        let mut writer = self.writing().await?;
        writer.fence().await?;
        let entries = Entries { checkpoint: Some(Some(checkpoint.clone())), ..Entries::default() };
        writer.note("set up", &entries).await
    }

    async fn begin(&self, from: &Checkpoint) -> Result<Box<dyn Merge>> {
        let mut writer = self.writing().await?;
        writer.fence().await?;
        let there = writer.ledger.checkpoint()?;
        if there.as_ref() != Some(from) {
            return Err(AdapterError::checkpoint_moved(self.store.words().into(), from, there.as_ref()));
        }
        let settled = writer.ledger.settled()?.filter(|settled| settled.position != from.position);
        Ok(Box::new(LakeMerge::new(self.clone(), from.clone(), settled)))
    }
}

//! A toy kind of target: a folder with one file a table. It cannot commit several tables at once, nor the checkpoint with
//! them, and so shows that the contract carries such targets too ([`Committing::Following`]).

mod batch;
mod decide;
mod files;
mod kind;
mod load;
mod place;

use crate::carry_out::TextDialect;
use async_trait::async_trait;
use batch::FolderMerge;
use files::{Table, of_pipeline, of_table};
use moorage_adapter::{
    AdapterError, Committing, DependentView, Events, ExistingTable, Guarantees, Holder, InspectTarget, Lack,
    MemoKind, Merge, RecallTarget, Replacing, Result, StoredTable, TakeFrom, TargetAddress, TargetLook, Turn,
    Usage, WriteTarget,
};
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::drift::alter::Alteration;
use moorage_core::drift::standing::TargetColumns;
use moorage_core::model::described::SourceIdentity;
use moorage_core::model::finding::{End, Finding};
use moorage_core::plan::dialect::TargetDialect;
use moorage_core::plan::table::TablePlan;
use place::{Memos, memo_name};
use std::collections::{BTreeMap, BTreeSet};

pub use kind::FolderKind;
pub use place::FolderTarget;

#[async_trait]
impl InspectTarget for FolderTarget {
    fn usage(&self) -> Option<Usage> {
        None
    }

    fn address(&self) -> TargetAddress {
        let (nobody, database) = (String::new(), self.files.folder.display().to_string());
        TargetAddress { system: "folder".into(), host: nobody.clone(), database, user: nobody }
    }

    fn guarantees(&self) -> Guarantees {
        Guarantees {
            committing: Committing::Following,
            replacing: Replacing::AtOnce,
            lacks: &[Lack::Looks, Lack::SettingAside, Lack::Altering, Lack::Keeping, Lack::Gathering],
        }
    }

    fn dialect(&self) -> &(dyn TargetDialect + Sync) {
        &TextDialect
    }

    async fn columns(&self, table: &str) -> Result<TargetColumns> {
        Ok(self.describe(table).await?.map(|there| there.columns).unwrap_or_default())
    }

    async fn views(&self, _: &str) -> Result<Vec<DependentView>> {
        Ok(Vec::new())
    }

    fn alteration(&self, alteration: &Alteration) -> Vec<String> {
        alteration.steps.iter().map(|step| format!("{step:?}")).collect()
    }

    fn definition(&self, plan: &TablePlan) -> String {
        format!("the file {}", of_table(&plan.target))
    }

    fn set_up_script(&self, _: Option<&str>, _: bool) -> String {
        format!("-- A folder needs no more than the right to write to it: {}\n", self.files.folder.display())
    }

    async fn identity(&self) -> Result<Option<SourceIdentity>> {
        Ok(None)
    }

    async fn probe(&self, _: u64) -> Result<Vec<Finding>> {
        Ok(vec![Finding::ok(End::Target, "target", self.files.folder.display().to_string())])
    }

    async fn list(&self) -> Result<Vec<String>> {
        let of = |(_, table): (String, Table)| table.of.map(|of| of.plan.target);
        Ok(self.files.tables()?.into_iter().filter_map(of).collect())
    }

    async fn describe(&self, table: &str) -> Result<Option<ExistingTable>> {
        Ok(self.files.table(table)?.map(|there| ExistingTable {
            columns: Vec::new(),
            rows: there.rows.len() as u64,
            owner: there.of.map(|of| of.pipeline),
        }))
    }

    async fn count(&self, plan: &TablePlan) -> Result<u64> {
        Ok(self.files.table(&plan.target)?.map_or(0, |t| t.rows.len() as u64))
    }
}

#[async_trait]
impl RecallTarget for FolderTarget {
    async fn checkpoint(&self, pipeline: &str) -> Result<Option<Checkpoint>> {
        self.files.read(&of_pipeline(pipeline, "checkpoint"))
    }

    async fn memo(&self, pipeline: &str, kind: MemoKind, name: &str) -> Result<Option<Vec<u8>>> {
        let all = self.memos(pipeline, kind).await?;
        Ok(all.into_iter().find(|(found, _)| found == name).map(|(_, content)| content))
    }

    async fn settled(&self, pipeline: &str) -> Result<Option<Checkpoint>> {
        let settled: Option<Checkpoint> = self.files.read(&of_pipeline(pipeline, "settled"))?;
        let reached = self.checkpoint(pipeline).await?.map(|c| c.position);
        Ok(settled.filter(|s| Some(&s.position) != reached.as_ref()))
    }

    async fn tables(&self, pipeline: &str) -> Result<Vec<StoredTable>> {
        let carried = self.files.carried(pipeline)?;
        Ok(carried.into_iter().filter_map(|(_, table)| Some(table.of?.stored())).collect())
    }

    async fn memos(&self, pipeline: &str, kind: MemoKind) -> Result<Vec<(String, Vec<u8>)>> {
        let all: Memos = self.files.read(&of_pipeline(pipeline, "memos"))?.unwrap_or_default();
        let prefix = memo_name(kind, "");
        let of_kind =
            |(name, content): (String, Vec<u8>)| Some((name.strip_prefix(&prefix)?.into(), content));
        Ok(all.into_iter().filter_map(of_kind).collect())
    }

    async fn holder(&self, pipeline: &str) -> Result<Option<Holder>> {
        self.files.read(&of_pipeline(pipeline, "holder"))
    }

    async fn look(&self, _: &str) -> Result<Option<Box<dyn TargetLook>>> {
        Err(AdapterError::Lacking { system: "folder".into(), lack: Lack::Looks })
    }
}

#[async_trait]
impl WriteTarget for FolderTarget {
    async fn take_turn(
        &self,
        pipeline: &str,
        holder: &Holder,
        from: TakeFrom<'_>,
        make: bool,
        _: &Events,
    ) -> Result<Turn> {
        let there = self.checkpoint(pipeline).await?.is_some() || !self.files.carried(pipeline)?.is_empty();
        if !make && !there {
            return Ok(Turn::NothingThere);
        }
        // Whoever has the lock has nothing in flight.
        let _lock = self.files.lock()?;
        let name = of_pipeline(pipeline, "holder");
        let may =
            |held: &Holder| held.id == holder.id || matches!(from, TakeFrom::Gone(gone) if gone == held);
        if let Some(held) = self.files.read::<Holder>(&name)?.filter(|held| !may(held)) {
            return Ok(Turn::Held(held));
        }
        self.files.write(&name, holder)?;
        *self.mine.lock().unwrap() = Some((pipeline.into(), holder.clone()));
        Ok(Turn::Taken)
    }

    async fn renew_turn(&self, _: &str) -> Result<()> {
        Ok(())
    }

    async fn end_turn(&self, pipeline: &str) -> Result<()> {
        let ours = self.write(|files| files.remove(&of_pipeline(pipeline, "holder")));
        *self.mine.lock().unwrap() = None;
        match ours {
            Err(AdapterError::TurnLost { .. } | AdapterError::Refused { .. }) => Ok(()),
            other => other,
        }
    }

    async fn save_checkpoint(&self, checkpoint: &Checkpoint) -> Result<()> {
        self.write(|files| files.write(&of_pipeline(&checkpoint.pipeline, "checkpoint"), checkpoint))
    }

    async fn begin(&self, from: &Checkpoint) -> Result<Box<dyn Merge>> {
        self.write(|_| Ok(()))?;
        let there = self.checkpoint(&from.pipeline).await?;
        if there.as_ref() != Some(from) {
            return Err(AdapterError::checkpoint_moved("folder".into(), from, there.as_ref()));
        }
        Ok(Box::new(FolderMerge {
            settled: self.settled(&from.pipeline).await?,
            target: self.clone(),
            from: from.clone(),
            work: BTreeMap::new(),
            progress: BTreeMap::new(),
            replaced: BTreeSet::new(),
            memos: Vec::new(),
        }))
    }
}

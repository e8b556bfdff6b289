//! A toy kind of target: a folder with one file a table. It cannot commit several tables at once, nor the checkpoint with
//! them, and so shows that the contract carries such targets too ([`Committing::Following`]).

mod batch;
mod decide;
mod files;
mod kind;
mod load;

use crate::carry_out::{berth, texts};
use crate::rows::Row;
use async_trait::async_trait;
use batch::FolderMerge;
use files::{Files, Table, of_pipeline, of_table};
use moorage_adapter::{
    AdapterError, Committing, Events, ExistingTable, Guarantees, Holder, InspectTarget, Lack, Memo, MemoKind,
    Merge, RecallTarget, Replacing, Result, StoredTable, TakeFrom, TargetAddress, TargetLook, Turn,
    WriteTarget,
};
use moorage_core::Column;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::model::described::SourceIdentity;
use moorage_core::model::finding::{End, Finding};
use moorage_core::plan::dialect::{Declared, TargetDialect};
use moorage_core::plan::table::TablePlan;
use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use std::sync::{Arc, Mutex};

pub use kind::FolderKind;

/// A folder as a target. Clones share the turn.
#[derive(Clone)]
pub struct FolderTarget {
    files: Files,
    /// The turn that was taken, and of which pipeline.
    mine: Arc<Mutex<Option<(String, Holder)>>>,
}

/// By kind and name.
type Memos = BTreeMap<String, Vec<u8>>;

fn memo_name(kind: MemoKind, name: &str) -> String {
    format!("{} {name}", kind.word())
}

impl FolderTarget {
    /// A target at this folder, which is made when it is written to.
    pub fn new(folder: impl Into<PathBuf>) -> Self {
        Self::with_power(folder, usize::MAX)
    }

    /// The same, with power for so many steps: the next one and all later ones fail, and nothing is cleared away.
    pub fn with_power(folder: impl Into<PathBuf>, steps: usize) -> Self {
        Self { files: Files::new(folder.into(), steps), mine: Arc::default() }
    }

    /// Whether the power has gone.
    pub fn is_dark(&self) -> bool {
        self.files.is_dark()
    }

    /// The rows of a table of berths, sorted.
    pub fn rows(&self, table: &str) -> Vec<Row> {
        let table = self.files.table(table).unwrap().unwrap_or_default();
        let mut rows: Vec<Row> = table.rows.iter().map(berth).collect();
        rows.sort();
        rows
    }

    /// Up to which position a table holds everything, as its own file says.
    pub fn position(&self, table: &str) -> Option<String> {
        self.files.table(table).unwrap().and_then(|t| t.of).map(|of| of.position)
    }

    /// Puts a table of berths there, as if someone else had made it.
    pub fn put(&self, table: &str, rows: &[Row]) {
        let there = Table { rows: rows.iter().map(texts).collect(), adopted: true, ..Table::default() };
        self.files.write(&of_table(table), &there).unwrap();
    }

    /// Has a table take no row with this text.
    pub fn forbid(&self, table: &str, text: &str) {
        let there = self.files.table(table).unwrap().expect("a table");
        self.files.write(&of_table(table), &Table { forbidden: Some(text.into()), ..there }).unwrap();
    }

    /// Has the process that wrote to it be one that has ended, as after a power cut.
    pub fn end_process(&self, pipeline: &str) {
        let files = Files::new(self.files.folder.to_path_buf(), usize::MAX);
        let name = of_pipeline(pipeline, "holder");
        if let Some(holder) = files.read::<Holder>(&name).unwrap() {
            files.write(&name, &Holder { started: "another".into(), ..holder }).unwrap();
        }
    }

    /// The pipeline whose turn was taken, if it still is ours.
    fn fence(&self) -> Result<String> {
        let mine = self.mine.lock().unwrap().clone();
        let Some((pipeline, mine)) = mine else {
            return Err(AdapterError::refused("writing to a folder", "the turn to write was not taken"));
        };
        let holder: Option<Holder> = self.files.read(&of_pipeline(&pipeline, "holder"))?;
        match holder == Some(mine) {
            true => Ok(pipeline),
            false => Err(AdapterError::turn_lost(&pipeline, holder.as_ref())),
        }
    }

    /// Does something that writes, while all others are kept out and the turn is ours.
    fn write<T>(&self, work: impl FnOnce(&Files) -> Result<T>) -> Result<T> {
        let _lock = self.files.lock()?;
        self.fence()?;
        work(&self.files)
    }

    /// Changes a table that is there.
    fn change(&self, table: &str, change: impl FnOnce(&mut Table)) -> Result<()> {
        self.write(|files| {
            let missing =
                || AdapterError::refused("writing to a folder", format!("there is no table {table}"));
            let mut there = files.table(table)?.ok_or_else(missing)?;
            change(&mut there);
            files.write(&of_table(table), &there)
        })
    }

    fn remember(&self, pipeline: &str, memos: &[Memo]) -> Result<()> {
        let name = of_pipeline(pipeline, "memos");
        let mut all: Memos = self.files.read(&name)?.unwrap_or_default();
        for Memo { kind, name, content } in memos.iter().cloned() {
            match content {
                Some(content) => all.insert(memo_name(kind, &name), content),
                None => all.remove(&memo_name(kind, &name)),
            };
        }
        self.files.write(&name, &all)
    }
}

struct Dialect;

impl TargetDialect for Dialect {
    fn declare(&self, column: &Column, _: bool) -> Declared {
        Declared { sql: column.logical.to_string(), note: None }
    }
    fn fold(&self, identifier: &str) -> String {
        identifier.into()
    }
    fn reserved(&self, _: &str) -> Option<String> {
        None
    }
}

#[async_trait]
impl InspectTarget for FolderTarget {
    fn address(&self) -> TargetAddress {
        let (nobody, database) = (String::new(), self.files.folder.display().to_string());
        TargetAddress { system: "folder".into(), host: nobody.clone(), database, user: nobody }
    }

    fn guarantees(&self) -> Guarantees {
        Guarantees {
            committing: Committing::Following,
            replacing: Replacing::AtOnce,
            lacks: &[Lack::Looks, Lack::SettingAside],
        }
    }

    fn dialect(&self) -> &(dyn TargetDialect + Sync) {
        &Dialect
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

    async fn count(&self, table: &str) -> Result<u64> {
        Ok(self.files.table(table)?.map_or(0, |t| t.rows.len() as u64))
    }
}

#[async_trait]
impl RecallTarget for FolderTarget {
    async fn checkpoint(&self, pipeline: &str) -> Result<Option<Checkpoint>> {
        self.files.read(&of_pipeline(pipeline, "checkpoint"))
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

//! Carrying out people's decisions.

use crate::as_target::ledger::{Entries, STATE};
use crate::as_target::place::{LakeTarget, Writer};
use crate::as_target::remembered::{Remembered, own_domain};
use crate::format::action::Domain;
use crate::format::names::folder_of;
use async_trait::async_trait;
use chrono::{DateTime, Utc};
use moorage_adapter::{AdapterError, DecideTarget, Lack, Reject, Result, Settle, Settled, Step, TableState};
use moorage_core::change::block::ChangeBlock;
use moorage_core::plan::table::TablePlan;
use moorage_core::plan::tidy::{Folded, Old};

fn lacking<T>(lack: Lack) -> Result<T> {
    Err(AdapterError::Lacking { system: "delta".into(), lack })
}

impl LakeTarget {
    /// Notes a state in which tables' marks mean nothing any more.
    async fn note_state(&self, tables: &[String], state: TableState, forgets: bool) -> Result<()> {
        let mut writer = self.writing().await?;
        writer.fence().await?;
        let mut entries = Entries::default();
        for target in tables {
            if let Some(of) = writer.ledger.table(target)? {
                entries.tables.push((target.clone(), Some(Remembered { state, mark: None, ..of })));
            }
        }
        if forgets {
            (entries.checkpoint, entries.settled) = (Some(None), Some(None));
        }
        writer.note("note", &entries).await
    }

    /// Forgets a table; with `remove`, removes it, unless it was there before.
    async fn let_one_go(&self, writer: &mut Writer, target: &str, remove: bool) -> Result<Option<Step>> {
        let Some(of) = writer.ledger.table(target)? else { return Ok(None) };
        writer.tables.remove(target);
        let step = if remove && !of.adopted {
            self.store.remove_folder(&folder_of(target)).await?;
            Step::new(format!("lake table {target}"), "removed")
        } else {
            if let Some(mut log) = self.log(target, None).await? {
                let domain = own_domain(&writer.mine.pipeline, target);
                let word = Domain { domain, configuration: String::new(), removed: true };
                // Another program may come in between: what it did is none of ours.
                for _ in 0..8 {
                    if let crate::table::log::Committed::At(_) =
                        log.try_commit("let go", vec![writer.turn_txn(), word.clone().into()]).await?
                    {
                        break;
                    }
                }
            }
            Step::new(format!("lake table {target}"), "left as it is")
        };
        let entries = Entries { tables: vec![(target.into(), None)], ..Entries::default() };
        writer.note("let go", &entries).await?;
        Ok(Some(step))
    }
}

#[async_trait]
impl DecideTarget for LakeTarget {
    async fn forget(&self, _: &str, tables: &[String], checkpoint: bool) -> Result<()> {
        self.note_state(tables, TableState::NeedsResnapshot, checkpoint).await
    }

    async fn leave(&self, _: &str, tables: &[String]) -> Result<()> {
        self.note_state(tables, TableState::Gone, false).await
    }

    async fn let_go(&self, _: &str, tables: &[String], remove: bool) -> Result<Vec<Step>> {
        let mut writer = self.writing().await?;
        writer.fence().await?;
        let mut steps = Vec::new();
        for target in tables {
            steps.extend(self.let_one_go(&mut writer, target, remove).await?);
        }
        Ok(steps)
    }

    async fn rejects(&self, _: &str) -> Result<Vec<Reject>> {
        Ok(Vec::new())
    }

    async fn reject(&self, _: &str, _: i64) -> Result<Option<(Reject, ChangeBlock)>> {
        Ok(None)
    }

    async fn settle(&self, _: &str, _: Option<&[i64]>, _: Settle) -> Result<Settled> {
        lacking(Lack::SettingAside)
    }

    async fn old_rows(&self, _: &TablePlan, _: DateTime<Utc>) -> Result<Option<Old>> {
        lacking(Lack::Keeping)
    }

    async fn fold(&self, _: &TablePlan, _: &Old, _: u32, _: bool) -> Result<Folded> {
        lacking(Lack::Keeping)
    }

    async fn teardown(&self, pipeline: &str, dry: bool) -> Result<Vec<Step>> {
        let Some(ledger) = self.ledger(pipeline).await? else { return Ok(Vec::new()) };
        let state = format!("{STATE}/{}", folder_of(pipeline));
        let mut steps = Vec::new();
        if dry {
            for target in ledger.targets() {
                let adopted = ledger.table(&target)?.is_some_and(|of| of.adopted);
                let what = if adopted { "would be left as it is" } else { "would be removed" };
                steps.push(Step::new(format!("lake table {target}"), what));
            }
            steps.push(Step::new(format!("folder {state}"), "would be removed"));
            return Ok(steps);
        }
        let mut writer = self.writing().await?;
        writer.fence().await?;
        for target in ledger.targets() {
            steps.extend(self.let_one_go(&mut writer, &target, true).await?);
        }
        drop(writer);
        self.store.remove_folder(&state).await?;
        *self.writer.lock().await = None;
        steps.push(Step::new(format!("folder {state}"), "removed"));
        if self.store.folders("").await?.iter().any(|name| name == STATE)
            && self.store.list(STATE).await?.is_empty()
        {
            self.store.remove_folder(STATE).await?;
        }
        Ok(steps)
    }
}

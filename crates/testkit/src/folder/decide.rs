//! Carrying out people's decisions.

use super::files::{Files, Remembered, beside_table, of_pipeline, of_table};
use super::place::FolderTarget;
use async_trait::async_trait;
use chrono::{DateTime, Utc};
use moorage_adapter::{AdapterError, DecideTarget, Lack, Reject, Result, Settle, Settled, Step, TableState};
use moorage_core::change::block::ChangeBlock;
use moorage_core::plan::table::TablePlan;
use moorage_core::plan::tidy::{Folded, Old};

/// What a pipeline remembers of itself.
const REMEMBERED: [&str; 3] = ["checkpoint", "settled", "memos"];

/// Forgets a table; with `remove`, removes it.
fn let_go(files: &Files, name: &str, remove: bool) -> Result<()> {
    let Some(mut table) = files.table(name)? else { return Ok(()) };
    if remove && !table.adopted {
        files.remove(&beside_table(name))?;
        return files.remove(&of_table(name));
    }
    table.of = None;
    files.write(&of_table(name), &table)
}

impl FolderTarget {
    fn note(&self, tables: &[String], state: TableState) -> Result<()> {
        tables.iter().try_for_each(|name| {
            self.change(name, |table| {
                if let Some(of) = &mut table.of {
                    (of.state, of.mark) = (state, None);
                }
            })
        })
    }
}

#[async_trait]
impl DecideTarget for FolderTarget {
    async fn forget(&self, pipeline: &str, tables: &[String], checkpoint: bool) -> Result<()> {
        self.note(tables, TableState::NeedsResnapshot)?;
        let gone: &[&str] = if checkpoint { &["settled", "checkpoint"] } else { &[] };
        gone.iter().try_for_each(|what| self.write(|files| files.remove(&of_pipeline(pipeline, what))))
    }

    async fn leave(&self, _: &str, tables: &[String]) -> Result<()> {
        self.note(tables, TableState::Gone)
    }

    async fn let_go(&self, _: &str, tables: &[String], remove: bool) -> Result<Vec<Step>> {
        tables.iter().try_for_each(|name| self.write(|files| let_go(files, name, remove)))?;
        Ok(tables.iter().map(|name| Step::new(name.clone(), "let go")).collect())
    }

    async fn rejects(&self, _: &str) -> Result<Vec<Reject>> {
        Ok(Vec::new())
    }

    async fn reject(&self, _: &str, _: i64) -> Result<Option<(Reject, ChangeBlock)>> {
        Ok(None)
    }

    async fn old_rows(&self, _: &TablePlan, _: DateTime<Utc>) -> Result<Option<Old>> {
        Err(AdapterError::Lacking { system: "folder".into(), lack: Lack::Keeping })
    }

    async fn fold(&self, _: &TablePlan, _: &Old, _: u32, _: bool) -> Result<Folded> {
        Err(AdapterError::Lacking { system: "folder".into(), lack: Lack::Keeping })
    }

    async fn settle(&self, _: &str, _: Option<&[i64]>, _: Settle) -> Result<Settled> {
        Err(AdapterError::Lacking { system: "folder".into(), lack: Lack::SettingAside })
    }

    async fn teardown(&self, pipeline: &str, dry: bool) -> Result<Vec<Step>> {
        self.write(|files| {
            let carried = files.carried(pipeline)?;
            let names = carried.into_iter().filter_map(|(_, table)| {
                let Remembered { plan, .. } = table.of?;
                Some((plan.target, table.adopted))
            });
            let mut steps = Vec::new();
            for (name, adopted) in names.collect::<Vec<_>>() {
                if !dry {
                    let_go(files, &name, true)?;
                }
                if !adopted {
                    steps.push(Step::new(name, if dry { "would be removed" } else { "removed" }));
                }
            }
            if !dry {
                REMEMBERED.iter().try_for_each(|what| files.remove(&of_pipeline(pipeline, what)))?;
            }
            Ok(steps)
        })
    }
}

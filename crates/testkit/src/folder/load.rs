//! Making tables and loading snapshots.

use super::files::{Files, Remembered, Table, beside_table, of_table};
use super::place::FolderTarget;
use crate::carry_out::{TextRow, load};
use arrow::array::RecordBatch;
use async_trait::async_trait;
use moorage_adapter::{AdapterError, InspectTarget, LoadTarget, LoadedTable, Result, Surveyed, TableState};
use moorage_core::model::policy::ExistingRows;
use moorage_core::plan::table::TablePlan;

fn check(files: &Files, plan: &TablePlan) -> Result<()> {
    match files.table(&plan.target)? {
        Some(t) if t.of.is_none() && !t.rows.is_empty() && plan.existing_rows.is_none() => {
            Err(AdapterError::refused(plan.target.clone(), "it holds rows; existing_rows says nothing"))
        }
        _ => Ok(()),
    }
}

#[async_trait]
impl LoadTarget for FolderTarget {
    async fn survey(&self, _: &str, plans: &[TablePlan]) -> Result<Vec<Surveyed>> {
        let mut all = Vec::with_capacity(plans.len());
        for plan in plans {
            let of = self.files.table(&plan.target)?.and_then(|t| t.of);
            all.push(Surveyed {
                existing: self.describe(&plan.target).await?,
                state: of.as_ref().map(|of| of.state),
                maps_otherwise: of.is_some_and(|of| !of.plan.maps_like(plan)),
                problem: check(&self.files, plan).err().map(|e| e.to_string()),
            });
        }
        Ok(all)
    }

    async fn check(&self, _: &str, plan: &TablePlan) -> Result<()> {
        check(&self.files, plan)
    }

    async fn create(&self, pipeline: &str, plan: &TablePlan) -> Result<()> {
        self.write(|files| {
            check(files, plan)?;
            let before = files.table(&plan.target)?.unwrap_or_default();
            let keeps = before.adopted && plan.existing_rows == Some(ExistingRows::Keep);
            let of = Some(Remembered::new(pipeline, plan));
            let rows = if keeps { before.rows } else { Vec::new() };
            files.remove(&beside_table(&plan.target))?;
            files.write(&of_table(&plan.target), &Table { rows, of, ..before })
        })
    }

    async fn load(&self, plan: &TablePlan, new: RecordBatch) -> Result<()> {
        self.write(|files| {
            let beside = beside_table(&plan.target);
            if let Some(mut rows) = files.read::<Vec<TextRow>>(&beside)? {
                load(&mut rows, plan, &new);
                return files.write(&beside, &rows);
            }
            let mut table = files.table(&plan.target)?.unwrap_or_default();
            load(&mut table.rows, plan, &new);
            if let Some(of) = &mut table.of {
                of.state = TableState::Reading;
                of.snapshot_rows += new.num_rows() as u64;
            }
            files.write(&of_table(&plan.target), &table)
        })
    }

    async fn finish_load(&self, _: &str, plan: &TablePlan, end: LoadedTable) -> Result<()> {
        self.change(&plan.target, |table| {
            if let Some(of) = &mut table.of {
                of.state = end.state;
                of.mark = end.mark.map(|m| (m.text, m.complete_at.to_string()));
                of.captured_by = end.captured_by;
            }
        })
    }

    async fn create_again(&self, _: &str, plan: &TablePlan) -> Result<()> {
        self.write(|files| files.write(&beside_table(&plan.target), &Vec::<TextRow>::new()))
    }

    async fn ready_again(&self, _: &TablePlan) -> Result<()> {
        Ok(())
    }

    async fn drop_again(&self, plan: &TablePlan) -> Result<()> {
        self.write(|files| files.remove(&beside_table(&plan.target)))
    }

    async fn remember_captured_by(&self, _: &str, tables: &[(String, String)]) -> Result<()> {
        tables.iter().try_for_each(|(table, by)| {
            self.change(table, |table| {
                if let Some(of) = &mut table.of {
                    of.captured_by = Some(by.clone());
                }
            })
        })
    }
}

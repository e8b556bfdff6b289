//! The first rows of tables. Needs nothing but the right to read.

use crate::before::draft::plan_pipeline;
use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::{EngineError, Result};
use crate::pipeline::mappers::Mappers;
use crate::pipeline::select::find_table;
use moorage_adapter::Sample;
use moorage_core::compare::rows::LookedRows;
use moorage_core::model::near::near;
use moorage_core::plan::table::TablePlan;
use moorage_core::value::column::{value_at, value_text};
use serde::Serialize;

/// The first rows of a table.
#[derive(Clone, Debug, Serialize)]
pub struct Preview {
    /// The source table.
    pub table: String,
    /// The target table.
    pub target: String,
    /// The columns, as the target names them.
    pub columns: Vec<String>,
    /// The rows; none for null.
    pub rows: Vec<Vec<Option<String>>>,
}

fn preview_of(plan: &TablePlan, looked: &LookedRows) -> Preview {
    let cell = |row: usize, column: usize| {
        let misfit = looked.misfits.iter().find(|m| m.row == row && m.column == column);
        match misfit {
            Some(misfit) => Some(misfit.shown.clone()),
            None => value_text(value_at(looked.rows.column(column).as_ref(), row)),
        }
    };
    Preview {
        table: plan.table().to_string(),
        target: plan.stands_in().into(),
        columns: plan.columns.iter().map(|c| c.name.clone()).collect(),
        rows: (0..looked.rows.num_rows())
            .map(|row| (0..plan.columns.len()).map(|column| cell(row, column)).collect())
            .collect(),
    }
}

/// Of how many rows one has to pass a filter for a preview to be full.
const TRIED_FOR_ONE: usize = 50;

/// The first rows of tables as they are in the source; of one table, or of all that are picked.
///
/// # Errors
/// If the source has no such table, or cannot be read.
pub async fn preview_source(pipeline: &Pipeline, table: Option<&str>, rows: usize) -> Result<Vec<Preview>> {
    let found = pipeline.source.discover().await?;
    let picker = pipeline.config.picker();
    let wanted: Vec<TablePlan> = found
        .iter()
        .filter(|t| table.map_or_else(|| picker.takes(t), |name| t.name.goes_by(name)))
        .map(TablePlan::as_it_is)
        .collect();
    if let (true, Some(name)) = (wanted.is_empty(), table) {
        let near = near(name, found.iter().map(|t| t.name.to_string()));
        return Err(EngineError::NoSuchTable { table: name.into(), near: near.join(", ") });
    }
    let mut previews = Vec::new();
    for plan in wanted {
        let sample = pipeline.source.sample(&plan, rows).await?;
        previews.push(preview_of(&plan, &LookedRows::fitting(sample)));
    }
    Ok(previews)
}

/// The first rows of picked tables, as the target will hold them; of one table or of all.
///
/// # Errors
/// If the table is not picked or is refused, or the source cannot be read.
pub async fn preview(pipeline: &Pipeline, table: Option<&str>, rows: usize) -> Result<Vec<Preview>> {
    let found = pipeline.source.discover().await?;
    let planned = plan_pipeline(pipeline, &found)?;
    if let Some(name) = table
        && let Some(refused) = planned.refused.iter().find(|r| r.table.goes_by(name))
    {
        return Err(EngineError::RefusedNow { table: name.into(), why: refused.reason.to_string() });
    }
    let wanted: Vec<&TablePlan> =
        planned.tables.iter().filter(|t| table.is_none_or(|name| t.goes_by(name))).collect();
    if let (true, Some(name)) = (wanted.is_empty(), table) {
        let known = planned.tables.iter().map(|t| t.table().to_string()).collect::<Vec<_>>().join(", ");
        return Err(EngineError::UnknownTable { pipeline: pipeline.name.clone(), table: name.into(), known });
    }
    let mut previews = Vec::new();
    for plan in wanted {
        let mappers = Mappers::new([plan])?;
        let tried = if mappers.filters(plan.table()) { rows.saturating_mul(TRIED_FOR_ONE) } else { rows };
        let sample = mappers.rows(plan.table(), pipeline.source.sample(plan, tried).await?)?;
        let sample = sample.slice(0, sample.num_rows().min(rows));
        previews.push(preview_of(plan, &LookedRows::fitting(sample)));
    }
    Ok(previews)
}

/// Some rows of target tables, of one or of all.
///
/// # Errors
/// If nothing is there yet, the table is not the pipeline's, or the target cannot be read.
pub async fn preview_target(pipeline: &Pipeline, table: Option<&str>, which: Sample) -> Result<Vec<Preview>> {
    let never = || EngineError::NeverRun { pipeline: pipeline.name.clone() };
    let mut look = pipeline.target.look(&pipeline.name).await?.ok_or_else(never)?;
    let stored = look.tables().to_vec();
    let wanted = match table {
        Some(name) => vec![find_table(pipeline, &stored, name)?.plan.clone()],
        None => stored.into_iter().map(|s| s.plan).collect(),
    };
    let mut previews = Vec::new();
    for plan in wanted {
        previews.push(preview_of(&plan, &look.sample(&plan, which).await?));
    }
    Ok(previews)
}

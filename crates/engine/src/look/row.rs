//! One row on both sides. Needs nothing but the right to read.

use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::{EngineError, Result};
use crate::pipeline::mappers::Mappers;
use crate::pipeline::select::find_table;
use arrow::array::RecordBatch;
use chrono::{DateTime, Utc};
use moorage_core::Position;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::compare::rows::LookedRows;
use moorage_core::plan::table::TablePlan;
use moorage_core::value::canonical::same;
use moorage_core::value::column::{value_at, value_text};
use serde::Serialize;

/// One column of a row on both sides.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct RowColumn {
    /// Its name in the source.
    pub column: String,
    /// Its name in the target.
    pub target_column: String,
    /// Its value in the source; none for null, or if the row is not there.
    pub source: Option<String>,
    /// Its value in the target, likewise.
    pub target: Option<String>,
    /// Whether both are the same.
    pub same: bool,
}

/// One row on both sides.
#[derive(Clone, Debug, Serialize)]
pub struct RowView {
    /// In the source.
    pub table: String,
    /// In the target.
    pub target: String,
    /// The key's columns and the values that were asked for.
    pub key: Vec<(String, String)>,
    /// Whether the source has the row.
    pub in_source: bool,
    /// Whether the target has it.
    pub in_target: bool,
    /// Whether the source's row is one that the filter keeps away.
    pub filtered: bool,
    /// Whether both sides agree, also that there is no such row.
    pub agrees: bool,
    /// The columns.
    pub columns: Vec<RowColumn>,
    /// The source commit up to which the target was complete.
    pub complete_up_to: Option<DateTime<Utc>>,
    /// The target's checkpoint when it was looked at.
    #[serde(skip)]
    pub checkpoint: Option<Checkpoint>,
}

/// Looks at a row, first in the source, then in the target. A key of several columns is given as as many texts,
/// or as one with commas between them.
///
/// # Errors
/// If the table is not the pipeline's or has no key, the key has another number of values, or a side cannot
/// be read.
pub async fn row(pipeline: &Pipeline, table: &str, key: &[String]) -> Result<RowView> {
    let stored = pipeline.target.tables(&pipeline.name).await?;
    let plan = find_table(pipeline, &stored, table)?.plan.clone();
    let names = plan.schema.key_names();
    let key = match key {
        [one] if names.len() > 1 => one.split(',').map(|part| part.trim().to_string()).collect(),
        parts => parts.to_vec(),
    };
    if names.is_empty() {
        let what = "it has no key, so no row can be named; `moorage verify` compares it as a whole";
        return Err(EngineError::WrongKey { table: plan.table().to_string(), what: what.into() });
    }
    let found = pipeline.source.row(&plan, &key).await?;
    let plan = plan.comparable();
    let filtered = found.num_rows() > 0;
    let source = LookedRows::fitting(Mappers::new([&plan])?.rows(plan.table(), found)?);
    let filtered = filtered && source.rows.num_rows() == 0;
    let never = || EngineError::NeverRun { pipeline: pipeline.name.clone() };
    let mut look = pipeline.target.look(&pipeline.name).await?.ok_or_else(never)?;
    let target = look.row(&plan, &key).await?;
    Ok(RowView { filtered, ..compare(&plan, &key, &source, &target, look.checkpoint().cloned()) })
}

fn compare(
    plan: &TablePlan,
    key: &[String],
    source: &LookedRows,
    target: &LookedRows,
    checkpoint: Option<Checkpoint>,
) -> RowView {
    let (in_source, in_target) = (source.rows.num_rows() > 0, target.rows.num_rows() > 0);
    let columns: Vec<RowColumn> = plan
        .mapped
        .columns
        .iter()
        .enumerate()
        .map(|(at, column)| {
            let value = |side: &'_ RecordBatch| value_text(value_at(side.column(at).as_ref(), 0));
            let misfit = target.misfits.iter().find(|m| m.column == at);
            let alike = in_source && in_target && misfit.is_none() && {
                let (a, b) = (source.rows.column(at), target.rows.column(at));
                same(&column.logical, value_at(a.as_ref(), 0), value_at(b.as_ref(), 0))
            };
            RowColumn {
                column: plan.source_column(at),
                target_column: plan.columns[at].name.clone(),
                source: if in_source { value(&source.rows) } else { None },
                target: match misfit {
                    Some(misfit) => Some(misfit.shown.clone()),
                    None if in_target => value(&target.rows),
                    None => None,
                },
                same: alike,
            }
        })
        .collect();
    RowView {
        table: plan.table().to_string(),
        target: plan.target.clone(),
        key: plan.schema.key_names().into_iter().map(str::to_string).zip(key.iter().cloned()).collect(),
        in_source,
        in_target,
        filtered: false,
        agrees: in_source == in_target && (!in_source || columns.iter().all(|c| c.same)),
        columns,
        complete_up_to: checkpoint.as_ref().and_then(|c| c.committed_at),
        checkpoint,
    }
}

/// The steps of a row's way, as far as they have been seen.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct RowSteps {
    /// When it was first seen in the source as it is.
    pub seen_in_source: Option<DateTime<Utc>>,
    /// The source commit that the batch with it ends with.
    pub committed: Option<DateTime<Utc>>,
    /// When that had been read from the source.
    pub captured: Option<DateTime<Utc>>,
    /// When the target committed the batch.
    pub merged: Option<DateTime<Utc>>,
    /// When both sides were first seen to agree.
    pub readable: Option<DateTime<Utc>>,
}

/// Watches a row until both sides agree.
pub struct RowWatch {
    pipeline: Pipeline,
    table: String,
    key: Vec<String>,
    /// The row in the source as it was last seen, and the end of the log right after.
    wanted: Option<(Vec<Option<String>>, Position)>,
    /// What was seen so far.
    pub steps: RowSteps,
}

impl RowWatch {
    /// Begins to watch.
    pub fn new(pipeline: &Pipeline, table: &str, key: &[String]) -> Self {
        let (pipeline, table, key) = (pipeline.clone(), table.to_string(), key.to_vec());
        Self { pipeline, table, key, wanted: None, steps: RowSteps::default() }
    }

    /// Looks once more. The steps begin anew when the row has changed in the source meanwhile.
    ///
    /// # Errors
    /// As for [`row`].
    pub async fn look(&mut self) -> Result<RowView> {
        let view = row(&self.pipeline, &self.table, &self.key).await?;
        let values: Vec<Option<String>> = view.columns.iter().map(|c| c.source.clone()).collect();
        if self.wanted.as_ref().is_none_or(|(before, _)| *before != values) {
            let head =
                self.pipeline.source.head(&self.pipeline.capture(view.checkpoint.as_ref()).await?).await?;
            self.wanted = Some((values, head.position));
            self.steps = RowSteps { seen_in_source: Some(Utc::now()), ..RowSteps::default() };
        }
        if let (Some(checkpoint), Some((_, end))) = (&view.checkpoint, &self.wanted)
            && self.steps.merged.is_none()
            && (view.agrees
                || self.pipeline.source.parse_position(&checkpoint.position).is_some_and(|p| p >= *end))
        {
            self.steps.committed = checkpoint.committed_at;
            self.steps.captured = checkpoint.captured_at;
            self.steps.merged = checkpoint.merged_at;
        }
        if view.agrees && self.steps.readable.is_none() {
            self.steps.readable = Some(Utc::now());
        }
        Ok(view)
    }
}

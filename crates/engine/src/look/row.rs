//! One row on both sides. Needs nothing but the right to read.

use crate::look::restructured::{Restructured, beside, restructured};
use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::{EngineError, Result};
use crate::pipeline::mappers::Mappers;
use crate::pipeline::select::find_table;
use chrono::{DateTime, Utc};
use moorage_adapter::StoredTable;
use moorage_core::Position;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::compare::rows::LookedRows;
use moorage_core::plan::table::TablePlan;
use moorage_core::value::canonical::same;
use moorage_core::value::column::{value_at, value_text};
use serde::Serialize;
use std::time::{Duration, Instant};

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
    /// `source` or `target` where the column is on that side alone, because the table's structure has changed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub only_in: Option<&'static str>,
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
    /// What the target has not come to, if the table's structure has changed in the source: then the sides do not agree yet.
    pub structure: Option<String>,
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
    row_of(pipeline, table, key, &mut None).await
}

/// How long what was seen of a table's structure counts, for who looks at a row again and again.
const STRUCTURE_FOR: Duration = Duration::from_secs(1);

/// What was seen of a table's structure: when, beside which plan, and what has changed.
type Structures = Option<(Instant, TablePlan, Option<Restructured>)>;

async fn row_of(
    pipeline: &Pipeline,
    table: &str,
    key: &[String],
    structures: &mut Structures,
) -> Result<RowView> {
    let stored = pipeline.target.tables(&pipeline.name).await?;
    let first = find_table(pipeline, &stored, table)?;
    // Of several that stand together one may have it.
    let others = stored.iter().filter(|s| s.plan.target != first.plan.target && s.plan.goes_by(table));
    let is_one = first.plan.table().to_string() == table;
    let mut found = None;
    for stored in std::iter::once(first).chain(others.filter(|_| !is_one)) {
        let view = row_in(pipeline, stored, key, structures).await?;
        let has_it = view.in_source || view.in_target;
        if has_it || found.is_none() {
            found = Some(view);
        }
        if has_it {
            break;
        }
    }
    found.ok_or_else(|| EngineError::NeverRun { pipeline: pipeline.name.clone() })
}

async fn row_in(
    pipeline: &Pipeline,
    stored: &StoredTable,
    key: &[String],
    structures: &mut Structures,
) -> Result<RowView> {
    let plan = stored.plan.clone();
    let names = plan.schema.key_names();
    let key = match key {
        [one] if names.len() > 1 => one.split(',').map(|part| part.trim().to_string()).collect(),
        parts => parts.to_vec(),
    };
    if names.is_empty() {
        let what = "it has no key, so no row can be named; `moorage verify` compares it as a whole";
        return Err(EngineError::WrongKey { table: plan.table().to_string(), what: what.into() });
    }
    let counts = |(at, beside, _): &(Instant, TablePlan, _)| at.elapsed() < STRUCTURE_FOR && *beside == plan;
    if !structures.as_ref().is_some_and(counts) {
        *structures = Some((Instant::now(), plan.clone(), restructured(pipeline, stored).await?));
    }
    let changed = structures.as_ref().and_then(|(_, _, changed)| changed.as_ref());
    let (source_plan, structure) = match changed {
        None => (Some(plan.clone()), None),
        Some(changed) => (changed.now.clone(), changed.why.clone()),
    };
    let plan = plan.comparable();
    let source = match &source_plan {
        Some(source_plan) => Some(source_row(pipeline, source_plan, &key).await?),
        None => None,
    };
    let never = || EngineError::NeverRun { pipeline: pipeline.name.clone() };
    let mut look = pipeline.target.look(&pipeline.name).await?.ok_or_else(never)?;
    // Where a row came from is no part of the key that people know.
    let from = plan.member().filter(|(column, _)| plan.mapped.key_names().contains(column));
    let full_key: Vec<String> = key.iter().cloned().chain(from.map(|(_, from)| from.to_string())).collect();
    let full_key = if plan.is_keyed_by_text() { text_key(&plan, source.as_ref(), &key) } else { full_key };
    let rows = look.row(&plan, &full_key).await?;
    let target = OnOneSide { plan, rows, filtered: false };
    let checkpoint = look.checkpoint().cloned();
    Ok(view(key, source.as_ref(), &target, structure, checkpoint))
}

/// The key of a document: as the source's row has it, or as it was asked for.
fn text_key(plan: &TablePlan, source: Option<&OnOneSide>, key: &[String]) -> Vec<String> {
    if let Some(source) = source.filter(|source| source.is_there()) {
        let places = source.plan.mapped.identity.key().unwrap_or(&[]);
        return places.iter().map(|&at| source.shown(Some(at)).unwrap_or_default()).collect();
    }
    let text = match key {
        [one] => one.clone(),
        several => serde_json::json!(several).to_string(),
    };
    let from = plan.member().filter(|(column, _)| plan.mapped.key_names().contains(column));
    std::iter::once(text).chain(from.map(|(_, from)| from.to_string())).collect()
}

/// A row as one side has it.
struct OnOneSide {
    /// By which it was read.
    plan: TablePlan,
    rows: LookedRows,
    /// Whether there is a row that the filter keeps away.
    filtered: bool,
}

impl OnOneSide {
    fn is_there(&self) -> bool {
        self.rows.rows.num_rows() > 0
    }

    /// A value as it is shown.
    fn shown(&self, at: Option<usize>) -> Option<String> {
        let at = at.filter(|_| self.is_there())?;
        match self.rows.misfits.iter().find(|misfit| misfit.column == at) {
            Some(misfit) => Some(misfit.shown.clone()),
            None => value_text(value_at(self.rows.rows.column(at).as_ref(), 0)),
        }
    }
}

async fn source_row(pipeline: &Pipeline, plan: &TablePlan, key: &[String]) -> Result<OnOneSide> {
    let found = pipeline.source.row(plan, key).await?;
    let plan = plan.comparable();
    let is_there = found.num_rows() > 0;
    let rows = LookedRows::fitting(Mappers::new([&plan])?.rows(plan.table(), found)?);
    Ok(OnOneSide { filtered: is_there && rows.rows.num_rows() == 0, plan, rows })
}

fn view(
    key: Vec<String>,
    source: Option<&OnOneSide>,
    target: &OnOneSide,
    structure: Option<String>,
    checkpoint: Option<Checkpoint>,
) -> RowView {
    let plan = &target.plan;
    let places = beside(source.map_or(plan, |source| &source.plan), plan);
    let in_source = source.is_some_and(OnOneSide::is_there);
    let columns: Vec<RowColumn> = places.into_iter().map(|at| column(source, target, at)).collect();
    let alike = in_source == target.is_there() && (!in_source || columns.iter().all(|c| c.same));
    RowView {
        table: plan.table().to_string(),
        target: plan.stands_in().into(),
        key: plan.schema.key_names().into_iter().map(str::to_string).zip(key).collect(),
        in_source,
        in_target: target.is_there(),
        filtered: source.is_some_and(|source| source.filtered),
        agrees: alike && structure.is_none(),
        structure,
        columns,
        complete_up_to: checkpoint.as_ref().and_then(|c| c.committed_at),
        checkpoint,
    }
}

/// One column at its places on both sides, of which one may be missing.
fn column(
    source: Option<&OnOneSide>,
    target: &OnOneSide,
    (ours, theirs): (Option<usize>, Option<usize>),
) -> RowColumn {
    let both = source.zip(ours).zip(theirs).map(|((source, ours), theirs)| (source, ours, theirs));
    let same = both.is_some_and(|(source, ours, theirs)| {
        let misfits = target.rows.misfits.iter().any(|misfit| misfit.column == theirs);
        source.is_there() && target.is_there() && !misfits && {
            let (a, b) = (source.rows.rows.column(ours), target.rows.rows.column(theirs));
            same(
                &target.plan.mapped.columns[theirs].logical,
                value_at(a.as_ref(), 0),
                value_at(b.as_ref(), 0),
            )
        }
    });
    let in_source = source.zip(ours).map(|(source, at)| source.plan.source_column(at));
    let in_target = theirs.map(|at| target.plan.columns[at].name.clone());
    let only_in = match (&in_source, &in_target) {
        (Some(_), None) => Some("source"),
        (None, Some(_)) => Some("target"),
        _ => None,
    };
    RowColumn {
        column: in_source.or_else(|| theirs.map(|at| target.plan.source_column(at))).unwrap_or_default(),
        target_column: in_target
            .or_else(|| source.zip(ours).map(|(source, at)| source.plan.columns[at].name.clone()))
            .unwrap_or_default(),
        source: source.and_then(|source| source.shown(ours)),
        target: target.shown(theirs),
        same,
        only_in,
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
    structures: Structures,
    /// What was seen so far.
    pub steps: RowSteps,
}

impl RowWatch {
    /// Begins to watch.
    pub fn new(pipeline: &Pipeline, table: &str, key: &[String]) -> Self {
        let (pipeline, table, key) = (pipeline.clone(), table.to_string(), key.to_vec());
        Self { pipeline, table, key, wanted: None, structures: None, steps: RowSteps::default() }
    }

    /// Looks once more. The steps begin anew when the row has changed in the source meanwhile.
    ///
    /// # Errors
    /// As for [`row`].
    pub async fn look(&mut self) -> Result<RowView> {
        let view = row_of(&self.pipeline, &self.table, &self.key, &mut self.structures).await?;
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

//! Folding what is old in tables that keep changes.

use super::ends::Pipeline;
use super::error::{EngineError, Result};
use chrono::{DateTime, TimeDelta, Utc};
use moorage_core::model::kept_as::Keep;
use moorage_core::plan::table::TablePlan;
use moorage_core::plan::tidy::{Folded, refused};
use serde::Serialize;
use std::time::Duration;

/// What is folded.
#[derive(Clone, Copy, Debug, Default)]
pub struct TidyOptions {
    /// How old changes are that are folded; if not given, as the project file says of each table.
    pub older_than: Option<Duration>,
    /// Only says what would be done.
    pub dry: bool,
}

/// What became of a table that keeps changes.
#[derive(Clone, Debug, Serialize)]
pub struct Tidied {
    /// The source table.
    pub table: String,
    /// The target table.
    pub target: String,
    /// What was committed before this is old.
    pub before: Option<DateTime<Utc>>,
    /// What was done, or would be.
    #[serde(flatten)]
    pub folded: Folded,
    /// Why nothing is.
    pub left: Option<String>,
}

/// How far folding a table is.
#[derive(Clone, Copy, Debug)]
pub struct TidyProgress<'a> {
    /// The target table.
    pub target: &'a str,
    /// How many old rows there were.
    pub rows: u64,
    /// Parts that are done, of how many.
    pub parts: (u32, u32),
    /// What they did.
    pub folded: Folded,
}

/// Folds what is old in the tables of a pipeline that keep changes, part by part; whoever ends it in between has folded those that
/// were done, and nothing is lost or said twice. A run of the pipeline may go on meanwhile.
///
/// # Errors
/// If nothing says how old changes are to be, or the target cannot be read or written.
pub async fn tidy(
    pipeline: &Pipeline,
    options: TidyOptions,
    progress: &(dyn Fn(TidyProgress<'_>) + Sync),
) -> Result<Vec<Tidied>> {
    let stored = pipeline.target.tables(&pipeline.name).await?;
    let trails: Vec<&TablePlan> =
        stored.iter().flat_map(|stored| stored.plan.forms()).filter(|form| is_trail(form)).collect();
    let after = |plan: &TablePlan| options.older_than.or_else(|| tidy_after(pipeline, plan));
    if !trails.is_empty() && trails.iter().all(|plan| after(plan).is_none()) {
        return Err(EngineError::NoHorizon { pipeline: pipeline.name.clone() });
    }
    let now = Utc::now();
    let mut all = Vec::new();
    for plan in trails {
        let age = after(plan).and_then(|age| TimeDelta::from_std(age).ok());
        let before = age.and_then(|age| now.checked_sub_signed(age));
        let (folded, left) = match (refused(plan), before) {
            (Some(why), _) => (Folded::default(), Some(why.to_string())),
            (None, None) => {
                (Folded::default(), Some("nothing says how old its changes may become (`tidy_after`)".into()))
            }
            (None, Some(before)) => (fold(pipeline, plan, before, options.dry, progress).await?, None),
        };
        let (table, target) = (plan.table().to_string(), plan.target.clone());
        all.push(Tidied { table, target, before, folded, left });
    }
    Ok(all)
}

/// Whether a table keeps changes.
fn is_trail(plan: &TablePlan) -> bool {
    plan.kept_as.keep == Keep::Changes
}

/// How old changes become, as the project file says of a table.
pub(crate) fn tidy_after(pipeline: &Pipeline, plan: &TablePlan) -> Option<Duration> {
    let name = plan.structure.as_deref().map_or_else(|| plan.table(), |known| known.ruled_as());
    pipeline.config.picker().rule_within(name, plan.root()).tidy_after
}

async fn fold(
    pipeline: &Pipeline,
    plan: &TablePlan,
    before: DateTime<Utc>,
    dry: bool,
    progress: &(dyn Fn(TidyProgress<'_>) + Sync),
) -> Result<Folded> {
    let mut folded = Folded::default();
    let Some(old) = pipeline.target.old_rows(plan, before).await? else { return Ok(folded) };
    for part in 0..=old.parts {
        let parts = (part, old.parts + 1);
        progress(TidyProgress { target: &plan.target, rows: old.rows, parts, folded });
        folded += pipeline.target.fold(plan, &old, part, dry).await?;
    }
    Ok(folded)
}

//! Taking things back: forgetting tables so that they are read again, and removing a pipeline.

use crate::error::{EngineError, Result};
use crate::lock::PipelineLock;
use crate::pipeline::Pipeline;
use moorage_adapter::{Removed, Step, StoredTable};

/// Which tables to read again.
#[derive(Clone, Debug)]
pub enum Resnapshot {
    /// These, by source name.
    Tables(Vec<String>),
    /// All, with a new capture point.
    All,
}

/// Makes the next run read tables again from empty. The pipeline must not be running.
///
/// # Errors
/// If it runs, if a table is not one of the pipeline's, or if an end cannot be written.
pub async fn resnapshot(pipeline: &Pipeline, which: &Resnapshot) -> Result<Vec<String>> {
    let _lock = PipelineLock::take(&pipeline.state_folder, &pipeline.name)?;
    let stored = pipeline.target.tables(&pipeline.name).await?;
    let name = |s: &StoredTable| s.plan.table().to_string();
    let chosen: Vec<&StoredTable> = match which {
        Resnapshot::All => {
            pipeline.source.teardown(&pipeline.capture(), false).await?;
            stored.iter().collect()
        }
        Resnapshot::Tables(wanted) => wanted
            .iter()
            .map(|w| {
                stored.iter().find(|s| name(s) == *w).ok_or_else(|| EngineError::UnknownTable {
                    pipeline: pipeline.name.clone(),
                    table: w.clone(),
                    known: stored.iter().map(name).collect::<Vec<_>>().join(", "),
                })
            })
            .collect::<Result<_>>()?,
    };
    let targets: Vec<String> = chosen.iter().map(|s| s.plan.target.clone()).collect();
    pipeline.target.forget(&pipeline.name, &targets, matches!(which, Resnapshot::All)).await?;
    Ok(chosen.into_iter().map(name).collect())
}

/// Removes what Moorage made in the source and, if asked, in the target; with `dry` only lists it.
///
/// # Errors
/// If the pipeline runs, or an end refuses.
pub async fn teardown(pipeline: &Pipeline, with_target: bool, dry: bool) -> Result<(Removed, Vec<Step>)> {
    let _lock = PipelineLock::take(&pipeline.state_folder, &pipeline.name)?;
    let removed = pipeline.source.teardown(&pipeline.capture(), dry).await?;
    let steps = if with_target { pipeline.target.teardown(&pipeline.name, dry).await? } else { Vec::new() };
    Ok((removed, steps))
}

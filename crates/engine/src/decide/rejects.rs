//! Changes that the target refused: listing them, and deciding about them.

use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::{EngineError, Result};
use crate::pipeline::select::find_table;
use moorage_adapter::{Reject, Settle, Settled};
use moorage_core::change::describe::{CapturedChange, describe};
use serde::Serialize;

/// A reject with its change, as the target would hold it.
#[derive(Debug, Serialize)]
pub struct ShownReject {
    /// The reject.
    #[serde(flatten)]
    pub reject: Reject,
    /// Its change.
    pub change: Option<CapturedChange>,
}

/// What is set aside, the oldest first; only that of a table if one is named.
///
/// # Errors
/// If the target cannot be read.
pub async fn rejects(pipeline: &Pipeline, table: Option<&str>) -> Result<Vec<Reject>> {
    let mut all = pipeline.target.rejects(&pipeline.name).await?;
    if let Some(name) = table {
        let tables = pipeline.target.tables(&pipeline.name).await?;
        let table = find_table(pipeline, &tables, name)?.plan.table().to_string();
        all.retain(|r| r.table == table);
    }
    Ok(all)
}

/// One reject with its values.
///
/// # Errors
/// If there is none of this number, or the target cannot be read.
pub async fn reject(pipeline: &Pipeline, id: i64) -> Result<ShownReject> {
    let found = pipeline.target.reject(&pipeline.name, id).await?;
    let unknown = || EngineError::UnknownReject { id, pipeline: pipeline.name.clone() };
    let (reject, block) = found.ok_or_else(unknown)?;
    Ok(ShownReject { reject, change: describe(&block).into_iter().next() })
}

/// Retries or drops rejects, or all of them. A running pipeline waits meanwhile.
///
/// # Errors
/// If there is none of a number, or the target fails; nothing is changed then.
pub async fn settle(pipeline: &Pipeline, ids: Option<&[i64]>, how: Settle) -> Result<Settled> {
    if pipeline.target.checkpoint(&pipeline.name).await?.is_none() {
        return Err(EngineError::NeverRun { pipeline: pipeline.name.clone() });
    }
    Ok(pipeline.target.settle(&pipeline.name, ids, how).await?)
}

//! Tables of a pipeline, by the names that people give.

use super::ends::Pipeline;
use super::error::{EngineError, Result};
use moorage_adapter::{SnapshotMark, StoredTable, StreamTable};

pub(crate) fn chosen(
    pipeline: &Pipeline,
    stored: Vec<StoredTable>,
    wanted: &[String],
) -> Result<Vec<StoredTable>> {
    for name in wanted {
        find_table(pipeline, &stored, name)?;
    }
    let picked = |s: &StoredTable| wanted.is_empty() || wanted.iter().any(|w| s.plan.goes_by(w));
    Ok(stored.into_iter().filter(picked).collect())
}

/// The table that goes by a name; in full counts before in part.
pub(crate) fn find_table<'a>(
    pipeline: &Pipeline,
    stored: &'a [StoredTable],
    name: &str,
) -> Result<&'a StoredTable> {
    let exact = stored.iter().find(|s| s.plan.table().to_string() == name);
    exact.or_else(|| stored.iter().find(|s| s.plan.goes_by(name))).ok_or_else(|| EngineError::UnknownTable {
        pipeline: pipeline.name.clone(),
        table: name.into(),
        known: stored.iter().map(|s| s.plan.table().to_string()).collect::<Vec<_>>().join(", "),
    })
}

pub(crate) fn stream_table(pipeline: &Pipeline, stored: &StoredTable) -> Result<StreamTable> {
    let mark = match &stored.mark {
        None => None,
        Some((text, position)) => {
            let complete_at = pipeline
                .source
                .parse_position(position)
                .ok_or_else(|| EngineError::NotAPosition { text: position.clone() })?;
            Some(SnapshotMark { text: text.clone(), complete_at })
        }
    };
    Ok(StreamTable { plan: stored.plan.clone(), mark })
}

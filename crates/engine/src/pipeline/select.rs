//! Tables of a pipeline, by the names that people give.

use super::ends::Pipeline;
use super::error::{EngineError, Result};
use moorage_adapter::{SnapshotMark, StoredTable, StreamTable, TableState};

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
    let first = find_tables(pipeline, stored, name)?.into_iter().next();
    first.ok_or_else(|| unknown(pipeline, stored, name))
}

/// All tables that go by a name: of a target table in which several stand, or of a partitioned table, those in it. What is
/// not followed any more comes last.
pub(crate) fn find_tables<'a>(
    pipeline: &Pipeline,
    stored: &'a [StoredTable],
    name: &str,
) -> Result<Vec<&'a StoredTable>> {
    let exact = |s: &&StoredTable| s.plan.table().to_string() == name;
    let mut all: Vec<&StoredTable> = stored.iter().filter(exact).collect();
    if all.is_empty() {
        all = stored.iter().filter(|s| s.plan.goes_by(name)).collect();
    }
    all.sort_by_key(|s| s.state == TableState::Gone);
    if all.is_empty() { Err(unknown(pipeline, stored, name)) } else { Ok(all) }
}

fn unknown(pipeline: &Pipeline, stored: &[StoredTable], name: &str) -> EngineError {
    EngineError::UnknownTable {
        pipeline: pipeline.name.clone(),
        table: name.into(),
        known: stored.iter().map(|s| s.plan.table().to_string()).collect::<Vec<_>>().join(", "),
    }
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

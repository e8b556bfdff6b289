//! Pipelines that would capture what they write, refused by name.

use crate::pipeline::context::Context;
use crate::pipeline::error::{EngineError, Result};
use moorage_core::model::described::{SourceTable, place_of};
use moorage_core::plan::make::Plan;
use moorage_core::plan::table::TablePlan;
use std::collections::HashMap;

/// A table must not be its own target, nor come back to itself through other pipelines.
pub(crate) async fn refuse_loops(context: &Context, planned: &Plan, found: &[SourceTable]) -> Result<()> {
    let pipeline = &context.pipeline;
    let real = |path: &str| std::fs::canonicalize(path).ok();
    let (from, to) = (pipeline.source.address().await?, pipeline.target.address());
    let one_file =
        from.host.is_empty() && real(&from.database).is_some_and(|f| Some(f) == real(&to.database));
    let fold = |name: &str| pipeline.target.dialect().fold(name);
    let own = |t: &&TablePlan| one_file && fold(&t.table().name) == fold(t.stands_in());
    if let Some(table) = planned.tables.iter().find(own) {
        return Err(EngineError::OwnTarget { table: table.table().to_string() });
    }
    // Only systems of one kind can meet themselves.
    let Some(to) = pipeline.target.identity().await? else { return Ok(()) };
    let here = pipeline.source.capture_state(&pipeline.capture(None).await?).await?.identity;
    if here.kind != to.kind {
        return Ok(());
    }
    let mut ways: HashMap<String, (String, String)> = HashMap::new();
    for table in found {
        if let (Some(by), Some(from)) = (&table.written_by, &table.written_from) {
            ways.insert(place_of(&here, &table.name.to_string()), (from.clone(), by.clone()));
        }
    }
    for table in &planned.tables {
        let way = (place_of(&here, &table.table().to_string()), pipeline.name.clone());
        ways.insert(place_of(&to, table.stands_in()), way);
    }
    for table in &planned.tables {
        let (start, target) = (place_of(&here, &table.table().to_string()), place_of(&to, table.stands_in()));
        if start == target {
            return Err(EngineError::OwnTarget { table: table.table().to_string() });
        }
        if let Some(way) = way_round(&ways, &target) {
            return Err(EngineError::Loop { way });
        }
    }
    Ok(())
}

/// Follows a table's rows back to where they come from; the way, if they come from the table itself.
fn way_round(ways: &HashMap<String, (String, String)>, table: &str) -> Option<String> {
    let name = |place: &str| place.rsplit(' ').next().unwrap_or(place).to_string();
    let mut way = vec![name(table)];
    let mut at = table;
    while let Some((from, by)) = ways.get(at) {
        way.push(format!("{} (pipeline {by})", name(from)));
        if from == table {
            way.reverse();
            return Some(way.join(" → "));
        }
        if way.len() > ways.len() {
            return None;
        }
        at = from;
    }
    None
}

//! Reading a source table whose structure is one that the target has not come to. The main type is [`Restructured`].

use crate::before::draft::by;
use crate::look::verify::HELD;
use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::Result;
use moorage_adapter::{StoredTable, TableState};
use moorage_core::change::structure::Step;
use moorage_core::drift::alter::Then;
use moorage_core::drift::decide::{Decision, decide};
use moorage_core::drift::difference::differences;
use moorage_core::mapping::outputs::Output;
use moorage_core::model::described::SourceTable;
use moorage_core::model::drift::DriftPolicy;
use moorage_core::model::schema::{RowIdentity, TableSchema};
use moorage_core::plan::table::TablePlan;
use std::sync::Arc;

/// What became of a table in the source since the target's rows were made from it.
pub(super) struct Restructured {
    /// How its rows are read now, and as far as that can be told how the target will hold them; none if it is gone, or its key is.
    pub(super) now: Option<TablePlan>,
    /// What the target has not come to, for people; none if its rows are what they would be anyhow.
    pub(super) why: Option<String>,
}

/// Looks at a table's structure; none if it is as it was.
///
/// # Errors
/// If the source cannot be read.
pub(super) async fn restructured(pipeline: &Pipeline, stored: &StoredTable) -> Result<Option<Restructured>> {
    let Some(known) = stored.plan.structure.as_deref().filter(|_| pipeline.source.tells_of_structure())
    else {
        return Ok(None);
    };
    let is_held = stored.state == TableState::Held;
    let waits = if is_held { HELD } else { "the target has not come there yet: `moorage run` does" };
    let found = pipeline.source.discover().await?;
    let is_it = |table: &&SourceTable| match stored.plan.source_id {
        0 => table.name == *stored.plan.table(),
        id => table.id == id,
    };
    let Some(table) = found.iter().find(is_it) else {
        let why = format!("it is not in the source any more; {waits}");
        return Ok(Some(Restructured { now: None, why: Some(why) }));
    };
    let as_it_is = TablePlan::as_it_is(table);
    let (after, schema) = (Arc::new(table.clone()), as_it_is.schema.clone());
    let step = Arc::new(Step { after, schema, values: None, unknown: None, types: Vec::new() });
    if differences(known, &step).is_empty() {
        let why = is_held.then(|| waits.to_string());
        return Ok(why.map(|why| Restructured { now: Some(stored.plan.clone()), why: Some(why) }));
    }
    let plan = Arc::new(stored.plan.clone());
    let (now, what) = match decide(&plan, &step, &by(pipeline, Some(DriftPolicy::Follow))) {
        Decision::Stop { what } => (with_key(&plan, as_it_is), Some(what)),
        Decision::Alter(alteration) => match alteration.then {
            Then::Holds => (with_key(&plan, as_it_is), Some(alteration.what)),
            Then::Merges if alteration.steps.is_empty() && has_columns_of(&alteration.after, &plan) => {
                (with_key(&plan, (*alteration.after).clone()), None)
            }
            Then::Merges | Then::Rereads => {
                (with_key(&plan, (*alteration.after).clone()), Some(alteration.what))
            }
        },
    };
    let why = match what {
        Some(what) => Some(format!("{what}; {waits}")),
        None => is_held.then(|| waits.to_string()),
    };
    Ok(Some(Restructured { now, why }))
}

/// Whether the target's columns are called alike by both plans, one after the other.
fn has_columns_of(after: &TablePlan, before: &TablePlan) -> bool {
    after.columns.iter().map(|c| &c.name).eq(before.columns.iter().map(|c| &c.name))
}

/// The source's number of a column, if it has numbers, or else its name.
fn numbered(plan: &TablePlan, name: &str) -> Option<(Option<u32>, String)> {
    let known = plan.structure.as_deref()?;
    let column = known.columns.iter().find(|column| column.column.name == name)?;
    Some((column.number, if column.number.is_some() { String::new() } else { name.to_string() }))
}

/// A plan with the rows told apart as they were; none if a column that takes is gone.
fn with_key(was: &TablePlan, is: TablePlan) -> Option<TablePlan> {
    let of_key = was.schema.key_names();
    let wanted: Option<Vec<_>> = of_key.iter().map(|name| numbered(was, name)).collect();
    let place =
        |wanted| is.schema.columns.iter().position(|c| numbered(&is, &c.name).as_ref() == Some(wanted));
    let key: Option<Vec<usize>> = wanted?.iter().map(place).collect();
    let identity = RowIdentity::Key(key?);
    let schema = Arc::new(TableSchema { identity, ..(*is.schema).clone() });
    Some(TablePlan { schema, ..is })
}

/// For each column that the target has of a table, or would have: its places in the plan that the source is read by and in the one
/// that the target has, where a column of the source is the same one by its number, and others by their names in the target.
pub(super) fn beside(source: &TablePlan, target: &TablePlan) -> Vec<(Option<usize>, Option<usize>)> {
    let of = |plan: &TablePlan, at: usize| match &plan.mapping.outputs[at] {
        Output::Column(c) | Output::Cast { column: c, .. } => numbered(plan, &plan.schema.columns[*c].name),
        _ => None,
    };
    let same = |s: &usize, t: usize| match (of(source, *s), of(target, t)) {
        (None, None) => source.columns[*s].name == target.columns[t].name,
        (s, t) => s == t,
    };
    let ours = |t: usize| (0..source.columns.len()).find(|s| same(s, t));
    let mut all: Vec<_> = (0..target.columns.len()).map(|t| (ours(t), Some(t))).collect();
    let is_new = |s: &usize| !all.iter().any(|(found, _)| *found == Some(*s));
    let new: Vec<_> = (0..source.columns.len()).filter(is_new).collect();
    all.extend(new.into_iter().map(|s| (Some(s), None)));
    all
}

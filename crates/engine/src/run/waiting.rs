//! What the changes of structure that a held table waits for come to, once they are decided or if they were.

use crate::before::draft::by;
use crate::pipeline::ends::Pipeline;
use moorage_adapter::Event;
use moorage_core::apply::batch::Collected;
use moorage_core::change::structure::Step;
use moorage_core::drift::alter::{Alteration, Then};
use moorage_core::drift::decide::{Decision, decide};
use moorage_core::drift::held::Held;
use moorage_core::drift::standing::{TargetColumns, is_done};
use moorage_core::model::drift::DriftPolicy;
use moorage_core::plan::table::TablePlan;
use std::sync::Arc;

/// The alterations that a held table's changes lead to, in order, by what someone or the project file decided; `undecided` is
/// what is taken for decided about the others.
///
/// # Errors
/// In words, why the table does not go on.
pub(super) fn alterations(
    pipeline: &Pipeline,
    held: &Held,
    undecided: Option<DriftPolicy>,
) -> std::result::Result<Vec<Arc<Alteration>>, String> {
    let mut plan = held.plan.clone();
    let mut alterations = Vec::with_capacity(held.changes.len());
    let mut waits = Vec::new();
    for (place, change) in held.changes.iter().enumerate() {
        let is_last = place + 1 == held.changes.len();
        let decision = change.decision.or(undecided);
        match decide(&plan, &change.step, &by(pipeline, decision)) {
            Decision::Stop { what } => return Err(format!("the project file says to stop: {what}")),
            Decision::Alter(alteration) if alteration.then == Then::Holds => {
                waits.push(match decision {
                    None => format!("change {}", change.id),
                    // As it was then it could not be carried; it is read as it came to be.
                    Some(DriftPolicy::Reread) if !is_last => {
                        let then = Then::Rereads;
                        alterations.push(Arc::new(Alteration { id: change.id, then, ..alteration }));
                        continue;
                    }
                    Some(_) => return Err(alteration.what),
                });
            }
            Decision::Alter(alteration) => {
                plan = alteration.after.clone();
                alterations.push(Arc::new(Alteration { id: change.id, ..alteration }));
            }
        }
    }
    if waits.is_empty() {
        return Ok(alterations);
    }
    let waits = waits.join(", ");
    Err(format!("it is noted; the table waits for a decision about {waits}, too"))
}

/// Whether somebody has done in the target all that following a held table's changes takes.
pub(super) fn is_done_by_hand(pipeline: &Pipeline, held: &Held, there: TargetColumns) -> bool {
    let Ok(all) = alterations(pipeline, held, Some(DriftPolicy::Follow)) else { return false };
    all.iter().all(|alteration| alteration.then == Then::Merges)
        && is_done(all.iter().map(AsRef::as_ref), there)
}

/// The last change of a held table is kept, beside how the table was carried before it and what it is, for people. None if
/// there is no change.
pub(super) fn holds(
    pipeline: &Pipeline,
    held: &Held,
    before: Arc<TablePlan>,
    what: String,
) -> Option<(Collected, Event)> {
    let last = held.changes.last()?;
    let (id, step, after) = (last.id, last.step.clone(), held.plan.clone());
    let event = Event::StructureChanged {
        table: after.table().to_string(),
        what: what.clone(),
        done: format!(
            "it is held until someone decides: `moorage drift` shows what, `moorage drift follow {id}` goes on"
        ),
    };
    let would = alterations(pipeline, held, Some(DriftPolicy::Follow)).ok().and_then(|mut all| all.pop());
    let (then, steps) = (Then::Holds, Vec::new());
    let also = Vec::new();
    let alteration = Alteration { before, after, steps, then, what, id, step, would, also };
    let alteration = alteration.of_forms(|_, _| Vec::new());
    Some((Collected::Alter(Arc::new(alteration)), event))
}

/// A table that is to be read again as it is carried by now, whatever its target table is like.
pub(super) fn unread(plan: &Arc<TablePlan>) -> Alteration {
    let after = plan.source_table();
    let step = Step {
        after: Arc::new(after),
        schema: plan.schema.clone(),
        values: None,
        unknown: None,
        types: Vec::new(),
    };
    Alteration {
        before: plan.clone(),
        after: plan.clone(),
        steps: Vec::new(),
        then: Then::Rereads,
        what: "it is to be read again".into(),
        id: 0,
        step: Arc::new(step),
        would: None,
        also: Vec::new(),
    }
    .of_forms(|_, _| Vec::new())
}

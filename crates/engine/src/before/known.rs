//! Tables that are followed already, planned from what the target's rows were made from.

use crate::pipeline::ends::Pipeline;
use moorage_adapter::{Committing, StoredTable, TableState};
use moorage_core::TableName;
use moorage_core::model::described::SourceTable;
use moorage_core::model::kept_as::KeptAs;
use moorage_core::model::structure::Structure;
use moorage_core::pick::picker::Unmatched;
use moorage_core::plan::make::{Plan, Refused, plan_known};
use moorage_core::plan::table::TablePlan;
use std::collections::HashMap;

/// Whether what a stretch of changes came to is not enough: a commit that was broken off is finished with the very changes
/// that it began with; and where more than the current rows is kept, each of them counts.
pub(super) fn needs_each_change(pipeline: &Pipeline, plan: &TablePlan) -> bool {
    pipeline.target.guarantees().committing == Committing::Following || !plan.is_plain()
}

/// Tables that are followed go on from the structure that the target's rows have, by the rules as the project file has them
/// now; what the source's tables have become since is told by the stream, in its place.
pub(crate) fn keep_on(
    pipeline: &Pipeline,
    found: &[SourceTable],
    planned: &mut Plan,
    stored: &[StoredTable],
) {
    refuse_other_keeping(planned, stored);
    if !pipeline.source.tells_of_structure() {
        return;
    }
    for stored in stored.iter().filter(|s| s.state != TableState::Gone && !s.state.is_unread()) {
        // It stands among other rows by now, or not any more.
        let now = found.iter().find(|t| t.id != 0 && t.id == stored.plan.source_id);
        let picker = pipeline.config.picker();
        if now.is_some_and(|now| picker.part_of(now).map(|part| &part.root) != stored.plan.root()) {
            continue;
        }
        if stored.state == TableState::Held {
            if !is_there(found, &stored.plan) {
                continue;
            }
            // By which rules it goes on is seen when it does.
            planned.tables.retain(|t| !t.is_of_same(&stored.plan) && t.target != stored.plan.target);
            planned.refused.retain(|r| r.table != *stored.plan.table());
            let each_change = needs_each_change(pipeline, &stored.plan);
            planned.tables.push(TablePlan { each_change, ..stored.plan.clone() });
            continue;
        }
        let Some(structure) = stored.plan.structure.as_deref() else { continue };
        let is_it = |table: &TablePlan| table.is_of_same(&stored.plan);
        let mut then = match plan_known(&pipeline.config, structure, pipeline.target.dialect()) {
            Ok(then) => then,
            Err(_) => continue,
        };
        then.each_change = needs_each_change(pipeline, &then);
        let ddl = match planned.tables.iter().position(is_it) {
            Some(place) => planned.tables.remove(place).ddl,
            // As it is by now it cannot be carried: that is met in its place, and holds it.
            None if is_refused_as_it_is(found, planned, stored) => {
                planned.refused.retain(|refused| !is_named(found, stored, &refused.table));
                None
            }
            // It was picked by the name that it had.
            None if is_meant(pipeline, found, stored) => None,
            None => continue,
        };
        let followed = TablePlan {
            existing_rows: then.existing_rows,
            on_reject: then.on_reject,
            mismatch: then.mismatch,
            ddl,
            each_change: then.each_change,
            ..stored.plan.clone()
        };
        let is_as_it_was = then.maps_like(&TablePlan { source_id: then.source_id, ..stored.plan.clone() });
        planned.tables.push(if is_as_it_was { followed } else { then });
    }
    for stored in stored.iter().filter(|s| s.state.is_unread()) {
        let is_it = |table: &TablePlan| table.is_of_same(&stored.plan);
        if !is_meant(pipeline, found, stored)
            || planned.refused.iter().any(|r| is_named(found, stored, &r.table))
        {
            continue;
        }
        if let Some(then) = named_before(found, stored).and_then(|table| plan_again(pipeline, found, &table))
        {
            planned.tables.retain(|table| !is_it(table));
            planned.tables.push(then);
        }
    }
    let is_known =
        |table: &TablePlan| stored.iter().any(|s| s.state != TableState::Gone && table.is_of_same(&s.plan));
    for again in planned.tables.iter_mut().filter(|table| !is_known(table)) {
        let mut gone = stored.iter().filter(|s| !is_there(found, &s.plan));
        let gone = gone.find(|gone| gone.plan.table() == again.table());
        if let Some(plan) = gone.and_then(|gone| in_the_place_of(pipeline, &gone.plan, again)) {
            *again = plan;
        }
    }
    let known: Vec<TablePlan> = planned.tables.iter().filter(|table| is_known(table)).cloned().collect();
    refuse_taken(planned, &known.iter().collect::<Vec<_>>());
    planned.tables.sort_by(|a, b| a.table().cmp(b.table()));
}

/// What a target table holds stays what it is: rows as they are now tell nothing of what was before, and the other way round
/// what was before would be lost.
fn refuse_other_keeping(planned: &mut Plan, stored: &[StoredTable]) {
    let all = stored.iter().flat_map(|stored| forms(&stored.plan));
    let had: HashMap<&String, &KeptAs> = all.map(|plan| (&plan.target, &plan.kept_as)).collect();
    for table in std::mem::take(&mut planned.tables) {
        let other = forms(&table).find_map(|form| {
            let was = had.get(&form.target).filter(|was| !was.says_like(&form.kept_as))?;
            Some((form.target.clone(), was.written(), form.kept_as.written()))
        });
        let Some((target, was, is)) = other else {
            planned.tables.push(table);
            continue;
        };
        let name = table.table().clone();
        let reason = format!(
            "target table {target} was made with {was} and stays so, and the project file says {is}: give the new one another name with `into` in a rule, then run `moorage resnapshot {name}`"
        );
        planned.refused.push(Refused { table: name, reason: reason.into() });
    }
}

fn forms(plan: &TablePlan) -> impl Iterator<Item = &TablePlan> {
    std::iter::once(plan).chain(plan.also.iter().map(AsRef::as_ref))
}

/// A table of the source that is called otherwise by now, by the name that the project file's rules know it by.
fn named_before(found: &[SourceTable], stored: &StoredTable) -> Option<SourceTable> {
    let name = stored.plan.structure.as_deref()?.ruled_as();
    let table = found.iter().find(|table| table.id != 0 && table.id == stored.plan.source_id)?;
    (*name != table.name).then(|| SourceTable { name: name.clone(), ..table.clone() })
}

/// Whether the project file picks a table by the name that it had, whatever it is called by now.
fn is_meant(pipeline: &Pipeline, found: &[SourceTable], stored: &StoredTable) -> bool {
    named_before(found, stored).is_some_and(|table| pipeline.config.picker().takes(&table))
}

/// A table that is to be read again, under the name that it has by now, as the project file's rules know it.
fn plan_again(pipeline: &Pipeline, found: &[SourceTable], known: &SourceTable) -> Option<TablePlan> {
    let table = found.iter().find(|table| table.id == known.id)?;
    let structure = Structure { known_as: Some(known.name.clone()), ..Structure::of(table) };
    let plan = plan_known(&pipeline.config, &structure, pipeline.target.dialect()).ok()?;
    Some(TablePlan { each_change: needs_each_change(pipeline, &plan), ..plan })
}

/// The patterns that mean no table, not by the name that one had when it was read either.
pub(crate) fn unmatched(
    pipeline: &Pipeline,
    found: &[SourceTable],
    stored: &[StoredTable],
) -> Vec<Unmatched> {
    let before: Vec<SourceTable> = stored.iter().filter_map(|stored| named_before(found, stored)).collect();
    let picker = pipeline.config.picker();
    let of_before = picker.unmatched(&before);
    let mut unmatched = picker.unmatched(found);
    unmatched.retain(|one| before.is_empty() || of_before.iter().any(|other| other.pattern == one.pattern));
    unmatched
}

/// Whether a followed table is in the source, whatever it is called.
fn is_there(found: &[SourceTable], plan: &TablePlan) -> bool {
    match plan.source_id {
        0 => found.iter().any(|table| table.name == *plan.table()),
        id => found.iter().any(|table| table.id == id),
    }
}

/// Tables that are held and not in the source any more, and that no other one comes in the place of: what is kept of them is all
/// that there is of their last rows, so they stay held until someone decides.
pub(crate) fn held_and_gone<'a>(
    found: &[SourceTable],
    planned: &Plan,
    stored: &'a [StoredTable],
) -> Vec<&'a StoredTable> {
    let is_alone = |plan: &TablePlan| planned.tables.iter().all(|table| table.target != plan.target);
    let of = stored.iter().filter(|s| s.state == TableState::Held && !is_there(found, &s.plan));
    of.filter(|stored| is_alone(&stored.plan)).collect()
}

/// A table that was made again comes in the place of the one that is gone, also where that was called otherwise when it was
/// first planned.
fn in_the_place_of(pipeline: &Pipeline, gone: &TablePlan, again: &TablePlan) -> Option<TablePlan> {
    let (gone, structure) = (gone.structure.as_deref()?, again.structure.as_deref()?);
    let known_as = gone.known_as.clone().filter(|name| name != again.table())?;
    let structure = Structure { known_as: Some(known_as), ..structure.clone() };
    let plan = plan_known(&pipeline.config, &structure, pipeline.target.dialect()).ok()?;
    Some(TablePlan { each_change: needs_each_change(pipeline, &plan), ..plan })
}

/// A table that would have the target table of one that is followed, which was called so before, is refused.
pub(crate) fn refuse_taken(planned: &mut Plan, followed: &[&TablePlan]) {
    let tables = std::mem::take(&mut planned.tables);
    for table in tables {
        match followed.iter().find(|f| f.target == table.target && !f.is_of_same(&table)) {
            None => planned.tables.push(table),
            Some(taken) => planned.refused.push(Refused {
                reason: format!(
                    "target table {} is that of {}, which is followed and was called so before: give this one another with `into` in a rule",
                    taken.target,
                    taken.table()
                )
                .into(),
                table: table.table().clone(),
            }),
        }
    }
}

/// Whether a name is the one that a followed table has by now.
fn is_named(found: &[SourceTable], stored: &StoredTable, name: &TableName) -> bool {
    found.iter().any(|t| t.id != 0 && t.id == stored.plan.source_id && t.name == *name)
}

/// Whether a followed table is refused for what it is now, and not because the user has no right to it any more.
fn is_refused_as_it_is(found: &[SourceTable], planned: &Plan, stored: &StoredTable) -> bool {
    let is_it = |t: &&SourceTable| t.id != 0 && t.id == stored.plan.source_id;
    let is_open = found.iter().find(is_it).is_some_and(|table| table.refused.is_none());
    is_open && planned.refused.iter().any(|refused| is_named(found, stored, &refused.table))
}

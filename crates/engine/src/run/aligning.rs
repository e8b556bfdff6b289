//! Has the tables of a run captured, exactly them, and finds those of which something was missed because someone altered what
//! captures them.

use crate::pipeline::context::Context;
use crate::pipeline::error::Result;
use crate::run::came_and_went::is_new;
use moorage_adapter::{AdapterError, CapturePlan, Event, GONE, StoredTable};
use moorage_core::plan::make::Plan;
use moorage_core::plan::table::TablePlan;
use std::sync::PoisonError;
use std::sync::atomic::Ordering;

/// A table and what captures it, at a time.
type CapturedBy = (TablePlan, String);

/// Has the tables captured. A run that has followed them goes on without those that came meanwhile if only an administrator can
/// let them join.
pub(crate) async fn align(
    context: &Context,
    capture: &CapturePlan,
    planned: &mut Plan,
    stored: &[StoredTable],
) -> Result<()> {
    let source = &context.pipeline.source;
    let (what, statements) = match source.align(capture, &planned.tables, &context.events).await {
        Err(AdapterError::NeedsAdministrator { what, statements })
            if context.followed.load(Ordering::Relaxed) =>
        {
            (what, statements)
        }
        done => return Ok(done?),
    };
    let (new, known) = std::mem::take(&mut planned.tables).into_iter().partition(|t| is_new(t, stored));
    let new: Vec<TablePlan> = new;
    planned.tables = known;
    if new.is_empty() {
        return Err(AdapterError::NeedsAdministrator { what, statements }.into());
    }
    let names: Vec<String> = new.iter().map(|table| table.table().to_string()).collect();
    let message = format!(
        "{} cannot join: {what}. An administrator of the source can let it: {statements}; then run `moorage run` again",
        names.join(", ")
    );
    context.say(Event::Warning { message });
    let left_out = new.into_iter().map(|table| table.table().clone());
    context.left_out.lock().unwrap_or_else(PoisonError::into_inner).extend(left_out);
    Ok(source.align(capture, &planned.tables, &context.events).await?)
}

/// Someone may have altered what captures tables since that was looked at, also such that aligning has put it back: what came in
/// between is missed. The tables that are followed are held against the very look that the run goes on from.
pub(crate) async fn read_again_what_was_interrupted(
    context: &Context,
    capture: &CapturePlan,
    before: &[CapturedBy],
    planned: &Plan,
    captured_by: &[Option<String>],
) -> Result<()> {
    for (plan, before) in before {
        let place = planned.tables.iter().position(|table| table.target == plan.target);
        let now = place.and_then(|place| captured_by[place].as_ref());
        if now.is_none_or(|now| !context.pipeline.source.is_unbroken(before, now)) {
            read_again(context, capture, plan).await?;
        }
    }
    Ok(())
}

/// A table that is gone was not altered by anyone: whoever sets up anew does with it what the project file says.
async fn refuse_gone(context: &Context, capture: &CapturePlan, plan: &TablePlan) -> Result<()> {
    let drifted = context.pipeline.source.drifted(capture, std::slice::from_ref(plan)).await?;
    match drifted.iter().any(|(_, what)| what == GONE) {
        true => Err(AdapterError::Gone { table: plan.table().clone() }.into()),
        false => Ok(()),
    }
}

async fn read_again(context: &Context, capture: &CapturePlan, plan: &TablePlan) -> Result<()> {
    let pipeline = &context.pipeline;
    refuse_gone(context, capture, plan).await?;
    pipeline.target.forget(&pipeline.name, std::slice::from_ref(&plan.target), false).await?;
    let message = format!(
        "{}: what captures its changes was altered by someone, so some may have been missed: it is read again",
        plan.table()
    );
    context.say(Event::Warning { message });
    Ok(())
}

/// Tables of which changes may have been missed while nobody looked are read again, and nothing else. Gives what captures
/// the others.
pub(crate) async fn read_again_what_was_missed(
    context: &Context,
    capture: &CapturePlan,
    planned: &Plan,
    stored: &[StoredTable],
) -> Result<Vec<CapturedBy>> {
    let pipeline = &context.pipeline;
    let mut unbroken = Vec::new();
    let is_it =
        |t: &TablePlan, s: &StoredTable| (&t.target, t.source_id) == (&s.plan.target, s.plan.source_id);
    let carried = |s: &&StoredTable| planned.tables.iter().any(|t| is_it(t, s));
    let live = stored.iter().filter(|s| !s.state.is_unread()).filter(carried);
    let live: Vec<&StoredTable> = live.collect();
    let plans: Vec<TablePlan> = live.iter().map(|s| s.plan.clone()).collect();
    let now = pipeline.source.captured_by(capture, &plans).await?;
    for (stored, now) in live.iter().zip(now) {
        // An earlier version did not remember it.
        let is_as_before = |now: &String| {
            stored.captured_by.as_ref().is_none_or(|before| pipeline.source.is_unbroken(before, now))
        };
        match now.filter(is_as_before) {
            Some(now) => unbroken.push((stored.plan.clone(), now)),
            None => read_again(context, capture, &stored.plan).await?,
        }
    }
    Ok(unbroken)
}

/// Remembers what captures tables that stay as they are, where that is another text now.
pub(crate) async fn adopt(
    context: &Context,
    planned: &Plan,
    stored: &[StoredTable],
    captured_by: &[Option<String>],
) -> Result<()> {
    let pipeline = &context.pipeline;
    let other = |(plan, by): (&TablePlan, &Option<String>)| {
        let by = by.as_ref()?;
        let stored = stored.iter().find(|s| s.plan.target == plan.target && !s.state.is_unread())?;
        (stored.captured_by.as_ref() != Some(by)).then(|| (plan.target.clone(), by.clone()))
    };
    let others: Vec<(String, String)> = planned.tables.iter().zip(captured_by).filter_map(other).collect();
    if others.is_empty() {
        return Ok(());
    }
    Ok(pipeline.target.remember_captured_by(&pipeline.name, &others).await?)
}

//! Letting go of tables, and removing them.

use crate::as_target::dialect::{parts, relation};
use crate::as_target::form::find;
use crate::as_target::{beside, kept, state};
use crate::wire::connect::Session;
use moorage_adapter::{Doing, Result, Step};
use moorage_core::model::sql::quote_ident;
use moorage_core::plan::current_rows::is_its;
use moorage_core::plan::table::TablePlan;

/// Removes a target table, unless it was there before the pipeline, and what stands beside it.
async fn remove_table(session: &Session, target: &str, plan: Option<&TablePlan>, dry: bool) -> Result<Step> {
    if let Some(plan) = plan.filter(|plan| plan.gathered.is_some())
        && let Some(step) = remove_rows(session, plan, dry).await?
    {
        return Ok(step);
    }
    let table = plan.map_or(target, TablePlan::stands_in);
    let found = find(session, &[table]).await?.pop().flatten();
    let adopted = state::owners(session).await?.get(target).is_some_and(|(_, adopted)| *adopted);
    if let Some(plan) = plan.filter(|_| !dry) {
        kept::drop_view(session, plan).await?;
    }
    if let (Some(found), Some(plan), false) = (&found, plan, dry) {
        beside::drop(session, plan, found.id).await?;
    }
    if let Some(found) = found.as_ref().filter(|_| !dry) {
        beside::forget_kept(session, found.id).await?;
        if adopted {
            let schema = quote_ident(&parts(target).0);
            let sql = format!(
                "DROP INDEX IF EXISTS {schema}.moorage_key_{0}, {schema}.moorage_match_{0}",
                found.id
            );
            session.run(Doing::to("removing indexes from table", target), &sql).await?;
        }
    }
    let outcome = match (adopted, dry, &found) {
        (_, _, None) => "is gone already",
        (true, ..) => "left: it was there before the pipeline",
        (false, true, _) => "would be removed",
        (false, false, _) => {
            let sql = format!("DROP TABLE {}", relation(table));
            session.run(Doing::to("removing table", table), &sql).await?;
            "removed"
        }
    };
    Ok(Step::new(format!("target table {target}"), outcome))
}

/// Removes the rows of a table from one in which others stand; none if no other one stands there any more.
async fn remove_rows(session: &Session, plan: &TablePlan, dry: bool) -> Result<Option<Step>> {
    state::lock_gathered(session, plan).await?;
    let found = find(session, &[plan.stands_in()]).await?.pop().flatten();
    let Some(found) = found else { return Ok(None) };
    if state::beside_in_table(session, plan).await?.is_empty() {
        return Ok(None);
    }
    let its = is_its(plan, "").unwrap_or_default();
    let outcome = match dry {
        true => "its rows would be removed",
        false => {
            beside::drop(session, plan, found.id).await?;
            let sql = format!("DELETE FROM ONLY {} WHERE {its}", relation(plan.stands_in()));
            session.run(Doing::to("removing the rows of", &plan.target), &sql).await?;
            "its rows are removed"
        }
    };
    Ok(Some(Step::new(format!("target table {}", plan.target), outcome)))
}

/// Forgets tables, and removes them if asked.
pub(crate) async fn let_go(
    session: &Session,
    pipeline: &str,
    targets: &[String],
    remove: bool,
) -> Result<Vec<Step>> {
    let mut steps = Vec::new();
    let stored = if remove { state::tables(session, pipeline).await? } else { Vec::new() };
    for target in targets {
        let plan = stored.iter().map(|s| &s.plan).find(|plan| plan.target == *target);
        steps.push(match remove {
            true => remove_table(session, target, plan, false).await?,
            false => Step::new(format!("target table {target}"), "left as it is, and not known any more"),
        });
        // The last one of those that stand in a table takes that along.
        state::remove_tables(session, pipeline, std::slice::from_ref(target)).await?;
    }
    Ok(steps)
}

pub(crate) async fn teardown(session: &Session, pipeline: &str, dry: bool) -> Result<Vec<Step>> {
    let mut steps = Vec::new();
    if !state::exists(session).await? {
        return Ok(steps);
    }
    for stored in state::tables(session, pipeline).await? {
        steps.push(remove_table(session, &stored.plan.target, Some(&stored.plan), dry).await?);
        if !dry {
            state::remove_tables(session, pipeline, &[stored.plan.target]).await?;
        }
    }
    if state::checkpoint(session, pipeline).await?.is_some() || !steps.is_empty() {
        if !dry {
            state::remove_pipeline(session, pipeline).await?;
        }
        steps.push(Step::new("checkpoint", if dry { "would be removed" } else { "removed" }));
    }
    Ok(steps)
}

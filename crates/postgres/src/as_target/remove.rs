//! Letting go of tables, and removing them.

use crate::as_target::dialect::{parts, relation};
use crate::as_target::form::find;
use crate::as_target::{beside, kept, state};
use crate::wire::connect::Session;
use moorage_adapter::{Doing, Result, Step};
use moorage_core::model::sql::quote_ident;
use moorage_core::plan::table::TablePlan;

/// Removes a target table, unless it was there before the pipeline, and what stands beside it.
async fn remove_table(session: &Session, target: &str, plan: Option<&TablePlan>, dry: bool) -> Result<Step> {
    let found = find(session, &[target]).await?.pop().flatten();
    let adopted = state::owners(session).await?.get(target).is_some_and(|(_, adopted)| *adopted);
    if let Some(plan) = plan.filter(|_| !dry) {
        kept::drop_view(session, plan).await?;
    }
    if let Some(found) = found.as_ref().filter(|_| !dry) {
        beside::drop(session, found.id).await?;
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
            let sql = format!("DROP TABLE {}", relation(target));
            session.run(Doing::to("removing table", target), &sql).await?;
            "removed"
        }
    };
    Ok(Step::new(format!("target table {target}"), outcome))
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
    }
    state::remove_tables(session, pipeline, targets).await?;
    Ok(steps)
}

pub(crate) async fn teardown(session: &Session, pipeline: &str, dry: bool) -> Result<Vec<Step>> {
    let mut steps = Vec::new();
    if !state::exists(session).await? {
        return Ok(steps);
    }
    for stored in state::tables(session, pipeline).await? {
        steps.push(remove_table(session, &stored.plan.target, Some(&stored.plan), dry).await?);
    }
    if state::checkpoint(session, pipeline).await?.is_some() || !steps.is_empty() {
        if !dry {
            state::remove_pipeline(session, pipeline).await?;
        }
        steps.push(Step::new("checkpoint", if dry { "would be removed" } else { "removed" }));
    }
    Ok(steps)
}

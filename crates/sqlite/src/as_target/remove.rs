//! Letting go of tables, and removing them.

use super::statements::Statements;
use super::{kept, state};
use moorage_adapter::Step;
use moorage_core::model::sql::quote_ident;
use moorage_core::plan::table::TablePlan;
use rusqlite::Connection;

/// Removes a target table, unless it was there before the pipeline, and what stands beside it.
fn remove_table(
    db: &Connection,
    target: &str,
    plan: Option<&TablePlan>,
    dry: bool,
) -> rusqlite::Result<Step> {
    if let Some(plan) = plan.filter(|plan| plan.gathered.is_some())
        && !state::beside_in_table(db, plan)?.is_empty()
    {
        if !dry {
            db.execute_batch(&format!(
                "DROP TABLE IF EXISTS {}",
                quote_ident(&format!("moorage_again_{target}"))
            ))?;
            db.execute_batch(&Statements::new(plan).empty())?;
        }
        let outcome = if dry { "its rows would be removed" } else { "its rows are removed" };
        return Ok(Step::new(format!("target table {target}"), outcome));
    }
    let table = plan.map_or(target, TablePlan::stands_in);
    let adopted = state::owner(db, target)?.is_some_and(|(_, adopted)| adopted);
    let outcome = match (adopted, dry) {
        (true, _) => "left: it was there before the pipeline",
        (false, true) => "would be removed",
        (false, false) => {
            if let Some(plan) = plan {
                kept::drop_our_view(db, plan)?;
            }
            for table in [table, &format!("moorage_again_{target}")] {
                db.execute_batch(&format!("DROP TABLE IF EXISTS {}", quote_ident(table)))?;
            }
            "removed"
        }
    };
    if !dry {
        state::forget_kept(db, target)?;
    }
    Ok(Step::new(format!("target table {target}"), outcome))
}

/// Forgets tables, and removes them if asked.
pub(crate) fn let_go(
    db: &Connection,
    pipeline: &str,
    targets: &[String],
    remove: bool,
) -> rusqlite::Result<Vec<Step>> {
    let mut steps = Vec::new();
    let stored = if remove { state::tables(db, pipeline)? } else { Vec::new() };
    for target in targets {
        let plan = stored.iter().map(|s| &s.plan).find(|plan| plan.target == *target);
        steps.push(match remove {
            true => remove_table(db, target, plan, false)?,
            false => Step::new(format!("target table {target}"), "left as it is, and not known any more"),
        });
        db.execute("DELETE FROM moorage_tables WHERE target = ?1 AND pipeline = ?2", [target, pipeline])?;
    }
    Ok(steps)
}

pub(crate) fn teardown(db: &Connection, pipeline: &str, dry: bool) -> rusqlite::Result<Vec<Step>> {
    let mut steps = Vec::new();
    for stored in state::tables(db, pipeline)? {
        let target = &stored.plan.target;
        steps.push(remove_table(db, target, Some(&stored.plan), dry)?);
        if !dry {
            // The last one of those that stand in a table takes that along.
            db.execute(
                "DELETE FROM moorage_tables WHERE target = ?1 AND pipeline = ?2",
                [target.as_str(), pipeline],
            )?;
        }
    }
    if state::checkpoint(db, pipeline)?.is_some() || !steps.is_empty() {
        if !dry {
            state::remove_pipeline(db, pipeline)?;
        }
        steps.push(Step::new("checkpoint", if dry { "would be removed" } else { "removed" }));
    }
    Ok(steps)
}

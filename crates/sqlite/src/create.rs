//! Making, adopting and removing target tables.

use crate::error::sql_error;
use crate::meta;
use crate::statements::{create_index, create_table};
use moorage_adapter::{AdapterError, ExistingTable, Result, Step};
use moorage_core::plan::{ExistingRowsChoice, TablePlan};
use moorage_core::sql::quote_ident;
use rusqlite::{Connection, OptionalExtension};
use std::path::Path;

pub(crate) fn describe(db: &Connection, table: &str) -> rusqlite::Result<Option<ExistingTable>> {
    let found: Option<String> = db
        .query_row(
            "SELECT name FROM sqlite_schema WHERE type IN ('table', 'view') AND name = ?1 COLLATE NOCASE",
            [table],
            |r| r.get(0),
        )
        .optional()?;
    let Some(name) = found else { return Ok(None) };
    let mut query = db.prepare("SELECT name, type FROM pragma_table_xinfo(?1)")?;
    let columns = query.query_map([&name], |r| Ok((r.get(0)?, r.get(1)?)))?.collect::<rusqlite::Result<_>>()?;
    let rows = db.query_row(&format!("SELECT count(*) FROM {}", quote_ident(&name)), [], |r| r.get(0))?;
    let owner = meta::owner(db, &name)?.map(|(pipeline, _)| pipeline);
    Ok(Some(ExistingTable { columns, rows, owner }))
}

/// Makes or adopts a table inside the caller's transaction.
pub(crate) fn create(db: &Connection, path: &Path, pipeline: &str, plan: &TablePlan) -> Result<()> {
    let sql = |doing: &str| {
        let doing = format!("{doing} table {}", plan.target);
        move |e| sql_error(path, &doing, e)
    };
    let existing = describe(db, &plan.target).map_err(sql("looking at"))?;
    let ours = meta::owner(db, &plan.target).map_err(sql("looking at"))?;
    let adopt = match (existing, ours) {
        (None, _) => false,
        (Some(_), Some((owner, _))) if owner != pipeline => {
            return Err(AdapterError::refused(
                format!("target table {}", plan.target),
                format!("pipeline {owner} already writes it; change `into` so that each pipeline has tables of its own"),
            ));
        }
        (Some(_), Some((_, false))) => {
            db.execute_batch(&format!("DROP TABLE {}", quote_ident(&plan.target))).map_err(sql("removing"))?;
            false
        }
        (Some(existing), _) => {
            check_adoption(plan, &existing)?;
            true
        }
    };
    let keeps = adopt && plan.existing_rows == Some(ExistingRowsChoice::Keep);
    if !adopt {
        db.execute_batch(&create_table(plan)).map_err(sql("making"))?;
    } else if !keeps {
        db.execute_batch(&format!("DELETE FROM {}", quote_ident(&plan.target))).map_err(sql("emptying"))?;
    }
    if keeps {
        build_index(db, path, plan)?;
    }
    meta::remember_loading(db, pipeline, plan, adopt, keeps).map_err(sql("remembering"))
}

fn check_adoption(plan: &TablePlan, existing: &ExistingTable) -> Result<()> {
    let form = |name: &str, sql: &str| format!("{} {}", name.to_ascii_lowercase(), sql.to_ascii_uppercase());
    let mut found: Vec<String> = existing.columns.iter().map(|(n, t)| form(n, t)).collect();
    let mut wanted: Vec<String> = plan.columns.iter().map(|c| form(&c.name, &c.declared.sql)).collect();
    found.sort();
    wanted.sort();
    let what = format!("target table {} is already there", plan.target);
    if found != wanted {
        let reason = format!(
            "it has other columns ({}) than the plan ({}). Rename or drop it, or change `into`",
            found.join(", "),
            wanted.join(", ")
        );
        return Err(AdapterError::refused(what, reason));
    }
    if existing.rows > 0 && plan.existing_rows.is_none() {
        let reason = format!(
            "it holds {} rows. Say in the project file what to do with them: existing_rows = \"replace\" or \"keep\"",
            existing.rows
        );
        return Err(AdapterError::refused(what, reason));
    }
    Ok(())
}

/// Builds what merges find rows by. A declared key that is not unique, or null, is refused here.
pub(crate) fn build_index(db: &Connection, path: &Path, plan: &TablePlan) -> Result<()> {
    let Some(statement) = create_index(plan) else { return Ok(()) };
    db.execute_batch(&statement).map_err(|e| match e.sqlite_error_code() {
        Some(rusqlite::ErrorCode::ConstraintViolation) => AdapterError::Value {
            table: plan.table().to_string(),
            what: format!(
                "the key ({}) is not unique: two rows have the same values. Declare another key in the project file, or take `key` out and set REPLICA IDENTITY FULL",
                plan.schema.key_names().join(", ")
            ),
        },
        _ => sql_error(path, &format!("building the key of table {}", plan.target), e),
    })
}

pub(crate) fn teardown(db: &Connection, pipeline: &str, dry: bool) -> rusqlite::Result<Vec<Step>> {
    let mut steps = Vec::new();
    for stored in meta::tables(db, pipeline)? {
        let target = &stored.plan.target;
        let adopted = meta::owner(db, target)?.is_some_and(|(_, adopted)| adopted);
        let outcome = match (adopted, dry) {
            (true, _) => "left: it was there before the pipeline",
            (false, true) => "would be removed",
            (false, false) => {
                db.execute_batch(&format!("DROP TABLE IF EXISTS {}", quote_ident(target)))?;
                "removed"
            }
        };
        steps.push(Step::new(format!("target table {target}"), outcome));
    }
    if meta::checkpoint(db, pipeline)?.is_some() || !steps.is_empty() {
        if !dry {
            meta::remove_pipeline(db, pipeline)?;
        }
        steps.push(Step::new("checkpoint", if dry { "would be removed" } else { "removed" }));
    }
    Ok(steps)
}

//! Altering a target table in the transaction of the rows around it (<https://www.sqlite.org/lang_altertable.html>): what
//! SQLite does without writing the table anew.

use crate::as_target::state;
use crate::as_target::values::Converter;
use crate::file::error::sql_error;
use moorage_adapter::{AdapterError, Doing, Result};
use moorage_core::drift::alter::{AlterStep, Alteration};
use moorage_core::model::sql::{quote_ident, quote_literal};
use moorage_core::value::column::value_at;
use rusqlite::Connection;
use std::path::Path;

/// Carries out the steps, and keeps the new plan.
pub(crate) fn alter(db: &Connection, path: &Path, pipeline: &str, alteration: &Alteration) -> Result<()> {
    let doing = || Doing::to("altering target table", &alteration.after.target);
    for step in &alteration.steps {
        let Some(sql) = statement(db, path, alteration, step)? else { continue };
        db.execute_batch(&sql).map_err(|e| match e.sqlite_error_code() {
            // A column of that name, a view that is broken or reads what is to go.
            Some(rusqlite::ErrorCode::Unknown) => AdapterError::refused(doing(), e.to_string()),
            _ => sql_error(path, doing(), e),
        })?;
    }
    state::keep_plan(db, pipeline, &alteration.after, alteration.then)
        .map_err(|e| sql_error(path, doing(), e))
}

/// The statements for the steps, for people.
pub(crate) fn statements(alteration: &Alteration) -> Vec<String> {
    let Ok(db) = Connection::open_in_memory() else { return Vec::new() };
    let path = Path::new("");
    let each =
        alteration.steps.iter().filter_map(|step| statement(&db, path, alteration, step).ok().flatten());
    each.collect()
}

/// The statement for a step; none if there is nothing to do.
fn statement(
    db: &Connection,
    path: &Path,
    alteration: &Alteration,
    step: &AlterStep,
) -> Result<Option<String>> {
    let plan = &alteration.after;
    let table = format!("ALTER TABLE {}", quote_ident(&plan.target));
    Ok(match step {
        AlterStep::Add { column, value } => {
            let planned = &plan.columns[*column];
            let declared = format!("{} {}", quote_ident(&planned.name), planned.declared.sql);
            let sql = format!("{table} ADD COLUMN {}", declared.trim_end());
            let Some(value) = value else { return Ok(Some(sql)) };
            let converted = Converter::new(plan).convert(*column, value_at(value.column(0).as_ref(), 0))?;
            // As a default it has to be a literal (section 2 of the page on ALTER TABLE).
            let literal: String = db
                .query_row("SELECT quote(?1)", [converted], |r| r.get(0))
                .map_err(|e| sql_error(path, "writing a value as SQL", e))?;
            Some(format!("{sql} DEFAULT {literal}"))
        }
        AlterStep::Rename { from, to } => {
            Some(format!("{table} RENAME COLUMN {} TO {}", quote_ident(from), quote_ident(to)))
        }
        // Values keep their storage, whatever is declared.
        AlterStep::Widen { .. } => None,
        AlterStep::Relabel { column, from, to } => {
            let name = quote_ident(&plan.columns[*column].name);
            let (from, to) = (quote_literal(from), quote_literal(to));
            Some(format!("UPDATE {} SET {name} = {to} WHERE {name} = {from}", quote_ident(&plan.target)))
        }
        AlterStep::Drop { name } => Some(format!("{table} DROP COLUMN {}", quote_ident(name))),
    })
}

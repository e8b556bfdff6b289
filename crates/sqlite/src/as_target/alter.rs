//! Altering a target table in the transaction of the rows around it (<https://www.sqlite.org/lang_altertable.html>): what
//! SQLite does without writing the table anew.

use crate::as_target::columns::columns;
use crate::as_target::values::Converter;
use crate::as_target::{kept, state};
use crate::file::error::sql_error;
use arrow::array::RecordBatch;
use moorage_adapter::{AdapterError, Doing, Result};
use moorage_core::drift::alter::{AlterStep, Alteration, Then};
use moorage_core::drift::standing::Standing;
use moorage_core::model::sql::{quote_ident, quote_literal};
use moorage_core::plan::table::TablePlan;
use moorage_core::value::column::value_at;
use rusqlite::Connection;
use std::path::Path;

/// Carries out the steps, and keeps the new plan.
pub(crate) fn alter(db: &Connection, path: &Path, pipeline: &str, alteration: &Alteration) -> Result<()> {
    let doing = || Doing::to("altering target table", &alteration.after.target);
    let failed = |e: rusqlite::Error| match e.sqlite_error_code() {
        // A column of that name, a view that is broken or reads what is to go.
        Some(rusqlite::ErrorCode::Unknown) => {
            let words = e.to_string();
            let is_there = words.contains("duplicate column name");
            let way_out = if is_there { ": rename or drop that column there" } else { "" };
            AdapterError::refused(doing(), format!("{words}{way_out}"))
        }
        _ => sql_error(path, doing(), e),
    };
    // What is read again has the view made anew when it has its columns.
    let merges = alteration.then == Then::Merges;
    if merges {
        kept::drop_view(db, path, &alteration.before)?;
    }
    let mut there = columns(db, &alteration.after.target).map_err(failed)?;
    for (step, standing) in alteration.steps.iter().zip(alteration.standing(&mut there)) {
        match (standing, step) {
            (Standing::Done, _) => {}
            (Standing::Declared, AlterStep::Add { column, value }) => {
                fill(db, path, &alteration.after, *column, value.as_ref())?;
            }
            _ => {
                let sql = statement(db, path, alteration, step)?;
                sql.map(|sql| db.execute_batch(&sql)).transpose().map_err(failed)?;
            }
        }
    }
    if merges {
        kept::make_view(db, path, &alteration.after)?;
    }
    state::keep_plan(db, pipeline, &alteration.after, alteration.then)
        .map_err(|e| sql_error(path, doing(), e))
}

/// Gives the rows their value in a column that somebody has made, unless it has values of its own.
fn fill(
    db: &Connection,
    path: &Path,
    plan: &TablePlan,
    column: usize,
    value: Option<&RecordBatch>,
) -> Result<()> {
    let doing = || Doing::to("filling a column of target table", &plan.target);
    let given = value.map(|value| literal(db, path, plan, column, value)).transpose()?;
    let given = given.unwrap_or_else(|| "NULL".into());
    let called = &plan.columns[column].name;
    let (table, name) = (quote_ident(&plan.target), quote_ident(called));
    let others = format!(
        "SELECT EXISTS (SELECT 1 FROM {table} WHERE {name} IS NOT NULL AND quote({name}) <> {})",
        quote_literal(&given)
    );
    if db.query_row(&others, [], |r| r.get(0)).map_err(|e| sql_error(path, doing(), e))? {
        let reason = format!("column {called} is there, with other values: rename or drop that column there");
        return Err(AdapterError::refused(doing(), reason));
    }
    let sql = format!("UPDATE {table} SET {name} = {given} WHERE {name} IS NULL");
    db.execute_batch(&sql).map_err(|e| match e.sqlite_error_code() {
        // What people made of the column.
        Some(rusqlite::ErrorCode::ConstraintViolation) => AdapterError::refused(doing(), e.to_string()),
        _ => sql_error(path, doing(), e),
    })
}

/// A value as SQL.
fn literal(
    db: &Connection,
    path: &Path,
    plan: &TablePlan,
    column: usize,
    value: &RecordBatch,
) -> Result<String> {
    let converted = Converter::new(plan).convert(column, value_at(value.column(0).as_ref(), 0))?;
    db.query_row("SELECT quote(?1)", [converted], |r| r.get(0))
        .map_err(|e| sql_error(path, "writing a value as SQL", e))
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
            // As a default it has to be a literal (section 2 of the page on ALTER TABLE).
            Some(format!("{sql} DEFAULT {}", literal(db, path, plan, *column, value)?))
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

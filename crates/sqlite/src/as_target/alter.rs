//! Altering a target table in the transaction of the rows around it (<https://www.sqlite.org/lang_altertable.html>): what
//! SQLite does without writing the table anew.

use crate::as_target::columns::columns;
use crate::as_target::values::Converter;
use crate::as_target::{kept, state};
use crate::file::error::sql_error;
use arrow::array::RecordBatch;
use moorage_adapter::{AdapterError, Doing, Result, TableState};
use moorage_core::drift::alter::{AlterStep, Alteration, Then};
use moorage_core::drift::standing::Standing;
use moorage_core::drift::standing::TargetColumns;
use moorage_core::model::sql::{quote_ident, quote_literal};
use moorage_core::plan::current_rows::is_its;
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
    // What is done to one partition is done to all of them.
    let stands_among_others = alteration.before.gathered.is_some() && alteration.before.root().is_none();
    let others = state::beside_in_table(db, &alteration.after).map_err(failed)?;
    let mut there = columns(db, alteration.after.stands_in()).map_err(failed)?;
    for (step, standing) in alteration.steps.iter().zip(alteration.standing(&mut there)) {
        match (standing, step) {
            (Standing::Done, _) => {}
            (Standing::Declared, AlterStep::Add { column, value }) => {
                fill(db, path, &alteration.after, *column, value.as_ref())?;
            }
            _ if stands_among_others => {
                let now = columns(db, alteration.after.stands_in()).map_err(failed)?;
                for sql in among_others((db, path), alteration, step, &now, &others)? {
                    db.execute_batch(sql.trim_end()).map_err(failed)?;
                }
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

/// A condition more, where the target table has rows of other tables, too: that a row is of the plan's.
fn and_its(plan: &TablePlan) -> String {
    is_its(plan, "").map(|its| format!(" AND {its}")).unwrap_or_default()
}

/// The statements for a step where other tables stand in the target table, whose rows stay as they are. `there` are its columns,
/// and `others` those tables.
fn among_others(
    (db, path): (&Connection, &Path),
    alteration: &Alteration,
    step: &AlterStep,
    there: &TargetColumns,
    others: &[(TablePlan, TableState)],
) -> Result<Vec<String>> {
    let plan = &alteration.after;
    let have = |name: &str| others.iter().any(|(other, _)| other.columns.iter().any(|c| c.name == name));
    let is_there = |name: &str| there.iter().any(|(found, _)| found.eq_ignore_ascii_case(name));
    let (table, its) = (quote_ident(plan.stands_in()), is_its(plan, "").unwrap_or_default());
    let set = |what: String| format!("UPDATE {table} SET {what} WHERE {its}");
    let drop = |name: &str| format!("ALTER TABLE {table} DROP COLUMN {}", quote_ident(name));
    let add = |column: usize| {
        let planned = &plan.columns[column];
        format!("ALTER TABLE {table} ADD COLUMN {} {}", quote_ident(&planned.name), planned.declared.sql)
    };
    Ok(match step {
        AlterStep::Add { column, value } => {
            let name = quote_ident(&plan.columns[*column].name);
            let value = value.as_ref().map(|value| literal(db, path, plan, *column, value)).transpose()?;
            std::iter::once(add(*column)).chain(value.map(|value| set(format!("{name} = {value}")))).collect()
        }
        AlterStep::Rename { from, to } if have(from) || is_there(to) => {
            if alteration.before.mapped.key_names().contains(&from.as_str()) {
                let reason = format!(
                    "column {from} is part of the key of several tables there, and would be {to} for this one: have it go by its name with rename = {{ {to} = \"{from}\" }} in a rule"
                );
                return Err(AdapterError::refused(Doing::to("altering target table", &plan.target), reason));
            }
            let column = plan.columns.iter().position(|c| c.name == *to).unwrap_or_default();
            let moved = set(format!("{} = {from}, {from} = NULL", quote_ident(to), from = quote_ident(from)));
            let add = (!is_there(to)).then(|| add(column));
            add.into_iter().chain([moved]).chain((!have(from)).then(|| drop(from))).collect()
        }
        AlterStep::Drop { name } if have(name) => vec![set(format!("{} = NULL", quote_ident(name)))],
        step => statement(db, path, alteration, step)?.into_iter().collect(),
    })
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
    let (table, name) = (quote_ident(plan.stands_in()), quote_ident(called));
    let others = format!(
        "SELECT EXISTS (SELECT 1 FROM {table} WHERE {name} IS NOT NULL AND quote({name}) <> {}{})",
        quote_literal(&given),
        and_its(plan)
    );
    if db.query_row(&others, [], |r| r.get(0)).map_err(|e| sql_error(path, doing(), e))? {
        let reason = format!("column {called} is there, with other values: rename or drop that column there");
        return Err(AdapterError::refused(doing(), reason));
    }
    let sql = format!("UPDATE {table} SET {name} = {given} WHERE {name} IS NULL{}", and_its(plan));
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
    let table = format!("ALTER TABLE {}", quote_ident(plan.stands_in()));
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
            Some(format!(
                "UPDATE {} SET {name} = {to} WHERE {name} = {from}{}",
                quote_ident(plan.stands_in()),
                and_its(plan)
            ))
        }
        AlterStep::Drop { name } => Some(format!("{table} DROP COLUMN {}", quote_ident(name))),
    })
}

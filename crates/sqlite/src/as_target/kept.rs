//! Tables that keep more than the current rows: what they have as such, and the view of it.

use super::columns::columns;
use crate::file::error::sql_error;
use moorage_adapter::{AdapterError, Doing, Result};
use moorage_core::model::kept_as::OLD;
use moorage_core::model::sql::{quote_ident, quote_literal};
use moorage_core::plan::current_rows::{Whose, current_rows};
use moorage_core::plan::table::TablePlan;
use rusqlite::{Connection, OptionalExtension};
use std::path::Path;

/// Stands in the text of views that are ours.
const OURS: &str = "/* moorage: the rows as they are now */";

/// What is read for the rows that a table has now: the table itself, or a query in brackets.
pub(crate) fn source_of(plan: &TablePlan) -> String {
    query(plan).map_or_else(|| quote_ident(plan.stands_in()), |query| format!("({query})"))
}

/// A query for the rows that a plan's table has now; none where that is the target table itself.
pub(super) fn query(plan: &TablePlan) -> Option<String> {
    let own: Vec<String> = plan.columns.iter().take(plan.width()).map(|c| c.name.clone()).collect();
    rows_of(plan, &own, Whose::Its)
}

fn rows_of(plan: &TablePlan, columns: &[String], whose: Whose) -> Option<String> {
    let table = quote_ident(plan.stands_in());
    let same = |prefix: &str| (0..plan.width()).map(|c| exact(plan, c, prefix)).collect();
    current_rows(plan, (&table, columns), whose, same)
}

/// The columns of rows in a target table, without those that what it keeps adds. Where several tables stand in it, one may have
/// columns that others have not.
fn columns_of_all(plan: &TablePlan, there: &[String]) -> Vec<String> {
    let planned = |name: &String| plan.columns.iter().any(|c| c.name.eq_ignore_ascii_case(name));
    let own = plan.columns.iter().take(plan.width()).map(|c| c.name.clone());
    let is_old = |name: &&String| plan.kept_as.old_values && name.starts_with(OLD);
    let others = there.iter().filter(|name| plan.gathered.is_some() && !planned(name) && !is_old(name));
    own.chain(others.cloned()).collect()
}

/// A column such that two are equal only if they are the same to the last bit.
pub(super) fn exact(plan: &TablePlan, column: usize, prefix: &str) -> String {
    let name = quote_ident(&plan.columns[column].name);
    // Zeros of both signs are equal, and not the same.
    if plan.mapped.columns[column].logical.is_float() {
        format!("quote({prefix}{name})")
    } else {
        format!("{prefix}{name}")
    }
}

/// Whether a view of the file is one of ours, as an expression over `sqlite_schema`.
pub(crate) fn is_our_view() -> String {
    format!("(type = 'view' AND instr(sql, {}) > 0)", quote_literal(OURS))
}

/// The statement that makes the view beside a table which has these columns; none if there is none to be made.
pub(crate) fn view(plan: &TablePlan, there: &[String]) -> Option<String> {
    let (view, query) = (plan.view()?, rows_of(plan, &columns_of_all(plan, there), Whose::All)?);
    Some(format!("CREATE VIEW {} AS {OURS} {query}", quote_ident(view)))
}

/// Makes the view beside a table; one of ours that is there is made anew.
///
/// # Errors
/// If there is something else of that name.
pub(crate) fn make_view(db: &Connection, path: &Path, plan: &TablePlan) -> Result<()> {
    let Some(name) = &plan.kept_as.view else { return Ok(()) };
    let doing = || Doing::to("making view", name);
    let there = columns(db, plan.stands_in()).map_err(|e| sql_error(path, doing(), e))?;
    let there: Vec<String> = there.into_iter().map(|(name, _)| name).collect();
    let Some(sql) = view(plan, &there) else { return Ok(()) };
    drop_view(db, path, plan)?;
    let others = "SELECT type FROM sqlite_schema WHERE name = ?1 COLLATE NOCASE";
    let others: Option<String> =
        db.query_row(others, [name], |r| r.get(0)).optional().map_err(|e| sql_error(path, doing(), e))?;
    if let Some(kind) = others {
        let reason = format!(
            "there is a {kind} of that name. Rename or drop it, or give the view another name with `view` in the project file"
        );
        return Err(AdapterError::refused(doing(), reason));
    }
    db.execute_batch(&sql).map_err(|e| sql_error(path, doing(), e))
}

/// Makes the view beside a table if somebody took it away.
pub(crate) fn put_view_back(db: &Connection, path: &Path, plan: &TablePlan) -> Result<()> {
    let Some(name) = &plan.kept_as.view else { return Ok(()) };
    let sql = "SELECT EXISTS (SELECT 1 FROM sqlite_schema WHERE name = ?1 COLLATE NOCASE)";
    let is_there = db.prepare_cached(sql).and_then(|mut sql| sql.query_row([name], |row| row.get(0)));
    match is_there.map_err(|e| sql_error(path, Doing::to("looking for view", name), e))? {
        true => Ok(()),
        false => make_view(db, path, plan),
    }
}

/// Takes the view beside a table away, if it is ours.
pub(crate) fn drop_view(db: &Connection, path: &Path, plan: &TablePlan) -> Result<()> {
    let name = plan.kept_as.view.clone().unwrap_or_default();
    drop_our_view(db, plan).map_err(|e| sql_error(path, Doing::to("removing view", name), e))
}

/// The same.
pub(crate) fn drop_our_view(db: &Connection, plan: &TablePlan) -> rusqlite::Result<()> {
    let Some(name) = &plan.kept_as.view else { return Ok(()) };
    let ours = format!(
        "SELECT EXISTS (SELECT 1 FROM sqlite_schema WHERE name = ?1 COLLATE NOCASE AND {})",
        is_our_view()
    );
    if db.query_row(&ours, [name], |r| r.get(0))? {
        db.execute_batch(&format!("DROP VIEW {}", quote_ident(name)))?;
    }
    Ok(())
}

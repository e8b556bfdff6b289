//! Tables that keep more than the current rows: what they have as such, and the view of it.

use crate::file::error::sql_error;
use moorage_adapter::{AdapterError, Doing, Result};
use moorage_core::model::sql::{quote_ident, quote_literal};
use moorage_core::plan::current_rows::current_rows;
use moorage_core::plan::table::TablePlan;
use rusqlite::{Connection, OptionalExtension};
use std::path::Path;

/// Stands in the text of views that are ours.
const OURS: &str = "/* moorage: the rows as they are now */";

/// What is read for the rows that a table has now: the table itself, or a query in brackets.
pub(crate) fn source_of(plan: &TablePlan) -> String {
    query(plan).map_or_else(|| quote_ident(&plan.target), |query| format!("({query})"))
}

/// A query for the rows that a table has now; none where that is the table itself.
pub(super) fn query(plan: &TablePlan) -> Option<String> {
    let table = quote_ident(&plan.target);
    current_rows(plan, &table, |prefix| (0..plan.width()).map(|c| exact(plan, c, prefix)).collect())
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

/// The statement that makes the view beside a table; none if there is none to be made.
pub(crate) fn view(plan: &TablePlan) -> Option<String> {
    let (view, query) = (plan.kept_as.view.as_ref()?, query(plan)?);
    Some(format!("CREATE VIEW {} AS {OURS} {query}", quote_ident(view)))
}

/// Makes the view beside a table; one of ours that is there is made anew.
///
/// # Errors
/// If there is something else of that name.
pub(crate) fn make_view(db: &Connection, path: &Path, plan: &TablePlan) -> Result<()> {
    let (Some(name), Some(sql)) = (&plan.kept_as.view, view(plan)) else { return Ok(()) };
    let doing = || Doing::to("making view", name);
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

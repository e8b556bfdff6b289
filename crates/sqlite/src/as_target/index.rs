//! The index by which rows are found.

use crate::as_target::statements::create_index;
use crate::file::error::sql_error;
use moorage_adapter::{AdapterError, Doing, Result};
use moorage_core::plan::table::TablePlan;
use rusqlite::Connection;
use std::path::Path;

/// The name, or one with a number behind it that no other table's index has.
fn free_name(db: &Connection, base: &str) -> rusqlite::Result<String> {
    let mut query = db.prepare("SELECT count(*) FROM sqlite_schema WHERE name = ?1")?;
    for number in 1.. {
        let name = if number == 1 { base.to_string() } else { format!("{base}_{number}") };
        if query.query_row([&name], |r| r.get::<_, i64>(0))? == 0 {
            return Ok(name);
        }
    }
    Ok(base.to_string())
}

/// Whether what merges find rows by was built, where the table itself is not ordered by the key.
pub(crate) fn has_index(db: &Connection, path: &Path, plan: &TablePlan) -> Result<bool> {
    let sql = "SELECT count(*) FROM sqlite_schema WHERE type = 'index' AND tbl_name = ?1 COLLATE NOCASE
               AND (name LIKE 'moorage\\_key\\_%' ESCAPE '\\' OR name LIKE 'moorage\\_match\\_%' ESCAPE '\\')";
    db.query_row(sql, [plan.stands_in()], |r| r.get::<_, i64>(0).map(|n| n > 0))
        .map_err(|e| sql_error(path, Doing::to("looking at table", &plan.target), e))
}

/// Builds what merges find rows by. A declared key that is not unique, or null, is refused here.
pub(crate) fn build_index(db: &Connection, path: &Path, plan: &TablePlan) -> Result<()> {
    if has_index(db, path, plan)? {
        return Ok(());
    }
    let free = |base: &str| free_name(db, base).map_err(|e| sql_error(path, "looking for a name", e));
    let Some(statement) = create_index(plan, free)? else { return Ok(()) };
    db.execute_batch(&statement).map_err(|e| match e.sqlite_error_code() {
        Some(rusqlite::ErrorCode::ConstraintViolation) => AdapterError::Value {
            table: plan.table().to_string(),
            what: match &plan.gathered { Some(gathered) if gathered.disjoint => format!(
                "two of the tables that stand together in {0} have a row with the same key. Mend the rows in the source, or take `disjoint_keys` out of the rule; then run `moorage resnapshot {0}`",
                plan.stands_in()
            ), _ => format!(
                "the key ({}) is not unique: two rows have the same values. Declare another key in the project file, or take `key` out and have the source's log carry whole rows",
                plan.mapped.key_names().join(", ")
            ) },
        },
        _ => sql_error(path, Doing::to("building the key of table", &plan.target), e),
    })
}

//! Reading a table again while its old rows stay readable: the new ones are loaded into a table beside it,
//! which takes its place in one transaction.

use crate::as_target::catch_up::catch_up;
use crate::as_target::index::build_index;
use crate::as_target::statements::create_table;
use crate::as_target::{kept, state};
use crate::file::error::sql_error;
use moorage_adapter::{AdapterError, Doing, LoadedTable, Result};
use moorage_core::model::sql::{quote_ident, quote_list};
use moorage_core::plan::table::TablePlan;
use rusqlite::Connection;
use std::path::Path;

fn name(target: &str) -> String {
    format!("moorage_again_{target}")
}

/// The same plan for the table beside.
pub(crate) fn beside(plan: &TablePlan) -> TablePlan {
    TablePlan { target: name(&plan.target), gathered: None, existing_rows: None, ..plan.of_current() }
}

/// Whether a table is being loaded beside this one.
pub(crate) fn is_there(db: &Connection, target: &str) -> rusqlite::Result<bool> {
    db.prepare_cached("SELECT count(*) FROM sqlite_schema WHERE type = 'table' AND name = ?1")?
        .query_row([name(target)], |r| r.get::<_, i64>(0).map(|n| n > 0))
}

/// The plan of the table that loaded rows go to now.
pub(crate) fn loading_into(db: &Connection, plan: &TablePlan) -> rusqlite::Result<Option<TablePlan>> {
    Ok(is_there(db, &plan.target)?.then(|| beside(plan)))
}

/// Whether the table was made by people, or by their statements.
fn is_theirs(db: &Connection, plan: &TablePlan) -> rusqlite::Result<bool> {
    let adopted = state::owner(db, &plan.target)?.is_some_and(|(_, adopted)| adopted);
    Ok(adopted || plan.ddl.is_some())
}

/// Whether rows have to be replaced in the table, which stays.
fn stays(db: &Connection, plan: &TablePlan) -> rusqlite::Result<bool> {
    Ok(is_theirs(db, plan)? || has_dependents(db, &plan.target)?)
}

/// The columns of a table, and those of the key that the pipeline gave it.
fn columns_and_key(db: &Connection, target: &str) -> rusqlite::Result<(Vec<String>, Vec<String>)> {
    let list = |sql: &str| -> rusqlite::Result<Vec<String>> {
        db.prepare_cached(sql)?.query_map([target], |r| r.get(0))?.collect()
    };
    let columns = list("SELECT lower(name) FROM pragma_table_info(?1)")?;
    let key = list(
        "SELECT lower(name) FROM pragma_table_info(?1) WHERE pk > 0 UNION
         SELECT lower(i.name) FROM sqlite_schema s, pragma_index_info(s.name) i
         WHERE s.type = 'index' AND s.tbl_name = ?1 COLLATE NOCASE AND s.name LIKE 'moorage\\_key\\_%' ESCAPE '\\' ORDER BY 1",
    )?;
    Ok((columns, key))
}

/// Makes the table beside, empty; what an earlier try left is removed.
///
/// # Errors
/// `Refused` if its rows could not take the others' place.
pub(crate) fn create(db: &Connection, path: &Path, plan: &TablePlan) -> Result<()> {
    let failed = |e| sql_error(path, Doing::to("looking at table", &plan.target), e);
    if plan.is_a_copy() && stays(db, plan).map_err(failed)? {
        let (columns, key) = columns_and_key(db, &plan.target).map_err(failed)?;
        let mut wanted: Vec<String> = plan.mapped.key_names().iter().map(|k| k.to_lowercase()).collect();
        wanted.sort();
        let lacks = plan.columns.iter().any(|c| !columns.contains(&c.name.to_lowercase()));
        let is_other_key = !key.is_empty() && key != wanted && !is_theirs(db, plan).map_err(failed)?;
        if lacks || is_other_key {
            let reason = format!(
                "its columns, or its key, are to be others, and views of the file, or what people made on the table, would be lost or broken with it. \
                 Drop them, run `moorage resnapshot {}`, and make them again",
                plan.table()
            );
            return Err(AdapterError::refused(Doing::to("replacing table", &plan.target), reason));
        }
    }
    drop(db, path, plan)?;
    db.execute_batch(&create_table(&beside(plan)))
        .map_err(|e| sql_error(path, Doing::to("making table", name(&plan.target)), e))
}

pub(crate) fn drop(db: &Connection, path: &Path, plan: &TablePlan) -> Result<()> {
    db.execute_batch(&format!("DROP TABLE IF EXISTS {}", quote_ident(&name(&plan.target))))
        .map_err(|e| sql_error(path, Doing::to("removing table", name(&plan.target)), e))
}

/// Builds the key of the table beside, unless it is there.
pub(crate) fn build_key(db: &Connection, path: &Path, plan: &TablePlan) -> Result<()> {
    build_index(db, path, &beside(plan))
}

/// Puts the loaded rows in the table's place, inside the caller's transaction, and remembers the table as
/// newly loaded with so many rows. Views, and indexes and triggers that people made, stay: then rows are
/// replaced in the table instead of the table itself.
pub(crate) fn swap(
    db: &Connection,
    path: &Path,
    plan: &TablePlan,
    end: &LoadedTable,
    snapshot_rows: u64,
) -> Result<()> {
    let failed = |e| sql_error(path, Doing::to("replacing the rows of table", &plan.target), e);
    let mark = end.mark.as_ref().map(|m| (m.text.as_str(), m.complete_at.as_str()));
    let remember = || -> rusqlite::Result<()> {
        state::remember_loaded(db, &plan.target, end.state, mark, end.captured_by.as_deref())?;
        state::count_anew(db, &plan.target, snapshot_rows)
    };
    if !plan.is_a_copy() {
        catch_up(db, path, plan, &name(&plan.target), &end.from)?;
        return remember().map_err(failed);
    }
    let (table, loaded) = (quote_ident(&plan.target), quote_ident(&name(&plan.target)));
    let sql = if stays(db, plan).map_err(failed)? {
        let columns = quote_list(plan.columns.iter().map(|c| c.name.as_str()));
        format!(
            "DELETE FROM {table}; INSERT INTO {table} ({columns}) SELECT {columns} FROM {loaded}; DROP TABLE {loaded}"
        )
    } else {
        format!("DROP TABLE IF EXISTS {table}; ALTER TABLE {loaded} RENAME TO {table}")
    };
    db.execute_batch(&sql).map_err(failed)?;
    remember().map_err(failed)
}

pub(crate) fn count(db: &Connection, path: &Path, plan: &TablePlan) -> Result<u64> {
    let sql = format!("SELECT count(*) FROM {}", quote_ident(&name(&plan.target)));
    db.query_row(&sql, [], |r| r.get(0)).map_err(|e| sql_error(path, "counting loaded rows", e))
}

/// Whether something hangs on the table that dropping it would take away or break, such as the triggers of a
/// pipeline that reads from here.
fn has_dependents(db: &Connection, target: &str) -> rusqlite::Result<bool> {
    let sql = format!(
        "SELECT count(*) FROM sqlite_schema WHERE (type = 'view' AND NOT {}) OR (tbl_name = ?1 COLLATE NOCASE
               AND (type = 'trigger' OR (type = 'index' AND name NOT LIKE 'moorage\\_%' ESCAPE '\\' AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\')))",
        kept::is_our_view()
    );
    db.query_row(&sql, [target], |r| r.get::<_, i64>(0).map(|n| n > 0))
}

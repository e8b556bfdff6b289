//! Loading rows of a snapshot.

use crate::as_target::statements::Statements;
use crate::as_target::values::Converter;
use crate::as_target::{beside, state};
use crate::file::error::sql_error;
use arrow::array::RecordBatch;
use moorage_adapter::{AdapterError, Doing, Result};
use moorage_core::model::schema::RowIdentity;
use moorage_core::plan::table::TablePlan;
use moorage_core::value::column::value_at;
use rusqlite::Connection;
use std::path::Path;

/// Writes rows. They are let go of before the last one is written: where one value is large, that is a copy less of it.
pub(super) fn load(db: &Connection, path: &Path, plan: &TablePlan, rows: RecordBatch) -> Result<()> {
    let failed = |e| sql_error(path, Doing::to("loading table", &plan.target), e);
    let beside = beside::loading_into(db, plan).map_err(failed)?;
    let into = beside.as_ref().unwrap_or(plan);
    let converter = Converter::new(into);
    let statements = Statements::new(into);
    let keeps = state::keeps_rows(db, &into.target).map_err(failed)?;
    let sql = if keeps && !statements.key.is_empty() { statements.upsert() } else { statements.insert() };
    let mut insert = db.prepare_cached(&sql).map_err(failed)?;
    let declared = matches!(plan.mapped.identity, RowIdentity::DeclaredKey(_));
    let (count, mut rows) = (rows.num_rows(), Some(rows));
    let width = into.columns.len();
    for row in 0..count {
        for (c, array) in rows.iter().flat_map(RecordBatch::columns).take(width).enumerate() {
            let value = converter.convert(c, value_at(array.as_ref(), row))?;
            insert.raw_bind_parameter(c + 1, value).map_err(failed)?;
        }
        if row + 1 == count {
            rows = None;
        }
        insert.raw_execute().map_err(|e| match e.sqlite_error_code() {
            Some(rusqlite::ErrorCode::ConstraintViolation) if declared => AdapterError::Value {
                table: plan.table().to_string(),
                what: format!(
                    "the declared key ({}) does not fit: {e}. Declare another key in the project file",
                    plan.mapped.key_names().join(", ")
                ),
            },
            _ => failed(e),
        })?;
    }
    insert.clear_bindings();
    // Rows beside a table are counted when they take its place.
    state::add_snapshot_rows(db, &into.target, count).map_err(failed)
}

//! Rows on their way into a planned table, and back.

use crate::format::schema::LakeType;
use crate::rows::convert::{Unfit, from_lake, to_lake};
use arrow::array::{ArrayRef, RecordBatch, RecordBatchOptions};
use arrow::datatypes::{Field, Schema, SchemaRef};
use moorage_adapter::{AdapterError, Result};
use moorage_core::plan::table::TablePlan;
use moorage_core::value::column::{value_at, value_text};
use std::sync::Arc;

/// The schema of the data files of a planned table.
pub(crate) fn lake_schema(plan: &TablePlan) -> SchemaRef {
    let columns = plan.columns.iter().zip(&plan.mapped.columns);
    let field = |(to, c): (&moorage_core::plan::table::PlannedColumn, &moorage_core::Column)| {
        Field::new(&to.name, LakeType::of(&c.logical).arrow(), true)
    };
    Arc::new(Schema::new(columns.map(field).collect::<Vec<_>>()))
}

/// A column as the table holds it; `row` gives the key of a row for people.
///
/// # Errors
/// With the first value that does not fit.
pub(crate) fn lake_column(
    plan: &TablePlan,
    at: usize,
    values: &ArrayRef,
    row: impl Fn(usize) -> String,
) -> Result<ArrayRef> {
    let of = LakeType::of(&plan.mapped.columns[at].logical);
    to_lake(values, of).map_err(|Unfit { row: unfit, what }| AdapterError::Value {
        table: plan.table().to_string(),
        what: format!(
            "target table {}, row {}: column {} is of type {of}, and {what}. Mend the row in the source, or have the column carried as text: cast = {{ {:?} = \"text\" }} in a rule",
            plan.target,
            row(unfit),
            plan.columns[at].name,
            plan.source_column(at)
        ),
    })
}

/// The key of a row of a batch, for people.
pub(crate) fn key_words(plan: &TablePlan, rows: &RecordBatch, row: usize) -> String {
    let all: Vec<usize> = (0..plan.columns.len().min(4)).collect();
    let key = plan.mapped.identity.key().unwrap_or(&all);
    let value = |&c: &usize| {
        let text = value_text(value_at(rows.column(c).as_ref(), row));
        format!("{} = {}", plan.columns[c].name, text.as_deref().unwrap_or("null"))
    };
    key.iter().map(value).collect::<Vec<_>>().join(", ")
}

/// Rows as a planned table holds them.
///
/// # Errors
/// With the first value that does not fit.
pub(crate) fn to_lake_rows(plan: &TablePlan, rows: &RecordBatch) -> Result<RecordBatch> {
    let column =
        |(at, values): (usize, &ArrayRef)| lake_column(plan, at, values, |row| key_words(plan, rows, row));
    let columns =
        rows.columns().iter().enumerate().take(plan.columns.len()).map(column).collect::<Result<Vec<_>>>()?;
    let options = RecordBatchOptions::new().with_row_count(Some(rows.num_rows()));
    Ok(RecordBatch::try_new_with_options(lake_schema(plan), columns, &options)?)
}

/// Rows of a table as values of its source.
///
/// # Errors
/// If its columns are not those that were planned.
pub(crate) fn from_lake_rows(plan: &TablePlan, rows: &RecordBatch) -> Result<RecordBatch> {
    let columns = rows.columns().iter().zip(&plan.mapped.columns);
    let columns = columns
        .map(|(values, c)| from_lake(values, &c.logical))
        .collect::<std::result::Result<Vec<_>, _>>()?;
    let options = RecordBatchOptions::new().with_row_count(Some(rows.num_rows()));
    Ok(RecordBatch::try_new_with_options(plan.mapped.arrow(), columns, &options)?)
}

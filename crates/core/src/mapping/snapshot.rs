//! What a snapshot adds to its rows for what a table keeps.

use crate::mapping::outputs::Output;
use crate::model::kept_as::{Added, KeptAs, Operation};
use crate::model::schema::TableSchema;
use crate::value::column::{ColumnBuilder, Value};
use crate::value::moment::Moment;
use arrow::array::{ArrayRef, RecordBatch, RecordBatchOptions, new_null_array};
use arrow::error::ArrowError;

/// Rows with the columns of a structure: those of the row itself from `rows`, in which they come first, and behind them those
/// that are added. They count from a moment on.
///
/// # Errors
/// If there are too few columns.
pub fn with_added(
    (mapped, outputs): (&TableSchema, &[Output]),
    kept_as: &KeptAs,
    rows: &RecordBatch,
    valid_from: Moment,
) -> Result<RecordBatch, ArrowError> {
    let (since, count) = (valid_from.to_string(), rows.num_rows());
    let column = |(at, output): (usize, &Output)| -> Result<ArrayRef, ArrowError> {
        let logical = &mapped.columns[at].logical;
        let value = match output {
            Output::Added(Added::Operation) => Value::Text(kept_as.word(Operation::Snapshot)),
            Output::Added(Added::Position) => Value::Text(""),
            Output::Added(Added::Order) => Value::Int(0),
            Output::Added(Added::Since) => Value::Text(&since),
            Output::Added(Added::IsDelete) => Value::Bool(false),
            Output::Added(_) | Output::Old(_) => return Ok(new_null_array(&logical.base(), count)),
            _ if at < rows.num_columns() => return Ok(rows.column(at).clone()),
            _ => return Err(ArrowError::SchemaError(format!("rows have no column {at}"))),
        };
        let mut out = ColumnBuilder::new(logical);
        match (0..count).all(|_| out.push(value)) {
            true => Ok(out.finish()),
            false => Err(ArrowError::SchemaError(format!("{value:?} is of another type"))),
        }
    };
    let columns = outputs.iter().enumerate().map(column).collect::<Result<_, _>>()?;
    let options = RecordBatchOptions::new().with_row_count(Some(count));
    RecordBatch::try_new_with_options(mapped.arrow(), columns, &options)
}

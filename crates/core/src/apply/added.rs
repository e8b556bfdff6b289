//! The columns that a table adds to its rows for what it keeps, as images beside those of a batch.

use crate::apply::net::{Cells, ImageRef, ReduceError};
use crate::change::block::ChangeBlock;
use crate::mapping::outputs::Output;
use crate::plan::table::TablePlan;
use crate::value::column::{ColumnBuilder, Value};
use arrow::array::{ArrayRef, RecordBatch, RecordBatchOptions, StringArray, new_null_array};
use arrow::error::ArrowError;
use std::sync::Arc;

/// Rows with values in added columns alone. All others are null, but for where rows come from: so a row of these is also where
/// nothing is.
pub(super) struct AddedRows<'a> {
    plan: &'a TablePlan,
    /// The number that the block with them will have.
    block: u32,
    columns: Vec<ColumnBuilder>,
    rows: u32,
}

impl<'a> AddedRows<'a> {
    /// None so far; they will stand behind so many blocks.
    pub(super) fn behind(plan: &'a TablePlan, blocks: usize) -> Self {
        let added = plan.mapped.columns.iter().skip(plan.width());
        let columns = added.map(|c| ColumnBuilder::new(&c.logical)).collect();
        Self { plan, block: blocks as u32, columns, rows: 0 }
    }

    /// Adds a row: what each added column holds.
    ///
    /// # Errors
    /// If a value is not of its column's type.
    pub(super) fn push<'b>(&mut self, value: impl Fn(&Output) -> Value<'b>) -> Result<ImageRef, ReduceError> {
        let outputs = self.plan.mapping.outputs.iter().skip(self.plan.width());
        for (output, column) in outputs.zip(&mut self.columns) {
            if !column.push(value(output)) {
                let what = format!("{output:?} has a value of another type");
                return Err(self.failed(ArrowError::SchemaError(what)));
            }
        }
        self.rows += 1;
        Ok(ImageRef { block: self.block, row: self.rows - 1, old: false })
    }

    /// A row's own cells with those of the added columns beside them. Without own ones it has nothing in their columns.
    pub(super) fn beside(&self, own: Option<&Cells>, added: ImageRef) -> Cells {
        let width = self.plan.width();
        match own {
            None => Cells::Whole(added),
            Some(Cells::Whole(first)) => Cells::Beside { first: *first, width: width as u32, rest: added },
            Some(own) => {
                let all = 0..self.plan.columns.len();
                Cells::Mixed(all.map(|c| if c < width { own.at(c) } else { Some(added) }).collect())
            }
        }
    }

    /// The block with all of them; none if there are none.
    ///
    /// # Errors
    /// If they do not fit the plan.
    pub(super) fn finish(mut self) -> Result<Option<ChangeBlock>, ReduceError> {
        if self.rows == 0 {
            return Ok(None);
        }
        let (rows, schema) = (self.rows as usize, &self.plan.mapped);
        let member = self.plan.member();
        let own = schema.columns.iter().take(self.plan.width()).map(|c| match member {
            // Also what empties a table says which one, where several stand together.
            Some((column, from)) if c.name == column => Arc::new(StringArray::from(vec![from; rows])),
            _ => new_null_array(&c.logical.base(), rows),
        });
        let columns: Vec<ArrayRef> = own.chain(self.columns.iter_mut().map(ColumnBuilder::finish)).collect();
        let options = RecordBatchOptions::new().with_row_count(Some(rows));
        let images = RecordBatch::try_new_with_options(schema.arrow(), columns, &options);
        let images = images.map_err(|e| self.failed(e))?;
        Ok(Some(ChangeBlock::of_images(schema.clone(), images)))
    }

    fn failed(&self, error: ArrowError) -> ReduceError {
        ReduceError::Added { table: self.plan.table().to_string(), what: error.to_string() }
    }
}

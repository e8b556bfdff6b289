//! Reading data files, those that others made among them.

use crate::format::schema::LakeSchema;
use arrow::array::{ArrayRef, RecordBatch, RecordBatchOptions, new_null_array};
use arrow::compute::cast_with_options;
use arrow::datatypes::{Schema, SchemaRef};
use parquet::arrow::ProjectionMask;
use parquet::arrow::arrow_reader::{
    ArrowReaderMetadata, ArrowReaderOptions, ParquetRecordBatchReader, ParquetRecordBatchReaderBuilder,
    RowSelection, RowSelector,
};
use parquet::errors::ParquetError;
use parquet::file::metadata::PageIndexPolicy;
use parquet::file::reader::ChunkReader;
use roaring::RoaringBitmap;
use std::sync::Arc;

/// Which rows of a file.
#[derive(Clone, Copy)]
pub(crate) enum Which<'a> {
    /// All but these.
    Not(&'a RoaringBitmap),
    /// These alone.
    Only(&'a RoaringBitmap),
}

/// An opened data file.
pub(crate) struct Reading {
    reader: ParquetRecordBatchReader,
    schema: SchemaRef,
}

/// How many rows a file has, by its own word.
///
/// # Errors
/// If it is no data file.
pub(crate) fn rows_in<T: ChunkReader + 'static>(file: &T) -> Result<u64, ParquetError> {
    let metadata = ArrowReaderMetadata::load(file, ArrowReaderOptions::new())?;
    Ok(metadata.metadata().file_metadata().num_rows().max(0) as u64)
}

impl Reading {
    /// Reads columns of the table, by their places in its schema, in batches of so many rows at most.
    ///
    /// # Errors
    /// If it is no data file.
    pub(crate) fn open<T: ChunkReader + 'static>(
        file: T,
        schema: &LakeSchema,
        columns: &[usize],
        which: Which<'_>,
        batch_rows: usize,
    ) -> Result<Self, ParquetError> {
        let options = ArrowReaderOptions::new().with_page_index_policy(PageIndexPolicy::Optional);
        // What the writer's program kept of its own types is not needed: the log says what the columns are.
        let options = options.with_skip_arrow_metadata(true);
        let builder = ParquetRecordBatchReaderBuilder::try_new_with_options(file, options)?;
        let rows = builder.metadata().file_metadata().num_rows().max(0) as u64;
        let wanted = LakeSchema::new(columns.iter().map(|&c| schema.fields[c].clone()).collect());
        let roots = builder.schema().fields().iter().enumerate();
        let roots =
            roots.filter(|(_, f)| wanted.fields.iter().any(|w| w.name == *f.name())).map(|(at, _)| at);
        let mask = ProjectionMask::roots(builder.parquet_schema(), roots);
        let reader = builder
            .with_projection(mask)
            .with_batch_size(batch_rows)
            .with_row_selection(selection(which, rows));
        Ok(Self { reader: reader.build()?, schema: wanted.arrow() })
    }

    /// A batch with the table's columns: those that the file has not are null in all its rows.
    fn fitted(&self, batch: &RecordBatch) -> Result<RecordBatch, ParquetError> {
        let strict = arrow::compute::CastOptions { safe: false, ..Default::default() };
        let column = |field: &Arc<arrow::datatypes::Field>| -> Result<ArrayRef, ParquetError> {
            match batch.column_by_name(field.name()) {
                Some(found) if found.data_type() == field.data_type() => Ok(found.clone()),
                Some(found) => Ok(cast_with_options(found, field.data_type(), &strict)?),
                None => Ok(new_null_array(field.data_type(), batch.num_rows())),
            }
        };
        let columns = self.schema.fields().iter().map(column).collect::<Result<Vec<_>, _>>()?;
        let options = RecordBatchOptions::new().with_row_count(Some(batch.num_rows()));
        Ok(RecordBatch::try_new_with_options(self.schema.clone(), columns, &options)?)
    }

    /// The columns that are read.
    pub(crate) fn schema(&self) -> &Arc<Schema> {
        &self.schema
    }
}

impl Iterator for Reading {
    type Item = Result<RecordBatch, ParquetError>;

    fn next(&mut self) -> Option<Self::Item> {
        let next = self.reader.next()?;
        Some(next.map_err(ParquetError::from).and_then(|batch| self.fitted(&batch)))
    }
}

/// Rows of a file with so many. What a vector names beyond them is passed over.
fn selection(which: Which<'_>, rows: u64) -> RowSelection {
    let (listed, takes_listed) = match which {
        Which::Not(rows) => (rows, false),
        Which::Only(rows) => (rows, true),
    };
    let (mut selectors, mut at) = (Vec::new(), 0u64);
    let mut push = |count: u64, takes: bool| {
        if count > 0 {
            let count = count as usize;
            selectors.push(if takes { RowSelector::select(count) } else { RowSelector::skip(count) });
        }
    };
    for range in ranges(listed) {
        let (from, to) = (u64::from(*range.start()).min(rows), (u64::from(*range.end()) + 1).min(rows));
        push(from - at, !takes_listed);
        push(to - from, takes_listed);
        at = to;
    }
    push(rows - at, !takes_listed);
    selectors.into()
}

/// The runs of rows that follow each other.
fn ranges(rows: &RoaringBitmap) -> impl Iterator<Item = std::ops::RangeInclusive<u32>> {
    let mut iter = rows.iter();
    std::iter::from_fn(move || iter.next_range())
}

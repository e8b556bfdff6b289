//! Reading rows of a table: all that live, or some by their places.

use crate::format::schema::LakeSchema;
use crate::rows::read::{Reading, Which};
use crate::store::Content;
use crate::table::open::{Live, Table, blocking};
use arrow::array::RecordBatch;
use moorage_adapter::{AdapterError, Doing, Result};
use parquet::errors::ParquetError;
use roaring::RoaringBitmap;
use std::sync::Arc;

/// Rows that are read at once.
const BATCH_ROWS: usize = 8192;

/// An error of a data file.
pub(crate) fn broken_file(name: &str, error: &ParquetError) -> AdapterError {
    AdapterError::refused(Doing::to("reading the data file", name), error)
}

/// Opens a data file.
pub(crate) fn reading(
    content: Content,
    schema: &LakeSchema,
    columns: &[usize],
    which: Which<'_>,
) -> std::result::Result<Reading, ParquetError> {
    match content {
        Content::File(file) => Reading::open(file, schema, columns, which, BATCH_ROWS),
        Content::Memory(bytes) => Reading::open(bytes, schema, columns, which, BATCH_ROWS),
    }
}

impl Table {
    /// The rows of a file that live, in its order, handed over one batch after the other until no more are wanted.
    pub(crate) async fn scan(
        &self,
        live: &Live,
        columns: &[usize],
        mut take: impl FnMut(RecordBatch) -> bool + Send + 'static,
    ) -> Result<()> {
        let content = self.content(&live.name).await?;
        let (schema, columns) = (self.schema.clone(), columns.to_vec());
        let (dead, name) = (live.dead.clone(), live.name.clone());
        blocking(move || {
            let failed = |e: ParquetError| broken_file(&name, &e);
            for batch in reading(content, &schema, &columns, Which::Not(&dead)).map_err(failed)? {
                if !take(batch.map_err(failed)?) {
                    break;
                }
            }
            Ok(())
        })
        .await?
    }

    /// These rows of a file, in its order.
    pub(crate) async fn pick(
        &self,
        name: &str,
        rows: Arc<RoaringBitmap>,
        columns: &[usize],
    ) -> Result<RecordBatch> {
        let content = self.content(name).await?;
        let (schema, columns, name) = (self.schema.clone(), columns.to_vec(), name.to_string());
        blocking(move || {
            let failed = |e: ParquetError| broken_file(&name, &e);
            let reading = reading(content, &schema, &columns, Which::Only(&rows)).map_err(failed)?;
            let of = reading.schema().clone();
            let batches = reading.collect::<std::result::Result<Vec<_>, _>>().map_err(failed)?;
            Ok(arrow::compute::concat_batches(&of, &batches)?)
        })
        .await?
    }
}

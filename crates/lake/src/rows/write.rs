//! Making data files.

use crate::rows::stats::Stats;
use arrow::array::RecordBatch;
use arrow::datatypes::SchemaRef;
use parquet::arrow::ArrowWriter;
use parquet::basic::{Compression, ZstdLevel};
use parquet::errors::ParquetError;
use parquet::file::properties::{EnabledStatistics, WriterProperties};

/// Rows of a data file at most: what a reader's thread takes at once, and what is written again where some of them are gone.
pub(crate) const FILE_ROWS: usize = 250_000;
/// About how many bytes of memory the rows of a data file take at most.
pub(crate) const FILE_BYTES: usize = 32 << 20;
/// Rows of a page at most: what is read at least to get one row back.
const PAGE_ROWS: usize = 4096;

/// A data file.
pub(crate) struct DataFile {
    pub(crate) bytes: Vec<u8>,
    pub(crate) stats: Stats,
    pub(crate) rows: usize,
}

/// Makes a file of rows.
///
/// # Errors
/// If they do not have this schema.
pub(crate) fn data_file(schema: &SchemaRef, rows: &RecordBatch) -> Result<DataFile, ParquetError> {
    let properties = WriterProperties::builder()
        .set_compression(Compression::ZSTD(ZstdLevel::try_new(1)?))
        .set_data_page_row_count_limit(PAGE_ROWS)
        // Of pages, only where they are: readers skip by the log, and by the ends of whole columns.
        .set_statistics_enabled(EnabledStatistics::Chunk)
        .build();
    let mut writer = ArrowWriter::try_new(Vec::new(), schema.clone(), Some(properties))?;
    writer.write(rows)?;
    Ok(DataFile { bytes: writer.into_inner()?, stats: Stats::of(rows), rows: rows.num_rows() })
}

//! Blocks of changes as bytes, for keeping them elsewhere: in a spool on disk, beside a target's tables.
//!
//! A kept block begins with `KEPT` and a checksum (CRC-32, as in IEEE 802.3) of all that follows: three parts, each behind
//! its length in 8 bytes (little-endian): what the block says of its changes, in JSON; the new images; the old images
//! (Apache Arrow columnar format, section "IPC Streaming Format"; of no bytes where there are none). Blocks of earlier
//! versions have the three parts alone.
//!
//! What is read back may come from a broken disk: nothing of it is looked at before the checksum, which Arrow's reader
//! needs (it stops the program on some of what it cannot read), and nothing points anywhere before it was looked at.

use crate::change::block::{ChangeBlock, Span};
use crate::change::counters::Operations;
use crate::change::kind::{Entry, Transaction, Unchanged};
use crate::change::place::Place;
use crate::model::schema::TableSchema;
use arrow::array::RecordBatch;
use arrow::buffer::Buffer;
use arrow::error::ArrowError;
use arrow::ipc::MetadataVersion;
use arrow::ipc::reader::StreamDecoder;
use arrow::ipc::writer::{IpcWriteOptions, StreamWriter};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::sync::Arc;

const MAGIC: &[u8; 4] = b"KEPT";
const HEAD_BYTES: usize = 8;

/// What a block consists of beside its two batches of images.
#[derive(Debug, Serialize, Deserialize)]
struct About {
    entries: Vec<Entry>,
    unchanged: HashMap<u32, Unchanged>,
    transactions: Vec<(usize, Transaction)>,
    /// Their numbers alone, as earlier versions kept them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    sequences: Vec<u64>,
    /// Where they stand; none in blocks of earlier versions.
    #[serde(default)]
    places: Vec<Place>,
    bytes: usize,
    #[serde(default)]
    read: Option<Operations>,
    #[serde(default)]
    blind: bool,
}

fn broken(what: &str) -> ArrowError {
    ArrowError::ParseError(format!("a kept block {what}"))
}

/// Parts as bytes, behind a word and a checksum of all that follows; each behind its length.
pub(crate) fn sealed(magic: &[u8; 4], parts: &[Vec<u8>]) -> Vec<u8> {
    let mut out = vec![0; HEAD_BYTES];
    for part in parts {
        out.extend_from_slice(&(part.len() as u64).to_le_bytes());
        out.extend_from_slice(part);
    }
    let sum = crc32fast::hash(&out[HEAD_BYTES..]);
    out[..4].copy_from_slice(magic);
    out[4..HEAD_BYTES].copy_from_slice(&sum.to_le_bytes());
    out
}

/// The parts of what [`sealed`] made, if it is not damaged; [`next_part`] takes them.
pub(crate) fn unsealed<'a>(magic: &[u8; 4], bytes: &'a [u8]) -> Result<&'a [u8], ArrowError> {
    let rest = bytes.strip_prefix(magic).ok_or_else(|| broken("begins in another way"))?;
    let (sum, rest) = rest.split_first_chunk().ok_or_else(|| broken("ends early"))?;
    if crc32fast::hash(rest) != u32::from_le_bytes(*sum) {
        return Err(broken("was damaged: its checksum is another one"));
    }
    Ok(rest)
}

/// Takes a part from behind its length.
pub(crate) fn next_part<'a>(bytes: &mut &'a [u8]) -> Result<&'a [u8], ArrowError> {
    let short = || broken("ends early");
    let (length, rest) = bytes.split_first_chunk().ok_or_else(short)?;
    let length = usize::try_from(u64::from_le_bytes(*length)).map_err(|_| short())?;
    let (part, rest) = rest.split_at_checked(length).ok_or_else(short)?;
    *bytes = rest;
    Ok(part)
}

impl ChangeBlock {
    /// The block as bytes; [`from_bytes`](Self::from_bytes) reads them.
    ///
    /// # Errors
    /// If a column cannot be written.
    pub fn to_bytes(&self) -> Result<Vec<u8>, ArrowError> {
        let about = About {
            entries: self.entries.clone(),
            unchanged: self.unchanged.clone(),
            transactions: self.transactions.iter().map(|s| (s.first, (*s.transaction).clone())).collect(),
            sequences: Vec::new(),
            places: self.transactions.iter().map(|s| s.place).collect(),
            bytes: self.bytes,
            read: self.read,
            blind: self.blind,
        };
        let about = serde_json::to_vec(&about).map_err(|e| ArrowError::ExternalError(Box::new(e)))?;
        let images = |rows: &RecordBatch| match rows.num_rows() {
            0 => Ok(Vec::new()),
            _ => rows_to_bytes(rows),
        };
        Ok(sealed(MAGIC, &[about, images(&self.new)?, images(&self.old)?]))
    }

    /// Reads a block of this structure from what [`to_bytes`](Self::to_bytes) made.
    ///
    /// # Errors
    /// If the bytes are not such a block.
    pub fn from_bytes(schema: Arc<TableSchema>, mut bytes: &[u8]) -> Result<Self, ArrowError> {
        // Without it these bytes are the length of the first part, which is never as long as they would say.
        if bytes.starts_with(MAGIC) {
            bytes = unsealed(MAGIC, bytes)?;
        }
        let mut part = || next_part(&mut bytes);
        let about: About =
            serde_json::from_slice(part()?).map_err(|e| ArrowError::ExternalError(Box::new(e)))?;
        let images = |bytes: &[u8]| match bytes {
            [] => Ok(RecordBatch::new_empty(schema.arrow())),
            bytes => rows_from_bytes(bytes, &schema),
        };
        let (new, old) = (images(part()?)?, images(part()?)?);
        about.fits(&new, &old)?;
        let About { entries, unchanged, transactions, sequences, places, bytes, read, blind } = about;
        let of_earlier = sequences.into_iter().map(|sequence| Place { sequence, ..Place::default() });
        let places = places.into_iter().chain(of_earlier).chain(std::iter::repeat(Place::default()));
        let span = |((first, transaction), place)| Span { first, transaction: Arc::new(transaction), place };
        let transactions = transactions.into_iter().zip(places).map(span).collect();
        Ok(Self { schema, entries, new, old, unchanged, transactions, bytes, came: bytes, read, blind })
    }
}

impl About {
    /// Whether everything that points somewhere points into the block.
    fn fits(&self, new: &RecordBatch, old: &RecordBatch) -> Result<(), ArrowError> {
        let within =
            |row: Option<u32>, rows: &RecordBatch| row.is_none_or(|row| (row as usize) < rows.num_rows());
        let (changes, columns) = (self.entries.len(), new.num_columns());
        let fits = self.entries.iter().all(|e| within(e.new, new) && within(e.old, old))
            && self
                .unchanged
                .iter()
                .all(|(at, columns_of)| (*at as usize) < changes && columns_of.len() == columns)
            && self.transactions.iter().all(|(at, _)| *at < changes)
            && self.transactions.is_sorted_by(|(a, _), (b, _)| a < b);
        if fits { Ok(()) } else { Err(broken("points outside itself")) }
    }
}

/// Bytes that buffers are aligned to: most blocks are of a change or two, and would be padding for the most part.
const ALIGNMENT: usize = 8;

pub(crate) fn rows_to_bytes(rows: &RecordBatch) -> Result<Vec<u8>, ArrowError> {
    let options = IpcWriteOptions::try_new(ALIGNMENT, false, MetadataVersion::V5)?;
    let mut writer = StreamWriter::try_new_with_options(Vec::new(), rows.schema_ref(), options)?;
    writer.write(rows)?;
    writer.into_inner()
}

/// Reads rows of a structure. The decoder takes memory for what is there, never for what a length says.
pub(crate) fn rows_from_bytes(bytes: &[u8], schema: &TableSchema) -> Result<RecordBatch, ArrowError> {
    let mut bytes = Buffer::from(bytes);
    let rows = StreamDecoder::new().decode(&mut bytes)?.ok_or_else(|| broken("has no rows"))?;
    let expected = schema.columns.iter().map(|c| c.logical.base());
    if rows.columns().iter().map(|c| c.data_type().clone()).eq(expected) {
        Ok(rows)
    } else {
        Err(broken("is of another structure"))
    }
}

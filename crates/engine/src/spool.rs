//! A bounded file for the changes of a table that is being read again. Losing it loses nothing: the table is
//! then read once more.

use crate::error::{EngineError, Result};
use crate::folder;
use moorage_adapter::AdapterError;
use moorage_core::TableSchema;
use moorage_core::change::ChangeBlock;
use std::fs::File;
use std::io::{BufReader, BufWriter, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// How much may be written, in bytes, before reading the table again is given up.
const LIMIT: u64 = 1 << 30;

/// Changes of one table, in order.
pub(crate) struct Spool {
    path: PathBuf,
    file: BufWriter<File>,
    bytes: u64,
    schema: Arc<TableSchema>,
}

impl Spool {
    /// An empty one, in the place of whatever was left there.
    pub(crate) fn create(path: &Path, schema: Arc<TableSchema>) -> Result<Self> {
        let file = folder::open(path).and_then(|file| file.set_len(0).map(|()| file));
        let file = file.map_err(|e| EngineError::State { path: path.into(), reason: e.to_string() })?;
        Ok(Self { path: path.into(), file: BufWriter::new(file), bytes: 0, schema })
    }

    /// Appends a block; `false`, and nothing written, if the file would become too large.
    pub(crate) fn push(&mut self, block: &ChangeBlock) -> Result<bool> {
        let failed = |reason: String| EngineError::State { path: self.path.clone(), reason };
        let block = block.to_bytes().map_err(AdapterError::from)?;
        let bytes = block.len() as u64 + 8;
        if self.bytes + bytes > LIMIT {
            return Ok(false);
        }
        let written = self.file.write_all(&(block.len() as u64).to_le_bytes());
        written.and_then(|()| self.file.write_all(&block)).map_err(|e| failed(e.to_string()))?;
        self.bytes += bytes;
        Ok(true)
    }

    /// The blocks from the first one on.
    pub(crate) fn blocks(
        &mut self,
    ) -> Result<impl Iterator<Item = moorage_adapter::Result<ChangeBlock>> + Send> {
        let failed =
            |e: std::io::Error| EngineError::State { path: self.path.clone(), reason: e.to_string() };
        self.file.flush().map_err(failed)?;
        let mut file = self.file.get_ref().try_clone().map_err(failed)?;
        file.seek(SeekFrom::Start(0)).map_err(failed)?;
        let (schema, path) = (self.schema.clone(), self.path.clone());
        let (mut file, mut left) = (BufReader::new(file), self.bytes);
        Ok(std::iter::from_fn(move || {
            if left == 0 {
                return None;
            }
            let read = read_block(&mut file, &mut left, &schema);
            Some(read.map_err(|reason| {
                left = 0;
                AdapterError::Io { what: format!("reading {}", path.display()), reason }
            }))
        }))
    }
}

impl Drop for Spool {
    fn drop(&mut self) {
        // It is of no use any more; what cannot be removed is overwritten by the next one.
        let _ = std::fs::remove_file(&self.path);
    }
}

fn read_block(
    file: &mut impl Read,
    left: &mut u64,
    schema: &Arc<TableSchema>,
) -> std::result::Result<ChangeBlock, String> {
    let mut length = [0; 8];
    file.read_exact(&mut length).map_err(|e| e.to_string())?;
    let length = u64::from_le_bytes(length);
    *left = left.checked_sub(length + 8).ok_or("a block is longer than the file")?;
    let mut bytes = vec![0; usize::try_from(length).map_err(|e| e.to_string())?];
    file.read_exact(&mut bytes).map_err(|e| e.to_string())?;
    ChangeBlock::from_bytes(schema.clone(), &bytes).map_err(|e| e.to_string())
}

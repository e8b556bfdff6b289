//! A bounded file for the changes of a table that is being read again, kept by a thread of its own. Losing it loses nothing:
//! the table is then read once more.

use crate::pipeline::error::{EngineError, Result};
use moorage_adapter::{AdapterError, Doing};
use moorage_core::TableSchema;
use moorage_core::change::block::ChangeBlock;
use moorage_monitor::{StoreError, folder};
use std::fs::File;
use std::io::{BufReader, BufWriter, Read, Write};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use tokio::sync::mpsc;
use tokio::task::JoinHandle;

/// How much may be written, in bytes, before reading the table again is given up.
const LIMIT: u64 = 1 << 30;
/// How many blocks may wait for the disk.
const WAITING: usize = 16;

/// Changes of one table, in order.
pub(crate) struct Spool {
    blocks: Option<mpsc::Sender<ChangeBlock>>,
    keeping: JoinHandle<std::result::Result<Kept, String>>,
    /// What was kept, once it was asked for.
    kept: Option<Kept>,
}

/// The file behind it.
struct Kept {
    path: PathBuf,
    file: BufWriter<File>,
    bytes: u64,
    schema: Arc<TableSchema>,
}

impl Spool {
    /// An empty one, in the place of whatever was left there.
    pub(crate) async fn create(path: &Path, schema: Arc<TableSchema>) -> Result<Self> {
        let failed = |reason: String| EngineError::from(StoreError { path: path.into(), reason });
        let place = path.to_path_buf();
        let opening = tokio::task::spawn_blocking(move || {
            // One that was given up a moment ago may still be written to: it keeps its own file, without a name.
            let _ = std::fs::remove_file(&place);
            folder::open(&place).and_then(|file| file.set_len(0).map(|()| file))
        });
        let opened = opening.await.map_err(|e| failed(e.to_string()))?;
        let file = opened.map_err(|e| failed(e.to_string()))?;
        let mut kept = Kept { path: path.into(), file: BufWriter::new(file), bytes: 0, schema };
        let (sender, mut blocks) = mpsc::channel(WAITING);
        let keeping = tokio::task::spawn_blocking(move || {
            while let Some(block) = blocks.blocking_recv() {
                kept.push(&block)?;
            }
            kept.file.flush().map_err(|e| kept.failed(&e))?;
            Ok(kept)
        });
        Ok(Self { blocks: Some(sender), keeping, kept: None })
    }

    /// Appends a block. Waits only if many wait already.
    ///
    /// # Errors
    /// Why the spool cannot be used any more, in words.
    pub(crate) async fn push(&mut self, block: ChangeBlock) -> std::result::Result<(), String> {
        let sent = match &self.blocks {
            Some(blocks) => blocks.send(block).await.is_ok(),
            None => false,
        };
        if sent { Ok(()) } else { Err(self.end().await.err().unwrap_or_else(|| "it has ended".into())) }
    }

    async fn end(&mut self) -> std::result::Result<Kept, String> {
        self.blocks = None;
        (&mut self.keeping).await.unwrap_or_else(|e| Err(e.to_string()))
    }

    /// The blocks from the first one on; may be asked for more than once. Nothing is kept behind them.
    pub(crate) async fn blocks(
        &mut self,
    ) -> moorage_adapter::Result<impl Iterator<Item = moorage_adapter::Result<ChangeBlock>> + Send + use<>>
    {
        let what = "keeping the changes of a table that is read again";
        let broken = |reason: String| AdapterError::Io { doing: what.into(), reason };
        if self.kept.is_none() {
            self.kept = Some(self.end().await.map_err(broken)?);
        }
        let Some(kept) = &self.kept else { return Err(broken("it has ended".into())) };
        let (schema, path) = (kept.schema.clone(), kept.path.clone());
        let file = kept.file.get_ref().try_clone().map_err(|e| broken(e.to_string()))?;
        // Several may read it at once, each at its own place.
        let mut file = BufReader::new(Places { file, at: 0 });
        let mut left = kept.bytes;
        Ok(std::iter::from_fn(move || {
            if left == 0 {
                return None;
            }
            let read = read_block(&mut file, &mut left, &schema);
            Some(read.map_err(|reason| {
                left = 0;
                AdapterError::Io { doing: Doing::to("reading", path.display()), reason }
            }))
        }))
    }
}

/// A file that is read from a place of one's own on, whoever else reads it.
struct Places {
    file: File,
    at: u64,
}

impl Read for Places {
    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        let read = self.file.read_at(into, self.at)?;
        self.at += read as u64;
        Ok(read)
    }
}

impl Kept {
    fn failed(&self, error: &std::io::Error) -> String {
        format!("writing {}: {error}", self.path.display())
    }

    fn push(&mut self, block: &ChangeBlock) -> std::result::Result<(), String> {
        let block = block.to_bytes().map_err(|e| e.to_string())?;
        let bytes = block.len() as u64 + 8;
        if self.bytes + bytes > LIMIT {
            return Err("too much changed in the table while it was read (more than 1 GiB)".into());
        }
        let written = self.file.write_all(&(block.len() as u64).to_le_bytes());
        written.and_then(|()| self.file.write_all(&block)).map_err(|e| self.failed(&e))?;
        self.bytes += bytes;
        Ok(())
    }
}

impl Drop for Kept {
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

//! One process per pipeline and project folder.

use crate::error::{EngineError, Result};
use serde::{Deserialize, Serialize};
use std::fs::{File, OpenOptions, TryLockError};
use std::io::{Read, Seek, Write};
use std::path::Path;

/// Who holds a pipeline.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct Holder {
    pub(crate) pid: u32,
    pub(crate) host: String,
}

/// A held lock. The system lets go of it when the process ends, however it ends.
#[derive(Debug)]
pub(crate) struct PipelineLock(#[expect(dead_code, reason = "held, not used")] File);

fn open(folder: &Path, pipeline: &str) -> Result<File> {
    let path = folder.join(format!("{pipeline}.lock"));
    let failed = |e: std::io::Error| EngineError::State { path: path.clone(), reason: e.to_string() };
    std::fs::create_dir_all(folder).map_err(failed)?;
    OpenOptions::new().create(true).truncate(false).read(true).write(true).open(&path).map_err(failed)
}

fn read(file: &mut File) -> Option<Holder> {
    let mut text = String::new();
    file.read_to_string(&mut text).ok()?;
    serde_json::from_str(&text).ok()
}

impl PipelineLock {
    /// Takes the lock.
    ///
    /// # Errors
    /// [`EngineError::Locked`] with the holder, if there is one.
    pub(crate) fn take(folder: &Path, pipeline: &str) -> Result<Self> {
        let mut file = open(folder, pipeline)?;
        match file.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => {
                let holder = read(&mut file).unwrap_or(Holder { pid: 0, host: "an unknown host".into() });
                return Err(EngineError::Locked {
                    pipeline: pipeline.into(),
                    pid: holder.pid,
                    host: holder.host,
                });
            }
            Err(TryLockError::Error(e)) => {
                return Err(EngineError::State { path: folder.into(), reason: e.to_string() });
            }
        }
        let holder =
            Holder { pid: std::process::id(), host: gethostname::gethostname().to_string_lossy().into() };
        let text = serde_json::to_string(&holder).unwrap_or_default();
        let write =
            file.set_len(0).and_then(|()| file.rewind()).and_then(|()| file.write_all(text.as_bytes()));
        write.map_err(|e| EngineError::State { path: folder.into(), reason: e.to_string() })?;
        Ok(Self(file))
    }

    /// Who holds the lock, if someone does. Makes nothing.
    pub(crate) fn holder(folder: &Path, pipeline: &str) -> Option<Holder> {
        let mut file = File::open(folder.join(format!("{pipeline}.lock"))).ok()?;
        match file.try_lock_shared() {
            Err(TryLockError::WouldBlock) => read(&mut file),
            _ => None,
        }
    }
}

//! One process per pipeline and project folder. (Across folders and machines, the target sees to it:
//! [`crate::pipeline::turn`].)

use crate::pipeline::error::{EngineError, Result};
use moorage_adapter::Holder;
use moorage_monitor::{StoreError, folder};
use std::fs::{File, TryLockError};
use std::io::{Read, Seek, Write};
use std::path::Path;
use std::time::{Duration, Instant};

/// How long others may take to note what they were told.
const PATIENCE: Duration = Duration::from_secs(2);

/// A held lock. The system lets go of it when the process ends, however it ends.
#[derive(Debug)]
pub(crate) struct PipelineLock(#[expect(dead_code, reason = "held, not used")] File);

fn read(file: &mut File) -> Option<Holder> {
    let mut text = String::new();
    file.take(64 << 10).read_to_string(&mut text).ok()?;
    serde_json::from_str(&text).ok()
}

impl PipelineLock {
    /// Takes the lock.
    ///
    /// # Errors
    /// [`EngineError::Locked`] with the holder, if there is one.
    pub(crate) fn take(folder: &Path, pipeline: &str, me: &Holder) -> Result<Self> {
        let path = folder::file(folder, pipeline, "lock");
        let failed =
            |e: std::io::Error| EngineError::from(StoreError { path: path.clone(), reason: e.to_string() });
        folder::make(folder)?;
        let mut file = folder::open(&path).map_err(failed)?;
        match file.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => {
                return Err(EngineError::locked(pipeline, read(&mut file).as_ref()));
            }
            Err(TryLockError::Error(e)) => return Err(failed(e)),
        }
        let text = serde_json::to_string(me).unwrap_or_default();
        let write =
            file.set_len(0).and_then(|()| file.rewind()).and_then(|()| file.write_all(text.as_bytes()));
        write.map_err(failed)?;
        Ok(Self(file))
    }

    /// Takes the lock, or waits for a moment: a command that asks for something beside no run holds it for as long as that takes.
    ///
    /// # Errors
    /// Likewise, behind it.
    pub(crate) async fn take_soon(folder: &Path, pipeline: &str, me: &Holder) -> Result<Self> {
        let began = Instant::now();
        loop {
            match Self::take(folder, pipeline, me) {
                Err(EngineError::Locked { .. }) if began.elapsed() < PATIENCE => {
                    tokio::time::sleep(PATIENCE / 20).await;
                }
                done => return done,
            }
        }
    }

    /// Who holds the lock, if someone does. Makes nothing.
    pub(crate) fn holder(folder: &Path, pipeline: &str) -> Option<Holder> {
        let mut file = folder::open_for_reading(&folder::file(folder, pipeline, "lock")).ok()?;
        match file.try_lock_shared() {
            Err(TryLockError::WouldBlock) => read(&mut file),
            _ => None,
        }
    }
}

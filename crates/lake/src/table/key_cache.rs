//! Where key files are kept: a folder of ours on this machine, which may be lost.

use crate::format::action::Add;
use crate::rows::key_file::KeyFile;
use ring::digest::{SHA256, digest};
use std::fs::File;
use std::path::PathBuf;
use std::sync::Arc;

/// The key files of one table.
#[derive(Clone, Debug)]
pub(crate) struct KeyCache {
    /// None: they are kept in memory alone.
    folder: Option<Arc<PathBuf>>,
    /// What keys are made of: files of other keys are others.
    of: Arc<str>,
}

fn hex(text: &str) -> String {
    digest(&SHA256, text.as_bytes()).as_ref()[..16].iter().map(|b| format!("{b:02x}")).collect()
}

impl KeyCache {
    /// In a folder that is made when the first of them is; `of` says of which columns of which table they are.
    pub(crate) fn new(folder: Option<PathBuf>, of: &str) -> Self {
        Self { folder: folder.map(Arc::new), of: of.into() }
    }

    /// The file's name begins with what tells its data file, and goes on with what tells its content.
    fn path(&self, add: &Add) -> Option<PathBuf> {
        let content = format!("{} {} {}", self.of, add.size, add.modification_time);
        Some(self.folder.as_ref()?.join(format!("{}-{}", hex(&add.path), hex(&content))))
    }

    /// The key file of a data file, if there is one that can be read.
    pub(crate) fn open(&self, add: &Add) -> Option<KeyFile> {
        KeyFile::on_disk(File::open(self.path(add)?).ok()?).ok()
    }

    /// Keeps one. What fails here costs no more than making it again.
    pub(crate) fn write(&self, add: &Add, bytes: &[u8]) -> Option<()> {
        let (path, folder) = (self.path(add)?, self.folder.as_ref()?);
        let write = || {
            std::fs::create_dir_all(folder.as_path())?;
            let beside = path.with_extension(format!("{}.new", std::process::id()));
            std::fs::write(&beside, bytes)?;
            std::fs::rename(&beside, &path)
        };
        match write() {
            Ok(()) => Some(()),
            Err(error) => {
                tracing::debug!("a key file was not kept: {error}");
                None
            }
        }
    }

    /// Removes the key files of a data file that is gone.
    pub(crate) fn forget(&self, path: &str) {
        let Some(folder) = &self.folder else { return };
        let Ok(entries) = std::fs::read_dir(folder.as_path()) else { return };
        let begin = hex(path);
        for entry in entries.flatten().filter(|e| e.file_name().to_string_lossy().starts_with(&begin)) {
            drop(std::fs::remove_file(entry.path()));
        }
    }

    /// Removes those of all data files but these.
    pub(crate) fn keep_only<'a>(&self, paths: impl Iterator<Item = &'a str>) {
        let Some(folder) = &self.folder else { return };
        let Ok(entries) = std::fs::read_dir(folder.as_path()) else { return };
        let known: std::collections::HashSet<String> = paths.map(hex).collect();
        for entry in entries.flatten() {
            let name = entry.file_name().to_string_lossy().into_owned();
            if !known.contains(name.split('-').next().unwrap_or_default()) {
                drop(std::fs::remove_file(entry.path()));
            }
        }
    }
}

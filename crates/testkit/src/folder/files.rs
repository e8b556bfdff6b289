//! The files of a folder: each is replaced whole, and a fuse can cut the power before any of these steps.

use crate::carry_out::TextRow;
use moorage_adapter::{AdapterError, Result, StoredTable, TableState};
use moorage_core::change::counters::TableCounters;
use moorage_core::plan::table::TablePlan;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use std::fs::File;
use std::io::Write as _;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

/// A table, as its file holds it.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(super) struct Table {
    pub(super) rows: Vec<TextRow>,
    /// What a pipeline remembers of it; none if nobody carries it.
    pub(super) of: Option<Remembered>,
    /// Whether it was there before the pipeline.
    pub(super) adopted: bool,
    /// A text that it takes in no column.
    pub(super) forbidden: Option<String>,
}

/// What a pipeline remembers of a table, in the table's own file: so it changes with its rows.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(super) struct Remembered {
    pub(super) pipeline: String,
    pub(super) plan: TablePlan,
    pub(super) state: TableState,
    pub(super) mark: Option<(String, String)>,
    pub(super) snapshot_rows: u64,
    pub(super) counters: TableCounters,
    pub(super) captured_by: Option<String>,
    /// The end of the last batch that is in it. It may be ahead of the checkpoint.
    pub(super) position: String,
}

impl Remembered {
    pub(super) fn new(pipeline: &str, plan: &TablePlan) -> Self {
        Self {
            pipeline: pipeline.into(),
            plan: plan.clone(),
            state: TableState::Waiting,
            mark: None,
            snapshot_rows: 0,
            counters: TableCounters::default(),
            captured_by: None,
            position: String::new(),
        }
    }

    pub(super) fn stored(self) -> StoredTable {
        StoredTable {
            plan: self.plan,
            state: self.state,
            mark: self.mark,
            snapshot_rows: self.snapshot_rows,
            counters: self.counters,
            last_change_at: None,
            captured_by: self.captured_by,
        }
    }
}

/// Where the files are. Clones share the fuse.
#[derive(Clone)]
pub(super) struct Files {
    pub(super) folder: Arc<PathBuf>,
    /// How many more steps there is power for.
    power: Arc<AtomicUsize>,
}

/// A name as part of a file's name, whatever it holds.
fn escaped(name: &str) -> String {
    let plain = |b: u8| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'_';
    name.bytes().map(|b| if plain(b) { char::from(b).to_string() } else { format!("%{b:02x}") }).collect()
}

pub(super) fn of_table(table: &str) -> String {
    format!("table.{}.json", escaped(table))
}

pub(super) fn beside_table(table: &str) -> String {
    format!("beside.{}.json", escaped(table))
}

pub(super) fn of_pipeline(pipeline: &str, what: &str) -> String {
    format!("pipeline.{}.{what}.json", escaped(pipeline))
}

impl Files {
    pub(super) fn new(folder: PathBuf, power: usize) -> Self {
        Self { folder: Arc::new(folder), power: Arc::new(AtomicUsize::new(power)) }
    }

    fn failed(&self, name: &str, error: impl ToString) -> AdapterError {
        let what = format!("the file {}", self.folder.join(name).display());
        AdapterError::Io { doing: what.into(), reason: error.to_string() }
    }

    /// Keeps all others out, also in other processes, until it is dropped.
    pub(super) fn lock(&self) -> Result<File> {
        let open = || {
            std::fs::create_dir_all(self.folder.as_path())?;
            let file = File::create(self.folder.join(".lock"))?;
            file.lock().map(|()| file)
        };
        open().map_err(|e| self.failed(".lock", e))
    }

    pub(super) fn read<T: DeserializeOwned>(&self, name: &str) -> Result<Option<T>> {
        match std::fs::read(self.folder.join(name)) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(self.failed(name, error)),
            Ok(bytes) => serde_json::from_slice(&bytes).map(Some).map_err(|e| self.failed(name, e)),
        }
    }

    /// Takes the power for one more step.
    fn spend(&self, name: &str) -> Result<()> {
        let left = self.power.fetch_update(Ordering::SeqCst, Ordering::SeqCst, |left| left.checked_sub(1));
        left.map(|_| ()).map_err(|_| self.failed(name, "the power is gone"))
    }

    /// Whether the fuse has blown.
    pub(super) fn is_dark(&self) -> bool {
        self.power.load(Ordering::SeqCst) == 0
    }

    /// Replaces a file: whole, or not at all. When it returns, the file has reached the disk.
    pub(super) fn write(&self, name: &str, content: &impl Serialize) -> Result<()> {
        let failed = |e: std::io::Error| self.failed(name, e);
        let bytes = serde_json::to_vec(content).map_err(|e| self.failed(name, e))?;
        let beside = self.folder.join(format!(".{name}.new"));
        let mut file = File::create(&beside).map_err(failed)?;
        file.write_all(&bytes).and_then(|()| file.sync_all()).map_err(failed)?;
        self.spend(name)?;
        std::fs::rename(&beside, self.folder.join(name)).map_err(failed)?;
        File::open(self.folder.as_path()).and_then(|folder| folder.sync_all()).map_err(failed)
    }

    pub(super) fn remove(&self, name: &str) -> Result<()> {
        self.spend(name)?;
        match std::fs::remove_file(self.folder.join(name)) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(self.failed(name, error)),
            _ => Ok(()),
        }
    }

    pub(super) fn table(&self, table: &str) -> Result<Option<Table>> {
        self.read(&of_table(table))
    }

    /// The files of all tables.
    pub(super) fn tables(&self) -> Result<Vec<(String, Table)>> {
        let Ok(entries) = std::fs::read_dir(self.folder.as_path()) else { return Ok(Vec::new()) };
        let mut names: Vec<String> =
            entries.flatten().map(|e| e.file_name().to_string_lossy().into_owned()).collect();
        names.retain(|name| name.starts_with("table."));
        names.sort();
        let read = |name: String| Ok((name.clone(), self.read(&name)?.unwrap_or_default()));
        names.into_iter().map(read).collect()
    }

    /// The tables that a pipeline carries, with the names of their files.
    pub(super) fn carried(&self, pipeline: &str) -> Result<Vec<(String, Table)>> {
        let mut tables = self.tables()?;
        tables.retain(|(_, t)| t.of.as_ref().is_some_and(|of| of.pipeline == pipeline));
        Ok(tables)
    }
}

//! The folder as one process has it: the turn that it took, and writing while all others are kept out.

use super::files::{Files, Table, of_pipeline, of_table};
use crate::carry_out::{berth, texts};
use crate::rows::Row;
use moorage_adapter::{AdapterError, Holder, Memo, MemoKind, Result};
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex};

/// A folder as a target. Clones share the turn.
#[derive(Clone)]
pub struct FolderTarget {
    pub(super) files: Files,
    /// The turn that was taken, and of which pipeline.
    pub(super) mine: Arc<Mutex<Option<(String, Holder)>>>,
}

/// By kind and name.
pub(super) type Memos = BTreeMap<String, Vec<u8>>;

pub(super) fn memo_name(kind: MemoKind, name: &str) -> String {
    format!("{} {name}", kind.word())
}

impl FolderTarget {
    /// A target at this folder, which is made when it is written to.
    pub fn new(folder: impl Into<PathBuf>) -> Self {
        Self::with_power(folder, usize::MAX)
    }

    /// The same, with power for so many steps: the next one and all later ones fail, and nothing is cleared away.
    pub fn with_power(folder: impl Into<PathBuf>, steps: usize) -> Self {
        Self { files: Files::new(folder.into(), steps), mine: Arc::default() }
    }

    /// Whether the power has gone.
    pub fn is_dark(&self) -> bool {
        self.files.is_dark()
    }

    /// The rows of a table of berths, sorted.
    pub fn rows(&self, table: &str) -> Vec<Row> {
        let table = self.files.table(table).unwrap().unwrap_or_default();
        let mut rows: Vec<Row> = table.rows.iter().map(berth).collect();
        rows.sort();
        rows
    }

    /// Up to which position a table holds everything, as its own file says.
    pub fn position(&self, table: &str) -> Option<String> {
        self.files.table(table).unwrap().and_then(|t| t.of).map(|of| of.position)
    }

    /// Puts a table of berths there, as if someone else had made it.
    pub fn put(&self, table: &str, rows: &[Row]) {
        let there = Table { rows: rows.iter().map(texts).collect(), adopted: true, ..Table::default() };
        self.files.write(&of_table(table), &there).unwrap();
    }

    /// Has a table take no row with this text.
    pub fn forbid(&self, table: &str, text: &str) {
        let there = self.files.table(table).unwrap().expect("a table");
        self.files.write(&of_table(table), &Table { forbidden: Some(text.into()), ..there }).unwrap();
    }

    /// Has the process that wrote to it be one that has ended, as after a power cut.
    pub fn end_process(&self, pipeline: &str) {
        let files = Files::new(self.files.folder.to_path_buf(), usize::MAX);
        let name = of_pipeline(pipeline, "holder");
        if let Some(holder) = files.read::<Holder>(&name).unwrap() {
            files.write(&name, &Holder { started: "another".into(), ..holder }).unwrap();
        }
    }

    /// The pipeline whose turn was taken, if it still is ours.
    pub(super) fn fence(&self) -> Result<String> {
        let mine = self.mine.lock().unwrap().clone();
        let Some((pipeline, mine)) = mine else {
            return Err(AdapterError::refused("writing to a folder", "the turn to write was not taken"));
        };
        let holder: Option<Holder> = self.files.read(&of_pipeline(&pipeline, "holder"))?;
        match holder == Some(mine) {
            true => Ok(pipeline),
            false => Err(AdapterError::turn_lost(&pipeline, holder.as_ref())),
        }
    }

    /// Does something that writes, while all others are kept out and the turn is ours.
    pub(super) fn write<T>(&self, work: impl FnOnce(&Files) -> Result<T>) -> Result<T> {
        let _lock = self.files.lock()?;
        self.fence()?;
        work(&self.files)
    }

    /// Changes a table that is there.
    pub(super) fn change(&self, table: &str, change: impl FnOnce(&mut Table)) -> Result<()> {
        self.write(|files| {
            let missing =
                || AdapterError::refused("writing to a folder", format!("there is no table {table}"));
            let mut there = files.table(table)?.ok_or_else(missing)?;
            change(&mut there);
            files.write(&of_table(table), &there)
        })
    }

    pub(super) fn remember(&self, pipeline: &str, memos: &[Memo]) -> Result<()> {
        let name = of_pipeline(pipeline, "memos");
        let mut all: Memos = self.files.read(&name)?.unwrap_or_default();
        for Memo { kind, name, content } in memos.iter().cloned() {
            match content {
                Some(content) => all.insert(memo_name(kind, &name), content),
                None => all.remove(&memo_name(kind, &name)),
            };
        }
        self.files.write(&name, &all)
    }
}

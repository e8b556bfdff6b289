//! From what was done to a table to the actions of a commit, and again where others committed first.

use crate::format::action::{Add, Line, Remove};
use crate::format::vector::VectorFile;
use crate::rows::key::Keys;
use crate::rows::key_file::{Finder, KeyFile};
use crate::rows::stats::loosened;
use crate::table::find::{Place, Searched, look_up};
use crate::table::open::{Live, Table, blocking};
use chrono::Utc;
use moorage_adapter::{AdapterError, Doing, Result};
use roaring::RoaringBitmap;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use uuid::Uuid;

/// What a work comes to.
pub(crate) struct Finished {
    /// What the table becomes: its protocol and metadata.
    pub(crate) becomes: Vec<Line>,
    /// Whether all files of the table leave it but for some, whatever they are by then.
    pub(crate) emptied: Option<BTreeSet<String>>,
    /// Files that leave it because what lives of them was written again, to these others.
    pub(crate) rewritten: BTreeMap<String, Vec<String>>,
    /// Of files that lose rows: all rows that are deleted in them behind this.
    pub(crate) dead: BTreeMap<Arc<str>, RoaringBitmap>,
    /// Files that come.
    pub(crate) made: Vec<(Live, Option<Arc<KeyFile>>)>,
}

impl Finished {
    /// Whether a file of the table leaves it as a whole.
    fn leaves(&self, path: &str) -> bool {
        self.rewritten.contains_key(path) || self.emptied.as_ref().is_some_and(|kept| !kept.contains(path))
    }

    /// Files, and those that have what was in them by now.
    pub(crate) fn followed(&self, paths: &BTreeSet<String>) -> BTreeSet<String> {
        let to = |path: &String| self.rewritten.get(path).cloned().unwrap_or_else(|| vec![path.clone()]);
        paths.iter().flat_map(to).collect()
    }
}

impl Table {
    /// The actions that put it into the table as it is now; their deletion vectors are written.
    pub(crate) async fn actions(&self, finished: &mut Finished) -> Result<Vec<Line>> {
        let now_ms = Utc::now().timestamp_millis();
        let mut vectors = VectorFile::new(Uuid::new_v4());
        let broken = |e: std::io::Error| {
            AdapterError::refused(Doing::to("writing to the lake table", &self.log.folder), e)
        };
        let left = self.files.values().filter(|live| finished.leaves(&live.add.path));
        let mut lines = finished.becomes.clone();
        lines.extend(left.map(|live| Line::from(Remove::of(&live.add, now_ms, true))));
        for (path, dead) in &finished.dead {
            let Some(live) = self.files.get(path.as_ref()) else { continue };
            lines.push(Remove::of(&live.add, now_ms, true).into());
            if dead.len() < live.rows {
                let stats = live.add.stats.as_deref().map(loosened);
                let deletion_vector = Some(vectors.place(dead).map_err(broken)?);
                lines.push(Add { data_change: true, stats, deletion_vector, ..live.add.clone() }.into());
            }
        }
        for (live, _) in &mut finished.made {
            if !live.dead.is_empty() {
                live.add.deletion_vector = Some(vectors.place(&live.dead).map_err(broken)?);
            }
            lines.push(live.add.clone().into());
        }
        if let Some((name, bytes)) = vectors.finish() {
            self.store().put(&format!("{}/{name}", self.log.folder), bytes.into()).await?;
        }
        Ok(lines)
    }

    /// Takes up what was just committed.
    pub(crate) fn take_up(&mut self, finished: Finished) {
        let left: Vec<String> = self.files.keys().filter(|path| finished.leaves(path)).cloned().collect();
        left.iter().for_each(|path| self.drop_file(path));
        for (path, dead) in finished.dead {
            match (self.log.state.files.get(path.as_ref()), self.files.get_mut(path.as_ref())) {
                (Some(add), Some(live)) => (live.add, live.dead) = (add.clone(), Arc::new(dead)),
                _ => self.drop_file(&path),
            }
        }
        for (live, keys) in finished.made {
            self.keys.extend(keys.map(|keys| (live.add.path.clone(), keys)));
            self.files.insert(live.add.path.clone(), live);
        }
    }

    pub(super) fn drop_file(&mut self, path: &str) {
        self.files.remove(path);
        if self.keys.remove(path).is_some_and(|keys| keys.is_on_disk()) {
            self.cache.forget(path);
        }
    }

    /// Looks at what others committed, and has what was to be done fit to it: rows that they moved to other files are found there
    /// by their keys; what they deleted themselves is deleted.
    ///
    /// # Errors
    /// `Busy` where files were to be written again that are others now: all of it is to be done again.
    pub(crate) async fn redo(&mut self, finished: &mut Finished) -> Result<()> {
        let doing = Doing::to("writing to the lake table", &self.log.folder);
        let (before, keys, schema) = (self.files.clone(), self.keys.clone(), self.schema.clone());
        self.look_at_files().await?;
        // What it becomes, and not what it is still.
        self.schema = schema;
        let is_as_it_was = |path: &String| {
            let vector =
                |files: &BTreeMap<String, Live>| files.get(path).map(|live| live.add.deletion_vector.clone());
            self.files.contains_key(path) && vector(&self.files) == vector(&before)
        };
        if !finished.rewritten.keys().all(is_as_it_was) {
            return Err(AdapterError::Busy {
                doing,
                reason: "another program has rewritten its files".into(),
            });
        }
        let mut moved: Vec<(Arc<KeyFile>, RoaringBitmap)> = Vec::new();
        for (path, dead) in std::mem::take(&mut finished.dead) {
            let is_kept = finished.emptied.as_ref().is_none_or(|kept| kept.contains(path.as_ref()));
            let Some(was) = before.get(path.as_ref()).filter(|_| is_kept) else { continue };
            let ours = dead - was.dead.as_ref();
            match self.files.get(path.as_ref()) {
                Some(live) => drop(finished.dead.insert(path, ours | live.dead.as_ref())),
                None => moved.extend(keys.get(path.as_ref()).map(|keys| (keys.clone(), ours))),
            }
        }
        if moved.is_empty() {
            return Ok(());
        }
        self.know_keys().await?;
        let there = self.files.values().filter_map(|live| {
            let place = Place::There(live.add.path.as_str().into(), live.dead.clone());
            Some(Searched { place, keys: self.keys.get(&live.add.path)?.clone() })
        });
        let (there, mut dead) = (there.collect::<Vec<_>>(), std::mem::take(&mut finished.dead));
        let found = blocking(move || {
            let mut keys = Keys::default();
            for (file, rows) in moved {
                Finder::new(&file).all(|key, row| {
                    if rows.contains(row) {
                        keys.push(key);
                    }
                })?;
            }
            let order = keys.order().unwrap_or_else(|| (0..keys.len() as u32).collect());
            look_up(&there, &keys, order, &mut vec![None; keys.len()], &mut dead, &mut [])?;
            Ok::<_, std::io::Error>(dead)
        });
        let failed = |e: std::io::Error| AdapterError::Io { doing, reason: e.to_string() };
        finished.dead = found.await?.map_err(failed)?;
        Ok(())
    }
}

//! Putting files together: small ones to larger ones, and such as have lost many rows to others without them. The rows stay what they
//! are; those that are deleted meanwhile are deleted in the new files, too.

use crate::format::action::{Add, Line, Remove};
use crate::format::vector::VectorFile;
use crate::rows::key::Keys;
use crate::rows::key_file::{Finder, KeyFile};
use crate::rows::stats::loosened;
use crate::rows::write::FILE_ROWS;
use crate::table::find::{Place, Searched, look_up};
use crate::table::open::{Live, Table, blocking};
use crate::table::work::Work;
use chrono::Utc;
use moorage_adapter::{AdapterError, Doing, Result};
use roaring::RoaringBitmap;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use uuid::Uuid;

/// A file with fewer rows that live is a small one.
const SMALL_ROWS: u64 = FILE_ROWS as u64 / 4;
/// A file is written again when so many of its rows are deleted, in per cent.
const DEAD_PERCENT: u64 = 20;
/// Rows that are written again at once, about: merges go on beside it, and what is done is done when it is broken off.
const AT_ONCE_ROWS: u64 = 4 * FILE_ROWS as u64;

/// Files that are to be put together.
pub(crate) struct Chosen(Vec<Live>);

/// What they came to.
pub(crate) struct Compacted {
    chosen: Vec<Live>,
    /// Their keys, where they are looked for.
    keys: Vec<Option<Arc<KeyFile>>>,
    made: Vec<(Live, Option<Arc<KeyFile>>)>,
}

fn living(live: &Live) -> u64 {
    live.rows - live.dead.len().min(live.rows)
}

impl Table {
    /// The files to put together once there are so many small ones, or one that has lost many rows; none if there is nothing to do.
    /// Those whose rows are kept stay as they are.
    pub(crate) fn to_compact(&self, small_files: usize, kept: &BTreeSet<String>) -> Option<Chosen> {
        let ours = self.files.values().filter(|live| !kept.contains(&live.add.path));
        let (small, large): (Vec<&Live>, Vec<&Live>) = ours.partition(|live| living(live) < SMALL_ROWS);
        let has_lost = |live: &&&Live| live.dead.len() * 100 > live.rows * DEAD_PERCENT;
        let mut chosen: Vec<&Live> = if small.len() > small_files { small } else { Vec::new() };
        chosen.extend(large.iter().filter(has_lost));
        let mut rows = 0;
        let fits = |live: &&Live| {
            let before = rows;
            rows += living(live);
            before < AT_ONCE_ROWS
        };
        let chosen: Vec<Live> = chosen.into_iter().take_while(fits).cloned().collect();
        (!chosen.is_empty()).then_some(Chosen(chosen))
    }

    /// Writes the rows of files to others, which nothing names yet. The table is a copy of one that goes on.
    pub(crate) async fn compact(&self, Chosen(chosen): Chosen) -> Result<Compacted> {
        let bare = Self { files: BTreeMap::new(), keys: Default::default(), ..self.clone() };
        let all: Vec<usize> = (0..self.schema.fields.len()).collect();
        let mut work = Work::on(bare).await?;
        let mut keys = Vec::with_capacity(chosen.len());
        for live in &chosen {
            keys.push(self.keys.get(&live.add.path).cloned());
            let (sender, mut batches) = tokio::sync::mpsc::channel(2);
            let (table, live, all) = (self.clone(), live.clone(), all.clone());
            let scan = tokio::spawn(async move {
                table.scan(&live, &all, move |batch| sender.blocking_send(batch).is_ok()).await
            });
            while let Some(batch) = batches.recv().await {
                work.append(batch).await?;
            }
            let failed = |e: tokio::task::JoinError| AdapterError::Io {
                doing: Doing::to("putting files together of the lake table", &self.log.folder),
                reason: e.to_string(),
            };
            scan.await.map_err(failed)??;
        }
        let (_, finished) = work.finish().await?;
        Ok(Compacted { chosen, keys, made: finished.made })
    }

    /// The actions that put the new files in the place of the others, as they are now; none if one of these is not there any more.
    pub(crate) async fn exchange(&self, compacted: &mut Compacted) -> Result<Option<Vec<Line>>> {
        let mut lost: Vec<(Arc<KeyFile>, RoaringBitmap)> = Vec::new();
        for (at, was) in compacted.chosen.iter().enumerate() {
            let Some(now) = self.files.get(&was.add.path) else { return Ok(None) };
            let more = now.dead.as_ref() - was.dead.as_ref();
            if !more.is_empty() {
                let Some(keys) = compacted.keys[at].clone() else { return Ok(None) };
                lost.push((keys, more));
            }
        }
        let there: Vec<Searched> = compacted
            .made
            .iter()
            .filter_map(|(live, keys)| {
                let place = Place::There(live.add.path.as_str().into(), Arc::default());
                Some(Searched { place, keys: keys.clone()? })
            })
            .collect();
        let looked = blocking(move || {
            let (mut keys, mut wanted) = (Keys::default(), 0);
            for (file, rows) in lost {
                wanted += rows.len();
                Finder::new(&file).all(|key, row| {
                    if rows.contains(row) {
                        keys.push(key);
                    }
                })?;
            }
            let order = keys.order().unwrap_or_else(|| (0..keys.len() as u32).collect());
            let (mut found, mut dead) = (vec![None; keys.len()], BTreeMap::new());
            look_up(&there, &keys, order, &mut found, &mut dead, &mut [])?;
            let all = found.iter().flatten().count() as u64 == wanted;
            Ok::<_, std::io::Error>((dead, all))
        });
        let doing = || Doing::to("putting files together of the lake table", &self.log.folder);
        let (dead, all) =
            looked.await?.map_err(|e| AdapterError::Io { doing: doing(), reason: e.to_string() })?;
        if !all {
            return Ok(None);
        }
        let now_ms = Utc::now().timestamp_millis();
        let mut vectors = VectorFile::new(Uuid::new_v4());
        let old = compacted.chosen.iter().filter_map(|was| self.files.get(&was.add.path));
        let mut lines: Vec<Line> = old.map(|live| Remove::of(&live.add, now_ms, false).into()).collect();
        for (live, _) in &mut compacted.made {
            let rows = dead.get(live.add.path.as_str()).cloned().unwrap_or_default();
            live.add.data_change = false;
            if !rows.is_empty() {
                live.add.stats = live.add.stats.as_deref().map(loosened);
                let place = vectors.place(&rows).map_err(|e| AdapterError::refused(doing(), e))?;
                live.add.deletion_vector = Some(place);
            }
            live.dead = Arc::new(rows);
            if living(live) > 0 {
                lines.push(Add { data_change: false, ..live.add.clone() }.into());
            }
        }
        if let Some((name, bytes)) = vectors.finish() {
            self.store().put(&format!("{}/{name}", self.log.folder), bytes.into()).await?;
        }
        Ok(Some(lines))
    }

    /// Takes up what was exchanged, behind its commit.
    pub(crate) fn take_up_exchange(&mut self, compacted: Compacted) {
        for was in &compacted.chosen {
            self.drop_file(&was.add.path);
        }
        for (live, keys) in compacted.made.into_iter().filter(|(live, _)| living(live) > 0) {
            self.keys.extend(keys.map(|keys| (live.add.path.clone(), keys)));
            self.files.insert(live.add.path.clone(), live);
        }
    }
}

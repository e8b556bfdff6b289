//! What is done to a table before a commit: rows that are found by their keys and deleted, and rows that come. Nothing of it is in
//! the table before its actions are committed; what it wrote until then are files that no version names.

use crate::format::action::{Add, Line};
use crate::format::schema::LakeSchema;
use crate::rows::key::Keys;
use crate::rows::key_file::KeyFile;
use crate::rows::stats::Stats;
use crate::rows::write::{DataFile, FILE_BYTES, FILE_ROWS, data_file};
use crate::table::find::{At, Place, Searched, has_twice, look_up};
use crate::table::finish::Finished;
use crate::table::open::{KeyOf, Live, Table, blocking};
use arrow::array::{RecordBatch, UInt32Array};
use arrow::compute::{concat_batches, interleave_record_batch, take_record_batch};
use arrow::datatypes::SchemaRef;
use chrono::Utc;
use hashbrown::HashMap;
use moorage_adapter::{AdapterError, Doing, Result};
use roaring::RoaringBitmap;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use uuid::Uuid;

/// A file that this work wrote.
pub(crate) struct Made {
    path: String,
    size: u64,
    stats: Stats,
    rows: u32,
    modified_ms: i64,
    keys: Option<Arc<KeyFile>>,
    dead: RoaringBitmap,
}

type Places = HashMap<Box<[u8]>, Vec<(usize, u32)>>;

/// Rows that are not written yet.
#[derive(Default)]
struct Coming {
    batches: Vec<RecordBatch>,
    dead: Vec<RoaringBitmap>,
    /// By key; none as long as nobody has looked for one: rows that are only loaded are never looked for.
    places: Option<Places>,
    keys: Vec<Keys>,
    rows: usize,
    bytes: usize,
}

/// Changes to a table.
pub(crate) struct Work {
    table: Table,
    schema: SchemaRef,
    /// Of files of the table that lose rows: all rows that are deleted in them behind this.
    dead: BTreeMap<Arc<str>, RoaringBitmap>,
    /// Files of the table that leave it as a whole.
    left: BTreeSet<String>,
    /// Files of the table that leave it because what lives of them was written again, to these others.
    rewritten: BTreeMap<String, Vec<String>>,
    /// What the table becomes with it: its protocol and metadata.
    becomes: Vec<Line>,
    /// Whether all of them do but for some, whatever they are by then.
    emptied: Option<BTreeSet<String>>,
    made: Vec<Made>,
    coming: Coming,
}

fn failed(table: &str, error: impl std::fmt::Display) -> AdapterError {
    AdapterError::refused(Doing::to("writing to the lake table", table), error)
}

impl Work {
    /// Nothing is done yet.
    pub(crate) async fn on(mut table: Table) -> Result<Self> {
        table.know_keys().await?;
        Ok(Self::new(table))
    }

    /// Other rows, with perhaps other columns, in the place of all that are there.
    pub(crate) fn in_place_of(mut table: Table, schema: LakeSchema, becomes: Vec<Line>) -> Self {
        table.schema = schema;
        let mut work = Self::new(table);
        work.empty(&BTreeSet::new());
        work.becomes = becomes;
        work
    }

    fn new(table: Table) -> Self {
        let schema = table.schema.arrow();
        let (dead, left, made) = (BTreeMap::new(), BTreeSet::new(), Vec::new());
        Self {
            table,
            schema,
            dead,
            left,
            rewritten: BTreeMap::new(),
            becomes: Vec::new(),
            emptied: None,
            made,
            coming: Coming::default(),
        }
    }

    /// All rows go, but for those of some files.
    pub(crate) fn empty(&mut self, kept: &BTreeSet<String>) {
        let goes = |path: &&String| !kept.contains(*path);
        self.left = self.table.files.keys().filter(goes).cloned().collect();
        self.dead.retain(|path, _| kept.contains(path.as_ref()));
        self.emptied = Some(kept.clone());
        // What was written stays where it is, as files that no version names.
        self.made.clear();
        self.coming = Coming::default();
    }

    /// For each key, finds a row that lives and deletes it: it can be read still, at the place that is given.
    pub(crate) async fn take(&mut self, keys: Keys) -> Result<Vec<Option<At>>> {
        let mut found: Vec<Option<At>> = vec![None; keys.len()];
        for (at, key) in keys.iter().enumerate() {
            found[at] = self.coming.take(key).map(|(batch, row)| At::Coming(batch, row));
        }
        let mut order: Vec<u32> = (0..keys.len() as u32).filter(|&at| found[at as usize].is_none()).collect();
        order.sort_by(|&a, &b| keys.get(a as usize).cmp(keys.get(b as usize)));
        let files = self.files();
        let (mut dead, mut made_dead) = (std::mem::take(&mut self.dead), Vec::with_capacity(self.made.len()));
        made_dead.extend(self.made.iter_mut().map(|made| std::mem::take(&mut made.dead)));
        let done = blocking(move || {
            let looked = look_up(&files, &keys, order, &mut found, &mut dead, &mut made_dead);
            (looked, found, dead, made_dead)
        });
        let (looked, found, dead, made_dead) = done.await?;
        self.dead = dead;
        self.made.iter_mut().zip(made_dead).for_each(|(made, dead)| made.dead = dead);
        looked.map_err(|e| AdapterError::Io {
            doing: Doing::to("looking keys up in the lake table", &self.table.log.folder),
            reason: e.to_string(),
        })?;
        Ok(found)
    }

    /// The same without deleting them.
    pub(crate) async fn find(&mut self, keys: Keys) -> Result<Vec<Option<At>>> {
        let (dead, made) =
            (self.dead.clone(), self.made.iter().map(|made| made.dead.clone()).collect::<Vec<_>>());
        let coming = keys.iter().map(|key| self.coming.find(key)).collect::<Vec<_>>();
        let mut elsewhere = Keys::default();
        keys.iter()
            .zip(&coming)
            .filter(|(_, there)| there.is_none())
            .for_each(|(key, _)| elsewhere.push(key));
        let found = self.take(elsewhere).await;
        self.dead = dead;
        self.made.iter_mut().zip(made).for_each(|(of, dead)| of.dead = dead);
        let mut found = found?.into_iter();
        let place = |there: Option<(usize, u32)>| match there {
            Some((batch, row)) => Some(At::Coming(batch, row)),
            None => found.next().flatten(),
        };
        Ok(coming.into_iter().map(place).collect())
    }

    /// Whether two of its rows have the same key.
    pub(crate) async fn has_twice(&mut self) -> Result<bool> {
        self.write_coming().await?;
        let files = self.files();
        let (dead, made_dead) =
            (self.dead.clone(), self.made.iter().map(|made| made.dead.clone()).collect::<Vec<_>>());
        let looked = blocking(move || has_twice(&files, &dead, &made_dead)).await?;
        looked.map_err(|e| AdapterError::Io {
            doing: Doing::to("looking at the keys of the lake table", &self.table.log.folder),
            reason: e.to_string(),
        })
    }

    /// The files in which rows can be, with their keys.
    fn files(&self) -> Vec<Searched> {
        let there = self.table.files.values().filter(|live| !self.left.contains(&live.add.path));
        let there = there.filter_map(|live| {
            let keys = self.table.keys.get(&live.add.path)?.clone();
            Some(Searched { place: Place::There(live.add.path.as_str().into(), live.dead.clone()), keys })
        });
        let made = self.made.iter().enumerate();
        let made =
            made.filter_map(|(at, made)| Some(Searched { place: Place::Made(at), keys: made.keys.clone()? }));
        there.chain(made).collect()
    }

    /// Rows come, with their keys.
    pub(crate) async fn append(&mut self, rows: RecordBatch) -> Result<()> {
        if rows.num_rows() == 0 {
            return Ok(());
        }
        let columns = self.table.key.columns(rows.num_columns());
        let keys = match self.table.key {
            KeyOf::Nothing => Keys::default(),
            _ => self.table.key.of(&rows.project(&columns)?),
        };
        self.coming.push(rows, keys);
        if self.coming.rows >= FILE_ROWS || self.coming.bytes >= FILE_BYTES {
            self.write_coming().await?;
        }
        Ok(())
    }

    /// Writes the rows that came to a file.
    async fn write_coming(&mut self) -> Result<()> {
        let coming = std::mem::take(&mut self.coming);
        if coming.batches.is_empty() {
            return Ok(());
        }
        let (schema, sorts) = (self.schema.clone(), matches!(self.table.key, KeyOf::Columns(_)));
        let folder = self.table.log.folder.clone();
        let made = blocking(move || coming.file(&schema, sorts).map_err(|e| failed(&folder, e))).await??;
        let Some((DataFile { bytes, stats, rows }, keys)) = made else { return Ok(()) };
        let path = format!("part-{}.parquet", Uuid::new_v4());
        let size = bytes.len() as u64;
        self.table.store().put(&format!("{}/{path}", self.table.log.folder), bytes.into()).await?;
        let modified_ms = Utc::now().timestamp_millis();
        let named = Add { path, size: size as i64, modification_time: modified_ms, ..Add::default() };
        let keys = match keys {
            None => None,
            Some(keys) => {
                let (cache, named) = (self.table.cache.clone(), named.clone());
                Some(Arc::new(blocking(move || cache.keep(&named, &keys)).await??))
            }
        };
        let (path, dead) = (named.path, RoaringBitmap::new());
        self.made.push(Made { path, size, stats, rows: rows as u32, modified_ms, keys, dead });
        Ok(())
    }

    /// The rows at some places, in their order, with these columns of the table.
    pub(crate) async fn read(&self, places: &[At], columns: &[usize]) -> Result<RecordBatch> {
        let mut wanted: BTreeMap<Spot<'_>, RoaringBitmap> = BTreeMap::new();
        for place in places {
            let (spot, row) = Spot::of(place);
            wanted.entry(spot).or_default().insert(row);
        }
        let (mut sources, mut found) = (Vec::with_capacity(wanted.len()), BTreeMap::new());
        for (spot, rows) in wanted {
            let batch = match &spot {
                Spot::There(path) => {
                    let live = self.table.files.get(*path);
                    let live =
                        live.ok_or_else(|| failed(&self.table.log.folder, format!("{path} is gone")))?;
                    self.table.pick(&live.name, Arc::new(rows.clone()), columns).await?
                }
                Spot::Made(at) => {
                    let name = format!("{}/{}", self.table.log.folder, self.made[*at].path);
                    self.table.pick(&name, Arc::new(rows.clone()), columns).await?
                }
                Spot::Coming(at) => {
                    let rows: UInt32Array = rows.iter().collect::<Vec<_>>().into();
                    take_record_batch(&self.coming.batches[*at].project(columns)?, &rows)?
                }
            };
            found.insert(spot, (sources.len(), rows));
            sources.push(batch);
        }
        let place = |place: &At| {
            let (spot, row) = Spot::of(place);
            // Among those that were read of its file, in their order.
            found.get(&spot).map(|(source, rows)| (*source, rows.rank(row) as usize - 1))
        };
        let indices: Vec<(usize, usize)> = places.iter().filter_map(place).collect();
        let sources: Vec<&RecordBatch> = sources.iter().collect();
        Ok(interleave_record_batch(&sources, &indices)?)
    }

    /// Writes what is left to write.
    pub(crate) async fn finish(mut self) -> Result<(Table, Finished)> {
        self.write_coming().await?;
        if !self.table.has_vectors() {
            self.write_again().await?;
        }
        let mut made = Vec::with_capacity(self.made.len());
        for of in std::mem::take(&mut self.made).into_iter().filter(|of| of.dead.len() < u64::from(of.rows)) {
            let add = Add {
                path: of.path,
                size: of.size as i64,
                modification_time: of.modified_ms,
                data_change: true,
                stats: Some(of.stats.text(of.dead.is_empty())),
                ..Add::default()
            };
            let name = format!("{}/{}", self.table.log.folder, add.path);
            made.push((Live { add, name, rows: of.rows.into(), dead: Arc::new(of.dead) }, of.keys));
        }
        Ok((
            self.table,
            Finished {
                becomes: self.becomes,
                emptied: self.emptied,
                rewritten: self.rewritten,
                dead: self.dead,
                made,
            },
        ))
    }

    /// Without deletion vectors, a file that loses rows is written again without them.
    async fn write_again(&mut self) -> Result<()> {
        for (path, dead) in std::mem::take(&mut self.dead) {
            let Some(live) = self.table.files.get(path.as_ref()).cloned() else { continue };
            // What is written for this file has rows of no other.
            self.write_coming().await?;
            let before = self.made.len();
            let (sender, mut batches) = tokio::sync::mpsc::channel(2);
            let live = Live { dead: Arc::new(dead), ..live };
            let (table, all) = (self.table.clone(), (0..self.schema.fields().len()).collect::<Vec<_>>());
            let scan = tokio::spawn(async move {
                table.scan(&live, &all, move |batch| sender.blocking_send(batch).is_ok()).await
            });
            while let Some(batch) = batches.recv().await {
                self.append(batch).await?;
            }
            scan.await.map_err(|e| failed(&path, e))??;
            self.write_coming().await?;
            let to = self.made[before..].iter().map(|made| made.path.clone()).collect();
            self.left.insert(path.to_string());
            self.rewritten.insert(path.to_string(), to);
        }
        for at in 0..self.made.len() {
            let made = &mut self.made[at];
            if made.dead.is_empty() {
                continue;
            }
            let live_rows: RoaringBitmap = (0..made.rows).filter(|row| !made.dead.contains(*row)).collect();
            // It leaves, and what lives of it comes again.
            made.dead.insert_range(0..made.rows);
            let all: Vec<usize> = (0..self.schema.fields().len()).collect();
            let name = format!("{}/{}", self.table.log.folder, made.path);
            let rows = self.table.pick(&name, Arc::new(live_rows), &all).await?;
            self.append(rows).await?;
        }
        self.write_coming().await
    }
}

/// A place without its row.
#[derive(PartialEq, Eq, PartialOrd, Ord)]
enum Spot<'a> {
    There(&'a str),
    Made(usize),
    Coming(usize),
}

impl<'a> Spot<'a> {
    fn of(at: &'a At) -> (Self, u32) {
        match at {
            At::There(path, row) => (Self::There(path), *row),
            At::Made(at, row) => (Self::Made(*at), *row),
            At::Coming(at, row) => (Self::Coming(*at), *row),
        }
    }
}

impl Coming {
    fn push(&mut self, rows: RecordBatch, keys: Keys) {
        if let Some(places) = &mut self.places {
            note(places, self.batches.len(), &keys);
        }
        self.rows += rows.num_rows();
        self.bytes += rows.get_array_memory_size();
        self.batches.push(rows);
        self.dead.push(RoaringBitmap::new());
        self.keys.push(keys);
    }

    fn places(&mut self) -> &mut Places {
        let keys = &self.keys;
        self.places.get_or_insert_with(|| {
            let mut places = Places::new();
            keys.iter().enumerate().for_each(|(batch, keys)| note(&mut places, batch, keys));
            places
        })
    }

    /// A row with a key.
    fn find(&mut self, key: &[u8]) -> Option<(usize, u32)> {
        self.places().get(key)?.last().copied()
    }

    /// Deletes a row with a key.
    fn take(&mut self, key: &[u8]) -> Option<(usize, u32)> {
        let (batch, row) = self.places().get_mut(key)?.pop()?;
        self.dead[batch].insert(row);
        Some((batch, row))
    }

    /// The file of those that live, with their keys; none if none does.
    fn file(
        self,
        schema: &SchemaRef,
        sorts: bool,
    ) -> std::result::Result<Option<(DataFile, Option<Keys>)>, parquet::errors::ParquetError> {
        let mut rows = concat_batches(schema, &self.batches)?;
        let has_keys = self.keys.iter().any(|keys| keys.len() > 0);
        let mut places: Vec<(usize, u32)> = Vec::with_capacity(rows.num_rows());
        let mut numbers: Vec<u32> = Vec::with_capacity(rows.num_rows());
        let mut number = 0;
        for (batch, of) in self.batches.iter().enumerate() {
            for row in 0..of.num_rows() as u32 {
                if !self.dead[batch].contains(row) {
                    places.push((batch, row));
                    numbers.push(number);
                }
                number += 1;
            }
        }
        if numbers.is_empty() {
            return Ok(None);
        }
        let mut keys = Keys::default();
        if has_keys {
            places.iter().for_each(|&(batch, row)| keys.push(self.keys[batch].get(row as usize)));
            if let Some(order) = keys.order().filter(|_| sorts) {
                let mut sorted = Keys::default();
                order.iter().for_each(|&at| sorted.push(keys.get(at as usize)));
                numbers = order.iter().map(|&at| numbers[at as usize]).collect();
                keys = sorted;
            }
        }
        let stands =
            numbers.len() == rows.num_rows() && numbers.iter().enumerate().all(|(at, &n)| at as u32 == n);
        if !stands {
            rows = take_record_batch(&rows, &UInt32Array::from(numbers))?;
        }
        Ok(Some((data_file(schema, &rows)?, has_keys.then_some(keys))))
    }
}

/// Notes where the rows of a batch are.
fn note(places: &mut Places, batch: usize, keys: &Keys) {
    for (row, key) in keys.iter().enumerate().filter(|(_, key)| !key.is_empty()) {
        places.entry(key.into()).or_default().push((batch, row as u32));
    }
}

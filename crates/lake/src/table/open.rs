//! A table that is open: what its log comes to, which rows of each file are deleted, and where the keys are.

use crate::format::action::{Add, VectorPlace};
use crate::format::features;
use crate::format::schema::LakeSchema;
use crate::format::vector::{Found, decode};
use crate::rows::key::Keys;
use crate::rows::key_file::KeyFile;
use crate::rows::read::{Reading, Which, rows_in};
use crate::rows::stats::rows_of;
use crate::store::{Content, Store};
use crate::table::key_cache::KeyCache;
use crate::table::log::Log;
use arrow::array::RecordBatch;
use futures_util::{StreamExt, TryStreamExt};
use moorage_adapter::{AdapterError, Doing, Result};
use roaring::RoaringBitmap;
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

/// Files that are looked at at once.
const AT_ONCE: usize = 8;
/// Rows that are read at once.
const BATCH_ROWS: usize = 8192;
/// Key files of fewer bytes than this are kept in memory alone: they are made again more quickly than they are looked for.
const SMALL_BYTES: usize = 32 << 10;

/// What rows are found by.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum KeyOf {
    /// The values of these columns.
    Columns(Vec<usize>),
    /// All values.
    Row,
    /// They are never looked for.
    Nothing,
}

impl KeyOf {
    /// The columns that it is made of.
    pub(crate) fn columns(&self, width: usize) -> Vec<usize> {
        match self {
            Self::Columns(columns) => columns.clone(),
            Self::Row => (0..width).collect(),
            Self::Nothing => Vec::new(),
        }
    }

    /// The keys of rows, of which these columns are given.
    pub(crate) fn of(&self, rows: &RecordBatch) -> Keys {
        match self {
            Self::Columns(_) => Keys::of_columns(rows.columns()),
            Self::Row => Keys::of_rows(rows.columns(), rows.num_rows()),
            Self::Nothing => Keys::default(),
        }
    }
}

/// A data file of a table.
#[derive(Clone, Debug)]
pub(crate) struct Live {
    pub(crate) add: Add,
    /// Its name in the store.
    pub(crate) name: String,
    /// How many rows are in it, deleted ones among them.
    pub(crate) rows: u64,
    pub(crate) dead: Arc<RoaringBitmap>,
}

/// An open table.
#[derive(Clone, Debug)]
pub(crate) struct Table {
    pub(crate) log: Log,
    pub(crate) schema: LakeSchema,
    pub(crate) key: KeyOf,
    /// Whether rows are to leave by deletion vectors, where the table has them.
    pub(crate) vectors: bool,
    /// By the paths of the log.
    pub(crate) files: BTreeMap<String, Live>,
    pub(crate) keys: HashMap<String, Arc<KeyFile>>,
    pub(crate) cache: KeyCache,
}

fn broken(table: &str, file: &str, what: impl std::fmt::Display) -> AdapterError {
    AdapterError::refused(Doing::to("reading the lake table", table), format!("{file}: {what}"))
}

/// A path of a log as the name of a file in its table's folder (RFC 3986, section 2.1).
fn file_name(folder: &str, path: &str) -> Option<String> {
    let name = percent_encoding::percent_decode_str(path).decode_utf8().ok()?;
    let is_within = !name.contains("://") && !name.split('/').any(|part| matches!(part, "" | "." | ".."));
    is_within.then(|| format!("{folder}/{name}"))
}

impl Table {
    /// Opens a table for changing rows that are found by a key.
    ///
    /// # Errors
    /// If it cannot be written to.
    pub(crate) async fn open(log: Log, key: KeyOf, cache: KeyCache) -> Result<Self> {
        if let Some(feature) = features::cannot_write(&log.state.protocol, &log.state.metadata) {
            return Err(log.cannot_write(&feature));
        }
        let mut table = Self::new(log, key, cache)?;
        table.look_at_files().await?;
        Ok(table)
    }

    /// The same without a look at its files.
    pub(crate) fn new(log: Log, key: KeyOf, cache: KeyCache) -> Result<Self> {
        let schema = log.state.schema().map_err(|e| broken(&log.folder, "its schema", e))?;
        Ok(Self { log, schema, key, vectors: true, files: BTreeMap::new(), keys: HashMap::new(), cache })
    }

    pub(crate) fn store(&self) -> &Arc<Store> {
        &self.log.store
    }

    /// Whether rows may leave by deletion vectors.
    pub(crate) fn has_vectors(&self) -> bool {
        self.vectors && features::has_vectors(&self.log.state.protocol)
    }

    /// Takes up which files the log has now, and which of their rows are deleted.
    pub(crate) async fn look_at_files(&mut self) -> Result<()> {
        let schema = self.log.state.schema().map_err(|e| broken(&self.log.folder, "its schema", e))?;
        self.schema = schema;
        let gone = |path: &String| !self.log.state.files.contains_key(path);
        for path in self.files.keys().filter(|path| gone(path)).cloned().collect::<Vec<_>>() {
            self.files.remove(&path);
            self.keys.remove(&path);
            self.cache.forget(&path);
        }
        let is_new = |add: &&Add| {
            self.files.get(&add.path).is_none_or(|live| live.add.deletion_vector != add.deletion_vector)
        };
        let news: Vec<Add> = self.log.state.files.values().filter(is_new).cloned().collect();
        let looked = futures_util::stream::iter(news).map(|add| self.look_at(add)).buffer_unordered(AT_ONCE);
        let looked: Vec<Live> = looked.try_collect().await?;
        self.files.extend(looked.into_iter().map(|live| (live.add.path.clone(), live)));
        Ok(())
    }

    async fn look_at(&self, add: Add) -> Result<Live> {
        let folder = &self.log.folder;
        let name = file_name(folder, &add.path);
        let name = name.ok_or_else(|| {
            broken(folder, &add.path, "this version reads files in the table's own folder alone")
        })?;
        let rows = match add.stats.as_deref().and_then(rows_of) {
            Some(rows) => rows,
            None => self.count(&name).await?,
        };
        let dead = match &add.deletion_vector {
            Some(place) => self.vector(place, rows).await.map_err(|e| match e {
                VectorError::Broken(what) => {
                    broken(folder, &add.path, format!("its deletion vector: {what}"))
                }
                VectorError::Store(error) => error,
            })?,
            None => RoaringBitmap::new(),
        };
        Ok(Live { add, name, rows, dead: Arc::new(dead) })
    }

    async fn count(&self, name: &str) -> Result<u64> {
        let content = self.content(name).await?;
        let counted = blocking(move || match content {
            Content::File(file) => rows_in(&file),
            Content::Memory(bytes) => rows_in(&bytes),
        });
        counted.await?.map_err(|e| broken(&self.log.folder, name, e))
    }

    /// A data file's content.
    ///
    /// # Errors
    /// If it is not there.
    pub(crate) async fn content(&self, name: &str) -> Result<Content> {
        let found = self.store().content(name).await?;
        found.ok_or_else(|| broken(&self.log.folder, name, "it is gone, and the log still names it"))
    }

    async fn vector(
        &self,
        place: &VectorPlace,
        rows: u64,
    ) -> std::result::Result<RoaringBitmap, VectorError> {
        let broken = VectorError::Broken;
        match place.find().map_err(broken)? {
            Found::Here(bytes) => decode(&bytes, rows).map_err(broken),
            Found::InFile(name, from, size) => {
                let name = format!("{}/{name}", self.log.folder);
                let bytes =
                    self.store().get_range(&name, from..from + size).await.map_err(VectorError::Store)?;
                let bytes = bytes.ok_or_else(|| broken(format!("{name} is gone")))?;
                decode(place.in_file(&bytes).map_err(broken)?, rows).map_err(broken)
            }
        }
    }

    /// Sees to it that the keys of every file are known.
    pub(crate) async fn know_keys(&mut self) -> Result<()> {
        if self.key == KeyOf::Nothing {
            return Ok(());
        }
        let unknown: Vec<Live> =
            self.files.values().filter(|live| !self.keys.contains_key(&live.add.path)).cloned().collect();
        let made = futures_util::stream::iter(unknown).map(|live| self.key_file(live)).buffer_unordered(2);
        let made: Vec<(String, KeyFile)> = made.try_collect().await?;
        self.keys.extend(made.into_iter().map(|(path, keys)| (path, Arc::new(keys))));
        Ok(())
    }

    /// The key file of a data file: the one that is kept, or a new one.
    async fn key_file(&self, live: Live) -> Result<(String, KeyFile)> {
        if let Some(kept) = self.cache.open(&live.add) {
            return Ok((live.add.path, kept));
        }
        let content = self.content(&live.name).await?;
        let (schema, key, cache) = (self.schema.clone(), self.key.clone(), self.cache.clone());
        let (folder, add) = (self.log.folder.clone(), live.add.clone());
        blocking(move || {
            let (columns, none) = (key.columns(schema.fields.len()), RoaringBitmap::new());
            let open = |content| match content {
                Content::File(file) => Reading::open(file, &schema, &columns, Which::Not(&none), BATCH_ROWS),
                Content::Memory(bytes) => {
                    Reading::open(bytes, &schema, &columns, Which::Not(&none), BATCH_ROWS)
                }
            };
            let failed = |e: parquet::errors::ParquetError| broken(&folder, &add.path, e);
            let mut keys = Keys::default();
            for batch in open(content).map_err(failed)? {
                key.of(&batch.map_err(failed)?).iter().for_each(|key| keys.push(key));
            }
            cache.keep(&add, &keys)
        })
        .await?
        .map(|keys| (live.add.path, keys))
    }

    /// How many rows live in it.
    pub(crate) fn rows(&self) -> u64 {
        self.files.values().map(|live| live.rows - live.dead.len().min(live.rows)).sum()
    }
}

enum VectorError {
    Broken(String),
    Store(AdapterError),
}

/// Runs work that takes a while on a thread that may block.
///
/// # Errors
/// If it panics.
pub(crate) async fn blocking<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> Result<T> {
    let done = tokio::task::spawn_blocking(work).await;
    done.map_err(|e| AdapterError::Io { doing: "working on a lake table".into(), reason: e.to_string() })
}

impl KeyCache {
    /// Makes the key file of a data file, and keeps it unless it is small.
    ///
    /// # Errors
    /// If it cannot be read back.
    pub(crate) fn keep(&self, add: &Add, keys: &Keys) -> Result<KeyFile> {
        let bytes = crate::rows::key_file::write(keys);
        let failed =
            |e: std::io::Error| AdapterError::Io { doing: "making a key file".into(), reason: e.to_string() };
        if bytes.len() >= SMALL_BYTES
            && let Some(kept) = self.write(add, &bytes).and_then(|()| self.open(add))
        {
            return Ok(kept);
        }
        KeyFile::in_memory(bytes).map_err(failed)
    }
}

#[cfg(test)]
mod tests {
    use super::file_name;

    #[rstest::rstest]
    #[case("part-1.parquet", Some("t/part-1.parquet"))]
    #[case("berth=A%20B/part%251.parquet", Some("t/berth=A B/part%1.parquet"))]
    #[case("../other/part.parquet", None)]
    #[case("%2e%2e/part.parquet", None)]
    #[case("s3://bucket/part.parquet", None)]
    #[case("/etc/passwd", None)]
    #[case("%ff", None)]
    fn files_lie_in_their_tables_folder(#[case] path: &str, #[case] name: Option<&str>) {
        assert_eq!(file_name("t", path).as_deref(), name);
    }
}

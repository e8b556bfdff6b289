//! Where the files are: a folder, or a bucket. The main type is [`Store`]; above it nobody knows which of them it is.

mod failed;

use bytes::Bytes;
use futures_util::{StreamExt, TryStreamExt};
use moorage_adapter::{AdapterError, Result};
use object_store::local::LocalFileSystem;
use object_store::path::Path;
use object_store::{Error, GetOptions, GetRange, ObjectStore, ObjectStoreExt, PutMode, PutOptions};
use std::ops::Range;
use std::path::PathBuf;
use std::sync::{Arc, OnceLock};

/// What came of writing a file that was not to be there.
#[derive(Clone, Debug, PartialEq, Eq)]
#[must_use]
pub(crate) enum PutNew {
    /// It is there, and it was not before: it has reached the disk.
    Done,
    /// Another one is there, with this content.
    Taken(Bytes),
}

/// A file, as a listing has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Listed {
    /// Relative to what was listed.
    pub(crate) name: String,
    pub(crate) size: u64,
    /// In milliseconds since 1970, by the store's clock.
    pub(crate) modified_ms: i64,
}

/// The content of a file, to be read in pieces.
pub(crate) enum Content {
    File(std::fs::File),
    Memory(Bytes),
}

/// Files under names relative to a root, with `/` between folders.
#[derive(Debug)]
pub(crate) struct Store {
    /// For people.
    words: String,
    /// Where it is a folder.
    folder: Option<PathBuf>,
    opened: OnceLock<Arc<dyn ObjectStore>>,
}

fn place(name: &str) -> Result<Path> {
    Path::parse(name).map_err(|e| AdapterError::refused(format!("the name {name}"), e))
}

impl Store {
    /// A folder. It is made by the first write, and only then.
    pub(crate) fn folder(path: impl Into<PathBuf>) -> Self {
        let folder = path.into();
        Self { words: folder.display().to_string(), folder: Some(folder), opened: OnceLock::new() }
    }

    #[cfg(test)]
    /// Any other store, with its words for people; `folder` where its files can be read as those of a folder, too.
    pub(crate) fn over(store: Arc<dyn ObjectStore>, words: &str, folder: Option<PathBuf>) -> Self {
        Self { words: words.into(), folder, opened: OnceLock::from(store) }
    }

    /// For people.
    pub(crate) fn words(&self) -> &str {
        &self.words
    }

    /// The folder, where it is one.
    pub(crate) fn as_folder(&self) -> Option<&std::path::Path> {
        self.folder.as_deref()
    }

    fn failed(&self, operation: &'static str, name: &str, error: Error) -> AdapterError {
        failed::failed((&self.words, self.folder.is_some()), operation, name, error)
    }

    /// What the files are in; none if that is not there, and is not to be made.
    fn open(&self, make: bool) -> Result<Option<&Arc<dyn ObjectStore>>> {
        if let (None, Some(folder)) = (self.opened.get(), &self.folder) {
            if make {
                std::fs::create_dir_all(folder)
                    .map_err(|e| AdapterError::Io { doing: self.doing("making"), reason: e.to_string() })?;
            }
            match LocalFileSystem::new_with_prefix(folder) {
                Ok(opened) => drop(self.opened.set(Arc::new(opened.with_fsync(true)))),
                Err(_) if !make && !folder.exists() => return Ok(None),
                Err(error) => return Err(self.failed("opening", "", error)),
            }
        }
        Ok(self.opened.get())
    }

    fn doing(&self, operation: &'static str) -> moorage_adapter::Doing {
        moorage_adapter::Doing::to(operation, &self.words)
    }

    fn opened(&self) -> Result<&Arc<dyn ObjectStore>> {
        self.open(true)?.ok_or_else(|| AdapterError::refused(self.doing("opening"), "it is not there"))
    }

    /// Writes a file that is not there yet: of all who try, one does.
    ///
    /// # Errors
    /// Behind a transient one the file may be there, or may yet come to be.
    pub(crate) async fn put_new(&self, name: &str, content: Bytes) -> Result<PutNew> {
        let options = PutOptions { mode: PutMode::Create, ..PutOptions::default() };
        let put = self.opened()?.put_opts(&place(name)?, content.clone().into(), options).await;
        match put {
            Ok(_) => Ok(PutNew::Done),
            Err(Error::AlreadyExists { .. } | Error::Precondition { .. }) => {
                // An answer may have been lost, and the store asked again.
                match self.get(name).await? {
                    Some(there) if there == content => Ok(PutNew::Done),
                    Some(there) => Ok(PutNew::Taken(there)),
                    None => Err(AdapterError::Busy {
                        doing: moorage_adapter::Doing::to("writing", name),
                        reason: "it was there, and is gone".into(),
                    }),
                }
            }
            Err(error) => Err(self.failed("writing", name, error)),
        }
    }

    /// Writes a file, over one of that name. When it returns, it has reached the disk.
    pub(crate) async fn put(&self, name: &str, content: Bytes) -> Result<()> {
        let put = self.opened()?.put(&place(name)?, content.into()).await;
        put.map(|_| ()).map_err(|e| self.failed("writing", name, e))
    }

    /// A file's content; none if it is not there.
    pub(crate) async fn get(&self, name: &str) -> Result<Option<Bytes>> {
        self.get_part(name, None).await
    }

    /// Some of a file's bytes; none if it is not there.
    pub(crate) async fn get_range(&self, name: &str, bytes: Range<u64>) -> Result<Option<Bytes>> {
        self.get_part(name, Some(GetRange::Bounded(bytes))).await
    }

    async fn get_part(&self, name: &str, range: Option<GetRange>) -> Result<Option<Bytes>> {
        let Some(store) = self.open(false)? else { return Ok(None) };
        let options = GetOptions { range, ..GetOptions::default() };
        let found = match store.get_opts(&place(name)?, options).await {
            Ok(found) => found.bytes().await,
            Err(error) => Err(error),
        };
        match found {
            Ok(bytes) => Ok(Some(bytes)),
            Err(Error::NotFound { .. }) => Ok(None),
            Err(error) => Err(self.failed("reading", name, error)),
        }
    }

    /// Whether a file is there.
    pub(crate) async fn has(&self, name: &str) -> Result<bool> {
        Ok(self.modified_ms(name).await?.is_some())
    }

    /// When a file was written, in milliseconds since 1970 by the store's clock; none if it is not there.
    pub(crate) async fn modified_ms(&self, name: &str) -> Result<Option<i64>> {
        let Some(store) = self.open(false)? else { return Ok(None) };
        match store.head(&place(name)?).await {
            Ok(found) => Ok(Some(found.last_modified.timestamp_millis())),
            Err(Error::NotFound { .. }) => Ok(None),
            Err(error) => Err(self.failed("looking for", name, error)),
        }
    }

    /// A file's content to be read in pieces; none if it is not there.
    pub(crate) async fn content(&self, name: &str) -> Result<Option<Content>> {
        let Some(folder) = &self.folder else { return Ok(self.get(name).await?.map(Content::Memory)) };
        match std::fs::File::open(folder.join(place(name)?.as_ref())) {
            Ok(file) => Ok(Some(Content::File(file))),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(AdapterError::Io {
                doing: moorage_adapter::Doing::to("reading", name),
                reason: error.to_string(),
            }),
        }
    }

    /// All files in a folder and in those within it, by their names in it.
    pub(crate) async fn list(&self, folder: &str) -> Result<Vec<Listed>> {
        let Some(store) = self.open(false)? else { return Ok(Vec::new()) };
        let within = place(folder)?;
        let listed = store.list(Some(&within)).map(|found| {
            found.map(|meta| Listed {
                name: meta
                    .location
                    .prefix_match(&within)
                    .into_iter()
                    .flatten()
                    .map(|part| part.as_ref().to_string())
                    .collect::<Vec<_>>()
                    .join("/"),
                size: meta.size,
                modified_ms: meta.last_modified.timestamp_millis(),
            })
        });
        let mut all: Vec<Listed> =
            listed.try_collect().await.map_err(|e| self.failed("listing", folder, e))?;
        all.sort_by(|a, b| a.name.cmp(&b.name));
        Ok(all)
    }

    /// The names of the folders in a folder.
    pub(crate) async fn folders(&self, folder: &str) -> Result<Vec<String>> {
        let Some(store) = self.open(false)? else { return Ok(Vec::new()) };
        let within = place(folder)?;
        let listed = store.list_with_delimiter(Some(&within)).await;
        let listed = listed.map_err(|e| self.failed("listing", folder, e))?;
        let name = |path: Path| path.parts().next_back().map(|part| part.as_ref().to_string());
        Ok(listed.common_prefixes.into_iter().filter_map(name).collect())
    }

    /// Removes files; those that are not there are no error.
    pub(crate) async fn remove(&self, names: &[String]) -> Result<()> {
        let Some(store) = self.open(false)? else { return Ok(()) };
        let remove = |name: &String| {
            let name = name.clone();
            async move {
                match store.delete(&place(&name)?).await {
                    Ok(()) | Err(Error::NotFound { .. }) => Ok(()),
                    Err(error) => Err(self.failed("removing", &name, error)),
                }
            }
        };
        futures_util::stream::iter(names.iter().map(remove)).buffer_unordered(8).try_collect().await
    }

    /// Removes a folder with all that is in it.
    pub(crate) async fn remove_folder(&self, folder: &str) -> Result<()> {
        let names: Vec<String> =
            self.list(folder).await?.into_iter().map(|file| format!("{folder}/{}", file.name)).collect();
        self.remove(&names).await?;
        // A bucket has no empty folders.
        let Some(root) = &self.folder else { return Ok(()) };
        match std::fs::remove_dir_all(root.join(place(folder)?.as_ref())) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(AdapterError::Io {
                doing: moorage_adapter::Doing::to("removing", folder),
                reason: error.to_string(),
            }),
            _ => Ok(()),
        }
    }
}

//! A table's log in a store: reading what it comes to, and committing to it. The main type is [`Log`].

use crate::format::action::{CommitInfo, Line, from_bytes, to_bytes};
use crate::format::names::{LOG, LogFile};
use crate::format::state::LogState;
use crate::format::{checkpoint, features};
use crate::store::{PutNew, Store};
use chrono::Utc;
use futures_util::{StreamExt, TryStreamExt};
use moorage_adapter::{AdapterError, Doing, Result};
use std::collections::BTreeMap;
use std::sync::Arc;
use uuid::Uuid;

/// Commits that are read at once.
const AT_ONCE: usize = 16;
/// After so many commits all of them are put into one file, which readers then begin with.
pub(crate) const CHECKPOINT_EVERY: u64 = 100;

/// What came of a try to commit.
#[derive(Debug)]
#[must_use]
pub(crate) enum Committed {
    /// It is in the log, at this version.
    At(u64),
    /// Someone else made the version: with these actions, which are taken up.
    Overtaken(Vec<Line>),
}

/// A table's log, and what it came to when it was last looked at.
#[derive(Clone, Debug)]
pub(crate) struct Log {
    pub(crate) store: Arc<Store>,
    /// The table's folder.
    pub(crate) folder: String,
    pub(crate) state: LogState,
}

fn unreadable(folder: &str, what: impl std::fmt::Display) -> AdapterError {
    AdapterError::refused(Doing::to("reading the log of the lake table", folder), what)
}

impl Log {
    fn name(&self, file: LogFile) -> String {
        format!("{}/{LOG}/{file}", self.folder)
    }

    /// A table that is not there yet.
    pub(crate) fn new(store: Arc<Store>, folder: &str) -> Self {
        Self { store, folder: folder.into(), state: LogState::default() }
    }

    /// Reads a table's log, up to a version or all of it; none if there is no such table.
    ///
    /// # Errors
    /// If it cannot be read, or asks for what this version does not know.
    pub(crate) async fn open(store: Arc<Store>, folder: &str, at: Option<u64>) -> Result<Option<Self>> {
        let mut log = Self::new(store, folder);
        let listed = log.store.list(&format!("{folder}/{LOG}")).await?;
        let files: Vec<LogFile> = listed.iter().filter_map(|file| LogFile::parse(&file.name)).collect();
        let is_wanted = |version: u64| at.is_none_or(|at| version <= at);
        log.read_checkpoint(&files, &is_wanted).await?;
        let from = log.state.next();
        let mut commits: Vec<u64> = files
            .iter()
            .filter_map(|file| match file {
                LogFile::Commit(version) if *version >= from && is_wanted(*version) => Some(*version),
                _ => None,
            })
            .collect();
        commits.sort_unstable();
        if log.state.version.is_none() && commits.is_empty() {
            return match at {
                Some(at) if !files.is_empty() => {
                    Err(unreadable(folder, format!("version {at} is not there any more")))
                }
                _ => Ok(None),
            };
        }
        if let Some((expected, found)) = (from..).zip(&commits).find(|(expected, found)| expected != *found) {
            return Err(unreadable(folder, format!("version {expected} is missing, and {found} is there")));
        }
        let read = futures_util::stream::iter(commits).map(|version| {
            let log = &log;
            async move { Ok::<_, AdapterError>((version, log.commit(version).await?)) }
        });
        let read: Vec<(u64, Option<Vec<Line>>)> = read.buffered(AT_ONCE).try_collect().await?;
        for (version, lines) in read {
            let lines = lines.ok_or_else(|| unreadable(folder, format!("version {version} is gone")))?;
            log.state.apply(version, lines);
        }
        if let Some(at) = at.filter(|at| log.state.version != Some(*at)) {
            return Err(unreadable(folder, format!("version {at} is not there")));
        }
        if let Some(feature) = features::cannot_read(&log.state.protocol, &log.state.metadata) {
            return Err(unreadable(
                folder,
                format!("it asks for {feature}, which this version of Moorage does not know"),
            ));
        }
        Ok(Some(log))
    }

    /// The newest checkpoint that is whole, if there is one.
    async fn read_checkpoint(&mut self, files: &[LogFile], is_wanted: &impl Fn(u64) -> bool) -> Result<()> {
        let mut whole: BTreeMap<u64, Vec<LogFile>> = BTreeMap::new();
        let mut parts: BTreeMap<(u64, u32), Vec<LogFile>> = BTreeMap::new();
        for file in files {
            match *file {
                LogFile::Checkpoint(version) if is_wanted(version) => {
                    drop(whole.insert(version, vec![*file]))
                }
                LogFile::Part(version, _, of) if is_wanted(version) => {
                    parts.entry((version, of)).or_default().push(*file)
                }
                _ => {}
            }
        }
        for ((version, of), files) in parts {
            if files.len() == of as usize {
                whole.entry(version).or_insert(files);
            }
        }
        let Some((version, files)) = whole.pop_last() else { return Ok(()) };
        let mut lines = Vec::new();
        for file in files {
            let name = self.name(file);
            let bytes = self.store.get(&name).await?;
            let bytes = bytes.ok_or_else(|| unreadable(&self.folder, format!("{file} is gone")))?;
            let read = tokio::task::spawn_blocking(move || checkpoint::read(bytes)).await;
            let read = read.map_err(|e| unreadable(&self.folder, e))?;
            lines.extend(read.map_err(|e| unreadable(&self.folder, format!("{file}: {e}")))?);
        }
        if lines.iter().any(|line| line.sidecar.is_some()) {
            return Err(unreadable(
                &self.folder,
                "its checkpoint has parts of a kind that this version does not know",
            ));
        }
        self.state.apply(version, lines);
        Ok(())
    }

    /// The actions of a commit; none if it is not there.
    pub(crate) async fn commit(&self, version: u64) -> Result<Option<Vec<Line>>> {
        let file = LogFile::Commit(version);
        let Some(bytes) = self.store.get(&self.name(file)).await? else { return Ok(None) };
        from_bytes(&bytes).map(Some).map_err(|e| unreadable(&self.folder, format!("{file}, {e}")))
    }

    /// Takes up what was committed since.
    pub(crate) async fn refresh(&mut self) -> Result<()> {
        while let Some(lines) = self.commit(self.state.next()).await? {
            self.take_up(lines)?;
        }
        Ok(())
    }

    fn take_up(&mut self, lines: Vec<Line>) -> Result<()> {
        self.state.apply(self.state.next(), lines);
        match features::cannot_write(&self.state.protocol, &self.state.metadata) {
            Some(feature) => Err(self.cannot_write(&feature)),
            None => Ok(()),
        }
    }

    /// Someone has given the table what this version cannot heed.
    pub(crate) fn cannot_write(&self, feature: &str) -> AdapterError {
        let what = Doing::to("writing to the lake table", &self.folder);
        AdapterError::refused(
            what,
            format!(
                "it asks its writers for {feature}, which this version of Moorage does not do. Take that out of the table, or have the pipeline read it again into a new one"
            ),
        )
    }

    /// Tries to make the next version. Whoever is overtaken looks at what came, and tries again.
    ///
    /// # Errors
    /// Behind a transient one the version may be there, or may yet come to be.
    pub(crate) async fn try_commit(&mut self, operation: &str, lines: Vec<Line>) -> Result<Committed> {
        let (version, id) = (self.state.next(), Uuid::new_v4().to_string());
        // A log that was put back to an earlier state is not gone on with: there would be a gap in it.
        if let Some(last) = self.state.version
            && !self.store.has(&self.name(LogFile::Commit(last))).await?
        {
            return Err(unreadable(
                &self.folder,
                format!(
                    "version {last}, the last one that was seen, is gone: someone put the table back to an earlier state. Run again: what is there is looked at anew"
                ),
            ));
        }
        let info = CommitInfo {
            timestamp: Utc::now().timestamp_millis(),
            operation: Some(operation.into()),
            engine_info: Some(concat!("moorage/", env!("CARGO_PKG_VERSION")).into()),
            txn_id: Some(id),
        };
        let all: Vec<Line> = std::iter::once(info.into()).chain(lines).collect();
        let failed = |e: serde_json::Error| unreadable(&self.folder, e);
        let bytes = to_bytes(&all).map_err(failed)?;
        match self.store.put_new(&self.name(LogFile::Commit(version)), bytes.into()).await? {
            PutNew::Done => {
                self.state.apply(version, all);
                Ok(Committed::At(version))
            }
            PutNew::Taken(other) => {
                let lines = from_bytes(&other).map_err(|e| unreadable(&self.folder, e))?;
                self.take_up(lines.clone())?;
                Ok(Committed::Overtaken(lines))
            }
        }
    }

    /// Behind every so many commits, has readers begin with one file. What fails there costs them some time, and nothing else.
    pub(crate) async fn put_together(&mut self, version: u64, gone_since_ms: i64) {
        if version > 0
            && version.is_multiple_of(CHECKPOINT_EVERY)
            && let Err(error) = self.write_checkpoint(gone_since_ms).await
        {
            tracing::debug!("the versions of {} were not put into one file: {error}", self.folder);
        }
    }

    /// Puts all up to now into one file, and says where it is.
    async fn write_checkpoint(&mut self, gone_since_ms: i64) -> Result<()> {
        let Some(version) = self.state.version else { return Ok(()) };
        self.state.forget_gone(gone_since_ms);
        let lines = self.state.lines(gone_since_ms);
        let (size, failed) = (lines.len(), |e: String| unreadable(&self.folder, e));
        let written = tokio::task::spawn_blocking(move || checkpoint::write(&lines)).await;
        let bytes = written.map_err(|e| failed(e.to_string()))?.map_err(|e| failed(e.to_string()))?;
        self.store.put(&self.name(LogFile::Checkpoint(version)), bytes.into()).await?;
        let hint = serde_json::json!({"version": version, "size": size}).to_string();
        self.store.put(&format!("{}/{LOG}/_last_checkpoint", self.folder), hint.into()).await
    }
}

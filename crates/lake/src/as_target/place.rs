//! The lake as one process has it: the turn that it took, the ledger, and the tables that are open.

use crate::as_target::dialect::LakeDialect;
use crate::as_target::ledger::{Entries, Ledger, Mine};
use crate::as_target::remembered::{OwnWord, Remembered, batch_app, own_domain, turn_app};
use crate::as_target::settings::Upkeep;
use crate::format::action::{Domain, Line, Txn};
use crate::format::names::folder_of;
use crate::store::Store;
use crate::table::finish::Finished;
use crate::table::key_cache::KeyCache;
use crate::table::log::{Committed, Log};
use crate::table::work::Work;
use crate::table::{KeyOf, Table};
use moorage_adapter::{AdapterError, Doing, Result};
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::model::schema::RowIdentity;
use moorage_core::plan::table::TablePlan;
use std::collections::{HashMap, HashSet};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::Mutex;

/// How often a commit is tried again that others overtook.
const TRIES: usize = 50;

/// Rows that are loaded and not in the table yet.
pub(crate) struct Loading {
    pub(crate) work: Work,
    /// Whether there are rows beside them that were there before, and that they stand in for where they have the same key.
    pub(crate) keeps: bool,
    pub(crate) rows: u64,
}

/// What a commit to a table is.
pub(crate) struct Deed<'a> {
    pub(crate) operation: &'static str,
    pub(crate) target: &'a str,
    /// What is remembered of the table behind it.
    pub(crate) of: Remembered,
    /// The checkpoint that its batch is to reach.
    pub(crate) to: Option<&'a Checkpoint>,
    /// How the table is carried behind it, where that is another way.
    pub(crate) plan: Option<&'a TablePlan>,
    /// Whether the rows were loaded beside the table.
    pub(crate) beside: bool,
}

/// What a writer has open, for as long as it has the turn.
pub(crate) struct Writer {
    pub(crate) mine: Mine,
    pub(crate) ledger: Ledger,
    pub(crate) tables: HashMap<String, Table>,
    pub(crate) upkeep: Upkeep,
    /// Whether something was begun whose end is not known: it is set before that, and taken back behind it.
    pub(crate) unsure: bool,
    /// Whether tables may be ahead of the ledger: likewise.
    pub(crate) ahead: bool,
}

/// Tables in an open format in a folder.
#[derive(Clone)]
pub struct LakeTarget {
    pub(crate) store: Arc<Store>,
    /// Where key files are kept; none: in memory.
    keys: Option<Arc<PathBuf>>,
    pub(crate) vectors: bool,
    pub(crate) upkeep: Upkeep,
    /// The tables whose files are put together now.
    pub(crate) looked_after: Arc<std::sync::Mutex<HashSet<String>>>,
    /// When it was last looked for what is old, by folder.
    pub(crate) looked_for_old: Arc<std::sync::Mutex<HashMap<String, Instant>>>,
    pub(crate) dialect: Arc<LakeDialect>,
    pub(crate) writer: Arc<Mutex<Option<Writer>>>,
    pub(crate) loading: Arc<std::sync::Mutex<HashMap<String, Arc<Mutex<Loading>>>>>,
}

impl LakeTarget {
    /// A target in a folder, which is made by the first write; `keys` is a folder on this machine for what may be lost.
    pub fn folder(path: impl Into<PathBuf>, keys: Option<PathBuf>) -> Self {
        Self::in_store(Store::folder(path), keys)
    }

    pub(crate) fn in_store(store: Store, keys: Option<PathBuf>) -> Self {
        Self {
            store: Arc::new(store),
            keys: keys.map(Arc::new),
            vectors: true,
            upkeep: Upkeep::default(),
            looked_after: Arc::default(),
            looked_for_old: Arc::default(),
            dialect: Arc::default(),
            writer: Arc::default(),
            loading: Arc::default(),
        }
    }

    /// Without deletion vectors, for readers that do not know them: a file that loses rows is written again.
    #[must_use]
    pub fn without_vectors(self) -> Self {
        Self { vectors: false, ..self }
    }

    /// Puts files together once a table has so many small ones, and keeps each version for so long that it can be read.
    #[must_use]
    pub fn looking_after(self, small_files: usize, keep_for: Duration) -> Self {
        Self { upkeep: Upkeep { small_files, keep_for }, ..self }
    }

    /// A table's log; none if there is no such table.
    pub(crate) async fn log(&self, target: &str, at: Option<u64>) -> Result<Option<Log>> {
        Log::open(self.store.clone(), &folder_of(target), at).await
    }

    /// Where the keys of a table are kept.
    pub(crate) fn key_cache(&self, folder: &str, of: &str) -> KeyCache {
        let within = self.keys.as_ref().map(|keys| keys.join(folder.replace('/', "~2f")));
        KeyCache::new(within, of)
    }

    /// By what the rows of a planned table are found.
    pub(crate) fn key_of(plan: &TablePlan) -> KeyOf {
        match &plan.mapped.identity {
            RowIdentity::Key(key) | RowIdentity::DeclaredKey(key) => KeyOf::Columns(key.clone()),
            RowIdentity::WholeRow => KeyOf::Row,
        }
    }

    /// Of which columns of which table keys are.
    pub(crate) fn key_words(plan: &TablePlan) -> String {
        let names =
            |columns: &[usize]| columns.iter().map(|&c| plan.columns[c].name.clone()).collect::<Vec<_>>();
        let all: Vec<usize> = (0..plan.columns.len()).collect();
        let of = plan.mapped.identity.key().unwrap_or(&all);
        format!("{} {:?} {:?}", folder_of(&plan.target), names(of), plan.mapped.identity.key().is_some())
    }

    /// Opens a planned table for changing.
    pub(crate) async fn open_table(&self, plan: &TablePlan, log: Log) -> Result<Table> {
        let key = Self::key_of(plan);
        let cache = self.key_cache(&folder_of(&plan.target), &Self::key_words(plan));
        let mut table = Table::open(log, key, cache).await?;
        table.vectors = self.vectors;
        table.cache.keep_only(table.files.keys().map(String::as_str));
        let found: Vec<String> =
            table.schema.fields.iter().map(|f| format!("{} {}", f.name, f.words())).collect();
        let planned: Vec<String> =
            plan.columns.iter().map(|c| format!("{} {}", c.name, c.declared.sql)).collect();
        if found != planned {
            let what = format!(
                "its columns are ({}), and Moorage left them as ({}): someone altered it. Put them back, or run `moorage resnapshot {}`",
                found.join(", "),
                planned.join(", "),
                plan.table()
            );
            return Err(AdapterError::refused(Doing::to("writing to the lake table", &plan.target), what));
        }
        Ok(table)
    }

    /// Takes an open table out of those that are kept, or opens it.
    pub(crate) async fn table(&self, writer: &mut Writer, plan: &TablePlan) -> Result<Table> {
        if let Some(table) = writer.tables.remove(&plan.target) {
            return Ok(table);
        }
        let log = self.log(&plan.target, None).await?;
        let log = log.ok_or_else(|| {
            AdapterError::refused(
                Doing::to("opening the lake table", &plan.target),
                "it is gone. Run `moorage resnapshot` for it",
            )
        })?;
        self.open_table(plan, log).await
    }

    /// The turn, ledger and tables of whoever writes.
    ///
    /// # Errors
    /// If the turn was not taken.
    pub(crate) async fn writing(&self) -> Result<tokio::sync::MappedMutexGuard<'_, Writer>> {
        let guard = self.writer.lock().await;
        tokio::sync::MutexGuard::try_map(guard, Option::as_mut)
            .map_err(|_| AdapterError::refused("writing to the target", "the turn to write was not taken"))
    }
}

impl Writer {
    /// Takes up what others wrote into the ledger, and sees whether the turn is still ours.
    pub(crate) async fn fence(&mut self) -> Result<()> {
        self.ledger.log.refresh().await?;
        match self.ledger.is_mine(&self.mine)? {
            true => Ok(()),
            false => Err(self.ledger.lost()),
        }
    }

    /// Commits entries to the ledger.
    pub(crate) async fn note(&mut self, operation: &str, entries: &Entries) -> Result<()> {
        let before = std::mem::replace(&mut self.unsure, true);
        self.ledger.commit(&self.mine, operation, entries).await?;
        self.unsure = before;
        Ok(())
    }

    /// Commits what was done to a table, with its own word of what is remembered of it from then on; gives both as they are then.
    ///
    /// # Errors
    /// `TurnLost` if another run writes to it.
    pub(crate) async fn commit(&mut self, work: Work, deed: Deed<'_>) -> Result<(Table, Remembered)> {
        let (mut table, mut finished) = work.finish().await?;
        if deed.beside {
            // Others were merged into the table meanwhile.
            table.log.refresh().await?;
            table.redo(&mut finished).await?;
        }
        let kept = finished.followed(&deed.of.kept);
        let word = self.word(deed.target, Remembered { kept, ..deed.of });
        let word = OwnWord { to: deed.to.cloned(), plan: deed.plan.cloned(), ..word };
        let table = self.put_in(deed.operation, table, finished, &word).await?;
        let of = Remembered { version: table.log.state.version, rows: table.rows(), ..word.of };
        Ok((table, of))
    }

    async fn put_in(
        &mut self,
        operation: &str,
        mut table: Table,
        mut finished: Finished,
        word: &OwnWord,
    ) -> Result<Table> {
        let text =
            serde_json::to_string(word).map_err(|e| AdapterError::refused("writing to a lake table", e))?;
        let pipeline = &self.mine.pipeline;
        let mut own: Vec<Line> = vec![
            self.turn_txn(),
            Domain { domain: own_domain(pipeline, &word.target), configuration: text, removed: false }.into(),
        ];
        if let Some(to) = &word.to {
            let version = i64::try_from(to.sequence).unwrap_or(i64::MAX);
            own.push(Txn { app_id: batch_app(pipeline), version, last_updated: None }.into());
        }
        for at in 0..TRIES {
            let lines = [own.clone(), table.actions(&mut finished).await?].concat();
            match table.log.try_commit(operation, lines).await? {
                Committed::At(version) => {
                    table.take_up(finished);
                    table.log.put_together(version, self.upkeep.since_ms()).await;
                    return Ok(table);
                }
                Committed::Overtaken(lines) => {
                    self.is_overtaken_by_us(&lines).await?;
                    table.redo(&mut finished).await?;
                    tokio::time::sleep(Duration::from_millis(5 << at.min(6))).await;
                }
            }
        }
        let doing = Doing::to("writing to the lake table", &word.target);
        Err(AdapterError::Busy { doing, reason: "others write to it all the time".into() })
    }

    pub(crate) fn turn_txn(&self) -> Line {
        let version = self.mine.epoch as i64;
        Txn { app_id: turn_app(&self.mine.pipeline), version, last_updated: None }.into()
    }

    /// Ends where a commit that overtook ours is of another run of this pipeline. What this one does beside its merges is not.
    pub(crate) async fn is_overtaken_by_us(&mut self, lines: &[Line]) -> Result<()> {
        let (turn, epoch) = (turn_app(&self.mine.pipeline), self.mine.epoch as i64);
        let is_other = |txn: &Txn| txn.app_id == turn && txn.version != epoch;
        if lines.iter().filter_map(|line| line.txn.as_ref()).any(is_other) {
            self.ledger.log.refresh().await?;
            return Err(self.ledger.lost());
        }
        Ok(())
    }

    /// Shuts out of a table what earlier writers sent and what has not arrived; gives its own word then.
    pub(crate) async fn shut(&mut self, log: &mut Log, target: &str) -> Result<Option<OwnWord>> {
        for at in 0..TRIES {
            match log.try_commit("shut out earlier writers", vec![self.turn_txn()]).await? {
                Committed::At(_) => return Ok(OwnWord::find(&log.state, &self.mine.pipeline, target)),
                // It arrived after all.
                Committed::Overtaken(_) => tokio::time::sleep(Duration::from_millis(5 << at.min(6))).await,
            }
        }
        let doing = Doing::to("shutting earlier writers out of the lake table", target);
        Err(AdapterError::Busy { doing, reason: "others write to it all the time".into() })
    }

    /// What a table says of itself behind what is written to it next.
    pub(crate) fn word(&self, target: &str, of: Remembered) -> OwnWord {
        let of = Remembered { serial: of.serial + 1, version: None, ..of };
        OwnWord { pipeline: self.mine.pipeline.clone(), target: target.into(), of, to: None, plan: None }
    }
}

//! A pipeline's ledger: a small lake table that any reader can look at, with the pipeline's position and the version of every table
//! at it. It is written last; what it does not name has not happened. In its log stands what else is remembered of the pipeline.
//!
//! | domain | what |
//! |---|---|
//! | `moorage.checkpoint` | how far the pipeline is |
//! | `moorage.settled` | where a batch has to end whose commit was broken off |
//! | `moorage.turn` | who writes |
//! | `moorage.tables/T` | what is remembered of target table T |
//! | `moorage.plans/T` | how it is carried |

use crate::as_target::remembered::{Remembered, turn_app};
use crate::as_target::settings::Upkeep;
use crate::format::action::{Add, Domain, Line, Metadata, Remove, Txn};
use crate::format::features;
use crate::format::names::folder_of;
use crate::format::schema::{LakeField, LakeSchema, LakeType};
use crate::rows::write::data_file;
use crate::store::Store;
use crate::table::log::{Committed, Log};
use arrow::array::{ArrayRef, Int64Array, RecordBatch, StringArray, TimestampMicrosecondArray};
use chrono::Utc;
use moorage_adapter::{AdapterError, Doing, Holder, Result};
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::plan::table::TablePlan;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use std::time::Duration;
use uuid::Uuid;

/// The folder of all that is remembered of pipelines.
pub(crate) const STATE: &str = "moorage_state";
/// How often a commit is tried again that others overtook.
const TRIES: usize = 50;

const CHECKPOINT: &str = "moorage.checkpoint";
const SETTLED: &str = "moorage.settled";
const TURN: &str = "moorage.turn";
const TABLES: &str = "moorage.tables/";
const PLANS: &str = "moorage.plans/";

/// Who has the turn to write.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct TurnWord {
    /// How often it was taken.
    pub(crate) epoch: u64,
    /// None: nobody.
    #[serde(default)]
    pub(crate) holder: Option<Holder>,
    /// Whether what earlier holders sent may still arrive.
    #[serde(default)]
    pub(crate) unsure: bool,
}

/// A turn that was taken.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Mine {
    pub(crate) pipeline: String,
    pub(crate) epoch: u64,
}

/// What is written into a ledger at once.
#[derive(Default)]
pub(crate) struct Entries {
    pub(crate) checkpoint: Option<Option<Checkpoint>>,
    pub(crate) settled: Option<Option<Checkpoint>>,
    pub(crate) turn: Option<TurnWord>,
    /// What is remembered of tables from now on; none: nothing.
    pub(crate) tables: Vec<(String, Option<Remembered>)>,
    pub(crate) plans: Vec<TablePlan>,
}

/// A pipeline's ledger.
#[derive(Clone, Debug)]
pub(crate) struct Ledger {
    pub(crate) log: Log,
    pipeline: String,
    pub(crate) upkeep: Upkeep,
}

/// The folder of a pipeline's part of what is remembered.
pub(crate) fn folder(pipeline: &str, what: &str) -> String {
    format!("{STATE}/{}/{what}", folder_of(pipeline))
}

fn schema() -> LakeSchema {
    let text = |name: &str| LakeField::new(name, LakeType::Text);
    let time = |name: &str| LakeField::new(name, LakeType::Timestamp);
    LakeSchema::new(vec![
        text("pipeline"),
        text("position"),
        time("committed_at"),
        time("merged_at"),
        text("target_table"),
        text("folder"),
        LakeField::new("version", LakeType::Long),
        text("state"),
        LakeField::new("live_rows", LakeType::Long),
    ])
}

fn domain(name: impl Into<String>, value: Option<&impl Serialize>) -> Result<Line> {
    let text = value.map(serde_json::to_string).transpose();
    let text = text.map_err(|e| AdapterError::refused("writing to the ledger", e))?;
    let (domain, removed) = (name.into(), text.is_none());
    Ok(Domain { domain, configuration: text.unwrap_or_default(), removed }.into())
}

impl Ledger {
    /// Reads a pipeline's ledger; none if it has none.
    pub(crate) async fn open(store: &Arc<Store>, pipeline: &str) -> Result<Option<Self>> {
        let log = Log::open(store.clone(), &folder(pipeline, "checkpoint"), None).await?;
        Ok(log.map(|log| Self { log, pipeline: pipeline.into(), upkeep: Upkeep::default() }))
    }

    /// Makes one with a turn that is taken; none if someone else did meanwhile.
    pub(crate) async fn make(store: &Arc<Store>, pipeline: &str, turn: &TurnWord) -> Result<Option<Self>> {
        let mut ledger = Self {
            log: Log::new(store.clone(), &folder(pipeline, "checkpoint")),
            pipeline: pipeline.into(),
            upkeep: Upkeep::default(),
        };
        let schema = schema();
        let (protocol, configuration) = features::asked(&schema, false);
        let metadata = Metadata {
            id: Uuid::new_v4().to_string(),
            schema_string: schema.text(),
            configuration,
            created_time: Some(Utc::now().timestamp_millis()),
            ..Metadata::default()
        };
        let lines =
            vec![protocol.into(), metadata.into(), ledger.turn_txn(turn.epoch), domain(TURN, Some(turn))?];
        match ledger.log.try_commit("take turn", lines).await? {
            Committed::At(_) => Ok(Some(ledger)),
            Committed::Overtaken(_) => Ok(None),
        }
    }

    fn read<T: DeserializeOwned>(&self, name: &str) -> Result<Option<T>> {
        let Some(text) = self.log.state.domains.get(name) else { return Ok(None) };
        let what = Doing::to("reading the ledger of pipeline", &self.pipeline);
        serde_json::from_str(text).map(Some).map_err(|e| AdapterError::refused(what, format!("{name}: {e}")))
    }

    pub(crate) fn checkpoint(&self) -> Result<Option<Checkpoint>> {
        self.read(CHECKPOINT)
    }

    pub(crate) fn settled(&self) -> Result<Option<Checkpoint>> {
        self.read(SETTLED)
    }

    pub(crate) fn turn(&self) -> Result<TurnWord> {
        Ok(self.read(TURN)?.unwrap_or_default())
    }

    /// What is remembered of a table.
    pub(crate) fn table(&self, target: &str) -> Result<Option<Remembered>> {
        self.read(&format!("{TABLES}{target}"))
    }

    /// How a table is carried.
    pub(crate) fn plan(&self, target: &str) -> Result<Option<TablePlan>> {
        self.read(&format!("{PLANS}{target}"))
    }

    /// The target tables, in the order of their names.
    pub(crate) fn targets(&self) -> Vec<String> {
        let names = self.log.state.domains.keys();
        names.filter_map(|name| name.strip_prefix(TABLES)).map(str::to_string).collect()
    }

    /// All tables with how they are carried.
    pub(crate) fn tables(&self) -> Result<Vec<(Remembered, TablePlan)>> {
        let each = |target: String| Ok(self.table(&target)?.zip(self.plan(&target)?));
        self.targets().into_iter().filter_map(|target| each(target).transpose()).collect()
    }

    fn turn_txn(&self, epoch: u64) -> Line {
        Txn { app_id: turn_app(&self.pipeline), version: epoch as i64, last_updated: None }.into()
    }

    /// Someone else has the turn.
    pub(crate) fn lost(&self) -> AdapterError {
        let holder = self.turn().ok().and_then(|turn| turn.holder);
        AdapterError::turn_lost(&self.pipeline, holder.as_ref())
    }

    /// Takes the turn; `false` if someone else wrote meanwhile, whom the ledger knows of now.
    pub(crate) async fn take_turn(&mut self, turn: &TurnWord) -> Result<bool> {
        let lines = vec![self.turn_txn(turn.epoch), domain(TURN, Some(turn))?];
        Ok(matches!(self.log.try_commit("take turn", lines).await?, Committed::At(_)))
    }

    /// Whether the turn is still that of a holder, as far as is known here.
    pub(crate) fn is_mine(&self, mine: &Mine) -> Result<bool> {
        let turn = self.turn()?;
        Ok(turn.epoch == mine.epoch && turn.holder.is_some())
    }

    /// Commits entries, if the turn is still ours.
    ///
    /// # Errors
    /// `TurnLost` if it is not.
    pub(crate) async fn commit(&mut self, mine: &Mine, operation: &str, entries: &Entries) -> Result<()> {
        for at in 0..TRIES {
            if !self.is_mine(mine)? {
                return Err(self.lost());
            }
            let mut lines = vec![self.turn_txn(mine.epoch)];
            if let Some(checkpoint) = &entries.checkpoint {
                lines.push(domain(CHECKPOINT, checkpoint.as_ref())?);
            }
            if let Some(settled) = &entries.settled {
                lines.push(domain(SETTLED, settled.as_ref())?);
            }
            if let Some(turn) = &entries.turn {
                lines.push(domain(TURN, Some(turn))?);
            }
            for (target, of) in &entries.tables {
                lines.push(domain(format!("{TABLES}{target}"), of.as_ref())?);
                if of.is_none() {
                    lines.push(domain(format!("{PLANS}{target}"), None::<&TablePlan>)?);
                }
            }
            for plan in &entries.plans {
                lines.push(domain(format!("{PLANS}{}", plan.target), Some(plan))?);
            }
            self.rows(entries, &mut lines).await?;
            match self.log.try_commit(operation, lines).await? {
                Committed::At(version) => {
                    self.log.put_together(version, self.upkeep.since_ms()).await;
                    return Ok(());
                }
                // Another engine may have tidied up in it: its rows are ours alone, and go as they are.
                Committed::Overtaken(_) => tokio::time::sleep(Duration::from_millis(5 << at.min(6))).await,
            }
        }
        let doing = Doing::to("writing to the ledger of pipeline", &self.pipeline);
        Err(AdapterError::Busy { doing, reason: "others write to it all the time".into() })
    }

    /// What it says to readers, as they will be behind these entries.
    async fn rows(&self, entries: &Entries, lines: &mut Vec<Line>) -> Result<()> {
        if entries.checkpoint.is_none() && entries.tables.is_empty() {
            return Ok(());
        }
        let checkpoint = match &entries.checkpoint {
            Some(checkpoint) => checkpoint.clone(),
            None => self.checkpoint()?,
        };
        let mut tables: Vec<(String, Remembered)> = Vec::new();
        for target in self.targets() {
            if !entries.tables.iter().any(|(name, _)| *name == target)
                && let Some(of) = self.table(&target)?
            {
                tables.push((target, of));
            }
        }
        tables.extend(entries.tables.iter().filter_map(|(name, of)| Some((name.clone(), of.clone()?))));
        tables.sort_by(|a, b| a.0.cmp(&b.0));
        let file = data_file(&schema().arrow(), &self.batch(checkpoint.as_ref(), &tables)?);
        let file = file.map_err(|e| AdapterError::refused("writing to the ledger", e))?;
        let path = format!("part-{}.parquet", Uuid::new_v4());
        let size = file.bytes.len() as i64;
        self.log.store.put(&format!("{}/{path}", self.log.folder), file.bytes.into()).await?;
        let now_ms = Utc::now().timestamp_millis();
        lines.extend(self.log.state.files.values().map(|old| Line::from(Remove::of(old, now_ms, true))));
        let stats = Some(file.stats.text(true));
        lines.push(
            Add { path, size, modification_time: now_ms, data_change: true, stats, ..Add::default() }.into(),
        );
        Ok(())
    }

    fn batch(&self, checkpoint: Option<&Checkpoint>, tables: &[(String, Remembered)]) -> Result<RecordBatch> {
        let count = tables.len();
        let all = |text: Option<&str>| Arc::new(StringArray::from(vec![text; count])) as ArrayRef;
        let time = |at: Option<chrono::DateTime<Utc>>| {
            let micros = vec![at.map(|at| at.timestamp_micros()); count];
            Arc::new(TimestampMicrosecondArray::from(micros).with_timezone("UTC")) as ArrayRef
        };
        let texts = |of: &dyn Fn(&(String, Remembered)) -> String| {
            Arc::new(StringArray::from(tables.iter().map(of).collect::<Vec<_>>())) as ArrayRef
        };
        let versions: Int64Array = tables.iter().map(|(_, of)| of.version.map(|v| v as i64)).collect();
        let rows: Int64Array = tables.iter().map(|(_, of)| Some(of.rows as i64)).collect();
        let columns: Vec<ArrayRef> = vec![
            all(Some(&self.pipeline)),
            all(checkpoint.map(|c| c.position.as_str())),
            time(checkpoint.and_then(|c| c.committed_at)),
            time(checkpoint.and_then(|c| c.merged_at)),
            texts(&|(target, _)| target.clone()),
            texts(&|(target, _)| folder_of(target)),
            Arc::new(versions),
            texts(&|(_, of)| of.state.word().into()),
            Arc::new(rows),
        ];
        Ok(RecordBatch::try_new(schema().arrow(), columns)?)
    }
}

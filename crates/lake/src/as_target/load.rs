//! Making tables and loading snapshots: rows are written to files by several tasks, and put into the table by one commit at the end.

use crate::as_target::ledger::Entries;
use crate::as_target::place::{Deed, LakeTarget, Loading, Writer};
use crate::as_target::remembered::{OwnWord, Remembered, own_domain};
use crate::as_target::values::to_lake_rows;
use crate::format::action::{Domain, Line, Metadata};
use crate::format::features;
use crate::format::names::folder_of;
use crate::format::schema::LakeSchema;
use crate::format::state::LogState;
use crate::table::Table;
use crate::table::log::{Committed, Log};
use crate::table::open::blocking;
use crate::table::work::Work;
use arrow::array::{Array, RecordBatch};
use async_trait::async_trait;
use chrono::Utc;
use moorage_adapter::{
    AdapterError, Doing, ExistingTable, InspectTarget, LoadTarget, LoadedTable, Result, Surveyed,
};
use moorage_core::model::policy::ExistingRows;
use moorage_core::model::schema::RowIdentity;
use moorage_core::plan::table::TablePlan;
use std::collections::BTreeSet;
use std::sync::{Arc, PoisonError};
use tokio::sync::Mutex;
use uuid::Uuid;

/// The schema that a planned table has.
fn schema_of(plan: &TablePlan) -> LakeSchema {
    LakeSchema::of(plan.columns.iter().map(|c| c.name.as_str()).zip(&plan.mapped.columns))
}

/// Whether a table that is there may be taken over.
fn check(pipeline: &str, plan: &TablePlan, existing: Option<&ExistingTable>) -> Result<()> {
    let what = || Doing::to("making the lake table", &plan.target);
    if plan.ddl.is_some() {
        let reason =
            "a lake table is not made by statements: take its file out of the folder that `ddl_dir` names";
        return Err(AdapterError::refused(what(), reason));
    }
    let Some(existing) = existing else { return Ok(()) };
    match &existing.owner {
        Some(owner) if owner == pipeline => return Ok(()),
        Some(owner) => {
            let reason =
                format!("it belongs to pipeline {owner}: change `into`, or take it out of one of them");
            return Err(AdapterError::refused(what(), reason));
        }
        None => {}
    }
    let words = |columns: &[(String, String)]| {
        columns.iter().map(|(name, of)| format!("{name} {of}")).collect::<Vec<_>>().join(", ")
    };
    let planned: Vec<(String, String)> =
        plan.columns.iter().map(|c| (c.name.clone(), c.declared.sql.clone())).collect();
    if existing.columns != planned {
        let reason = format!(
            "it is there already, with other columns ({}) than the plan ({}). Move it away, or change `into`",
            words(&existing.columns),
            words(&planned)
        );
        return Err(AdapterError::refused(what(), reason));
    }
    if existing.rows > 0 && plan.existing_rows.is_none() {
        let reason = format!(
            "it is there already and holds {} rows. Say in the project file what to do with them: existing_rows = \"replace\" or \"keep\"",
            existing.rows
        );
        return Err(AdapterError::refused(what(), reason));
    }
    Ok(())
}

/// A key that only the project file says is one has a value in every row.
fn refuse_nulls(plan: &TablePlan, rows: &RecordBatch) -> Result<()> {
    let is_null = |&column: &usize| rows.column(column).null_count() > 0;
    if !matches!(plan.mapped.identity, RowIdentity::DeclaredKey(_)) || !plan.key().iter().any(is_null) {
        return Ok(());
    }
    let key = plan.mapped.key_names().join(", ");
    let what = format!(
        "the declared key ({key}) does not fit: a row has no value in it. Declare another key in the project file"
    );
    Err(AdapterError::Value { table: plan.table().to_string(), what })
}

/// And no two rows have the same.
async fn refuse_twice(plan: &TablePlan, work: &mut Work) -> Result<()> {
    if !matches!(plan.mapped.identity, RowIdentity::DeclaredKey(_)) || !work.has_twice().await? {
        return Ok(());
    }
    let key = plan.mapped.key_names().join(", ");
    let what = format!(
        "the key ({key}) is not unique: two rows have the same values. Declare another key in the project file, or take `key` out and have the source's log carry whole rows"
    );
    Err(AdapterError::Value { table: plan.table().to_string(), what })
}

impl LakeTarget {
    /// What a table's log has to say for these columns to be carried: nothing where it says so already.
    fn becomes(&self, plan: &TablePlan, schema: &LakeSchema, state: &LogState) -> Vec<Line> {
        let (asked, asked_for) = features::asked(schema, self.vectors);
        let is_there = state.version.is_some();
        let protocol = if is_there { features::extended(&state.protocol, &asked) } else { asked };
        if is_there && state.schema().ok().as_ref() == Some(schema) && state.protocol == protocol {
            return Vec::new();
        }
        let new = || Metadata {
            id: Uuid::new_v4().to_string(),
            name: Some(plan.target.clone()),
            created_time: Some(Utc::now().timestamp_millis()),
            ..Metadata::default()
        };
        let mut metadata = if is_there { state.metadata.clone() } else { new() };
        metadata.schema_string = schema.text();
        metadata.description = plan.comment.clone().or(metadata.description);
        metadata.configuration.extend(asked_for);
        vec![protocol.into(), metadata.into()]
    }

    /// Makes a table that is not there, and has it say that it is being read. One that is there stays as it is otherwise: its rows and
    /// columns are seen until others take their place.
    async fn make_table(&self, writer: &mut Writer, plan: &TablePlan, word: &OwnWord) -> Result<Log> {
        for _ in 0..8 {
            let log = self.log(&plan.target, None).await?;
            let mut log = log.unwrap_or_else(|| Log::new(self.store.clone(), &folder_of(&plan.target)));
            let text =
                serde_json::to_string(word).map_err(|e| AdapterError::refused("making a lake table", e))?;
            let domain = own_domain(&writer.mine.pipeline, &plan.target);
            let mut lines: Vec<Line> =
                vec![writer.turn_txn(), Domain { domain, configuration: text, removed: false }.into()];
            let schema = match log.state.version {
                Some(_) => log.state.schema().map_err(|e| AdapterError::refused("making a lake table", e))?,
                None => schema_of(plan),
            };
            lines.extend(self.becomes(plan, &schema, &log.state));
            match log.try_commit("make", lines).await? {
                Committed::At(_) => return Ok(log),
                Committed::Overtaken(_) => {}
            }
        }
        let doing = Doing::to("making the lake table", &plan.target);
        Err(AdapterError::Busy { doing, reason: "others write to it all the time".into() })
    }

    /// What was loaded for a table and is not in it yet.
    pub(crate) fn take_loaded(&self, target: &str) -> Result<Option<Loading>> {
        let taken = self.loading.lock().unwrap_or_else(PoisonError::into_inner).remove(target);
        let Some(loading) = taken else { return Ok(None) };
        let busy =
            |_| AdapterError::refused(Doing::to("ending the load of", target), "rows are being loaded still");
        Arc::try_unwrap(loading).map_err(busy).map(|loading| Some(loading.into_inner()))
    }

    fn begin_load(&self, target: &str, work: Work, keeps: bool) {
        let loading = Arc::new(Mutex::new(Loading { work, keeps, rows: 0 }));
        self.loading.lock().unwrap_or_else(PoisonError::into_inner).insert(target.into(), loading);
    }

    /// A work in which none of the table's rows are left, but for those that are kept, and which brings the planned columns.
    async fn anew(&self, plan: &TablePlan, log: Log, kept: &BTreeSet<String>) -> Result<Work> {
        if !kept.is_empty() {
            let mut work = Work::on(self.open_table(plan, log).await?).await?;
            work.empty(kept);
            return Ok(work);
        }
        let becomes = self.becomes(plan, &schema_of(plan), &log.state);
        let cache = self.key_cache(&folder_of(&plan.target), &Self::key_words(plan));
        let mut table = Table::open(log, Self::key_of(plan), cache).await?;
        table.vectors = self.vectors;
        Ok(Work::in_place_of(table, schema_of(plan), becomes))
    }
}

#[async_trait]
impl LoadTarget for LakeTarget {
    async fn survey(&self, pipeline: &str, plans: &[TablePlan]) -> Result<Vec<Surveyed>> {
        let ledger = self.ledger(pipeline).await?;
        let mut all = Vec::with_capacity(plans.len());
        for plan in plans {
            let existing = self.describe(&plan.target).await?;
            let stored = ledger.as_ref().map(|ledger| ledger.table(&plan.target)).transpose()?.flatten();
            let carried = ledger.as_ref().map(|ledger| ledger.plan(&plan.target)).transpose()?.flatten();
            all.push(Surveyed {
                problem: check(pipeline, plan, existing.as_ref()).err().map(|e| e.to_string()),
                existing,
                state: stored.map(|of| of.state),
                maps_otherwise: carried.is_some_and(|before| !before.maps_like(plan)),
            });
        }
        Ok(all)
    }

    async fn check(&self, pipeline: &str, plan: &TablePlan) -> Result<()> {
        check(pipeline, plan, self.describe(&plan.target).await?.as_ref())
    }

    async fn create(&self, pipeline: &str, plan: &TablePlan) -> Result<()> {
        let existing = self.describe(&plan.target).await?;
        let mut writer = self.writing().await?;
        writer.fence().await?;
        check(pipeline, plan, existing.as_ref())?;
        // A try that was broken off may have said something that never came to the ledger: whose the rows are that were there before.
        let log = self.log(&plan.target, None).await?;
        let said = log.as_ref().and_then(|log| OwnWord::find(&log.state, pipeline, &plan.target));
        let before = writer.ledger.table(&plan.target)?.or(said.map(|word| word.of));
        let adopted = match (&before, &existing) {
            (Some(before), _) => before.adopted,
            (None, Some(existing)) => existing.owner.is_none(),
            (None, None) => false,
        };
        let serial = before.as_ref().map_or(0, |before| before.serial);
        let keeps = adopted && plan.existing_rows == Some(ExistingRows::Keep);
        let kept = match (keeps, &before) {
            (false, _) => BTreeSet::new(),
            (true, Some(before)) => before.kept.clone(),
            (true, None) => log.map(|log| log.state.files.into_keys().collect()).unwrap_or_default(),
        };
        let of = Remembered { serial, kept: kept.clone(), ..Remembered::new(adopted) };
        let word = writer.word(&plan.target, of);
        writer.tables.remove(&plan.target);
        let log = self.make_table(&mut writer, plan, &word).await?;
        let of = Remembered { version: log.state.version, ..word.of };
        let entries = Entries {
            tables: vec![(plan.target.clone(), Some(of))],
            plans: vec![plan.clone()],
            ..Entries::default()
        };
        writer.note("make a table", &entries).await?;
        let work = self.anew(plan, log, &kept).await?;
        self.begin_load(&plan.target, work, !kept.is_empty());
        Ok(())
    }

    async fn load(&self, plan: &TablePlan, rows: RecordBatch) -> Result<()> {
        let found = self.loading.lock().unwrap_or_else(PoisonError::into_inner).get(&plan.target).cloned();
        let missing = || AdapterError::refused(Doing::to("loading", &plan.target), "its load was not begun");
        let loading = found.ok_or_else(missing)?;
        let count = rows.num_rows() as u64;
        let of = plan.clone();
        let rows = blocking(move || to_lake_rows(&of, &rows)).await??;
        refuse_nulls(plan, &rows)?;
        let mut loading = loading.lock().await;
        if loading.keeps && plan.mapped.identity.key().is_some() {
            let keys = Self::key_of(plan);
            let columns = keys.columns(rows.num_columns());
            loading.work.take(keys.of(&rows.project(&columns)?)).await?;
        }
        loading.work.append(rows).await?;
        loading.rows += count;
        Ok(())
    }

    async fn finish_load(&self, _: &str, plan: &TablePlan, end: LoadedTable) -> Result<()> {
        let missing = || AdapterError::refused(Doing::to("loading", &plan.target), "its load was not begun");
        let Loading { mut work, rows, .. } = self.take_loaded(&plan.target)?.ok_or_else(missing)?;
        refuse_twice(plan, &mut work).await?;
        let mut writer = self.writing().await?;
        writer.fence().await?;
        let unsure = std::mem::replace(&mut writer.unsure, true);
        writer.ahead = true;
        let of = writer.ledger.table(&plan.target)?.ok_or_else(missing)?;
        let of = Remembered {
            state: end.state,
            mark: end.mark.map(|m| (m.text, m.complete_at.to_string())),
            captured_by: end.captured_by,
            snapshot_rows: rows,
            ..of
        };
        let deed = Deed { operation: "load", target: &plan.target, of, to: None, plan: None, beside: false };
        let (table, of) = writer.commit(work, deed).await?;
        writer.tables.insert(plan.target.clone(), table);
        let entries = Entries { tables: vec![(plan.target.clone(), Some(of))], ..Entries::default() };
        writer.note("load", &entries).await?;
        (writer.unsure, writer.ahead) = (unsure, false);
        Ok(())
    }

    async fn create_again(&self, _: &str, plan: &TablePlan) -> Result<()> {
        let mut writer = self.writing().await?;
        writer.fence().await?;
        let log = self.log(&plan.target, None).await?;
        let missing =
            || AdapterError::refused(Doing::to("reading again", &plan.target), "there is no such table");
        let log = log.ok_or_else(missing)?;
        let kept = writer.ledger.table(&plan.target)?.map(|of| of.kept).unwrap_or_default();
        let work = self.anew(plan, log, &kept).await?;
        self.begin_load(&plan.target, work, !kept.is_empty());
        Ok(())
    }

    async fn ready_again(&self, plan: &TablePlan) -> Result<()> {
        let found = self.loading.lock().unwrap_or_else(PoisonError::into_inner).get(&plan.target).cloned();
        match found {
            Some(loading) => refuse_twice(plan, &mut loading.lock().await.work).await,
            None => Ok(()),
        }
    }

    async fn drop_again(&self, plan: &TablePlan) -> Result<()> {
        self.loading.lock().unwrap_or_else(PoisonError::into_inner).remove(&plan.target);
        Ok(())
    }

    async fn remember_captured_by(&self, _: &str, tables: &[(String, String)]) -> Result<()> {
        let mut writer = self.writing().await?;
        let mut entries = Entries::default();
        for (target, by) in tables {
            if let Some(of) = writer.ledger.table(target)? {
                entries
                    .tables
                    .push((target.clone(), Some(Remembered { captured_by: Some(by.clone()), ..of })));
            }
        }
        writer.note("note what captures changes", &entries).await
    }
}

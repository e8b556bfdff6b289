//! Proving that both sides agree while changes go on.
//!
//! Two looks, the source's later than the target's, and the captured changes between them. A difference is
//! set aside as in flight only if one of these changes is about that very key; nothing is read twice until it
//! fits, nothing waits. Tables without a key are counted as multisets, to which the changes between are added
//! exactly.

use crate::error::{EngineError, Result};
use crate::mappers::Mappers;
use crate::pipeline::Pipeline;
use chrono::{DateTime, Utc};
use moorage_adapter::{
    AdapterError, CapturePlan, Event, Events, GONE, RowOrder, SnapshotMark, SourceLook, StoredTable,
    StreamTable, TableState, TargetLook,
};
use moorage_core::change::{Change, ChangeBlock, ChangeKind};
use moorage_core::checkpoint::{Checkpoint, Stage};
use moorage_core::column::{Value, value_at};
use moorage_core::compare::{Counts, Difference, Disorder, KeyHasher, KeyedCompare, LookedRows, Side, Tally};
use moorage_core::plan::TablePlan;
use serde::Serialize;
use std::collections::HashSet;
use std::time::Instant;
use tokio::sync::mpsc;

/// What is compared, and how much is shown.
#[derive(Clone, Debug)]
pub struct VerifyOptions {
    /// Only these tables, by source name; all if empty.
    pub tables: Vec<String>,
    /// Only count rows.
    pub counts_only: bool,
    /// How many differing rows of a table are shown.
    pub show: usize,
}

/// What was found in one table. Times are in milliseconds.
#[derive(Clone, Debug, Serialize)]
pub struct TableVerdict {
    /// In the source.
    pub table: String,
    /// In the target.
    pub target: String,
    /// Whether both sides agree.
    pub agrees: bool,
    /// Why it was not compared, if so.
    pub not_compared: Option<String>,
    /// The counts.
    #[serde(flatten)]
    pub counts: Counts,
    /// The first differing rows.
    pub differences: Vec<Difference>,
    /// How long it took.
    pub elapsed_ms: u64,
    /// Rows of both sides read in a second.
    pub rows_per_second: u64,
}

/// What was found in a pipeline.
#[derive(Clone, Debug, Serialize)]
pub struct Verdict {
    /// The pipeline.
    pub pipeline: String,
    /// Whether every table that is followed was compared and agrees.
    pub agrees: bool,
    /// Tables that are not followed any more, because they are not in the source or not picked: there is nothing to
    /// compare them with.
    pub gone: Vec<String>,
    /// Whether only rows were counted.
    pub counts_only: bool,
    /// The target's position when it was looked at.
    pub position: Option<String>,
    /// The source commit up to which the target was complete then.
    pub complete_up_to: Option<DateTime<Utc>>,
    /// Captured changes that lay between the two looks.
    pub changes_between: u64,
    /// The tables.
    pub tables: Vec<TableVerdict>,
}

/// How many changed rows between the looks are kept in mind; each takes about 40 bytes.
const MOST_BETWEEN: usize = 2_000_000;
/// How many rows without a key are counted at a time; each takes about 40 bytes.
const TALLIED_AT_ONCE: u64 = 1_000_000;

/// Compares both sides of a pipeline. Changes nothing.
///
/// # Errors
/// If a side cannot be read, a table is not the pipeline's, or so much lies between the two sides that it
/// cannot be kept in mind.
pub async fn verify(pipeline: &Pipeline, options: &VerifyOptions, events: &Events) -> Result<Verdict> {
    let not_set_up = || EngineError::NeverRun { pipeline: pipeline.name.clone() };
    let before = pipeline.target.checkpoint(&pipeline.name).await?.ok_or_else(not_set_up)?;
    let stored = chosen(pipeline, pipeline.target.tables(&pipeline.name).await?, &options.tables)?;
    let followed = before.stage == Stage::Following;
    let capture = pipeline.capture();
    let (gone, stored) = without_gone(pipeline, &capture, stored).await?;
    let tables = stored.iter().map(|s| stream_table(pipeline, s)).collect::<Result<Vec<_>>>()?;
    let mut source = pipeline.source.look(followed.then_some(&capture), &tables).await?;
    let mut target = pipeline.target.look(&pipeline.name).await?.ok_or_else(not_set_up)?;
    let checkpoint = target.checkpoint().filter(|c| c.stage == Stage::Following).cloned();
    source.fix(checkpoint.as_ref()).await?;
    let plans: Vec<TablePlan> = tables.iter().map(|t| t.plan.comparable()).collect();
    let mappers = Mappers::new(&plans)?;
    let between = Between::gather(source.as_mut(), &plans, &mappers).await?;
    let mut verdicts = Vec::new();
    for (at, stored) in stored.iter().enumerate() {
        // As it is now: its state may have changed since the first look.
        let now = target.tables().iter().find(|t| t.plan.target == stored.plan.target).cloned();
        let compare = Compare {
            at,
            plan: &plans[at],
            mappers: &mappers,
            between: &between.tables[at],
            options,
            events,
        };
        verdicts.push(match why_not(now.as_ref(), stored) {
            Some(why) => skipped(&stored.plan, why),
            None => compare.run(source.as_mut(), target.as_mut()).await?,
        });
    }
    Ok(Verdict {
        pipeline: pipeline.name.clone(),
        agrees: verdicts.iter().all(|v| v.agrees),
        gone,
        counts_only: options.counts_only,
        position: checkpoint.as_ref().map(|c: &Checkpoint| c.position.clone()),
        complete_up_to: checkpoint.and_then(|c| c.committed_at),
        changes_between: between.changes,
        tables: verdicts,
    })
}

/// Sets those aside that are not followed any more, or will not be by the next run.
async fn without_gone(
    pipeline: &Pipeline,
    capture: &CapturePlan,
    stored: Vec<StoredTable>,
) -> Result<(Vec<String>, Vec<StoredTable>)> {
    let plans: Vec<TablePlan> = stored.iter().map(|s| s.plan.clone()).collect();
    let drifted = pipeline.source.drifted(capture, &plans).await?;
    let left = |s: &StoredTable| {
        let vanished = drifted.iter().any(|(schema, what)| what == GONE && schema.table == *s.plan.table());
        s.state == TableState::Gone || vanished
    };
    let (gone, stored): (Vec<_>, Vec<_>) = stored.into_iter().partition(left);
    Ok((gone.iter().map(|s| s.plan.table().to_string()).collect(), stored))
}

fn chosen(pipeline: &Pipeline, stored: Vec<StoredTable>, wanted: &[String]) -> Result<Vec<StoredTable>> {
    for name in wanted {
        find_table(pipeline, &stored, name)?;
    }
    let picked = |s: &StoredTable| wanted.is_empty() || wanted.iter().any(|w| s.plan.goes_by(w));
    Ok(stored.into_iter().filter(picked).collect())
}

/// The table that goes by a name; in full counts before in part.
pub(crate) fn find_table<'a>(
    pipeline: &Pipeline,
    stored: &'a [StoredTable],
    name: &str,
) -> Result<&'a StoredTable> {
    let exact = stored.iter().find(|s| s.plan.table().to_string() == name);
    exact.or_else(|| stored.iter().find(|s| s.plan.goes_by(name))).ok_or_else(|| EngineError::UnknownTable {
        pipeline: pipeline.name.clone(),
        table: name.into(),
        known: stored.iter().map(|s| s.plan.table().to_string()).collect::<Vec<_>>().join(", "),
    })
}

pub(crate) fn stream_table(pipeline: &Pipeline, stored: &StoredTable) -> Result<StreamTable> {
    let mark = match &stored.mark {
        None => None,
        Some((text, position)) => {
            let complete_at = pipeline
                .source
                .parse_position(position)
                .ok_or_else(|| EngineError::NotAPosition { text: position.clone() })?;
            Some(SnapshotMark { text: text.clone(), complete_at })
        }
    };
    Ok(StreamTable { plan: stored.plan.clone(), mark })
}

fn why_not(now: Option<&StoredTable>, before: &StoredTable) -> Option<String> {
    match now {
        None => Some("it is not carried any more".into()),
        Some(now) if now.plan != before.plan || now.mark != before.mark => {
            Some("it was read again meanwhile: verify once more".into())
        }
        Some(now) => match now.state {
            TableState::Live | TableState::Copied => None,
            TableState::Waiting | TableState::Reading => Some("its snapshot has not finished".into()),
            TableState::NeedsResnapshot => Some("it is to be read again: the next run does it".into()),
            TableState::Gone => Some("it is not followed any more".into()),
            TableState::ChangesOnly => {
                Some("it follows changes only: the target never got the rows that were there before".into())
            }
        },
    }
}

fn skipped(plan: &TablePlan, why: String) -> TableVerdict {
    TableVerdict {
        table: plan.table().to_string(),
        target: plan.target.clone(),
        agrees: false,
        not_compared: Some(why),
        counts: Counts::default(),
        differences: Vec::new(),
        elapsed_ms: 0,
        rows_per_second: 0,
    }
}

/// What lies between the two looks, for one table.
#[derive(Default)]
struct TableBetween {
    /// The keys that changes are about.
    keys: HashSet<u128>,
    /// Without a key: hashes of rows that the source has more of (1) or fewer (-1) than the target.
    rows: Vec<(u128, i64)>,
    /// The table was emptied: every row is in flight.
    emptied: bool,
    /// Rows that the source has more than the target.
    net: i64,
    /// By how much that may be wrong, because the log does not say how rows were before a filter.
    unsure: u64,
}

struct Between {
    tables: Vec<TableBetween>,
    changes: u64,
}

impl Between {
    async fn gather(source: &mut dyn SourceLook, plans: &[TablePlan], mappers: &Mappers) -> Result<Self> {
        let mut between =
            Self { tables: plans.iter().map(|_| TableBetween::default()).collect(), changes: 0 };
        let (sender, mut blocks) = mpsc::channel(4);
        let take = async {
            while let Some(block) = blocks.recv().await {
                between.add(plans, &mappers.block(block)?)?;
            }
            Ok(())
        };
        let (read, taken) = tokio::join!(source.between(sender), take);
        taken.and(read.map_err(EngineError::from))?;
        Ok(between)
    }

    fn add(&mut self, plans: &[TablePlan], block: &ChangeBlock) -> Result<()> {
        let Some(at) = plans.iter().position(|p| *p.table() == block.schema().table) else { return Ok(()) };
        let table = &mut self.tables[at];
        self.changes += block.len() as u64;
        if block.is_blind() {
            table.unsure += block.len() as u64;
        }
        let schema = block.schema();
        let all: Vec<usize> = (0..schema.columns.len()).collect();
        let keyed = schema.identity.key();
        let mut hasher = KeyHasher::new(&schema.columns, keyed.unwrap_or(&all));
        for change in block.changes() {
            table.net += match change.kind {
                ChangeKind::Insert => 1,
                ChangeKind::Delete => -1,
                ChangeKind::Update => 0,
                ChangeKind::Truncate => {
                    table.emptied = true;
                    0
                }
            };
            let new = change.new.map(|_| hasher.hash(|c| new_value(block, &change, c)));
            let old =
                change.old.map(|row| hasher.hash(|c| value_at(block.old_rows().column(c).as_ref(), row)));
            if keyed.is_some() {
                table.keys.extend(new.into_iter().chain(old));
            } else {
                table.rows.extend(new.map(|hash| (hash, 1)).into_iter().chain(old.map(|hash| (hash, -1))));
            }
        }
        if table.keys.len() + table.rows.len() > MOST_BETWEEN {
            return Err(AdapterError::refused(
                "comparing both sides",
                format!(
                    "more than {MOST_BETWEEN} captured changes to {} wait to be merged: let the pipeline catch up (`moorage run --until caught-up`), then verify",
                    schema.table
                ),
            )
            .into());
        }
        Ok(())
    }
}

/// A value of the new image; of the old one where the log did not carry it.
fn new_value<'a>(block: &'a ChangeBlock, change: &Change<'_>, column: usize) -> Value<'a> {
    let unchanged = change.unchanged.is_some_and(|u| u[column]);
    match (unchanged, change.old, change.new) {
        (true, Some(old), _) => value_at(block.old_rows().column(column).as_ref(), old),
        (_, _, Some(new)) => value_at(block.new_rows().column(column).as_ref(), new),
        _ => Value::Null,
    }
}

/// The comparison of one table.
struct Compare<'a> {
    at: usize,
    plan: &'a TablePlan,
    mappers: &'a Mappers,
    between: &'a TableBetween,
    options: &'a VerifyOptions,
    events: &'a Events,
}

impl Compare<'_> {
    fn tell(&self, rows: u64) {
        (self.events)(Event::Comparing { table: self.plan.table().to_string(), rows });
    }

    async fn run(&self, source: &mut dyn SourceLook, target: &mut dyn TargetLook) -> Result<TableVerdict> {
        let began = Instant::now();
        let (counts, differences) = if self.options.counts_only {
            (self.count(source, target).await?, Vec::new())
        } else if self.plan.mapped.identity.key().is_some() {
            self.walk(source, target).await?
        } else {
            self.tally(source, target).await?
        };
        let elapsed = began.elapsed();
        let rows = counts.source_rows + counts.target_rows;
        Ok(TableVerdict {
            table: self.plan.table().to_string(),
            target: self.plan.target.clone(),
            agrees: counts.agree(),
            not_compared: None,
            counts,
            differences,
            elapsed_ms: elapsed.as_millis() as u64,
            rows_per_second: (rows as f64 / elapsed.as_secs_f64().max(0.001)) as u64,
        })
    }

    /// Counts must differ by exactly what lies between the looks.
    async fn count(&self, source: &mut dyn SourceLook, target: &mut dyn TargetLook) -> Result<Counts> {
        let (source_rows, (target_rows, kept)) =
            (self.count_source(source).await?, target.count(self.plan).await?);
        let surplus = source_rows as i64 - target_rows as i64;
        let unexplained = match surplus - self.between.net {
            _ if self.between.emptied => 0,
            off if off.unsigned_abs() <= self.between.unsure => 0,
            off => off,
        };
        Ok(Counts {
            source_rows,
            target_rows,
            kept,
            missing: unexplained.max(0) as u64,
            extra: (-unexplained).max(0) as u64,
            in_flight: (surplus - unexplained).unsigned_abs(),
            ..Counts::default()
        })
    }

    /// Rows of the source that are carried.
    async fn count_source(&self, source: &mut dyn SourceLook) -> Result<u64> {
        if !self.mappers.filters(self.plan.table()) {
            return Ok(source.count(self.at).await?);
        }
        let (sender, mut rows) = mpsc::channel(2);
        let counting = async {
            let mut count = 0;
            while let Some(rows) = rows.recv().await {
                count += self.mappers.looked(self.plan.table(), rows)?.rows.num_rows() as u64;
            }
            Ok::<_, EngineError>(count)
        };
        let (read, counted) = tokio::join!(source.rows(self.at, RowOrder::Any, sender), counting);
        let counted = counted?;
        read?;
        Ok(counted)
    }

    async fn walk(
        &self,
        source: &mut dyn SourceLook,
        target: &mut dyn TargetLook,
    ) -> Result<(Counts, Vec<Difference>)> {
        let schema = &self.plan.mapped;
        let key = schema.identity.key().unwrap_or(&[]);
        let mut compare = KeyedCompare::new(&schema.columns, key, self.options.show);
        let in_flight = |hash: u128| self.between.emptied || self.between.keys.contains(&hash);
        let (to_source, mut from_source) = mpsc::channel(2);
        let (to_target, mut from_target) = mpsc::channel(2);
        let walking = async {
            let mut read = 0;
            while let Some(side) = compare.wants() {
                let rows: Option<LookedRows> = match side {
                    Side::Source => {
                        let rows = from_source.recv().await;
                        rows.map(|rows| self.mappers.looked(self.plan.table(), rows)).transpose()?
                    }
                    Side::Target => from_target.recv().await,
                };
                read += rows.as_ref().map_or(0, |r| r.rows.num_rows() as u64);
                self.tell(read);
                match rows {
                    Some(rows) => compare.push(side, rows).map_err(|e| self.disorder(&e))?,
                    None => compare.end(side),
                }
                compare.walk(&in_flight);
            }
            drop((from_source, from_target));
            Ok(())
        };
        let (read_source, read_target, walked) = tokio::join!(
            source.rows(self.at, RowOrder::Key, to_source),
            target.rows(self.plan, RowOrder::Key, to_target),
            walking
        );
        read_source?;
        read_target?;
        walked.map(|()| (compare.counts, compare.differences))
    }

    fn disorder(&self, error: &Disorder) -> EngineError {
        AdapterError::Value { table: self.plan.table().to_string(), what: error.to_string() }.into()
    }

    async fn tally(
        &self,
        source: &mut dyn SourceLook,
        target: &mut dyn TargetLook,
    ) -> Result<(Counts, Vec<Difference>)> {
        let schema = &self.plan.mapped;
        let all: Vec<usize> = (0..schema.columns.len()).collect();
        let (source_rows, (target_rows, kept)) =
            (self.count_source(source).await?, target.count(self.plan).await?);
        let shares = source_rows.max(target_rows) / TALLIED_AT_ONCE + 1;
        let mut counts = Counts { source_rows, target_rows, kept, ..Counts::default() };
        counts.in_flight = self.between.rows.len() as u64;
        let mut differences = Vec::new();
        for share in 0..shares {
            let mut tally = Tally::new(&schema.columns, &all, share, shares);
            // What the source has more than the target because of the changes between is no difference.
            self.between.rows.iter().for_each(|(hash, weight)| tally.adjust(*hash, -weight));
            let mut read = 0;
            self.feed(source, target, &mut |side, rows| {
                read += tally.add(side, rows);
                self.tell(read);
                true
            })
            .await?;
            let (missing, extra) = tally.found();
            if self.between.emptied {
                counts.in_flight += missing + extra;
                continue;
            }
            counts.missing += missing;
            counts.extra += extra;
            if missing + extra > 0 && differences.len() < self.options.show {
                let limit = self.options.show;
                self.feed(source, target, &mut |side, rows| {
                    tally.show(side, rows, limit, &mut differences);
                    differences.len() < limit
                })
                .await?;
            }
        }
        Ok((counts, differences))
    }

    /// Reads both sides and gives the rows to `take` until it says no.
    async fn feed(
        &self,
        source: &mut dyn SourceLook,
        target: &mut dyn TargetLook,
        take: &mut (dyn FnMut(Side, &LookedRows) -> bool + Send),
    ) -> Result<()> {
        for side in [Side::Source, Side::Target] {
            let (sender, mut rows) = mpsc::channel(2);
            let reading = async {
                match side {
                    Side::Source => source.rows(self.at, RowOrder::Any, sender).await,
                    Side::Target => target.rows(self.plan, RowOrder::Any, sender).await,
                }
            };
            let taking = async {
                while let Some(looked) = rows.recv().await {
                    let looked = match side {
                        Side::Source => self.mappers.looked(self.plan.table(), looked)?,
                        Side::Target => looked,
                    };
                    if !take(side, &looked) {
                        break;
                    }
                }
                drop(rows);
                Ok::<_, EngineError>(())
            };
            let (read, taken) = tokio::join!(reading, taking);
            taken?;
            read?;
        }
        Ok(())
    }
}

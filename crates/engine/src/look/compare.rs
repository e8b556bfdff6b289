//! Comparing one table, in bounded memory.

use super::between::TableBetween;
use crate::look::verdict::{TableVerdict, VerifyOptions};
use crate::pipeline::error::{EngineError, Result};
use crate::pipeline::mappers::Mappers;
use moorage_adapter::{AdapterError, Event, Events, RowOrder, SourceLook, TargetLook};
use moorage_core::compare::difference::{Counts, Difference, Side};
use moorage_core::compare::keyed::{Disorder, KeyedCompare};
use moorage_core::compare::rows::LookedRows;
use moorage_core::compare::tally::Tally;
use moorage_core::plan::table::TablePlan;
use std::time::Instant;
use tokio::sync::mpsc;

/// How many rows without a key are counted at a time; each takes about 40 bytes.
const TALLIED_AT_ONCE: u64 = 1_000_000;

/// The comparison of one table.
pub(super) struct Compare<'a> {
    pub(super) at: usize,
    pub(super) plan: &'a TablePlan,
    pub(super) mappers: &'a Mappers,
    pub(super) between: &'a TableBetween,
    pub(super) options: &'a VerifyOptions,
    pub(super) events: &'a Events,
}

impl Compare<'_> {
    fn tell(&self, rows: u64) {
        (self.events)(Event::Comparing { table: self.plan.table().to_string(), rows });
    }

    pub(super) async fn run(
        &self,
        source: &mut dyn SourceLook,
        target: &mut dyn TargetLook,
    ) -> Result<TableVerdict> {
        let began = Instant::now();
        let (counts, differences) = if self.options.counts_only {
            (self.count(source, target).await?, Vec::new())
        } else if self.plan.mapped.identity.key().is_some() && !self.plan.is_keyed_by_text() {
            self.walk(source, target).await?
        } else {
            self.tally(source, target).await?
        };
        let elapsed = began.elapsed();
        let rows = counts.source_rows + counts.target_rows;
        Ok(TableVerdict {
            table: self.plan.table().to_string(),
            target: self.plan.stands_in().into(),
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
        let keeps_deleted = self.plan.kept_as.keeps_deleted();
        let mut compare =
            KeyedCompare::new(&schema.columns, key, self.options.show).keeping_deleted(keeps_deleted);
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
            if let Some(key) = schema.identity.key() {
                tally = tally.leaving_out(key, &self.between.keys);
            }
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
            // Each share sees them all.
            if share == 0 {
                counts.in_flight += tally.left_out();
            }
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

//! What was measured in a stretch of time, as people are told it.

use super::base::StateStore;
use crate::error::Result;
use chrono::{DateTime, Utc};
use moorage_core::change::counters::Operations;
use moorage_core::watch::histogram::Durations;
use moorage_core::watch::sample::{Sample, TableSample};
use serde::Serialize;

/// A distribution of durations, in microseconds.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Quantiles {
    /// Half of all are not longer.
    pub p50_us: u64,
    /// 95 of 100 are not longer.
    pub p95_us: u64,
    /// 99 of 100 are not longer.
    pub p99_us: u64,
    /// The longest.
    pub max_us: u64,
}

impl Quantiles {
    /// Of durations; none if there are none.
    pub fn of(durations: &Durations) -> Option<Self> {
        let at = |share| durations.quantile(share).map(|d| d.as_micros() as u64);
        Some(Self { p50_us: at(0.5)?, p95_us: at(0.95)?, p99_us: at(0.99)?, max_us: at(1.0)? })
    }
}

/// A stretch of a pipeline's time.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Period {
    /// From when.
    pub from: DateTime<Utc>,
    /// Until when.
    pub to: DateTime<Utc>,
    /// For how many seconds of it there are samples: a run was going on.
    pub measured_s: f64,
    /// Changes that were applied.
    #[serde(flatten)]
    pub operations: Operations,
    /// Their bytes as read from the source.
    pub bytes: u64,
    /// Transactions that were applied.
    pub transactions: u64,
    /// Batches that the target committed.
    pub merges: u64,
    /// The furthest that the target was behind, in microseconds, also while nothing was applied.
    pub behind_max_us: Option<u64>,
    /// The lag of the transactions; none if there was none.
    pub lag: Option<Quantiles>,
    /// From the source's commit until it was read.
    pub capture: Option<Quantiles>,
    /// Until its batch was taken up.
    pub queue: Option<Quantiles>,
    /// Until the target had committed.
    pub apply: Option<Quantiles>,
}

impl Period {
    /// Of the samples in it.
    pub fn of(from: DateTime<Utc>, to: DateTime<Utc>, samples: &[Sample]) -> Self {
        let mut whole = Sample::begin(from);
        samples.iter().for_each(|sample| whole.add(sample));
        Self {
            from,
            to,
            measured_s: samples.iter().map(|sample| sample.span.as_secs_f64()).sum(),
            operations: whole.operations,
            bytes: whole.bytes,
            transactions: whole.transactions,
            merges: whole.merges,
            behind_max_us: whole.behind.map(|behind| behind.as_micros() as u64),
            lag: Quantiles::of(&whole.lags.whole),
            capture: Quantiles::of(&whole.lags.capture),
            queue: Quantiles::of(&whole.lags.queue),
            apply: Quantiles::of(&whole.lags.apply),
        }
    }
}

/// A stretch of a table's time.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct TablePeriod {
    /// The source table.
    pub table: String,
    /// Changes that were applied.
    #[serde(flatten)]
    pub operations: Operations,
    /// Their bytes as read from the source.
    pub bytes: u64,
    /// The lag of the transactions that changed it.
    pub lag: Option<Quantiles>,
}

impl From<&TableSample> for TablePeriod {
    fn from(sample: &TableSample) -> Self {
        Self {
            table: sample.table.clone(),
            operations: sample.operations,
            bytes: sample.bytes,
            lag: Quantiles::of(&sample.lag),
        }
    }
}

impl StateStore {
    /// What was measured of a pipeline in a stretch of time.
    ///
    /// # Errors
    /// If the store cannot be read.
    pub fn period(&self, pipeline: &str, from: DateTime<Utc>, to: DateTime<Utc>) -> Result<Period> {
        Ok(Period::of(from, to, &self.samples(pipeline, from, to)?))
    }

    /// What was measured of its tables.
    ///
    /// # Errors
    /// If the store cannot be read.
    pub fn table_periods(
        &self,
        pipeline: &str,
        from: DateTime<Utc>,
        to: DateTime<Utc>,
    ) -> Result<Vec<TablePeriod>> {
        Ok(self.table_samples(pipeline, from, to)?.iter().map(TablePeriod::from).collect())
    }
}

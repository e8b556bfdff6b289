//! Carrying out people's decisions.

use crate::{Result, Step};
use async_trait::async_trait;
use chrono::{DateTime, Utc};
use moorage_core::change::block::ChangeBlock;
use moorage_core::plan::table::TablePlan;
use moorage_core::plan::tidy::{Folded, Old};
use serde::Serialize;

/// A change that a target refused and that was set aside.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Reject {
    /// Its number in the target.
    pub id: i64,
    /// The source table.
    pub table: String,
    /// The target table.
    pub target: String,
    /// The row's key, for people: `id = 7`.
    pub key: String,
    /// What the change is: `insert`, `update`, `delete`.
    pub operation: String,
    /// Why it was refused.
    pub reason: String,
    /// Whether it is only behind another reject of the same row.
    pub waits: bool,
    /// When the source committed it, RFC 3339.
    pub committed_at: String,
    /// Its position.
    pub position: String,
    /// When it was set aside, RFC 3339.
    pub set_aside_at: String,
    /// How often it was tried.
    pub tries: u64,
}

/// What is done about rejects.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Settle {
    /// They are applied, if the target takes them now.
    Retry,
    /// They are given up; what waits behind them is applied.
    Drop,
}

/// What became of rejects.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Settled {
    /// How many changes were applied.
    pub applied: u64,
    /// How many were given up.
    pub dropped: u64,
    /// Those that were tried and are still refused.
    pub refused: Vec<Reject>,
}

/// Called by commands that decide about tables, and by a run that finds some gone.
#[async_trait]
pub trait DecideTarget: Send + Sync {
    /// Notes that tables are to be read again by the next run, from empty; with `checkpoint`, forgets also the
    /// pipeline's checkpoint.
    async fn forget(&self, pipeline: &str, tables: &[String], checkpoint: bool) -> Result<()>;

    /// Notes that tables are not followed any more.
    async fn leave(&self, pipeline: &str, tables: &[String]) -> Result<()>;

    /// Forgets tables altogether, and with `remove` removes them, unless they were there before the pipeline.
    async fn let_go(&self, pipeline: &str, tables: &[String], remove: bool) -> Result<Vec<Step>>;

    /// The changes of a pipeline that were set aside, the oldest first. None where that is
    /// [lacking](crate::Lack::SettingAside).
    async fn rejects(&self, pipeline: &str) -> Result<Vec<Reject>>;

    /// One of them with its change, in the target's structure.
    async fn reject(&self, pipeline: &str, id: i64) -> Result<Option<(Reject, ChangeBlock)>>;

    /// Carries out a decision about some of them, or all: whole, or not at all. Changes that hang together with
    /// them by their rows are tried again in their order, so that none is applied around an earlier one. Needs no turn.
    ///
    /// # Errors
    /// `Lacking` where nothing is set aside.
    async fn settle(&self, pipeline: &str, ids: Option<&[i64]>, how: Settle) -> Result<Settled>;

    /// What is old in a table that keeps changes: all before the first change that was committed at `since` or later. None if nothing
    /// is, or nothing but rows of a snapshot. Only asked of tables that [can be folded](moorage_core::plan::tidy::refused).
    ///
    /// # Errors
    /// `Lacking` where nothing but current rows is kept.
    async fn old_rows(&self, plan: &TablePlan, since: DateTime<Utc>) -> Result<Option<Old>>;

    /// Folds a part of it, in a transaction of its own, from 0 to the number of [parts](Old::parts), that one among them: it has
    /// what can only go behind all others. With `dry` says what it would do. What the table comes to is the same behind each, whoever
    /// else writes it: it needs no turn.
    ///
    /// # Errors
    /// `Lacking` where nothing but current rows is kept.
    async fn fold(&self, plan: &TablePlan, old: &Old, part: u32, dry: bool) -> Result<Folded>;

    /// Removes the pipeline's tables and what it remembers, or with `dry` says what it would remove.
    async fn teardown(&self, pipeline: &str, dry: bool) -> Result<Vec<Step>>;
}

//! Looking at both sides while changes go on.
//!
//! A look is one state of a whole side. The order that makes a comparison exact: the source begins its look
//! ([`crate::LookAtSource::look`]), from when on no captured change is lost to it; the target is looked at, which
//! says up to which position it holds everything; then the source's state is fixed
//! ([`SourceLook::fix`]), so that it is the later one. [`SourceLook::between`] gives the captured changes that
//! lie between the two.

use crate::{ChangeStream, Result, StoredTable};
use async_trait::async_trait;
use chrono::{DateTime, Utc};
use moorage_core::Position;
use moorage_core::change::block::ChangeBlock;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::compare::rows::LookedRows;
use moorage_core::plan::table::TablePlan;
use tokio::sync::mpsc;

/// In what order rows are read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RowOrder {
    /// By the key, in the order of [`moorage_core::value::canonical::order`].
    Key,
    /// However it is quickest.
    Any,
}

/// Which of a table's first rows are wanted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Sample {
    /// The first ones as they lie there.
    First(usize),
    /// The ones that came last, the newest first.
    Newest(usize),
}

/// Where following changes for people begins.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum TailFrom {
    /// With what is committed from now on.
    Now,
    /// With the oldest change that the capture point still has.
    Start,
    /// Right behind a position.
    Behind(Position),
    /// With what was committed at this time or later.
    Time(DateTime<Utc>),
}

/// Changes for people to follow. Acknowledging them does nothing.
pub struct Tail {
    /// The changes.
    pub stream: Box<dyn ChangeStream>,
    /// The position behind which they begin.
    pub from: Position,
}

/// One state of a source. Tables are named by their place in the list that the look began with.
#[async_trait]
pub trait SourceLook: Send {
    /// Fixes the state that everything below sees. With `since`, the target's checkpoint, the captured
    /// changes behind it can be had.
    async fn fix(&mut self, since: Option<&Checkpoint>) -> Result<()>;

    /// Sends the captured changes that are in the fixed state and not in the target's, or the other way
    /// round. Nothing if [`fix`](Self::fix) was given no checkpoint.
    async fn between(&mut self, sender: mpsc::Sender<ChangeBlock>) -> Result<()>;

    /// Sends a table's rows in chunks. Ends early, without an error, when nobody listens any more.
    async fn rows(&mut self, table: usize, order: RowOrder, sender: mpsc::Sender<LookedRows>) -> Result<()>;

    /// Counts a table's rows.
    async fn count(&mut self, table: usize) -> Result<u64>;
}

/// One state of a target.
#[async_trait]
pub trait TargetLook: Send {
    /// Up to where it holds everything; none if it was never set up.
    fn checkpoint(&self) -> Option<&Checkpoint>;

    /// The pipeline's tables.
    fn tables(&self) -> &[StoredTable];

    /// Sends a table's rows as values of the source, in chunks. A value that is not one of its column's type
    /// is told beside the rows. Ends early, without an error, when nobody listens any more.
    async fn rows(
        &mut self,
        plan: &TablePlan,
        order: RowOrder,
        sender: mpsc::Sender<LookedRows>,
    ) -> Result<()>;

    /// Counts a table's rows: those of the pipeline, and those that were there before and are kept.
    async fn count(&mut self, plan: &TablePlan) -> Result<(u64, u64)>;

    /// The row with a key, given as the texts of its values in the key's order; empty if there is none.
    async fn row(&mut self, plan: &TablePlan, key: &[String]) -> Result<LookedRows>;

    /// Some rows of a table.
    async fn sample(&mut self, plan: &TablePlan, which: Sample) -> Result<LookedRows>;
}

//! Making, aligning and removing what capturing needs.

use crate::{Events, Head, Result, Step};
use async_trait::async_trait;
use moorage_core::checkpoint::decide::CapturePoint;
use moorage_core::model::described::SourceIdentity;
use moorage_core::plan::table::TablePlan;
use moorage_core::{Position, TableName};
use serde::Serialize;

/// Which capture point a pipeline uses. What else belongs to it is the source's own affair.
#[derive(Clone, Debug)]
pub struct CapturePlan {
    /// The pipeline.
    pub pipeline: String,
    /// The capture point's name, as [`SetUpSource::capture_name`] says.
    pub name: String,
    /// A text to leave beside the capture point, to know it again.
    pub token: String,
}

/// What there is of a capture point.
#[derive(Clone, Debug)]
pub struct CaptureState {
    /// The source's identity.
    pub identity: SourceIdentity,
    /// The end of its log.
    pub head: Head,
    /// The capture point, if it is there.
    pub point: Option<CapturePoint>,
}

/// The outcome of [`SetUpSource::prepare`].
#[derive(Clone, Debug)]
pub struct Prepared {
    /// Where the stream starts.
    pub position: Position,
}

/// The outcome of [`SetUpSource::teardown`].
#[derive(Clone, Debug, Default, Serialize)]
pub struct Removed {
    /// What was found and what was done with it.
    pub steps: Vec<Step>,
    /// Whether a second look found nothing left.
    pub proved_gone: bool,
}

/// Called when a pipeline is set up, when what it carries changes, and when it is taken down. Never makes a table's own
/// updates or deletes fail.
#[async_trait]
pub trait SetUpSource: Send + Sync {
    /// The name of a pipeline's capture point, given the one that its checkpoint remembers. Where nothing is remembered,
    /// one that is there under a name of an earlier version counts: it would be left behind otherwise.
    async fn capture_name(&self, pipeline: &str, remembered: Option<&str>) -> Result<String>;

    /// What there is of a capture point, and of the source's history. Changes nothing.
    async fn capture_state(&self, capture: &CapturePlan) -> Result<CaptureState>;

    /// Makes what capturing needs: first what selects the tables, then the capture point. What is there
    /// already is kept and said. `again` removes the capture point of a set-up that was broken off.
    async fn prepare(
        &self,
        capture: &CapturePlan,
        tables: &[TablePlan],
        again: bool,
        events: &Events,
    ) -> Result<Prepared>;

    /// Does what of capturing one more table may have to wait for those who write to it, while the others are followed, as the
    /// stream need not know: [`align`](Self::align) then has nothing to wait for. May be broken off, and asked again.
    async fn make_ready(&self, capture: &CapturePlan, table: &TablePlan, events: &Events) -> Result<()> {
        let (_, _, _) = (capture, table, events);
        Ok(())
    }

    /// Asks for what the user lacks to carry tables, where an administrator has left something in the source that gives it for
    /// tables that come later. Gives, of each table that it could ask for, why it was not given, if it was not.
    async fn let_in(
        &self,
        capture: &CapturePlan,
        tables: &[TableName],
    ) -> Result<Vec<(TableName, Option<String>)>> {
        let (_, _) = (capture, tables);
        Ok(Vec::new())
    }

    /// Adds and removes tables so that exactly `tables` are captured by an existing capture point. Nothing is changed
    /// where it is so already.
    async fn align(&self, capture: &CapturePlan, tables: &[TablePlan], events: &Events) -> Result<()>;

    /// For each table what captures its changes now, as a text that becomes another one if that was ever
    /// interrupted or altered by someone; none if nothing does. To be asked after [`align`](Self::align) and before a
    /// snapshot of the table is taken, and kept with its rows.
    async fn captured_by(&self, capture: &CapturePlan, tables: &[TablePlan]) -> Result<Vec<Option<String>>>;

    /// Removes what [`prepare`](Self::prepare) made, or with `dry` says what it would remove. What it waits for is told
    /// to `events`. What is gone already is no error.
    async fn teardown(&self, capture: &CapturePlan, dry: bool, events: &Events) -> Result<Removed>;
}

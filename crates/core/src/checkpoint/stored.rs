//! What a target remembers of a pipeline.

use crate::model::described::SourceIdentity;
use crate::value::moment::Moment;
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

/// How far setting up a pipeline has come.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Stage {
    /// The capture point is about to be made; nothing has been copied.
    Preparing,
    /// The capture point exists; tables are copied or changes followed.
    Following,
    /// Rows were copied without a capture point.
    SnapshotOnly,
}

/// What the target remembers of a pipeline. It is committed together with the data.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Checkpoint {
    /// The pipeline.
    pub pipeline: String,
    /// The source's history.
    pub identity: SourceIdentity,
    /// The capture point's name in the source.
    pub capture_point: String,
    /// A random text written beside the capture point in the source when it was made, so that one made
    /// again under the same name is told apart.
    pub token: String,
    /// How far setting up has come.
    pub stage: Stage,
    /// Whether the pipeline began without a snapshot.
    pub changes_only: bool,
    /// What was committed before this is left out, where the pipeline began at a time.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub starts_at: Option<DateTime<Utc>>,
    /// Everything up to here is in the target. Empty while preparing.
    pub position: String,
    /// Lets the source find the last transaction again; empty before the first one.
    pub proof: String,
    /// The [number](crate::change::sequence::Sequence) of the last transaction that changed a carried table.
    #[serde(default)]
    pub sequence: u64,
    /// From when on what that transaction made is [valid](crate::change::place::Place::valid_from); before the first one, from
    /// when on what the snapshots hold is.
    #[serde(default)]
    pub valid_from: Moment,
    /// When the last transaction was committed in the source.
    pub committed_at: Option<DateTime<Utc>>,
    /// When the last transaction had been read from the source, by Moorage's clock.
    #[serde(default)]
    pub captured_at: Option<DateTime<Utc>>,
    /// When the target committed this checkpoint, by Moorage's clock.
    pub merged_at: Option<DateTime<Utc>>,
}

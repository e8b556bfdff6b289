//! What a source says of its log without being asked over a connection.

use crate::SnapshotMark;
use moorage_core::Position;
use moorage_core::change::kind::Transaction;
use moorage_core::watch::lag::ClockSkew;

/// Words for capture points.
#[derive(Clone, Copy, Debug)]
pub struct CaptureWords {
    /// One: `slot`.
    pub one: &'static str,
    /// How another one is chosen, if the project file can name one: `name another slot in the project file`.
    pub another: Option<&'static str>,
}

/// The end of the source's log now.
#[derive(Clone, Debug)]
pub struct Head {
    /// The newest position.
    pub position: Position,
    /// The source's clock against ours.
    pub skew: ClockSkew,
    /// Whether the log grows past a quiet capture point, which then holds it back.
    pub holds_log_back: bool,
    /// What the source keeps for the capture point, in bytes; none where that is not known, or nothing is asked of one.
    pub kept_bytes: Option<u64>,
    /// What it may keep before it gives the capture point up; none if there is no limit.
    pub limit_bytes: Option<u64>,
}

/// The source's own words and order: pure, cheap, never failing but by `None`.
pub trait SourceLog: Send + Sync {
    /// What people call a capture point of this source.
    fn capture_words(&self) -> CaptureWords;

    /// Whether the stream tells of every change of structure and goes on behind it, so that nobody else has to look for them.
    fn tells_of_structure(&self) -> bool;

    /// Reads a position's text as people or checkpoints write it; none if it is not one of this source.
    fn parse_position(&self, text: &str) -> Option<Position>;

    /// How many bytes of log lie between two positions, the later one last; none where that cannot be told.
    fn bytes_between(&self, from: &Position, to: &Position) -> Option<u64>;

    /// Whether between two texts of [`captured_by`](crate::SetUpSource::captured_by), the later one last, no change can
    /// have been missed.
    fn is_unbroken(&self, before: &str, now: &str) -> bool;

    /// Whether a snapshot with this mark holds a transaction, as it stands beside its changes.
    fn covers(&self, mark: &SnapshotMark, transaction: &Transaction) -> bool;
}

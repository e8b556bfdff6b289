//! The two traits that everything else is written against: [`Source`] and [`Target`].
//!
//! The engine knows systems only through them; an adapter knows the engine not at all. The docs of the
//! traits are the contract, and the conformance suites in `testkit` ask for it.

mod console;
mod error;
mod events;
mod look;
mod source;
mod target;

pub use console::{Console, ConsoleDialect};
pub use error::{AdapterError, Layer, Result};
pub use events::{Event, Events, Step};
pub use look::{RowOrder, Sample, SourceLook, Tail, TailFrom, TargetLook};
pub use source::{
    CapturePlan, CaptureState, ChangeStream, Head, Inspected, Prepared, Removed, SegmentSender, SetUp,
    SnapshotMark, SnapshotSink, Source, SourceAddress, StreamStart, StreamTable, StreamedSegment, Waiting,
    segment_channel,
};
pub use target::{
    ExistingTable, LoadedTable, Merge, Reject, Settle, Settled, StoredTable, Surveyed, TableProgress,
    TableState, Target, TargetAddress,
};

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
mod turn;

pub use console::{Console, ConsoleDialect};
pub use error::{AdapterError, Layer, Result};
pub use events::{Event, Events, Step};
pub use look::{RowOrder, Sample, SourceLook, Tail, TailFrom, TargetLook};
pub use source::{
    CapturePlan, CaptureState, ChangeStream, GONE, Head, Inspected, Prepared, Removed, SegmentSender, SetUp,
    SnapshotMark, SnapshotSink, Source, SourceAddress, StreamStart, StreamTable, StreamedSegment, Waiting,
    segment_channel,
};
pub use target::{
    ExistingTable, LEASE, LoadedTable, Merge, RENEW_EVERY, Reject, Replacement, Settle, Settled, StoredTable,
    Surveyed, TableProgress, TableState, Target, TargetAddress,
};
pub use turn::{Holder, TakeFrom, Turn};

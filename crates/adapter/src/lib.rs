//! What everything else is written against: [`Source`] and [`Target`], each parted into narrow traits.
//!
//! The engine knows systems only through them; an adapter knows the engine not at all. The docs of the
//! traits are the contract, and the conformance suites in `testkit` ask for it.

mod as_source;
mod as_target;
mod console;
mod doing;
mod durable;
mod error;
mod events;
pub mod kind;
mod lack;
mod left_out;
mod look;
mod naming;
mod polling;
pub mod secret;
mod stored;
mod stream;
mod turn;
mod usage;

pub use as_source::{
    CapturePlan, CaptureSource, CaptureState, CaptureWords, Head, InspectSource, Inspected, LookAtSource,
    Prepared, Removed, SetUp, SetUpPart, SetUpSource, Source, SourceAddress, SourceLog, StreamStart, Waiting,
};
pub use as_target::{
    Committing, CountsFrom, DecideTarget, DependentView, ExistingTable, Guarantees, InspectTarget, LEASE,
    LoadTarget, LoadedTable, Memo, MemoKind, Merge, RENEW_EVERY, RecallTarget, Reject, Replacement,
    Replacing, Settle, Settled, Surveyed, TableProgress, Target, TargetAddress, WriteTarget,
};
pub use console::{Console, ConsoleDialect};
pub use doing::Doing;
pub use durable::Durable;
pub use error::{AdapterError, GONE, Layer, Result};
pub use events::{Event, Events, Step};
pub use lack::Lack;
pub use left_out::LeftOut;
pub use look::{RowOrder, Sample, SourceLook, Tail, TailFrom, TargetLook};
pub use naming::object_name;
pub use polling::{Pace, Polled, Polling, Seen, WaitingNotes, Wanted};
pub use stored::{StoredTable, TableState};
pub use stream::{
    ChangeStream, QueueGauge, SegmentSender, SnapshotMark, SnapshotSink, StreamTable, StreamedSegment,
    segment_channel,
};
pub use turn::{Holder, TakeFrom, Turn};
pub use usage::{Usage, UsageCounter};

//! The source side: five narrow traits, parted by who calls them. [`Source`] is all of them.
//!
//! **Legal orders.** What inspects and looks may come at any time and from several tasks at once, also beside a running
//! stream. Capturing: [`prepare`](SetUpSource::prepare) (once), then [`align`](SetUpSource::align) whenever other tables
//! are carried, then [`captured_by`](SetUpSource::captured_by), then [`snapshot`](CaptureSource::snapshot), then
//! [`changes`](CaptureSource::changes). From `prepare` on no change of a captured table may be lost for the stream. A run has
//! one stream of a capture point open at a time; that there is one run is settled in the target.
//!
//! **Repeating and breaking off.** Every call may be repeated after an error. Every future may be dropped: what it had
//! begun in the source is then either done or undone, and seen as such by the next call; nothing is left behind but by
//! `prepare`, whose leavings the next `prepare` with `again` removes.
//!
//! **Errors.** [`is_transient`](crate::AdapterError::is_transient): the same call may work later, and the run goes on from
//! the target's checkpoint. `Drift` and `Gap`: a table cannot be followed any more, everything delivered before holds.
//! `Refused` of a history (`checkpoint`): nothing was read. Anything else ends the run.

mod capture;
mod inspect;
mod log;
mod look;
mod set_up;

pub use capture::{CaptureSource, StreamStart};
pub use inspect::{InspectSource, Inspected, SetUp, SetUpPart, SourceAddress};
pub use log::{CaptureWords, Head, SourceLog};
pub use look::{LookAtSource, Waiting};
pub use set_up::{CapturePlan, CaptureState, Prepared, Removed, SetUpSource};

/// A system that rows come from.
pub trait Source: InspectSource + SourceLog + SetUpSource + CaptureSource + LookAtSource {}

impl<T: InspectSource + SourceLog + SetUpSource + CaptureSource + LookAtSource> Source for T {}

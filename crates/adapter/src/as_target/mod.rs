//! The target side: narrow traits, parted by who calls them. [`Target`] is all of them.
//!
//! **Legal orders.** What inspects and recalls may come at any time and from several tasks at once, also beside an open
//! batch, and makes nothing. Everything that writes, but for [`settle`](DecideTarget::settle), needs the turn
//! ([`take_turn`](WriteTarget::take_turn)) and fails with [`AdapterError::TurnLost`](crate::AdapterError::TurnLost) once
//! another process has taken it: a pipeline has one writer. For a table: [`create`](LoadTarget::create), any number of
//! [`load`](LoadTarget::load), at once from several tasks, then [`finish_load`](LoadTarget::finish_load), then batches.
//! `create` on a table that is loading starts it again from empty. At most one batch is open; while it is, loads and looks
//! may go on, and any other writing call may have to wait for its end.
//!
//! **Batches.** [`begin`](WriteTarget::begin), any number of [`write`](Merge::write) and
//! [`alter`](Merge::alter), perhaps [`replace`](Merge::replace) and [`remember`](Merge::remember), then `commit_durably`. A batch that is dropped leaves nothing, but where the target says that
//! its data do not commit together with the checkpoint ([`Guarantees`]): there the engine does the rest, as told with them.
//!
//! **Repeating and breaking off.** A writing call that was dropped, or whose answer was lost, may have been carried out;
//! after the turn has been taken anew, it has been or never will be. Then every call may be repeated: from the checkpoint
//! that is there.
//!
//! **Errors.** [`is_transient`](crate::AdapterError::is_transient): the run goes on from the target's checkpoint.
//! `TurnLost` and `CheckpointMoved`: nothing was written and nothing may be any more. `Lacking`: the target cannot do
//! this, and has said so in its guarantees. Anything else ends the run; nothing of the batch is in the target.

mod decide;
mod guarantees;
mod inspect;
mod load;
mod recall;
mod write;

pub use decide::{DecideTarget, Reject, Settle, Settled};
pub use guarantees::{Committing, Guarantees, Replacing};
pub use inspect::{DependentView, ExistingTable, InspectTarget, TargetAddress};
pub use load::{CountsFrom, LoadTarget, LoadedTable, Surveyed};
pub use recall::{Memo, MemoKind, RecallTarget};
pub use write::{LEASE, Merge, RENEW_EVERY, Replacement, TableProgress, WriteTarget};

/// A system that rows go to.
pub trait Target: InspectTarget + RecallTarget + WriteTarget + LoadTarget + DecideTarget {}

impl<T: InspectTarget + RecallTarget + WriteTarget + LoadTarget + DecideTarget> Target for T {}

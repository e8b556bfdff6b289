//! Where transactions stand in a pipeline's stream.

use crate::value::moment::Moment;
use serde::{Deserialize, Serialize};

/// Where a transaction stands among all that a pipeline has read.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Place {
    /// The number that the pipeline gave to it: later transactions have higher ones, and one that is read again has the
    /// same. 0 until it was [numbered](crate::change::sequence::Sequence::number).
    pub sequence: u64,
    /// From when on what it made is valid: when it was committed, or a microsecond behind the transaction before it, if the
    /// source's clock says of that one that it was not earlier. So no two transactions of a pipeline have the same, and the
    /// order of these times is that of positions, whatever the source's clock did.
    #[serde(default)]
    pub valid_from: Moment,
    /// The number in the stream of its first change.
    #[serde(default)]
    pub first_order: u64,
}

//! How far reading tables again has come, beside the stream.

use crate::model::position::Position;

/// Where it stands. Each state is named for what it waits for.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) enum Reread {
    /// For someone to ask for it.
    #[default]
    Nothing,
    /// For the answer whether someone asked.
    Answer,
    /// For a moment without an open batch, in which room beside the tables can be made.
    Wanted,
    /// For the source to hand over all rows.
    Rows,
    /// For the target to have come to where the rows' marks are complete: then they can take the tables' places.
    Place(Position),
    /// For the batch that puts them in place.
    Commit,
    /// For a moment without an open batch, in which what was loaded can be taken away again.
    Removal,
}

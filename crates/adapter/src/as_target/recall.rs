//! What a target remembers of a pipeline. Losing Moorage's own folder loses nothing of it.

use crate::{Holder, Result, StoredTable, TargetLook};
use async_trait::async_trait;
use moorage_core::checkpoint::stored::Checkpoint;

/// Kinds of things that a pipeline keeps in its target beside rows and checkpoint.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum MemoKind {
    /// Changes that are held until someone decides.
    Held,
    /// Structures that source tables had.
    Structure,
}

impl MemoKind {
    /// All kinds.
    pub const ALL: [Self; 2] = [Self::Held, Self::Structure];

    /// The word under which it is stored.
    pub fn word(self) -> &'static str {
        match self {
            Self::Held => "held",
            Self::Structure => "structure",
        }
    }
}

/// Something to keep, or to keep no more. Keeping the same again changes nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Memo {
    /// Its kind.
    pub kind: MemoKind,
    /// Its name among those of its kind.
    pub name: String,
    /// What is kept; none takes it away.
    pub content: Option<Vec<u8>>,
}

/// Called by a run when it begins, and by everyone who looks. Makes nothing: where nothing was ever made, nothing is
/// remembered.
#[async_trait]
pub trait RecallTarget: Send + Sync {
    /// How far a pipeline came.
    async fn checkpoint(&self, pipeline: &str) -> Result<Option<Checkpoint>>;

    /// The checkpoint that a batch was about to reach whose commit was begun and is not known to have ended: parts of it
    /// may be in the target. Always none where [data and checkpoint commit together](crate::Committing::Together).
    async fn settled(&self, pipeline: &str) -> Result<Option<Checkpoint>>;

    /// The tables of a pipeline.
    async fn tables(&self, pipeline: &str) -> Result<Vec<StoredTable>>;

    /// What was [remembered](crate::Merge::remember) of a kind, in the order of its names.
    async fn memos(&self, pipeline: &str, kind: MemoKind) -> Result<Vec<(String, Vec<u8>)>>;

    /// One thing that was remembered.
    async fn memo(&self, pipeline: &str, kind: MemoKind, name: &str) -> Result<Option<Vec<u8>>>;

    /// Who has the turn now, as far as can be told.
    async fn holder(&self, pipeline: &str) -> Result<Option<Holder>>;

    /// Looks at one state of everything, on a connection of its own; none if nothing is there yet.
    ///
    /// # Errors
    /// `Lacking` if the target cannot be looked at.
    async fn look(&self, pipeline: &str) -> Result<Option<Box<dyn TargetLook>>>;
}

//! The checkpoint: up to where the target holds everything, and which source history that is about.
//!
//! [`decide`] compares what the target remembers with what the source is now. It never lets a run go on
//! from a history that is not the one the checkpoint was taken from.

use crate::checkpoint::stored::{Checkpoint, Stage};
use crate::model::described::SourceIdentity;
use crate::model::position::Position;

/// What the source says of the capture point now.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CapturePoint {
    /// Whether it is used by someone at this moment, with words that say by whom.
    pub active: Option<String>,
    /// The earliest position it can still deliver; `None` if it was invalidated.
    pub reaches_back_to: Option<Position>,
    /// The token found beside it, if there is one.
    pub token: Option<String>,
    /// Whether the project file names it, so that Moorage neither makes nor removes it.
    pub named_by_user: bool,
    /// How to have more kept before it is invalidated.
    pub keep_more: &'static str,
}

/// All that [`decide`] looks at.
#[derive(Clone, Debug)]
pub struct Situation<'a> {
    /// What the target remembers.
    pub checkpoint: Option<&'a Checkpoint>,
    /// The checkpoint's position, understood by the source.
    pub position: Option<Position>,
    /// The source now.
    pub identity: &'a SourceIdentity,
    /// The newest position in the source's log.
    pub head: Position,
    /// The capture point, if there is one of this name.
    pub capture_point: Option<&'a CapturePoint>,
    /// Its kind and name: `slot moorage_quayside`.
    pub capture_point_name: &'a str,
    /// How another one is named, if there is a way.
    pub another: Option<&'static str>,
}

/// What a run does first.
#[derive(Clone, Debug, PartialEq, Eq)]
#[must_use]
pub enum Decision {
    /// Nothing is there on either side: set up.
    SetUp,
    /// An earlier set-up was broken off before anything was copied: remove what it made, set up again.
    SetUpAgain,
    /// Go on from the checkpoint.
    Resume,
    /// The project file names a capture point that has not been used by this target yet: start at it.
    Adopt,
    /// Do not touch anything.
    Refuse(Refusal),
}

/// Why a run does not go on, each with the way out.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Refusal {
    /// A different system altogether.
    #[error(
        "the source is not the one this target was filled from: its system identifier is {found}, the checkpoint was taken from {expected}. \
         Point the project file at the right source, or start over with `moorage teardown --target` and `moorage run`"
    )]
    OtherSystem {
        /// In the checkpoint.
        expected: String,
        /// In the source.
        found: String,
    },
    /// Another database of the same system, or one made again.
    #[error(
        "the source database is {found}, the checkpoint was taken from {expected} (a database dropped and made again counts as another one). \
         Point the project file at the right database, or start over with `moorage teardown --target` and `moorage run`"
    )]
    OtherDatabase {
        /// In the checkpoint.
        expected: String,
        /// In the source.
        found: String,
    },
    /// A failover or a restore.
    #[error(
        "the source has been restored or failed over: it is on timeline {found}, the checkpoint on timeline {expected}, and changes may differ between them. \
         Read the tables again with `moorage resnapshot --all` and `moorage run`"
    )]
    OtherTimeline {
        /// In the checkpoint.
        expected: String,
        /// In the source.
        found: String,
    },
    /// The source's log ends before the checkpoint.
    #[error(
        "the source has been restored to an earlier state: its log ends at {head}, before the checkpoint at {position}. \
         Read the tables again with `moorage resnapshot --all` and `moorage run`"
    )]
    BehindCheckpoint {
        /// Where the log ends.
        head: String,
        /// The checkpoint.
        position: String,
    },
    /// No capture point of that name.
    #[error(
        "{name} is gone from the source, and with it the changes since {position}. \
         Read the tables again with `moorage resnapshot --all` and `moorage run`"
    )]
    CapturePointGone {
        /// Its name.
        name: String,
        /// The checkpoint.
        position: String,
    },
    /// The source threw away log that it had promised to keep.
    #[error(
        "{name} was invalidated by the source (it had fallen too far behind), and with it the changes since {position} are gone. \
         Read the tables again with `moorage resnapshot --all` and `moorage run`; {keep_more}"
    )]
    CapturePointLost {
        /// Its name.
        name: String,
        /// How to have more kept.
        keep_more: &'static str,
        /// The checkpoint.
        position: String,
    },
    /// What captured changes has stopped doing so.
    #[error(
        "{what}, and changes since {position} may be missing. \
         Read the tables again with `moorage resnapshot --all` and `moorage run`; {keep_more}"
    )]
    CaptureEnded {
        /// What has happened.
        what: String,
        /// How to have more kept.
        keep_more: &'static str,
        /// The checkpoint.
        position: String,
    },
    /// It has moved past the checkpoint.
    #[error(
        "{name} starts at {earliest}, after the checkpoint at {position}: it was made again or moved by someone else, or the target is an older copy. \
         The changes between are gone; read the tables again with `moorage resnapshot --all` and `moorage run`"
    )]
    CapturePointAhead {
        /// Its name.
        name: String,
        /// The earliest it can deliver.
        earliest: String,
        /// The checkpoint.
        position: String,
    },
    /// It carries another token, or the target knows nothing of it.
    #[error(
        "{name} is already there, and this target knows nothing of it: it was left behind by an earlier trial or belongs to another project, and the source keeps changes for it that nobody reads. \
         If nobody needs it, remove it with `moorage teardown`; otherwise rename the pipeline{}",
        .another.map(|how| format!(", or {how}")).unwrap_or_default()
    )]
    Leftover {
        /// Its name.
        name: String,
        /// How another one is named.
        another: Option<&'static str>,
    },
    /// It is used by another process.
    #[error("{name} is in use by {by}. Stop that process, or {}", .another.unwrap_or("rename the pipeline"))]
    InUse {
        /// Its name.
        name: String,
        /// By whom.
        by: String,
        /// How another one is named.
        another: Option<&'static str>,
    },
    /// It was made again under the same name.
    #[error(
        "{name} is not the one this target follows: what stands beside it carries another mark, so it was made again. \
         Read the tables again with `moorage resnapshot --all` and `moorage run`"
    )]
    MadeAgain {
        /// Its name.
        name: String,
    },
    /// The last transaction is not where the checkpoint says.
    #[error(
        "the source's history is not the one the checkpoint was taken from: the transaction that ended at {position} is not there any more (found: {found}). \
         The source was restored or is a copy. Read the tables again with `moorage resnapshot --all` and `moorage run`"
    )]
    OtherHistory {
        /// The checkpoint.
        position: String,
        /// What is there instead.
        found: String,
    },
}

/// Decides how a run begins.
///
/// | target remembers | capture point | decision |
/// |---|---|---|
/// | nothing | none | set up |
/// | nothing | named by the user | adopt |
/// | nothing | there | refuse: leftover |
/// | preparing | none | set up again |
/// | preparing | there, our token, idle | set up again |
/// | preparing | there, other token | refuse: leftover |
/// | any stage | other system, database or timeline | refuse |
/// | snapshot only | as for nothing | as for nothing |
/// | following | none / invalidated | refuse: gone / lost |
/// | following | other token | refuse: made again |
/// | following | the source's log ends before the checkpoint | refuse: behind |
/// | following | starts after the checkpoint | refuse: ahead |
/// | following | in use | refuse: in use |
/// | following | otherwise | resume |
pub fn decide(now: &Situation<'_>) -> Decision {
    let name = || now.capture_point_name.to_string();
    let Some(checkpoint) = now.checkpoint else { return without_checkpoint(now) };
    if let Some(refusal) = other_source(&checkpoint.identity, now.identity) {
        return Decision::Refuse(refusal);
    }
    match (checkpoint.stage, now.capture_point) {
        (Stage::SnapshotOnly, _) => without_checkpoint(now),
        (Stage::Preparing, None) => Decision::SetUpAgain,
        (Stage::Preparing, Some(point)) if point.named_by_user => Decision::Adopt,
        (Stage::Preparing, Some(point)) => match (&point.active, &point.token) {
            (Some(by), _) => {
                Decision::Refuse(Refusal::InUse { name: name(), by: by.clone(), another: now.another })
            }
            (None, Some(token)) if *token == checkpoint.token => Decision::SetUpAgain,
            _ => Decision::Refuse(Refusal::Leftover { name: name(), another: now.another }),
        },
        (Stage::Following, None) => {
            let position = checkpoint.position.clone();
            Decision::Refuse(Refusal::CapturePointGone { name: name(), position })
        }
        (Stage::Following, Some(point)) => following(now, checkpoint, point),
    }
}

fn without_checkpoint(now: &Situation<'_>) -> Decision {
    match now.capture_point {
        None => Decision::SetUp,
        Some(point) if point.named_by_user => match &point.active {
            None => Decision::Adopt,
            Some(by) => {
                let name = now.capture_point_name.into();
                Decision::Refuse(Refusal::InUse { name, by: by.clone(), another: now.another })
            }
        },
        Some(_) => {
            let name = now.capture_point_name.into();
            Decision::Refuse(Refusal::Leftover { name, another: now.another })
        }
    }
}

fn other_source(expected: &SourceIdentity, found: &SourceIdentity) -> Option<Refusal> {
    let pair = |e: &str, f: &str| (e.to_string(), f.to_string());
    if (&expected.kind, &expected.system) != (&found.kind, &found.system) {
        let (expected, found) = pair(&expected.system, &found.system);
        return Some(Refusal::OtherSystem { expected, found });
    }
    if expected.database != found.database {
        let (expected, found) = pair(&expected.database, &found.database);
        return Some(Refusal::OtherDatabase { expected, found });
    }
    if expected.timeline != found.timeline {
        let (expected, found) = pair(&expected.timeline, &found.timeline);
        return Some(Refusal::OtherTimeline { expected, found });
    }
    None
}

fn following(now: &Situation<'_>, checkpoint: &Checkpoint, point: &CapturePoint) -> Decision {
    let name = now.capture_point_name.to_string();
    let position = checkpoint.position.clone();
    if !point.named_by_user && point.token.as_deref().is_some_and(|token| token != checkpoint.token) {
        return Decision::Refuse(Refusal::MadeAgain { name });
    }
    let Some(earliest) = &point.reaches_back_to else {
        return Decision::Refuse(Refusal::CapturePointLost { name, keep_more: point.keep_more, position });
    };
    if now.position.as_ref().is_some_and(|p| now.head < *p) {
        return Decision::Refuse(Refusal::BehindCheckpoint { head: now.head.to_string(), position });
    }
    if now.position.as_ref().is_some_and(|p| earliest > p) {
        let earliest = earliest.to_string();
        return Decision::Refuse(Refusal::CapturePointAhead { name, earliest, position });
    }
    match &point.active {
        Some(by) => Decision::Refuse(Refusal::InUse { name, by: by.clone(), another: now.another }),
        None => Decision::Resume,
    }
}

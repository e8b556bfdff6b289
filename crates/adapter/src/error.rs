//! What can go wrong at either end, by who has to act.

use crate::{Doing, Holder, Lack};
use chrono::SecondsFormat;
use moorage_core::TableName;
use moorage_core::checkpoint::stored::Checkpoint;
use std::fmt;

/// What an adapter returns.
pub type Result<T> = std::result::Result<T, AdapterError>;

/// What is said of a table that is not in the source any more.
pub const GONE: &str = "it is not in the source any more";

/// How far a connection attempt came.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Layer {
    /// The host's name was not found.
    NameLookup,
    /// Nobody listens there.
    Refused,
    /// No answer in time.
    TimedOut,
    /// Encryption could not be agreed on.
    Tls,
    /// User, password or the server's rules about them.
    LogIn,
    /// The server is there, the database is not.
    Database,
    /// Anything else on the way.
    Network,
}

impl fmt::Display for Layer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Layer::NameLookup => "name look-up",
            Layer::Refused => "connection refused",
            Layer::TimedOut => "timed out",
            Layer::Tls => "TLS",
            Layer::LogIn => "log-in",
            Layer::Database => "database",
            Layer::Network => "network",
        })
    }
}

/// An error of a source or target.
#[derive(Debug, thiserror::Error)]
pub enum AdapterError {
    /// A connection could not be made.
    #[error("cannot connect to {address} ({layer}): {reason}")]
    Connect {
        /// Host, database and user.
        address: String,
        /// How far it came.
        layer: Layer,
        /// In the words of whoever refused.
        reason: String,
    },
    /// An established connection broke. Trying again may help.
    #[error("lost the connection to {address}: {reason}")]
    Lost {
        /// Host, database and user.
        address: String,
        /// What was seen.
        reason: String,
    },
    /// The other side gave up on a statement because of others or for want of room: a lock, a deadlock, a time limit,
    /// a full disk. Trying again may help.
    #[error("{doing}: {reason}")]
    Busy {
        /// What Moorage was doing.
        doing: Doing,
        /// The answer.
        reason: String,
    },
    /// The other side said no. Trying again does not help until someone acts.
    #[error("{doing}: {reason}")]
    Refused {
        /// What Moorage was doing.
        doing: Doing,
        /// The answer, and the way out.
        reason: String,
    },
    /// It cannot do this at all, and says so in what it promises.
    #[error("{system} cannot do this: {lack}")]
    Lacking {
        /// The kind of system.
        system: String,
        /// What it lacks.
        lack: Lack,
    },
    /// The set-up needs someone with more rights.
    #[error("{what}. Have an administrator run:\n{statements}")]
    NeedsAdministrator {
        /// What is missing.
        what: String,
        /// What to run.
        statements: String,
    },
    /// The structure of a table is not the planned one any more.
    #[error(
        "{table}: {what}. Nothing behind that was applied: run `moorage resnapshot {table}`, then `moorage run`, and it is read again as it is now"
    )]
    Drift {
        /// The source table.
        table: TableName,
        /// What differs.
        what: String,
    },
    /// Another process writes the pipeline's tables now.
    #[error(
        "pipeline {pipeline} is written by another process since {since} ({by}): this one was cut off or asleep, and writes nothing any more. \
         `moorage status` shows which one runs; run only one"
    )]
    TurnLost {
        /// The pipeline.
        pipeline: String,
        /// The other process: `process 312 on quay`.
        by: String,
        /// When it took over.
        since: String,
    },
    /// The checkpoint in the target is not the one that a batch was to go on from.
    #[error(
        "{target}: the checkpoint is at {found}, and this run had it at {expected}: someone changed what Moorage remembers there, or restored the target. \
         Nothing was written. Run `moorage run` again: it goes on from what the target holds"
    )]
    CheckpointMoved {
        /// The target.
        target: String,
        /// What this run knew.
        expected: String,
        /// What is there.
        found: String,
    },
    /// Changes of a table may have been missed. Setting up anew has the table read again.
    #[error("changes of {table} may have been missed: {why}")]
    Gap {
        /// The source table.
        table: TableName,
        /// What was seen.
        why: String,
    },
    /// A table is not in the source any more. Setting up anew does with it what the project file says of such tables.
    #[error("{table}: {}", GONE)]
    Gone {
        /// The source table.
        table: TableName,
    },
    /// A table that the pipeline picks is there now. Setting up anew has it join.
    #[error("table {table} appeared")]
    Appeared {
        /// The source table.
        table: TableName,
    },
    /// A table became part of a partitioned one, or is none any more. Setting up anew has its rows stand where they belong.
    #[error("table {table} was attached or detached")]
    Moved {
        /// The source table.
        table: TableName,
    },
    /// The checkpoint and the source do not fit together.
    #[error("{0}")]
    History(#[from] moorage_core::checkpoint::decide::Refusal),
    /// A value or message that cannot be understood or stored exactly.
    #[error("{table}: {what}")]
    Value {
        /// The source table.
        table: String,
        /// Column, value and the way out.
        what: String,
    },
    /// The other side broke its protocol, or we misread it.
    #[error("unexpected answer from {address}: {what}")]
    Protocol {
        /// Who.
        address: String,
        /// What.
        what: String,
    },
    /// Reading or writing a file failed.
    #[error("{doing}: {reason}")]
    Io {
        /// What was done, and to which file.
        doing: Doing,
        /// The system's words.
        reason: String,
    },
    /// A batch could not be reduced.
    #[error("{0}. Check the table's key, then run `moorage resnapshot` for it")]
    Reduce(#[from] moorage_core::apply::net::ReduceError),
}

impl AdapterError {
    /// The other side said no.
    pub fn refused(doing: impl Into<Doing>, reason: impl fmt::Display) -> Self {
        Self::Refused { doing: doing.into(), reason: reason.to_string() }
    }

    /// Changes of a table cannot be read on, for a reason that may be [`GONE`].
    pub fn cut_off(table: TableName, why: String) -> Self {
        if why == GONE { Self::Gone { table } } else { Self::Gap { table, why } }
    }

    /// Another process has the turn; none is known if what it wrote about itself is gone.
    pub fn turn_lost(pipeline: &str, holder: Option<&Holder>) -> Self {
        let by = holder.map_or("one that has ended since".into(), Holder::words);
        let since =
            holder.map_or("an unknown time".into(), |h| h.since.to_rfc3339_opts(SecondsFormat::Secs, true));
        Self::TurnLost { pipeline: pipeline.into(), by, since }
    }

    /// A batch would not go on from what the target holds.
    pub fn checkpoint_moved(target: String, from: &Checkpoint, found: Option<&Checkpoint>) -> Self {
        let place =
            |c: &Checkpoint| if c.position.is_empty() { "its set-up".into() } else { c.position.clone() };
        let found = found.map_or("no place at all".into(), place);
        Self::CheckpointMoved { target, expected: place(from), found }
    }

    /// A word for programs that stays the same, whatever the message says.
    pub fn code(&self) -> &'static str {
        match self {
            Self::Connect { .. } => "cannot_connect",
            Self::Lost { .. } => "connection_lost",
            Self::Busy { .. } => "busy",
            Self::Refused { .. } => "refused",
            Self::Lacking { .. } => "lacking",
            Self::NeedsAdministrator { .. } => "needs_administrator",
            Self::Drift { .. } => "drift",
            Self::TurnLost { .. } => "turn_lost",
            Self::CheckpointMoved { .. } => "checkpoint_moved",
            Self::Gap { .. } => "gap",
            Self::Gone { .. } => "gone",
            Self::Appeared { .. } => "appeared",
            Self::Moved { .. } => "moved",
            Self::History(_) => "history",
            Self::Value { .. } => "value",
            Self::Protocol { .. } => "protocol",
            Self::Io { .. } => "io",
            Self::Reduce(_) => "key",
        }
    }

    /// What was being done, where that is known apart from the message.
    pub fn doing(&self) -> Option<&Doing> {
        match self {
            Self::Busy { doing, .. } | Self::Refused { doing, .. } | Self::Io { doing, .. } => Some(doing),
            _ => None,
        }
    }

    /// What it is about: a table, a slot, a file; none where it is about an end as a whole, or that is not known.
    pub fn object(&self) -> Option<String> {
        match self {
            Self::Drift { table, .. }
            | Self::Gap { table, .. }
            | Self::Gone { table }
            | Self::Appeared { table }
            | Self::Moved { table } => Some(format!("table {table}")),
            Self::Value { table, .. } => Some(format!("table {table}")),
            other => other.doing()?.object.clone(),
        }
    }

    /// Whether the same thing may work when tried again, with a new connection.
    pub fn is_transient(&self) -> bool {
        match self {
            Self::Lost { .. }
            | Self::Busy { .. }
            | Self::Gap { .. }
            | Self::Gone { .. }
            | Self::Appeared { .. }
            | Self::Moved { .. } => true,
            Self::Connect { layer, .. } => {
                matches!(layer, Layer::Refused | Layer::TimedOut | Layer::Network | Layer::NameLookup)
            }
            _ => false,
        }
    }

    /// Whether a log-in was refused. It passes where a password is being changed at the two places that know it.
    pub fn is_refused_log_in(&self) -> bool {
        matches!(self, Self::Connect { layer: Layer::LogIn, .. })
    }
}

impl From<arrow::error::ArrowError> for AdapterError {
    fn from(error: arrow::error::ArrowError) -> Self {
        Self::Value { table: "rows".into(), what: error.to_string() }
    }
}

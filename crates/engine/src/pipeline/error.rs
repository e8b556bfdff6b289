//! Why a run, or a look, failed.

use crate::pipeline::ends::Pipeline;
use moorage_adapter::{AdapterError, Holder};
use moorage_core::TableName;
use moorage_monitor::StoreError;
use std::path::PathBuf;

/// What the engine returns.
pub type Result<T> = std::result::Result<T, EngineError>;

/// An error of the engine.
#[derive(Debug, thiserror::Error)]
pub enum EngineError {
    /// Source or target.
    #[error(transparent)]
    Adapter(#[from] AdapterError),
    /// The log-in for the administrator's script was refused.
    #[error(
        "{0}. If the role does not exist yet, `moorage check --sql source --as ADMINISTRATOR` asks as someone who does \
         (password in MOORAGE_PASSWORD), and prints the script that makes it"
    )]
    NoLogIn(#[source] AdapterError),
    /// Another process has the pipeline.
    #[error(
        "pipeline {pipeline} is already run by {by}. Stop that one first, or look at it with `moorage status`"
    )]
    Locked {
        /// The pipeline.
        pipeline: String,
        /// The other process: `process 312 on quay since …`.
        by: String,
    },
    /// Another process writes the pipeline's tables, from another folder or machine.
    #[error(
        "pipeline {pipeline} is already run by {by}, from another folder or machine. Stop that one first; \
         if it is gone for good, its turn to write ends by itself within a minute: then run again"
    )]
    Held {
        /// The pipeline.
        pipeline: String,
        /// The other process: `process 312 on quay since …`.
        by: String,
    },
    /// Two runs set the same pipeline up.
    #[error("pipeline {pipeline} was set up by another run meanwhile")]
    SetUpMeanwhile {
        /// The pipeline.
        pipeline: String,
    },
    /// The state folder.
    #[error(transparent)]
    State(#[from] StoreError),
    /// A file with the statements that make a target table.
    #[error(
        "statements in {path}: {reason}. Mend the file, or remove it to have it written anew by `moorage plan --ddl-dir`"
    )]
    Statements {
        /// The file or folder.
        path: PathBuf,
        /// What went wrong.
        reason: String,
    },
    /// No table can be carried.
    #[error("pipeline {pipeline}: no table can be carried ({reason})")]
    NothingToCarry {
        /// The pipeline.
        pipeline: String,
        /// Whether none was picked, or all were refused.
        reason: String,
    },
    /// A pattern that means no table.
    #[error("{what}")]
    Pattern {
        /// Which, and what is near.
        what: String,
    },
    /// A start position was asked for where there is a checkpoint already.
    #[error(
        "pipeline {pipeline} already has a checkpoint at {position}, and goes on from there: run it without --start, or begin anew with `moorage teardown --target`"
    )]
    AlreadyStarted {
        /// The pipeline.
        pipeline: String,
        /// Its checkpoint.
        position: String,
    },
    /// A start position that cannot be reached.
    #[error("the stream cannot start at {wanted}: the earliest possible position is {earliest}. {hint}")]
    StartTooEarly {
        /// What was asked for.
        wanted: String,
        /// What is possible.
        earliest: String,
        /// The way out.
        hint: String,
    },
    /// A start time that has not come.
    #[error(
        "the stream cannot start at {wanted}: by the source's clock it is {now}. Use --start now, or a time that was"
    )]
    StartToCome {
        /// What was asked for.
        wanted: String,
        /// The source's time.
        now: String,
    },
    /// A start position that is not one.
    #[error(
        "{text:?} is not a position of this source: `moorage status` shows how one looks. A time is written with its zone, such as 2026-06-01T14:00:00Z"
    )]
    NotAPosition {
        /// What was given.
        text: String,
    },
    /// A place to follow changes from that is none.
    #[error(
        "{text:?} is no place to begin: give now, start, a position (`moorage status` shows how one looks), or a time such as 2026-06-01T14:00:00Z"
    )]
    NotABeginning {
        /// What was given.
        text: String,
    },
    /// `--snapshot-only` on a pipeline that follows changes.
    #[error(
        "pipeline {pipeline} follows changes already, so its tables are newer than any copy: run it without --snapshot-only, or `moorage resnapshot` a table"
    )]
    FollowsAlready {
        /// The pipeline.
        pipeline: String,
    },
    /// A table that was carried and cannot be now.
    #[error(
        "{table} cannot be carried any more: {why}. Mend that and run again, nothing is lost; or take the table out of the project file"
    )]
    RefusedNow {
        /// The table.
        table: String,
        /// Why, and what mends it.
        why: String,
    },
    /// A table that would be written over itself.
    #[error(
        "{table} would be its own target: source and target are the same. Give target tables other names with `into`, such as \"mirror_{{table}}\""
    )]
    OwnTarget {
        /// The table.
        table: String,
    },
    /// A table that would come back to itself through other pipelines.
    #[error(
        "rows would go round for ever: {way}. Take one of these tables out of its pipeline with `exclude`, or give its target another name with `into`"
    )]
    Loop {
        /// The tables on the way, with the pipelines that carry them.
        way: String,
    },
    /// A table that is to be let go of, and would come back with the next run.
    #[error(
        "pipeline {pipeline} still picks {table}: the next run would make it anew. Take it out with `exclude` in the project file first"
    )]
    StillPicked {
        /// The pipeline.
        pipeline: String,
        /// The table.
        table: String,
    },
    /// Nothing says from when on changes are old.
    #[error(
        "pipeline {pipeline}: nothing says how old changes are that are folded. Give --older-than 90d, or tidy_after = \"90d\" in the project file, for the pipeline or in a rule"
    )]
    NoHorizon {
        /// The pipeline.
        pipeline: String,
    },
    /// No reject of this number.
    #[error("pipeline {pipeline} has no reject {id}; `moorage rejects` lists what is set aside")]
    UnknownReject {
        /// What was given.
        id: i64,
        /// The pipeline.
        pipeline: String,
    },
    /// No change of structure of this number.
    #[error("pipeline {pipeline} has met no drift {id}; `moorage drift --all` lists what it has")]
    UnknownDrift {
        /// What was given.
        id: u64,
        /// The pipeline.
        pipeline: String,
    },
    /// A change of structure that nobody has to decide about.
    #[error("drift {id} waits for no decision: it was {state}; `moorage drift` lists what waits")]
    NotHeld {
        /// What was given.
        id: u64,
        /// What became of it.
        state: String,
    },
    /// Something in the target does not let a table be altered.
    #[error("{table}: the target table cannot be altered: {reason}")]
    InTheWay {
        /// The source table.
        table: TableName,
        /// What is in the way, and the way out.
        reason: String,
    },
    /// Nothing was ever set up.
    #[error("pipeline {pipeline} was never run: there is nothing in the target yet. `moorage run` begins")]
    NeverRun {
        /// The pipeline.
        pipeline: String,
    },
    /// A key on the command line that is none of the table's.
    #[error("{table}: {what}")]
    WrongKey {
        /// The table.
        table: String,
        /// What is wrong with it, and how one looks.
        what: String,
    },
    /// A table of the source named on the command line.
    #[error("the source has no table {table}{}", if near.is_empty() { String::new() } else { format!("; did you mean {near}?") })]
    NoSuchTable {
        /// What was given.
        table: String,
        /// What there is of nearly that name.
        near: String,
    },
    /// A table named on the command line.
    #[error(
        "pipeline {pipeline} carries no table {table}; {}",
        if known.is_empty() { "it was never run: `moorage run` begins".into() } else { format!("it carries {known}") }
    )]
    UnknownTable {
        /// The pipeline.
        pipeline: String,
        /// What was given.
        table: String,
        /// What there is.
        known: String,
    },
}

/// A process for people, with since when it runs.
fn words(holder: &Holder) -> String {
    format!("{} since {}", holder.words(), holder.since.to_rfc3339_opts(chrono::SecondsFormat::Secs, true))
}

impl EngineError {
    pub(crate) fn locked(pipeline: &str, by: Option<&Holder>) -> Self {
        let by = by.map_or("another process".into(), words);
        Self::Locked { pipeline: pipeline.into(), by }
    }

    pub(crate) fn held(pipeline: &Pipeline, by: &Holder) -> Self {
        Self::Held { pipeline: pipeline.name.clone(), by: words(by) }
    }

    /// What it is about, where that is one thing: `table public.berths`.
    pub fn object(&self) -> Option<String> {
        match self {
            Self::Adapter(error) | Self::NoLogIn(error) => error.object(),
            Self::UnknownTable { table, .. } | Self::NoSuchTable { table, .. } => {
                Some(format!("table {table}"))
            }
            Self::State(error) => Some(format!("file {}", error.path.display())),
            _ => None,
        }
    }

    /// A word for programs that stays the same, whatever the message says.
    pub fn code(&self) -> &'static str {
        match self {
            Self::Adapter(error) | Self::NoLogIn(error) => error.code(),
            Self::Locked { .. } | Self::Held { .. } => "already_running",
            Self::SetUpMeanwhile { .. } => "set_up_meanwhile",
            Self::State(_) => "state_folder",
            Self::Statements { .. } => "statements",
            Self::NothingToCarry { .. } => "nothing_to_carry",
            Self::Pattern { .. } => "pattern",
            Self::AlreadyStarted { .. } => "already_started",
            Self::StartTooEarly { .. } => "start_too_early",
            Self::StartToCome { .. } => "start_to_come",
            Self::NotAPosition { .. } | Self::NotABeginning { .. } => "not_a_position",
            Self::FollowsAlready { .. } => "follows_already",
            Self::RefusedNow { .. } => "table_refused",
            Self::OwnTarget { .. } | Self::Loop { .. } => "loop",
            Self::StillPicked { .. } => "still_picked",
            Self::NoHorizon { .. } => "no_horizon",
            Self::UnknownReject { .. } => "unknown_reject",
            Self::InTheWay { .. } => "in_the_way",
            Self::UnknownDrift { .. } => "unknown_drift",
            Self::NotHeld { .. } => "not_held",
            Self::NeverRun { .. } => "never_run",
            Self::WrongKey { .. } => "wrong_key",
            Self::NoSuchTable { .. } | Self::UnknownTable { .. } => "unknown_table",
        }
    }

    /// Whether the same thing may work when tried again.
    pub fn is_transient(&self) -> bool {
        match self {
            Self::Adapter(error) => error.is_transient(),
            Self::SetUpMeanwhile { .. } => true,
            _ => false,
        }
    }

    /// Whether a log-in was refused.
    pub(crate) fn is_refused_log_in(&self) -> bool {
        matches!(self, Self::Adapter(error) if error.is_refused_log_in())
    }
}

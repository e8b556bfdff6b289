//! Runs pipelines: sets up, snapshots what is missing, follows changes, stops and resumes.
//!
//! The engine knows systems only through the traits of `moorage-adapter`. What to do is decided in
//! `moorage-core`; here it is carried out, in an order that never acknowledges what is not durable.

mod changes;
pub mod ddl;
mod error;
mod folder;
mod follow;
#[cfg(test)]
mod hostile;
mod load;
mod lock;
mod looks;
mod loops;
mod mappers;
mod pipeline;
mod planning;
mod prepare;
mod process;
mod rejects;
mod remove;
mod reread;
mod row;
mod run;
mod set_up;
mod spool;
mod state;
mod status;
mod stop;
mod turn;
mod verify;

pub use changes::{ChangeFeed, changes, parse_from};
pub use error::{EngineError, Result};
pub use pipeline::{Pipeline, capture_plan};
pub use planning::{
    Draft, Estimate, Explained, FoundRule, check, draft, estimate, has_blocker, plan_pipeline,
    rule_from_example, set_up_script,
};
pub use rejects::{ShownReject, reject, rejects, settle};
pub use remove::{RereadOutcome, Rereads, Resnapshot, let_go, reread_outcome, resnapshot, teardown};
pub use row::{
    Preview, RowColumn, RowSteps, RowView, RowWatch, preview, preview_source, preview_target, row,
};
pub use run::{Outcome, RunOptions, Start, run};
pub use state::{RunRecord, StateStore};
pub use status::{PipelineStatus, RunningNow, TableStatus, running, status};
pub use stop::{StopHandle, StopSignal, stop_pair};
pub use verify::{TableVerdict, Verdict, VerifyOptions, verify};

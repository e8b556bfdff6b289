//! Runs pipelines: sets up, snapshots what is missing, follows changes, stops and resumes.
//!
//! The engine knows systems only through the traits of `moorage-adapter`. What to do is decided in
//! `moorage-core`; here it is carried out, in an order that never acknowledges what is not durable.

mod before;
mod decide;
#[cfg(test)]
mod hostile;
mod look;
mod pipeline;
mod run;

pub use crate::pipeline::forms::WithForms;
pub use before::check::{WantedScript, check, has_blocker, set_up_script};
pub use before::ddl;
pub use before::draft::{Draft, draft, plan_pipeline};
pub use before::estimate::{Estimate, estimate};
pub use before::example::{Explained, FoundRule, rule_from_example};
pub use decide::alerts::{CheckedAlerts, SentTo, StandingReceiver, check_alerts, receivers, send_alerts};
pub use decide::drift::{Decides, SeenDrift, ShownDrift, decide, decision_outcome, drift, drift_of};
pub use decide::rejects::{ShownReject, reject, rejects, settle};
pub use decide::resnapshot::{RereadOutcome, Rereads, Resnapshot, reread_outcome, resnapshot};
pub use decide::teardown::{let_go, teardown};
pub use look::alerting::{RaisedAlert, raised};
pub use look::behind::{Behind, behind};
pub use look::changes::{ChangeFeed, changes, parse_from};
pub use look::history::{PastRun, RunOutcome, WantedRuns, history, history_of};
pub use look::lag::{LagView, NamedPeriod, WantedLag, lag};
pub use look::preview::{Preview, preview, preview_source, preview_target};
pub use look::problems::{Problem, ProblemKind};
pub use look::report::report;
pub use look::row::{RowColumn, RowSteps, RowView, RowWatch, row};
pub use look::running::{RunningNow, running};
pub use look::status::{Counting, PipelineStatus, status};
pub use look::tables::TableStatus;
pub use look::verdict::{TableVerdict, Verdict, VerifyOptions};
pub use look::verify::verify;
pub use pipeline::context::{Outcome, RunOptions, Start};
pub use pipeline::ends::Pipeline;
pub use pipeline::error::{EngineError, Result};
pub use pipeline::stop::{StopHandle, StopSignal, stop_pair};
pub use pipeline::tidy::{Tidied, TidyOptions, TidyProgress, tidy};
pub use run::once::run;

//! `resnapshot`: have the next run read tables again.

use crate::args::{Global, ResnapshotArgs};
use crate::commands::run::waits;
use crate::exit::Finished;
use crate::failure::Failure;
use crate::{load, render};
use moorage_engine::{Pipeline, RereadOutcome, Rereads, Resnapshot};
use std::time::Duration;

pub async fn resnapshot(global: &Global, args: &ResnapshotArgs) -> Result<Finished, Failure> {
    let pipeline = &load::pipeline(global, args.pipeline.as_ref())?;
    let which = if args.all { Resnapshot::All } else { Resnapshot::Tables(args.tables.clone()) };
    let (tables, running) =
        match moorage_engine::resnapshot(pipeline, &which, &waits(global, pipeline)).await? {
            Rereads::NextRun(tables) => (tables, false),
            Rereads::Running(tables) => (tables, true),
        };
    if running {
        return wait(global, pipeline, &tables).await;
    }
    if render::wants_json(global) {
        render::json(&tables)?;
    } else {
        let names = if tables.is_empty() { "every table".into() } else { tables.join(", ") };
        render::out(format!(
            "the next `moorage run` reads again: {names}. Until that is complete, the target keeps the rows it has"
        ));
    }
    Ok(Finished::Clean)
}

/// How often it is seen whether the running process is done.
const LOOK_EVERY: Duration = Duration::from_millis(200);

/// Waits for the process that runs the pipeline; ending this does not end that.
async fn wait(global: &Global, pipeline: &Pipeline, tables: &[String]) -> Result<Finished, Failure> {
    if !global.quiet {
        render::note(format!(
            "the running pipeline reads {} again; the old rows stay until the new ones are complete\n(Ctrl-C only ends this waiting)",
            tables.join(", ")
        ));
    }
    for table in tables {
        let outcome = loop {
            match moorage_engine::reread_outcome(pipeline, table)? {
                Some(outcome) => break outcome,
                None => tokio::time::sleep(LOOK_EVERY).await,
            }
        };
        match outcome {
            RereadOutcome::Done => render::out(format!("{table} was read again")),
            RereadOutcome::GivenUp(why) => {
                return Err(Failure::failed(format!("{table} was not read again: {why}")));
            }
            RereadOutcome::Ended => {
                render::out(format!(
                    "the pipeline ended before {table} was read again; the next `moorage run` does it"
                ));
            }
        }
    }
    Ok(Finished::Clean)
}

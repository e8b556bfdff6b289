//! `teardown`: remove what Moorage made, and prove that it is gone.

use crate::args::{Global, TeardownArgs};
use crate::commands::run::waits;
use crate::exit::Finished;
use crate::failure::Failure;
use crate::{load, render};
use serde::Serialize;

#[derive(Serialize)]
struct Report<'a> {
    pipeline: &'a str,
    source: moorage_adapter::Removed,
    target: Vec<moorage_adapter::Step>,
}

pub async fn teardown(global: &Global, args: &TeardownArgs) -> Result<Finished, Failure> {
    if !args.tables.is_empty() {
        let pipeline = load::only(global, &args.pipelines.pipelines)?;
        let steps =
            moorage_engine::let_go(&pipeline, &args.tables, args.target, &waits(global, &pipeline)).await?;
        if render::wants_json(global) {
            render::json(&steps)?;
        } else {
            steps.iter().for_each(|step| render::out(format!("{}: {}", step.what, step.outcome)));
        }
        return Ok(Finished::Clean);
    }
    for pipeline in load::pipelines(global, &args.pipelines.pipelines)? {
        if !render::wants_json(global) {
            render::out(render::opening(global, &pipeline, false).await?);
        }
        let (source, target) =
            moorage_engine::teardown(&pipeline, args.target, args.dry_run, &waits(global, &pipeline)).await?;
        if render::wants_json(global) {
            render::json(&Report { pipeline: &pipeline.name, source, target })?;
            continue;
        }
        let mut table = render::table(global, &["what", "outcome"]);
        for step in source.steps.iter().chain(&target) {
            table.add_row([&step.what, &step.outcome]);
        }
        render::out(table.trim_fmt());
        render::out(match (args.dry_run, source.proved_gone) {
            (true, _) => "nothing was changed",
            (false, true) => "looked again: nothing of this pipeline is left in the source",
            (false, false) => "something is left in the source, see above",
        });
        if !args.target && !args.dry_run {
            render::out("the target keeps its tables and checkpoint; --target removes them too");
        }
    }
    Ok(Finished::Clean)
}

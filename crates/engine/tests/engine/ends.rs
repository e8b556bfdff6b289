//! Pipelines between ends that only tests have.

use moorage_adapter::{Events, Source, Target};
use moorage_core::project::config::Project;
use moorage_engine::{EngineError, Outcome, Pipeline, RunOptions, run, stop_pair};
use moorage_testkit::AnyKind;
use std::path::Path;
use std::sync::Arc;

/// A pipeline that applies whatever is there.
pub(crate) fn pipeline(source: Arc<dyn Source>, target: Arc<dyn Target>, folder: &Path) -> Pipeline {
    let text = "[sources.s]\nkind=\"memory\"\n[targets.t]\nkind=\"memory\"\n[pipelines.p]\nsource=\"s\"\ntarget=\"t\"\nmerge_every=\"0s\"";
    let project = Project::parse("f", text, &AnyKind).unwrap();
    Pipeline {
        connections: 1,
        ddl_folder: None,
        project_findings: Vec::new(),
        name: "p".into(),
        config: project.pipelines["p"].clone(),
        source,
        target,
        state_folder: folder.into(),
    }
}

/// Runs it until everything has arrived.
pub(crate) async fn caught_up(pipeline: &Pipeline) -> Result<Outcome, EngineError> {
    let silent: Events = Arc::new(|_| {});
    let (_stopper, stop) = stop_pair();
    let options = RunOptions { until_caught_up: true, ..RunOptions::default() };
    run(pipeline, &options, silent, stop).await
}

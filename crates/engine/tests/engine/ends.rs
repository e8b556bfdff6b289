//! Pipelines between ends that only tests have.

use moorage_adapter::Event;
use moorage_adapter::{Events, Source, Target};
use moorage_core::project::config::Project;
use moorage_engine::{
    EngineError, Outcome, Pipeline, Rereads, Resnapshot, RunOptions, resnapshot, run, stop_pair,
};
use moorage_testkit::AnyKind;
use std::path::Path;
use std::sync::{Arc, Mutex};

/// A pipeline that applies whatever is there.
pub(crate) fn pipeline(source: Arc<dyn Source>, target: Arc<dyn Target>, folder: &Path) -> Pipeline {
    pipeline_with("", source, target, folder)
}

/// The same, with more keys in the project file.
pub(crate) fn pipeline_with(
    keys: &str,
    source: Arc<dyn Source>,
    target: Arc<dyn Target>,
    folder: &Path,
) -> Pipeline {
    let ends = "[sources.s]\nkind=\"memory\"\n[targets.t]\nkind=\"memory\"\n";
    let text = format!("{ends}[pipelines.p]\nsource=\"s\"\ntarget=\"t\"\nmerge_every=\"0s\"\n{keys}");
    let project = Project::parse("f", &text, &AnyKind).unwrap();
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

/// The same, and once changes are followed someone asks for a table to be read again. Gives also what was told.
pub(crate) async fn caught_up_reading_again(
    pipeline: &Pipeline,
    table: &'static str,
) -> (Result<Outcome, EngineError>, Vec<Event>) {
    let (_stopper, stop) = stop_pair();
    let options = RunOptions { until_caught_up: true, ..RunOptions::default() };
    let (asked, told) = (pipeline.clone(), Arc::new(Mutex::new(Vec::new())));
    let telling = told.clone();
    let events: Events = Arc::new(move |event| {
        if matches!(event, Event::Streaming { .. }) {
            let (which, silent): (_, Events) = (Resnapshot::Tables(vec![table.into()]), Arc::new(|_| {}));
            let asking = resnapshot(&asked, &which, &silent);
            let asked = tokio::task::block_in_place(|| tokio::runtime::Handle::current().block_on(asking));
            assert!(matches!(asked, Ok(Rereads::Running(_))), "{asked:?}");
        }
        telling.lock().unwrap().push(event);
    });
    let done = run(pipeline, &options, events, stop).await;
    let told = std::mem::take(&mut *told.lock().unwrap());
    (done, told)
}

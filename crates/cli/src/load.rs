//! From the project file to pipelines with both ends.

use crate::args::{Global, ScriptOf};
use crate::failure::Failure;
use moorage_adapter::Source;
use moorage_adapter::kind::{LogInAs, Opening, SourceSection};
use moorage_adapter::secret::read_bounded;
use moorage_core::project::section::Section;
use moorage_engine::{Pipeline, WithForms};
use moorage_monitor::{Alerts, ListenSettings};
use moorage_systems::Described;
use secrecy::SecretString;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// The largest project file, in bytes.
const MOST_PROJECT_BYTES: u64 = 16 << 20;

/// The pipelines that were asked for, or all.
///
/// # Errors
/// If the project file is missing or wrong, or a pipeline is not in it.
pub fn pipelines(global: &Global, wanted: &[String]) -> Result<Vec<Pipeline>, Failure> {
    Ok(whole(global, wanted)?.pipelines)
}

/// What a project file says.
pub struct Loaded {
    /// The pipelines that were asked for, or all.
    pub pipelines: Vec<Pipeline>,
    /// Who is told of what goes wrong.
    pub alerts: Alerts,
    /// To whom figures are served.
    pub listen: ListenSettings,
    /// What paths in the file are relative to.
    pub folder: PathBuf,
}

/// The pipelines that were asked for, or all, with what the file says beside them.
///
/// # Errors
/// As for [`pipelines`].
pub fn whole(global: &Global, wanted: &[String]) -> Result<Loaded, Failure> {
    let project = project(&global.file)?;
    let folder = folder_of(&global.file);
    let Alerts { rules, receivers } = project.alerts.clone();
    let receivers = receivers.into_iter().map(|receiver| receiver.in_folder(&folder)).collect();
    let (pipelines, listen) = (opened(global, &project, wanted)?, project.listen.clone());
    Ok(Loaded { pipelines, alerts: Alerts { rules, receivers }, listen, folder })
}

/// The pipelines of a project that were asked for, or all, with their ends.
fn opened(global: &Global, project: &Described, wanted: &[String]) -> Result<Vec<Pipeline>, Failure> {
    let file = &global.file;
    let folder = folder_of(file);
    if project.pipelines.is_empty() {
        return Err(Failure::usage(format!(
            "{}: there is no pipeline in it; add one as [pipelines.NAME]",
            file.display()
        )));
    }
    let known = || project.pipelines.keys().cloned().collect::<Vec<_>>().join(", ");
    if let Some(name) = wanted.iter().find(|w| !project.pipelines.contains_key(*w)) {
        return Err(Failure::usage(format!(
            "{}: there is no pipeline {name}; there is {}",
            file.display(),
            known()
        )));
    }
    project
        .pipelines
        .iter()
        .filter(|(name, _)| wanted.is_empty() || wanted.contains(name))
        .map(|(name, config)| {
            let connections = config.snapshot_connections.as_ref().map_or(4, |n| *n.get_ref());
            let (source, target) = (config.source.get_ref(), config.target.get_ref());
            let opening = |of_pipeline| Opening {
                folder: &folder,
                connections,
                of_pipeline,
                instead: LogInAs::default(),
            };
            let wrong =
                |end: String, what: String| Failure::usage(format!("{}: {end}: {what}", file.display()));
            let described = &project.sources[source];
            let to = &project.targets[target];
            Ok(Pipeline {
                name: name.clone(),
                config: config.clone(),
                source: described
                    .open(opening(Some(&config.of_source)))
                    .map_err(|what| wrong(format!("source {source}"), what))?,
                target: to
                    .open(opening(None))
                    .map(WithForms::of)
                    .map_err(|what| wrong(format!("target {target}"), what))?,
                connections,
                ddl_folder: config.ddl_dir.as_ref().map(|d| folder.join(d)),
                project_findings: [described.findings(), to.findings()].concat(),
                state_folder: folder.join(".moorage"),
            })
        })
        .collect()
}

fn project(file: &Path) -> Result<Described, Failure> {
    let text = read_bounded(file, MOST_PROJECT_BYTES).map_err(|e| {
        let way_out = match e.kind() {
            std::io::ErrorKind::NotFound => ". Name one with --file, or let `moorage init` write one here",
            _ => "",
        };
        Failure::usage(format!("project file {}: {e}{way_out}", file.display()))
    })?;
    Described::parse(&file.display().to_string(), &text).map_err(|e| Failure::usage(e.to_string()))
}

/// One pipeline: the named one, or the only one.
///
/// # Errors
/// As for [`pipelines`], and if none is named where there are several.
pub fn pipeline(global: &Global, wanted: Option<&String>) -> Result<Pipeline, Failure> {
    let wanted: Vec<String> = wanted.into_iter().cloned().collect();
    let mut found = pipelines(global, &wanted)?;
    match (found.pop(), found.is_empty()) {
        (Some(only), true) => Ok(only),
        (last, _) => {
            let mut names: Vec<String> = found.into_iter().chain(last).map(|p| p.name).collect();
            names.sort();
            Err(Failure::usage(format!("name one pipeline with --pipeline: {}", names.join(", "))))
        }
    }
}

/// One pipeline for the script of one end's administrator, and the user of that end if someone else is to log in.
///
/// # Errors
/// As for [`pipeline`].
pub fn for_script(
    global: &Global,
    wanted: &[String],
    end: ScriptOf,
    log_in_as: Option<&str>,
) -> Result<(Pipeline, Option<String>), Failure> {
    let mut pipeline = only(global, wanted)?;
    let (Some(user), ScriptOf::Source) = (log_in_as, end) else { return Ok((pipeline, None)) };
    let file = &global.file;
    let project = project(file)?;
    let name = pipeline.config.source.get_ref();
    let instead = LogInAs {
        user: Some(user.to_string()),
        password: std::env::var("MOORAGE_PASSWORD").ok().map(SecretString::from),
    };
    let described = project.sources[name].as_ref();
    pipeline.source = open_source(file, name, described, Some(&pipeline.config.of_source), instead)?;
    Ok((pipeline, described.user()))
}

/// One pipeline where at most one was named.
///
/// # Errors
/// As for [`pipeline`].
pub fn only(global: &Global, wanted: &[String]) -> Result<Pipeline, Failure> {
    let mut found = pipelines(global, wanted)?;
    match (found.pop(), found.is_empty()) {
        (Some(only), true) => Ok(only),
        (last, _) => {
            let names: Vec<String> = found.into_iter().chain(last).map(|p| p.name).collect();
            Err(Failure::usage(format!("this is for one pipeline: name one of {}", names.join(", "))))
        }
    }
}

/// A source by its name in the project file; the only one if none is named.
///
/// # Errors
/// If there is no such source, or it is not plain which one is meant.
pub fn source(global: &Global, name: Option<&String>) -> Result<(String, Arc<dyn Source>), Failure> {
    let file = &global.file;
    let project = project(file)?;
    let known = project.sources.keys().cloned().collect::<Vec<_>>().join(", ");
    let found = match name {
        Some(name) => project.sources.get_key_value(name),
        None if project.sources.len() == 1 => project.sources.iter().next(),
        None => None,
    };
    let Some((name, config)) = found else {
        let asked = name.map_or("name one of the sources".into(), |n| format!("there is no source {n}"));
        return Err(Failure::usage(format!("{}: {asked}; there is {known}", file.display())));
    };
    Ok((name.clone(), open_source(file, name, config.as_ref(), None, LogInAs::default())?))
}

/// The folder that paths in a project file are relative to.
fn folder_of(file: &Path) -> PathBuf {
    match file.parent() {
        Some(parent) if !parent.as_os_str().is_empty() => parent.into(),
        _ => PathBuf::from("."),
    }
}

/// A source as a project file describes it, for one connection at a time; with another log-in, if one is given.
///
/// # Errors
/// If its address is wrong.
pub fn open_source(
    file: &Path,
    name: &str,
    described: &dyn SourceSection,
    of_pipeline: Option<&Section>,
    instead: LogInAs,
) -> Result<Arc<dyn Source>, Failure> {
    let folder = folder_of(file);
    let opening = Opening { folder: &folder, connections: 1, of_pipeline, instead };
    let wrong = |what| Failure::usage(format!("{}: source {name}: {what}", file.display()));
    described.open(opening).map_err(wrong)
}

//! A project file with everything that it says of its ends.

use crate::kinds::{Known, source_kind, target_kind, target_kinds};
use moorage_adapter::kind::{SourceSection, TargetSection};
use moorage_core::project::config::{PipelineConfig, Project};
use moorage_core::project::error::{Mistake, ProjectError};
use moorage_monitor::{Alerts, ListenSettings, Receiver};
use std::collections::BTreeMap;

/// A project file, read as a whole.
pub struct Described {
    /// Its pipelines, by name.
    pub pipelines: BTreeMap<String, PipelineConfig>,
    /// Where rows come from, by name. Every pipeline's source is among them.
    pub sources: BTreeMap<String, Box<dyn SourceSection>>,
    /// Where rows go, by name. Every pipeline's target is among them.
    pub targets: BTreeMap<String, Box<dyn TargetSection>>,
    /// Who is told of what goes wrong.
    pub alerts: Alerts,
    /// Where figures are served, and to whom.
    pub listen: ListenSettings,
}

impl Described {
    /// Reads a project file's text. `file` is only used in messages.
    ///
    /// # Errors
    /// With file, line, the offending text and what was expected.
    pub fn parse(file: &str, text: &str) -> Result<Self, ProjectError> {
        let project = Project::parse(file, text, &Known)?;
        ends(project).map_err(|mistake| ProjectError::new(file, text, mistake))
    }
}

fn ends(project: Project) -> Result<Described, Mistake> {
    let Project { sources, targets, pipelines, receivers, alerts: rules, listen } = project;
    let receivers = receivers.iter().map(|(name, end)| Receiver::read(name, end));
    let alerts = Alerts { rules, receivers: receivers.collect::<Result<_, Mistake>>()? };
    let listen = ListenSettings::read(listen.as_ref())?;
    let (sources_read, targets_read) = (BTreeMap::new(), BTreeMap::new());
    let mut described = Described { pipelines, sources: sources_read, targets: targets_read, alerts, listen };
    for (name, end) in sources {
        if let Some(kind) = source_kind(end.kind.get_ref()) {
            let source = kind.read(&name, &end)?;
            described.sources.insert(name, source);
        }
    }
    for (name, end) in &targets {
        if let Some(kind) = target_kind(end.kind.get_ref()) {
            described.targets.insert(name.clone(), kind.read(name, end)?);
        }
    }
    for (name, pipeline) in &described.pipelines {
        if let Some(source) = described.sources.get(pipeline.source.get_ref()) {
            source.check_pipeline(name, &pipeline.of_source)?;
        }
        let target = targets.get(pipeline.target.get_ref()).map_or("", |end| end.kind.get_ref());
        let beyond =
            pipeline.on_reject_key().filter(|_| !target_kind(target).is_some_and(|k| k.sets_aside()));
        if let Some(span) = beyond {
            let what = format!(
                "pipeline {name}: a target of kind {target} does not know `on_reject`: it stops at what it cannot take"
            );
            let able = target_kinds().filter(|(_, target)| target.sets_aside());
            let able: Vec<String> = able.map(|(kind, _)| format!("\"{}\"", kind.word())).collect();
            return Err(Mistake::at(
                span,
                what,
                format!("nothing, or a target of kind {}", able.join(" or ")),
            ));
        }
    }
    Ok(described)
}

#[cfg(test)]
mod tests;

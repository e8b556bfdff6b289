//! Reading a project file, and what may be wrong with it as a whole.

use super::alert::{AlertConfig, AlertRule, LOG};
use super::config::{PipelineConfig, Project};
use super::error::{Mistake, ProjectError};
use super::picking;
use super::rule::RuleConfig;
use super::section::{EndSection, Kinds, Section};
use super::units::{parse_duration, parse_size};
use serde::Deserialize;
use serde::de::{IgnoredAny, IntoDeserializer};
use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// What stands in a file at the top.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Lists {
    #[serde(default)]
    sources: BTreeMap<String, End>,
    #[serde(default)]
    targets: BTreeMap<String, End>,
    #[serde(default, rename = "pipelines")]
    _pipelines: BTreeMap<String, IgnoredAny>,
    #[serde(default)]
    receivers: BTreeMap<Spanned<String>, End>,
    #[serde(default)]
    alert: Vec<AlertConfig>,
    listen: Option<BTreeMap<String, IgnoredAny>>,
}

#[derive(Deserialize)]
struct End {
    kind: Spanned<String>,
}

impl Project {
    /// Reads a project file's text, but for the parts that adapters read. `file` is only used in messages.
    ///
    /// # Errors
    /// With file, line, the offending text and what was expected.
    pub fn parse(file: &str, text: &str, kinds: &dyn Kinds) -> Result<Self, ProjectError> {
        read(text, kinds).map_err(|mistake| ProjectError::new(file, text, mistake))
    }
}

fn read(text: &str, kinds: &dyn Kinds) -> Result<Project, Mistake> {
    let lists: Lists = toml::from_str(text).map_err(Mistake::Read)?;
    if let Some(span) = nul(text) {
        let what = "a text with the character NUL, which no database takes in names or texts";
        return Err(Mistake::at(span, what, "no such character"));
    }
    let whole: Arc<str> = text.into();
    let mut project = Project {
        sources: ends(&whole, "sources", lists.sources, &kinds.sources())?,
        targets: ends(&whole, "targets", lists.targets, &kinds.targets())?,
        receivers: receivers(&whole, lists.receivers, &kinds.receivers())?,
        listen: lists.listen.map(|_| Section::at_the_top(&whole, "listen")),
        ..Project::default()
    };
    for (name, (span, table)) in pipelines(text)? {
        let source =
            table.iter().find(|(key, _)| key.get_ref() == "source").and_then(|s| s.1.get_ref().as_str());
        let source = source.and_then(|name| project.sources.get(name));
        let of_source: Vec<&str> = match source {
            Some(source) => kinds.pipeline_keys(source.kind.get_ref()).to_vec(),
            // That there is no such source is what is wrong then, and no key.
            None => kinds.sources().into_iter().flat_map(|kind| kinds.pipeline_keys(kind)).copied().collect(),
        };
        let count = table.len();
        let is_own = |key: &str| !of_source.contains(&key);
        let table: DeTable<'_> = table.into_iter().filter(|(key, _)| is_own(key.get_ref())).collect();
        let has_some = table.len() < count;
        let own = PipelineConfig::deserialize(Spanned::new(span, table).into_deserializer());
        let section = || Section::new(&whole, "pipelines", &name).parted(&of_source).0;
        let of_source = if has_some { section() } else { Section::default() };
        let pipeline = PipelineConfig { of_source, ..own.map_err(Mistake::Read)? };
        check(&project, &name, &pipeline)?;
        project.pipelines.insert(name, pipeline);
    }
    project.alerts = alerts(&project, lists.alert)?;
    Ok(project)
}

/// Receivers of alerts, none of them named like the one that is always there.
fn receivers(
    text: &Arc<str>,
    found: BTreeMap<Spanned<String>, End>,
    kinds: &[&str],
) -> Result<BTreeMap<String, EndSection>, Mistake> {
    if let Some(name) = found.keys().find(|name| name.get_ref() == LOG) {
        let what = format!("receiver `{LOG}` is there without a section: it writes on standard error");
        return Err(Mistake::at(name.span(), what, "another name"));
    }
    let found = found.into_iter().map(|(name, end)| (name.into_inner(), end)).collect();
    ends(text, "receivers", found, kinds)
}

/// Alerts with names of their own, about pipelines and to receivers that there are.
fn alerts(project: &Project, found: Vec<AlertConfig>) -> Result<Vec<AlertRule>, Mistake> {
    let pipelines: Vec<&str> = project.pipelines.keys().map(String::as_str).collect();
    let receivers: Vec<&str> = project.receivers.keys().map(String::as_str).collect();
    let mut alerts: Vec<AlertRule> = Vec::new();
    for alert in found {
        let name = alert.name();
        if alerts.iter().any(|known| known.name == *name.get_ref()) {
            let what = format!("there are two alerts `{}`", name.get_ref());
            return Err(Mistake::at(name.span(), what, "a name for each"));
        }
        alerts.push(alert.read(&pipelines, &receivers)?);
    }
    Ok(alerts)
}

/// The tables of pipelines as they stand in a text that was read before, with where they stand.
fn pipelines(text: &str) -> Result<BTreeMap<String, (Range<usize>, DeTable<'_>)>, Mistake> {
    let document = DeTable::parse(text).map_err(Mistake::Read)?.into_inner();
    let list = document.into_iter().find(|(key, _)| key.get_ref() == "pipelines");
    let Some(DeValue::Table(list)) = list.map(|(_, value)| value.into_inner()) else {
        return Ok(BTreeMap::new());
    };
    let mut found = BTreeMap::new();
    for (name, value) in list {
        let span = value.span();
        match value.into_inner() {
            DeValue::Table(table) => found.insert(name.into_inner().into_owned(), (span, table)),
            _ => return Err(Mistake::at(span, "this is no pipeline", "a table [pipelines.NAME]")),
        };
    }
    Ok(found)
}

fn ends(
    text: &Arc<str>,
    list: &str,
    ends: BTreeMap<String, End>,
    kinds: &[&str],
) -> Result<BTreeMap<String, EndSection>, Mistake> {
    let end = |(name, End { kind }): (String, End)| {
        if !kinds.contains(&kind.get_ref().as_str()) {
            let what = format!("unknown value `{}`", kind.get_ref());
            return Err(Mistake::at(kind.span(), what, one_of(kinds)));
        }
        let (_, section) = Section::new(text, list, &name).parted(&["kind"]);
        Ok((name, EndSection { kind, section }))
    };
    ends.into_iter().map(end).collect()
}

/// What a pipeline's table says that cannot be meant.
fn check(project: &Project, name: &str, pipeline: &PipelineConfig) -> Result<(), Mistake> {
    let known = |ends: &BTreeMap<String, EndSection>| {
        let names: Vec<&str> = ends.keys().map(String::as_str).collect();
        if names.is_empty() { "none is defined".to_string() } else { one_of(&names) }
    };
    let (source, target) = (&pipeline.source, &pipeline.target);
    if !project.sources.contains_key(source.get_ref()) {
        let what = format!("pipeline {name} reads from source `{}`, which is not defined", source.get_ref());
        return Err(Mistake::at(source.span(), what, known(&project.sources)));
    }
    if !project.targets.contains_key(target.get_ref()) {
        let what = format!("pipeline {name} writes to target `{}`, which is not defined", target.get_ref());
        return Err(Mistake::at(target.span(), what, known(&project.targets)));
    }
    let every = &pipeline.merge_every;
    if parse_duration(every.get_ref()).is_none() {
        let what = format!("`{}` is not a duration", every.get_ref());
        let expected = "a number with ms, s, m, h or d, such as \"500ms\" or \"1s\"";
        return Err(Mistake::at(every.span(), what, expected));
    }
    if let Some(n) = pipeline.snapshot_connections.as_ref().filter(|n| !(1..=32).contains(n.get_ref())) {
        let what = format!("snapshot_connections = {} is out of range", n.get_ref());
        return Err(Mistake::at(n.span(), what, "a number from 1 to 32"));
    }
    if let Some(limit) = pipeline.hold_limit.as_ref().filter(|l| parse_size(l.get_ref()).is_none()) {
        let what = format!("`{}` is not a size", limit.get_ref());
        return Err(Mistake::at(limit.span(), what, "a whole number with KiB, MiB or GiB, such as \"1GiB\""));
    }
    picking::check(pipeline)?;
    pipeline.drift.check()?;
    pipeline.rule.iter().try_for_each(RuleConfig::check)
}

/// Where a NUL is written as an escape (TOML 1.0, section "String").
fn nul(text: &str) -> Option<std::ops::Range<usize>> {
    let escapes = ["\\u0000", "\\U00000000"];
    let found = escapes.iter().flat_map(|escape| text.match_indices(escape));
    // An odd number of backslashes before it makes it one that is itself escaped.
    let is_one = |at: usize| text[..at].bytes().rev().take_while(|b| *b == b'\\').count() % 2 == 0;
    found.map(|(at, escape)| at..at + escape.len()).find(|span| is_one(span.start))
}

fn one_of(names: &[&str]) -> String {
    names.iter().map(|n| format!("`{n}`")).collect::<Vec<_>>().join(" or ")
}

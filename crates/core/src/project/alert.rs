//! What a project file says of alerts: `[[alert]]`.

use super::error::Mistake;
use super::units::parse_duration;
use crate::model::name::TableName;
use crate::model::near::near;
use crate::model::visible::visible;
use crate::pick::pattern::{Pattern, shown_parts};
use serde::Deserialize;
use std::ops::Range;
use std::time::Duration;
use toml::Spanned;

/// What may be wrong with a pipeline, so that someone wants to be told.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Condition {
    /// The target is further behind than this.
    Lag(Duration),
    /// Changes wait, and nothing was carried.
    NoProgress,
    /// More changes of a table than so many are set aside.
    Rejects(u64),
    /// A structure changed. This is an event: it is told once.
    Drift,
    /// A change of structure waits for a decision.
    Decision,
    /// A table is held.
    TableHeld,
    /// A table is to be read again, or left out.
    TableFailed,
    /// Reading a table was broken off.
    SnapshotFailed,
    /// The source keeps more than so many hundredths of what it may.
    SourceRoom(u64),
    /// Nothing runs, or what runs stands still or tries again.
    NotRunning,
}

impl Condition {
    /// The words of all of them.
    pub const WORDS: [&str; 10] = [
        "lag",
        "no_progress",
        "rejects",
        "drift",
        "decision",
        "table_held",
        "table_failed",
        "snapshot_failed",
        "source_room",
        "not_running",
    ];

    /// Its word in the project file.
    pub fn word(self) -> &'static str {
        match self {
            Self::Lag(_) => "lag",
            Self::NoProgress => "no_progress",
            Self::Rejects(_) => "rejects",
            Self::Drift => "drift",
            Self::Decision => "decision",
            Self::TableHeld => "table_held",
            Self::TableFailed => "table_failed",
            Self::SnapshotFailed => "snapshot_failed",
            Self::SourceRoom(_) => "source_room",
            Self::NotRunning => "not_running",
        }
    }

    /// Whether it is about each table by itself.
    pub fn is_by_table(self) -> bool {
        match self {
            Self::Lag(_) | Self::NoProgress | Self::SourceRoom(_) | Self::NotRunning => false,
            Self::Rejects(_) | Self::Drift | Self::Decision => true,
            Self::TableHeld | Self::TableFailed | Self::SnapshotFailed => true,
        }
    }
}

/// An alert of a project file.
#[derive(Clone, Debug)]
pub struct AlertRule {
    /// Its name.
    pub name: String,
    /// What is to be told.
    pub condition: Condition,
    /// For how long that must last before it is raised.
    pub lasting: Duration,
    /// For how long it must be gone before it is cleared.
    pub clear_after: Duration,
    /// After what time it is told again while it is raised; never if none.
    pub repeat_every: Option<Duration>,
    /// Of which pipelines; all if empty.
    pub pipelines: Vec<String>,
    /// Of which source tables; all if empty.
    pub tables: Vec<Pattern>,
    /// Which receivers are told.
    pub to: Vec<String>,
}

impl AlertRule {
    /// Whether it is about a pipeline.
    pub fn is_of(&self, pipeline: &str) -> bool {
        self.pipelines.is_empty() || self.pipelines.iter().any(|p| p == pipeline)
    }

    /// Whether it is about a source table, by its name for people.
    pub fn is_of_table(&self, table: &str) -> bool {
        let Some((schema, name)) = shown_parts(table) else { return self.tables.is_empty() };
        let table = TableName::new(schema, name);
        self.tables.is_empty() || self.tables.iter().any(|pattern| pattern.matches(&table))
    }
}

/// The receiver that needs no section: what the run writes on its standard error.
pub const LOG: &str = "log";

/// An alert as it is written.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct AlertConfig {
    name: Spanned<String>,
    when: Spanned<String>,
    over: Option<Spanned<Over>>,
    #[serde(rename = "for")]
    lasting: Option<Spanned<String>>,
    clear_after: Option<Spanned<String>>,
    repeat_every: Option<Spanned<String>>,
    #[serde(default)]
    pipelines: Vec<Spanned<String>>,
    #[serde(default)]
    tables: Vec<Spanned<String>>,
    to: Spanned<Vec<Spanned<String>>>,
}

/// A threshold as it is written.
#[derive(Clone, Debug, Deserialize)]
#[serde(untagged, expecting = "a text in double quotes, or a whole number")]
enum Over {
    Number(u64),
    Text(String),
}

impl Over {
    fn shown(&self) -> String {
        match self {
            Self::Number(number) => number.to_string(),
            Self::Text(text) => text.clone(),
        }
    }
}

/// How long a state must last that is no trouble if it passes soon.
const USUAL_LASTING: Duration = Duration::from_secs(60);
/// After what time an alert is told again.
const USUAL_REPEAT: Duration = Duration::from_secs(4 * 3600);
/// The shortest time between two messages of one alert.
const LEAST_REPEAT: Duration = Duration::from_secs(1);

impl AlertConfig {
    /// Reads it. `pipelines` and `receivers` are the names there are.
    pub(super) fn read(self, pipelines: &[&str], receivers: &[&str]) -> Result<AlertRule, Mistake> {
        let name = self.name.get_ref().clone();
        if name.is_empty() || name.len() > 100 || visible(&name, false) != name {
            let expected = "a name of 1 to 100 bytes, without line breaks and other control characters";
            return Err(Mistake::at(self.name.span(), "this is no name of an alert", expected));
        }
        let condition = self.condition(&name)?;
        let lasting = duration(self.lasting.as_ref())?;
        if let Some(lasting) = self.lasting.as_ref().filter(|_| condition == Condition::Drift) {
            let what = format!("alert {name}: `drift` is told when it happens, and lasts no time");
            return Err(Mistake::at(lasting.span(), what, "no `for`; `when = \"decision\"` is a state"));
        }
        let repeat = duration(self.repeat_every.as_ref())?;
        if let Some(every) = self.repeat_every.as_ref().filter(|_| repeat.is_some_and(|r| r < LEAST_REPEAT)) {
            let what = format!("alert {name}: `{}` is too often", every.get_ref());
            return Err(Mistake::at(every.span(), what, "1s or more"));
        }
        let clear_after = duration(self.clear_after.as_ref())?.unwrap_or_default();
        for of in &self.pipelines {
            among(of.get_ref(), of.span(), pipelines, &format!("alert {name} is about pipeline"))?;
        }
        let tables = self.tables.iter().map(|text| table(&name, condition, text));
        let tables = tables.collect::<Result<Vec<Pattern>, Mistake>>()?;
        if self.to.get_ref().is_empty() {
            let what = format!("alert {name} goes to nobody");
            return Err(Mistake::at(self.to.span(), what, "names of receivers, or \"log\""));
        }
        let known: Vec<&str> = receivers.iter().copied().chain([LOG]).collect();
        for to in self.to.get_ref() {
            among(to.get_ref(), to.span(), &known, &format!("alert {name} goes to receiver"))?;
        }
        Ok(AlertRule {
            condition,
            lasting: lasting.unwrap_or_else(|| usual_lasting(condition)),
            clear_after,
            // What happened is told once.
            repeat_every: Some(repeat.unwrap_or(USUAL_REPEAT)).filter(|_| condition != Condition::Drift),
            pipelines: self.pipelines.into_iter().map(Spanned::into_inner).collect(),
            tables,
            to: self.to.into_inner().into_iter().map(Spanned::into_inner).collect(),
            name,
        })
    }

    /// Where its name stands.
    pub(super) fn name(&self) -> &Spanned<String> {
        &self.name
    }

    fn condition(&self, name: &str) -> Result<Condition, Mistake> {
        let when = self.when.get_ref().as_str();
        let span = self.when.span();
        let over = self.over.as_ref();
        let needs = |what: &str| Mistake::at(span.clone(), format!("alert {name} says no `over`"), what);
        let found = match when {
            "lag" => {
                let over = over.ok_or_else(|| needs("over = \"30s\", or another time"))?;
                let Over::Text(text) = over.get_ref() else {
                    return Err(no_threshold(over, "a time, such as \"30s\""));
                };
                Condition::Lag(
                    parse_duration(text).ok_or_else(|| no_threshold(over, "a time, such as \"30s\""))?,
                )
            }
            "source_room" => {
                let over = over.ok_or_else(|| needs("over = \"80%\", or another share"))?;
                let expected = "a share from \"1%\" to \"99%\"";
                let Over::Text(text) = over.get_ref() else { return Err(no_threshold(over, expected)) };
                let share = text.strip_suffix('%').and_then(|share| share.trim().parse().ok());
                Condition::SourceRoom(
                    share
                        .filter(|share| (1..100).contains(share))
                        .ok_or_else(|| no_threshold(over, expected))?,
                )
            }
            "rejects" => match over.map(|over| (over, over.get_ref())) {
                None => Condition::Rejects(0),
                Some((_, Over::Number(number))) => Condition::Rejects(*number),
                Some((over, Over::Text(_))) => {
                    return Err(no_threshold(over, "a whole number, without quotes"));
                }
            },
            _ => {
                let plain = [
                    Condition::NoProgress,
                    Condition::Drift,
                    Condition::Decision,
                    Condition::TableHeld,
                    Condition::TableFailed,
                    Condition::SnapshotFailed,
                    Condition::NotRunning,
                ];
                let found = plain.into_iter().find(|condition| condition.word() == when);
                let found = found.ok_or_else(|| {
                    let what = format!("alert {name}: there is no condition `{when}`");
                    no_such(span.clone(), what, when, &Condition::WORDS)
                })?;
                if let Some(over) = over {
                    let what = format!("alert {name}: `{when}` has no threshold");
                    return Err(Mistake::at(over.span(), what, "no `over`"));
                }
                found
            }
        };
        Ok(found)
    }
}

/// What is set aside, held, broken off or waits for a decision does not pass by itself; a table that is to be read again mostly is
/// soon.
fn usual_lasting(condition: Condition) -> Duration {
    match condition.is_by_table() && condition != Condition::TableFailed {
        true => Duration::ZERO,
        false => USUAL_LASTING,
    }
}

fn no_threshold(over: &Spanned<Over>, expected: &str) -> Mistake {
    Mistake::at(over.span(), format!("`{}` is no threshold of it", over.get_ref().shown()), expected)
}

fn duration(text: Option<&Spanned<String>>) -> Result<Option<Duration>, Mistake> {
    let Some(text) = text else { return Ok(None) };
    let expected = "a number with ms, s, m, h or d, such as \"30s\" or \"2m\"";
    let wrong = || Mistake::at(text.span(), format!("`{}` is not a duration", text.get_ref()), expected);
    parse_duration(text.get_ref()).map(Some).ok_or_else(wrong)
}

fn table(name: &str, condition: Condition, text: &Spanned<String>) -> Result<Pattern, Mistake> {
    if !condition.is_by_table() {
        let what = format!("alert {name}: `{}` is about the whole pipeline", condition.word());
        return Err(Mistake::at(text.span(), what, "no `tables`"));
    }
    let wrong =
        || Mistake::at(text.span(), format!("`{}` is no pattern", text.get_ref()), "such as \"public.*\"");
    Pattern::parse(text.get_ref()).ok_or_else(wrong)
}

fn among(name: &str, span: Range<usize>, known: &[&str], what: &str) -> Result<(), Mistake> {
    match known.contains(&name) {
        true => Ok(()),
        false => Err(no_such(span, format!("{what} `{name}`, which is not defined"), name, known)),
    }
}

/// One that is not among those there are, with what may have been meant.
fn no_such(span: Range<usize>, what: String, name: &str, known: &[&str]) -> Mistake {
    let near = near(name, known);
    let meant = if near.is_empty() { known.iter().map(ToString::to_string).collect() } else { near };
    let meant: Vec<String> = meant.iter().map(|name| format!("`{name}`")).collect();
    let none = || "none is defined".to_string();
    Mistake::at(span, what, if meant.is_empty() { none() } else { meant.join(" or ") })
}

//! The project file: sources, targets and pipelines, as read from TOML text.
//!
//! Only the text is read here; secrets are described, not looked up, and no path is touched.

pub use crate::project_ends::{
    Capture, ChannelBinding, LogIn, SecretConfig, SourceConfig, SourceKind, SslMode, TargetConfig,
    TargetKind, findings, parse_size,
};
pub use crate::project_error::ProjectError;
pub use crate::project_rule::{AddConfig, CastConfig, Constant, RuleConfig, Stamp};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::time::Duration;
use toml::Spanned;

/// A whole project file.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Project {
    /// Where rows come from, by name.
    #[serde(default)]
    pub sources: BTreeMap<String, SourceConfig>,
    /// Where rows go, by name.
    #[serde(default)]
    pub targets: BTreeMap<String, TargetConfig>,
    /// What is carried, by name.
    #[serde(default)]
    pub pipelines: BTreeMap<String, PipelineConfig>,
}

/// What a target table holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Keep {
    /// The rows as they are now.
    Current,
}

/// What to do with rows that a target table held before the pipeline.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ExistingRows {
    /// Remove them first.
    Replace,
    /// Leave them; rows with the same key are overwritten.
    Keep,
}

/// What becomes of a change that a target refuses.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum OnReject {
    /// The pipeline stops before it, with nothing of its batch applied.
    #[default]
    Stop,
    /// It is set aside with its reason, and everything else is applied.
    SetAside,
}

/// What a change means whose row the target holds otherwise than the change assumes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Mismatch {
    /// It is refused like one that violates a constraint.
    #[default]
    Reject,
    /// The target may be an imperfect copy: an update of a missing row becomes an insert, an insert of a present
    /// row an update, a delete of a missing row nothing.
    Adjust,
}

/// A pipeline.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PipelineConfig {
    /// A name from `sources`.
    pub source: Spanned<String>,
    /// A name from `targets`.
    pub target: Spanned<String>,
    /// Which tables, as patterns on `schema.table`; all that are not the system's own if not given.
    #[serde(default = "all_tables")]
    pub include: Spanned<Vec<String>>,
    /// Which tables not.
    #[serde(default = "no_tables")]
    pub exclude: Spanned<Vec<String>>,
    /// How target tables are named; see [`crate::naming`].
    #[serde(default = "default_into")]
    pub into: Spanned<String>,
    /// What target tables hold.
    #[serde(default = "default_keep")]
    pub keep: Keep,
    /// How long changes are collected before a merge.
    #[serde(default = "default_merge_every")]
    pub merge_every: Spanned<String>,
    /// What to do with rows that target tables held before; without it such a table stops the run.
    pub existing_rows: Option<ExistingRows>,
    /// What becomes of a change that the target refuses; `stop` if not given.
    pub on_reject: Option<Spanned<OnReject>>,
    /// An existing publication to read through, instead of one that Moorage makes.
    pub publication: Option<String>,
    /// An existing slot to read through, instead of one that Moorage makes.
    pub slot: Option<String>,
    /// How many connections read the snapshot; 4 if not given, from 1 to 32.
    pub snapshot_connections: Option<Spanned<usize>>,
    /// A folder with the statements that make target tables, one file a table, which people may change.
    pub ddl_dir: Option<String>,
    /// Exceptions for some tables; later ones win.
    #[serde(default)]
    pub rule: Vec<RuleConfig>,
}

fn spanned<T>(value: T) -> Spanned<T> {
    Spanned::new(0..0, value)
}
fn all_tables() -> Spanned<Vec<String>> {
    spanned(vec!["*.*".into()])
}
fn no_tables() -> Spanned<Vec<String>> {
    spanned(Vec::new())
}
fn default_into() -> Spanned<String> {
    spanned("{schema}_{table}".into())
}
fn default_keep() -> Keep {
    Keep::Current
}
fn default_merge_every() -> Spanned<String> {
    spanned("1s".into())
}

impl PipelineConfig {
    /// How long changes are collected before a merge.
    pub fn merge_age(&self) -> Duration {
        parse_duration(self.merge_every.get_ref()).unwrap_or(Duration::from_secs(1))
    }

    /// The first key that asks for what this kind of target cannot do: setting changes aside.
    fn beyond(&self, name: &str, target: &TargetConfig) -> Option<(std::ops::Range<usize>, String)> {
        if *target.kind.get_ref() != TargetKind::Sqlite {
            return None;
        }
        let keys = self.rule.iter().filter_map(|r| r.on_reject.as_ref());
        let key = self.on_reject.iter().chain(keys).next()?;
        let what = "a SQLite target does not know `on_reject`: it stops at what it cannot take";
        Some((key.span(), format!("pipeline {name}: {what}")))
    }
}

impl Project {
    /// Reads a project file's text. `file` is only used in messages.
    ///
    /// # Errors
    /// With file, line, the offending text and what was expected.
    pub fn parse(file: &str, text: &str) -> Result<Self, ProjectError> {
        let project: Self = toml::from_str(text).map_err(|e| ProjectError::from_toml(file, text, &e))?;
        let at =
            |span, what: String, expected: String| Err(ProjectError::at(file, text, span, what, expected));
        if let Some(span) = nul(text) {
            let what = "a text with the character NUL, which no database takes in names or texts".into();
            return at(span, what, "no such character".into());
        }
        let sources = project.sources.iter().map(|(name, source)| source.wrong(name));
        let targets = project.targets.iter().map(|(name, target)| target.wrong(name));
        if let Some((span, what, expected)) = sources.chain(targets).flatten().next() {
            return at(span, what, expected.into());
        }
        for (name, pipeline) in &project.pipelines {
            let names = |of: Vec<&String>| {
                if of.is_empty() { "none is defined".to_string() } else { one_of(&of) }
            };
            if !project.sources.contains_key(pipeline.source.get_ref()) {
                let what = format!(
                    "pipeline {name} reads from source `{}`, which is not defined",
                    pipeline.source.get_ref()
                );
                return at(pipeline.source.span(), what, names(project.sources.keys().collect()));
            }
            if !project.targets.contains_key(pipeline.target.get_ref()) {
                let what = format!(
                    "pipeline {name} writes to target `{}`, which is not defined",
                    pipeline.target.get_ref()
                );
                return at(pipeline.target.span(), what, names(project.targets.keys().collect()));
            }
            let by_trigger = project
                .sources
                .get(pipeline.source.get_ref())
                .is_some_and(|s| s.captured_by() == Capture::Trigger);
            if by_trigger && (pipeline.slot.is_some() || pipeline.publication.is_some()) {
                let what = format!("pipeline {name} names a slot or publication");
                let expected = "none, because its source is captured by triggers";
                return at(pipeline.source.span(), what, expected.into());
            }
            let target = &project.targets[pipeline.target.get_ref()];
            if let Some((span, what)) = pipeline.beyond(name, target) {
                return at(span, what, "nothing, or a target of kind \"postgres\"".into());
            }
            if parse_duration(pipeline.merge_every.get_ref()).is_none() {
                let what = format!("`{}` is not a duration", pipeline.merge_every.get_ref());
                return at(
                    pipeline.merge_every.span(),
                    what,
                    "a number with ms, s, m or h, such as \"500ms\" or \"1s\"".into(),
                );
            }
            if let Some(n) = &pipeline.snapshot_connections
                && !(1..=32).contains(n.get_ref())
            {
                let what = format!("snapshot_connections = {} is out of range", n.get_ref());
                return at(n.span(), what, "a number from 1 to 32".into());
            }
            if let Err((span, what, expected)) = crate::pick::check(pipeline) {
                return at(span, what, expected);
            }
            if let Some((span, what, expected)) = pipeline.rule.iter().find_map(RuleConfig::wrong) {
                return at(span, what, expected.into());
            }
        }
        Ok(project)
    }
}

/// Where a NUL is written as an escape (TOML 1.0, section "String").
fn nul(text: &str) -> Option<std::ops::Range<usize>> {
    let escapes = ["\\u0000", "\\U00000000"];
    let found = escapes.iter().flat_map(|escape| text.match_indices(escape));
    // An odd number of backslashes before it makes it one that is itself escaped.
    let is_one = |at: usize| text[..at].bytes().rev().take_while(|b| *b == b'\\').count() % 2 == 0;
    found.map(|(at, escape)| at..at + escape.len()).find(|span| is_one(span.start))
}

fn one_of(names: &[&String]) -> String {
    names.iter().map(|n| format!("`{n}`")).collect::<Vec<_>>().join(" or ")
}

/// The longest duration: ten years.
const LONGEST: Duration = Duration::from_secs(10 * 366 * 24 * 3600);

/// Reads a duration: a whole number and one of `ms`, `s`, `m`, `h`; at most ten years.
pub fn parse_duration(text: &str) -> Option<Duration> {
    let text = text.trim();
    let at = text.find(|c: char| !c.is_ascii_digit())?;
    let number: u64 = text[..at].parse().ok()?;
    let found = match text[at..].trim() {
        "ms" => Duration::from_millis(number),
        "s" => Duration::from_secs(number),
        "m" => Duration::from_secs(number.checked_mul(60)?),
        "h" => Duration::from_secs(number.checked_mul(3600)?),
        _ => return None,
    };
    // Clocks cannot count for ever.
    (found <= LONGEST).then_some(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    const GOOD: &str = r#"
[sources.harbour]
kind = "postgres"
url = "postgres://moorage@db.example:5432/harbour"
password = { env = "HARBOUR_PASSWORD" }

[targets.warehouse]
kind = "sqlite"
path = "warehouse.db"

[pipelines.quayside]
source = "harbour"
target = "warehouse"
include = ["public.*"]
merge_every = "250ms"

[[pipelines.quayside.rule]]
match = "public.meter_readings"
key = ["berth_id", "read_at"]
drop = ["raw_payload"]
rename = { amt = "amount" }
"#;

    #[test]
    fn a_good_file_is_read_with_its_defaults() {
        let project = Project::parse("moorage.toml", GOOD).unwrap();
        let pipeline = &project.pipelines["quayside"];
        assert_eq!(pipeline.merge_age(), Duration::from_millis(250));
        assert_eq!(pipeline.into.get_ref(), "{schema}_{table}");
        assert_eq!(pipeline.rule[0].rename["amt"], "amount");
    }

    /// A line of a pasted list or expression may have any length: only what stands around the place is shown.
    #[rstest::rstest]
    fn a_mistake_in_a_long_line_is_shown_with_what_stands_around_it(#[values(0, 30, 5000)] before: usize) {
        let list = |n: usize| format!("{:?}, ", "public.berths").repeat(n);
        let wrong = format!("merge_every = \"1s\"\ninclude = [{}3, {}\"x\"]", list(before), list(9000));
        let text = GOOD.replace("merge_every = \"250ms\"", &wrong).replace("include = [\"public.*\"]\n", "");
        let shown = Project::parse("f", &text).unwrap_err().to_string();
        let lines: Vec<&str> = shown.lines().collect();
        assert!(lines.iter().all(|l| l.chars().count() < 150), "{shown}");
        let place = lines[2].chars().position(|c| c == '^').unwrap();
        assert_eq!(lines[1].chars().nth(place), Some('3'), "{shown}");
    }

    #[test]
    fn a_password_in_an_address_is_not_shown() {
        let text = "[sources.h]\nkind = \"postgres\"\nurl = { x = \"postgres://moorage:secret@db/harbour\" }";
        let error = Project::parse("f", text).unwrap_err().to_string();
        assert!(error.contains("url = *") && !error.contains("secret"), "{error}");
    }

    #[rstest::rstest]
    #[case(
        "include = [\"public.*\"]",
        "includ = [\"public.*\"]",
        "moorage.toml:14:1: unknown key `includ`",
        "`include`"
    )]
    #[case(
        "merge_every = \"250ms\"",
        "merge_every = 3",
        "moorage.toml:15:15: invalid type: integer `3`",
        "a text in double quotes"
    )]
    #[case(
        "merge_every = \"250ms\"",
        "merge_every = \"soon\"",
        "moorage.toml:15:15: `soon` is not a duration",
        "500ms"
    )]
    #[case(
        "source = \"harbour\"",
        "source = \"harbor\"",
        "moorage.toml:12:10: pipeline quayside reads from source `harbor`",
        "`harbour`"
    )]
    #[case("source = \"harbour\"\n", "", "moorage.toml:11:1: missing key `source`", "")]
    #[case("kind = \"sqlite\"", "kind = \"sqlit\"", "moorage.toml:8:8: unknown value `sqlit`", "`sqlite`")]
    #[case(
        "{ env = \"HARBOUR_PASSWORD\" }",
        "{}",
        "moorage.toml:5:12: the password of source harbour",
        "env"
    )]
    #[case("[\"public.*\"]", "[\"public.[\"]", "moorage.toml:14:11: `public.[` is not a pattern", "public.*")]
    #[case("path = \"warehouse.db\"", "path = ", "moorage.toml:9:", "")]
    #[case(
        "merge_every",
        "into = \"{tabel}\"\nmerge_every",
        "moorage.toml:15:8: there is no placeholder {tabel}",
        "{table:lower}"
    )]
    #[case(
        "drop = [",
        "add = { x = { from = \"table\", constant = 1 } }\ndrop = [",
        "moorage.toml:20:7: column x of `add`",
        "expression"
    )]
    #[case(
        "drop = [",
        "cast = { x = \"nubmer\" }\ndrop = [",
        "moorage.toml:20:8: column x of `cast`",
        "decimal(10,2)"
    )]
    #[case(
        "kind = \"postgres\"",
        "kind = \"sqlite\"",
        "moorage.toml:3:8: source harbour says nothing",
        "path = "
    )]
    #[case(
        "kind = \"postgres\"",
        "kind = \"postgres\"\npath = \"x\"",
        "moorage.toml:4:8: source harbour is of",
        "url = "
    )]
    #[case(
        "kind = \"postgres\"",
        "kind = \"postgres\"\nchange_table_limit = \"1GiB\"",
        "moorage.toml:4:22: source harbour has no",
        "trigger"
    )]
    #[case(
        "amt = \"amount\"",
        "amt = \"a\\u0000\"",
        "moorage.toml:21:20: a text with the character NUL",
        "no such"
    )]
    fn a_mistake_is_named_with_its_line(
        #[case] good: &str,
        #[case] bad: &str,
        #[case] message: &str,
        #[case] expected: &str,
    ) {
        let error = Project::parse("moorage.toml", &GOOD.replace(good, bad)).unwrap_err().to_string();
        assert!(error.starts_with(message), "{error}");
        assert!(error.contains(expected), "{error}");
    }
}

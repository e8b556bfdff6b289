//! The project file: sources, targets and pipelines, as read from TOML text.
//!
//! Only the text is read here; secrets are described, not looked up, and no path is touched.

use crate::finding::{End, Finding, Fix};
pub use crate::project_error::ProjectError;
pub use crate::project_rule::{AddConfig, CastConfig, Constant, RuleConfig, Stamp};
use serde::Deserialize;
use std::collections::BTreeMap;
use std::ops::Range;
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

/// The systems that rows can come from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum SourceKind {
    /// PostgreSQL, through its logical replication stream or triggers.
    Postgres,
    /// A SQLite file, through triggers.
    Sqlite,
}

/// How changes are read from a source.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Capture {
    /// From the source's own change log.
    Log,
    /// From change tables that triggers fill.
    Trigger,
}

/// The systems that rows can go to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum TargetKind {
    /// A SQLite file.
    Sqlite,
}

/// How a connection to a server is protected; the words are those of the server's own connection strings.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum SslMode {
    /// Never encrypted.
    Disable,
    /// Encrypted if the server can.
    Prefer,
    /// Encrypted, whoever the server is.
    Require,
    /// Encrypted, and the server's certificate is signed by a trusted authority.
    VerifyCa,
    /// Likewise, and the certificate is for the host that was asked for.
    VerifyFull,
}

/// Where a password comes from. Exactly one of the three must be given.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SecretConfig {
    /// The name of an environment variable.
    pub env: Option<String>,
    /// A file's path; one newline at its end is left out.
    pub file: Option<String>,
    /// A program and its arguments; what it prints is the secret.
    pub command: Option<Vec<String>>,
}

/// A source.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SourceConfig {
    /// Which system.
    pub kind: Spanned<SourceKind>,
    /// Where a server is: `postgres://user@host:port/database`; `?host=/folder` names a Unix socket's folder.
    pub url: Option<Spanned<String>>,
    /// Where a file is, relative to the project file.
    pub path: Option<Spanned<String>>,
    /// How changes are read; the best way the system has if not given.
    pub capture: Option<Spanned<Capture>>,
    /// How large each change table of a capture by triggers may grow, such as `512MiB`; 1 GiB if not given.
    pub change_table_limit: Option<Spanned<String>>,
    /// The password, if one is needed.
    pub password: Option<Spanned<SecretConfig>>,
    /// How the connection is protected; `prefer` if not given here or in the address.
    pub sslmode: Option<SslMode>,
    /// A file with the certificates of trusted authorities, in PEM; the system's own otherwise.
    pub sslrootcert: Option<String>,
}

/// A target.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TargetConfig {
    /// Which system.
    pub kind: TargetKind,
    /// The file, relative to the project file.
    pub path: String,
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
        for (name, source) in &project.sources {
            if let Some((span, what, expected)) = wrong_place(name, source) {
                return at(span, what, expected.into());
            }
            if let Some(password) = &source.password {
                let p = password.get_ref();
                if [p.env.is_some(), p.file.is_some(), p.command.is_some()].iter().filter(|x| **x).count()
                    != 1
                {
                    let what = format!("the password of source {name} must come from exactly one place");
                    let expected = "{ env = \"NAME\" }, { file = \"path\" } or { command = [\"program\", \"argument\"] }";
                    return at(password.span(), what, expected.into());
                }
            }
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

/// A server has an address, a file a path; each key only where it means something.
fn wrong_place(name: &str, source: &SourceConfig) -> Option<(Range<usize>, String, &'static str)> {
    let (needed, other, example) = match source.kind.get_ref() {
        SourceKind::Postgres => (&source.url, &source.path, "url = \"postgres://user@host:5432/database\""),
        SourceKind::Sqlite => (&source.path, &source.url, "path = \"harbour.db\""),
    };
    if needed.is_none() {
        let what = format!("source {name} says nothing about where it is");
        return Some((source.kind.span(), what, example));
    }
    if let Some(other) = other {
        return Some((
            other.span(),
            format!("source {name} is of another kind than this key is for"),
            example,
        ));
    }
    let no_log = match (&source.capture, source.kind.get_ref()) {
        (Some(capture), SourceKind::Sqlite) if *capture.get_ref() == Capture::Log => Some((
            capture.span(),
            format!("source {name}: a SQLite file has no log that can be read"),
            "capture = \"trigger\", or no such key",
        )),
        _ => None,
    };
    no_log.or_else(|| wrong_limit(name, source))
}

fn wrong_limit(name: &str, source: &SourceConfig) -> Option<(Range<usize>, String, &'static str)> {
    let limit = source.change_table_limit.as_ref()?;
    let by_trigger = source.capture.as_ref().is_some_and(|c| *c.get_ref() == Capture::Trigger);
    if *source.kind.get_ref() != SourceKind::Postgres || !by_trigger {
        let what = format!("source {name} has no change tables with a limit");
        return Some((
            limit.span(),
            what,
            "this key only beside kind = \"postgres\" and capture = \"trigger\"",
        ));
    }
    let what = format!("`{}` is not a size", limit.get_ref());
    let wrong = (limit.span(), what, "a number with KiB, MiB or GiB, such as \"512MiB\"");
    parse_size(limit.get_ref()).is_none().then_some(wrong)
}

impl SourceConfig {
    /// How changes are read.
    pub fn captured_by(&self) -> Capture {
        match (&self.capture, self.kind.get_ref()) {
            (Some(capture), _) => *capture.get_ref(),
            (None, SourceKind::Postgres) => Capture::Log,
            (None, SourceKind::Sqlite) => Capture::Trigger,
        }
    }

    /// How many bytes each change table may grow to.
    pub fn change_table_bytes(&self) -> u64 {
        self.change_table_limit.as_ref().and_then(|l| parse_size(l.get_ref())).unwrap_or(1 << 30)
    }
}

/// What is to be said of a source's part of the project file: secrets that stand in it.
pub fn findings(name: &str, source: &SourceConfig) -> Vec<Finding> {
    let url = source.url.as_ref().map_or("", |u| u.get_ref().as_str());
    let user_info = url.split_once("://").and_then(|(_, rest)| rest.split_once('@')).map(|(user, _)| user);
    let in_address = user_info.is_some_and(|user| user.contains(':')) || url.contains("password=");
    if !in_address {
        return vec![Finding::ok(
            End::Project,
            "secrets",
            format!("source {name}: no password stands in the file"),
        )];
    }
    let variable: String =
        name.chars().map(|c| if c.is_ascii_alphanumeric() { c.to_ascii_uppercase() } else { '_' }).collect();
    let fix = format!(
        "take it out of `url`, and write in [sources.{name}]: password = {{ env = \"{variable}_PASSWORD\" }}"
    );
    let why = "whoever reads the file, or its history, has the password";
    let found = format!("source {name}: a password stands in the address");
    vec![Finding::warning(End::Project, "secrets", found, why, Fix::step(fix))]
}

/// Reads a size: a whole number and one of `KiB`, `MiB`, `GiB`.
pub fn parse_size(text: &str) -> Option<u64> {
    let text = text.trim();
    let at = text.find(|c: char| !c.is_ascii_digit())?;
    let number: u64 = text[..at].parse().ok()?;
    let shift = match text[at..].trim() {
        "KiB" => 10,
        "MiB" => 20,
        "GiB" => 30,
        _ => return None,
    };
    number.checked_mul(1 << shift)
}

fn one_of(names: &[&String]) -> String {
    names.iter().map(|n| format!("`{n}`")).collect::<Vec<_>>().join(" or ")
}

/// Reads a duration: a whole number and one of `ms`, `s`, `m`, `h`.
pub fn parse_duration(text: &str) -> Option<Duration> {
    let text = text.trim();
    let at = text.find(|c: char| !c.is_ascii_digit())?;
    let number: u64 = text[..at].parse().ok()?;
    Some(match text[at..].trim() {
        "ms" => Duration::from_millis(number),
        "s" => Duration::from_secs(number),
        "m" => Duration::from_secs(number.checked_mul(60)?),
        "h" => Duration::from_secs(number.checked_mul(3600)?),
        _ => return None,
    })
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

    #[test]
    fn a_password_in_an_address_is_not_shown() {
        let text = "[sources.h]\nkind = \"postgres\"\nurl = { x = \"postgres://moorage:secret@db/harbour\" }";
        let error = Project::parse("f", text).unwrap_err().to_string();
        assert!(error.contains("moorage:******@db") && !error.contains("secret"), "{error}");
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
        "a string"
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

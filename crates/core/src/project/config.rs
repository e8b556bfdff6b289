//! The project file: sources, targets and pipelines, as read from TOML text.
//!
//! Only the text is read here; secrets are described, not looked up, and no path is touched.

use crate::model::gathered::Partitions;
use crate::model::kept_as::{Added, Deletes, Keep, Operation};
use crate::model::policy::{ExistingRows, Generated, OnReject, Shape};
use crate::project::alert::AlertRule;
use crate::project::also::AlsoConfig;
use crate::project::drift::DriftConfig;
use crate::project::rule::RuleConfig;
use crate::project::section::{EndSection, Section};
use crate::project::units::{parse_duration, parse_size};
use serde::Deserialize;
use std::collections::BTreeMap;
use std::ops::Range;
use std::time::Duration;
use toml::Spanned;

/// A whole project file.
#[derive(Clone, Debug, Default)]
pub struct Project {
    /// Where rows come from, by name.
    pub sources: BTreeMap<String, EndSection>,
    /// Where rows go, by name.
    pub targets: BTreeMap<String, EndSection>,
    /// What is carried, by name.
    pub pipelines: BTreeMap<String, PipelineConfig>,
    /// Who is told of alerts, by name.
    pub receivers: BTreeMap<String, EndSection>,
    /// What they are told of, in the order of the file.
    pub alerts: Vec<AlertRule>,
    /// What the file says of serving figures, if it does.
    pub listen: Option<Section>,
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
    /// How target tables are named; see [`crate::pick::naming`].
    #[serde(default = "default_into")]
    pub into: Spanned<String>,
    /// What target tables hold.
    #[serde(default)]
    pub keep: Keep,
    /// Whether a table that keeps changes has old values beside the new ones.
    #[serde(default)]
    pub old_values: bool,
    /// The operations whose changes are applied; all if not given.
    pub operations: Option<Spanned<Vec<Operation>>>,
    /// What becomes of rows that were deleted in the source; `remove` if not given.
    pub deletes: Option<Deletes>,
    /// Other forms in which tables are kept beside the first one, from one capture.
    pub also: Option<Vec<AlsoConfig>>,
    /// How columns are named in the target: a rule such as `{column:lower}`.
    pub column_names: Option<Spanned<String>>,
    /// What the columns are called that are added for what tables keep, by what they hold.
    #[serde(default)]
    pub added_columns: BTreeMap<Added, String>,
    /// Other words for the operations of a trail.
    #[serde(default = "no_words")]
    pub operation_words: Spanned<BTreeMap<Operation, String>>,
    /// In which form a trail has commit times; `timestamp` if not given.
    #[serde(default)]
    pub commit_times: CommitTimes,
    /// How the view of current rows beside a table that keeps changes is named; as its table with `_current` behind it, if
    /// not given.
    pub view: Option<Spanned<String>>,
    /// What target tables are made of; columns if not given.
    pub shape: Option<Shape>,
    /// What becomes of generated columns; left out if not given.
    pub generated: Option<Generated>,
    /// What the partitions of a table are in the target: together in one table, or apart; together if not given.
    pub partitions: Option<Partitions>,
    /// How old changes are that a table which keeps them has folded: a row of a snapshot stands for all before it. Never, if not
    /// given.
    pub tidy_after: Option<Spanned<String>>,
    /// How long changes are collected before a merge.
    #[serde(default = "default_merge_every")]
    pub merge_every: Spanned<String>,
    /// What to do with rows that target tables held before; without it such a table stops the run.
    pub existing_rows: Option<ExistingRows>,
    /// What becomes of a change that the target refuses; `stop` if not given.
    pub on_reject: Option<Spanned<OnReject>>,
    /// What the pipeline's source reads of this table itself.
    #[serde(skip)]
    pub of_source: Section,
    /// How many connections read the snapshot; 4 if not given, from 1 to 32.
    pub snapshot_connections: Option<Spanned<usize>>,
    /// A folder with the statements that make target tables, one file a table, which people may change.
    pub ddl_dir: Option<String>,
    /// What is done about changes of structure, by kind.
    #[serde(default)]
    pub drift: DriftConfig,
    /// How much is kept of each held table; 1 GiB if not given.
    pub hold_limit: Option<Spanned<String>>,
    /// Exceptions for some tables; later ones win.
    #[serde(default)]
    pub rule: Vec<RuleConfig>,
}

/// A form of commit times.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum CommitTimes {
    /// As a timestamp.
    #[default]
    Timestamp,
    /// As milliseconds since 1970-01-01 00:00 UTC.
    Milliseconds,
}

fn no_words() -> Spanned<BTreeMap<Operation, String>> {
    spanned(BTreeMap::new())
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
fn default_merge_every() -> Spanned<String> {
    spanned("1s".into())
}

impl PipelineConfig {
    /// How long changes are collected before a merge.
    pub fn merge_age(&self) -> Duration {
        parse_duration(self.merge_every.get_ref()).unwrap_or(Duration::from_secs(1))
    }

    /// How many bytes are kept of each held table.
    pub fn hold_limit_bytes(&self) -> u64 {
        self.hold_limit.as_ref().and_then(|limit| parse_size(limit.get_ref())).unwrap_or(1 << 30)
    }

    /// Where it says what becomes of changes that the target refuses, first.
    pub fn on_reject_key(&self) -> Option<Range<usize>> {
        let keys = self.rule.iter().filter_map(|r| r.on_reject.as_ref());
        self.on_reject.iter().chain(keys).next().map(Spanned::span)
    }
}

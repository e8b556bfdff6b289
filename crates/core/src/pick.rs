//! Picking tables by pattern, and the rules that apply to each.

use crate::project::{ExistingRows, PipelineConfig};
use crate::schema::TableName;
use globset::{Glob, GlobMatcher};
use std::collections::BTreeMap;
use std::ops::Range;

/// What the rules say about one table, later ones having won.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TableRule {
    /// The declared key.
    pub key: Option<Vec<String>>,
    /// Columns not carried.
    pub drop: Vec<String>,
    /// New names of columns.
    pub rename: BTreeMap<String, String>,
    /// What to do with rows that were there before.
    pub existing_rows: Option<ExistingRows>,
}

/// A pipeline's patterns, ready to match.
pub struct Picker {
    include: Vec<GlobMatcher>,
    exclude: Vec<GlobMatcher>,
    rules: Vec<(GlobMatcher, TableRule)>,
    existing_rows: Option<ExistingRows>,
}

fn matcher(pattern: &str) -> Option<GlobMatcher> {
    Glob::new(pattern).ok().map(|glob| glob.compile_matcher())
}

/// Checks that all patterns of a pipeline can be understood; otherwise where the bad one is.
pub(crate) fn check_patterns(config: &PipelineConfig) -> Result<(), (Range<usize>, String)> {
    let bad = |pattern: &str| format!("`{pattern}` is not a pattern");
    for list in [&config.include, &config.exclude] {
        if let Some(pattern) = list.get_ref().iter().find(|p| matcher(p).is_none()) {
            return Err((list.span(), bad(pattern)));
        }
    }
    match config.rule.iter().find(|r| matcher(r.pattern.get_ref()).is_none()) {
        Some(rule) => Err((rule.pattern.span(), bad(rule.pattern.get_ref()))),
        None => Ok(()),
    }
}

impl Picker {
    /// From a pipeline whose patterns were checked when the project file was read.
    pub fn new(config: &PipelineConfig) -> Self {
        let all = |patterns: &[String]| patterns.iter().filter_map(|p| matcher(p)).collect();
        let rule = |r: &crate::project::RuleConfig| {
            let rule = TableRule {
                key: r.key.clone(),
                drop: r.drop.clone(),
                rename: r.rename.clone(),
                existing_rows: r.existing_rows,
            };
            matcher(r.pattern.get_ref()).map(|m| (m, rule))
        };
        Self {
            include: all(config.include.get_ref()),
            exclude: all(config.exclude.get_ref()),
            rules: config.rule.iter().filter_map(rule).collect(),
            existing_rows: config.existing_rows,
        }
    }

    /// Whether a table is picked.
    pub fn picks(&self, table: &TableName) -> bool {
        let name = table.to_string();
        self.include.iter().any(|m| m.is_match(&name)) && !self.exclude.iter().any(|m| m.is_match(&name))
    }

    /// Whether a table is picked by its full name, not by a pattern.
    pub fn names(&self, table: &TableName) -> bool {
        let name = table.to_string();
        self.picks(table) && self.include.iter().any(|m| m.glob().glob() == name)
    }

    /// What the rules say about a table.
    pub fn rule(&self, table: &TableName) -> TableRule {
        let name = table.to_string();
        let mut found = TableRule { existing_rows: self.existing_rows, ..TableRule::default() };
        for (_, rule) in self.rules.iter().filter(|(m, _)| m.is_match(&name)) {
            found.key = rule.key.clone().or(found.key);
            found.drop.extend(rule.drop.iter().cloned());
            found.rename.extend(rule.rename.clone());
            found.existing_rows = rule.existing_rows.or(found.existing_rows);
        }
        found
    }
}

//! Picking tables by pattern, and the rules that apply to each.

use crate::naming::Naming;
use crate::pattern::Pattern;
use crate::plan::SourceTable;
use crate::project::{AddConfig, CastConfig, ExistingRows, Mismatch, OnReject, PipelineConfig, RuleConfig};
use crate::schema::TableName;
use indexmap::IndexMap;
use std::collections::BTreeMap;
use std::ops::Range;

/// What the rules say about one table, later ones having won.
#[derive(Clone, Debug, Default)]
pub struct TableRule {
    /// The declared key.
    pub key: Option<Vec<String>>,
    /// How the target table is named, if not as the pipeline says.
    pub into: Option<String>,
    /// The only columns carried.
    pub only: Option<Vec<String>>,
    /// Columns not carried.
    pub drop: Vec<String>,
    /// New names of columns.
    pub rename: BTreeMap<String, String>,
    /// Columns whose values are converted.
    pub cast: BTreeMap<String, CastConfig>,
    /// Columns that the target has more.
    pub add: IndexMap<String, AddConfig>,
    /// Which rows are carried.
    pub condition: Option<String>,
    /// What to do with rows that were there before.
    pub existing_rows: Option<ExistingRows>,
    /// What becomes of a change that the target refuses.
    pub on_reject: OnReject,
    /// What becomes of a change whose row the target holds otherwise.
    pub mismatch: Mismatch,
}

/// Whether a table is picked, and why.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Choice {
    /// By this pattern; none if the project file has no `include`.
    Picked(Option<String>),
    /// No pattern means it.
    NotMeant,
    /// Taken out by this pattern of `exclude`.
    Excluded(String),
    /// Patterns do not pick such a table; why, and the way out.
    NotByPattern(String),
}

impl Choice {
    /// Whether it is picked.
    pub fn is_picked(&self) -> bool {
        matches!(self, Self::Picked(_))
    }
}

/// A pattern that means no table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unmatched {
    /// As it stands in the project file.
    pub pattern: String,
    /// Where it stands: `include`, `rule`.
    pub place: &'static str,
    /// Tables of nearly that name.
    pub near: Vec<String>,
}

impl std::fmt::Display for Unmatched {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let place = if self.place == "rule" { "the `match` of a rule" } else { "`include`" };
        write!(f, "pattern `{}` of {place} means no table of the source", self.pattern)?;
        match self.near.as_slice() {
            [] => f.write_str("; `moorage tables` lists what there is"),
            near => write!(f, "; did you mean {}?", near.join(", ")),
        }
    }
}

/// A pipeline's patterns, ready to match.
pub struct Picker {
    include: Vec<Pattern>,
    is_default: bool,
    exclude: Vec<Pattern>,
    rules: Vec<(Pattern, RuleConfig)>,
    existing_rows: Option<ExistingRows>,
    on_reject: OnReject,
}

/// Checks that all patterns and naming rules of a pipeline can be understood; otherwise where the bad one is,
/// what is wrong, and what was expected.
pub(crate) fn check(config: &PipelineConfig) -> Result<(), (Range<usize>, String, String)> {
    let bad = |span: Range<usize>, pattern: &str| {
        let expected = "a pattern on schema.table, such as \"public.*\"; names with dots go in double quotes";
        (span, format!("`{pattern}` is not a pattern"), expected.to_string())
    };
    for list in [&config.include, &config.exclude] {
        if let Some(pattern) = list.get_ref().iter().find(|p| Pattern::parse(p).is_none()) {
            return Err(bad(list.span(), pattern));
        }
    }
    for rule in &config.rule {
        if Pattern::parse(rule.pattern.get_ref()).is_none() {
            return Err(bad(rule.pattern.span(), rule.pattern.get_ref()));
        }
    }
    let naming = [&config.into].into_iter().chain(config.rule.iter().filter_map(|r| r.into.as_ref()));
    for into in naming {
        if let Err(what) = Naming::parse(into.get_ref()) {
            return Err((into.span(), what, "a name such as \"{schema}_{table:lower}\"".into()));
        }
    }
    Ok(())
}

impl Picker {
    /// From a pipeline whose patterns were checked when the project file was read.
    pub fn new(config: &PipelineConfig) -> Self {
        let all = |patterns: &[String]| patterns.iter().filter_map(|p| Pattern::parse(p)).collect();
        let rule = |r: &RuleConfig| Pattern::parse(r.pattern.get_ref()).map(|p| (p, r.clone()));
        Self {
            include: all(config.include.get_ref()),
            is_default: config.include.span().is_empty(),
            exclude: all(config.exclude.get_ref()),
            rules: config.rule.iter().filter_map(rule).collect(),
            existing_rows: config.existing_rows,
            on_reject: config.on_reject.as_ref().map(|k| *k.get_ref()).unwrap_or_default(),
        }
    }

    /// The same with other patterns in place of `include`, and more in `exclude`.
    #[must_use]
    pub fn with(mut self, include: Vec<Pattern>, exclude: Vec<Pattern>) -> Self {
        if !include.is_empty() {
            (self.include, self.is_default) = (include, false);
        }
        self.exclude.extend(exclude);
        self
    }

    /// Whether a table is picked, given what the source says of it, and by what.
    pub fn choice(&self, table: &SourceTable) -> Choice {
        let name = &table.name;
        if let Some(excluded) = self.exclude.iter().find(|p| p.matches(name)) {
            return Choice::Excluded(excluded.text().into());
        }
        let by_name = self.include.iter().find(|p| p.is_name() && p.matches(name));
        let Some(by) = by_name.or_else(|| self.include.iter().find(|p| p.matches(name))) else {
            return Choice::NotMeant;
        };
        match (by_name, table.not_by_pattern()) {
            (None, Some(why)) => Choice::NotByPattern(why),
            _ => Choice::Picked((!self.is_default).then(|| by.text().into())),
        }
    }

    /// Whether a table is picked.
    pub fn takes(&self, table: &SourceTable) -> bool {
        self.choice(table).is_picked()
    }

    /// The patterns that mean no table, with near misses. One that the file does not have is not among them.
    pub fn unmatched(&self, found: &[SourceTable]) -> Vec<Unmatched> {
        let included = self.include.iter().filter(|_| !self.is_default).map(|p| (p, "include"));
        let all = included.chain(self.rules.iter().map(|(p, _)| (p, "rule")));
        all.filter(|(p, _)| !found.iter().any(|t| p.matches(&t.name)))
            .map(|(p, place)| Unmatched { pattern: p.text().into(), place, near: near_tables(p, found) })
            .collect()
    }

    /// What the rules say about a table.
    pub fn rule(&self, table: &TableName) -> TableRule {
        let mut found = TableRule {
            existing_rows: self.existing_rows,
            on_reject: self.on_reject,
            ..TableRule::default()
        };
        for (_, rule) in self.rules.iter().filter(|(p, _)| p.matches(table)) {
            let rule = rule.clone();
            found.cast.extend(rule.cast().clone());
            found.add.extend(rule.add().clone());
            found.key = rule.key.or(found.key);
            found.into = rule.into.map(|i| i.into_inner()).or(found.into);
            found.only = rule.only.or(found.only);
            found.drop.extend(rule.drop);
            found.rename.extend(rule.rename);
            found.condition = rule.condition.map(toml::Spanned::into_inner).or(found.condition);
            found.existing_rows = rule.existing_rows.or(found.existing_rows);
            found.on_reject = rule.on_reject.map_or(found.on_reject, |k| *k.get_ref());
            found.mismatch = rule.mismatch.map_or(found.mismatch, |k| *k.get_ref());
        }
        found
    }
}

fn near_tables(pattern: &Pattern, found: &[SourceTable]) -> Vec<String> {
    let in_other_case: Vec<String> = found
        .iter()
        .filter(|t| pattern.matches_in_any_case(&t.name))
        .map(|t| t.name.to_string())
        .take(3)
        .collect();
    if !in_other_case.is_empty() {
        return in_other_case;
    }
    let text = pattern.text();
    let bare = text.rsplit('.').next().unwrap_or(text);
    let names = near(text, found.iter().map(|t| t.name.to_string()));
    if !names.is_empty() {
        return names;
    }
    // The right table in a wrong schema.
    let by_name = near(bare, found.iter().map(|t| t.name.name.clone()));
    let full = found.iter().filter(|t| by_name.contains(&t.name.name)).map(|t| t.name.to_string());
    full.take(3).collect()
}

/// Up to three names that are nearly this one, the nearest first.
pub fn near<T: AsRef<str>>(text: &str, names: impl IntoIterator<Item = T>) -> Vec<String> {
    let wanted = text.to_lowercase();
    let mut close: Vec<(f64, String)> = names
        .into_iter()
        .map(|n| (strsim::jaro_winkler(&wanted, &n.as_ref().to_lowercase()), n.as_ref().to_string()))
        .filter(|(likeness, _)| *likeness >= 0.85)
        .collect();
    close.sort_by(|a, b| b.0.total_cmp(&a.0).then_with(|| a.1.cmp(&b.1)));
    close.dedup_by(|a, b| a.1 == b.1);
    let least = close.first().map_or(0.0, |best| best.0 - 0.08);
    close.into_iter().filter(|(likeness, _)| *likeness >= least).take(3).map(|(_, name)| name).collect()
}

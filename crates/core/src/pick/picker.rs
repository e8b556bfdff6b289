//! Picking tables by pattern, and the rules that apply to each.

use crate::model::described::{SourceTable, TableKind};
use crate::model::gathered::{PartOf, Partitions};
use crate::model::name::TableName;
use crate::model::near::near;
use crate::pick::pattern::Pattern;
use crate::pick::posix::PosixPattern;
use crate::pick::rule::TableRule;

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
#[derive(Clone, Debug)]
pub struct Picker {
    pub(crate) include: Vec<Pattern>,
    /// Whether the project file has no `include`.
    pub(crate) is_default: bool,
    pub(crate) exclude: Vec<Pattern>,
    pub(crate) rules: Vec<(Pattern, TableRule)>,
    /// What holds where no rule says otherwise.
    pub(crate) of_pipeline: TableRule,
}

impl Picker {
    /// The same with other patterns in place of `include`, and more in `exclude`.
    #[must_use]
    pub fn with(mut self, include: Vec<Pattern>, exclude: Vec<Pattern>) -> Self {
        if !include.is_empty() {
            (self.include, self.is_default) = (include, false);
        }
        self.exclude.extend(exclude);
        self
    }

    /// What the patterns pick of any table that may come, and what they take out of it, as regular expressions.
    ///
    /// # Errors
    /// The pattern that there are none for.
    pub fn posix(&self) -> Result<(Vec<PosixPattern>, Vec<PosixPattern>), String> {
        let of = |patterns: &[Pattern]| -> Result<Vec<PosixPattern>, String> {
            patterns.iter().map(|p| p.posix().ok_or_else(|| p.text().to_string())).collect()
        };
        Ok((of(&self.include)?, of(&self.exclude)?))
    }

    /// Whether a table is picked, given what the source says of it, and by what.
    pub fn choice(&self, table: &SourceTable) -> Choice {
        let name = &table.name;
        if let (Some(excluded), Some(_)) = (self.excluding(name), self.part_of(table)) {
            return Choice::Excluded(excluded.text().into());
        }
        if let Some(PartOf { root, .. }) = self.part_of(table) {
            let by = self.include.iter().find(|p| p.matches(root)).filter(|_| !self.is_default);
            return Choice::Picked(by.map(|by| by.text().into()));
        }
        if let Some(excluded) = self.excluding(name) {
            return Choice::Excluded(excluded.text().into());
        }
        let by_name = self.include.iter().find(|p| p.is_name() && p.matches(name));
        let Some(by) = by_name.or_else(|| self.include.iter().find(|p| p.matches(name))) else {
            return Choice::NotMeant;
        };
        let stands_for_others = table.kind == TableKind::Partitioned && self.takes_together(name);
        match (by_name, table.not_by_pattern().filter(|_| !stands_for_others)) {
            (None, Some(why)) => Choice::NotByPattern(why),
            _ => Choice::Picked((!self.is_default).then(|| by.text().into())),
        }
    }

    fn excluding(&self, name: &TableName) -> Option<&Pattern> {
        self.exclude.iter().find(|p| p.matches(name))
    }

    /// Whether the partitions of a table are one table in the target, as far as the file says.
    pub fn takes_together(&self, root: &TableName) -> bool {
        self.rule(root).partitions.unwrap_or_default() == Partitions::Together
    }

    /// The partitioned table whose rows a table's rows stand among in the target: where that is picked, and nothing says that
    /// its partitions are tables of their own.
    pub fn part_of<'a>(&self, table: &'a SourceTable) -> Option<&'a PartOf> {
        let part_of = table.part_of.as_ref().filter(|part| !part.apart && table.written_by.is_none())?;
        let root = &part_of.root;
        let is_picked = self.include.iter().any(|p| p.matches(root)) && self.excluding(root).is_none();
        (is_picked && self.takes_together(root)).then_some(part_of)
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

    /// What the rules say about a table, later ones having won.
    pub fn rule(&self, table: &TableName) -> TableRule {
        self.rule_within(table, None)
    }

    /// The same of a table that is a partition of another one, of which rules may speak as well.
    pub fn rule_within(&self, table: &TableName, root: Option<&TableName>) -> TableRule {
        let mut found = self.of_pipeline.clone();
        let means = |p: &Pattern| p.matches(table) || root.is_some_and(|root| p.matches(root));
        self.rules.iter().filter(|(p, _)| means(p)).for_each(|(_, rule)| found.overlay(rule));
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

//! From the patterns and rules of a pipeline to what picks and maps tables.

use super::also::{AlsoConfig, check_operations};
use super::config::{CommitTimes, PipelineConfig};
use super::error::Mistake;
use super::rule::RuleConfig;
use super::units::parse_duration;
use crate::model::kept_as::Operation;
use crate::pick::naming::Naming;
use crate::pick::pattern::Pattern;
use crate::pick::picker::Picker;
use crate::pick::rule::TableRule;
use std::ops::Range;

/// Checks that all patterns and naming rules of a pipeline can be understood.
pub(super) fn check(config: &PipelineConfig) -> Result<(), Mistake> {
    let bad = |span: Range<usize>, pattern: &str| {
        let expected = "a pattern on schema.table, such as \"public.*\"; names with dots go in double quotes";
        Mistake::at(span, format!("`{pattern}` is not a pattern"), expected)
    };
    check_operations(config.operations.as_ref())?;
    check_words(config)?;
    let columns =
        config.column_names.iter().chain(config.rule.iter().filter_map(|r| r.column_names.as_ref()));
    for names in columns {
        if let Err(what) = Naming::of_columns(names.get_ref()) {
            return Err(Mistake::at(names.span(), what, "a name such as \"{column:lower}\""));
        }
    }
    config.also.iter().flatten().try_for_each(AlsoConfig::check)?;
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
    let of_rules = config.rule.iter().flat_map(|r| r.into.iter().chain(&r.view));
    let also = config.also.iter().chain(config.rule.iter().filter_map(|r| r.also.as_ref())).flatten();
    let naming = [&config.into]
        .into_iter()
        .chain(&config.view)
        .chain(of_rules)
        .chain(also.flat_map(AlsoConfig::names));
    for into in naming {
        if let Err(what) = Naming::parse(into.get_ref()) {
            return Err(Mistake::at(into.span(), what, "a name such as \"{schema}_{table:lower}\""));
        }
    }
    let tidied = config.tidy_after.iter().chain(config.rule.iter().filter_map(|r| r.tidy_after.as_ref()));
    for after in tidied {
        if parse_duration(after.get_ref()).is_none() {
            let what = format!("`{}` is not a duration", after.get_ref());
            return Err(Mistake::at(after.span(), what, "a number with ms, s, m, h or d, such as \"90d\""));
        }
    }
    for names in config.rule.iter().filter_map(|r| r.from_name.as_ref()) {
        if let Err(what) = Naming::of_origin(names.get_ref(), "source") {
            return Err(Mistake::at(names.span(), what, "a text such as \"{source}.{schema}.{table}\""));
        }
    }
    if let Some(column) = config.rule.iter().find(|r| r.from_column.as_ref().is_some_and(String::is_empty)) {
        let what = "`from_column` is empty".to_string();
        return Err(Mistake::at(column.pattern.span(), what, "the name of a column"));
    }
    Ok(())
}

/// Checks that operations can be told apart by their words.
fn check_words(config: &PipelineConfig) -> Result<(), Mistake> {
    let words = config.operation_words.get_ref();
    let word = |operation: Operation| words.get(&operation).map_or(operation.word(), String::as_str);
    let mut all = Operation::ALL.map(word).to_vec();
    all.sort_unstable();
    let same = all.windows(2).find(|pair| pair[0] == pair[1]).map(|pair| pair[0]);
    match same.or_else(|| all.iter().copied().find(|word| word.is_empty())) {
        Some(word) => {
            let what = format!("`operation_words` has {word:?} for nothing, or for two operations");
            Err(Mistake::at(config.operation_words.span(), what, "another word for each operation"))
        }
        None => Ok(()),
    }
}

impl PipelineConfig {
    /// What picks its tables, from patterns that were checked when the project file was read.
    pub fn picker(&self) -> Picker {
        let all = |patterns: &[String]| patterns.iter().filter_map(|p| Pattern::parse(p)).collect();
        let rule = |r: &RuleConfig| Some((Pattern::parse(r.pattern.get_ref())?, r.table_rule()));
        let of_pipeline = TableRule {
            keep: Some(self.keep),
            old_values: Some(self.old_values),
            operations: self.operations.as_ref().map(|o| o.get_ref().clone()),
            deletes: self.deletes,
            also: self.also.as_ref().map(|also| also.iter().map(AlsoConfig::kept).collect()),
            column_names: self.column_names.as_ref().map(|n| n.get_ref().clone()),
            added_columns: self.added_columns.clone(),
            operation_words: self.operation_words.get_ref().clone(),
            milliseconds: self.commit_times == CommitTimes::Milliseconds,
            view: self.view.as_ref().map(|v| v.get_ref().clone()),
            shape: self.shape,
            generated: self.generated,
            partitions: self.partitions,
            tidy_after: self.tidy_after.as_ref().and_then(|after| parse_duration(after.get_ref())),
            existing_rows: self.existing_rows,
            on_reject: self.on_reject.as_ref().map(|k| *k.get_ref()),
            drift: self.drift.policies(),
            ..TableRule::default()
        };
        Picker {
            include: all(self.include.get_ref()),
            is_default: self.include.span().is_empty(),
            exclude: all(self.exclude.get_ref()),
            rules: self.rule.iter().filter_map(rule).collect(),
            of_pipeline,
        }
    }
}

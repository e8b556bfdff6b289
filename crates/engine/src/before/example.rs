//! The rule that names target tables, found from one example.

use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::Result;
use chrono::Utc;
use moorage_core::model::described::SourceTable;
use moorage_core::pick::naming::Naming;
use serde::Serialize;

/// What a naming rule makes of one picked table.
#[derive(Clone, Debug, Serialize)]
pub struct Explained {
    /// In the source.
    pub table: String,
    /// As the rule names it.
    pub target: String,
    /// Whether the target has a table of that name.
    pub exists: bool,
    /// Why the rule does not explain it, if it does not.
    pub left: Option<String>,
}

/// A naming rule found from an example.
#[derive(Clone, Debug, Serialize)]
pub struct FoundRule {
    /// The rule, as `into` takes it.
    pub into: String,
    /// When it was tried on the picked tables.
    pub tried_at: chrono::DateTime<Utc>,
    /// What it makes of each.
    pub tables: Vec<Explained>,
    /// Target tables that no picked table would be named.
    pub unexplained_targets: Vec<String>,
}

/// Finds the rule under which `table` is named `target`, and tries it on all picked tables.
///
/// # Errors
/// If an end cannot be reached. `None` if no rule fits.
pub async fn rule_from_example(
    pipeline: &Pipeline,
    table: &str,
    target: &str,
) -> Result<std::result::Result<FoundRule, String>> {
    let found = pipeline.source.discover().await?;
    let Some(example) = found.iter().find(|t| t.name.goes_by(table)) else {
        let near = moorage_core::model::near::near(table, found.iter().map(|t| t.name.to_string()));
        let hint =
            if near.is_empty() { String::new() } else { format!("; did you mean {}?", near.join(", ")) };
        return Ok(Err(format!("the source has no table {table}{hint}")));
    };
    let there = pipeline.target.list().await?;
    let picker = pipeline.config.picker();
    let picked: Vec<&SourceTable> =
        found.iter().filter(|t| picker.takes(t) || t.name == example.name).collect();
    let fold = |name: &str| pipeline.target.dialect().fold(name);
    let exists = |name: &str| there.iter().any(|t| fold(t) == fold(name));
    let fits = |rule: &Naming| picked.iter().filter(|t| exists(&rule.name(&t.name))).count();
    // The simplest of those that explain most of what is there.
    let best = Naming::from_example(&example.name, target).into_iter().rev().max_by_key(fits);
    let Some(rule) = best else {
        return Ok(Err(format!(
            "no rule makes {target:?} of {}: the target's name has to contain the table's",
            example.name
        )));
    };
    let names: Vec<String> = picked.iter().map(|t| rule.name(&t.name)).collect();
    let some_there = names.iter().filter(|n| exists(n)).count() > 0;
    let explained = picked.iter().zip(&names).map(|(t, name)| {
        let shared = names.iter().filter(|n| fold(n) == fold(name)).count() > 1;
        let left = match pipeline.target.dialect().reserved(name) {
            Some(why) => Some(why),
            None if shared => Some("another table would have the same name".into()),
            None if some_there && !exists(name) => Some("the target has no table of that name".into()),
            None => None,
        };
        Explained { table: t.name.to_string(), target: name.clone(), exists: exists(name), left }
    });
    let unexplained = there.iter().filter(|t| !names.iter().any(|n| fold(n) == fold(t))).cloned();
    Ok(Ok(FoundRule {
        into: rule.to_string(),
        tried_at: Utc::now(),
        tables: explained.collect(),
        unexplained_targets: unexplained.collect(),
    }))
}

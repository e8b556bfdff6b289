//! `plan --example`: the naming rule behind one example.

use crate::args::{Global, PlanArgs};
use crate::exit::Finished;
use crate::failure::Failure;
use crate::{edit, load, render};
use moorage_core::project::text::quoted;
use moorage_engine::{FoundRule, Pipeline};

pub(super) async fn from_example(
    global: &Global,
    args: &PlanArgs,
    example: &str,
) -> Result<Finished, Failure> {
    let wrong = || {
        Failure::usage(format!(
            "--example {example}: give a table and its target, as in main.vessels=quay_vessels"
        ))
    };
    let (table, target) = example.split_once('=').ok_or_else(wrong)?;
    let (table, target) = (table.trim(), target.trim());
    if table.is_empty() || target.is_empty() {
        return Err(wrong());
    }
    let pipeline = load::only(global, &args.pipelines.pipelines)?;
    let rule = moorage_engine::rule_from_example(&pipeline, table, target).await?.map_err(Failure::usage)?;
    if render::wants_json(global) {
        render::json(&rule)?;
    } else {
        show_rule(global, &pipeline, &rule);
    }
    if args.write {
        edit::set_into(&global.file, &pipeline.name, &rule.into)?;
        render::note(format!("{}: pipeline {} has the rule now", global.file.display(), pipeline.name));
    }
    let left = rule.tables.iter().any(|t| t.left.is_some());
    Ok(if left { Finished::Found } else { Finished::Clean })
}

fn show_rule(global: &Global, pipeline: &Pipeline, rule: &FoundRule) {
    render::out(format!("{}: pipeline {}\n", global.file.display(), pipeline.name));
    render::out(format!("into = {}\n", quoted(&rule.into)));
    let mut tables = render::table(global, &["table", "target", "there", "left, because"]);
    for t in &rule.tables {
        tables.add_row([
            t.table.as_str(),
            t.target.as_str(),
            if t.exists { "yes" } else { "" },
            t.left.as_deref().unwrap_or_default(),
        ]);
    }
    render::out(tables.trim_fmt());
    let left = rule.tables.iter().filter(|t| t.left.is_some()).count();
    render::out(format!("\nthe rule explains {} of {} tables", rule.tables.len() - left, rule.tables.len()));
    if !rule.unexplained_targets.is_empty() {
        render::out(format!(
            "target tables that it names nothing of: {}",
            rule.unexplained_targets.join(", ")
        ));
    }
}

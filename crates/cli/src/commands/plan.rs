//! `plan`: what a run will make, and what it refuses.

use crate::args::{Global, PlanArgs};
use crate::exit::{Failure, Finished};
use crate::{load, render};
use moorage_core::plan::{Plan, TablePlan};
use moorage_core::schema::RowIdentity;
use moorage_engine::Pipeline;
use serde::Serialize;

#[derive(Serialize)]
struct Planned<'a> {
    pipeline: &'a str,
    tables: Vec<PlannedTable<'a>>,
    refused: &'a [moorage_core::plan::Refused],
}

#[derive(Serialize)]
struct PlannedTable<'a> {
    table: String,
    target: &'a str,
    existing: Option<String>,
    identity: &'a RowIdentity,
    columns: Vec<PlannedColumn<'a>>,
    left_out: &'a [(String, String)],
    definition: String,
}

#[derive(Serialize)]
struct PlannedColumn<'a> {
    source: &'a str,
    source_type: &'a str,
    target: &'a str,
    target_type: &'a str,
    note: Option<&'a str>,
}

pub async fn plan(global: &Global, args: &PlanArgs) -> Result<Finished, Failure> {
    let mut found = false;
    for pipeline in load::pipelines(global, &args.pipelines.pipelines)? {
        let tables = pipeline.source.discover().await?;
        let plan = moorage_core::plan::plan(&pipeline.config, &tables, pipeline.target.dialect());
        let mut problems = Vec::new();
        for table in &plan.tables {
            problems.push(existing(&pipeline, table).await?);
        }
        found |= !plan.refused.is_empty() || problems.iter().flatten().any(|p| p.1);
        if render::wants_json(global) {
            render::json(&as_json(&pipeline, &plan, &problems))?;
        } else if args.ddl {
            for table in &plan.tables {
                render::out(format!("{}\n", pipeline.target.definition(table)));
            }
        } else {
            show(global, &pipeline, &plan, &problems);
        }
    }
    Ok(if found { Finished::Found } else { Finished::Clean })
}

/// What is in the way of a table, or there already; and whether a run would refuse.
async fn existing(pipeline: &Pipeline, table: &TablePlan) -> Result<Option<(String, bool)>, Failure> {
    if let Err(error) = pipeline.target.check(&pipeline.name, table).await {
        return Ok(Some((error.to_string(), true)));
    }
    let there = pipeline.target.describe(&table.target).await?;
    Ok(there.map(|t| (format!("there already, {} rows", render::number(t.rows)), false)))
}

fn as_json<'a>(pipeline: &'a Pipeline, plan: &'a Plan, problems: &[Option<(String, bool)>]) -> Planned<'a> {
    let column = |t: &'a TablePlan, i: usize| PlannedColumn {
        source: &t.schema.columns[i].name,
        source_type: &t.schema.columns[i].source_type,
        target: &t.columns[i].name,
        target_type: &t.columns[i].declared.sql,
        note: t.columns[i].declared.note.as_deref(),
    };
    let tables = plan.tables.iter().zip(problems).map(|(t, problem)| PlannedTable {
        table: t.table().to_string(),
        target: &t.target,
        existing: problem.as_ref().map(|p| p.0.clone()),
        identity: &t.schema.identity,
        columns: (0..t.columns.len()).map(|i| column(t, i)).collect(),
        left_out: &t.left_out,
        definition: pipeline.target.definition(t),
    });
    Planned { pipeline: &pipeline.name, tables: tables.collect(), refused: &plan.refused }
}

fn identity(table: &TablePlan) -> String {
    let names = table.schema.key_names().join(", ");
    match table.schema.identity {
        RowIdentity::Key(_) => format!("key ({names})"),
        RowIdentity::DeclaredKey(_) => format!("key ({names}), declared in the project file"),
        RowIdentity::WholeRow => "no key: rows are matched by all columns".into(),
    }
}

fn show(global: &Global, pipeline: &Pipeline, plan: &Plan, problems: &[Option<(String, bool)>]) {
    render::out(format!("{}: pipeline {}", global.file.display(), pipeline.name));
    for (table, problem) in plan.tables.iter().zip(problems) {
        render::out(format!("\n{} → {}, {}", table.table(), table.target, identity(table)));
        if let Some((problem, refused)) = problem {
            render::out(format!("  {}{problem}", if *refused { "problem: " } else { "" }));
        }
        let mut columns =
            render::table(global, &["  column", "source type", "target column", "target type", "note"]);
        for (from, to) in table.schema.columns.iter().zip(&table.columns) {
            let sql = if to.declared.sql.is_empty() { "(any)" } else { &to.declared.sql };
            columns.add_row([
                format!("  {}", from.name),
                from.source_type.clone(),
                to.name.clone(),
                sql.to_string(),
                to.declared.note.clone().unwrap_or_default(),
            ]);
        }
        for (name, why) in &table.left_out {
            columns.add_row([
                format!("  {name}"),
                String::new(),
                "left out".into(),
                String::new(),
                why.clone(),
            ]);
        }
        render::out(columns.trim_fmt());
    }
    for refused in &plan.refused {
        render::out(format!("\n{}: refused: {}", refused.table, refused.why));
    }
    render::out(format!("\n{} tables to carry, {} refused", plan.tables.len(), plan.refused.len()));
}

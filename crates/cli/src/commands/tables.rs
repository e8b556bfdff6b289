//! `tables`: what is in the source, and what is picked.

use crate::args::{Global, TablesArgs};
use crate::exit::Finished;
use crate::failure::Failure;
use crate::{edit, load, render};
use moorage_core::pick::pattern::{Pattern, names_of_list};
use moorage_core::pick::picker::Unmatched;
use moorage_core::pick::survey::{SchemaSurvey, TableSurvey, by_schema, survey};
use serde::Serialize;
use std::io::Read;
use std::path::Path;

#[derive(Serialize)]
struct Listed {
    pipeline: String,
    schemas: Vec<SchemaSurvey>,
    tables: Vec<TableSurvey>,
}

pub async fn tables(global: &Global, args: &TablesArgs) -> Result<Finished, Failure> {
    if let Some(file) = &args.from_list {
        return from_list(global, args, file).await;
    }
    let (include, exclude) = (patterns(&args.include)?, patterns(&args.exclude)?);
    let mut all = Vec::new();
    for pipeline in load::pipelines(global, &args.pipelines.pipelines)? {
        let picker = pipeline.config.picker().with(include.clone(), exclude.clone());
        let found = pipeline.source.discover().await?;
        let listed = Listed {
            pipeline: pipeline.name.clone(),
            schemas: by_schema(&found, &picker),
            tables: survey(&picker, &found),
        };
        if !render::wants_json(global) {
            show(global, args, &listed);
        }
        refuse(&picker.unmatched(&found), global)?;
        all.push(listed);
    }
    if render::wants_json(global) {
        render::json(&all)?;
    }
    Ok(Finished::Clean)
}

fn patterns(texts: &[String]) -> Result<Vec<Pattern>, Failure> {
    let bad = |text: &str| {
        Failure::usage(format!("`{text}` is not a pattern on schema.table, such as \"public.*\""))
    };
    texts.iter().map(|t| Pattern::parse(t).ok_or_else(|| bad(t))).collect()
}

fn refuse(unmatched: &[Unmatched], global: &Global) -> Result<(), Failure> {
    if unmatched.is_empty() {
        return Ok(());
    }
    let all: Vec<String> = unmatched.iter().map(|u| format!("{}: {u}", global.file.display())).collect();
    Err(Failure::usage(all.join("\nerror: ")))
}

fn show(global: &Global, args: &TablesArgs, listed: &Listed) {
    render::out(format!("{}: pipeline {}\n", global.file.display(), listed.pipeline));
    let about = |n: Option<u64>, shown: fn(u64) -> String| n.map_or("?".into(), shown);
    let mut schemas =
        render::table(global, &["schema", ">tables", ">picked", ">rows (about)", ">size (about)"]);
    for s in &listed.schemas {
        schemas.add_row([
            s.schema.as_str().into(),
            render::right(render::number(s.tables)),
            render::right(render::number(s.picked)),
            render::right(render::number(s.row_estimate)),
            render::right(if s.bytes == 0 { "?".into() } else { render::size(s.bytes) }),
        ]);
    }
    render::out(schemas.trim_fmt());
    let head = [
        "picked",
        "table",
        "key",
        "old row in the log",
        ">columns",
        ">rows (about)",
        ">size (about)",
        "note",
    ];
    let mut tables = render::table(global, &head);
    for t in &listed.tables {
        let by = t.picked_by.as_ref().map(|by| format!("by {by}"));
        let notes = [t.refused.clone(), t.why_not.clone(), t.note.clone(), by];
        tables.add_row([
            if t.picked { "yes".into() } else { "".into() },
            t.table.as_str().into(),
            if t.key.is_empty() { "none".into() } else { t.key.join(", ").into() },
            t.replica_identity.as_str().into(),
            render::right(t.columns.len()),
            render::right(about(t.row_estimate, render::number)),
            render::right(about(t.bytes, render::size)),
            notes.into_iter().flatten().collect::<Vec<_>>().join("; ").into(),
        ]);
        if args.columns {
            for c in &t.columns {
                let null = if c.nullable { "" } else { " not null" };
                tables.add_row([
                    String::new(),
                    format!("  {}", c.column),
                    if c.in_key { "key".into() } else { String::new() },
                    format!("{}{null}", c.source_type),
                    String::new(),
                    String::new(),
                    String::new(),
                    c.note.clone().unwrap_or_else(|| c.logical_type.clone()),
                ]);
            }
        }
    }
    render::out("");
    render::out(tables.trim_fmt());
    let picked = listed.tables.iter().filter(|t| t.picked).count();
    render::out(format!("\n{picked} of {} tables are picked", listed.tables.len()));
}

/// A pasted list of names as the project file's include list.
async fn from_list(global: &Global, args: &TablesArgs, file: &Path) -> Result<Finished, Failure> {
    let unreadable = |e: std::io::Error| Failure::usage(format!("{}: {e}", file.display()));
    let text = if file == Path::new("-") {
        let mut text = String::new();
        std::io::stdin().read_to_string(&mut text).map_err(unreadable)?;
        text
    } else {
        std::fs::read_to_string(file).map_err(unreadable)?
    };
    let names = names_of_list(&text);
    if names.is_empty() {
        return Err(Failure::usage(format!("{}: there is no name in it", file.display())));
    }
    let include = patterns(&names)?;
    let pipeline = load::only(global, &args.pipelines.pipelines)?;
    let found = pipeline.source.discover().await?;
    let picker = pipeline.config.picker().with(include, Vec::new());
    let missing: Vec<Unmatched> =
        picker.unmatched(&found).into_iter().filter(|u| u.place == "include").collect();
    refuse(&missing, global)?;
    // As the source spells them, so that nothing depends on how they were pasted.
    let meant = |name: &String| {
        let exact =
            found.iter().filter(|t| Pattern::parse(name).is_some_and(|p| p.is_name() && p.matches(&t.name)));
        let full: Vec<String> = exact.map(|t| t.name.to_string()).collect();
        if full.len() == 1 { full } else { vec![name.clone()] }
    };
    let mut include: Vec<String> = Vec::new();
    for name in names.iter().flat_map(meant) {
        if !include.contains(&name) {
            include.push(name);
        }
    }
    if args.write {
        edit::set_include(&global.file, &pipeline.name, &include)?;
        render::out(format!(
            "{}: `include` of pipeline {} now names {} tables",
            global.file.display(),
            pipeline.name,
            include.len()
        ));
    } else if render::wants_json(global) {
        render::json(&include)?;
    } else {
        render::out(edit::include_line(&include));
    }
    Ok(Finished::Clean)
}

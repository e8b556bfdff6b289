//! `tables`: what is in the source, and what is picked.

use crate::args::{Global, Pipelines};
use crate::exit::{Failure, Finished};
use crate::{load, render};
use moorage_core::pick::Picker;
use moorage_core::plan::{LogIdentity, SourceTable};
use serde::Serialize;

#[derive(Serialize)]
struct Listed {
    table: String,
    picked: bool,
    key: String,
    columns: usize,
    row_estimate: Option<u64>,
    bytes: Option<u64>,
    note: String,
}

fn listed(picker: &Picker, table: &SourceTable) -> Listed {
    let (key, problem) = match &table.identity {
        LogIdentity::Key(key) => (key.join(", "), None),
        LogIdentity::Full { key: Some(key) } => (key.join(", "), None),
        LogIdentity::Full { key: None } => ("whole row".into(), None),
        LogIdentity::None { why, .. } => ("none".into(), Some(why.clone())),
    };
    let written = table.written_by.as_ref().map(|pipeline| {
        format!("written by pipeline {pipeline}: picked only by its full name, not by a pattern")
    });
    let note =
        table.refused.clone().or(problem).or_else(|| table.note.clone()).or(written).unwrap_or_default();
    Listed {
        table: table.name.to_string(),
        picked: picker.takes(table),
        key,
        columns: table.columns.len(),
        row_estimate: table.row_estimate,
        bytes: table.bytes,
        note,
    }
}

pub async fn tables(global: &Global, which: &Pipelines) -> Result<Finished, Failure> {
    for pipeline in load::pipelines(global, &which.pipelines)? {
        let picker = Picker::new(&pipeline.config);
        let all: Vec<Listed> = pipeline.source.discover().await?.iter().map(|t| listed(&picker, t)).collect();
        if render::wants_json(global) {
            render::json(&all)?;
            continue;
        }
        render::out(format!("{}: pipeline {}", global.file.display(), pipeline.name));
        let mut table = render::table(
            global,
            &["picked", "table", "key", ">columns", ">rows (about)", ">size (about)", "note"],
        );
        for t in &all {
            table.add_row([
                if t.picked { "yes".into() } else { "".into() },
                t.table.as_str().into(),
                t.key.as_str().into(),
                render::right(t.columns),
                render::right(t.row_estimate.map_or("?".into(), render::number)),
                render::right(t.bytes.map_or("?".into(), render::size)),
                t.note.as_str().into(),
            ]);
        }
        render::out(table.trim_fmt());
        render::out(format!(
            "{} of {} tables are picked",
            all.iter().filter(|t| t.picked).count(),
            all.len()
        ));
    }
    Ok(Finished::Clean)
}

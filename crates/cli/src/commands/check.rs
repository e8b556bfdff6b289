//! `check`: are both ends ready?

use crate::args::{Global, Pipelines};
use crate::exit::{Failure, Finished};
use crate::{load, render};
use comfy_table::Color;
use moorage_core::finding::{Finding, Severity};
use moorage_engine::Pipeline;
use serde::Serialize;

#[derive(Serialize)]
struct Checked<'a> {
    pipeline: &'a str,
    findings: Vec<Finding>,
}

pub async fn check(global: &Global, which: &Pipelines) -> Result<Finished, Failure> {
    let mut worst = Severity::Ok;
    let mut all = Vec::new();
    let pipelines = load::pipelines(global, &which.pipelines)?;
    for pipeline in &pipelines {
        let findings = findings(pipeline).await;
        worst = findings.iter().map(|f| f.severity).fold(worst, Ord::max);
        if !render::wants_json(global) {
            show(global, pipeline, &findings);
        }
        all.push(Checked { pipeline: &pipeline.name, findings });
    }
    if render::wants_json(global) {
        render::json(&all)?;
    }
    Ok(if worst == Severity::Problem { Finished::Found } else { Finished::Clean })
}

/// An end that cannot be reached is a finding too.
async fn findings(pipeline: &Pipeline) -> Vec<Finding> {
    let mut findings = match pipeline.source.inspect(&pipeline.capture()).await {
        Ok(found) => found,
        Err(e) => vec![Finding::problem(
            "connection",
            e.to_string(),
            "nothing can be read",
            "mend what the message names",
        )],
    };
    if let Ok(tables) = pipeline.source.discover().await {
        let plan = moorage_core::plan::plan(&pipeline.config, &tables, pipeline.target.dialect());
        let found = format!("{} picked tables can be carried", plan.tables.len());
        if plan.tables.is_empty() {
            let why = "a run would have nothing to do";
            findings.push(Finding::problem(
                "tables",
                found,
                why,
                "moorage tables, then change include and exclude",
            ));
        } else {
            findings.push(Finding::ok("tables", found));
        }
        for refused in plan.refused {
            findings.push(Finding::problem(
                refused.table.to_string(),
                refused.why,
                "a run would leave it out",
                "",
            ));
        }
    }
    match pipeline.target.inspect().await {
        Ok(found) => findings.extend(found),
        Err(e) => findings.push(Finding::problem("target", e.to_string(), "nothing can be written", "")),
    }
    findings
}

fn show(global: &Global, pipeline: &Pipeline, findings: &[Finding]) {
    render::out(format!("{}: pipeline {}", global.file.display(), pipeline.name));
    let mut table = render::table(global, &["", "what", "found"]);
    for f in findings {
        let (word, color) = match f.severity {
            Severity::Ok => ("ok", Color::Green),
            Severity::Note => ("note", Color::Yellow),
            Severity::Problem => ("problem", Color::Red),
        };
        let mut text = f.found.clone();
        for (label, more) in [("why", &f.why), ("fix", &f.fix)] {
            if !more.is_empty() {
                text.push_str(&format!("\n{label}: {more}"));
            }
        }
        table.add_row([render::tinted(global, word, color), f.subject.as_str().into(), text.into()]);
    }
    render::out(table.trim_fmt());
    let problems = findings.iter().filter(|f| f.severity == Severity::Problem).count();
    render::out(match problems {
        0 => "ready: `moorage plan` shows what a run will make, `moorage run` does it".to_string(),
        1 => "1 problem to mend first".to_string(),
        n => format!("{n} problems to mend first"),
    });
}

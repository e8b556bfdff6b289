//! `check`: are both ends ready?

use crate::args::{CheckArgs, Global, ScriptOf, ScriptPart};
use crate::exit::Finished;
use crate::failure::Failure;
use crate::{load, render};
use comfy_table::Color;
use moorage_adapter::SetUpPart;
use moorage_core::model::finding::{End, Finding, Severity};
use moorage_engine::{Pipeline, WantedScript};
use serde::Serialize;

#[derive(Serialize)]
struct Checked<'a> {
    pipeline: &'a str,
    ready: bool,
    findings: Vec<Finding>,
}

#[derive(Serialize)]
struct SetUp<'a> {
    pipeline: &'a str,
    end: End,
    script: String,
}

pub async fn check(global: &Global, args: &CheckArgs) -> Result<Finished, Failure> {
    if let Some(end) = args.sql {
        return script(global, args, end).await;
    }
    let pipelines = load::pipelines(global, &args.pipelines.pipelines)?;
    let mut blocked = false;
    let mut all = Vec::new();
    for pipeline in &pipelines {
        let findings = moorage_engine::check(pipeline).await;
        let ready = !moorage_engine::has_blocker(&findings);
        blocked |= !ready;
        if !render::wants_json(global) {
            show(global, pipeline, &findings);
        }
        all.push(Checked { pipeline: &pipeline.name, ready, findings });
    }
    if render::wants_json(global) {
        render::json(&all)?;
    }
    Ok(if blocked { Finished::Found } else { Finished::Clean })
}

/// One script for one server: a text for two would run against the wrong one some day.
async fn script(global: &Global, args: &CheckArgs, end: ScriptOf) -> Result<Finished, Failure> {
    let (pipeline, user) =
        load::for_script(global, &args.pipelines.pipelines, end, args.log_in_as.as_deref())?;
    let end = match end {
        ScriptOf::Source => End::Source,
        ScriptOf::Target => End::Target,
    };
    let role = args.role.as_deref().or(user.as_deref());
    let part = args.part.map(|part| match part {
        ScriptPart::EventTrigger => SetUpPart::EventTrigger,
        ScriptPart::NewTables => SetUpPart::NewTables,
    });
    if part.is_some() && end == End::Target {
        return Err(Failure::usage("--part: the script for a target has no such parts".to_string()));
    }
    let wanted = WantedScript { role, part, undo: args.undo };
    let script = moorage_engine::set_up_script(&pipeline, end, &wanted).await?;
    if render::wants_json(global) {
        render::json(&SetUp { pipeline: &pipeline.name, end, script })?;
    } else {
        render::script(script);
    }
    Ok(Finished::Clean)
}

fn show(global: &Global, pipeline: &Pipeline, findings: &[Finding]) {
    render::out(format!("{}: pipeline {}", global.file.display(), pipeline.name));
    // One width for all groups, so that they stand below each other.
    let width = findings.iter().map(|f| f.check.len()).max().unwrap_or(0);
    for (end, title) in [(End::Project, "project file"), (End::Source, "source"), (End::Target, "target")] {
        let of_end: Vec<&Finding> = findings.iter().filter(|f| f.end == end).collect();
        // All is well with nothing to say is not worth a heading.
        if of_end.is_empty() {
            continue;
        }
        render::out("");
        render::out(render::bold(global, title));
        let mut table = render::table(global, &[]);
        for finding in of_end {
            add(global, &mut table, finding, width);
        }
        render::tighten(&mut table);
        render::out(table.trim_fmt());
    }
    let count = |severity| findings.iter().filter(|f| f.severity == severity).count();
    let warnings = match count(Severity::Warning) {
        0 => String::new(),
        1 => ", 1 warning".into(),
        n => format!(", {n} warnings"),
    };
    render::out(match count(Severity::Blocker) {
        0 => format!("\nready{warnings}: `moorage plan` shows what a run will make, `moorage run` does it"),
        1 => format!("\n1 blocker to mend first{warnings}"),
        n => format!("\n{n} blockers to mend first{warnings}"),
    });
}

/// One row for what was found, and one each for why it matters and what mends it.
fn add(global: &Global, table: &mut render::Grid, finding: &Finding, width: usize) {
    let color = match finding.severity {
        Severity::Ok => Color::Green,
        Severity::Warning => Color::Yellow,
        Severity::Blocker => Color::Red,
    };
    let found = match &finding.table {
        Some(about) => format!("{about}: {}", finding.found),
        None => finding.found.clone(),
    };
    let word = format!("  {:7}", finding.severity.word());
    let check = format!("{:width$}", finding.check);
    table.add_row([render::tinted(global, &word, color), check.into(), "   ".into(), found.into()]);
    let mut more = |label: &str, text: &str| {
        table.add_row(["", "", label, text]);
    };
    if !finding.why.is_empty() {
        more("why", &finding.why);
    }
    let mut label = "fix";
    let statements = finding.fix.statements.iter().map(|s| format!("{s};"));
    for line in statements.chain((!finding.fix.step.is_empty()).then(|| finding.fix.step.clone())) {
        more(std::mem::take(&mut label), &line);
    }
}

//! `history`: past runs, and what happened in them.

use crate::args::{Format, Global, HistoryArgs};
use crate::exit::Finished;
use crate::failure::Failure;
use crate::{load, render};
use moorage_adapter::Event;
use moorage_engine::{PastRun, RunOutcome, WantedRuns};
use moorage_monitor::{RunEvent, Severity};

pub async fn history(global: &Global, args: &HistoryArgs) -> Result<Finished, Failure> {
    let which: Vec<String> = args.pipeline.iter().cloned().collect();
    let pipelines = load::pipelines(global, &which)?;
    if let Some(run) = args.run {
        let Some((past, events)) = moorage_engine::history_of(&pipelines, run).await? else {
            let words = format!("there is no run {run}: `moorage history` lists those that there are");
            return Err(Failure::usage(words));
        };
        one(global, &past, &events)?;
        return Ok(Finished::Clean);
    }
    let wanted = WantedRuns { since: args.since, errors: args.errors, most: args.limit };
    let mut all = Vec::new();
    for pipeline in &pipelines {
        all.extend(moorage_engine::history(pipeline, &wanted).await?);
    }
    all.sort_by_key(|past| std::cmp::Reverse(past.record.run));
    all.truncate(args.limit as usize);
    match global.format {
        Format::Json => render::json(&all)?,
        Format::Csv => csv(&all)?,
        Format::Text => list(global, &all, args),
    }
    Ok(Finished::Clean)
}

fn list(global: &Global, all: &[PastRun], args: &HistoryArgs) {
    if all.is_empty() {
        let which = if args.errors || args.since.is_some() {
            "no such run"
        } else {
            "no run yet; `moorage run` begins"
        };
        return render::out(which);
    }
    let head = [
        "run",
        "pipeline",
        "began",
        ">took",
        "outcome",
        ">rows read",
        ">changes",
        ">merges",
        ">warnings",
        "reason",
    ];
    let mut table = render::table(global, &head);
    for past in all {
        let sums = &past.record.sums;
        table.add_row([
            past.record.run.to_string().into(),
            past.pipeline.as_str().into(),
            render::clock_text(&past.record.started_at).into(),
            render::right(took(past)),
            outcome(global, past),
            render::right(render::number(sums.snapshot_rows)),
            render::right(render::number(sums.operations.total())),
            render::right(render::number(sums.merges)),
            render::right(render::number(sums.warnings + sums.retries)),
            render::cut(&reason(past), 70).into(),
        ]);
    }
    render::out(table.trim_fmt());
}

fn took(past: &PastRun) -> String {
    past.took_ms.map_or("?".into(), render::span)
}

fn outcome(global: &Global, past: &PastRun) -> comfy_table::Cell {
    match past.state {
        RunOutcome::Failed | RunOutcome::Killed => {
            render::tinted(global, past.state.word(), comfy_table::Color::Red)
        }
        _ => past.state.word().into(),
    }
}

fn reason(past: &PastRun) -> String {
    match past.state {
        RunOutcome::Running => past.record.doing.clone().unwrap_or_default(),
        RunOutcome::Killed => "it left no word; the next run goes on from the checkpoint".into(),
        _ => past.record.message.clone().unwrap_or_default(),
    }
}

fn one(global: &Global, past: &PastRun, events: &[RunEvent]) -> Result<(), Failure> {
    if render::wants_json(global) {
        return render::json(&serde_json::json!({ "run": past, "events": events }));
    }
    if global.format == Format::Csv {
        return csv_of_events(events);
    }
    let record = &past.record;
    let head = format!("run {} of {}", record.run, past.pipeline);
    render::out(render::bold(global, &head).and(&format!(
        ": process {} on {}, began {}, {}{}",
        record.pid,
        record.host,
        render::clock_text(&record.started_at),
        past.state.word(),
        past.took_ms.map(|ms| format!(" after {}", render::span(ms))).unwrap_or_default(),
    )));
    let why = reason(past);
    if !why.is_empty() {
        render::out(format!("  {why}"));
    }
    let (sums, of) = (&record.sums, &record.sums.operations);
    render::out(format!(
        "  {} read; {}, {}, {} in {}, {}",
        render::counted(sums.snapshot_rows, "row"),
        render::counted(of.inserts, "insert"),
        render::counted(of.updates, "update"),
        render::counted(of.deletes, "delete"),
        render::counted(sums.transactions, "transaction"),
        render::counted(sums.merges, "merge"),
    ));
    render::out("");
    for event in events {
        let at = render::clock_text(&event.at);
        let words = words(&event.what);
        match event.severity {
            Severity::Info => render::out(format!("{at}  {words}")),
            Severity::Warning => {
                render::out(render::plain(&format!("{at}  ")).then(render::coloured(
                    global,
                    &words,
                    render::RED,
                )));
            }
        }
    }
    Ok(())
}

/// What happened, in words.
pub fn words(event: &Event) -> String {
    match event {
        Event::Prepared { step } => format!("{}: {}", step.what, step.outcome),
        Event::TableLeftOut { table, why } => format!("{table} is left out: {why}"),
        Event::Waiting { what, .. } => format!("waiting for {what}"),
        Event::SnapshotStarted { tables } => format!("reading {} tables", tables.len()),
        Event::FirstRowReadable { table, elapsed_ms } => {
            format!("first row readable in {table} after {}", render::span(*elapsed_ms))
        }
        Event::SnapshotRows { table, rows } => format!("{table}: {} rows", render::number(*rows)),
        Event::SnapshotFinished { table, rows, elapsed_ms } => {
            format!("{table}: {}", read(*rows, *elapsed_ms))
        }
        Event::ReadingAgain { table, first: true } => {
            format!("{table}: reading it, beside the running stream")
        }
        Event::ReadingAgain { table, first: false } => format!("{table}: reading it again"),
        Event::ReadAgain { table, rows, elapsed_ms, .. } => {
            format!("{table}: {}, and in place", read(*rows, *elapsed_ms))
        }
        Event::Streaming { position } => format!("following changes from {position}"),
        Event::Merged { changes, position, .. } => format!("merged {changes} changes up to {position}"),
        Event::Comparing { table, rows } => format!("{table}: {} rows compared", render::number(*rows)),
        Event::Retrying { reason, in_ms } => format!("trying again in {}: {reason}", render::span(*in_ms)),
        Event::Stopping { by } => format!("stopping ({by})"),
        Event::Tidied { target, removed, folded, .. } => render::tidied(target, *removed, *folded),
        Event::StructureChanged { table, what, done } => format!("{table}: {what}; {done}"),
        Event::Warning { message } => format!("warning: {message}"),
    }
}

/// `2,000 rows read in 340 ms (5,882 a second)`
fn read(rows: u64, elapsed_ms: u64) -> String {
    let rate = rows as f64 * 1000.0 / elapsed_ms.max(1) as f64;
    format!(
        "{} read in {} ({} a second)",
        render::counted(rows, "row"),
        render::span(elapsed_ms),
        render::number(rate as u64)
    )
}

fn csv(all: &[PastRun]) -> Result<(), Failure> {
    let mut lines = render::Lines::new(&[
        "run",
        "pipeline",
        "started_at",
        "ended_at",
        "outcome",
        "message",
        "snapshot_rows",
        "inserts",
        "updates",
        "deletes",
        "truncates",
        "bytes",
        "transactions",
        "merges",
        "warnings",
        "retries",
    ]);
    for past in all {
        let (record, sums) = (&past.record, &past.record.sums);
        lines.add(vec![
            record.run.to_string(),
            past.pipeline.clone(),
            record.started_at.clone(),
            record.ended_at.clone().unwrap_or_default(),
            past.state.word().into(),
            reason(past),
            sums.snapshot_rows.to_string(),
            sums.operations.inserts.to_string(),
            sums.operations.updates.to_string(),
            sums.operations.deletes.to_string(),
            sums.operations.truncates.to_string(),
            sums.bytes.to_string(),
            sums.transactions.to_string(),
            sums.merges.to_string(),
            sums.warnings.to_string(),
            sums.retries.to_string(),
        ])?;
    }
    lines.out()
}

fn csv_of_events(events: &[RunEvent]) -> Result<(), Failure> {
    let mut lines = render::Lines::new(&["at", "severity", "what"]);
    for event in events {
        let severity = match event.severity {
            Severity::Info => "info",
            Severity::Warning => "warning",
        };
        lines.add(vec![event.at.clone(), severity.into(), words(&event.what)])?;
    }
    lines.out()
}

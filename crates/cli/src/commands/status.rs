//! `status`: how far each pipeline and table is.

use crate::args::{Global, Pipelines};
use crate::exit::Finished;
use crate::failure::Failure;
use crate::{load, render};
use chrono::Utc;
use moorage_core::checkpoint::stored::Stage;
use moorage_engine::{PipelineStatus, TableStatus};

pub async fn status(global: &Global, which: &Pipelines) -> Result<Finished, Failure> {
    let mut all = Vec::new();
    for pipeline in load::pipelines(global, &which.pipelines)? {
        let status = moorage_engine::status(&pipeline).await?;
        if !render::wants_json(global) {
            let opening = render::opening(global, &pipeline, true).await?;
            // Why the source could not be asked is said once.
            let said = status.source_problem.as_ref().is_some_and(|p| opening.contains(p.as_str()));
            render::out(opening);
            show(global, &status, said);
        }
        all.push(status);
    }
    if render::wants_json(global) {
        render::json(&all)?;
    }
    Ok(Finished::Clean)
}

fn show(global: &Global, status: &PipelineStatus, problem_was_said: bool) {
    render::out(format!("  now     {}", now(status)));
    if let Some(line) = complete(status) {
        render::out(format!("  data    {line}"));
    }
    if let Some(kept) = kept(status).filter(|_| status.stage == Some(Stage::Following)) {
        render::out(format!("  source  {kept}"));
    }
    if let Some(open) = status.waiting.as_ref().and_then(|w| w.oldest_open.as_ref()) {
        render::out(format!("  source  oldest open transaction: {open}"));
    }
    if let Some(problem) = status.source_problem.as_ref().filter(|_| !problem_was_said) {
        render::out(format!("  source  could not be asked what waits: {problem}"));
    }
    if status.tables.is_empty() {
        return;
    }
    let head = [
        "table",
        "target",
        "state",
        ">rows",
        ">inserts",
        ">updates",
        ">deletes",
        ">since last look",
        "last change",
    ];
    let mut table = render::table(global, &head);
    for t in &status.tables {
        let read = t.changes.read;
        table.add_row([
            t.table.as_str().into(),
            t.target.as_str().into(),
            t.state.word().into(),
            render::right(render::number(t.rows)),
            render::right(render::number(read.inserts)),
            render::right(render::number(read.updates)),
            render::right(render::number(read.deletes)),
            render::right(since(t)),
            t.last_change_at.as_deref().map_or("never".into(), render::clock_text).into(),
        ]);
    }
    render::out("");
    render::out(table.trim_fmt());
    for t in &status.tables {
        say_more(t);
    }
}

/// What is not as it should be in a table: changes that are set aside, changes that were adjusted.
fn say_more(table: &TableStatus) {
    let changes = &table.changes;
    if let Some(held) = &table.held {
        let since = held.since.map(|at| format!(" since {}", render::clock(at))).unwrap_or_default();
        let kept = match held.changes {
            1 => "1 change is kept".into(),
            many => format!("{} changes are kept", render::number(many)),
        };
        let ids: Vec<String> = held.waits_for.iter().map(ToString::to_string).collect();
        render::out(format!(
            "{}: held{since}: {}; {kept} ({})\n  `moorage drift show {}` shows it, `moorage drift follow {}` goes on",
            table.table,
            held.detail,
            render::size(held.bytes),
            ids.first().map_or("", String::as_str),
            ids.join(" ")
        ));
    }
    if changes.rejected > 0 {
        let waits = if changes.rejected == 1 {
            "1 change is".into()
        } else {
            format!("{} changes are", render::number(changes.rejected))
        };
        render::out(format!("{}: {waits} set aside; `moorage rejects` shows what and why", table.table));
    }
    if changes.dropped > 0 {
        render::out(format!("{}: {} set aside and given up", table.table, render::number(changes.dropped)));
    }
    let adjusted = &changes.adjusted;
    let parts = [
        (adjusted.updates_of_missing, "updates of missing rows became inserts"),
        (adjusted.inserts_of_present, "inserts of present rows became updates"),
        (adjusted.deletes_of_missing, "deletes of missing rows did nothing"),
    ];
    let parts: Vec<String> = parts
        .iter()
        .filter(|(n, _)| *n > 0)
        .map(|(n, what)| format!("{} {what}", render::number(*n)))
        .collect();
    if !parts.is_empty() {
        render::out(format!("{}: adjusted: {}", table.table, parts.join(", ")));
    }
}

fn now(status: &PipelineStatus) -> String {
    let last = status.last_run.as_ref();
    if let Some(running) = &status.running {
        let doing = last.and_then(|r| r.doing.clone()).unwrap_or_else(|| "running".into());
        let since = last.and_then(|r| r.doing_since.as_deref()).map(render::clock_text).unwrap_or_default();
        return format!("process {} on {}: {doing}, since {since}", running.pid, running.host);
    }
    match (last, status.stage) {
        (None, None) => "never run; `moorage run` begins".into(),
        (None, Some(_)) => "not running".into(),
        (Some(run), _) => {
            let (outcome, why) = match (&run.outcome, &run.message) {
                (Some(outcome), Some(message)) => (outcome.as_str(), message.as_str()),
                (Some(outcome), None) => (outcome.as_str(), ""),
                (None, _) => ("killed", "no word was left; the next run goes on from the checkpoint"),
            };
            let at =
                run.ended_at.as_deref().map(|t| format!(" at {}", render::clock_text(t))).unwrap_or_default();
            format!("not running; the last run ended{at}: {outcome}, {why}")
        }
    }
}

fn complete(status: &PipelineStatus) -> Option<String> {
    match status.stage? {
        Stage::Preparing => {
            return Some("a set-up was begun and not finished; the next run begins again".into());
        }
        Stage::SnapshotOnly => return Some("copied once; nothing is followed".into()),
        Stage::Following => {}
    }
    let behind = status.waiting.as_ref().map_or("what waits is not known".to_string(), |w| match w.changes {
        Some(n) if w.or_more && w.bytes == 0 => format!("{} or more changes wait", render::number(n)),
        Some(n) if w.or_more => {
            format!("{} or more changes wait ({})", render::number(n), render::size(w.bytes))
        }
        Some(1) => "1 change waits".into(),
        Some(n) => format!("{} changes wait", render::number(n)),
        None => format!("{} of log behind the source", render::size(w.bytes)),
    });
    let ago = |t: chrono::DateTime<Utc>| render::span((Utc::now() - t).num_milliseconds().max(0) as u64);
    let loading = status.tables.iter().filter(|t| t.state.is_unread()).count();
    let complete = match status.complete_up_to {
        _ if loading > 0 => format!("{loading} of {} tables are not read yet", status.tables.len()),
        Some(at) => format!("target complete up to source commit {} ({} ago)", render::clock(at), ago(at)),
        None => format!(
            "target complete up to its snapshot, position {}",
            status.position.as_deref().unwrap_or("?")
        ),
    };
    let only = if status.changes_only { "; changes only, no snapshot was taken" } else { "" };
    Some(format!("{complete}; {behind}{only}"))
}

/// What the source keeps for a pipeline: `keeps 1.2 MiB in its change table`.
fn kept(status: &PipelineStatus) -> Option<String> {
    status.waiting.as_ref().filter(|w| !w.retained_in.is_empty()).map(|w| {
        let grown = match w.retained_in {
            "log" => String::new(),
            _ => growth(w.retained_bytes, status.kept_at_last_look.as_ref()),
        };
        let limit = w.limit_bytes.map(|l| format!(" (limit {} each)", render::size(l))).unwrap_or_default();
        format!("keeps {} in {}{grown}{limit}", render::size(w.retained_bytes), w.retained_in)
    })
}

/// `, 1.2 MiB more than at 14:03:22`
fn growth(now: u64, before: Option<&(String, u64)>) -> String {
    match before {
        None => String::new(),
        Some((at, before)) if now >= *before => {
            format!(", {} more than at {}", render::size(now - before), render::clock_text(at))
        }
        Some((at, before)) => {
            format!(", {} less than at {}", render::size(before - now), render::clock_text(at))
        }
    }
}

fn since(table: &TableStatus) -> String {
    match table.since_last_look {
        None => "first look".into(),
        Some(s) if s.total() == 0 => "none".into(),
        Some(s) => format!("+{}", render::number(s.total())),
    }
}

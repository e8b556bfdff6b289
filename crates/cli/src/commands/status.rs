//! `status`: how far each pipeline and table is.

use crate::args::{Global, StatusArgs};
use crate::exit::Finished;
use crate::failure::Failure;
use crate::{load, render};
use chrono::Utc;
use moorage_adapter::Usage;
use moorage_core::checkpoint::stored::Stage;
use moorage_engine::{Counting, PipelineStatus, Problem, ProblemKind, TableStatus};
use moorage_monitor::Standing;
use std::time::Duration;

/// How long the rows of a pipeline's target tables are counted for if nobody asks for more.
const PATIENCE: Duration = Duration::from_millis(500);

pub async fn status(global: &Global, args: &StatusArgs) -> Result<Finished, Failure> {
    let counting = if args.count { Counting::Exactly } else { Counting::Within(PATIENCE) };
    let mut all = Vec::new();
    for pipeline in load::pipelines(global, &args.pipelines.pipelines)? {
        let status = moorage_engine::status(&pipeline, counting).await?;
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
    for problem in &status.problems {
        if problem.kind == ProblemKind::Source && problem_was_said {
            continue;
        }
        let words = in_words(problem, status);
        render::out(render::plain("  wrong   ").then(render::coloured(global, &words, render::RED)));
        render::out(format!("          `{}`", problem.next));
    }
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
    if let Some(lag) = lag(status) {
        render::out(format!("  lag     {lag}"));
    }
    if global.verbose > 0 {
        parts(status).iter().for_each(|line| render::out(format!("  {line}")));
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
        ">lag",
        "last change",
    ];
    let mut table = render::table(global, &head);
    for t in &status.tables {
        let read = t.changes.read;
        table.add_row([
            t.table.as_str().into(),
            std::iter::once(&t.target)
                .chain(&t.also)
                .map(String::as_str)
                .collect::<Vec<_>>()
                .join(", ")
                .into(),
            state(t).into(),
            render::right(t.rows.map_or("-".into(), render::number)),
            render::right(render::number(read.inserts)),
            render::right(render::number(read.updates)),
            render::right(render::number(read.deletes)),
            render::right(since(t)),
            render::right(t.lag_us.map_or("-".into(), render::micros)),
            t.last_change_at.as_deref().map_or("never".into(), render::clock_text).into(),
        ]);
    }
    render::out("");
    render::out(table.trim_fmt());
    let uncounted = status.tables.iter().filter(|t| t.rows.is_none()).count();
    if uncounted > 0 {
        render::out(format!(
            "rows of {uncounted} tables were not counted, as it takes long: `moorage status --count` does"
        ));
    }
    for t in &status.tables {
        say_more(t);
    }
}

/// How far a table is: `reading 43 %`.
fn state(table: &TableStatus) -> String {
    match (table.percent, table.catching_up) {
        (Some(percent), _) => format!("reading {percent} %"),
        (None, true) => "catching up".into(),
        (None, false) => table.state.word().into(),
    }
}

/// A problem with what is known beside it.
fn in_words(problem: &Problem, status: &PipelineStatus) -> String {
    let table = problem.table.as_ref();
    let of = status.tables.iter().find(|t| Some(&t.table) == table);
    let held = of.and_then(|t| t.held.as_ref()).filter(|_| problem.kind == ProblemKind::Held);
    let what = match held {
        Some(held) => {
            let since = held.since.map(|at| format!(" since {}", render::clock(at))).unwrap_or_default();
            let kept = match held.changes {
                1 => "1 change is kept".into(),
                many => format!("{} changes are kept", render::number(many)),
            };
            format!("held{since}: {}; {kept} ({})", held.detail, render::size(held.bytes))
        }
        None => problem.what.clone(),
    };
    table.map_or(what.clone(), |table| format!("{table}: {what}"))
}

/// How far behind: `0.8 s behind; 99 of 100 transactions of the last minute took at most 12 ms`
fn lag(status: &PipelineStatus) -> Option<String> {
    let behind = &status.behind;
    behind.running.as_ref()?;
    let us = behind.behind_us?;
    let skew = behind.clock_skew_us.filter(|skew| skew.abs() >= 1_000_000);
    let skew = skew.map(|skew| {
        let way = if skew > 0 { "ahead of" } else { "behind" };
        format!("; the source's clock is {} {way} this one", render::micros(skew.unsigned_abs()))
    });
    Some(format!("{} behind{}", render::micros(us), skew.unwrap_or_default()))
}

/// What reads, queues and writes.
fn parts(status: &PipelineStatus) -> Vec<String> {
    let Some(said) = status.behind.published.as_ref().filter(|_| status.running.is_some()) else {
        return Vec::new();
    };
    let standing = |part: &Option<Standing>| match part {
        Some(part) => format!("{} since {}", part.doing, render::clock(part.since)),
        None => "no stream is open".into(),
    };
    let (rates, sums) = (&said.rates, &said.sums);
    let asked = |end: &str, usage: Option<Usage>| {
        usage.map(|usage| {
            format!(
                "{end}  asked for {} over {} since the run began: {} came, {} went",
                render::counted(usage.statements, "statement"),
                render::counted(usage.connections, "connection"),
                render::size(usage.received_bytes),
                render::size(usage.sent_bytes)
            )
        })
    };
    let mut lines = vec![
        format!(
            "reader  {}; {:.0} changes a second, {} a second",
            standing(&said.reader),
            rates.read,
            render::size(rates.read_bytes as u64)
        ),
        format!(
            "queue   {}; {} on the way ({}), {} of {} between reader and batch",
            standing(&said.queue),
            render::counted(said.on_the_way.0, "change"),
            render::size(said.on_the_way.1),
            render::size(said.queued_bytes.0),
            render::size(said.queued_bytes.1)
        ),
        format!(
            "writer  {}; {:.0} changes a second in {:.1} merges",
            standing(&said.writer),
            rates.applied,
            rates.merges
        ),
        format!(
            "run     {} read, {}, {} in {} since it began",
            render::counted(sums.snapshot_rows, "row"),
            render::counted(sums.transactions, "transaction"),
            render::counted(sums.operations.total(), "change"),
            render::counted(sums.merges, "merge")
        ),
    ];
    lines.extend(asked("source", said.source_usage));
    lines.extend(asked("target", said.target_usage));
    lines
}

/// What was not as it should be in a table: changes that were given up or adjusted.
fn say_more(table: &TableStatus) {
    let changes = &table.changes;
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

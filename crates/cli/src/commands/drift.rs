//! `drift`: changes of structure that were met, what was done, and deciding about what waits.

use crate::args::{DriftAction, DriftArgs, DriftWhich, Global};
use crate::exit::Finished;
use crate::failure::Failure;
use crate::{load, render};
use moorage_adapter::DependentView;
use moorage_core::drift::record::{DriftState, RecordedColumn};
use moorage_core::model::drift::DriftPolicy;
use moorage_engine::{Decides, Pipeline, SeenDrift};
use std::time::{Duration, Instant};

/// How many are listed without `--all`, beside those that wait.
const LISTED: usize = 20;
/// How long a running pipeline is waited for.
const PATIENCE: Duration = Duration::from_secs(10);

pub async fn drift(global: &Global, args: &DriftArgs) -> Result<Finished, Failure> {
    let pipeline = load::pipeline(global, args.pipeline.as_ref())?;
    match &args.action {
        None => list(global, &pipeline, args).await,
        Some(DriftAction::Show { id }) => show(global, &pipeline, *id).await,
        Some(DriftAction::Follow(which)) => decide(global, &pipeline, which, DriftPolicy::Follow).await,
        Some(DriftAction::Leave(which)) => decide(global, &pipeline, which, DriftPolicy::Leave).await,
        Some(DriftAction::Reread(which)) => decide(global, &pipeline, which, DriftPolicy::Reread).await,
    }
}

async fn list(global: &Global, pipeline: &Pipeline, args: &DriftArgs) -> Result<Finished, Failure> {
    let all = moorage_engine::drift(pipeline, args.table.as_deref()).await?;
    let waits = all.iter().any(SeenDrift::waits);
    let stops = all.iter().find(|seen| seen.stops);
    let finished = if waits || stops.is_some() { Finished::Found } else { Finished::Clean };
    let earlier = all.len().saturating_sub(LISTED);
    let is_shown = |at: usize, seen: &SeenDrift| args.all || seen.waits() || seen.stops || at >= earlier;
    let shown: Vec<&SeenDrift> =
        all.iter().enumerate().filter(|(at, seen)| is_shown(*at, seen)).map(|(_, seen)| seen).collect();
    if render::wants_json(global) {
        render::json(&shown)?;
        return Ok(finished);
    }
    if shown.is_empty() {
        render::out("no table's structure has changed");
        return Ok(finished);
    }
    show_list(global, &shown);
    if shown.len() < all.len() && !global.quiet {
        render::note(format!("\n{} earlier ones: `moorage drift --all`", all.len() - shown.len()));
    }
    if waits && !global.quiet {
        render::note(
            "\n`moorage drift show NUMBER` shows what is held; `follow`, `leave` and `reread` decide",
        );
    }
    if let Some(seen) = stops.filter(|_| !global.quiet) {
        render::note(format!(
            "\nthe pipeline stops before number {}: with another word than \"stop\" for {} in [pipelines.{}.drift] the next run goes on",
            seen.id, seen.kind, pipeline.name
        ));
    }
    Ok(finished)
}

fn show_list(global: &Global, shown: &[&SeenDrift]) {
    let mut table =
        render::table(global, &[">number", "seen", "table", "what", "policy", "state", ">held changes"]);
    for seen in shown {
        let held = if seen.waits() { render::number(seen.held_changes) } else { String::new() };
        table.add_row([
            render::right(seen.id),
            render::clock_text(&seen.seen_at).into(),
            seen.table.as_str().into(),
            render::cut(&seen.detail, 200).into(),
            seen.policy.as_str().into(),
            seen.state.word().into(),
            render::right(held),
        ]);
    }
    render::tighten(&mut table);
    render::out(table.trim_fmt());
}

async fn show(global: &Global, pipeline: &Pipeline, id: u64) -> Result<Finished, Failure> {
    let shown = moorage_engine::drift_of(pipeline, id).await?;
    let seen = &shown.seen;
    let finished = if seen.waits() || seen.stops { Finished::Found } else { Finished::Clean };
    if render::wants_json(global) {
        render::json(&shown)?;
        return Ok(finished);
    }
    render::out(format!("drift {}: {}: {}", seen.id, seen.table, seen.detail));
    render::out(format!("  kind       {}; the policy is {}", seen.kind, seen.policy));
    render::out(format!("  state      {}", seen.state.word()));
    render::out(format!("  target     {}", seen.target));
    if let Some(at) = &seen.committed_at {
        let stopped = seen.state == DriftState::Stopped;
        let when = if stopped { "stopped behind" } else { "took effect with" };
        let (at, position) = (render::clock_text(at), &seen.position);
        render::out(format!("  {when} the transaction of {at} at position {position}"));
    }
    if seen.waits() {
        render::out(format!(
            "  held       {} changes of rows, {}, since {}",
            render::number(seen.held_changes),
            render::size(seen.held_bytes),
            render::clock_text(&seen.seen_at)
        ));
    }
    let mut table = render::table(global, &["column before", "type", "column after", "type"]);
    for (before, after) in aligned(seen) {
        let parts =
            |side: Side<'_>| side.map(|c| (c.column.clone(), c.source_type.clone())).unwrap_or_default();
        let ((was, was_type), (is, is_type)) = (parts(before), parts(after));
        table.add_row([render::cut(&was, 40), was_type, render::cut(&is, 40), is_type]);
    }
    render::tighten(&mut table);
    render::out("");
    render::out(table.trim_fmt());
    if !seen.statements.is_empty() {
        let what = if seen.waits() { "following it does in the target:" } else { "in the target:" };
        render::out(format!("\n{what}"));
        seen.statements.iter().for_each(|statement| render::out(format!("  {statement};")));
    }
    if !shown.views.is_empty() {
        render::out("\nviews that read the table, and may be in the way:");
        for DependentView { view, columns } in &shown.views {
            let read = if columns.is_empty() { String::new() } else { format!(" ({})", columns.join(", ")) };
            render::out(format!("  {view}{read}"));
        }
    }
    Ok(finished)
}

type Side<'a> = Option<&'a RecordedColumn>;

/// The columns of both sides, each beside what became of it.
fn aligned(seen: &SeenDrift) -> Vec<(Side<'_>, Side<'_>)> {
    let is_same = |a: &RecordedColumn, b: &RecordedColumn| match (a.number, b.number) {
        (Some(a), Some(b)) => a == b,
        _ => a.column == b.column,
    };
    let after = |was: &RecordedColumn| seen.after.iter().find(|is| is_same(was, is));
    let mut rows: Vec<(Side<'_>, Side<'_>)> = seen.before.iter().map(|was| (Some(was), after(was))).collect();
    let is_new = |is: &&RecordedColumn| !seen.before.iter().any(|was| is_same(was, is));
    rows.extend(seen.after.iter().filter(is_new).map(|is| (None, Some(is))));
    rows
}

async fn decide(
    global: &Global,
    pipeline: &Pipeline,
    which: &DriftWhich,
    decision: DriftPolicy,
) -> Result<Finished, Failure> {
    let ids = if which.all { None } else { Some(which.ids.as_slice()) };
    let (ids, running) = match moorage_engine::decide(pipeline, ids, decision).await? {
        Decides::NextRun(ids) => (ids, false),
        Decides::Running(ids) => (ids, true),
    };
    let mut outcomes = Vec::new();
    for id in ids {
        let outcome = if running { outcome(pipeline, id).await? } else { None };
        outcomes.push((id, outcome));
    }
    let told = |outcome: &Option<String>| match outcome {
        None if running => "noted; the pipeline has not answered yet".to_string(),
        None => "noted: the next run does it".into(),
        Some(why) if why.is_empty() => "the pipeline goes on with it".into(),
        Some(why) => why.clone(),
    };
    if render::wants_json(global) {
        let all: Vec<_> = outcomes
            .iter()
            .map(|(id, outcome)| serde_json::json!({ "id": id, "decision": decision.word(), "outcome": told(outcome) }))
            .collect();
        render::json(&all)?;
    } else if outcomes.is_empty() {
        render::out("nothing is held");
    } else {
        outcomes.iter().for_each(|(id, outcome)| render::out(format!("drift {id}: {}", told(outcome))));
    }
    let waits = |(_, outcome): &(u64, Option<String>)| outcome.as_ref().is_some_and(|why| !why.is_empty());
    Ok(if outcomes.iter().any(waits) { Finished::Found } else { Finished::Clean })
}

/// Waits for what a running pipeline says.
async fn outcome(pipeline: &Pipeline, id: u64) -> Result<Option<String>, Failure> {
    let began = Instant::now();
    loop {
        let outcome = moorage_engine::decision_outcome(pipeline, id)?;
        if outcome.is_some() || began.elapsed() > PATIENCE {
            return Ok(outcome);
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

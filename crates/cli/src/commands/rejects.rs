//! `rejects`: what the target refused, and what is done about it.

use crate::args::{Global, RejectsAction, RejectsArgs, Which};
use crate::exit::Finished;
use crate::failure::Failure;
use crate::{load, render};
use moorage_adapter::{Reject, Settle};
use moorage_engine::{Pipeline, ShownReject};

pub async fn rejects(global: &Global, args: &RejectsArgs) -> Result<Finished, Failure> {
    let pipeline = load::pipeline(global, args.pipeline.as_ref())?;
    match &args.action {
        None => list(global, &pipeline, args.table.as_deref()).await,
        Some(RejectsAction::Show { id }) => show(global, &pipeline, *id).await,
        Some(RejectsAction::Retry(which)) => settle(global, &pipeline, which, Settle::Retry).await,
        Some(RejectsAction::Drop(which)) => settle(global, &pipeline, which, Settle::Drop).await,
    }
}

async fn list(global: &Global, pipeline: &Pipeline, table: Option<&str>) -> Result<Finished, Failure> {
    let all = moorage_engine::rejects(pipeline, table).await?;
    if render::wants_json(global) {
        render::json(&all)?;
    } else if all.is_empty() {
        render::out("nothing is set aside");
    } else {
        show_list(global, &all);
        if !global.quiet {
            render::note("\n`moorage rejects show NUMBER` shows the values; `retry` and `drop` decide");
        }
    }
    Ok(Finished::Clean)
}

fn show_list(global: &Global, all: &[Reject]) {
    let mut table =
        render::table(global, &[">number", "table", "row", "operation", "committed", "position", "reason"]);
    for reject in all {
        table.add_row([
            render::right(reject.id),
            reject.table.as_str().into(),
            render::cut(&reject.key, 40).into(),
            reject.operation.as_str().into(),
            render::clock_text(&reject.committed_at).into(),
            reject.position.as_str().into(),
            render::cut(&reject.reason, 200).into(),
        ]);
    }
    render::tighten(&mut table);
    render::out(table.trim_fmt());
}

async fn show(global: &Global, pipeline: &Pipeline, id: i64) -> Result<Finished, Failure> {
    let shown = moorage_engine::reject(pipeline, id).await?;
    if render::wants_json(global) {
        render::json(&shown)?;
        return Ok(Finished::Clean);
    }
    let ShownReject { reject, change } = shown;
    let tries = if reject.tries == 1 { "tried once".into() } else { format!("tried {} times", reject.tries) };
    render::out(format!("reject {}: {} of {} ({})", reject.id, reject.operation, reject.table, reject.key));
    render::out(format!("  reason     {}", reject.reason));
    render::out(format!("  target     {}", reject.target));
    render::out(format!(
        "  committed  {} at position {}",
        render::clock_text(&reject.committed_at),
        reject.position
    ));
    render::out(format!("  set aside  {}, {tries}", render::clock_text(&reject.set_aside_at)));
    if let Some(change) = change {
        let mut table = render::table(global, &["column", "before", "after"]);
        for (name, value) in &change.text.key {
            table.add_row([name.as_str(), "", &render::cut(value, 60)]);
        }
        for (name, old, new) in &change.text.columns {
            table.add_row([
                name.as_str(),
                &render::cut(old.as_deref().unwrap_or(""), 60),
                &render::cut(new, 60),
            ]);
        }
        render::tighten(&mut table);
        render::out("");
        render::out(table.trim_fmt());
    }
    Ok(Finished::Clean)
}

async fn settle(
    global: &Global,
    pipeline: &Pipeline,
    which: &Which,
    how: Settle,
) -> Result<Finished, Failure> {
    let ids = if which.all { None } else { Some(which.ids.as_slice()) };
    let settled = moorage_engine::settle(pipeline, ids, how).await?;
    if render::wants_json(global) {
        render::json(&settled)?;
    } else {
        let changes =
            |n: u64| if n == 1 { "1 change".to_string() } else { format!("{} changes", render::number(n)) };
        let mut done = Vec::new();
        if settled.dropped > 0 {
            done.push(format!("{} dropped", changes(settled.dropped)));
        }
        if settled.applied > 0 || how == Settle::Retry {
            done.push(format!("{} applied", changes(settled.applied)));
        }
        if !settled.refused.is_empty() {
            done.push(format!("{} still refused", changes(settled.refused.len() as u64)));
        }
        render::out(done.join(", "));
        if !settled.refused.is_empty() {
            show_list(global, &settled.refused);
        }
    }
    Ok(if settled.refused.is_empty() { Finished::Clean } else { Finished::Found })
}

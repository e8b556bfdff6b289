//! `changes`: follow a table's changes.

use crate::args::{ChangesArgs, Global};
use crate::exit::Finished;
use crate::failure::Failure;
use crate::{load, render};
use moorage_core::change::describe::CapturedChange;
use moorage_core::model::kept_as::Operation;
use std::time::Instant;

pub async fn changes(global: &Global, args: &ChangesArgs) -> Result<Finished, Failure> {
    let pipeline = load::pipeline(global, args.pipeline.as_ref())?;
    let from = moorage_engine::parse_from(&pipeline, &args.from)?;
    let mut feed = moorage_engine::changes(&pipeline, &args.table, &from).await?;
    if !global.quiet {
        let place = match args.from.as_str() {
            "now" => "from now on (--from start shows what the source still keeps)".to_string(),
            "start" => "from the oldest that the source still keeps".into(),
            other => format!("from {other}"),
        };
        render::note(format!("changes of {} {place}, position {}; Ctrl-C ends", feed.table, feed.from));
    }
    let end = args.duration.map(|most| Instant::now() + most);
    let mut left = args.limit.unwrap_or(u64::MAX);
    while left > 0 {
        let timed_out = async {
            match end {
                Some(end) => tokio::time::sleep_until(end.into()).await,
                None => std::future::pending().await,
            }
        };
        let found = tokio::select! {
            found = feed.next() => found?,
            () = timed_out => break,
            _ = tokio::signal::ctrl_c() => break,
        };
        for change in found.iter().take(usize::try_from(left).unwrap_or(usize::MAX)) {
            show(global, change)?;
            left -= 1;
        }
    }
    Ok(Finished::Clean)
}

fn show(global: &Global, change: &CapturedChange) -> Result<(), Failure> {
    if render::wants_json(global) {
        let line = serde_json::to_string(change).map_err(|e| Failure::failed(e.to_string()))?;
        render::out(line);
        return Ok(());
    }
    let at = change.committed_at.with_timezone(&chrono::Local).format("%H:%M:%S%.3f");
    let key: Vec<String> =
        change.text.key.iter().map(|(name, value)| format!("{name}={}", render::cut(value, 32))).collect();
    let columns: Vec<String> = change
        .text
        .columns
        .iter()
        .map(|(name, old, new)| match old {
            Some(old) => format!("{name}: {} → {}", render::cut(old, 40), render::cut(new, 40)),
            None => format!("{name}: {}", render::cut(new, 40)),
        })
        .collect();
    let word = format!("{:<8}", change.operation.word());
    let colour = match change.operation {
        Operation::Insert => render::GREEN,
        Operation::Update => render::CYAN,
        _ => render::RED,
    };
    let rest = format!("  {}  {}", key.join(" "), columns.join(", "));
    render::out(
        render::plain(&format!("{at}  ")).then(render::coloured(global, &word, colour)).and(rest.trim_end()),
    );
    Ok(())
}

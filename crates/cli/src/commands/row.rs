//! `row`: one row on both sides.

use crate::args::{Global, RowArgs};
use crate::exit::Finished;
use crate::failure::Failure;
use crate::{load, render};
use chrono::{DateTime, Utc};
use comfy_table::Color;
use moorage_engine::{RowSteps, RowView, RowWatch};
use std::time::{Duration, Instant};

/// How often both sides are looked at while waiting.
const LOOK_EVERY: Duration = Duration::from_millis(50);

pub async fn row(global: &Global, args: &RowArgs) -> Result<Finished, Failure> {
    let pipeline = load::pipeline(global, args.pipeline.as_ref())?;
    if !args.wait {
        let view = moorage_engine::row(&pipeline, &args.table, &args.key).await?;
        show(global, &view, None)?;
        return Ok(ended(&view));
    }
    let mut watch = RowWatch::new(&pipeline, &args.table, &args.key);
    let mut view = watch.look().await?;
    let first = (!view.agrees).then(|| view.clone());
    if let Some(first) = first.as_ref().filter(|_| !render::wants_json(global)) {
        show(global, first, None)?;
        if moorage_engine::running(&pipeline).is_none() {
            render::note(
                "the pipeline is not running: nothing arrives until `moorage run` does. Waiting (Ctrl-C ends)",
            );
        }
    }
    let began = Instant::now();
    let mut said = RowSteps::default();
    while !view.agrees && args.duration.is_none_or(|most| began.elapsed() < most) {
        tell(global, &mut said, &watch.steps);
        tokio::time::sleep(LOOK_EVERY).await;
        view = watch.look().await?;
    }
    tell(global, &mut said, &watch.steps);
    show(global, &view, Some(&watch.steps))?;
    Ok(ended(&view))
}

fn ended(view: &RowView) -> Finished {
    if view.agrees { Finished::Clean } else { Finished::Found }
}

/// Says the steps that are new.
fn tell(global: &Global, said: &mut RowSteps, steps: &RowSteps) {
    if said == steps || global.quiet || render::wants_json(global) {
        return;
    }
    if said.seen_in_source.is_some() && said.seen_in_source != steps.seen_in_source {
        render::note("the row changed in the source again");
        *said = RowSteps::default();
    }
    let mut before = steps.committed.or(steps.seen_in_source);
    for (word, at, was) in [
        ("seen in the source", steps.seen_in_source, said.seen_in_source),
        ("committed", steps.committed, said.committed),
        ("captured", steps.captured, said.captured),
        ("merged", steps.merged, said.merged),
        ("readable", steps.readable, said.readable),
    ] {
        if let (Some(at), None) = (at, was) {
            render::note(format!("{word:<20}{}{}", precise(at), since(before, at)));
        }
        if word != "seen in the source" {
            before = at.or(before);
        }
    }
    said.clone_from(steps);
}

fn precise(at: DateTime<Utc>) -> String {
    at.with_timezone(&chrono::Local).format("%H:%M:%S%.3f").to_string()
}

fn since(before: Option<DateTime<Utc>>, at: DateTime<Utc>) -> String {
    match before.map(|before| (at - before).num_milliseconds()) {
        Some(ms) if ms > 0 => format!("  +{}", render::span(ms as u64)),
        _ => String::new(),
    }
}

fn show(global: &Global, view: &RowView, steps: Option<&RowSteps>) -> Result<(), Failure> {
    if render::wants_json(global) {
        return match steps {
            Some(steps) => render::json(&serde_json::json!({ "row": view, "steps": steps })),
            None => render::json(view),
        };
    }
    let key: Vec<String> = view.key.iter().map(|(name, value)| format!("{name} = {value}")).collect();
    render::out(format!("{} → {}, row with {}", view.table, view.target, key.join(", ")));
    if view.in_source || view.in_target {
        let mut table = render::table(global, &["", "column", "source", "target"]);
        for column in &view.columns {
            let text = |there: bool, value: &Option<String>| match (there, value) {
                (false, _) => String::new(),
                (true, None) => "null".into(),
                (true, Some(value)) => render::cut(value, 60),
            };
            let name = match column.column == column.target_column {
                true => column.column.clone(),
                false => format!("{} → {}", column.column, column.target_column),
            };
            let differs = view.in_source && view.in_target && !column.same;
            let is_in = |side| column.only_in.is_none_or(|only| only == side);
            let source = text(view.in_source && is_in("source"), &column.source);
            let target = text(view.in_target && is_in("target"), &column.target);
            if differs {
                let red = |text: &str| render::tinted(global, text, Color::Red);
                table.add_row([red("≠"), red(&name), red(&source), red(&target)]);
            } else {
                table.add_row(["", &name, &source, &target]);
            }
        }
        render::out(table.trim_fmt());
    }
    if let Some(structure) = &view.structure {
        render::out(format!("the table's structure has changed: {structure}"));
    }
    let at = view
        .complete_up_to
        .map(|at| format!(" (target complete up to source commit {})", render::clock(at)))
        .unwrap_or_default();
    render::out(match (view.in_source, view.in_target, view.agrees) {
        (false, false, _) if view.filtered => {
            format!(
                "both sides agree: the filter of the project file (`where`) keeps the source's row away{at}"
            )
        }
        (false, false, _) => format!("neither side has such a row{at}"),
        (true, true, true) => format!("both sides agree{at}"),
        (true, false, _) => format!("the target does not have the row{at}"),
        (false, true, _) => format!("only the target has the row{at}"),
        (true, true, false) if view.structure.is_some() => format!("the two sides cannot agree yet{at}"),
        (true, true, false) => format!("the two sides differ{at}"),
    });
    Ok(())
}

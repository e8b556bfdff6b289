//! `verify`: compare both sides.

use crate::args::{Global, VerifyArgs};
use crate::exit::Finished;
use crate::failure::Failure;
use crate::{load, render};
use comfy_table::Color;
use indicatif::ProgressBar;
use moorage_adapter::{Event, Events};
use moorage_core::compare::difference::{Difference, DifferenceKind};
use moorage_engine::{TableVerdict, Verdict, VerifyOptions};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

pub async fn verify(global: &Global, args: &VerifyArgs) -> Result<Finished, Failure> {
    let options =
        VerifyOptions { tables: args.table.clone(), counts_only: args.counts_only, show: args.show };
    let mut all = Vec::new();
    for pipeline in load::pipelines(global, &args.pipelines.pipelines)? {
        let bar = render::bar(global, "{spinner} {msg}", None);
        let verdict = moorage_engine::verify(&pipeline, &options, &told(&bar)).await;
        bar.finish_and_clear();
        let verdict = verdict?;
        if !render::wants_json(global) {
            show(global, &verdict);
        }
        all.push(verdict);
    }
    if render::wants_json(global) {
        render::json(&all)?;
    }
    Ok(if all.iter().all(|v| v.agrees) { Finished::Clean } else { Finished::Found })
}

/// Which table is being compared, and how fast.
fn told(bar: &ProgressBar) -> Events {
    let (bar, began) = (bar.clone(), Mutex::new((String::new(), Instant::now())));
    Arc::new(move |event| {
        let Event::Comparing { table, rows } = event else { return };
        let mut at = began.lock().unwrap_or_else(PoisonError::into_inner);
        if at.0 != table {
            *at = (table.clone(), Instant::now());
        }
        let rate = rows as f64 / at.1.elapsed().as_secs_f64().max(0.001);
        bar.set_message(format!(
            "comparing {table}: {} rows, {} rows/s",
            render::number(rows),
            render::number(rate as u64)
        ));
        bar.tick();
    })
}

/// Shows what was found in a pipeline.
pub fn show(global: &Global, verdict: &Verdict) {
    let at = match (verdict.complete_up_to, &verdict.position) {
        (Some(at), _) => format!(", target complete up to source commit {}", render::clock(at)),
        (None, Some(position)) => format!(", target at position {position}"),
        (None, None) => ", copied once: changes in the source since then count as differences".into(),
    };
    render::out(format!("{}: pipeline {}{at}", global.file.display(), verdict.pipeline));
    let head = if verdict.counts_only {
        vec![
            "",
            "table",
            ">source rows",
            ">target rows",
            ">missing",
            ">extra",
            ">on their way",
            ">kept",
            ">time",
        ]
    } else {
        vec![
            "",
            "table",
            ">source rows",
            ">target rows",
            ">missing",
            ">extra",
            ">different",
            ">on their way",
            ">kept",
            ">time",
            ">rows/s",
        ]
    };
    let mut table = render::table(global, &head);
    for t in &verdict.tables {
        let word = match (t.agrees, &t.not_compared) {
            (true, _) => render::tinted(global, "agrees", Color::Green),
            (false, None) => render::tinted(global, "DIFFERS", Color::Red),
            (false, Some(_)) => render::tinted(global, "skipped", Color::Yellow),
        };
        let c = &t.counts;
        let number = |n: u64| render::right(render::number(n));
        let mut row = vec![word, named(verdict, t).into(), number(c.source_rows), number(c.target_rows)];
        row.extend([number(c.missing), number(c.extra)]);
        if !verdict.counts_only {
            row.push(number(c.different));
        }
        row.extend([number(c.in_flight), number(c.kept), render::right(render::span(t.elapsed_ms))]);
        if !verdict.counts_only {
            row.push(number(t.rows_per_second));
        }
        table.add_row(row);
    }
    render::out(table.trim_fmt());
    for t in &verdict.tables {
        show_differences(global, &named(verdict, t), t);
    }
    for table in &verdict.gone {
        render::out(format!(
            "{table} is not followed any more, so there is nothing to compare it with; `moorage teardown --table {table}` lets go of it"
        ));
    }
    render::out(conclusion(verdict));
}

/// A table, with which target table where it goes to several.
fn named(verdict: &Verdict, table: &TableVerdict) -> String {
    match verdict.tables.iter().filter(|other| other.table == table.table).count() {
        0 | 1 => table.table.clone(),
        _ => format!("{} → {}", table.table, table.target),
    }
}

fn show_differences(global: &Global, name: &str, verdict: &TableVerdict) {
    if let Some(why) = &verdict.not_compared {
        render::out(format!("\n{name} was not compared: {why}"));
    }
    if verdict.differences.is_empty() {
        return;
    }
    render::out(format!("\n{name}"));
    let mut table = render::table(global, &["  row", "", "column", "source", "target"]);
    for difference in &verdict.differences {
        let what = match difference.kind {
            DifferenceKind::Missing => "missing in the target",
            DifferenceKind::Extra => "only in the target",
            DifferenceKind::Different => "different",
        };
        let times = if difference.rows > 1 { format!(" ({} times)", difference.rows) } else { String::new() };
        let mut head = (format!("  {}", key(difference)), format!("{what}{times}"));
        if difference.columns.is_empty() {
            table.add_row([head.0.as_str(), head.1.as_str(), "", "", ""]);
        }
        for column in &difference.columns {
            let cut = |value: &Option<String>| render::cut(value.as_deref().unwrap_or("null"), 48);
            table.add_row([&head.0, &head.1, &column.column, &cut(&column.source), &cut(&column.target)]);
            head = (String::new(), String::new());
        }
    }
    render::out(table.trim_fmt());
    let counts = &verdict.counts;
    let more = (counts.missing + counts.extra + counts.different)
        .saturating_sub(verdict.differences.iter().map(|d| d.rows).sum());
    if more > 0 {
        render::out(format!("  and {} more; --show shows more of them", render::number(more)));
    }
}

fn key(difference: &Difference) -> String {
    let value = |(name, value): &(String, Option<String>)| {
        format!("{name} = {}", render::cut(value.as_deref().unwrap_or("null"), 32))
    };
    difference.key.iter().map(value).collect::<Vec<_>>().join(", ")
}

fn conclusion(verdict: &Verdict) -> String {
    let mut differ: Vec<&str> = verdict
        .tables
        .iter()
        .filter(|t| !t.agrees && t.not_compared.is_none())
        .map(|t| t.table.as_str())
        .collect();
    differ.dedup();
    let skipped = verdict.tables.iter().filter(|t| t.not_compared.is_some()).count();
    let rows: u64 = verdict.tables.iter().map(|t| t.counts.source_rows).sum();
    let way = match verdict.changes_between {
        0 => "nothing was on its way".to_string(),
        n => format!("{} captured changes were on their way", render::number(n)),
    };
    if !differ.is_empty() {
        let first = differ[0];
        return format!(
            "\nboth sides DIFFER in {}; {way}\n`moorage row {first} KEY` shows a row on both sides, `moorage resnapshot {first}` reads the table again",
            differ.join(", ")
        );
    }
    let what = if verdict.counts_only { "row counts" } else { "rows" };
    match skipped {
        0 => format!(
            "\nboth sides agree: {} {what} in {} tables; {way}",
            render::number(rows),
            verdict.tables.len()
        ),
        n => format!("\nno difference, but {n} of {} tables were not compared", verdict.tables.len()),
    }
}

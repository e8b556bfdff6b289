//! `tidy`: fold what is old in tables that keep changes.

use crate::args::{Global, TidyArgs};
use crate::exit::Finished;
use crate::failure::Failure;
use crate::{load, render};
use comfy_table::Cell;
use moorage_engine::{Tidied, TidyOptions, TidyProgress};
use serde::Serialize;

#[derive(Serialize)]
struct Report<'a> {
    pipeline: &'a str,
    tables: Vec<Tidied>,
}

pub async fn tidy(global: &Global, args: &TidyArgs) -> Result<Finished, Failure> {
    let options = TidyOptions { older_than: args.older_than, dry: args.dry_run };
    let is_quiet = global.quiet || render::wants_json(global);
    let mut reports = Vec::new();
    let pipelines = load::pipelines(global, &args.pipelines.pipelines)?;
    for pipeline in &pipelines {
        let progress = |so_far: TidyProgress<'_>| {
            let TidyProgress { target, rows, parts: (part, parts), folded } = so_far;
            // Two parts are done at once.
            if !is_quiet && parts > 2 && part > 0 {
                let rows = render::number(rows);
                let removed = render::number(folded.removed);
                let gone = if args.dry_run { "would go" } else { "are gone" };
                render::note(format!(
                    "{target}: {part} of {parts} parts of {rows} old rows, {removed} {gone}"
                ));
            }
        };
        let tables = moorage_engine::tidy(pipeline, options, &progress).await?;
        if render::wants_json(global) {
            reports.push(Report { pipeline: &pipeline.name, tables });
        } else {
            show(global, &pipeline.name, &tables, args.dry_run);
        }
    }
    if render::wants_json(global) {
        render::json(&reports)?;
    }
    Ok(Finished::Clean)
}

fn show(global: &Global, pipeline: &str, tables: &[Tidied], dry: bool) {
    if tables.is_empty() {
        return render::out(format!("{pipeline}: no table keeps changes, so nothing becomes old"));
    }
    let (removed, folded) = if dry { ("would be removed", "would be folded") } else { ("removed", "folded") };
    let mut table = render::table(
        global,
        &["target", "older than", &format!(">{removed}"), &format!(">{folded}"), "note"],
    );
    for one in tables {
        let count = |rows: u64| match one.left {
            Some(_) => "-".to_string(),
            None => render::number(rows),
        };
        let (removed, folded) = (count(one.folded.removed), count(one.folded.folded));
        let before = one.before.map_or("-".into(), render::clock);
        let left = one.left.clone().unwrap_or_default();
        let cells = [one.target.clone(), before].map(Cell::new).into_iter();
        table.add_row(
            cells.chain([render::right(removed), render::right(folded), Cell::new(left)]).collect::<Vec<_>>(),
        );
    }
    render::out(pipeline);
    render::out(table.trim_fmt());
    if dry {
        render::out("nothing was changed");
    }
}

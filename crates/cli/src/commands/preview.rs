//! `preview`: the first rows of a table.

use crate::args::{Global, PreviewArgs};
use crate::exit::Finished;
use crate::failure::Failure;
use crate::{load, render};
use moorage_adapter::Sample;

/// Wide values are cut here.
const WIDEST: usize = 40;

pub async fn preview(global: &Global, args: &PreviewArgs) -> Result<Finished, Failure> {
    let pipeline = load::pipeline(global, args.pipeline.as_ref())?;
    let table = args.table.as_deref();
    let previews = if args.target {
        let which = args.newest.map_or(Sample::First(args.rows), Sample::Newest);
        moorage_engine::preview_target(&pipeline, table, which).await?
    } else if args.source {
        moorage_engine::preview_source(&pipeline, table, args.rows).await?
    } else {
        moorage_engine::preview(&pipeline, table, args.rows).await?
    };
    if render::wants_json(global) {
        render::json(&previews)?;
        return Ok(Finished::Clean);
    }
    render::out(format!("{}: pipeline {}", global.file.display(), pipeline.name));
    for preview in previews {
        let title = match (args.target, args.newest) {
            _ if args.source => format!("{}, as it is in the source", preview.table),
            (true, Some(_)) => format!("{}, the newest rows in the target", preview.target),
            (true, None) => format!("{}, in the target", preview.target),
            (false, _) => format!("{} → {}", preview.table, preview.target),
        };
        render::out(format!("\n{title}"));
        if preview.rows.is_empty() {
            render::out("  no rows");
            continue;
        }
        let head: Vec<String> = preview
            .columns
            .iter()
            .enumerate()
            .map(|(i, c)| if i == 0 { format!("  {c}") } else { c.clone() })
            .collect();
        let mut rows = render::table(global, &head.iter().map(String::as_str).collect::<Vec<_>>());
        for row in &preview.rows {
            rows.add_row(row.iter().enumerate().map(|(i, value)| {
                let value = render::cut(value.as_deref().unwrap_or("null"), WIDEST);
                if i == 0 { format!("  {value}") } else { value }
            }));
        }
        render::out(rows.trim_fmt());
    }
    Ok(Finished::Clean)
}

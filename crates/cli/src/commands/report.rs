//! `report`: a stretch of time as one HTML file.

use crate::args::{Global, ReportArgs};
use crate::exit::Finished;
use crate::failure::Failure;
use crate::{load, render};
use chrono::Utc;
use std::path::Path;

pub async fn report(global: &Global, args: &ReportArgs) -> Result<Finished, Failure> {
    let to = args.until.unwrap_or_else(Utc::now);
    if args.since >= to {
        return Err(Failure::usage("--since is not before --until: there is no time between them"));
    }
    let pipelines = load::pipelines(global, &args.pipelines.pipelines)?;
    let report = moorage_engine::report(&pipelines, (args.since, to)).await?;
    let html = moorage_monitor::html(&report);
    if args.output == Path::new("-") {
        render::page(html);
        return Ok(Finished::Clean);
    }
    let file = &args.output;
    let written = write_whole(file, &html);
    written.map_err(|e| Failure::failed(format!("{} cannot be written: {e}", file.display())))?;
    if render::wants_json(global) {
        render::json(
            &serde_json::json!({ "file": file, "bytes": html.len(), "from": report.from, "to": report.to }),
        )?;
    } else if !global.quiet {
        render::out(format!("{} is written, {}", file.display(), render::size(html.len() as u64)));
    }
    Ok(Finished::Clean)
}

/// Writes beside a file and puts it in its place: nobody reads half of one.
fn write_whole(file: &Path, text: &str) -> std::io::Result<()> {
    // What is no file, such as a pipe, is written to as it is.
    if std::fs::metadata(file).is_ok_and(|found| !found.is_file()) {
        return std::fs::write(file, text);
    }
    let mut beside = file.as_os_str().to_owned();
    beside.push(format!(".{}.part", std::process::id()));
    let done = std::fs::write(&beside, text).and_then(|()| std::fs::rename(&beside, file));
    done.inspect_err(|_| drop(std::fs::remove_file(&beside)))
}

//! `resnapshot`: have the next run read tables again.

use crate::args::{Global, ResnapshotArgs};
use crate::exit::{Failure, Finished};
use crate::{load, render};
use moorage_engine::Resnapshot;

pub async fn resnapshot(global: &Global, args: &ResnapshotArgs) -> Result<Finished, Failure> {
    let pipeline = &load::pipeline(global, args.pipeline.as_ref())?;
    let which = if args.all { Resnapshot::All } else { Resnapshot::Tables(args.tables.clone()) };
    let tables = moorage_engine::resnapshot(pipeline, &which).await?;
    if render::wants_json(global) {
        render::json(&tables)?;
    } else {
        let names = if tables.is_empty() { "every table".into() } else { tables.join(", ") };
        render::out(format!("the next `moorage run` reads again from empty: {names}"));
    }
    Ok(Finished::Clean)
}

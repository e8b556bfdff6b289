//! What a pipeline asks of its target that the target does not do: said before anything is written.

use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::Result;
use moorage_adapter::{AdapterError, Lack, Replacing};
use moorage_core::model::finding::{End, Finding, Fix};
use moorage_core::model::policy::OnReject;
use moorage_core::plan::make::Plan;

/// What is asked of the target and lacking, with the way out.
fn lacking(pipeline: &Pipeline, plan: &Plan) -> Vec<(Lack, &'static str)> {
    let sets_aside = plan.tables.iter().any(|table| table.on_reject == OnReject::SetAside);
    let keeps = plan.tables.iter().any(|table| !table.is_plain());
    let gathers = plan.tables.iter().flat_map(|table| table.forms()).any(|form| form.gathered.is_some());
    let asked = [
        (
            Lack::Gathering,
            gathers,
            "choose another target; or have each table in one of its own: take `gather` out, set partitions = \"apart\"",
        ),
        (Lack::Keeping, keeps, "choose another target, or keep = \"current\""),
        // Tables keep current rows.
        (Lack::ChangingRows, true, "choose a target in which rows can be changed"),
        (Lack::SettingAside, sets_aside, "take `on_reject = \"set_aside\"` out of the project file"),
    ];
    let lacks = pipeline.target.guarantees().lacks;
    asked
        .into_iter()
        .filter(|(lack, asked, _)| *asked && lacks.contains(lack))
        .map(|(l, _, w)| (l, w))
        .collect()
}

/// As findings of a check.
pub(super) fn findings(pipeline: &Pipeline, plan: &Plan) -> Vec<Finding> {
    let system = pipeline.target.address().system;
    let finding = |(lack, way_out): (Lack, &str)| {
        let found = format!("{system} cannot do what the project file asks: {lack}");
        Finding::blocker(End::Target, "lacking", found, "a run would not begin", Fix::step(way_out))
    };
    lacking(pipeline, plan).into_iter().map(finding).collect()
}

/// Refuses to begin.
///
/// # Errors
/// [`AdapterError::Lacking`].
pub(crate) fn refuse(pipeline: &Pipeline, plan: &Plan) -> Result<()> {
    match lacking(pipeline, plan).first() {
        Some((lack, _)) => {
            let system = pipeline.target.address().system;
            Err(AdapterError::Lacking { system, lack: *lack }.into())
        }
        None => Ok(()),
    }
}

/// What is told when tables are about to be read again, where readers will see it.
pub(crate) fn of_replacing(pipeline: &Pipeline, tables: &[String]) -> Option<String> {
    (pipeline.target.guarantees().replacing == Replacing::InParts).then(|| {
        format!(
            "{}: the target cannot put new rows in the place of old ones at once: for a moment readers may see none, or some of them",
            tables.join(", ")
        )
    })
}

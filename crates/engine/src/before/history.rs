//! Whether the source's history is the one that the target was filled from.

use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::Result;
use moorage_adapter::{CapturePlan, CaptureState};
use moorage_core::checkpoint::decide::{Decision, Refusal, Situation, decide};
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::model::finding::{End, Finding, Fix, Severity};

/// What a run would do first.
pub(crate) async fn look_once(
    pipeline: &Pipeline,
    checkpoint: Option<&Checkpoint>,
    capture: &CapturePlan,
) -> Result<(CaptureState, Decision)> {
    let source = &pipeline.source;
    let words = source.capture_words();
    let name = format!("{} {}", words.one, capture.name);
    let state = source.capture_state(capture).await?;
    let decision = decide(&Situation {
        checkpoint,
        position: checkpoint.and_then(|c| source.parse_position(&c.position)),
        identity: &state.identity,
        head: state.head.position.clone(),
        capture_point: state.point.as_ref(),
        capture_point_name: &name,
        another: words.another,
    });
    Ok((state, decision))
}

/// Whether the source's history is the one the target was filled from, and its capture point the target's own. Beside a
/// run the two are read at different moments: what does not fit is only told if the checkpoint stands still.
pub(super) async fn history(pipeline: &Pipeline) -> Option<Finding> {
    for _ in 0..10 {
        let before = pipeline.target.checkpoint(&pipeline.name).await.ok()?;
        let found = history_now(pipeline).await;
        if found.as_ref().is_none_or(|f| f.severity != Severity::Blocker)
            || pipeline.target.checkpoint(&pipeline.name).await.ok()? == before
        {
            return found;
        }
    }
    None
}

async fn history_now(pipeline: &Pipeline) -> Option<Finding> {
    let checkpoint = pipeline.target.checkpoint(&pipeline.name).await.ok()?;
    let capture = pipeline.capture(checkpoint.as_ref()).await.ok()?;
    // What cannot be asked for is a finding of its own.
    let (_, decision) = look_once(pipeline, checkpoint.as_ref(), &capture).await.ok()?;
    match decision {
        Decision::Refuse(Refusal::InUse { .. }) => None,
        Decision::Refuse(refusal) => {
            let fix = Fix::step("the message names the way out");
            Some(Finding::blocker(
                End::Source,
                "history",
                refusal.to_string(),
                "a run would refuse to go on",
                fix,
            ))
        }
        Decision::Resume => {
            let found = "the source is the one the target was filled from, and its changes since are there";
            Some(Finding::ok(End::Source, "history", found))
        }
        _ => None,
    }
}

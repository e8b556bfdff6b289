//! Setting up: noted in the target before anything is made in the source, so that whatever is left by a crash is known.

use crate::pipeline::context::{Context, Start};
use crate::pipeline::error::{EngineError, Result};
use crate::pipeline::turn;
use chrono::Utc;
use moorage_adapter::{CapturePlan, CaptureState};
use moorage_core::checkpoint::decide::Decision;
use moorage_core::checkpoint::stored::{Checkpoint, Stage};
use moorage_core::model::described::SourceIdentity;
use moorage_core::plan::make::Plan;
use moorage_core::value::moment::Moment;

/// Makes the capture point, and notes where it begins.
pub(crate) async fn set_up(
    context: &Context,
    planned: &Plan,
    capture: &CapturePlan,
    state: &CaptureState,
    decision: Decision,
    turn: bool,
) -> Result<Checkpoint> {
    let pipeline = &context.pipeline;
    for table in &planned.tables {
        pipeline.target.check(&pipeline.name, table).await?;
    }
    let changes_only = context.options.start != Start::Snapshot;
    let wanted = match &context.options.start {
        Start::At(wanted) => Some(start_position(context, wanted, state)?),
        Start::Snapshot | Start::Now => None,
    };
    let mut checkpoint = new_checkpoint(context, state.identity.clone(), capture, Stage::Preparing);
    checkpoint.valid_from = Moment::of(state.head.skew.by_source_clock(Utc::now()));
    checkpoint.changes_only = changes_only;
    take_first_turn(context, turn).await?;
    pipeline.target.save_checkpoint(&checkpoint).await?;
    let again = decision == Decision::SetUpAgain;
    let prepared = match pipeline.source.prepare(capture, &planned.tables, again, &context.events).await {
        Ok(prepared) => prepared,
        Err(error) => {
            // After a lost connection the source may still be making what was asked for. The checkpoint stays, and the
            // next set-up knows what it finds as its own.
            if !error.is_transient() {
                undo_set_up(context, capture).await;
            }
            return Err(error.into());
        }
    };
    checkpoint.stage = Stage::Following;
    checkpoint.position = wanted.unwrap_or_else(|| prepared.position.to_string());
    pipeline.target.save_checkpoint(&checkpoint).await?;
    Ok(checkpoint)
}

/// Takes the turn where nothing is remembered yet, unless it was taken; whoever was first has set up since.
pub(crate) async fn take_first_turn(context: &Context, taken: bool) -> Result<()> {
    let pipeline = &context.pipeline;
    if taken {
        return Ok(());
    }
    turn::take(pipeline, &context.me, true, &context.events).await?;
    match pipeline.target.checkpoint(&pipeline.name).await? {
        None => Ok(()),
        Some(_) => Err(EngineError::SetUpMeanwhile { pipeline: pipeline.name.clone() }),
    }
}

pub(crate) fn new_checkpoint(
    context: &Context,
    identity: SourceIdentity,
    capture: &CapturePlan,
    stage: Stage,
) -> Checkpoint {
    Checkpoint {
        pipeline: context.pipeline.name.clone(),
        identity,
        capture_point: capture.name.clone(),
        token: capture.token.clone(),
        stage,
        changes_only: false,
        position: String::new(),
        proof: String::new(),
        sequence: 0,
        valid_from: Moment::of(Utc::now()),
        committed_at: None,
        captured_at: None,
        merged_at: None,
    }
}

/// A set-up that was refused leaves nothing half-made. What cannot be removed in the source now is recognised later:
/// only while the target remembers it.
async fn undo_set_up(context: &Context, capture: &CapturePlan) {
    let pipeline = &context.pipeline;
    if let Err(error) = pipeline.source.teardown(capture, false, &context.events).await {
        tracing::debug!("what was made in the source stays for now: {error}");
        return;
    }
    let has_tables = pipeline.target.tables(&pipeline.name).await.is_ok_and(|t| !t.is_empty());
    let undone = if has_tables {
        pipeline.target.forget(&pipeline.name, &[], true).await
    } else {
        pipeline.target.teardown(&pipeline.name, false).await.map(|_| ())
    };
    if let Err(error) = undone {
        tracing::debug!("nothing to take back in the target: {error}");
    }
}

/// Checks a start position against what the capture point reaches.
fn start_position(context: &Context, wanted: &str, state: &CaptureState) -> Result<String> {
    let position = context
        .pipeline
        .source
        .parse_position(wanted)
        .ok_or_else(|| EngineError::NotAPosition { text: wanted.into() })?;
    let words = context.pipeline.source.capture_words();
    let too_early =
        |earliest: String, hint: String| EngineError::StartTooEarly { wanted: wanted.into(), earliest, hint };
    match state.point.as_ref().and_then(|p| p.reaches_back_to.as_ref()) {
        None => Err(too_early(
            format!("now, {}", state.head.position),
            format!(
                "There is no {0} yet that kept earlier changes: use --start now{1}",
                words.one,
                words
                    .another
                    .map(|_| format!(", or name an existing {} in the project file", words.one))
                    .unwrap_or_default()
            ),
        )),
        Some(earliest) if position < *earliest => Err(too_early(
            earliest.to_string(),
            format!("The {} has let go of the changes before it", words.one),
        )),
        Some(_) if position > state.head.position => Err(EngineError::NotAPosition { text: wanted.into() }),
        Some(_) => Ok(position.to_string()),
    }
}

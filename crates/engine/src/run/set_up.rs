//! Setting up: noted in the target before anything is made in the source, so that whatever is left by a crash is known.

use crate::pipeline::context::{Context, Start};
use crate::pipeline::error::{EngineError, Result};
use crate::pipeline::turn;
use chrono::{DateTime, Utc};
use moorage_adapter::{AdapterError, CapturePlan, CaptureState, TailFrom};
use moorage_core::Position;
use moorage_core::checkpoint::decide::Decision;
use moorage_core::checkpoint::stored::{Checkpoint, Stage};
use moorage_core::model::described::SourceIdentity;
use moorage_core::plan::make::Plan;
use moorage_core::plan::table::TablePlan;
use moorage_core::value::moment::Moment;
use std::time::Duration;

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
    let now = state.head.skew.by_source_clock(Utc::now());
    let wanted = match &context.options.start {
        Start::At(wanted) => Some(start_position(context, wanted, state)?),
        Start::Time(at) if *at > now => {
            let (wanted, now) = (at.to_rfc3339(), now.to_rfc3339());
            return Err(EngineError::StartToCome { wanted, now });
        }
        Start::Time(at) => Some(earliest_position(context, &at.to_rfc3339(), state)?.to_string()),
        Start::Snapshot | Start::Now => None,
    };
    let mut checkpoint = new_checkpoint(context, state.identity.clone(), capture, Stage::Preparing);
    checkpoint.valid_from = Moment::of(now);
    checkpoint.changes_only = changes_only;
    if let Start::Time(at) = context.options.start {
        checkpoint.starts_at = Some(at);
    }
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
    if let Start::Time(at) = context.options.start
        && let Err(error) = reaches_back_to(context, &planned.tables, capture, at).await
    {
        undo_set_up(context, capture).await;
        return Err(error);
    }
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
        starts_at: None,
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
    let earliest = earliest_position(context, wanted, state)?;
    match earliest {
        earliest if position < *earliest => Err(EngineError::StartTooEarly {
            wanted: wanted.into(),
            earliest: earliest.to_string(),
            hint: format!(
                "The {} has let go of the changes before it",
                context.pipeline.source.capture_words().one
            ),
        }),
        _ if position > state.head.position => Err(EngineError::NotAPosition { text: wanted.into() }),
        _ => Ok(position.to_string()),
    }
}

/// How far back the capture point reaches.
fn earliest_position<'a>(context: &Context, wanted: &str, state: &'a CaptureState) -> Result<&'a Position> {
    let words = context.pipeline.source.capture_words();
    let reaches = state.point.as_ref().and_then(|p| p.reaches_back_to.as_ref());
    reaches.ok_or_else(|| EngineError::StartTooEarly {
        wanted: wanted.into(),
        earliest: format!("now, {}", state.head.position),
        hint: format!(
            "There is no {0} yet that kept earlier changes: use --start now{1}",
            words.one,
            words
                .another
                .map(|_| format!(", or name an existing {} in the project file", words.one))
                .unwrap_or_default()
        ),
    })
}

/// For how long the first change that is kept is waited for.
const FIRST_CHANGE_PATIENCE: Duration = Duration::from_secs(60);

/// Refuses to begin at a time unless a change from before it is kept: otherwise nobody knows what was let go of between.
async fn reaches_back_to(
    context: &Context,
    tables: &[TablePlan],
    capture: &CapturePlan,
    wanted: DateTime<Utc>,
) -> Result<()> {
    let source = &context.pipeline.source;
    let mut tail = source.tail(capture, tables, &TailFrom::Start).await?;
    let note = uuid::Uuid::new_v4().to_string();
    // It comes where there is nothing else.
    source.send_note(&note).await?;
    let first = async {
        loop {
            let segment = tail.stream.next().await?.segment;
            let times = segment.blocks.iter().flat_map(|b| b.by_transaction().map(|(t, _)| t.committed_at));
            if let Some(first) = times.min() {
                return Ok::<_, AdapterError>(Some(first));
            }
            if segment.seen_at.is_some() || segment.notes.contains(&note) {
                return Ok(None);
            }
        }
    };
    let first = tokio::time::timeout(FIRST_CHANGE_PATIENCE, first).await;
    tail.stream.close().await;
    let earliest = match first {
        Ok(first) => first?,
        Err(_) => None,
    };
    match earliest {
        Some(first) if first <= wanted => Ok(()),
        earliest => Err(EngineError::StartTooEarly {
            wanted: wanted.to_rfc3339(),
            earliest: earliest.map_or_else(|| "now".into(), |first| first.to_rfc3339()),
            hint: match earliest {
                Some(_) => {
                    "That is the first change that is kept; whether there were others before it is not known"
                        .into()
                }
                None => "No change is kept: use --start now".into(),
            },
        }),
    }
}

//! What is reported of pipelines over a stretch of time.

use super::history::{PastRun, RunOutcome, WantedRuns, history};
use super::lag::points;
use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::Result;
use crate::run::holding::records;
use chrono::{DateTime, Utc};
use moorage_adapter::MemoKind;
use moorage_core::drift::record::{DriftRecord, DriftState};
use moorage_monitor::{DriftLine, PipelineReport, RejectLine, Report, RunLine, StateStore};
use std::time::Duration;

/// Into how many stretches the time is cut: about a point for every five of the chart's width.
const POINTS: u32 = 180;
/// How many of the slowest transactions are listed.
const SLOWEST: usize = 10;
/// How many runs.
const MOST_RUNS: u32 = 200;

/// Reports on pipelines over a stretch of time. What their targets cannot be asked for now is said to be missing.
///
/// # Errors
/// If the state folder cannot be read.
pub async fn report(pipelines: &[Pipeline], (from, to): (DateTime<Utc>, DateTime<Utc>)) -> Result<Report> {
    let mut all = Vec::new();
    for pipeline in pipelines {
        all.push(of_pipeline(pipeline, (from, to)).await?);
    }
    let host = gethostname::gethostname().to_string_lossy().into_owned();
    Ok(Report { made_at: Utc::now(), host, from, to, pipelines: all })
}

async fn of_pipeline(
    pipeline: &Pipeline,
    (from, to): (DateTime<Utc>, DateTime<Utc>),
) -> Result<PipelineReport> {
    let state = StateStore::open(&pipeline.state_folder)?;
    let name = &pipeline.name;
    let mut unknown = Vec::new();
    let asked = |what: &str, why: String| format!("{what} cannot be asked for now: {why}");
    let drift = drift(pipeline, (from, to)).await.unwrap_or_else(|error| {
        unknown.push(asked("changes of structure", error.to_string()));
        Vec::new()
    });
    let rejects = rejects(pipeline, (from, to)).await.unwrap_or_else(|error| {
        unknown.push(asked("what is set aside", error.to_string()));
        Vec::new()
    });
    let runs = history(pipeline, &WantedRuns { since: Some(from), errors: false, most: MOST_RUNS }).await?;
    let samples = state.samples(name, from, to)?;
    Ok(PipelineReport {
        pipeline: name.clone(),
        source: pipeline.config.source.get_ref().clone(),
        target: pipeline.config.target.get_ref().clone(),
        whole: state.period(name, from, to)?,
        points: points(&state, name, (from, to), POINTS)?,
        kept: state.points(name, from, to)?,
        limit_bytes: samples.iter().rev().find_map(|sample| sample.limit_bytes),
        tables: state.table_periods(name, from, to)?,
        slowest: state.slow_transactions(name, (from, to), Duration::ZERO, SLOWEST)?,
        runs: runs.iter().filter(|run| began_before(run, to)).map(run_line).collect(),
        drift,
        rejects,
        notices: state.notices(name, from, to)?,
        unknown,
    })
}

fn began_before(run: &PastRun, to: DateTime<Utc>) -> bool {
    DateTime::parse_from_rfc3339(&run.record.started_at).is_ok_and(|at| at.to_utc() <= to)
}

fn run_line(past: &PastRun) -> RunLine {
    let sums = &past.record.sums;
    let reason = match past.state {
        RunOutcome::Running => past.record.doing.clone(),
        _ => past.record.message.clone(),
    };
    RunLine {
        run: past.record.run,
        began: past.record.started_at.clone(),
        took_ms: past.took_ms,
        outcome: past.state.word(),
        is_bad: matches!(past.state, RunOutcome::Failed | RunOutcome::Killed),
        rows: sums.snapshot_rows,
        changes: sums.operations.total(),
        merges: sums.merges,
        warnings: sums.warnings + sums.retries,
        reason: reason.unwrap_or_default(),
    }
}

async fn drift(pipeline: &Pipeline, (from, to): (DateTime<Utc>, DateTime<Utc>)) -> Result<Vec<DriftLine>> {
    let memos = pipeline.target.memos(&pipeline.name, MemoKind::Structure).await?;
    let is_meant = |record: &DriftRecord| {
        let waits = record.state == DriftState::Held;
        record.seen_at <= to && (record.seen_at >= from || waits)
    };
    let line = |record: DriftRecord| DriftLine {
        at: record.seen_at,
        waits: record.state == DriftState::Held,
        done: match &record.decision {
            Some(decision) => format!("{} ({decision})", record.state.word()),
            None => record.state.word().into(),
        },
        table: record.table,
        what: record.detail,
    };
    Ok(records(&memos)?.into_iter().filter(is_meant).map(line).collect())
}

/// What is set aside, and was so by the end of the time.
async fn rejects(pipeline: &Pipeline, (_, to): (DateTime<Utc>, DateTime<Utc>)) -> Result<Vec<RejectLine>> {
    if pipeline.target.checkpoint(&pipeline.name).await?.is_none() {
        return Ok(Vec::new());
    }
    let all = pipeline.target.rejects(&pipeline.name).await?;
    let is_meant = |at: &str| DateTime::parse_from_rfc3339(at).map_or(true, |at| at.to_utc() <= to);
    let line = |reject: moorage_adapter::Reject| RejectLine {
        at: reject.set_aside_at,
        table: reject.table,
        key: reject.key,
        operation: reject.operation,
        reason: reject.reason,
    };
    Ok(all.into_iter().filter(|reject| is_meant(&reject.set_aside_at)).map(line).collect())
}

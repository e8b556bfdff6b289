//! How far a pipeline is behind, and why: from what its run says of itself, and where none does, from the target and the source.

use super::running::{RunningNow, running as running_here, running_anywhere};
use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::Result;
use crate::run::holding;
use chrono::{DateTime, TimeDelta, Utc};
use moorage_adapter::{CapturePlan, StoredTable, TableState, Waiting};
use moorage_core::checkpoint::stored::{Checkpoint, Stage};
use moorage_core::plan::table::TablePlan;
use moorage_core::watch::forecast::full_in;
use moorage_core::watch::lag::ClockSkew;
use moorage_monitor::{
    ALL_HELD, HeldTable, Published, ReadingTable, RunRecord, SILENT_AFTER, StateStore, ended,
};
use serde::Serialize;
use std::time::Duration;

/// From this on a pipeline catches up.
const CATCHING_UP_US: u64 = 10_000_000;
/// Below this nobody asks why.
const NOTICED: Duration = Duration::from_secs(3);
/// From how long a time it is told when the source is full.
const FORECAST_FROM: TimeDelta = TimeDelta::minutes(10);

/// How a pipeline stands.
#[derive(Clone, Debug, Serialize)]
pub struct Behind {
    /// Who runs it now.
    pub running: Option<RunningNow>,
    /// Its newest run.
    pub last_run: Option<RunRecord>,
    /// What its last run said of itself last; none if no run ever did, or that was lost.
    #[serde(skip)]
    pub published: Option<Published>,
    /// When it said that.
    pub said_at: Option<DateTime<Utc>>,
    /// Whether a run is going on that has said nothing for a while.
    pub silent: bool,
    /// Whether a run is going on from another folder or machine, which says there how it stands.
    pub elsewhere: bool,
    /// Everything that was committed before this moment, by Moorage's clock, is in the target.
    pub complete_until: Option<DateTime<Utc>>,
    /// How far the target is behind now, in microseconds; none if that is not known. Where nothing runs and nothing waits in the
    /// source, 0.
    pub behind_us: Option<u64>,
    /// The source's clock minus Moorage's, in microseconds; none if it was not measured.
    pub clock_skew_us: Option<i64>,
    /// What waits in the source, where it was asked.
    pub waiting: Option<Waiting>,
    /// Why it could not be asked.
    pub source_problem: Option<String>,
    /// Bytes to be read.
    pub unread_bytes: Option<u64>,
    /// What the source keeps for the pipeline, in bytes.
    pub kept_bytes: Option<u64>,
    /// What it may keep.
    pub limit_bytes: Option<u64>,
    /// Seconds until that is reached, as it has grown in the last ten minutes; none if it does not grow.
    pub full_in_s: Option<u64>,
    /// Tables whose changes are kept until someone decides.
    pub held: Vec<HeldTable>,
    /// Tables whose rows are not all there, whatever waits: they are to be read, or what captures them was altered. Only told
    /// where nothing runs.
    pub incomplete: Vec<String>,
    /// Whether there is any table whose changes are merged; a run that says how it stands has taken that into account.
    #[serde(skip)]
    merges_any: bool,
    /// Why it is behind, where that is worth a word.
    pub why: Option<String>,
}

/// Asks how a pipeline stands. While it runs here, only the local store is asked.
///
/// # Errors
/// If the state folder, or where nothing runs the target, cannot be read.
pub async fn behind(pipeline: &Pipeline) -> Result<Behind> {
    let state = StateStore::open(&pipeline.state_folder)?;
    let now = Utc::now();
    let running = running_anywhere(pipeline).await;
    let last_run = state.last_run(&pipeline.name)?;
    let (said_at, published) = state.published(&pipeline.name)?.unzip();
    let is_of_run = published.as_ref().zip(last_run.as_ref()).is_some_and(|(said, run)| said.run == run.run);
    let is_fresh = said_at.is_some_and(|at| now - at < SILENT_AFTER);
    let samples = state.samples(&pipeline.name, now - FORECAST_FROM, now)?;
    // One from another folder or machine says there how it stands.
    let says_here = running.is_some() && is_of_run && is_fresh;
    let mut behind = Behind {
        silent: running_here(pipeline).is_some() && !says_here,
        elsewhere: running.is_some() && running_here(pipeline).is_none() && !says_here,
        complete_until: published.as_ref().and_then(|said| said.complete_until),
        behind_us: None,
        clock_skew_us: published.as_ref().map(|said| said.clock_skew_us),
        waiting: None,
        source_problem: None,
        unread_bytes: published.as_ref().and_then(|said| said.unread_bytes),
        kept_bytes: published.as_ref().and_then(|said| said.kept_bytes),
        limit_bytes: published.as_ref().and_then(|said| said.limit_bytes),
        full_in_s: full_in(&samples).map(|time| time.as_secs()),
        held: published.as_ref().map(|said| said.held.clone()).unwrap_or_default(),
        incomplete: Vec::new(),
        merges_any: true,
        why: None,
        running,
        last_run,
        published,
        said_at,
    };
    let is_told = behind.running.is_some() && !behind.silent && !behind.elsewhere;
    if !is_told || behind.complete_until.is_none() {
        behind.ask_the_ends(pipeline).await?;
    }
    let nothing_waits = behind.waiting.as_ref().is_some_and(|w| w.changes == Some(0) && !w.or_more);
    if behind.running.is_none() && nothing_waits && behind.incomplete.is_empty() {
        behind.complete_until = Some(now);
    }
    let first_held = behind.held.iter().map(|held| held.since).min().filter(|_| !behind.merges_any);
    behind.complete_until = behind.complete_until.map(|until| until.min(first_held.unwrap_or(now)).min(now));
    let lag = behind.complete_until.map(|until| (now - until).to_std().unwrap_or_default());
    behind.behind_us = lag.map(|lag| lag.as_micros() as u64);
    behind.why = lag.filter(|lag| *lag >= NOTICED).map(|_| behind.why());
    Ok(behind)
}

impl Behind {
    /// Where no run says it: how far the target has come, and what waits in the source.
    async fn ask_the_ends(&mut self, pipeline: &Pipeline) -> Result<()> {
        let checkpoint = pipeline.target.checkpoint(&pipeline.name).await?;
        let Some(checkpoint) = checkpoint.filter(|c| c.stage == Stage::Following) else { return Ok(()) };
        let stored = pipeline.target.tables(&pipeline.name).await?;
        let asked = async {
            let capture = pipeline.capture(Some(&checkpoint)).await?;
            let head = pipeline.source.head(&capture).await?;
            let incomplete = incomplete(pipeline, &capture, &stored).await?;
            let waiting = pipeline.source.waiting(&capture, &checkpoint).await?;
            Ok::<_, crate::EngineError>((head, incomplete, waiting))
        };
        match asked.await {
            Ok((head, incomplete, waiting)) => {
                self.incomplete = incomplete;
                self.clock_skew_us = Some(head.skew.source_ahead_us);
                (self.kept_bytes, self.limit_bytes) = (head.kept_bytes, head.limit_bytes);
                self.unread_bytes = Some(waiting.bytes);
                self.waiting = Some(waiting);
            }
            Err(error) => self.source_problem = Some(error.to_string()),
        }
        let skew = ClockSkew { source_ahead_us: self.clock_skew_us.unwrap_or(0) };
        self.complete_until = self.complete_until.max(complete_at(&checkpoint, skew));
        self.merges_any =
            stored.iter().any(|s| matches!(s.state, TableState::Live | TableState::ChangesOnly));
        self.held = held(pipeline, &stored, skew).await?;
        Ok(())
    }

    /// Whether a run follows changes and is a while behind.
    pub(super) fn is_catching_up(&self) -> bool {
        self.running.is_some() && !self.silent && self.behind_us.is_some_and(|us| us >= CATCHING_UP_US)
    }

    /// How much of a table is read, of 100.
    pub(super) fn percent_of(&self, table: &str) -> Option<u64> {
        let reading = &self.published.as_ref().filter(|_| self.running.is_some())?.reading;
        reading.iter().find(|r| r.table == table).and_then(ReadingTable::percent)
    }

    /// What keeps it from coming closer.
    fn why(&self) -> String {
        let Some(running) = &self.running else { return self.why_nothing_runs() };
        if self.silent {
            let said = self.said_at.map_or("it has said nothing yet".into(), |at| {
                format!("it has said nothing since {}", since(at))
            });
            return format!(
                "{said}: process {} on {} stands still, or cannot write to its folder `.moorage`",
                running.pid, running.host
            );
        }
        if self.elsewhere && running.asleep {
            return format!("process {} on {} was stopped by a signal", running.pid, running.host);
        }
        if self.elsewhere {
            return format!(
                "process {} on {} runs it from another folder or machine, and says there what it waits for",
                running.pid, running.host
            );
        }
        let all_held =
            self.complete_until.is_some_and(|until| self.held.iter().any(|held| held.since == until));
        if all_held {
            return ALL_HELD.into();
        }
        let doing = self.last_run.as_ref().and_then(|run| run.doing.clone()).unwrap_or_default();
        self.published.as_ref().map_or_else(|| doing.clone(), |said| said.why(&doing))
    }

    pub(super) fn why_nothing_runs(&self) -> String {
        let last = match &self.last_run {
            None => "nothing runs".into(),
            Some(run) => ended(run).unwrap_or_else(|| {
                let seen = self.said_at.map(|at| format!(" behind {}", since(at))).unwrap_or_default();
                format!("nothing runs; the last run was killed{seen}: it left no word")
            }),
        };
        match self.incomplete.is_empty() {
            true => last,
            false => format!("{last}; to be read again: {}", self.incomplete.join(", ")),
        }
    }
}

fn since(at: DateTime<Utc>) -> String {
    at.to_rfc3339_opts(chrono::SecondsFormat::Secs, true)
}

/// Until when the target is complete by its checkpoint, by our clock: no later than its last transaction had been read, whatever
/// is known of the source's clock.
fn complete_at(checkpoint: &Checkpoint, skew: ClockSkew) -> Option<DateTime<Utc>> {
    let committed_at = skew.by_our_clock(checkpoint.committed_at?);
    Some(checkpoint.captured_at.map_or(committed_at, |captured_at| committed_at.min(captured_at)))
}

/// Tables of which changes are kept, with the commit of the first, by our clock.
async fn held(pipeline: &Pipeline, stored: &[StoredTable], skew: ClockSkew) -> Result<Vec<HeldTable>> {
    let mut all = Vec::new();
    for stored in stored.iter().filter(|s| s.state == TableState::Held) {
        let first = holding::kept(pipeline, &stored.plan.target).await?.first_at;
        let table = stored.plan.table().to_string();
        all.extend(first.map(|first| HeldTable { table, since: skew.by_our_clock(first) }));
    }
    Ok(all)
}

/// Tables that are to be read, or of which changes may have been missed since someone altered what captures them.
async fn incomplete(
    pipeline: &Pipeline,
    capture: &CapturePlan,
    stored: &[StoredTable],
) -> Result<Vec<String>> {
    let is_carried = |s: &&StoredTable| !matches!(s.state, TableState::Gone | TableState::Copied);
    let stored: Vec<&StoredTable> = stored.iter().filter(is_carried).collect();
    let plans: Vec<TablePlan> = stored.iter().map(|s| s.plan.clone()).collect();
    let now = pipeline.source.captured_by(capture, &plans).await?;
    let is_broken = |(stored, now): &(&&StoredTable, &Option<String>)| {
        let unbroken =
            |before: &String| now.as_ref().is_some_and(|now| pipeline.source.is_unbroken(before, now));
        stored.state.is_unread() || stored.captured_by.as_ref().is_some_and(|before| !unbroken(before))
    };
    let broken = stored.iter().zip(&now).filter(is_broken);
    Ok(broken.map(|(stored, _)| stored.plan.table().to_string()).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// The last transaction was read at 100 s by our clock; what its source says of when it committed it.
    #[rstest]
    #[case::clocks_agree(99, 0, 99)]
    #[case::source_is_ahead(699, 600, 99)]
    #[case::ahead_and_not_known(699, 0, 100)]
    #[case::source_is_back(-501, -600, 99)]
    fn no_clock_makes_a_target_complete_beyond_what_was_read(
        #[case] committed_s: i64,
        #[case] ahead_s: i64,
        #[case] until_s: i64,
    ) {
        let at = |s: i64| DateTime::from_timestamp(1_800_000_000 + s, 0).unwrap();
        let json = serde_json::json!({
            "pipeline": "p", "identity": { "kind": "", "system": "", "database": "", "timeline": "" }, "capture_point": "",
            "token": "", "stage": "following", "changes_only": false, "position": "", "proof": "",
            "committed_at": at(committed_s), "captured_at": at(100), "merged_at": null,
        });
        let checkpoint: Checkpoint = serde_json::from_value(json).unwrap();
        let skew = ClockSkew { source_ahead_us: ahead_s * 1_000_000 };
        assert_eq!(complete_at(&checkpoint, skew), Some(at(until_s)));
    }
}

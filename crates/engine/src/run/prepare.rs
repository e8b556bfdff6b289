//! From whatever state both ends are in to one from which changes can be followed.
//!
//! The order is: look at both ends and refuse what does not fit, changing nothing; note in the target
//! that a set-up begins; make the capture point in the source; note its position; make tables; read what
//! is missing. A crash after any step leaves a state that the next run recognises.

use crate::before::draft::{discover, plan_pipeline};
use crate::before::history::look_once;
use crate::before::known::{keep_on, unmatched};
use crate::before::lacks;
use crate::before::loops::refuse_loops;
use crate::pipeline::context::{Context, Following, Start};
use crate::pipeline::error::{EngineError, Result};
use crate::pipeline::turn;
use crate::run::aligning::{adopt, align, read_again_what_was_interrupted, read_again_what_was_missed};
use crate::run::came_and_went::{
    decided, is_new, is_of_interest, is_offer, leave_out_new, left_orphans, offered, refuse_drift,
    write_down, write_down_the_stop,
};
use crate::run::holding;
use crate::run::load::Loader;
use crate::run::names::refused_by_source;
use crate::run::set_up::{new_checkpoint, set_up, take_first_turn};
use chrono::Utc;
use moorage_adapter::{
    AdapterError, CapturePlan, CaptureState, CountsFrom, Event, MemoKind, SnapshotMark, StoredTable,
    StreamTable, TableState,
};
use moorage_core::checkpoint::decide::{Decision, Refusal};
use moorage_core::checkpoint::stored::{Checkpoint, Stage};
use moorage_core::drift::held::{Held, HeldChange};
use moorage_core::drift::record::{DriftRecord, DriftState};
use moorage_core::model::described::{NamedTable, SourceTable};
use moorage_core::model::drift::DriftKind;
use moorage_core::model::name::TableName;
use moorage_core::pick::picker::Unmatched;
use moorage_core::plan::make::{Plan, Refused};
use moorage_core::plan::table::TablePlan;
use moorage_core::value::moment::Moment;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

/// What preparing led to.
#[must_use]
pub(crate) enum Ready {
    /// A copy without following is done.
    Copied,
    /// All tables are ready to be followed.
    ToFollow(Box<Following>),
}

/// After kill -9 the source may hold a capture point for a moment longer.
const HELD_PATIENCE: Duration = Duration::from_secs(5);

pub(crate) async fn prepare(context: &Context) -> Result<Ready> {
    let source = &context.pipeline.source;
    // Names first: what is discovered behind them was there, or was made since.
    let before = source.table_names().await?;
    let found = discover(&context.pipeline).await?;
    let picker = context.pipeline.config.picker();
    let picked: HashSet<TableName> =
        found.iter().filter(|table| picker.takes(table)).map(|table| table.name.clone()).collect();
    let error = match prepare_of(context, found).await {
        Err(error) if !error.is_transient() => error,
        ready => return ready,
    };
    // What was there when it began may have gone meanwhile, and failed at that.
    let Ok(now) = source.table_names().await else { return Err(error) };
    let is_gone = |table: &&NamedTable| {
        picked.contains(&table.name) && now.iter().all(|there| there.name != table.name)
    };
    match before.iter().find(is_gone) {
        Some(gone) => Err(AdapterError::Gone { table: gone.name.clone() }.into()),
        None => Err(error),
    }
}

/// The same of tables that there were when it began.
async fn prepare_of(context: &Context, found: Vec<SourceTable>) -> Result<Ready> {
    let pipeline = &context.pipeline;
    let planned = plan_pipeline(pipeline, &found)?;
    let say_left_out = |planned: &Plan| {
        for Refused { table, reason } in &planned.refused {
            context.say(Event::TableLeftOut { table: table.to_string(), why: reason.to_string() });
        }
    };
    lacks::refuse(pipeline, &planned)?;
    refuse_loops(context, &planned, &found).await?;
    // The checkpoint is read after the turn was taken: from then on nobody else can move it.
    let turn = turn::take(pipeline, &context.me, false, &context.events).await?;
    let checkpoint = pipeline.target.checkpoint(&pipeline.name).await?;
    let stored = pipeline.target.tables(&pipeline.name).await?;
    let unmatched = unmatched(pipeline, &found, &stored);
    // From here on a lost connection is tried again; one that was never made is not.
    context.reached.store(true, Ordering::Relaxed);
    if context.options.snapshot_only {
        say_left_out(&planned);
        refuse_patterns(&unmatched)?;
        return copy(context, checkpoint, &planned, turn).await;
    }
    let capture = pipeline.capture(checkpoint.as_ref()).await?;
    let (found, planned) = let_in(context, &capture, (found, planned), &stored).await?;
    let (state, decision) = look_and_decide(context, checkpoint.as_ref(), &capture).await?;
    let mut planned = planned;
    let (mut remapped, mut orphans, mut before) = (Vec::new(), Vec::new(), Vec::new());
    let memos = pipeline.target.memos(&pipeline.name, MemoKind::Structure).await?;
    let mut records = holding::records(&memos)?;
    let mut checkpoint = match (decision, checkpoint) {
        (Decision::Refuse(refusal), _) => return Err(AdapterError::from(refusal).into()),
        (Decision::Resume, Some(checkpoint)) => {
            if context.options.start != Start::Snapshot {
                let (pipeline, position) = (pipeline.name.clone(), checkpoint.position);
                return Err(EngineError::AlreadyStarted { pipeline, position });
            }
            for unmatched in &unmatched {
                context.say(Event::Warning { message: unmatched.to_string() });
            }
            keep_on(pipeline, &found, &mut planned, &stored);
            say_left_out(&planned);
            orphans = left_orphans(context, &found, &planned, &stored);
            let is_orphan = |s: &StoredTable| orphans.iter().any(|plan| plan.target == s.plan.target);
            let others: Vec<StoredTable> = stored.iter().filter(|s| !is_orphan(s)).cloned().collect();
            remapped = match refuse_drift(context, &capture, (&found, &planned), &others).await {
                Ok(remapped) => remapped,
                Err(error) => {
                    write_down_the_stop(context, &checkpoint, next_of(&records)).await;
                    return Err(error);
                }
            };
            carry_as_read(&mut planned, &stored, &remapped);
            before = read_again_what_was_missed(context, &capture, &planned, &stored).await?;
            decided(context, &mut records);
            leave_out_new(context, &mut planned, &stored, &records);
            something_to_carry(context, &planned)?;
            align(context, &capture, &mut planned, &stored).await?;
            checkpoint
        }
        (decision, _) => {
            say_left_out(&planned);
            refuse_patterns(&unmatched)?;
            something_to_carry(context, &planned)?;
            set_up(context, &planned, &capture, &state, decision, turn).await?
        }
    };
    // Before any of them is read: what is missed from here on is seen.
    let captured_by = pipeline.source.captured_by(&capture, &planned.tables).await?;
    read_again_what_was_interrupted(context, &capture, &before, &planned, &captured_by).await?;
    adopt(context, &planned, &stored, &captured_by).await?;
    if checkpoint.changes_only {
        make_without_snapshot(context, &planned, &captured_by).await?;
    }
    let next_drift = next_of(&records);
    let missing = missing(&planned, &pipeline.target.tables(&pipeline.name).await?);
    note_joining(context, &missing, &stored, &records);
    let next_drift = write_down(context, &checkpoint, next_drift).await?;
    let memos = pipeline.target.memos(&pipeline.name, MemoKind::Structure).await?;
    let records = holding::records(&memos)?;
    let captured = planned.tables.iter().zip(&captured_by);
    let captured: Captured<'_> = captured.map(|(table, by)| (&table.target, by.as_ref())).collect();
    let (beside, as_they_are) =
        read_missing(context, &mut checkpoint, &capture, missing, &stored, &captured).await?;
    let plans: Vec<TablePlan> = planned.tables.iter().chain(&orphans).cloned().collect();
    let held = held(context, &plans, &memos).await?;
    let mut tables = stream_tables(context, &planned).await?;
    for held in &held {
        let of = tables.iter_mut().filter(|t| t.plan.target == held.plan.target);
        of.for_each(|table| table.plan = held.streamed());
    }
    let is_stale = |record: &&DriftRecord| {
        record.state == DriftState::Held
            && !is_offer(record)
            && !held.iter().any(|held| held.plan.target == record.target)
    };
    let mut held_before: Vec<String> =
        records.iter().filter(is_stale).map(|record| record.target.clone()).collect();
    held_before.dedup();
    let refused = planned.refused.into_iter().map(|refused| refused.table).collect();
    let orphans = orphans.iter().map(|plan| plan.table().clone()).collect();
    let found = found.into_iter().map(|table| NamedTable::of(&table)).collect();
    let following = Following {
        unread: beside.iter().map(|table| table.table().clone()).collect(),
        as_they_are,
        offered: offered(&records),
        remapped,
        held_before,
        checkpoint,
        capture,
        tables,
        plans,
        held,
        found,
        refused,
        orphans,
        next_drift,
        captured_by,
    };
    Ok(Ready::ToFollow(Box::new(following)))
}

/// For each table, by its name in the target, what captures it.
type Captured<'a> = HashMap<&'a String, Option<&'a String>>;

/// The number of the next record of drift.
fn next_of(records: &[DriftRecord]) -> u64 {
    records.iter().map(|r| r.id).max().unwrap_or(0) + 1
}

/// Notes the tables that join; one that someone let in is noted already.
fn note_joining(context: &Context, missing: &[TablePlan], stored: &[StoredTable], records: &[DriftRecord]) {
    let joined = |t: &&TablePlan| !stored.is_empty() && is_new(t, stored);
    let is_noted = |t: &&TablePlan| records.iter().any(|r| is_offer(r) && r.table == t.table().to_string());
    for table in missing.iter().filter(joined).filter(|table| !is_noted(table)) {
        context.note(DriftKind::TableAdded, table, "it was made", DriftState::Followed);
    }
}

/// Reads the tables that are missing, but for those that can be read beside the others while they are followed: those are
/// made, and given.
async fn read_missing(
    context: &Context,
    checkpoint: &mut Checkpoint,
    capture: &CapturePlan,
    missing: Vec<TablePlan>,
    stored: &[StoredTable],
    captured: &Captured<'_>,
) -> Result<(Vec<TablePlan>, Vec<TableName>)> {
    let (beside, missing) = beside(context, checkpoint, missing, stored).await?;
    let mut as_they_are = Vec::new();
    for table in &beside {
        match context.pipeline.target.create(&context.pipeline.name, table).await {
            // It has rows from before, and what hangs on it: that they cannot be replaced is said when that is tried, and is
            // nothing to the others.
            // So where it does not fit among those that stand there.
            Err(AdapterError::Refused { .. })
                if table.gathered.is_some() || stored.iter().any(|s| s.plan.target == table.target) =>
            {
                as_they_are.push(table.table().clone());
            }
            made => made?,
        }
    }
    if !missing.is_empty() {
        let by = missing.iter().map(|t| captured.get(&t.target).copied().flatten().cloned()).collect();
        let from = counts_from(context, checkpoint, capture, (&missing, stored)).await?;
        load(context, &missing, Some(capture), TableState::Live, by, from).await?;
    }
    Ok((beside, as_they_are))
}

/// From when on what is read now counts. Where a table keeps more than the current rows, that is now, by the source's clock:
/// all that is merged later is later.
async fn counts_from(
    context: &Context,
    checkpoint: &mut Checkpoint,
    capture: &CapturePlan,
    (tables, stored): (&[TablePlan], &[StoredTable]),
) -> Result<CountsFrom> {
    let pipeline = &context.pipeline;
    if is_read(checkpoint, stored) && tables.iter().any(|table| !table.is_plain()) {
        let skew = pipeline.source.capture_state(capture).await?.head.skew;
        let now = Moment::of(skew.by_source_clock(Utc::now()));
        checkpoint.valid_from = now.max(checkpoint.valid_from.next());
        pipeline.target.save_checkpoint(checkpoint).await?;
    }
    let position = pipeline.source.parse_position(&checkpoint.position);
    Ok(CountsFrom::behind(position.as_ref(), checkpoint.valid_from))
}

/// Whether the first run has read all its tables: what is read now comes to them later.
fn is_read(checkpoint: &Checkpoint, stored: &[StoredTable]) -> bool {
    let is_read = |s: &StoredTable| !matches!(s.state, TableState::Waiting | TableState::Reading);
    checkpoint.sequence > 0 || (!stored.is_empty() && stored.iter().all(is_read))
}

/// Picked tables that the user may not carry: whoever administers the source may have left something that lets them in.
async fn let_in(
    context: &Context,
    capture: &CapturePlan,
    (found, planned): (Vec<SourceTable>, Plan),
    stored: &[StoredTable],
) -> Result<(Vec<SourceTable>, Plan)> {
    let pipeline = &context.pipeline;
    let is_asked_for = |table: &&TableName| stored.is_empty() || is_of_interest(pipeline, table);
    let refused: Vec<TableName> = refused_by_source(&planned, &found).filter(is_asked_for).cloned().collect();
    if refused.is_empty() {
        return Ok((found, planned));
    }
    let asked = pipeline.source.let_in(capture, &refused).await?;
    let (let_in, not): (Vec<_>, Vec<_>) = asked.into_iter().partition(|(_, why)| why.is_none());
    for (table, why) in not {
        let why = why.unwrap_or_default();
        context.say(Event::Warning { message: format!("{table} is not let in: {why}") });
    }
    if let_in.is_empty() {
        return Ok((found, planned));
    }
    let found = discover(pipeline).await?;
    let planned = plan_pipeline(pipeline, &found)?;
    lacks::refuse(pipeline, &planned)?;
    refuse_loops(context, &planned, &found).await?;
    Ok((found, planned))
}

/// Tables that are mapped in another way are carried as their rows were read, until they are altered.
fn carry_as_read(planned: &mut Plan, stored: &[StoredTable], remapped: &[TableName]) {
    for table in planned.tables.iter_mut().filter(|table| remapped.contains(table.table())) {
        let Some(stored) = stored.iter().find(|s| s.plan.is_of_same(table)) else { continue };
        *table = TablePlan {
            existing_rows: table.existing_rows,
            on_reject: table.on_reject,
            mismatch: table.mismatch,
            each_change: table.each_change,
            ..stored.plan.clone()
        };
    }
}

/// The tables whose changes are kept until someone decides, with what happened to them.
async fn held(context: &Context, plans: &[TablePlan], memos: &[(String, Vec<u8>)]) -> Result<Vec<Held>> {
    let pipeline = &context.pipeline;
    let stored = pipeline.target.tables(&pipeline.name).await?;
    let records = holding::records(memos)?;
    let mut all = Vec::new();
    for stored in stored.into_iter().filter(|s| s.state == TableState::Held) {
        let target = stored.plan.target.clone();
        if !plans.iter().any(|t| t.target == target) {
            continue;
        }
        let id = |place: usize| {
            let mut of = records.iter().filter(|r| r.target == target);
            of.find(|r| r.held_place.map(|at| at as usize) == Some(place)).map_or(0, |r| r.id)
        };
        let steps = holding::steps(memos, &target)?;
        let changes =
            steps.into_iter().enumerate().map(|(at, step)| HeldChange { id: id(at), step, decision: None });
        all.push(Held { plan: Arc::new(stored.plan), changes: changes.collect() });
    }
    Ok(all)
}

/// Nobody starts a pipeline without the tables that were meant.
fn refuse_patterns(unmatched: &[Unmatched]) -> Result<()> {
    match unmatched {
        [] => Ok(()),
        [first, ..] => Err(EngineError::Pattern { what: first.to_string() }),
    }
}

fn something_to_carry(context: &Context, planned: &Plan) -> Result<()> {
    if !planned.tables.is_empty() {
        return Ok(());
    }
    let reason = if planned.refused.is_empty() {
        "no table of the source matches `include` and `exclude`; `moorage tables` shows what is there"
    } else {
        "every picked table was refused, see above"
    };
    Err(EngineError::NothingToCarry { pipeline: context.pipeline.name.clone(), reason: reason.into() })
}

async fn look_and_decide(
    context: &Context,
    checkpoint: Option<&Checkpoint>,
    capture: &CapturePlan,
) -> Result<(CaptureState, Decision)> {
    let begun = Instant::now();
    loop {
        let (state, decision) = look_once(&context.pipeline, checkpoint, capture).await?;
        match &decision {
            Decision::Refuse(Refusal::InUse { name, by, .. }) if begun.elapsed() < HELD_PATIENCE => {
                if begun.elapsed() > Duration::from_secs(1) {
                    let waited_ms = begun.elapsed().as_millis() as u64;
                    context.say(Event::Waiting { what: format!("{name} is in use by {by}"), waited_ms });
                }
                tokio::time::sleep(Duration::from_millis(100)).await;
            }
            _ => return Ok((state, decision)),
        }
    }
}

/// Makes the tables that a pipeline without a snapshot does not have yet. One that was forgotten is there:
/// it is read, as its user asked.
async fn make_without_snapshot(
    context: &Context,
    planned: &Plan,
    captured_by: &[Option<String>],
) -> Result<()> {
    let pipeline = &context.pipeline;
    let stored = pipeline.target.tables(&pipeline.name).await?;
    let is_new = |t: &TablePlan| stored.iter().all(|s| s.plan.target != t.target);
    for (table, by) in planned.tables.iter().zip(captured_by).filter(|(t, _)| is_new(t)) {
        pipeline.target.create(&pipeline.name, table).await?;
        let captured_by = by.clone();
        let from = CountsFrom::default();
        let end =
            moorage_adapter::LoadedTable { from, state: TableState::ChangesOnly, mark: None, captured_by };
        pipeline.target.finish_load(&pipeline.name, table, end).await?;
    }
    Ok(())
}

fn missing(planned: &Plan, stored: &[StoredTable]) -> Vec<TablePlan> {
    let ready: HashMap<&str, TableState> = stored.iter().map(|s| (s.plan.target.as_str(), s.state)).collect();
    let followed = |t: &&TablePlan| {
        let state = ready.get(t.target.as_str());
        !matches!(state, Some(TableState::Live | TableState::Held | TableState::ChangesOnly))
    };
    planned.tables.iter().filter(followed).cloned().collect()
}

/// Tables that are read while the others are followed, and those that are read before: where there are no others, nobody waits, and
/// where people have rows of their own in the target's table, these are kept apart first.
async fn beside(
    context: &Context,
    checkpoint: &Checkpoint,
    missing: Vec<TablePlan>,
    stored: &[StoredTable],
) -> Result<(Vec<TablePlan>, Vec<TablePlan>)> {
    let pipeline = &context.pipeline;
    // Tables that are read beside come to their places together: what a first run left is read one by one.
    if !is_read(checkpoint, stored)
        || !stored.iter().any(|s| matches!(s.state, TableState::Live | TableState::Held))
    {
        return Ok((Vec::new(), missing));
    }
    let (mut beside, mut before) = (Vec::new(), Vec::new());
    for table in missing {
        let is_ours = match pipeline.target.describe(table.stands_in()).await? {
            None => true,
            Some(there) => there.owner.as_ref() == Some(&pipeline.name) && table.existing_rows.is_none(),
        };
        if is_ours { beside.push(table) } else { before.push(table) }
    }
    Ok((beside, before))
}

async fn load(
    context: &Context,
    tables: &[TablePlan],
    capture: Option<&CapturePlan>,
    finished_as: TableState,
    captured_by: Vec<Option<String>>,
    from: CountsFrom,
) -> Result<()> {
    let pipeline = &context.pipeline;
    let mut hidden = Vec::with_capacity(tables.len());
    for table in tables {
        let before = pipeline.target.describe(table.stands_in()).await?;
        hidden.push(before.is_some_and(|t| t.rows > 0 && t.owner.is_some()));
        pipeline.target.create(&pipeline.name, table).await?;
    }
    let estimates: HashMap<_, _> =
        pipeline.source.discover().await?.into_iter().map(|t| (t.name, t.row_estimate)).collect();
    let of = |t: &TablePlan| (t.table().to_string(), estimates.get(t.table()).copied().flatten());
    context.say(Event::SnapshotStarted { tables: tables.iter().map(of).collect() });
    let loader = Loader::new(context, tables, finished_as, hidden, captured_by, from)?;
    pipeline.source.snapshot(tables, capture, Arc::new(loader), &context.events).await?;
    Ok(())
}

/// The tables with the marks that the target keeps beside their rows.
async fn stream_tables(context: &Context, planned: &Plan) -> Result<Vec<StreamTable>> {
    let pipeline = &context.pipeline;
    let stored = pipeline.target.tables(&pipeline.name).await?;
    let mark = |table: &TablePlan| -> Result<Option<SnapshotMark>> {
        let kept = stored.iter().find(|s| s.plan.target == table.target).and_then(|s| s.mark.clone());
        let Some((text, position)) = kept else { return Ok(None) };
        let complete_at =
            pipeline.source.parse_position(&position).ok_or(EngineError::NotAPosition { text: position })?;
        Ok(Some(SnapshotMark { text, complete_at }))
    };
    planned.tables.iter().map(|t| Ok(StreamTable { plan: t.clone(), mark: mark(t)? })).collect()
}

/// `--snapshot-only`: rows are copied, consistent with each other, and nothing is made in the source. A
/// second run copies again.
async fn copy(
    context: &Context,
    checkpoint: Option<Checkpoint>,
    planned: &Plan,
    turn: bool,
) -> Result<Ready> {
    let pipeline = &context.pipeline;
    if checkpoint.as_ref().is_some_and(|c| c.stage == Stage::Following) {
        return Err(EngineError::FollowsAlready { pipeline: pipeline.name.clone() });
    }
    something_to_carry(context, planned)?;
    for table in &planned.tables {
        pipeline.target.check(&pipeline.name, table).await?;
    }
    let capture = pipeline.capture(checkpoint.as_ref()).await?;
    let identity = pipeline.source.capture_state(&capture).await?.identity;
    take_first_turn(context, turn).await?;
    let by = vec![None; planned.tables.len()];
    let checkpoint = new_checkpoint(context, identity, &capture, Stage::SnapshotOnly);
    let from = CountsFrom::behind(None, checkpoint.valid_from);
    load(context, &planned.tables, None, TableState::Copied, by, from).await?;
    pipeline.target.save_checkpoint(&checkpoint).await?;
    Ok(Ready::Copied)
}

//! How the tables of a pipeline stand, and what waits for a decision, for whoever looks beside the run.

use crate::pipeline::context::Context;
use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::Result;
use crate::pipeline::measuring::Measuring;
use crate::run::holding::records;
use moorage_adapter::{Event, LeftOut, MemoKind, StoredTable, TableState};
use moorage_core::drift::record::{DriftRecord, DriftState, RecordedColumn};
use moorage_core::watch::alerts::seen::{DriftSeen, TableSeen, Trouble, Undecided};
use moorage_monitor::{RunEvent, Severity, Standings};
use std::convert::Infallible;
use std::time::{Duration, Instant};

/// After something happened, it is looked at most so often: tables come in crowds.
const LOOK_EVERY: Duration = Duration::from_secs(2);
/// However quiet it is: someone may have settled rejects.
const LOOK_AT_LEAST_EVERY: Duration = Duration::from_secs(60);
/// How many changes of structure are told of, the last ones: each is an event, and hundreds of tables may be altered at once.
const MOST_DRIFT: usize = 1_000;
/// How many columns of each.
const MOST_COLUMNS: usize = 50;

/// Notes what an event says of how tables stand.
pub(crate) fn note(measuring: &Measuring, event: &Event) {
    if matches!(event, Event::Stopping { .. }) || Severity::of(event).is_none() {
        return;
    }
    measuring.with(|m| {
        m.standings_may_differ = true;
        m.left_out.note(event);
    });
}

/// Tells again and again how the tables stand, and never ends. What cannot be asked now is told later.
pub(crate) async fn tell(context: &Context) -> Infallible {
    let mut told_at: Option<Instant> = None;
    loop {
        tokio::time::sleep(LOOK_EVERY).await;
        let is_late = told_at.is_none_or(|at| at.elapsed() >= LOOK_AT_LEAST_EVERY);
        if !context.measuring.with(|m| std::mem::take(&mut m.standings_may_differ)) && !is_late {
            continue;
        }
        match standings_now(context).await {
            Ok(standings) => {
                context.notes.standings(standings);
                told_at = Some(Instant::now());
            }
            Err(error) => {
                context.measuring.with(|m| m.standings_may_differ = true);
                tracing::debug!("how the tables stand is not known: {error}");
            }
        }
    }
}

/// How the tables of a run stand now.
///
/// # Errors
/// If the target cannot be read.
pub(crate) async fn standings_now(context: &Context) -> Result<Standings> {
    let left_out = context.measuring.with(|m| m.left_out.clone());
    standings(&context.pipeline, left_out.tables()).await
}

/// The tables that a run left out, with why.
pub(crate) fn left_out(events: &[RunEvent]) -> LeftOut {
    LeftOut::of(events.iter().map(|event| &event.what))
}

/// How the tables stand, from what the target remembers, and those that were left out, with why.
///
/// # Errors
/// If the target cannot be read.
pub(crate) async fn standings(pipeline: &Pipeline, left_out: &[(String, String)]) -> Result<Standings> {
    let (name, target) = (&pipeline.name, &pipeline.target);
    if target.checkpoint(name).await?.is_none() {
        return Ok(Standings::default());
    }
    let stored = target.tables(name).await?;
    let records = records(&target.memos(name, MemoKind::Structure).await?)?;
    let mut tables: Vec<TableSeen> = stored.iter().map(|stored| table(name, stored, &records)).collect();
    left_out.iter().for_each(|left_out| add_left_out(name, &mut tables, left_out));
    let newest = records.len().saturating_sub(MOST_DRIFT);
    Ok(Standings {
        tables,
        undecided: records.iter().filter(|record| waits(record)).map(undecided).collect(),
        drift: records[newest..].iter().map(drift).collect(),
    })
}

fn waits(record: &DriftRecord) -> bool {
    record.state == DriftState::Held
}

fn table(pipeline: &str, stored: &StoredTable, records: &[DriftRecord]) -> TableSeen {
    let of = |record: &&DriftRecord| record.target == stored.plan.target && waits(record);
    let of: Vec<&DriftRecord> = records.iter().filter(of).collect();
    let held = (stored.state == TableState::Held).then(|| Trouble {
        what: format!("held: {}", of.iter().map(|r| r.detail.as_str()).collect::<Vec<_>>().join("; ")),
        since: of.iter().map(|record| record.seen_at).min(),
        next: match of.first() {
            Some(first) => format!("moorage drift show {} --pipeline {pipeline}", first.id),
            None => format!("moorage drift --pipeline {pipeline}"),
        },
    });
    let failed = (stored.state == TableState::NeedsResnapshot).then(|| Trouble {
        what: "it is to be read again".into(),
        since: None,
        next: format!("moorage status {pipeline}"),
    });
    TableSeen {
        table: stored.plan.table().to_string(),
        target: stored.plan.target.clone(),
        state: stored.state.word().into(),
        held,
        failed,
        rejects: stored.counters.rejected,
    }
}

/// Adds a table that was left out, if it was not carried since.
fn add_left_out(pipeline: &str, tables: &mut Vec<TableSeen>, (table, why): &(String, String)) {
    let what = format!("it is left out: {why}");
    let trouble = Trouble { what, since: None, next: format!("moorage plan {pipeline}") };
    match tables.iter_mut().find(|known| known.table == *table) {
        Some(known) if known.state == TableState::Live.word() => {}
        Some(known) => drop(known.failed.get_or_insert(trouble)),
        None => {
            tables.push(TableSeen { table: table.clone(), failed: Some(trouble), ..TableSeen::default() })
        }
    }
}

fn undecided(record: &DriftRecord) -> Undecided {
    let DriftRecord { id, table, detail, seen_at, .. } = record.clone();
    Undecided { id, table, what: detail, since: seen_at }
}

fn drift(record: &DriftRecord) -> DriftSeen {
    let DriftRecord { id, table, detail, seen_at, state, .. } = record.clone();
    let columns = columns(&record.before, &record.after);
    DriftSeen { id, table, what: detail, columns, done: state.word().into(), at: seen_at }
}

/// The columns that are other than before, as they were and as they are.
fn columns(before: &[RecordedColumn], after: &[RecordedColumn]) -> Vec<(Option<String>, Option<String>)> {
    let shown = |column: &RecordedColumn| format!("{} {}", column.column, column.source_type);
    // By its number a column is the same whatever it is called.
    let same = |a: &RecordedColumn, b: &RecordedColumn| match a.number.zip(b.number) {
        Some((a, b)) => a == b,
        None => a.column == b.column,
    };
    let mut all = Vec::new();
    for old in before {
        let new = after.iter().find(|new| same(old, new));
        if new.is_none_or(|new| shown(new) != shown(old)) {
            all.push((Some(shown(old)), new.map(shown)));
        }
    }
    let is_new = |new: &&RecordedColumn| before.iter().all(|old| !same(old, new));
    all.extend(after.iter().filter(is_new).map(|new| (None, Some(shown(new)))));
    all.truncate(MOST_COLUMNS);
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_are_told_apart_by_their_numbers() {
        let column = |number, column: &str, source_type: &str| RecordedColumn {
            column: column.into(),
            source_type: source_type.into(),
            number,
        };
        let before = [
            column(Some(1), "id", "integer"),
            column(Some(2), "fee", "integer"),
            column(Some(3), "note", "text"),
        ];
        let after = [
            column(Some(1), "id", "integer"),
            column(Some(2), "fee_eur", "integer"),
            column(Some(4), "note", "text"),
        ];
        let some = |text: &str| Some(text.to_string());
        assert_eq!(
            columns(&before, &after),
            [
                (some("fee integer"), some("fee_eur integer")),
                (some("note text"), None),
                (None, some("note text")),
            ]
        );
        let unnumbered = [column(None, "fee", "text")];
        assert_eq!(columns(&before[1..2], &unnumbered), [(some("fee integer"), some("fee text"))]);
    }
}

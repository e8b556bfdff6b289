//! Proving that both sides agree while changes go on.
//!
//! Two looks, the source's later than the target's, and the captured changes between them. A difference is
//! set aside as in flight only if one of these changes is about that very key; nothing is read twice until it
//! fits, nothing waits. Tables without a key are counted as multisets, to which the changes between are added
//! exactly.

use crate::look::between::Between;
use crate::look::compare::Compare;
use crate::look::verdict::{TableVerdict, Verdict, VerifyOptions};
use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::{EngineError, Result};
use crate::pipeline::mappers::Mappers;
use crate::pipeline::select::{chosen, stream_table};
use moorage_adapter::{CapturePlan, Events, GONE, StoredTable, TableState};
use moorage_core::checkpoint::stored::{Checkpoint, Stage};
use moorage_core::compare::difference::Counts;
use moorage_core::plan::table::TablePlan;

/// Compares both sides of a pipeline. Changes nothing.
///
/// # Errors
/// If a side cannot be read, a table is not the pipeline's, or so much lies between the two sides that it
/// cannot be kept in mind.
pub async fn verify(pipeline: &Pipeline, options: &VerifyOptions, events: &Events) -> Result<Verdict> {
    let not_set_up = || EngineError::NeverRun { pipeline: pipeline.name.clone() };
    let before = pipeline.target.checkpoint(&pipeline.name).await?.ok_or_else(not_set_up)?;
    let stored = chosen(pipeline, pipeline.target.tables(&pipeline.name).await?, &options.tables)?;
    let followed = before.stage == Stage::Following;
    let capture = pipeline.capture(Some(&before)).await?;
    let (gone, aside, stored) = without_gone(pipeline, &capture, stored).await?;
    let tables = stored.iter().map(|s| stream_table(pipeline, s)).collect::<Result<Vec<_>>>()?;
    let mut source = pipeline.source.look(followed.then_some(&capture), &tables).await?;
    let mut target = pipeline.target.look(&pipeline.name).await?.ok_or_else(not_set_up)?;
    let checkpoint = target.checkpoint().filter(|c| c.stage == Stage::Following).cloned();
    source.fix(checkpoint.as_ref()).await?;
    let plans: Vec<TablePlan> = tables.iter().map(|t| t.plan.comparable()).collect();
    let mappers = Mappers::new(&plans)?;
    let between = Between::gather(source.as_mut(), &plans, &mappers).await?;
    let mut verdicts: Vec<TableVerdict> = aside.into_iter().map(|(s, why)| skipped(&s.plan, why)).collect();
    for (at, stored) in stored.iter().enumerate() {
        // As it is now: its state may have changed since the first look.
        let now = target.tables().iter().find(|t| t.plan.target == stored.plan.target).cloned();
        let first = &plans[at];
        for form in std::iter::once(first).chain(first.also.iter().map(AsRef::as_ref)) {
            // What is of a change, and not of the row, cannot be compared.
            let comparable = form.comparable();
            let (plan, between) = (&comparable, &between.tables[at]);
            let compare = Compare { at, plan, mappers: &mappers, between, options, events };
            let cannot = form.kept_as.not_comparable(options.counts_only).map(str::to_string);
            verdicts.push(match why_not(now.as_ref(), stored).or(cannot) {
                Some(why) => skipped(form, why),
                None => compare.run(source.as_mut(), target.as_mut()).await?,
            });
        }
    }
    Ok(Verdict {
        pipeline: pipeline.name.clone(),
        agrees: verdicts.iter().all(|v| v.agrees),
        gone,
        counts_only: options.counts_only,
        position: checkpoint.as_ref().map(|c: &Checkpoint| c.position.clone()),
        complete_up_to: checkpoint.and_then(|c| c.committed_at),
        changes_between: between.changes,
        tables: verdicts,
    })
}

/// Tables that are not compared, each with why.
type Aside = Vec<(StoredTable, String)>;

/// Sets those aside that are not followed any more, or will not be by the next run; and those whose structure in the source
/// is one that the target has not come to: neither side could be read in the same way.
async fn without_gone(
    pipeline: &Pipeline,
    capture: &CapturePlan,
    stored: Vec<StoredTable>,
) -> Result<(Vec<String>, Aside, Vec<StoredTable>)> {
    let followed = stored.iter().filter(|s| s.state != TableState::Gone);
    let plans: Vec<TablePlan> = followed.map(|s| s.plan.clone()).collect();
    let drifted = pipeline.source.drifted(capture, &plans).await?;
    let left = |s: &StoredTable| {
        let vanished = drifted.iter().any(|(schema, what)| what == GONE && schema.table == *s.plan.table());
        s.state == TableState::Gone || vanished
    };
    let (gone, stored): (Vec<_>, Vec<_>) = stored.into_iter().partition(left);
    let is_elsewhere = |plan: &TablePlan| stored.iter().any(|s| s.plan.is_of_same(plan));
    let name = |plan: &TablePlan| match is_elsewhere(plan) {
        true => plan.target.clone(),
        false => plan.table().to_string(),
    };
    let gone = gone.iter().map(|s| name(&s.plan)).collect();
    let (mut aside, mut compared) = (Aside::new(), Vec::new());
    for table in stored {
        let drift = drifted.iter().find(|(schema, _)| schema.table == *table.plan.table());
        let why = match (table.state, drift) {
            (TableState::Held, _) => HELD.to_string(),
            (TableState::Live, Some((_, what))) if pipeline.source.tells_of_structure() => {
                format!(
                    "{what}, and the target has not come there yet: `moorage run` does, then verify once more"
                )
            }
            _ => {
                compared.push(table);
                continue;
            }
        };
        aside.push((table, why));
    }
    Ok((gone, aside, compared))
}

pub(super) const HELD: &str = "its changes are held until someone decides: `moorage drift` shows about what";

fn why_not(now: Option<&StoredTable>, before: &StoredTable) -> Option<String> {
    match now {
        None => Some("it is not carried any more".into()),
        Some(now) if now.plan != before.plan || now.mark != before.mark => {
            Some("it was read again meanwhile: verify once more".into())
        }
        Some(now) => match now.state {
            TableState::Live | TableState::Copied => None,
            TableState::Waiting | TableState::Reading => Some("its snapshot has not finished".into()),
            TableState::NeedsResnapshot => Some("it is to be read again: the next run does it".into()),
            TableState::Held => Some(HELD.into()),
            TableState::Gone => Some("it is not followed any more".into()),
            TableState::ChangesOnly => {
                Some("it follows changes only: the target never got the rows that were there before".into())
            }
        },
    }
}

fn skipped(plan: &TablePlan, why: String) -> TableVerdict {
    TableVerdict {
        table: plan.table().to_string(),
        target: plan.stands_in().into(),
        agrees: false,
        not_compared: Some(why),
        counts: Counts::default(),
        differences: Vec::new(),
        elapsed_ms: 0,
        rows_per_second: 0,
    }
}

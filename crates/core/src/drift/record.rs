//! What is kept of each change of structure that was met, for people.

use crate::change::structure::Step;
use crate::drift::alter::{Alteration, Then};
use crate::drift::difference::differences;
use crate::model::described::SourceColumn;
use crate::model::drift::{DriftKind, DriftPolicy};
use crate::plan::table::TablePlan;
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// What became of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum DriftState {
    /// The target table was changed likewise, or nothing of it had to be.
    Followed,
    /// The target table was left as it is.
    Left,
    /// The table's changes are kept until someone decides.
    Held,
    /// The table is read again, or was.
    Rereading,
    /// The pipeline stopped before it.
    Stopped,
}

impl DriftState {
    /// The word for people.
    pub fn word(self) -> &'static str {
        match self {
            Self::Followed => "followed",
            Self::Left => "left",
            Self::Held => "held",
            Self::Rereading => "read again",
            Self::Stopped => "stopped",
        }
    }
}

/// A column as it was, or as it is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RecordedColumn {
    /// What it is called.
    pub column: String,
    /// Its type in the source.
    pub source_type: String,
    /// The source's own number for it.
    pub number: Option<u32>,
}

/// A change of structure that was met.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct DriftRecord {
    /// Its number in the pipeline, from 1.
    pub id: u64,
    /// The source table, as it was called before.
    pub table: String,
    /// The target table.
    pub target: String,
    /// What kinds of changes it was.
    pub kinds: Vec<DriftKind>,
    /// What changed, for people.
    pub detail: String,
    /// The columns before.
    pub before: Vec<RecordedColumn>,
    /// The columns after.
    pub after: Vec<RecordedColumn>,
    /// The position of the transaction that it took effect with, or of the last one in front of it where the pipeline stopped;
    /// empty if that is not known yet.
    #[serde(default)]
    pub position: String,
    /// When that was committed in the source.
    #[serde(default)]
    pub committed_at: Option<DateTime<Utc>>,
    /// When it was met.
    pub seen_at: DateTime<Utc>,
    /// What became of it.
    pub state: DriftState,
    /// What someone decided, if someone did; of a stop, that it was one.
    #[serde(default)]
    pub decision: Option<String>,
    /// The statements that were, or would be, carried out in the target.
    #[serde(default)]
    pub statements: Vec<String>,
    /// Which of the table's held changes it is, from 0; only of those that are held.
    #[serde(default)]
    pub held_place: Option<u32>,
}

fn columns(of: &[SourceColumn]) -> Vec<RecordedColumn> {
    let recorded = |c: &SourceColumn| RecordedColumn {
        column: c.column.name.clone(),
        source_type: c.column.source_type.clone(),
        number: c.number,
    };
    of.iter().map(recorded).collect()
}

/// What an alteration comes to.
pub fn state_of(alteration: &Alteration) -> DriftState {
    match (alteration.then, alteration.steps.is_empty()) {
        (Then::Holds, _) => DriftState::Held,
        (Then::Rereads, _) => DriftState::Rereading,
        (Then::Merges, false) => DriftState::Followed,
        (Then::Merges, true) => DriftState::Left,
    }
}

impl DriftRecord {
    /// Of something that became of a whole table, without a number.
    pub fn of_table(
        kind: DriftKind,
        plan: &TablePlan,
        detail: &str,
        state: DriftState,
        seen_at: DateTime<Utc>,
    ) -> Self {
        let known = plan.structure.as_deref().map(|known| columns(&known.columns)).unwrap_or_default();
        let (before, after) = match kind {
            DriftKind::TableAdded => (Vec::new(), known),
            DriftKind::TableDropped => (known, Vec::new()),
            _ => (Vec::new(), Vec::new()),
        };
        Self {
            id: 0,
            table: plan.table().to_string(),
            target: plan.target.clone(),
            kinds: vec![kind],
            detail: detail.into(),
            before,
            after,
            position: String::new(),
            committed_at: None,
            seen_at,
            state,
            // It was so then, whatever the file says by now.
            decision: (state == DriftState::Stopped).then(|| DriftPolicy::Stop.word().to_string()),
            statements: Vec::new(),
            held_place: None,
        }
    }

    /// Of a change that a pipeline stops before, without a number.
    pub fn stopped(before: &Arc<TablePlan>, step: &Arc<Step>, what: &str, seen_at: DateTime<Utc>) -> Self {
        let (before, after, step) = (before.clone(), before.clone(), step.clone());
        let (what, then, steps) = (what.to_string(), Then::Holds, Vec::new());
        let alteration =
            Alteration { before, after, steps, then, what, id: 0, step, would: None, also: Vec::new() };
        let decision = Some(DriftPolicy::Stop.word().to_string());
        let state = DriftState::Stopped;
        Self { state, decision, ..Self::of(0, &alteration, Vec::new(), seen_at) }
    }

    /// The record of a stop with what is kept of it already, if the last record of its table is of the same stop: the next run
    /// met it again. What stands in front of it may be more by then.
    pub fn again(self, known: &[Self]) -> Self {
        let last = known.iter().rev().find(|known| known.table == self.table);
        let is_stop = |record: &Self| record.state == DriftState::Stopped;
        let is_same = |last: &&Self| {
            is_stop(last) && is_stop(&self) && (&last.kinds, &last.detail) == (&self.kinds, &self.detail)
        };
        match last.filter(is_same) {
            Some(last) => Self { id: last.id, seen_at: last.seen_at, ..self },
            None => self,
        }
    }

    /// Of an alteration that is met now.
    pub fn of(id: u64, alteration: &Alteration, statements: Vec<String>, seen_at: DateTime<Utc>) -> Self {
        let step = &alteration.step;
        let known = alteration.before.structure.as_deref();
        let found = known.map(|known| differences(known, step)).unwrap_or_default();
        let mut kinds: Vec<DriftKind> = found.iter().map(|d| d.kind(step.unknown.as_ref())).collect();
        kinds.sort_unstable();
        kinds.dedup();
        Self {
            id,
            table: alteration.before.table().to_string(),
            target: alteration.before.target.clone(),
            kinds,
            detail: alteration.what.clone(),
            before: known.map(|known| columns(&known.columns)).unwrap_or_default(),
            after: columns(&step.after.columns),
            position: String::new(),
            committed_at: None,
            seen_at,
            state: state_of(alteration),
            decision: None,
            statements,
            held_place: None,
        }
    }
}

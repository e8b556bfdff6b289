//! How the tables of a run are carried, from one change of structure to the next.

use crate::before::draft::by;
use crate::pipeline::context::Following;
use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::{EngineError, Result};
use crate::pipeline::mappers::Mappers;
use crate::run::waiting::{alterations, holds, is_done_by_hand, unread};
use chrono::{DateTime, Utc};
use moorage_adapter::Event;
use moorage_core::apply::batch::Collected;
use moorage_core::change::block::ChangeBlock;
use moorage_core::change::segment::Segment;
use moorage_core::change::structure::SchemaChange;
use moorage_core::drift::alter::{Alteration, Then};
use moorage_core::drift::decide::{Decision, decide, remap};
use moorage_core::drift::difference::differences;
use moorage_core::drift::held::{Held, HeldChange, Release};
use moorage_core::drift::record::DriftRecord;
use moorage_core::drift::standing::TargetColumns;
use moorage_core::model::drift::DriftPolicy;
use moorage_core::model::name::TableName;
use moorage_core::model::structure::Structure;
use moorage_core::plan::carried::CarriedTables;
use moorage_core::plan::table::TablePlan;
use moorage_core::watch::meter::Fate;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

/// The tables, as they are carried behind all that was read from the stream.
pub(crate) struct Carrying {
    plans: CarriedTables,
    mappers: Mappers,
    /// By the names that their plans have.
    held: HashMap<TableName, Held>,
    /// Whose changes are not merged, because the table is to be read again: the target says so in the batch from which on
    /// they are missing.
    unmerged: HashSet<TableName>,
    /// Those among them that were never read.
    first: HashSet<TableName>,
    /// Whose changes are not merged, because there was no room to hold them, or the target cannot take them as they are to be:
    /// the next run reads them again, or this one once someone asks.
    left_out: HashSet<TableName>,
    /// Held ones that are not in the source any more.
    orphans: Vec<TableName>,
    /// The number of the next record of drift.
    next_id: u64,
    /// What was committed before this is left out.
    starts_at: Option<DateTime<Utc>>,
}

/// What something leads to.
pub(crate) enum Led {
    /// Nothing: the table is not carried.
    Nowhere,
    /// Something is done to the table, which is told if it is of any interest.
    To(Collected, Option<Event>),
    /// The stream ends with it, and that is recorded if the project file says so.
    Ends(SchemaChange, Option<Box<DriftRecord>>),
}

impl From<Option<(Collected, Event)>> for Led {
    fn from(done: Option<(Collected, Event)>) -> Self {
        done.map_or(Self::Nowhere, |(next, event)| Self::To(next, Some(event)))
    }
}

impl Carrying {
    pub(crate) fn new(following: &Following) -> Result<Self> {
        let plans: CarriedTables = following.plans.iter().cloned().collect();
        let (held, next_id) = (following.held.clone(), following.next_drift);
        let mut mappers = Mappers::new(plans.iter().map(AsRef::as_ref))?;
        held.iter().for_each(|held| mappers.remove(&held.plan));
        let held: HashMap<TableName, Held> =
            held.into_iter().map(|held| (held.plan.table().clone(), held)).collect();
        Ok(Self {
            plans: plans.holding(held.keys().cloned()),
            mappers,
            held,
            unmerged: following.unread.iter().cloned().collect(),
            first: following.unread.iter().cloned().collect(),
            left_out: HashSet::new(),
            orphans: following.orphans.clone(),
            next_id,
            starts_at: following.checkpoint.starts_at,
        })
    }

    /// The number of the next record of drift.
    pub(crate) fn next_id(&self) -> u64 {
        self.next_id
    }

    pub(crate) fn plans(&self) -> &CarriedTables {
        &self.plans
    }

    /// The plan of a table that people name.
    pub(crate) fn named(&self, table: &str) -> Option<&Arc<TablePlan>> {
        self.plans.iter().find(|p| p.table().to_string() == table)
    }

    /// The tables that have to be read again.
    pub(crate) fn unmerged(&self) -> impl Iterator<Item = &Arc<TablePlan>> {
        self.plans.iter().filter(|plan| self.unmerged.contains(plan.table()))
    }

    /// Whether a table is yet to be read for the first time since its target table was made.
    pub(crate) fn is_first(&self, table: &TableName) -> bool {
        self.first.contains(table)
    }

    /// Whether a table's changes are kept and not merged.
    pub(crate) fn is_held(&self, table: &TableName) -> bool {
        self.held.contains_key(table)
    }

    /// What becomes of a table's changes.
    pub(crate) fn fate(&self, table: &TableName) -> Fate {
        match table {
            table if self.held.contains_key(table) => Fate::Kept,
            table if self.unmerged.contains(table) || self.left_out.contains(table) => Fate::LeftOut,
            _ => Fate::Merged,
        }
    }

    /// Whether there is any table whose changes are merged.
    pub(crate) fn merges_any(&self) -> bool {
        let few = self.held.is_empty() && self.unmerged.is_empty() && self.left_out.is_empty();
        few || self.plans.iter().any(|plan| self.fate(plan.table()) == Fate::Merged)
    }

    /// Rows that were read again take their place: changes that come from here on are merged.
    pub(crate) fn replaces<'a>(&mut self, tables: impl Iterator<Item = &'a TableName>) {
        tables.for_each(|table| {
            self.unmerged.remove(table);
            self.first.remove(table);
            self.left_out.remove(table);
        });
    }

    /// There was no room for what was to be kept of a target table: its changes are not merged before someone has it read
    /// again. Gives what has it carried as it has come to be, for that.
    pub(crate) fn is_full(&mut self, pipeline: &Pipeline, target: &str) -> Option<Collected> {
        let table = self.plans.iter().find(|plan| plan.target == target)?.table().clone();
        let held = self.held.remove(&table);
        if self.unmerged.contains(&table) {
            // Meanwhile someone has.
            return None;
        }
        self.left_out.insert(table);
        let held = held?;
        let follow = by(pipeline, Some(DriftPolicy::Follow));
        let led = held.changes.last().map(|last| decide(&held.plan, &last.step, &follow));
        let alteration = match led {
            Some(Decision::Alter(alteration)) if alteration.then != Then::Holds => alteration.unread(),
            _ => unread(&held.plan),
        };
        self.go_on(&held.plan, &alteration.after, Then::Rereads).ok()?;
        Some(Collected::Alter(Arc::new(alteration)))
    }

    /// A stretch of the stream with the columns that are read of each table.
    pub(crate) fn read(&self, segment: Segment) -> Result<Segment> {
        let renamed = |block: ChangeBlock| -> Result<ChangeBlock> {
            let held = self.held.values().find(|held| *held.streamed_as() == block.schema().table);
            match held {
                Some(held) if held.plan.table() != held.streamed_as() => Ok(block.named(held.plan.table())),
                _ => Ok(block),
            }
        };
        let segment = if self.held.is_empty() { segment } else { segment.each(renamed)? };
        let segment = match self.starts_at {
            Some(at) => segment.each(|block| Ok::<_, EngineError>(block.only(|t| t.committed_at >= at)))?,
            None => segment,
        };
        Ok(self.mappers.read(segment)?)
    }

    /// What of it goes into the target, as the target takes it.
    pub(crate) fn merged(&self, mut segment: Segment) -> Result<Segment> {
        let is_left = |table: &TableName| self.unmerged.contains(table) || self.left_out.contains(table);
        if !self.unmerged.is_empty() || !self.left_out.is_empty() {
            segment.blocks.retain(|block| !is_left(&block.schema().table));
        }
        // Whoever had all that was before needs nothing of it.
        segment.fleeting.clear();
        Ok(self.mappers.segment(segment)?)
    }

    /// A table's structure has changed, behind all that was read. `in_the_way` is what has the target not alter it, if that
    /// was tried: then it is held.
    pub(crate) fn change(
        &mut self,
        pipeline: &Pipeline,
        change: SchemaChange,
        in_the_way: Option<&String>,
    ) -> Result<Led> {
        let Some(step) = change.step.clone() else { return Ok(Led::Ends(change, None)) };
        if let Some(held) = self.held.values_mut().find(|held| *held.streamed_as() == change.table) {
            let id = self.next_id;
            if change.what.is_empty() {
                return Ok(Led::Nowhere);
            }
            self.next_id += 1;
            // What differs from the last one; the target's table is still what it was before the first.
            let last = held.changes.last().map(|last| Structure::of(&last.step.after));
            let known = last.as_ref().or(held.plan.structure.as_deref());
            let found = known.map(|known| differences(known, &step));
            let what = found.iter().flatten().map(ToString::to_string).collect::<Vec<_>>().join(", ");
            let before = TablePlan { structure: known.cloned().map(Arc::new), ..(*held.plan).clone() };
            held.changes.push(HeldChange { id, step, decision: None });
            return Ok(holds(pipeline, held, Arc::new(before), what).into());
        }
        let Some((_, before)) = self.plans.of(&change.table) else { return Ok(Led::Nowhere) };
        let before = before.clone();
        // What is read again waits for nobody: nothing is kept of it that could be applied later.
        let is_unmerged = self.unmerged.contains(before.table());
        let is_unread = is_unmerged || self.left_out.contains(before.table());
        let decision = is_unread.then_some(DriftPolicy::Follow);
        let mut alteration = match decide(&before, &step, &by(pipeline, decision)) {
            Decision::Stop { what } => {
                let record = DriftRecord::stopped(&before, &step, &what, Utc::now());
                let what = format!("{what}, where the project file says to stop");
                let change = SchemaChange { what, ends: false, step: None, ..change };
                return Ok(Led::Ends(change, Some(Box::new(record))));
            }
            Decision::Alter(alteration) => alteration,
        };
        let is_told = !alteration.what.is_empty();
        if is_told {
            (alteration.id, self.next_id) = (self.next_id, self.next_id + 1);
        }
        // Nor can it be altered by steps: it is read again as it is now, or not before it can be carried.
        if is_unmerged && alteration.then == Then::Holds {
            self.unmerged.remove(before.table());
            self.left_out.insert(before.table().clone());
        }
        if is_unread {
            alteration = alteration.unread();
        }
        if let Some(why) = in_the_way.filter(|_| match alteration.then {
            Then::Merges => !alteration.steps.is_empty(),
            Then::Rereads => true,
            Then::Holds => false,
        }) {
            alteration.then = Then::Holds;
            alteration.what = format!("{}; in the way in the target: {why}", alteration.what);
        }
        if alteration.then == Then::Holds {
            let change = HeldChange { id: alteration.id, step, decision: None };
            self.mappers.remove(&before);
            self.plans = self.plans.with(&before, before.clone(), true);
            let held = Held { plan: before.clone(), changes: vec![change] };
            let led = holds(pipeline, &held, before.clone(), alteration.what).into();
            self.held.insert(before.table().clone(), held);
            return Ok(led);
        }
        self.go_on(&before, &alteration.after, alteration.then)?;
        let event = is_told.then(|| told(&alteration));
        Ok(Led::To(Collected::Alter(Arc::new(alteration)), event))
    }

    /// A table is carried in another way from here on.
    fn go_on(&mut self, before: &TablePlan, after: &Arc<TablePlan>, then: Then) -> Result<()> {
        self.plans = self.plans.with(before, after.clone(), false);
        self.mappers.replace(before, after)?;
        self.unmerged.remove(before.table());
        if then == Then::Rereads && !self.left_out.contains(after.table()) {
            self.unmerged.insert(after.table().clone());
        }
        Ok(())
    }

    /// The project file maps a table in another way than its rows were read.
    ///
    /// # Errors
    /// In words, why it cannot be carried so.
    pub(crate) fn remap(
        &mut self,
        pipeline: &Pipeline,
        table: &TableName,
    ) -> std::result::Result<(Collected, Event), String> {
        let (_, before) = self.plans.of(table).ok_or("it is not carried")?;
        let before = before.clone();
        let alteration = remap(&before, &by(pipeline, None)).map_err(|why| why.to_string())?;
        self.go_on(&before, &alteration.after, alteration.then).map_err(|e| e.to_string())?;
        let event = told(&alteration);
        Ok((Collected::Alter(Arc::new(alteration)), event))
    }

    /// Someone has decided about a held change. Gives its table; none if no such change is held.
    pub(crate) fn decide(&mut self, id: u64, decision: DriftPolicy) -> Option<TableName> {
        self.held.values_mut().find_map(|held| {
            held.changes.iter_mut().find(|change| change.id == id)?.decision = Some(decision);
            Some(held.plan.table().clone())
        })
    }

    /// Lets a held table go on, if all its changes are decided by someone or by the project file.
    ///
    /// # Errors
    /// In words, why not.
    pub(crate) fn release(
        &mut self,
        pipeline: &Pipeline,
        table: &TableName,
    ) -> std::result::Result<(Collected, Event), String> {
        let held = self.held.get(table).cloned().ok_or("the table is not held")?;
        let alterations = alterations(pipeline, &held, None)?;
        let rereads = alterations.iter().any(|a| a.then == Then::Rereads);
        if rereads && self.orphans.contains(table) {
            return Err("the table is not in the source any more, so it cannot be read again: `moorage drift leave`, or `teardown --table`".into());
        }
        let then = if rereads { Then::Rereads } else { Then::Merges };
        let after = alterations.last().map_or(&held.plan, |last| &last.after);
        self.go_on(&held.plan, after, then).map_err(|e| e.to_string())?;
        self.held.remove(table);
        let what: Vec<&str> = alterations.iter().map(|a| a.what.as_str()).collect();
        let event = Event::StructureChanged {
            table: table.to_string(),
            what: what.join(", "),
            done: if rereads { "decided: the table is read again" } else { "decided: it catches up" }.into(),
        };
        let decisions = held.changes.iter().map(|c| c.decision.map(|d| d.word().to_string())).collect();
        Ok((Collected::Release(Arc::new(Release { alterations, decisions })), event))
    }

    /// Lets a held table go on whose target table has these columns, if that shows that somebody has done there what following
    /// its changes takes.
    pub(crate) fn done_by_hand(
        &mut self,
        pipeline: &Pipeline,
        table: &TableName,
        there: TargetColumns,
    ) -> Option<(Collected, Event)> {
        let held = self.held.get_mut(table)?;
        if !is_done_by_hand(pipeline, held, there) {
            return None;
        }
        for change in &mut held.changes {
            change.decision.get_or_insert(DriftPolicy::Follow);
        }
        self.release(pipeline, table).ok()
    }

    /// A table cannot be read again now: its changes are not merged before it is.
    pub(crate) fn leave_out(&mut self, table: &TableName) {
        self.unmerged.remove(table);
        self.left_out.insert(table.clone());
    }

    /// How the tables that are held are carried in the target.
    pub(crate) fn held(&self) -> Vec<Arc<TablePlan>> {
        self.held.values().map(|held| held.plan.clone()).collect()
    }
}

fn told(alteration: &Alteration) -> Event {
    let done = match (alteration.then, alteration.steps.is_empty()) {
        (Then::Rereads, _) => "the table is read again",
        (Then::Holds, _) => "the table is held",
        (Then::Merges, true) => "nothing changes in the target",
        (Then::Merges, false) => "the target follows",
    };
    let (table, what) = (alteration.before.table().to_string(), alteration.what.clone());
    Event::StructureChanged { table, what, done: done.into() }
}

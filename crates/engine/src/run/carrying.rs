//! How the tables of a run are carried, from one change of structure to the next.

use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::Result;
use crate::pipeline::mappers::Mappers;
use moorage_adapter::{Event, Lack};
use moorage_core::change::segment::Segment;
use moorage_core::change::structure::SchemaChange;
use moorage_core::drift::alter::Alteration;
use moorage_core::drift::decide::{Decision, decide};
use moorage_core::model::name::TableName;
use moorage_core::plan::carried::CarriedTables;
use moorage_core::plan::table::TablePlan;
use std::collections::HashSet;
use std::sync::Arc;

/// The tables, as they are carried behind all that was read from the stream.
pub(crate) struct Carrying {
    plans: CarriedTables,
    mappers: Mappers,
    /// Whose changes are not merged, because the table is to be read again: the target says so in the batch from which on
    /// they are missing.
    unmerged: HashSet<TableName>,
}

/// What a change of structure leads to.
pub(crate) enum Led {
    /// Nothing: the table is not carried.
    Nowhere,
    /// The table is altered, which is told.
    Altered(Arc<Alteration>, Event),
    /// The stream ends with it.
    Ends(SchemaChange),
}

impl Carrying {
    pub(crate) fn new(plans: CarriedTables) -> Result<Self> {
        Ok(Self { mappers: Mappers::new(plans.iter().map(AsRef::as_ref))?, plans, unmerged: HashSet::new() })
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

    /// Rows that were read again take their place: changes that come from here on are merged.
    pub(crate) fn replaces<'a>(&mut self, tables: impl Iterator<Item = &'a TableName>) {
        tables.for_each(|table| {
            self.unmerged.remove(table);
        });
    }

    /// A stretch of the stream with the columns that are read of each table.
    pub(crate) fn read(&self, segment: Segment) -> Result<Segment> {
        Ok(self.mappers.read(segment)?)
    }

    /// What of it is merged, as the target takes it.
    pub(crate) fn merged(&self, mut segment: Segment) -> Result<Segment> {
        if !self.unmerged.is_empty() {
            segment.blocks.retain(|block| !self.unmerged.contains(&block.schema().table));
        }
        Ok(self.mappers.segment(segment)?)
    }

    /// A table's structure has changed, behind all that was read.
    pub(crate) fn change(&mut self, pipeline: &Pipeline, change: SchemaChange) -> Result<Led> {
        let Some(step) = change.step.clone() else { return Ok(Led::Ends(change)) };
        let Some((_, before)) = self.plans.of(&change.table) else { return Ok(Led::Nowhere) };
        let before = before.clone();
        let alters = !pipeline.target.guarantees().lacks.contains(&Lack::Altering);
        let decision = decide(&before, &step, &pipeline.config, pipeline.target.dialect(), alters);
        let mut alteration = match decision {
            Decision::Stop { what } => {
                return Ok(Led::Ends(SchemaChange { what, ends: false, step: None, ..change }));
            }
            Decision::Alter(alteration) => alteration,
        };
        // What is not merged cannot be altered by steps either: it is read again as it is now.
        if self.unmerged.contains(before.table()) {
            (alteration.rereads, alteration.steps) = (true, Vec::new());
        }
        let after = alteration.after.clone();
        self.plans = self.plans.with(&before, after.clone());
        self.mappers.replace(&before, &after)?;
        self.unmerged.remove(before.table());
        if alteration.rereads {
            self.unmerged.insert(after.table().clone());
        }
        let done = match (alteration.rereads, alteration.steps.is_empty()) {
            (true, _) => "the table is read again",
            (false, true) => "nothing changes in the target",
            (false, false) => "the target follows",
        };
        let (table, what) = (change.table.to_string(), alteration.what.clone());
        let event = Event::StructureChanged { table, what, done: done.into() };
        Ok(Led::Altered(Arc::new(alteration), event))
    }
}

//! Which tables there are while a pipeline follows its own: one that is made and is picked joins, or it is said why not.

use crate::before::draft::{discover, plan_pipeline};
use crate::before::known::refuse_taken;
use crate::pipeline::ends::Pipeline;
use crate::run::came_and_went::{is_of_interest, joins};
use moorage_adapter::{AdapterError, CapturePlan, Event, Events, Result};
use moorage_core::TableName;
use moorage_core::model::described::{NamedTable, SourceTable};
use moorage_core::plan::make::{Plan, Refused};
use moorage_core::plan::table::TablePlan;
use std::collections::{HashMap, HashSet};
use std::time::Duration;
use tokio::task::JoinHandle;

/// Whoever follows tables.
pub(crate) struct Follower<'a> {
    pub(crate) pipeline: &'a Pipeline,
    pub(crate) events: &'a Events,
    pub(crate) capture: &'a CapturePlan,
    /// Those that are followed.
    pub(crate) plans: &'a [TablePlan],
}

/// The tables that are known, with those that they are partitions of.
pub(crate) struct Names {
    known: HashMap<TableName, Option<TableName>>,
    /// Those among them that cannot be carried, which may change: rights are granted later.
    refused: HashSet<TableName>,
    /// One that is made ready to be captured, which may have to wait for those who write to it.
    readying: Option<(TableName, JoinHandle<()>)>,
}

/// How long other looks may wait for a table that is made ready.
const PATIENCE: Duration = Duration::from_secs(1);

impl Names {
    /// All that there were, and those among them that were picked and could not be carried.
    pub(crate) fn new(known: &[NamedTable], refused: &[TableName]) -> Self {
        Self {
            known: known.iter().map(|table| (table.name.clone(), table.root.clone())).collect(),
            refused: refused.iter().cloned().collect(),
            readying: None,
        }
    }

    /// What there is to set up anew for: `Appeared` for a table that was made since and that joins, `Moved` for one that was attached
    /// or detached. Those that were refused are looked at `again` if that is asked for.
    pub(crate) async fn looked_at(&mut self, by: &Follower<'_>, again: bool) -> Result<Option<AdapterError>> {
        let now = by.pipeline.source.table_names().await?;
        if let Some(table) = self.moved(by, &now) {
            return Ok(Some(AdapterError::Moved { table }));
        }
        let appeared = self.appeared(by, now, again).await?;
        Ok(appeared.map(|table| AdapterError::Appeared { table }))
    }

    async fn appeared(
        &mut self,
        by: &Follower<'_>,
        now: Vec<NamedTable>,
        again: bool,
    ) -> Result<Option<TableName>> {
        let Follower { pipeline, events, plans, .. } = *by;
        if self.readying.is_some() {
            return Ok(self.ready().await);
        }
        let is_new = |table: &&NamedTable| !self.known.contains_key(&table.name);
        let new: HashSet<TableName> = now.iter().filter(is_new).map(|table| table.name.clone()).collect();
        let looks_again = again && !self.refused.is_empty();
        if new.is_empty() && !looks_again {
            return Ok(None);
        }
        let mut found = discover_for(pipeline).await?;
        let mut planned = plan_pipeline(pipeline, &found);
        if let Ok(refuses) = &planned
            && by.is_let_in(refuses, &found, &new).await?
        {
            found = discover_for(pipeline).await?;
            planned = plan_pipeline(pipeline, &found);
        }
        // What could not be asked until here is asked again.
        self.known.extend(now.into_iter().map(|table| (table.name, table.root)));
        // What is in the way of planning is told by whoever sets up.
        let Ok(mut planned) = planned else { return Ok(None) };
        // One that was made again comes in the place of the one that is gone; whoever sets up anew sees to it.
        let is_made_again =
            |f: &&TablePlan| planned.tables.iter().any(|t| t.table() == f.table() && !t.is_of_same(f));
        let followed: Vec<&TablePlan> = plans.iter().filter(|f| !is_made_again(f)).collect();
        refuse_taken(&mut planned, &followed);
        // Nobody who makes a table stops the others with it: one that would have the target table of another one, say.
        let hurt = planned.refused.iter().find(|refused| plans.iter().any(|p| *p.table() == refused.table));
        if let Some(hurt) = hurt {
            let message = format!(
                "a table was made, and does not join: with it, {} could not be carried: {}",
                hurt.table, hurt.reason
            );
            events(Event::Warning { message });
            return Ok(None);
        }
        for Refused { table, reason } in planned.refused.iter().filter(|r| is_of_interest(pipeline, &r.table))
        {
            if new.contains(table) && self.refused.insert(table.clone()) {
                events(Event::Warning { message: format!("{table} was made, and does not join: {reason}") });
            }
        }
        let is_new = |table: &&TablePlan| {
            let name = table.table();
            (new.contains(name) || self.refused.contains(name))
                && plans.iter().all(|p| !p.is_of_same(table) && p.target != table.target)
                && is_of_interest(pipeline, name)
        };
        let Some(table) = planned.tables.iter().find(is_new) else { return Ok(None) };
        let (name, table) = (table.table().clone(), table.clone());
        if !joins(pipeline, &name) {
            return Ok(Some(name));
        }
        let (source, capture, events) = (pipeline.source.clone(), by.capture.clone(), events.clone());
        let readying = tokio::spawn(async move {
            // Whoever sets up meets what is in the way, and says it.
            if let Err(error) = source.make_ready(&capture, &table, &events).await {
                tracing::debug!("{} is not ready to be captured: {error}", table.table());
            }
        });
        self.readying = Some((name, readying));
        Ok(self.ready().await)
    }

    /// A followed table that was attached to a partitioned one, or detached, where that matters.
    fn moved(&mut self, by: &Follower<'_>, now: &[NamedTable]) -> Option<TableName> {
        let known = &mut self.known;
        let of_other_root =
            now.iter().filter(|table| known.get(&table.name).is_some_and(|before| *before != table.root));
        let moved: Vec<&NamedTable> = of_other_root.collect();
        for table in &moved {
            known.insert(table.name.clone(), table.root.clone());
        }
        let picker = by.pipeline.config.picker();
        let matters = |table: &&NamedTable| {
            by.plans.iter().any(|plan| *plan.table() == table.name)
                || table.root.as_ref().is_some_and(|root| picker.takes_together(root))
        };
        moved.into_iter().find(matters).map(|table| table.name.clone())
    }

    /// The table that was made ready, once it is.
    async fn ready(&mut self) -> Option<TableName> {
        let (_, readying) = self.readying.as_mut()?;
        tokio::time::timeout(PATIENCE, readying).await.ok()?.ok();
        self.readying.take().map(|(name, _)| name)
    }
}

impl Drop for Names {
    fn drop(&mut self) {
        self.readying.iter().for_each(|(_, readying)| readying.abort());
    }
}

impl Follower<'_> {
    /// Asks for tables that came and that the user may not read; whether one was let in. Why not is said of `new` ones alone.
    async fn is_let_in(
        &self,
        planned: &Plan,
        found: &[SourceTable],
        new: &HashSet<TableName>,
    ) -> Result<bool> {
        let asked = refused_by_source(planned, found).filter(|table| is_of_interest(self.pipeline, table));
        let asked: Vec<TableName> = asked.cloned().collect();
        if asked.is_empty() {
            return Ok(false);
        }
        let mut is_let_in = false;
        for (table, why) in self.pipeline.source.let_in(self.capture, &asked).await? {
            is_let_in |= why.is_none();
            if let Some(why) = why.filter(|_| new.contains(&table)) {
                (self.events)(Event::Warning { message: format!("{table} is not let in: {why}") });
            }
        }
        Ok(is_let_in)
    }
}

/// The picked tables that the source itself refuses: to this user, mostly.
pub(crate) fn refused_by_source<'a>(
    planned: &'a Plan,
    found: &'a [SourceTable],
) -> impl Iterator<Item = &'a TableName> {
    let is_refused = |name: &TableName| found.iter().any(|t| t.name == *name && t.refused.is_some());
    planned.refused.iter().map(|refused| &refused.table).filter(move |name| is_refused(name))
}

/// What is in the source. What the target does not tell of is met by whoever sets up.
async fn discover_for(pipeline: &Pipeline) -> Result<Vec<SourceTable>> {
    match discover(pipeline).await {
        Ok(found) => Ok(found),
        Err(_) => pipeline.source.discover().await,
    }
}

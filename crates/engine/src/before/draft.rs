//! What a run would do, asked of both ends.

use super::ddl;
use super::findings::filter;
use super::known::{keep_on, needs_each_change, unmatched};
use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::Result;
use moorage_adapter::{Lack, StoredTable, Surveyed, TableState};
use moorage_core::TableName;
use moorage_core::drift::decide::{By, remap};
use moorage_core::drift::outlook::{Outlook, outlook};
use moorage_core::model::described::SourceTable;
use moorage_core::model::drift::DriftPolicy;
use moorage_core::model::finding::Finding;
use moorage_core::pick::picker::Unmatched;
use moorage_core::plan::make::{Plan, plan};
use moorage_core::plan::table::TablePlan;
use std::collections::{BTreeSet, HashMap, HashSet};
use std::sync::Arc;

/// What is in the source, for a pipeline: where it carries partitions as tables of their own from before, and the file does not
/// say otherwise, these stay that.
///
/// # Errors
/// If an end cannot be read.
pub async fn discover(pipeline: &Pipeline) -> Result<Vec<SourceTable>> {
    let found = pipeline.source.discover().await?;
    if found.iter().all(|table| table.part_of.is_none()) {
        return Ok(found);
    }
    let stored = pipeline.target.tables(&pipeline.name).await?;
    Ok(as_carried(pipeline, found, &stored))
}

/// Partitions that are tables of their own in the target, as such.
fn as_carried(pipeline: &Pipeline, mut found: Vec<SourceTable>, stored: &[StoredTable]) -> Vec<SourceTable> {
    called_as_before(&mut found, stored);
    let apart = roots_apart(pipeline, &found, stored);
    for table in &mut found {
        if let Some(part) = table.part_of.as_mut().filter(|part| apart.contains(&part.root)) {
            part.apart = true;
        }
    }
    found
}

/// The partitioned tables whose key is not that of their partitions, which the source does not keep unique over all of them.
fn unkeyed(plan: &Plan) -> impl Iterator<Item = TableName> {
    let part = |table: &TablePlan| {
        table.mapped.identity.key()?;
        let part = table.structure.as_deref()?.part_of.as_ref()?;
        table.root().filter(|_| !part.is_keyed).cloned()
    };
    plan.tables.iter().filter_map(part).collect::<BTreeSet<_>>().into_iter()
}

/// A partitioned table that is called otherwise by now is the one that rules know: its rows stay where they are.
fn called_as_before(found: &mut [SourceTable], stored: &[StoredTable]) {
    let parts = stored.iter().filter_map(|s| {
        let part = s.plan.structure.as_deref()?.part_of.as_ref()?;
        Some((part.id, s.plan.root()?.clone()))
    });
    let known: HashMap<u64, TableName> = parts.filter(|(id, _)| *id != 0).collect();
    for part in found.iter_mut().filter_map(|table| table.part_of.as_mut()) {
        if let Some(name) = known.get(&part.id) {
            part.root.clone_from(name);
        }
    }
}

/// The partitioned tables whose partitions stay tables of their own because they are.
fn roots_apart(pipeline: &Pipeline, found: &[SourceTable], stored: &[StoredTable]) -> HashSet<TableName> {
    let picker = pipeline.config.picker();
    let carried = |table: &SourceTable| stored.iter().find(|s| s.plan.source_id == table.id && table.id != 0);
    let is_together = |root: &TableName| stored.iter().any(|s| s.plan.root() == Some(root));
    let roots = found.iter().filter_map(|table| {
        let root = &table.part_of.as_ref()?.root;
        let is_alone = carried(table)?.plan.root().is_none() && !is_together(root);
        let says_nothing = picker.rule(root).partitions.is_none();
        (is_alone && says_nothing).then(|| root.clone())
    });
    roots.collect()
}

/// Plans a pipeline, with the statements for target tables that people wrote.
///
/// # Errors
/// If such a file cannot be read.
pub fn plan_pipeline(pipeline: &Pipeline, found: &[SourceTable]) -> Result<Plan> {
    let mut planned = plan(&pipeline.config, found, pipeline.target.dialect());
    if let Some(folder) = &pipeline.ddl_folder {
        for table in &mut planned.tables {
            table.ddl = ddl::edited(folder, table)?;
        }
    }
    for table in &mut planned.tables {
        table.each_change = needs_each_change(pipeline, table);
    }
    Ok(planned)
}

/// What changes are decided with.
pub(crate) fn by(pipeline: &Pipeline, decision: Option<DriftPolicy>) -> By<'_> {
    let alters = !pipeline.target.guarantees().lacks.contains(&Lack::Altering);
    By { config: &pipeline.config, dialect: pipeline.target.dialect(), alters, decision }
}

/// What is in a source, and what a pipeline would make of it.
pub struct Draft {
    /// What is in the source.
    pub found: Vec<SourceTable>,
    /// What a run would carry.
    pub plan: Plan,
    /// Patterns that mean no table.
    pub unmatched: Vec<Unmatched>,
    /// What else is to be known, in words.
    pub notes: Vec<String>,
    /// For each planned table what there is of it in the target.
    pub surveyed: Vec<Surveyed>,
}

/// Looks at both ends and plans.
///
/// # Errors
/// If an end cannot be reached.
pub async fn draft(pipeline: &Pipeline) -> Result<Draft> {
    let stored = pipeline.target.tables(&pipeline.name).await?;
    let found = as_carried(pipeline, pipeline.source.discover().await?, &stored);
    let mut plan = plan_pipeline(pipeline, &found)?;
    keep_on(pipeline, &found, &mut plan, &stored);
    let mut apart: Vec<TableName> = roots_apart(pipeline, &found, &stored).into_iter().collect();
    apart.sort();
    let apart_still = |root: &TableName| {
        format!(
            "the partitions of {root} stay tables of their own, as this pipeline began: partitions = \"together\" in the project file has them read into one table, and leaves the ones that are there (docs/keeping.md)"
        )
    };
    let mut notes: Vec<String> = apart.iter().map(apart_still).collect();
    notes.extend(unkeyed(&plan).map(|root| {
        format!("keys of {root} are unique in each partition, not over all of them: two rows of one key may stand in the target, which where they are from tells apart")
    }));
    let unmatched = unmatched(pipeline, &found, &stored);
    let surveyed = survey(pipeline, &plan, &stored).await?;
    Ok(Draft { found, plan, unmatched, notes, surveyed })
}

/// Surveys the target, with what would stop a run although the target would not.
pub(super) async fn survey(
    pipeline: &Pipeline,
    plan: &Plan,
    stored: &[StoredTable],
) -> Result<Vec<Surveyed>> {
    let mut surveyed = pipeline.target.survey(&pipeline.name, &plan.tables).await?;
    for (found, table) in surveyed.iter_mut().zip(&plan.tables) {
        let followed = found.state.is_some_and(|s| matches!(s, TableState::Live | TableState::ChangesOnly));
        if !found.maps_otherwise || !followed || found.problem.is_some() {
            continue;
        }
        let is_it = |s: &&StoredTable| s.plan.target == table.target && s.plan.is_of_same(table);
        let before = stored.iter().find(is_it).map(|s| Arc::new(s.plan.clone()));
        let why = match before.filter(|_| pipeline.source.tells_of_structure()) {
            Some(before) => match remap(&before, &by(pipeline, None)) {
                Ok(_) => continue,
                Err(why) => format!(", and what there was then cannot be carried so: {why}"),
            },
            None => String::new(),
        };
        let table = table.table();
        found.problem = Some(format!(
            "it was read when the project file, or its structure, was another{why}: `moorage resnapshot {table}` has the next run read it again"
        ));
    }
    Ok(surveyed)
}

impl Draft {
    /// What may stop a planned table later, if something may.
    pub fn caveat(&self, plan: &TablePlan) -> Option<Finding> {
        filter(plan, self.source_table(plan)?)
    }

    /// What would become of changes of structure; nothing where the source does not tell of them.
    pub fn outlook(&self, pipeline: &Pipeline) -> Vec<Outlook> {
        if !pipeline.source.tells_of_structure() {
            return Vec::new();
        }
        let by = by(pipeline, None);
        outlook(by.config, &self.plan.tables, by.dialect, by.alters)
    }

    /// The source's own description of a planned table.
    pub fn source_table(&self, plan: &TablePlan) -> Option<&SourceTable> {
        // By its number where it has one: it may be called otherwise by now.
        let is_it = |t: &&SourceTable| t.name == *plan.table() || (t.id != 0 && t.id == plan.source_id);
        self.found.iter().find(is_it)
    }
}

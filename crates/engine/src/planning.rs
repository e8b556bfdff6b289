//! Before the first row moves: what a pipeline would do, asked of both ends.

use crate::ddl;
use crate::error::{EngineError, Result};
use crate::pipeline::Pipeline;
use crate::prepare::look_once;
use chrono::Utc;
use moorage_adapter::{AdapterError, Inspected, Layer, SetUp, Surveyed, TableState};
use moorage_core::checkpoint::{Decision, Refusal};
use moorage_core::finding::{End, Finding, Fix, Severity, reason_and_fix, tables as count};
use moorage_core::naming::Naming;
use moorage_core::pick::{Choice, Picker, Unmatched};
use moorage_core::plan::{Plan, SourceTable, TablePlan, plan};
use moorage_core::schema::RowIdentity;
use moorage_core::types::LogicalType;
use serde::Serialize;
use std::time::{Duration, Instant};

/// How many tables are read for a moment to tell how long the snapshot will take: the largest ones.
const MEASURED_TABLES: usize = 4;
/// How many rows are read of each.
const MEASURED_ROWS: usize = 20_000;
/// No new table is begun after this.
const MEASURED_FOR: Duration = Duration::from_millis(800);

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
    Ok(planned)
}

/// What is in a source, and what a pipeline would make of it.
pub struct Draft {
    /// What is in the source.
    pub found: Vec<SourceTable>,
    /// What a run would carry.
    pub plan: Plan,
    /// Patterns that mean no table.
    pub unmatched: Vec<Unmatched>,
    /// For each planned table what there is of it in the target.
    pub surveyed: Vec<Surveyed>,
}

/// Looks at both ends and plans.
///
/// # Errors
/// If an end cannot be reached.
pub async fn draft(pipeline: &Pipeline) -> Result<Draft> {
    let found = pipeline.source.discover().await?;
    let plan = plan_pipeline(pipeline, &found)?;
    let unmatched = Picker::new(&pipeline.config).unmatched(&found);
    let surveyed = survey(pipeline, &plan).await?;
    Ok(Draft { found, plan, unmatched, surveyed })
}

/// Surveys the target, with what would stop a run although the target would not.
async fn survey(pipeline: &Pipeline, plan: &Plan) -> Result<Vec<Surveyed>> {
    let mut surveyed = pipeline.target.survey(&pipeline.name, &plan.tables).await?;
    for (found, table) in surveyed.iter_mut().zip(&plan.tables) {
        let followed = found.state.is_some_and(|s| matches!(s, TableState::Live | TableState::ChangesOnly));
        if found.maps_otherwise && followed && found.problem.is_none() {
            let table = table.table();
            found.problem = Some(format!(
                "it was read when the project file, or its structure, was another: `moorage resnapshot {table}` has the next run read it again"
            ));
        }
    }
    Ok(surveyed)
}

impl Draft {
    /// What may stop a planned table later, if something may.
    pub fn caveat(&self, plan: &TablePlan) -> Option<Finding> {
        filter(plan, self.source_table(plan)?)
    }

    /// The source's own description of a planned table.
    pub fn source_table(&self, plan: &TablePlan) -> Option<&SourceTable> {
        self.found.iter().find(|t| t.name == *plan.table())
    }
}

/// How long reading a snapshot will take, from a short measured read.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct Estimate {
    /// Tables whose snapshot is still to be read.
    pub tables: u64,
    /// About how many rows they have.
    pub rows: u64,
    /// About their size in the source in bytes, as far as it is known.
    pub bytes: u64,
    /// Rows of one connection in a second, as measured.
    pub rows_per_second: u64,
    /// How many connections will read.
    pub connections: u64,
    /// About how long it will take, in milliseconds, if the target keeps up.
    pub elapsed_ms: u64,
}

/// Measures the source for a moment; nothing where there is nothing to read or to measure.
///
/// # Errors
/// If the source cannot be read.
pub async fn estimate(pipeline: &Pipeline, draft: &Draft) -> Result<Option<Estimate>> {
    let loaded = |s: &Surveyed| s.state.is_some_and(|state| !state.is_unread() && state != TableState::Gone);
    let mut missing: Vec<(&TablePlan, u64, u64)> = draft
        .plan
        .tables
        .iter()
        .zip(&draft.surveyed)
        .filter(|(_, s)| !loaded(s))
        .map(|(t, _)| {
            let source = draft.source_table(t);
            let rows = source.and_then(|s| s.row_estimate).unwrap_or(0);
            (t, rows, source.and_then(|s| s.bytes).unwrap_or(0))
        })
        .collect();
    missing.sort_by_key(|(_, rows, _)| std::cmp::Reverse(*rows));
    let rows: u64 = missing.iter().map(|m| m.1).sum();
    let begun = Instant::now();
    let (mut read, mut took) = (0, Duration::ZERO);
    for (table, ..) in missing.iter().take(MEASURED_TABLES).filter(|m| m.1 > 0) {
        if begun.elapsed() > MEASURED_FOR {
            break;
        }
        let began = Instant::now();
        read += pipeline.source.sample(table, MEASURED_ROWS).await?.num_rows();
        took += began.elapsed();
    }
    if read == 0 {
        return Ok(None);
    }
    let rows_per_second = (read as f64 / took.as_secs_f64().max(1e-6)) as u64;
    let connections = pipeline.connections.max(1) as u64;
    Ok(Some(Estimate {
        tables: missing.len() as u64,
        rows,
        bytes: missing.iter().map(|m| m.2).sum(),
        rows_per_second,
        connections,
        elapsed_ms: rows.saturating_mul(1000) / rows_per_second.max(1),
    }))
}

/// Are both ends ready? An end that cannot be reached is a finding too. Changes nothing.
pub async fn check(pipeline: &Pipeline) -> Vec<Finding> {
    let mut found = pipeline.project_findings.clone();
    let tables = match pipeline.source.discover().await {
        Ok(tables) => Some(tables),
        Err(error) => {
            found.push(unreachable(End::Source, error));
            None
        }
    };
    let mut bytes = 0;
    let mut clashing = Vec::new();
    if let Some(tables) = &tables {
        match plan_pipeline(pipeline, tables) {
            Ok(planned) => {
                let inspected = Inspected { found: tables, plan: &planned };
                match pipeline.source.inspect(&pipeline.capture(), &inspected).await {
                    Ok(more) => found.extend(more),
                    Err(error) => found.push(unreachable(End::Source, error)),
                }
                found.extend(of_plan(pipeline, tables, &planned));
                found.extend(history(pipeline).await);
                let picked = |t: &&SourceTable| planned.tables.iter().any(|p| *p.table() == t.name);
                bytes = tables.iter().filter(picked).filter_map(|t| t.bytes).sum();
                clashing = clashes(pipeline, &planned).await;
            }
            Err(error) => found.push(Finding::blocker(
                End::Project,
                "ddl_dir",
                error.to_string(),
                "statements that were changed by hand cannot be read",
                Fix::step("mend what the message names"),
            )),
        }
    }
    match pipeline.target.probe(bytes).await {
        Ok(more) => found.extend(more),
        Err(error) => found.push(unreachable(End::Target, error)),
    }
    found.extend(clashing);
    found.sort_by_key(|f| f.end);
    found
}

fn unreachable(end: End, error: impl Into<EngineError>) -> Finding {
    let error = error.into();
    let (why, word) = match end {
        End::Target => ("nothing can be written", "target"),
        _ => ("nothing can be read", "source"),
    };
    let fix = match &error {
        EngineError::Adapter(AdapterError::Connect { layer: Layer::LogIn, .. }) => format!(
            "mend what the message names; if the role does not exist yet: `moorage check --sql {word}{}` prints the script that makes it",
            // For the target's script nobody has to log in.
            if end == End::Source { " --as ADMINISTRATOR" } else { "" }
        ),
        _ => "mend what the message names".into(),
    };
    Finding::blocker(end, "connection", error.to_string(), why, Fix::step(fix))
}

/// Whether the source's history is the one the target was filled from, and its capture point the target's own. Beside a
/// run the two are read at different moments: what does not fit is only told if the checkpoint stands still.
async fn history(pipeline: &Pipeline) -> Option<Finding> {
    for _ in 0..10 {
        let before = pipeline.target.checkpoint(&pipeline.name).await.ok()?;
        let found = history_now(pipeline).await;
        if found.as_ref().is_none_or(|f| f.severity != Severity::Blocker)
            || pipeline.target.checkpoint(&pipeline.name).await.ok()? == before
        {
            return found;
        }
    }
    None
}

async fn history_now(pipeline: &Pipeline) -> Option<Finding> {
    let checkpoint = pipeline.target.checkpoint(&pipeline.name).await.ok()?;
    let mut capture = pipeline.capture();
    if let Some(checkpoint) = &checkpoint {
        capture.token.clone_from(&checkpoint.token);
    }
    // What cannot be asked for is a finding of its own.
    let (_, decision) = look_once(pipeline, checkpoint.as_ref(), &capture).await.ok()?;
    match decision {
        Decision::Refuse(Refusal::InUse { .. }) => None,
        Decision::Refuse(refusal) => {
            let fix = Fix::step("the message names the way out");
            Some(Finding::blocker(
                End::Source,
                "history",
                refusal.to_string(),
                "a run would refuse to go on",
                fix,
            ))
        }
        Decision::Resume => {
            let found = "the source is the one the target was filled from, and its changes since are there";
            Some(Finding::ok(End::Source, "history", found))
        }
        _ => None,
    }
}

/// What planning brought up.
fn of_plan(pipeline: &Pipeline, tables: &[SourceTable], planned: &Plan) -> Vec<Finding> {
    let mut found = Vec::new();
    let picker = Picker::new(&pipeline.config);
    for unmatched in picker.unmatched(tables) {
        let fix = Fix::step(match unmatched.near.first() {
            Some(near) => format!("change the pattern in the project file, to '{near}' for example"),
            None => "change the pattern in the project file".into(),
        });
        found.push(Finding::blocker(
            End::Project,
            "pattern",
            unmatched.to_string(),
            "a table that was meant would be missing",
            fix,
        ));
    }
    for refused in &planned.refused {
        let (why, fix) = reason_and_fix(&refused.why);
        found.push(
            Finding::blocker(End::Source, "table", why, "a run would leave it out", fix)
                .about(&refused.table),
        );
    }
    let not_carried = tables.iter().filter_map(|t| match picker.choice(t) {
        Choice::NotByPattern(why) => Some((t, why)),
        _ => None,
    });
    for (table, why) in not_carried {
        let partitioned = table.kind == moorage_core::plan::TableKind::Partitioned;
        let finding = if partitioned {
            Finding::ok(End::Source, "not_carried", why)
        } else {
            let fix = Fix::step(format!("exclude = ['{}'] says that this is meant", table.name));
            Finding::warning(End::Source, "not_carried", why, "a pattern of `include` means it", fix)
        };
        found.push(finding.about(&table.name));
    }
    for plan in &planned.tables {
        let source = tables.iter().find(|t| t.name == *plan.table());
        found.extend(source.and_then(|source| filter(plan, source)));
        found.extend(without_key(pipeline, plan));
    }
    found.push(picked(planned));
    found.extend(as_text(planned));
    found
}

/// A table whose rows are told apart by all their columns.
fn without_key(pipeline: &Pipeline, plan: &TablePlan) -> Option<Finding> {
    (plan.schema.identity == RowIdentity::WholeRow).then(|| {
        let found = "no key: its rows are told apart by all columns";
        let why = "updates and deletes are found by the whole row, which is slow in large tables, and equal rows are only counted";
        let fix = Fix::step(format!(
            "give it a primary key, or declare one in the project file: [[pipelines.{}.rule]] match = '{}' key = [\"…\"]",
            pipeline.name,
            plan.table()
        ));
        Finding::warning(End::Source, "no_key", found, why, fix).about(plan.table())
    })
}

/// A filter over a log that may leave values out: a row that comes into it may come without them.
fn filter(plan: &TablePlan, source: &SourceTable) -> Option<Finding> {
    let key = plan.schema.key_names();
    let large = source.columns.iter().find(|c| {
        let name = c.column.name.as_str();
        let carried = plan.schema.columns.iter().any(|k| k.name == name);
        c.may_be_left_out && carried && !key.contains(&name)
    })?;
    plan.mapping.condition.as_ref()?;
    let found = format!(
        "an update that moves a row into the filter may come without {}: the log leaves out large values that did not change",
        large.column.name
    );
    let why = "the run stops there, and names the row: nothing is lost, but the table has to be read again";
    let fix = Fix::run([format!("ALTER TABLE {} REPLICA IDENTITY FULL", plan.table().quoted())]);
    Some(Finding::warning(End::Source, "filter", found, why, fix).about(plan.table()))
}

fn picked(planned: &Plan) -> Finding {
    let found = format!("{} can be carried", count(planned.tables.len()));
    if planned.tables.is_empty() {
        let fix = Fix::step("`moorage tables` shows what there is; then change include and exclude");
        return Finding::blocker(End::Source, "tables", found, "a run would have nothing to do", fix);
    }
    Finding::ok(End::Source, "tables", found)
}

/// Columns that no logical type of ours describes.
fn as_text(planned: &Plan) -> Option<Finding> {
    let columns: Vec<String> = planned
        .tables
        .iter()
        .flat_map(|t| t.schema.columns.iter().map(move |c| (t, c)))
        .filter(|(_, c)| matches!(c.logical, LogicalType::Other { .. }))
        .map(|(t, c)| format!("{}.{} ({})", t.table(), c.name, c.source_type))
        .collect();
    if columns.is_empty() {
        return None;
    }
    let more = columns.len().saturating_sub(5);
    let mut shown = columns.into_iter().take(5).collect::<Vec<_>>().join(", ");
    if more > 0 {
        shown.push_str(&format!(" and {more} more"));
    }
    let why = "exactly as the source prints them; the target does not compute with them";
    Some(Finding::ok(End::Source, "types", format!("travel as text: {shown}")).because(why))
}

/// Existing target tables that are in the way.
async fn clashes(pipeline: &Pipeline, planned: &Plan) -> Vec<Finding> {
    let surveyed = match survey(pipeline, planned).await {
        Ok(surveyed) => surveyed,
        Err(error) => return vec![unreachable(End::Target, error)],
    };
    let mut found: Vec<Finding> = surveyed
        .iter()
        .zip(&planned.tables)
        .filter_map(|(s, plan)| {
            let problem = s.problem.clone()?;
            let fix = Fix::step("see the message; `moorage plan` shows the table");
            let finding = Finding::blocker(End::Target, "clash", problem, "a run would stop there", fix);
            Some(finding.about(&plan.target))
        })
        .collect();
    if found.is_empty() {
        let there = surveyed.iter().filter(|s| s.existing.is_some()).count();
        let text = format!(
            "{} to carry: {there} there, {} will be made",
            count(surveyed.len()),
            surveyed.len() - there
        );
        found.push(Finding::ok(End::Target, "clash", text));
    }
    found
}

/// Whether a check found something that a run would fail at.
pub fn has_blocker(found: &[Finding]) -> bool {
    found.iter().any(|f| f.severity == Severity::Blocker)
}

/// The script for the administrator of one end.
///
/// # Errors
/// If the source cannot be reached.
pub async fn set_up_script(pipeline: &Pipeline, end: End, role: Option<&str>, undo: bool) -> Result<String> {
    if end == End::Target {
        return Ok(pipeline.target.set_up_script(role, undo));
    }
    let found = pipeline.source.discover().await.map_err(|error| match error {
        AdapterError::Connect { layer: Layer::LogIn, .. } => EngineError::NoLogIn(error),
        error => error.into(),
    })?;
    let plan = plan_pipeline(pipeline, &found)?;
    let set_up = SetUp { pipeline: &pipeline.name, role, undo, found: &found, plan: &plan };
    Ok(pipeline.source.set_up_script(&pipeline.capture(), &set_up).await?)
}

/// What a naming rule makes of one picked table.
#[derive(Clone, Debug, Serialize)]
pub struct Explained {
    /// In the source.
    pub table: String,
    /// As the rule names it.
    pub target: String,
    /// Whether the target has a table of that name.
    pub exists: bool,
    /// Why the rule does not explain it, if it does not.
    pub left: Option<String>,
}

/// A naming rule found from an example.
#[derive(Clone, Debug, Serialize)]
pub struct FoundRule {
    /// The rule, as `into` takes it.
    pub into: String,
    /// When it was tried on the picked tables.
    pub tried_at: chrono::DateTime<Utc>,
    /// What it makes of each.
    pub tables: Vec<Explained>,
    /// Target tables that no picked table would be named.
    pub unexplained_targets: Vec<String>,
}

/// Finds the rule under which `table` is named `target`, and tries it on all picked tables.
///
/// # Errors
/// If an end cannot be reached. `None` if no rule fits.
pub async fn rule_from_example(
    pipeline: &Pipeline,
    table: &str,
    target: &str,
) -> Result<std::result::Result<FoundRule, String>> {
    let found = pipeline.source.discover().await?;
    let Some(example) = found.iter().find(|t| t.name.goes_by(table)) else {
        let near = moorage_core::pick::near(table, found.iter().map(|t| t.name.to_string()));
        let hint =
            if near.is_empty() { String::new() } else { format!("; did you mean {}?", near.join(", ")) };
        return Ok(Err(format!("the source has no table {table}{hint}")));
    };
    let there = pipeline.target.list().await?;
    let picker = Picker::new(&pipeline.config);
    let picked: Vec<&SourceTable> =
        found.iter().filter(|t| picker.takes(t) || t.name == example.name).collect();
    let fold = |name: &str| pipeline.target.dialect().fold(name);
    let exists = |name: &str| there.iter().any(|t| fold(t) == fold(name));
    let fits = |rule: &Naming| picked.iter().filter(|t| exists(&rule.name(&t.name))).count();
    // The simplest of those that explain most of what is there.
    let best = Naming::from_example(&example.name, target).into_iter().rev().max_by_key(fits);
    let Some(rule) = best else {
        return Ok(Err(format!(
            "no rule makes {target:?} of {}: the target's name has to contain the table's",
            example.name
        )));
    };
    let names: Vec<String> = picked.iter().map(|t| rule.name(&t.name)).collect();
    let some_there = names.iter().filter(|n| exists(n)).count() > 0;
    let explained = picked.iter().zip(&names).map(|(t, name)| {
        let shared = names.iter().filter(|n| fold(n) == fold(name)).count() > 1;
        let left = match pipeline.target.dialect().reserved(name) {
            Some(why) => Some(why),
            None if shared => Some("another table would have the same name".into()),
            None if some_there && !exists(name) => Some("the target has no table of that name".into()),
            None => None,
        };
        Explained { table: t.name.to_string(), target: name.clone(), exists: exists(name), left }
    });
    let unexplained = there.iter().filter(|t| !names.iter().any(|n| fold(n) == fold(t))).cloned();
    Ok(Ok(FoundRule {
        into: rule.to_string(),
        tried_at: Utc::now(),
        tables: explained.collect(),
        unexplained_targets: unexplained.collect(),
    }))
}

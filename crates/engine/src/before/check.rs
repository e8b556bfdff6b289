//! Are both ends ready?

use crate::before::draft::{plan_pipeline, survey};
use crate::before::findings::of_plan;
use crate::before::history::history;
use crate::before::known::keep_on;
use crate::before::lacks;
use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::{EngineError, Result};
use moorage_adapter::{AdapterError, Inspected, Layer, SetUp, SetUpPart};
use moorage_core::model::described::SourceTable;
use moorage_core::model::finding::{End, Finding, Fix, Severity, tables as count};
use moorage_core::plan::make::Plan;

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
                let looked = async {
                    let capture = pipeline.known_capture().await?;
                    pipeline.source.inspect(&capture, &inspected).await
                };
                match looked.await {
                    Ok(more) => found.extend(more),
                    Err(error) => found.push(unreachable(End::Source, error)),
                }
                found.extend(of_plan(pipeline, tables, &planned));
                found.extend(lacks::findings(pipeline, &planned));
                found.extend(history(pipeline).await);
                let picked = |t: &&SourceTable| planned.tables.iter().any(|p| *p.table() == t.name);
                bytes = tables.iter().filter(picked).filter_map(|t| t.bytes).sum();
                clashing = clashes(pipeline, tables, &planned).await;
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

/// Existing target tables that are in the way.
async fn clashes(pipeline: &Pipeline, found: &[SourceTable], planned: &Plan) -> Vec<Finding> {
    let mut planned = planned.clone();
    let looked = async {
        let stored = pipeline.target.tables(&pipeline.name).await?;
        keep_on(pipeline, found, &mut planned, &stored);
        survey(pipeline, &planned, &stored).await
    };
    let surveyed = match looked.await {
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

/// Which script is wanted.
#[derive(Clone, Copy, Debug, Default)]
pub struct WantedScript<'a> {
    /// The role it is for; the one of the project file if not given.
    pub role: Option<&'a str>,
    /// A part of the source's that can be done without, alone.
    pub part: Option<SetUpPart>,
    /// What takes it back.
    pub undo: bool,
}

/// The script for the administrator of one end.
///
/// # Errors
/// If the source cannot be reached.
pub async fn set_up_script(pipeline: &Pipeline, end: End, wanted: &WantedScript<'_>) -> Result<String> {
    let WantedScript { role, part, undo } = *wanted;
    if end == End::Target {
        return Ok(pipeline.target.set_up_script(role, undo));
    }
    let found = pipeline.source.discover().await.map_err(|error| match error {
        AdapterError::Connect { layer: Layer::LogIn, .. } => EngineError::NoLogIn(error),
        error => error.into(),
    })?;
    let plan = plan_pipeline(pipeline, &found)?;
    let picker = pipeline.config.picker();
    let (found, plan, picker) = (&found, &plan, &picker);
    let set_up = SetUp { pipeline: &pipeline.name, role, undo, part, found, plan, picker };
    Ok(pipeline.source.set_up_script(&pipeline.known_capture().await?, &set_up).await?)
}

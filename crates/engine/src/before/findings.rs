//! What planning brings up, as findings.

use crate::pipeline::ends::Pipeline;
use moorage_core::model::described::SourceTable;
use moorage_core::model::finding::{End, Finding, Fix, Reason, tables as count};
use moorage_core::model::schema::RowIdentity;
use moorage_core::model::types::LogicalType;
use moorage_core::pick::picker::Choice;
use moorage_core::plan::make::Plan;
use moorage_core::plan::table::TablePlan;

/// What planning brought up.
pub(super) fn of_plan(pipeline: &Pipeline, tables: &[SourceTable], planned: &Plan) -> Vec<Finding> {
    let mut found = Vec::new();
    let picker = pipeline.config.picker();
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
        let Reason { why, fix } = refused.reason.clone();
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
        let partitioned = table.kind == moorage_core::model::described::TableKind::Partitioned;
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
        found.extend(source.and_then(bound));
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

/// Columns that the application cannot drop while the table is captured.
fn bound(source: &SourceTable) -> Option<Finding> {
    let columns = &source.bound;
    let found = format!("while it is captured, the application cannot DROP COLUMN {}", columns.join(", "));
    let why = "what captures its changes names them; every other statement works. Dropping the pipeline's triggers on it first makes room: the next run makes them anew and reads the table again";
    let finding = Finding::ok(End::Source, "bound_columns", found).because(why).about(&source.name);
    (!columns.is_empty()).then_some(finding)
}

/// A filter over a log that may leave values out: a row that comes into it may come without them.
pub(super) fn filter(plan: &TablePlan, source: &SourceTable) -> Option<Finding> {
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
    Some(Finding::warning(End::Source, "filter", found, why, source.whole_rows.clone()).about(plan.table()))
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

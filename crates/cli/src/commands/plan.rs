//! `plan`: what a run will make, and what it refuses.

mod example;

use crate::args::{Global, PlanArgs};
use crate::exit::Finished;
use crate::failure::Failure;
use crate::{load, render};
use moorage_adapter::{Surveyed, TableState};
use moorage_core::drift::outlook::Outlook;
use moorage_core::model::finding::{Fix, Reason};
use moorage_core::model::kept_as::KeptAs;
use moorage_core::model::name::TableName;
use moorage_core::model::policy::ExistingRows;
use moorage_core::model::schema::RowIdentity;
use moorage_core::plan::make::Refused;
use moorage_core::plan::table::TablePlan;
use moorage_core::project::text::quoted;
use moorage_engine::ddl::{self, Written};
use moorage_engine::{Draft, Estimate, Pipeline};
use serde::Serialize;
use std::path::Path;

/// A picked table that cannot be carried.
#[derive(Serialize)]
struct Blocked<'a> {
    table: &'a TableName,
    /// As a sentence, with the statements.
    why: String,
    fix: &'a Fix,
}

impl<'a> Blocked<'a> {
    fn of(refused: &'a Refused) -> Self {
        Self { table: &refused.table, why: refused.reason.to_string(), fix: &refused.reason.fix }
    }
}

#[derive(Serialize)]
struct Planned<'a> {
    pipeline: &'a str,
    estimate: Option<Estimate>,
    notes: &'a [String],
    unmatched_patterns: Vec<String>,
    tables: Vec<PlannedTable<'a>>,
    refused: Vec<Blocked<'a>>,
    drift: Vec<OfDrift>,
}

/// What would become of a kind of change of structure.
#[derive(Serialize)]
struct OfDrift {
    kind: &'static str,
    policy: &'static str,
    what: &'static str,
    /// For which tables; none if for all.
    tables: Vec<String>,
}

impl OfDrift {
    fn all(pipeline: &Pipeline, draft: &Draft) -> Vec<Self> {
        let of = |outlook: Outlook| Self {
            kind: outlook.kind.word(),
            policy: outlook.policy.word(),
            what: outlook.what,
            tables: outlook.tables.iter().map(ToString::to_string).collect(),
        };
        draft.outlook(pipeline).into_iter().map(of).collect()
    }
}

#[derive(Serialize)]
struct PlannedTable<'a> {
    table: String,
    target: &'a str,
    /// Where its rows come from, as they say, if they stand together with those of others.
    #[serde(skip_serializing_if = "Option::is_none")]
    from: Option<&'a str>,
    #[serde(flatten)]
    kept_as: &'a KeptAs,
    also: Vec<PlannedForm<'a>>,
    /// `create`, `take over`, `go on` or `read again`.
    action: &'static str,
    existing_rows: Option<u64>,
    existing_rows_become: Option<&'static str>,
    blocked: Option<&'a str>,
    identity: &'a RowIdentity,
    key: Vec<&'a str>,
    row_estimate: Option<u64>,
    bytes: Option<u64>,
    #[serde(rename = "where")]
    condition: Option<&'a str>,
    columns: Vec<PlannedColumn<'a>>,
    left_out: Vec<LeftOut<'a>>,
    /// Columns that the application cannot drop while the table is captured.
    bound_columns: &'a [String],
    definition: String,
    definition_by_hand: bool,
}

/// Another form of a table.
#[derive(Serialize)]
struct PlannedForm<'a> {
    target: &'a str,
    #[serde(flatten)]
    kept_as: &'a KeptAs,
}

/// One table of `--ddl`.
#[derive(Serialize)]
struct Defined {
    pipeline: String,
    table: String,
    target: String,
    definition: String,
}

/// One file of `--ddl-dir`.
#[derive(Serialize)]
struct WrittenFile {
    pipeline: String,
    target: String,
    file: String,
    outcome: Written,
}

#[derive(Serialize)]
struct LeftOut<'a> {
    column: &'a str,
    why: &'a str,
}

#[derive(Serialize)]
struct PlannedColumn<'a> {
    source: String,
    source_type: Option<&'a str>,
    /// What the source's values mean, and what the target's do.
    source_logical_type: Option<String>,
    logical_type: String,
    target: &'a str,
    target_type: &'a str,
    loses: Option<&'a str>,
    note: Option<&'a str>,
}

pub async fn plan(global: &Global, args: &PlanArgs) -> Result<Finished, Failure> {
    if let Some(example) = &args.example {
        return example::from_example(global, args, example).await;
    }
    let mut found = false;
    let mut all = Vec::new();
    let mut kept = Vec::new();
    let (mut defined, mut written) = (Vec::new(), Vec::new());
    for pipeline in load::pipelines(global, &args.pipelines.pipelines)? {
        let draft = moorage_engine::draft(&pipeline).await?;
        found |= !draft.plan.refused.is_empty()
            || !draft.unmatched.is_empty()
            || draft.surveyed.iter().any(|s| s.problem.is_some());
        if let Some(folder) = &args.ddl_dir {
            written.extend(write_files(global, &pipeline, &draft, folder)?);
        } else if args.ddl {
            for table in &draft.plan.tables {
                let definition = pipeline.target.definition(table);
                if !render::wants_json(global) {
                    render::out(format!("{definition}\n"));
                }
                let (table, target) = (table.table().to_string(), table.stands_in().to_string());
                defined.push(Defined { pipeline: pipeline.name.clone(), table, target, definition });
            }
        } else {
            let estimate = moorage_engine::estimate(&pipeline, &draft).await?;
            if !render::wants_json(global) {
                show(global, &pipeline, &draft, estimate.as_ref());
            }
            kept.push((pipeline, draft, estimate));
        }
    }
    if render::wants_json(global) && args.ddl {
        render::json(&defined)?;
    } else if render::wants_json(global) && args.ddl_dir.is_some() {
        render::json(&written)?;
    } else if render::wants_json(global) {
        all.extend(kept.iter().map(|(pipeline, draft, estimate)| as_json(pipeline, draft, *estimate)));
        render::json(&all)?;
    }
    Ok(if found { Finished::Found } else { Finished::Clean })
}

fn write_files(
    global: &Global,
    pipeline: &Pipeline,
    draft: &Draft,
    folder: &Path,
) -> Result<Vec<WrittenFile>, Failure> {
    let mut all = Vec::new();
    let (together, tables): (Vec<&TablePlan>, Vec<&TablePlan>) =
        draft.plan.tables.iter().partition(|table| table.gathered.is_some());
    if let (Some(first), false) = (together.first(), render::wants_json(global)) {
        let (into, others) = (first.stands_in(), together.len());
        render::out(format!("{into}: none is written where tables stand together ({others} tables do)"));
    }
    for table in tables {
        let generated = TablePlan { ddl: None, ..table.clone() };
        let outcome = ddl::write(folder, &generated, &pipeline.target.definition(&generated))?;
        let word = if outcome == Written::Kept { "left alone, it was changed by hand" } else { "written" };
        let file = ddl::file_of(folder, table).display().to_string();
        if !render::wants_json(global) {
            render::out(format!("{file}: {word}"));
        }
        all.push(WrittenFile {
            pipeline: pipeline.name.clone(),
            target: table.target.clone(),
            file,
            outcome,
        });
    }
    if pipeline.ddl_folder.is_none() && !render::wants_json(global) {
        let line = format!("ddl_dir = {}", quoted(&folder.display().to_string()));
        render::out(format!(
            "to have a run use what you change there, write in [pipelines.{}]: {line}",
            pipeline.name
        ));
    }
    Ok(all)
}

fn action(surveyed: &Surveyed) -> &'static str {
    match (&surveyed.existing, surveyed.state) {
        (_, Some(state)) if state.is_unread() || state == TableState::Gone => "read again",
        (_, Some(_)) => "go on",
        (Some(_), None) => "take over",
        (None, None) => "create",
    }
}

fn rows_become(table: &TablePlan, surveyed: &Surveyed) -> Option<&'static str> {
    surveyed.existing.as_ref().filter(|e| e.rows > 0 && surveyed.state.is_none())?;
    table.existing_rows.map(|choice| match choice {
        ExistingRows::Replace => "replaced",
        ExistingRows::Keep => "kept",
    })
}

fn as_json<'a>(pipeline: &'a Pipeline, draft: &'a Draft, estimate: Option<Estimate>) -> Planned<'a> {
    let column = |t: &'a TablePlan, i: usize| {
        let source = t.source_column(i);
        PlannedColumn {
            source_type: t.schema.columns.iter().find(|c| c.name == source).map(|c| c.source_type.as_str()),
            source_logical_type: t
                .schema
                .columns
                .iter()
                .find(|c| c.name == source)
                .map(|c| c.logical.to_string()),
            source,
            logical_type: t.mapped.columns[i].logical.to_string(),
            target: &t.columns[i].name,
            target_type: &t.columns[i].declared.sql,
            loses: t.columns[i].loses.as_deref(),
            note: t.columns[i].declared.note.as_deref(),
        }
    };
    let tables = draft.plan.tables.iter().zip(&draft.surveyed).map(|(t, s)| {
        let source = draft.source_table(t);
        PlannedTable {
            table: t.table().to_string(),
            target: t.stands_in(),
            from: t.member().map(|(_, from)| from),
            kept_as: &t.kept_as,
            also: t
                .also
                .iter()
                .map(|form| PlannedForm { target: form.stands_in(), kept_as: &form.kept_as })
                .collect(),
            action: action(s),
            existing_rows: s.existing.as_ref().map(|e| e.rows),
            existing_rows_become: rows_become(t, s),
            blocked: s.problem.as_deref(),
            identity: &t.mapped.identity,
            key: t.mapped.key_names(),
            row_estimate: source.and_then(|s| s.row_estimate),
            bytes: source.and_then(|s| s.bytes),
            condition: t.mapping.condition.as_deref(),
            columns: (0..t.columns.len()).map(|i| column(t, i)).collect(),
            left_out: t.left_out.iter().map(|(column, why)| LeftOut { column, why }).collect(),
            bound_columns: source.map(|source| source.bound.as_slice()).unwrap_or_default(),
            definition: pipeline.target.definition(t),
            definition_by_hand: t.ddl.is_some(),
        }
    });
    Planned {
        pipeline: &pipeline.name,
        estimate,
        notes: &draft.notes,
        unmatched_patterns: draft.unmatched.iter().map(ToString::to_string).collect(),
        tables: tables.collect(),
        refused: draft.plan.refused.iter().map(Blocked::of).collect(),
        drift: OfDrift::all(pipeline, draft),
    }
}

fn identity(table: &TablePlan) -> String {
    let names = table.mapped.key_names().join(", ");
    match table.mapped.identity {
        RowIdentity::Key(_) => format!("key ({names})"),
        RowIdentity::DeclaredKey(_) => format!("key ({names}), declared in the project file"),
        RowIdentity::WholeRow => "no key: rows are matched by all columns".into(),
    }
}

/// What will happen to the target table.
fn outlook(table: &TablePlan, surveyed: &Surveyed, draft: &Draft) -> String {
    let rows = surveyed.existing.as_ref().map_or(0, |e| e.rows);
    let number = render::number(rows);
    let target = match (action(surveyed), rows_become(table, surveyed)) {
        ("create", _) => "will be created".to_string(),
        ("go on", _) if surveyed.state == Some(TableState::Held) => {
            format!("is there, {number} rows; its changes are held until someone decides: `moorage drift`")
        }
        ("go on", _) => format!("is there, {number} rows; a run goes on with it"),
        ("read again", _) => "is there, not complete; a run reads it again from empty".into(),
        (_, Some(become_what)) => format!("is there, {number} rows, which are {become_what}"),
        (_, None) => format!("is there, {number} rows; a run takes it over"),
    };
    let source = draft.source_table(table);
    let about = source.and_then(|s| s.row_estimate).map(|n| format!("about {} rows", render::number(n)));
    let bytes = source.and_then(|s| s.bytes).map(render::size);
    let size: Vec<String> = about.into_iter().chain(bytes).collect();
    let by_hand = if table.ddl.is_some() { ", made by statements that were changed by hand" } else { "" };
    let goes_on = action(surveyed) == "go on";
    let by_hand = match goes_on && surveyed.maps_otherwise {
        true => ", altered or read again beside, as the project file maps it in another way",
        false => by_hand,
    };
    match size.join(", ") {
        size if size.is_empty() => format!("{target}{by_hand}"),
        size if goes_on => format!("{target}{by_hand}; the source has {size}"),
        size => format!("{target}{by_hand}; {size} to read"),
    }
}

fn show(global: &Global, pipeline: &Pipeline, draft: &Draft, estimate: Option<&Estimate>) {
    render::out(format!("{}: pipeline {}", global.file.display(), pipeline.name));
    let tables = &draft.plan.tables;
    for (at, (table, surveyed)) in tables.iter().zip(&draft.surveyed).enumerate() {
        let title = render::bold(global, &format!("{} → {}", table.table(), table.stands_in()));
        let more = format!(", {}\n  {}", identity(table), outlook(table, surveyed, draft));
        render::out("");
        render::out(title.and(&more));
        if let Some(problem) = &surveyed.problem {
            render::out(format!("  blocked: {problem}"));
        }
        let together: Vec<&TablePlan> = tables.iter().filter(|other| stand_together(table, other)).collect();
        if let Some((column, from)) = table.member() {
            let among = if together.len() > 1 {
                format!(", where {} tables stand together", together.len())
            } else {
                String::new()
            };
            render::out(format!("  its rows have {column} = '{from}'{among}"));
        }
        if let Some(keeps) = table.kept_as.words() {
            render::out(format!("  keeps {keeps}"));
        }
        for form in &table.also {
            let keeps = form.kept_as.words().unwrap_or_else(|| "the rows as they are now".into());
            render::out(format!("  also {}, which keeps {keeps}", form.stands_in()));
        }
        if let Some(condition) = &table.mapping.condition {
            render::out(format!("  only rows where {condition}"));
        }
        if let Some(caveat) = draft.caveat(table) {
            render::out(format!("  warning: {}; {};", caveat.found, caveat.fix.statements.join("; ")));
        }
        let bound = draft.source_table(table).map(|source| source.bound.as_slice()).unwrap_or_default();
        if !bound.is_empty() {
            let bound = bound.join(", ");
            render::out(format!("  while it is captured, the application cannot DROP COLUMN {bound}"));
        }
        // Partitions are many, and alike.
        let alike =
            tables[..at].iter().find(|other| stand_together(table, other) && has_same_columns(table, other));
        match alike {
            Some(other) => render::out(format!("  columns as of {}", other.table())),
            None => render::out(columns(global, table).trim_fmt()),
        }
    }
    for note in &draft.notes {
        render::out(format!("\nnote: {note}"));
    }
    for refused in &draft.plan.refused {
        let Reason { why, fix } = &refused.reason;
        render::out(format!("\n{}: blocked: {why}", refused.table));
        for statement in &fix.statements {
            render::out(format!("  run in the source  {statement};"));
        }
    }
    for unmatched in &draft.unmatched {
        render::out(format!("\nblocked: {unmatched}"));
    }
    show_drift(global, OfDrift::all(pipeline, draft));
    let blocked = draft.plan.refused.len() + draft.surveyed.iter().filter(|s| s.problem.is_some()).count();
    render::out(format!("\n{} tables to carry, {blocked} blocked", draft.plan.tables.len()));
    if let Some(e) = estimate {
        let size = if e.bytes > 0 { format!(", {}", render::size(e.bytes)) } else { String::new() };
        render::out(format!(
            "snapshot: {} tables, about {} rows{size}; reading them takes about {} ({} rows a second, measured just now)",
            e.tables,
            render::number(e.rows),
            render::span(e.elapsed_ms),
            render::number(e.rows_per_second)
        ));
    }
}

fn show_drift(global: &Global, all: Vec<OfDrift>) {
    if all.is_empty() {
        return;
    }
    render::out("\nif the source's structure changes meanwhile:");
    let mut kinds = render::table(global, &["  kind", "policy", "what becomes of it", "tables"]);
    for of in &all {
        let same = all.iter().filter(|other| other.kind == of.kind);
        let most = same.max_by_key(|other| other.tables.len());
        let tables = match of.tables.is_empty() {
            true => "all".into(),
            false if most.is_some_and(|most| std::ptr::eq(most, of)) => "the others".into(),
            false => of.tables.join(", "),
        };
        kinds.add_row([format!("  {}", of.kind), of.policy.into(), of.what.into(), render::cut(&tables, 60)]);
    }
    render::out(kinds.trim_fmt());
}

fn columns(global: &Global, table: &TablePlan) -> render::Grid {
    let head = ["  column", "source type", "means", "target column", "target type", "note"];
    let mut columns = render::table(global, &head);
    for (at, to) in table.columns.iter().enumerate() {
        let from = table.source_column(at);
        let source_type = table.schema.columns.iter().find(|c| c.name == from).map(|c| c.source_type.clone());
        let notes = [to.loses.as_ref().map(|l| format!("loses: {l}")), to.declared.note.clone()];
        let is_from = table.member().is_some_and(|(column, _)| column == to.name);
        let shown = if is_from { "where from".into() } else { render::cut(&from, 40) };
        columns.add_row([
            format!("  {shown}"),
            source_type.unwrap_or_else(|| "(added)".into()),
            means(table, &from, at),
            to.name.clone(),
            if to.declared.sql.is_empty() { "(any)".into() } else { to.declared.sql.clone() },
            notes.into_iter().flatten().collect::<Vec<_>>().join("; "),
        ]);
    }
    for (name, why) in &table.left_out {
        let empty = String::new;
        columns.add_row([format!("  {name}"), empty(), empty(), "left out".into(), empty(), why.clone()]);
    }
    columns
}

/// Whether the rows of both are in one target table, among others.
fn stand_together(table: &TablePlan, other: &TablePlan) -> bool {
    table.gathered.is_some() && other.gathered.is_some() && table.stands_in() == other.stands_in()
}

/// Whether what is shown of the columns of both is the same, but for where rows come from.
fn has_same_columns(table: &TablePlan, other: &TablePlan) -> bool {
    let shown = |of: &TablePlan| {
        let from = of.member().map(|(_, from)| format!("'{from}'"));
        let sources = (0..of.columns.len()).map(|at| of.source_column(at));
        sources.map(|source| (Some(&source) != from.as_ref()).then_some(source)).collect::<Vec<_>>()
    };
    let same = (&table.columns, &table.left_out, &table.schema.columns)
        == (&other.columns, &other.left_out, &other.schema.columns);
    same && shown(table) == shown(other)
}

/// What a column's values mean, on both sides where a cast makes them mean something else.
fn means(table: &TablePlan, from: &str, at: usize) -> String {
    let to = &table.mapped.columns[at].logical;
    match table.schema.columns.iter().find(|c| c.name == from).map(|c| &c.logical) {
        Some(of_source) if of_source != to => format!("{of_source} → {to}"),
        _ => to.to_string(),
    }
}

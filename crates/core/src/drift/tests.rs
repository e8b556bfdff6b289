//! Differences × policies, on a table as a source describes it.

use super::alter::{AlterStep, Then};
use super::decide::{By, Decision, decide};
use super::outlook::outlook;
use crate::change::structure::{OfType, Step, TypeChange, Unknown};
use crate::model::described::{LogIdentity, SourceColumn, SourceTable, TableKind};
use crate::model::drift::{DriftKind, DriftPolicy};
use crate::model::finding::Fix;
use crate::model::name::TableName;
use crate::model::schema::{Column, RowIdentity, TableSchema};
use crate::model::types::LogicalType;
use crate::plan::dialect::{Declared, TargetDialect};
use crate::plan::make::{plan, plan_known};
use crate::plan::table::TablePlan;
use crate::project::config::{PipelineConfig, Project};
use crate::project::section::tests::AnyKind;
use crate::value::column::{RowsBuilder, Value, value_at, value_text};
use arrow::array::RecordBatch;
use rstest::rstest;
use std::sync::Arc;

struct Dialect;

impl TargetDialect for Dialect {
    fn declare(&self, column: &Column, _: bool) -> Declared {
        Declared { sql: column.logical.to_string(), note: None }
    }
    fn fold(&self, identifier: &str) -> String {
        identifier.into()
    }
    fn reserved(&self, _: &str) -> Option<String> {
        None
    }
    fn widens_at_once(&self, from: &str, to: &str) -> bool {
        (from, to) == ("int32", "int64")
    }
    fn drops_at_once(&self) -> bool {
        true
    }
}

/// `1:id 2:depth:int64 3:note:text?`: number, name, type (int32 if none).
pub(crate) fn table(text: &str) -> SourceTable {
    let column = |word: &str| {
        let mut parts = word.split(':');
        let number = parts.next().unwrap().parse().ok();
        let name = parts.next().unwrap().to_string();
        let logical = match parts.next() {
            None => LogicalType::Int32,
            Some("int64") => LogicalType::Int64,
            Some("text") => LogicalType::Text,
            Some("decimal") => LogicalType::Decimal { precision: None, scale: None },
            Some("interval") => LogicalType::Interval,
            Some(other) => panic!("{other}"),
        };
        SourceColumn {
            number,
            ..SourceColumn::of(Column { name, source_type: logical.to_string(), logical, nullable: true })
        }
    };
    SourceTable {
        name: TableName::new("public", "berths"),
        kind: TableKind::Table,
        id: 7,
        columns: text.split_whitespace().map(column).collect(),
        identity: LogIdentity::Key(vec!["id".into()]),
        identity_word: "default",
        row_estimate: None,
        bytes: None,
        refused: None,
        whole_rows: Fix::none(),
        written_by: None,
        uncaptured: None,
        written_from: None,
        bound: Vec::new(),
        note: None,
        part_of: None,
        comment: None,
        state: String::new(),
    }
}

pub(crate) fn config(rest: &str) -> PipelineConfig {
    let text = format!(
        "[sources.s]\nkind=\"quay\"\n[targets.t]\nkind=\"shed\"\n[pipelines.p]\nsource=\"s\"\ntarget=\"t\"\ninto=\"{{table}}\"\n{rest}"
    );
    Project::parse("f", &text, &AnyKind).unwrap().pipelines.remove("p").unwrap()
}

pub(crate) fn planned(config: &PipelineConfig, table: &SourceTable) -> Arc<TablePlan> {
    Arc::new(plan(config, std::slice::from_ref(table), &Dialect).tables.remove(0))
}

/// With `values`, in the order of the columns.
pub(crate) fn step(
    after: SourceTable,
    values: Option<&[Option<i64>]>,
    unknown: Option<Unknown>,
) -> Arc<Step> {
    let columns: Vec<Column> = after.columns.iter().map(|c| c.column.clone()).collect();
    let schema =
        Arc::new(TableSchema { table: after.name.clone(), columns, identity: RowIdentity::WholeRow });
    let row = |values: &[Option<i64>]| -> RecordBatch {
        let mut rows = RowsBuilder::new(schema.clone());
        for (column, value) in rows.columns.iter_mut().zip(values) {
            assert!(column.push(value.map_or(Value::Null, Value::Int)));
        }
        rows.end_row(0);
        rows.finish().unwrap()
    };
    Arc::new(Step { after: Arc::new(after), values: values.map(row), schema, unknown, types: Vec::new() })
}

fn by(config: &PipelineConfig) -> By<'_> {
    By { config, dialect: &Dialect, alters: true, decision: None }
}

/// What is done, in words.
fn told(decision: &Decision) -> String {
    let alteration = match decision {
        Decision::Stop { what } => return format!("stop: {what}"),
        Decision::Alter(alteration) => alteration,
    };
    match alteration.then {
        Then::Rereads => return format!("reread: {}", alteration.what),
        Then::Holds => return format!("hold: {}", alteration.what),
        Then::Merges => {}
    }
    let name = |at: &usize| alteration.after.columns[*at].name.clone();
    let steps = alteration.steps.iter().map(|step| match step {
        AlterStep::Add { column, value } => {
            let value = value.as_ref().and_then(|v| value_text(value_at(v.column(0).as_ref(), 0)));
            format!("add {} = {}", name(column), value.unwrap_or_else(|| "null".into()))
        }
        AlterStep::Rename { from, to } => format!("rename {from} to {to}"),
        AlterStep::Widen { column } => format!("widen {}", name(column)),
        AlterStep::Relabel { column, from, to } => format!("{from} in {} to {to}", name(column)),
        AlterStep::Drop { name } => format!("drop {name}"),
    });
    steps.collect::<Vec<_>>().join(", ")
}

fn decided(
    rest: &str,
    before: &str,
    after: &str,
    values: Option<&[Option<i64>]>,
    unknown: Option<Unknown>,
) -> String {
    let config = config(rest);
    let before = planned(&config, &table(before));
    told(&decide(&before, &step(table(after), values, unknown), &by(&config)))
}

#[rstest]
#[case::added("", "1:id", "1:id 2:depth", "add depth = null")]
#[case::added_and_left("[pipelines.p.drift]\ncolumn_added=\"leave\"", "1:id", "1:id 2:depth", "")]
#[case::added_and_stopped(
    "[pipelines.p.drift]\ncolumn_added=\"stop\"",
    "1:id",
    "1:id 2:depth",
    "stop: column depth was added (int32)"
)]
#[case::added_and_read(
    "[pipelines.p.drift]\ncolumn_added=\"reread\"",
    "1:id",
    "1:id 2:depth",
    "reread: column depth was added (int32)"
)]
#[case::added_and_not_carried(
    "[pipelines.p.drift]\ncolumn_added=\"stop\"\n[[pipelines.p.rule]]\nmatch=\"*.*\"\nonly=[\"id\"]",
    "1:id",
    "1:id 2:depth",
    ""
)]
#[case::a_rule_wins(
    "[pipelines.p.drift]\ncolumn_added=\"stop\"\n[[pipelines.p.rule]]\nmatch=\"*.berths\"\ndrift={column_added=\"follow\"}",
    "1:id",
    "1:id 2:depth",
    "add depth = null"
)]
#[case::dropped("", "1:id 2:depth", "1:id", "")]
#[case::dropped_and_followed(
    "[pipelines.p.drift]\ncolumn_dropped=\"follow\"",
    "1:id 2:depth",
    "1:id",
    "drop depth"
)]
#[case::same_name_another_column(
    "[pipelines.p.drift]\ncolumn_dropped=\"follow\"",
    "1:id 2:depth",
    "1:id 3:depth",
    "drop depth, add depth = null"
)]
#[case::same_name_as_one_that_was_left(
    "",
    "1:id 2:depth",
    "1:id 3:depth",
    "reread: column depth was added (int32), column depth was dropped"
)]
#[case::renamed("", "1:id 2:depth", "1:id 2:draught", "hold: column depth is called draught now")]
#[case::renamed_and_followed(
    "[pipelines.p.drift]\ncolumn_renamed=\"follow\"",
    "1:id 2:depth",
    "1:id 2:draught",
    "rename depth to draught"
)]
#[case::renamed_and_left(
    "[pipelines.p.drift]\ncolumn_renamed=\"leave\"",
    "1:id 2:depth",
    "1:id 2:draught",
    ""
)]
#[case::swapped(
    "[pipelines.p.drift]\ncolumn_renamed=\"follow\"",
    "1:id 2:a 3:b",
    "1:id 2:b 3:a",
    "rename a to moorage_between_0, rename b to a, rename moorage_between_0 to b"
)]
#[case::chained(
    "[pipelines.p.drift]\ncolumn_renamed=\"follow\"",
    "1:id 2:a 3:b",
    "1:id 2:b 3:c",
    "rename b to c, rename a to b"
)]
#[case::rename_that_a_rule_hides(
    "[[pipelines.p.rule]]\nmatch=\"*.*\"\nrename={a=\"amount\"}",
    "1:id 2:a",
    "1:id 2:b",
    ""
)]
#[case::widened("", "1:id 2:a", "1:id 2:a:int64", "widen a")]
#[case::widened_in_a_way_that_takes_time(
    "",
    "1:id 2:a:int64",
    "1:id 2:a:text",
    "reread: column a is of type text and was of type int64"
)]
#[case::key(
    "",
    "1:id 2:a",
    "3:id 2:a",
    "hold: column id was added (int32), column id was dropped, its key or its replica identity was changed"
)]
fn kinds_and_policies(#[case] rest: &str, #[case] before: &str, #[case] after: &str, #[case] expected: &str) {
    assert_eq!(decided(rest, before, after, None, None), expected);
}

#[test]
fn rows_that_are_there_get_the_value_that_they_have_in_the_source() {
    let values: &[Option<i64>] = &[None, Some(7)];
    assert_eq!(decided("", "1:id", "1:id 2:depth", Some(values), None), "add depth = 7");
    let cast = "[[pipelines.p.rule]]\nmatch=\"*.*\"\n[pipelines.p.rule.cast]\nnote=\"text\"";
    // A rule of a column that is yet to come is a mistake before, so the cast comes with the file that is read now.
    let before = planned(&config(""), &table("1:id"));
    let decision = decide(&before, &step(table("1:id 2:note"), Some(values), None), &by(&config(cast)));
    assert_eq!(told(&decision), "add note = 7");
}

#[rstest]
#[case::all(None, "reread: rewritten")]
#[case::of_a_carried_column(Some(vec![2]), "reread: rewritten")]
#[case::of_one_that_is_not(Some(vec![3]), "")]
fn values_that_are_not_known_are_read_where_the_mapping_sees_them(
    #[case] columns: Option<Vec<u32>>,
    #[case] expected: &str,
) {
    let rest = "[[pipelines.p.rule]]\nmatch=\"*.*\"\ndrop=[\"secret\"]";
    let unknown = Unknown { why: "rewritten".into(), columns };
    let table = "1:id 2:a 3:secret";
    assert_eq!(decided(rest, table, table, None, Some(unknown)), expected);
}

/// Rows that are told apart by it, or made from it, are read again; where the file may name the value, someone decides.
#[rstest]
#[case::plain("", None, "booked in a to open")]
#[case::not_carried("[[pipelines.p.rule]]\nmatch=\"*.*\"\ndrop=[\"a\"]", None, "")]
#[case::held(
    "[pipelines.p.drift]\nvalue_renamed=\"hold\"",
    None,
    "hold: value \"booked\" of column a is called \"open\" now"
)]
#[case::key(
    "[[pipelines.p.rule]]\nmatch=\"*.*\"\nkey=[\"a\"]",
    None,
    "reread: value \"booked\" of column a is called \"open\" now"
)]
#[case::named(
    "[[pipelines.p.rule]]\nmatch=\"*.*\"\nwhere=\"a <> 'booked'\"",
    None,
    "hold: value \"booked\" of column a is called \"open\" now"
)]
#[case::decided(
    "[[pipelines.p.rule]]\nmatch=\"*.*\"\nwhere=\"a <> 'booked'\"",
    Some(DriftPolicy::Follow),
    "reread: value \"booked\" of column a is called \"open\" now"
)]
#[case::another_is_named(
    "[[pipelines.p.rule]]\nmatch=\"*.*\"\nwhere=\"id > 3\"",
    None,
    "booked in a to open"
)]
fn a_value_that_is_called_otherwise_is_renamed_in_rows_that_are_there(
    #[case] rest: &str,
    #[case] decision: Option<DriftPolicy>,
    #[case] expected: &str,
) {
    let config = config(rest);
    let mut described = table("1:id 2:a:text");
    if rest.contains("key=") {
        described.identity = LogIdentity::Full { key: None };
    }
    let before = planned(&config, &described);
    let what = TypeChange::Renamed { from: "booked".into(), to: "open".into() };
    let types = vec![OfType { column: 2, what }];
    let step = Arc::new(Step { types, ..(*step(described, None, None)).clone() });
    let by = By { decision, ..by(&config) };
    assert_eq!(told(&decide(&before, &step, &by)), expected);
}

/// The target's table has it still, also when many other changes came in between.
#[test]
fn a_column_that_was_left_is_in_the_way_of_a_later_one_of_its_name() {
    let config = config("");
    let dropped = alteration("1:id 2:depth 3:a", "1:id 3:a");
    let another = decide(&dropped.after, &step(table("1:id 3:a 4:b"), None, None), &by(&config));
    let Decision::Alter(another) = another else { panic!() };
    assert_eq!(told(&Decision::Alter(another.clone())), "add b = null");
    let back = decide(&another.after, &step(table("1:id 3:a 4:b 5:depth"), None, None), &by(&config));
    assert_eq!(told(&back), "reread: column depth was added (int32)");
    let Decision::Alter(read) = back else { panic!() };
    assert_eq!(read.after.structure.as_ref().unwrap().left_behind, [""; 0], "made without it");
}

/// A column that a rule drops stays dropped whatever it is called, also when it is planned once more at the next start.
#[test]
fn rules_are_bound_to_columns_and_not_to_names() {
    let config = config("[[pipelines.p.rule]]\nmatch=\"*.*\"\ndrop=[\"secret\"]\nrename={a=\"amount\"}");
    let before = planned(&config, &table("1:id 2:a 3:secret"));
    let renamed = step(table("1:id 2:sum 3:hidden"), None, None);
    let Decision::Alter(alteration) = decide(&before, &renamed, &by(&config)) else { panic!() };
    assert!(alteration.steps.is_empty() && alteration.then == Then::Merges);
    let names: Vec<&str> = alteration.after.columns.iter().map(|c| c.name.as_str()).collect();
    assert_eq!(names, ["id", "amount"]);
    assert_eq!(alteration.after.schema.columns[1].name, "sum");
    let again =
        crate::plan::make::plan_known(&config, alteration.after.structure.as_deref().unwrap(), &Dialect);
    assert!(again.unwrap().maps_like(&alteration.after));
}

/// What an expression reads is the same column at the next start, too, also where another one has its name by now; a file that
/// was changed to the new names is right as well.
#[test]
fn expressions_and_keys_are_bound_to_columns_and_not_to_names() {
    let rule = |condition: &str, twice: &str, key: &str| {
        config(&format!(
            "[pipelines.p.drift]\ncolumn_renamed=\"follow\"\n[[pipelines.p.rule]]\nmatch=\"*.*\"\nwhere=\"{condition}\"\nkey=[\"{key}\"]\nadd={{twice={{expression=\"{twice}\"}}}}"
        ))
    };
    let full = |text: &str| SourceTable { identity: LogIdentity::Full { key: None }, ..table(text) };
    let config = rule("depth > 3", "depth * 2", "id");
    let before = planned(&config, &full("1:id 2:depth 3:a"));
    let renamed = step(full("1:number 2:draught 3:a 4:depth"), None, None);
    let Decision::Alter(alteration) = decide(&before, &renamed, &by(&config)) else { panic!() };
    let steps = told(&Decision::Alter(alteration.clone()));
    assert_eq!(steps, "rename id to number, rename depth to draught, add depth = null");
    let after = &alteration.after;
    let rows = step(full("1:number 2:draught 3:a 4:depth"), Some(&[Some(1), Some(9), None, Some(1)]), None);
    let rows = rows.values.clone().unwrap();
    let mapped = after.mapper().unwrap().unwrap().rows(&rows).unwrap();
    assert_eq!(mapped.num_rows(), 1, "draught is greater than three");
    let twice = mapped.column_by_name("twice").unwrap();
    assert_eq!(value_text(value_at(twice.as_ref(), 0)).unwrap(), "18");
    let structure = after.structure.as_deref().unwrap();
    let again = |config: &PipelineConfig| plan_known(config, structure, &Dialect);
    assert!(again(&config).unwrap().maps_like(after));
    let edited = again(&rule("draught > 3", "draught * 2", "number")).unwrap();
    assert_eq!((&edited.columns, &edited.mapped), (&after.columns, &after.mapped));
    let why = again(&rule("draught > 3", "gone * 2", "id")).unwrap_err().why;
    assert!(why.contains("gone"), "{why}");
}

#[rstest]
#[case::followed(DriftPolicy::Follow, "rename depth to draught")]
#[case::left(DriftPolicy::Leave, "")]
#[case::read_again(DriftPolicy::Reread, "reread: column depth is called draught now")]
fn a_decision_takes_the_place_of_the_policy(#[case] decision: DriftPolicy, #[case] expected: &str) {
    let config = config("");
    let before = planned(&config, &table("1:id 2:depth"));
    let by = By { decision: Some(decision), ..by(&config) };
    assert_eq!(told(&decide(&before, &step(table("1:id 2:draught"), None, None), &by)), expected);
}

#[test]
fn what_cannot_be_carried_any_more_is_held() {
    let config = config("[[pipelines.p.rule]]\nmatch=\"*.*\"\nwhere=\"depth > 3\"");
    let before = planned(&config, &table("1:id 2:depth"));
    let told = told(&decide(&before, &step(table("1:id"), None, None), &by(&config)));
    assert!(
        told.starts_with("hold: column depth was dropped; as it is now it cannot be carried: where:"),
        "{told}"
    );
}

#[test]
fn a_target_that_cannot_be_altered_is_read_again_where_something_is_to_be_done() {
    let config = config("");
    let before = planned(&config, &table("1:id 2:a"));
    let without = |after: &str| {
        told(&decide(&before, &step(table(after), None, None), &By { alters: false, ..by(&config) }))
    };
    assert_eq!(without("1:id 2:a 3:b"), "reread: column b was added (int32)");
    assert_eq!(without("1:id"), "", "nothing to be done");
}

#[test]
fn every_default_is_among_what_may_be_done_and_has_a_reason() {
    for kind in DriftKind::ALL {
        assert!(!kind.policies().is_empty() && kind.why_default().len() > 10, "{kind:?}");
    }
}

#[test]
fn the_outlook_says_for_which_tables_a_policy_is() {
    let config = config(
        "[pipelines.p.drift]\ncolumn_renamed=\"leave\"\n[[pipelines.p.rule]]\nmatch=\"*.berths\"\ndrift={column_dropped=\"follow\"}",
    );
    let named = |name: &str| SourceTable { name: TableName::new("public", name), ..table("1:id") };
    let plans = plan(&config, &["berths", "stays", "vessels"].map(named), &Dialect).tables;
    let all = outlook(&config, &plans, &Dialect, true);
    let told = |kind: DriftKind| -> Vec<String> {
        let of = all.iter().filter(|outlook| outlook.kind == kind);
        of.map(|o| {
            let tables: Vec<&str> = o.tables.iter().map(|t| t.name.as_str()).collect();
            format!("{} {}: {}", o.policy.word(), tables.join(" "), o.what)
        })
        .collect()
    };
    assert_eq!(told(DriftKind::ColumnRenamed), ["leave : the target's column keeps its name"]);
    let dropped = [
        "follow berths: the target's column is dropped",
        "leave stays vessels: the target's column stays, and is null in later rows",
    ];
    assert_eq!(told(DriftKind::ColumnDropped), dropped);
    let without = outlook(&config, &plans, &Dialect, false);
    assert!(without.iter().all(|o| o.kind != DriftKind::ColumnAdded || o.what.contains("read again")));
}

/// What is followed by default from one structure to another.
pub(crate) fn alteration(before: &str, after: &str) -> super::alter::Alteration {
    altered(&config(""), before, after)
}

/// What it is where everything is followed.
pub(crate) fn followed(before: &str, after: &str) -> super::alter::Alteration {
    let all = "[pipelines.p.drift]\ncolumn_renamed = \"follow\"\ncolumn_dropped = \"follow\"\ntype_changed = \"reread\"";
    altered(&config(all), before, after)
}

fn altered(config: &PipelineConfig, before: &str, after: &str) -> super::alter::Alteration {
    let before = planned(config, &table(before));
    match decide(&before, &step(table(after), None, None), &by(config)) {
        Decision::Alter(alteration) => alteration,
        Decision::Stop { what } => panic!("{what}"),
    }
}

//! What planning accepts and refuses.

use crate::model::described::{LogIdentity, SourceColumn, SourceTable, TableKind};
use crate::model::finding::{Fix, Reason};
use crate::model::name::TableName;
use crate::model::schema::{Column, RowIdentity};
use crate::model::types::LogicalType;
use crate::plan::dialect::{Declared, TargetDialect};
use crate::plan::make::{Plan, plan};
use crate::plan::table::TablePlan;
use crate::project::config::Project;
use crate::project::section::tests::AnyKind;
use rstest::rstest;

/// A target that declares logical types and does not tell upper from lower case.
pub(crate) struct Dialect;
impl TargetDialect for Dialect {
    fn declare(&self, column: &Column, _in_key: bool) -> Declared {
        Declared { sql: column.logical.to_string(), note: None }
    }
    fn fold(&self, identifier: &str) -> String {
        identifier.to_lowercase()
    }
    fn reserved(&self, table: &str) -> Option<String> {
        table.starts_with("moorage_").then(|| "kept for Moorage".into())
    }
    fn reserved_column(&self, column: &str) -> Option<String> {
        (column.len() > 20).then(|| "more than 20 letters".into())
    }
}

fn table(name: &str, columns: &[&str], identity: LogIdentity) -> SourceTable {
    let column = |n: &&str| SourceColumn {
        generated: n.starts_with('='),
        may_be_left_out: n.starts_with('~'),
        ..SourceColumn::of(Column {
            name: n.trim_start_matches(['=', '~']).into(),
            logical: LogicalType::Text,
            source_type: "text".into(),
            nullable: true,
        })
    };
    SourceTable {
        name: TableName::new("public", name),
        kind: TableKind::Table,
        id: 1,
        columns: columns.iter().map(column).collect(),
        identity,
        identity_word: "default",
        row_estimate: None,
        bytes: None,
        refused: None,
        whole_rows: Fix::none(),
        written_by: None,
        uncaptured: None,
        written_from: None,
        bound: Vec::new(),
        state: String::new(),
        comment: None,
        note: None,
        part_of: None,
    }
}

fn key(columns: &[&str]) -> LogIdentity {
    LogIdentity::Key(columns.iter().map(ToString::to_string).collect())
}

/// A table of whose rows the log carries everything.
fn whole(columns: &[&str]) -> SourceTable {
    table("a", columns, LogIdentity::Full { key: None })
}

const OLD: &str = "keep=\"changes\"\nold_values=true";

fn planned(rule: &str, tables: &[SourceTable]) -> Plan {
    let text = format!(
        "[sources.s]\nkind=\"quay\"\n[targets.t]\nkind=\"shed\"\n[pipelines.p]\nsource=\"s\"\ntarget=\"t\"\ninto=\"{{table}}\"\nexclude=[\"*.*_tmp\"]\n{rule}"
    );
    plan(&Project::parse("f", &text, &AnyKind).unwrap().pipelines["p"], tables, &Dialect)
}

#[test]
fn columns_are_dropped_renamed_and_left_out_and_the_key_follows() {
    let rule = "[[pipelines.p.rule]]\nmatch=\"public.stays\"\ndrop=[\"note\"]\nrename={amt=\"amount\"}";
    let tables =
        [table("stays", &["note", "=total", "amt", "id"], key(&["id"])), table("x_tmp", &["a"], key(&["a"]))];
    let plan = planned(rule, &tables);
    assert_eq!(plan.tables.len(), 1, "the excluded table is not planned");
    let t = &plan.tables[0];
    assert_eq!(t.columns.iter().map(|c| c.name.as_str()).collect::<Vec<_>>(), ["amount", "id"]);
    assert_eq!(t.schema.identity, RowIdentity::Key(vec![1]));
    assert_eq!(t.left_out.len(), 2);
}

#[rstest]
#[case::no_identity(table("a", &["x"], LogIdentity::None(Reason::with("no key", ["MEND a"]))), "", "no key: the log would not say")]
#[case::folding_columns(table("a", &["Id", "id"], key(&["id"])), "", "would both be")]
#[case::the_same_name_as_an_old_value(whole(&["x", "old_x"]), OLD, "both be old_x in the target; call one otherwise: rename = { old_x = ")]
#[case::the_same_name_as_what_is_added(whole(&["moorage_order"]), "keep=\"changes\"", "call one otherwise: rename = { moorage_order = ")]
#[case::a_long_name(whole(&["a rather long name, so"]), "", "more than 20 letters. Call it otherwise: rename = { \"a rather long name, so\" = ")]
#[case::a_name_too_long_for_old_values(whole(&["seventeen_letters"]), OLD, "column old_seventeen_letters cannot have this name in the target: more than 20 letters. Call it otherwise: rename = { seventeen_letters = ")]
#[case::a_long_name_of_a_column_of_our_own(whole(&["x"]), "add={a_rather_long_name_so={constant=1}}", "another name for a_rather_long_name_so in `add`")]
#[case::a_long_name_of_where_rows_came_from(whole(&["x"]), "gather=true\ninto=\"a\"\nkey=[\"x\"]\nfrom_column=\"a_rather_long_name_so\"", "Call it otherwise: `from_column`")]
#[case::dropped_key(table("a", &["id", "x"], key(&["id"])), "drop=[\"id\"]", "key column id is not carried")]
#[case::unknown_column(table("a", &["id"], key(&["id"])), "drop=[\"nope\"]", "names column nope")]
#[case::other_key(table("a", &["id", "x"], key(&["id"])), "key=[\"x\"]", "identifies rows by (id)")]
#[case::dropped_of_whole_row(table("a", &["id", "x"], LogIdentity::Full { key: None }), "drop=[\"x\"]", "declare a `key`")]
#[case::reserved(table("moorage_checkpoints", &["id"], key(&["id"])), "", "kept for Moorage")]
fn what_cannot_be_carried_is_refused_by_name(
    #[case] table: SourceTable,
    #[case] rule: &str,
    #[case] why: &str,
) {
    let rule = if rule.is_empty() {
        String::new()
    } else {
        format!("[[pipelines.p.rule]]\nmatch=\"public.a\"\n{rule}")
    };
    let plan = planned(&rule, &[table]);
    assert!(plan.tables.is_empty());
    assert!(plan.refused[0].reason.to_string().contains(why), "{}", plan.refused[0].reason);
}

#[test]
fn a_long_name_of_what_is_added_is_refused_where_it_is_called_so() {
    let added = "keep=\"changes\"\nadded_columns={order=\"a_rather_long_name_so\"}";
    let plan = planned(added, &[whole(&["x"])]);
    assert!(plan.refused[0].reason.to_string().contains("Call it otherwise: `added_columns`"));
}

#[test]
fn two_tables_whose_names_fold_to_one_are_both_refused() {
    let plan = planned("", &[table("Berths", &["id"], key(&["id"])), table("berths", &["id"], key(&["id"]))]);
    assert_eq!((plan.tables.len(), plan.refused.len()), (0, 2));
}

#[test]
fn a_plan_that_was_kept_before_rows_were_mapped_is_still_the_same() {
    let rule = "[[pipelines.p.rule]]\nmatch=\"stays\"\nrename={amt=\"amount\"}";
    let plan = planned(rule, &[table("stays", &["id", "amt"], key(&["id"]))]).tables.remove(0);
    let mut kept = serde_json::to_value(&plan).unwrap();
    for member in ["mapped", "mapping", "ddl"] {
        kept.as_object_mut().unwrap().remove(member);
    }
    let read: TablePlan = serde_json::from_value(kept).unwrap();
    assert!(read == plan && read.maps_like(&plan));
}

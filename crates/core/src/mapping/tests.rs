//! Mapping changes leads to what mapping the rows themselves gives.

use crate::apply::reduce::reduce;
use crate::change::block::ChangeBlock;
use crate::change::builder::{ChangeBlockBuilder, Images};
use crate::change::kind::{ChangeKind, Transaction};
use crate::model::described::{LogIdentity, SourceColumn, SourceTable, TableKind};
use crate::model::finding::Fix;
use crate::model::name::TableName;
use crate::model::position::Position;
use crate::model::schema::Column;
use crate::model::types::LogicalType;
use crate::plan::make::plan;
use crate::plan::table::TablePlan;
use crate::plan::tests::Dialect;
use crate::project::config::Project;
use crate::project::section::tests::AnyKind;
use crate::value::column::{RowsBuilder, Value, value_at, value_text};
use arrow::array::RecordBatch;
use chrono::DateTime;
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::sync::Arc;

fn source(identity: LogIdentity) -> SourceTable {
    let column = |name: &str, logical: LogicalType| {
        SourceColumn::of(Column {
            name: name.into(),
            source_type: logical.to_string(),
            logical,
            nullable: true,
        })
    };
    SourceTable {
        name: TableName::new("main", "stays"),
        kind: TableKind::Table,
        id: 1,
        columns: vec![
            column("id", LogicalType::Int32),
            column("nights", LogicalType::Int32),
            column("note", LogicalType::Text),
        ],
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

fn planned(rule: &str, identity: LogIdentity) -> Result<TablePlan, String> {
    let text = format!(
        "[sources.harbour]\nkind=\"shed\"\n[targets.t]\nkind=\"shed\"\n[pipelines.p]\nsource=\"harbour\"\ntarget=\"t\"\n[[pipelines.p.rule]]\nmatch=\"stays\"\n{rule}"
    );
    let project = Project::parse("f", &text, &AnyKind).map_err(|e| e.to_string())?;
    let mut found = plan(&project.pipelines["p"], &[source(identity)], &Dialect);
    found.tables.pop().ok_or_else(|| found.refused[0].reason.to_string())
}

fn by_id() -> LogIdentity {
    LogIdentity::Key(vec!["id".into()])
}

type Stay = (i64, i64, Option<String>);

fn push(rows: &mut RowsBuilder, stay: &Stay) {
    assert!(rows.columns[0].push(Value::Int(stay.0)));
    assert!(rows.columns[1].push(Value::Int(stay.1)));
    assert!(rows.columns[2].push(stay.2.as_deref().map_or(Value::Null, Value::Text)));
}

fn batch(plan: &TablePlan, stays: impl IntoIterator<Item = Stay>) -> RecordBatch {
    let mut rows = RowsBuilder::new(plan.schema.clone());
    for stay in stays {
        push(&mut rows, &stay);
        rows.end_row(0);
    }
    rows.finish().unwrap()
}

fn texts(rows: &RecordBatch, row: usize) -> Vec<Option<String>> {
    rows.columns().iter().map(|c| value_text(value_at(c.as_ref(), row))).collect()
}

const RULE: &str = "where = \"100 % nights >= 0 and nights > 2\"\nrename = { nights = \"n\" }\ncast = { nights = \"text\" }\nadd = { double = { expression = \"nights * 2\" }, quay = { constant = \"Pellow\" }, origin = { from = \"source\" } }";

#[test]
fn rows_are_chosen_converted_and_added_to() {
    let plan = planned(RULE, by_id()).unwrap();
    let names: Vec<&str> = plan.columns.iter().map(|c| c.name.as_str()).collect();
    assert_eq!(names, ["id", "n", "note", "double", "quay", "origin"]);
    let mapper = plan.mapper().unwrap().unwrap();
    let rows = mapper.rows(&batch(&plan, [(1, 2, None), (2, 3, Some("late".into()))])).unwrap();
    assert_eq!(rows.num_rows(), 1);
    let expected = ["2", "3", "late", "6", "Pellow", "harbour"].map(|t| Some(t.to_string()));
    assert_eq!(texts(&rows, 0), expected);
}

#[test]
fn a_value_that_does_not_fit_stops_with_its_row_or_does_what_the_rule_says() {
    let rule =
        |misfit: &str| format!("cast = {{ note = {{ to = \"int32\"{misfit} }} }}\nwhere = \"nights > 2\"");
    let rows = |rule: &str, note: &str| {
        let plan = planned(rule, by_id()).unwrap();
        let rows = batch(&plan, [(1, 1, Some("never read".into())), (7, 3, Some(note.into()))]);
        plan.mapper().unwrap().unwrap().rows(&rows).map(|rows| texts(&rows, 0)[2].clone())
    };
    assert_eq!(rows(&rule(""), "12"), Ok(Some("12".into())));
    let error = rows(&rule(""), "soon").unwrap_err().to_string();
    assert_eq!(error, "column note: \"soon\" does not fit int32 (row id = 7)");
    assert_eq!(rows(&rule(", misfit = \"null\""), "soon"), Ok(None));
    assert_eq!(rows(&rule(", misfit = \"nearest\""), "2.5"), Ok(Some("3".into())));
}

#[rstest::rstest]
#[case("cast = { id = \"float64\" }", by_id(), "key column id")]
#[case("where = \"nights\"", by_id(), "where: it is a value of type int32, not a condition")]
#[case("only = [\"nights\"]", by_id(), "key column id is not carried")]
#[case("add = { at = { from = \"committed_at\" } }", LogIdentity::Full { key: None }, "declare a `key`")]
#[case("add = { note = { constant = 1 } }", by_id(), "would both be note")]
#[case("cast = { nihgts = \"text\" }", by_id(), "there is nights")]
fn a_rule_that_does_not_fit_the_table_is_refused(
    #[case] rule: &str,
    #[case] identity: LogIdentity,
    #[case] why: &str,
) {
    let error = planned(rule, identity).unwrap_err();
    assert!(error.contains(why), "{error}");
}

#[derive(Clone, Debug)]
enum Step {
    Put(i64, i64),
    Move(i64, i64),
    Delete(i64),
    Truncate,
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let step = prop_oneof![
        6 => (0..5i64, 1..7i64).prop_map(|(id, nights)| Step::Put(id, nights)),
        2 => (0..5i64, 0..5i64).prop_map(|(from, to)| Step::Move(from, to)),
        3 => (0..5i64).prop_map(Step::Delete),
        1 => Just(Step::Truncate),
    ];
    proptest::collection::vec(step, 0..30)
}

/// The changes that a source's log would carry for these steps, and the rows afterwards.
fn log(plan: &TablePlan, steps: &[Step], whole: bool) -> (ChangeBlock, BTreeMap<i64, Stay>) {
    let mut rows: BTreeMap<i64, Stay> = BTreeMap::new();
    let mut block = ChangeBlockBuilder::new(plan.schema.clone());
    let at = DateTime::UNIX_EPOCH;
    let transaction = Arc::new(Transaction {
        position: Position::new(&[9], "9"),
        proof: String::new(),
        committed_at: at,
        found: None,
    });
    for (order, step) in steps.iter().enumerate() {
        let (kind, old, new) = match step {
            Step::Put(id, nights) => {
                let new = (*id, *nights, Some(format!("note {order}")));
                match rows.insert(*id, new.clone()) {
                    Some(old) => (ChangeKind::Update, whole.then_some(old), Some(new)),
                    None => (ChangeKind::Insert, None, Some(new)),
                }
            }
            Step::Move(from, to) => {
                let Some(old) = rows.get(from).filter(|_| !rows.contains_key(to)).cloned() else { continue };
                rows.remove(from);
                let new = (*to, old.1, old.2.clone());
                rows.insert(*to, new.clone());
                (ChangeKind::Update, Some(old), Some(new))
            }
            Step::Delete(id) => match rows.remove(id) {
                Some(old) => (ChangeKind::Delete, Some(old), None),
                None => continue,
            },
            Step::Truncate => {
                rows.clear();
                (ChangeKind::Truncate, None, None)
            }
        };
        if let Some(old) = &old {
            let seen = if whole { old.clone() } else { (old.0, 0, None) };
            push(&mut block.old, &seen);
        }
        if let Some(new) = &new {
            push(&mut block.new, new);
        }
        let images = Images { new: new.is_some(), old: old.map(|_| whole), unchanged: None };
        block.push(kind, order as u64, &transaction, images, 1);
    }
    (block.finish().unwrap(), rows)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn mapping_the_changes_is_mapping_the_rows(steps in steps(), whole: bool) {
        let plan = planned(RULE, by_id()).unwrap();
        let mapper = plan.mapper().unwrap().unwrap();
        let (block, rows) = log(&plan, &steps, whole);
        let mapped = mapper.block(block.clone()).unwrap();
        let reduced = reduce(&[&mapped]).unwrap();
        let mut found: BTreeMap<String, Vec<Option<String>>> = BTreeMap::new();
        for net in &reduced.rows {
            let row: Vec<Option<String>> = (0..plan.columns.len())
                .map(|c| value_text(net.cells.at(c).unwrap().value(&[&mapped], c)))
                .collect();
            found.insert(row[0].clone().unwrap(), row);
        }
        let all = mapper.rows(&batch(&plan, rows.into_values())).unwrap();
        let expected = (0..all.num_rows()).map(|row| texts(&all, row)).map(|r| (r[0].clone().unwrap(), r)).collect();
        prop_assert_eq!(found, expected);
        let counted = reduced.counters;
        prop_assert_eq!(counted.read.total(), block.len() as u64);
        prop_assert_eq!(counted.merged + counted.reduced + counted.filtered, counted.read.total());
        if whole {
            // Where the log says how rows were, no change is about a row that the target does not have.
            prop_assert!(!mapped.is_blind());
        }
    }
}

//! Declared keys that two rows have at once are refused, whatever the table keeps; all others are not.

use super::kept_tests::{planned_by, wished};
use super::net::ReduceError;
use super::prepare::TableBatch;
use super::tests::{Log, Table, play};
use crate::change::builder::ChangeBlockBuilder;
use crate::change::kind::ChangeKind::{self, Delete, Insert, Truncate, Update};
use crate::model::described::LogIdentity;
use crate::plan::table::TablePlan;
use proptest::prelude::*;
use rstest::rstest;
use std::sync::Arc;

const FORMS: [&str; 4] =
    ["keep = \"current\"", "keep = \"changes\"", "keep = \"versions\"", "deletes = \"mark\""];

/// A key and what tells rows of that key apart.
type Row = (i64, i64);

/// A change with its old row and its new one.
type Step = (ChangeKind, Option<Row>, Option<Row>);

fn plan(form: &str) -> Arc<TablePlan> {
    let lines = format!("{form}\n[[pipelines.p.rule]]\nmatch = \"*.*\"\nkey = [\"id\"]");
    planned_by(&lines, LogIdentity::Full { key: None })
}

fn log(plan: &TablePlan) -> Log {
    let mut log = Log::new(plan.schema.identity.clone());
    (log.builder, log.full) = (ChangeBlockBuilder::new(plan.schema.clone()), true);
    log
}

/// What comes of changes of one transaction.
fn prepared(plan: &Arc<TablePlan>, log: Log) -> Result<(), ReduceError> {
    let block = log.builder.finish().unwrap();
    let mapper = plan.mapper().unwrap();
    let block = mapper.map_or_else(|| block.clone(), |mapper| mapper.block(block.clone()).unwrap());
    TableBatch::of(plan.clone(), vec![block], false).map(|_| ())
}

fn prepared_of(form: &str, steps: &[Step]) -> Result<(), ReduceError> {
    let plan = plan(form);
    let mut log = log(&plan);
    for &(kind, old, new) in steps {
        let image = |row: Option<Row>| row.map(|(key, a)| [Some(key), Some(a), Some(0)]);
        log.push(kind, image(new), image(old));
    }
    prepared(&plan, log)
}

#[rstest]
#[case::a_swap(&[(Update, Some((1, 10)), Some((2, 10))), (Update, Some((2, 20)), Some((1, 20)))])]
#[case::a_row_in_front_of_the_one_that_goes(&[(Insert, None, Some((1, 11))), (Delete, Some((1, 10)), None)])]
#[case::a_row_that_moves_in_front_of_the_one_that_changes(
    &[(Update, Some((2, 20)), Some((1, 20))), (Update, Some((1, 10)), Some((1, 11)))]
)]
#[case::two_that_go(&[(Delete, Some((1, 10)), None), (Delete, Some((1, 11)), None)])]
fn two_rows_that_have_a_key_at_once_are_refused(#[case] steps: &[Step]) {
    for form in FORMS {
        let refused = prepared_of(form, steps).unwrap_err();
        assert!(matches!(refused, ReduceError::TwoAtOnce { .. }), "{form}: {refused}");
    }
}

#[rstest]
#[case::a_swap_by_way_of_another_key(&[
    (Update, Some((1, 10)), Some((9, 10))), (Update, Some((2, 20)), Some((1, 20))), (Update, Some((9, 10)), Some((2, 10))),
])]
#[case::a_row_behind_the_one_that_went(&[(Delete, Some((1, 10)), None), (Insert, None, Some((1, 11))), (Delete, Some((1, 11)), None)])]
#[case::all_went_before(&[(Insert, None, Some((9, 1))), (Truncate, None, None), (Insert, None, Some((9, 2))), (Delete, Some((9, 2)), None)])]
fn rows_that_have_a_key_one_after_the_other_are_not(#[case] steps: &[Step]) {
    for form in FORMS {
        prepared_of(form, steps).unwrap();
    }
}

proptest! {
    #[test]
    fn changes_of_a_key_that_is_one_are_never_refused(wished in wished()) {
        for form in FORMS {
            let plan = plan(form);
            let (mut log, mut rows) = (log(&plan), Table::new());
            for ((_, first, second), _) in &wished {
                play(first, &mut rows, &mut log);
                play(second, &mut rows, &mut log);
            }
            prepared(&plan, log).unwrap();
        }
    }
}

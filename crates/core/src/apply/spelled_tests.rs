//! Keys that are equal and written otherwise, where no change tells of both at once.

use super::prepare::TableBatch;
use super::tests::Log;
use crate::change::block::ChangeBlock;
use crate::change::builder::{ChangeBlockBuilder, Images};
use crate::change::kind::ChangeKind::{self, Delete, Insert, Update};
use crate::change::kind::Transaction;
use crate::change::sequence::Sequence;
use crate::drift::tests::{config, planned, table};
use crate::model::described::{LogIdentity, SourceTable};
use crate::model::position::Position;
use crate::plan::table::TablePlan;
use crate::value::column::{Value, value_text};
use crate::value::moment::Moment;
use rstest::rstest;
use std::sync::Arc;

/// A change with the keys of its old row and its new one.
type Step<'a> = (ChangeKind, Option<&'a str>, Option<&'a str>);

fn plan(form: &str, key: &str) -> Arc<TablePlan> {
    let source = table(&format!("1:id:{key} 2:a:int64"));
    let identity = LogIdentity::Key(vec!["id".into()]);
    planned(&config(form), &SourceTable { identity, ..source })
}

/// Each change in a transaction of its own.
fn batch(plan: &Arc<TablePlan>, steps: &[Step<'_>]) -> TableBatch {
    let mut sequence = Sequence::behind(0, Moment::default());
    let block = |(number, &(kind, old, new)): (usize, &Step<'_>)| -> ChangeBlock {
        let mut log = Log::new(plan.schema.identity.clone());
        log.builder = ChangeBlockBuilder::new(plan.schema.clone());
        for (rows, image) in [(&mut log.builder.new, new), (&mut log.builder.old, old)] {
            for (column, key) in rows
                .columns
                .iter_mut()
                .zip(image.map(|key| [Value::Text(key), Value::Int(number as i64)]).into_iter().flatten())
            {
                assert!(column.push(key));
            }
        }
        let images = Images { new: new.is_some(), old: old.map(|_| false), unchanged: None };
        let position = Position::new(&[number as u64 + 1], "");
        let transaction = Arc::new(Transaction { position, ..(*log.transaction).clone() });
        log.builder.push(kind, number as u64, &transaction, images, 1);
        let block = log.builder.finish().unwrap();
        let mapper = plan.mapper().unwrap();
        let mut blocks =
            [mapper.map_or_else(|| block.clone(), |mapper| mapper.block(block.clone()).unwrap())];
        sequence.number(&mut blocks);
        let [block] = blocks;
        block
    };
    TableBatch::of(plan.clone(), steps.iter().enumerate().map(block).collect(), false).unwrap()
}

/// The keys of rows that go, and of those that are written.
fn written(batch: &TableBatch) -> (Vec<String>, Vec<String>) {
    let images = batch.images();
    let text = |cells: &super::net::Cells| value_text(cells.at(0).unwrap().value(&images, 0)).unwrap();
    (
        batch.set.gone.iter().map(|gone| text(&gone.key)).collect(),
        batch.set.rows.iter().map(|row| text(&row.cells)).collect(),
    )
}

#[rstest]
#[case::deleted_and_back("decimal", &[(Delete, Some("1.00"), None), (Insert, None, Some("1"))], &["1.00"], &["1"])]
#[case::written_otherwise("decimal", &[(Update, Some("1.0"), Some("1.00")), (Update, Some("1.00"), Some("1.000"))], &["1.0"], &["1.000"])]
#[case::and_deleted("decimal", &[(Update, Some("1.0"), Some("1.00")), (Delete, Some("1.00"), None)], &["1.0"], &["1.00"])]
#[case::as_it_was("decimal", &[(Delete, Some("1.0"), None), (Insert, None, Some("1.00")), (Update, Some("1.00"), Some("1.0"))], &[], &["1.0"])]
#[case::intervals("interval", &[(Delete, Some("P1M"), None), (Insert, None, Some("P30D"))], &["P1M"], &["P30D"])]
#[case::other_values("decimal", &[(Delete, Some("1.01"), None), (Insert, None, Some("1"))], &[], &["1.01", "1"])]
fn a_marked_row_is_one_however_its_key_is_written(
    #[case] key: &str,
    #[case] steps: &[Step<'_>],
    #[case] gone: &[&str],
    #[case] rows: &[&str],
) {
    let batch = batch(&plan("deletes = \"mark\"", key), steps);
    assert_eq!(
        written(&batch),
        (gone.iter().map(ToString::to_string).collect(), rows.iter().map(ToString::to_string).collect())
    );
}

#[rstest]
#[case("deletes = \"ignore\"", &["1.0"], &["1"])]
#[case("keep = \"versions\"\ndeletes = \"ignore\"", &["1.0"], &["1.0", "1"])]
fn so_is_one_whose_deletes_are_ignored(#[case] form: &str, #[case] gone: &[&str], #[case] rows: &[&str]) {
    let steps = [(Insert, None, Some("1.0")), (Delete, Some("1.0"), None), (Insert, None, Some("1"))];
    let batch = batch(&plan(form, "decimal"), &steps);
    let (is_gone, is_written) = written(&batch);
    assert_eq!(
        (is_gone, is_written),
        (gone.iter().map(ToString::to_string).collect(), rows.iter().map(ToString::to_string).collect())
    );
}

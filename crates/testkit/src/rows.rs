//! The one small table that fakes and conformance suites use: berths with a key and two texts.

use arrow::array::RecordBatch;
use moorage_core::change::block::ChangeBlock;
use moorage_core::change::builder::{ChangeBlockBuilder, Images};
use moorage_core::change::kind::{ChangeKind, Transaction};
use moorage_core::model::described::{LogIdentity, SourceColumn, SourceTable, TableKind};
use moorage_core::model::finding::Fix;
use moorage_core::model::schema::RowIdentity;
use moorage_core::value::column::{ColumnBuilder, RowsBuilder, Value, value_at};
use moorage_core::{Column, LogicalType, TableName, TableSchema};
use std::sync::Arc;

/// A berth: key, name, note.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Row(pub i64, pub Option<String>, pub Option<String>);

/// A berth without a note.
pub fn row(id: i64, name: &str) -> Row {
    Row(id, Some(name.into()), None)
}

/// A change to the table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Op {
    /// A new row.
    Insert(Row),
    /// The row with this key has these values, perhaps another key. In the second text, `~` stands for
    /// "unchanged and not in the log".
    Update(i64, Row),
    /// The row with this key is gone.
    Delete(i64),
    /// All rows are gone.
    Truncate,
}

fn columns() -> Vec<Column> {
    let column = |name: &str, logical: LogicalType, source_type: &str, nullable| Column {
        name: name.into(),
        logical,
        source_type: source_type.into(),
        nullable,
    };
    vec![
        column("id", LogicalType::Int64, "bigint", false),
        column("name", LogicalType::Text, "text", true),
        column("note", LogicalType::Text, "text", true),
    ]
}

/// The table's structure.
pub fn berths_schema(identity: RowIdentity) -> Arc<TableSchema> {
    Arc::new(TableSchema { table: TableName::new("public", "berths"), columns: columns(), identity })
}

/// The table as a source describes it.
pub fn berths_source_table() -> SourceTable {
    SourceTable {
        name: TableName::new("public", "berths"),
        kind: TableKind::Table,
        id: 1,
        columns: columns().into_iter().map(SourceColumn::of).collect(),
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
        state: String::new(),
        comment: None,
        note: None,
        part_of: None,
    }
}

fn push(columns: &mut [ColumnBuilder], row: &Row) {
    let text = |t: &Option<String>| t.clone();
    assert!(columns[0].push(Value::Int(row.0)));
    for (column, value) in columns[1..].iter_mut().zip([text(&row.1), text(&row.2)]) {
        match value {
            Some(v) if v != "~" => assert!(column.push(Value::Text(&v))),
            _ => column.push_null(),
        }
    }
}

/// Rows as a chunk of a snapshot.
pub fn rows_of_batch(schema: &Arc<TableSchema>, rows: &[Row]) -> RecordBatch {
    let mut builder = RowsBuilder::new(schema.clone());
    for row in rows {
        push(&mut builder.columns, row);
        builder.end_row(10);
    }
    builder.finish().unwrap()
}

/// Changes as a block; `old` gives the row with a key as it was before, for tables without one.
pub fn block_of(
    schema: &Arc<TableSchema>,
    transaction: &Arc<Transaction>,
    order: &mut u64,
    ops: &[Op],
    old: impl Fn(i64) -> Row,
) -> ChangeBlock {
    let whole = schema.identity == RowIdentity::WholeRow;
    let mut builder = ChangeBlockBuilder::new(schema.clone());
    for op in ops {
        *order += 1;
        let mut images = Images::default();
        let kind = match op {
            Op::Insert(_) => ChangeKind::Insert,
            Op::Update(..) => ChangeKind::Update,
            Op::Delete(_) => ChangeKind::Delete,
            Op::Truncate => ChangeKind::Truncate,
        };
        if let Op::Insert(row) | Op::Update(_, row) = op {
            push(&mut builder.new.columns, row);
            images.new = true;
            if row.2.as_deref() == Some("~") {
                images.unchanged = Some([false, false, true].into());
            }
        }
        if let Op::Update(key, _) | Op::Delete(key) = op {
            let moved = !matches!(op, Op::Update(key, row) if *key == row.0);
            if moved || whole {
                push(&mut builder.old.columns, &if whole { old(*key) } else { Row(*key, None, None) });
                images.old = Some(whole);
            }
        }
        builder.push(kind, *order, transaction, images, 20);
    }
    builder.finish().unwrap()
}

/// The new image of a block's row as plain values.
pub fn row_at(batch: &RecordBatch, at: usize) -> Row {
    let text = |c: usize| match value_at(batch.column(c).as_ref(), at) {
        Value::Text(t) => Some(t.to_string()),
        _ => None,
    };
    let Value::Int(id) = value_at(batch.column(0).as_ref(), at) else { panic!("a key") };
    Row(id, text(1), text(2))
}

/// Kinds that only exist in project files of tests.
pub struct AnyKind;

impl moorage_core::project::section::Kinds for AnyKind {
    fn receivers(&self) -> Vec<&'static str> {
        Vec::new()
    }

    fn sources(&self) -> Vec<&'static str> {
        vec!["memory"]
    }

    fn targets(&self) -> Vec<&'static str> {
        vec!["memory"]
    }

    fn pipeline_keys(&self, _: &str) -> &'static [&'static str] {
        &[]
    }
}

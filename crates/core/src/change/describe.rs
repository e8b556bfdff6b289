//! Captured changes as people and other programs read them.

use crate::change::block::ChangeBlock;
use crate::change::kind::{Change, ChangeKind};
use crate::model::kept_as::Operation;
use crate::model::schema::Column;
use crate::model::types::LogicalType;
use crate::value::column::{Value, value_at, value_text};
use arrow::array::RecordBatch;
use chrono::{DateTime, Utc};
use serde::Serialize;
use serde_json::value::RawValue;
use serde_json::{Map, json};

/// One captured change. Values are JSON: numbers and truth values as such, decimals and times as texts so
/// that nothing is lost, bytes as `\x` and hexadecimal digits, JSON documents as they are. A column that
/// the log did not carry is absent.
#[derive(Clone, Debug, Serialize)]
pub struct CapturedChange {
    /// The source table.
    pub table: String,
    /// What happened.
    pub operation: Operation,
    /// The key's columns; null without a key.
    pub key: Option<Map<String, serde_json::Value>>,
    /// The row before, as far as the log carries it.
    pub old: Option<Map<String, serde_json::Value>>,
    /// The row after.
    pub new: Option<Map<String, serde_json::Value>>,
    /// When it was committed, by the source's clock.
    pub committed_at: DateTime<Utc>,
    /// The position of its transaction.
    pub position: String,
    /// For people: the key, then what the row is or how its columns changed.
    #[serde(skip)]
    pub text: ChangeText,
}

/// The values of a change as texts.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ChangeText {
    /// The key's columns and values; the whole row without a key.
    pub key: Vec<(String, String)>,
    /// Columns with their values before (if known) and after.
    pub columns: Vec<(String, Option<String>, String)>,
}

/// The changes of a block, in order.
pub fn describe(block: &ChangeBlock) -> Vec<CapturedChange> {
    block
        .changes()
        .enumerate()
        .filter_map(|(at, change)| {
            let transaction = block.transaction(at)?;
            let row = Row { block, change: &change };
            Some(CapturedChange {
                table: block.schema().table.to_string(),
                operation: match change.kind {
                    ChangeKind::Insert => Operation::Insert,
                    ChangeKind::Update => Operation::Update,
                    ChangeKind::Delete => Operation::Delete,
                    ChangeKind::Truncate => Operation::Truncate,
                },
                key: row.key(),
                old: row.old_map(),
                new: row.new_map(),
                committed_at: transaction.committed_at,
                position: transaction.position.to_string(),
                text: row.text(),
            })
        })
        .collect()
}

struct Row<'a> {
    block: &'a ChangeBlock,
    change: &'a Change<'a>,
}

impl<'a> Row<'a> {
    fn columns(&self) -> &'a [Column] {
        &self.block.schema().columns
    }

    fn key_columns(&self) -> Option<&'a [usize]> {
        self.block.schema().identity.key()
    }

    fn carried(&self, column: usize) -> bool {
        self.change.unchanged.is_none_or(|u| !u[column])
    }

    fn new_value(&self, column: usize) -> Option<Value<'a>> {
        let row = self.change.new.filter(|_| self.carried(column))?;
        Some(value(self.block.new_rows(), column, row))
    }

    fn old_value(&self, column: usize) -> Option<Value<'a>> {
        let in_key = self.key_columns().is_some_and(|key| key.contains(&column));
        let row = self.change.old.filter(|_| self.change.old_is_whole || in_key)?;
        Some(value(self.block.old_rows(), column, row))
    }

    fn map(
        &self,
        columns: impl Iterator<Item = usize>,
        of: impl Fn(usize) -> Option<Value<'a>>,
    ) -> Map<String, serde_json::Value> {
        columns
            .filter_map(|c| {
                let column = &self.columns()[c];
                Some((column.name.clone(), as_json(&column.logical, of(c)?)))
            })
            .collect()
    }

    /// The row's present key; of a deleted row the one it had.
    fn key(&self) -> Option<Map<String, serde_json::Value>> {
        let key = self.key_columns()?;
        if self.change.kind == ChangeKind::Truncate {
            return None;
        }
        Some(self.map(key.iter().copied(), |c| self.new_value(c).or_else(|| self.old_value(c))))
    }

    fn old_map(&self) -> Option<Map<String, serde_json::Value>> {
        self.change.old.map(|_| self.map(0..self.columns().len(), |c| self.old_value(c)))
    }

    fn new_map(&self) -> Option<Map<String, serde_json::Value>> {
        self.change.new.map(|_| self.map(0..self.columns().len(), |c| self.new_value(c)))
    }

    fn text(&self) -> ChangeText {
        let shown = |value: Value<'_>| value_text(value).unwrap_or_else(|| "null".into());
        let name = |c: usize| self.columns()[c].name.clone();
        let all: Vec<usize> = (0..self.columns().len()).collect();
        let key_columns = self.key_columns().unwrap_or(&all);
        let before = |c: usize| self.old_value(c).or_else(|| self.new_value(c));
        let key = key_columns.iter().filter_map(|&c| Some((name(c), shown(before(c)?)))).collect();
        let columns = all
            .iter()
            .filter_map(|&c| {
                let new = self.new_value(c)?;
                let old = self.old_value(c);
                let in_key = key_columns.contains(&c);
                match self.change.kind {
                    ChangeKind::Insert if !in_key => Some((name(c), None, shown(new))),
                    ChangeKind::Update => match old {
                        Some(old) if crate::value::canonical::same(&self.columns()[c].logical, old, new) => {
                            None
                        }
                        Some(old) => Some((name(c), Some(shown(old)), shown(new))),
                        None if in_key => None,
                        None => Some((name(c), None, shown(new))),
                    },
                    _ => None,
                }
            })
            .collect();
        ChangeText { key, columns }
    }
}

fn value(rows: &RecordBatch, column: usize, row: usize) -> Value<'_> {
    value_at(rows.column(column).as_ref(), row)
}

/// A value as it stands in JSON: numbers that it has none for, and all that is not one, as texts.
pub(crate) fn as_json(logical: &LogicalType, value: Value<'_>) -> serde_json::Value {
    match value {
        Value::Null => serde_json::Value::Null,
        Value::Bool(b) => json!(b),
        Value::Int(i) => json!(i),
        Value::Float32(f) if f.is_finite() => json!(f),
        Value::Float64(f) if f.is_finite() => json!(f),
        Value::Text(text) if *logical == LogicalType::Json => {
            // Through its own text; what a parser here would change stays a text.
            match serde_json::from_str::<&RawValue>(text)
                .map(|_| serde_json::from_str::<serde_json::Value>(text))
            {
                Ok(Ok(document)) if document.to_string().len() <= text.len() => document,
                _ => json!(text),
            }
        }
        other => json!(value_text(other)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::change::builder::{ChangeBlockBuilder, Images};
    use crate::change::kind::Transaction;
    use crate::model::name::TableName;
    use crate::model::position::Position;
    use crate::model::schema::{RowIdentity, TableSchema};
    use std::sync::Arc;

    #[test]
    fn a_change_tells_its_key_and_what_changed() {
        let column = |name: &str, logical| Column {
            name: name.into(),
            logical,
            source_type: "x".into(),
            nullable: true,
        };
        let columns = vec![
            column("id", LogicalType::Int64),
            column("state", LogicalType::Text),
            column("total", LogicalType::Decimal { precision: None, scale: None }),
        ];
        let identity = RowIdentity::Key(vec![0]);
        let schema = Arc::new(TableSchema { table: TableName::new("main", "stays"), columns, identity });
        let mut block = ChangeBlockBuilder::new(schema);
        let position = Position::new(&[7], "7");
        let transaction = Arc::new(Transaction {
            position,
            proof: String::new(),
            committed_at: DateTime::UNIX_EPOCH,
            found: None,
        });
        let push = |rows: &mut crate::value::column::RowsBuilder, id, state, total| {
            assert!(rows.columns[0].push(Value::Int(id)));
            assert!(rows.columns[1].push(Value::Text(state)));
            assert!(rows.columns[2].push(total));
        };
        push(&mut block.old, 1, "booked", Value::Text("1.50"));
        push(&mut block.new, 1, "alongside", Value::Null);
        let unchanged = Some([false, false, true].into());
        block.push(ChangeKind::Update, 1, &transaction, Images { new: true, old: Some(true), unchanged }, 1);
        push(&mut block.old, 1, "alongside", Value::Text("1.5"));
        block.push(
            ChangeKind::Delete,
            2,
            &transaction,
            Images { new: false, old: Some(true), unchanged: None },
            1,
        );
        let described = describe(&block.finish().unwrap());
        assert_eq!(described[0].text.key, [("id".to_string(), "1".to_string())]);
        assert_eq!(
            described[0].text.columns,
            [("state".to_string(), Some("booked".into()), "alongside".into())]
        );
        let line = serde_json::to_string(&described[0]).unwrap();
        assert_eq!(
            line,
            r#"{"table":"main.stays","operation":"update","key":{"id":1},"old":{"id":1,"state":"booked","total":"1.50"},"new":{"id":1,"state":"alongside"},"committed_at":"1970-01-01T00:00:00Z","position":"7"}"#
        );
        assert_eq!((described[1].operation, described[1].new.is_none()), (Operation::Delete, true));
    }

    /// What is told of joined blocks is what is told of each, in order, also from bytes.
    #[test]
    fn joined_blocks_tell_what_each_told() {
        let column = |name: &str, logical| Column {
            name: name.into(),
            logical,
            source_type: "x".into(),
            nullable: true,
        };
        let columns = vec![column("id", LogicalType::Int64), column("state", LogicalType::Text)];
        let identity = RowIdentity::Key(vec![0]);
        let schema = Arc::new(TableSchema { table: TableName::new("main", "stays"), columns, identity });
        let block = |first: i64| {
            let mut block = ChangeBlockBuilder::new(schema.clone());
            for id in first..first + 3 {
                let position = Position::new(&[id as u64], id.to_string());
                let transaction = Arc::new(Transaction {
                    position,
                    proof: String::new(),
                    committed_at: DateTime::UNIX_EPOCH,
                    found: None,
                });
                let text = format!("state {id}");
                let kind = [ChangeKind::Insert, ChangeKind::Update, ChangeKind::Delete][id as usize % 3];
                let (new, old) = (kind != ChangeKind::Delete, kind != ChangeKind::Insert);
                for (_, rows) in
                    [(new, &mut block.new), (old, &mut block.old)].into_iter().filter(|(there, _)| *there)
                {
                    assert!(rows.columns[0].push(Value::Int(id)) && rows.columns[1].push(Value::Text(&text)));
                }
                let unchanged = (kind == ChangeKind::Update).then(|| [false, true].into());
                block.push(
                    kind,
                    id as u64,
                    &transaction,
                    Images { new, old: old.then_some(true), unchanged },
                    7,
                );
            }
            block.finish().unwrap()
        };
        let (a, b, c) = (block(1), block(4), block(8));
        let joined = ChangeBlock::joined(&[&a, &b, &c]).unwrap().unwrap();
        let lines = |blocks: &[&ChangeBlock]| -> Vec<String> {
            let all = blocks.iter().flat_map(|block| describe(block));
            all.map(|change| serde_json::to_string(&change).unwrap()).collect()
        };
        assert_eq!(lines(&[&joined]), lines(&[&a, &b, &c]));
        let kept = joined.to_bytes().unwrap();
        assert_eq!(lines(&[&ChangeBlock::from_bytes(schema, &kept).unwrap()]), lines(&[&joined]));
        let bytes = a.bytes() + b.bytes() + c.bytes();
        assert_eq!((joined.len(), joined.bytes(), joined.read().total()), (9, bytes, 9));
        let apart: usize = [&a, &b, &c].iter().map(|b| b.to_bytes().unwrap().len()).sum();
        assert!(kept.len() < apart, "{} and {apart}", kept.len());
    }
}

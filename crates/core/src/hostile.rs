//! What is read from outside, broken on purpose: no panic, no memory that the input does not justify, no secret shown.

use crate::change::block::ChangeBlock;
use crate::change::builder::{ChangeBlockBuilder, Images};
use crate::change::kind::{ChangeKind, Transaction};
use crate::checkpoint::stored::Checkpoint;
use crate::expr::Expr;
use crate::model::name::TableName;
use crate::model::position::Position;
use crate::model::schema::{Column, RowIdentity, TableSchema};
use crate::model::types::LogicalType;
use crate::pick::pattern;

use crate::project::units::{parse_duration, parse_size};
use crate::value::column::Value;
use crate::value::{canonical, decimal};
use proptest::prelude::*;
use proptest::sample::Index;
use std::sync::Arc;

/// Words that parsers know, beside characters of all kinds.
fn word() -> impl Strategy<Value = String> {
    let known = prop::sample::select(vec![
        "[",
        "]",
        "[[",
        "{",
        "}",
        "=",
        "\"",
        "'",
        "\"\"\"",
        "\n",
        ",",
        ".",
        "#",
        "\\",
        "0",
        "1e99",
        "-",
        "nan",
        "true",
        "1979-05-27",
        "kind",
        "url",
        "password",
        "match",
        "(",
        ")",
        "((",
        "NOT ",
        " AND ",
        " OR ",
        " IN ",
        "CASE WHEN ",
        " THEN ",
        " ELSE ",
        " END",
        "NULLIF(",
        "COALESCE(",
        "REPLACE(",
        "CAST(",
        " AS decimal(1000,999)",
        "id",
        "name",
        "+",
        "*",
        "/",
        "||",
        "'x'",
        "99999999999999999999",
        "1.5",
        "*.*",
        "?",
        "\u{202e}",
        "\0",
        "é",
        "船",
    ]);
    prop_oneof![4 => known.prop_map(str::to_string), 1 => any::<char>().prop_map(String::from)]
}

/// Texts of such words.
fn text(most: usize) -> impl Strategy<Value = String> {
    prop::collection::vec(word(), 0..most).prop_map(|words| words.concat())
}

fn schema() -> Arc<TableSchema> {
    let column = |name: &str, logical| Column {
        name: name.into(),
        logical,
        source_type: String::new(),
        nullable: true,
    };
    let columns = vec![
        column("id", LogicalType::Int64),
        column("name", LogicalType::Text),
        column("price", LogicalType::Decimal { precision: None, scale: None }),
    ];
    Arc::new(TableSchema { table: TableName::new("public", "t"), columns, identity: RowIdentity::WholeRow })
}

fn block() -> ChangeBlock {
    let mut builder = ChangeBlockBuilder::new(schema());
    for at in 0..5u64 {
        let transaction = Arc::new(Transaction {
            position: Position::new(&[at], at.to_string()),
            proof: "p".into(),
            committed_at: chrono::DateTime::UNIX_EPOCH,
            found: None,
        });
        for rows in [&mut builder.new, &mut builder.old] {
            for (column, value) in
                rows.columns.iter_mut().zip([Value::Int(7), Value::Text("Grey Heron"), Value::Text("12.50")])
            {
                assert!(column.push(value));
            }
        }
        let unchanged = Some(vec![false, true, false].into());
        builder.push(
            ChangeKind::Update,
            at,
            &transaction,
            Images { new: true, old: Some(true), unchanged },
            20,
        );
    }
    builder.finish().unwrap()
}

/// Whoever reads a block looks at all of it.
fn look_at(block: &ChangeBlock) {
    let places: Vec<usize> = (0..block.len()).collect();
    let picked = block.pick(&places).unwrap();
    for (i, change) in picked.changes().enumerate() {
        picked.transaction(i);
        for (row, rows) in [(change.new, picked.new_rows()), (change.old, picked.old_rows())] {
            row.map(|row| rows.slice(row, 1));
        }
        assert!(change.unchanged.is_none_or(|u| u.len() == 3));
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn any_text_is_an_expression_or_none(text in text(60)) {
        if let Ok(expression) = Expr::parse(&text, &schema().columns) {
            let rows = block();
            let _ = expression.evaluate(rows.new_rows());
        }
        let _ = Expr::check(&text);
    }

    #[test]
    fn any_text_is_a_pattern_a_duration_a_size_a_number_a_value_or_none(text in text(12)) {
        let _ = (parse_duration(&text), parse_size(&text), decimal::normal(&text), pattern::names_of_list(&text));
        let _ = pattern::Pattern::parse(&text).map(|p| p.matches(&TableName::new("public", &text)));
        for logical in [LogicalType::Json, LogicalType::TimestampTz, LogicalType::Date, LogicalType::Interval] {
            let (a, b) = (Value::Text(&text), Value::Text("2026-06-01"));
            let _ = (canonical::is_value(&logical, &text), canonical::order(&logical, a, b));
            canonical::write_key(&logical, a, &mut Vec::new());
        }
        let _ = serde_json::from_str::<Checkpoint>(&text);
    }

    #[test]
    fn a_damaged_kept_block_is_an_error_or_a_block_that_can_be_read(
        damage in prop::collection::vec((any::<Index>(), any::<u8>()), 0..8),
        cut in prop::option::of(any::<Index>()),
    ) {
        let mut bytes = block().to_bytes().unwrap();
        for (at, byte) in damage {
            let at = at.index(bytes.len());
            bytes[at] = byte;
        }
        if let Some(cut) = cut {
            bytes.truncate(cut.index(bytes.len() + 1));
        }
        if let Ok(block) = ChangeBlock::from_bytes(schema(), &bytes) {
            look_at(&block);
        }
    }
}

/// Blocks that earlier versions kept have no checksum. A length in one that promises more than there is takes no memory:
/// these would be 2^60 bytes, and 2^31.
#[test]
fn a_length_is_not_believed() {
    let bytes = block().to_bytes().unwrap()[8..].to_vec();
    let about = u64::from_le_bytes(bytes[..8].try_into().unwrap()) as usize;
    look_at(&ChangeBlock::from_bytes(schema(), &bytes).unwrap());
    for at in [0, 8 + about] {
        let mut bytes = bytes.clone();
        bytes[at + 7] = 0x10;
        assert!(ChangeBlock::from_bytes(schema(), &bytes).is_err());
    }
    let mut bytes = bytes;
    bytes[8 + about + 8 + 4..][..4].copy_from_slice(&0x7fff_fff0u32.to_le_bytes());
    assert!(ChangeBlock::from_bytes(schema(), &bytes).is_err());
}

/// What points outside the block is refused although every byte is as it was written.
#[test]
fn a_kept_block_that_points_outside_itself_is_refused() {
    let mut block = block();
    block.entries[2].new = Some(9);
    let error = ChangeBlock::from_bytes(schema(), &block.to_bytes().unwrap()).unwrap_err().to_string();
    assert!(error.contains("points outside itself"), "{error}");
    let mut other = (*schema()).clone();
    other.columns.pop();
    assert!(ChangeBlock::from_bytes(other.into(), &self::block().to_bytes().unwrap()).is_err());
}

//! Everything that a server may send, and that is read back from a target, broken on purpose: no panic, nothing carried that
//! cannot be looked at.

use crate::as_source::assemble::Assembler;
use crate::as_source::mark::Mark;
use crate::as_source::trigger;
use crate::wire::address::PostgresAddress;
use crate::wire::pgoutput::Message;
use crate::wire::{copy_text, lsn};
use moorage_adapter::{InspectTarget, StreamTable};
use moorage_core::model::name::TableName;
use moorage_core::model::schema::{Column, RowIdentity, TableSchema};
use moorage_core::model::types::LogicalType;
use moorage_core::project::config::Project;
use moorage_core::value::column::RowsBuilder;
use moorage_testkit::{AnyKind, MemoryTarget, berths_source_table};
use proptest::prelude::*;
use proptest::sample::Index;
use std::sync::Arc;

fn text(out: &mut Vec<u8>, text: &str) {
    out.extend_from_slice(text.as_bytes());
    out.push(0);
}

fn tuple(out: &mut Vec<u8>, values: &[Option<&str>]) {
    out.extend_from_slice(&(values.len() as u16).to_be_bytes());
    for value in values {
        match value {
            Some(value) => {
                out.push(b't');
                out.extend_from_slice(&(value.len() as u32).to_be_bytes());
                out.extend_from_slice(value.as_bytes());
            }
            None => out.push(b'u'),
        }
    }
}

/// A transaction as a server sends it: a table's structure, an insert, an update with its old row, a delete, a truncate, a
/// note, and the commit.
fn messages() -> Vec<Vec<u8>> {
    let mut begin = vec![b'B'];
    begin.extend_from_slice(&100u64.to_be_bytes());
    begin.extend_from_slice(&0u64.to_be_bytes());
    begin.extend_from_slice(&7u32.to_be_bytes());
    let mut relation = vec![b'R', 0, 0, 0, 1];
    text(&mut relation, "public");
    text(&mut relation, "berths");
    relation.extend_from_slice(b"d\x00\x03");
    for (key, name, kind) in [(1, "id", 20u32), (0, "name", 25), (0, "note", 25)] {
        relation.push(key);
        text(&mut relation, name);
        relation.extend_from_slice(&kind.to_be_bytes());
        relation.extend_from_slice(&(-1i32).to_be_bytes());
    }
    let mut insert = b"I\x00\x00\x00\x01N".to_vec();
    tuple(&mut insert, &[Some("1"), Some("Pellow"), Some("")]);
    let mut update = b"U\x00\x00\x00\x01K".to_vec();
    tuple(&mut update, &[Some("1"), Some(""), Some("")]);
    update.push(b'N');
    tuple(&mut update, &[Some("2"), Some("Quay"), None]);
    let mut delete = b"D\x00\x00\x00\x01K".to_vec();
    tuple(&mut delete, &[Some("2"), Some(""), Some("")]);
    let truncate = b"T\x00\x00\x00\x01\x00\x00\x00\x00\x01".to_vec();
    let mut note = b"M\x01\x00\x00\x00\x00\x00\x00\x00\x60moorage\x00".to_vec();
    note.extend_from_slice(b"\x00\x00\x00\x02hi");
    let mut commit = b"C\x00".to_vec();
    for number in [100u64, 120, 0] {
        commit.extend_from_slice(&number.to_be_bytes());
    }
    vec![begin, relation, insert, update, delete, truncate, note, commit]
}

fn assembler() -> Assembler {
    let project = "[sources.s]\nkind = \"memory\"\n[targets.t]\nkind = \"memory\"\n[pipelines.p]\nsource = \"s\"\ntarget = \"t\"";
    let project = Project::parse("f", project, &AnyKind).unwrap();
    let found = [berths_source_table()];
    let mut plan =
        moorage_core::plan::make::plan(&project.pipelines["p"], &found, MemoryTarget::default().dialect());
    let table = StreamTable { plan: plan.tables.remove(0), mark: None };
    let columns = table.plan.schema.columns.iter().zip([20, 25, 25]).map(|(c, kind)| (c.name.clone(), kind));
    let columns = columns.collect();
    Assembler::following(vec![(table, columns)]).unwrap()
}

/// Feeds messages until one is refused, and looks at all that was carried.
fn carried(messages: &[Vec<u8>]) -> Result<usize, String> {
    let mut assembler = assembler();
    for bytes in messages {
        let message = Message::parse(bytes).map_err(|e| e.to_string())?;
        assembler.feed(message, bytes.len()).map_err(|e| e.to_string())?;
    }
    let segment = assembler.take().map_err(|e| e.to_string())?;
    let look = |block: &moorage_core::change::block::ChangeBlock| {
        let places: Vec<usize> = (0..block.len()).collect();
        block.pick(&places).unwrap().to_bytes().unwrap();
        block.len()
    };
    Ok(segment.blocks.iter().map(look).sum())
}

#[test]
fn the_undamaged_transaction_is_carried_whole() {
    assert_eq!(carried(&messages()), Ok(4));
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 1500, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn a_damaged_stream_is_an_error_or_carried(
        damage in prop::collection::vec((any::<Index>(), any::<Index>(), any::<u8>()), 0..4),
        moved in prop::option::of((any::<Index>(), any::<Index>())),
        lost in prop::option::of(any::<Index>()),
    ) {
        let mut messages = messages();
        for (message, at, byte) in damage {
            let message = message.index(messages.len());
            let at = at.index(messages[message].len());
            messages[message][at] = byte;
        }
        if let Some((a, b)) = moved {
            let (a, b) = (a.index(messages.len()), b.index(messages.len()));
            messages.swap(a, b);
        }
        if let Some(lost) = lost {
            messages.remove(lost.index(messages.len()));
        }
        let _ = carried(&messages);
    }

    #[test]
    fn any_bytes_are_a_message_or_none(bytes in prop::collection::vec(any::<u8>(), 0..60)) {
        let _ = Message::parse(&bytes);
    }

    #[test]
    fn any_line_is_a_row_or_none(
        line in prop::collection::vec(prop_oneof![any::<u8>(), prop::sample::select(b"\t\\N1-:.eE\n".to_vec())], 0..40),
    ) {
        let kinds = [LogicalType::Int64, LogicalType::Bytes, LogicalType::TimestampTz, LogicalType::Float64];
        let columns = kinds
            .into_iter()
            .map(|logical| Column { name: "c".into(), logical, source_type: String::new(), nullable: true })
            .collect();
        let table = TableName::new("public", "t");
        let schema = Arc::new(TableSchema { table, columns, identity: RowIdentity::WholeRow });
        let mut rows = RowsBuilder::new(schema);
        if copy_text::push_line(&mut rows, &line).is_ok() {
            prop_assert_eq!(rows.finish().unwrap().num_rows(), 1);
        }
    }

    #[test]
    fn any_text_is_a_position_a_mark_an_address_or_none(
        text in prop_oneof!["[0-9A-F/:,]{0,40}", "postgres://[a-z:@/?=&%0-9\\[\\]]{0,40}", any::<String>()],
    ) {
        if let Some(at) = lsn::parse(&text) {
            prop_assert_eq!(lsn::parse(&lsn::text(at)), Some(at));
        }
        let _ = (trigger::reader::position(&text), Mark::parse(&text, 1), PostgresAddress::parse(&text));
    }
}

//! Checkpoints of a log: all its actions up to a version in one Parquet file (protocol, "Checkpoints"). They go there and back by
//! way of JSON, the one form in which actions are known here.

use crate::format::action::{Line, from_bytes};
use arrow::array::RecordBatch;
use arrow::datatypes::{DataType, Field, Fields, Schema, SchemaRef};
use arrow::error::ArrowError;
use arrow::json::{LineDelimitedWriter, ReaderBuilder};
use bytes::Bytes;
use parquet::arrow::arrow_reader::ParquetRecordBatchReaderBuilder;
use parquet::arrow::{ArrowWriter, ProjectionMask};
use parquet::basic::{Compression, ZstdLevel};
use parquet::errors::ParquetError;
use parquet::file::properties::WriterProperties;
use std::sync::Arc;

/// Actions that are turned to columns at a time.
const ROWS: usize = 1024;

fn text(name: &str) -> Field {
    Field::new(name, DataType::Utf8, true)
}

fn long(name: &str) -> Field {
    Field::new(name, DataType::Int64, true)
}

fn int(name: &str) -> Field {
    Field::new(name, DataType::Int32, true)
}

fn flag(name: &str) -> Field {
    Field::new(name, DataType::Boolean, true)
}

fn list(name: &str) -> Field {
    Field::new(name, DataType::List(Arc::new(Field::new("element", DataType::Utf8, true))), true)
}

fn map(name: &str) -> Field {
    let entry = Fields::from(vec![Field::new("key", DataType::Utf8, false), text("value")]);
    let entries = Field::new("key_value", DataType::Struct(entry), false);
    Field::new(name, DataType::Map(Arc::new(entries), false), true)
}

fn made_of(name: &str, fields: Vec<Field>) -> Field {
    Field::new(name, DataType::Struct(fields.into()), true)
}

/// Protocol, "Checkpoint Schema".
fn schema() -> SchemaRef {
    let vector = || {
        let place = vec![
            text("storageType"),
            text("pathOrInlineDv"),
            int("offset"),
            int("sizeInBytes"),
            long("cardinality"),
        ];
        made_of("deletionVector", place)
    };
    Arc::new(Schema::new(vec![
        made_of("txn", vec![text("appId"), long("version"), long("lastUpdated")]),
        made_of(
            "add",
            vec![
                text("path"),
                map("partitionValues"),
                long("size"),
                long("modificationTime"),
                flag("dataChange"),
                text("stats"),
                map("tags"),
                vector(),
            ],
        ),
        made_of(
            "remove",
            vec![
                text("path"),
                long("deletionTimestamp"),
                flag("dataChange"),
                flag("extendedFileMetadata"),
                map("partitionValues"),
                long("size"),
                vector(),
            ],
        ),
        made_of(
            "metaData",
            vec![
                text("id"),
                text("name"),
                text("description"),
                made_of("format", vec![text("provider"), map("options")]),
                text("schemaString"),
                list("partitionColumns"),
                map("configuration"),
                long("createdTime"),
            ],
        ),
        made_of(
            "protocol",
            vec![
                int("minReaderVersion"),
                int("minWriterVersion"),
                list("readerFeatures"),
                list("writerFeatures"),
            ],
        ),
        made_of("domainMetadata", vec![text("domain"), text("configuration"), flag("removed")]),
    ]))
}

/// The file for actions.
///
/// # Errors
/// If they do not fit into columns, which none is known not to.
pub(crate) fn write(lines: &[Line]) -> Result<Vec<u8>, ParquetError> {
    let zstd = Compression::ZSTD(ZstdLevel::try_new(1)?);
    let properties = WriterProperties::builder().set_compression(zstd).build();
    let mut writer = ArrowWriter::try_new(Vec::new(), schema(), Some(properties))?;
    for some in lines.chunks(ROWS) {
        let mut decoder = ReaderBuilder::new(schema()).with_batch_size(some.len()).build_decoder()?;
        decoder.serialize(some)?;
        if let Some(batch) = decoder.flush()? {
            writer.write(&batch)?;
        }
    }
    writer.into_inner()
}

/// The actions in a file, which another program may have written.
///
/// # Errors
/// If it is no checkpoint; in words.
pub(crate) fn read(file: Bytes) -> Result<Vec<Line>, String> {
    let words = |e: ParquetError| e.to_string();
    let builder = ParquetRecordBatchReaderBuilder::try_new(file).map_err(words)?;
    // What others keep beside it for their own use, such as statistics in columns, is not looked at.
    let known: Vec<String> = schema().fields().iter().flat_map(|of| members(of)).collect();
    let names = known.iter().map(String::as_str);
    let mask = ProjectionMask::columns(builder.parquet_schema(), names);
    let reader = builder.with_projection(mask).with_batch_size(ROWS).build().map_err(words)?;
    let mut lines = Vec::new();
    for batch in reader {
        let batch = batch.map_err(|e| e.to_string())?;
        lines.extend(from_bytes(&json(&batch).map_err(|e| e.to_string())?)?);
    }
    Ok(lines)
}

/// The paths of an action's members.
fn members(of: &Field) -> Vec<String> {
    match of.data_type() {
        DataType::Struct(members) => members.iter().map(|m| format!("{}.{}", of.name(), m.name())).collect(),
        _ => Vec::new(),
    }
}

fn json(batch: &RecordBatch) -> Result<Vec<u8>, ArrowError> {
    let mut writer = LineDelimitedWriter::new(Vec::new());
    writer.write(batch)?;
    writer.finish()?;
    Ok(writer.into_inner())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::format::action::{Add, Domain, Metadata, Protocol, Remove, Txn, VectorPlace};
    use std::collections::BTreeMap;

    #[test]
    fn actions_come_back() {
        let place = VectorPlace {
            storage_type: "u".into(),
            path_or_inline_dv: "ab".into(),
            offset: Some(1),
            size_in_bytes: 40,
            cardinality: 6,
        };
        let add = Add {
            path: "a".into(),
            partition_values: BTreeMap::from([("berth".into(), Some("7".into()))]),
            size: 12,
            modification_time: 5,
            data_change: false,
            stats: Some("{\"numRecords\":9}".into()),
            tags: Some(BTreeMap::from([("kept".into(), Some("yes".into()))])),
            deletion_vector: Some(place),
        };
        let protocol = Protocol {
            min_reader_version: 3,
            min_writer_version: 7,
            reader_features: Some(vec!["deletionVectors".into()]),
            writer_features: Some(vec!["deletionVectors".into(), "domainMetadata".into()]),
        };
        let metadata = Metadata {
            id: "t".into(),
            schema_string: "{}".into(),
            configuration: BTreeMap::from([("x".into(), Some("1".into()))]),
            ..Metadata::default()
        };
        let lines: Vec<Line> = vec![
            protocol.into(),
            metadata.into(),
            Txn { app_id: "me".into(), version: 4, last_updated: None }.into(),
            Domain { domain: "d".into(), configuration: "{\"a\":1}".into(), removed: false }.into(),
            Remove::of(&add, 77, false).into(),
            Add { deletion_vector: None, tags: None, path: "b".into(), ..add.clone() }.into(),
            add.into(),
        ];
        assert_eq!(read(write(&lines).unwrap().into()).unwrap(), lines);
        let many: Vec<Line> =
            (0..3000).map(|at| Add { path: format!("f{at}"), ..Add::default() }.into()).collect();
        assert_eq!(read(write(&many).unwrap().into()).unwrap().len(), 3000);
    }

    #[test]
    fn what_is_no_checkpoint_is_an_error() {
        assert!(read(Bytes::from_static(b"PAR1 nothing of the kind PAR1")).is_err());
        let mut whole = write(&[Add::default().into()]).unwrap();
        let half = whole.len() / 2;
        whole.truncate(half);
        assert!(read(whole.into()).is_err());
    }
}

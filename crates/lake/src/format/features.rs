//! What a table asks of its readers and writers (protocol, "Table Features"): as little as there is need for.

use crate::format::action::{Metadata, Protocol};
use crate::format::schema::{LakeField, LakeSchema, LakeType};
use std::collections::BTreeMap;

const VECTORS: &str = "deletionVectors";
const NTZ: &str = "timestampNtz";
const DOMAINS: &str = "domainMetadata";

/// What is read here.
const READ: [&str; 3] = [VECTORS, NTZ, "vacuumProtocolCheck"];
/// What may be in a table that is written here. Those that no table of ours has are harmless as long as nothing in the table
/// makes use of them, which is [looked at](cannot_write).
const WRITTEN: [&str; 8] = [
    VECTORS,
    NTZ,
    DOMAINS,
    "vacuumProtocolCheck",
    "appendOnly",
    "invariants",
    "checkConstraints",
    "changeDataFeed",
];
/// The versions from which on features are listed one by one.
const LISTS_READERS: i32 = 3;
const LISTS_WRITERS: i32 = 7;

/// The protocol of a table with these columns, and what has to stand in its configuration for that.
pub(crate) fn asked(schema: &LakeSchema, vectors: bool) -> (Protocol, BTreeMap<String, Option<String>>) {
    let mut of_both = Vec::new();
    if vectors {
        of_both.push(VECTORS.to_string());
    }
    if schema.has(LakeType::TimestampNtz) {
        of_both.push(NTZ.to_string());
    }
    let mut writers = of_both.clone();
    writers.push(DOMAINS.into());
    let lists = !of_both.is_empty();
    let protocol = Protocol {
        min_reader_version: if lists { LISTS_READERS } else { 1 },
        min_writer_version: LISTS_WRITERS,
        reader_features: lists.then_some(of_both),
        writer_features: Some(writers),
    };
    let enabled = vectors.then(|| ("delta.enableDeletionVectors".to_string(), Some("true".to_string())));
    (protocol, enabled.into_iter().collect())
}

/// The protocol of a table that is there, with what another one asks for beside that.
pub(crate) fn extended(there: &Protocol, asked: &Protocol) -> Protocol {
    let both = |a: &Option<Vec<String>>, b: &Option<Vec<String>>| {
        let mut all: Vec<String> = a.iter().flatten().cloned().collect();
        all.extend(b.iter().flatten().filter(|f| !a.iter().flatten().any(|there| there == *f)).cloned());
        all
    };
    let readers = both(&there.reader_features, &asked.reader_features);
    let mut writers = both(&there.writer_features, &asked.writer_features);
    // What earlier versions ask for without a list (protocol, "Supported Features").
    let implied: &[&str] = match there.min_writer_version {
        LISTS_WRITERS.. => &[],
        3 => &["appendOnly", "invariants", "checkConstraints"],
        2 => &["appendOnly", "invariants"],
        _ => &[],
    };
    writers.extend(implied.iter().map(ToString::to_string));
    Protocol {
        min_reader_version: there.min_reader_version.max(asked.min_reader_version),
        min_writer_version: there.min_writer_version.max(asked.min_writer_version),
        reader_features: (!readers.is_empty()).then_some(readers),
        writer_features: Some(writers),
    }
}

/// What a reader has to know and this version does not; none if it can read the table.
pub(crate) fn cannot_read(protocol: &Protocol, metadata: &Metadata) -> Option<String> {
    if protocol.min_reader_version > LISTS_READERS {
        return Some(format!("reader version {}", protocol.min_reader_version));
    }
    let listed = protocol.reader_features.iter().flatten().find(|f| !READ.contains(&f.as_str()));
    if let Some(feature) = listed {
        return Some(feature.clone());
    }
    let mapped = metadata.configuration.get("delta.columnMapping.mode").and_then(Option::as_deref);
    mapped.filter(|mode| *mode != "none").map(|mode| format!("columnMapping ({mode})"))
}

/// What a writer has to know or heed and this version does not; none if it can write to the table.
pub(crate) fn cannot_write(protocol: &Protocol, metadata: &Metadata) -> Option<String> {
    if let Some(why) = cannot_read(protocol, metadata) {
        return Some(why);
    }
    if protocol.min_writer_version > LISTS_WRITERS {
        return Some(format!("writer version {}", protocol.min_writer_version));
    }
    if (4..LISTS_WRITERS).contains(&protocol.min_writer_version) {
        // These ask for generated columns and more without saying whether there are any.
        return Some(format!("writer version {}", protocol.min_writer_version));
    }
    let listed = protocol.writer_features.iter().flatten().find(|f| !WRITTEN.contains(&f.as_str()));
    if let Some(feature) = listed {
        return Some(feature.clone());
    }
    let set = |key: &str| metadata.configuration.get(key).and_then(Option::as_deref) == Some("true");
    for (key, feature) in
        [("delta.appendOnly", "appendOnly"), ("delta.enableChangeDataFeed", "changeDataFeed")]
    {
        if set(key) {
            return Some(format!("{feature} ({key} = true)"));
        }
    }
    let constraint = metadata.configuration.keys().find(|key| key.starts_with("delta.constraints."));
    if let Some(key) = constraint {
        return Some(format!("checkConstraints ({key})"));
    }
    // What a column is to be, or how it comes to be, stands with it (protocol, "Column Invariants").
    let fields = LakeSchema::parse(&metadata.schema_string).map(|schema| schema.fields).unwrap_or_default();
    let bound = |field: &LakeField| field.metadata.keys().find(|key| key.starts_with("delta.")).cloned();
    fields.iter().find_map(|field| Some(format!("{} (column {})", bound(field)?, field.name)))
}

/// Whether rows may leave by deletion vectors.
pub(crate) fn has_vectors(protocol: &Protocol) -> bool {
    protocol.reader_features.iter().flatten().any(|feature| feature == VECTORS)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_more_is_asked_for_than_is_needed() {
        let plain = LakeSchema::new(vec![LakeField::new("id", LakeType::Long)]);
        let timed = LakeSchema::new(vec![LakeField::new("at", LakeType::TimestampNtz)]);
        let asks = |schema, vectors| {
            let (protocol, configuration) = asked(schema, vectors);
            let metadata = Metadata { configuration, ..Metadata::default() };
            assert_eq!(cannot_write(&protocol, &metadata), None, "what is written here can be written here");
            assert_eq!(has_vectors(&protocol), vectors);
            (protocol.min_reader_version, protocol.reader_features.unwrap_or_default().join(" "))
        };
        assert_eq!(asks(&plain, false), (1, String::new()));
        assert_eq!(asks(&plain, true), (3, "deletionVectors".into()));
        assert_eq!(asks(&timed, false), (3, "timestampNtz".into()));
    }

    #[test]
    fn what_is_not_known_is_named() {
        let (mut protocol, _) = asked(&LakeSchema::new(Vec::new()), true);
        let mut metadata = Metadata::default();
        let set = |key: &str, value: &str| (key.to_string(), Some(value.to_string()));
        metadata.configuration.extend([set("delta.constraints.positive", "id > 0")]);
        assert_eq!(cannot_read(&protocol, &metadata), None);
        assert!(cannot_write(&protocol, &metadata).unwrap().contains("positive"));
        metadata.configuration = [set("delta.columnMapping.mode", "name")].into();
        assert_eq!(cannot_read(&protocol, &metadata).as_deref(), Some("columnMapping (name)"));
        let bound = r#"{"type":"struct","fields":[{"name":"id","type":"long","nullable":true,"metadata":{"delta.invariants":"{}"}}]}"#;
        let of_column = Metadata { schema_string: bound.into(), ..Metadata::default() };
        assert_eq!(cannot_write(&protocol, &of_column).as_deref(), Some("delta.invariants (column id)"));
        let older = |min_writer_version| Protocol {
            min_reader_version: 1,
            min_writer_version,
            ..Protocol::default()
        };
        assert_eq!(cannot_write(&older(2), &Metadata::default()), None);
        assert_eq!(cannot_write(&older(4), &Metadata::default()).as_deref(), Some("writer version 4"));
        protocol.writer_features = Some(vec!["rowTracking".into()]);
        assert_eq!(cannot_write(&protocol, &Metadata::default()).as_deref(), Some("rowTracking"));
        protocol.reader_features = Some(vec!["typeWidening".into()]);
        assert_eq!(cannot_read(&protocol, &Metadata::default()).as_deref(), Some("typeWidening"));
    }
}

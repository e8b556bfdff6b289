//! The actions of a table's log, as each line of a commit holds one (protocol, "Actions").
//!
//! What this version does not know is passed over, as the protocol has readers do: what must not be passed over is named
//! in the table's features, and looked at there.

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// A line of a commit: one action. All members missing: one that is not known here.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(crate) struct Line {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) protocol: Option<Protocol>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) meta_data: Option<Metadata>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) add: Option<Add>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) remove: Option<Remove>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) txn: Option<Txn>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) domain_metadata: Option<Domain>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) commit_info: Option<CommitInfo>,
    /// Of a checkpoint of the second version, which is not read here.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) sidecar: Option<serde_json::Value>,
}

/// What a reader and a writer have to know.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(crate) struct Protocol {
    pub(crate) min_reader_version: i32,
    pub(crate) min_writer_version: i32,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) reader_features: Option<Vec<String>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) writer_features: Option<Vec<String>>,
}

/// What the table is.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(crate) struct Metadata {
    /// A random text.
    pub(crate) id: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) name: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) description: Option<String>,
    #[serde(default)]
    pub(crate) format: Format,
    /// The schema, as JSON.
    pub(crate) schema_string: String,
    #[serde(default)]
    pub(crate) partition_columns: Vec<String>,
    #[serde(default)]
    pub(crate) configuration: BTreeMap<String, Option<String>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) created_time: Option<i64>,
}

/// In what form data files are.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Format {
    pub(crate) provider: String,
    #[serde(default)]
    pub(crate) options: BTreeMap<String, String>,
}

impl Default for Format {
    fn default() -> Self {
        Self { provider: "parquet".into(), options: BTreeMap::new() }
    }
}

/// A data file that is in the table from this commit on, with those of its rows that are deleted.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(crate) struct Add {
    /// Relative to the table, percent-encoded.
    pub(crate) path: String,
    #[serde(default)]
    pub(crate) partition_values: BTreeMap<String, Option<String>>,
    /// In bytes.
    pub(crate) size: i64,
    /// In milliseconds since 1970.
    #[serde(default)]
    pub(crate) modification_time: i64,
    /// Whether rows came or went with it; not so where files were only put together.
    #[serde(default)]
    pub(crate) data_change: bool,
    /// JSON.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) stats: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) tags: Option<BTreeMap<String, Option<String>>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) deletion_vector: Option<VectorPlace>,
}

/// Where a deletion vector is (protocol, "Deletion Vector Descriptor Schema").
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(crate) struct VectorPlace {
    /// `u`: a file beside the data with a name from an encoded uuid; `i`: right here; `p`: a file anywhere.
    pub(crate) storage_type: String,
    pub(crate) path_or_inline_dv: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) offset: Option<i32>,
    pub(crate) size_in_bytes: i32,
    /// How many rows are deleted.
    pub(crate) cardinality: i64,
}

/// A data file that is not in the table any more from this commit on.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(crate) struct Remove {
    pub(crate) path: String,
    /// In milliseconds since 1970.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) deletion_timestamp: Option<i64>,
    #[serde(default)]
    pub(crate) data_change: bool,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) extended_file_metadata: Option<bool>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) partition_values: Option<BTreeMap<String, Option<String>>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) size: Option<i64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) deletion_vector: Option<VectorPlace>,
}

impl Remove {
    /// Takes a file out of the table.
    pub(crate) fn of(file: &Add, now_ms: i64, data_change: bool) -> Self {
        Self {
            path: file.path.clone(),
            deletion_timestamp: Some(now_ms),
            data_change,
            extended_file_metadata: Some(true),
            partition_values: Some(file.partition_values.clone()),
            size: Some(file.size),
            deletion_vector: file.deletion_vector.clone(),
        }
    }
}

/// How far an application has come in its own count.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(crate) struct Txn {
    pub(crate) app_id: String,
    pub(crate) version: i64,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) last_updated: Option<i64>,
}

/// A text that an application keeps with the table, under a name of its own.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(crate) struct Domain {
    pub(crate) domain: String,
    pub(crate) configuration: String,
    /// Whether it is taken away.
    #[serde(default)]
    pub(crate) removed: bool,
}

/// Who made a commit; others put more there.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(crate) struct CommitInfo {
    /// In milliseconds since 1970.
    #[serde(default)]
    pub(crate) timestamp: i64,
    #[serde(default)]
    pub(crate) operation: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) engine_info: Option<String>,
    /// A random text, by which a commit is told from all others.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) txn_id: Option<String>,
}

macro_rules! line_from {
    ($($member:ident: $of:ty),*) => {$(
        impl From<$of> for Line {
            fn from(action: $of) -> Self {
                Self { $member: Some(action), ..Self::default() }
            }
        }
    )*};
}

line_from!(
    protocol: Protocol, meta_data: Metadata, add: Add, remove: Remove, txn: Txn, domain_metadata: Domain, commit_info: CommitInfo
);

/// A commit as it is stored: a line of JSON an action.
///
/// # Errors
/// If an action cannot be written as JSON, which none is known to be.
pub(crate) fn to_bytes(lines: &[Line]) -> Result<Vec<u8>, serde_json::Error> {
    let mut out = Vec::with_capacity(lines.len() * 256);
    for line in lines {
        serde_json::to_writer(&mut out, line)?;
        out.push(b'\n');
    }
    Ok(out)
}

/// The actions of a commit.
///
/// # Errors
/// If a line is no JSON, or an action lacks what it must have; in words.
pub(crate) fn from_bytes(bytes: &[u8]) -> Result<Vec<Line>, String> {
    let lines = bytes.split(|&b| b == b'\n').enumerate();
    let lines = lines.filter(|(_, line)| !line.trim_ascii().is_empty());
    lines
        .map(|(at, line)| serde_json::from_slice(line).map_err(|e| format!("line {}: {e}", at + 1)))
        .collect()
}

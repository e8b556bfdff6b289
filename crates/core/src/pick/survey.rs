//! What is in a source, and what a pipeline makes of it: the answer of `tables`.

use crate::model::described::{LogIdentity, SourceTable, TableKind};
use crate::pick::picker::{Choice, Picker};
use serde::Serialize;
use std::collections::BTreeMap;

/// A schema with what is in it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct SchemaSurvey {
    /// Its name.
    pub schema: String,
    /// Its tables, and whatever looks like one.
    pub tables: u64,
    /// Those that are picked.
    pub picked: u64,
    /// About how many rows they have; tables of unknown size count as empty.
    pub row_estimate: u64,
    /// About their size in bytes, likewise.
    pub bytes: u64,
}

/// A column.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct ColumnSurvey {
    /// Its name.
    pub column: String,
    /// Its type as the source prints it.
    pub source_type: String,
    /// What its values mean.
    pub logical_type: String,
    /// Whether it may be null.
    pub nullable: bool,
    /// Whether it is part of what tells rows apart.
    pub in_key: bool,
    /// Worth knowing: generated, cannot be carried.
    pub note: Option<String>,
}

/// A table.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct TableSurvey {
    /// Its full name, as patterns take it.
    pub table: String,
    /// What it is.
    pub kind: TableKind,
    /// Whether the pipeline picks it.
    pub picked: bool,
    /// The pattern that picks it, if it was a pattern.
    pub picked_by: Option<String>,
    /// Why it is not picked.
    pub why_not: Option<String>,
    /// Why it cannot be carried although it is picked, with the way out.
    pub refused: Option<String>,
    /// The columns that tell rows apart; empty if only the whole row does.
    pub key: Vec<String>,
    /// What the log says of old rows, in the source's own word.
    pub replica_identity: String,
    /// About how many rows it has.
    pub row_estimate: Option<u64>,
    /// About its size in bytes.
    pub bytes: Option<u64>,
    /// Worth knowing: it is a partition, for example.
    pub note: Option<String>,
    /// Its columns.
    pub columns: Vec<ColumnSurvey>,
}

/// Surveys tables, in order of their names.
pub fn survey(picker: &Picker, found: &[SourceTable]) -> Vec<TableSurvey> {
    let mut all: Vec<&SourceTable> = found.iter().collect();
    all.sort_by(|a, b| a.name.cmp(&b.name));
    all.into_iter().map(|table| table_survey(picker, table)).collect()
}

/// Sums tables up by schema, in order of names.
pub fn by_schema(found: &[SourceTable], picker: &Picker) -> Vec<SchemaSurvey> {
    let mut all: BTreeMap<&str, SchemaSurvey> = BTreeMap::new();
    for table in found {
        let schema = all.entry(&table.name.schema).or_default();
        schema.schema.clone_from(&table.name.schema);
        schema.tables += 1;
        schema.picked += u64::from(picker.takes(table));
        schema.row_estimate += table.row_estimate.unwrap_or(0);
        schema.bytes += table.bytes.unwrap_or(0);
    }
    all.into_values().collect()
}

fn table_survey(picker: &Picker, table: &SourceTable) -> TableSurvey {
    let choice = picker.choice(table);
    let (key, problem) = match &table.identity {
        LogIdentity::Key(key) | LogIdentity::Full { key: Some(key) } => (key.clone(), None),
        LogIdentity::Full { key: None } => (Vec::new(), None),
        LogIdentity::None(reason) => (Vec::new(), Some(reason.to_string())),
    };
    // Its partitions stand for it.
    let stands_for_others = table.kind == TableKind::Partitioned && picker.takes_together(&table.name);
    let refused = table
        .kind
        .why_not()
        .filter(|_| !stands_for_others)
        .map(str::to_string)
        .or_else(|| table.refused.as_ref().or(table.uncaptured.as_ref()).map(ToString::to_string))
        .or(problem)
        .filter(|_| !stands_for_others);
    TableSurvey {
        table: table.name.to_string(),
        kind: table.kind,
        picked: choice.is_picked(),
        refused: refused.filter(|_| choice.is_picked()),
        columns: table
            .columns
            .iter()
            .map(|c| ColumnSurvey {
                column: c.column.name.clone(),
                source_type: c.column.source_type.clone(),
                logical_type: c.column.logical.to_string(),
                nullable: c.column.nullable,
                in_key: key.contains(&c.column.name),
                note: match (&c.refused, c.generated) {
                    (Some(why), _) => Some(why.clone()),
                    (None, true) => Some("generated: not carried".into()),
                    (None, false) => None,
                },
            })
            .collect(),
        key,
        picked_by: match &choice {
            Choice::Picked(by) => by.clone(),
            _ => None,
        },
        why_not: match choice {
            Choice::Picked(_) => None,
            Choice::NotMeant => Some("no pattern of `include` means it".into()),
            Choice::Excluded(by) => Some(format!("excluded by {by}")),
            Choice::NotByPattern(why) => Some(why),
        },
        replica_identity: table.identity_word.into(),
        row_estimate: table.row_estimate,
        bytes: table.bytes,
        note: match stands_for_others {
            true => Some("its partitions stand together in one target table".into()),
            false => table.note.clone(),
        },
    }
}

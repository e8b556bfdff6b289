//! Plans as targets keep them, also those that were kept before rows were mapped.

use super::{ExistingRowsChoice, PlannedColumn, TablePlan};
use crate::mapping::Mapping;
use crate::project::{Mismatch, OnReject};
use crate::schema::{Column, TableSchema};
use serde::Deserialize;
use std::sync::Arc;

#[derive(Deserialize)]
pub(super) struct StoredPlan {
    schema: Arc<TableSchema>,
    mapped: Option<Arc<TableSchema>>,
    mapping: Option<Mapping>,
    source_id: u64,
    target: String,
    columns: Vec<PlannedColumn>,
    left_out: Vec<(String, String)>,
    existing_rows: Option<ExistingRowsChoice>,
    ddl: Option<String>,
    #[serde(default)]
    on_reject: OnReject,
    #[serde(default)]
    mismatch: Mismatch,
    comment: Option<String>,
    fingerprint: String,
}

impl From<StoredPlan> for TablePlan {
    fn from(kept: StoredPlan) -> Self {
        let renamed = || {
            let named = kept.schema.columns.iter().zip(&kept.columns);
            let columns = named.map(|(c, to)| Column { name: to.name.clone(), ..c.clone() }).collect();
            Arc::new(TableSchema { columns, ..(*kept.schema).clone() })
        };
        let mapped = kept.mapped.clone().unwrap_or_else(renamed);
        let plain = Mapping::plain(kept.schema.columns.len());
        Self {
            mapped,
            mapping: kept.mapping.unwrap_or(plain),
            schema: kept.schema,
            source_id: kept.source_id,
            target: kept.target,
            columns: kept.columns,
            left_out: kept.left_out,
            existing_rows: kept.existing_rows,
            ddl: kept.ddl,
            on_reject: kept.on_reject,
            mismatch: kept.mismatch,
            comment: kept.comment,
            fingerprint: kept.fingerprint,
        }
    }
}

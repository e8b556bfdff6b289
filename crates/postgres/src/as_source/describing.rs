//! Tables as the log announces them, for people who look on: whatever becomes of a table's structure, its rows are shown.

use crate::wire::pgoutput::{Relation, RelationColumn};
use crate::wire::types::{CatalogType, logical};
use moorage_core::model::schema::RowIdentity;
use moorage_core::{Column, TableName, TableSchema};
use std::sync::Arc;

/// What is known of a table before the log announces it.
pub(crate) struct Describing {
    pub(crate) planned: Arc<TableSchema>,
    /// Names and type numbers of its columns when following it began.
    pub(crate) types: Vec<(String, u32)>,
}

impl Describing {
    /// The columns of rows behind a message.
    pub(crate) fn schema(&self, relation: &Relation<'_>) -> TableSchema {
        let places = |names: Vec<&str>| -> Option<Vec<usize>> {
            names.iter().map(|name| relation.columns.iter().position(|c| c.name == *name)).collect()
        };
        let sent: Vec<&str> = relation.columns.iter().filter(|c| c.in_key).map(|c| c.name).collect();
        let identity = match relation.identity == b'f' {
            true => places(self.planned.key_names()).filter(|key| !key.is_empty()),
            false => places(sent),
        };
        TableSchema {
            table: TableName::new(relation.schema, relation.name),
            columns: relation.columns.iter().map(|c| self.column(c)).collect(),
            identity: identity.map_or(RowIdentity::WholeRow, RowIdentity::Key),
        }
    }

    fn column(&self, announced: &RelationColumn<'_>) -> Column {
        let RelationColumn { name, type_id, modifier, .. } = *announced;
        let is_as_it_was = self.types.iter().any(|(was, of)| was == name && *of == type_id);
        let planned = self.planned.columns.iter().find(|p| p.name == name).filter(|_| is_as_it_was);
        planned.cloned().unwrap_or_else(|| {
            // What a domain is made from the log does not say.
            let logical = logical(&CatalogType { id: type_id, modifier, name: "" });
            Column { name: name.into(), source_type: logical.to_string(), logical, nullable: true }
        })
    }
}

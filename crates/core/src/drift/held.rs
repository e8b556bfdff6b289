//! What is kept of a held table beside its rows: changes of structure as bytes; blocks of changes are kept as they are
//! ([`ChangeBlock::to_bytes`](crate::change::block::ChangeBlock::to_bytes)).
//!
//! A kept step begins with `STEP` and a checksum (CRC-32, as in IEEE 802.3) of all that follows: each behind its length in 8
//! bytes (little-endian), what it says in JSON and, if rows from before have values in the columns that came, one row
//! (Apache Arrow columnar format, section "IPC Streaming Format").

use crate::change::kept::{next_part, rows_from_bytes, rows_to_bytes, sealed, unsealed};
use crate::change::structure::{OfType, Step, Unknown};
use crate::drift::alter::{Alteration, Then};
use crate::mapping::outputs::Mapping;
use crate::model::drift::DriftPolicy;
use crate::model::name::TableName;
use crate::model::schema::TableSchema;
use crate::model::structure::Structure;
use crate::plan::table::TablePlan;
use arrow::error::ArrowError;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

const MAGIC: &[u8; 4] = b"STEP";

/// A change of structure that is held.
#[derive(Clone, Debug)]
pub struct HeldChange {
    /// The number of its record.
    pub id: u64,
    /// The change.
    pub step: Arc<Step>,
    /// What someone decided about it.
    pub decision: Option<DriftPolicy>,
}

/// A table whose changes are kept, not merged.
#[derive(Clone, Debug)]
pub struct Held {
    /// How its rows in the target are carried.
    pub plan: Arc<TablePlan>,
    /// What happened since, in order; not empty.
    pub changes: Vec<HeldChange>,
}

impl Held {
    /// What the stream calls the table by now.
    pub fn streamed_as(&self) -> &TableName {
        self.changes.last().map_or(self.plan.table(), |change| &change.step.after.name)
    }

    /// A plan to read the stream's rows by: all that the log carries of the table.
    pub fn streamed(&self) -> TablePlan {
        let mut plan = TablePlan { mapping: Mapping::default(), ..(*self.plan).clone() };
        if let Some(last) = self.changes.last() {
            plan.schema = last.step.schema.clone();
            plan.structure = Some(Arc::new(Structure::of(&last.step.after)));
        }
        plan
    }
}

/// A held table goes on: what was kept of it is applied, in order, and its changes are merged from then on.
#[derive(Clone, Debug)]
pub struct Release {
    /// The alterations that the changes of structure lead to, in order; blocks were kept behind the one or the other. The
    /// first one's `before` is how the table is carried while it is held; none of them holds.
    pub alterations: Vec<Arc<Alteration>>,
    /// What someone decided about each, in words; none where the project file said it.
    pub decisions: Vec<Option<String>>,
}

impl Release {
    /// Whether the table is read again instead.
    pub fn rereads(&self) -> bool {
        self.alterations.iter().any(|alteration| alteration.then == Then::Rereads)
    }

    /// How the table is carried until then, and from then on; none if nothing was kept.
    pub fn plans(&self) -> Option<(&Arc<TablePlan>, &Arc<TablePlan>)> {
        Some((&self.alterations.first()?.before, &self.alterations.last()?.after))
    }
}

#[derive(Serialize, Deserialize)]
struct Kept {
    after: Structure,
    schema: TableSchema,
    unknown: Option<Unknown>,
    #[serde(default)]
    types: Vec<OfType>,
}

impl Step {
    /// The step as bytes; [`from_bytes`](Self::from_bytes) reads them.
    ///
    /// # Errors
    /// If a value cannot be written.
    pub fn to_bytes(&self) -> Result<Vec<u8>, ArrowError> {
        let kept = Kept {
            after: Structure::of(&self.after),
            schema: (*self.schema).clone(),
            unknown: self.unknown.clone(),
            types: self.types.clone(),
        };
        let kept = serde_json::to_vec(&kept).map_err(|e| ArrowError::ExternalError(Box::new(e)))?;
        let values = self.values.as_ref().map(rows_to_bytes).transpose()?;
        Ok(sealed(MAGIC, &[kept, values.unwrap_or_default()]))
    }

    /// Reads what [`to_bytes`](Self::to_bytes) made.
    ///
    /// # Errors
    /// If the bytes are not such a step.
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, ArrowError> {
        let mut bytes = unsealed(MAGIC, bytes)?;
        let mut part = || next_part(&mut bytes);
        let kept: Kept =
            serde_json::from_slice(part()?).map_err(|e| ArrowError::ExternalError(Box::new(e)))?;
        let values = match part()? {
            [] => None,
            values => Some(rows_from_bytes(values, &kept.schema)?),
        };
        let (after, schema) = (Arc::new(kept.after.table()), Arc::new(kept.schema));
        Ok(Self { after, schema, values, unknown: kept.unknown, types: kept.types })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::drift::tests::{step, table};

    #[test]
    fn a_step_is_read_back_as_it_was_kept() {
        let unknown = Unknown { why: "rows were written anew".into(), columns: Some(vec![2]) };
        for (values, unknown) in [(None, Some(unknown)), (Some(&[None, Some(7)][..]), None)] {
            let kept = step(table("1:id 2:depth"), values, unknown);
            let read = Step::from_bytes(&kept.to_bytes().unwrap()).unwrap();
            assert_eq!(Structure::of(&read.after), Structure::of(&kept.after));
            assert_eq!(
                (&read.schema, &read.values, &read.unknown),
                (&kept.schema, &kept.values, &kept.unknown)
            );
        }
    }

    #[test]
    fn what_is_no_step_or_cut_off_is_an_error() {
        let kept = step(table("1:id 2:depth"), Some(&[None, Some(7)]), None).to_bytes().unwrap();
        for end in 0..kept.len() {
            assert!(Step::from_bytes(&kept[..end]).is_err(), "{end}");
        }
    }
}

//! A carried table as the assembler knows it: its structure as far as the log has announced it, and how its rows are taken.

use crate::as_source::describing::Describing;
use crate::as_source::mark::Mark;
use crate::as_source::structure::fit::AnnouncedColumn;
use crate::as_source::structure::looks::Look;
use crate::as_source::structure::room::room_for;
use crate::as_source::structure::table::{Announced, Table};
use crate::as_source::structure::types::PresentNames;
use crate::wire::pgoutput::{Field, Relation, Tuple};
use crate::wire::values::push_text;
use moorage_adapter::Result;
use moorage_core::change::builder::ChangeBlockBuilder;
use moorage_core::change::structure::SchemaChange;
use moorage_core::value::column::RowsBuilder;
use moorage_core::{LogicalType, TableSchema};
use std::collections::HashMap;
use std::sync::Arc;

/// A structure that a relation message announced.
pub(super) struct Structure {
    /// For each column of the stream, the column of our schema.
    pub(super) columns: Vec<Option<usize>>,
    /// Why changes in this structure cannot be used.
    pub(super) drift: Option<String>,
    /// What values are called now that may still come under another name.
    pub(super) names: PresentNames,
}

/// How a table's structure is known.
pub(super) enum Known {
    /// As planned: the columns that the source's log carries.
    Planned(Vec<(String, u32)>),
    /// As the log announces it, whatever was planned: for people who look on.
    Described(Describing),
    /// As it is followed, with a message that is not settled yet.
    Followed(Box<Table>, Option<Announced>),
}

pub(super) struct Carried {
    pub(super) schema: Arc<TableSchema>,
    pub(super) mark: Option<Mark>,
    pub(super) known: Known,
    pub(super) structure: Option<Structure>,
    pub(super) block: Option<ChangeBlockBuilder>,
    /// Whether large values that did not change are taken from the old row where the log has it whole: a row that
    /// moves into a filter needs all its values.
    pub(super) fills: bool,
    /// The transaction that it was last asked about, by [`Assembler`](super::assemble::Assembler)'s count.
    pub(super) asked_in: u64,
}

/// Has other tables leave the name that one is to have by a look.
pub(super) fn make_room(
    tables: &mut HashMap<u32, Carried>,
    look: &Look,
    id: u32,
    changes: &mut Vec<SchemaChange>,
) {
    if tables.get(&id).is_none_or(|carried| carried.has_passed(look)) {
        return;
    }
    let name = |id: u32| look.of(id).map(|d| d.table.name.clone());
    let called = |carried: &Carried| match &carried.known {
        Known::Followed(table, _) if !table.is_gone() => Some(table.now().name.clone()),
        _ => None,
    };
    let now = tables.get(&id).and_then(called);
    let Some(wanted) = name(id).filter(|name| now.as_ref().is_some_and(|now| now != name)) else { return };
    let all: Vec<_> = tables.iter().filter_map(|(id, c)| Some((*id, called(c)?))).collect();
    for (other, to) in room_for(id, &wanted, &all, name) {
        let Some(carried) = tables.get_mut(&other) else { continue };
        let Known::Followed(table, message) = &mut carried.known else { continue };
        let (change, is_open) = (table.moves(to), message.is_some());
        carried.adopt(change.as_ref(), is_open);
        changes.extend(change);
    }
}

impl Carried {
    /// Whether nothing comes of a look any more: of the newest one that is so nearly always, and it is met with every transaction.
    fn has_passed(&self, look: &Look) -> bool {
        match &self.known {
            Known::Followed(table, _) => table.has_passed(look),
            Known::Planned(_) | Known::Described(_) => true,
        }
    }

    pub(super) fn pass(&mut self, look: &Look) -> Result<Option<SchemaChange>> {
        if self.has_passed(look) {
            return Ok(None);
        }
        let Known::Followed(table, message) = &mut self.known else { return Ok(None) };
        let change = table.pass(look)?;
        // What was announced and is not settled is from behind the look, and settled with the next row.
        let is_open = message.is_some();
        self.adopt(change.as_ref(), is_open);
        Ok(change)
    }

    /// Whether a look is needed to settle what was announced.
    pub(super) fn is_unsettled(&self) -> bool {
        matches!(&self.known, Known::Followed(_, Some(_)))
    }

    pub(super) fn settle(&mut self, look: &Look) -> Result<Option<SchemaChange>> {
        let Known::Followed(table, message) = &mut self.known else { return Ok(None) };
        let Some(message) = message.take() else { return Ok(None) };
        let change = table.announced(&message, look)?;
        self.adopt(change.as_ref(), false);
        Ok(change)
    }

    pub(super) fn adopt(&mut self, change: Option<&SchemaChange>, is_open: bool) {
        if let Some(step) = change.and_then(|change| change.step.as_ref()) {
            self.schema = step.schema.clone();
        }
        let Known::Followed(table, _) = &self.known else { return };
        let places = if is_open { None } else { table.places(&self.schema) };
        let names = table.present_names(&self.schema);
        self.structure = places.map(|columns| Structure { columns, drift: None, names });
    }
}

pub(super) fn announced(relation: &Relation<'_>) -> Announced {
    let columns = relation.columns.iter().map(|c| AnnouncedColumn {
        name: c.name.to_string(),
        type_id: c.type_id,
        modifier: c.modifier,
        in_key: c.in_key,
    });
    Announced { full: relation.identity == b'f', columns: columns.collect() }
}

/// Pushes a row's carried values, those that the log left out from another row if one is given; gives the columns
/// that were nowhere, if any.
pub(super) fn push_tuple(
    rows: &mut RowsBuilder,
    structure: &Structure,
    tuple: Tuple<'_>,
    otherwise: Option<Tuple<'_>>,
) -> std::result::Result<Option<Box<[bool]>>, String> {
    let columns = &structure.columns;
    if tuple.columns() != columns.len() {
        return Err(format!("a row with {} values for {} columns", tuple.columns(), columns.len()));
    }
    let (schema, as_written) = (rows.schema().clone(), structure.names.is_empty());
    let mut unchanged: Option<Box<[bool]>> = None;
    let mut others = otherwise.map(|tuple| tuple.fields());
    for (field, column) in tuple.fields().zip(columns) {
        let other = others.as_mut().and_then(Iterator::next);
        let Some(column) = *column else { continue };
        let field = if field == Field::Unchanged { other.unwrap_or(field) } else { field };
        let builder = &mut rows.columns[column];
        match field {
            Field::Null => builder.push_null(),
            Field::Unchanged => {
                builder.push_null();
                unchanged.get_or_insert_with(|| vec![false; schema.columns.len()].into())[column] = true;
            }
            Field::Text(text) => {
                let logical: &LogicalType = &schema.columns[column].logical;
                let text = if as_written { text } else { structure.names.of(column, text) };
                push_text(builder, logical, text)
                    .map_err(|e| format!("column {}: {e}", schema.columns[column].name))?;
            }
        }
    }
    Ok(unchanged)
}

pub(super) fn difference(expected: &[(String, u32)], found: &[(String, u32)]) -> Option<String> {
    let missing = |a: &[(String, u32)], b: &[(String, u32)]| -> Vec<String> {
        a.iter().filter(|(n, _)| !b.iter().any(|(m, _)| n == m)).map(|(n, _)| n.clone()).collect()
    };
    let (gone, come) = (missing(expected, found), missing(found, expected));
    let mut parts = Vec::new();
    if !come.is_empty() {
        parts.push(format!("column {} was added", come.join(", ")));
    }
    if !gone.is_empty() {
        parts.push(format!("column {} was dropped or renamed", gone.join(", ")));
    }
    let retyped: Vec<&str> = expected
        .iter()
        .filter(|(n, t)| found.iter().any(|(m, u)| n == m && t != u))
        .map(|(n, _)| n.as_str())
        .collect();
    if !retyped.is_empty() {
        parts.push(format!("column {} has another type", retyped.join(", ")));
    }
    (!parts.is_empty()).then(|| parts.join(", "))
}

/// The log must still say which row a change is about, in the way the plan expects.
pub(super) fn identity_difference(schema: &TableSchema, relation: &Relation<'_>) -> Option<String> {
    let full = relation.identity == b'f';
    let key: Vec<&str> = schema.key_names();
    let sent: Vec<&str> = relation.columns.iter().filter(|c| c.in_key).map(|c| c.name).collect();
    let fits = match schema.identity.key() {
        None => full,
        Some(_) => full || (sent.len() == key.len() && key.iter().all(|k| sent.contains(k))),
    };
    (!fits).then(|| {
        format!("its replica identity was changed: the log now identifies rows by ({})", sent.join(", "))
    })
}

//! What a relation message shows of a structure, between the one that was known and the one that a look saw.

use super::{Announced, Table, of_names};
use crate::as_source::catalog::Described;
use crate::as_source::structure::fit::AnnouncedColumn;
use crate::as_source::structure::state::{ColumnState, State};
use crate::as_source::structure::types::Made;
use crate::wire::types::{CatalogType, logical};
use moorage_core::Column;
use moorage_core::change::structure::Unknown;
use moorage_core::model::described::{SourceColumn, SourceTable};

impl Table {
    /// The structure that a message shows, and why its values are not known, if so.
    pub(super) fn as_announced(
        &self,
        seen: &Described,
        numbers: &[u32],
        message: &Announced,
    ) -> (SourceTable, Option<Unknown>) {
        let mut why: Option<String> = None;
        let mut columns = Vec::new();
        let later = |n: u32| seen.table.columns.iter().find(|c| c.number == Some(n));
        let earlier = |n: u32| self.now.columns.iter().find(|c| c.number == Some(n));
        for (&number, found) in numbers.iter().zip(&message.columns) {
            let is_type = |state: &State| {
                state
                    .column(number)
                    .is_some_and(|c| (c.type_id, c.modifier) == (found.type_id, found.modifier))
            };
            let of_between;
            let of_type = match (later(number), earlier(number)) {
                (Some(c), _) if is_type(&seen.state) => c,
                (_, Some(c)) if is_type(&self.state) => c,
                (Some(c), _) => match between(seen.state.column(number), found, c) {
                    Some(between) => {
                        of_between = between;
                        &of_between
                    }
                    None => {
                        why = Some(format!("column {} was of another type in between", found.name));
                        c
                    }
                },
                (None, Some(c)) => c,
                // It came and went: it is never made.
                (None, None) => continue,
            };
            let mut column = later(number).unwrap_or(of_type).clone();
            column.column.name.clone_from(&found.name);
            column.column.logical.clone_from(&of_type.column.logical);
            column.column.source_type.clone_from(&of_type.column.source_type);
            columns.push(column);
        }
        columns.extend(seen.table.columns.iter().filter(|c| c.generated).cloned());
        columns.sort_by_key(|c| c.number);
        let keyed: Vec<u32> =
            numbers.iter().zip(&message.columns).filter(|(_, c)| c.in_key).map(|(n, _)| *n).collect();
        let name_of = |n: &u32| {
            let at = numbers.iter().position(|other| other == n)?;
            Some(message.columns[at].name.clone())
        };
        let identity = [(&seen.table, &seen.table.identity), (&self.now, &self.now.identity)]
            .into_iter()
            .find_map(|(table, identity)| of_names(identity, table, &keyed, message.full, &name_of));
        let identity = identity.unwrap_or_else(|| {
            why = Some("its rows were told apart in another way in between".into());
            seen.table.identity.clone()
        });
        let now = SourceTable { columns, identity, name: self.now.name.clone(), ..seen.table.clone() };
        (now, why.map(|why| Unknown { why, columns: None }))
    }

    pub(super) fn state_as_announced(&self, seen: &Described, numbers: &[u32], message: &Announced) -> State {
        let streamed = numbers.iter().zip(&message.columns).map(|(&number, found)| ColumnState {
            number,
            name: found.name.clone(),
            type_id: found.type_id,
            modifier: found.modifier,
            generated: false,
            made: self.made_of(seen, number, found.type_id),
            touched: match self.state.is_untouched(&seen.state, number) {
                true => self.state.column(number).and_then(|c| c.touched.clone()),
                false => None,
            },
        });
        let generated = seen.state.columns.iter().filter(|c| c.generated).cloned();
        let mut columns: Vec<ColumnState> = streamed.chain(generated).collect();
        columns.sort_by_key(|c| c.number);
        let count = columns.iter().map(|c| c.number).chain([self.state.count]).max().unwrap_or_default();
        State { count, columns, ..self.state.clone() }
    }

    /// What the type of a column that was announced is made of: as it was, until a look is passed that says otherwise.
    fn made_of(&self, seen: &Described, number: u32, type_id: u32) -> Made {
        let states = [&self.state, &seen.state].into_iter();
        let mut of_type = states.filter_map(|s| s.column(number).filter(|c| c.type_id == type_id));
        of_type.next().map(|c| c.made.clone()).unwrap_or_default()
    }
}

/// A column that was of the type that it has later, with another modifier.
fn between(
    later: Option<&ColumnState>,
    found: &AnnouncedColumn,
    column: &SourceColumn,
) -> Option<SourceColumn> {
    let name = match (later?.type_id == found.type_id, found.type_id) {
        (true, _) => column.column.source_type.as_str(),
        (false, 25) => "text",
        (false, 1043) => "character varying",
        (false, 1042) => "character",
        (false, _) => return None,
    };
    // The modifier stands behind the first word of the name, or nowhere (PostgreSQL source, `format_type`).
    let (head, tail) = match (name.find('('), name.find(')')) {
        (Some(from), Some(to)) if from < to => (&name[..from], &name[to + 1..]),
        _ => (name, ""),
    };
    let length = found.modifier - 4;
    let modifier = match head {
        _ if found.modifier < 0 => String::new(),
        "numeric" => format!("({},{})", (length >> 16) & 0xffff, ((length & 0x7ff) ^ 1024) - 1024),
        "character varying" | "character" => format!("({length})"),
        _ => return None,
    };
    let source_type = format!("{head}{modifier}{tail}");
    let logical = logical(&CatalogType { id: found.type_id, modifier: found.modifier, name: &source_type });
    let column_between = Column { source_type, logical, ..column.column.clone() };
    Some(SourceColumn { column: column_between, ..column.clone() })
}

//! Structures as a source writes them down about itself, beside changes or in the log.

use super::state::{ColumnState, State};
use super::types::Made;
use crate::as_source::catalog::Described;
use crate::wire::connect::{ABOUT_VALUES, SESSION};
use crate::wire::types::{CatalogType, logical};
use moorage_core::Column;
use moorage_core::model::described::{LogIdentity, SourceColumn, SourceTable};
use moorage_core::model::sql::{quote_ident, quote_literal};
use serde::Deserialize;
use std::collections::HashMap;

/// A structure with the numbers of its columns.
#[derive(Clone)]
pub(crate) struct Whole {
    /// The greatest number that a column has had.
    count: u32,
    pub(crate) columns: Vec<SourceColumn>,
    states: Vec<ColumnState>,
    /// By number, the values that rows have which are older than a column.
    given: HashMap<u32, String>,
}

/// A column, as [`structure_of`] writes it: number, name, type, modifier, the type's name, not null, computed, touched by,
/// value of older rows, and type and modifier of what a domain is made from.
#[derive(Deserialize)]
pub(crate) struct WrittenColumn(
    u32,
    String,
    u32,
    i32,
    String,
    bool,
    bool,
    String,
    Option<String>,
    Option<(u32, i32)>,
);

/// An expression for the structure of the table of a number, as JSON: the greatest column number, and of each column its
/// number, name, type, modifier, the type's name, whether it may not be null, whether it is computed, what touched it
/// last, the value that older rows have in it, and what its domain is made from.
pub(crate) fn structure_of(id: &str) -> String {
    format!(
        "(SELECT json_build_array((SELECT c.relnatts FROM pg_class c WHERE c.oid = {id}), coalesce(json_agg(json_build_array(
                 a.attnum, a.attname, a.atttypid::bigint, a.atttypmod, format_type(a.atttypid, a.atttypmod), a.attnotnull, a.attgenerated <> '', concat(a.xmin, ':', a.cmin),
                 CASE WHEN a.atthasmissing THEN (a.attmissingval::text::text[])[1] END,
                 (WITH RECURSIVE step AS (
                    SELECT t.oid, t.typtype, t.typbasetype, t.typtypmod, a.atttypmod AS modifier FROM pg_type t WHERE t.oid = a.atttypid
                    UNION ALL SELECT b.oid, b.typtype, b.typbasetype, b.typtypmod, CASE WHEN s.typtypmod = -1 THEN s.modifier ELSE s.typtypmod END
                      FROM step s JOIN pg_type b ON b.oid = s.typbasetype WHERE s.typtype = 'd')
                  SELECT json_build_array(oid::bigint, modifier) FROM step WHERE typtype <> 'd')
               ) ORDER BY a.attnum), '[]'))
             FROM pg_attribute a WHERE a.attrelid = {id} AND a.attnum > 0 AND NOT a.attisdropped)"
    )
}

/// The session's settings for text, as a function's.
pub(crate) fn fixed_settings() -> String {
    let texts = SESSION.iter().filter(|(name, _)| ABOUT_VALUES.contains(name));
    let mut all: Vec<String> =
        texts.map(|(name, value)| format!("SET {} TO {}", quote_ident(name), quote_literal(value))).collect();
    // For operators, and for how names of objects look in values.
    all.push("SET search_path TO pg_catalog, pg_temp".into());
    all.join(" ")
}

impl Whole {
    /// Of what was written down.
    pub(crate) fn of(count: u32, written: Vec<WrittenColumn>) -> Self {
        let (mut columns, mut states, mut given) = (Vec::new(), Vec::new(), HashMap::new());
        for WrittenColumn(
            number,
            name,
            type_id,
            modifier,
            source_type,
            required,
            generated,
            touched,
            value,
            base,
        ) in written
        {
            let (id, base_modifier) = base.unwrap_or((type_id, modifier));
            let logical = logical(&CatalogType { id, modifier: base_modifier, name: &source_type });
            columns.push(SourceColumn {
                number: Some(number),
                generated,
                ..SourceColumn::of(Column { name: name.clone(), logical, source_type, nullable: !required })
            });
            states.push(ColumnState {
                number,
                name,
                type_id,
                modifier,
                generated,
                touched: Some(touched),
                made: Made::default(),
            });
            given.extend(value.map(|value| (number, value)));
        }
        Self { count, columns, states, given }
    }

    /// Numbers and names, as the layout of a row tells them.
    pub(crate) fn layout(&self) -> Layout {
        let both = self.states.iter().map(|c| (c.number, c.name.clone()));
        Layout(both.collect())
    }

    /// The table in this structure, with its rows in a file.
    pub(crate) fn described(&self, now: &SourceTable, file: u32) -> Described {
        let number = |name: &String| now.columns.iter().find(|c| c.column.name == *name)?.number;
        let name = |n: u32| self.columns.iter().find(|c| c.number == Some(n)).map(|c| c.column.name.clone());
        let renamed = |key: &Vec<String>| key.iter().map(|k| name(number(k)?)).collect::<Option<Vec<_>>>();
        let identity = match &now.identity {
            LogIdentity::Key(key) => renamed(key).map(LogIdentity::Key),
            LogIdentity::Full { key } => Some(LogIdentity::Full { key: key.as_ref().and_then(renamed) }),
            LogIdentity::None(_) => None,
        };
        let state =
            State { storage: file, count: self.count, columns: self.states.clone(), ..State::default() };
        // What computes a column is not written down.
        let expression = |c: &SourceColumn| now.columns.iter().find(|now| now.is_same(c))?.expression.clone();
        let columns = self.columns.iter().map(|c| SourceColumn { expression: expression(c), ..c.clone() });
        let table = SourceTable {
            columns: columns.collect(),
            identity: identity.unwrap_or_else(|| now.identity.clone()),
            state: state.text(),
            ..now.clone()
        };
        Described { table, state, given: self.given.clone() }
    }
}

/// The numbers and names of what stands in a row's text, in order.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Layout(Vec<(u32, String)>);

impl Layout {
    /// Reads what stands beside a change; none if that is not a layout.
    pub(crate) fn read(text: &[u8]) -> Option<Self> {
        let (numbers, names): (Vec<u32>, Vec<String>) = serde_json::from_slice(text).ok()?;
        (numbers.len() == names.len()).then(|| Self(numbers.into_iter().zip(names).collect()))
    }

    /// Of a structure.
    pub(crate) fn of(state: &State) -> Self {
        Self(state.columns.iter().map(|c| (c.number, c.name.clone())).collect())
    }
}

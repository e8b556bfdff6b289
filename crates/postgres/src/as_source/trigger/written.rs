//! Structures as triggers wrote them down: what rows in a change table consist of.

use crate::as_source::catalog::Described;
use crate::as_source::structure::state::{ColumnState, State};
use crate::as_source::structure::types::Made;
use crate::as_source::trigger::names::Names;
use crate::wire::connect::Session;
use crate::wire::types::{CatalogType, logical};
use moorage_adapter::{AdapterError, Result};
use moorage_core::Column;
use moorage_core::model::described::{LogIdentity, SourceColumn, SourceTable};
use moorage_core::plan::table::TablePlan;
use serde::Deserialize;
use std::collections::HashMap;

/// The structures of one table, by number.
pub(crate) struct Written(HashMap<i64, Noted>);

/// A structure.
pub(crate) enum Noted {
    /// All that there is to know.
    Whole(Box<Whole>),
    /// Names and types, as an earlier version wrote them.
    Named(Vec<(String, String)>),
}

/// A structure with the numbers of its columns.
#[derive(Clone)]
pub(crate) struct Whole {
    /// The greatest number that a column has had.
    count: u32,
    columns: Vec<SourceColumn>,
    states: Vec<ColumnState>,
    /// By number, the values that rows have which are older than a column.
    given: HashMap<u32, String>,
}

/// A column, as [`super::functions`] writes it: number, name, type, modifier, the type's name, not null, computed, touched by,
/// value of older rows, and type and modifier of what a domain is made from.
#[derive(Deserialize)]
struct WrittenColumn(u32, String, u32, i32, String, bool, bool, String, Option<String>, Option<(u32, i32)>);

impl Written {
    /// Reads what was written down of a table.
    pub(crate) async fn read(session: &Session, names: &Names, table: u64) -> Result<Self> {
        // An earlier version's table has no such column.
        let sql = format!(
            "SELECT number, columns, to_jsonb(s)->>'state' FROM {} s WHERE source = $1",
            names.structures()
        );
        let rows = session.rows("reading structures", &sql, &[&(table as u32)]).await?;
        let mut all = HashMap::new();
        for row in &rows {
            let wrong = |e: serde_json::Error| AdapterError::Value {
                table: names.structures(),
                what: format!("what structure {} is cannot be read: {e}", row.get::<_, i64>(0)),
            };
            let state: Option<String> = row.get(2);
            let noted = match (state, row.get::<_, Option<String>>(1)) {
                (Some(state), _) => {
                    let (count, columns) = serde_json::from_str(&state).map_err(wrong)?;
                    Noted::Whole(Box::new(Whole::of(count, columns)))
                }
                (None, Some(columns)) => Noted::Named(serde_json::from_str(&columns).map_err(wrong)?),
                (None, None) => continue,
            };
            let is_better = matches!(noted, Noted::Whole(_));
            let entry = all.entry(row.get::<_, i64>(0));
            let kept = entry.or_insert(Noted::Named(Vec::new()));
            if is_better || matches!(kept, Noted::Named(columns) if columns.is_empty()) {
                *kept = noted;
            }
        }
        Ok(Self(all))
    }

    pub(crate) fn get(&self, number: i64) -> Option<&Noted> {
        self.0.get(&number)
    }
}

impl Noted {
    /// Names and types of what stands in a row's text, in order.
    pub(crate) fn named<'a>(&'a self) -> Vec<(&'a str, &'a str)> {
        match self {
            Self::Named(columns) => columns.iter().map(|(name, of)| (name.as_str(), of.as_str())).collect(),
            Self::Whole(whole) => {
                let both = |c: &'a SourceColumn| (c.column.name.as_str(), c.column.source_type.as_str());
                whole.columns.iter().map(both).collect()
            }
        }
    }

    /// Where in such a row's text each planned column stands.
    ///
    /// # Errors
    /// What differs from the planned structure, in words.
    pub(crate) fn places(&self, plan: &TablePlan) -> std::result::Result<Vec<usize>, String> {
        let columns = self.named();
        if let Some((name, _)) = columns.iter().find(|(name, _)| !plan.knows(name)) {
            return Err(format!("column {name} was added"));
        }
        let of = |wanted: &Column| match columns.iter().position(|(name, _)| *name == wanted.name) {
            None => Err(format!("column {} is not there any more", wanted.name)),
            Some(at) if columns[at].1 != wanted.source_type => Err(format!(
                "column {} is of type {} and was of type {}",
                wanted.name, columns[at].1, wanted.source_type
            )),
            Some(at) => Ok(at),
        };
        plan.schema.columns.iter().map(of).collect()
    }
}

impl Whole {
    fn of(count: u32, written: Vec<WrittenColumn>) -> Self {
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
                column: Column { name: name.clone(), logical, source_type, nullable: !required },
                generated,
                refused: None,
                may_be_left_out: false,
                comment: None,
                known_as: None,
                called: None,
                left: false,
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
        let table = SourceTable {
            columns: self.columns.clone(),
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

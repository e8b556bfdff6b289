//! Structures as triggers wrote them down: what rows in a change table consist of.

use crate::as_source::structure::written::Whole;
use crate::as_source::trigger::names::Names;
use crate::wire::connect::Session;
use moorage_adapter::{AdapterError, Result};
use moorage_core::Column;
use moorage_core::model::described::SourceColumn;
use moorage_core::plan::table::TablePlan;
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

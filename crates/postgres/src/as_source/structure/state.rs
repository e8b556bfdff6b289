//! A structure with its numbers.

use moorage_core::change::structure::Unknown;
use serde::{Deserialize, Serialize};

/// A column.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct ColumnState {
    /// `attnum`: never used again in the table.
    pub(crate) number: u32,
    pub(crate) name: String,
    pub(crate) type_id: u32,
    /// The type's modifier; -1 if it has none.
    pub(crate) modifier: i32,
    /// Computed from others, and not in the log.
    #[serde(default)]
    pub(crate) generated: bool,
    /// The transaction that wrote the column's row in the catalogue (`xmin`): while it stays, the column is as it was. None
    /// if that is not known, because the stream told of the column between two looks.
    pub(crate) touched: Option<String>,
}

/// A table's structure. Its text is kept with the plan: [`Structure::state`](moorage_core::model::structure::Structure).
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct State {
    /// The file that holds the rows (`relfilenode`): another one when they were rewritten.
    pub(crate) storage: u32,
    /// The greatest number that a column is known to have had (`relnatts`).
    pub(crate) count: u32,
    /// The columns that there are, by number.
    pub(crate) columns: Vec<ColumnState>,
}

impl State {
    /// Reads what a plan keeps; none if it is not there or not readable.
    pub(crate) fn read(text: &str) -> Option<Self> {
        serde_json::from_str(text).ok()
    }

    /// The text to keep.
    pub(crate) fn text(&self) -> String {
        // Names are texts, and there are no keys that are none: it cannot fail.
        serde_json::to_string(self).unwrap_or_default()
    }

    pub(crate) fn column(&self, number: u32) -> Option<&ColumnState> {
        self.columns.iter().find(|c| c.number == number)
    }

    /// Whether a column that both have was not touched from here to `later`.
    pub(crate) fn is_untouched(&self, later: &Self, number: u32) -> bool {
        match (self.column(number), later.column(number)) {
            (Some(a), Some(b)) => a.touched.is_some() && a.touched == b.touched,
            _ => false,
        }
    }

    /// Which values of rows may have become other ones from here to `later`, if any. Rows that were rewritten are known where
    /// no column that both have was touched and new columns have a value for rows from before them; `given` says whether
    /// one has (`atthasmissing`, which a rewrite clears).
    pub(crate) fn values_changed(&self, later: &Self, given: impl Fn(u32) -> bool) -> Option<Unknown> {
        if self.storage == later.storage {
            return None;
        }
        let changed = later.columns.iter().filter(|c| match self.column(c.number) {
            Some(_) => !self.is_untouched(later, c.number),
            None => !c.generated && !given(c.number),
        });
        let changed: Vec<&ColumnState> = changed.collect();
        let names: Vec<&str> = changed.iter().map(|c| c.name.as_str()).collect();
        (!changed.is_empty()).then(|| Unknown {
            why: format!("rows were written anew with column {}", names.join(", ")),
            columns: Some(changed.iter().map(|c| c.number).collect()),
        })
    }
}

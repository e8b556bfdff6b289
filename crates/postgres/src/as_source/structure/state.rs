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
    /// The transaction that wrote the column's row in the catalogue, and the command in it (`xmin`, `cmin`): while they stay,
    /// the column is as it was. (An attempt that was undone may show in the second.) None if that is not known, because the stream told of the column between two looks.
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

    /// Which of some columns may hold other values by now in rows that were there, given what a look saw: those that were
    /// touched where rows were rewritten, and new ones that have no value for rows from before them (`given` says whether one
    /// has: `atthasmissing`, which a rewrite clears). Rows that were rewritten with none of these are what they were.
    pub(crate) fn values_changed(
        &self,
        seen: &Self,
        columns: impl Iterator<Item = u32>,
        given: impl Fn(u32) -> bool,
    ) -> Option<Unknown> {
        if self.storage == seen.storage {
            return None;
        }
        let changed = columns.filter(|&number| match self.column(number) {
            Some(_) => !self.is_untouched(seen, number),
            None => !given(number),
        });
        let changed: Vec<u32> = changed.collect();
        let name = |n: &u32| seen.column(*n).map_or("one that is gone", |c| c.name.as_str());
        let names: Vec<&str> = changed.iter().map(name).collect();
        (!changed.is_empty()).then(|| Unknown {
            why: format!("rows were written anew with column {}", names.join(", ")),
            columns: Some(changed.clone()),
        })
    }
}

/// Whether a column of one type can have become one of another without its rows being rewritten. Of types that are not known
/// here anything is thought possible (PostgreSQL source, `ATColumnChangeRequiresRewrite`: binary coercible types).
pub(crate) fn may_become(from: u32, to: u32) -> bool {
    /// Texts; instants; numbers of objects: among each other.
    const ALIKE: [&[u32]; 3] =
        [&[25, 1042, 1043, 19], &[1114, 1184], &[23, 26, 24, 2202, 2205, 2206, 4089, 4096]];
    /// None of these is coercible to another one of them, nor to one of those above.
    const APART: [u32; 15] = [16, 17, 20, 21, 114, 3802, 700, 701, 1082, 1083, 1186, 1266, 1700, 2950, 790];
    let alike = |id: u32| ALIKE.iter().position(|group| group.contains(&id));
    let is_known = |id: u32| alike(id).is_some() || APART.contains(&id);
    from == to || !is_known(from) || !is_known(to) || (alike(from).is_some() && alike(from) == alike(to))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::same(23, 23, true)]
    #[case::texts(1043, 25, true)]
    #[case::instants(1184, 1114, true)]
    #[case::numbers(23, 20, false)]
    #[case::text_to_number(25, 23, false)]
    #[case::unknown(16_500, 23, true)]
    fn what_can_change_its_type_without_a_rewrite(
        #[case] from: u32,
        #[case] to: u32,
        #[case] expected: bool,
    ) {
        assert_eq!(may_become(from, to), expected);
    }
}

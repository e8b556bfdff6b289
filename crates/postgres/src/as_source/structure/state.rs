//! A structure with its numbers.

use super::types::{Former, Horizon, Made};
use moorage_core::change::structure::{OfType, Unknown};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeSet, HashMap};

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
    /// What its type is made of, if that is known and not one of the system's.
    #[serde(default, skip_serializing_if = "Made::is_unknown")]
    pub(crate) made: Made,
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
    /// What tells of every change from here on, in its place: an event trigger, by numbers that change when it does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) told_by: Option<String>,
    /// The columns of which it was told that their values are not known, before the next look is passed.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub(crate) told: BTreeSet<u32>,
    /// Names that values had and that may still come.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub(crate) former: Vec<Former>,
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

    /// A later state in which what is not told is as it is here: what types are made of, and names that may still come.
    pub(crate) fn filled(&self, mut later: Self) -> Self {
        for column in later.columns.iter_mut().filter(|c| c.made.is_unknown()) {
            let was = self.column(column.number).filter(|was| was.type_id == column.type_id);
            column.made = was.map(|was| was.made.clone()).unwrap_or_default();
        }
        later.former.clone_from(&self.former);
        later.told.clone_from(&self.told);
        later.told_by.clone_from(&self.told_by);
        later
    }

    /// Whether a look saw another one, but for names that may still come.
    pub(crate) fn is_another_than(&self, seen: &Self) -> bool {
        (self.storage, self.count, &self.columns) != (seen.storage, seen.count, &seen.columns)
    }

    /// What came of the types of its columns until a look. Names that values had are remembered here for as long as they may come.
    pub(crate) fn types_to(&mut self, seen: &Self, horizon: Horizon) -> (Vec<OfType>, Vec<Unknown>) {
        let (mut types, mut unknown) = (Vec::new(), Vec::new());
        let mut former = std::mem::take(&mut self.former);
        former.retain(|f| f.may_come(horizon));
        for later in &seen.columns {
            let was = self.column(later.number).filter(|was| was.type_id == later.type_id);
            let Some(was) = was else { continue };
            let came = was.made.to(&later.made, later.number, &later.name, horizon);
            types.extend(came.types);
            unknown.extend(came.unknown);
            former.extend(came.former);
            if former.iter().any(|f| f.column == later.number && f.is_unclear(&later.made)) {
                let why = format!("a name that a value of column {} had is another one's now", later.name);
                unknown.push(Unknown { why, columns: Some(vec![later.number]) });
                former.retain(|f| f.column != later.number);
            }
        }
        former.retain(|f| seen.column(f.column).is_some());
        self.former = former;
        (types, unknown)
    }

    /// By former name, what values of a column are called now; none if there is none.
    pub(crate) fn present_names(&self, number: u32) -> Option<HashMap<Vec<u8>, Vec<u8>>> {
        let column = self.column(number)?;
        let of_it = self.former.iter().filter(|f| f.column == number);
        let names: HashMap<_, _> = of_it
            .filter_map(|f| f.now(&column.made))
            .map(|(former, now)| (former.as_bytes().to_vec(), now.as_bytes().to_vec()))
            .collect();
        (!names.is_empty()).then_some(names)
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

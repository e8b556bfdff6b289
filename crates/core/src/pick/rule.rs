//! What rules say about a table: exceptions to how a pipeline carries its tables.

use crate::model::drift::DriftPolicies;
use crate::model::gathered::Partitions;
use crate::model::kept_as::{Added, Deletes, Keep, KeptAs, Operation};
use crate::model::policy::{ExistingRows, Generated, Mismatch, OnMisfit, OnReject, Shape, Stamp};
use crate::model::types::LogicalType;
use indexmap::IndexMap;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::time::Duration;

/// What the rules say about one table.
#[derive(Clone, Debug, Default)]
pub struct TableRule {
    /// The declared key.
    pub key: Option<Vec<String>>,
    /// How the target table is named, if not as the pipeline says.
    pub into: Option<String>,
    /// Whether its rows stand together with those of other tables that go into the same target table.
    pub gather: Option<bool>,
    /// The column that says where a row came from.
    pub from_column: Option<String>,
    /// How that is said.
    pub from_name: Option<String>,
    /// Whether no two of such tables have a row of one key.
    pub disjoint_keys: Option<bool>,
    /// What the target table is made of.
    pub shape: Option<Shape>,
    /// What becomes of generated columns.
    pub generated: Option<Generated>,
    /// What partitions are in the target.
    pub partitions: Option<Partitions>,
    /// How old changes are that are folded.
    pub tidy_after: Option<Duration>,
    /// The only columns carried.
    pub only: Option<Vec<String>>,
    /// Columns not carried.
    pub drop: Vec<String>,
    /// New names of columns.
    pub rename: BTreeMap<String, String>,
    /// Columns whose values are converted.
    pub cast: BTreeMap<String, Cast>,
    /// Columns that the target has more.
    pub add: IndexMap<String, Addition>,
    /// Which rows are carried.
    pub condition: Option<String>,
    /// What the target table holds.
    pub keep: Option<Keep>,
    /// Whether a table that keeps changes has old values beside the new ones.
    pub old_values: Option<bool>,
    /// The operations whose changes are applied.
    pub operations: Option<Vec<Operation>>,
    /// What becomes of rows that were deleted in the source.
    pub deletes: Option<Deletes>,
    /// Other forms in which it is kept beside the first one.
    pub also: Option<Vec<AlsoKept>>,
    /// How columns are named in the target, where `rename` does not say.
    pub column_names: Option<String>,
    /// What added columns are called, by what they hold.
    pub added_columns: BTreeMap<Added, String>,
    /// Other words for operations.
    pub operation_words: BTreeMap<Operation, String>,
    /// Whether commit times of a trail are milliseconds.
    pub milliseconds: bool,
    /// How the view of current rows beside a table that keeps changes is named, if not as the pipeline says.
    pub view: Option<String>,
    /// What to do with rows that were there before.
    pub existing_rows: Option<ExistingRows>,
    /// What becomes of a change that the target refuses.
    pub on_reject: Option<OnReject>,
    /// What becomes of a change whose row the target holds otherwise.
    pub mismatch: Option<Mismatch>,
    /// What is done about changes of structure.
    pub drift: DriftPolicies,
}

/// What another form of a table is, beside the first one: what it keeps, and into which table.
#[derive(Clone, Debug)]
pub struct AlsoKept(pub(crate) TableRule);

impl AlsoKept {
    /// What rules say of this form of a table, given what they say of the first one.
    pub fn rule(&self, first: &TableRule) -> TableRule {
        let Self(form) = self;
        TableRule {
            into: form.into.clone(),
            keep: form.keep,
            old_values: form.old_values,
            operations: form.operations.clone(),
            deletes: form.deletes,
            view: form.view.clone(),
            also: None,
            ..first.clone()
        }
    }
}

impl TableRule {
    /// Whether it says something of a column by its name, beside what expressions read.
    pub fn names(&self, column: &str) -> bool {
        let mut listed = self.drop.iter().chain(self.only.iter().flatten()).chain(self.key.iter().flatten());
        listed.any(|name| name == column)
            || self.rename.contains_key(column)
            || self.cast.contains_key(column)
    }

    /// How the target table keeps rows.
    pub fn kept_as(&self) -> KeptAs {
        let keep = self.keep.unwrap_or_default();
        let old_values = keep == Keep::Changes && self.old_values.unwrap_or_default();
        let has = |operation| self.operations.as_ref().is_none_or(|all| all.contains(&operation));
        let all = [Operation::Insert, Operation::Update, Operation::Delete];
        let mut leaves_out: Vec<Operation> = all.into_iter().filter(|o| !has(*o)).collect();
        let mut deletes = self.deletes.unwrap_or_default();
        if leaves_out.contains(&Operation::Delete) && keep != Keep::Changes {
            deletes = Deletes::Ignore;
        }
        if deletes == Deletes::Ignore && !leaves_out.contains(&Operation::Delete) {
            leaves_out.push(Operation::Delete);
        }
        if leaves_out.contains(&Operation::Delete) {
            leaves_out.push(Operation::Truncate);
        }
        let names = self.added_columns.clone().into_iter();
        let is_added = |added: &Added| {
            keep.adds().contains(added)
                || (*added == Added::IsDelete && keep == Keep::Changes)
                || (*added == Added::DeletedAt && deletes == Deletes::Mark)
        };
        let names = names.filter(|(added, _)| is_added(added)).collect();
        let is_trail = keep == Keep::Changes;
        let words = if is_trail { self.operation_words.clone() } else { BTreeMap::new() };
        let milliseconds = is_trail && self.milliseconds;
        KeptAs { keep, old_values, deletes, leaves_out, names, words, milliseconds, view: None }
    }

    /// Adds what a later rule says, which wins.
    pub(super) fn overlay(&mut self, later: &Self) {
        fn win<T: Clone>(earlier: &mut Option<T>, later: &Option<T>) {
            if later.is_some() {
                earlier.clone_from(later);
            }
        }
        let copied = |(name, value): (&String, &String)| (name.clone(), value.clone());
        win(&mut self.key, &later.key);
        win(&mut self.into, &later.into);
        win(&mut self.gather, &later.gather);
        win(&mut self.from_column, &later.from_column);
        win(&mut self.from_name, &later.from_name);
        win(&mut self.disjoint_keys, &later.disjoint_keys);
        win(&mut self.shape, &later.shape);
        win(&mut self.generated, &later.generated);
        win(&mut self.partitions, &later.partitions);
        win(&mut self.tidy_after, &later.tidy_after);
        win(&mut self.only, &later.only);
        self.drop.extend(later.drop.iter().cloned());
        self.rename.extend(later.rename.iter().map(copied));
        self.cast.extend(later.cast.iter().map(|(name, cast)| (name.clone(), cast.clone())));
        self.add.extend(later.add.iter().map(|(name, add)| (name.clone(), add.clone())));
        win(&mut self.condition, &later.condition);
        win(&mut self.keep, &later.keep);
        win(&mut self.old_values, &later.old_values);
        win(&mut self.operations, &later.operations);
        win(&mut self.deletes, &later.deletes);
        win(&mut self.also, &later.also);
        win(&mut self.column_names, &later.column_names);
        win(&mut self.view, &later.view);
        win(&mut self.existing_rows, &later.existing_rows);
        win(&mut self.on_reject, &later.on_reject);
        win(&mut self.mismatch, &later.mismatch);
        self.drift.overlay(&later.drift);
    }
}

/// The type that a column's values are converted to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Cast {
    /// The type.
    pub to: LogicalType,
    /// What to do with values that do not fit.
    pub misfit: OnMisfit,
}

/// Where the values of a column that the target has more come from.
#[derive(Clone, Debug, PartialEq)]
pub enum Addition {
    /// Something that Moorage knows of the row.
    Stamp(Stamp),
    /// The same for all rows.
    Constant(Constant),
    /// Computed from the row's columns, in SQL.
    Expression(String),
}

/// A value in the project file.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(untagged)]
pub enum Constant {
    /// True or false.
    Bool(bool),
    /// A whole number.
    Int(i64),
    /// A float.
    Float(f64),
    /// A text.
    Text(String),
}

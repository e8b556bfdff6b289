//! What is done to a target table when its source's structure has changed, as data: targets carry it out.

use crate::change::structure::Step;
use crate::plan::table::TablePlan;
use arrow::array::RecordBatch;
use std::sync::Arc;

/// One step.
#[derive(Clone, Debug)]
pub enum AlterStep {
    /// A column comes, the one at this place of the new plan. Rows that are there get the value of the one row and column
    /// given, or null. Rows that are written later bring their own.
    Add {
        /// Its place.
        column: usize,
        /// The value for rows that are there; none for null.
        value: Option<RecordBatch>,
    },
    /// A column gets another name.
    Rename {
        /// As it is called.
        from: String,
        /// As it will be.
        to: String,
    },
    /// The column at this place of the new plan is declared as the plan says: at once, with no value becoming another one.
    Widen {
        /// Its place.
        column: usize,
    },
    /// A value of the column at this place of the new plan is called otherwise, in every row that has it.
    Relabel {
        /// Its place.
        column: usize,
        /// As it was called.
        from: String,
        /// As it is called.
        to: String,
    },
    /// A column goes, with its values.
    Drop {
        /// Its name.
        name: String,
    },
}

impl AlterStep {
    /// Whether it changes the table, not just its rows: then whoever reads it may have to wait.
    pub fn is_of_table(&self) -> bool {
        !matches!(self, Self::Relabel { .. })
    }
}

/// How a table goes on behind an alteration.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Then {
    /// Its changes are merged.
    Merges,
    /// Its changes are kept until someone decides; there is no step, and the plan is the one before.
    Holds,
    /// Its rows are not to be relied on any more, and are read again; there is no step.
    Rereads,
}

/// What becomes of a table between two changes of its rows.
#[derive(Clone, Debug)]
pub struct Alteration {
    /// How it was carried.
    pub before: Arc<TablePlan>,
    /// How it is carried from here on.
    pub after: Arc<TablePlan>,
    /// In this order. None: only the plan is another one.
    pub steps: Vec<AlterStep>,
    /// How it goes on.
    pub then: Then,
    /// What the source's change was, for people.
    pub what: String,
    /// The number of the record that is kept of it; 0 if there is none.
    pub id: u64,
    /// The change itself.
    pub step: Arc<Step>,
}

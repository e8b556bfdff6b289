//! What is done to a target table when its source's structure has changed, as data: targets carry it out.

use crate::change::block::ChangeBlock;
use crate::change::structure::Step;
use crate::plan::table::{PlannedColumn, TablePlan};
use arrow::array::{
    Array, ArrayRef, RecordBatch, RecordBatchOptions, StringArray, UInt32Array, new_null_array,
};
use arrow::compute::{cast, take};
use arrow::datatypes::DataType;
use arrow::error::ArrowError;
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
    /// What following it would come to, of one that holds, as far as can be told.
    pub would: Option<Arc<Alteration>>,
    /// The same for the other forms of the table.
    pub also: Vec<Alteration>,
}

impl Alteration {
    /// The same where the table is to be read again as it is behind it: the target's is not altered.
    pub fn unread(&self) -> Self {
        let also = self.also.iter().map(Self::unread).collect();
        Self { steps: Vec::new(), then: Then::Rereads, would: None, also, ..self.clone() }
    }

    /// The same with what it is for each other form: `of` gives that, from how the form was carried and will be.
    #[must_use]
    pub fn of_forms(self, of: impl Fn(&Arc<TablePlan>, &Arc<TablePlan>) -> Vec<AlterStep>) -> Self {
        let form = |after: &Arc<TablePlan>| {
            let before =
                self.before.also.iter().find(|before| before.target == after.target).unwrap_or(after);
            Self {
                before: before.clone(),
                after: after.clone(),
                steps: if self.then == Then::Merges { of(before, after) } else { Vec::new() },
                id: 0,
                would: None,
                also: Vec::new(),
                ..self.clone()
            }
        };
        let also = self.after.also.iter().map(form).collect();
        Self { also, ..self }
    }

    /// A change that is kept as the target's table was before, as it is behind the steps: what was set aside, for example.
    /// Rows from before a column have the value in it that those have which are there.
    ///
    /// # Errors
    /// If a value is not one of its column's type any more.
    pub fn carried(&self, block: ChangeBlock) -> Result<ChangeBlock, ArrowError> {
        let places = self.places();
        let schema = self.after.mapped.arrow();
        let rows = |rows: &RecordBatch| {
            let column = |(to, from): (usize, &Option<usize>)| -> Result<ArrayRef, ArrowError> {
                let of_type = schema.field(to).data_type();
                let found = match from {
                    Some(from) => cast(rows.column(*from), of_type)?,
                    None => self.given(to, rows.num_rows(), of_type)?,
                };
                Ok(self.relabelled(to, found))
            };
            let columns = places.iter().enumerate().map(column).collect::<Result<Vec<_>, _>>()?;
            let options = RecordBatchOptions::new().with_row_count(Some(rows.num_rows()));
            RecordBatch::try_new_with_options(schema.clone(), columns, &options)
        };
        block.reshaped(&self.after.mapped, &places, rows)
    }

    /// For each column of the new plan its place in the old one, if it had one.
    fn places(&self) -> Vec<Option<usize>> {
        let mut names: Vec<Option<String>> =
            self.before.columns.iter().map(|column| Some(column.name.clone())).collect();
        let mut added = Vec::new();
        for step in &self.steps {
            match step {
                AlterStep::Rename { from, to } => {
                    let of = names.iter_mut().filter(|name| name.as_ref() == Some(from));
                    of.for_each(|name| *name = Some(to.clone()));
                }
                AlterStep::Drop { name } => {
                    let of = names.iter_mut().filter(|found| found.as_ref() == Some(name));
                    of.for_each(|found| *found = None);
                }
                AlterStep::Add { column, .. } => added.push(*column),
                AlterStep::Widen { .. } | AlterStep::Relabel { .. } => {}
            }
        }
        let place = |(at, column): (usize, &PlannedColumn)| match added.contains(&at) {
            true => None,
            false => names.iter().position(|name| name.as_ref() == Some(&column.name)),
        };
        self.after.columns.iter().enumerate().map(place).collect()
    }

    /// So many rows of a column that came.
    fn given(&self, at: usize, rows: usize, of_type: &DataType) -> Result<ArrayRef, ArrowError> {
        let value = self.steps.iter().find_map(|step| match step {
            AlterStep::Add { column, value: Some(value) } if *column == at => Some(value.column(0)),
            _ => None,
        });
        match value {
            Some(value) => cast(&take(value, &UInt32Array::from(vec![0; rows]), None)?, of_type),
            None => Ok(new_null_array(of_type, rows)),
        }
    }

    /// The values of a column as they are called now.
    fn relabelled(&self, at: usize, values: ArrayRef) -> ArrayRef {
        let names = self.steps.iter().filter_map(|step| match step {
            AlterStep::Relabel { column, from, to } if *column == at => Some((from, to)),
            _ => None,
        });
        let names: Vec<_> = names.collect();
        let Some(texts) = values.as_any().downcast_ref::<StringArray>().filter(|_| !names.is_empty()) else {
            return values;
        };
        let now = |text: &str| {
            let found = names.iter().find(|(from, _)| *from == text);
            found.map_or_else(|| text.to_string(), |(_, to)| (*to).clone())
        };
        Arc::new(texts.iter().map(|text| text.map(now)).collect::<StringArray>())
    }
}

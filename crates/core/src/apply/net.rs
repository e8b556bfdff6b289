//! What reducing a batch leaves: rows that are there, rows that are gone.

use crate::change::block::ChangeBlock;
use crate::change::kind::Change;
use crate::value::canonical::write_equal;
use crate::value::column::{Value, value_at, value_text};

/// A row image: which block, which row of it, old or new.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ImageRef {
    /// Index of the block.
    pub block: u32,
    /// Row in the block's old or new images.
    pub row: u32,
    /// Whether it is an old image.
    pub old: bool,
}

impl ImageRef {
    /// The value of one column of this image.
    pub fn value<'a>(&self, blocks: &[&'a ChangeBlock], column: usize) -> Value<'a> {
        let block = blocks[self.block as usize];
        let rows = if self.old { block.old_rows() } else { block.new_rows() };
        value_at(rows.column(column).as_ref(), self.row as usize)
    }
}

/// Where a row's values are.
#[derive(Clone, Debug)]
pub enum Cells {
    /// All in one image.
    Whole(ImageRef),
    /// The first columns, so many, in one image, and those behind them in another.
    Beside {
        /// Where the first ones are.
        first: ImageRef,
        /// How many they are.
        width: u32,
        /// Where the others are.
        rest: ImageRef,
    },
    /// Column by column; `None` where the batch carries no value and the target's must stay.
    Mixed(Box<[Option<ImageRef>]>),
}

impl Cells {
    /// The image that holds a column's value, if the batch carries it.
    pub fn at(&self, column: usize) -> Option<ImageRef> {
        match self {
            Cells::Whole(image) => Some(*image),
            Cells::Beside { first, width, rest } => {
                Some(if column < *width as usize { *first } else { *rest })
            }
            Cells::Mixed(cells) => cells[column],
        }
    }

    /// Whether every column has a value.
    pub fn is_complete(&self) -> bool {
        match self {
            Cells::Whole(_) | Cells::Beside { .. } => true,
            Cells::Mixed(cells) => cells.iter().all(Option::is_some),
        }
    }
}

/// A row that exists after the batch and was touched by it.
#[derive(Clone, Debug)]
pub struct NetRow {
    /// Its values. The key's columns always have one.
    pub cells: Cells,
    /// The key that the row had in the target before the batch, if that was another one and columns
    /// are missing here.
    pub moved_from: Option<Cells>,
    /// Whether the batch first saw this row as an insert, so that the target cannot have the key yet.
    pub must_be_new: bool,
    /// Whether the target's row at this key was there before the batch, as the batch assumes.
    pub was_there: bool,
}

/// A row that must not exist after the batch.
#[derive(Clone, Debug)]
pub struct GoneRow {
    /// Its key; all columns where that is the whole row.
    pub key: Cells,
    /// Whether it was there before the batch, as the batch assumes.
    pub was_there: bool,
}

/// Why a batch cannot be reduced. Each means that the table's log and its key do not fit together.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ReduceError {
    /// Two rows with one key at the same time.
    #[error("{table}: a second row with the key ({key}) arrived while the first is still there")]
    DuplicateKey {
        /// The table.
        table: String,
        /// The key's values.
        key: String,
    },
    /// A change to a row that the same batch had removed.
    #[error("{table}: a change to the row with the key ({key}) arrived after the row was deleted")]
    ChangeAfterDelete {
        /// The table.
        table: String,
        /// The key's values.
        key: String,
    },
    /// A declared key that two rows had at once.
    #[error(
        "{table}: two rows had the declared key ({key}) at the same time, if only within a transaction. Without `key` in the rule all columns tell rows apart"
    )]
    TwoAtOnce {
        /// The table.
        table: String,
        /// The key's values.
        key: String,
    },
    /// A row that left the filter and came back without all its values.
    #[error(
        "{table}: the row with the key ({key}) came back into the filter, and the log left out its large values that did not change. Have the source's log carry whole rows (`moorage check` has the statement), then run `moorage resnapshot {table}`"
    )]
    Incomplete {
        /// The table.
        table: String,
        /// The key's values.
        key: String,
    },
    /// A null, or no value at all, in a key column.
    #[error("{table}: key column {column} has no value in a captured change")]
    KeyMissing {
        /// The table.
        table: String,
        /// The column.
        column: String,
    },
    /// What is added to a row for what the table keeps does not fit.
    #[error("{table}: what the table keeps cannot be written: {what}")]
    Added {
        /// The table.
        table: String,
        /// What is wrong.
        what: String,
    },
    /// The log did not carry the old row where the whole row is the key.
    #[error("{table}: a captured change does not carry the whole old row, which a table without a key needs")]
    OldRowMissing {
        /// The table.
        table: String,
    },
}

/// The new image, with values the log left out taken from the old image where that has them.
pub(super) fn new_cells(block: u32, change: &Change<'_>, width: usize, key: &[usize]) -> Cells {
    let image = ImageRef { block, row: change.new.unwrap_or(0) as u32, old: false };
    let Some(unchanged) = change.unchanged else { return Cells::Whole(image) };
    let old = change.old.map(|row| ImageRef { block, row: row as u32, old: true });
    let cells = (0..width).map(|c| match (unchanged[c], old) {
        (false, _) => Some(image),
        (true, Some(old)) if change.old_is_whole || key.contains(&c) => Some(old),
        (true, _) => None,
    });
    Cells::Mixed(cells.collect())
}

pub(super) fn old_cells(block: u32, change: &Change<'_>) -> Cells {
    Cells::Whole(ImageRef { block, row: change.old.unwrap_or(0) as u32, old: true })
}

/// Whether two images have the same values in some columns; none if one of them lacks a value, and the others are the same.
pub(super) fn same_row(
    blocks: &[&ChangeBlock],
    one: &Cells,
    other: &Cells,
    columns: impl Iterator<Item = usize>,
) -> Option<bool> {
    let (mut first, mut second, mut is_known) = (Vec::new(), Vec::new(), true);
    for column in columns {
        let value = |cells: &Cells| cells.at(column).map(|image| image.value(blocks, column));
        let (Some(one), Some(other)) = (value(one), value(other)) else {
            is_known = false;
            continue;
        };
        first.clear();
        second.clear();
        one.write_key(&mut first);
        other.write_key(&mut second);
        if first != second {
            return Some(false);
        }
    }
    is_known.then_some(true)
}

/// A key's values for people.
pub(super) fn key_text(blocks: &[&ChangeBlock], cells: &Cells, key: &[usize]) -> String {
    let value =
        |c: &usize| cells.at(*c).map(|i| value_text(i.value(blocks, *c)).unwrap_or_else(|| "null".into()));
    key.iter().filter_map(value).collect::<Vec<_>>().join(", ")
}

/// Appends a key's values in the form of [`write_equal`]: keys that a system may take for one are written alike.
pub(super) fn write_equal_keys(
    blocks: &[&ChangeBlock],
    cells: &Cells,
    key: &[usize],
    out: &mut Vec<u8>,
) -> Result<(), ReduceError> {
    let columns = &blocks[0].schema().columns;
    each_key(blocks, cells, key, |column, value| write_equal(&columns[column].logical, value, out))
}

/// Appends a key's values in the form of [`Value::write_key`].
pub(super) fn write_keys(
    blocks: &[&ChangeBlock],
    cells: &Cells,
    key: &[usize],
    out: &mut Vec<u8>,
) -> Result<(), ReduceError> {
    each_key(blocks, cells, key, |_, value| value.write_key(out))
}

fn each_key<'a>(
    blocks: &[&'a ChangeBlock],
    cells: &Cells,
    key: &[usize],
    mut write: impl FnMut(usize, Value<'a>),
) -> Result<(), ReduceError> {
    for &column in key {
        match cells.at(column).map(|image| image.value(blocks, column)) {
            None | Some(Value::Null) => {
                let schema = blocks[0].schema();
                return Err(ReduceError::KeyMissing {
                    table: schema.table.to_string(),
                    column: schema.columns[column].name.clone(),
                });
            }
            Some(value) => write(column, value),
        }
    }
    Ok(())
}

//! Carrying out on a table's rows what a batch does to it.

use crate::as_target::values::{key_words, lake_column, lake_schema};
use crate::rows::key::Keys;
use crate::table::find::At;
use crate::table::work::Work;
use arrow::array::{Array, ArrayRef, RecordBatch, RecordBatchOptions, new_null_array};
use arrow::compute::interleave;
use moorage_adapter::{AdapterError, Lack, Result};
use moorage_core::apply::net::{Cells, GoneRow, NetRow};
use moorage_core::apply::prepare::TableBatch;
use moorage_core::apply::write_set::Write;
use moorage_core::change::block::ChangeBlock;
use moorage_core::change::counters::{Adjusted, TableCounters};
use moorage_core::model::policy::Mismatch;
use moorage_core::model::schema::RowIdentity;
use moorage_core::plan::table::TablePlan;
use std::collections::{BTreeMap, BTreeSet};

/// A batch of one table, whose images are looked into.
struct Merging<'a> {
    plan: &'a TablePlan,
    batch: &'a TableBatch,
    blocks: Vec<&'a ChangeBlock>,
    adjusted: Adjusted,
}

/// Carries a batch out; gives its counters.
///
/// # Errors
/// If a row is not as the changes assume, or a value does not fit. The work is of no use then.
pub(crate) async fn merge(work: &mut Work, batch: &TableBatch) -> Result<TableCounters> {
    let plan = batch.plan.as_ref();
    let mut merging = Merging { plan, batch, blocks: batch.images(), adjusted: Adjusted::default() };
    let borrowed = merging.borrow(work).await?;
    for step in batch.set.steps() {
        match step {
            Write::Empty => work.empty(&BTreeSet::new()),
            Write::Remove(gone) => merging.remove(work, gone).await?,
            Write::RemoveEqual(gone) => merging.remove_equal(work, gone).await?,
            Write::Append(rows) => {
                let rows = merging.rows(&rows)?;
                work.append(rows).await?;
            }
            Write::Put(rows) => merging.put(work, &rows, &borrowed).await?,
            Write::Patch(rows) => merging.patch(work, &rows).await?,
            Write::End(..) | Write::EndRest(_) | Write::Mark(_) => {
                return Err(AdapterError::Lacking { system: "delta".into(), lack: Lack::Keeping });
            }
        }
    }
    Ok(TableCounters { adjusted: merging.adjusted, ..batch.set.counters })
}

impl Merging<'_> {
    /// A column of images as the source has it; null where there is none.
    fn column(&self, cells: &[&Cells], column: usize) -> Result<ArrayRef> {
        let logical = &self.plan.mapped.columns[column].logical;
        // The null row is the last of the arrays.
        let null = new_null_array(&logical.base(), 1);
        let mut arrays: Vec<&dyn Array> = Vec::with_capacity(self.blocks.len() * 2 + 1);
        for block in &self.blocks {
            for rows in [block.new_rows(), block.old_rows()] {
                arrays.push(rows.columns().get(column).map_or(null.as_ref(), AsRef::as_ref));
            }
        }
        arrays.push(null.as_ref());
        let index = |cells: &&Cells| match cells.at(column) {
            Some(image) => (image.block as usize * 2 + usize::from(image.old), image.row as usize),
            None => (arrays.len() - 1, 0),
        };
        let indices: Vec<(usize, usize)> = cells.iter().map(index).collect();
        Ok(interleave(&arrays, &indices)?)
    }

    /// Images of rows as the source has them, for what is said of them.
    fn images(&self, cells: &[&Cells]) -> Result<RecordBatch> {
        let columns =
            (0..self.plan.columns.len()).map(|c| self.column(cells, c)).collect::<Result<Vec<_>>>()?;
        let options = RecordBatchOptions::new().with_row_count(Some(cells.len()));
        Ok(RecordBatch::try_new_with_options(self.plan.mapped.arrow(), columns, &options)?)
    }

    /// A column of images as the table holds it.
    fn lake_column(&self, cells: &[&Cells], column: usize) -> Result<ArrayRef> {
        let values = self.column(cells, column)?;
        lake_column(self.plan, column, &values, |row| self.words(cells[row]))
    }

    fn words(&self, cells: &Cells) -> String {
        self.images(&[cells]).map(|rows| key_words(self.plan, &rows, 0)).unwrap_or_default()
    }

    /// The keys of images.
    fn keys(&self, cells: &[&Cells]) -> Result<Keys> {
        let columns =
            self.plan.key().iter().map(|&c| self.lake_column(cells, c)).collect::<Result<Vec<_>>>()?;
        Ok(Keys::of_columns(&columns))
    }

    fn cells(&self, rows: &[usize]) -> Vec<&Cells> {
        rows.iter().map(|&at| &self.batch.set.rows[at].cells).collect()
    }

    /// Whole rows as the table holds them.
    fn rows(&self, rows: &[usize]) -> Result<RecordBatch> {
        let cells = self.cells(rows);
        let columns =
            (0..self.plan.columns.len()).map(|c| self.lake_column(&cells, c)).collect::<Result<Vec<_>>>()?;
        let options = RecordBatchOptions::new().with_row_count(Some(rows.len()));
        Ok(RecordBatch::try_new_with_options(lake_schema(self.plan), columns, &options)?)
    }

    /// The same, with values from other rows of the table where the images have none; `places` says for each row which one.
    async fn rows_with(&self, work: &Work, rows: &[usize], places: &[Option<At>]) -> Result<RecordBatch> {
        let cells = self.cells(rows);
        let width = self.plan.columns.len();
        let lacking: Vec<usize> =
            (0..width).filter(|&c| cells.iter().any(|cells| cells.at(c).is_none())).collect();
        let read: Vec<At> = places.iter().flatten().cloned().collect();
        let there = match read.is_empty() || lacking.is_empty() {
            true => None,
            false => Some(work.read(&read, &lacking).await?),
        };
        // For each row its place among those that were read.
        let mut next = 0..;
        let read_at: Vec<Option<usize>> =
            places.iter().map(|p| p.as_ref().and_then(|_| next.next())).collect();
        let column = |c: usize| -> Result<ArrayRef> {
            let own = self.lake_column(&cells, c)?;
            let Some((place, there)) = lacking.iter().position(|&l| l == c).zip(there.as_ref()) else {
                return Ok(own);
            };
            let index = |(at, cells): (usize, &&Cells)| match read_at[at].filter(|_| cells.at(c).is_none()) {
                Some(read) => (1, read),
                None => (0, at),
            };
            let indices: Vec<(usize, usize)> = cells.iter().enumerate().map(index).collect();
            Ok(interleave(&[own.as_ref(), there.column(place).as_ref()], &indices)?)
        };
        let columns = (0..width).map(column).collect::<Result<Vec<_>>>()?;
        let options = RecordBatchOptions::new().with_row_count(Some(rows.len()));
        Ok(RecordBatch::try_new_with_options(lake_schema(self.plan), columns, &options)?)
    }

    /// A row that is not as the changes assume: refused, or counted.
    fn differs(
        &mut self,
        cells: &Cells,
        what: &str,
        count: impl Fn(&mut Adjusted) -> &mut u64,
    ) -> Result<()> {
        *count(&mut self.adjusted) += 1;
        if self.plan.mismatch == Mismatch::Adjust {
            return Ok(());
        }
        let (table, row) = (self.plan.table(), self.words(cells));
        let reason = format!(
            "the row {row} {what}: the table was changed by someone else. Nothing of the batch was applied. Run `moorage resnapshot {table}`; or let such rows be adjusted: mismatch = \"adjust\" in a rule of the project file"
        );
        Err(AdapterError::refused(
            moorage_adapter::Doing::to("writing to the lake table", &self.plan.target),
            reason,
        ))
    }

    async fn remove(&mut self, work: &mut Work, gone: &[GoneRow]) -> Result<()> {
        let cells: Vec<&Cells> = gone.iter().map(|row| &row.key).collect();
        let found = work.take(self.keys(&cells)?).await?;
        for (row, found) in gone.iter().zip(found) {
            if row.was_there && found.is_none() {
                self.differs(&row.key, "was to be deleted and is not there", |a| &mut a.deletes_of_missing)?;
            }
        }
        Ok(())
    }

    async fn remove_equal(&mut self, work: &mut Work, gone: &[GoneRow]) -> Result<()> {
        let cells: Vec<&Cells> = gone.iter().map(|row| &row.key).collect();
        let columns =
            (0..self.plan.columns.len()).map(|c| self.lake_column(&cells, c)).collect::<Result<Vec<_>>>()?;
        let found = work.take(Keys::of_rows(&columns, cells.len())).await?;
        for (row, found) in gone.iter().zip(found) {
            if found.is_none() {
                self.differs(&row.key, "was to be deleted and is not there", |a| &mut a.deletes_of_missing)?;
            }
        }
        Ok(())
    }

    /// Whether a row that is there already shows that a key which only the project file says is one is none.
    fn is_second(&self, row: &NetRow) -> bool {
        matches!(self.plan.mapped.identity, RowIdentity::DeclaredKey(_))
            && row.must_be_new
            && self.plan.mismatch != Mismatch::Adjust
    }

    fn second_row(&self) -> AdapterError {
        AdapterError::Value {
            table: self.plan.table().to_string(),
            what: format!(
                "a second row with the same declared key ({}) arrived. The key in the project file does not tell rows apart: declare another, then run `moorage resnapshot {}`",
                self.plan.mapped.key_names().join(", "),
                self.plan.table()
            ),
        }
    }

    /// Finds the rows that others will stand in for; each must be there, or not, as the changes assume.
    async fn replaced(&mut self, work: &mut Work, rows: &[usize]) -> Result<Vec<Option<At>>> {
        let found = work.take(self.keys(&self.cells(rows))?).await?;
        for (&at, found) in rows.iter().zip(&found) {
            let row = &self.batch.set.rows[at];
            match (found.is_some(), row.was_there) {
                (false, true) => {
                    self.differs(&row.cells, "was to be updated and is not there", |a| {
                        &mut a.updates_of_missing
                    })?;
                }
                (true, false) if self.is_second(row) => return Err(self.second_row()),
                (true, false) => {
                    self.differs(&row.cells, "was to be inserted and is there", |a| {
                        &mut a.inserts_of_present
                    })?;
                }
                _ => {}
            }
        }
        Ok(found)
    }

    async fn put(
        &mut self,
        work: &mut Work,
        rows: &[usize],
        borrowed: &BTreeMap<usize, Option<At>>,
    ) -> Result<()> {
        self.replaced(work, rows).await?;
        let places: Vec<Option<At>> = rows.iter().map(|at| borrowed.get(at).cloned().flatten()).collect();
        let rows = self.rows_with(work, rows, &places).await?;
        work.append(rows).await
    }

    async fn patch(&mut self, work: &mut Work, rows: &[usize]) -> Result<()> {
        let places = self.replaced(work, rows).await?;
        let rows = self.rows_with(work, rows, &places).await?;
        work.append(rows).await
    }

    /// Where the rows are now that others take values from: they may be gone by then.
    async fn borrow(&self, work: &mut Work) -> Result<BTreeMap<usize, Option<At>>> {
        let (numbers, cells): (Vec<usize>, Vec<&Cells>) = self.batch.set.borrowed().unzip();
        if numbers.is_empty() {
            return Ok(BTreeMap::new());
        }
        let found = work.find(self.keys(&cells)?).await?;
        Ok(numbers.into_iter().zip(found).collect())
    }
}

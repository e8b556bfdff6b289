//! Rows of several files in one order, in memory that does not grow with how many they are: a file that is in that order is read
//! as it stands; of others, sorted stretches are put aside on this machine first.

use arrow::array::{RecordBatch, UInt32Array};
use arrow::compute::{concat_batches, interleave_record_batch, take_record_batch};
use arrow::datatypes::SchemaRef;
use arrow::ipc::reader::StreamReader;
use arrow::ipc::writer::StreamWriter;
use moorage_adapter::{AdapterError, Result};
use std::cmp::Ordering;
use std::fs::File;
use std::io::{BufReader, Seek, SeekFrom};

/// Rows that are handed on at once.
const OUT_ROWS: usize = 4096;
/// Bytes of rows that are sorted at once, about.
const STRETCH_BYTES: usize = 16 << 20;
/// Rows of a stretch that are read at once.
const STRETCH_ROWS: usize = 512;

/// Rows, one batch after the other.
pub(crate) type Batches = Box<dyn Iterator<Item = Result<RecordBatch>>>;

/// Compares a row of one batch with a row of another.
pub(crate) type Compare = Box<dyn Fn((&RecordBatch, usize), (&RecordBatch, usize)) -> Ordering>;

/// Rows of a file, and what they have in common.
pub(crate) struct Part {
    /// Opens the rows; may be asked twice.
    pub(crate) open: Box<dyn Fn() -> Result<Batches>>,
    /// Handed on with each of them.
    pub(crate) kept: bool,
}

fn failed(error: impl ToString) -> AdapterError {
    AdapterError::Io { doing: "sorting rows of a lake table".into(), reason: error.to_string() }
}

/// Whether rows come in order.
fn is_sorted(batches: Batches, compare: &Compare) -> Result<bool> {
    let mut last: Option<RecordBatch> = None;
    for batch in batches {
        let batch = batch?;
        let mut before = last.as_ref().map(|last| (last, last.num_rows() - 1));
        for row in 0..batch.num_rows() {
            if before.is_some_and(|before| compare(before, (&batch, row)) == Ordering::Greater) {
                return Ok(false);
            }
            before = Some((&batch, row));
        }
        if batch.num_rows() > 0 {
            last = Some(batch);
        }
    }
    Ok(true)
}

/// Puts sorted stretches of rows aside.
fn stretches(schema: &SchemaRef, batches: Batches, compare: &Compare) -> Result<Vec<File>> {
    let (mut files, mut held, mut bytes) = (Vec::new(), Vec::new(), 0);
    for batch in batches {
        let batch = batch?;
        bytes += batch.get_array_memory_size();
        held.push(batch);
        if bytes >= STRETCH_BYTES {
            files.push(stretch(schema, &std::mem::take(&mut held), compare)?);
            bytes = 0;
        }
    }
    if !held.is_empty() {
        files.push(stretch(schema, &held, compare)?);
    }
    Ok(files)
}

fn stretch(schema: &SchemaRef, batches: &[RecordBatch], compare: &Compare) -> Result<File> {
    let all = concat_batches(schema, batches)?;
    let mut order: Vec<u32> = (0..all.num_rows() as u32).collect();
    order.sort_by(|&a, &b| compare((&all, a as usize), (&all, b as usize)));
    let mut file = tempfile::tempfile().map_err(failed)?;
    let mut writer = StreamWriter::try_new_buffered(&mut file, schema)?;
    for rows in order.chunks(STRETCH_ROWS) {
        writer.write(&take_record_batch(&all, &UInt32Array::from(rows.to_vec()))?)?;
    }
    writer.finish()?;
    drop(writer);
    file.seek(SeekFrom::Start(0)).map_err(failed)?;
    Ok(file)
}

/// A stretch of rows in order, and how far it was read.
struct Run {
    batches: Batches,
    batch: RecordBatch,
    row: usize,
    kept: bool,
}

impl Run {
    fn begin(mut batches: Batches, kept: bool) -> Result<Option<Self>> {
        while let Some(batch) = batches.next().transpose()? {
            if batch.num_rows() > 0 {
                return Ok(Some(Self { batches, batch, row: 0, kept }));
            }
        }
        Ok(None)
    }

    /// Goes to the next row; gives the batch that was read to its end, and whether there is a row.
    fn advance(&mut self) -> Result<(Option<RecordBatch>, bool)> {
        self.row += 1;
        if self.row < self.batch.num_rows() {
            return Ok((None, true));
        }
        while let Some(next) = self.batches.next().transpose()? {
            if next.num_rows() > 0 {
                self.row = 0;
                return Ok((Some(std::mem::replace(&mut self.batch, next)), true));
            }
        }
        Ok((Some(self.batch.clone()), false))
    }
}

/// Hands on the rows of all parts in order, with what was said of their parts, until no more are wanted.
///
/// # Errors
/// If a part cannot be read.
pub(crate) fn merged(
    schema: &SchemaRef,
    parts: Vec<Part>,
    compare: &Compare,
    mut take: impl FnMut(RecordBatch, Vec<bool>) -> bool,
) -> Result<()> {
    let mut runs = Vec::new();
    for Part { open, kept } in parts {
        if is_sorted(open()?, compare)? {
            runs.extend(Run::begin(open()?, kept)?);
            continue;
        }
        for file in stretches(schema, open()?, compare)? {
            let reader = StreamReader::try_new(BufReader::new(file), None)?;
            let batches = reader.map(|batch| batch.map_err(AdapterError::from));
            runs.extend(Run::begin(Box::new(batches), kept)?);
        }
    }
    let mut out = Out::default();
    while !runs.is_empty() {
        // There are few runs, and most rows come from the one before: a heap would not be quicker.
        let mut first = 0;
        for at in 1..runs.len() {
            let (a, b) = (&runs[at], &runs[first]);
            if compare((&a.batch, a.row), (&b.batch, b.row)) == Ordering::Less {
                first = at;
            }
        }
        let run = &mut runs[first];
        out.push(&run.batch, run.row, run.kept);
        let (_, goes_on) = run.advance()?;
        if !goes_on {
            runs.swap_remove(first);
        }
        if out.places.len() >= OUT_ROWS && !out.hand_on(schema, &mut take)? {
            return Ok(());
        }
    }
    out.hand_on(schema, &mut take).map(|_| ())
}

/// Rows on their way out: which of which batch.
#[derive(Default)]
struct Out {
    batches: Vec<RecordBatch>,
    places: Vec<(usize, usize)>,
    kept: Vec<bool>,
}

impl Out {
    fn push(&mut self, batch: &RecordBatch, row: usize, kept: bool) {
        // Clones share their columns; the one that was last used is the likeliest.
        let same = |of: &RecordBatch| {
            of.columns()
                .first()
                .zip(batch.columns().first())
                .is_some_and(|(a, b)| std::sync::Arc::ptr_eq(a, b))
        };
        let at = self.batches.iter().rposition(same).unwrap_or_else(|| {
            self.batches.push(batch.clone());
            self.batches.len() - 1
        });
        self.places.push((at, row));
        self.kept.push(kept);
    }

    fn hand_on(
        &mut self,
        schema: &SchemaRef,
        take: &mut impl FnMut(RecordBatch, Vec<bool>) -> bool,
    ) -> Result<bool> {
        let Self { batches, places, kept } = std::mem::take(self);
        let rows = match batches.is_empty() {
            true => RecordBatch::new_empty(schema.clone()),
            false => interleave_record_batch(&batches.iter().collect::<Vec<_>>(), &places)?,
        };
        Ok(take(rows, kept))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow::array::{AsArray, Int64Array};
    use arrow::datatypes::{DataType, Field, Int64Type, Schema};
    use proptest::prelude::*;
    use std::sync::Arc;

    proptest! {
        #[test]
        fn all_rows_come_in_order(files in proptest::collection::vec((proptest::collection::vec(0i64..500, 0..300), any::<bool>()), 0..8)) {
            let schema: SchemaRef = Arc::new(Schema::new(vec![Field::new("id", DataType::Int64, true)]));
            let value = |(batch, row): (&RecordBatch, usize)| batch.column(0).as_primitive::<Int64Type>().value(row);
            let compare: Compare = Box::new(move |a, b| value(a).cmp(&value(b)));
            let mut expected: Vec<(i64, bool)> = Vec::new();
            let mut parts = Vec::new();
            for (mut ids, sorted) in files {
                if sorted {
                    ids.sort_unstable();
                }
                expected.extend(ids.iter().map(|id| (*id, sorted)));
                let of = schema.clone();
                let batches: Vec<RecordBatch> = ids
                    .chunks(37)
                    .map(|ids| RecordBatch::try_new(of.clone(), vec![Arc::new(Int64Array::from(ids.to_vec()))]).unwrap())
                    .collect();
                let open = Box::new(move || Ok(Box::new(batches.clone().into_iter().map(Ok)) as Batches));
                parts.push(Part { open, kept: sorted });
            }
            let mut found = Vec::new();
            merged(&schema, parts, &compare, |rows, kept| {
                found.extend(rows.column(0).as_primitive::<Int64Type>().values().iter().copied().zip(kept));
                true
            }).unwrap();
            prop_assert!(found.windows(2).all(|w| w[0].0 <= w[1].0));
            expected.sort_unstable();
            found.sort_unstable();
            prop_assert_eq!(found, expected);
        }
    }
}

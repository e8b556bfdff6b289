//! The changes of one table on their way into it, as few statements over whole sets of rows.
//!
//! Each step tells how far the rows it met differ
//! from what the changes assume of them; in a table that must be an exact copy a difference refuses the step.

use super::form::Form;
use super::kept;
use crate::as_target::state::Standing;
use crate::wire::connect::Session;
use crate::wire::encode::{Array, Flags, text};
use crate::wire::error::MERGING;
use crate::wire::trouble::{Refusal, Trouble, sort};
use arrow::array::RecordBatch;
use bytes::Bytes;
use futures_util::SinkExt;
use moorage_adapter::{AdapterError, Doing};
use moorage_core::apply::net::{Cells, GoneRow, NetRow};
use moorage_core::apply::prepare::TableBatch;
use moorage_core::apply::trail::unknown;
use moorage_core::apply::write_set::{Write, WriteSet};
use moorage_core::change::block::ChangeBlock;
use moorage_core::change::counters::Adjusted;
use moorage_core::model::kept_as::{Added, Keep};
use moorage_core::model::policy::Mismatch;
use moorage_core::plan::table::TablePlan;
use moorage_core::value::column::{Value, value_at};
use moorage_core::value::moment::Moment;
use std::borrow::Cow;
use std::cmp::Ordering;
use std::sync::Arc;
use tokio_postgres::Row;
use tokio_postgres::types::ToSql;

type Done<T> = std::result::Result<T, Trouble>;

/// From this many new rows on they are copied in instead of being handed over as arrays.
const COPY_FROM: usize = 100;

/// A table in a batch.
#[derive(Clone)]
pub(crate) struct Into {
    pub(crate) plan: Arc<TablePlan>,
    pub(crate) form: Arc<Form>,
    /// Whether the target must hold exactly the rows that changes assume.
    pub(crate) exact: bool,
    /// Whether rows of others are kept beside ours.
    pub(crate) keeps_rows: bool,
}

impl Into {
    /// A table as it is remembered. It has to be exactly as the changes assume where it is complete, holds nobody else's
    /// rows, and nobody said otherwise.
    pub(crate) fn of(plan: Arc<TablePlan>, form: Arc<Form>, standing: Option<&Standing>) -> Self {
        let keeps_rows = standing.is_some_and(|s| s.keeps_rows);
        let exact = standing.is_some_and(|s| s.live) && !keeps_rows && plan.mismatch == Mismatch::Reject;
        let exact = exact && plan.kept_as.is_exact();
        Self { plan, form, exact, keeps_rows }
    }
}

/// Columns of rows as array parameters.
pub(crate) struct Arrays<'a>(Vec<ArrayOf<'a>>);

enum ArrayOf<'a> {
    Values(Array<'a>),
    Texts(Vec<Option<String>>),
}

/// A value of a batch of rows.
pub(crate) fn rows_of(rows: &RecordBatch, column: usize, row: usize) -> Value<'_> {
    value_at(rows.column(column).as_ref(), row)
}

impl<'a> Arrays<'a> {
    /// Some columns of so many rows.
    pub(crate) fn of_columns(
        columns: &[usize],
        rows: usize,
        value: impl Fn(usize, usize) -> Value<'a>,
    ) -> Self {
        let array = |&column: &usize| Array((0..rows).map(|row| value(column, row)).collect());
        Self(columns.iter().map(|c| ArrayOf::Values(array(c))).collect())
    }

    /// The same as texts, for a form [of texts](Form::of_texts).
    fn of_texts(columns: &[usize], rows: usize, value: impl Fn(usize, usize) -> Value<'a>) -> Self {
        let array = |&column: &usize| (0..rows).map(|row| text(value(column, row))).collect();
        Self(columns.iter().map(|c| ArrayOf::Texts(array(c))).collect())
    }

    fn parameters<'b>(&'b self, more: &[&'b (dyn ToSql + Sync)]) -> Vec<&'b (dyn ToSql + Sync)> {
        let arrays = self.0.iter().map(|a| match a {
            ArrayOf::Values(values) => values as &(dyn ToSql + Sync),
            ArrayOf::Texts(texts) => texts,
        });
        arrays.chain(more.iter().copied()).collect()
    }

    /// Runs a statement with these and more parameters; gives how many rows it touched.
    pub(crate) async fn execute(
        &self,
        session: &Session,
        doing: &Doing,
        sql: &str,
        more: &[&(dyn ToSql + Sync)],
    ) -> Done<u64> {
        let trouble = |e: tokio_postgres::Error| sort(session.address(), doing, &e);
        let statement = session.statement(sql).await.map_err(trouble)?;
        session.client().execute(&statement, &self.parameters(more)).await.map_err(trouble)
    }

    async fn query(
        &self,
        session: &Session,
        doing: &Doing,
        sql: &str,
        more: &[&(dyn ToSql + Sync)],
    ) -> Done<Vec<Row>> {
        let trouble = |e: tokio_postgres::Error| sort(session.address(), doing, &e);
        let statement = session.statement(sql).await.map_err(trouble)?;
        session.client().query(&statement, &self.parameters(more)).await.map_err(trouble)
    }
}

/// What is done to a table, with what had to be read from the target for them.
pub(crate) struct Work<'a> {
    pub(crate) session: &'a Session,
    pub(crate) into: &'a Into,
    blocks: Vec<&'a ChangeBlock>,
    pub(crate) set: Cow<'a, WriteSet>,
    /// For rows that lack columns: all columns of the target's row as text, where it is needed.
    fetched: Vec<Option<Vec<Option<String>>>>,
    /// Whether a difference from what the changes assume refuses them.
    exact: bool,
}

impl<'a> Work<'a> {
    /// Work on a prepared batch.
    pub(crate) async fn new(session: &'a Session, into: &'a Into, batch: &'a TableBatch) -> Done<Self> {
        Self::begin(session, into, batch.images(), Cow::Borrowed(&batch.set)).await
    }

    /// Work on some changes of a batch.
    pub(crate) async fn some(
        session: &'a Session,
        into: &'a Into,
        blocks: Vec<&'a ChangeBlock>,
    ) -> Done<Self> {
        let set = moorage_core::apply::reduce::reduce(&blocks)?;
        Self::begin(session, into, blocks, Cow::Owned(set)).await
    }

    /// Reads what the changes left out of rows that move to another key.
    async fn begin(
        session: &'a Session,
        into: &'a Into,
        blocks: Vec<&'a ChangeBlock>,
        set: Cow<'a, WriteSet>,
    ) -> Done<Self> {
        let exact = into.exact && !blocks.iter().any(|b| b.is_blind());
        let mut work = Self { session, into, blocks, set, fetched: Vec::new(), exact };
        if work.set.borrowed().next().is_some() {
            work.fetch(false).await?;
        }
        Ok(work)
    }

    fn doing(&self) -> Doing {
        Doing::to(MERGING, &self.into.plan.target)
    }

    fn cell(&self, cells: &Cells, column: usize) -> Value<'_> {
        cells.at(column).map_or(Value::Null, |image| image.value(&self.blocks, column))
    }

    /// Reads the target's rows for those that lack columns: those that move, or all of them.
    async fn fetch(&mut self, all: bool) -> Done<()> {
        let from = |row: &'_ NetRow| match &row.moved_from {
            Some(origin) => Some(origin.clone()),
            None if all && !row.cells.is_complete() => Some(row.cells.clone()),
            None => None,
        };
        let rows = self.set.rows.iter().enumerate();
        let wanted: Vec<(usize, Cells)> = rows.filter_map(|(at, row)| Some((at, from(row)?))).collect();
        let (form, doing) = (&self.into.form, self.doing());
        self.index_last_rows().await?;
        let arrays =
            Arrays::of_columns(&form.key, wanted.len(), |column, row| self.cell(&wanted[row].1, column));
        let places: Vec<i64> = wanted.iter().map(|(at, _)| *at as i64).collect();
        let found = arrays.query(self.session, &doing, &form.fetch(), &[&places]).await?;
        let mut fetched: Vec<Option<Vec<Option<String>>>> = vec![None; self.set.rows.len()];
        for row in found {
            let values = (1..=form.columns.len()).map(|c| row.get(c)).collect();
            fetched[row.get::<_, i64>(0).max(0) as usize] = Some(values);
        }
        for (at, _) in wanted {
            match (self.into.plan.place_of(Added::Unchanged), &mut fetched[at]) {
                // Of a trail what nobody knows is said.
                (Some(place), found) => {
                    let row = &self.set.rows[at];
                    let known = found.as_ref().map(|found| found[place].as_deref());
                    let unknown = unknown(&self.into.plan, row, known);
                    found.get_or_insert_with(|| vec![None; form.columns.len()])[place] = unknown;
                }
                (None, Some(_)) => {}
                (None, None) => {
                    return Err(Refusal::value(
                        "the change left out large values that did not change, and the target does not hold the row".into(),
                    )
                    .into());
                }
            }
        }
        self.fetched = fetched;
        Ok(())
    }

    /// Has the last rows of keys be found by an index, where a table has several of a key.
    async fn index_last_rows(&self) -> Done<()> {
        let Into { plan, form, .. } = self.into;
        let index = format!("moorage_match_{}", form.id);
        let Some(sql) = kept::last_row_index(plan, &form.relation, &index) else { return Ok(()) };
        let there = "SELECT EXISTS (SELECT FROM pg_class WHERE relname = $1 AND relkind = 'i')";
        if !self.session.one("looking for an index", there, &[&index]).await?.get::<_, bool>(0) {
            tracing::info!(
                "making an index of {}, by which values are found that the log leaves out",
                plan.target
            );
            self.session.run(Doing::to("making an index of table", &plan.target), &sql).await?;
        }
        Ok(())
    }

    /// A value of a row: its own, or the target's.
    fn value(&self, at: usize, column: usize) -> Value<'_> {
        let row = &self.set.rows[at];
        match (row.cells.at(column), self.fetched.get(at)) {
            (None, Some(Some(fetched))) => fetched[column].as_deref().map_or(Value::Null, Value::Text),
            _ => self.cell(&row.cells, column),
        }
    }

    /// Empties the table, if that is to be done.
    pub(crate) async fn truncate(&self) -> Done<()> {
        if self.set.empty { truncate(self.session, self.into).await } else { Ok(()) }
    }

    /// Removes the rows with these keys; gives how many there were.
    async fn remove(&self, keys: &[&Cells]) -> Done<u64> {
        if keys.is_empty() {
            return Ok(0);
        }
        let form = &self.into.form;
        let arrays = Arrays::of_columns(&form.key, keys.len(), |column, row| self.cell(keys[row], column));
        arrays.execute(self.session, &self.doing(), &form.delete(), &[]).await
    }

    /// Takes away the rows that have to go, but for [emptying](Self::truncate) the table.
    pub(crate) async fn delete(&self) -> Done<Adjusted> {
        let mut adjusted = Adjusted::default();
        for step in self.set.removals() {
            adjusted += match step {
                Write::Remove(gone) => self.delete_keys(gone).await?,
                Write::RemoveEqual(gone) => self.delete_equal(gone).await?,
                Write::End(gone, moments) => self.end(gone, moments).await?,
                Write::EndRest(moment) => {
                    self.of_all(self.into.form.end_rest().into_iter().flatten(), moment).await?
                }
                Write::Mark(moment) => self.of_all(self.into.form.mark_all(), moment).await?,
                _ => Adjusted::default(),
            };
        }
        Ok(adjusted)
    }

    /// Has versions end that are valid still.
    async fn end(&self, gone: &[GoneRow], moments: &[Moment]) -> Done<Adjusted> {
        let form = &self.into.form;
        let (Some(end), Some(void)) = (form.end(), form.void()) else { return Ok(Adjusted::default()) };
        let arrays =
            Arrays::of_columns(&form.key, gone.len(), |column, row| self.cell(&gone[row].key, column));
        let moments: Vec<String> = moments.iter().map(ToString::to_string).collect();
        let mut ended = 0;
        if self.set.ends.as_ref().is_some_and(|ends| ends.goes_on) {
            ended += arrays.execute(self.session, &self.doing(), &void, &[&moments]).await?;
        }
        ended += arrays.execute(self.session, &self.doing(), &end, &[&moments]).await?;
        let expected = gone.iter().filter(|row| row.was_there).count() as u64;
        self.judge(Adjusted { deletes_of_missing: expected.saturating_sub(ended), ..Adjusted::default() })
    }

    /// Statements about all rows, with a moment.
    async fn of_all(&self, all: impl IntoIterator<Item = String>, moment: Moment) -> Done<Adjusted> {
        let doing = self.doing();
        for sql in all {
            Arrays(Vec::new()).execute(self.session, &doing, &sql, &[&moment.to_string()]).await?;
        }
        Ok(Adjusted::default())
    }

    async fn delete_keys(&self, gone: &[GoneRow]) -> Done<Adjusted> {
        // In an exact table rows that the batch itself brought are not there to be removed.
        let there = gone.iter().filter(|g| g.was_there || !self.exact);
        let removed = self.remove(&there.map(|g| &g.key).collect::<Vec<_>>()).await?;
        let expected = gone.iter().filter(|g| g.was_there).count() as u64;
        self.judge(Adjusted { deletes_of_missing: expected.saturating_sub(removed), ..Adjusted::default() })
    }

    /// Removes the rows that are written again by [`insert_all`](Self::insert_all).
    pub(crate) async fn clear(&self) -> Done<Adjusted> {
        let (known, unknown): (Vec<&NetRow>, Vec<&NetRow>) = self.set.rows.iter().partition(|r| r.was_there);
        let keys: Vec<&Cells> = known.iter().map(|r| &r.cells).collect();
        let removed = self.remove(&keys).await?;
        let unknown: Vec<&Cells> = unknown.iter().map(|r| &r.cells).collect();
        let present = if self.exact { 0 } else { self.remove(&unknown).await? };
        self.judge(Adjusted {
            updates_of_missing: (known.len() as u64).saturating_sub(removed),
            inserts_of_present: present,
            deletes_of_missing: 0,
        })
    }

    async fn delete_equal(&self, all: &[GoneRow]) -> Done<Adjusted> {
        let form = &self.into.form;
        let mut distinct: Vec<&GoneRow> = Vec::new();
        let mut times: Vec<i64> = Vec::new();
        for gone in all {
            // Equal rows stand next to each other, and are then the same image.
            match distinct.last() {
                Some(last) if last.key.at(0) == gone.key.at(0) => *times.last_mut().unwrap_or(&mut 0) += 1,
                _ => {
                    distinct.push(gone);
                    times.push(1);
                }
            }
        }
        let arrays = Arrays::of_columns(&form.all(), distinct.len(), |column, row| {
            self.cell(&distinct[row].key, column)
        });
        let removed = arrays.execute(self.session, &self.doing(), &form.delete_equal(), &[&times]).await?;
        let expected = all.len() as u64;
        self.judge(Adjusted { deletes_of_missing: expected.saturating_sub(removed), ..Adjusted::default() })
    }

    /// A difference is a refusal where there must be none.
    fn judge(&self, adjusted: Adjusted) -> Done<Adjusted> {
        match adjusted.total() {
            differing if self.exact && differing > 0 => Err(differs(&adjusted)),
            _ => Ok(adjusted),
        }
    }

    /// Writes the rows that are to be there.
    pub(crate) async fn write(&self) -> Done<Adjusted> {
        let mut adjusted = Adjusted::default();
        for step in self.set.writes() {
            adjusted += match step {
                Write::Append(rows) => self.insert(rows).await.map(|()| Adjusted::default())?,
                Write::Put(rows) => self.put(rows).await?,
                Write::Patch(rows) => self.patch(rows).await?,
                _ => Adjusted::default(),
            };
        }
        self.judge(adjusted)
    }

    async fn put(&self, all: Vec<usize>) -> Done<Adjusted> {
        let rows = &self.set.rows;
        // Apart, so that what was new is known of each.
        let (known, unknown): (Vec<usize>, Vec<usize>) = all.into_iter().partition(|&at| rows[at].was_there);
        let (new, unknown) = if self.exact { (unknown, Vec::new()) } else { (Vec::new(), unknown) };
        self.insert(new).await?;
        let inserts = unknown.len() as u64;
        Ok(Adjusted {
            updates_of_missing: self.upsert(known).await?,
            inserts_of_present: inserts.saturating_sub(self.upsert(unknown).await?),
            deletes_of_missing: 0,
        })
    }

    /// Writes all rows after everything that they touch was removed.
    pub(crate) async fn insert_all(&self) -> Done<()> {
        self.insert((0..self.set.rows.len()).collect()).await
    }

    /// Makes every row whole, so that it can be removed and inserted.
    pub(crate) async fn complete(&mut self) -> Done<()> {
        self.fetch(true).await
    }

    /// In the order of the key, so that neighbours in the index are met one after the other.
    fn in_order(&self, rows: &mut [usize]) {
        // The rows of a trail stand in the order of their changes.
        if self.into.plan.kept_as.keep == Keep::Changes {
            return;
        }
        let key = &self.into.form.key;
        let logical = |column: usize| &self.into.plan.mapped.columns[column].logical;
        if let [column] = key[..] {
            let cells = |at: usize| self.cell(&self.set.rows[at].cells, column);
            let mut keyed: Vec<(Value<'_>, usize)> = rows.iter().map(|&at| (cells(at), at)).collect();
            keyed.sort_by(|a, b| moorage_core::value::canonical::order(logical(column), a.0, b.0));
            rows.iter_mut().zip(keyed).for_each(|(row, (_, at))| *row = at);
            return;
        }
        rows.sort_by(|a, b| {
            let value = |at: usize, column: usize| self.cell(&self.set.rows[at].cells, column);
            key.iter()
                .map(|&c| moorage_core::value::canonical::order(logical(c), value(*a, c), value(*b, c)))
                .find(|o| o.is_ne())
                .unwrap_or(Ordering::Equal)
        });
    }

    /// Some columns of some rows, and the form whose statements take them.
    fn arrays(&self, columns: &[usize], rows: &[usize]) -> (Arrays<'_>, Cow<'_, Form>) {
        let value = |column: usize, row: usize| self.value(rows[row], column);
        if self.fetched.is_empty() {
            return (Arrays::of_columns(columns, rows.len(), value), Cow::Borrowed(&self.into.form));
        }
        // What was read from the target is text of any type.
        (Arrays::of_texts(columns, rows.len(), value), Cow::Owned(self.into.form.of_texts()))
    }

    async fn insert(&self, mut rows: Vec<usize>) -> Done<()> {
        if rows.is_empty() {
            return Ok(());
        }
        let form = &self.into.form;
        self.in_order(&mut rows);
        if rows.len() >= COPY_FROM && self.fetched.is_empty() {
            return self.copy(&rows).await;
        }
        let (arrays, form) = self.arrays(&form.all(), &rows);
        arrays.execute(self.session, &self.doing(), &form.insert(), &[]).await?;
        Ok(())
    }

    async fn copy(&self, rows: &[usize]) -> Done<()> {
        const PIECE_BYTES: usize = 128 << 10;
        let form = &self.into.form;
        let trouble = |e: tokio_postgres::Error| sort(self.session.address(), self.doing(), &e);
        let statement = self.session.statement(&form.copy()).await.map_err(trouble)?;
        let sink = self.session.client().copy_in::<_, Bytes>(&statement).await.map_err(trouble)?;
        let mut sink = Box::pin(sink);
        let mut out = Vec::with_capacity(PIECE_BYTES + 4096);
        form.encoder.begin(&mut out);
        for &row in rows {
            form.encoder.row(&mut out, (0..form.columns.len()).map(|c| self.value(row, c)))?;
            if out.len() >= PIECE_BYTES {
                let piece = std::mem::replace(&mut out, Vec::with_capacity(PIECE_BYTES + 4096));
                sink.send(Bytes::from(piece)).await.map_err(trouble)?;
            }
        }
        form.encoder.end(&mut out);
        sink.send(Bytes::from(out)).await.map_err(trouble)?;
        sink.as_mut().finish().await.map_err(trouble)?;
        Ok(())
    }

    /// Gives how many rows were not there before.
    async fn upsert(&self, mut rows: Vec<usize>) -> Done<u64> {
        if rows.is_empty() {
            return Ok(0);
        }
        self.in_order(&mut rows);
        let (arrays, form) = self.arrays(&self.into.form.all(), &rows);
        let told = arrays.query(self.session, &self.doing(), &form.upsert(), &[]).await?;
        let [added, written] = [0, 1].map(|at| told.first().map_or(0, |r| r.get::<_, i64>(at).max(0) as u64));
        if self.into.plan.gathered.is_some() && written < rows.len() as u64 {
            return Err(taken(&self.into.plan).into());
        }
        Ok(added)
    }

    /// Updates only the columns that the log carried.
    async fn patch(&self, rows: Vec<usize>) -> Done<Adjusted> {
        if rows.is_empty() {
            return Ok(Adjusted::default());
        }
        let form = &self.into.form;
        let carried = |at: usize, column: usize| self.set.rows[at].cells.at(column).is_some();
        let columns: Vec<usize> = (0..form.columns.len())
            .filter(|c| !form.key.contains(c) && rows.iter().any(|&at| carried(at, *c)))
            .collect();
        if columns.is_empty() {
            return Ok(Adjusted::default());
        }
        let all: Vec<usize> = form.key.iter().chain(&columns).copied().collect();
        let flags: Vec<Flags> =
            columns.iter().map(|&c| Flags(rows.iter().map(|&at| carried(at, c)).collect())).collect();
        let flags: Vec<&(dyn ToSql + Sync)> = flags.iter().map(|f| f as &(dyn ToSql + Sync)).collect();
        let (arrays, form) = self.arrays(&all, &rows);
        let found = arrays.execute(self.session, &self.doing(), &form.patch(&columns), &flags).await?;
        // Where the log does not say what was carried before, a row may never have been.
        let may_be_missing = self.blocks.iter().any(|b| b.is_blind()) && !self.into.plan.kept_as.is_exact();
        if found < rows.len() as u64 && !may_be_missing {
            let reason =
                "the change left out large values that did not change, and the target does not hold the row";
            return Err(Refusal::value(reason.into()).into());
        }
        Ok(Adjusted::default())
    }
}

/// A row of one table has the key of one of another, with which it stands together.
fn taken(plan: &TablePlan) -> Refusal {
    let reason = format!(
        "another table has a row with the same key in {}, and `disjoint_keys` says that none has",
        plan.stands_in()
    );
    Refusal { code: UNIQUE.into(), reason }
}

/// Code of the server for a second row of a key (PostgreSQL manual, appendix A: `unique_violation`).
const UNIQUE: &str = "23505";

/// What differs from what the changes assume.
fn differs(adjusted: &Adjusted) -> Trouble {
    let reason = match (adjusted.updates_of_missing, adjusted.inserts_of_present, adjusted.deletes_of_missing)
    {
        (1, 0, 0) => "the row to be updated is not in the target".to_string(),
        (0, 1, 0) => "the row to be inserted is in the target already".into(),
        (0, 0, 1) => "the row to be deleted is not in the target".into(),
        _ => format!("{} rows of the target are not as the changes assume", adjusted.total()),
    };
    Refusal::value(reason).into()
}

/// Empties a table.
pub(crate) async fn truncate(session: &Session, into: &Into) -> Done<()> {
    if into.keeps_rows {
        return Err(AdapterError::refused(
            format!("{} was truncated in the source", into.plan.table()),
            format!(
                "target table {} also keeps rows from before the pipeline, which a truncate would remove. Empty it by hand as you see fit, then run `moorage resnapshot {}`",
                into.plan.target,
                into.plan.table()
            ),
        )
        .into());
    }
    let doing = Doing::to("emptying table", &into.plan.target);
    // Not TRUNCATE: readers with an older snapshot would see the table empty (PostgreSQL manual, section 13.6).
    let emptied = session.client().batch_execute(&into.form.empty()).await;
    emptied.map_err(|e| match sort(session.address(), &doing, &e) {
        Trouble::Refused(refusal) => AdapterError::refused(
            &doing,
            format!(
                "{} was truncated in the source, and the target does not let go of its rows: {}. Drop the foreign key, or make it ON DELETE CASCADE",
                into.plan.table(),
                refusal.reason
            ),
        )
        .into(),
        failed => failed,
    })
}

/// The key of a row for people: `id = 7`.
pub(crate) fn key_words(plan: &TablePlan, blocks: &[ChangeBlock]) -> String {
    let Some(block) = blocks.first() else { return String::new() };
    let Some(change) = block.changes().next() else { return String::new() };
    let (rows, row) = match (change.new, change.old) {
        (Some(row), _) => (block.new_rows(), row),
        (None, Some(row)) => (block.old_rows(), row),
        (None, None) => return String::new(),
    };
    let all: Vec<usize> = (0..plan.columns.len().min(3)).collect();
    let key = plan.mapped.identity.key().unwrap_or(&all);
    let word = |&column: &usize| {
        let value = text(rows_of(rows, column, row)).unwrap_or_else(|| "null".into());
        let short: String = value.chars().take(60).collect();
        format!("{} = {short}", plan.columns[column].name)
    };
    key.iter().map(word).collect::<Vec<_>>().join(", ")
}

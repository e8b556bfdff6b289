//! Carrying out what a batch does to a table, row by row.

use crate::as_target::index::build_index;
use crate::as_target::state;
use crate::as_target::statements::Statements;
use crate::as_target::values::Converter;
use crate::file::error::sql_error;
use moorage_adapter::{AdapterError, Doing, Result};
use moorage_core::apply::net::{Cells, GoneRow, NetRow};
use moorage_core::apply::prepare::TableBatch;
use moorage_core::apply::trail::unknown;
use moorage_core::apply::write_set::{Write, WriteSet};
use moorage_core::change::block::ChangeBlock;
use moorage_core::change::counters::{Adjusted, TableCounters};
use moorage_core::model::kept_as::Added;
use moorage_core::model::schema::RowIdentity;
use moorage_core::plan::table::TablePlan;
use moorage_core::value::column::value_text;
use moorage_core::value::moment::Moment;
use rusqlite::types::{ToSqlOutput, Value as Owned};
use rusqlite::{CachedStatement, Connection, OptionalExtension, ToSql, params_from_iter};
use std::cell::Cell;
use std::collections::HashMap;
use std::path::Path;

/// Applies the changes of tables inside the caller's transaction. Those that stand together in a target table come together, so
/// that a row may go from one to another: what goes, goes first.
pub(crate) fn apply_all(
    db: &Connection,
    path: &Path,
    batch: &[TableBatch],
    exact: impl Fn(&TableBatch) -> Result<bool>,
) -> Result<Vec<(String, TableCounters)>> {
    let mut counted = Vec::with_capacity(batch.len());
    let mut left: Vec<&TableBatch> = batch.iter().collect();
    while !left.is_empty() {
        let first = left.remove(0);
        let beside = |of: &TableBatch| {
            first.plan.gathered.is_some()
                && of.plan.gathered.is_some()
                && of.plan.stands_in() == first.plan.stands_in()
        };
        let (together, others): (Vec<_>, Vec<_>) = left.into_iter().partition(|of| beside(of));
        left = others;
        let all: Vec<&TableBatch> = std::iter::once(first).chain(together).collect();
        if all.len() == 1 {
            let counters = apply(db, path, &first.plan, exact(first)?, first)?;
            counted.push((first.plan.target.clone(), counters));
            continue;
        }
        let images: Vec<Vec<&ChangeBlock>> = all.iter().map(|of| of.images()).collect();
        let mut works = Vec::with_capacity(all.len());
        for (of, blocks) in all.iter().zip(&images) {
            let writer = Writer::new((db, path), &of.plan, exact(of)?, of, blocks)?;
            let borrowed = writer.borrow(&of.set)?;
            works.push((of, writer, borrowed));
        }
        for (of, writer, borrowed) in &mut works {
            writer.carry_out(&of.set, of.set.removals(), borrowed)?;
        }
        for (of, writer, borrowed) in &mut works {
            writer.carry_out(&of.set, of.set.writes(), borrowed)?;
            counted.push((of.plan.target.clone(), writer.counters(of)));
        }
    }
    Ok(counted)
}

/// Applies the changes of one table inside the caller's transaction. In one that is `exact` a row that is not as the
/// changes assume is an error; in any other it is adjusted, and counted.
pub(crate) fn apply(
    db: &Connection,
    path: &Path,
    plan: &TablePlan,
    exact: bool,
    batch: &TableBatch,
) -> Result<TableCounters> {
    let blocks: &[&ChangeBlock] = &batch.images();
    let writer = Writer::new((db, path), plan, exact, batch, blocks)?;
    let mut borrowed = writer.borrow(&batch.set)?;
    writer.carry_out(&batch.set, batch.set.steps(), &mut borrowed)?;
    Ok(writer.counters(batch))
}

/// What rows lack, by their number: columns with the target's values of them.
type Borrowed = HashMap<usize, Vec<(usize, Owned)>>;

/// How a row is not as the changes assume.
#[derive(Clone, Copy)]
enum Differing {
    UpdateOfMissing,
    InsertOfPresent,
    DeleteOfMissing,
}

struct Writer<'a> {
    db: &'a Connection,
    path: &'a Path,
    plan: &'a TablePlan,
    blocks: &'a [&'a ChangeBlock],
    /// Whether a row that is not as the changes assume is an error.
    exact: bool,
    /// How many were not.
    adjusted: Cell<Adjusted>,
    statements: Statements,
    converter: Converter,
}

impl<'a> Writer<'a> {
    fn new(
        (db, path): (&'a Connection, &'a Path),
        plan: &'a TablePlan,
        exact: bool,
        batch: &TableBatch,
        blocks: &'a [&'a ChangeBlock],
    ) -> Result<Self> {
        let sql = |e| sql_error(path, Doing::to("merging into table", &plan.target), e);
        let exact = exact && !state::keeps_rows(db, &plan.target).map_err(sql)? && batch.is_exact();
        // Where several stand in a table, the one that was loaded last may have left that to us.
        if plan.gathered.is_some() {
            build_index(db, path, plan)?;
        }
        Ok(Self {
            db,
            path,
            plan,
            blocks,
            exact: exact && !blocks.iter().any(|b| b.is_blind()),
            adjusted: Cell::default(),
            statements: Statements::new(plan),
            converter: Converter::new(plan),
        })
    }
}

impl Writer<'_> {
    fn counters(&self, batch: &TableBatch) -> TableCounters {
        let mut counters = batch.set.counters;
        if batch.is_exact() {
            counters.adjusted += self.adjusted.get();
        }
        counters
    }

    fn carry_out<'w>(
        &self,
        set: &WriteSet,
        steps: impl Iterator<Item = Write<'w>>,
        borrowed: &mut Borrowed,
    ) -> Result<()> {
        for step in steps {
            match step {
                Write::Empty => self.truncate()?,
                Write::Remove(gone) => self.delete_keys(gone)?,
                Write::RemoveEqual(gone) => self.delete_equal(gone)?,
                Write::End(gone, moments) => self.end(gone, moments, set)?,
                Write::EndRest(moment) => self.of_all(self.statements.end_rest(), moment)?,
                Write::Mark(moment) => self.of_all(self.statements.mark_all(), moment)?,
                Write::Append(rows) => {
                    let mut insert = self.prepare(&self.statements.insert())?;
                    for at in rows {
                        let values = self.whole(&set.rows[at], borrowed.remove(&at).unwrap_or_default())?;
                        insert.execute(params_from_iter(values)).map_err(|e| self.sql(e))?;
                    }
                }
                Write::Put(rows) => {
                    let mut insert = self.prepare(&self.statements.insert())?;
                    let mut update = self.prepare(&self.statements.overwrite())?;
                    for at in rows {
                        let row = &set.rows[at];
                        let values = self.whole(row, borrowed.remove(&at).unwrap_or_default())?;
                        self.write_whole((&mut insert, &mut update), row, &values)?;
                    }
                }
                Write::Patch(rows) => rows.iter().try_for_each(|&at| self.patch(&set.rows[at]))?,
            }
        }
        Ok(())
    }

    fn sql(&self, error: rusqlite::Error) -> AdapterError {
        sql_error(self.path, Doing::to("merging into table", &self.plan.target), error)
    }

    fn prepare(&self, sql: &str) -> Result<CachedStatement<'_>> {
        self.db.prepare_cached(sql).map_err(|e| self.sql(e))
    }

    fn cell<'a>(&'a self, cells: &Cells, column: usize) -> Result<ToSqlOutput<'a>> {
        match cells.at(column) {
            Some(image) => self.converter.convert(column, image.value(self.blocks, column)),
            None => Err(AdapterError::Value {
                table: self.plan.table().to_string(),
                what: format!(
                    "column {} has no value in a captured change",
                    self.plan.mapped.columns[column].name
                ),
            }),
        }
    }

    fn values<'a>(
        &'a self,
        cells: &Cells,
        columns: impl IntoIterator<Item = usize>,
    ) -> Result<Vec<ToSqlOutput<'a>>> {
        columns.into_iter().map(|c| self.cell(cells, c)).collect()
    }

    fn key_of<'a>(&'a self, cells: &Cells) -> Result<Vec<ToSqlOutput<'a>>> {
        self.values(cells, self.statements.key.iter().copied())
    }

    fn width(&self) -> usize {
        self.statements.columns.len()
    }

    fn truncate(&self) -> Result<()> {
        if state::keeps_rows(self.db, &self.plan.target).map_err(|e| self.sql(e))? {
            return Err(AdapterError::refused(
                format!("{} was truncated in the source", self.plan.table()),
                format!(
                    "target table {} also keeps rows from before the pipeline, which a truncate would remove. Empty it by hand as you see fit, then run `moorage resnapshot {}`",
                    self.plan.target,
                    self.plan.table()
                ),
            ));
        }
        self.db.execute(&self.statements.empty(), []).map_err(|e| self.sql(e))?;
        Ok(())
    }

    /// For rows that moved to another key and lack columns: those columns' values in the target now.
    fn borrow(&self, set: &WriteSet) -> Result<Borrowed> {
        set.borrowed().map(|(at, origin)| Ok((at, self.fetch(&set.rows[at], origin)?))).collect()
    }

    /// Has versions end that are valid still.
    fn end(&self, gone: &[GoneRow], moments: &[Moment], set: &WriteSet) -> Result<()> {
        let Some(validity) = &self.statements.validity else { return Ok(()) };
        let goes_on = set.ends.as_ref().is_some_and(|ends| ends.goes_on);
        let mut end = self.prepare(&self.statements.end(validity))?;
        let mut void = self.prepare(&self.statements.void(validity))?;
        for (row, moment) in gone.iter().zip(moments) {
            let moment = Owned::Text(moment.to_string());
            let parameters = || -> Result<Vec<ToSqlOutput<'_>>> {
                let key = self.key_of(&row.key)?;
                Ok(std::iter::once(ToSqlOutput::Owned(moment.clone())).chain(key).collect())
            };
            let mut ended = end.execute(params_from_iter(parameters()?)).map_err(|e| self.sql(e))?;
            if ended == 0 && goes_on {
                ended = void.execute(params_from_iter(parameters()?)).map_err(|e| self.sql(e))?;
            }
            if ended == 0 && row.was_there {
                self.differs(&row.key, Differing::DeleteOfMissing)?;
            }
        }
        Ok(())
    }

    /// Statements about all rows, with a moment.
    fn of_all(&self, all: Vec<String>, moment: Moment) -> Result<()> {
        for sql in all {
            self.db.execute(&sql, [moment.to_string()]).map_err(|e| self.sql(e))?;
        }
        Ok(())
    }

    fn fetch(&self, row: &NetRow, origin: &Cells) -> Result<Vec<(usize, Owned)>> {
        let missing: Vec<usize> = (0..self.width()).filter(|&c| row.cells.at(c).is_none()).collect();
        let found: Option<Vec<Owned>> = self
            .prepare(&self.statements.fetch(&missing))?
            .query_row(params_from_iter(self.key_of(origin)?), |r| {
                (0..missing.len()).map(|i| r.get(i)).collect()
            })
            .optional()
            .map_err(|e| self.sql(e))?;
        if let Some(place) = self.plan.place_of(Added::Unchanged) {
            return self.of_last(row, place, missing, found);
        }
        found.map(|values| missing.into_iter().zip(values).collect()).ok_or_else(|| self.row_missing())
    }

    /// What a row of a trail lacks, from the last one of its key; with what that does not know.
    fn of_last(
        &self,
        row: &NetRow,
        place: usize,
        missing: Vec<usize>,
        found: Option<Vec<Owned>>,
    ) -> Result<Vec<(usize, Owned)>> {
        let known = found.as_ref().map(|values| match missing.iter().position(|&c| c == place) {
            Some(at) => match &values[at] {
                Owned::Text(text) => Some(text.as_str()),
                _ => None,
            },
            None => None,
        });
        let unknown = unknown(self.plan, row, known).map_or(Owned::Null, Owned::Text);
        let values = found.unwrap_or_else(|| vec![Owned::Null; missing.len()]);
        let values = missing.into_iter().zip(values);
        Ok(values.map(|(c, value)| if c == place { (c, unknown.clone()) } else { (c, value) }).collect())
    }

    fn row_missing(&self) -> AdapterError {
        AdapterError::Value {
            table: self.plan.table().to_string(),
            what: format!(
                "an update left out large values that did not change, and target table {} does not hold the row. Run `moorage resnapshot {}`, or have the source's log carry whole rows",
                self.plan.target,
                self.plan.table()
            ),
        }
    }

    fn delete_keys(&self, gone: &[GoneRow]) -> Result<()> {
        let mut statement = self.prepare(&self.statements.delete_by_key())?;
        for key in gone {
            let removed =
                statement.execute(params_from_iter(self.key_of(&key.key)?)).map_err(|e| self.sql(e))?;
            if removed == 0 && key.was_there {
                self.differs(&key.key, Differing::DeleteOfMissing)?;
            }
        }
        Ok(())
    }

    /// A row that is not as the changes assume: an error, or counted.
    fn differs(&self, cells: &Cells, how: Differing) -> Result<()> {
        let mut adjusted = self.adjusted.get();
        let what = match how {
            Differing::UpdateOfMissing => {
                adjusted.updates_of_missing += 1;
                "to be updated is not there"
            }
            Differing::InsertOfPresent => {
                adjusted.inserts_of_present += 1;
                "to be inserted is there already"
            }
            Differing::DeleteOfMissing => {
                adjusted.deletes_of_missing += 1;
                "to be deleted is not there"
            }
        };
        if !self.exact {
            self.adjusted.set(adjusted);
            return Ok(());
        }
        let table = self.plan.table();
        Err(AdapterError::Value {
            table: table.to_string(),
            what: format!(
                "target table {} is not what the changes assume: the row {} {what}. It was changed by someone else. \
                 Run `moorage resnapshot {table}`; or let such rows be adjusted: mismatch = \"adjust\" in a rule of the project file",
                self.plan.target,
                self.words(cells)
            ),
        })
    }

    /// A row's key, or its first columns, for people: `id = 7`.
    fn words(&self, cells: &Cells) -> String {
        let first: Vec<usize> = (0..self.width().min(3)).collect();
        let key = if self.statements.key.is_empty() { &first } else { &self.statements.key };
        let word = |&column: &usize| {
            let value = cells.at(column).and_then(|image| value_text(image.value(self.blocks, column)));
            let short: String = value.unwrap_or_else(|| "null".into()).chars().take(60).collect();
            format!("{} = {short}", self.plan.columns[column].name)
        };
        key.iter().map(word).collect::<Vec<_>>().join(", ")
    }

    fn delete_equal(&self, gone: &[GoneRow]) -> Result<()> {
        let mut statement = self.prepare(&self.statements.delete_one_equal())?;
        for row in gone {
            let values = self.values(&row.key, 0..self.width())?;
            let removed = statement.execute(params_from_iter(values)).map_err(|e| self.sql(e))?;
            if removed == 0 {
                self.differs(&row.key, Differing::DeleteOfMissing)?;
            }
        }
        Ok(())
    }

    /// Writes a row with all its values: over the one that was there, or as a new one, as the changes say; and the
    /// other way round where the target differs.
    fn write_whole(
        &self,
        (insert, update): (&mut CachedStatement<'_>, &mut CachedStatement<'_>),
        row: &NetRow,
        values: &[ToSqlOutput<'_>],
    ) -> Result<()> {
        let parameters = || params_from_iter(values.iter());
        if row.was_there {
            if update.execute(parameters()).map_err(|e| self.sql(e))? == 0 {
                self.differs(&row.cells, Differing::UpdateOfMissing)?;
                insert.execute(parameters()).map_err(|e| self.sql(e))?;
            }
            return Ok(());
        }
        let Err(error) = insert.execute(parameters()) else { return Ok(()) };
        if error.sqlite_error_code() != Some(rusqlite::ErrorCode::ConstraintViolation) {
            return Err(self.sql(error));
        }
        if matches!(self.plan.mapped.identity, RowIdentity::DeclaredKey(_)) && row.must_be_new && self.exact {
            return Err(self.second_row());
        }
        // What is in the way may be a row with the key, or something else that people put on the table.
        let key = self.key_of(&row.cells)?;
        let there = self.prepare(&self.statements.has_key())?.exists(params_from_iter(key));
        if !there.map_err(|e| self.sql(e))? {
            return self.take_over(row, values, error);
        }
        self.differs(&row.cells, Differing::InsertOfPresent)?;
        update.execute(parameters()).map(|_| ()).map_err(|e| self.sql(e))
    }

    /// Takes a row that was deleted in another of the tables that stand together, and stays there marked.
    fn take_over(&self, row: &NetRow, values: &[ToSqlOutput<'_>], error: rusqlite::Error) -> Result<()> {
        if self.plan.gathered.is_none() {
            return Err(self.sql(error));
        }
        if let Some(sql) = self.statements.take_over() {
            let taken =
                self.prepare(&sql)?.execute(params_from_iter(values.iter())).map_err(|e| self.sql(e))?;
            if taken > 0 {
                return Ok(());
            }
        }
        let key = self.key_of(&row.cells)?;
        let there = self.prepare(&self.statements.is_anywhere())?.exists(params_from_iter(key));
        if !there.map_err(|e| self.sql(e))? {
            return Err(self.sql(error));
        }
        Err(AdapterError::Value {
            table: self.plan.table().to_string(),
            what: format!(
                "another table has a row with the same key in {} ({}), and `disjoint_keys` says that none has. Mend the row in the source; or take `disjoint_keys` out of the rule and give the table another name with `into`",
                self.plan.stands_in(),
                self.words(&row.cells)
            ),
        })
    }

    /// Only the project file says that the key is one.
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

    /// All values of a row, those that it lacks from the target.
    fn whole<'a>(&'a self, row: &NetRow, fetched: Vec<(usize, Owned)>) -> Result<Vec<ToSqlOutput<'a>>> {
        let mut fetched = fetched.into_iter().peekable();
        let mut values = Vec::with_capacity(self.width());
        for column in 0..self.width() {
            values.push(match fetched.next_if(|(c, _)| *c == column) {
                Some((_, value)) => ToSqlOutput::Owned(value),
                None => self.cell(&row.cells, column)?,
            });
        }
        Ok(values)
    }

    /// Updates only the columns that the log carried.
    fn patch(&self, row: &NetRow) -> Result<()> {
        let key = &self.statements.key;
        let carried: Vec<usize> =
            (0..self.width()).filter(|c| !key.contains(c) && row.cells.at(*c).is_some()).collect();
        let mut values = self.values(&row.cells, carried.iter().copied())?;
        values.extend(self.key_of(&row.cells)?);
        if carried.is_empty() {
            return Ok(());
        }
        let parameters = values.iter().map(|v| v as &dyn ToSql);
        let changed = self
            .prepare(&self.statements.update(&carried))?
            .execute(params_from_iter(parameters))
            .map_err(|e| self.sql(e))?;
        // Where the log does not say what was carried before, a row may never have been.
        let may_be_missing = self.blocks.iter().any(|b| b.is_blind()) && !self.plan.kept_as.is_exact();
        if changed == 0 && !may_be_missing { Err(self.row_missing()) } else { Ok(()) }
    }
}

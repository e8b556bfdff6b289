//! One table's structure from look to look.

use super::explain::{Declared, Explained, explain, fewest};
use moorage_core::TableSchema;
use moorage_core::change::structure::{SchemaChange, Step, Unknown};
use moorage_core::model::described::{SourceColumn, SourceTable};
use moorage_core::plan::table::TablePlan;
use moorage_core::value::column::RowsBuilder;
use std::collections::HashSet;
use std::sync::Arc;

/// A table whose structure is followed.
pub(crate) struct Followed {
    now: SourceTable,
    /// The version of the file's schema that it was seen in, as [`super::capture::foreign_version`] counts; none if an earlier
    /// version of Moorage saw it, which stopped at whatever had changed.
    version: Option<i64>,
    /// The numbers of the columns that are read.
    read: HashSet<u32>,
    /// Whether its columns got their numbers here, and nobody knows yet.
    is_numbered_here: bool,
}

/// What is asked of the table itself.
pub(crate) trait Rows {
    /// Whether rows that nothing is captured of hold more than one value in a column: then it is older than they are.
    fn differ(&self, column: &str) -> rusqlite::Result<bool>;

    /// The values of some such row in the columns at these places of a schema, pushed there with null in all others; false
    /// if there is no such row.
    ///
    /// # Errors
    /// In words if a value is not of its column's type.
    fn one(&self, row: &mut RowsBuilder, places: &[usize]) -> rusqlite::Result<Result<bool, String>>;
}

impl Followed {
    /// From how a plan knows it on.
    pub(crate) fn new(plan: &TablePlan) -> Self {
        let mut now = plan.source_table();
        let is_numbered_here = now.columns.iter().any(|c| c.number.is_none());
        if is_numbered_here {
            for (at, column) in now.columns.iter_mut().enumerate() {
                column.number = u32::try_from(at + 1).ok();
            }
        }
        let is_read = |c: &&SourceColumn| plan.schema.columns.iter().any(|read| read.name == c.column.name);
        let read = now.columns.iter().filter(is_read).filter_map(|c| c.number).collect();
        let version = now.state.split(' ').next().and_then(|v| v.parse().ok());
        Self { now, version, read, is_numbered_here }
    }

    /// The rows of the table were read when the schema had a version.
    pub(crate) fn was_read_at(&mut self, version: i64) {
        self.version = self.version.max(Some(version));
    }

    /// The fewest statements that led to what is `found`.
    pub(crate) fn fewest(&self, found: &SourceTable) -> u64 {
        fewest(&declared(&self.now), &declared(found))
    }

    /// The table is seen as `found`, in a version of the schema; of the statements that led to it, so many were about
    /// something else. Gives what has changed since it was last seen.
    ///
    /// # Errors
    /// Of SQLite.
    pub(crate) fn see(
        &mut self,
        found: &SourceTable,
        (version, others): (i64, u64),
        rows: &dyn Rows,
    ) -> rusqlite::Result<Option<SchemaChange>> {
        if Some(version) == self.version && !self.is_numbered_here {
            return Ok(None);
        }
        let (before, after) = (declared(&self.now), declared(found));
        let statements = match self.version {
            Some(was) => match version.checked_sub(was).and_then(|n| u64::try_from(n).ok()) {
                Some(all) => all.saturating_sub(others),
                None => u64::MAX,
            },
            None if before == after => 0,
            None => u64::MAX,
        };
        let mut explained = explain(&before, &after, statements, 0);
        if let Explained::Open(survived) = explained
            && survived > 0
            && rows.differ(&after[survived - 1].name)?
        {
            explained = explain(&before, &after, statements, survived);
        }
        let (origins, why) = match explained {
            Explained::As(origins) => (origins, None),
            Explained::Open(_) => {
                (by_name(&before, &after), Some("several changes of its structure fit what it is now"))
            }
            Explained::No => (by_name(&before, &after), Some("it was changed otherwise than by ALTER TABLE")),
        };
        let unknown = why.map(|why| Unknown { why: why.into(), columns: None });
        self.version = Some(version);
        let is_same = before == after && self.now.identity == found.identity;
        if is_same && unknown.is_none() && !self.is_numbered_here {
            return Ok(None);
        }
        let is_quiet = is_same && unknown.is_none();
        self.is_numbered_here = false;
        let before = self.go_to(found, &origins);
        self.step(before, unknown, is_quiet, rows).map(Some)
    }

    /// Takes another structure, with the numbers that the columns had, and gives what was before.
    fn go_to(&mut self, found: &SourceTable, origins: &[Option<usize>]) -> SourceTable {
        let mut next = self.next_number();
        let mut now = found.clone();
        for (column, origin) in now.columns.iter_mut().zip(origins) {
            column.number = match origin.and_then(|at| self.now.columns.get(at)) {
                Some(was) => was.number,
                None => {
                    next += 1;
                    self.read.insert(next - 1);
                    Some(next - 1)
                }
            };
        }
        now.state = format!("{} {next}", self.version.unwrap_or_default());
        std::mem::replace(&mut self.now, now)
    }

    /// No column has had this number or a greater one.
    fn next_number(&self) -> u32 {
        let kept = self.now.state.split(' ').nth(1).and_then(|next| next.parse().ok());
        let greatest = self.now.columns.iter().filter_map(|c| c.number).max().unwrap_or(0);
        kept.unwrap_or(0).max(greatest + 1)
    }

    fn step(
        &self,
        before: SourceTable,
        unknown: Option<Unknown>,
        is_quiet: bool,
        rows: &dyn Rows,
    ) -> rusqlite::Result<SchemaChange> {
        let schema = Arc::new(self.schema());
        let (values, unknown) = match self.given(&before, &schema, rows)? {
            Ok(values) => (values, unknown),
            Err(why) => (None, unknown.or(Some(Unknown { why, columns: None }))),
        };
        let what = match &unknown {
            _ if is_quiet => String::new(),
            Some(unknown) => unknown.why.clone(),
            None => "its structure was changed".into(),
        };
        let step = Step { after: Arc::new(self.now.clone()), schema, values, unknown, types: Vec::new() };
        Ok(SchemaChange {
            table: before.name,
            order: u64::MAX,
            what,
            ends: false,
            step: Some(Arc::new(step)),
        })
    }

    /// One row with the values that rows from before have in the columns that came.
    fn given(
        &self,
        before: &SourceTable,
        schema: &Arc<TableSchema>,
        rows: &dyn Rows,
    ) -> rusqlite::Result<Result<Option<arrow::array::RecordBatch>, String>> {
        let is_new = |c: &&SourceColumn| !before.columns.iter().any(|was| was.is_same(c));
        let new = self.now.columns.iter().filter(is_new);
        let place = |c: &SourceColumn| schema.columns.iter().position(|read| read.name == c.column.name);
        let places: Vec<usize> = new.filter_map(place).collect();
        if places.is_empty() {
            return Ok(Ok(None));
        }
        let mut one = RowsBuilder::new(schema.clone());
        Ok(match rows.one(&mut one, &places)? {
            Ok(false) => Ok(None),
            Ok(true) => {
                one.end_row(0);
                one.finish().map(Some).map_err(|e| e.to_string())
            }
            Err(why) => Err(why),
        })
    }

    /// The columns that are read, with the names that they have now.
    pub(crate) fn schema(&self) -> TableSchema {
        let is_read = |c: &SourceColumn| c.number.is_some_and(|number| self.read.contains(&number));
        self.now.of_columns(|c| !c.generated && c.refused.is_none() && is_read(c))
    }
}

fn declared(table: &SourceTable) -> Vec<Declared> {
    let of = |c: &SourceColumn| Declared {
        name: c.column.name.clone(),
        kind: format!("{} {} {}", c.column.source_type, c.column.nullable, c.generated),
    };
    table.columns.iter().map(of).collect()
}

fn by_name(before: &[Declared], after: &[Declared]) -> Vec<Option<usize>> {
    // One of the same name that is declared otherwise is another one.
    after.iter().map(|is| before.iter().position(|was| was == is)).collect()
}

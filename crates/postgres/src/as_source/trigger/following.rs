//! One table on its way through its change table: which structure the rows have that come next.

use super::written::{Noted, Written};
use crate::as_source::catalog::Described;
use crate::as_source::structure::room::Move;
use crate::as_source::structure::table::{Seeing, Table};
use crate::as_source::structure::types::{Horizon, PresentNames};
use crate::as_source::structure::written::{Layout, Whole};
use moorage_adapter::Result;
use moorage_core::change::structure::SchemaChange;
use moorage_core::{TableName, TableSchema};
use std::sync::Arc;

/// What a row's structure is told by.
pub(crate) struct Told {
    /// The number that it was written down by.
    pub(crate) number: i64,
    /// The file that the rows were in.
    pub(crate) file: u32,
    /// The row's layout, from a transaction that saw an older catalogue, maybe.
    pub(crate) layout: Option<Layout>,
}

/// A table whose structure is followed.
pub(crate) struct Followed {
    table: Table,
    /// The columns that rows are handed on with.
    schema: Arc<TableSchema>,
    /// Number and file of the rows that came last.
    at: Option<(i64, u32)>,
    /// Whether what rows consist of is known.
    readable: bool,
}

impl Followed {
    /// From how a plan knows it on, with the columns that the plan reads.
    pub(crate) fn new(table: Table, schema: Arc<TableSchema>) -> Self {
        Self { table, schema, at: None, readable: true }
    }

    pub(crate) fn schema(&self) -> &Arc<TableSchema> {
        &self.schema
    }

    /// Where in a row's text each of these columns stands; none if that is not known, and rows are left out until the table
    /// is read again.
    pub(crate) fn places(&self) -> Option<Vec<usize>> {
        let of = |name: &String| self.table.state().columns.iter().position(|c| c.name == *name);
        let places = self.schema.columns.iter().map(|c| of(&c.name)).collect::<Option<Vec<usize>>>();
        places.filter(|_| self.readable && !self.table.is_gone())
    }

    /// For each column that rows are handed on with, what values are called now that may still come under another name.
    pub(crate) fn present_names(&self) -> PresentNames {
        self.table.present_names(&self.schema)
    }

    /// A row comes; gives the changes of structure in front of it.
    ///
    /// # Errors
    /// If a value that rows have from before a column is not one of its type.
    pub(crate) fn comes(&mut self, told: &Told, written: &Written) -> Result<Option<SchemaChange>> {
        let now = (told.number, told.file);
        if self.table.is_gone() || (told.layout.is_none() && self.at == Some(now)) {
            return Ok(None);
        }
        if let Some(layout) = &told.layout {
            return self.comes_as(layout, told, written);
        }
        let before = self.at.replace(now);
        if self.readable && before.is_some_and(|(number, _)| number == told.number) {
            // No column was touched: whatever wrote the rows anew left their values as they were.
            let moved = self.table.moves_to(told.file);
            return Ok(Some(self.adopt(moved)));
        }
        match written.get(told.number) {
            Some(Noted::Whole(whole)) => self.arrives_as(whole, told.file),
            Some(named) if self.is_named(named) => {
                self.readable = true;
                Ok(None)
            }
            Some(_) => {
                Ok(Some(self.is_lost("its structure was changed, as an earlier version noted".into())))
            }
            None => Ok(Some(self.is_lost("what structure its rows have was not written down".into()))),
        }
    }

    /// Likewise, where the transaction may have seen an older catalogue than the row was written by.
    fn comes_as(&mut self, layout: &Layout, told: &Told, written: &Written) -> Result<Option<SchemaChange>> {
        if self.readable && *layout == Layout::of(self.table.state()) {
            return Ok(None);
        }
        let is_it = self.at.is_none_or(|(number, _)| number != told.number);
        match written.get(told.number) {
            Some(Noted::Whole(whole)) if is_it && whole.layout() == *layout => {
                self.at = Some((told.number, told.file));
                self.arrives_as(whole, told.file)
            }
            _ if !self.readable => Ok(None),
            _ => {
                let why = "a transaction that had begun before its structure was changed wrote to it";
                Ok(Some(self.is_lost(why.into())))
            }
        }
    }

    fn is_named(&self, noted: &Noted) -> bool {
        let now = self.table.now().columns.iter();
        now.map(|c| (c.column.name.as_str(), c.column.source_type.as_str())).eq(noted.named())
    }

    /// A row comes of a structure that was written down. What became of types was not: the end of the look tells that.
    fn arrives_as(&mut self, whole: &Whole, file: u32) -> Result<Option<SchemaChange>> {
        let mut seen = whole.described(self.table.now(), file);
        seen.state = self.table.state().filled(seen.state);
        self.arrives(&seen, Horizon::default())
    }

    fn arrives(&mut self, seen: &Described, horizon: Horizon) -> Result<Option<SchemaChange>> {
        self.readable = true;
        let change = self.table.arrives(seen, Seeing { horizon, told_by: None, may_be_others: true })?;
        Ok(change.map(|change| self.adopt(change)))
    }

    /// What comes from here on cannot be followed, for a reason.
    pub(crate) fn is_lost(&mut self, why: String) -> SchemaChange {
        (self.readable, self.at) = (false, None);
        let change = self.table.is_lost(why);
        self.adopt(change)
    }

    /// What the table is called on its way; none if it is gone.
    pub(crate) fn called(&self) -> Option<&TableName> {
        (!self.table.is_gone()).then(|| &self.table.now().name)
    }

    /// The table leaves its name to another one.
    pub(crate) fn moves(&mut self, to: Move) -> Option<SchemaChange> {
        let change = self.table.moves(to)?;
        Some(self.adopt(change))
    }

    /// A look begins that saw the table so in the catalogue: what no row tells of may have been changed before any of its
    /// rows.
    ///
    /// # Errors
    /// Likewise.
    pub(crate) fn begins(&mut self, seen: Option<&Described>) -> Result<Option<SchemaChange>> {
        let Some(seen) = seen.filter(|_| !self.table.is_gone()) else { return Ok(None) };
        let change = self.table.is_told_apart_as(seen)?;
        Ok(change.map(|change| self.adopt(change)))
    }

    /// A look ends that saw the table so in the catalogue, or not at all.
    ///
    /// # Errors
    /// Likewise.
    pub(crate) fn ends(
        &mut self,
        seen: Option<&Described>,
        horizon: Horizon,
    ) -> Result<Option<SchemaChange>> {
        match seen {
            _ if self.table.is_gone() => Ok(None),
            None => Ok(self.table.goes()),
            Some(seen)
                if self.readable && !self.table.is_another_than(seen) && !self.table.remembers_names() =>
            {
                Ok(None)
            }
            Some(seen) => {
                // By which number triggers will call it is not known.
                self.at = None;
                self.arrives(seen, horizon)
            }
        }
    }

    fn adopt(&mut self, change: SchemaChange) -> SchemaChange {
        if let Some(step) = &change.step {
            self.schema = step.schema.clone();
        }
        change
    }
}

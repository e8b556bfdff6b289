//! One table on its way from look to look.

mod announced;

use super::event::TellsOf;
use super::fit::{AnnouncedColumn, Fit, fit};
use super::looks::Look;
use super::room::Move;
use super::state::{ColumnState, State};
use super::types::{Horizon, PresentNames};
use crate::as_source::catalog::Described;
use crate::wire::values::push_text;
use arrow::array::RecordBatch;
use moorage_adapter::{AdapterError, GONE, Result};
use moorage_core::change::structure::{OfType, SchemaChange, Step, Unknown};
use moorage_core::model::described::{LogIdentity, SourceColumn, SourceTable};
use moorage_core::value::column::RowsBuilder;
use moorage_core::{Column, TableSchema};
use std::sync::Arc;

/// How a structure is seen that a table arrives at.
pub(crate) struct Seeing {
    pub(crate) horizon: Horizon,
    /// The event trigger that tells of what comes behind it.
    pub(crate) told_by: Option<String>,
    /// Whether rows that are in another file hold other values, maybe.
    pub(crate) may_be_others: bool,
}

/// A relation message.
#[derive(Clone, Debug)]
pub(crate) struct Announced {
    /// Whether the log has whole old rows.
    pub(crate) full: bool,
    pub(crate) columns: Vec<AnnouncedColumn>,
}

/// A table's structure as of a place in the stream.
#[derive(Clone, Debug)]
pub(crate) struct Table {
    now: SourceTable,
    state: State,
    /// What the rows of the stream hold now, by the columns' numbers; none if they cannot be read before the next look is
    /// passed.
    layout: Option<Vec<u32>>,
    /// Whether it could not be told how it came to what a look saw that is yet to be passed.
    unclear: bool,
    gone: bool,
    /// The number of the last look that was passed.
    passed: u64,
    /// The last transaction in which an event trigger told of it: its number and the place of its commit.
    told_in: Option<(u32, u64)>,
    /// Where nothing lists the table, so that it may be unlogged for a while: whether it was truncated since the last look.
    unlisted: Option<bool>,
}

/// The columns that the log carries.
fn streamed_numbers(state: &State) -> Vec<u32> {
    state.columns.iter().filter(|c| !c.generated).map(|c| c.number).collect()
}

impl Table {
    /// As a plan knows it.
    pub(crate) fn new(now: SourceTable, state: State) -> Self {
        let (passed, told_in, unlisted) = (0, None, None);
        Self { now, state, layout: None, unclear: false, gone: false, passed, told_in, unlisted }
    }

    /// Published with all tables: nothing keeps it from being unlogged, and what is done to it then is not in the log. The
    /// server refuses that of a table that is listed (PostgreSQL source, `ATPrepChangePersistence`).
    #[must_use]
    pub(crate) fn unlisted(mut self) -> Self {
        self.unlisted = Some(false);
        self
    }

    /// The stream has come past a TRUNCATE of it.
    pub(crate) fn is_truncated(&mut self) {
        self.unlisted = self.unlisted.map(|_| true);
    }

    /// Why its rows may have become others without a word in the log, if so.
    fn unlogged(&self, seen: &Described) -> Option<Unknown> {
        let was_rewritten = self.unlisted == Some(false) && self.state.storage != seen.state.storage;
        let why = "its rows were written anew, and it may not have been logged for a while".into();
        was_rewritten.then_some(Unknown { why, columns: None })
    }

    /// Whether a look saw it in another way than it is known.
    pub(crate) fn is_another_than(&self, seen: &Described) -> bool {
        self.state.is_another_than(&seen.state) || !is_same(&self.now, &seen.table)
    }

    /// Whether values may still come under names that they had.
    pub(crate) fn remembers_names(&self) -> bool {
        !self.state.former.is_empty()
    }

    /// Whether nothing of it is followed any more.
    pub(crate) fn is_gone(&self) -> bool {
        self.gone
    }

    /// For each column of the stream's rows its place in a schema; none if the rows cannot be read.
    pub(crate) fn places(&self, schema: &TableSchema) -> Option<Vec<Option<usize>>> {
        let name = |n: &u32| self.now.columns.iter().find(|c| c.number == Some(*n)).map(|c| &c.column.name);
        let place = |n: &u32| name(n).and_then(|name| schema.columns.iter().position(|c| c.name == *name));
        Some(self.layout.as_ref()?.iter().map(place).collect())
    }

    /// Whether nothing comes of a look any more: the stream had come past it before, or past what an event trigger told of a
    /// change that the look does not see.
    pub(crate) fn has_passed(&self, look: &Look) -> bool {
        look.number <= self.passed
            || self.told_in.is_some_and(|(xid, commit_lsn)| !look.sees(xid, commit_lsn))
    }

    /// The stream has come past a look.
    ///
    /// # Errors
    /// If a value that rows have from before a column is not one of its type.
    pub(crate) fn pass(&mut self, look: &Look) -> Result<Option<SchemaChange>> {
        if self.has_passed(look) {
            return Ok(None);
        }
        self.passed = look.number;
        match look.of(self.now.id as u32) {
            Some(seen) => {
                let told_by = look.told_by().map(String::from);
                // Whatever changed values was told: rows were only moved since.
                let may_be_others = told_by.is_none() || told_by != self.state.told_by;
                self.arrives(seen, Seeing { horizon: look.horizon(), told_by, may_be_others })
            }
            None => Ok(self.goes()),
        }
    }

    /// The table is gone from here on.
    pub(crate) fn goes(&mut self) -> Option<SchemaChange> {
        let was_gone = std::mem::replace(&mut self.gone, true);
        (!was_gone).then(|| change(&self.now, GONE.to_string(), None))
    }

    /// An event trigger tells, in a transaction of this number that commits at this place, that it has this structure from
    /// here on.
    ///
    /// # Errors
    /// Likewise.
    pub(crate) fn is_told(
        &mut self,
        told: &TellsOf,
        (xid, commit_lsn): (u32, u64),
    ) -> Result<Option<SchemaChange>> {
        self.told_in = Some((xid, commit_lsn));
        let mut seen = told.whole.described(&self.now, told.file);
        seen.state = self.state.filled(seen.state);
        // How a column is stored it does not tell: what may be left out stays so until the next look.
        let whole = matches!(self.now.identity, LogIdentity::Full { .. });
        for column in &mut seen.table.columns {
            let was = self.now.columns.iter().find(|was| was.is_same(column));
            column.may_be_left_out = was.map_or(!whole, |was| was.may_be_left_out);
        }
        let (truncated, told_by) = (self.unlisted, self.state.told_by.clone());
        let may_be_others = told.rewritten;
        let change = self.arrives(&seen, Seeing { horizon: Horizon::default(), told_by, may_be_others });
        self.unlisted = truncated;
        change
    }

    /// The columns that the log carries, by number, if a message has their names and types.
    fn is_called_so(&self, message: &Announced) -> Option<Vec<u32>> {
        let streamed: Vec<&ColumnState> = self.state.columns.iter().filter(|c| !c.generated).collect();
        let same = |(c, a): (&&ColumnState, &AnnouncedColumn)| {
            (&c.name, c.type_id, c.modifier) == (&a.name, a.type_id, a.modifier)
        };
        let is_so =
            streamed.len() == message.columns.len() && streamed.iter().zip(&message.columns).all(same);
        is_so.then(|| streamed.iter().map(|c| c.number).collect())
    }

    /// What the rows behind a message hold, where an event trigger has told of every change until a look, and the message says
    /// what it told.
    fn is_as_told(&self, message: &Announced, look: &Look) -> Option<Vec<u32>> {
        if self.state.told_by.is_none() || self.state.told_by.as_deref() != look.told_by() {
            return None;
        }
        let numbers = self.is_called_so(message)?;
        let keyed = numbers.iter().zip(&message.columns).filter(|(_, c)| c.in_key).map(|(n, _)| *n);
        let keyed: Vec<u32> = keyed.collect();
        let name_of = |n: &u32| self.state.column(*n).map(|c| c.name.clone());
        of_names(&self.now.identity, &self.now, &keyed, message.full, &name_of).map(|_| numbers)
    }

    /// It leaves its name to another table.
    pub(crate) fn moves(&mut self, to: Move) -> Option<SchemaChange> {
        let Move::To(name) = to else { return self.goes() };
        let before = self.now.clone();
        self.now.name = name;
        let step = Step {
            after: Arc::new(self.now.clone()),
            schema: Arc::new(streamed(&self.now)),
            values: None,
            unknown: None,
            types: Vec::new(),
        };
        Some(change(&before, "it is called otherwise".into(), Some(step)))
    }

    /// What comes from here on has the structure that was seen.
    ///
    /// # Errors
    /// Likewise.
    pub(crate) fn arrives(&mut self, seen: &Described, seeing: Seeing) -> Result<Option<SchemaChange>> {
        let before = (self.now.clone(), self.state.clone());
        let Seeing { horizon, told_by, may_be_others } = seeing;
        let (types, of_types) = self.state.types_to(&seen.state, horizon);
        let untold =
            of_types.into_iter().filter(|u| !u.columns.iter().flatten().all(|n| self.state.told.contains(n)));
        let of_types: Vec<Unknown> = untold.collect();
        let rewritten = match may_be_others {
            true => [self.unknown(seen, &streamed_numbers(&seen.state)), self.unlogged(seen)],
            false => [None, None],
        };
        let all = rewritten.into_iter().flatten().chain(of_types);
        let unknown = all.reduce(Unknown::and);
        self.unlisted = self.unlisted.map(|_| false);
        self.state.told.clear();
        // Whatever came since says so with a message of its own.
        self.layout = Some(streamed_numbers(&seen.state));
        self.unclear = false;
        let state = State { told_by, ..self.state.filled(seen.state.clone()) };
        let change = self.go_to(seen.table.clone(), state, seen, (unknown, types))?;
        Ok(change.or_else(|| (before.1 != self.state).then(|| self.quietly(&before.0))))
    }

    /// Name and what tells rows apart are as they were seen from here on, while the columns are still as they were. If that
    /// cannot be said of these columns, what rows there are is not known.
    ///
    /// # Errors
    /// Likewise.
    pub(crate) fn is_told_apart_as(&mut self, seen: &Described) -> Result<Option<SchemaChange>> {
        let number = |name: &String| seen.table.columns.iter().find(|c| c.column.name == *name)?.number;
        let name = |number: u32| {
            self.now.columns.iter().find(|c| c.number == Some(number)).map(|c| c.column.name.clone())
        };
        let here = |key: &Vec<String>| key.iter().map(|k| name(number(k)?)).collect::<Option<Vec<_>>>();
        let identity = match &seen.table.identity {
            LogIdentity::Key(key) => here(key).map(LogIdentity::Key),
            LogIdentity::Full { key: Some(key) } => here(key).map(|key| LogIdentity::Full { key: Some(key) }),
            other => Some(other.clone()),
        };
        let unknown = identity.is_none().then(|| {
            let why = "its rows are told apart by a column that came meanwhile".into();
            Unknown { why, columns: None }
        });
        let identity = identity.unwrap_or_else(|| self.now.identity.clone());
        let now = SourceTable { identity, name: seen.table.name.clone(), ..self.now.clone() };
        if unknown.is_none() && (&now.name, &now.identity) == (&self.now.name, &self.now.identity) {
            return Ok(None);
        }
        self.go_to(now, self.state.clone(), seen, (unknown, Vec::new()))
    }

    /// From here on nothing of its rows is known, because of what happened that cannot be followed, until it is seen once more.
    pub(crate) fn is_lost(&mut self, why: String) -> SchemaChange {
        let (after, schema) = (Arc::new(self.now.clone()), Arc::new(streamed(&self.now)));
        let unknown = Some(Unknown { why: why.clone(), columns: None });
        (self.layout, self.unclear) = (None, true);
        change(&self.now, why, Some(Step { after, schema, values: None, unknown, types: Vec::new() }))
    }

    /// For each place of a schema, what values are called now that may still come under another name.
    pub(crate) fn present_names(&self, schema: &TableSchema) -> PresentNames {
        if self.state.former.is_empty() {
            return PresentNames::default();
        }
        let number = |name: &String| self.now.columns.iter().find(|c| c.column.name == *name)?.number;
        let names = |c: &Column| number(&c.name).and_then(|n| self.state.present_names(n));
        PresentNames(schema.columns.iter().enumerate().filter_map(|(at, c)| Some((at, names(c)?))).collect())
    }

    /// The structure, with its numbers.
    pub(crate) fn state(&self) -> &State {
        &self.state
    }

    /// The table as it is known.
    pub(crate) fn now(&self) -> &SourceTable {
        &self.now
    }

    /// The rows are in a file now that holds what they held before.
    pub(crate) fn moves_to(&mut self, file: u32) -> SchemaChange {
        self.state.storage = file;
        self.now.state = self.state.text();
        self.quietly(&self.now)
    }

    /// The same structure with other marks, which are kept: otherwise they would be taken for a change at the next start.
    fn quietly(&self, before: &SourceTable) -> SchemaChange {
        let (after, schema) = (Arc::new(self.now.clone()), Arc::new(streamed(&self.now)));
        let step = Step { after, schema, values: None, unknown: None, types: Vec::new() };
        change(before, String::new(), Some(step))
    }

    /// What is not known of the values of columns, and was not told yet.
    fn unknown(&mut self, seen: &Described, numbers: &[u32]) -> Option<Unknown> {
        let untold = numbers.iter().copied().filter(|n| !self.state.told.contains(n));
        let unknown = self.state.values_changed(&seen.state, untold, |n| seen.given.contains_key(&n));
        self.state.told.extend(unknown.iter().flat_map(|unknown| unknown.columns.iter().flatten()));
        unknown
    }

    /// Rows come behind a message that is from before a look: settles which columns it is about.
    ///
    /// # Errors
    /// Likewise.
    pub(crate) fn announced(&mut self, message: &Announced, look: &Look) -> Result<Option<SchemaChange>> {
        let Some(seen) = look.of(self.now.id as u32) else {
            // It is gone by now. As long as the stream says what it said before, so does the structure.
            if let Some(numbers) = self.is_called_so(message) {
                self.layout = Some(numbers);
                return Ok(None);
            }
            self.gone = true;
            let what = "it was changed and is gone by now, and how it was in between is not known".into();
            return Ok(Some(change(&self.now, what, None)));
        };
        if let Some(numbers) = self.is_as_told(message, look).filter(|_| !self.unclear) {
            self.layout = Some(numbers);
            return Ok(None);
        }
        let fit = fit(&self.state, &seen.state, &message.columns);
        if self.unclear {
            self.layout = if let Fit::One(numbers) = fit { Some(numbers) } else { None };
            return Ok(None);
        }
        let Fit::One(numbers) = fit else {
            (self.layout, self.unclear) = (None, true);
            let why = "several changes of its structure in one look fit what the log says".into();
            let unknown = Unknown { why, columns: None };
            // From here on it is read again; what the rows hold is known once the look is passed.
            self.state.told.extend(streamed_numbers(&seen.state));
            let state = self.state.filled(seen.state.clone());
            return self.go_to(seen.table.clone(), state, seen, (Some(unknown), Vec::new()));
        };
        let (now, otherwise) = self.as_announced(seen, &numbers, message);
        let unknown = self.unknown(seen, &numbers).or(otherwise);
        let state = self.state_as_announced(seen, &numbers, message);
        self.layout = Some(numbers);
        self.go_to(now, state, seen, (unknown, Vec::new()))
    }

    /// Takes another structure, and tells of it if it is one.
    fn go_to(
        &mut self,
        mut now: SourceTable,
        state: State,
        seen: &Described,
        (unknown, types): (Option<Unknown>, Vec<OfType>),
    ) -> Result<Option<SchemaChange>> {
        now.state = state.text();
        let is_same = is_same(&self.now, &now);
        let before = std::mem::replace(&mut self.now, now);
        self.state = state;
        if is_same && unknown.is_none() && types.is_empty() {
            return Ok(None);
        }
        let schema = streamed(&self.now);
        let values = given(&before, &self.now, &schema, seen)?;
        let what = unknown.as_ref().map_or_else(|| "its structure was changed".into(), |u| u.why.clone());
        let step =
            Step { after: Arc::new(self.now.clone()), schema: Arc::new(schema), values, unknown, types };
        Ok(Some(change(&before, what, Some(step))))
    }
}

fn change(table: &SourceTable, what: String, step: Option<Step>) -> SchemaChange {
    let ends = step.is_none();
    SchemaChange { table: table.name.clone(), order: u64::MAX, what, ends, step: step.map(Arc::new) }
}

/// Whether nobody above needs to know of a difference: neither defaults nor comments nor what is kept for the next look.
fn is_same(a: &SourceTable, b: &SourceTable) -> bool {
    let bare = |table: &SourceTable| -> Vec<SourceColumn> {
        table.columns.iter().map(|c| SourceColumn { comment: None, left: false, ..c.clone() }).collect()
    };
    (&a.name, a.id, &a.identity, &a.uncaptured) == (&b.name, b.id, &b.identity, &b.uncaptured)
        && bare(a) == bare(b)
}

/// An identity with the names that its columns had when a message was sent, if the message's flags say the same.
fn of_names(
    identity: &LogIdentity,
    table: &SourceTable,
    keyed: &[u32],
    full: bool,
    name_of: &impl Fn(&u32) -> Option<String>,
) -> Option<LogIdentity> {
    let number = |name: &String| table.columns.iter().find(|c| c.column.name == *name)?.number;
    let numbers = |names: &[String]| names.iter().map(number).collect::<Option<Vec<u32>>>();
    let names = |numbers: &[u32]| numbers.iter().map(name_of).collect::<Option<Vec<String>>>();
    match identity {
        LogIdentity::Key(key) if !full => {
            let key = numbers(key)?;
            let fits = key.len() == keyed.len() && key.iter().all(|n| keyed.contains(n));
            fits.then(|| names(&key)).flatten().map(LogIdentity::Key)
        }
        LogIdentity::Full { key: None } if full => Some(LogIdentity::Full { key: None }),
        LogIdentity::Full { key: Some(key) } if full => {
            let key = names(&numbers(key)?)?;
            Some(LogIdentity::Full { key: Some(key) })
        }
        LogIdentity::None(why) if !full && keyed.is_empty() => Some(LogIdentity::None(why.clone())),
        _ => None,
    }
}

/// The columns that the stream's rows are handed on with.
pub(crate) fn streamed(table: &SourceTable) -> TableSchema {
    table.of_columns(|c| !c.generated)
}

/// One row with the values that rows from before have in the columns that came; null in all others.
fn given(
    before: &SourceTable,
    now: &SourceTable,
    schema: &TableSchema,
    seen: &Described,
) -> Result<Option<RecordBatch>> {
    let is_new = |c: &&SourceColumn| !before.columns.iter().any(|was| was.is_same(c));
    let mut rows = RowsBuilder::new(Arc::new(schema.clone()));
    let mut some = false;
    for (place, column) in now.columns.iter().filter(|c| !c.generated).enumerate() {
        let value = column.number.filter(|_| is_new(&column)).and_then(|n| seen.given.get(&n));
        some |= value.is_some();
        match value {
            None => rows.columns[place].push_null(),
            Some(text) => {
                push_text(&mut rows.columns[place], &schema.columns[place].logical, text.as_bytes())
                    .map_err(|what| AdapterError::Value {
                        table: now.name.to_string(),
                        what: format!(
                            "the value that column {} has in rows from before it: {what}",
                            column.column.name
                        ),
                    })?;
            }
        }
    }
    rows.end_row(0);
    Ok(if some { Some(rows.finish()?) } else { None })
}

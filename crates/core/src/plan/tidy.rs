//! Folding what is old in a trail, as SQL (ISO/IEC 9075-2: row values, window functions): up to a place in it, each key keeps its
//! last row, which becomes one of a snapshot, and all that came to nothing goes.
//!
//! What a trail comes to is the same before and behind every statement here, at that place and at each later one:
//!
//! 1. A row goes only together with all earlier ones of its key: those before a later old row of the key, those from before
//!    the table was emptied, and a delete once nothing is left before it. All of one key are in one [part](Old::parts), and a part
//!    is removed by one statement.
//! 2. What is left of an old insert or update says the same as a row of a snapshot.
//! 3. A row that says that the table was emptied goes last, when no part has rows from before it.

use crate::mapping::outputs::Output;
use crate::model::kept_as::{Added, Deletes, Keep, Operation};
use crate::model::sql::{quote_ident, quote_literal};
use crate::plan::current_rows::is_its;
use crate::plan::table::TablePlan;
use serde::Serialize;

/// A place in a trail: where a row of it stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Place {
    /// What the column of positions says.
    pub position: String,
    /// What the column of orders says.
    pub order: i64,
}

/// How many rows a target goes through within a second or two.
const AT_ONCE: u64 = 200_000;

/// What is old in a trail.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Old {
    /// The last row that is.
    pub last: Place,
    /// The last one among them that says that the table was emptied.
    pub emptied: Option<Place>,
    /// How many there are.
    pub rows: u64,
    /// In how many parts it is folded, each a transaction: every one has the rows of some keys, and reads the table once.
    pub parts: u32,
}

/// In how many parts so many rows are folded.
pub fn parts_of(rows: u64) -> u32 {
    u32::try_from(rows.div_ceil(AT_ONCE)).unwrap_or(u32::MAX).max(1)
}

/// What folding did, or would do.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Folded {
    /// How many rows went.
    pub removed: u64,
    /// How many are rows of a snapshot now.
    pub folded: u64,
}

impl std::ops::AddAssign for Folded {
    fn add_assign(&mut self, more: Self) {
        self.removed += more.removed;
        self.folded += more.folded;
    }
}

/// Why what is old in a trail cannot be folded; none if it can.
pub fn refused(plan: &TablePlan) -> Option<&'static str> {
    match &plan.kept_as {
        kept if kept.keep != Keep::Changes => Some("it keeps no changes"),
        _ if plan.key().is_empty() => {
            Some("its rows have no key, so nothing says which change is of which row")
        }
        kept if !kept.leaves_out.is_empty() => {
            Some("it leaves changes out (`operations`), so nothing says what its rows have come to")
        }
        kept if kept.deletes == Deletes::Ignore => {
            Some("it leaves deletes out, so nothing says what its rows have come to")
        }
        _ => None,
    }
}

/// The statements for one trail.
pub struct Tidying<'a> {
    plan: &'a TablePlan,
    table: &'a str,
    row: &'a str,
}

impl<'a> Tidying<'a> {
    /// Of a table that is [not refused](refused); `table` is the table as SQL wants it, and `row` what tells its rows apart within a
    /// statement (`ctid`, `rowid`).
    pub fn new(plan: &'a TablePlan, table: &'a str, row: &'a str) -> Self {
        Self { plan, table, row }
    }

    fn name(&self, added: Added) -> String {
        quote_ident(self.plan.kept_as.name(added))
    }

    fn word(&self, operation: Operation) -> String {
        quote_literal(self.plan.kept_as.word(operation))
    }

    fn place(&self) -> String {
        format!("({}, {})", self.name(Added::Position), self.name(Added::Order))
    }

    fn is(&self, condition: &str) -> String {
        let its = is_its(self.plan, "").map(|its| format!("{its} AND ")).unwrap_or_default();
        format!("FROM {} WHERE {its}{condition}", self.table)
    }

    fn up_to(&self, place: &Place) -> String {
        format!("{} <= {}", self.place(), literal(place))
    }

    fn first(&self, condition: &str, direction: &str) -> String {
        let (position, order) = (self.name(Added::Position), self.name(Added::Order));
        format!(
            "SELECT {position}, {order} {} ORDER BY {position} {direction}, {order} {direction} LIMIT 1",
            self.is(condition)
        )
    }

    /// A query for the place of the first change that was committed at a time or later; `since` is the time as the column has it.
    pub fn first_since(&self, since: &str) -> String {
        self.first(&format!("{} >= {since}", self.name(Added::CommittedAt)), "")
    }

    /// A query for the place of the last row before a place, or of all.
    pub fn last_before(&self, first: Option<&Place>) -> String {
        let before = first.map(|first| format!("{} < {}", self.place(), literal(first)));
        self.first(before.as_deref().unwrap_or("1 = 1"), "DESC")
    }

    /// A query for the place of the last row up to a place that says that the table was emptied.
    pub fn last_emptied(&self, last: &Place) -> String {
        let is = format!("{} = {}", self.name(Added::Operation), self.word(Operation::Truncate));
        self.first(&format!("{is} AND {}", self.up_to(last)), "DESC")
    }

    /// A query for the number of rows up to a place that are not rows of a snapshot: with none of these nothing is to be folded.
    pub fn count(&self, last: &Place) -> String {
        let snapshot = self.word(Operation::Snapshot);
        format!(
            "SELECT count(*), count(CASE WHEN {} <> {snapshot} THEN 1 END) {}",
            self.name(Added::Operation),
            self.is(&self.up_to(last))
        )
    }

    /// The key's columns.
    pub fn key(&self) -> Vec<String> {
        self.plan.key().iter().map(|&k| quote_ident(&self.plan.columns[k].name)).collect()
    }

    /// The old rows of a part (a condition), each with its number among those of its key, the last one first.
    fn ranked(&self, old: &Old, part: &str) -> String {
        let (position, order, operation) =
            (self.name(Added::Position), self.name(Added::Order), self.name(Added::Operation));
        let is_dead = old.emptied.as_ref().map_or("1 = 0".to_string(), |emptied| self.up_to(emptied));
        let truncate = self.word(Operation::Truncate);
        format!(
            "SELECT {} AS moorage_row, {operation} AS moorage_is, {is_dead} AS moorage_dead, \
             row_number() OVER (PARTITION BY {} ORDER BY {position} DESC, {order} DESC) AS moorage_nth {}",
            self.row,
            self.key().join(", "),
            self.is(&format!("{} AND {operation} <> {truncate} AND {part}", self.up_to(&old.last)))
        )
    }

    fn goes(&self) -> String {
        format!("(moorage_nth > 1 OR moorage_dead OR moorage_is = {})", self.word(Operation::Delete))
    }

    fn stays(&self) -> String {
        let [insert, update] = [Operation::Insert, Operation::Update].map(|o| self.word(o));
        format!("(moorage_nth = 1 AND NOT moorage_dead AND moorage_is IN ({insert}, {update}))")
    }

    /// A query for the rows that would go and those that would become rows of a snapshot.
    pub fn outlook(&self, old: &Old, part: &str) -> String {
        format!(
            "SELECT count(CASE WHEN {} THEN 1 END), count(CASE WHEN {} THEN 1 END) FROM ({}) ranked",
            self.goes(),
            self.stays(),
            self.ranked(old, part)
        )
    }

    /// A query for the rows of a part that go.
    pub fn rows_that_go(&self, old: &Old, part: &str) -> String {
        format!("SELECT moorage_row FROM ({}) ranked WHERE {}", self.ranked(old, part), self.goes())
    }

    /// A query for the rows of a part that become rows of a snapshot.
    pub fn rows_that_stay(&self, old: &Old, part: &str) -> String {
        format!("SELECT moorage_row FROM ({}) ranked WHERE {}", self.ranked(old, part), self.stays())
    }

    /// What is set in rows that become rows of a snapshot.
    pub fn sets(&self) -> String {
        let mut sets = vec![format!("{} = {}", self.name(Added::Operation), self.word(Operation::Snapshot))];
        let outputs = self.plan.columns.iter().zip(&self.plan.mapping.outputs);
        let old = outputs.filter(|(_, output)| matches!(output, Output::Old(_)));
        sets.extend(old.map(|(column, _)| format!("{} = NULL", quote_ident(&column.name))));
        sets.join(", ")
    }

    /// The condition for the rows that say that the table was emptied, once no part has rows from before.
    pub fn markers(&self, old: &Old) -> String {
        let is = format!("{} = {}", self.name(Added::Operation), self.word(Operation::Truncate));
        self.is(&format!("{is} AND {}", self.up_to(&old.last)))
    }
}

fn literal(place: &Place) -> String {
    format!("({}, {})", quote_literal(&place.position), place.order)
}

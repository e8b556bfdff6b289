//! The triggers of a captured table.
//!
//! Of a table with a key they write down the key alone (kinds `i`, `u`, `d`, `m`): what rows hold is read from the table itself
//! in the same look, which is exact for a target that keeps current rows. So they name no column that the
//! application may want to drop, but for those of unique indexes. Of a table without one they write whole rows down (kinds `I`,
//! `U`, `D`, `M`), as an earlier version did of all: the row itself is its key.
//!
//! `INSERT OR REPLACE` and `UPDATE OR REPLACE` remove rows without firing delete triggers
//! (<https://www.sqlite.org/lang_conflict.html>). So triggers that fire *before* note every row that could be
//! removed, as kind `m` or `M` (maybe). The reader finds out whether it was: the table has the key or has it not, or see
//! [`super::replaced`].

use crate::as_source::catalog::{unique_indexes, usable_key_of};
use crate::as_source::names::{Names, row_number};
use moorage_core::model::schema::RowIdentity;
use moorage_core::model::sql::{quote_ident, quote_literal};
use moorage_core::plan::table::TablePlan;
use rusqlite::Connection;

type Sql<T> = rusqlite::Result<T>;

/// Triggers: name and statement of each.
type Made = Vec<(String, String)>;

/// What triggers write down of rows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Form {
    /// Their keys.
    Keys,
    /// All of them.
    Rows,
    /// All of them, with one condition for rows that may be replaced, for which some versions of SQLite read the whole table:
    /// so an earlier version did. It captures the same as `Rows`, and stays: taking it away would be a gap.
    RowsByCondition,
}

impl Form {
    /// The form that a table needs.
    pub(crate) fn of(plan: &TablePlan) -> Self {
        match plan.schema.identity {
            RowIdentity::Key(_) if !plan.each_change => Self::Keys,
            // A key that only a rule declares may be null, or not unique.
            RowIdentity::Key(_) | RowIdentity::DeclaredKey(_) | RowIdentity::WholeRow => Self::Rows,
        }
    }

    /// The word by which it is remembered.
    pub(crate) fn word(self) -> &'static str {
        match self {
            Self::Keys => "keys",
            Self::Rows | Self::RowsByCondition => "whole rows",
        }
    }

    /// Whether it captures what the other does.
    pub(crate) fn is_like(self, other: Self) -> bool {
        (self == Self::Keys) == (other == Self::Keys)
    }
}

/// How many values of a row the change table needs room for.
pub(crate) fn width(plan: &TablePlan) -> usize {
    match (Form::of(plan), plan.schema.identity.key()) {
        (Form::Keys, Some(key)) => key.len(),
        _ => plan.schema.columns.len(),
    }
}

/// The names of a table's key columns as they are now.
pub(crate) fn key_now(db: &Connection, plan: &TablePlan) -> Sql<Vec<String>> {
    let planned = plan.schema.key_names();
    let declared = usable_key_of(db, &plan.table().name)?.filter(|key| key.len() == planned.len());
    Ok(declared.unwrap_or_else(|| planned.iter().map(|name| (*name).to_string()).collect()))
}

/// The triggers that capture a table now, with their form, if they are exactly ours.
pub(crate) fn in_force(
    db: &Connection,
    names: &Names,
    plan: &TablePlan,
    there: &[(String, String, String)],
) -> Sql<Option<(Form, Made)>> {
    for form in [Form::Keys, Form::Rows, Form::RowsByCondition] {
        if form == Form::Keys && Form::of(plan) != Form::Keys {
            continue;
        }
        let wanted = triggers(db, names, plan, form)?;
        if wanted.iter().all(|(name, sql)| there.iter().any(|(n, _, s)| n == name && s == sql)) {
            return Ok(Some((form, wanted)));
        }
    }
    Ok(None)
}

/// The triggers that a table needs.
pub(crate) fn triggers(db: &Connection, names: &Names, plan: &TablePlan, form: Form) -> Sql<Made> {
    let table = &plan.table().name;
    let row = row_number(db, table)?.unwrap_or("rowid");
    let columns = match form {
        Form::Keys => key_now(db, plan)?,
        Form::Rows | Form::RowsByCondition => plan.schema.columns.iter().map(|c| c.name.clone()).collect(),
    };
    let quoted: Vec<String> = columns.iter().map(|name| quote_ident(name)).collect();
    let kind = |letter: &str| if form == Form::Keys { letter.to_lowercase() } else { letter.into() };
    let images = |which: &[(&str, &str)]| {
        let mut into = String::new();
        let mut values = String::new();
        for (letter, record) in which {
            for (i, column) in quoted.iter().enumerate() {
                into.push_str(&format!(", {letter}{}", i + 1));
                values.push_str(&format!(", {record}{column}"));
            }
        }
        (into, values)
    };
    let (changes, on, literal) = (names.changes(), quote_ident(table), quote_literal(table));
    let captured = |what: &str, letter: &str, rows: &[(&str, &str)], which: &[(&str, &str)]| {
        let name = names.trigger(what, table);
        let (into, values) = images(which);
        let row_columns: String = rows.iter().map(|(column, _)| format!(", {column}")).collect();
        let row_values: String = rows.iter().map(|(_, value)| format!(", {value}")).collect();
        let sql = format!(
            "CREATE TRIGGER {} AFTER {} ON {on} BEGIN INSERT INTO {changes} (at, tab, kind{row_columns}{into}) VALUES (julianday('now'), {literal}, '{}'{row_values}{values}); END",
            quote_ident(&name),
            what.to_uppercase(),
            kind(letter)
        );
        (name, sql)
    };
    let (new_row, old_row) = (format!("NEW.{row}"), format!("OLD.{row}"));
    let mut all = vec![
        captured("insert", "I", &[("row_is", &new_row)], &[("n", "NEW.")]),
        captured(
            "update",
            "U",
            &[("row_was", &old_row), ("row_is", &new_row)],
            &[("o", "OLD."), ("n", "NEW.")],
        ),
        captured("delete", "D", &[("row_was", &old_row)], &[("o", "OLD.")]),
    ];
    let same = same(db, table, row, form)?;
    if same.is_empty() {
        return Ok(all);
    }
    let (into, values) = images(&[("o", "")]);
    for (what, event, unless) in [
        ("replace_by_insert", "INSERT", String::new()),
        ("replace_by_update", "UPDATE", format!(" AND {row} <> OLD.{row}")),
    ] {
        let name = names.trigger(what, table);
        let sql = format!(
            "CREATE TRIGGER {} BEFORE {event} ON {on} BEGIN INSERT INTO {changes} (at, tab, kind, row_was{into}) SELECT julianday('now'), {literal}, '{}', {row}{values} FROM {on} WHERE ({same}){unless}; END",
            quote_ident(&name),
            kind("M")
        );
        all.push((name, sql));
    }
    Ok(all)
}

/// Which rows a new one may take the place of, as a condition.
fn same(db: &Connection, table: &str, row: &str, form: Form) -> Sql<String> {
    let on = quote_ident(table);
    let indexes: Vec<String> = unique_indexes(db, table)?
        .iter()
        .map(|unique| {
            let term = |(name, collation): &(String, String)| {
                let column = quote_ident(name);
                format!("{column} = NEW.{column} COLLATE {}", quote_ident(collation))
            };
            unique.columns.iter().map(term).collect::<Vec<_>>().join(" AND ")
        })
        .collect();
    // Rows collide by their number too, whether or not it is the key, if a statement gives it.
    let is_numbered = row_number(db, table)?.is_some();
    if form != Form::RowsByCondition && is_numbered {
        let of_index = |condition: &String| format!("SELECT {row} FROM {on} WHERE {condition}");
        let mut rows: Vec<String> = indexes.iter().map(of_index).collect();
        rows.push(format!("SELECT NEW.{row}"));
        return Ok(format!("{row} IN ({})", rows.join(" UNION ALL ")));
    }
    let mut same: Vec<String> = indexes.iter().map(|condition| format!("({condition})")).collect();
    same.extend(is_numbered.then(|| format!("{row} = NEW.{row}")));
    Ok(same.join(" OR "))
}

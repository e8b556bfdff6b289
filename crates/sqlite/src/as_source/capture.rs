//! The capture point: one change table for a pipeline, and triggers that fill it.
//!
//! Each captured change is a row of `SLOT_changes` with a number that only grows. SQLite has one writer at a
//! time, so the order of the numbers is the order of commits, and what a reader sees of the table is always
//! whole transactions. Values stand in columns without a type (`o1`, `n1`, …), which keep every value as it is.
//!
//! `INSERT OR REPLACE` and `UPDATE OR REPLACE` remove rows without firing delete triggers
//! (<https://www.sqlite.org/lang_conflict.html>). So triggers that fire *before* note every row that could be
//! removed, as kind `M` (maybe). The reader finds out whether it was: see [`super::replaced`].

use crate::as_source::catalog::unique_indexes;
use moorage_adapter::{CapturePlan, Step};
use moorage_core::model::sql::{quote_ident, quote_literal};
use moorage_core::plan::table::TablePlan;
use rusqlite::{Connection, OptionalExtension, params};

type Sql<T> = rusqlite::Result<T>;

/// The names of what a capture point is made of.
#[derive(Clone, Debug)]
pub(crate) struct Names {
    name: String,
}

impl Names {
    pub(crate) fn new(capture: &CapturePlan) -> Self {
        Self { name: capture.name.clone() }
    }

    /// The table with the token.
    pub(crate) fn about(&self) -> String {
        quote_ident(&format!("{}_about", self.name))
    }

    pub(crate) fn changes_plain(&self) -> String {
        format!("{}_changes", self.name)
    }

    /// The change table.
    pub(crate) fn changes(&self) -> String {
        quote_ident(&self.changes_plain())
    }

    fn trigger(&self, what: &str, table: &str) -> String {
        format!("{}_{what}_{table}", self.name)
    }

    /// Whether a trigger is one of this capture point's.
    fn prefix(&self) -> Vec<String> {
        EVENTS.iter().map(|what| format!("{}_{what}_", self.name)).collect()
    }
}

const EVENTS: [&str; 5] = ["insert", "update", "delete", "replace_by_insert", "replace_by_update"];

/// SQLite has three names for the row number, each of which a column may hide.
pub(crate) fn row_number(db: &Connection, table: &str) -> Sql<Option<&'static str>> {
    let mut query = db.prepare_cached("SELECT lower(name) FROM pragma_table_xinfo(?1)")?;
    let columns: Vec<String> = query.query_map([table], |r| r.get(0))?.collect::<Sql<_>>()?;
    Ok(["rowid", "_rowid_", "oid"].into_iter().find(|n| columns.iter().all(|c| c != n)))
}

/// How triggers find the rows that a new one may take the place of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Lookup {
    /// By number, of rows that each unique index gives: no plan reads the whole table.
    ByIndex,
    /// As an earlier version wrote it: one condition, for which some versions of SQLite read the whole table. It captures
    /// the same, so triggers that are there in this form stay: taking them away would be a gap.
    ByCondition,
}

/// The triggers that capture a table now, if they are exactly ours.
fn in_force(
    db: &Connection,
    names: &Names,
    plan: &TablePlan,
    there: &[(String, String, String)],
) -> Sql<Option<Vec<(String, String)>>> {
    for lookup in [Lookup::ByIndex, Lookup::ByCondition] {
        let wanted = triggers(db, names, plan, lookup)?;
        if wanted.iter().all(|(name, sql)| there.iter().any(|(n, _, s)| n == name && s == sql)) {
            return Ok(Some(wanted));
        }
    }
    Ok(None)
}

/// The triggers that a table needs: name and statement.
fn triggers(db: &Connection, names: &Names, plan: &TablePlan, lookup: Lookup) -> Sql<Vec<(String, String)>> {
    let table = &plan.table().name;
    let row = row_number(db, table)?.unwrap_or("rowid");
    let quoted: Vec<String> = plan.schema.columns.iter().map(|c| quote_ident(&c.name)).collect();
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
    let captured = |what: &str, kind: &str, rows: &[(&str, &str)], which: &[(&str, &str)]| {
        let name = names.trigger(what, table);
        let (into, values) = images(which);
        let row_columns: String = rows.iter().map(|(column, _)| format!(", {column}")).collect();
        let row_values: String = rows.iter().map(|(_, value)| format!(", {value}")).collect();
        let sql = format!(
            "CREATE TRIGGER {} AFTER {} ON {on} BEGIN INSERT INTO {changes} (at, tab, kind{row_columns}{into}) VALUES (julianday('now'), {literal}, '{kind}'{row_values}{values}); END",
            quote_ident(&name),
            what.to_uppercase()
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
    let same = match lookup {
        Lookup::ByIndex if is_numbered => {
            let of_index = |condition: &String| format!("SELECT {row} FROM {on} WHERE {condition}");
            let mut rows: Vec<String> = indexes.iter().map(of_index).collect();
            rows.push(format!("SELECT NEW.{row}"));
            format!("{row} IN ({})", rows.join(" UNION ALL "))
        }
        _ => {
            let mut same: Vec<String> = indexes.iter().map(|condition| format!("({condition})")).collect();
            same.extend(is_numbered.then(|| format!("{row} = NEW.{row}")));
            same.join(" OR ")
        }
    };
    if !same.is_empty() {
        let (into, values) = images(&[("o", "")]);
        for (what, event, unless) in [
            ("replace_by_insert", "INSERT", String::new()),
            ("replace_by_update", "UPDATE", format!(" AND {row} <> OLD.{row}")),
        ] {
            let name = names.trigger(what, table);
            let sql = format!(
                "CREATE TRIGGER {} BEFORE {event} ON {on} BEGIN INSERT INTO {changes} (at, tab, kind, row_was{into}) SELECT julianday('now'), {literal}, 'M', {row}{values} FROM {on} WHERE ({same}){unless}; END",
                quote_ident(&name),
            );
            all.push((name, sql));
        }
    }
    Ok(all)
}

/// The triggers of this capture point that are there: name, table, statement.
pub(crate) fn existing_triggers(db: &Connection, names: &Names) -> Sql<Vec<(String, String, String)>> {
    let mut query = db.prepare_cached(
        "SELECT name, tbl_name, sql FROM sqlite_schema WHERE type = 'trigger' ORDER BY name",
    )?;
    let all: Vec<(String, String, String)> =
        query.query_map([], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?.collect::<Sql<_>>()?;
    let prefixes = names.prefix();
    Ok(all.into_iter().filter(|(name, ..)| prefixes.iter().any(|p| name.starts_with(p.as_str()))).collect())
}

/// What captures a table's changes: the version of the schema, and the rows that its triggers have in it. None if the
/// triggers are not exactly ours.
pub(crate) fn captured_by(db: &Connection, names: &Names, plan: &TablePlan) -> Sql<Option<String>> {
    if !table_exists(db, &plan.table().name)? {
        return Ok(None);
    }
    let Some(mut wanted) = in_force(db, names, plan, &existing_triggers(db, names)?)? else {
        return Ok(None);
    };
    wanted.sort();
    let version: i64 = db.query_row("PRAGMA schema_version", [], |r| r.get(0))?;
    let mut query =
        db.prepare_cached("SELECT rowid FROM sqlite_schema WHERE type = 'trigger' AND name = ?1")?;
    let rows = wanted.iter().map(|(name, _)| query.query_row([name], |r| r.get::<_, i64>(0)));
    let rows = rows.map(|row| row.map(|row| row.to_string())).collect::<Sql<Vec<String>>>()?;
    Ok(Some(format!("version {version}, rows {}", rows.join(" "))))
}

/// Triggers that were taken away and put back have other rows in the schema. So they have after a VACUUM, which is one
/// change of the schema, while taking away and putting back are two
/// (<https://www.sqlite.org/pragma.html#pragma_schema_version>).
pub(crate) fn is_unbroken(before: &str, now: &str) -> bool {
    let parts = |text: &str| {
        let (version, rows) = text.strip_prefix("version ")?.split_once(", rows ")?;
        Some((version.parse::<i64>().ok()?, rows.to_string()))
    };
    match (parts(before), parts(now)) {
        (Some((_, before)), Some((_, now))) if before == now => true,
        (Some((before, _)), Some((now, _))) => now == before + 1,
        _ => false,
    }
}

fn table_exists(db: &Connection, name: &str) -> Sql<bool> {
    db.query_row("SELECT count(*) FROM sqlite_schema WHERE type = 'table' AND name = ?1", [name], |r| {
        r.get::<_, i64>(0).map(|n| n > 0)
    })
}

/// The token of the capture point, if it is there.
pub(crate) fn token(db: &Connection, names: &Names) -> Sql<Option<String>> {
    if !table_exists(db, &format!("{}_about", names.name))? {
        return Ok(None);
    }
    db.query_row(&format!("SELECT token FROM {}", names.about()), [], |r| r.get(0)).optional()
}

/// The newest number given to a change; 0 if there was none.
pub(crate) fn head(db: &Connection, names: &Names) -> Sql<i64> {
    if !table_exists(db, &names.changes_plain())? {
        return Ok(0);
    }
    // A statement that ends in a failure and keeps what it did before it (OR FAIL) does not write the sequence.
    let sql = format!(
        "SELECT max(coalesce((SELECT seq FROM sqlite_sequence WHERE name = ?1), 0), coalesce((SELECT max(id) FROM {}), 0))",
        names.changes()
    );
    db.query_row(&sql, [names.changes_plain()], |r| r.get(0))
}

/// The number behind which every change is still there: the row with it proves the history.
pub(crate) fn reaches_back_to(db: &Connection, names: &Names) -> Sql<i64> {
    let sql = format!("SELECT min(id) FROM {}", names.changes());
    let first: Option<i64> = db.query_row(&sql, [], |r| r.get(0))?;
    // Change 1 is kept only if none was ever forgotten; otherwise the oldest kept one is the proof.
    Ok(match first {
        None => head(db, names)?,
        Some(1) => 0,
        Some(first) => first,
    })
}

/// Makes the capture point inside the caller's transaction, anew if `again`.
pub(crate) fn make(
    db: &Connection,
    names: &Names,
    token: &str,
    again: bool,
    tables: &[TablePlan],
) -> Sql<Vec<Step>> {
    let mut steps = Vec::new();
    if again {
        remove(db, names)?;
    }
    if self::token(db, names)?.is_none() {
        db.execute_batch(&format!(
            "CREATE TABLE {about} (token TEXT NOT NULL);
             CREATE TABLE {changes} (id INTEGER PRIMARY KEY AUTOINCREMENT, at REAL NOT NULL, nonce INTEGER NOT NULL DEFAULT (random()),
               tab TEXT NOT NULL, kind TEXT NOT NULL, row_was INTEGER, row_is INTEGER)",
            about = names.about(),
            changes = names.changes()
        ))?;
        db.execute(&format!("INSERT INTO {} VALUES (?1)", names.about()), params![token])?;
        steps.push(Step::new(format!("change table {}", names.changes_plain()), "made"));
    }
    steps.push(align(db, names, tables)?);
    Ok(steps)
}

/// What differs from exactly these tables having their triggers.
struct Differences {
    /// Triggers, by name.
    too_many: Vec<String>,
    /// Statements.
    missing: Vec<String>,
    /// Images of so many columns have room in the change table, and of so many it is needed.
    room: (usize, usize),
}

impl Differences {
    fn find(db: &Connection, names: &Names, tables: &[TablePlan]) -> Sql<Self> {
        let there = existing_triggers(db, names)?;
        let mut wanted = Vec::new();
        for plan in tables {
            let made = in_force(db, names, plan, &there)?;
            wanted.extend(made.map_or_else(|| triggers(db, names, plan, Lookup::ByIndex), Ok)?);
        }
        let is_wanted =
            |(name, _, sql): &&(String, String, String)| wanted.iter().any(|(n, s)| n == name && s == sql);
        let is_there = |(name, sql): &&(String, String)| there.iter().any(|(n, _, s)| n == name && s == sql);
        let too_many = there.iter().filter(|t| !is_wanted(t)).map(|(name, ..)| name.clone()).collect();
        let missing = wanted.iter().filter(|t| !is_there(t)).map(|(_, sql)| sql.clone()).collect();
        let sql = "SELECT count(*) FROM pragma_table_info(?1) WHERE name GLOB 'o[0-9]*'";
        let room: usize = db.query_row(sql, [names.changes_plain()], |r| r.get(0))?;
        let needed = tables.iter().map(|t| t.schema.columns.len()).max().unwrap_or(0);
        Ok(Self { too_many, missing, room: (room, needed) })
    }

    fn are_none(&self) -> bool {
        self.too_many.is_empty() && self.missing.is_empty() && self.room.1 <= self.room.0
    }
}

fn about_triggers(tables: &[TablePlan], outcome: &str) -> Step {
    let count = tables.len();
    Step::new(format!("triggers on {count} {}", if count == 1 { "table" } else { "tables" }), outcome)
}

/// Looks whether exactly these tables have their triggers. Waits for no writer.
pub(crate) fn aligned(db: &Connection, names: &Names, tables: &[TablePlan]) -> Sql<Option<Step>> {
    let differences = Differences::find(db, names, tables)?;
    Ok(differences.are_none().then(|| about_triggers(tables, "already so")))
}

/// Gives exactly these tables their triggers, inside the caller's transaction.
pub(crate) fn align(db: &Connection, names: &Names, tables: &[TablePlan]) -> Sql<Step> {
    let Differences { too_many, missing, room } = Differences::find(db, names, tables)?;
    for i in room.0 + 1..=room.1 {
        db.execute_batch(&format!(
            "ALTER TABLE {0} ADD COLUMN o{i}; ALTER TABLE {0} ADD COLUMN n{i}",
            names.changes()
        ))?;
    }
    for name in &too_many {
        db.execute_batch(&format!("DROP TRIGGER {}", quote_ident(name)))?;
    }
    for sql in &missing {
        db.execute_batch(sql)?;
    }
    let changed = !too_many.is_empty() || !missing.is_empty();
    Ok(about_triggers(tables, if changed { "made" } else { "already so" }))
}

/// Removes everything of the capture point, inside the caller's transaction.
pub(crate) fn remove(db: &Connection, names: &Names) -> Sql<()> {
    for (name, ..) in existing_triggers(db, names)? {
        db.execute_batch(&format!("DROP TRIGGER {}", quote_ident(&name)))?;
    }
    db.execute_batch(&format!(
        "DROP TABLE IF EXISTS {}; DROP TABLE IF EXISTS {}",
        names.changes(),
        names.about()
    ))
}

/// What there is, in words.
pub(crate) fn listed(db: &Connection, names: &Names) -> Sql<Vec<String>> {
    let mut found = Vec::new();
    let triggers = existing_triggers(db, names)?.len();
    if triggers > 0 {
        found.push(format!("{triggers} triggers"));
    }
    if table_exists(db, &names.changes_plain())? {
        found.push(format!("change table {}", names.changes_plain()));
    }
    if table_exists(db, &format!("{}_about", names.name))? {
        found.push(format!("table {}_about", names.name));
    }
    Ok(found)
}

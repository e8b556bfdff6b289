//! The capture point: one change table for a pipeline, and triggers that fill it.
//!
//! Each captured change is a row of `SLOT_changes` with a number that only grows. SQLite has one writer at a
//! time, so the order of the numbers is the order of commits, and what a reader sees of the table is always
//! whole transactions. Values stand in columns without a type (`o1`, `n1`, …), which keep every value as it is. What
//! triggers write of a row: see [`super::triggers`].

use crate::as_source::names::Names;
use crate::as_source::triggers::{Form, in_force, triggers, width};
use moorage_adapter::Step;
use moorage_core::model::sql::quote_ident;
use moorage_core::plan::table::TablePlan;
use rusqlite::{Connection, OptionalExtension, params};

type Sql<T> = rusqlite::Result<T>;

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
    let Some((form, mut wanted)) = in_force(db, names, plan, &existing_triggers(db, names)?)? else {
        return Ok(None);
    };
    if form != Form::Keys && !all_known(db, plan)? {
        return Ok(None);
    }
    wanted.sort();
    let version: i64 = db.query_row("PRAGMA schema_version", [], |r| r.get(0))?;
    let mut query =
        db.prepare_cached("SELECT rowid FROM sqlite_schema WHERE type = 'trigger' AND name = ?1")?;
    let rows = wanted.iter().map(|(name, _)| query.query_row([name], |r| r.get::<_, i64>(0)));
    let rows = rows.map(|row| row.map(|row| row.to_string())).collect::<Sql<Vec<String>>>()?;
    Ok(Some(format!("version {version}, rows {}, {}", rows.join(" "), form.word())))
}

/// Whether a table has no column but those that its plan knows: rows are written down with these alone.
fn all_known(db: &Connection, plan: &TablePlan) -> Sql<bool> {
    let mut query = db.prepare_cached("SELECT name FROM pragma_table_xinfo(?1)")?;
    let names: Vec<String> = query.query_map([&plan.table().name], |r| r.get(0))?.collect::<Sql<_>>()?;
    Ok(names.iter().all(|name| plan.knows(name)))
}

/// Triggers that were taken away and put back have other rows in the schema. So they have after a VACUUM, which is one
/// change of the schema, while taking away and putting back are two
/// (<https://www.sqlite.org/pragma.html#pragma_schema_version>). Ones of another form were made by ourselves, in the
/// transaction that took the others away; earlier versions did not say the form.
pub(crate) fn is_unbroken(before: &str, now: &str) -> bool {
    let parts = |text: &str| {
        let (version, rest) = text.strip_prefix("version ")?.split_once(", rows ")?;
        let (rows, form) = rest.split_once(", ").map_or((rest, None), |(rows, form)| (rows, Some(form)));
        Some((version.parse::<i64>().ok()?, rows.to_string(), form.map(str::to_string)))
    };
    match (parts(before), parts(now)) {
        (Some((_, before, _)), Some((_, now, _))) if before == now => true,
        (Some((.., Some(before))), Some((.., Some(now)))) if before != now => true,
        (Some((before, ..)), Some((now, ..))) => now == before + 1,
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

/// Bytes of the change table.
pub(crate) fn kept_bytes(db: &Connection, names: &Names) -> Sql<u64> {
    let sql = "SELECT coalesce(sum(pgsize), 0) FROM dbstat WHERE name = ?1 AND aggregate = 1";
    let bytes: Option<i64> = db.query_row(sql, [names.changes_plain()], |r| r.get(0)).optional()?;
    Ok(bytes.unwrap_or(0).max(0) as u64)
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

/// Does something to the schema inside the caller's transaction, and takes down how many statements that took.
fn counted<T>(db: &Connection, names: &Names, work: impl FnOnce() -> Sql<T>) -> Sql<T> {
    let version = || db.query_row("PRAGMA schema_version", [], |r| r.get::<_, i64>(0));
    let before = version()?;
    let done = work()?;
    if !counts(db, names)? {
        db.execute_batch(&format!(
            "ALTER TABLE {} ADD COLUMN own INTEGER NOT NULL DEFAULT 0",
            names.about()
        ))?;
    }
    let own = version()? - before;
    db.execute(&format!("UPDATE {} SET own = own + ?1", names.about()), [own])?;
    Ok(done)
}

/// Whether the capture point takes down what it does to the schema; one of an earlier version does not.
fn counts(db: &Connection, names: &Names) -> Sql<bool> {
    let sql = "SELECT count(*) FROM pragma_table_info(?1) WHERE name = 'own'";
    db.query_row(sql, [format!("{}_about", names.name)], |r| r.get::<_, i64>(0)).map(|n| n > 0)
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
            "CREATE TABLE {about} (token TEXT NOT NULL, own INTEGER NOT NULL DEFAULT 0);
             CREATE TABLE {changes} (id INTEGER PRIMARY KEY AUTOINCREMENT, at REAL NOT NULL, nonce INTEGER NOT NULL DEFAULT (random()),
               tab TEXT NOT NULL, kind TEXT NOT NULL, row_was INTEGER, row_is INTEGER)",
            about = names.about(),
            changes = names.changes()
        ))?;
        db.execute(&format!("INSERT INTO {} (token) VALUES (?1)", names.about()), params![token])?;
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
    /// Whether what is done to the schema is counted.
    counts: bool,
}

impl Differences {
    fn find(db: &Connection, names: &Names, tables: &[TablePlan]) -> Sql<Self> {
        let there = existing_triggers(db, names)?;
        let mut wanted = Vec::new();
        for plan in tables {
            // Where whole rows were captured and are not any more, what was captured stays.
            let made = in_force(db, names, plan, &there)?.filter(|(form, _)| form.is_like(Form::of(plan)));
            let made = made.map(|(_, made)| made);
            wanted.extend(made.map_or_else(|| triggers(db, names, plan, Form::of(plan)), Ok)?);
        }
        let is_wanted =
            |(name, _, sql): &&(String, String, String)| wanted.iter().any(|(n, s)| n == name && s == sql);
        let is_there = |(name, sql): &&(String, String)| there.iter().any(|(n, _, s)| n == name && s == sql);
        let too_many = there.iter().filter(|t| !is_wanted(t)).map(|(name, ..)| name.clone()).collect();
        let missing = wanted.iter().filter(|t| !is_there(t)).map(|(_, sql)| sql.clone()).collect();
        let sql = "SELECT count(*) FROM pragma_table_info(?1) WHERE name GLOB 'o[0-9]*'";
        let room: usize = db.query_row(sql, [names.changes_plain()], |r| r.get(0))?;
        let needed = tables.iter().map(width).max().unwrap_or(0);
        Ok(Self { too_many, missing, room: (room, needed), counts: counts(db, names)? })
    }

    fn are_none(&self) -> bool {
        self.counts && self.too_many.is_empty() && self.missing.is_empty() && self.room.1 <= self.room.0
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
    let Differences { too_many, missing, room, .. } = Differences::find(db, names, tables)?;
    counted(db, names, || {
        for i in room.0 + 1..=room.1 {
            db.execute_batch(&format!(
                "ALTER TABLE {0} ADD COLUMN o{i}; ALTER TABLE {0} ADD COLUMN n{i}",
                names.changes()
            ))?;
        }
        for name in &too_many {
            db.execute_batch(&format!("DROP TRIGGER {}", quote_ident(name)))?;
        }
        missing.iter().try_for_each(|sql| db.execute_batch(sql))
    })?;
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

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::untouched("version 5, rows 1 2, keys", "version 9, rows 1 2, keys", true)]
    #[case::put_back("version 5, rows 1 2, keys", "version 9, rows 3 4, keys", false)]
    #[case::vacuum("version 5, rows 1 2, keys", "version 6, rows 3 4, keys", true)]
    #[case::of_another_form_by_ourselves(
        "version 5, rows 1 2, whole rows",
        "version 9, rows 3 4, keys",
        true
    )]
    #[case::by_an_earlier_version("version 5, rows 1 2", "version 9, rows 1 2, whole rows", true)]
    #[case::put_back_since_an_earlier_version("version 5, rows 1 2", "version 9, rows 3 4, keys", false)]
    fn triggers_that_were_put_back_are_told(#[case] before: &str, #[case] now: &str, #[case] expected: bool) {
        assert_eq!(is_unbroken(before, now), expected);
    }
}

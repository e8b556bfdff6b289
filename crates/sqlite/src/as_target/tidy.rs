//! Folding what is old in tables that keep changes.

use chrono::{DateTime, Utc};
use moorage_core::model::sql::{quote_ident, quote_literal};
use moorage_core::plan::table::TablePlan;
use moorage_core::plan::tidy::{Folded, Old, Place, Tidying, parts_of};
use moorage_core::value::moment::Moment;
use rusqlite::functions::{Context, FunctionFlags};
use rusqlite::types::ValueRef;
use rusqlite::{Connection, OptionalExtension, Result};
use std::hash::{DefaultHasher, Hash, Hasher};

/// The function that says in which part a key is.
const PART: &str = "moorage_part";

fn place(db: &Connection, sql: &str) -> Result<Option<Place>> {
    db.query_row(sql, [], |row| Ok(Place { position: row.get(0)?, order: row.get(1)? })).optional()
}

/// What is old by a time.
pub(super) fn old_rows(db: &Connection, plan: &TablePlan, since: DateTime<Utc>) -> Result<Option<Old>> {
    let table = quote_ident(plan.stands_in());
    let tidying = Tidying::new(plan, &table, "rowid");
    let since = match plan.kept_as.milliseconds {
        true => since.timestamp_millis().to_string(),
        false => quote_literal(&Moment::of(since).to_string()),
    };
    let first = place(db, &tidying.first_since(&since))?;
    let Some(last) = place(db, &tidying.last_before(first.as_ref()))? else { return Ok(None) };
    let (rows, others): (u64, u64) =
        db.query_row(&tidying.count(&last), [], |row| Ok((row.get(0)?, row.get(1)?)))?;
    if others == 0 {
        return Ok(None);
    }
    Ok(Some(Old { emptied: place(db, &tidying.last_emptied(&last))?, last, rows, parts: parts_of(rows) }))
}

/// Folds a part, within a transaction.
pub(super) fn fold(db: &Connection, plan: &TablePlan, old: &Old, (part, dry): (u32, bool)) -> Result<Folded> {
    let table = quote_ident(plan.stands_in());
    let tidying = Tidying::new(plan, &table, "rowid");
    let parts = old.parts;
    if part >= parts {
        let markers = tidying.markers(old);
        let removed = match dry {
            true => db.query_row(&format!("SELECT count(*) {markers}"), [], |row| row.get(0))?,
            false => db.execute(&format!("DELETE {markers}"), [])? as u64,
        };
        return Ok(Folded { removed, folded: 0 });
    }
    let of_part = match parts {
        1 => "1".to_string(),
        parts => {
            can_part(db)?;
            format!("{PART}({parts}, {}) = {part}", tidying.key().join(", "))
        }
    };
    if dry {
        let counts = |row: &rusqlite::Row<'_>| Ok(Folded { removed: row.get(0)?, folded: row.get(1)? });
        return db.query_row(&tidying.outlook(old, &of_part), [], counts);
    }
    // What stays is found while the others are still there.
    let (sets, stay) = (tidying.sets(), tidying.rows_that_stay(old, &of_part));
    let folded = db.execute(&format!("UPDATE {table} SET {sets} WHERE rowid IN ({stay})"), [])? as u64;
    let go = tidying.rows_that_go(old, &of_part);
    let removed = db.execute(&format!("DELETE FROM {table} WHERE rowid IN ({go})"), [])? as u64;
    Ok(Folded { removed, folded })
}

fn can_part(db: &Connection) -> Result<()> {
    let flags = FunctionFlags::SQLITE_UTF8 | FunctionFlags::SQLITE_DETERMINISTIC;
    db.create_scalar_function(PART, -1, flags, |context| {
        let parts: i64 = context.get(0)?;
        Ok((hash(context) % parts.unsigned_abs().max(1)) as i64)
    })
}

/// A number that is the same for keys that are equal: an integer and a real number may be (SQLite, "Datatypes", 4.2).
fn hash(context: &Context<'_>) -> u64 {
    let mut hasher = DefaultHasher::new();
    for at in 1..context.len() {
        match context.get_raw(at) {
            ValueRef::Null => 0u8.hash(&mut hasher),
            ValueRef::Integer(number) => (1u8, real(number as f64)).hash(&mut hasher),
            ValueRef::Real(number) => (1u8, real(number)).hash(&mut hasher),
            ValueRef::Text(bytes) => (2u8, bytes).hash(&mut hasher),
            ValueRef::Blob(bytes) => (3u8, bytes).hash(&mut hasher),
        }
    }
    hasher.finish()
}

fn real(number: f64) -> u64 {
    (if number == 0.0 { 0.0 } else { number }).to_bits()
}

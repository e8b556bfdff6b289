//! Finding out which rows `OR REPLACE` removed.
//!
//! A row that a statement may have removed was noted before (kind `M`), with its row number. Whether it
//! was removed is never guessed: the next captured change about the same row number tells (an insert: it was
//! gone; an update or a delete: it was still there), and if there is none, the table itself, seen in the same
//! read transaction, has the row or has it not.

use crate::as_source::names::{Names, row_number};
use moorage_core::model::sql::quote_ident;
use rusqlite::{Connection, params};
use std::collections::{HashMap, HashSet};

type Sql<T> = rusqlite::Result<T>;

/// The numbers of the notes, behind `after` and up to `last`, that stand for rows that were really removed.
pub(crate) fn really(db: &Connection, names: &Names, after: i64, last: i64) -> Sql<HashSet<i64>> {
    let changes = names.changes();
    let sql = format!("SELECT EXISTS (SELECT 1 FROM {changes} WHERE id > ?1 AND id <= ?2 AND kind = 'M')");
    if !db.query_row(&sql, [after, last], |r| r.get::<_, bool>(0))? {
        return Ok(HashSet::new());
    }
    let mut tables: HashMap<String, usize> = HashMap::new();
    // The newest note of each row that nothing has been said about since.
    let mut open: HashMap<(usize, i64), i64> = HashMap::new();
    let mut removed = HashSet::new();
    let mut query = db.prepare(&format!(
        "SELECT id, tab, kind, row_was, row_is FROM {changes} WHERE id > ?1 AND id <= ?2 ORDER BY id"
    ))?;
    let mut rows = query.query(params![after, last])?;
    while let Some(r) = rows.next()? {
        let id: i64 = r.get(0)?;
        let tab = r.get_ref(1)?.as_str()?;
        let table = match tables.get(tab) {
            Some(table) => *table,
            None => {
                tables.insert(tab.to_string(), tables.len());
                tables.len() - 1
            }
        };
        let kind = r.get_ref(2)?.as_str()?;
        let (was, is): (Option<i64>, Option<i64>) = (r.get(3)?, r.get(4)?);
        if kind == "M" {
            if let Some(row) = was {
                open.insert((table, row), id);
            }
            continue;
        }
        if let Some(row) = was {
            open.remove(&(table, row));
        }
        if let Some(row) = is.filter(|row| was != Some(*row))
            && let Some(note) = open.remove(&(table, row))
        {
            removed.insert(note);
        }
    }
    let tables: HashMap<usize, String> = tables.into_iter().map(|(name, number)| (number, name)).collect();
    for ((table, row), note) in open {
        let Some(name) = tables.get(&table) else { continue };
        if !is_there(db, name, row)? {
            removed.insert(note);
        }
    }
    Ok(removed)
}

fn is_there(db: &Connection, table: &str, row: i64) -> Sql<bool> {
    let Some(number) = row_number(db, table)? else { return Ok(true) };
    let sql = format!("SELECT EXISTS (SELECT 1 FROM {} WHERE {number} = ?1)", quote_ident(table));
    db.prepare_cached(&sql)?.query_row([row], |r| r.get(0))
}

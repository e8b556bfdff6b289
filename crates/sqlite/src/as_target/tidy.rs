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

#[cfg(test)]
mod tests {
    use super::*;
    use moorage_core::model::kept_as::{Added, Keep, KeptAs};
    use moorage_core::model::schema::RowIdentity;
    use moorage_core::plan::current_rows::{Whose, current_rows};
    use moorage_testkit::berths_source_table;
    use proptest::prelude::*;
    use std::sync::Arc;

    /// A row of a trail: its key, the operation, and how far behind the one before it stands: at its position, or a later one.
    type Wished = (u8, u8, bool);

    fn plan() -> TablePlan {
        let mut plan = TablePlan::as_it_is(&berths_source_table());
        let key = Arc::make_mut(&mut plan.mapped);
        key.identity = RowIdentity::Key(vec![0]);
        plan.target = "trail".into();
        plan.kept_as = KeptAs { keep: Keep::Changes, ..KeptAs::default() };
        plan
    }

    /// A trail as its writer makes them: a delete is of a row that is there, and so on.
    fn trail(wished: &[Wished]) -> (Connection, Vec<(String, i64)>) {
        let db = Connection::open_in_memory().unwrap();
        let plan = plan();
        let own: Vec<String> = plan.columns.iter().map(|column| quote_ident(&column.name)).collect();
        let added: Vec<&str> = Keep::Changes.adds().iter().map(|added| added.name()).collect();
        db.execute_batch(&format!("CREATE TABLE trail ({}, {})", own.join(", "), added.join(", "))).unwrap();
        let (mut there, mut places, mut position) = (std::collections::BTreeSet::new(), Vec::new(), 1);
        for (order, (key, what, later)) in wished.iter().enumerate() {
            position += u64::from(*later);
            let operation = match (what, there.contains(key)) {
                (0, _) => "truncate",
                (1, true) => "delete",
                (_, true) => "update",
                (2, false) => "snapshot",
                (_, false) => "insert",
            };
            match operation {
                "truncate" => there.clear(),
                "delete" => drop(there.remove(key)),
                _ => drop(there.insert(*key)),
            }
            // A whole number and one with a point are equal, and so are both zeros.
            let key = match (operation, order % 3) {
                ("truncate", _) => "NULL".to_string(),
                (_, 0) => format!("{key}"),
                (_, 1) => format!("{key}.0"),
                _ => format!("-1 * -{key}.0"),
            };
            let (at, order) = (format!("{position:016x}"), order as i64);
            db.execute(
                &format!(
                    "INSERT INTO trail ({}, {}, {}, {}) VALUES ({key}, ?1, ?2, ?3)",
                    own[0],
                    Added::Operation.name(),
                    Added::Position.name(),
                    Added::Order.name()
                ),
                (operation, &at, order),
            )
            .unwrap();
            places.push((at, order));
        }
        (db, places)
    }

    fn now(db: &Connection, up_to: Option<&(String, i64)>) -> Vec<String> {
        let plan = plan();
        let columns = [plan.columns[0].name.clone()];
        let from = match up_to {
            None => "trail".to_string(),
            Some((position, order)) => format!(
                "(SELECT * FROM trail WHERE (moorage_position, moorage_order) <= ('{position}', {order}))"
            ),
        };
        let query = current_rows(&plan, (&from, &columns), Whose::Its, |_| Vec::new()).unwrap();
        let id = quote_ident(&columns[0]);
        let sql = format!("SELECT CAST({id} AS INTEGER) || '' FROM ({query}) r ORDER BY 1");
        let mut statement = db.prepare(&sql).unwrap();
        statement.query_map([], |row| row.get(0)).unwrap().map(std::result::Result::unwrap).collect()
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, cases: 300, ..ProptestConfig::default() })]

        /// Behind each part, whoever ends it in between, and at each later place.
        #[test]
        fn what_a_trail_comes_to_is_the_same_behind_every_part(
            wished in prop::collection::vec((0u8..4, 0u8..8, any::<bool>()), 1..40),
            at in any::<prop::sample::Index>(),
            parts in 1u32..4,
        ) {
            let (db, places) = trail(&wished);
            let at = at.index(places.len());
            let before: Vec<_> = places[at..].iter().map(|place| now(&db, Some(place))).collect();
            let plan = plan();
            let last = Place { position: places[at].0.clone(), order: places[at].1 };
            let tidying = Tidying::new(&plan, "trail", "rowid");
            let emptied = place(&db, &tidying.last_emptied(&last)).unwrap();
            let old = Old { last, emptied, rows: 1, parts };
            for part in 0..=parts {
                let outlook = fold(&db, &plan, &old, (part, true)).unwrap();
                prop_assert_eq!(fold(&db, &plan, &old, (part, false)).unwrap(), outlook);
                prop_assert_eq!(fold(&db, &plan, &old, (part, false)).unwrap(), Folded::default(), "once is enough");
                let after: Vec<_> = places[at..].iter().map(|place| now(&db, Some(place))).collect();
                prop_assert_eq!(&after, &before, "behind part {}", part);
            }
            prop_assert_eq!(&now(&db, None), before.last().unwrap());
            let old_ones = "SELECT count(*), count(DISTINCT CAST(id AS INTEGER)), count(CASE WHEN moorage_operation <> 'snapshot' THEN 1 END) FROM trail WHERE (moorage_position, moorage_order) <= (?1, ?2)";
            let counts: (i64, i64, i64) = db.query_row(old_ones, (&places[at].0, places[at].1), |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?))).unwrap();
            prop_assert_eq!(counts, (before[0].len() as i64, before[0].len() as i64, 0), "a row of a snapshot for each key");
        }
    }
}

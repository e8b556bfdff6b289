//! What reading a table again adds to one that keeps more than the current rows.

use crate::as_target::columns::columns;
use crate::as_target::dialect::affinity;
use crate::as_target::index::build_index;
use crate::as_target::kept::{exact, make_view, query};
use crate::file::error::sql_error;
use moorage_adapter::{AdapterError, CountsFrom, Doing, Result};
use moorage_core::model::kept_as::{Added, Deletes, Keep, Operation};
use moorage_core::model::sql::{quote_ident, quote_literal};
use moorage_core::plan::current_rows::is_its;
use moorage_core::plan::table::TablePlan;
use rusqlite::Connection;
use std::path::Path;

/// Adds to a table what is another way in the rows that were read again: they stand in the table `loaded`, which is then gone.
pub(crate) fn catch_up(
    db: &Connection,
    path: &Path,
    plan: &TablePlan,
    loaded: &str,
    from: &CountsFrom,
) -> Result<()> {
    let failed = |e| sql_error(path, Doing::to("adding what was read again to table", &plan.target), e);
    add_columns(db, path, plan)?;
    build_index(db, path, plan)?;
    make_view(db, path, plan)?;
    let statements = match plan.kept_as.keep {
        Keep::Current if plan.kept_as.is_plain() => among_others(plan, loaded),
        Keep::Current => current(plan, loaded, from),
        Keep::Changes => changes(plan, loaded, from),
        Keep::Versions => versions(plan, loaded, from),
    };
    for sql in statements {
        db.execute_batch(&sql).map_err(failed)?;
    }
    db.execute_batch(&format!("DROP TABLE {}", quote_ident(loaded))).map_err(failed)
}

/// Columns that came meanwhile: what is from before has null there.
///
/// # Errors
/// If one is there with another type, which would make other values of those that are written to it (SQLite manual, Datatypes,
/// 3.1).
pub(super) fn add_columns(db: &Connection, path: &Path, plan: &TablePlan) -> Result<()> {
    let doing = || Doing::to("adding columns to table", &plan.target);
    let failed = |e| sql_error(path, doing(), e);
    let there = columns(db, plan.stands_in()).map_err(failed)?;
    for column in &plan.columns {
        let found = there.iter().find(|(name, _)| name.eq_ignore_ascii_case(&column.name));
        if let Some((name, _)) = found.filter(|(_, sql)| affinity(sql) != affinity(&column.declared.sql)) {
            let (sql, table) = (&column.declared.sql, plan.table());
            let reason = format!(
                "column {name} is to be of type {sql}, and what the table holds from before is not written anew. Give it another name with `into`; then run `moorage resnapshot {table}`"
            );
            return Err(AdapterError::refused(doing(), reason));
        }
        if found.is_none() {
            let (table, name) = (quote_ident(plan.stands_in()), quote_ident(&column.name));
            let sql = format!("ALTER TABLE {table} ADD COLUMN {name} {}", column.declared.sql);
            db.execute_batch(sql.trim_end()).map_err(failed)?;
        }
    }
    Ok(())
}

struct Names {
    table: String,
    loaded: String,
    /// The row's own columns.
    own: String,
    key: Vec<String>,
}

impl Names {
    fn of(plan: &TablePlan, loaded: &str) -> Self {
        let name = |c: usize| quote_ident(&plan.columns[c].name);
        Self {
            table: quote_ident(plan.stands_in()),
            loaded: quote_ident(loaded),
            own: (0..plan.width()).map(name).collect::<Vec<_>>().join(", "),
            key: plan.key().iter().map(|&k| name(k)).collect(),
        }
    }

    fn same_key(&self, a: &str, b: &str) -> String {
        self.key.iter().map(|k| format!("{a}.{k} = {b}.{k}")).collect::<Vec<_>>().join(" AND ")
    }
}

fn same_row(plan: &TablePlan, a: &str, b: &str) -> String {
    let term = |c| format!("{} IS {}", exact(plan, c, &format!("{a}.")), exact(plan, c, &format!("{b}.")));
    (0..plan.width()).map(term).collect::<Vec<_>>().join(" AND ")
}

/// A condition more, where the target table has rows of other tables, too: that a row is of the plan's.
fn and_its(plan: &TablePlan, prefix: &str) -> String {
    is_its(plan, prefix).map(|its| format!(" AND {its}")).unwrap_or_default()
}

/// The rows of one table among those of others become those that were read.
fn among_others(plan: &TablePlan, loaded: &str) -> Vec<String> {
    let names = Names::of(plan, loaded);
    let Names { table, loaded, own, key } = &names;
    let its = is_its(plan, "").unwrap_or_default();
    if key.is_empty() {
        return vec![
            format!("DELETE FROM {table} WHERE {its}"),
            format!("INSERT INTO {table} ({own}) SELECT {own} FROM {loaded}"),
        ];
    }
    let same = format!(
        "SELECT 1 FROM {loaded} s WHERE {} AND {}",
        names.same_key("s", table),
        same_row(plan, "s", table)
    );
    vec![
        format!("DELETE FROM {table} WHERE {its} AND NOT EXISTS ({same})"),
        format!(
            "INSERT INTO {table} ({own}) SELECT {own} FROM {loaded} s WHERE NOT EXISTS (SELECT 1 FROM {table} t WHERE {}{})",
            names.same_key("t", "s"),
            and_its(plan, "t.")
        ),
    ]
}

/// What is gone stays, marked or not; what is new or differs is written.
fn current(plan: &TablePlan, loaded: &str, from: &CountsFrom) -> Vec<String> {
    let names = Names::of(plan, loaded);
    let Names { table, loaded, own, key } = &names;
    let mut all = Vec::new();
    let own_columns = plan.columns.iter().take(plan.width()).map(|c| quote_ident(&c.name));
    let others = own_columns.filter(|name| !key.contains(name));
    let mut sets: Vec<String> = others.map(|name| format!("{name} = excluded.{name}")).collect();
    if plan.kept_as.deletes == Deletes::Mark {
        let deleted_at = quote_ident(plan.kept_as.name(Added::DeletedAt));
        let at = quote_literal(&from.valid_from.to_string());
        all.push(format!(
            "UPDATE {table} SET {deleted_at} = {at} WHERE {deleted_at} IS NULL{} AND NOT EXISTS (SELECT 1 FROM {loaded} s WHERE {})",
            and_its(plan, ""),
            names.same_key("s", table)
        ));
        sets.push(format!("{deleted_at} = NULL"));
    }
    // One of another table stays what it is, and the next statement refuses that.
    let whose = match (is_its(plan, &format!("{table}.")), plan.kept_as.deletes) {
        (Some(its), Deletes::Mark) => {
            format!(
                " WHERE {its} OR {table}.{} IS NOT NULL",
                quote_ident(plan.kept_as.name(Added::DeletedAt))
            )
        }
        (Some(its), _) => format!(" WHERE {its}"),
        (None, _) => String::new(),
    };
    let action = match sets.is_empty() {
        true => "NOTHING".into(),
        false => format!("UPDATE SET {}{whose}", sets.join(", ")),
    };
    // Without a condition SQLite takes ON for that of a join (the page on UPSERT, section 2.2).
    all.push(format!(
        "INSERT INTO {table} ({own}) SELECT {own} FROM {loaded} WHERE true ON CONFLICT ({}) DO {action}",
        key.join(", ")
    ));
    if plan.gathered.is_some() {
        // Refused by the key, if it is there as another table's.
        all.push(format!(
            "INSERT INTO {table} ({own}) SELECT {own} FROM {loaded} s WHERE NOT EXISTS (SELECT 1 FROM {table} t WHERE {}{})",
            names.same_key("t", "s"),
            and_its(plan, "t.")
        ));
    }
    all
}

/// What is gone is deleted in the trail, what is new or differs stands there as read.
fn changes(plan: &TablePlan, loaded: &str, from: &CountsFrom) -> Vec<String> {
    let name = |added| quote_ident(plan.kept_as.name(added));
    let (operation, position, order) = (name(Added::Operation), name(Added::Position), name(Added::Order));
    let Names { table, loaded, own, key } = &Names::of(plan, loaded);
    let names = Names::of(plan, loaded);
    let now = "temp.moorage_now";
    let at = quote_literal(&from.position);
    let add = |columns: &str, word: Operation, rows: &str| {
        format!(
            "INSERT INTO {table} ({columns}, {operation}, {position}, {order}) SELECT {columns}, {}, {at}, \
             (SELECT coalesce(max({order}), 0) FROM {table} WHERE {position} = {at}) + row_number() OVER () FROM {rows}",
            quote_literal(plan.kept_as.word(word))
        )
    };
    let begin = format!(
        "DROP TABLE IF EXISTS {now}; CREATE TEMP TABLE moorage_now AS {}",
        query(plan).unwrap_or_default()
    );
    let (gone, come) = if key.is_empty() {
        let numbered = |rows: &str| {
            let row = (0..plan.width()).map(|c| exact(plan, c, "")).collect::<Vec<_>>().join(", ");
            format!("SELECT {own}, row_number() OVER (PARTITION BY {row}) FROM {rows}")
        };
        let but = |a: &str, b: &str| format!("({} EXCEPT {})", numbered(a), numbered(b));
        (add(own, Operation::Delete, &but(now, loaded)), add(own, Operation::Snapshot, &but(loaded, now)))
    } else {
        let missing =
            format!("{now} c WHERE NOT EXISTS (SELECT 1 FROM {loaded} s WHERE {})", names.same_key("s", "c"));
        let differing = format!(
            "{loaded} s WHERE NOT EXISTS (SELECT 1 FROM {now} c WHERE {} AND {})",
            names.same_key("c", "s"),
            same_row(plan, "c", "s")
        );
        (add(&key.join(", "), Operation::Delete, &missing), add(own, Operation::Snapshot, &differing))
    };
    let index = match key.is_empty() {
        true => String::new(),
        false => format!("CREATE INDEX temp.moorage_now_key ON moorage_now ({})", key.join(", ")),
    };
    vec![begin, index, gone, come, format!("DROP TABLE {now}")]
}

/// Versions that are gone or differ end; what is new or differs begins.
fn versions(plan: &TablePlan, loaded: &str, from: &CountsFrom) -> Vec<String> {
    let names = Names::of(plan, loaded);
    let Names { table, loaded, own, .. } = &names;
    let name = |added| quote_ident(plan.kept_as.name(added));
    let (since, until) = (name(Added::Since), name(Added::Until));
    let at = quote_literal(&from.valid_from.to_string());
    let differs = format!(
        "{until} IS NULL{} AND NOT EXISTS (SELECT 1 FROM {loaded} s WHERE {} AND {})",
        and_its(plan, ""),
        names.same_key("s", table),
        same_row(plan, "s", table)
    );
    vec![
        // They were made at this very moment, and were never to be seen.
        format!("DELETE FROM {table} WHERE {since} >= {at} AND {differs}"),
        format!("UPDATE {table} SET {until} = {at} WHERE {differs}"),
        format!(
            "INSERT INTO {table} ({own}, {since}) SELECT {own}, {at} FROM {loaded} s \
             WHERE NOT EXISTS (SELECT 1 FROM {table} v WHERE {} AND v.{until} IS NULL{})",
            names.same_key("v", "s"),
            and_its(plan, "v.")
        ),
    ]
}

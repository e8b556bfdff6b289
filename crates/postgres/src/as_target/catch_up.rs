//! What reading a table again adds to one that keeps more than the current rows.

use super::dialect::holds;
use super::dialect::relation;
use super::form::Found;
use super::index::build_index;
use super::kept::{make_view, name, own_text, query, without_view};
use crate::wire::connect::Session;
use moorage_adapter::{AdapterError, CountsFrom, Doing, Result};
use moorage_core::model::kept_as::{Added, Deletes, Keep, Operation};
use moorage_core::model::sql::{quote_ident, quote_literal};
use moorage_core::plan::current_rows::is_its;
use moorage_core::plan::table::{PlannedColumn, TablePlan};

/// Adds to a table what is another way in the rows that were read again and loaded beside it.
pub(super) async fn catch_up(
    session: &Session,
    pipeline: &str,
    (plan, found): (&TablePlan, &Found),
    loaded: &str,
    from: &CountsFrom,
) -> Result<()> {
    let doing = || Doing::to("adding what was read again to table", &plan.target);
    add_columns(session, pipeline, plan, found).await?;
    build_index(session, plan, found, false).await?;
    make_view(session, pipeline, plan).await?;
    let statements = match plan.kept_as.keep {
        Keep::Current if plan.kept_as.is_plain() => among_others(plan, loaded),
        Keep::Current => current(plan, loaded, from),
        Keep::Changes => changes(plan, loaded, from),
        Keep::Versions => versions(plan, loaded, from),
    };
    session.run(doing(), &statements.join("; ")).await
}

/// Adds the columns to a table that it lacks. Where several stand in it, it gets the wider type of a column of which one has a wider
/// one: what it holds is the same there.
///
/// # Errors
/// If it has one of another type.
pub(super) async fn add_columns(
    session: &Session,
    pipeline: &str,
    plan: &TablePlan,
    found: &Found,
) -> Result<()> {
    let doing = || Doing::to("adding columns to table", &plan.target);
    let there = &found.columns;
    let missing = plan.columns.iter().filter(|c| !there.iter().any(|column| column.name == c.name));
    let added: Vec<String> = missing
        .map(|c| {
            let (table, name) = (relation(plan.stands_in()), quote_ident(&c.name));
            format!("ALTER TABLE {table} ADD COLUMN {name} {}", c.declared.sql)
        })
        .collect();
    let is_there =
        |c: &PlannedColumn| there.iter().find(|found| found.name == c.name).map(|found| &found.declared);
    let differs = |c: &&PlannedColumn| {
        // Others may need a wider type, and so may who wrote the statements by hand.
        is_there(c).is_some_and(|there| match plan.gathered.is_some() || plan.ddl.is_some() {
            true => !holds(&c.declared.sql, "", there),
            false => *there != c.declared.sql,
        })
    };
    let (widened, other): (Vec<_>, Vec<_>) = plan
        .columns
        .iter()
        .filter(differs)
        .partition(|c| is_there(c).is_some_and(|there| may_widen(plan, there, &c.declared.sql)));
    if !other.is_empty() {
        return Err(AdapterError::refused(doing(), of_other_types(plan, &other)));
    }
    if !widened.is_empty() {
        let widen = |c: &&PlannedColumn| {
            let (table, name, sql) = (relation(plan.stands_in()), quote_ident(&c.name), &c.declared.sql);
            format!("ALTER TABLE {table} ALTER COLUMN {name} TYPE {sql} USING {name}::{sql}")
        };
        let all = added.iter().cloned().chain(widened.iter().map(widen)).collect();
        return without_view(session, pipeline, plan, all).await;
    }
    match added.is_empty() {
        true => Ok(()),
        false => session.run(doing(), &added.join("; ")).await,
    }
}

/// Why columns of a table cannot get their planned types, and the way out.
fn of_other_types(plan: &TablePlan, columns: &[&PlannedColumn]) -> String {
    let said = columns.iter().map(|c| format!("column {} is to be of type {}", c.name, c.declared.sql));
    let (said, table) = (said.collect::<Vec<_>>().join(", "), plan.table());
    match &plan.gathered {
        Some(_) => format!(
            "{said}, and another one in {}, for other tables as well. Change the type by hand (ALTER TABLE), or have this table's be the same with `cast` in a rule; then run `moorage resnapshot {table}`",
            plan.stands_in()
        ),
        None => format!(
            "{said}, and what the table holds from before is not written anew. Change that by hand ({}), or give the table another name with `into`; then run `moorage resnapshot {table}`",
            by_hand(plan, columns)
        ),
    }
}

/// The statements that give columns their planned types: the view has to be away for that, and comes back by itself.
fn by_hand(plan: &TablePlan, columns: &[&PlannedColumn]) -> String {
    let changes = columns.iter().map(|c| {
        let (name, sql) = (quote_ident(&c.name), &c.declared.sql);
        format!("ALTER COLUMN {name} TYPE {sql} USING {name}::text::{sql}")
    });
    let changes = changes.collect::<Vec<_>>().join(", ");
    let alter = format!("ALTER TABLE {} {changes}", relation(plan.stands_in()));
    match plan.view() {
        Some(view) => format!("DROP VIEW {}; {alter}", relation(view)),
        None => alter,
    }
}

/// Whether a column in a table in which several stand can become of a type that one of them has. A text says the same as any
/// value; that of other tables' columns is nobody's wish, but partitions all have the same.
pub(super) fn may_widen(plan: &TablePlan, there: &str, declared: &str) -> bool {
    let is_text = declared == "text" || declared.starts_with("character varying");
    plan.gathered.is_some()
        && declared != "jsonb"
        && holds(there, "", declared)
        && (!is_text || plan.root().is_some())
}

/// The rows of one table among those of others become those that were read.
fn among_others(plan: &TablePlan, loaded: &str) -> Vec<String> {
    let (table, own, its) = (relation(plan.stands_in()), own(plan), is_its(plan, "t.").unwrap_or_default());
    let insert = format!("INSERT INTO {table} ({own}) OVERRIDING SYSTEM VALUE SELECT {own} FROM {loaded} s");
    let (same_key, same_row) = (same_key(plan, "s", "t"), same_row(plan, "s", "t"));
    if same_key.is_empty() {
        return vec![format!("DELETE FROM ONLY {table} t WHERE {its}"), insert];
    }
    let columns = plan.columns.iter().take(plan.width()).map(|c| quote_ident(&c.name));
    let sets: Vec<String> = columns.map(|c| format!("{c} = s.{c}")).collect();
    vec![
        format!(
            "DELETE FROM ONLY {table} t WHERE {its} AND NOT EXISTS (SELECT 1 FROM {loaded} s WHERE {same_key})"
        ),
        format!(
            "UPDATE ONLY {table} t SET {} FROM {loaded} s WHERE {its} AND {same_key} AND NOT {same_row}",
            sets.join(", ")
        ),
        format!("{insert} WHERE NOT EXISTS (SELECT 1 FROM ONLY {table} t WHERE {its} AND {same_key})"),
    ]
}

fn own(plan: &TablePlan) -> String {
    let own = plan.columns.iter().take(plan.width()).map(|c| quote_ident(&c.name));
    own.collect::<Vec<_>>().join(", ")
}

fn key(plan: &TablePlan) -> Vec<String> {
    plan.key().iter().map(|&k| quote_ident(&plan.columns[k].name)).collect()
}

fn same_key(plan: &TablePlan, a: &str, b: &str) -> String {
    key(plan).iter().map(|k| format!("{a}.{k} = {b}.{k}")).collect::<Vec<_>>().join(" AND ")
}

fn same_row(plan: &TablePlan, a: &str, b: &str) -> String {
    format!("{} = {}", own_text(plan, &format!("{a}.")), own_text(plan, &format!("{b}.")))
}

/// What is gone stays, marked or not; what is new or differs is written.
fn current(plan: &TablePlan, loaded: &str, from: &CountsFrom) -> Vec<String> {
    let (table, own, key) = (relation(plan.stands_in()), own(plan), key(plan));
    let mut all = Vec::new();
    let own_columns = plan.columns.iter().take(plan.width()).map(|c| quote_ident(&c.name));
    let others = own_columns.filter(|name| !key.contains(name));
    let mut sets: Vec<String> = others.map(|name| format!("{name} = excluded.{name}")).collect();
    let mut is_marked = String::new();
    let its = is_its(plan, "t.").map(|its| format!(" AND {its}")).unwrap_or_default();
    if plan.kept_as.deletes == Deletes::Mark {
        let deleted_at = name(plan, Added::DeletedAt);
        let at = format!("{}::timestamptz", quote_literal(&from.valid_from.to_string()));
        all.push(format!(
            "UPDATE ONLY {table} t SET {deleted_at} = {at} WHERE t.{deleted_at} IS NULL{its} AND NOT EXISTS (SELECT 1 FROM {loaded} s WHERE {})",
            same_key(plan, "s", "t")
        ));
        sets.push(format!("{deleted_at} = NULL"));
        is_marked = format!(" OR t.{deleted_at} IS NOT NULL");
    }
    // One of another table stays what it is, and the next statement refuses that.
    let whose = match (is_its(plan, "t."), plan.kept_as.deletes) {
        (Some(its), Deletes::Mark) => {
            format!(" AND ({its} OR t.{} IS NOT NULL)", name(plan, Added::DeletedAt))
        }
        (Some(its), _) => format!(" AND {its}"),
        (None, _) => String::new(),
    };
    let action = match sets.is_empty() {
        true => "NOTHING".into(),
        false => format!(
            "UPDATE SET {} WHERE ({} <> {}{is_marked}){whose}",
            sets.join(", "),
            own_text(plan, "t."),
            own_text(plan, "excluded.")
        ),
    };
    all.push(format!(
        "INSERT INTO {table} AS t ({own}) OVERRIDING SYSTEM VALUE SELECT {own} FROM {loaded} ON CONFLICT ({}) DO {action}",
        key.join(", ")
    ));
    if is_its(plan, "").is_some() {
        // Refused by the key, if it is there as another table's.
        all.push(format!(
            "INSERT INTO {table} ({own}) OVERRIDING SYSTEM VALUE SELECT {own} FROM {loaded} s \
             WHERE NOT EXISTS (SELECT 1 FROM ONLY {table} t WHERE {}{its})",
            same_key(plan, "s", "t")
        ));
    }
    all
}

/// What is gone is deleted in the trail, what is new or differs stands there as read.
fn changes(plan: &TablePlan, loaded: &str, from: &CountsFrom) -> Vec<String> {
    let [operation, position, order] =
        [Added::Operation, Added::Position, Added::Order].map(|added| name(plan, added));
    let (table, own, key) = (relation(plan.stands_in()), own(plan), key(plan));
    let now = "pg_temp.moorage_now";
    let at = quote_literal(&from.position);
    let add = |columns: &str, word: Operation, rows: &str| {
        format!(
            "INSERT INTO {table} ({columns}, {operation}, {position}, {order}) SELECT {columns}, {}, {at}, \
             (SELECT coalesce(max({order}), 0) FROM ONLY {table} WHERE {position} = {at}) + row_number() OVER () FROM {rows}",
            quote_literal(plan.kept_as.word(word))
        )
    };
    let mut all = vec![
        format!("DROP TABLE IF EXISTS {now}"),
        format!("CREATE TEMP TABLE moorage_now ON COMMIT DROP AS {}", query(plan).unwrap_or_default()),
    ];
    if key.is_empty() {
        let numbered = |rows: &str, alias: &str| {
            let row = own_text(plan, "r.");
            format!(
                "(SELECT r.*, {row} AS moorage_row, row_number() OVER (PARTITION BY {row}) AS moorage_nth FROM {rows} r) {alias}"
            )
        };
        let but = |a: &str, b: &str| {
            format!(
                "{} WHERE NOT EXISTS (SELECT 1 FROM {} WHERE (b.moorage_row, b.moorage_nth) = (a.moorage_row, a.moorage_nth))",
                numbered(a, "a"),
                numbered(b, "b")
            )
        };
        all.push(add(&own, Operation::Delete, &but(now, loaded)));
        all.push(add(&own, Operation::Snapshot, &but(loaded, now)));
        return all;
    }
    let missing =
        format!("{now} c WHERE NOT EXISTS (SELECT 1 FROM {loaded} s WHERE {})", same_key(plan, "s", "c"));
    let differing = format!(
        "{loaded} s WHERE NOT EXISTS (SELECT 1 FROM {now} c WHERE {} AND {})",
        same_key(plan, "c", "s"),
        same_row(plan, "c", "s")
    );
    all.push(format!("CREATE INDEX ON {now} ({})", key.join(", ")));
    all.push(add(&key.join(", "), Operation::Delete, &missing));
    all.push(add(&own, Operation::Snapshot, &differing));
    all
}

/// Versions that are gone or differ end; what is new or differs begins.
fn versions(plan: &TablePlan, loaded: &str, from: &CountsFrom) -> Vec<String> {
    let [since, until] = [Added::Since, Added::Until].map(|added| name(plan, added));
    let (table, own) = (relation(plan.stands_in()), own(plan));
    let at = format!("{}::timestamptz", quote_literal(&from.valid_from.to_string()));
    let its = is_its(plan, "t.").map(|its| format!(" AND {its}")).unwrap_or_default();
    let differs = format!(
        "t.{until} IS NULL{its} AND NOT EXISTS (SELECT 1 FROM {loaded} s WHERE {} AND {})",
        same_key(plan, "s", "t"),
        same_row(plan, "s", "t")
    );
    vec![
        // They were made at this very moment, and were never to be seen.
        format!("DELETE FROM ONLY {table} t WHERE t.{since} >= {at} AND {differs}"),
        format!("UPDATE ONLY {table} t SET {until} = {at} WHERE {differs}"),
        format!(
            "INSERT INTO {table} ({own}, {since}) OVERRIDING SYSTEM VALUE SELECT {own}, {at} FROM {loaded} s \
             WHERE NOT EXISTS (SELECT 1 FROM ONLY {table} t WHERE {} AND t.{until} IS NULL{its})",
            same_key(plan, "t", "s")
        ),
    ]
}

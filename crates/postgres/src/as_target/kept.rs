//! Tables that keep more than the current rows: what they have as such, the view of it, and what reading them again adds.

use super::beside::{Replaced, beside};
use super::dialect::{parts, relation};
use super::statements::escaped;
use crate::as_target::index::build_index;
use crate::wire::connect::Session;
use crate::wire::written::{WRITTEN, WRITTEN_END};
use moorage_adapter::{AdapterError, CountsFrom, Doing, Result};
use moorage_core::drift::alter::AlterStep;
use moorage_core::model::kept_as::{Added, Keep, Operation};
use moorage_core::model::sql::{quote_ident, quote_literal};
use moorage_core::plan::current_rows::current_rows;
use moorage_core::plan::table::TablePlan;

/// With what the comment of a view of ours begins.
pub(crate) const OURS: &str = WRITTEN;

fn name(plan: &TablePlan, added: Added) -> String {
    quote_ident(plan.kept_as.name(added))
}

/// A query for the rows that a table has now; none where that is the table itself.
pub(crate) fn query(plan: &TablePlan) -> Option<String> {
    let table = format!("ONLY {}", relation(&plan.target));
    // Two rows as texts are equal only if their values are, to the last bit.
    current_rows(plan, &table, |prefix| vec![row_text(plan, prefix)])
}

fn row_text(plan: &TablePlan, prefix: &str) -> String {
    let columns: Vec<String> =
        plan.columns.iter().take(plan.width()).map(|c| format!("{prefix}{}", quote_ident(&c.name))).collect();
    format!("ROW({})::text", columns.join(", "))
}

/// What merges find rows by, beside a primary key. `named` gives the names of indexes of a kind.
pub(crate) fn indexes(plan: &TablePlan, relation: &str, named: impl Fn(&str) -> String) -> Vec<String> {
    let key = plan.key().iter().map(|&k| quote_ident(&plan.columns[k].name));
    match plan.kept_as.keep {
        Keep::Current => Vec::new(),
        Keep::Changes => {
            let in_order = [name(plan, Added::Position), name(plan, Added::Order)];
            let columns: Vec<String> = key.chain(in_order.clone()).collect();
            vec![
                format!("CREATE INDEX {} ON {relation} ({})", named("match"), columns.join(", ")),
                // What a trail is read back by begins anew where the table was emptied.
                format!(
                    "CREATE INDEX {} ON {relation} ({}) WHERE {} = {}",
                    named("emptied"),
                    in_order.join(", "),
                    name(plan, Added::Operation),
                    quote_literal(plan.kept_as.word(Operation::Truncate))
                ),
            ]
        }
        Keep::Versions => vec![format!(
            "CREATE UNIQUE INDEX {} ON {relation} ({}) WHERE {} IS NULL",
            named("valid"),
            key.collect::<Vec<_>>().join(", "),
            name(plan, Added::Until)
        )],
    }
}

/// The statement that makes the view beside a table; none if there is none to be made.
pub(crate) fn view(plan: &TablePlan) -> Option<String> {
    Some(format!("CREATE VIEW {} AS {}", relation(plan.kept_as.view.as_ref()?), query(plan)?))
}

/// The view beside a table, as it is in the server.
struct FoundView {
    is_ours: bool,
    columns: Vec<String>,
    /// Statements that give others the rights to it that they have.
    grants: Vec<String>,
}

async fn find_view(session: &Session, view: &str) -> Result<Option<FoundView>> {
    let (schema, name) = parts(view);
    let sql = "
SELECT c.relkind = 'v' AND starts_with(coalesce(obj_description(c.oid, 'pg_class'), ''), $3),
       ARRAY(SELECT attname::text FROM pg_attribute WHERE attrelid = c.oid AND attnum > 0 AND NOT attisdropped ORDER BY attnum),
       ARRAY(SELECT format('GRANT %s ON %s TO %s', x.privilege_type, c.oid::regclass,
                           CASE WHEN x.grantee = 0 THEN 'PUBLIC' ELSE x.grantee::regrole::text END)
             FROM aclexplode(c.relacl) x WHERE x.grantee <> c.relowner)
  FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = $1 AND c.relname = $2";
    let rows = session.rows(Doing::to("looking for view", view), sql, &[&schema, &name, &OURS]).await?;
    let row = rows.first();
    Ok(row.map(|row| FoundView { is_ours: row.get(0), columns: row.get(1), grants: row.get(2) }))
}

/// Makes the view beside a table; one of ours that is there is made anew.
///
/// # Errors
/// If there is something else of that name.
pub(crate) async fn make_view(session: &Session, pipeline: &str, plan: &TablePlan) -> Result<()> {
    let Some(view) = &plan.kept_as.view else { return Ok(()) };
    let found = find_view(session, view).await?;
    let doing = || Doing::to("making view", view);
    if found.as_ref().is_some_and(|found| !found.is_ours) {
        let reason = "there is something else of that name. Rename or drop it, or give the view another name with `view` in the project file";
        return Err(AdapterError::refused(doing(), reason));
    }
    let schema = quote_ident(&parts(view).0);
    let sql = "SELECT to_regnamespace($1) IS NULL";
    let mut all = Vec::new();
    if session.one("looking for the schema", sql, &[&schema]).await?.get(0) {
        all.push(format!("CREATE SCHEMA {schema}"));
    }
    all.extend(found.as_ref().map(|_| format!("DROP VIEW {}", relation(view))));
    all.extend(made(pipeline, plan));
    all.extend(found.into_iter().flat_map(|found| found.grants));
    session.run(doing(), &all.join("; ")).await
}

/// The statements that make the view, with what is said of it.
fn made(pipeline: &str, plan: &TablePlan) -> Vec<String> {
    let (Some(view), Some(sql)) = (&plan.kept_as.view, view(plan)) else { return Vec::new() };
    let comment = format!("{WRITTEN}{pipeline}{WRITTEN_END}: the rows of {} as they are now", plan.target);
    vec![sql, format!("COMMENT ON VIEW {} IS {}", relation(view), escaped(&comment))]
}

/// Takes the view beside a table away, if it is ours.
pub(crate) async fn drop_view(session: &Session, plan: &TablePlan) -> Result<()> {
    let Some(view) = &plan.kept_as.view else { return Ok(()) };
    if find_view(session, view).await?.is_some_and(|found| found.is_ours) {
        session.run(Doing::to("removing view", view), &format!("DROP VIEW {}", relation(view))).await?;
    }
    Ok(())
}

/// What is to be done to the view beside a table before it is altered, and behind that.
pub(crate) async fn around(
    session: &Session,
    pipeline: &str,
    (before, after): (&TablePlan, &TablePlan),
    steps: &[&AlterStep],
) -> Result<(Vec<String>, Vec<String>)> {
    let (Some(was), Some(view)) = (&before.kept_as.view, &after.kept_as.view) else {
        return Ok((Vec::new(), Vec::new()));
    };
    let found = find_view(session, was).await?.filter(|found| found.is_ours);
    let Some(found) = found else { return Ok((Vec::new(), made(pipeline, after))) };
    let names: Vec<&str> = after.columns.iter().take(after.width()).map(|c| c.name.as_str()).collect();
    let adds = steps.iter().all(|step| matches!(step, AlterStep::Add { .. }));
    let stays = was == view && adds && found.columns.iter().all(|c| names.contains(&c.as_str()));
    match query(after).filter(|_| stays) {
        // Columns that a view gets more come behind those that it has (PostgreSQL manual, CREATE VIEW).
        Some(query) => {
            let had = found.columns.iter().map(String::as_str);
            let new = names.iter().copied().filter(|name| !found.columns.iter().any(|had| had == name));
            let list: Vec<String> = had.chain(new).map(quote_ident).collect();
            let sql = format!(
                "CREATE OR REPLACE VIEW {} AS SELECT {} FROM ({query}) r",
                relation(view),
                list.join(", ")
            );
            Ok((Vec::new(), vec![sql]))
        }
        None => {
            let drop = format!("DROP VIEW {}", relation(was));
            let grants = if was == view { found.grants } else { Vec::new() };
            Ok((vec![drop], made(pipeline, after).into_iter().chain(grants).collect()))
        }
    }
}

/// Adds to a table what is another way in the rows that were read again and loaded beside it.
pub(super) async fn catch_up(session: &Session, pipeline: &str, table: &Replaced<'_>) -> Result<()> {
    let (plan, loaded) = (table.plan, beside(table.found.id));
    let doing = || Doing::to("adding what was read again to table", &plan.target);
    let there = &table.found.columns;
    let missing = plan.columns.iter().filter(|c| !there.iter().any(|found| found.name == c.name));
    let added: Vec<String> = missing
        .map(|c| {
            let (table, name) = (relation(&plan.target), quote_ident(&c.name));
            format!("ALTER TABLE {table} ADD COLUMN {name} {}", c.declared.sql)
        })
        .collect();
    let differs = |c: &&moorage_core::plan::table::PlannedColumn| {
        there.iter().any(|found| found.name == c.name && found.declared != c.declared.sql)
    };
    if let Some(column) = plan.columns.iter().find(differs) {
        let reason = format!(
            "column {} is to be of type {}, and with keep = \"{}\" what it holds from before is not written anew. Change its type by hand (ALTER TABLE), or give the table another name with `into`; then run `moorage resnapshot {}`",
            column.name,
            column.declared.sql,
            plan.kept_as.keep.word(),
            plan.table()
        );
        return Err(AdapterError::refused(doing(), reason));
    }
    if !added.is_empty() {
        session.run(doing(), &added.join("; ")).await?;
    }
    build_index(session, plan, &table.found, false).await?;
    make_view(session, pipeline, plan).await?;
    let statements = match plan.kept_as.keep {
        Keep::Current => Vec::new(),
        Keep::Changes => changes(plan, &loaded, &table.end.from),
        Keep::Versions => versions(plan, &loaded, &table.end.from),
    };
    session.run(doing(), &statements.join("; ")).await
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
    format!("{} = {}", row_text(plan, &format!("{a}.")), row_text(plan, &format!("{b}.")))
}

/// What is gone is deleted in the trail, what is new or differs stands there as read.
fn changes(plan: &TablePlan, loaded: &str, from: &CountsFrom) -> Vec<String> {
    let [operation, position, order] =
        [Added::Operation, Added::Position, Added::Order].map(|added| name(plan, added));
    let (table, own, key) = (relation(&plan.target), own(plan), key(plan));
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
            let row = row_text(plan, "r.");
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
    let (table, own) = (relation(&plan.target), own(plan));
    let at = format!("{}::timestamptz", quote_literal(&from.valid_from.to_string()));
    let differs = format!(
        "t.{until} IS NULL AND NOT EXISTS (SELECT 1 FROM {loaded} s WHERE {} AND {})",
        same_key(plan, "s", "t"),
        same_row(plan, "s", "t")
    );
    vec![
        // They were made at this very moment, and were never to be seen.
        format!("DELETE FROM ONLY {table} t WHERE t.{since} >= {at} AND {differs}"),
        format!("UPDATE ONLY {table} t SET {until} = {at} WHERE {differs}"),
        format!(
            "INSERT INTO {table} ({own}, {since}) OVERRIDING SYSTEM VALUE SELECT {own}, {at} FROM {loaded} s \
             WHERE NOT EXISTS (SELECT 1 FROM ONLY {table} v WHERE {} AND v.{until} IS NULL)",
            same_key(plan, "v", "s")
        ),
    ]
}

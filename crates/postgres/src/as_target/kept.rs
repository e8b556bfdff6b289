//! Tables that keep more than the current rows: what they have as such, what that is found by, and the view of it.

use super::dialect::{escaped, parts, relation};
use crate::wire::connect::Session;
use crate::wire::written::{WRITTEN, WRITTEN_END};
use moorage_adapter::{AdapterError, Doing, Result};
use moorage_core::drift::alter::AlterStep;
use moorage_core::model::kept_as::{Added, Keep, Operation};
use moorage_core::model::sql::{quote_ident, quote_literal};
use moorage_core::plan::current_rows::current_rows;
use moorage_core::plan::table::TablePlan;

/// With what the comment of a view of ours begins.
pub(crate) const OURS: &str = WRITTEN;

/// The columns by which the rows of the table are told apart; none if they are by all, or by none.
pub(super) fn key_columns(plan: &TablePlan) -> Vec<usize> {
    match plan.kept_as.keep {
        Keep::Current => plan.key().to_vec(),
        Keep::Changes => Vec::new(),
        Keep::Versions => plan.key().iter().copied().chain(plan.place_of(Added::Since)).collect(),
    }
}

/// A column that is added for what a table keeps.
pub(super) fn name(plan: &TablePlan, added: Added) -> String {
    quote_ident(plan.kept_as.name(added))
}

/// A query for the rows that a table has now; none where that is the table itself.
pub(crate) fn query(plan: &TablePlan) -> Option<String> {
    let table = format!("ONLY {}", relation(&plan.target));
    current_rows(plan, &table, |prefix| vec![row_text(plan, prefix)])
}

/// A row as one text. Two are equal only if their values are, to the last bit.
pub(super) fn row_text(plan: &TablePlan, prefix: &str) -> String {
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

//! Tables that keep more than the current rows: what they have as such, what that is found by, and the view of it.

use super::dialect::{escaped, parts, relation};
use crate::wire::connect::Session;
use crate::wire::written::{WRITTEN, WRITTEN_END};
use moorage_adapter::{AdapterError, Doing, Result};
use moorage_core::drift::alter::AlterStep;
use moorage_core::model::kept_as::{Added, Keep, OLD, Operation};
use moorage_core::model::sql::{quote_ident, quote_literal};
use moorage_core::plan::current_rows::{Whose, current_rows};
use moorage_core::plan::table::TablePlan;

/// With what the comment of a view of ours begins.
pub(crate) const OURS: &str = WRITTEN;

/// The columns of the primary key; none if rows are told apart by all of them, or several have one key.
pub(super) fn key_columns(plan: &TablePlan) -> &[usize] {
    if plan.kept_as.keep == Keep::Current { plan.key() } else { &[] }
}

/// The kind of index of ours whose being there says that a table was filled once, where it has no primary key.
pub(super) fn index_kind(plan: &TablePlan) -> &'static str {
    match plan.kept_as.keep {
        Keep::Current => "match",
        Keep::Changes => "emptied",
        Keep::Versions => "valid",
    }
}

/// A column that is added for what a table keeps.
pub(super) fn name(plan: &TablePlan, added: Added) -> String {
    quote_ident(plan.kept_as.name(added))
}

/// A query for the rows that a plan's table has now; none where that is the target table itself.
pub(crate) fn query(plan: &TablePlan) -> Option<String> {
    let table = format!("ONLY {}", relation(plan.stands_in()));
    let own: Vec<String> = plan.columns.iter().take(plan.width()).map(|c| c.name.clone()).collect();
    current_rows(plan, (&table, &own), Whose::Its, |prefix| vec![row_text(&own, prefix)])
}

/// The columns of rows in a target table, without those that what it keeps adds. Where several tables stand in it, one may have
/// columns that others have not.
fn columns_of_all(plan: &TablePlan, there: &[String]) -> Vec<String> {
    let planned = |name: &String| plan.columns.iter().any(|c| c.name == *name);
    let own = plan.columns.iter().take(plan.width()).map(|c| c.name.clone());
    let is_old = |name: &&String| plan.kept_as.old_values && name.starts_with(OLD);
    let others = there.iter().filter(|name| plan.gathered.is_some() && !planned(name) && !is_old(name));
    own.chain(others.cloned()).collect()
}

/// A row as one text. Two are equal only if their values are, to the last bit.
pub(super) fn row_text(columns: &[String], prefix: &str) -> String {
    let columns: Vec<String> = columns.iter().map(|c| format!("{prefix}{}", quote_ident(c))).collect();
    format!("ROW({})::text", columns.join(", "))
}

/// The row of a plan's table as one text.
pub(super) fn own_text(plan: &TablePlan, prefix: &str) -> String {
    let own: Vec<String> = plan.columns.iter().take(plan.width()).map(|c| c.name.clone()).collect();
    row_text(&own, prefix)
}

/// What finds the last row of a key in a trail. It is made when a value has to be borrowed for the first time: it takes longer
/// to keep than the rows themselves take to write, and many tables never need it.
pub(crate) fn last_row_index(plan: &TablePlan, relation: &str, name: &str) -> Option<String> {
    let key = plan.key().iter().map(|&k| quote_ident(&plan.columns[k].name));
    let columns: Vec<String> =
        key.chain([Added::Position, Added::Order].map(|a| self::name(plan, a))).collect();
    let is_wanted = plan.kept_as.keep == Keep::Changes && !plan.key().is_empty();
    is_wanted.then(|| format!("CREATE INDEX IF NOT EXISTS {name} ON {relation} ({})", columns.join(", ")))
}

/// What merges find rows by, beside a primary key. `named` gives the names of indexes of a kind.
pub(crate) fn indexes(plan: &TablePlan, relation: &str, named: impl Fn(&str) -> String) -> Vec<String> {
    let key = plan.key().iter().map(|&k| quote_ident(&plan.columns[k].name));
    match plan.kept_as.keep {
        Keep::Current => Vec::new(),
        Keep::Changes => {
            let in_order = [name(plan, Added::Position), name(plan, Added::Order)];
            // What a trail is read back by begins anew where the table was emptied.
            vec![format!(
                "CREATE INDEX {} ON {relation} ({}) WHERE {} = {}",
                named(index_kind(plan)),
                in_order.join(", "),
                name(plan, Added::Operation),
                quote_literal(plan.kept_as.word(Operation::Truncate))
            )]
        }
        Keep::Versions => vec![format!(
            "CREATE UNIQUE INDEX {} ON {relation} ({}) WHERE {} IS NULL",
            named(index_kind(plan)),
            key.collect::<Vec<_>>().join(", "),
            name(plan, Added::Until)
        )],
    }
}

/// The statement that makes the view beside a table which has these columns; none if there is none to be made.
pub(crate) fn view(plan: &TablePlan, there: &[String]) -> Option<String> {
    let (view, query) = (plan.view()?, view_query(plan, &columns_of_all(plan, there))?);
    Some(format!("CREATE VIEW {} AS {query}", relation(view)))
}

/// A query for the rows that a target table has now, from wherever they came.
fn view_query(plan: &TablePlan, columns: &[String]) -> Option<String> {
    let table = format!("ONLY {}", relation(plan.stands_in()));
    current_rows(plan, (&table, columns), Whose::All, |prefix| vec![row_text(columns, prefix)])
}

/// The names of a target table's columns, as they are in the server.
async fn names_there(session: &Session, plan: &TablePlan) -> Result<Vec<String>> {
    let (schema, name) = parts(plan.stands_in());
    let sql = "SELECT a.attname::text FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid
                 JOIN pg_namespace n ON n.oid = c.relnamespace
               WHERE n.nspname = $1 AND c.relname = $2 AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum";
    let rows =
        session.rows(Doing::to("reading the columns of table", &plan.target), sql, &[&schema, &name]).await?;
    Ok(rows.iter().map(|row| row.get(0)).collect())
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
    all.extend(made(pipeline, plan, &names_there(session, plan).await?));
    all.extend(found.into_iter().flat_map(|found| found.grants));
    session.run(doing(), &all.join("; ")).await
}

/// Whether there is something of the name of the view beside a table.
pub(crate) async fn has_view(session: &Session, plan: &TablePlan) -> Result<bool> {
    match &plan.kept_as.view {
        Some(view) => Ok(find_view(session, view).await?.is_some()),
        None => Ok(false),
    }
}

/// Makes the view beside a table if somebody took it away.
pub(crate) async fn put_view_back(session: &Session, pipeline: &str, plan: &TablePlan) -> Result<()> {
    match plan.kept_as.view.is_none() || has_view(session, plan).await? {
        true => Ok(()),
        false => make_view(session, pipeline, plan).await,
    }
}

/// Says of the view beside a table, if the statements that people wrote made it, that it is ours; and whether they did.
pub(crate) async fn claim_view(session: &Session, pipeline: &str, plan: &TablePlan) -> Result<bool> {
    let Some(view) = plan.kept_as.view.as_ref() else { return Ok(false) };
    let is_there = has_view(session, plan).await?;
    if is_there {
        session.run(Doing::to("making view", view), &said_of_view(pipeline, plan, view)).await?;
    }
    Ok(is_there)
}

/// Alters a table while the view beside it is away. It comes back with the rights that others have to it.
pub(crate) async fn without_view(
    session: &Session,
    pipeline: &str,
    plan: &TablePlan,
    mut all: Vec<String>,
) -> Result<()> {
    let doing = || Doing::to("altering table", plan.stands_in());
    let Some(view) = plan.view() else { return session.run(doing(), &all.join("; ")).await };
    let Some(found) = find_view(session, view).await?.filter(|found| found.is_ours) else {
        return session.run(doing(), &all.join("; ")).await;
    };
    all.insert(0, format!("DROP VIEW {}", relation(view)));
    session.run(doing(), &all.join("; ")).await?;
    let mut again = made(pipeline, plan, &names_there(session, plan).await?);
    again.extend(found.grants);
    session.run(Doing::to("making view", view), &again.join("; ")).await
}

/// The statements that make the view, with what is said of it.
fn made(pipeline: &str, plan: &TablePlan, there: &[String]) -> Vec<String> {
    let (Some(view), Some(sql)) = (&plan.kept_as.view, view(plan, there)) else { return Vec::new() };
    vec![sql, said_of_view(pipeline, plan, view)]
}

/// The statement that says whose a view is.
fn said_of_view(pipeline: &str, plan: &TablePlan, view: &str) -> String {
    let comment =
        format!("{WRITTEN}{pipeline}{WRITTEN_END}: the rows of {} as they are now", plan.stands_in());
    format!("COMMENT ON VIEW {} IS {}", relation(view), escaped(&comment))
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
    let there = behind(names_there(session, before).await?, after, steps);
    let Some(found) = found else { return Ok((Vec::new(), made(pipeline, after, &there))) };
    let names = columns_of_all(after, &there);
    let names: Vec<&str> = names.iter().map(String::as_str).collect();
    let adds = steps.iter().all(|step| matches!(step, AlterStep::Add { .. }));
    let stays = was == view && adds && found.columns.iter().all(|c| names.contains(&c.as_str()));
    match view_query(after, &columns_of_all(after, &there)).filter(|_| stays) {
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
            Ok((vec![drop], made(pipeline, after, &there).into_iter().chain(grants).collect()))
        }
    }
}

/// The columns that a table will have behind some steps.
fn behind(mut there: Vec<String>, after: &TablePlan, steps: &[&AlterStep]) -> Vec<String> {
    for step in steps {
        match step {
            AlterStep::Add { column, .. } => there.push(after.columns[*column].name.clone()),
            AlterStep::Rename { from, to } => {
                there.iter_mut().filter(|name| *name == from).for_each(|name| name.clone_from(to));
            }
            AlterStep::Drop { name } => there.retain(|there| there != name),
            AlterStep::Widen { .. } | AlterStep::Relabel { .. } => {}
        }
    }
    there
}

//! Rows beside a table: those that are loaded to take the place of others, and the list of rows that were there
//! before the pipeline and are kept.
//!
//! Loaded rows take the others' place inside the table itself, as the difference between the two: what people
//! hung on the table (views, grants, keys, indexes, comments) stays, readers are not held up and never see half,
//! and rows that are the same are not touched. Only a table whose columns are to be others is replaced as a
//! whole, and only if nothing hangs on it.

use super::create::{build, create_table};
use super::dialect::{parts, relation};
use super::form::{Form, Found, References, find};
use super::meta;
use super::trouble::{Trouble, sort};
use crate::connect::Session;
use moorage_adapter::{AdapterError, LoadedTable, Result};
use moorage_core::plan::TablePlan;
use moorage_core::sql::quote_ident;

/// The table beside the one with this number.
pub(crate) fn beside(id: u32) -> String {
    format!("{}.again_{id}", meta::SCHEMA)
}

fn kept(id: u32) -> String {
    format!("{}.kept_{id}", meta::SCHEMA)
}

/// A form for the table beside, whose columns are exactly the planned ones.
pub(crate) async fn form(session: &Session, plan: &TablePlan, id: u32) -> Result<Form> {
    let found = find(session, &[&beside(id)]).await?.pop().flatten().ok_or_else(|| gone(plan))?;
    Form::new(plan, beside(id), &found)
}

fn gone(plan: &TablePlan) -> AdapterError {
    AdapterError::refused(
        format!("reading {} again", plan.table()),
        format!("the table beside {}, or that table itself, is gone", plan.target),
    )
}

/// The table's number.
pub(crate) async fn id(session: &Session, plan: &TablePlan) -> Result<Found> {
    find(session, &[&plan.target]).await?.pop().flatten().ok_or_else(|| gone(plan))
}

/// Makes the table beside, empty; what an earlier try left is removed.
pub(crate) async fn create(session: &Session, plan: &TablePlan, found: &Found) -> Result<()> {
    drop(session, found.id).await?;
    let sql = create_table(plan, &beside(found.id), plan.mapped.identity.key().unwrap_or(&[]));
    session.run(&format!("making room beside table {}", plan.target), &sql).await?;
    let sql = "DELETE FROM moorage_state.chunks WHERE target = $1";
    session.execute("forgetting chunks", sql, &[&plan.target]).await?;
    Ok(())
}

pub(crate) async fn drop(session: &Session, id: u32) -> Result<()> {
    session.run("removing what was loaded beside", &format!("DROP TABLE IF EXISTS {}", beside(id))).await
}

/// Builds the key of the table beside, unless it is there.
pub(crate) async fn ready(session: &Session, plan: &TablePlan, id: u32) -> Result<Form> {
    let found = find(session, &[&beside(id)]).await?.pop().flatten().ok_or_else(|| gone(plan))?;
    let form = Form::new(plan, beside(id), &found)?;
    let sql = "SELECT EXISTS (SELECT 1 FROM pg_index WHERE indrelid = $1)";
    if !session.one("looking for the key", sql, &[&found.id]).await?.get::<_, bool>(0) {
        build(session, plan, &form, &found, false).await?;
        session.run("analyzing what was loaded", &format!("ANALYZE {}", beside(id))).await?;
    }
    Ok(form)
}

/// What hangs on a table that dropping it would take away, in words. Comments that came from the source do not.
pub(crate) async fn dependents(session: &Session, plan: &TablePlan, id: u32) -> Result<Vec<String>> {
    let sql = "
SELECT DISTINCT 'view ' || v.oid::regclass FROM pg_depend d JOIN pg_rewrite w ON w.oid = d.objid JOIN pg_class v ON v.oid = w.ev_class
 WHERE d.classid = 'pg_rewrite'::regclass AND d.refclassid = 'pg_class'::regclass AND d.refobjid = $1 AND v.oid <> $1
UNION ALL SELECT format('foreign key %s of %s', conname, conrelid::regclass) FROM pg_constraint WHERE contype = 'f' AND $1 IN (conrelid, confrelid)
UNION ALL SELECT format('constraint %s', conname) FROM pg_constraint WHERE contype IN ('c', 'x') AND conrelid = $1
UNION ALL SELECT format('trigger %s', tgname) FROM pg_trigger WHERE tgrelid = $1 AND NOT tgisinternal
UNION ALL SELECT format('index %s', indexrelid::regclass) FROM pg_index i WHERE i.indrelid = $1 AND NOT i.indisprimary
   AND NOT EXISTS (SELECT 1 FROM pg_class c WHERE c.oid = i.indexrelid AND c.relname ~ '^moorage_')
UNION ALL SELECT format('rights of %s', CASE WHEN x.grantee = 0 THEN 'PUBLIC' ELSE x.grantee::regrole::text END)
   FROM pg_class c, aclexplode(c.relacl) x WHERE c.oid = $1 AND x.grantee <> c.relowner
UNION ALL SELECT format('publication %s', p.pubname) FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid WHERE r.prrelid = $1
UNION ALL SELECT format('policy %s', polname) FROM pg_policy WHERE polrelid = $1
UNION ALL SELECT format('comment on column %s', a.attname) FROM pg_description s JOIN pg_attribute a ON a.attrelid = s.objoid AND a.attnum = s.objsubid
 WHERE s.classoid = 'pg_class'::regclass AND s.objoid = $1 AND s.objsubid > 0 AND s.description <> ALL ($2)
UNION ALL SELECT format('owner %s', relowner::regrole) FROM pg_class WHERE oid = $1 AND relowner <> (SELECT oid FROM pg_roles WHERE rolname = current_user)";
    let ours: Vec<&str> = plan.columns.iter().filter_map(|c| c.comment.as_deref()).collect();
    let rows = session.rows("looking at what hangs on a table", sql, &[&id, &ours]).await?;
    Ok(rows.iter().map(|r| r.get(0)).collect())
}

/// Whether foreign keys tie a table to others.
pub(crate) async fn is_bound(session: &Session, id: u32) -> Result<bool> {
    let sql =
        "SELECT EXISTS (SELECT 1 FROM pg_constraint WHERE contype = 'f' AND $1 IN (conrelid, confrelid))";
    Ok(session.one("looking for foreign keys", sql, &[&id]).await?.get(0))
}

/// Puts the loaded rows in the table's place, inside the caller's transaction, and remembers the table as newly
/// loaded.
pub(crate) async fn replace(
    session: &Session,
    plan: &TablePlan,
    found: &Found,
    end: &LoadedTable,
) -> Result<()> {
    if found.is_as_planned(plan) || found.unfit(plan).is_none() {
        replace_rows(session, plan, found).await?;
        drop(session, found.id).await?;
    } else {
        replace_table(session, plan, found).await?;
    }
    meta::remember_loaded(session, &plan.target, end).await
}

/// Applies the difference to the table; anew if values were swapped between rows under a unique index.
async fn replace_rows(session: &Session, plan: &TablePlan, found: &Found) -> Result<()> {
    let form = Form::new(plan, relation(&plan.target), found)?;
    let doing = format!("replacing the rows of table {}", plan.target);
    let references = References::read(session, &[found.id]).await?;
    let mut ways = vec![difference(&form, found.id)];
    // Removing rows that others refer to would change those.
    if !form.key.is_empty() && !references.acts(found.id) {
        ways.push(difference_anew(&form, found.id));
    }
    let mut refused = None;
    for statements in ways {
        session.run("trying", "SAVEPOINT moorage_replace").await?;
        let done = session.client().batch_execute(&statements.join("; ")).await;
        match done.map_err(|e| sort(session.address(), &doing, &e)) {
            Ok(()) => return session.run("ending a try", "RELEASE SAVEPOINT moorage_replace").await,
            Err(Trouble::Failed(error)) => return Err(error),
            Err(Trouble::Refused(refusal)) => refused = Some(refusal.reason),
        }
        session.run("undoing a try", "ROLLBACK TO SAVEPOINT moorage_replace").await?;
    }
    let reason = refused.unwrap_or_default();
    Err(AdapterError::refused(
        doing,
        format!(
            "{reason}. Its rows are as they were. Change what refuses them in the target, or the rows in the source, and try again"
        ),
    ))
}

/// What is gone, what differs and what is new, over the whole of both tables.
fn difference(form: &Form, id: u32) -> Vec<String> {
    let (table, loaded, names) = (&form.relation, beside(id), form.names());
    if form.key.is_empty() {
        return vec![
            format!("DELETE FROM ONLY {table}"),
            format!("INSERT INTO {table} ({names}) OVERRIDING SYSTEM VALUE SELECT {names} FROM {loaded}"),
        ];
    }
    let sets: Vec<String> = (0..form.columns.len())
        .filter(|c| !form.key.contains(c))
        .map(|c| format!("{0} = s.{0}", form.columns[c]))
        .collect();
    let same = form.same_key("t", "s");
    let mut all =
        vec![format!("DELETE FROM ONLY {table} t WHERE NOT EXISTS (SELECT 1 FROM {loaded} s WHERE {same})")];
    if !sets.is_empty() {
        let (old, new) = (form.as_text("t"), form.as_text("s"));
        all.push(format!(
            "UPDATE ONLY {table} t SET {} FROM {loaded} s WHERE {same} AND {old} <> {new}",
            sets.join(", ")
        ));
    }
    all.push(new_rows(form, &loaded));
    all
}

/// The same, with rows that differ removed and inserted.
fn difference_anew(form: &Form, id: u32) -> Vec<String> {
    let (table, loaded, same) = (&form.relation, beside(id), form.same_key("t", "s"));
    let (old, new) = (form.as_text("t"), form.as_text("s"));
    let gone = format!(
        "DELETE FROM ONLY {table} t WHERE NOT EXISTS (SELECT 1 FROM {loaded} s WHERE {same} AND {old} = {new})"
    );
    vec![gone, new_rows(form, &loaded)]
}

fn new_rows(form: &Form, loaded: &str) -> String {
    let (table, names, same) = (&form.relation, form.names(), form.same_key("t", "s"));
    format!(
        "INSERT INTO {table} ({names}) OVERRIDING SYSTEM VALUE SELECT {names} FROM {loaded} s
         WHERE NOT EXISTS (SELECT 1 FROM ONLY {table} t WHERE {same})"
    )
}

async fn replace_table(session: &Session, plan: &TablePlan, found: &Found) -> Result<()> {
    let hanging = dependents(session, plan, found.id).await?;
    let doing = format!("replacing table {}", plan.target);
    if !hanging.is_empty() {
        let reason =
            format!("its columns are to be others, and {} would be lost with it", hanging.join(", "));
        return Err(AdapterError::refused(doing, reason));
    }
    let (schema, name) = parts(&plan.target);
    let sql = format!(
        "DROP TABLE {}; ALTER TABLE {} SET SCHEMA {schema}; ALTER TABLE {schema}.again_{} RENAME TO {}",
        relation(&plan.target),
        beside(found.id),
        found.id,
        quote_ident(&name),
        schema = quote_ident(&schema),
    );
    session.run(&doing, &sql).await
}

/// Lists the rows that are there now, unless they were listed before.
pub(crate) async fn list_kept(session: &Session, plan: &TablePlan, found: &Found) -> Result<()> {
    if has_kept(session, found.id).await? {
        return Ok(());
    }
    let (list, columns) = (kept(found.id), identifying(plan, "").join(", "));
    let index = match plan.mapped.identity.key() {
        Some(_) => format!("; CREATE INDEX ON {list} ({columns})"),
        None => String::new(),
    };
    let sql = format!("CREATE TABLE {list} AS SELECT {columns} FROM ONLY {}{index}", relation(&plan.target));
    session.run(&format!("listing rows of table {}", plan.target), &sql).await
}

pub(crate) async fn has_kept(session: &Session, id: u32) -> Result<bool> {
    let sql = "SELECT to_regclass($1) IS NOT NULL";
    Ok(session.one("looking for kept rows", sql, &[&kept(id)]).await?.get(0))
}

pub(crate) async fn forget_kept(session: &Session, id: u32) -> Result<()> {
    session.run("forgetting kept rows", &format!("DROP TABLE IF EXISTS {}", kept(id))).await
}

fn identifying(plan: &TablePlan, prefix: &str) -> Vec<String> {
    let name = |at: usize| format!("{prefix}{}", quote_ident(&plan.columns[at].name));
    match plan.mapped.identity.key() {
        Some(key) => key.iter().map(|&k| name(k)).collect(),
        None => (0..plan.columns.len()).map(name).collect(),
    }
}

/// Whether a row of the table, called `t`, was there before, as an expression. Without a key, so many of several
/// equal rows are.
pub(crate) fn is_kept(plan: &TablePlan, id: u32) -> String {
    let list = kept(id);
    match plan.mapped.identity.key() {
        Some(_) => {
            let same: Vec<String> = identifying(plan, "").iter().map(|c| format!("k.{c} = t.{c}")).collect();
            format!("EXISTS (SELECT 1 FROM {list} k WHERE {})", same.join(" AND "))
        }
        None => {
            let row = format!("ROW({})::text", identifying(plan, "t.").join(", "));
            let listed = format!("ROW({})::text", identifying(plan, "k.").join(", "));
            format!(
                "row_number() OVER (PARTITION BY {row}) <= (SELECT count(*) FROM {list} k WHERE {listed} = {row})"
            )
        }
    }
}

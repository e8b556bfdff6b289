//! Rows beside a table: those that are loaded to take the place of others, and the list of rows that were there
//! before the pipeline and are kept.
//!
//! Loaded rows take the others' place inside the table itself, as the difference between the two: what people
//! hung on the table (views, grants, keys, indexes, comments) stays, readers are not held up and never see half,
//! and rows that are the same are not touched. Only a table whose columns are to be others is replaced as a
//! whole, and only if nothing hangs on it.

use super::dialect::{parts, relation};
use super::form::{Form, Found, References, find};
use crate::as_target::catch_up::catch_up;
use crate::as_target::index::{build, has_other_key};
use crate::as_target::state;
use crate::as_target::statements::create_table;
use crate::wire::connect::Session;
use crate::wire::trouble::{Trouble, sort};
use moorage_adapter::{AdapterError, Doing, LoadedTable, Result};
use moorage_core::model::sql::quote_ident;
use moorage_core::plan::table::TablePlan;

/// The table beside the one with this number, for the rows of a plan's table.
pub(crate) fn beside(plan: &TablePlan, id: u32) -> String {
    format!("{}.{}", state::SCHEMA, again(plan, id))
}

fn again(plan: &TablePlan, id: u32) -> String {
    match plan.member() {
        // Several of one table may be read again at once.
        Some((_, from)) => format!("again_{id}_{:016x}", name_hash(from)),
        None => format!("again_{id}"),
    }
}

/// A number for a name, the same in every run: FNV-1a (IETF draft-eastlake-fnv, section 2).
fn name_hash(name: &str) -> u64 {
    name.bytes().fold(0xcbf2_9ce4_8422_2325, |hash, byte| {
        (hash ^ u64::from(byte)).wrapping_mul(0x0000_0100_0000_01b3)
    })
}

fn kept(id: u32) -> String {
    format!("{}.kept_{id}", state::SCHEMA)
}

/// A form for the table beside, whose columns are exactly the planned ones.
pub(crate) async fn form(session: &Session, plan: &TablePlan, id: u32) -> Result<Form> {
    let plan = &plan.of_current();
    let found = find(session, &[&beside(plan, id)]).await?.pop().flatten().ok_or_else(|| gone(plan))?;
    Form::new(plan, beside(plan, id), &found)
}

fn gone(plan: &TablePlan) -> AdapterError {
    AdapterError::refused(
        format!("reading {} again", plan.table()),
        format!("the table beside {}, or that table itself, is gone", plan.target),
    )
}

/// The table's number.
pub(crate) async fn id(session: &Session, plan: &TablePlan) -> Result<Found> {
    find(session, &[plan.stands_in()]).await?.pop().flatten().ok_or_else(|| gone(plan))
}

/// Whether loaded rows take the others' place inside the table; otherwise the table itself is replaced.
async fn stays(session: &Session, plan: &TablePlan, found: &Found) -> Result<bool> {
    if !found.is_as_planned(plan) && found.unfit(plan).is_some() {
        return Ok(false);
    }
    let adopted = state::owners(session).await?.get(&plan.target).is_some_and(|(_, adopted)| *adopted);
    Ok(adopted || !has_other_key(session, plan, found).await?)
}

/// Makes the table beside, empty; what an earlier try left is removed.
///
/// # Errors
/// `Refused` if it could not take the table's place.
pub(crate) async fn create(session: &Session, plan: &TablePlan, found: &Found) -> Result<()> {
    if plan.is_a_copy() && !stays(session, plan, found).await? {
        replaceable(session, plan, found).await?;
    }
    drop(session, plan, found.id).await?;
    let plan = &plan.of_current();
    let sql = create_table(plan, &beside(plan, found.id), plan.key());
    session.run(Doing::to("making room beside table", &plan.target), &sql).await?;
    let sql = "DELETE FROM moorage_state.chunks WHERE target = $1";
    session.execute("forgetting chunks", sql, &[&plan.target]).await?;
    Ok(())
}

pub(crate) async fn drop(session: &Session, plan: &TablePlan, id: u32) -> Result<()> {
    let sql = format!("DROP TABLE IF EXISTS {}", beside(plan, id));
    session.run("removing what was loaded beside", &sql).await
}

/// Builds the key of the table beside, unless it is there.
pub(crate) async fn ready(session: &Session, plan: &TablePlan, id: u32) -> Result<Form> {
    let plan = &plan.of_current();
    let found = find(session, &[&beside(plan, id)]).await?.pop().flatten().ok_or_else(|| gone(plan))?;
    let form = Form::new(plan, beside(plan, id), &found)?;
    let sql = "SELECT EXISTS (SELECT 1 FROM pg_index WHERE indrelid = $1)";
    if !session.one("looking for the key", sql, &[&found.id]).await?.get::<_, bool>(0) {
        build(session, plan, &form, &found, false).await?;
        session.run("analyzing what was loaded", &format!("ANALYZE {}", beside(plan, id))).await?;
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

/// A table whose loaded rows are to take the place of others.
pub(crate) struct Replaced<'a> {
    pub(crate) plan: &'a TablePlan,
    pub(crate) found: Found,
    pub(crate) end: &'a LoadedTable,
}

/// Puts loaded rows in their tables' places, inside the caller's transaction, and remembers the tables as newly loaded.
/// Parents stand before their children: what is gone goes with children first, what is new comes with parents first.
pub(crate) async fn replace(session: &Session, pipeline: &str, tables: &[Replaced<'_>]) -> Result<()> {
    let (mut rows, mut whole) = (Vec::new(), Vec::new());
    for table in tables {
        if !table.plan.is_a_copy() {
            let (of, loaded) = ((table.plan, &table.found), beside(table.plan, table.found.id));
            catch_up(session, pipeline, of, &loaded, &table.end.from).await?;
            drop(session, table.plan, table.found.id).await?;
            continue;
        }
        let in_place = stays(session, table.plan, &table.found).await? && !is_new(session, table).await?;
        let of = if in_place { &mut rows } else { &mut whole };
        of.push(table);
    }
    replace_rows(session, &rows).await?;
    for table in &rows {
        drop(session, table.plan, table.found.id).await?;
    }
    for table in whole {
        replace_table(session, table.plan, &table.found).await?;
    }
    for table in tables {
        state::remember_loaded(session, &table.plan.target, table.end).await?;
    }
    Ok(())
}

/// Whether a table is the pipeline's own, without rows, and nothing hangs on it: then the loaded one takes its place at once,
/// however large it is.
async fn is_new(session: &Session, Replaced { plan, found, .. }: &Replaced<'_>) -> Result<bool> {
    let sql = format!("SELECT NOT EXISTS (SELECT FROM {})", relation(plan.stands_in()));
    let adopted = state::owners(session).await?.get(&plan.target).is_some_and(|(_, adopted)| *adopted);
    Ok(!adopted
        && found.is_as_planned(plan)
        && session.one("looking for rows", &sql, &[]).await?.get::<_, bool>(0)
        && dependents(session, plan, found.id).await?.is_empty())
}

/// Applies the differences to the tables; anew if values were swapped between rows under a unique index.
async fn replace_rows(session: &Session, tables: &[&Replaced<'_>]) -> Result<()> {
    let ids: Vec<u32> = tables.iter().map(|t| t.found.id).collect();
    let references = References::read(session, &ids).await?;
    let mut ways: [Vec<(&TablePlan, Difference)>; 2] = [Vec::new(), Vec::new()];
    for Replaced { plan, found, .. } in tables {
        let form = Form::new(plan, relation(plan.stands_in()), found)?;
        // Removing rows that others refer to would change those.
        let anew = !form.key.is_empty() && !references.acts(found.id);
        ways[0].push((plan, difference(&form, &beside(plan, found.id))));
        ways[1].push((
            plan,
            if anew {
                difference_anew(&form, &beside(plan, found.id))
            } else {
                difference(&form, &beside(plan, found.id))
            },
        ));
    }
    let mut refused = None;
    for way in ways {
        session.run("trying", "SAVEPOINT moorage_replace").await?;
        match carry_out(session, &way).await {
            Ok(()) => return session.run("ending a try", "RELEASE SAVEPOINT moorage_replace").await,
            Err((_, Trouble::Failed(error))) => return Err(error),
            Err((target, Trouble::Refused(refusal))) => refused = Some((target, refusal.reason)),
        }
        session.run("undoing a try", "ROLLBACK TO SAVEPOINT moorage_replace").await?;
    }
    let (target, reason) = refused.unwrap_or_default();
    Err(AdapterError::refused(
        format!("replacing the rows of table {target}"),
        format!(
            "{reason}. Its rows are as they were. Change what refuses them in the target, or the rows in the source, and try again; tables that refer to each other are best read again together"
        ),
    ))
}

/// Carries out differences; an error says of which table.
async fn carry_out(
    session: &Session,
    way: &[(&TablePlan, Difference)],
) -> std::result::Result<(), (String, Trouble)> {
    let gone = way.iter().rev().map(|(plan, difference)| (plan, &difference.gone));
    let come = way.iter().map(|(plan, difference)| (plan, &difference.come));
    for (plan, statements) in gone.chain(come) {
        let doing = Doing::to("replacing the rows of table", &plan.target);
        let done = session.client().batch_execute(&statements.join("; ")).await;
        done.map_err(|e| (plan.target.clone(), sort(session.address(), &doing, &e)))?;
    }
    // Constraints that can wait have done so for long enough.
    let checked =
        session.client().batch_execute("SET CONSTRAINTS ALL IMMEDIATE; SET CONSTRAINTS ALL DEFERRED").await;
    let last = way.last().map(|(plan, _)| plan.target.clone()).unwrap_or_default();
    checked.map_err(|e| (last, sort(session.address(), "checking what was replaced", &e)))
}

/// Statements that remove rows, and statements that change and add some.
struct Difference {
    gone: Vec<String>,
    come: Vec<String>,
}

/// What is gone, what differs and what is new, over the whole of both tables.
fn difference(form: &Form, loaded: &str) -> Difference {
    let (table, names) = (&form.relation, form.names());
    if form.key.is_empty() {
        let insert =
            format!("INSERT INTO {table} ({names}) OVERRIDING SYSTEM VALUE SELECT {names} FROM {loaded}");
        return Difference { gone: vec![format!("DELETE FROM ONLY {table}")], come: vec![insert] };
    }
    // The key too: one that is equal need not be the same ('1 mon' and '30 days', zeros of both signs).
    let sets: Vec<String> = form.columns.iter().map(|c| format!("{c} = s.{c}")).collect();
    let same = form.same_key("t", "s");
    let (old, new) = (form.as_text("t"), form.as_text("s"));
    let gone = format!("DELETE FROM ONLY {table} t WHERE NOT EXISTS (SELECT 1 FROM {loaded} s WHERE {same})");
    let changed = format!(
        "UPDATE ONLY {table} t SET {} FROM {loaded} s WHERE {same} AND {old} <> {new}",
        sets.join(", ")
    );
    Difference { gone: vec![gone], come: vec![changed, new_rows(form, loaded)] }
}

/// The same, with rows that differ removed and inserted.
fn difference_anew(form: &Form, loaded: &str) -> Difference {
    let (table, same) = (&form.relation, form.same_key("t", "s"));
    let (old, new) = (form.as_text("t"), form.as_text("s"));
    let gone = format!(
        "DELETE FROM ONLY {table} t WHERE NOT EXISTS (SELECT 1 FROM {loaded} s WHERE {same} AND {old} = {new})"
    );
    Difference { gone: vec![gone], come: vec![new_rows(form, loaded)] }
}

fn new_rows(form: &Form, loaded: &str) -> String {
    let (table, names, same) = (&form.relation, form.names(), form.same_key("t", "s"));
    format!(
        "INSERT INTO {table} ({names}) OVERRIDING SYSTEM VALUE SELECT {names} FROM {loaded} s
         WHERE NOT EXISTS (SELECT 1 FROM ONLY {table} t WHERE {same})"
    )
}

/// Whether nothing is lost when the table is replaced as a whole.
async fn replaceable(session: &Session, plan: &TablePlan, found: &Found) -> Result<()> {
    let hanging = dependents(session, plan, found.id).await?;
    if hanging.is_empty() {
        return Ok(());
    }
    let reason = format!(
        "its columns, or its key, are to be others, and {} would be lost with it. Drop that, run `moorage resnapshot {}`, and make it again",
        hanging.join(", "),
        plan.table()
    );
    Err(AdapterError::refused(Doing::to("replacing table", &plan.target), reason))
}

async fn replace_table(session: &Session, plan: &TablePlan, found: &Found) -> Result<()> {
    let doing = Doing::to("replacing table", &plan.target);
    replaceable(session, plan, found).await?;
    let (schema, name) = parts(plan.stands_in());
    let sql = format!(
        "DROP TABLE {}; ALTER TABLE {} SET SCHEMA {schema}; ALTER TABLE {schema}.{} RENAME TO {}",
        relation(plan.stands_in()),
        beside(plan, found.id),
        again(plan, found.id),
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
    let sql =
        format!("CREATE TABLE {list} AS SELECT {columns} FROM ONLY {}{index}", relation(plan.stands_in()));
    session.run(Doing::to("listing rows of table", &plan.target), &sql).await
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

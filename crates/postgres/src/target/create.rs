//! Making, adopting and removing target tables.

use super::again;
use super::dialect::{parts, relation};
use super::form::{Form, Found, find};
use super::meta;
use crate::catalog::{WRITTEN, WRITTEN_END};
use crate::connect::Session;
use moorage_adapter::{AdapterError, ExistingTable, LoadedTable, Result, Step, Surveyed, TableState};
use moorage_core::pattern::quoted_part;
use moorage_core::plan::{ExistingRowsChoice, TablePlan};
use moorage_core::sql::{quote_ident, quote_literal};
use std::collections::HashMap;

/// All tables and views but the server's own and ours.
pub(crate) async fn list(session: &Session) -> Result<Vec<String>> {
    let sql = "SELECT n.nspname::text, c.relname::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
               WHERE c.relkind IN ('r', 'p', 'f', 'v', 'm') AND n.nspname !~ '^(pg_|moorage_)'
                 AND n.nspname <> 'information_schema' ORDER BY 1, 2";
    let rows = session.rows("listing tables", sql, &[]).await?;
    let shown = |name: String| quoted_part(&name);
    Ok(rows.iter().map(|r| format!("{}.{}", shown(r.get(0)), shown(r.get(1)))).collect())
}

pub(crate) async fn count(session: &Session, target: &str) -> Result<u64> {
    let sql = format!("SELECT count(*) FROM ONLY {}", relation(target));
    let rows: i64 = session.one(&format!("counting rows of {target}"), &sql, &[]).await?.get(0);
    Ok(rows.max(0) as u64)
}

/// What the pipelines know of their tables, by target.
type Owners = HashMap<String, (String, bool)>;

async fn owners(session: &Session) -> Result<Owners> {
    if !meta::exists(session).await? {
        return Ok(Owners::new());
    }
    let all = meta::owners(session).await?;
    Ok(all.into_iter().map(|(target, pipeline, adopted)| (target, (pipeline, adopted))).collect())
}

async fn existing(session: &Session, target: &str, found: &Found, owners: &Owners) -> Result<ExistingTable> {
    let countable = found.kind == "r" && found.writable;
    Ok(ExistingTable {
        columns: found.columns.iter().map(|c| (c.name.clone(), c.declared.clone())).collect(),
        rows: if countable { count(session, target).await? } else { 0 },
        owner: owners.get(target).map(|(pipeline, _)| pipeline.clone()),
    })
}

pub(crate) async fn describe(session: &Session, target: &str) -> Result<Option<ExistingTable>> {
    match find(session, &[target]).await?.pop().flatten() {
        None => Ok(None),
        Some(found) => Ok(Some(existing(session, target, &found, &owners(session).await?).await?)),
    }
}

/// What there is of planned tables; only those that are there are looked at one by one.
pub(crate) async fn survey(session: &Session, pipeline: &str, plans: &[TablePlan]) -> Result<Vec<Surveyed>> {
    let targets: Vec<&str> = plans.iter().map(|p| p.target.as_str()).collect();
    let found = find(session, &targets).await?;
    let owners = owners(session).await?;
    let stored =
        if meta::exists(session).await? { meta::tables(session, pipeline).await? } else { Vec::new() };
    let stored: HashMap<&str, _> = stored.iter().map(|s| (s.plan.target.as_str(), s)).collect();
    let mut all = Vec::with_capacity(plans.len());
    for (plan, found) in plans.iter().zip(found) {
        let Some(found) = found else {
            let problem = try_statements(session, plan).await.err().map(|e| e.to_string());
            all.push(Surveyed { problem, ..Surveyed::default() });
            continue;
        };
        let stored = stored.get(plan.target.as_str());
        let existing = existing(session, &plan.target, &found, &owners).await?;
        let making = making(session, pipeline, plan, Some(&found), &existing, &owners).await;
        all.push(Surveyed {
            existing: Some(existing),
            state: stored.map(|s| s.state),
            maps_otherwise: stored.is_some_and(|s| !s.plan.maps_like(plan)),
            problem: making.err().map(|e| e.to_string()),
        });
    }
    Ok(all)
}

/// What making a table means.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Making {
    /// It is not there.
    New,
    /// The pipeline made it earlier: it starts again.
    Again,
    /// Someone else made it.
    Adopt,
}

async fn making(
    session: &Session,
    pipeline: &str,
    plan: &TablePlan,
    found: Option<&Found>,
    existing: &ExistingTable,
    owners: &Owners,
) -> Result<Making> {
    let Some(found) = found else { return Ok(Making::New) };
    let refused = |reason: String| AdapterError::refused(format!("target table {}", plan.target), reason);
    match owners.get(&plan.target) {
        Some((owner, _)) if owner != pipeline => Err(refused(format!(
            "pipeline {owner} already writes it; change `into` so that each pipeline has tables of its own"
        ))),
        Some((_, false)) => {
            if !found.is_as_planned(plan) && plan.ddl.is_none() {
                let hanging = again::dependents(session, plan, found.id).await?;
                if !hanging.is_empty() {
                    return Err(refused(format!(
                        "its columns are not the planned ones any more, and it cannot be made anew because {} would be lost. Remove what hangs on it, or change the table by hand to ({})",
                        hanging.join(", "),
                        planned_columns(plan)
                    )));
                }
            }
            Ok(Making::Again)
        }
        adopted => {
            if let Some(why) = found.unfit(plan) {
                return Err(refused(format!("it is already there, and {why}")));
            }
            if existing.rows > 0 && plan.existing_rows.is_none() && adopted.is_none() {
                return Err(refused(format!(
                    "it is already there and holds {} rows. Say in the project file what to do with them: existing_rows = \"replace\" or \"keep\"",
                    existing.rows
                )));
            }
            Ok(Making::Adopt)
        }
    }
}

fn planned_columns(plan: &TablePlan) -> String {
    plan.columns.iter().map(|c| format!("{} {}", c.name, c.declared.sql)).collect::<Vec<_>>().join(", ")
}

/// Looks at one planned table.
async fn look(session: &Session, pipeline: &str, plan: &TablePlan) -> Result<(Making, Option<Found>, u64)> {
    let found = find(session, &[&plan.target]).await?.pop().flatten();
    let owners = owners(session).await?;
    let existing = match &found {
        Some(found) => existing(session, &plan.target, found, &owners).await?,
        None => ExistingTable { columns: Vec::new(), rows: 0, owner: None },
    };
    let making = making(session, pipeline, plan, found.as_ref(), &existing, &owners).await?;
    Ok((making, found, existing.rows))
}

/// Whether [`create`] would work.
pub(crate) async fn check(session: &Session, pipeline: &str, plan: &TablePlan) -> Result<()> {
    match look(session, pipeline, plan).await?.0 {
        Making::New => try_statements(session, plan).await,
        Making::Again | Making::Adopt => Ok(()),
    }
}

/// Where rows of a table are to be loaded.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Into {
    /// Into the table, which is empty and has no key yet or may have one.
    Table,
    /// Into the table, beside rows that are kept.
    Kept,
    /// Into a table beside it.
    Beside,
}

/// Makes or adopts a table, inside the caller's transaction.
pub(crate) async fn create(session: &Session, pipeline: &str, plan: &TablePlan) -> Result<Into> {
    let (making, found, rows) = look(session, pipeline, plan).await?;
    let table = relation(&plan.target);
    if let Some(found) = &found {
        again::drop(session, found.id).await?;
    }
    let empty = format!("TRUNCATE ONLY {table}");
    let keeps = making != Making::New && plan.existing_rows == Some(ExistingRowsChoice::Keep);
    let adopted = matches!(making, Making::Adopt);
    let keeps = keeps && adopted;
    let into = match (making, &found) {
        (Making::New, _) | (_, None) => {
            make(session, pipeline, plan).await?;
            Into::Table
        }
        (Making::Again, Some(found)) => {
            let complete = !found.is_as_planned(plan) || has_index(session, plan, found).await?;
            if complete && rows > 0 {
                again::create(session, plan, found).await?;
                Into::Beside
            } else if found.is_as_planned(plan) || plan.ddl.is_some() {
                // What was loaded before it was broken off.
                session.run(&format!("emptying table {}", plan.target), &empty).await?;
                Into::Table
            } else {
                session
                    .run(&format!("making table {} anew", plan.target), &format!("DROP TABLE {table}"))
                    .await?;
                make(session, pipeline, plan).await?;
                Into::Table
            }
        }
        (Making::Adopt, Some(found)) if keeps => {
            build_index(session, plan, found, true).await?;
            Into::Kept
        }
        (Making::Adopt, Some(found)) => {
            // Its rows stay until the new ones are there; and where foreign keys tie it to others, rows come and go in
            // one transaction, at the end.
            if rows > 0 || again::is_bound(session, found.id).await? {
                again::create(session, plan, found).await?;
                Into::Beside
            } else {
                Into::Table
            }
        }
    };
    match (keeps, &found) {
        // A list that is there is from before the first load: what was loaded since is not kept.
        (true, Some(found)) => again::list_kept(session, plan, found).await?,
        (_, Some(found)) => again::forget_kept(session, found.id).await?,
        _ => {}
    }
    meta::remember_loading(session, pipeline, plan, adopted, keeps).await?;
    Ok(into)
}

/// Makes a table, by the statements that people wrote if there are any.
async fn make(session: &Session, pipeline: &str, plan: &TablePlan) -> Result<()> {
    let (schema, _) = parts(&plan.target);
    let sql = "SELECT to_regnamespace($1) IS NULL";
    if session.one("looking for the schema", sql, &[&quote_ident(&schema)]).await?.get(0) {
        let sql = format!("CREATE SCHEMA {}", quote_ident(&schema));
        session.run(&format!("making schema {schema}"), &sql).await?;
    }
    match &plan.ddl {
        None => {
            let sql = create_table(plan, &relation(&plan.target), &key_columns(plan));
            session.run(&format!("making table {}", plan.target), &sql).await?;
        }
        Some(ddl) => run_statements(session, plan, ddl).await?,
    }
    let comment = format!("{WRITTEN}{pipeline}{WRITTEN_END}, from {}", plan.table());
    let own = plan.comment.as_ref().map(|own| format!("{own}\n")).unwrap_or_default();
    let table = relation(&plan.target);
    let mut sql = format!("COMMENT ON TABLE {table} IS {}", escaped(&format!("{own}{comment}")));
    for column in &plan.columns {
        if let Some(comment) = &column.comment {
            let name = quote_ident(&column.name);
            sql.push_str(&format!("; COMMENT ON COLUMN {table}.{name} IS {}", escaped(comment)));
        }
    }
    session.run(&format!("making table {}", plan.target), &sql).await
}

/// A text that means the same whatever the setting of `standard_conforming_strings` is (PostgreSQL manual,
/// section 4.1.2.2).
fn escaped(text: &str) -> String {
    format!("E{}", quote_literal(text).replace('\\', "\\\\"))
}

fn key_columns(plan: &TablePlan) -> Vec<usize> {
    plan.mapped.identity.key().unwrap_or(&[]).to_vec()
}

/// The statement that makes a table, without the index that merges find rows by: it is built after loading, which
/// is several times faster.
pub(crate) fn create_table(plan: &TablePlan, relation: &str, needed: &[usize]) -> String {
    let columns: Vec<String> = plan
        .columns
        .iter()
        .enumerate()
        .map(|(i, c)| {
            let needed = if needed.contains(&i) { " NOT NULL" } else { "" };
            format!("  {} {}{needed}", quote_ident(&c.name), c.declared.sql)
        })
        .collect();
    format!("CREATE TABLE {relation} (\n{}\n)", columns.join(",\n"))
}

/// All statements that make a table, for people.
pub(crate) fn definition(plan: &TablePlan) -> String {
    if let Some(ddl) = &plan.ddl {
        return ddl.clone();
    }
    let relation = relation(&plan.target);
    let key = key_columns(plan);
    let key_names: Vec<String> = key.iter().map(|&k| quote_ident(&plan.columns[k].name)).collect();
    let index = if key.is_empty() {
        String::new()
    } else {
        format!("\nALTER TABLE {relation} ADD PRIMARY KEY ({});", key_names.join(", "))
    };
    format!("{};{index}", create_table(plan, &relation, &key))
}

fn refused_statements(plan: &TablePlan, reason: &str) -> AdapterError {
    AdapterError::refused(
        format!("the statements for target table {} that were changed by hand", plan.target),
        format!(
            "{reason}. Mend the file in the folder that `ddl_dir` names, or delete it to have it made anew"
        ),
    )
}

async fn run_statements(session: &Session, plan: &TablePlan, ddl: &str) -> Result<()> {
    session.run("making a table", ddl).await.map_err(|e| refused_statements(plan, &e.to_string()))?;
    let found = find(session, &[&plan.target]).await?.pop().flatten();
    match found.map(|f| f.unfit(plan)) {
        None => Err(refused_statements(plan, "they do not make a table of that name")),
        Some(Some(why)) => Err(refused_statements(plan, &format!("of the table they make: {why}"))),
        Some(None) => Ok(()),
    }
}

/// Tries statements that people wrote, and takes them back.
async fn try_statements(session: &Session, plan: &TablePlan) -> Result<()> {
    let Some(ddl) = &plan.ddl else { return Ok(()) };
    let (schema, _) = parts(&plan.target);
    let schema = quote_ident(&schema);
    session.run("opening a transaction", "BEGIN").await?;
    let tried = async {
        let missing: bool = session
            .one("looking for the schema", "SELECT to_regnamespace($1) IS NULL", &[&schema])
            .await?
            .get(0);
        if missing {
            session.run("making a schema", &format!("CREATE SCHEMA {schema}")).await?;
        }
        run_statements(session, plan, ddl).await
    };
    let tried = tried.await;
    session.run("taking that back", "ROLLBACK").await?;
    tried
}

/// Whether the table has what merges find rows by: for a key a unique index over its columns that is checked at
/// once, without one an index of ours.
pub(crate) async fn has_index(session: &Session, plan: &TablePlan, found: &Found) -> Result<bool> {
    let key: Vec<&str> = key_columns(plan).into_iter().map(|k| plan.columns[k].name.as_str()).collect();
    let sql = "SELECT EXISTS (SELECT 1 FROM pg_index i WHERE i.indrelid = $1 AND i.indisunique AND i.indisvalid
                 AND i.indimmediate AND i.indpred IS NULL AND i.indexprs IS NULL AND i.indnkeyatts = cardinality($2::text[])
                 AND NOT EXISTS (SELECT 1 FROM unnest(i.indkey::int2[]) WITH ORDINALITY k(attnum, place)
                   JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.attnum
                   WHERE k.place <= i.indnkeyatts AND a.attname <> ALL ($2::text[])))
               OR (cardinality($2::text[]) = 0 AND to_regclass($3) IS NOT NULL)";
    let (schema, _) = parts(&plan.target);
    let ours = format!("{}.moorage_match_{}", quote_ident(&schema), found.id);
    Ok(session.one("looking for the key", sql, &[&found.id, &key, &ours]).await?.get(0))
}

/// Builds what merges find rows by. A declared key that is not unique, or null, is refused here.
/// A table of someone else gets an index that can be taken away again, not a primary key.
pub(crate) async fn build_index(
    session: &Session,
    plan: &TablePlan,
    found: &Found,
    adopted: bool,
) -> Result<()> {
    if has_index(session, plan, found).await? {
        return Ok(());
    }
    let form = Form::new(plan, relation(&plan.target), found)?;
    build(session, plan, &form, found, adopted).await
}

/// Builds it on the table that a form is for.
pub(crate) async fn build(
    session: &Session,
    plan: &TablePlan,
    form: &Form,
    found: &Found,
    adopted: bool,
) -> Result<()> {
    let Some(mut statement) = form.index() else { return Ok(()) };
    let doing = format!("building the key of table {}", plan.target);
    if !form.key.is_empty() && adopted {
        let key: Vec<&str> = form.key.iter().map(|&k| form.columns[k].as_str()).collect();
        statement =
            format!("CREATE UNIQUE INDEX moorage_key_{} ON {} ({})", found.id, form.relation, key.join(", "));
    }
    let built = session.client().batch_execute(&statement).await;
    built.map_err(|e| match e.code().map(|c| c.code()) {
        Some("23505" | "23502") => {
            let detail = e.as_db_error().and_then(|d| d.detail()).unwrap_or("two rows have the same values");
            AdapterError::Value {
                table: plan.table().to_string(),
                what: format!(
                    "the key ({}) is not unique or has nulls: {detail}. Declare another key in the project file, or take `key` out and set REPLICA IDENTITY FULL",
                    plan.mapped.key_names().join(", ")
                ),
            }
        }
        _ => session.error(&doing, &e),
    })
}

/// Ends a load that went into the table itself, inside the caller's transaction.
pub(crate) async fn finish(session: &Session, plan: &TablePlan, end: &LoadedTable) -> Result<()> {
    let found = find(session, &[&plan.target]).await?.pop().flatten();
    let found = found.ok_or_else(|| {
        AdapterError::refused(format!("target table {}", plan.target), "it was removed while it was loaded")
    })?;
    let adopted = owners(session).await?.get(&plan.target).is_some_and(|(_, adopted)| *adopted);
    build_index(session, plan, &found, adopted).await?;
    meta::remember_loaded(session, &plan.target, end).await
}

/// What the planner knows of a table that was just filled; nothing depends on it.
pub(crate) async fn analyze(session: &Session, plan: &TablePlan, end: &LoadedTable) {
    if end.state == TableState::ChangesOnly {
        return;
    }
    if let Err(error) = session.run("analyzing a table", &format!("ANALYZE {}", relation(&plan.target))).await
    {
        tracing::warn!("{error}");
    }
}

/// Removes a target table, unless it was there before the pipeline, and what stands beside it.
async fn remove_table(session: &Session, target: &str, dry: bool) -> Result<Step> {
    let found = find(session, &[target]).await?.pop().flatten();
    let adopted = owners(session).await?.get(target).is_some_and(|(_, adopted)| *adopted);
    if let Some(found) = found.as_ref().filter(|_| !dry) {
        again::drop(session, found.id).await?;
        again::forget_kept(session, found.id).await?;
        if adopted {
            let schema = quote_ident(&parts(target).0);
            let sql = format!(
                "DROP INDEX IF EXISTS {schema}.moorage_key_{0}, {schema}.moorage_match_{0}",
                found.id
            );
            session.run(&format!("removing indexes from table {target}"), &sql).await?;
        }
    }
    let outcome = match (adopted, dry, &found) {
        (_, _, None) => "is gone already",
        (true, ..) => "left: it was there before the pipeline",
        (false, true, _) => "would be removed",
        (false, false, _) => {
            let sql = format!("DROP TABLE {}", relation(target));
            session.run(&format!("removing table {target}"), &sql).await?;
            "removed"
        }
    };
    Ok(Step::new(format!("target table {target}"), outcome))
}

/// Forgets tables, and removes them if asked.
pub(crate) async fn let_go(
    session: &Session,
    pipeline: &str,
    targets: &[String],
    remove: bool,
) -> Result<Vec<Step>> {
    let mut steps = Vec::new();
    for target in targets {
        steps.push(match remove {
            true => remove_table(session, target, false).await?,
            false => Step::new(format!("target table {target}"), "left as it is, and not known any more"),
        });
    }
    meta::remove_tables(session, pipeline, targets).await?;
    Ok(steps)
}

pub(crate) async fn teardown(session: &Session, pipeline: &str, dry: bool) -> Result<Vec<Step>> {
    let mut steps = Vec::new();
    if !meta::exists(session).await? {
        return Ok(steps);
    }
    for stored in meta::tables(session, pipeline).await? {
        steps.push(remove_table(session, &stored.plan.target, dry).await?);
    }
    if meta::checkpoint(session, pipeline).await?.is_some() || !steps.is_empty() {
        if !dry {
            meta::remove_pipeline(session, pipeline).await?;
        }
        steps.push(Step::new("checkpoint", if dry { "would be removed" } else { "removed" }));
    }
    Ok(steps)
}

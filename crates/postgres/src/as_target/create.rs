//! Making, adopting and removing target tables.

use super::dialect::{escaped, holds, parts, relation};
use super::form::{Found, FoundColumn, find};
use crate::as_target::catch_up::{add_columns, may_widen};
use crate::as_target::index::{build_index, has_index, has_other_key};
use crate::as_target::state::Owners;
use crate::as_target::statements::{create_table, run_statements, try_statements};
use crate::as_target::{beside, kept, state};
use crate::wire::connect::Session;
use crate::wire::written::{WRITTEN, WRITTEN_END};
use moorage_adapter::{
    AdapterError, DependentView, Doing, ExistingTable, LoadedTable, Result, Surveyed, TableState,
};
use moorage_core::drift::standing::TargetColumns;
use moorage_core::model::name::quoted_part;
use moorage_core::model::policy::ExistingRows;
use moorage_core::model::sql::quote_ident;
use moorage_core::plan::current_rows::is_its;
use moorage_core::plan::gather::{Place, cannot_join};
use moorage_core::plan::table::{PlannedColumn, TablePlan};
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

pub(crate) async fn count(session: &Session, plan: &TablePlan) -> Result<u64> {
    let its = is_its(plan, "").map(|its| format!(" WHERE {its}")).unwrap_or_default();
    count_where(session, plan.stands_in(), &its).await
}

async fn count_where(session: &Session, target: &str, which: &str) -> Result<u64> {
    let sql = format!("SELECT count(*) FROM ONLY {}{which}", relation(target));
    let rows: i64 = session.one(Doing::to("counting rows of", target), &sql, &[]).await?.get(0);
    Ok(rows.max(0) as u64)
}

fn columns_of(found: &Found) -> TargetColumns {
    let declared = |c: &FoundColumn| format!("{}{}", c.declared, if c.computed { " GENERATED" } else { "" });
    found.columns.iter().map(|c| (c.name.clone(), declared(c))).collect()
}

pub(crate) async fn columns(session: &Session, target: &str) -> Result<TargetColumns> {
    let found = find(session, &[target]).await?.pop().flatten();
    Ok(found.as_ref().map(columns_of).unwrap_or_default())
}

/// The views that read a table (PostgreSQL manual, section 53.18: a rule depends on each column that it names).
pub(crate) async fn views(session: &Session, target: &str) -> Result<Vec<DependentView>> {
    let (schema, name) = parts(target);
    let sql = "
SELECT v.oid::regclass::text, array_agg(DISTINCT a.attname::text) FROM pg_depend d
  JOIN pg_class t ON t.oid = d.refobjid JOIN pg_namespace n ON n.oid = t.relnamespace
  JOIN pg_attribute a ON a.attrelid = t.oid AND a.attnum = d.refobjsubid
  JOIN pg_rewrite w ON w.oid = d.objid JOIN pg_class v ON v.oid = w.ev_class AND v.oid <> t.oid
 WHERE d.classid = 'pg_rewrite'::regclass AND d.refclassid = 'pg_class'::regclass AND n.nspname = $1 AND t.relname = $2
   AND NOT starts_with(coalesce(obj_description(v.oid, 'pg_class'), ''), $3)
 GROUP BY 1 ORDER BY 1";
    let rows = session.rows("looking for views", sql, &[&schema, &name, &kept::OURS]).await?;
    Ok(rows.iter().map(|r| DependentView { view: r.get(0), columns: r.get(1) }).collect())
}

async fn existing(session: &Session, target: &str, found: &Found, owners: &Owners) -> Result<ExistingTable> {
    let countable = found.kind == "r" && found.writable;
    Ok(ExistingTable {
        columns: columns_of(found),
        rows: if countable { count_where(session, target, "").await? } else { 0 },
        owner: owners.of_table(target).cloned(),
    })
}

pub(crate) async fn describe(session: &Session, target: &str) -> Result<Option<ExistingTable>> {
    match find(session, &[target]).await?.pop().flatten() {
        None => Ok(None),
        Some(found) => Ok(Some(existing(session, target, &found, &state::owners(session).await?).await?)),
    }
}

/// What there is of planned tables; only those that are there are looked at one by one.
pub(crate) async fn survey(session: &Session, pipeline: &str, plans: &[TablePlan]) -> Result<Vec<Surveyed>> {
    let targets: Vec<&str> = plans.iter().map(TablePlan::stands_in).collect();
    let found = find(session, &targets).await?;
    let owners = state::owners(session).await?;
    let stored =
        if state::exists(session).await? { state::tables(session, pipeline).await? } else { Vec::new() };
    let stored: HashMap<&str, _> = stored.iter().map(|s| (s.plan.target.as_str(), s)).collect();
    let mut all = Vec::with_capacity(plans.len());
    for (plan, found) in plans.iter().zip(found) {
        let Some(found) = found else {
            let problem = try_statements(session, plan).await.err().map(|e| e.to_string());
            all.push(Surveyed { problem, ..Surveyed::default() });
            continue;
        };
        let stored = stored.get(plan.target.as_str());
        let existing = existing(session, plan.stands_in(), &found, &owners).await?;
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
    let refused =
        |reason: String| AdapterError::refused(format!("target table {}", plan.stands_in()), reason);
    if let Some(gathered) = &plan.gathered {
        let others = state::beside_in_table(session, plan).await?;
        let others: Vec<TablePlan> = others.into_iter().map(|(plan, _)| plan).collect();
        let there = Place {
            pipeline,
            of_rows: owners.get(&plan.target).map(|(owner, _)| owner.as_str()),
            others: &others,
            of_table: owners.of_table(&gathered.into).map(String::as_str),
        };
        let unfit = |column: &PlannedColumn| {
            let there = &found.columns.iter().find(|c| c.name == column.name)?.declared;
            let sql = &column.declared.sql;
            (!holds(sql, "", there) && !may_widen(plan, there, sql)).then(|| there.clone())
        };
        return match cannot_join(plan, &there, unfit, str::to_owned) {
            Some(why) => Err(refused(why)),
            None => Ok(Making::Again),
        };
    }
    if let Some(other) = owners.standing_in(&plan.target).next() {
        return Err(refused(format!(
            "rows of several tables stand in it ({other}): change `into`, or have this one stand there with `gather = true` in a rule"
        )));
    }
    match owners.get(&plan.target) {
        Some((owner, _)) if owner != pipeline => Err(refused(format!(
            "pipeline {owner} already writes it; change `into` so that each pipeline has tables of its own"
        ))),
        Some((_, false)) => {
            if plan.is_a_copy() && !found.is_as_planned(plan) && plan.ddl.is_none() {
                let hanging = beside::dependents(session, plan, found.id).await?;
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
        None if !plan.kept_as.is_plain() => Err(refused(format!(
            "it is already there, and with keep = \"{}\" a pipeline needs a table that it made itself. Rename or drop it, or change `into`",
            plan.kept_as.keep.word()
        ))),
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
    let found = find(session, &[plan.stands_in()]).await?.pop().flatten();
    let owners = state::owners(session).await?;
    let existing = match &found {
        Some(found) => existing(session, plan.stands_in(), found, &owners).await?,
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
    state::lock_gathered(session, plan).await?;
    let (making, found, rows) = look(session, pipeline, plan).await?;
    let table = relation(plan.stands_in());
    if let Some(found) = &found {
        beside::drop(session, plan, found.id).await?;
    }
    let empty = format!("TRUNCATE ONLY {table}");
    let keeps = making != Making::New && plan.existing_rows == Some(ExistingRows::Keep);
    let adopted = matches!(making, Making::Adopt);
    let keeps = keeps && adopted;
    let into = match (making, &found) {
        (Making::New, _) | (_, None) => {
            make(session, pipeline, plan).await?;
            Into::Table
        }
        (Making::Again, Some(found)) if plan.gathered.is_some() => {
            stand_together(session, pipeline, plan, found).await?
        }
        (Making::Again, Some(found)) if !plan.kept_as.is_plain() => {
            if has_index(session, plan, found).await? {
                beside::create(session, plan, found).await?;
                Into::Beside
            } else {
                // What was loaded before it was broken off.
                kept::drop_view(session, plan).await?;
                session
                    .run(format!("making table {} anew", plan.target), &format!("DROP TABLE {table}"))
                    .await?;
                make(session, pipeline, plan).await?;
                Into::Table
            }
        }
        (Making::Again, Some(found)) => {
            let complete = !found.is_as_planned(plan)
                || has_index(session, plan, found).await?
                || has_other_key(session, plan, found).await?;
            if complete && rows > 0 {
                beside::create(session, plan, found).await?;
                Into::Beside
            } else if found.is_as_planned(plan) || plan.ddl.is_some() {
                // What was loaded before it was broken off.
                session.run(&Doing::to("emptying table", &plan.target), &empty).await?;
                Into::Table
            } else {
                session
                    .run(format!("making table {} anew", plan.target), &format!("DROP TABLE {table}"))
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
            if rows > 0 || beside::is_bound(session, found.id).await? {
                beside::create(session, plan, found).await?;
                Into::Beside
            } else {
                Into::Table
            }
        }
    };
    match (keeps, &found) {
        // A list that is there is from before the first load: what was loaded since is not kept.
        (true, Some(found)) => beside::list_kept(session, plan, found).await?,
        (_, Some(found)) => beside::forget_kept(session, found.id).await?,
        _ => {}
    }
    state::remember_loading(session, pipeline, plan, adopted, keeps).await?;
    Ok(into)
}

/// Makes room for the rows of a table in one that is there. Where that is whole, they are loaded beside it, and come at once.
async fn stand_together(session: &Session, pipeline: &str, plan: &TablePlan, found: &Found) -> Result<Into> {
    add_columns(session, pipeline, plan, found).await?;
    kept::make_view(session, pipeline, plan).await?;
    if has_index(session, plan, found).await? {
        beside::create(session, plan, found).await?;
        return Ok(Into::Beside);
    }
    let its = is_its(plan, "").map(|its| format!(" WHERE {its}")).unwrap_or_default();
    let sql = format!("DELETE FROM ONLY {}{its}", relation(plan.stands_in()));
    session.run(Doing::to("removing what was loaded of table", &plan.target), &sql).await?;
    Ok(Into::Table)
}

/// Makes a table, by the statements that people wrote if there are any.
async fn make(session: &Session, pipeline: &str, plan: &TablePlan) -> Result<()> {
    let (schema, _) = parts(plan.stands_in());
    let sql = "SELECT to_regnamespace($1) IS NULL";
    if session.one("looking for the schema", sql, &[&quote_ident(&schema)]).await?.get(0) {
        let sql = format!("CREATE SCHEMA {}", quote_ident(&schema));
        session.run(Doing::to("making schema", &schema), &sql).await?;
    }
    let mut has_view = false;
    match &plan.ddl {
        None => {
            let sql = create_table(plan, &relation(plan.stands_in()), &plan.needed());
            session.run(Doing::to("making table", &plan.target), &sql).await?;
        }
        Some(ddl) => {
            let had_view = kept::has_view(session, plan).await?;
            run_statements(session, plan, ddl).await?;
            has_view = !had_view && kept::claim_view(session, pipeline, plan).await?;
        }
    }
    let from = match &plan.gathered {
        Some(_) => "several tables".to_string(),
        None => plan.table().to_string(),
    };
    let comment = format!("{WRITTEN}{pipeline}{WRITTEN_END}, from {from}");
    let own = plan.comment.as_ref().map(|own| format!("{own}\n")).unwrap_or_default();
    let table = relation(plan.stands_in());
    let mut sql = format!("COMMENT ON TABLE {table} IS {}", escaped(&format!("{own}{comment}")));
    for column in &plan.columns {
        if let Some(comment) = &column.comment {
            let name = quote_ident(&column.name);
            sql.push_str(&format!("; COMMENT ON COLUMN {table}.{name} IS {}", escaped(comment)));
        }
    }
    session.run(Doing::to("making table", &plan.target), &sql).await?;
    match has_view {
        true => Ok(()),
        false => kept::make_view(session, pipeline, plan).await,
    }
}

/// Ends a load that went into the table itself, inside the caller's transaction.
pub(crate) async fn finish(session: &Session, plan: &TablePlan, end: &LoadedTable) -> Result<()> {
    let found = find(session, &[plan.stands_in()]).await?.pop().flatten();
    let found = found.ok_or_else(|| {
        AdapterError::refused(format!("target table {}", plan.target), "it was removed while it was loaded")
    })?;
    let adopted = state::owners(session).await?.get(&plan.target).is_some_and(|(_, adopted)| *adopted);
    state::lock_gathered(session, plan).await?;
    // While others are loaded it would hold them up; the last one has it made.
    let others = state::beside_in_table(session, plan).await?;
    if !others.iter().any(|(_, state)| matches!(state, TableState::Waiting | TableState::Reading)) {
        build_index(session, plan, &found, adopted).await?;
    }
    state::remember_loaded(session, &plan.target, end).await
}

/// What the planner knows of a table that was just filled; nothing depends on it.
pub(crate) async fn analyze(session: &Session, plan: &TablePlan, end: &LoadedTable) {
    if end.state == TableState::ChangesOnly {
        return;
    }
    if let Err(error) =
        session.run("analyzing a table", &format!("ANALYZE {}", relation(plan.stands_in()))).await
    {
        tracing::warn!("{error}");
    }
}

//! Making, adopting and removing target tables.

use crate::as_target::catch_up::add_columns;
use crate::as_target::columns::columns;
use crate::as_target::index::{build_index, has_index};
use crate::as_target::kept::make_view;
use crate::as_target::statements::{Statements, create_table};
use crate::as_target::{beside, state};
use crate::file::error::sql_error;
use moorage_adapter::{AdapterError, DependentView, Doing, ExistingTable, Result, StoredTable, Surveyed};
use moorage_core::model::policy::ExistingRows;
use moorage_core::model::sql::quote_ident;
use moorage_core::plan::gather::{Place, cannot_join};
use moorage_core::plan::table::{PlannedColumn, TablePlan};
use rusqlite::{Connection, OptionalExtension};
use std::collections::{HashMap, HashSet};
use std::path::Path;

pub(crate) fn describe(db: &Connection, table: &str) -> rusqlite::Result<Option<ExistingTable>> {
    let found: Option<String> = db
        .query_row(
            "SELECT name FROM sqlite_schema WHERE type IN ('table', 'view') AND name = ?1 COLLATE NOCASE",
            [table],
            |r| r.get(0),
        )
        .optional()?;
    let Some(name) = found else { return Ok(None) };
    let columns = columns(db, &name)?;
    let rows = db.query_row(&format!("SELECT count(*) FROM {}", quote_ident(&name)), [], |r| r.get(0))?;
    let owner = match state::owner(db, &name)? {
        Some((pipeline, _)) => Some(pipeline),
        None => state::standing_in(db, &name)?.into_iter().next().map(|(_, pipeline, _)| pipeline),
    };
    Ok(Some(ExistingTable { columns, rows, owner }))
}

/// The views in whose text a table's name stands as a word: of what they read, SQLite keeps nothing else.
pub(crate) fn views(db: &Connection, table: &str) -> rusqlite::Result<Vec<DependentView>> {
    let mut query = db.prepare("SELECT name, sql FROM sqlite_schema WHERE type = 'view' ORDER BY name")?;
    let views = query.query_map([], |r| Ok((r.get(0)?, r.get(1)?)))?;
    let views: Vec<(String, String)> = views.collect::<rusqlite::Result<_>>()?;
    let reads = |sql: &str| has_word(&sql.to_lowercase(), &table.to_lowercase());
    let read = views.into_iter().filter(|(_, sql)| reads(sql));
    Ok(read.map(|(view, _)| DependentView { view, columns: Vec::new() }).collect())
}

fn has_word(text: &str, word: &str) -> bool {
    let is_of_word = |c: char| c.is_alphanumeric() || c == '_';
    text.match_indices(word).any(|(at, found)| {
        let (before, behind) = (text[..at].chars().next_back(), text[at + found.len()..].chars().next());
        !before.is_some_and(is_of_word) && !behind.is_some_and(is_of_word)
    })
}

/// All tables and views but SQLite's own and ours.
pub(crate) fn list(db: &Connection) -> rusqlite::Result<Vec<String>> {
    let mut query = db.prepare(
        "SELECT name FROM sqlite_schema WHERE type IN ('table', 'view') AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\'
           AND name NOT LIKE 'moorage\\_%' ESCAPE '\\' ORDER BY name",
    )?;
    query.query_map([], |r| r.get(0))?.collect()
}

/// What there is of planned tables. Only those whose name is there are looked at one by one.
pub(crate) fn survey(
    db: &Connection,
    path: &Path,
    pipeline: &str,
    plans: &[TablePlan],
) -> Result<Vec<Surveyed>> {
    let sql = |e| sql_error(path, "looking at the tables", e);
    let there: HashSet<String> = list(db).map_err(sql)?.iter().map(|n| n.to_ascii_lowercase()).collect();
    let stored = state::tables(db, pipeline).map_err(sql)?;
    let stored: HashMap<&str, &StoredTable> = stored.iter().map(|s| (s.plan.target.as_str(), s)).collect();
    let look = |plan: &TablePlan| {
        if !there.contains(&plan.stands_in().to_ascii_lowercase()) {
            return Ok(survey_new(plan));
        }
        let stored = stored.get(plan.target.as_str());
        Ok(Surveyed {
            existing: describe(db, plan.stands_in()).map_err(sql)?,
            state: stored.map(|s| s.state),
            maps_otherwise: stored.is_some_and(|s| !s.plan.maps_like(plan)),
            problem: check(db, path, pipeline, plan).err().map(|e| e.to_string()),
        })
    };
    plans.iter().map(look).collect()
}

/// What there is of a table that is not there.
pub(crate) fn survey_new(plan: &TablePlan) -> Surveyed {
    let problem = try_statements(plan).err().map(|e| e.to_string());
    Surveyed { problem, ..Surveyed::default() }
}

/// Tries statements that people wrote on an empty database.
pub(crate) fn try_statements(plan: &TablePlan) -> Result<()> {
    let Some(ddl) = &plan.ddl else { return Ok(()) };
    let failed = |e: rusqlite::Error| refused_statements(plan, &e.to_string());
    let db = Connection::open_in_memory().map_err(failed)?;
    db.execute_batch(ddl).map_err(failed)?;
    has_columns(&db, plan)
}

fn refused_statements(plan: &TablePlan, reason: &str) -> AdapterError {
    AdapterError::refused(
        format!("the statements for target table {} that were changed by hand", plan.target),
        format!(
            "{reason}. Mend the file in the folder that `ddl_dir` names, or delete it to have it made anew"
        ),
    )
}

/// Whether statements that people wrote made the table with all columns that are to be written.
fn has_columns(db: &Connection, plan: &TablePlan) -> Result<()> {
    let found = describe(db, plan.stands_in()).map_err(|e| refused_statements(plan, &e.to_string()))?;
    let Some(found) = found else {
        return Err(refused_statements(plan, "they do not make a table of that name"));
    };
    let has = |name: &str| found.columns.iter().any(|(n, _)| n.eq_ignore_ascii_case(name));
    match plan.columns.iter().find(|c| !has(&c.name)) {
        Some(missing) => {
            let reason = format!("the table they make has no column {}, which the plan has", missing.name);
            Err(refused_statements(plan, &reason))
        }
        None => Ok(()),
    }
}

/// What making a table means.
enum Making {
    /// It is not there.
    New,
    /// The pipeline made it earlier: it starts again.
    Again,
    /// Someone else made it.
    Adopt,
}

fn making(db: &Connection, path: &Path, pipeline: &str, plan: &TablePlan) -> Result<Making> {
    let sql = |e| sql_error(path, Doing::to("looking at table", &plan.target), e);
    let Some(existing) = describe(db, plan.stands_in()).map_err(sql)? else { return Ok(Making::New) };
    let what = || format!("target table {}", plan.stands_in());
    if plan.gathered.is_some() {
        return match cannot_stand(db, pipeline, plan, &existing).map_err(sql)? {
            Some(why) => Err(AdapterError::refused(what(), why)),
            None => Ok(Making::Again),
        };
    }
    if let Some((other, ..)) = state::standing_in(db, &plan.target).map_err(sql)?.first() {
        return Err(AdapterError::refused(
            what(),
            format!(
                "rows of several tables stand in it ({}): change `into`, or have this one stand there with `gather = true` in a rule",
                other.target
            ),
        ));
    }
    match state::owner(db, &plan.target).map_err(sql)? {
        Some((owner, _)) if owner != pipeline => Err(AdapterError::refused(
            format!("target table {}", plan.target),
            format!(
                "pipeline {owner} already writes it; change `into` so that each pipeline has tables of its own"
            ),
        )),
        Some((_, false)) => Ok(Making::Again),
        None if !plan.kept_as.is_plain() => Err(AdapterError::refused(
            format!("target table {} is already there", plan.target),
            format!(
                "with keep = \"{}\" a pipeline needs a table that it made itself. Rename or drop that one, or change `into`",
                plan.kept_as.keep.word()
            ),
        )),
        adopted => check_adoption(plan, &existing, adopted.is_some()).map(|()| Making::Adopt),
    }
}

/// Why a table cannot stand together with others in one that is there, if so.
fn cannot_stand(
    db: &Connection,
    pipeline: &str,
    plan: &TablePlan,
    existing: &ExistingTable,
) -> rusqlite::Result<Option<String>> {
    let of_rows = state::owner(db, &plan.target)?.map(|(owner, _)| owner);
    let others: Vec<TablePlan> =
        state::beside_in_table(db, plan)?.into_iter().map(|(plan, _)| plan).collect();
    let there =
        Place { pipeline, of_rows: of_rows.as_deref(), others: &others, of_table: existing.owner.as_deref() };
    let unfit = |column: &PlannedColumn| {
        let (_, sql) = existing.columns.iter().find(|(found, _)| found.eq_ignore_ascii_case(&column.name))?;
        (!sql.eq_ignore_ascii_case(&column.declared.sql)).then(|| sql.clone())
    };
    Ok(cannot_join(plan, &there, unfit, str::to_ascii_lowercase))
}

/// Makes room for the rows of a table in one that is there. Where that is whole, they are loaded beside it, and come at once.
fn stand_together(db: &Connection, path: &Path, plan: &TablePlan) -> Result<()> {
    add_columns(db, path, plan)?;
    make_view(db, path, plan)?;
    if has_index(db, path, plan)? {
        return beside::create(db, path, plan);
    }
    db.execute_batch(&Statements::new(plan).empty())
        .map_err(|e| sql_error(path, Doing::to("removing what was loaded of table", &plan.target), e))
}

/// Whether [`create`] would work.
pub(crate) fn check(db: &Connection, path: &Path, pipeline: &str, plan: &TablePlan) -> Result<()> {
    match making(db, path, pipeline, plan)? {
        Making::New => try_statements(plan),
        Making::Again | Making::Adopt => Ok(()),
    }
}

/// Makes or adopts a table inside the caller's transaction.
pub(crate) fn create(db: &Connection, path: &Path, pipeline: &str, plan: &TablePlan) -> Result<()> {
    let run = |doing: &'static str, sql: &str| {
        db.execute_batch(sql)
            .map_err(|e| sql_error(path, Doing::to(doing, format!("table {}", plan.target)), e))
    };
    let table = quote_ident(plan.stands_in());
    let making = making(db, path, pipeline, plan)?;
    beside::drop(db, path, plan)?;
    let keeps = matches!(making, Making::Adopt) && plan.existing_rows == Some(ExistingRows::Keep);
    match making {
        Making::New => make(db, path, plan)?,
        Making::Again if plan.gathered.is_some() => stand_together(db, path, plan)?,
        // What was loaded of it before that was broken off.
        Making::Again if !plan.kept_as.is_plain() && !has_index(db, path, plan)? => {
            run("making", &format!("DROP TABLE {table}"))?;
            make(db, path, plan)?;
        }
        // The old rows stay until the new ones take their place.
        Making::Again if has_rows(db, path, plan)? => beside::create(db, path, plan)?,
        Making::Again => {
            run("making", &format!("DROP TABLE {table}"))?;
            make(db, path, plan)?;
        }
        Making::Adopt if keeps => build_index(db, path, plan)?,
        Making::Adopt if was_ours(db, path, plan)? && has_rows(db, path, plan)? => {
            beside::create(db, path, plan)?
        }
        Making::Adopt => run("emptying", &format!("DELETE FROM {table}"))?,
    }
    let adopted = matches!(making, Making::Adopt);
    let list = |sql: rusqlite::Result<()>| {
        sql.map_err(|e| sql_error(path, Doing::to("listing rows of table", &plan.target), e))
    };
    match (keeps, state::has_kept(db, &plan.target)) {
        // A list that is there is from before the first load: what was loaded since is not kept.
        (true, Ok(true)) => {}
        (true, _) => list(state::remember_kept(db, plan))?,
        (false, _) => list(state::forget_kept(db, &plan.target))?,
    }
    state::remember_loading(db, pipeline, plan, adopted, keeps)
        .map_err(|e| sql_error(path, Doing::to("remembering table", &plan.target), e))
}

/// Makes a table, by the statements that people wrote if there are any.
fn make(db: &Connection, path: &Path, plan: &TablePlan) -> Result<()> {
    match &plan.ddl {
        None => db
            .execute_batch(&create_table(plan))
            .map_err(|e| sql_error(path, Doing::to("making table", &plan.target), e))?,
        Some(ddl) => {
            db.execute_batch(ddl).map_err(|e| refused_statements(plan, &e.to_string()))?;
            has_columns(db, plan)?;
        }
    }
    make_view(db, path, plan)
}

fn has_rows(db: &Connection, path: &Path, plan: &TablePlan) -> Result<bool> {
    let sql = format!("SELECT EXISTS (SELECT 1 FROM {})", quote_ident(plan.stands_in()));
    db.query_row(&sql, [], |r| r.get(0))
        .map_err(|e| sql_error(path, Doing::to("looking at table", &plan.target), e))
}

/// Whether the rows of an adopted table are the pipeline's own, from an earlier load.
fn was_ours(db: &Connection, path: &Path, plan: &TablePlan) -> Result<bool> {
    let found = state::owner(db, &plan.target);
    found
        .map(|owner| owner.is_some())
        .map_err(|e| sql_error(path, Doing::to("looking at table", &plan.target), e))
}

fn check_adoption(plan: &TablePlan, existing: &ExistingTable, was_adopted: bool) -> Result<()> {
    let form = |name: &str, sql: &str| format!("{} {}", name.to_ascii_lowercase(), sql.to_ascii_uppercase());
    let mut found: Vec<String> = existing.columns.iter().map(|(n, t)| form(n, t)).collect();
    let mut wanted: Vec<String> = plan.columns.iter().map(|c| form(&c.name, &c.declared.sql)).collect();
    found.sort();
    wanted.sort();
    let what = format!("target table {} is already there", plan.target);
    if found != wanted {
        let reason = format!(
            "it has other columns ({}) than the plan ({}). Rename or drop it, or change `into`",
            found.join(", "),
            wanted.join(", ")
        );
        return Err(AdapterError::refused(what, reason));
    }
    if existing.rows > 0 && plan.existing_rows.is_none() && !was_adopted {
        let reason = format!(
            "it holds {} rows. Say in the project file what to do with them: existing_rows = \"replace\" or \"keep\"",
            existing.rows
        );
        return Err(AdapterError::refused(what, reason));
    }
    Ok(())
}

//! Altering a target table in the transaction of the rows around it.
//!
//! Nothing here rewrites a table. ALTER TABLE waits for all who read the table, and all who come later wait behind it: it
//! gives up after half a second and tries again, so that nobody waits for longer than that.

use super::create::columns;
use super::dialect::{escaped, relation};
use super::{kept, rejects, state};
use crate::wire::connect::Session;
use crate::wire::error::{bounded, words};
use arrow::array::RecordBatch;
use moorage_adapter::{AdapterError, Doing, Result};
use moorage_core::drift::alter::{AlterStep, Alteration, Then};
use moorage_core::drift::standing::Standing;
use moorage_core::model::sql::quote_ident;
use moorage_core::plan::current_rows::is_its;
use moorage_core::plan::table::TablePlan;
use moorage_core::value::column::{value_at, value_text};
use std::time::Duration;
use tokio_postgres::error::SqlState;

/// How long others may have to wait behind us.
const LOCK_TIMEOUT_MS: u32 = 500;
/// Between two tries, for those who waited.
const PAUSE: Duration = Duration::from_millis(500);

/// Codes of the server (PostgreSQL manual, appendix A): `lock_not_available` and `query_canceled`; `duplicate_column`.
const IN_THE_WAY: [&str; 2] = ["55P03", "57014"];
const IS_THERE: &str = "42701";

/// Classes of codes: a value that a column does not take, a constraint (PostgreSQL manual, appendix A).
const REFUSALS: [&str; 2] = ["22", "23"];

fn is_in_the_way(code: &str) -> bool {
    IN_THE_WAY.contains(&code)
}

fn refused(code: &str, doing: Doing, words: &str) -> AdapterError {
    let way_out = if code == IS_THERE { ": rename or drop that column there" } else { "" };
    AdapterError::refused(doing, format!("{words}{way_out}"))
}

/// The statements for the steps.
pub(super) fn statements(alteration: &Alteration) -> Vec<String> {
    let mut all = of_table(alteration, &alteration.steps);
    all.extend(of_rows(alteration));
    all
}

/// Those that change rows; they wait for nobody who reads.
fn of_rows(alteration: &Alteration) -> Vec<String> {
    let plan = &alteration.after;
    let statement = |step: &AlterStep| match step {
        AlterStep::Relabel { column, from, to } => {
            let name = quote_ident(&plan.columns[*column].name);
            let (from, to) = (escaped(from), escaped(to));
            let its = is_its(plan, "").map(|its| format!(" AND {its}")).unwrap_or_default();
            Some(format!(
                "UPDATE {} SET {name} = {to} WHERE {name} = {from}{its}",
                relation(plan.stands_in())
            ))
        }
        _ => None,
    };
    alteration.steps.iter().filter_map(statement).collect()
}

/// Those that change the table, for which whoever reads it may have to wait.
fn of_table<'a>(alteration: &Alteration, steps: impl IntoIterator<Item = &'a AlterStep>) -> Vec<String> {
    let table = format!("ALTER TABLE {}", relation(alteration.after.stands_in()));
    let column = |at: usize| {
        let planned = &alteration.after.columns[at];
        (quote_ident(&planned.name), &planned.declared.sql)
    };
    let mut all = Vec::new();
    for step in steps {
        match step {
            AlterStep::Add { column: at, value } => {
                let (name, declared) = column(*at);
                match text_of(value.as_ref()) {
                    None => all.push(format!("{table} ADD COLUMN {name} {declared}")),
                    Some(value) => {
                        let value = escaped(&value);
                        all.push(format!(
                            "{table} ADD COLUMN {name} {declared} DEFAULT CAST({value} AS {declared})"
                        ));
                        all.push(format!("{table} ALTER COLUMN {name} DROP DEFAULT"));
                    }
                }
            }
            AlterStep::Rename { from, to } => {
                all.push(format!("{table} RENAME COLUMN {} TO {}", quote_ident(from), quote_ident(to)));
            }
            AlterStep::Widen { column: at } => {
                let (name, declared) = column(*at);
                all.push(format!("{table} ALTER COLUMN {name} TYPE {declared}"));
            }
            AlterStep::Relabel { .. } => {}
            AlterStep::Drop { name } => all.push(format!("{table} DROP COLUMN {}", quote_ident(name))),
        }
    }
    all
}

/// The value that rows which are there get, as the server reads it; none for null.
fn text_of(value: Option<&RecordBatch>) -> Option<String> {
    value.and_then(|value| value_text(value_at(value.column(0).as_ref(), 0)))
}

/// Gives the rows their value in a column that somebody has made, unless it has values of its own.
async fn fill(session: &Session, plan: &TablePlan, column: usize, value: Option<&RecordBatch>) -> Result<()> {
    let planned = &plan.columns[column];
    let (table, name, declared) =
        (relation(plan.stands_in()), quote_ident(&planned.name), &planned.declared.sql);
    let doing = || Doing::to("filling a column of target table", &plan.target);
    let given = text_of(value).map(|text| format!("CAST({} AS {declared})", escaped(&text)));
    let its = is_its(plan, "").map(|its| format!(" AND {its}")).unwrap_or_default();
    let is_other = match &given {
        Some(given) => format!("{name} IS NOT NULL AND {name}::text IS DISTINCT FROM ({given})::text{its}"),
        None => format!("{name} IS NOT NULL{its}"),
    };
    let others = format!("SELECT EXISTS (SELECT FROM {table} WHERE {is_other})");
    if session.one(doing(), &others, &[]).await?.get(0) {
        let called = &planned.name;
        let reason = format!("column {called} is there, with other values: rename or drop that column there");
        return Err(AdapterError::refused(doing(), reason));
    }
    let Some(given) = given else { return Ok(()) };
    of_its_rows(session, doing(), &format!("UPDATE {table} SET {name} = {given} WHERE {name} IS NULL{its}"))
        .await
}

/// Runs a statement that changes rows. What people made of the table may refuse it.
async fn of_its_rows(session: &Session, doing: Doing, sql: &str) -> Result<()> {
    session.client().batch_execute(sql).await.map_err(|e| match e.code().map(SqlState::code) {
        Some(code) if REFUSALS.iter().any(|class| code.starts_with(class)) => {
            refused(code, doing, &words(&e))
        }
        _ => session.error(&doing, &e),
    })
}

/// Takes the locks that altering tables needs, all or none: whoever reads one of them waits for at most half a second
/// before they are taken, and then until the batch is committed.
pub(super) async fn reserve(session: &Session, tables: &[&TablePlan]) -> Result<()> {
    let list: Vec<String> = tables.iter().map(|plan| relation(plan.stands_in())).collect();
    let sql = format!("LOCK TABLE {} IN ACCESS EXCLUSIVE MODE", list.join(", "));
    let first = tables.first().map(|plan| plan.target.as_str()).unwrap_or_default();
    loop {
        match attempt(session, Doing::to("locking target table", first), &sql).await? {
            None => return Ok(()),
            Some((code, _)) if is_in_the_way(&code) => tokio::time::sleep(PAUSE).await,
            // What is wrong with a table is said when it is altered.
            Some(_) => return Ok(()),
        }
    }
}

/// Runs statements that wait for locks no longer than is good for others; what they did is undone if they fail. Gives the
/// code and words of such a failure.
async fn attempt(session: &Session, doing: Doing, sql: &str) -> Result<Option<(String, String)>> {
    let sql = format!("SAVEPOINT moorage_alter; SET LOCAL statement_timeout = {LOCK_TIMEOUT_MS}; {sql}");
    let setting = "SELECT current_setting('statement_timeout')";
    let as_before: String = session.one("reading a setting", setting, &[]).await?.get(0);
    // A limit of the whole: one for each lock would let others wait for as many times as there are locks, and longer than it
    // takes the server to see a deadlock, which it would end by failing one of them.
    let done = session.client().batch_execute(&sql).await;
    let failed = match done {
        Ok(()) => None,
        Err(error) => match error.code() {
            Some(code) => {
                let detail = error.as_db_error().and_then(|db| db.detail()).map(bounded);
                // What it names is what people look for; the message says what they know.
                let words = detail.unwrap_or_else(|| words(&error));
                Some((code.code().to_string(), words))
            }
            None => return Err(session.error(doing, &error)),
        },
    };
    let end = if failed.is_some() { "ROLLBACK TO SAVEPOINT moorage_alter; " } else { "" };
    let as_before = format!("SET LOCAL statement_timeout = {}", escaped(&as_before));
    session.run("ending that", &format!("{end}RELEASE SAVEPOINT moorage_alter; {as_before}")).await?;
    Ok(failed)
}

/// Runs statements that change a table.
async fn change(session: &Session, alteration: &Alteration, statements: &[String]) -> Result<()> {
    if statements.is_empty() {
        return Ok(());
    }
    let doing = Doing::to("altering target table", &alteration.after.target);
    match attempt(session, doing.clone(), &statements.join("; ")).await? {
        None => Ok(()),
        // The batch may have altered other tables: nobody is to wait for them until this one is free.
        Some((code, words)) if is_in_the_way(&code) => Err(AdapterError::Busy { doing, reason: words }),
        Some((code, words)) => Err(refused(&code, doing, &words)),
    }
}

/// What steps come to where other tables stand in the target table, whose rows stay as they are.
#[derive(Default)]
struct AmongOthers {
    /// What is done to the table first: only what takes nothing from others.
    steps: Vec<AlterStep>,
    /// What is done to the rows of the one then.
    rows: Vec<String>,
    /// What of the table nobody has any more.
    drops: Vec<AlterStep>,
}

async fn among_others(
    session: &Session,
    alteration: &Alteration,
    open: &[&AlterStep],
) -> Result<AmongOthers> {
    let plan = &alteration.after;
    let others = state::beside_in_table(session, plan).await?;
    let have = |name: &str| others.iter().any(|(other, _)| other.columns.iter().any(|c| c.name == name));
    let mut there: Vec<String> =
        columns(session, plan.stands_in()).await?.into_iter().map(|(name, _)| name).collect();
    let (table, its) = (relation(plan.stands_in()), is_its(plan, "").unwrap_or_default());
    let set = |what: String| format!("UPDATE {table} SET {what} WHERE {its}");
    let mut all = AmongOthers::default();
    for step in open {
        match step {
            AlterStep::Add { column, value } => {
                let planned = &plan.columns[*column];
                all.steps.push(AlterStep::Add { column: *column, value: None });
                there.push(planned.name.clone());
                if let Some(value) = text_of(value.as_ref()) {
                    let (name, declared) = (quote_ident(&planned.name), &planned.declared.sql);
                    all.rows.push(set(format!("{name} = CAST({} AS {declared})", escaped(&value))));
                }
            }
            AlterStep::Rename { from, to } if !have(from) && !there.contains(to) => {
                all.steps.push((*step).clone());
                there.iter_mut().filter(|name| *name == from).for_each(|name| name.clone_from(to));
            }
            AlterStep::Rename { from, to }
                if alteration.before.mapped.key_names().contains(&from.as_str()) =>
            {
                let reason = format!(
                    "column {from} is part of the key of several tables there, and would be {to} for this one: have it go by its name with rename = {{ {to} = \"{from}\" }} in a rule"
                );
                return Err(AdapterError::refused(Doing::to("altering target table", &plan.target), reason));
            }
            AlterStep::Rename { from, to } => {
                let column = plan.columns.iter().position(|c| c.name == *to).unwrap_or_default();
                if !there.contains(to) {
                    all.steps.push(AlterStep::Add { column, value: None });
                    there.push(to.clone());
                }
                all.rows.push(set(format!(
                    "{} = {from}, {from} = NULL",
                    quote_ident(to),
                    from = quote_ident(from)
                )));
                if !have(from) {
                    all.drops.push(AlterStep::Drop { name: from.clone() });
                }
            }
            AlterStep::Drop { name } if have(name) => {
                all.rows.push(set(format!("{} = NULL", quote_ident(name))));
            }
            AlterStep::Drop { .. } => all.drops.push((*step).clone()),
            AlterStep::Widen { .. } => all.steps.push((*step).clone()),
            AlterStep::Relabel { .. } => {}
        }
    }
    Ok(all)
}

/// Carries out the steps, and keeps the new plan. The locks are there already, or are waited for half a second.
pub(super) async fn alter(session: &Session, pipeline: &str, alteration: &Alteration) -> Result<()> {
    let mut there = match alteration.steps.iter().any(AlterStep::is_of_table) {
        true => columns(session, alteration.after.stands_in()).await?,
        false => Vec::new(),
    };
    let mut open = Vec::new();
    for (step, standing) in alteration.steps.iter().zip(alteration.standing(&mut there)) {
        match (standing, step) {
            (Standing::Declared, AlterStep::Add { column, value }) => {
                fill(session, &alteration.after, *column, value.as_ref()).await?;
            }
            (Standing::Done, _) => {}
            _ => open.push(step),
        }
    }
    let (before, after) = (&alteration.before, &alteration.after);
    // What is done to one partition is done to all of them.
    let stands_among_others = before.gathered.is_some() && before.root().is_none();
    let AmongOthers { steps, rows, drops } = match stands_among_others {
        true => among_others(session, alteration, &open).await?,
        false => AmongOthers::default(),
    };
    let open: Vec<&AlterStep> = if stands_among_others { steps.iter().collect() } else { open };
    let renames = before.columns.iter().map(|c| &c.name).ne(after.columns.iter().map(|c| &c.name));
    let is_other = !open.is_empty() || renames || before.kept_as != after.kept_as;
    // What is read again has the view made anew when it has its columns.
    let (mut statements, behind) = match is_other && alteration.then == Then::Merges {
        true => kept::around(session, pipeline, (before, after), &open).await?,
        false => (Vec::new(), Vec::new()),
    };
    statements.extend(of_table(alteration, open));
    if rows.is_empty() && drops.is_empty() {
        statements.extend(behind);
        change(session, alteration, &statements).await?;
    } else {
        change(session, alteration, &statements).await?;
        for sql in &rows {
            let doing = Doing::to("moving values to another column of", &alteration.after.target);
            of_its_rows(session, doing, sql).await?;
        }
        let drops = of_table(alteration, &drops);
        change(session, alteration, &drops.into_iter().chain(behind).collect::<Vec<_>>()).await?;
    }
    for sql in of_rows(alteration) {
        let doing = Doing::to("renaming a value in", &alteration.after.target);
        of_its_rows(session, doing, &sql).await?;
    }
    rejects::carry(session, pipeline, alteration).await?;
    state::keep_plan(session, pipeline, &alteration.after, alteration.then).await
}

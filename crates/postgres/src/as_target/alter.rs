//! Altering a target table in the transaction of the rows around it.
//!
//! Nothing here rewrites a table. ALTER TABLE waits for all who read the table, and all who come later wait behind it: it
//! gives up after half a second and tries again, so that nobody waits for longer than that.

use super::dialect::relation;
use super::state;
use super::statements::escaped;
use crate::wire::connect::Session;
use crate::wire::error::words;
use moorage_adapter::{AdapterError, Doing, Result};
use moorage_core::drift::alter::{AlterStep, Alteration};
use moorage_core::model::sql::quote_ident;
use moorage_core::value::column::{value_at, value_text};
use std::time::Duration;

/// How long others may have to wait behind us.
const LOCK_TIMEOUT_MS: u32 = 500;
/// Between two tries, for those who waited.
const PAUSE: Duration = Duration::from_millis(500);

/// Codes of the server (PostgreSQL manual, appendix A): `lock_not_available`, `duplicate_column`.
const IN_THE_WAY: &str = "55P03";
const IS_THERE: &str = "42701";

fn refused(alteration: &Alteration, code: &str, doing: Doing, words: &str) -> AdapterError {
    let (what, table) = (&alteration.what, alteration.before.table());
    let way_out = match code {
        IS_THERE => "Rename or drop that column in the target".to_string(),
        _ => "Remove what is in the way in the target".to_string(),
    };
    AdapterError::refused(
        doing,
        format!(
            "{words}. In the source, of {table}: {what}. {way_out}, or say in the project file what else is done about it, \
             under [pipelines.NAME.drift]; then run again: nothing is lost meanwhile"
        ),
    )
}

/// The statements for the steps.
pub(super) fn statements(alteration: &Alteration) -> Vec<String> {
    let table = format!("ALTER TABLE {}", relation(&alteration.after.target));
    let column = |at: usize| {
        let planned = &alteration.after.columns[at];
        (quote_ident(&planned.name), &planned.declared.sql)
    };
    let mut all = Vec::new();
    for step in &alteration.steps {
        match step {
            AlterStep::Add { column: at, value } => {
                let (name, declared) = column(*at);
                let value = value.as_ref().and_then(|v| value_text(value_at(v.column(0).as_ref(), 0)));
                match value {
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
            AlterStep::Drop { name } => all.push(format!("{table} DROP COLUMN {}", quote_ident(name))),
        }
    }
    all
}

/// Carries out the steps, and keeps the new plan.
pub(super) async fn alter(session: &Session, pipeline: &str, alteration: &Alteration) -> Result<()> {
    let statements = statements(alteration);
    if !statements.is_empty() {
        let sql = format!("SET LOCAL lock_timeout = {LOCK_TIMEOUT_MS}; {}", statements.join("; "));
        let waits: String = session.one("reading a setting", "SHOW lock_timeout", &[]).await?.get(0);
        loop {
            session.run("preparing to alter a table", "SAVEPOINT moorage_alter").await?;
            let Err(error) = session.client().batch_execute(&sql).await else { break };
            let doing = Doing::to("altering target table", &alteration.after.target);
            let Some(code) = error.code().map(|c| c.code().to_string()) else {
                return Err(session.error(doing, &error));
            };
            session.run("undoing that", "ROLLBACK TO SAVEPOINT moorage_alter").await?;
            if code != IN_THE_WAY {
                return Err(refused(alteration, &code, doing, &words(&error)));
            }
            tokio::time::sleep(PAUSE).await;
        }
        let as_before = format!("SET LOCAL lock_timeout = {}", escaped(&waits));
        session.run("ending that", &format!("RELEASE SAVEPOINT moorage_alter; {as_before}")).await?;
    }
    state::keep_plan(session, pipeline, &alteration.after, alteration.then).await
}

//! The statements that make a target table.

use crate::as_target::dialect::{parts, relation};
use crate::as_target::form::find;
use crate::as_target::kept::{self, key_columns};
use crate::wire::connect::Session;
use moorage_adapter::{AdapterError, Result};
use moorage_core::model::sql::quote_ident;
use moorage_core::plan::table::TablePlan;

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
    let relation = relation(plan.stands_in());
    let key = key_columns(plan);
    let key_names: Vec<String> = key.iter().map(|&k| quote_ident(&plan.columns[k].name)).collect();
    let index = if key.is_empty() {
        String::new()
    } else {
        format!("\nALTER TABLE {relation} ADD PRIMARY KEY ({});", key_names.join(", "))
    };
    // The server chooses the names of what is found by.
    let more = kept::indexes(plan, &relation, |_| String::new());
    let more: String = more.into_iter().chain(kept::view(plan, &[])).map(|sql| format!("\n{sql};")).collect();
    format!("{};{index}{more}", create_table(plan, &relation, &plan.needed()))
}

pub(super) fn refused_statements(plan: &TablePlan, reason: &str) -> AdapterError {
    AdapterError::refused(
        format!("the statements for target table {} that were changed by hand", plan.target),
        format!(
            "{reason}. Mend the file in the folder that `ddl_dir` names, or delete it to have it made anew"
        ),
    )
}

pub(super) async fn run_statements(session: &Session, plan: &TablePlan, ddl: &str) -> Result<()> {
    session.run("making a table", ddl).await.map_err(|e| refused_statements(plan, &e.to_string()))?;
    let found = find(session, &[plan.stands_in()]).await?.pop().flatten();
    match found.map(|f| f.unfit(plan)) {
        None => Err(refused_statements(plan, "they do not make a table of that name")),
        Some(Some(why)) => Err(refused_statements(plan, &format!("of the table they make: {why}"))),
        Some(None) => Ok(()),
    }
}

/// Tries statements that people wrote, and takes them back.
pub(super) async fn try_statements(session: &Session, plan: &TablePlan) -> Result<()> {
    let Some(ddl) = &plan.ddl else { return Ok(()) };
    let (schema, _) = parts(plan.stands_in());
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

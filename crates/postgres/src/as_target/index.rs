//! The index by which rows are found.

use crate::as_target::dialect::{parts, relation};
use crate::as_target::form::{Form, Found};
use crate::as_target::kept::{index_kind, key_columns};
use crate::wire::connect::Session;
use moorage_adapter::{AdapterError, Doing, Result};
use moorage_core::model::sql::quote_ident;
use moorage_core::plan::table::TablePlan;

/// Whether the table has what merges find rows by: for a key a unique index over its columns that is checked at
/// once, without one an index of ours.
pub(crate) async fn has_index(session: &Session, plan: &TablePlan, found: &Found) -> Result<bool> {
    let key: Vec<&str> = key_columns(plan).iter().map(|&k| plan.columns[k].name.as_str()).collect();
    let sql = "SELECT EXISTS (SELECT 1 FROM pg_index i WHERE i.indrelid = $1 AND i.indisunique AND i.indisvalid
                 AND i.indimmediate AND i.indpred IS NULL AND i.indexprs IS NULL AND i.indnkeyatts = cardinality($2::text[])
                 AND NOT EXISTS (SELECT 1 FROM unnest(i.indkey::int2[]) WITH ORDINALITY k(attnum, place)
                   JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.attnum
                   WHERE k.place <= i.indnkeyatts AND a.attname <> ALL ($2::text[])))
               OR (cardinality($2::text[]) = 0 AND to_regclass($3) IS NOT NULL)";
    let (schema, _) = parts(plan.stands_in());
    let ours = format!("{}.moorage_{}_{}", quote_ident(&schema), index_kind(plan), found.id);
    Ok(session.one("looking for the key", sql, &[&found.id, &key, &ours]).await?.get(0))
}

/// Whether a table that the pipeline made is ordered by another key than the planned one: one that was the source's before.
/// Rows that the planned key tells apart may not be told apart by that.
pub(crate) async fn has_other_key(session: &Session, plan: &TablePlan, found: &Found) -> Result<bool> {
    if plan.ddl.is_some() || has_index(session, plan, found).await? {
        return Ok(false);
    }
    let sql = "SELECT EXISTS (SELECT FROM pg_index WHERE indrelid = $1 AND indisprimary)";
    Ok(session.one("looking for the key", sql, &[&found.id]).await?.get(0))
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
    let form = Form::new(plan, relation(plan.stands_in()), found)?;
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
    let Some(mut statement) = form.index(plan) else { return Ok(()) };
    let doing = Doing::to("building the key of table", &plan.target);
    if !form.key.is_empty() && adopted && plan.kept_as.is_plain() {
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
                what: if plan.gathered.as_ref().is_some_and(|gathered| gathered.disjoint) {
                    format!(
                        "two of the tables that stand together in {0} have a row with the same key: {1}. Mend the rows in the source, or take `disjoint_keys` out of the rule; then run `moorage resnapshot {0}`",
                        plan.stands_in(),
                        detail.trim_end_matches('.')
                    )
                } else { format!(
                    "the key ({}) is not unique or has nulls: {detail}. Declare another key in the project file, or take `key` out and have the source's log carry whole rows",
                    plan.mapped.key_names().join(", ")
                ) },
            }
        }
        _ => session.error(&doing, &e),
    })
}

//! Folding what is old in tables that keep changes.

use super::dialect::relation;
use crate::wire::connect::Session;
use chrono::{DateTime, Utc};
use moorage_adapter::{Doing, Result};
use moorage_core::model::sql::quote_literal;
use moorage_core::model::types::LogicalType;
use moorage_core::plan::table::TablePlan;
use moorage_core::plan::tidy::{Folded, Old, Place, Tidying, parts_of};
use moorage_core::value::moment::Moment;

/// The first server that hashes rows as they are compared (its release notes, "functions").
const HASHES_ROWS: i32 = 140_000;

async fn place(session: &Session, plan: &TablePlan, sql: &str) -> Result<Option<Place>> {
    let row = session.maybe(Doing::to("looking for what is old in", &plan.target), sql, &[]).await?;
    Ok(row.map(|row| Place { position: row.get(0), order: row.get(1) }))
}

/// What is old by a time.
pub(crate) async fn old_rows(
    session: &Session,
    plan: &TablePlan,
    since: DateTime<Utc>,
) -> Result<Option<Old>> {
    let table = format!("ONLY {}", relation(plan.stands_in()));
    let tidying = Tidying::new(plan, &table, "ctid");
    let since = match plan.kept_as.milliseconds {
        true => since.timestamp_millis().to_string(),
        false => format!("{}::timestamptz", quote_literal(&Moment::of(since).to_string())),
    };
    let first = place(session, plan, &tidying.first_since(&since)).await?;
    let Some(last) = place(session, plan, &tidying.last_before(first.as_ref())).await? else {
        return Ok(None);
    };
    let doing = Doing::to("counting what is old in", &plan.target);
    let counts = session.maybe(doing, &tidying.count(&last), &[]).await?;
    let (rows, others) = counts.map_or((0, 0), |row| (row.get::<_, i64>(0), row.get::<_, i64>(1)));
    if others == 0 {
        return Ok(None);
    }
    let emptied = place(session, plan, &tidying.last_emptied(&last)).await?;
    let version = "SELECT current_setting('server_version_num')::int";
    let version = session.maybe("asking for the version", version, &[]).await?;
    let hashes = version.is_some_and(|row| row.get::<_, i32>(0) >= HASHES_ROWS);
    let has_hash = |&at: &usize| !matches!(plan.mapped.columns[at].logical, LogicalType::Other { .. });
    let rows = rows as u64;
    let parts = if hashes && plan.key().iter().all(has_hash) { parts_of(rows) } else { 1 };
    Ok(Some(Old { last, emptied, rows, parts }))
}

/// Folds a part.
pub(crate) async fn fold(
    session: &Session,
    plan: &TablePlan,
    old: &Old,
    (part, dry): (u32, bool),
) -> Result<Folded> {
    let table = format!("ONLY {}", relation(plan.stands_in()));
    let tidying = Tidying::new(plan, &table, "ctid");
    let doing = || Doing::to("folding what is old in", &plan.target);
    let counted = async |sql: String| -> Result<Folded> {
        let row = session.maybe(doing(), &sql, &[]).await?;
        let (removed, folded) = row.map_or((0, 0), |row| (row.get::<_, i64>(0), row.get::<_, i64>(1)));
        Ok(Folded { removed: removed as u64, folded: folded as u64 })
    };
    let parts = old.parts;
    if part >= parts {
        let markers = tidying.markers(old);
        return counted(match dry {
            true => format!("SELECT count(*), 0::bigint {markers}"),
            false => {
                format!("WITH gone AS (DELETE {markers} RETURNING 1) SELECT count(*), 0::bigint FROM gone")
            }
        })
        .await;
    }
    let of_part = match parts {
        1 => "true".to_string(),
        parts => format!(
            "(hash_record_extended(ROW({}), 0) & 9223372036854775807) % {parts} = {part}",
            tidying.key().join(", ")
        ),
    };
    counted(match dry {
        true => tidying.outlook(old, &of_part),
        false => format!(
            "WITH gone AS (DELETE FROM {table} WHERE ctid = ANY(ARRAY({})) RETURNING 1), \
             kept AS (UPDATE {table} SET {} WHERE ctid = ANY(ARRAY({})) RETURNING 1) \
             SELECT (SELECT count(*) FROM gone), (SELECT count(*) FROM kept)",
            tidying.rows_that_go(old, &of_part),
            tidying.sets(),
            tidying.rows_that_stay(old, &of_part)
        ),
    })
    .await
}

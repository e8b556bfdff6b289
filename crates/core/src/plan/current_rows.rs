//! The rows as they are now of a table that keeps more than those, as SQL (ISO/IEC 9075-2: row values, window functions).

use crate::model::kept_as::{Added, Deletes, Keep, Operation};
use crate::model::sql::{quote_ident, quote_literal};
use crate::plan::table::TablePlan;

/// A query for the rows that such a table has now, with the columns of the row alone; none for a table that has no others.
/// `table` is the table as SQL wants it. `same_row` makes of a prefix for columns (`t.`) expressions that are equal for equal rows.
///
/// Of a trail: the last row of each key, if it is not of a delete, and none from before the table was emptied. Without a key: as
/// many of equal rows as came and were not deleted.
pub fn current_rows(plan: &TablePlan, table: &str, same_row: impl Fn(&str) -> Vec<String>) -> Option<String> {
    let name = |added| quote_ident(plan.kept_as.name(added));
    let columns: Vec<String> = plan.columns.iter().take(plan.width()).map(|c| quote_ident(&c.name)).collect();
    let list = |prefix: &str| columns.iter().map(|c| format!("{prefix}{c}")).collect::<Vec<_>>().join(", ");
    let kept_as = &plan.kept_as;
    match kept_as.keep {
        Keep::Current if kept_as.deletes == Deletes::Mark => {
            Some(format!("SELECT {} FROM {table} t WHERE t.{} IS NULL", list("t."), name(Added::DeletedAt)))
        }
        Keep::Current => None,
        Keep::Versions => {
            Some(format!("SELECT {} FROM {table} t WHERE t.{} IS NULL", list("t."), name(Added::Until)))
        }
        Keep::Changes => {
            let word = |operation| quote_literal(plan.kept_as.word(operation));
            let (delete, truncate) = (word(Operation::Delete), word(Operation::Truncate));
            let (operation, position, order) =
                (name(Added::Operation), name(Added::Position), name(Added::Order));
            let later =
                |alias: &str| format!("({alias}.{position}, {alias}.{order}) > (t.{position}, t.{order})");
            let emptied = format!(
                "NOT EXISTS (SELECT 1 FROM {table} e WHERE e.{operation} = {truncate} AND {})",
                later("e")
            );
            let same = plan.key().iter().map(|&k| format!("l.{0} = t.{0}", columns[k]));
            let same = same.collect::<Vec<_>>().join(" AND ");
            if !same.is_empty() {
                return Some(format!(
                    "SELECT {} FROM {table} t WHERE t.{operation} NOT IN ({delete}, {truncate}) \
                     AND NOT EXISTS (SELECT 1 FROM {table} l WHERE {same} AND {}) AND {emptied}",
                    list("t."),
                    later("l")
                ));
            }
            let row = same_row("t.").join(", ");
            Some(format!(
                "SELECT {} FROM (SELECT {}, t.{operation} AS moorage_is, \
                 row_number() OVER (PARTITION BY t.{operation} = {delete}, {row} ORDER BY t.{position}, t.{order}) AS moorage_nth, \
                 count(*) FILTER (WHERE t.{operation} = {delete}) OVER (PARTITION BY {row}) AS moorage_gone \
                 FROM {table} t WHERE t.{operation} <> {truncate} AND {emptied}) t \
                 WHERE moorage_is <> {delete} AND moorage_nth > moorage_gone",
                list("t."),
                list("t.")
            ))
        }
    }
}

//! The rows as they are now of a target table that has more than those, as SQL (ISO/IEC 9075-2: row values, window functions).

use crate::model::kept_as::{Added, Deletes, Keep, Operation};
use crate::model::sql::{quote_ident, quote_literal};
use crate::plan::table::TablePlan;

/// Which of the rows in a table that several stand in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Whose {
    /// Those that came from the table of the plan.
    Its,
    /// Those of all.
    All,
}

/// A condition for the rows of a plan's table among those of others, on a prefix for columns (`t.`); none if it stands alone.
pub fn is_its(plan: &TablePlan, prefix: &str) -> Option<String> {
    let (column, from) = plan.member()?;
    Some(format!("{prefix}{} = {}", quote_ident(column), quote_literal(from)))
}

/// A query for the rows that such a table has now, with these columns alone; none for a table that has no others.
/// `table` is the table as SQL wants it. `same_row` makes of a prefix for columns (`t.`) expressions that are equal for equal rows.
///
/// Of a trail: the last row of each key, if it is not of a delete, and none from before the table was emptied. Without a key: as
/// many of equal rows as came and were not deleted. Where several tables stand in one, what empties one is nothing to the others.
pub fn current_rows(
    plan: &TablePlan,
    (table, columns): (&str, &[String]),
    whose: Whose,
    same_row: impl Fn(&str) -> Vec<String>,
) -> Option<String> {
    let name = |added| quote_ident(plan.kept_as.name(added));
    let list = |prefix: &str| {
        columns.iter().map(|c| format!("{prefix}{}", quote_ident(c))).collect::<Vec<_>>().join(", ")
    };
    let its = is_its(plan, "t.").filter(|_| whose == Whose::Its);
    let all_of = |mut terms: Vec<String>| {
        terms.extend(its.clone());
        format!("SELECT {} FROM {table} t WHERE {}", list("t."), terms.join(" AND "))
    };
    match plan.kept_as.keep {
        Keep::Current if plan.kept_as.deletes == Deletes::Mark => {
            Some(all_of(vec![format!("t.{} IS NULL", name(Added::DeletedAt))]))
        }
        Keep::Current => its.is_some().then(|| all_of(Vec::new())),
        Keep::Versions => Some(all_of(vec![format!("t.{} IS NULL", name(Added::Until))])),
        Keep::Changes => {
            let word = |operation| quote_literal(plan.kept_as.word(operation));
            let (delete, truncate) = (word(Operation::Delete), word(Operation::Truncate));
            let (operation, position, order) =
                (name(Added::Operation), name(Added::Position), name(Added::Order));
            let same_table = plan.member().map(|(column, _)| quote_ident(column));
            let same_table = same_table.map(|c| format!(" AND e.{c} = t.{c}")).unwrap_or_default();
            let emptied = format!(
                "NOT EXISTS (SELECT 1 FROM {table} e WHERE e.{operation} = {truncate}{same_table} \
                 AND (e.{position}, e.{order}) > (t.{position}, t.{order}))"
            );
            let key: Vec<String> =
                plan.key().iter().map(|&k| format!("t.{}", quote_ident(&plan.columns[k].name))).collect();
            let only_its = its.as_ref().map(|its| format!(" WHERE {its}")).unwrap_or_default();
            if !key.is_empty() {
                // In the order of the index, if there is one; a condition on the key goes through to the table.
                return Some(format!(
                    "SELECT {} FROM (SELECT {}, t.{operation}, t.{position}, t.{order}, \
                     lead(1) OVER (PARTITION BY {} ORDER BY t.{position}, t.{order}) AS moorage_later FROM {table} t{only_its}) t \
                     WHERE moorage_later IS NULL AND t.{operation} NOT IN ({delete}, {truncate}) AND {emptied}",
                    list("t."),
                    list("t."),
                    key.join(", ")
                ));
            }
            let row = same_row("t.").join(", ");
            let its = its.as_ref().map(|its| format!("{its} AND ")).unwrap_or_default();
            Some(format!(
                "SELECT {} FROM (SELECT {}, t.{operation} AS moorage_is, \
                 row_number() OVER (PARTITION BY t.{operation} = {delete}, {row} ORDER BY t.{position}, t.{order}) AS moorage_nth, \
                 count(*) FILTER (WHERE t.{operation} = {delete}) OVER (PARTITION BY {row}) AS moorage_gone \
                 FROM {table} t WHERE {its}t.{operation} <> {truncate} AND {emptied}) t \
                 WHERE moorage_is <> {delete} AND moorage_nth > moorage_gone",
                list("t."),
                list("t.")
            ))
        }
    }
}

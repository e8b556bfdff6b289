//! Whether a target table's columns can be called as they would be, and what the file has to say where they cannot.

use super::columns::MappedColumns;
use crate::mapping::outputs::Output;
use crate::model::gathered::Gathered;
use crate::pick::rule::TableRule;
use crate::plan::dialect::TargetDialect;
use crate::project::text::key;
use std::collections::HashMap;

/// Refuses names that the target keeps for itself, and two columns of one name.
///
/// # Errors
///
/// Which column, why, and where the file gives it another name.
pub(super) fn check(
    mapped: &MappedColumns,
    rule: &TableRule,
    gathered: Option<&Gathered>,
    dialect: &dyn TargetDialect,
) -> Result<(), String> {
    let mut seen = HashMap::new();
    for (at, column) in mapped.target.columns.iter().enumerate() {
        let name = &column.name;
        let way_out = |i| way_out(mapped, rule, gathered, i);
        if let Some(why) = dialect.reserved_column(name) {
            let way_out = way_out(at);
            return Err(format!(
                "column {name} cannot have this name in the target: {why}. Call it otherwise: {way_out}"
            ));
        }
        if let Some(other) = seen.insert(dialect.fold(name), at) {
            let (first, second) = (&mapped.origins[other], &mapped.origins[at]);
            let way_out = way_out(if mapped.mapping.outputs[at].is_of_keeping() { other } else { at });
            return Err(format!(
                "columns {first} and {second} would both be {name} in the target; call one otherwise: {way_out}"
            ));
        }
    }
    Ok(())
}

/// What in the file says how a target column is called.
fn way_out(mapped: &MappedColumns, rule: &TableRule, gathered: Option<&Gathered>, at: usize) -> String {
    let origin = &mapped.origins[at];
    match &mapped.mapping.outputs[at] {
        // What has old values is called after the column whose they were.
        Output::Old(of) => way_out(mapped, rule, gathered, *of),
        Output::Added(_) => "`added_columns`".into(),
        Output::Constant(_) if gathered.is_some_and(|gathered| gathered.column == *origin) => {
            "`from_column`".into()
        }
        Output::Column(_) | Output::Cast { .. } => format!("rename = {{ {} = \"…\" }}", key(origin)),
        _ if rule.add.contains_key(origin) => format!("another name for {origin} in `add`"),
        _ => "`from_column`".into(),
    }
}

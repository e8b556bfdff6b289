//! Columns that the source computes from others: its log does not carry them, so they are computed here, by the source's own expression,
//! where that gives the same here as there.

use crate::expr::{Expr, computes_like};
use crate::model::described::{LogIdentity, SourceColumn, SourceTable};
use crate::model::policy::Generated;
use crate::model::schema::Column;
use crate::model::types::LogicalType;
use crate::pick::naming::Naming;
use crate::pick::rule::{Addition, TableRule};

/// Why a generated column is left out.
pub(super) const LEFT_OUT: &str =
    "generated: the source's log does not carry it; generated = \"compute\" may have it computed here";

/// A rule with generated columns as such that are added to the target, and those that cannot be, with why. `named` are the columns by
/// the names that expressions call them.
pub(super) fn with_generated(
    rule: &TableRule,
    table: &SourceTable,
    (columns, named): (&[Column], &[Column]),
    generated: &[&SourceColumn],
) -> (TableRule, Vec<(String, String)>) {
    let (mut rule, mut left_out) = (rule.clone(), Vec::new());
    for column in generated {
        let name = column.column.name.clone();
        match expression(table, (columns, named), column) {
            Ok(text) if rule.generated == Some(Generated::Compute) => {
                rule.add.insert(target_name(&rule, column), Addition::Expression(text));
            }
            Ok(_) => left_out.push((name, LEFT_OUT.into())),
            Err(why) if rule.generated == Some(Generated::Compute) => {
                left_out.push((name, format!("generated: it cannot be computed here: {why}")));
            }
            Err(_) => left_out.push((name, "generated: the source's log does not carry it".into())),
        }
    }
    (rule, left_out)
}

fn target_name(rule: &TableRule, column: &SourceColumn) -> String {
    let called = column.called.as_ref().unwrap_or(&column.column.name);
    let naming = rule.column_names.as_deref().and_then(|names| Naming::of_columns(names).ok());
    let by_rule = || naming.map_or_else(|| called.clone(), |naming| naming.column(called));
    rule.rename.get(column.ruled_as()).cloned().unwrap_or_else(by_rule)
}

/// What computes a column, in its type.
fn expression(
    table: &SourceTable,
    (columns, named): (&[Column], &[Column]),
    generated: &SourceColumn,
) -> Result<String, String> {
    let text = generated.expression.as_ref().ok_or("the source does not tell its expression")?;
    // A word of SQL that is a name to PostgreSQL.
    let text = &text.replace("\"substring\"(", "substring(");
    let is_padded =
        |column: &Column| column.source_type.starts_with("character(") || column.source_type == "character";
    if is_padded(&generated.column) {
        return Err("its values are padded with blanks".into());
    }
    let parsed = Expr::parse(text, named)?;
    for at in parsed.columns() {
        let column = &columns[at];
        if is_padded(column) {
            return Err(format!("the values of column {} are padded with blanks", column.name));
        }
        let is_key = matches!(&table.identity, LogIdentity::Key(key) if key.contains(&column.name));
        let left_out = table.columns.iter().any(|c| c.column.name == column.name && c.may_be_left_out);
        if left_out && !is_key {
            return Err(format!(
                "it reads column {}, whose value the log leaves out where it is large and did not change",
                column.name
            ));
        }
    }
    let text = in_type(text, parsed.logical(), &generated.column.logical)?;
    computes_like(&Expr::parse(&text, named)?)?;
    Ok(text)
}

/// An expression whose value is of the column's type, as an assignment to it makes it (ISO/IEC 9075-2, section 9.2).
fn in_type(text: &str, is: &LogicalType, to: &LogicalType) -> Result<String, String> {
    let is_exact = is.is_integer() || matches!(is, LogicalType::Decimal { .. });
    let name = match to {
        LogicalType::Bool => "BOOLEAN",
        LogicalType::Int16 => "SMALLINT",
        LogicalType::Int32 => "INTEGER",
        LogicalType::Int64 => "BIGINT",
        LogicalType::Float64 => "DOUBLE PRECISION",
        LogicalType::Text => "TEXT",
        LogicalType::Date => "DATE",
        LogicalType::Time => "TIME",
        LogicalType::Timestamp => "TIMESTAMP",
        LogicalType::Uuid => "UUID",
        LogicalType::Decimal { precision: Some(precision), scale: Some(scale) }
            if is_exact && *scale >= 0 =>
        {
            return Ok(format!(
                "CAST(ROUND(CAST({text} AS NUMERIC), {scale}) AS DECIMAL({precision}, {scale}))"
            ));
        }
        other => return Err(format!("values of type {other} are not computed here")),
    };
    let is_same = is == to || (is.is_integer() && to.is_integer());
    if !is_same {
        return Err(format!("it gives a value of type {is}, and the column is of type {to}"));
    }
    Ok(format!("CAST({text} AS {name})"))
}

//! Typed expressions from typed parts: what may stand where, and the type in which parts meet.

use super::tree::{Arithmetic, Comparison, Constant, Expr, Node};
use super::types::{is_decimal, is_float, is_number, is_text, meeting, promote};
use crate::model::types::LogicalType;
use sqlparser::ast::Value;

/// What reading a part of an expression gives; its error is for people.
pub(super) type Parsed = Result<Expr, String>;

pub(super) fn of(node: Node, logical: LogicalType) -> Expr {
    Expr { node, logical }
}

pub(super) fn boolean(node: Node) -> Expr {
    of(node, LogicalType::Bool)
}

pub(super) fn condition(expr: Expr, of_what: &str) -> Parsed {
    match (&expr.logical, &expr.node) {
        (LogicalType::Bool, _) => Ok(expr),
        (_, Node::Constant(Constant::Null)) => promote(expr, &LogicalType::Bool),
        (other, _) => Err(format!("{of_what} wants a condition, not a value of type {other}")),
    }
}

/// A text operand.
pub(super) fn textual(expr: Expr, of_what: &str) -> Parsed {
    match &expr.node {
        Node::Constant(Constant::Null) => promote(expr, &LogicalType::Text),
        _ if is_text(&expr.logical) => promote(expr, &LogicalType::Text),
        _ => Err(format!(
            "{of_what} wants a text, not a value of type {}; CAST(… AS TEXT) makes one",
            expr.logical
        )),
    }
}

/// The type in which numbers of one kind are computed.
pub(super) fn widened(logical: &LogicalType) -> LogicalType {
    if logical.is_integer() {
        LogicalType::Int64
    } else if is_decimal(logical) {
        super::types::ANY_DECIMAL
    } else {
        LogicalType::Float64
    }
}

pub(super) fn literal(value: &Value) -> Parsed {
    Ok(match value {
        Value::Null => of(Node::Constant(Constant::Null), LogicalType::Text),
        Value::Boolean(b) => boolean(Node::Constant(Constant::Bool(*b))),
        Value::SingleQuotedString(text) => {
            of(Node::Constant(Constant::Text(text.clone())), LogicalType::Text)
        }
        Value::Number(text, _) => match (text.parse::<i64>(), text.contains(['e', 'E'])) {
            (Ok(i), _) => of(Node::Constant(Constant::Int(i)), LogicalType::Int64),
            (_, true) => {
                let number = text.parse().map_err(|_| format!("{text} is not a number"))?;
                of(Node::Constant(Constant::Float(number)), LogicalType::Float64)
            }
            (_, false) => of(Node::Constant(Constant::Text(text.clone())), super::types::ANY_DECIMAL),
        },
        other => return Err(format!("{other}: write texts in single quotes and names in double quotes")),
    })
}

pub(super) fn met(a: Expr, b: Expr) -> Result<(Expr, Expr), String> {
    let to = meeting(&a, &b)?;
    Ok((promote(a, &to)?, promote(b, &to)?))
}

/// Several expressions in the type in which all of them meet.
pub(super) fn all_met(parts: Vec<Expr>) -> Result<(Vec<Expr>, LogicalType), String> {
    let mut parts = parts.into_iter();
    let mut first = parts.next().ok_or("there is nothing to choose from")?;
    let rest: Vec<Expr> = parts.collect();
    for other in &rest {
        let to = meeting(&first, other)?;
        first = promote(first, &to)?;
    }
    let to = first.logical.clone();
    let mut all = vec![first];
    for other in rest {
        all.push(promote(other, &to)?);
    }
    Ok((all, to))
}

pub(super) fn compare(comparison: Comparison, a: Expr, b: Expr) -> Parsed {
    let (a, b) = met(a, b)?;
    comparable(&a.logical, !matches!(comparison, Comparison::Equal | Comparison::NotEqual))?;
    Ok(boolean(Node::Compare(comparison, Box::new(a), Box::new(b))))
}

/// Whether values of a type can be compared, for their order too.
pub(super) fn comparable(logical: &LogicalType, ordered: bool) -> Result<(), String> {
    if matches!(logical, LogicalType::Json | LogicalType::Interval)
        || (ordered && *logical == LogicalType::Bool)
    {
        return Err(format!("values of type {logical} cannot be compared here; CAST(… AS TEXT) can"));
    }
    Ok(())
}

pub(super) fn arithmetic(op: Arithmetic, a: Expr, b: Expr) -> Parsed {
    if !(is_number(&a.logical) && is_number(&b.logical)) {
        return Err(format!("{} and {} cannot be computed with", a.logical, b.logical));
    }
    let (a, b) = met(a, b)?;
    let to = widened(&a.logical);
    if op == Arithmetic::Divide && !is_float(&to) {
        return Err(
            "/ wants floats, because exact numbers do not divide exactly: CAST(… AS DOUBLE PRECISION) / …"
                .into(),
        );
    }
    if op == Arithmetic::Remainder && to != LogicalType::Int64 {
        return Err("% wants whole numbers".into());
    }
    let (a, b) = (promote(a, &to)?, promote(b, &to)?);
    Ok(of(Node::Arithmetic(op, Box::new(a), Box::new(b)), to))
}

//! From the parser's tree to a typed expression, node by node.

use super::build::{
    Parsed, all_met, arithmetic, boolean, comparable, compare, condition, literal, met, of, textual, widened,
};
use super::sql_type::of_sql;
use super::tree::{Arithmetic, Comparison, Constant, Expr, Function, Logic, Node, Test};
use super::types::{is_float, is_number, promote};
use crate::model::schema::Column;
use crate::model::types::LogicalType;
use crate::value::convert::conversion;
use sqlparser::ast::{
    self, BinaryOperator, CastKind, CeilFloorKind, DateTimeField, Ident, InTarget, TrimWhereField,
    UnaryOperator,
};
use std::cell::Cell;

/// How deep an expression may be nested; a chain of AND, OR or || is not nested.
const MOST_DEEP: usize = 100;

/// Reads a tree over the columns of one table.
pub(super) struct Reader<'a> {
    columns: &'a [Column],
    depth: Cell<usize>,
}

/// The operands of a chain of one operator, from left to right.
fn chain<'t>(tree: &'t ast::Expr, op: &BinaryOperator) -> Vec<&'t ast::Expr> {
    let mut found = Vec::new();
    let mut at = tree;
    while let ast::Expr::BinaryOp { left, op: this, right } = at
        && this == op
    {
        found.push(right.as_ref());
        at = left;
    }
    found.push(at);
    found.reverse();
    found
}

impl<'a> Reader<'a> {
    pub(super) fn new(columns: &'a [Column]) -> Self {
        Self { columns, depth: Cell::new(0) }
    }
}

impl Reader<'_> {
    pub(super) fn expr(&self, tree: &ast::Expr) -> Parsed {
        let depth = self.depth.get() + 1;
        if depth > MOST_DEEP {
            return Err(format!("it is nested more than {MOST_DEEP} deep"));
        }
        self.depth.set(depth);
        let found = self.node(tree);
        self.depth.set(depth - 1);
        found
    }

    fn node(&self, tree: &ast::Expr) -> Parsed {
        match tree {
            ast::Expr::Nested(inner) => self.expr(inner),
            ast::Expr::Identifier(name) => self.column(name),
            ast::Expr::Value(value) => literal(&value.value),
            ast::Expr::TypedString(typed) => {
                let text = literal(&typed.value.value)?;
                self.cast(text, &of_sql(&typed.data_type)?)
            }
            ast::Expr::UnaryOp { op, expr } => self.unary(op, expr),
            ast::Expr::BinaryOp { op: op @ (BinaryOperator::And | BinaryOperator::Or), .. } => {
                let (of_what, word) = match op {
                    BinaryOperator::And => (Logic::And, "AND"),
                    _ => (Logic::Or, "OR"),
                };
                let parts = chain(tree, op).into_iter().map(|e| condition(self.expr(e)?, word));
                Ok(boolean(Node::Logic(of_what, parts.collect::<Result<_, _>>()?)))
            }
            ast::Expr::BinaryOp { op: op @ BinaryOperator::StringConcat, .. } => {
                let parts = chain(tree, op).into_iter().map(|e| textual(self.expr(e)?, "||"));
                Ok(of(Node::Concat(parts.collect::<Result<_, _>>()?), LogicalType::Text))
            }
            ast::Expr::BinaryOp { left, op, right } => self.binary(left, op, right),
            ast::Expr::IsNull(e) => self.test(Test::Null, e, false),
            ast::Expr::IsNotNull(e) => self.test(Test::Null, e, true),
            ast::Expr::IsTrue(e) => self.test(Test::True, e, false),
            ast::Expr::IsNotTrue(e) => self.test(Test::True, e, true),
            ast::Expr::IsFalse(e) => self.test(Test::False, e, false),
            ast::Expr::IsNotFalse(e) => self.test(Test::False, e, true),
            ast::Expr::IsUnknown(e) => self.test(Test::Null, e, false),
            ast::Expr::IsNotUnknown(e) => self.test(Test::Null, e, true),
            ast::Expr::IsDistinctFrom(a, b) => self.distinct(a, b, false),
            ast::Expr::IsNotDistinctFrom(a, b) => self.distinct(a, b, true),
            ast::Expr::In { expr, target: InTarget::List(list), negated, .. } => {
                self.in_list(expr, list, *negated)
            }
            ast::Expr::Between { expr, negated, low, high } => self.between(expr, low, high, *negated),
            ast::Expr::Like { negated, any: false, expr, pattern, escape_char } => {
                let escape = escape_char.as_deref().map(|e| self.escape(e)).transpose()?;
                let value = Box::new(textual(self.expr(expr)?, "LIKE")?);
                let pattern = Box::new(textual(self.expr(pattern)?, "LIKE")?);
                Ok(boolean(Node::Like { value, pattern, escape, negated: *negated }))
            }
            ast::Expr::Cast {
                kind: CastKind::Cast | CastKind::DoubleColon,
                expr,
                data_type,
                format: None,
            } => self.cast(self.expr(expr)?, &of_sql(data_type)?),
            ast::Expr::Case { operand, conditions, else_result, .. } => {
                self.case(operand.as_deref(), conditions, else_result.as_deref())
            }
            ast::Expr::Extract { field, expr, .. } => self.extract(field, expr),
            ast::Expr::Trim { trim_where, trim_what: None, expr, trim_characters: None } => {
                let function = match trim_where {
                    None | Some(TrimWhereField::Both) => Function::TrimBoth,
                    Some(TrimWhereField::Leading) => Function::TrimLeading,
                    Some(TrimWhereField::Trailing) => Function::TrimTrailing,
                };
                Ok(of(Node::Call(function, vec![textual(self.expr(expr)?, "TRIM")?]), LogicalType::Text))
            }
            ast::Expr::Substring { expr, substring_from, substring_for, .. } => {
                let mut parts = vec![textual(self.expr(expr)?, "SUBSTRING")?];
                let from = substring_from
                    .as_deref()
                    .map_or(Ok(of(Node::Constant(Constant::Int(1)), LogicalType::Int64)), |e| self.expr(e))?;
                parts.push(self.integer(from, "SUBSTRING")?);
                if let Some(length) = substring_for {
                    parts.push(self.integer(self.expr(length)?, "SUBSTRING")?);
                }
                Ok(of(Node::Call(Function::Substring, parts), LogicalType::Text))
            }
            ast::Expr::Floor { expr, field: CeilFloorKind::DateTimeField(DateTimeField::NoDateTime) } => {
                self.rounding(Function::Floor, vec![self.expr(expr)?])
            }
            ast::Expr::Ceil { expr, field: CeilFloorKind::DateTimeField(DateTimeField::NoDateTime) } => {
                self.rounding(Function::Ceiling, vec![self.expr(expr)?])
            }
            ast::Expr::Function(call) => self.call(call),
            other => Err(format!("{other}: this part of SQL is not offered here")),
        }
    }

    fn column(&self, name: &Ident) -> Parsed {
        let exact = self.columns.iter().position(|c| c.name == name.value);
        let found = exact.or_else(|| {
            let like = |c: &&Column| name.quote_style.is_none() && c.name.eq_ignore_ascii_case(&name.value);
            let mut all = self.columns.iter().filter(like);
            let only = all.next().filter(|_| all.next().is_none())?;
            self.columns.iter().position(|c| c.name == only.name)
        });
        match found {
            Some(at) => Ok(of(Node::Column(at), self.columns[at].logical.clone())),
            None => {
                let near =
                    crate::model::near::near(&name.value, self.columns.iter().map(|c| c.name.as_str()));
                let hint =
                    if near.is_empty() { String::new() } else { format!("; there is {}", near.join(", ")) };
                Err(format!("there is no column {}{hint}", name.value))
            }
        }
    }

    fn unary(&self, op: &UnaryOperator, expr: &ast::Expr) -> Parsed {
        let inner = self.expr(expr)?;
        match op {
            UnaryOperator::Not => Ok(boolean(Node::Not(Box::new(condition(inner, "NOT")?)))),
            UnaryOperator::Plus if is_number(&inner.logical) => Ok(inner),
            UnaryOperator::Minus if is_number(&inner.logical) => {
                let to = widened(&inner.logical);
                let inner = promote(inner, &to)?;
                Ok(of(Node::Negate(Box::new(inner)), to))
            }
            op => Err(format!("{op} cannot stand before a value of type {}", inner.logical)),
        }
    }

    fn binary(&self, left: &ast::Expr, op: &BinaryOperator, right: &ast::Expr) -> Parsed {
        let (a, b) = (self.expr(left)?, self.expr(right)?);
        let comparison = match op {
            BinaryOperator::Eq => Some(Comparison::Equal),
            BinaryOperator::NotEq => Some(Comparison::NotEqual),
            BinaryOperator::Lt => Some(Comparison::Less),
            BinaryOperator::LtEq => Some(Comparison::LessOrEqual),
            BinaryOperator::Gt => Some(Comparison::Greater),
            BinaryOperator::GtEq => Some(Comparison::GreaterOrEqual),
            _ => None,
        };
        if let Some(comparison) = comparison {
            return compare(comparison, a, b);
        }
        let arithmetic_op = match op {
            BinaryOperator::Plus => Arithmetic::Add,
            BinaryOperator::Minus => Arithmetic::Subtract,
            BinaryOperator::Multiply => Arithmetic::Multiply,
            BinaryOperator::Divide => Arithmetic::Divide,
            BinaryOperator::Modulo => Arithmetic::Remainder,
            op => return Err(format!("{op} is not offered here")),
        };
        arithmetic(arithmetic_op, a, b)
    }

    fn test(&self, test: Test, expr: &ast::Expr, negated: bool) -> Parsed {
        let inner = self.expr(expr)?;
        let inner = if test == Test::Null { inner } else { condition(inner, "IS TRUE")? };
        Ok(boolean(Node::Test(test, Box::new(inner), negated)))
    }

    fn distinct(&self, a: &ast::Expr, b: &ast::Expr, negated: bool) -> Parsed {
        let (a, b) = met(self.expr(a)?, self.expr(b)?)?;
        Ok(boolean(Node::Distinct(Box::new(a), Box::new(b), negated)))
    }

    /// `x IN (a, b)` is `x = a OR x = b` (ISO/IEC 9075-2, section 8.4). The constants are put in order once.
    fn in_list(&self, expr: &ast::Expr, list: &[ast::Expr], negated: bool) -> Parsed {
        if list.is_empty() {
            return Err("the list behind IN is empty".into());
        }
        let parts = std::iter::once(expr).chain(list).map(|e| self.expr(e)).collect::<Result<_, _>>()?;
        let (parts, to) = all_met(parts)?;
        comparable(&to, false)?;
        let mut parts = parts.into_iter();
        let value = Box::new(parts.next().ok_or("there is nothing before IN")?);
        let (constants, others): (Vec<Expr>, Vec<Expr>) = parts.partition(|e| e.columns().is_empty());
        let (among, or_null) = super::eval::ordered(&constants, &to)?;
        Ok(boolean(Node::In { value, among, or_null, others, negated }))
    }

    fn between(&self, expr: &ast::Expr, low: &ast::Expr, high: &ast::Expr, negated: bool) -> Parsed {
        let (parts, to) = all_met(vec![self.expr(expr)?, self.expr(low)?, self.expr(high)?])?;
        comparable(&to, true)?;
        let mut parts = parts.into_iter().map(Box::new);
        match (parts.next(), parts.next(), parts.next()) {
            (Some(value), Some(low), Some(high)) => Ok(boolean(Node::Between { value, low, high, negated })),
            _ => Err("BETWEEN wants three values".into()),
        }
    }

    fn escape(&self, expr: &ast::Expr) -> Result<char, String> {
        match self.expr(expr)?.node {
            Node::Constant(Constant::Text(text)) if text.chars().count() == 1 => {
                text.chars().next().ok_or_else(|| "ESCAPE wants a character".into())
            }
            _ => Err("ESCAPE wants one character in quotes".into()),
        }
    }

    fn cast(&self, expr: Expr, to: &LogicalType) -> Parsed {
        if matches!(expr.node, Node::Constant(Constant::Null | Constant::Text(_))) {
            return promote(expr, to);
        }
        match conversion(&expr.logical, to) {
            Some(_) => Ok(of(Node::Convert(Box::new(expr), is_float(to)), to.clone())),
            None => Err(format!("a value of type {} cannot be cast to {to}", expr.logical)),
        }
    }

    /// `CASE x WHEN a` is `CASE WHEN x = a` (section 6.12).
    fn case(
        &self,
        operand: Option<&ast::Expr>,
        branches: &[ast::CaseWhen],
        last: Option<&ast::Expr>,
    ) -> Parsed {
        let mut conditions = Vec::new();
        let mut results = Vec::new();
        for branch in branches {
            let when = self.expr(&branch.condition)?;
            conditions.push(if operand.is_none() { condition(when, "CASE WHEN")? } else { when });
            results.push(self.expr(&branch.result)?);
        }
        let mut switch = None;
        if let Some(operand) = operand {
            let parts = std::iter::once(self.expr(operand)?).chain(conditions).collect();
            let (mut parts, to) = all_met(parts)?;
            comparable(&to, false)?;
            switch = Some(Box::new(parts.remove(0)));
            conditions = parts;
        }
        let has_last = last.is_some();
        if let Some(last) = last {
            results.push(self.expr(last)?);
        }
        let (mut results, to) = all_met(results)?;
        let last = if has_last { results.pop().map(Box::new) } else { None };
        let branches = conditions.into_iter().zip(results).collect();
        Ok(match switch {
            Some(operand) => of(Node::Switch(operand, branches, last), to),
            None => of(Node::Case(branches, last), to),
        })
    }
}

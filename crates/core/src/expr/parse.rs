//! From text to a typed expression: the parser's tree, node by node.

use super::types::{is_decimal, is_float, is_number, is_text, meeting, of_sql, promote};
use super::{Arithmetic, Comparison, Constant, Expr, Function, Logic, Node, Part, Test};
use crate::convert::conversion;
use crate::schema::Column;
use crate::types::LogicalType;
use sqlparser::ast::{
    self, BinaryOperator, CastKind, CeilFloorKind, DataType, DateTimeField, FunctionArg, FunctionArgExpr,
    FunctionArguments, Ident, InTarget, TrimWhereField, UnaryOperator, Value,
};
use sqlparser::dialect::PostgreSqlDialect;
use sqlparser::parser::Parser;
use sqlparser::tokenizer::Token;
use std::cell::Cell;

type Parsed = Result<Expr, String>;

/// The longest text, in bytes: room for tens of thousands of values behind IN.
const MOST_BYTES: usize = 1 << 20;
/// How deep an expression may be nested; a chain of AND, OR or || is not nested.
const MOST_DEEP: usize = 100;
/// From this length on the parser's tree may be so deep, along a chain of operators, that letting go of it needs a
/// stack of its own: about 500 bytes for each two bytes of text.
const SMALL_BYTES: usize = 2000;
const LARGE_STACK_BYTES: usize = 320 << 20;

pub(super) fn parse(text: &str, columns: &[Column]) -> Parsed {
    with_room(text, || {
        let tree = read(text, |parser| parser.parse_expr())?;
        Reader { columns, depth: Cell::new(0) }.expr(&tree)
    })
}

pub(super) fn check(text: &str) -> Result<(), String> {
    with_room(text, || read(text, |parser| parser.parse_expr()).map(|_| ()))
}

pub(super) fn data_type(text: &str) -> Result<DataType, String> {
    if text.len() > 1000 {
        return Err("no type has so long a name".into());
    }
    read(text, |parser| parser.parse_data_type())
}

/// Runs with a stack that is large enough for any tree that this text can give.
fn with_room<T: Send>(text: &str, work: impl FnOnce() -> Result<T, String> + Send) -> Result<T, String> {
    if text.len() > MOST_BYTES {
        return Err(format!("it is {} bytes long, and may have {MOST_BYTES}", text.len()));
    }
    if text.len() <= SMALL_BYTES {
        return work();
    }
    std::thread::scope(|scope| {
        let thread = std::thread::Builder::new().stack_size(LARGE_STACK_BYTES).spawn_scoped(scope, work);
        let thread = thread.map_err(|e| format!("there is no room to read it: {e}"))?;
        thread.join().unwrap_or_else(|_| Err("it cannot be read".into()))
    })
}

fn read<T>(
    text: &str,
    part: impl FnOnce(&mut Parser<'_>) -> Result<T, sqlparser::parser::ParserError>,
) -> Result<T, String> {
    let plain = |e: sqlparser::parser::ParserError| {
        e.to_string()
            .replace("sql parser error: ", "")
            .replace("recursion limit exceeded", "it is nested too deep")
    };
    let mut parser = Parser::new(&PostgreSqlDialect {}).try_with_sql(text).map_err(plain)?;
    let found = part(&mut parser).map_err(plain)?;
    parser.expect_token(&Token::EOF).map_err(plain)?;
    Ok(found)
}

struct Reader<'a> {
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

fn of(node: Node, logical: LogicalType) -> Expr {
    Expr { node, logical }
}

fn boolean(node: Node) -> Expr {
    of(node, LogicalType::Bool)
}

fn condition(expr: Expr, of_what: &str) -> Parsed {
    match (&expr.logical, &expr.node) {
        (LogicalType::Bool, _) => Ok(expr),
        (_, Node::Constant(Constant::Null)) => promote(expr, &LogicalType::Bool),
        (other, _) => Err(format!("{of_what} wants a condition, not a value of type {other}")),
    }
}

/// A text operand.
fn textual(expr: Expr, of_what: &str) -> Parsed {
    match &expr.node {
        Node::Constant(Constant::Null) => promote(expr, &LogicalType::Text),
        _ if is_text(&expr.logical) => promote(expr, &LogicalType::Text),
        _ => Err(format!(
            "{of_what} wants a text, not a value of type {}; CAST(… AS TEXT) makes one",
            expr.logical
        )),
    }
}

impl Reader<'_> {
    fn expr(&self, tree: &ast::Expr) -> Parsed {
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
                let near = crate::pick::near(&name.value, self.columns.iter().map(|c| c.name.as_str()));
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

    fn extract(&self, field: &DateTimeField, expr: &ast::Expr) -> Parsed {
        let part = match field {
            DateTimeField::Year => Part::Year,
            DateTimeField::Month => Part::Month,
            DateTimeField::Day => Part::Day,
            DateTimeField::Hour => Part::Hour,
            DateTimeField::Minute => Part::Minute,
            DateTimeField::Second => Part::Second,
            other => return Err(format!("EXTRACT({other} …) is not offered here")),
        };
        let inner = self.expr(expr)?;
        let day = matches!(part, Part::Year | Part::Month | Part::Day);
        let fits = match inner.logical {
            LogicalType::Timestamp | LogicalType::TimestampTz => true,
            LogicalType::Date => day,
            LogicalType::Time => !day,
            _ => false,
        };
        if !fits {
            return Err(format!("EXTRACT({field} …) cannot be had of a value of type {}", inner.logical));
        }
        let logical = if part == Part::Second { super::types::ANY_DECIMAL } else { LogicalType::Int64 };
        Ok(of(Node::Call(Function::Extract(part), vec![inner]), logical))
    }

    fn integer(&self, expr: Expr, of_what: &str) -> Parsed {
        match expr.logical.is_integer() {
            true => promote(expr, &LogicalType::Int64),
            false => Err(format!("{of_what} wants a whole number, not a value of type {}", expr.logical)),
        }
    }

    fn rounding(&self, function: Function, mut parts: Vec<Expr>) -> Parsed {
        let number = parts.remove(0);
        if !is_number(&number.logical) {
            return Err(format!("a value of type {} cannot be rounded", number.logical));
        }
        let to = widened(&number.logical);
        let mut arguments = vec![promote(number, &to)?];
        if let Some(digits) = parts.pop() {
            if is_float(&to) {
                return Err("a float has no decimal digits to round to; CAST(… AS NUMERIC) has".into());
            }
            arguments.push(self.integer(digits, "ROUND")?);
        }
        Ok(of(Node::Call(function, arguments), to))
    }

    fn call(&self, call: &ast::Function) -> Parsed {
        let name = call.name.to_string().to_ascii_uppercase();
        let plain = call.over.is_none() && call.filter.is_none() && call.within_group.is_empty();
        let FunctionArguments::List(list) = &call.args else {
            return Err(format!("{name}: a function wants its arguments in brackets"));
        };
        if !plain || !list.clauses.is_empty() || list.duplicate_treatment.is_some() {
            return Err(format!("{name}: only plain functions of one row are offered here"));
        }
        let argument = |a: &FunctionArg| match a {
            FunctionArg::Unnamed(FunctionArgExpr::Expr(e)) => self.expr(e),
            other => Err(format!("{name}: {other} is not a value")),
        };
        let mut parts: Vec<Expr> = list.args.iter().map(argument).collect::<Result<_, _>>()?;
        let wants = |n: std::ops::RangeInclusive<usize>| match n.contains(&parts.len()) {
            true => Ok(()),
            false => Err(format!("{name} wants {} to {} values, not {}", n.start(), n.end(), parts.len())),
        };
        let text_function = match name.as_str() {
            "UPPER" => Some(Function::Upper),
            "LOWER" => Some(Function::Lower),
            "TRIM" | "BTRIM" => Some(Function::TrimBoth),
            "LTRIM" => Some(Function::TrimLeading),
            "RTRIM" => Some(Function::TrimTrailing),
            "LENGTH" | "CHAR_LENGTH" | "CHARACTER_LENGTH" => Some(Function::Length),
            _ => None,
        };
        if let Some(function) = text_function {
            wants(1..=1)?;
            let logical = if function == Function::Length { LogicalType::Int64 } else { LogicalType::Text };
            return Ok(of(Node::Call(function, vec![textual(parts.remove(0), &name)?]), logical));
        }
        match name.as_str() {
            "SUBSTR" => {
                wants(2..=3)?;
                let mut rest = parts.split_off(1);
                let mut arguments = vec![textual(parts.remove(0), &name)?];
                for part in rest.drain(..) {
                    arguments.push(self.integer(part, &name)?);
                }
                Ok(of(Node::Call(Function::Substring, arguments), LogicalType::Text))
            }
            "REPLACE" => {
                wants(3..=3)?;
                let parts = parts.into_iter().map(|p| textual(p, &name)).collect::<Result<_, _>>()?;
                Ok(of(Node::Call(Function::Replace, parts), LogicalType::Text))
            }
            "ABS" => {
                wants(1..=1)?;
                self.rounding(Function::Abs, parts)
            }
            "ROUND" => {
                wants(1..=2)?;
                self.rounding(Function::Round, parts)
            }
            "COALESCE" => {
                wants(1..=64)?;
                let (parts, to) = all_met(parts)?;
                Ok(of(Node::Coalesce(parts), to))
            }
            // NULLIF(a, b) is CASE WHEN a = b THEN NULL ELSE a END (section 6.12).
            "NULLIF" => {
                wants(2..=2)?;
                let (first, second) = (parts.remove(0), parts.remove(0));
                let to = meeting(&first, &second)?;
                comparable(&to, false)?;
                let logical = first.logical.clone();
                let second = Box::new(promote(second, &to)?);
                Ok(of(Node::NullIf(Box::new(first), second), logical))
            }
            _ => Err(format!(
                "there is no function {name}; there is ABS, CASE, CAST, CEIL, CHAR_LENGTH, COALESCE, EXTRACT, FLOOR, LOWER, LTRIM, NULLIF, REPLACE, ROUND, RTRIM, SUBSTRING, TRIM and UPPER"
            )),
        }
    }
}

/// The type in which numbers of one kind are computed.
fn widened(logical: &LogicalType) -> LogicalType {
    if logical.is_integer() {
        LogicalType::Int64
    } else if is_decimal(logical) {
        super::types::ANY_DECIMAL
    } else {
        LogicalType::Float64
    }
}

fn literal(value: &Value) -> Parsed {
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

fn met(a: Expr, b: Expr) -> Result<(Expr, Expr), String> {
    let to = meeting(&a, &b)?;
    Ok((promote(a, &to)?, promote(b, &to)?))
}

/// Several expressions in the type in which all of them meet.
fn all_met(parts: Vec<Expr>) -> Result<(Vec<Expr>, LogicalType), String> {
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

fn compare(comparison: Comparison, a: Expr, b: Expr) -> Parsed {
    let (a, b) = met(a, b)?;
    comparable(&a.logical, !matches!(comparison, Comparison::Equal | Comparison::NotEqual))?;
    Ok(boolean(Node::Compare(comparison, Box::new(a), Box::new(b))))
}

/// Whether values of a type can be compared, for their order too.
fn comparable(logical: &LogicalType, ordered: bool) -> Result<(), String> {
    if matches!(logical, LogicalType::Json | LogicalType::Interval)
        || (ordered && *logical == LogicalType::Bool)
    {
        return Err(format!("values of type {logical} cannot be compared here; CAST(… AS TEXT) can"));
    }
    Ok(())
}

fn arithmetic(op: Arithmetic, a: Expr, b: Expr) -> Parsed {
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

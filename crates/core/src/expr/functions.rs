//! Functions: their names, what they want, and what they give.

use super::build::{Parsed, all_met, comparable, of, textual, widened};
use super::reader::Reader;
use super::tree::{Expr, Function, Node, Part};
use super::types::{is_float, is_number, meeting, promote};
use crate::model::types::LogicalType;
use sqlparser::ast::{self, DateTimeField, FunctionArg, FunctionArgExpr, FunctionArguments};

impl Reader<'_> {
    pub(super) fn extract(&self, field: &DateTimeField, expr: &ast::Expr) -> Parsed {
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

    pub(super) fn integer(&self, expr: Expr, of_what: &str) -> Parsed {
        match expr.logical.is_integer() {
            true => promote(expr, &LogicalType::Int64),
            false => Err(format!("{of_what} wants a whole number, not a value of type {}", expr.logical)),
        }
    }

    pub(super) fn rounding(&self, function: Function, mut parts: Vec<Expr>) -> Parsed {
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

    pub(super) fn call(&self, call: &ast::Function) -> Parsed {
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

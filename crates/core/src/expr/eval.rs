//! Evaluation, column by column. A branch of CASE or COALESCE is only computed for the rows that come to it.

use super::ops::{self, Words};
use super::{Constant, EvalError, Expr, Logic, Node, Test};
use crate::column::{ColumnBuilder, Value, value_at};
use crate::convert::convert;
use crate::types::LogicalType;
use arrow::array::{Array, ArrayRef, AsArray, BooleanArray, RecordBatch, UInt32Array, new_null_array};
use arrow::compute::kernels::boolean;
use arrow::compute::{interleave, take_record_batch};
use std::sync::Arc;

type Evaluated = Result<ArrayRef, EvalError>;

pub(super) fn holds(expr: &Expr, rows: &RecordBatch) -> Result<BooleanArray, EvalError> {
    let found = evaluate(expr, rows)?;
    let found = found.as_boolean();
    Ok((0..found.len()).map(|i| Some(found.is_valid(i) && found.value(i))).collect())
}

pub(super) fn evaluate(expr: &Expr, rows: &RecordBatch) -> Evaluated {
    let count = rows.num_rows();
    let of = |e: &Expr| evaluate(e, rows);
    match &expr.node {
        Node::Column(at) => Ok(rows.column(*at).clone()),
        Node::Constant(constant) => Ok(repeat(constant, &expr.logical, count)),
        Node::Not(inner) => kernel(boolean::not(of(inner)?.as_boolean())),
        Node::Logic(Logic::And, a, b) => {
            kernel(boolean::and_kleene(of(a)?.as_boolean(), of(b)?.as_boolean()))
        }
        Node::Logic(Logic::Or, a, b) => kernel(boolean::or_kleene(of(a)?.as_boolean(), of(b)?.as_boolean())),
        Node::Test(test, inner, negated) => Ok(tested(*test, of(inner)?.as_ref(), *negated)),
        Node::Compare(comparison, a, b) => {
            let (x, y) = (of(a)?, of(b)?);
            each(&LogicalType::Bool, count, |i, out| {
                out.put(ops::compare(*comparison, &a.logical, value_at(&x, i), value_at(&y, i)))
            })
        }
        Node::Distinct(a, b, negated) => {
            let (x, y) = (of(a)?, of(b)?);
            each(&LogicalType::Bool, count, |i, out| {
                let (x, y) = (value_at(&x, i), value_at(&y, i));
                let same = match (x, y) {
                    (Value::Null, Value::Null) => true,
                    (Value::Null, _) | (_, Value::Null) => false,
                    (x, y) => ops::order(&a.logical, x, y).is_eq(),
                };
                out.put(Some(same == *negated))
            })
        }
        Node::Like { value, pattern, escape, negated } => {
            let (x, y) = (of(value)?, of(pattern)?);
            each(&LogicalType::Bool, count, |i, out| match (value_at(&x, i), value_at(&y, i)) {
                (Value::Text(x), Value::Text(y)) => out.put(Some(ops::like(x, y, *escape)? != *negated)),
                _ => out.put(None),
            })
        }
        Node::Arithmetic(op, a, b) => {
            let (x, y) = (of(a)?, of(b)?);
            each(&expr.logical, count, |i, out| ops::arithmetic(*op, value_at(&x, i), value_at(&y, i), out))
        }
        Node::Negate(inner) => {
            let x = of(inner)?;
            each(&expr.logical, count, |i, out| ops::negate(value_at(&x, i), out))
        }
        Node::Concat(a, b) => {
            let (x, y) = (of(a)?, of(b)?);
            each(&expr.logical, count, |i, out| match (value_at(&x, i), value_at(&y, i)) {
                (Value::Text(x), Value::Text(y)) => out.text(&format!("{x}{y}")),
                _ => out.null(),
            })
        }
        Node::Call(function, parts) => {
            let columns = parts.iter().map(of).collect::<Result<Vec<_>, _>>()?;
            each(&expr.logical, count, |i, out| {
                let values: Vec<Value<'_>> = columns.iter().map(|c| value_at(c, i)).collect();
                ops::call(*function, &values, out)
            })
        }
        Node::Case(branches, last) => case(expr, branches, last.as_deref(), rows),
        Node::Coalesce(parts) => coalesce(expr, parts, rows),
        Node::Convert(inner, nearest) => {
            let x = of(inner)?;
            each(&expr.logical, count, |i, out| {
                convert(value_at(&x, i), &inner.logical, &expr.logical, *nearest, out)
            })
        }
    }
}

fn kernel(done: Result<BooleanArray, arrow::error::ArrowError>) -> Evaluated {
    match done {
        Ok(array) => Ok(Arc::new(array)),
        Err(error) => Err(EvalError { row: 0, what: error.to_string() }),
    }
}

fn each(
    logical: &LogicalType,
    count: usize,
    mut row: impl FnMut(usize, &mut ColumnBuilder) -> Result<(), String>,
) -> Evaluated {
    let mut out = ColumnBuilder::new(logical);
    for i in 0..count {
        row(i, &mut out).map_err(|what| EvalError { row: i, what })?;
    }
    Ok(out.finish())
}

fn repeat(constant: &Constant, logical: &LogicalType, count: usize) -> ArrayRef {
    let mut out = ColumnBuilder::new(logical);
    for _ in 0..count {
        let value = match constant {
            Constant::Null => Value::Null,
            Constant::Bool(b) => Value::Bool(*b),
            Constant::Int(i) => Value::Int(*i),
            Constant::Float(f) => Value::Float64(*f),
            Constant::Text(text) => Value::Text(text),
        };
        if !out.push(value) {
            out.push_null();
        }
    }
    out.finish()
}

fn tested(test: Test, array: &dyn Array, negated: bool) -> ArrayRef {
    let is = |i: usize| match (test, array.is_null(i)) {
        (Test::Null, null) => null,
        (_, true) => false,
        (test, false) => array.as_boolean().value(i) == (test == Test::True),
    };
    Arc::new((0..array.len()).map(|i| Some(is(i) != negated)).collect::<BooleanArray>())
}

/// Results for some of the rows each, put together again.
struct Scattered {
    parts: Vec<ArrayRef>,
    places: Vec<(usize, usize)>,
}

impl Scattered {
    /// Nulls for all rows, to begin with.
    fn new(logical: &LogicalType, count: usize) -> Self {
        Self { parts: vec![new_null_array(&logical.base(), 1)], places: vec![(0, 0); count] }
    }

    fn put(&mut self, part: ArrayRef, rows: &[u32]) {
        for (at, row) in rows.iter().enumerate() {
            self.places[*row as usize] = (self.parts.len(), at);
        }
        self.parts.push(part);
    }

    fn finish(self) -> Evaluated {
        let parts: Vec<&dyn Array> = self.parts.iter().map(AsRef::as_ref).collect();
        interleave(&parts, &self.places).map_err(|e| EvalError { row: 0, what: e.to_string() })
    }
}

/// Evaluates over some rows; an error names the row of the whole batch.
fn over(expr: &Expr, rows: &RecordBatch, some: &[u32]) -> Evaluated {
    let taken = take_record_batch(rows, &UInt32Array::from(some.to_vec()))
        .map_err(|e| EvalError { row: 0, what: e.to_string() })?;
    evaluate(expr, &taken).map_err(|e| EvalError { row: some.get(e.row).map_or(0, |r| *r as usize), ..e })
}

fn case(expr: &Expr, branches: &[(Expr, Expr)], last: Option<&Expr>, rows: &RecordBatch) -> Evaluated {
    let mut left: Vec<u32> = (0..rows.num_rows() as u32).collect();
    let mut found = Scattered::new(&expr.logical, left.len());
    for (when, then) in branches {
        let is = over(when, rows, &left)?;
        let is = is.as_boolean();
        let mut chosen = Vec::new();
        let mut others = Vec::new();
        for (at, row) in left.iter().enumerate() {
            if is.is_valid(at) && is.value(at) { chosen.push(*row) } else { others.push(*row) }
        }
        found.put(over(then, rows, &chosen)?, &chosen);
        left = others;
    }
    if let Some(last) = last {
        found.put(over(last, rows, &left)?, &left);
    }
    found.finish()
}

fn coalesce(expr: &Expr, parts: &[Expr], rows: &RecordBatch) -> Evaluated {
    let mut left: Vec<u32> = (0..rows.num_rows() as u32).collect();
    let mut found = Scattered::new(&expr.logical, left.len());
    for part in parts {
        let values = over(part, rows, &left)?;
        let still =
            left.iter().enumerate().filter(|(at, _)| values.is_null(*at)).map(|(_, row)| *row).collect();
        found.put(values, &left);
        left = still;
    }
    found.finish()
}

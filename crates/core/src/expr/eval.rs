//! Evaluation, column by column. A branch of CASE or COALESCE is only computed for the rows that come to it.

use super::ops::{self, Words};
use super::tree::{Comparison, Constant, EvalError, Expr, Logic, Node, Test};
use super::types::is_float;
use crate::model::types::LogicalType;
use crate::value::column::{ColumnBuilder, Value, value_at};
use crate::value::convert::convert;
use arrow::array::{
    Array, ArrayRef, AsArray, BooleanArray, RecordBatch, RecordBatchOptions, UInt32Array, new_null_array,
};
use arrow::compute::kernels::boolean;
use arrow::compute::{interleave, take_record_batch};
use arrow::datatypes::Schema;
use std::cmp::Ordering;
use std::sync::Arc;

type Evaluated = Result<ArrayRef, EvalError>;

pub(super) fn holds(expr: &Expr, rows: &RecordBatch) -> Result<BooleanArray, EvalError> {
    let found = evaluate(expr, rows)?;
    let found = found.as_boolean();
    Ok((0..found.len()).map(|i| Some(found.is_valid(i) && found.value(i))).collect())
}

impl Expr {
    /// Its values for the rows of a batch whose columns are those it was read over.
    ///
    /// # Errors
    /// For the first row it has no value for: an overflow, a division by zero, a cast that does not fit.
    pub fn evaluate(&self, rows: &RecordBatch) -> Result<ArrayRef, EvalError> {
        evaluate(self, rows)
    }

    /// For which rows a condition is true.
    ///
    /// # Errors
    /// As for [`evaluate`](Self::evaluate).
    pub fn holds(&self, rows: &RecordBatch) -> Result<BooleanArray, EvalError> {
        holds(self, rows)
    }
}

pub(super) fn evaluate(expr: &Expr, rows: &RecordBatch) -> Evaluated {
    let count = rows.num_rows();
    let of = |e: &Expr| evaluate(e, rows);
    match &expr.node {
        Node::Column(at) => Ok(rows.column(*at).clone()),
        Node::Constant(constant) => Ok(repeat(constant, &expr.logical, count)),
        Node::Not(inner) => kernel(boolean::not(of(inner)?.as_boolean())),
        Node::Logic(logic, parts) => {
            let mut parts = parts.iter().map(of);
            let first = parts.next().unwrap_or_else(|| Ok(repeat(&Constant::Null, &expr.logical, count)))?;
            parts.try_fold(first, |a, b| {
                let b = b?;
                kernel(match logic {
                    Logic::And => boolean::and_kleene(a.as_boolean(), b.as_boolean()),
                    Logic::Or => boolean::or_kleene(a.as_boolean(), b.as_boolean()),
                })
            })
        }
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
        Node::Concat(parts) => {
            let columns = parts.iter().map(of).collect::<Result<Vec<_>, _>>()?;
            each(&expr.logical, count, |i, out| {
                let mut joined = String::new();
                for column in &columns {
                    let Value::Text(text) = value_at(column, i) else { return out.null() };
                    ops::room_for(joined.len() + text.len())?;
                    joined.push_str(text);
                }
                out.text(&joined)
            })
        }
        Node::In { value, among, or_null, others, negated } => {
            let x = of(value)?;
            let others = others.iter().map(of).collect::<Result<Vec<_>, _>>()?;
            each(&LogicalType::Bool, count, |i, out| {
                let found = is_in(&value.logical, value_at(&x, i), among, *or_null, &others, i);
                out.put(found.map(|is| is != *negated))
            })
        }
        Node::Between { value, low, high, negated } => {
            let (x, a, b) = (of(value)?, of(low)?, of(high)?);
            each(&LogicalType::Bool, count, |i, out| {
                let is = |comparison, other: &ArrayRef| {
                    ops::compare(comparison, &value.logical, value_at(&x, i), value_at(other, i))
                };
                let both = (is(Comparison::GreaterOrEqual, &a), is(Comparison::LessOrEqual, &b));
                let found = match both {
                    (Some(false), _) | (_, Some(false)) => Some(false),
                    (Some(true), Some(true)) => Some(true),
                    _ => None,
                };
                out.put(found.map(|is| is != *negated))
            })
        }
        Node::NullIf(a, b) => null_if(expr, a, b, rows),
        Node::Switch(operand, branches, last) => switch(expr, operand, branches, last.as_deref(), rows),
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

/// Whether a value is in a list; none if that is not known.
fn is_in(
    logical: &LogicalType,
    value: Value<'_>,
    among: &ArrayRef,
    or_null: bool,
    others: &[ArrayRef],
    row: usize,
) -> Option<bool> {
    if value == Value::Null {
        return None;
    }
    let (mut low, mut high) = (0, among.len());
    while low < high {
        let middle = low + (high - low) / 2;
        match ops::order(logical, value_at(among, middle), value) {
            Ordering::Equal => return Some(true),
            Ordering::Less => low = middle + 1,
            Ordering::Greater => high = middle,
        }
    }
    let mut unknown = or_null;
    for other in others {
        match ops::compare(Comparison::Equal, logical, value, value_at(other, row)) {
            Some(true) => return Some(true),
            None => unknown = true,
            Some(false) => {}
        }
    }
    if unknown { None } else { Some(false) }
}

/// The values of constant expressions in order, without nulls; and whether there was one.
pub(super) fn ordered(constants: &[Expr], logical: &LogicalType) -> Result<(ArrayRef, bool), String> {
    let options = RecordBatchOptions::new().with_row_count(Some(1));
    let no_columns = RecordBatch::try_new_with_options(Arc::new(Schema::empty()), Vec::new(), &options);
    let no_columns = no_columns.map_err(|e| e.to_string())?;
    let found = constants.iter().map(|e| evaluate(e, &no_columns).map_err(|e| e.what));
    let found = found.collect::<Result<Vec<ArrayRef>, _>>()?;
    let mut values: Vec<Value<'_>> =
        found.iter().map(|array| value_at(array, 0)).filter(|v| *v != Value::Null).collect();
    values.sort_by(|a, b| ops::order(logical, *a, *b));
    let mut out = ColumnBuilder::new(logical);
    for value in &values {
        if !out.push(*value) {
            return Err("a value behind IN is of another type than was planned".into());
        }
    }
    let or_null = values.len() < constants.len();
    Ok((out.finish(), or_null))
}

fn null_if(expr: &Expr, a: &Expr, b: &Expr, rows: &RecordBatch) -> Evaluated {
    let (x, y) = (evaluate(a, rows)?, evaluate(b, rows)?);
    let met = if a.logical == b.logical {
        x.clone()
    } else {
        each(&b.logical, rows.num_rows(), |i, out| {
            convert(value_at(&x, i), &a.logical, &b.logical, is_float(&b.logical), out)
        })?
    };
    each(&expr.logical, rows.num_rows(), |i, out| {
        let equal = ops::compare(Comparison::Equal, &b.logical, value_at(&met, i), value_at(&y, i));
        let value = if equal == Some(true) { Value::Null } else { value_at(&x, i) };
        if out.push(value) { Ok(()) } else { Err("the result has another type than was planned".into()) }
    })
}

fn switch(
    expr: &Expr,
    operand: &Expr,
    branches: &[(Expr, Expr)],
    last: Option<&Expr>,
    rows: &RecordBatch,
) -> Evaluated {
    let value = evaluate(operand, rows)?;
    let mut left: Vec<u32> = (0..rows.num_rows() as u32).collect();
    let mut found = Scattered::new(&expr.logical, left.len());
    for (when, then) in branches {
        let of = over(when, rows, &left)?;
        let (mut chosen, mut others) = (Vec::new(), Vec::new());
        for (at, row) in left.iter().enumerate() {
            let (value, of) = (value_at(&value, *row as usize), value_at(&of, at));
            let equal = ops::compare(Comparison::Equal, &operand.logical, value, of) == Some(true);
            if equal { chosen.push(*row) } else { others.push(*row) }
        }
        found.put(over(then, rows, &chosen)?, &chosen);
        left = others;
    }
    if let Some(last) = last {
        found.put(over(last, rows, &left)?, &left);
    }
    found.finish()
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

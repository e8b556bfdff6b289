//! The tree of an expression: what it computes, with the type of each part.

use crate::model::types::LogicalType;
use arrow::array::ArrayRef;

/// A typed expression over the columns of one table.
#[derive(Clone, Debug)]
pub struct Expr {
    pub(super) node: Node,
    pub(super) logical: LogicalType,
}

/// Why an expression cannot be evaluated for a row.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EvalError {
    /// The row of the batch.
    pub row: usize,
    /// What is wrong.
    pub what: String,
}

/// A constant.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Constant {
    Null,
    Bool(bool),
    Int(i64),
    Float(f64),
    Text(String),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Comparison {
    Equal,
    NotEqual,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Arithmetic {
    Add,
    Subtract,
    Multiply,
    Divide,
    Remainder,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Logic {
    And,
    Or,
}

/// What a test for truth or null looks for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Test {
    Null,
    True,
    False,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Part {
    Year,
    Month,
    Day,
    Hour,
    Minute,
    Second,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Function {
    Upper,
    Lower,
    TrimBoth,
    TrimLeading,
    TrimTrailing,
    Length,
    Substring,
    Replace,
    Abs,
    Round,
    Floor,
    Ceiling,
    Extract(Part),
}

#[derive(Clone, Debug)]
pub(super) enum Node {
    Column(usize),
    Constant(Constant),
    Not(Box<Expr>),
    /// Any number of conditions, so that a long list is not a deep tree.
    Logic(Logic, Vec<Expr>),
    Test(Test, Box<Expr>, bool),
    Compare(Comparison, Box<Expr>, Box<Expr>),
    Distinct(Box<Expr>, Box<Expr>, bool),
    Like {
        value: Box<Expr>,
        pattern: Box<Expr>,
        escape: Option<char>,
        negated: bool,
    },
    Arithmetic(Arithmetic, Box<Expr>, Box<Expr>),
    Negate(Box<Expr>),
    Concat(Vec<Expr>),
    Call(Function, Vec<Expr>),
    In {
        value: Box<Expr>,
        /// The constants of the list that are not null, in order.
        among: ArrayRef,
        /// Whether one is null.
        or_null: bool,
        /// What is not constant in the list.
        others: Vec<Expr>,
        negated: bool,
    },
    Between {
        value: Box<Expr>,
        low: Box<Expr>,
        high: Box<Expr>,
        negated: bool,
    },
    /// Null where the first is equal to the second, as values of this type.
    NullIf(Box<Expr>, Box<Expr>),
    /// Conditions with results; none of them true gives the last.
    Case(Vec<(Expr, Expr)>, Option<Box<Expr>>),
    /// A value that is computed once, values to compare it with, and results.
    Switch(Box<Expr>, Vec<(Expr, Expr)>, Option<Box<Expr>>),
    Coalesce(Vec<Expr>),
    Convert(Box<Expr>, bool),
}

impl Expr {
    /// The type of its values.
    pub fn logical(&self) -> &LogicalType {
        &self.logical
    }

    /// The columns it reads, in ascending order.
    pub fn columns(&self) -> Vec<usize> {
        let mut found = Vec::new();
        self.visit(&mut |node| {
            if let Node::Column(at) = node {
                found.push(*at);
            }
        });
        found.sort_unstable();
        found.dedup();
        found
    }

    pub(super) fn visit(&self, see: &mut dyn FnMut(&Node)) {
        see(&self.node);
        let mut all = |parts: &[&Expr]| parts.iter().for_each(|e| e.visit(see));
        match &self.node {
            Node::Column(_) | Node::Constant(_) => {}
            Node::Not(a) | Node::Test(_, a, _) | Node::Negate(a) | Node::Convert(a, _) => all(&[a]),
            Node::Compare(_, a, b)
            | Node::Distinct(a, b, _)
            | Node::Arithmetic(_, a, b)
            | Node::NullIf(a, b)
            | Node::Like { value: a, pattern: b, .. } => all(&[a, b]),
            Node::Between { value, low, high, .. } => all(&[value, low, high]),
            Node::In { value, others, .. } => {
                value.visit(see);
                others.iter().for_each(|e| e.visit(see));
            }
            Node::Logic(_, parts) | Node::Concat(parts) | Node::Call(_, parts) | Node::Coalesce(parts) => {
                parts.iter().for_each(|e| e.visit(see));
            }
            Node::Case(branches, last) | Node::Switch(_, branches, last) => {
                if let Node::Switch(operand, ..) = &self.node {
                    operand.visit(see);
                }
                branches.iter().for_each(|(when, then)| {
                    when.visit(see);
                    then.visit(see);
                });
                if let Some(last) = last {
                    last.visit(see);
                }
            }
        }
    }
}

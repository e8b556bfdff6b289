//! Which expressions give the same here as in a database, whatever its locale and collations are: to the last digit.

use super::tree::{Arithmetic, Comparison, Expr, Function, Node};
use super::types::is_text;
use crate::model::types::LogicalType;

/// Why an expression may give something else here than in the database that it comes from; none if it gives the same.
pub fn computes_like(expr: &Expr) -> Result<(), &'static str> {
    let mut why = None;
    expr.visit(&mut |node| why = why.or_else(|| differs(node)));
    why.map_or(Ok(()), Err)
}

fn differs(node: &Node) -> Option<&'static str> {
    let is_single = |e: &Expr| e.logical == LogicalType::Float32 || holds_single(e);
    match node {
        Node::Call(Function::Upper | Function::Lower, _) => {
            Some("upper and lower case are those of its locale")
        }
        Node::Compare(comparison, a, _)
            if is_text(&a.logical) && !matches!(comparison, Comparison::Equal | Comparison::NotEqual) =>
        {
            Some("the order of texts is that of its collation")
        }
        Node::Between { value, .. } if is_text(&value.logical) => {
            Some("the order of texts is that of its collation")
        }
        Node::Arithmetic(Arithmetic::Divide, ..) => Some("it divides"),
        Node::Arithmetic(_, a, b) if is_single(a) || is_single(b) => {
            Some("it computes with floats of four bytes")
        }
        Node::Convert(a, _) if matches!(a.logical, LogicalType::Float32 | LogicalType::Float64) => {
            Some("it makes something else of a float")
        }
        _ => None,
    }
}

/// Whether a float of four bytes was made a longer one to be computed with.
fn holds_single(expr: &Expr) -> bool {
    matches!(&expr.node, Node::Convert(inner, _) if inner.logical == LogicalType::Float32)
}

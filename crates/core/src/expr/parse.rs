//! From text to a typed tree.

use super::reader::Reader;
use super::text::{read, with_room};
use super::tree::Expr;
use crate::model::schema::Column;
use crate::model::types::LogicalType;

impl Expr {
    /// Reads an expression over these columns. Names match exactly; one that does not, and is not in double
    /// quotes, matches without regard to case if only one column does.
    ///
    /// # Errors
    /// If it is not an expression, names a column that is not there, or does not fit together; in words.
    pub fn parse(text: &str, columns: &[Column]) -> Result<Self, String> {
        with_room(text, || {
            let tree = read(text, |parser| parser.parse_expr())?;
            Reader::new(columns).expr(&tree)
        })
    }

    /// Whether a text is an expression at all, whatever the columns; in words why not.
    ///
    /// # Errors
    /// If it is none, or is too long or too deep.
    pub fn check(text: &str) -> Result<(), String> {
        with_room(text, || read(text, |parser| parser.parse_expr()).map(|_| ()))
    }

    /// Reads a condition.
    ///
    /// # Errors
    /// As for [`parse`](Self::parse), and if it is not true or false.
    pub fn parse_condition(text: &str, columns: &[Column]) -> Result<Self, String> {
        let found = Self::parse(text, columns)?;
        match found.logical {
            LogicalType::Bool => Ok(found),
            other => Err(format!("it is a value of type {other}, not a condition")),
        }
    }
}

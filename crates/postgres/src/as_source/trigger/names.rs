//! What the objects of a capture point are called.

use moorage_adapter::CapturePlan;
use moorage_core::model::sql::quote_ident;

/// The names of what is made.
#[derive(Clone, Debug)]
pub(crate) struct Names {
    /// The schema, which is named as a slot would be.
    pub(crate) schema: String,
}

impl Names {
    pub(crate) fn new(capture: &CapturePlan) -> Self {
        Self::of(&capture.name)
    }

    pub(crate) fn of(schema: &str) -> Self {
        Self { schema: schema.into() }
    }

    fn in_schema(&self, name: &str) -> String {
        format!("{}.{}", quote_ident(&self.schema), quote_ident(name))
    }

    /// The table with the token and how far changes were forgotten.
    pub(crate) fn about(&self) -> String {
        self.in_schema("about")
    }

    /// Random marks by which the history is known again.
    pub(crate) fn anchors(&self) -> String {
        self.in_schema("anchors")
    }

    /// The sequence that numbers changes.
    pub(crate) fn numbers(&self) -> String {
        self.in_schema("numbers")
    }

    /// The sequence that was used if capturing has ended.
    pub(crate) fn full(&self) -> String {
        self.in_schema("full")
    }

    /// The change table of a table.
    pub(crate) fn rows(&self, table: u64) -> String {
        self.in_schema(&format!("rows_{table}"))
    }

    /// The change table of a table in the earlier form, with a column for each column.
    pub(crate) fn earlier(&self, table: u64) -> String {
        self.in_schema(&format!("changes_{table}"))
    }

    /// What structure each number stands for.
    pub(crate) fn structures(&self) -> String {
        self.in_schema("structures")
    }

    /// Writes down what structure a number stands for.
    pub(crate) fn note_function(&self, table: u64) -> String {
        self.in_schema(&format!("note_{table}"))
    }

    /// Gives the structure that a table has.
    pub(crate) fn structure_function(&self, table: u64) -> String {
        self.in_schema(&format!("structure_{table}"))
    }

    /// Runs before each statement.
    pub(crate) fn statement_function(&self, table: u64) -> String {
        self.in_schema(&format!("statement_{table}"))
    }

    /// Captures a row.
    pub(crate) fn function(&self, table: u64) -> String {
        self.in_schema(&format!("capture_{table}"))
    }

    pub(crate) fn trigger(&self, what: &str) -> String {
        format!("{}_{what}", self.schema)
    }

    /// The triggers of a table: one before each statement, one for rows, one for truncating. A partition lacks the first.
    pub(crate) fn triggers(&self) -> [String; 3] {
        ["statement", "row", "truncate"].map(|what| self.trigger(what))
    }
}

//! What is asked of a target before anything is made in it.

use crate::{Guarantees, Result, Usage};
use async_trait::async_trait;
use moorage_core::drift::alter::Alteration;
use moorage_core::drift::standing::TargetColumns;
use moorage_core::model::described::SourceIdentity;
use moorage_core::model::finding::Finding;
use moorage_core::plan::dialect::TargetDialect;
use moorage_core::plan::table::TablePlan;
use serde::Serialize;

/// Where a target is, for people.
#[derive(Clone, Debug, Serialize)]
pub struct TargetAddress {
    /// The kind of system.
    pub system: String,
    /// Host and port, or a socket's path; empty for a file.
    pub host: String,
    /// The database, or the file.
    pub database: String,
    /// The user; empty for a file.
    pub user: String,
}

/// A view that reads a table of the target: what it reads cannot always be altered.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct DependentView {
    /// Its name.
    pub view: String,
    /// The columns that it reads; empty if the target does not know.
    pub columns: Vec<String>,
}

/// A table that is in the target, whoever made it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExistingTable {
    /// Its columns.
    pub columns: TargetColumns,
    /// Its rows.
    pub rows: u64,
    /// The pipeline that made it, if one did.
    pub owner: Option<String>,
}

/// Called by whoever looks at a target before a run, or instead of one. Leaves nothing behind.
#[async_trait]
pub trait InspectTarget: Send + Sync {
    /// Where it is. Pure.
    fn address(&self) -> TargetAddress;

    /// What this process has asked of it so far; none where that costs nobody anything, as of a file.
    fn usage(&self) -> Option<Usage>;

    /// What it promises. Pure, and always the same.
    fn guarantees(&self) -> Guarantees;

    /// How it declares and compares names and types. Pure.
    fn dialect(&self) -> &(dyn TargetDialect + Sync);

    /// The statements that an alteration of a table takes. Pure.
    fn alteration(&self, alteration: &Alteration) -> Vec<String>;

    /// The statement that would make a table. Pure.
    fn definition(&self, plan: &TablePlan) -> String;

    /// The statements for the target's administrator that let a pipeline do its work, or undo that; for a role, or for
    /// that of the project file if none is given. Pure.
    fn set_up_script(&self, role: Option<&str>, undo: bool) -> String;

    /// Which system and database it is, in the form in which a source of the same kind says it; none if there is no
    /// such kind of source.
    async fn identity(&self) -> Result<Option<SourceIdentity>>;

    /// Writes, reads and drops a table for a look, and more that a pipeline needs; `bytes` is about what will be
    /// written.
    async fn probe(&self, bytes: u64) -> Result<Vec<Finding>>;

    /// The names of all tables that are there, Moorage's own left out.
    async fn list(&self) -> Result<Vec<String>>;

    /// The table of this name, if there is one.
    async fn describe(&self, table: &str) -> Result<Option<ExistingTable>>;

    /// The columns of the table of this name, which costs no more with more rows; none if there is no such table.
    async fn columns(&self, table: &str) -> Result<TargetColumns>;

    /// The views that read the table of this name, by their names.
    async fn views(&self, table: &str) -> Result<Vec<DependentView>>;

    /// How many rows a table holds now.
    async fn count(&self, plan: &TablePlan) -> Result<u64>;
}

//! What is asked of a source before anything is made in it.

use crate::{AdapterError, CapturePlan, Console, Lack, Result, Usage};
use async_trait::async_trait;
use moorage_core::model::described::NamedTable;
use moorage_core::model::described::SourceTable;
use moorage_core::model::finding::Finding;
use moorage_core::pick::picker::Picker;
use moorage_core::plan::make::Plan;
use serde::Serialize;

/// Where a source is, for people.
#[derive(Clone, Debug, Serialize)]
pub struct SourceAddress {
    /// The kind of system with its version.
    pub system: String,
    /// Host and port, or a socket's path; empty for a file.
    pub host: String,
    /// The database, or the file.
    pub database: String,
    /// The user; empty for a file.
    pub user: String,
}

/// What is to be inspected.
#[derive(Clone, Copy, Debug)]
pub struct Inspected<'a> {
    /// What is in the source.
    pub found: &'a [SourceTable],
    /// What a run would carry of it.
    pub plan: &'a Plan,
}

/// A part of a set-up that can be done without.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SetUpPart {
    /// What has the source tell of changes of structure in its log.
    EventTrigger,
    /// What lets tables that are made later be carried, without an administrator each time.
    NewTables,
}

impl SetUpPart {
    /// Its word on the command line.
    pub fn word(self) -> &'static str {
        match self {
            Self::EventTrigger => "event-trigger",
            Self::NewTables => "new-tables",
        }
    }
}

/// What a set-up script is for.
#[derive(Clone, Copy, Debug)]
pub struct SetUp<'a> {
    /// The pipeline.
    pub pipeline: &'a str,
    /// The role it is for; the one of the project file if not given.
    pub role: Option<&'a str>,
    /// Whether it is to take back what the other one does.
    pub undo: bool,
    /// The part that it is for alone; the main one, without any that can be done without, if none.
    pub part: Option<SetUpPart>,
    /// What is in the source.
    pub found: &'a [SourceTable],
    /// What a run would carry of it.
    pub plan: &'a Plan,
    /// What picks tables.
    pub picker: &'a Picker,
}

impl SetUp<'_> {
    /// There is no such part.
    pub fn has_no(&self, part: SetUpPart) -> AdapterError {
        let reason = format!("what captures this source's changes has no part {}", part.word());
        AdapterError::refused("the script for the administrator", reason)
    }
}

/// Called by whoever looks at a source before a run, or instead of one. Leaves nothing behind.
#[async_trait]
pub trait InspectSource: Send + Sync {
    /// Where it is. The first connection of most commands: its error names the layer that failed.
    async fn address(&self) -> Result<SourceAddress>;

    /// What this process has asked of it so far; none where that costs nobody anything, as of a file.
    fn usage(&self) -> Option<Usage>;

    /// What it does not do. Pure, and always the same.
    fn lacks(&self) -> &'static [Lack];

    /// The tables that are there, not the system's own.
    async fn discover(&self) -> Result<Vec<SourceTable>>;

    /// What [`discover`](Self::discover) finds, by name. Asked every few seconds: it costs the source next to nothing.
    async fn table_names(&self) -> Result<Vec<NamedTable>>;

    /// Looks at everything a pipeline needs, each finding with what mends it. Tries things and takes them back
    /// where that does not disturb anyone.
    async fn inspect(&self, capture: &CapturePlan, inspected: &Inspected<'_>) -> Result<Vec<Finding>>;

    /// The statements for the source's administrator that let a pipeline do its work, with no right more than it
    /// needs, or that take this back.
    async fn set_up_script(&self, capture: &CapturePlan, set_up: &SetUp<'_>) -> Result<String>;

    /// A session that writes to the source as an application does.
    async fn console(&self) -> Result<Box<dyn Console>>;
}

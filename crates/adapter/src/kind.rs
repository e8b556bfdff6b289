//! Kinds of systems: what an adapter knows before any connection is made.
//!
//! Each adapter has one [`Kind`], with a side for sources, a side for targets, or both. A side reads its sections of the
//! project file (serde, `deny_unknown_fields`), opens what they describe, and knows what `init` has to ask. A list of
//! all kinds stands above the adapters; nothing else names one.

use crate::{Source, Target};
use moorage_core::model::finding::Finding;
use moorage_core::project::error::Mistake;
use moorage_core::project::section::{EndSection, Section};
use moorage_core::project::text::EndAnswer;
use secrecy::SecretString;
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

/// A kind of system. Both sides are about its files or servers, never about one of them.
pub trait Kind: Sync {
    /// Its word in the project file: `postgres`.
    fn word(&self) -> &'static str;

    /// For people: `a PostgreSQL server`.
    fn about(&self) -> &'static str;

    /// The name of its crate in diagnostics: `moorage_postgres`.
    fn crate_name(&self) -> &'static str;

    /// As a source; none if rows cannot come from it.
    fn as_source(&self) -> Option<&dyn SourceKind>;

    /// As a target; none if rows cannot go to it.
    fn as_target(&self) -> Option<&dyn TargetKind>;
}

/// A kind of system that rows can come from.
pub trait SourceKind: Sync {
    /// Reads a section `[sources.NAME]`.
    ///
    /// # Errors
    /// With the place of what cannot be meant.
    fn read(&self, name: &str, end: &EndSection) -> Result<Box<dyn SourceSection>, Mistake>;

    /// The keys in the table of a pipeline that reads from such a source which are its own.
    fn pipeline_keys(&self) -> &'static [&'static str];

    /// Its keys in the project file with their meaning, in the order of the docs.
    fn keys(&self) -> &'static [Key];

    /// What `init` asks on a terminal, one question after the other.
    fn questions(&self) -> &'static [Question];

    /// The options of `init` that say where it is.
    fn options(&self) -> &'static [&'static str];

    /// What a project file says of a source, from answers to the questions or from options, by their names.
    ///
    /// # Errors
    /// If they describe none; in words.
    fn answer(&self, given: &Given) -> Result<Answered, String>;

    /// Makes an empty file that can be a source; none where a source is no file.
    fn make(&self, path: &Path) -> Option<crate::Result<Arc<dyn Source>>>;
}

/// A kind of system that rows can go to.
pub trait TargetKind: Sync {
    /// Reads a section `[targets.NAME]`.
    ///
    /// # Errors
    /// With the place of what cannot be meant.
    fn read(&self, name: &str, end: &EndSection) -> Result<Box<dyn TargetSection>, Mistake>;

    /// Its keys in the project file with their meaning, in the order of the docs.
    fn keys(&self) -> &'static [Key];

    /// Whether it knows `on_reject`: setting changes aside that it refuses.
    fn sets_aside(&self) -> bool;

    /// For the question where rows go: `postgres://…`, `a SQLite file`.
    fn place(&self) -> &'static str;

    /// What a project file says of a target at a place that someone named; none if that is no place of this kind.
    ///
    /// # Errors
    /// If it is one that is not written as it should be; in words.
    fn answer(&self, place: &str) -> Option<Result<Answered, String>>;
}

/// A source as a project file describes it.
pub trait SourceSection: Send + Sync {
    /// Looks at the keys that are the source's in the table of pipeline `name`.
    ///
    /// # Errors
    /// With the place of what cannot be meant.
    fn check_pipeline(&self, name: &str, keys: &Section) -> Result<(), Mistake>;

    /// Opens it; connections are made later.
    ///
    /// # Errors
    /// If its address cannot be meant; in words.
    fn open(&self, opening: Opening<'_>) -> Result<Arc<dyn Source>, String>;

    /// What is to be said of the section itself: secrets that stand in it.
    fn findings(&self) -> Vec<Finding>;

    /// Whom it logs in as; none where nobody does.
    fn user(&self) -> Option<String>;
}

/// A target as a project file describes it.
pub trait TargetSection: Send + Sync {
    /// Opens it; connections are made later.
    ///
    /// # Errors
    /// If its address cannot be meant; in words.
    fn open(&self, opening: Opening<'_>) -> Result<Arc<dyn Target>, String>;

    /// What is to be said of the section itself: secrets that stand in it.
    fn findings(&self) -> Vec<Finding>;
}

/// What an end is opened with, beside its section.
pub struct Opening<'a> {
    /// The folder that paths are relative to.
    pub folder: &'a Path,
    /// How many connections read or load a snapshot; at least 1.
    pub connections: usize,
    /// What stands in the pipeline's table for its source; none if it is opened for no pipeline.
    pub of_pipeline: Option<&'a Section>,
    /// How to log in otherwise than the section says.
    pub instead: LogInAs,
}

/// How to log in otherwise than the project file says.
#[derive(Default)]
pub struct LogInAs {
    /// The user; that of the project file if none is given.
    pub user: Option<String>,
    /// The password; that of the project file if neither is given.
    pub password: Option<SecretString>,
}

/// A key of a section, for the docs.
#[derive(Clone, Copy, Debug)]
pub struct Key {
    /// The key, or several that have one meaning.
    pub names: &'static [&'static str],
    /// What it means, and what holds if it is not given.
    pub meaning: &'static str,
}

/// A question of `init`.
#[derive(Clone, Copy, Debug)]
pub struct Question {
    /// The name of the answer.
    pub name: &'static str,
    /// The question.
    pub text: &'static str,
    /// What holds if nothing is typed; empty if an answer is needed.
    pub default: &'static str,
}

/// Answers and options by name.
pub type Given = BTreeMap<&'static str, String>;

/// What answers lead to.
pub struct Answered {
    /// What the project file says.
    pub end: EndAnswer,
    /// A name for it, as it calls itself.
    pub name: String,
    /// Whether one logs in there with a password.
    pub has_password: bool,
    /// A password that stood in the address, which is never written.
    pub password: Option<SecretString>,
}

/// All names of keys, for refusing others.
pub fn names(keys: &'static [Key]) -> impl Iterator<Item = &'static str> {
    keys.iter().flat_map(|key| key.names).copied()
}

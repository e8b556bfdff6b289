//! The kinds themselves.

use moorage_adapter::kind::{Kind, SourceKind, TargetKind};
use moorage_adapter::{Result, Source};
use moorage_core::project::section::Kinds;
use moorage_monitor::RECEIVER_KINDS;
use std::path::Path;
use std::sync::Arc;

/// All kinds, in the order in which they are offered.
pub const KINDS: &[&dyn Kind] = &[&moorage_postgres::Postgres, &moorage_sqlite::Sqlite, &moorage_lake::Lake];

/// Kinds of systems that rows can come from, with their words.
pub fn source_kinds() -> impl Iterator<Item = (&'static dyn Kind, &'static dyn SourceKind)> {
    KINDS.iter().filter_map(|kind| Some((*kind, kind.as_source()?)))
}

/// Kinds of systems that rows can go to.
pub fn target_kinds() -> impl Iterator<Item = (&'static dyn Kind, &'static dyn TargetKind)> {
    KINDS.iter().filter_map(|kind| Some((*kind, kind.as_target()?)))
}

/// The kind of source with a word.
pub fn source_kind(word: &str) -> Option<&'static dyn SourceKind> {
    source_kinds().find(|(kind, _)| kind.word() == word).map(|(_, source)| source)
}

/// The kind of target with a word.
pub fn target_kind(word: &str) -> Option<&'static dyn TargetKind> {
    target_kinds().find(|(kind, _)| kind.word() == word).map(|(_, target)| target)
}

/// Makes an empty file that is a source of the first kind whose sources are files.
pub fn make_source(path: &Path) -> Option<Result<Arc<dyn Source>>> {
    source_kinds().find_map(|(_, source)| source.make(path))
}

/// What a project file has to know of them.
pub(crate) struct Known;

impl Kinds for Known {
    fn sources(&self) -> Vec<&'static str> {
        source_kinds().map(|(kind, _)| kind.word()).collect()
    }

    fn targets(&self) -> Vec<&'static str> {
        target_kinds().map(|(kind, _)| kind.word()).collect()
    }

    fn receivers(&self) -> Vec<&'static str> {
        RECEIVER_KINDS.iter().map(|(kind, _)| *kind).collect()
    }

    fn pipeline_keys(&self, source: &str) -> &'static [&'static str] {
        source_kind(source).map_or(&[], SourceKind::pipeline_keys)
    }
}

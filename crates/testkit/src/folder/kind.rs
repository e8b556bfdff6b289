//! The toy as a kind: its section of the project file, and what `init` makes of a place.

use super::place::FolderTarget;
use moorage_adapter::Target;
use moorage_adapter::kind::{Answered, Key, Kind, Opening, SourceKind, TargetKind, TargetSection, names};
use moorage_core::model::finding::Finding;
use moorage_core::project::error::Mistake;
use moorage_core::project::section::EndSection;
use moorage_core::project::text::{EndAnswer, KeyAnswer};
use serde::Deserialize;
use std::path::PathBuf;
use std::sync::Arc;

/// Folders with a file for each table.
pub struct FolderKind;

const KEYS: [Key; 1] = [Key { names: &["path"], meaning: "the folder; it is made by the first run" }];

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Described {
    path: PathBuf,
}

impl Kind for FolderKind {
    fn word(&self) -> &'static str {
        "folder"
    }

    fn about(&self) -> &'static str {
        "a folder"
    }

    fn crate_name(&self) -> &'static str {
        "moorage_testkit"
    }

    fn as_source(&self) -> Option<&dyn SourceKind> {
        None
    }

    fn as_target(&self) -> Option<&dyn TargetKind> {
        Some(self)
    }
}

impl TargetKind for FolderKind {
    fn read(&self, name: &str, end: &EndSection) -> Result<Box<dyn TargetSection>, Mistake> {
        end.refuse_unknown(&format!("target {name}"), names(&KEYS))?;
        Ok(Box::new(end.section.read::<Described>()?))
    }

    fn keys(&self) -> &'static [Key] {
        &KEYS
    }

    fn sets_aside(&self) -> bool {
        false
    }

    fn place(&self) -> &'static str {
        "folder://…"
    }

    fn answer(&self, place: &str) -> Option<Result<Answered, String>> {
        let path = place.strip_prefix("folder://")?;
        let keys = vec![KeyAnswer::plain("path", path)];
        let end = EndAnswer { kind: "folder", about: "", keys, password: None };
        Some(Ok(Answered { end, name: "warehouse".into(), has_password: false, password: None }))
    }
}

impl TargetSection for Described {
    fn open(&self, opening: Opening<'_>) -> Result<Arc<dyn Target>, String> {
        Ok(Arc::new(FolderTarget::new(opening.folder.join(&self.path))))
    }

    fn findings(&self) -> Vec<Finding> {
        Vec::new()
    }
}

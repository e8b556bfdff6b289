//! SQLite as a kind of system: its sections of the project file, and what `init` asks.

use crate::as_source::SqliteSource;
use crate::as_target::SqliteTarget;
use moorage_adapter::kind::{
    Answered, Given, Key, Kind, Opening, Question, SourceKind, SourceSection, TargetKind, TargetSection,
    names,
};
use moorage_adapter::{Result as Done, Source, Target};
use moorage_core::model::finding::Finding;
use moorage_core::project::error::Mistake;
use moorage_core::project::section::{EndSection, Section};
use moorage_core::project::text::{EndAnswer, KeyAnswer};
use serde::Deserialize;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use toml::Spanned;

/// SQLite files.
pub struct Sqlite;

impl Kind for Sqlite {
    fn word(&self) -> &'static str {
        "sqlite"
    }

    fn about(&self) -> &'static str {
        "a SQLite file"
    }

    fn crate_name(&self) -> &'static str {
        "moorage_sqlite"
    }

    fn as_source(&self) -> Option<&dyn SourceKind> {
        Some(self)
    }

    fn as_target(&self) -> Option<&dyn TargetKind> {
        Some(self)
    }
}

/// The keys of sources, with their meaning.
const SOURCE: [Key; 2] = [
    Key { names: &["path"], meaning: "the file" },
    Key { names: &["capture"], meaning: "`\"trigger\"`, the only way there is ([capture.md](capture.md))" },
];

/// The keys of targets, with their meaning.
const TARGET: [Key; 1] = [Key { names: &["path"], meaning: "the file; it is made by the first run" }];

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Keys {
    path: Option<String>,
    capture: Option<Spanned<String>>,
}

/// A file as a section describes it.
struct Described {
    path: PathBuf,
}

fn read(
    called: &str,
    end: &EndSection,
    keys: &'static [Key],
    example: &str,
) -> Result<Box<Described>, Mistake> {
    end.refuse_unknown(called, names(keys))?;
    let found: Keys = end.section.read()?;
    if let Some(capture) = found.capture.filter(|c| c.get_ref() != "trigger") {
        let what = match capture.get_ref().as_str() {
            "log" => format!("{called}: a SQLite file has no log that can be read"),
            other => format!("{called}: changes of a SQLite file are not captured by `{other}`"),
        };
        return Err(Mistake::at(capture.span(), what, "capture = \"trigger\", or no such key"));
    }
    let nowhere =
        || Mistake::at(end.kind.span(), format!("{called} says nothing about where it is"), example);
    Ok(Box::new(Described { path: found.path.ok_or_else(nowhere)?.into() }))
}

fn answered(path: &str, about: &'static str, name: &str) -> Answered {
    let end = EndAnswer { kind: "sqlite", about, keys: vec![KeyAnswer::plain("path", path)], password: None };
    Answered { end, name: name.into(), has_password: false, password: None }
}

impl SourceKind for Sqlite {
    fn read(&self, name: &str, end: &EndSection) -> Result<Box<dyn SourceSection>, Mistake> {
        Ok(read(&format!("source {name}"), end, &SOURCE, "path = \"harbour.db\"")?)
    }

    fn pipeline_keys(&self) -> &'static [&'static str] {
        &[]
    }

    fn keys(&self) -> &'static [Key] {
        &SOURCE
    }

    fn questions(&self) -> &'static [Question] {
        &[Question { name: "path", text: "Which file?", default: "" }]
    }

    fn options(&self) -> &'static [&'static str] {
        &["path"]
    }

    fn answer(&self, given: &Given) -> Result<Answered, String> {
        let path = given.get("path").map_or("", String::as_str);
        if let Some(capture) = given.get("capture").filter(|c| *c != "trigger") {
            return Err(format!("changes of a SQLite file are captured by trigger, not by {capture}"));
        }
        let name = Path::new(path).file_stem().map_or(String::new(), |s| s.to_string_lossy().into());
        Ok(answered(path, "", &name))
    }

    fn make(&self, path: &Path) -> Option<Done<Arc<dyn Source>>> {
        Some(SqliteSource::make(path).map(|source| Arc::new(source) as Arc<dyn Source>))
    }
}

impl SourceSection for Described {
    fn check_pipeline(&self, _: &str, _: &Section) -> Result<(), Mistake> {
        Ok(())
    }

    fn open(&self, opening: Opening<'_>) -> Result<Arc<dyn Source>, String> {
        Ok(Arc::new(SqliteSource::new(opening.folder.join(&self.path))))
    }

    fn findings(&self) -> Vec<Finding> {
        Vec::new()
    }

    fn user(&self) -> Option<String> {
        None
    }
}

impl TargetKind for Sqlite {
    fn read(&self, name: &str, end: &EndSection) -> Result<Box<dyn TargetSection>, Mistake> {
        Ok(read(&format!("target {name}"), end, &TARGET, "path = \"warehouse.db\"")?)
    }

    fn keys(&self) -> &'static [Key] {
        &TARGET
    }

    fn sets_aside(&self) -> bool {
        false
    }

    fn place(&self) -> &'static str {
        "a SQLite file"
    }

    fn answer(&self, place: &str) -> Option<Result<Answered, String>> {
        // A path may be anything but an address or a folder.
        let about = "The first run makes the file; any program that reads SQLite can look at it.";
        (!place.contains("://") && !place.ends_with('/')).then(|| Ok(answered(place, about, "warehouse")))
    }
}

impl TargetSection for Described {
    fn open(&self, opening: Opening<'_>) -> Result<Arc<dyn Target>, String> {
        Ok(Arc::new(SqliteTarget::new(opening.folder.join(&self.path))))
    }

    fn findings(&self) -> Vec<Finding> {
        Vec::new()
    }
}

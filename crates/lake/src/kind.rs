//! Lake tables as a kind of system: its sections of the project file, and what `init` asks.

use crate::as_target::LakeTarget;
use moorage_adapter::Target;
use moorage_adapter::kind::{Answered, Key, Kind, Opening, SourceKind, TargetKind, TargetSection, names};
use moorage_core::model::finding::Finding;
use moorage_core::project::error::Mistake;
use moorage_core::project::section::EndSection;
use moorage_core::project::text::{EndAnswer, KeyAnswer};
use moorage_core::project::units::parse_duration;
use serde::Deserialize;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;
use toml::Spanned;

/// Tables in the open format "Delta".
pub struct Lake;

impl Kind for Lake {
    fn word(&self) -> &'static str {
        "delta"
    }

    fn about(&self) -> &'static str {
        "a folder of lake tables"
    }

    fn crate_name(&self) -> &'static str {
        "moorage_lake"
    }

    fn as_source(&self) -> Option<&dyn SourceKind> {
        None
    }

    fn as_target(&self) -> Option<&dyn TargetKind> {
        Some(self)
    }
}

/// The keys of targets, with their meaning.
const TARGET: [Key; 4] = [
    Key {
        names: &["path"],
        meaning: "the folder; each table has one of its own in it. It is made by the first run",
    },
    Key {
        names: &["vectors"],
        meaning: "`false`: without deletion vectors, for readers that do not know them; every file that loses a row is written again ([lake.md](lake.md)). `true` by default",
    },
    Key {
        names: &["compact_after"],
        meaning: "files of a table are put together, beside merges, when it has more small ones than this; 50 if not given",
    },
    Key {
        names: &["keep_versions_for"],
        meaning: "for so long each version of a table can be read; what older ones alone name is removed. 1 hour at least, `\"1d\"` if not given",
    },
];

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Keys {
    path: Option<String>,
    vectors: Option<bool>,
    compact_after: Option<Spanned<i64>>,
    keep_versions_for: Option<Spanned<String>>,
}

/// A folder as a section describes it.
struct Described {
    path: PathBuf,
    vectors: bool,
    compact_after: usize,
    keep_for: Duration,
}

/// Readers of an older version may take so long.
const LEAST_KEPT: Duration = Duration::from_secs(3600);

fn keep_for(given: Option<Spanned<String>>) -> Result<Duration, Mistake> {
    let Some(given) = given else { return Ok(Duration::from_secs(24 * 3600)) };
    parse_duration(given.get_ref()).filter(|of| *of >= LEAST_KEPT).ok_or_else(|| {
        let what = format!("`{}` is not a duration of an hour or more", given.get_ref());
        Mistake::at(given.span(), what, "a number with m, h or d, such as \"1d\"")
    })
}

fn compact_after(given: Option<Spanned<i64>>) -> Result<usize, Mistake> {
    let Some(given) = given else { return Ok(50) };
    usize::try_from(*given.get_ref()).ok().filter(|count| *count > 0).ok_or_else(|| {
        let what = format!("{} is not a number of files", given.get_ref());
        Mistake::at(given.span(), what, "1 or more, such as 50")
    })
}

impl TargetKind for Lake {
    fn read(&self, name: &str, end: &EndSection) -> Result<Box<dyn TargetSection>, Mistake> {
        let called = format!("target {name}");
        end.refuse_unknown(&called, names(&TARGET))?;
        let found: Keys = end.section.read()?;
        let nowhere = || {
            Mistake::at(
                end.kind.span(),
                format!("{called} says nothing about where it is"),
                "path = \"lake\"",
            )
        };
        let path = found.path.ok_or_else(nowhere)?.into();
        Ok(Box::new(Described {
            path,
            vectors: found.vectors.unwrap_or(true),
            compact_after: compact_after(found.compact_after)?,
            keep_for: keep_for(found.keep_versions_for)?,
        }))
    }

    fn keys(&self) -> &'static [Key] {
        &TARGET
    }

    fn sets_aside(&self) -> bool {
        false
    }

    fn place(&self) -> &'static str {
        "a folder of lake tables (lake/)"
    }

    fn answer(&self, place: &str) -> Option<Result<Answered, String>> {
        let path = place.strip_suffix('/').filter(|path| !path.is_empty() && !path.contains("://"))?;
        let end = EndAnswer {
            kind: "delta",
            about: "The first run makes the folder; engines that read the Delta format read the tables in it.",
            keys: vec![KeyAnswer::plain("path", path)],
            password: None,
        };
        Some(Ok(Answered { end, name: "lake".into(), has_password: false, password: None }))
    }
}

impl TargetSection for Described {
    fn open(&self, opening: Opening<'_>) -> Result<Arc<dyn Target>, String> {
        let keys = opening.folder.join(".moorage").join("keys");
        let target = LakeTarget::folder(opening.folder.join(&self.path), Some(keys));
        let target = target.looking_after(self.compact_after, self.keep_for);
        Ok(Arc::new(if self.vectors { target } else { target.without_vectors() }))
    }

    fn findings(&self) -> Vec<Finding> {
        Vec::new()
    }
}

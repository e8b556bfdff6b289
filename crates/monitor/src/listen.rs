//! What the project file says of serving figures: `[listen]`.

use moorage_adapter::kind::{Key, names};
use moorage_adapter::secret::SecretConfig;
use moorage_core::project::error::Mistake;
use moorage_core::project::section::Section;
use serde::Deserialize;
use toml::Spanned;

/// How many tables of each pipeline have figures of their own, if the file does not say.
const USUAL_TABLES: usize = 100;
/// And at most: each is a series in somebody's store.
const MOST_TABLES: usize = 10_000;

/// The keys of `[listen]` with their meaning.
pub const LISTEN_KEYS: &[Key] = &[
    Key {
        names: &["token"],
        meaning: "where the token is without which `/metrics` and `/status` are not shown (`Authorization: Bearer`): `{ env = \"NAME\" }`, `{ file = \"path\" }` or `{ command = [\"program\"] }`; looked up when the run begins",
    },
    Key {
        names: &["tables"],
        meaning: "how many tables of each pipeline have figures of their own, by name; 100 if not given, 10,000 at most. How many have none is served, too",
    },
];

/// What a project file says of serving figures.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ListenSettings {
    /// Where the token is.
    pub token: Option<SecretConfig>,
    /// How many tables of each pipeline have figures of their own.
    pub tables: usize,
}

impl Default for ListenSettings {
    fn default() -> Self {
        Self { token: None, tables: USUAL_TABLES }
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Written {
    token: Option<Spanned<SecretConfig>>,
    tables: Option<Spanned<usize>>,
}

impl ListenSettings {
    /// Reads the section, if there is one.
    ///
    /// # Errors
    /// With the place of what cannot be meant.
    pub fn read(section: Option<&Section>) -> Result<Self, Mistake> {
        let Some(section) = section else { return Ok(Self::default()) };
        debug_assert_eq!(names(LISTEN_KEYS).count(), 2, "the keys that are read below");
        let written: Written = section.read()?;
        SecretConfig::check_one("the token of [listen]", written.token.as_ref())?;
        if let Some(tables) = written.tables.as_ref().filter(|tables| *tables.get_ref() > MOST_TABLES) {
            let what = format!("tables = {} is out of range", tables.get_ref());
            return Err(Mistake::at(tables.span(), what, "a number from 0 to 10000"));
        }
        Ok(Self {
            token: written.token.map(Spanned::into_inner),
            tables: written.tables.map_or(USUAL_TABLES, Spanned::into_inner),
        })
    }
}

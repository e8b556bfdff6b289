//! Parts of a project file that belong to the adapter of a kind of system, which reads them itself.

use super::error::Mistake;
use crate::model::near::near;
use serde::de::{DeserializeOwned, IntoDeserializer};
use std::fmt;
use std::ops::Range;
use std::sync::Arc;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// A table of a project file, not yet read, which knows where its keys and values stand.
#[derive(Clone, Default)]
pub struct Section {
    /// The whole file: what is read from it borrows from it.
    text: Arc<str>,
    /// `sources` or its like, and the name in it; or a table at the top.
    path: Vec<String>,
    /// Only these keys belong to it; all if there is none.
    only: Option<Vec<String>>,
    /// These do not.
    without: Vec<String>,
}

impl Section {
    /// The table `[list.name]` of a file, which is there.
    pub(super) fn new(text: &Arc<str>, list: &str, name: &str) -> Self {
        Self { text: text.clone(), path: vec![list.into(), name.into()], only: None, without: Vec::new() }
    }

    /// The table `[name]` of a file, which is there.
    pub(super) fn at_the_top(text: &Arc<str>, name: &str) -> Self {
        Self { text: text.clone(), path: vec![name.into()], only: None, without: Vec::new() }
    }

    fn has(&self, key: &str) -> bool {
        self.only.as_ref().is_none_or(|only| only.iter().any(|k| k == key))
            && !self.without.iter().any(|k| k == key)
    }

    /// Parts it in two: what has one of these keys, and what has not.
    pub fn parted(&self, keys: &[&str]) -> (Self, Self) {
        let own = keys.iter().filter(|key| self.has(key)).map(ToString::to_string).collect();
        let without = self.without.iter().cloned().chain(keys.iter().map(ToString::to_string)).collect();
        (Self { only: Some(own), ..self.clone() }, Self { without, ..self.clone() })
    }

    /// The table as it stands in the text; empty if there is none.
    fn table(&self) -> Spanned<DeTable<'_>> {
        let document = DeTable::parse(&self.text).ok().map(|document| (0..0, document.into_inner()));
        let within =
            |found: Option<(Range<usize>, _)>, name: &String| found.and_then(|(_, of)| inside(of, name));
        let Some((span, table)) = self.path.iter().fold(document, within) else {
            return Spanned::new(0..0, DeTable::new());
        };
        let table = table.into_iter().filter(|(key, _)| self.has(key.get_ref())).collect();
        Spanned::new(span, table)
    }

    /// Its first key, and where that stands in the file's text, in bytes; none if it is empty.
    pub fn first_key(&self) -> Option<(String, Range<usize>)> {
        self.table().get_ref().keys().next().map(|key| (key.get_ref().to_string(), key.span()))
    }

    /// The value of a key, if it is a text.
    pub fn text(&self, key: &str) -> Option<String> {
        let table = self.table();
        let (_, value) = table.get_ref().iter().find(|(k, _)| k.get_ref() == key)?;
        value.get_ref().as_str().map(str::to_string)
    }

    /// Reads it as the adapter's own type, which should refuse unknown keys (`deny_unknown_fields`).
    ///
    /// # Errors
    /// If a key is unknown or missing, or a value is not what it should be.
    pub fn read<T: DeserializeOwned>(&self) -> Result<T, Mistake> {
        T::deserialize(self.table().into_deserializer()).map_err(Mistake::Read)
    }
}

impl EndSection {
    /// Refuses keys that a section of its kind does not have. `end` is its name for people, such as `source harbour`.
    ///
    /// # Errors
    /// For the first such key, with what may have been meant.
    pub fn refuse_unknown<'a>(
        &self,
        end: &str,
        known: impl IntoIterator<Item = &'a str>,
    ) -> Result<(), Mistake> {
        let known: Vec<&str> = known.into_iter().collect();
        let table = self.section.table();
        let Some(key) = table.get_ref().keys().find(|key| !known.contains(&key.get_ref().as_ref())) else {
            return Ok(());
        };
        let name: &str = key.get_ref();
        // Anything may stand where a key should, also an address with a password in it.
        let is_bare = name.chars().all(|c| c.is_ascii_alphanumeric() || "_-".contains(c));
        let shown = if is_bare { format!("key `{name}`") } else { "such key".into() };
        let what = format!("{end} is of kind {}, which has no {shown}", self.kind.get_ref());
        let near = near(name, known.iter());
        let meant = if near.is_empty() { known } else { near.iter().map(String::as_str).collect() };
        let meant = meant.iter().map(|key| format!("`{key}`")).collect::<Vec<_>>().join(", ");
        Err(Mistake::at(key.span(), what, meant))
    }
}

/// Values may be secrets.
impl fmt::Debug for Section {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "[{}]", self.path.join("."))
    }
}

/// The table of a name inside another one, with where it stands.
fn inside<'t>(table: DeTable<'t>, name: &str) -> Option<(Range<usize>, DeTable<'t>)> {
    let (_, value) = table.into_iter().find(|(key, _)| key.get_ref() == name)?;
    let span = value.span();
    match value.into_inner() {
        DeValue::Table(table) => Some((span, table)),
        _ => None,
    }
}

/// One end of pipelines: a source or a target.
#[derive(Clone, Debug)]
pub struct EndSection {
    /// Which kind of system it is.
    pub kind: Spanned<String>,
    /// Everything else that the file says of it.
    pub section: Section,
}

/// What a project file has to know of the kinds of systems there are.
pub trait Kinds {
    /// The words for kinds of sources.
    fn sources(&self) -> Vec<&'static str>;
    /// The words for kinds of targets.
    fn targets(&self) -> Vec<&'static str>;
    /// The keys in a pipeline's table that its source reads, if that is of this kind.
    fn pipeline_keys(&self, source: &str) -> &'static [&'static str];
    /// The words for kinds of receivers of alerts.
    fn receivers(&self) -> Vec<&'static str>;
}

/// Kinds as tests of this crate name them.
#[cfg(test)]
pub(crate) mod tests {
    use super::Kinds;

    pub(crate) struct AnyKind;

    impl Kinds for AnyKind {
        fn sources(&self) -> Vec<&'static str> {
            vec!["quay", "shed"]
        }

        fn targets(&self) -> Vec<&'static str> {
            vec!["shed"]
        }

        fn receivers(&self) -> Vec<&'static str> {
            vec!["flag"]
        }

        fn pipeline_keys(&self, source: &str) -> &'static [&'static str] {
            if source == "quay" { &["berth", "lock"] } else { &[] }
        }
    }
}

//! Rules of a pipeline: exceptions for the tables that match, and how their rows are mapped.

use crate::convert::OnMisfit;
use crate::expr::{Expr, logical_type};
use crate::project::{ExistingRows, Mismatch, OnReject};
use crate::types::LogicalType;
use indexmap::IndexMap;
use serde::de::{Error, MapAccess, Visitor};
use serde::{Deserialize, Deserializer, Serialize};
use std::collections::BTreeMap;
use std::fmt;
use std::ops::Range;
use toml::Spanned;

/// An exception for the tables that match.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RuleConfig {
    /// A pattern on `schema.table`.
    #[serde(rename = "match")]
    pub pattern: Spanned<String>,
    /// The columns that tell rows apart, where the catalogue names none.
    pub key: Option<Vec<String>>,
    /// How the target table is named; overrides the pipeline's own.
    pub into: Option<Spanned<String>>,
    /// The only columns that are carried; all if not given.
    pub only: Option<Vec<String>>,
    /// Columns that are not carried.
    #[serde(default)]
    pub drop: Vec<String>,
    /// New names of columns.
    #[serde(default)]
    pub rename: BTreeMap<String, String>,
    /// Columns whose values are converted to another type.
    #[serde(default = "no_casts")]
    cast: Spanned<BTreeMap<String, CastConfig>>,
    /// Columns that the target has more.
    #[serde(default = "no_additions")]
    add: Spanned<IndexMap<String, AddConfig>>,
    /// A condition in SQL: which rows are carried.
    #[serde(rename = "where")]
    pub condition: Option<Spanned<String>>,
    /// Overrides the pipeline's own.
    pub existing_rows: Option<ExistingRows>,
    /// Overrides the pipeline's own.
    pub on_reject: Option<Spanned<OnReject>>,
    /// What a change means whose row the target holds otherwise than the change assumes; `reject` if not given.
    pub mismatch: Option<Spanned<Mismatch>>,
}

fn no_casts() -> Spanned<BTreeMap<String, CastConfig>> {
    Spanned::new(0..0, BTreeMap::new())
}
fn no_additions() -> Spanned<IndexMap<String, AddConfig>> {
    Spanned::new(0..0, IndexMap::new())
}

/// The type that a column's values are converted to: `"int32"`, or `{ to = "int32", misfit = "null" }`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CastConfig {
    /// The type, as it was written.
    pub to: String,
    /// What to do with values that do not fit.
    pub misfit: OnMisfit,
}

impl<'de> Deserialize<'de> for CastConfig {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Either;
        impl<'de> Visitor<'de> for Either {
            type Value = CastConfig;
            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a type such as \"int32\", or { to = \"int32\", misfit = \"stop\", \"null\" or \"nearest\" }")
            }
            fn visit_str<E: Error>(self, to: &str) -> Result<CastConfig, E> {
                Ok(CastConfig { to: to.into(), misfit: OnMisfit::Stop })
            }
            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<CastConfig, A::Error> {
                let (mut to, mut misfit) = (None, OnMisfit::Stop);
                while let Some(key) = map.next_key::<String>()? {
                    match key.as_str() {
                        "to" => to = Some(map.next_value()?),
                        "misfit" => misfit = map.next_value()?,
                        other => return Err(A::Error::unknown_field(other, &["to", "misfit"])),
                    }
                }
                Ok(CastConfig { to: to.ok_or_else(|| A::Error::missing_field("to"))?, misfit })
            }
        }
        deserializer.deserialize_any(Either)
    }
}

/// What Moorage knows of a row beside its values.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Stamp {
    /// The source's name in the project file.
    Source,
    /// The source table's full name.
    Table,
    /// When the row's last change was committed; null for rows of the snapshot.
    CommittedAt,
    /// The position of the row's last change; null for rows of the snapshot.
    Position,
}

impl Stamp {
    /// The word for people.
    pub fn word(self) -> &'static str {
        match self {
            Self::Source => "source",
            Self::Table => "table",
            Self::CommittedAt => "commit time",
            Self::Position => "position",
        }
    }
}

/// A value in the project file.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(untagged)]
pub enum Constant {
    /// True or false.
    Bool(bool),
    /// A whole number.
    Int(i64),
    /// A float.
    Float(f64),
    /// A text.
    Text(String),
}

/// A column that the target has more. Exactly one of the three must be given.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AddConfig {
    /// Something that Moorage knows of the row.
    pub from: Option<Stamp>,
    /// The same for all rows.
    pub constant: Option<Constant>,
    /// Computed from the row's columns, in SQL.
    pub expression: Option<Spanned<String>>,
}

impl RuleConfig {
    /// Columns whose values are converted.
    pub fn cast(&self) -> &BTreeMap<String, CastConfig> {
        self.cast.get_ref()
    }

    /// Columns that the target has more.
    pub fn add(&self) -> &IndexMap<String, AddConfig> {
        self.add.get_ref()
    }

    /// The first mistake: where, what, and what was expected.
    pub(crate) fn wrong(&self) -> Option<(Range<usize>, String, &'static str)> {
        let sql = |place: String, text: &Spanned<String>| {
            let why = Expr::check(text.get_ref()).err()?;
            Some((text.span(), format!("{place} cannot be read: {why}"), "an expression in SQL"))
        };
        let added = self.add.get_ref().iter();
        let added = added
            .filter_map(|(name, add)| Some((format!("column {name} of `add`"), add.expression.as_ref()?)));
        let condition = self.condition.iter().map(|text| ("`where`".to_string(), text));
        if let Some(wrong) = condition.chain(added).find_map(|(place, text)| sql(place, text)) {
            return Some(wrong);
        }
        for (name, cast) in self.cast.get_ref() {
            if let Err(why) = logical_type(&cast.to) {
                let what = format!(
                    "column {name} of `cast`: `{}` is not a type that can be cast to: {why}",
                    cast.to
                );
                return Some((
                    self.cast.span(),
                    what,
                    "a type such as \"int32\", \"decimal(10,2)\", \"text\" or \"date\"",
                ));
            }
        }
        for (name, add) in self.add.get_ref() {
            let given = [add.from.is_some(), add.constant.is_some(), add.expression.is_some()];
            if given.iter().filter(|g| **g).count() != 1 {
                let what = format!("column {name} of `add` must come from exactly one place");
                let expected = "{ from = \"source\", \"table\", \"committed_at\" or \"position\" }, { constant = … } or { expression = \"…\" }";
                return Some((self.add.span(), what, expected));
            }
        }
        None
    }
}

impl CastConfig {
    /// The type.
    ///
    /// # Errors
    /// If there is no such type; never after the project file was read.
    pub fn logical(&self) -> Result<LogicalType, String> {
        logical_type(&self.to)
    }
}

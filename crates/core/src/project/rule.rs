//! Rules of a pipeline: exceptions for the tables that match, and how their rows are mapped.

use crate::expr::{Expr, logical_type};
use crate::model::gathered::Partitions;
use crate::model::kept_as::{Deletes, Keep, Operation};
use crate::model::policy::{ExistingRows, Generated, Mismatch, OnMisfit, OnReject, Shape, Stamp};
use crate::pick::rule::{Addition, Cast, Constant, TableRule};
use crate::project::also::{AlsoConfig, check_operations};
use crate::project::drift::DriftConfig;
use crate::project::error::Mistake;
use crate::project::units::parse_duration;
use indexmap::IndexMap;
use serde::de::{Error, MapAccess, Visitor};
use serde::{Deserialize, Deserializer};
use std::collections::BTreeMap;
use std::fmt;
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
    /// Whether rows of several tables stand together in one target table: the one that `into` names for all of them.
    pub gather: Option<bool>,
    /// The column of such a table that says where a row came from; `moorage_from` if not given.
    pub from_column: Option<String>,
    /// How that is said: a naming rule in which `{source}` stands for the source as the file calls it, too;
    /// `{schema}.{table}` if not given.
    pub from_name: Option<Spanned<String>>,
    /// Whether no two of such tables have a row of one key: then the column is not part of the key.
    pub disjoint_keys: Option<bool>,
    /// What the target table is made of; overrides the pipeline's own.
    pub shape: Option<Shape>,
    /// What becomes of generated columns; overrides the pipeline's own.
    pub generated: Option<Generated>,
    /// What partitions are in the target; overrides the pipeline's own.
    pub partitions: Option<Partitions>,
    /// How old changes are that are folded; overrides the pipeline's own.
    pub tidy_after: Option<Spanned<String>>,
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
    /// What the target table holds; overrides the pipeline's own.
    pub keep: Option<Keep>,
    /// Overrides the pipeline's own.
    pub old_values: Option<bool>,
    /// The operations whose changes are applied; overrides the pipeline's own.
    pub operations: Option<Spanned<Vec<Operation>>>,
    /// What becomes of rows that were deleted in the source; overrides the pipeline's own.
    pub deletes: Option<Deletes>,
    /// Other forms in which tables are kept beside the first one, from one capture.
    pub also: Option<Vec<AlsoConfig>>,
    /// How columns are named in the target; overrides the pipeline's own.
    pub column_names: Option<Spanned<String>>,
    /// How the view of current rows beside a table that keeps changes is named; overrides the pipeline's own.
    pub view: Option<Spanned<String>>,
    /// Overrides the pipeline's own.
    pub existing_rows: Option<ExistingRows>,
    /// Overrides the pipeline's own.
    pub on_reject: Option<Spanned<OnReject>>,
    /// What a change means whose row the target holds otherwise than the change assumes; `reject` if not given.
    pub mismatch: Option<Spanned<Mismatch>>,
    /// What is done about changes of structure; overrides the pipeline's own.
    #[serde(default)]
    pub drift: DriftConfig,
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
    /// Checks that expressions, types and additions can be understood.
    pub(super) fn check(&self) -> Result<(), Mistake> {
        self.drift.check()?;
        check_operations(self.operations.as_ref())?;
        self.also.iter().flatten().try_for_each(AlsoConfig::check)?;
        let sql = |place: &str, text: &Spanned<String>| {
            let wrong = |why| {
                let what = format!("{place} cannot be read: {why}");
                Mistake::at(text.span(), what, "an expression in SQL")
            };
            Expr::check(text.get_ref()).map_err(wrong)
        };
        if let Some(condition) = &self.condition {
            sql("`where`", condition)?;
        }
        for (name, cast) in self.cast.get_ref() {
            logical_type(&cast.to).map_err(|why| {
                let to = &cast.to;
                let what =
                    format!("column {name} of `cast`: `{to}` is not a type that can be cast to: {why}");
                let expected = "a type such as \"int32\", \"decimal(10,2)\", \"text\" or \"date\"";
                Mistake::at(self.cast.span(), what, expected)
            })?;
        }
        for (name, add) in self.add.get_ref() {
            if let Some(expression) = &add.expression {
                sql(&format!("column {name} of `add`"), expression)?;
            }
            let given = [add.from.is_some(), add.constant.is_some(), add.expression.is_some()];
            if given.iter().filter(|g| **g).count() != 1 {
                let what = format!("column {name} of `add` must come from exactly one place");
                let expected = "{ from = \"source\", \"table\", \"committed_at\" or \"position\" }, { constant = … } or { expression = \"…\" }";
                return Err(Mistake::at(self.add.span(), what, expected));
            }
        }
        Ok(())
    }
}

impl RuleConfig {
    /// What it says of the tables that match. Types, and where added columns come from, were checked when the
    /// project file was read.
    pub(super) fn table_rule(&self) -> TableRule {
        let cast = |(name, c): (&String, &CastConfig)| {
            Some((name.clone(), Cast { to: logical_type(&c.to).ok()?, misfit: c.misfit }))
        };
        let add = |(name, a): (&String, &AddConfig)| Some((name.clone(), a.addition()?));
        TableRule {
            key: self.key.clone(),
            into: self.into.as_ref().map(|i| i.get_ref().clone()),
            gather: self.gather,
            from_column: self.from_column.clone(),
            from_name: self.from_name.as_ref().map(|n| n.get_ref().clone()),
            disjoint_keys: self.disjoint_keys,
            shape: self.shape,
            generated: self.generated,
            partitions: self.partitions,
            tidy_after: self.tidy_after.as_ref().and_then(|after| parse_duration(after.get_ref())),
            only: self.only.clone(),
            drop: self.drop.clone(),
            rename: self.rename.clone(),
            cast: self.cast.get_ref().iter().filter_map(cast).collect(),
            add: self.add.get_ref().iter().filter_map(add).collect(),
            condition: self.condition.as_ref().map(|c| c.get_ref().clone()),
            keep: self.keep,
            old_values: self.old_values,
            operations: self.operations.as_ref().map(|o| o.get_ref().clone()),
            deletes: self.deletes,
            also: self.also.as_ref().map(|also| also.iter().map(AlsoConfig::kept).collect()),
            column_names: self.column_names.as_ref().map(|n| n.get_ref().clone()),
            added_columns: BTreeMap::new(),
            operation_words: BTreeMap::new(),
            milliseconds: false,
            view: self.view.as_ref().map(|v| v.get_ref().clone()),
            existing_rows: self.existing_rows,
            on_reject: self.on_reject.as_ref().map(|k| *k.get_ref()),
            mismatch: self.mismatch.as_ref().map(|k| *k.get_ref()),
            drift: self.drift.policies(),
        }
    }
}

impl AddConfig {
    fn addition(&self) -> Option<Addition> {
        let expression = self.expression.as_ref().map(|e| Addition::Expression(e.get_ref().clone()));
        let constant = || self.constant.clone().map(Addition::Constant);
        expression.or_else(constant).or_else(|| self.from.map(Addition::Stamp))
    }
}

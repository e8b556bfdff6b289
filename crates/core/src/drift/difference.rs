//! What is another way in a table's structure than it was.

use crate::change::structure::{Step, TypeChange, Unknown};
use crate::model::described::{LogIdentity, SourceColumn};
use crate::model::drift::DriftKind;
use crate::model::structure::Structure;
use crate::model::types::LogicalType;
use crate::model::visible::visible;
use std::fmt;

/// One difference.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Difference {
    /// A column came.
    Added(SourceColumn),
    /// A column went.
    Dropped(SourceColumn),
    /// A column is called otherwise: as it was, and as it is.
    Renamed(SourceColumn, SourceColumn),
    /// A column's type is another one: as it was, and as it is.
    Retyped(SourceColumn, SourceColumn),
    /// A column is computed no more, or computed from now on.
    Generated(SourceColumn),
    /// Rows are told apart otherwise.
    Key,
    /// The table is called otherwise: as it was.
    Table(String, String),
    /// A value of a column's type is called otherwise: the column, what it was called and what it is.
    ValueRenamed(SourceColumn, String, String),
    /// A column's type allows other values than before: the column, and what was changed.
    Allowed(SourceColumn, String),
    /// Values may have become other ones.
    Values(Unknown),
}

/// What differs from one structure to the one that a step leads to.
pub fn differences(before: &Structure, step: &Step) -> Vec<Difference> {
    let after = &*step.after;
    let mut found = Vec::new();
    for now in &after.columns {
        let Some(was) = before.same(now) else {
            found.push(Difference::Added(now.clone()));
            continue;
        };
        if was.column.name != now.column.name {
            found.push(Difference::Renamed(was.clone(), now.clone()));
        }
        if was.column.source_type != now.column.source_type {
            found.push(Difference::Retyped(was.clone(), now.clone()));
        }
        if was.generated != now.generated {
            found.push(Difference::Generated(now.clone()));
        }
    }
    let is_gone = |was: &&SourceColumn| !after.columns.iter().any(|now| now.is_same(was));
    found.extend(before.columns.iter().filter(is_gone).map(|c| Difference::Dropped(c.clone())));
    if key(before, &before.identity) != key(&Structure::of(after), &after.identity) {
        found.push(Difference::Key);
    }
    let was = before.name.before().unwrap_or_else(|| before.name.clone());
    if was != after.name && after.name.before().is_none() {
        found.push(Difference::Table(was.to_string(), after.name.to_string()));
    }
    let of_types = step.types.iter().filter_map(|of| {
        let column = after.columns.iter().find(|c| c.number == Some(of.column))?.clone();
        Some(match &of.what {
            TypeChange::Renamed { from, to } => Difference::ValueRenamed(column, from.clone(), to.clone()),
            TypeChange::Allowed(what) => Difference::Allowed(column, what.clone()),
        })
    });
    found.extend(of_types);
    found.extend(step.unknown.clone().map(Difference::Values));
    found
}

/// What tells rows apart, by numbers where columns have them.
fn key(of: &Structure, identity: &LogIdentity) -> (u8, Vec<String>) {
    let named = |name: &String| {
        let column = of.columns.iter().find(|c| c.column.name == *name);
        column.and_then(|c| c.number).map_or_else(|| name.clone(), |number| number.to_string())
    };
    match identity {
        LogIdentity::Key(key) => (0, key.iter().map(named).collect()),
        LogIdentity::Full { key } => (1, key.iter().flatten().map(named).collect()),
        LogIdentity::None(_) => (2, Vec::new()),
    }
}

/// Whether every value of a type is one of another type, and means the same.
pub fn widens(from: &LogicalType, to: &LogicalType) -> bool {
    use LogicalType::{Decimal, Float32, Float64, Int16, Int32, Int64};
    match (from, to) {
        (Int16, Int32 | Int64) | (Int32, Int64) | (Float32, Float64) => true,
        (Int16 | Int32 | Int64, Decimal { precision: None, .. }) => true,
        (Decimal { .. }, Decimal { precision: None, .. }) => true,
        (Decimal { precision: Some(p), scale }, Decimal { precision: Some(to_p), scale: to_s }) => {
            let (s, to_s) = (i64::from(scale.unwrap_or(0)), i64::from(to_s.unwrap_or(0)));
            to_s >= s && i64::from(*to_p) - to_s >= i64::from(*p) - s
        }
        (from, to) => from == to,
    }
}

impl Difference {
    /// Which kind of drift it is, given what is not known of values.
    pub fn kind(&self, unknown: Option<&Unknown>) -> DriftKind {
        let is_known = |c: &SourceColumn| unknown.is_none_or(|unknown| !unknown.includes(c.number));
        match self {
            Self::Added(_) => DriftKind::ColumnAdded,
            Self::Dropped(_) => DriftKind::ColumnDropped,
            Self::Renamed(..) => DriftKind::ColumnRenamed,
            Self::Retyped(was, now) if is_known(now) || widens(&was.column.logical, &now.column.logical) => {
                DriftKind::TypeWidened
            }
            Self::Retyped(..) => DriftKind::TypeChanged,
            Self::ValueRenamed(..) => DriftKind::ValueRenamed,
            Self::Allowed(..) => DriftKind::ValuesAllowed,
            Self::Key => DriftKind::KeyChanged,
            Self::Table(..) => DriftKind::TableRenamed,
            Self::Generated(_) | Self::Values(_) => DriftKind::ValuesChanged,
        }
    }

    /// The column it is about, as it was or, if it is new, as it is.
    pub fn column(&self) -> Option<&SourceColumn> {
        match self {
            Self::Added(c)
            | Self::Dropped(c)
            | Self::Renamed(c, _)
            | Self::Retyped(c, _)
            | Self::ValueRenamed(c, ..)
            | Self::Allowed(c, _)
            | Self::Generated(c) => Some(c),
            Self::Key | Self::Table(..) | Self::Values(_) => None,
        }
    }
}

/// For people.
impl fmt::Display for Difference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // What stands in a line of a log is to stay in it, whatever names say.
        let name = |c: &SourceColumn| visible(&c.column.name, false).into_owned();
        let of_type = |c: &SourceColumn| visible(&c.column.source_type, false).into_owned();
        match self {
            Self::Added(c) => write!(f, "column {} was added ({})", name(c), of_type(c)),
            Self::Dropped(c) => write!(f, "column {} was dropped", name(c)),
            Self::Renamed(was, now) => write!(f, "column {} is called {} now", name(was), name(now)),
            Self::Retyped(was, now) => {
                write!(f, "column {} is of type {} and was of type {}", name(now), of_type(now), of_type(was))
            }
            Self::Generated(c) if c.generated => write!(f, "column {} is computed now", name(c)),
            Self::Generated(c) => write!(f, "column {} is not computed any more", name(c)),
            Self::ValueRenamed(c, was, now) => {
                write!(f, "value {was:?} of column {} is called {now:?} now", name(c))
            }
            Self::Allowed(c, what) => write!(f, "column {}: {}", name(c), visible(what, false)),
            Self::Key => f.write_str("its key or its replica identity was changed"),
            Self::Table(was, now) => write!(f, "table {was} is called {now} now"),
            Self::Values(unknown) => f.write_str(&visible(&unknown.why, false)),
        }
    }
}

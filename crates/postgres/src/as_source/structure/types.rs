//! What columns' types are made of: changes of enumerated types, composite types and domains change what the rows of a table
//! look like, or may, and touch nothing of the table itself.
//!
//! An enumerated type's values are numbered for good (`pg_enum.oid`; PostgreSQL manual, section 53.20), and rows hold the
//! numbers: a value that is renamed is called otherwise in every row at once. The log has what a value was called when the
//! row was written; a transaction that wrote before may commit long after. So names that are no more are remembered until
//! no such transaction can be left, and what comes under one of them is handed on under its present name.

use crate::wire::connect::Session;
use moorage_adapter::Result;
use moorage_core::change::structure::{OfType, TypeChange, Unknown};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashMap};

/// For each type that some tables' columns are of and that is none of the system's (their numbers begin at 16384; PostgreSQL
/// source, `FirstNormalObjectId`) what it is made of: whether it is enumerated itself, what kind of part it is (`e`, a value;
/// `a`, an attribute of a composite type; `d`, a rule of a domain; `t`, nothing), its number and what it is.
const TYPES: &str = "
WITH RECURSIVE made(root, oid) AS (
  SELECT DISTINCT a.atttypid, a.atttypid FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid
   WHERE a.attnum > 0 AND NOT a.attisdropped AND a.atttypid >= 16384 AND {of_tables}
  UNION
  SELECT m.root, n.oid FROM made m JOIN pg_type t ON t.oid = m.oid, LATERAL (
    SELECT t.typbasetype AS oid WHERE t.typtype = 'd'
    UNION ALL SELECT t.typelem WHERE t.typcategory = 'A'
    UNION ALL SELECT a.atttypid FROM pg_attribute a WHERE t.typtype = 'c' AND a.attrelid = t.typrelid AND a.attnum > 0 AND NOT a.attisdropped
    UNION ALL SELECT r.rngsubtype FROM pg_range r WHERE r.rngtypid = t.oid OR r.rngmultitypid = t.oid) n
  WHERE n.oid >= 16384),
base(root, oid, typtype) AS (
  SELECT t.oid, t.oid, t.typtype FROM pg_type t WHERE t.oid IN (SELECT root FROM made)
  UNION SELECT b.root, t.oid, t.typtype FROM base b JOIN pg_type d ON d.oid = b.oid AND d.typtype = 'd' JOIN pg_type t ON t.oid = d.typbasetype)
SELECT m.root, EXISTS (SELECT FROM base b WHERE b.root = m.root AND b.typtype = 'e'), p.kind, p.key, p.value
FROM made m JOIN pg_type t ON t.oid = m.oid, LATERAL (
  SELECT 'e' AS kind, e.oid::text AS key, e.enumlabel::text AS value FROM pg_enum e WHERE e.enumtypid = t.oid
  UNION ALL SELECT 't', '', ''
  UNION ALL SELECT 'a', format('%s:%s', a.attrelid, a.attnum), format('%s:%s', a.atttypid, a.atttypmod) FROM pg_attribute a
    WHERE t.typtype = 'c' AND a.attrelid = t.typrelid AND a.attnum > 0 AND NOT a.attisdropped
  UNION ALL SELECT 'd', k.oid::text, k.conname::text FROM pg_constraint k WHERE k.contypid = t.oid
  UNION ALL SELECT 'd', format('%s:not null', t.oid), 'not null' WHERE t.typtype = 'd' AND t.typnotnull) p
ORDER BY 1, 3, 4";

/// Whether any of their columns is of such a type: mostly none is, and this costs a tenth of working out the other.
const ANY: &str = "SELECT EXISTS (SELECT FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid
  WHERE a.attnum > 0 AND NOT a.attisdropped AND a.atttypid >= 16384 AND {of_tables})";

/// What a column's type is made of.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Made {
    /// Whether it is known: that is so of types that are none of the system's.
    #[serde(default)]
    is_known: bool,
    /// Whether its values are those of an enumerated type.
    #[serde(default)]
    is_enumerated: bool,
    /// Values of enumerated types by their numbers.
    #[serde(default)]
    values: BTreeMap<String, String>,
    /// Attributes of composite types.
    #[serde(default)]
    attributes: BTreeMap<String, String>,
    /// Rules of domains.
    #[serde(default)]
    rules: BTreeMap<String, String>,
}

/// What types are made of, by their numbers.
pub(crate) type Types = HashMap<u32, Made>;

/// A name that a value had.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Former {
    /// The column's number.
    pub(crate) column: u32,
    /// What the value was called.
    name: String,
    /// The value's number.
    value: String,
    /// Transactions from this one on have begun since: they call it by its later name.
    until: u64,
}

/// Which transactions a look may not see: none before the first, all from the second on (`xmin` and `xmax` of its snapshot).
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Horizon {
    pub(crate) first_open: u64,
    pub(crate) next: u64,
}

/// By place in a schema and former name, what values are called now.
#[derive(Clone, Debug, Default)]
pub(crate) struct PresentNames(pub(crate) HashMap<usize, HashMap<Vec<u8>, Vec<u8>>>);

impl PresentNames {
    /// Whether all are called what they were.
    pub(crate) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// A value as it is called now.
    pub(crate) fn of<'a>(&'a self, place: usize, text: &'a [u8]) -> &'a [u8] {
        self.0.get(&place).and_then(|names| names.get(text)).map_or(text, Vec::as_slice)
    }
}

/// What came of a column's type.
#[derive(Debug, Default)]
pub(crate) struct Came {
    pub(crate) types: Vec<OfType>,
    pub(crate) unknown: Option<Unknown>,
    pub(crate) former: Vec<Former>,
}

/// Reads what types are made of: of these tables' columns, or of all.
pub(crate) async fn types(session: &Session, tables: Option<&[u32]>) -> Result<Types> {
    let doing = "looking at types";
    let rows = async |sql: &str| match &tables {
        Some(tables) => {
            let sql = sql.replace("{of_tables}", "a.attrelid = ANY($1)");
            session.cached(doing, &sql, &[tables]).await
        }
        None => session.rows(doing, &sql.replace("{of_tables}", "c.relkind = 'r'"), &[]).await,
    };
    let mut types = Types::new();
    if !rows(ANY).await?.iter().any(|row| row.get(0)) {
        return Ok(types);
    }
    for row in rows(TYPES).await? {
        let made = types.entry(row.get(0)).or_default();
        (made.is_known, made.is_enumerated) = (true, row.get(1));
        let part = match row.get::<_, &str>(2) {
            "e" => &mut made.values,
            "a" => &mut made.attributes,
            "t" => continue,
            _ => &mut made.rules,
        };
        part.insert(row.get(3), row.get(4));
    }
    Ok(types)
}

impl Made {
    /// Whether nothing is known of it.
    pub(crate) fn is_unknown(&self) -> bool {
        !self.is_known
    }

    /// What came of a column's values from here to `later`.
    pub(crate) fn to(&self, later: &Self, column: u32, name: &str, horizon: Horizon) -> Came {
        let mut came = Came::default();
        if self.is_unknown() || later.is_unknown() {
            return came;
        }
        let unknown = |why: String| Some(Unknown { why, columns: Some(vec![column]) });
        if self.attributes != later.attributes {
            came.unknown = unknown(format!("a composite type of column {name} was changed"));
        }
        let renamed = || {
            self.values.iter().filter_map(|(number, was)| {
                let now = later.values.get(number)?;
                (was != now).then_some((number, was, now))
            })
        };
        let is_used_again = renamed().any(|(_, was, _)| later.values.values().any(|now| now == was));
        if renamed().next().is_some() && (!self.is_enumerated || is_used_again) {
            came.unknown = unknown(format!("values of a type of column {name} were renamed"));
        } else {
            for (number, was, now) in renamed() {
                let what = TypeChange::Renamed { from: was.clone(), to: now.clone() };
                came.types.push(OfType { column, what });
                let (name, value) = (was.clone(), number.clone());
                came.former.push(Former { column, name, value, until: horizon.next });
            }
        }
        let new = later.values.iter().filter(|(number, _)| !self.values.contains_key(*number));
        let new: Vec<String> = new.map(|(_, name)| format!("{name:?}")).collect();
        let mut allowed = Vec::new();
        if !new.is_empty() {
            allowed.push(format!("its type has the value {} more", new.join(", ")));
        }
        if self.rules != later.rules {
            allowed.push("the rules of its domain were changed".into());
        }
        came.types.extend(allowed.into_iter().map(|what| OfType { column, what: TypeChange::Allowed(what) }));
        came
    }

    /// Whether a name is a value's.
    fn has(&self, name: &str) -> bool {
        self.values.values().any(|value| value == name)
    }
}

impl Former {
    /// Whether it may still come, behind a look.
    pub(crate) fn may_come(&self, horizon: Horizon) -> bool {
        horizon.first_open < self.until
    }

    /// What its name stands for, if that is not another value's name by now.
    pub(crate) fn now<'a>(&'a self, made: &'a Made) -> Option<(&'a str, &'a str)> {
        let now = made.values.get(&self.value)?;
        (!made.has(&self.name)).then_some((self.name.as_str(), now.as_str()))
    }

    /// Whether its name is another value's by now: what comes under it may be the one or the other.
    pub(crate) fn is_unclear(&self, made: &Made) -> bool {
        made.has(&self.name) && made.values.get(&self.value) != Some(&self.name)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// `1=booked 2=paid a:7=23 d:1=positive`.
    fn made(text: &str) -> Made {
        let (is_known, is_enumerated) = (text != "?", !text.contains("a:"));
        let mut made = Made { is_known, is_enumerated, ..Made::default() };
        for (key, value) in text.split_whitespace().filter_map(|word| word.split_once('=')) {
            let part = match key.as_bytes()[0] {
                b'a' => &mut made.attributes,
                b'd' => &mut made.rules,
                _ => &mut made.values,
            };
            part.insert(key.into(), value.into());
        }
        made
    }

    #[rstest]
    #[case::nothing("1=booked 2=paid", "1=booked 2=paid", "")]
    #[case::renamed("1=booked 2=paid", "1=open 2=paid", "booked→open")]
    #[case::one_more("1=booked", "1=booked 2=paid", "its type has the value \"paid\" more")]
    #[case::both("1=booked", "1=open 2=paid", "booked→open; its type has the value \"paid\" more")]
    #[case::swapped("1=booked 2=paid", "1=paid 2=booked", "?")]
    #[case::name_used_again("1=booked", "1=open 2=booked", "?; its type has the value \"booked\" more")]
    #[case::inside_another("a:1=9 1=booked", "a:1=9 1=open", "?")]
    #[case::attribute("a:1=23", "a:1=23 a:2=25", "?")]
    #[case::rule("d:1=positive", "d:2=positive", "the rules of its domain were changed")]
    #[case::first_rule("", "d:1=positive", "the rules of its domain were changed")]
    #[case::not_known("?", "1=booked", "")]
    fn what_comes_of_a_type_is_told(#[case] was: &str, #[case] now: &str, #[case] expected: &str) {
        let came = made(was).to(&made(now), 3, "state", Horizon::default());
        let unknown = came.unknown.map(|_| "?".to_string());
        let types = came.types.iter().map(|of| match &of.what {
            TypeChange::Renamed { from, to } => format!("{from}→{to}"),
            TypeChange::Allowed(what) => what.clone(),
        });
        assert_eq!(unknown.into_iter().chain(types).collect::<Vec<_>>().join("; "), expected);
    }

    #[test]
    fn a_former_name_is_read_as_the_present_one_for_as_long_as_it_is_nobody_elses() {
        let horizon = Horizon { first_open: 5, next: 9 };
        let came = made("1=booked").to(&made("1=open"), 3, "state", horizon);
        let former = &came.former[0];
        assert_eq!(former.now(&made("1=open")), Some(("booked", "open")));
        assert_eq!(former.now(&made("1=reserved 2=paid")), Some(("booked", "reserved")));
        assert_eq!(former.now(&made("1=open 2=booked")), None);
        assert!(former.is_unclear(&made("1=open 2=booked")) && !former.is_unclear(&made("1=booked")));
        assert!(former.may_come(Horizon { first_open: 8, next: 20 }));
        assert!(!former.may_come(Horizon { first_open: 9, next: 20 }), "all have ended that called it so");
    }
}

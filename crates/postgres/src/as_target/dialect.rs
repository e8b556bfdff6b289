//! How a PostgreSQL target declares types and takes names.

use moorage_core::model::name::quoted_part;
use moorage_core::model::sql::{quote_ident, quote_literal};
use moorage_core::pick::pattern::shown_parts;
use moorage_core::plan::dialect::{Declared, TargetDialect};
use moorage_core::{Column, LogicalType};

/// The longest name that the server keeps whole, in bytes (PostgreSQL manual, section 4.1.1).
const NAME_BYTES: usize = 63;

/// Columns that every table has (section 5.5).
const SYSTEM_COLUMNS: [&str; 6] = ["tableoid", "xmin", "cmin", "xmax", "cmax", "ctid"];

/// Types of the server itself whose text means the same on every server, beside those that have a logical type
/// of their own.
const BUILT_IN: [&str; 37] = [
    "inet",
    "cidr",
    "macaddr",
    "macaddr8",
    "money",
    "bit",
    "bit varying",
    "tsvector",
    "tsquery",
    "point",
    "line",
    "lseg",
    "box",
    "path",
    "polygon",
    "circle",
    "int4range",
    "int8range",
    "numrange",
    "tsrange",
    "tstzrange",
    "daterange",
    "int4multirange",
    "int8multirange",
    "nummultirange",
    "tsmultirange",
    "tstzmultirange",
    "datemultirange",
    "time with time zone",
    "xml",
    "pg_lsn",
    "xid8",
    "\"char\"",
    "jsonpath",
    "txid_snapshot",
    "pg_snapshot",
    "name",
];

/// Types with a logical type of their own, of which there may be arrays.
const PLAIN: [&str; 20] = [
    "boolean",
    "smallint",
    "integer",
    "bigint",
    "real",
    "double precision",
    "numeric",
    "text",
    "character varying",
    "character",
    "bytea",
    "date",
    "time without time zone",
    "timestamp without time zone",
    "timestamp with time zone",
    "interval",
    "uuid",
    "json",
    "jsonb",
    "oid",
];

/// PostgreSQL's dialect, with the schema of tables for which none is named.
pub struct PostgresDialect {
    pub(crate) schema: String,
}

/// A type's name without its modifier and without brackets.
fn bare(name: &str) -> (String, bool) {
    let array = name.ends_with("[]");
    let name = name.trim_end_matches("[]");
    match (name.find('('), name.find(')')) {
        (Some(from), Some(to)) if from < to => (format!("{}{}", &name[..from], &name[to + 1..]), array),
        _ => (name.into(), array),
    }
}

/// Whether every server has a type of this name.
fn is_everywhere(name: &str) -> bool {
    let (bare, array) = bare(name);
    let known = BUILT_IN.contains(&bare.as_str());
    known || (array && PLAIN.contains(&bare.as_str()))
}

/// The schema and name of a target table, from the text that stands for it.
pub(crate) fn parts(target: &str) -> (String, String) {
    shown_parts(target).unwrap_or_else(|| ("public".into(), target.into()))
}

/// A text that means the same whatever the setting of `standard_conforming_strings` is (PostgreSQL manual,
/// section 4.1.2.2).
pub(super) fn escaped(text: &str) -> String {
    format!("E{}", quote_literal(text).replace('\\', "\\\\"))
}

/// A target table as SQL wants it.
pub(crate) fn relation(target: &str) -> String {
    let (schema, name) = parts(target);
    format!("{}.{}", quote_ident(&schema), quote_ident(&name))
}

impl TargetDialect for PostgresDialect {
    fn declare(&self, column: &Column, in_key: bool) -> Declared {
        let plain = |sql: &str| Declared { sql: sql.into(), note: None };
        match &column.logical {
            LogicalType::Bool => plain("boolean"),
            LogicalType::Int16 => plain("smallint"),
            LogicalType::Int32 => plain("integer"),
            LogicalType::Int64 => plain("bigint"),
            LogicalType::Float32 => plain("real"),
            LogicalType::Float64 => plain("double precision"),
            LogicalType::Decimal { precision: Some(p @ 1..=1000), scale } => {
                let scale = scale.unwrap_or(0);
                // Scales outside this range are known from version 15 on only.
                if scale >= 0 && scale as u32 <= *p {
                    plain(&format!("numeric({p},{scale})"))
                } else {
                    plain("numeric")
                }
            }
            LogicalType::Decimal { .. } => plain("numeric"),
            LogicalType::Text => plain("text"),
            LogicalType::Bytes => plain("bytea"),
            LogicalType::Date => plain("date"),
            LogicalType::Time => plain("time without time zone"),
            LogicalType::Timestamp => plain("timestamp without time zone"),
            LogicalType::TimestampTz => plain("timestamp with time zone"),
            LogicalType::Interval => plain("interval"),
            LogicalType::Uuid => plain("uuid"),
            // Neither json nor any of its like can be a key.
            LogicalType::Json if in_key => plain("text"),
            LogicalType::Json if column.source_type == "jsonb" => plain("jsonb"),
            LogicalType::Json => plain("json"),
            LogicalType::Other { name } if is_everywhere(name) => plain(name),
            LogicalType::Other { name } => Declared {
                sql: "text".into(),
                note: Some(format!("the text of type {name}, which not every server has")),
            },
        }
    }

    fn fold(&self, identifier: &str) -> String {
        identifier.into()
    }

    fn reserved(&self, table: &str) -> Option<String> {
        let (schema, name) = parts(table);
        if let Some(long) = [&schema, &name].into_iter().find(|n| n.len() > NAME_BYTES) {
            return Some(format!(
                "{} has {} bytes, and PostgreSQL keeps only {NAME_BYTES} of a name",
                quoted_part(long),
                long.len()
            ));
        }
        if schema.starts_with("pg_") || schema == "information_schema" {
            return Some(format!("schema {schema} is the server's own"));
        }
        (schema.starts_with("moorage_") || name.starts_with("moorage_"))
            .then(|| "names that begin with moorage_ are Moorage's own".into())
    }

    fn reserved_column(&self, column: &str) -> Option<String> {
        if SYSTEM_COLUMNS.contains(&column) {
            return Some("every PostgreSQL table has a column of its own of this name".into());
        }
        (column.len() > NAME_BYTES).then(|| {
            format!("it has {} bytes, and PostgreSQL keeps only {NAME_BYTES} of a name", column.len())
        })
    }

    /// What the server does without writing the table anew: more digits in front of the point, or any number of them
    /// (PostgreSQL source, `numeric_support`).
    fn widens_at_once(&self, from: &str, to: &str) -> bool {
        let digits = |sql: &str| {
            let (p, s) = sql.strip_prefix("numeric(")?.strip_suffix(')')?.split_once(',')?;
            Some((p.parse::<i64>().ok()?, s.parse::<i64>().ok()?))
        };
        match (digits(from), digits(to)) {
            (Some((p, s)), Some((to_p, to_s))) => s == to_s && to_p >= p,
            (Some(_), None) => to == "numeric",
            _ => false,
        }
    }

    fn drops_at_once(&self) -> bool {
        true
    }

    fn place(&self, schema: Option<&str>, table: &str) -> String {
        format!("{}.{}", quoted_part(schema.unwrap_or(&self.schema)), quoted_part(table))
    }
}

/// Whether a column of an adopted table holds every value of a planned type exactly.
pub(crate) fn holds(planned: &str, source_type: &str, found: &str) -> bool {
    if planned == found || source_type == found {
        return true;
    }
    let wider: &[&str] = match planned {
        "smallint" => &["integer", "bigint", "numeric"],
        "integer" => &["bigint", "numeric"],
        "bigint" => &["numeric"],
        "real" => &["double precision"],
        "json" => &["jsonb"],
        _ => &[],
    };
    if wider.contains(&found) || found == "text" || found == "character varying" {
        return true;
    }
    // What is too long for it is refused by the server, never cut.
    let varying = found.starts_with("character varying(");
    varying && planned == "text" || decimal_holds(planned, found)
}

fn decimal_holds(planned: &str, found: &str) -> bool {
    let digits = |sql: &str| {
        let (p, s) = sql.strip_prefix("numeric(")?.strip_suffix(')')?.split_once(',')?;
        Some((p.parse::<i64>().ok()?, s.parse::<i64>().ok()?))
    };
    let is_numeric = planned.starts_with("numeric");
    match (digits(planned), digits(found)) {
        (_, None) => is_numeric && found == "numeric",
        (Some((p, s)), Some((fp, fs))) => fs >= s && fp - fs >= p - s,
        (None, Some(_)) => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("integer", "bigint", true)]
    #[case("bigint", "integer", false)]
    #[case("numeric(10,2)", "numeric(12,3)", true)]
    #[case("numeric(10,2)", "numeric(10,3)", false)]
    #[case("numeric", "numeric(10,2)", false)]
    #[case("text", "character varying(20)", true)]
    #[case("text", "character(20)", false)]
    #[case("timestamp without time zone", "timestamp(3) without time zone", false)]
    #[case("uuid", "text", true)]
    fn an_adopted_column_holds_every_value_or_is_refused(
        #[case] planned: &str,
        #[case] found: &str,
        #[case] expected: bool,
    ) {
        assert_eq!(holds(planned, "", found), expected);
    }

    #[test]
    fn types_that_other_servers_may_lack_become_text() {
        for name in ["integer[]", "character varying(3)[]", "bit(3)", "inet", "timestamp(3) with time zone[]"]
        {
            assert!(is_everywhere(name), "{name}");
        }
        for name in ["public.mood", "public.mood[]", "hstore", "citext"] {
            assert!(!is_everywhere(name), "{name}");
        }
    }

    #[test]
    fn names_keep_their_dots_and_quotes() {
        let dialect = PostgresDialect { schema: "mirror".into() };
        let odd = dialect.place(Some("a.b"), "c\"d");
        assert_eq!((odd.as_str(), relation(&odd).as_str()), ("\"a.b\".\"c\"\"d\"", "\"a.b\".\"c\"\"d\""));
        assert_eq!(dialect.place(None, "berths"), "mirror.berths");
        assert!(dialect.reserved(&dialect.place(None, &"x".repeat(64))).is_some());
    }
}

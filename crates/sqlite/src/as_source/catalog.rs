//! What a SQLite file declares: tables, columns, keys, unique indexes, and triggers that are in the way.

use crate::as_source::names::foreign_version;
use moorage_core::model::described::NamedTable;
use moorage_core::model::described::{LogIdentity, SourceColumn, SourceTable, TableKind};
use moorage_core::model::finding::Fix;
use moorage_core::model::sql::quote_ident;
use moorage_core::{Column, LogicalType, TableName};
use rusqlite::Connection;
use std::collections::{BTreeMap, BTreeSet, HashMap};

type Sql<T> = rusqlite::Result<T>;

/// The schema that tables of the file itself are in.
pub(crate) const SCHEMA: &str = "main";

/// All tables but SQLite's own and ours.
pub(crate) fn discover(db: &Connection) -> Sql<Vec<SourceTable>> {
    let mut query = db.prepare(
        "SELECT name, type, wr FROM pragma_table_list
         WHERE schema = 'main' AND type IN ('table', 'virtual', 'shadow') AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\'
           AND name NOT LIKE 'moorage\\_%' ESCAPE '\\' ORDER BY name",
    )?;
    let listed: Vec<(String, String, bool)> =
        query.query_map([], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?.collect::<Sql<_>>()?;
    let version = foreign_version(db)?;
    let known = Known {
        version,
        loops: writes_itself(db)?,
        structures: structures(db)?,
        expressions: expression_indexes(db)?,
        sizes: sizes(db)?,
    };
    let written = written_by_pipelines(db)?;
    listed
        .into_iter()
        .map(|(name, kind, without_rowid)| {
            let written_by = written.get(&name.to_ascii_lowercase()).cloned();
            Ok(SourceTable { written_by, ..table(db, name, &kind, without_rowid, &known)? })
        })
        .collect()
}

/// Their names.
pub(crate) fn table_names(db: &Connection) -> Sql<Vec<NamedTable>> {
    let mut query = db.prepare(
        "SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' AND name NOT LIKE 'moorage\\_%' ESCAPE '\\'",
    )?;
    query
        .query_map([], |r| {
            Ok(NamedTable { name: TableName::new(SCHEMA, r.get::<_, String>(0)?), root: None })
        })?
        .collect()
}

/// Sizes are only told of files up to this size: every page is visited.
const SIZED_FILE: u64 = 256 << 20;

/// How many bytes each table takes (<https://www.sqlite.org/dbstat.html>).
fn sizes(db: &Connection) -> Sql<HashMap<String, u64>> {
    let pages = "SELECT page_count * page_size FROM pragma_page_count, pragma_page_size";
    if db.query_row(pages, [], |r| r.get::<_, u64>(0))? > SIZED_FILE {
        return Ok(HashMap::new());
    }
    let mut query = db.prepare("SELECT name, pgsize FROM dbstat WHERE aggregate = TRUE")?;
    query.query_map([], |r| Ok((r.get(0)?, r.get(1)?)))?.collect()
}

/// What was read of all tables at once.
struct Known {
    version: i64,
    loops: BTreeMap<String, String>,
    structures: HashMap<String, Structure>,
    expressions: HashMap<String, String>,
    sizes: HashMap<String, u64>,
}

/// The tables of this file that pipelines write, with the pipeline.
fn written_by_pipelines(db: &Connection) -> Sql<BTreeMap<String, String>> {
    let is_target = "SELECT count(*) FROM sqlite_schema WHERE type = 'table' AND name = 'moorage_tables'";
    if db.query_row(is_target, [], |r| r.get::<_, i64>(0))? == 0 {
        return Ok(BTreeMap::new());
    }
    let mut query = db.prepare(
        "SELECT lower(coalesce(json_extract(plan, '$.gathered.into'), target)), pipeline FROM moorage_tables",
    )?;
    query.query_map([], |r| Ok((r.get(0)?, r.get(1)?)))?.collect()
}

fn table(db: &Connection, name: String, kind: &str, without_rowid: bool, known: &Known) -> Sql<SourceTable> {
    let (columns, key) = known.structures.get(&name).cloned().unwrap_or_default();
    let refused = match kind {
        "virtual" => Some("a virtual table has no triggers, so its changes cannot be captured".to_string()),
        "shadow" => Some("it belongs to a virtual table, whose changes cannot be captured".to_string()),
        _ if without_rowid => Some(
            "it is declared WITHOUT ROWID: replaced rows could not be told from kept ones. Make it an ordinary table (CREATE TABLE … AS, then rename)".into(),
        ),
        _ if columns.len() > 900 => Some("it has more than 900 columns, too many for the change table".into()),
        _ => known.loops.get(&name.to_ascii_lowercase()).map(|by| {
            format!(
                "{by} changes the table it fires for, so the order of captured images would be a guess. Drop it, or exclude the table"
            )
        }),
    };
    let refused = match refused {
        None => known.expressions.get(&name).map(|index| {
            format!("unique index {index} is over an expression: rows replaced through it could not be captured. Drop the index, or exclude the table")
        }),
        some => some,
    };
    let row_estimate = match kind {
        "table" if !without_rowid => Some(row_estimate(db, &name)?),
        _ => None,
    };
    let bytes = known.sizes.get(&name).copied();
    let mut bound: Vec<String> = match &key {
        None => columns.iter().map(|c| c.column.name.clone()).collect(),
        Some(_) => unique_indexes(db, &name)?.into_iter().flat_map(|u| u.columns).map(|(c, _)| c).collect(),
    };
    // A key's columns are never dropped.
    bound.retain(|column| key.as_ref().is_none_or(|key| !key.contains(column)));
    Ok(SourceTable {
        name: TableName::new(SCHEMA, name),
        kind: TableKind::Table,
        id: 0,
        columns,
        identity: LogIdentity::Full { key },
        identity_word: "whole, by trigger",
        row_estimate,
        bytes,
        refused: refused.map(Into::into),
        whole_rows: Fix::none(),
        written_by: None,
        uncaptured: None,
        written_from: None,
        bound,
        state: known.version.to_string(),
        comment: None,
        note: None,
        part_of: None,
    })
}

/// The span of row numbers: exact for a table that was only added to.
fn row_estimate(db: &Connection, table: &str) -> Sql<u64> {
    let table = quote_ident(table);
    let sql = format!(
        "SELECT coalesce((SELECT max(rowid) FROM {table}) - (SELECT min(rowid) FROM {table}) + 1, 0)"
    );
    let span: i64 = db.query_row(&sql, [], |r| r.get(0)).unwrap_or(0);
    Ok(span.max(0) as u64)
}

/// A table's columns, and its primary key if it can tell rows apart.
type Structure = (Vec<SourceColumn>, Option<Vec<String>>);

/// A key's columns while they are collected: place in the key, name, not null, declared type.
type KeyColumns = Vec<(i64, String, bool, String)>;

/// The columns of all tables, and the primary key if its columns can never be null: SQLite lets other than
/// integer keys be null (<https://www.sqlite.org/lang_createtable.html>, section 3.5).
fn structures(db: &Connection) -> Sql<HashMap<String, Structure>> {
    let mut query = db.prepare(
        "SELECT x.name, x.type, x.\"notnull\", x.pk, x.hidden, t.name FROM pragma_table_list t JOIN pragma_table_xinfo(t.name) x
         WHERE t.schema = 'main' AND t.type <> 'view' ORDER BY t.name, x.cid",
    )?;
    let mut rows = query.query([])?;
    let mut all: HashMap<String, (Vec<SourceColumn>, KeyColumns)> = HashMap::new();
    while let Some(r) = rows.next()? {
        let (name, declared, not_null): (String, String, bool) = (r.get(0)?, r.get(1)?, r.get(2)?);
        let (pk, hidden): (i64, i64) = (r.get(3)?, r.get(4)?);
        let (columns, key) = all.entry(r.get(5)?).or_default();
        if pk > 0 {
            key.push((pk, name.clone(), not_null, declared.clone()));
        }
        let refused = declared.is_empty().then(|| {
            "it is declared without a type, so nothing says what its values mean. Declare a type for it"
                .to_string()
        });
        let column = Column { name, logical: logical(&declared), source_type: declared, nullable: !not_null };
        columns.push(SourceColumn {
            // As long as the table is not followed, its place will do.
            number: u32::try_from(columns.len() + 1).ok(),
            generated: hidden >= 2,
            refused,
            ..SourceColumn::of(column)
        });
    }
    Ok(all.into_iter().map(|(name, (columns, key))| (name, (columns, usable_key(key)))).collect())
}

/// One table's primary key, as [`structures`] has it.
pub(crate) fn usable_key_of(db: &Connection, table: &str) -> Sql<Option<Vec<String>>> {
    let mut query = db.prepare_cached(
        "SELECT pk, name, \"notnull\", type FROM pragma_table_xinfo(?1) WHERE pk > 0 ORDER BY pk",
    )?;
    let key = query.query_map([table], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?)))?;
    Ok(usable_key(key.collect::<Sql<KeyColumns>>()?))
}

fn usable_key(mut key: KeyColumns) -> Option<Vec<String>> {
    key.sort();
    let is_row_number =
        matches!(key.as_slice(), [(.., declared)] if declared.eq_ignore_ascii_case("INTEGER"));
    let usable = !key.is_empty() && (is_row_number || key.iter().all(|k| k.2));
    usable.then(|| key.into_iter().map(|k| k.1).collect())
}

/// What a declared type means. Words that name a type exactly count first, then SQLite's own rules
/// (<https://www.sqlite.org/datatype3.html>, section 3.1), and the rest travels as text.
pub(crate) fn logical(declared: &str) -> LogicalType {
    let upper = declared.trim().to_ascii_uppercase();
    let (word, arguments) = match upper.split_once('(') {
        Some((word, rest)) => (word.trim().to_string(), numbers(rest)),
        None => (upper.clone(), Vec::new()),
    };
    match word.as_str() {
        "BOOLEAN" | "BOOL" => LogicalType::Bool,
        "DATE" => LogicalType::Date,
        "TIME" => LogicalType::Time,
        "DATETIME" | "TIMESTAMP" => LogicalType::Timestamp,
        "TIMESTAMPTZ" | "TIMESTAMP WITH TIME ZONE" => LogicalType::TimestampTz,
        "JSON" | "JSONB" => LogicalType::Json,
        "UUID" => LogicalType::Uuid,
        "DECIMAL" | "NUMERIC" => LogicalType::Decimal {
            precision: arguments.first().map(|p| (*p).max(1) as u32),
            scale: arguments.first().map(|_| arguments.get(1).copied().unwrap_or(0) as i32),
        },
        "INTERVAL" | "POINT" => LogicalType::Other { name: declared.to_string() },
        w if w.contains("INT") => LogicalType::Int64,
        w if w.contains("CHAR") || w.contains("CLOB") || w.contains("TEXT") => LogicalType::Text,
        w if w.contains("BLOB") => LogicalType::Bytes,
        w if w.contains("REAL") || w.contains("FLOA") || w.contains("DOUB") => LogicalType::Float64,
        _ => LogicalType::Other { name: declared.to_string() },
    }
}

fn numbers(text: &str) -> Vec<i64> {
    text.trim_end_matches(')').split(',').filter_map(|n| n.trim().parse().ok()).collect()
}

/// A unique index of a table.
pub(crate) struct Unique {
    /// Its columns with their collations.
    pub(crate) columns: Vec<(String, String)>,
}

/// The unique indexes of a table, the primary key's too unless that is the row number itself.
pub(crate) fn unique_indexes(db: &Connection, table: &str) -> Sql<Vec<Unique>> {
    let mut query = db.prepare("SELECT name FROM pragma_index_list(?1) WHERE \"unique\" ORDER BY seq")?;
    let names: Vec<String> = query.query_map([table], |r| r.get(0))?.collect::<Sql<_>>()?;
    names
        .iter()
        .map(|name| Ok(Unique { columns: index_columns(db, name)?.into_iter().flatten().collect() }))
        .collect()
}

/// Columns of an index; `None` stands for an expression.
fn index_columns(db: &Connection, index: &str) -> Sql<Vec<Option<(String, String)>>> {
    let mut query =
        db.prepare("SELECT cid, name, coll FROM pragma_index_xinfo(?1) WHERE key ORDER BY seqno")?;
    let rows = query.query_map([index], |r| {
        let cid: i64 = r.get(0)?;
        if cid < 0 { Ok(None) } else { Ok(Some((r.get(1)?, r.get(2)?))) }
    })?;
    rows.collect()
}

/// Tables with a unique index over an expression, with the index.
fn expression_indexes(db: &Connection) -> Sql<HashMap<String, String>> {
    let mut query = db.prepare(
        "SELECT t.name, i.name FROM pragma_table_list t JOIN pragma_index_list(t.name) i JOIN pragma_index_xinfo(i.name) c
         WHERE t.schema = 'main' AND i.\"unique\" AND c.key AND c.cid < 0",
    )?;
    query.query_map([], |r| Ok((r.get(0)?, r.get(1)?)))?.collect()
}

/// Tables that a trigger of theirs changes, directly or through triggers of other tables, with words for what
/// begins it. Triggers of one event fire in no defined order, so an image captured beside such a trigger could be
/// older than one captured before it. A foreign key that is carried along with updates is such a trigger of the table
/// that it refers to, and fires before ours (<https://www.sqlite.org/foreignkeys.html>, section 4.3).
fn writes_itself(db: &Connection) -> Sql<BTreeMap<String, String>> {
    let mut query = db.prepare(
        "SELECT lower(tbl_name), name, coalesce(sql, '') FROM sqlite_schema
         WHERE type = 'trigger' AND name NOT LIKE 'moorage\\_%' ESCAPE '\\'",
    )?;
    let trigger = |r: &rusqlite::Row<'_>| {
        let (table, name, sql): (String, String, String) = (r.get(0)?, r.get(1)?, r.get(2)?);
        Ok((table, format!("trigger {name} of the database"), written(&sql)))
    };
    let mut edges: Vec<(String, String, BTreeSet<String>)> =
        query.query_map([], trigger)?.collect::<Sql<_>>()?;
    let mut query = db.prepare(
        "SELECT lower(f.\"table\"), t.name, f.on_update FROM pragma_table_list t JOIN pragma_foreign_key_list(t.name) f
         WHERE t.schema = 'main' AND f.on_update NOT IN ('NO ACTION', 'RESTRICT')",
    )?;
    let key = |r: &rusqlite::Row<'_>| {
        let (parent, child, action): (String, String, String) = (r.get(0)?, r.get(1)?, r.get(2)?);
        let words = format!("ON UPDATE {action} of a foreign key of table {child}");
        Ok((parent, words, BTreeSet::from([child.to_ascii_lowercase()])))
    };
    edges.extend(query.query_map([], key)?.collect::<Sql<Vec<_>>>()?);
    let mut found = BTreeMap::new();
    for (table, name, targets) in &edges {
        let mut reached: BTreeSet<&str> = targets.iter().map(String::as_str).collect();
        let mut waiting: Vec<&str> = reached.iter().copied().collect();
        while let Some(at) = waiting.pop() {
            for (_, _, next) in edges.iter().filter(|(t, ..)| t == at) {
                waiting.extend(next.iter().map(String::as_str).filter(|n| reached.insert(n)));
            }
        }
        if reached.contains(table.as_str()) {
            found.insert(table.to_string(), name.to_string());
        }
    }
    Ok(found)
}

/// The tables that the statements of a trigger write: the names behind INTO, UPDATE and FROM. A name that
/// is only read makes the answer too careful, never too bold.
fn written(sql: &str) -> BTreeSet<String> {
    let lower = sql.to_ascii_lowercase();
    // The head names the table itself; what it does stands behind BEGIN.
    let body = lower.split_once("begin").map_or(lower.as_str(), |(_, body)| body);
    let words: Vec<&str> = body
        .split(|c: char| c.is_whitespace() || "(),;".contains(c))
        .map(|w| w.trim_matches(|c| "\"`[]'".contains(c)))
        .filter(|w| !w.is_empty())
        .collect();
    let mut found = BTreeSet::new();
    for (i, word) in words.iter().enumerate() {
        let mut next = words[i + 1..].iter();
        let name = match *word {
            "into" => next.next(),
            "update" => {
                next.find(|w| !matches!(**w, "or" | "rollback" | "abort" | "replace" | "fail" | "ignore"))
            }
            "from" if i > 0 && words[i - 1] == "delete" => next.next(),
            _ => None,
        };
        found.extend(name.map(|n| n.trim_start_matches("main.").to_string()));
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_trigger_writes_is_found() {
        let sql = "CREATE TRIGGER t AFTER UPDATE ON a BEGIN UPDATE OR IGNORE \"b\" SET x = 1; INSERT INTO c(x) SELECT y FROM d; DELETE FROM [e]; END";
        assert_eq!(written(sql).into_iter().collect::<Vec<_>>(), ["b", "c", "e"]);
    }

    #[rstest::rstest]
    #[case("BIGINT", LogicalType::Int64)]
    #[case("varchar(20)", LogicalType::Text)]
    #[case("decimal(10, 2)", LogicalType::Decimal { precision: Some(10), scale: Some(2) })]
    #[case("NUMERIC", LogicalType::Decimal { precision: None, scale: None })]
    #[case("double precision", LogicalType::Float64)]
    #[case("DATETIME", LogicalType::Timestamp)]
    #[case("STRING", LogicalType::Other { name: "STRING".into() })]
    fn declared_types_have_a_meaning(#[case] declared: &str, #[case] expected: LogicalType) {
        assert_eq!(logical(declared), expected);
    }
}

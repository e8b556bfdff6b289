//! Reading the catalogue: tables, columns, identities.

use crate::as_source::structure::state::{ColumnState, State};
use crate::as_source::structure::types;
use crate::wire::connect::Session;
use crate::wire::types::{CatalogType, logical};
use crate::wire::written::{WRITTEN, WRITTEN_END};
use moorage_adapter::{GONE, Result};
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::model::described::{
    LogIdentity, NamedTable, SourceColumn, SourceTable, TableKind, place_of,
};
use moorage_core::model::finding::{Fix, Reason};
use moorage_core::model::gathered::PartOf;
use moorage_core::model::sql::quote_ident;
use moorage_core::plan::table::TablePlan;
use moorage_core::{Column, TableName, TableSchema};
use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use tokio_postgres::Row;

/// Everything with rows, or that looks like it. Partitioned tables hold no rows themselves: their partitions
/// are carried, so that truncating, detaching or dropping one is seen. Names that begin with `moorage_` are
/// our own and never picked. The size is the one of the last analysis: asking for the present one would
/// wait for whoever has locked the table.
const TABLES: &str = "
SELECT c.oid, n.nspname::text, c.relname::text, c.relpersistence::text, c.relreplident::text,
       c.reltuples::float8, c.relpages::bigint * current_setting('block_size')::bigint, c.relkind::text,
       coalesce(has_table_privilege(c.oid, 'SELECT') AND has_schema_privilege(n.oid, 'USAGE'), false),
       CASE WHEN has_schema_privilege(n.oid, 'USAGE') THEN row_security_active(c.oid) ELSE false END,
       (SELECT format('%s.%s', pn.nspname, p.relname) FROM pg_inherits i JOIN pg_class p ON p.oid = i.inhparent
          JOIN pg_namespace pn ON pn.oid = p.relnamespace WHERE i.inhrelid = c.oid AND c.relispartition),
       quote_ident(current_user), obj_description(c.oid, 'pg_class'), c.relfilenode, c.relnatts::int4,
       CASE WHEN c.relispartition THEN pg_partition_root(c.oid)::oid END
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'f', 'v', 'm') AND n.nspname <> 'information_schema'
  AND (n.nspname !~ '^pg_' OR c.relpersistence = 't') AND n.nspname !~ '^pg_toast'
  AND c.relname !~ '^moorage_' AND n.nspname !~ '^moorage_'
ORDER BY 2, 3";

/// Domains are resolved to what they are made from, in one go for all columns.
const COLUMNS: &str = "
WITH RECURSIVE step AS (
  SELECT oid AS domain, typbasetype AS base, typtypmod AS modifier FROM pg_type WHERE typtype = 'd'
  UNION ALL
  SELECT s.domain, t.typbasetype, t.typtypmod FROM step s JOIN pg_type t ON t.oid = s.base AND t.typtype = 'd'),
resolved AS (
  SELECT s.domain, s.base, s.modifier FROM step s JOIN pg_type b ON b.oid = s.base AND b.typtype <> 'd')
SELECT a.attrelid, a.attname::text, a.attnotnull, a.attgenerated <> '', format_type(a.atttypid, a.atttypmod),
       coalesce(r.base, t.oid),
       CASE WHEN r.domain IS NOT NULL THEN coalesce(nullif(r.modifier, -1), t.typtypmod) ELSE a.atttypmod END,
       a.attstorage <> 'p' AND c.relreplident <> 'f', col_description(a.attrelid, a.attnum),
       a.attnum::int4, a.atttypid, a.atttypmod, concat(a.xmin, ':', a.cmin),
       CASE WHEN a.atthasmissing THEN (a.attmissingval::text::text[])[1] END,
       CASE WHEN a.attgenerated <> '' THEN (SELECT pg_get_expr(d.adbin, d.adrelid) FROM pg_attrdef d WHERE d.adrelid = a.attrelid AND d.adnum = a.attnum) END
FROM pg_attribute a
JOIN pg_class c ON c.oid = a.attrelid AND c.relkind IN ('r', 'p', 'f', 'v', 'm')
JOIN pg_namespace n ON n.oid = c.relnamespace AND n.nspname <> 'information_schema'
  AND (n.nspname !~ '^pg_' OR c.relpersistence = 't') AND n.nspname !~ '^pg_toast'
JOIN pg_type t ON t.oid = a.atttypid
LEFT JOIN resolved r ON r.domain = t.oid
WHERE a.attnum > 0 AND NOT a.attisdropped
ORDER BY a.attrelid, a.attnum";

/// Indexes that can tell rows apart: the primary key and the replica identity. One that is checked only
/// at commit cannot.
const KEYS: &str = "
SELECT i.indrelid, i.indisprimary, i.indisreplident, i.indimmediate,
       ARRAY(SELECT a.attname::text FROM unnest(i.indkey::int2[]) WITH ORDINALITY k(attnum, place)
             JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.attnum
             WHERE k.place <= i.indnkeyatts ORDER BY k.place)
FROM pg_index i WHERE (i.indisprimary OR i.indisreplident) AND i.indisvalid";

/// Who says which row a change is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum IdentityBy {
    /// The log, by the table's replica identity.
    Log,
    /// A trigger, which always has the whole old row.
    Trigger,
}

/// Structure changes since the plans were made.
pub(crate) fn drifted(found: &[SourceTable], plans: &[TablePlan]) -> Vec<(Arc<TableSchema>, String)> {
    let mut drifted = Vec::new();
    for plan in plans {
        // It is the same one whatever it is called.
        let by_number = found.iter().find(|t| t.id == plan.source_id);
        let what = match by_number.or_else(|| found.iter().find(|t| t.name == *plan.table())) {
            None => Some(GONE.to_string()),
            Some(t) if by_number.is_some() && t.name != *plan.table() => {
                Some(format!("it is called {} now", t.name))
            }
            Some(t) => plan
                .what_changed(t, "its key, its replica identity or a column that is not carried was changed"),
        };
        drifted.extend(what.map(|what| (plan.schema.clone(), what)));
    }
    drifted
}

struct Index {
    primary: bool,
    identity: bool,
    immediate: bool,
    columns: Vec<String>,
}

/// A table with what the catalogue knows of its structure beyond what others ask for.
#[derive(Clone, Debug)]
pub(crate) struct Described {
    pub(crate) table: SourceTable,
    pub(crate) state: State,
    /// By number, the values that rows have which are older than a column (`attmissingval`, while `atthasmissing`).
    pub(crate) given: HashMap<u32, String>,
}

/// A table's columns, with what else is known of them.
type Columns = (Vec<SourceColumn>, State, HashMap<u32, String>);

/// All tables that are not the system's own.
pub(crate) async fn discover(session: &Session, by: IdentityBy) -> Result<Vec<SourceTable>> {
    Ok(describe(session, by).await?.into_iter().map(|d| d.table).collect())
}

/// Their names.
pub(crate) async fn table_names(session: &Session) -> Result<Vec<NamedTable>> {
    let sql = "SELECT n.nspname::text, c.relname::text, rn.nspname::text, r.relname::text
               FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
               LEFT JOIN pg_class r ON c.relispartition AND r.oid = pg_partition_root(c.oid)
               LEFT JOIN pg_namespace rn ON rn.oid = r.relnamespace
               WHERE c.relkind IN ('r', 'p') AND c.relpersistence <> 't' AND n.nspname <> 'information_schema' AND n.nspname !~ '^pg_'
                 AND c.relname !~ '^moorage_' AND n.nspname !~ '^moorage_'";
    let rows = session.rows("reading the names of tables", sql, &[]).await?;
    let named = |row: &Row, at: usize| {
        let (schema, name): (Option<String>, Option<String>) = (row.get(at), row.get(at + 1));
        Some(TableName::new(schema?, name?))
    };
    let table = |row: &Row| Some(NamedTable { name: named(row, 0)?, root: named(row, 2) });
    Ok(rows.iter().filter_map(table).collect())
}

/// The same with their states.
pub(crate) async fn describe(session: &Session, by: IdentityBy) -> Result<Vec<Described>> {
    let types = types::types(session, None).await?;
    let mut columns: HashMap<u32, Columns> = HashMap::new();
    for row in session.rows("reading the columns of all tables", COLUMNS, &[]).await? {
        let (columns, state, given) = columns.entry(row.get(0)).or_default();
        let column = source_column(&row, by);
        let number = number(&row);
        given.extend(row.get::<_, Option<String>>(13).map(|value| (number, value)));
        state.columns.push(ColumnState {
            number,
            name: column.column.name.clone(),
            type_id: row.get(10),
            modifier: row.get(11),
            generated: column.generated,
            touched: Some(row.get(12)),
            made: types.get(&row.get::<_, u32>(10)).cloned().unwrap_or_default(),
        });
        columns.push(column);
    }
    let mut indexes: HashMap<u32, Vec<Index>> = HashMap::new();
    for row in session.rows("reading keys", KEYS, &[]).await? {
        let index =
            Index { primary: row.get(1), identity: row.get(2), immediate: row.get(3), columns: row.get(4) };
        indexes.entry(row.get(0)).or_default().push(index);
    }
    let is_primary = |(id, of): (&u32, &Vec<Index>)| {
        let primary = of.iter().find(|index| index.primary && index.immediate)?;
        Some((*id, primary.columns.iter().cloned().collect()))
    };
    let primary_keys: HashMap<u32, HashSet<String>> = indexes.iter().filter_map(is_primary).collect();
    let written = written_by_pipelines(session).await?;
    let tables = session.rows("reading the list of tables", TABLES, &[]).await?;
    let table = |row: &Row| {
        let id: u32 = row.get(0);
        let (columns, mut state, given) = columns.remove(&id).unwrap_or_default();
        let indexes = indexes.remove(&id).unwrap_or_default();
        (state.storage, state.count) = (row.get(13), row.get::<_, i32>(14).unsigned_abs());
        let mut table = source_table(row, columns, &indexes, by);
        // Whoever may not read what pipelines remember still reads what they say of their tables.
        let comment: Option<String> = row.get(12);
        let said = comment.as_deref().and_then(|c| {
            let (_, said) = c.rsplit_once(WRITTEN)?;
            said.split_once(WRITTEN_END)
        });
        table.written_by = said.map(|(pipeline, _)| pipeline.to_string());
        table.comment = comment.clone();
        if let Some((pipeline, from)) = written.get(&table.name.to_string()) {
            (table.written_by, table.written_from) = (Some(pipeline.clone()), Some(from.clone()));
        }
        table.state = state.text();
        Described { table, state, given }
    };
    let mut described: Vec<Described> = tables.iter().map(table).collect();
    let names: HashMap<u64, TableName> =
        described.iter().map(|d| (d.table.id, d.table.name.clone())).collect();
    for (described, row) in described.iter_mut().zip(&tables) {
        let Some(root) = row.get::<_, Option<u32>>(15) else { continue };
        let key: Option<HashSet<String>> = match &described.table.identity {
            LogIdentity::Key(key) | LogIdentity::Full { key: Some(key) } => {
                Some(key.iter().cloned().collect())
            }
            LogIdentity::Full { key: None } | LogIdentity::None(_) => None,
        };
        // A key of a partitioned table holds in all partitions together (PostgreSQL manual, section 5.12.2.3).
        let is_keyed = key.is_some() && key.as_ref() == primary_keys.get(&root);
        let id = u64::from(root);
        let root = names.get(&id).cloned();
        described.table.part_of = root.map(|root| PartOf { root, id, is_keyed, apart: false });
    }
    Ok(described)
}

/// The tables that pipelines write here, as far as the user may know: pipeline and origin.
async fn written_by_pipelines(session: &Session) -> Result<HashMap<String, (String, String)>> {
    // Both look at the catalogue alone; the tables themselves are only read where that is allowed.
    let sql = "SELECT coalesce(bool_and(has_schema_privilege(n.oid, 'USAGE') AND has_table_privilege(c.oid, 'SELECT')), false)
               FROM pg_namespace n JOIN pg_class c ON c.relnamespace = n.oid AND c.relname IN ('tables', 'checkpoints')
               WHERE n.nspname = 'moorage_state'";
    if !session.one("looking for pipelines that write here", sql, &[]).await?.get::<_, bool>(0) {
        return Ok(HashMap::new());
    }
    let sql = "SELECT coalesce(t.plan::json #>> '{gathered,into}', t.target), t.pipeline, t.source_table, c.checkpoint FROM moorage_state.tables t
               LEFT JOIN moorage_state.checkpoints c USING (pipeline)";
    let rows = session.rows("looking for pipelines that write here", sql, &[]).await?;
    let origin = |row: &Row| {
        let checkpoint: Option<String> = row.get(3);
        let checkpoint: Option<Checkpoint> = checkpoint.and_then(|c| serde_json::from_str(&c).ok());
        checkpoint.map_or_else(String::new, |c| place_of(&c.identity, row.get(2)))
    };
    Ok(rows.iter().map(|r| (r.get(0), (r.get(1), origin(r)))).collect())
}

fn number(row: &Row) -> u32 {
    row.get::<_, i32>(9).unsigned_abs()
}

fn source_column(row: &Row, by: IdentityBy) -> SourceColumn {
    let source_type: String = row.get(4);
    let logical = logical(&CatalogType { id: row.get(5), modifier: row.get(6), name: &source_type });
    let column = Column { name: row.get(1), logical, source_type, nullable: !row.get::<_, bool>(2) };
    let may_be_left_out = by == IdentityBy::Log && row.get(7);
    SourceColumn {
        number: Some(number(row)),
        generated: row.get(3),
        expression: row.get(14),
        may_be_left_out,
        comment: row.get(8),
        ..SourceColumn::of(column)
    }
}

fn kind(row: &Row) -> TableKind {
    let (persistence, kind): (String, String) = (row.get(3), row.get(7));
    match (persistence.as_str(), kind.as_str()) {
        ("t", _) => TableKind::Temporary,
        (_, "p") => TableKind::Partitioned,
        (_, "f") => TableKind::Foreign,
        (_, "v") => TableKind::View,
        (_, "m") => TableKind::MaterializedView,
        _ => TableKind::Table,
    }
}

/// Why a table cannot be carried, with the statements that change it.
fn refused(row: &Row, name: &TableName) -> Option<Reason> {
    let user: String = row.get(11);
    let (readable, hidden_rows): (bool, bool) = (row.get(8), row.get(9));
    let (schema, table) = (quote_ident(&name.schema), name.quoted());
    if !readable {
        let usage = format!("GRANT USAGE ON SCHEMA {schema} TO {user}");
        let select = format!("GRANT SELECT ON {table} TO {user}");
        Some(Reason::with("the user may not read it", [usage, select]))
    } else if hidden_rows {
        let why = "row-level security hides rows from the user";
        Some(Reason::with(why, [format!("ALTER ROLE {user} BYPASSRLS")]))
    } else {
        None
    }
}

/// Why a table's changes are not captured, with the statement that changes it.
fn uncaptured(row: &Row, name: &TableName) -> Option<Reason> {
    let why = "an unlogged table's changes are not in the log";
    let is_unlogged = row.get::<_, &str>(3) == "u";
    is_unlogged.then(|| Reason::with(why, [format!("ALTER TABLE {} SET LOGGED", name.quoted())]))
}

/// The statement that has the log carry whole rows of a table.
fn whole_rows(table: &TableName) -> String {
    format!("ALTER TABLE {} REPLICA IDENTITY FULL", table.quoted())
}

fn source_table(row: &Row, columns: Vec<SourceColumn>, indexes: &[Index], by: IdentityBy) -> SourceTable {
    let name = TableName::new(row.get::<_, String>(1), row.get::<_, String>(2));
    let identity: String = row.get(4);
    let estimate: f64 = row.get(5);
    let kind = kind(row);
    SourceTable {
        identity: match by {
            IdentityBy::Log => log_identity(&name, &identity, indexes),
            IdentityBy::Trigger => LogIdentity::Full {
                key: indexes.iter().find(|i| i.primary && i.immediate).map(|p| p.columns.clone()),
            },
        },
        identity_word: match (by, identity.as_str()) {
            (IdentityBy::Trigger, _) => "whole, by trigger",
            (_, "f") => "full",
            (_, "i") => "index",
            (_, "n") => "nothing",
            _ => "default",
        },
        refused: if kind == TableKind::Table { refused(row, &name) } else { None },
        uncaptured: if kind == TableKind::Table { uncaptured(row, &name) } else { None },
        whole_rows: match by {
            IdentityBy::Log => Fix::run([whole_rows(&name)]),
            IdentityBy::Trigger => Fix::none(),
        },
        name,
        kind,
        id: u64::from(row.get::<_, u32>(0)),
        columns,
        row_estimate: (estimate >= 0.0).then_some(estimate as u64),
        bytes: (estimate >= 0.0).then_some(row.get::<_, i64>(6).max(0) as u64),
        written_by: None,
        written_from: None,
        bound: Vec::new(),
        state: String::new(),
        comment: None,
        note: row.get::<_, Option<String>>(10).map(|root| format!("partition of {root}")),
        part_of: None,
    }
}

/// What the log says of rows, by `relreplident` (PostgreSQL manual, section 53.11).
fn log_identity(table: &TableName, setting: &str, indexes: &[Index]) -> LogIdentity {
    let primary = indexes.iter().find(|i| i.primary);
    let full = whole_rows(table);
    let none = |why: &str, fix: String| LogIdentity::None(Reason::with(why, [fix]));
    match (setting, primary) {
        ("f", primary) => {
            LogIdentity::Full { key: primary.filter(|p| p.immediate).map(|p| p.columns.clone()) }
        }
        ("i", _) => match indexes.iter().find(|i| i.identity) {
            Some(index) => LogIdentity::Key(index.columns.clone()),
            None => none("the index of its replica identity is gone", full),
        },
        ("n", Some(_)) => none(
            "its replica identity is nothing",
            format!("ALTER TABLE {} REPLICA IDENTITY DEFAULT", table.quoted()),
        ),
        ("n", None) => none("it has no key, and its replica identity is nothing", full),
        (_, Some(primary)) if primary.immediate => LogIdentity::Key(primary.columns.clone()),
        (_, Some(_)) => none("its primary key is deferrable, which does not count as an identity", full),
        (_, None) => none("it has no primary key", full),
    }
}

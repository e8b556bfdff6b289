//! What a stretch of the change table came to, by the keys that it touched.

use crate::as_source::following::Rows;
use crate::file::read::{Writer, push};
use moorage_core::TableSchema;
use moorage_core::change::kind::ChangeKind;
use moorage_core::model::sql::{quote_ident, quote_list};
use moorage_core::value::column::RowsBuilder;
use rusqlite::{Connection, OptionalExtension, Row, params};

type Sql<T> = rusqlite::Result<T>;

/// The changes of one table behind a number and up to another one.
pub(crate) struct Stretch<'a> {
    pub(crate) db: &'a Connection,
    /// The change table.
    pub(crate) changes: String,
    /// What the table is called there.
    pub(crate) tab: &'a str,
    /// Its key's columns.
    pub(crate) key: Vec<String>,
    pub(crate) from: i64,
    pub(crate) last: i64,
}

/// One key in sum.
pub(crate) struct Net {
    /// Whether there was a row with the key before the stretch.
    existed: bool,
    /// Whether something happened to it for sure.
    is_sure: bool,
    /// Whether the table has a row with the key.
    exists: bool,
    /// The number of the last change that touched it.
    pub(crate) last: i64,
    /// The newest time, as a Julian day.
    pub(crate) at: f64,
}

impl Net {
    /// How many columns stand in front of key and row.
    pub(crate) const COLUMNS: usize = 5;

    pub(crate) fn read(row: &Row<'_>) -> Sql<Self> {
        Ok(Self {
            existed: row.get(0)?,
            is_sure: row.get(1)?,
            exists: row.get(2)?,
            last: row.get(3)?,
            at: row.get(4)?,
        })
    }

    /// Whether there was a row with the key in the midst of the stretch, and neither before nor behind it.
    pub(crate) fn is_fleeting(&self) -> bool {
        !self.existed && !self.exists
    }

    /// What it was in sum; none if nothing came of it.
    pub(crate) fn kind(&self) -> Option<ChangeKind> {
        match (self.existed, self.exists) {
            (true, true) => self.is_sure.then_some(ChangeKind::Update),
            (false, true) => Some(ChangeKind::Insert),
            (true, false) => Some(ChangeKind::Delete),
            (false, false) => None,
        }
    }
}

impl Stretch<'_> {
    fn names(&self) -> Vec<String> {
        (1..=self.key.len()).map(|k| format!("k{k}")).collect()
    }

    /// The keys that were touched, with the change that touched them: `k1, …, id, at, kind, is_new`, for parameters `from`,
    /// `last` and table. `is_new` says that the row had the key only behind that change.
    fn events(&self) -> String {
        let of = |letter: &str, is_new: u8, kinds: &str| {
            let keys = (1..=self.key.len()).map(|k| format!("{letter}{k} AS k{k}")).collect::<Vec<_>>();
            format!(
                "SELECT {}, id, at, kind, {is_new} AS is_new FROM {} WHERE id > ?1 AND id <= ?2 AND tab = ?3 AND kind IN ({kinds})",
                keys.join(", "),
                self.changes
            )
        };
        format!("{} UNION ALL {}", of("o", 0, "'u', 'd', 'm'"), of("n", 1, "'i', 'u'"))
    }

    /// For each key that was touched a row: what [`Net`] reads, the key, and the table's row, whose values are to be read only
    /// if it is there. A key is one value, bit by bit, whatever the table's collation takes for equal.
    pub(crate) fn net(&self, schema: &TableSchema, order: &str) -> String {
        let names = self.names().join(", ");
        let on = self.key.iter().enumerate().map(|(at, name)| {
            let (column, key) = (format!("t.{}", quote_ident(name)), format!("touched.k{}", at + 1));
            format!("{column} = {key} AND {column} COLLATE BINARY IS {key}")
        });
        let columns = schema.columns.iter().map(|c| format!("t.{}", quote_ident(&c.name)));
        let keys = (1..=self.key.len()).map(|k| format!("touched.k{k}"));
        let first = self.key.first().map(|name| quote_ident(name)).unwrap_or_default();
        format!(
            "WITH touched AS (SELECT {names}, min(id * 2 + is_new) % 2 = 0 AS existed, max(kind <> 'm') AS is_sure, max(id) AS last, max(at) AS at
               FROM ({}) GROUP BY {names})
             SELECT touched.existed, touched.is_sure, t.{first} IS NOT NULL, touched.last, touched.at, {}, {} FROM touched LEFT JOIN {} t ON {}{order}",
            self.events(),
            keys.collect::<Vec<_>>().join(", "),
            columns.collect::<Vec<_>>().join(", "),
            quote_ident(&schema.table.name),
            on.collect::<Vec<_>>().join(" AND ")
        )
    }

    /// The table's rows that nothing touched, as a condition.
    fn untouched(&self) -> String {
        let key = quote_list(self.key.iter().map(String::as_str));
        format!("({key}) NOT IN (SELECT {} FROM ({}))", self.names().join(", "), self.events())
    }
}

/// The rows of a table that a stretch does not touch.
pub(crate) struct Untouched<'a> {
    pub(crate) stretch: Stretch<'a>,
    /// What the table is called.
    pub(crate) table: String,
}

/// So many rows are looked at for two different values.
const SOME_ROWS: u32 = 100_000;

impl Rows for Untouched<'_> {
    fn differ(&self, column: &str) -> Sql<bool> {
        let (table, column) = (quote_ident(&self.table), quote_ident(column));
        let Stretch { from, last, tab, .. } = &self.stretch;
        let sql = format!(
            "SELECT count(*) > 1 FROM (SELECT DISTINCT typeof(v), v FROM (SELECT {column} AS v FROM {table} WHERE {} LIMIT {SOME_ROWS}) LIMIT 2)",
            self.stretch.untouched()
        );
        self.stretch.db.query_row(&sql, params![from, last, tab], |r| r.get(0))
    }

    fn one(&self, row: &mut RowsBuilder, places: &[usize]) -> Sql<Result<bool, String>> {
        let schema = row.schema().clone();
        let columns = quote_list(places.iter().map(|at| schema.columns[*at].name.as_str()));
        let Stretch { from, last, tab, .. } = &self.stretch;
        let sql = format!(
            "SELECT {columns} FROM {} WHERE {} LIMIT 1",
            quote_ident(&self.table),
            self.stretch.untouched()
        );
        let mut query = self.stretch.db.prepare(&sql)?;
        let pushed = query.query_row(params![from, last, tab], |found| {
            for (at, column) in schema.columns.iter().enumerate() {
                let builder = &mut row.columns[at];
                let Some(place) = places.iter().position(|p| *p == at) else {
                    builder.push_null();
                    continue;
                };
                if let Err(what) = push(builder, &column.logical, found.get_ref(place)?, Writer::Application)
                {
                    return Ok(Err(format!("column {}: {what}", column.name)));
                }
            }
            Ok(Ok(true))
        });
        Ok(pushed.optional()?.unwrap_or(Ok(false)))
    }
}

/// A table of which no column can have been dropped, because triggers name them all.
pub(crate) struct AllKept;

impl Rows for AllKept {
    fn differ(&self, _: &str) -> Sql<bool> {
        Ok(true)
    }

    fn one(&self, _: &mut RowsBuilder, _: &[usize]) -> Sql<Result<bool, String>> {
        Ok(Ok(false))
    }
}

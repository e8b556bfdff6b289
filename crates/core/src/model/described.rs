//! What a source says of itself and of its tables.

use crate::model::finding::{Fix, Reason};
use crate::model::gathered::PartOf;
use crate::model::name::TableName;
use crate::model::schema::{Column, RowIdentity, TableSchema};
use crate::model::sql::quote_ident;
use serde::{Deserialize, Serialize};

/// Which database system and database a position belongs to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SourceIdentity {
    /// The kind of system, such as `postgres`.
    pub kind: String,
    /// What the system calls itself, unique for each newly made one and kept by copies of it.
    pub system: String,
    /// The database in it, with whatever tells a new one of the same name apart.
    pub database: String,
    /// The branch of its history; a failover or a restore to a point in time starts a new one.
    pub timeline: String,
}

/// What a source's log says about which row was updated or deleted.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum LogIdentity {
    /// The values of these columns, unique and not null.
    Key(Vec<String>),
    /// The whole old row; `key` is the catalogue's key, if it has one that is checked at once.
    Full {
        /// The key's columns.
        key: Option<Vec<String>>,
    },
    /// Nothing.
    None(Reason),
}

impl LogIdentity {
    /// The form in which it is part of a table's fingerprint. Targets keep fingerprints: it never changes.
    fn text(&self) -> String {
        let list = |names: &[String]| {
            let quoted: Vec<String> = names.iter().map(|name| format!("{name:?}")).collect();
            format!("[{}]", quoted.join(", "))
        };
        match self {
            Self::Key(names) => format!("Key({})", list(names)),
            Self::Full { key: Some(names) } => format!("Full {{ key: Some({}) }}", list(names)),
            Self::Full { key: None } => "Full { key: None }".into(),
            Self::None(_) => "None".into(),
        }
    }
}

/// A column as the source describes it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SourceColumn {
    /// The source's own number for it, which no other column of the table ever has, whatever either is called; none if the
    /// source does not number columns.
    pub number: Option<u32>,
    /// Name and type.
    pub column: Column,
    /// Computed by the source from other columns, and absent from its log.
    pub generated: bool,
    /// What it is computed by, as the source tells it, where it is: by the names that rules know the columns by.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expression: Option<String>,
    /// Why its values cannot be carried exactly, with the way out other than dropping it.
    pub refused: Option<String>,
    /// Whether the log may leave out its value where that is large and did not change.
    pub may_be_left_out: bool,
    /// What people wrote about it in the source.
    #[serde(skip)]
    pub comment: Option<String>,
    /// What rules of the project file call it: the name that it had when the table was first planned. None: its name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub known_as: Option<String>,
    /// What the target calls it where no rule says otherwise, because the policy is to leave its name. None: its name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub called: Option<String>,
    /// Whether it came while the table was followed, and the policy is to leave such columns.
    #[serde(default)]
    pub left: bool,
}

impl SourceColumn {
    /// A column of which nothing else is to be said.
    pub fn of(column: Column) -> Self {
        Self {
            number: None,
            column,
            generated: false,
            expression: None,
            refused: None,
            may_be_left_out: false,
            comment: None,
            known_as: None,
            called: None,
            left: false,
        }
    }
}

/// What a source's table is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum TableKind {
    /// Rows of its own, permanently.
    #[default]
    Table,
    /// Only a roof over partitions, which hold the rows.
    Partitioned,
    /// Rows that are elsewhere.
    Foreign,
    /// Rows of one session.
    Temporary,
    /// Rows that are made up from others when asked for.
    View,
    /// Rows that are made up from others now and then.
    MaterializedView,
}

impl TableKind {
    /// Why such a thing cannot be carried.
    pub fn why_not(self) -> Option<&'static str> {
        match self {
            Self::Table => None,
            Self::Partitioned => {
                Some("it is partitioned: its partitions hold the rows, and are carried one by one")
            }
            Self::Foreign => Some(
                "it is a foreign table: its rows are elsewhere, and so are their changes. Carry it from there",
            ),
            Self::Temporary => Some("it is temporary: its rows belong to one session and are not in the log"),
            Self::View => Some("it is a view: it has no rows of its own. Carry the tables it reads"),
            Self::MaterializedView => Some(
                "it is a materialized view: what refreshing it changes is not captured. Carry the tables it reads",
            ),
        }
    }
}

/// A table as the source lists it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NamedTable {
    /// Its name.
    pub name: TableName,
    /// The partitioned table that it is a part of.
    pub root: Option<TableName>,
}

impl NamedTable {
    /// Of one that is described.
    pub fn of(table: &SourceTable) -> Self {
        Self { name: table.name.clone(), root: table.part_of.as_ref().map(|part| part.root.clone()) }
    }
}

/// A table as the source describes it.
#[derive(Clone, Debug)]
pub struct SourceTable {
    /// Its name.
    pub name: TableName,
    /// What it is.
    pub kind: TableKind,
    /// The source's own number for it; another table of the same name has another one.
    pub id: u64,
    /// All columns.
    pub columns: Vec<SourceColumn>,
    /// What the log says about rows.
    pub identity: LogIdentity,
    /// The source's own word for that: `default`, `full`, `index`, `nothing`.
    pub identity_word: &'static str,
    /// About how many rows; `None` if the source does not know.
    pub row_estimate: Option<u64>,
    /// About its size in the source, in bytes, without indexes; `None` if the source does not know.
    pub bytes: Option<u64>,
    /// Why it cannot be carried at all, with the way out.
    pub refused: Option<Reason>,
    /// Why its changes are not captured as it is now, whoever asks, with the way out.
    pub uncaptured: Option<Reason>,
    /// What has the source's log carry whole rows: all old values, and large ones that did not change. None where it does
    /// so already.
    pub whole_rows: Fix,
    /// The pipeline that writes it, if it is a target of one: then no pattern picks it, only its full name.
    pub written_by: Option<String>,
    /// Where that pipeline takes its rows from: a text as [`place_of`] makes it.
    pub written_from: Option<String>,
    /// Columns that what captures its changes has to name: the application cannot drop them while it is captured.
    pub bound: Vec<String>,
    /// Worth knowing: a partition, for example.
    pub note: Option<String>,
    /// The partitioned table that it is a part of.
    pub part_of: Option<PartOf>,
    /// What people wrote about it in the source.
    pub comment: Option<String>,
    /// What else the source needs to tell this structure from a later one: its own text, empty if it needs nothing.
    pub state: String,
}

impl SourceColumn {
    /// What rules call it.
    pub fn ruled_as(&self) -> &str {
        self.known_as.as_deref().unwrap_or(&self.column.name)
    }
}

/// One text for a table of one database of one system, to know it again.
pub fn place_of(at: &SourceIdentity, table: &str) -> String {
    format!("{} {} {} {table}", at.kind, at.system, at.database)
}

impl SourceTable {
    /// Why no pattern picks it, so that only its full name does, if so; and the way out.
    pub fn not_by_pattern(&self) -> Option<String> {
        if let Some(pipeline) = &self.written_by {
            return Some(format!(
                "pipeline {pipeline} writes it: picked only by its full name, not by a pattern"
            ));
        }
        self.kind.why_not().map(str::to_string)
    }

    /// These of its columns, as changes of rows are handed on with them.
    pub fn of_columns(&self, is_among: impl Fn(&SourceColumn) -> bool) -> TableSchema {
        let columns: Vec<Column> =
            self.columns.iter().filter(|c| is_among(c)).map(|c| c.column.clone()).collect();
        let places = |names: &[String]| -> Option<Vec<usize>> {
            names.iter().map(|n| columns.iter().position(|c| c.name == *n)).collect()
        };
        let key = match &self.identity {
            LogIdentity::Key(key) | LogIdentity::Full { key: Some(key) } => places(key),
            LogIdentity::Full { key: None } | LogIdentity::None(_) => None,
        };
        let identity = key.map_or(RowIdentity::WholeRow, RowIdentity::Key);
        TableSchema { table: self.name.clone(), columns, identity }
    }

    /// A text that changes when the table's structure does: columns with types, identity, number.
    pub fn fingerprint(&self) -> String {
        let columns: Vec<String> = self
            .columns
            .iter()
            .map(|c| {
                format!(
                    "{} {}{}",
                    quote_ident(&c.column.name),
                    c.column.source_type,
                    if c.generated { " generated" } else { "" }
                )
            })
            .collect();
        format!("{}: {} ({})", self.id, columns.join(", "), self.identity.text())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::types::LogicalType;

    /// Targets keep these texts: one that reads otherwise would have every table of every pipeline drift.
    #[test]
    fn a_fingerprint_reads_as_it_always_did() {
        let column = |name: &str, source_type: &str, generated| SourceColumn {
            generated,
            ..SourceColumn::of(Column {
                name: name.into(),
                logical: LogicalType::Int64,
                source_type: source_type.into(),
                nullable: false,
            })
        };
        let print = |identity| {
            let columns = vec![column("id", "bigint", false), column("Grö\"ße", "numeric(10,2)", true)];
            let table = SourceTable {
                name: TableName::new("public", "berths"),
                kind: TableKind::Table,
                id: 16384,
                columns,
                identity,
                identity_word: "default",
                row_estimate: None,
                bytes: None,
                refused: None,
                whole_rows: Fix::none(),
                written_by: None,
                uncaptured: None,
                written_from: None,
                bound: Vec::new(),
                note: None,
                part_of: None,
                comment: None,
                state: String::new(),
            };
            table.fingerprint()
        };
        let columns = r#"16384: "id" bigint, "Grö""ße" numeric(10,2) generated"#;
        let names = || vec!["id".to_string(), "a\"b\u{e9}\u{1f6a4}\n".into()];
        assert_eq!(print(LogIdentity::Key(names())), format!(r#"{columns} (Key(["id", "a\"bé🚤\n"]))"#));
        let full = LogIdentity::Full { key: Some(names()) };
        assert_eq!(print(full), format!(r#"{columns} (Full {{ key: Some(["id", "a\"bé🚤\n"]) }})"#));
        assert_eq!(print(LogIdentity::Full { key: None }), format!("{columns} (Full {{ key: None }})"));
    }
}

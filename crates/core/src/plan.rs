//! The plan: what a run makes in the target for each picked table, and what it refuses.

use crate::checkpoint::SourceIdentity;
use crate::mapping::{Mapper, Mapping, Output};
use crate::naming::Naming;
use crate::pick::{Picker, TableRule};
use crate::project::{ExistingRows, Mismatch, OnReject, PipelineConfig};
use crate::schema::{Column, RowIdentity, TableName, TableSchema};
use crate::sql::quote_ident;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::sync::Arc;

/// What a source's log says about which row was updated or deleted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum LogIdentity {
    /// The values of these columns, unique and not null.
    Key(Vec<String>),
    /// The whole old row; `key` is the catalogue's key, if it has one that is checked at once.
    Full {
        /// The key's columns.
        key: Option<Vec<String>>,
    },
    /// Nothing.
    None {
        /// Why.
        why: String,
        /// The statement that changes it.
        fix: String,
    },
}

/// A column as the source describes it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SourceColumn {
    /// Name and type.
    pub column: Column,
    /// Computed by the source from other columns, and absent from its log.
    pub generated: bool,
    /// Why its values cannot be carried exactly, with the way out other than dropping it.
    pub refused: Option<String>,
    /// Whether the log may leave out its value where that is large and did not change.
    pub may_be_left_out: bool,
    /// What people wrote about it in the source.
    pub comment: Option<String>,
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
    pub refused: Option<String>,
    /// The pipeline that writes it, if it is a target of one: then no pattern picks it, only its full name.
    pub written_by: Option<String>,
    /// Where that pipeline takes its rows from: a text as [`place_of`] makes it.
    pub written_from: Option<String>,
    /// Worth knowing: a partition, for example.
    pub note: Option<String>,
    /// What people wrote about it in the source.
    pub comment: Option<String>,
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
        format!("{}: {} ({:?})", self.id, columns.join(", "), self.identity)
    }
}

/// How a target declares a column.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Declared {
    /// The type in its SQL.
    pub sql: String,
    /// What the user should know: what does not sort, or looks different.
    pub note: Option<String>,
}

/// What planning needs to know of a target.
pub trait TargetDialect {
    /// The declaration for a column's type.
    fn declare(&self, column: &Column, in_key: bool) -> Declared;
    /// The form of an identifier under which two that collide are equal.
    fn fold(&self, identifier: &str) -> String;
    /// Why a table may not have this name, if so: names that the target or Moorage keep for themselves.
    fn reserved(&self, table: &str) -> Option<String>;
    /// Why a column may not have this name, if so.
    fn reserved_column(&self, _column: &str) -> Option<String> {
        None
    }
    /// The full name of a target table, from the two parts that a naming rule gives. Where there are no schemas,
    /// a dot is part of the name.
    fn place(&self, schema: Option<&str>, table: &str) -> String {
        schema.map_or_else(|| table.into(), |schema| format!("{schema}.{table}"))
    }
}

/// A carried column.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlannedColumn {
    /// Its name in the target.
    pub name: String,
    /// How the target declares it.
    pub declared: Declared,
    /// What a conversion loses, if the project file asked for one that may.
    #[serde(default)]
    pub loses: Option<String>,
    /// What people wrote about it in the source.
    #[serde(default)]
    pub comment: Option<String>,
}

/// A table that will be carried. `columns`, the outputs of `mapping` and the columns of `mapped` correspond one
/// by one.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(from = "stored::StoredPlan")]
pub struct TablePlan {
    /// The source's structure, only the columns that are read.
    pub schema: Arc<TableSchema>,
    /// The target's structure, under the source table's name: what reaches the target has it.
    pub mapped: Arc<TableSchema>,
    /// How the one becomes the other.
    pub mapping: Mapping,
    /// The source's own number for the table.
    pub source_id: u64,
    /// The target table.
    pub target: String,
    /// Its columns.
    pub columns: Vec<PlannedColumn>,
    /// Columns of the source that are not carried, with the reason.
    pub left_out: Vec<(String, String)>,
    /// What to do with rows that were there before.
    pub existing_rows: Option<ExistingRowsChoice>,
    /// Statements, written by people, that make the target table instead of the ones Moorage would use.
    #[serde(default)]
    pub ddl: Option<String>,
    /// What becomes of a change that the target refuses.
    #[serde(default)]
    pub on_reject: OnReject,
    /// What becomes of a change whose row the target holds otherwise.
    #[serde(default)]
    pub mismatch: Mismatch,
    /// What people wrote about the table in the source.
    #[serde(default)]
    pub comment: Option<String>,
    /// The structure this plan was made from.
    pub fingerprint: String,
}

/// [`ExistingRows`] as it is stored.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ExistingRowsChoice {
    /// Remove them first.
    Replace,
    /// Leave them.
    Keep,
}

impl TablePlan {
    /// The source table.
    pub fn table(&self) -> &TableName {
        &self.schema.table
    }

    /// Whether a table goes by this name: the source's or the target's.
    pub fn goes_by(&self, name: &str) -> bool {
        self.table().goes_by(name) || self.target == name
    }

    /// Whether both carry the same rows in the same way. What to do with existing rows, and the statements that
    /// make the table, only matter when it is made; what to do with refused changes only while merging.
    pub fn maps_like(&self, other: &Self) -> bool {
        let bare = |plan: &Self| Self {
            existing_rows: None,
            ddl: None,
            on_reject: OnReject::default(),
            mismatch: Mismatch::default(),
            comment: None,
            columns: plan.columns.iter().map(|c| PlannedColumn { comment: None, ..c.clone() }).collect(),
            ..plan.clone()
        };
        bare(self) == bare(other)
    }

    /// Where a target column comes from, for people: the source's column, or what the project file says.
    pub fn source_column(&self, at: usize) -> String {
        match &self.mapping.outputs[at] {
            Output::Column(c) | Output::Cast { column: c, .. } => self.schema.columns[*c].name.clone(),
            Output::Stamp { stamp, .. } => stamp.word().into(),
            Output::Constant(text) => format!("'{text}'"),
            Output::Expression(text) => text.clone(),
        }
    }

    /// The plan without columns that depend on when a change came: these cannot be compared.
    #[must_use]
    pub fn comparable(&self) -> Self {
        let keep: Vec<usize> =
            (0..self.columns.len()).filter(|&c| !self.mapping.outputs[c].is_of_change()).collect();
        if keep.len() == self.columns.len() {
            return self.clone();
        }
        let at = |old: &usize| keep.iter().position(|k| k == old).unwrap_or_default();
        let identity = match &self.mapped.identity {
            RowIdentity::Key(key) => RowIdentity::Key(key.iter().map(at).collect()),
            RowIdentity::DeclaredKey(key) => RowIdentity::DeclaredKey(key.iter().map(at).collect()),
            RowIdentity::WholeRow => RowIdentity::WholeRow,
        };
        let columns = keep.iter().map(|&c| self.mapped.columns[c].clone()).collect();
        let outputs = keep.iter().map(|&c| self.mapping.outputs[c].clone()).collect();
        Self {
            mapped: Arc::new(TableSchema { table: self.table().clone(), columns, identity }),
            mapping: Mapping { outputs, condition: self.mapping.condition.clone() },
            columns: keep.iter().map(|&c| self.columns[c].clone()).collect(),
            ..self.clone()
        }
    }

    /// A plan that reads all columns of a table as they are: for looking at it.
    pub fn as_it_is(table: &SourceTable) -> Self {
        let columns: Vec<Column> =
            table.columns.iter().filter(|c| !c.generated).map(|c| c.column.clone()).collect();
        let schema =
            Arc::new(TableSchema { table: table.name.clone(), columns, identity: RowIdentity::WholeRow });
        let declared = Declared { sql: String::new(), note: None };
        let column = |c: &Column| PlannedColumn {
            name: c.name.clone(),
            declared: declared.clone(),
            loses: None,
            comment: None,
        };
        Self {
            mapped: schema.clone(),
            mapping: Mapping::plain(schema.columns.len()),
            source_id: table.id,
            target: table.name.to_string(),
            columns: schema.columns.iter().map(column).collect(),
            left_out: Vec::new(),
            existing_rows: None,
            ddl: None,
            on_reject: OnReject::default(),
            mismatch: Mismatch::default(),
            comment: None,
            fingerprint: table.fingerprint(),
            schema,
        }
    }
}

/// A picked table that cannot be carried.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Refused {
    /// The table.
    pub table: TableName,
    /// Why, and the way out.
    pub why: String,
}

/// What a run would do.
#[derive(Clone, Debug, Default)]
pub struct Plan {
    /// Tables that will be carried.
    pub tables: Vec<TablePlan>,
    /// Picked tables that cannot be.
    pub refused: Vec<Refused>,
}

/// Plans a pipeline over the tables that a source has. Tables are planned in order of their names.
pub fn plan(config: &PipelineConfig, found: &[SourceTable], target: &dyn TargetDialect) -> Plan {
    let picker = Picker::new(config);
    let mut picked: Vec<&SourceTable> = found.iter().filter(|t| picker.takes(t)).collect();
    picked.sort_by(|a, b| a.name.cmp(&b.name));
    let mut plan = Plan::default();
    for table in picked {
        match plan_table(config, &picker.rule(&table.name), table, target) {
            Ok(planned) => plan.tables.push(planned),
            Err(why) => plan.refused.push(Refused { table: table.name.clone(), why }),
        }
    }
    refuse_collisions(&mut plan, target);
    plan
}

fn plan_table(
    config: &PipelineConfig,
    rule: &TableRule,
    table: &SourceTable,
    dialect: &dyn TargetDialect,
) -> Result<TablePlan, String> {
    if let Some(why) = table.kind.why_not() {
        return Err(why.into());
    }
    if let Some(why) = &table.refused {
        return Err(why.clone());
    }
    let mapped = columns::map(config, rule, table)?;
    let key = mapped.target.identity.key().unwrap_or(&[]);
    let names = mapped.target.columns.iter().zip(mapped.loses).enumerate();
    let planned: Vec<PlannedColumn> = names
        .map(|(i, (c, loses))| PlannedColumn {
            name: c.name.clone(),
            declared: dialect.declare(c, key.contains(&i)),
            loses,
            comment: table
                .columns
                .iter()
                .find(|s| s.column.name == mapped.origins[i])
                .and_then(|s| s.comment.clone()),
        })
        .collect();
    let mut seen = HashMap::new();
    for (at, column) in planned.iter().enumerate() {
        if let Some(why) = dialect.reserved_column(&column.name) {
            let origin = &mapped.origins[at];
            return Err(format!(
                "column {} cannot have this name in the target: {why}. Rename it with a rule: rename = {{ {origin} = \"…\" }}",
                column.name
            ));
        }
        if let Some(other) = seen.insert(dialect.fold(&column.name), at) {
            let origin = |i: usize| mapped.origins[i].clone();
            return Err(format!(
                "columns {} and {} would both be {} in the target; rename one with a rule: rename = {{ {} = \"…\" }}",
                origin(other),
                origin(at),
                column.name,
                origin(at)
            ));
        }
    }
    let into = rule.into.as_ref().unwrap_or(config.into.get_ref());
    let (schema, name) = Naming::parse(into)?.place(&table.name);
    if name.is_empty() || name.contains('\0') || schema.as_ref().is_some_and(String::is_empty) {
        return Err("the target table would have no name; change `into`".into());
    }
    let target = dialect.place(schema.as_deref(), &name);
    if let Some(why) = dialect.reserved(&target) {
        return Err(format!("the target table would be named {target}: {why}; change `into`"));
    }
    let plan = TablePlan {
        schema: Arc::new(mapped.read),
        mapped: Arc::new(mapped.target),
        mapping: mapped.mapping,
        source_id: table.id,
        target,
        columns: planned,
        left_out: mapped.left_out,
        existing_rows: rule.existing_rows.map(|e| match e {
            ExistingRows::Replace => ExistingRowsChoice::Replace,
            ExistingRows::Keep => ExistingRowsChoice::Keep,
        }),
        ddl: None,
        on_reject: rule.on_reject,
        mismatch: rule.mismatch,
        comment: table.comment.clone(),
        fingerprint: table.fingerprint(),
    };
    Mapper::new(&plan)?;
    Ok(plan)
}

/// Two tables that would share a target table are both refused.
fn refuse_collisions(plan: &mut Plan, dialect: &dyn TargetDialect) {
    let mut by_name: HashMap<String, Vec<TableName>> = HashMap::new();
    for table in &plan.tables {
        by_name.entry(dialect.fold(&table.target)).or_default().push(table.table().clone());
    }
    let (kept, colliding): (Vec<_>, Vec<_>) = std::mem::take(&mut plan.tables)
        .into_iter()
        .partition(|t| by_name[&dialect.fold(&t.target)].len() == 1);
    plan.tables = kept;
    for table in colliding {
        let others: Vec<String> = by_name[&dialect.fold(&table.target)]
            .iter()
            .filter(|n| *n != table.table())
            .map(ToString::to_string)
            .collect();
        plan.refused.push(Refused {
            table: table.table().clone(),
            why: format!(
                "its target table {} would be shared with {}; exclude one, or change `into`",
                table.target,
                others.join(", ")
            ),
        });
    }
}

mod columns;
mod stored;

#[cfg(test)]
pub(crate) mod tests;

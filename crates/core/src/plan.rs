//! The plan: what a run makes in the target for each picked table, and what it refuses.

use crate::pick::{Picker, TableRule};
use crate::project::{ExistingRows, PipelineConfig};
use crate::schema::{Column, RowIdentity, TableName, TableSchema};
use crate::sql::quote_ident;
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet};
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
}

/// A table as the source describes it.
#[derive(Clone, Debug)]
pub struct SourceTable {
    /// Its name.
    pub name: TableName,
    /// The source's own number for it; another table of the same name has another one.
    pub id: u64,
    /// All columns.
    pub columns: Vec<SourceColumn>,
    /// What the log says about rows.
    pub identity: LogIdentity,
    /// About how many rows; `None` if the source does not know.
    pub row_estimate: Option<u64>,
    /// About its size in the source, in bytes, without indexes; `None` if the source does not know.
    pub bytes: Option<u64>,
    /// Why it cannot be carried at all, with the way out.
    pub refused: Option<String>,
    /// The pipeline that writes it, if it is a target of one: then no pattern picks it, only its full name.
    pub written_by: Option<String>,
    /// Worth knowing: a partition, for example.
    pub note: Option<String>,
}

impl SourceTable {
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
}

/// A carried column.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlannedColumn {
    /// Its name in the target.
    pub name: String,
    /// How the target declares it.
    pub declared: Declared,
}

/// A table that will be carried. `columns` and the schema's columns correspond one by one.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct TablePlan {
    /// The source's structure, only the carried columns.
    pub schema: Arc<TableSchema>,
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

impl Picker {
    /// Whether a table is picked, given what the source says of it.
    pub fn takes(&self, table: &SourceTable) -> bool {
        match table.written_by {
            None => self.picks(&table.name),
            Some(_) => self.names(&table.name),
        }
    }
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
    if let Some(why) = &table.refused {
        return Err(why.clone());
    }
    check_rule_names(rule, table)?;
    let mut left_out = Vec::new();
    let mut columns = Vec::new();
    for source in &table.columns {
        let name = &source.column.name;
        if rule.drop.contains(name) {
            left_out.push((name.clone(), "dropped by a rule of the project file".to_string()));
        } else if source.generated {
            left_out.push((name.clone(), "generated: the source's log does not carry it".to_string()));
        } else if let Some(why) = &source.refused {
            return Err(format!("column {name}: {why}; or leave it out with a rule: drop = [\"{name}\"]"));
        } else {
            columns.push(source.column.clone());
        }
    }
    if columns.is_empty() {
        return Err("no column is left to carry".into());
    }
    let identity = row_identity(rule, table, &columns)?;
    let key = identity.key().unwrap_or(&[]);
    let planned: Vec<PlannedColumn> = columns
        .iter()
        .enumerate()
        .map(|(i, c)| PlannedColumn {
            name: rule.rename.get(&c.name).unwrap_or(&c.name).clone(),
            declared: dialect.declare(c, key.contains(&i)),
        })
        .collect();
    let mut seen = HashMap::new();
    for (column, to) in columns.iter().zip(&planned) {
        if let Some(other) = seen.insert(dialect.fold(&to.name), &column.name) {
            return Err(format!(
                "columns {other} and {} would both be {} in the target; rename one with a rule: rename = {{ {} = \"…\" }}",
                column.name, to.name, column.name
            ));
        }
    }
    let target = config.into.replace("{schema}", &table.name.schema).replace("{table}", &table.name.name);
    if let Some(why) = dialect.reserved(&target) {
        return Err(format!("the target table would be named {target}: {why}; change `into`"));
    }
    Ok(TablePlan {
        schema: Arc::new(TableSchema { table: table.name.clone(), columns, identity }),
        source_id: table.id,
        target,
        columns: planned,
        left_out,
        existing_rows: rule.existing_rows.map(|e| match e {
            ExistingRows::Replace => ExistingRowsChoice::Replace,
            ExistingRows::Keep => ExistingRowsChoice::Keep,
        }),
        fingerprint: table.fingerprint(),
    })
}

fn check_rule_names(rule: &TableRule, table: &SourceTable) -> Result<(), String> {
    let known: HashSet<&str> = table.columns.iter().map(|c| c.column.name.as_str()).collect();
    let named = rule.drop.iter().chain(rule.rename.keys()).chain(rule.key.iter().flatten());
    match named.into_iter().find(|n| !known.contains(n.as_str())) {
        Some(name) => {
            Err(format!("a rule of the project file names column {name}, which the table does not have"))
        }
        None => Ok(()),
    }
}

/// How rows are told apart:
///
/// | the log says | declared key | rows are told apart by |
/// |---|---|---|
/// | key | none | that key |
/// | key | given | refused: the catalogue's key counts |
/// | full row, catalogue has a key | none | the catalogue's key |
/// | full row | given | the declared key, checked |
/// | full row, no key | none | the whole row |
/// | nothing | any | refused: publishing would make the application's updates fail |
fn row_identity(rule: &TableRule, table: &SourceTable, columns: &[Column]) -> Result<RowIdentity, String> {
    let indexes = |names: &[String]| -> Result<Vec<usize>, String> {
        let index = |n: &String| {
            columns.iter().position(|c| c.name == *n).ok_or_else(|| {
                format!("key column {n} is not carried; a table's key must be, so take it out of `drop`")
            })
        };
        names.iter().map(index).collect()
    };
    match (&table.identity, &rule.key) {
        (LogIdentity::None { why, fix }, _) => Err(format!(
            "{why}: the log would not say which row was updated or deleted, and publishing the table would make the application's own updates and deletes fail. Run in the source: {fix}"
        )),
        (LogIdentity::Key(key), None) | (LogIdentity::Full { key: Some(key) }, None) => {
            indexes(key).map(RowIdentity::Key)
        }
        (LogIdentity::Key(key), Some(declared)) if same(key, declared) => indexes(key).map(RowIdentity::Key),
        (LogIdentity::Key(key), Some(_)) => Err(format!(
            "the project file declares a key, but the source's log identifies rows by ({}); take `key` out of the rule, or set REPLICA IDENTITY FULL",
            key.join(", ")
        )),
        (LogIdentity::Full { .. }, Some(declared)) if declared.is_empty() => {
            Err("the declared key has no columns".into())
        }
        (LogIdentity::Full { .. }, Some(declared)) => indexes(declared).map(RowIdentity::DeclaredKey),
        (LogIdentity::Full { key: None }, None) => {
            match table.columns.iter().any(|c| !c.generated && rule.drop.contains(&c.column.name)) {
                true => Err("columns are dropped by a rule, but rows are told apart by all columns; declare a `key` in the rule".into()),
                false => Ok(RowIdentity::WholeRow),
            }
        }
    }
}

fn same(a: &[String], b: &[String]) -> bool {
    a.iter().collect::<HashSet<_>>() == b.iter().collect::<HashSet<_>>()
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

#[cfg(test)]
mod tests;

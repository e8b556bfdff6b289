//! Which columns are read, and what becomes of them in the target.

use super::generated::with_generated;
use crate::expr::{Expr, with_names};
use crate::mapping::outputs::{Mapping, Output, Part};
use crate::model::described::{LogIdentity, SourceColumn, SourceTable};
use crate::model::finding::Reason;
use crate::model::gathered::Gathered;
use crate::model::kept_as::{Deletes, Keep, KeptAs, old_name};
use crate::model::near::near;
use crate::model::policy::{OnMisfit, Shape, Stamp};
use crate::model::schema::{Column, RowIdentity, TableSchema};
use crate::model::types::LogicalType;
use crate::pick::naming::Naming;
use crate::pick::rule::{Addition, Constant, TableRule};
use crate::project::config::PipelineConfig;
use crate::value::convert::{Conversion, conversion};
use std::collections::{HashMap, HashSet};

/// A table's columns on their way.
pub(super) struct MappedColumns {
    pub(super) read: TableSchema,
    pub(super) target: TableSchema,
    pub(super) mapping: Mapping,
    /// For each target column what a conversion loses.
    pub(super) loses: Vec<Option<String>>,
    /// For each target column what people know it by in the source or the project file.
    pub(super) origins: Vec<String>,
    pub(super) left_out: Vec<(String, String)>,
}

pub(super) fn map(
    config: &PipelineConfig,
    rule: &TableRule,
    table: &SourceTable,
    gathered: Option<&Gathered>,
) -> Result<MappedColumns, Reason> {
    check_names(rule, table)?;
    let mut left_out = Vec::new();
    let mut carried = Vec::new();
    let (mut readable, mut generated) = (Vec::new(), Vec::new());
    for source in &table.columns {
        let name = &source.column.name;
        let ruled_as = called_by(rule, source);
        let dropped = if rule.drop.iter().any(|n| n == ruled_as) {
            Some("dropped by a rule of the project file")
        } else if rule.only.as_ref().is_some_and(|only| !only.iter().any(|n| n == ruled_as)) {
            Some("not among the `only` columns of a rule")
        } else if source.left {
            Some("it came while the table was followed, and the policy for `column_added` is to leave it")
        } else {
            None
        };
        if source.generated {
            match dropped {
                Some(why) => left_out.push((name.clone(), why.to_string())),
                None => generated.push(source),
            }
            continue;
        }
        match (&source.refused, dropped) {
            (Some(why), None) => {
                let why = format!("column {name}: {why}; or leave it out with a rule: drop = [\"{name}\"]");
                return Err(why.into());
            }
            (refused, Some(why)) => {
                left_out.push((name.clone(), why.to_string()));
                if refused.is_none() {
                    readable.push(source.column.clone());
                }
            }
            (None, None) => {
                carried.push(source.column.clone());
                readable.push(source.column.clone());
            }
        }
    }
    if carried.is_empty() {
        return Err("no column is left to carry".into());
    }
    let (used, called, with_generated) = used_by_expressions(rule, table, &readable, &generated)?;
    let (rule, not_computed) = (&with_generated.0, with_generated.1);
    left_out.extend(not_computed);
    let read: Vec<Column> = readable
        .into_iter()
        .filter(|c| used.contains(&c.name) || carried.iter().any(|k| k.name == c.name))
        .collect();
    let names = match called {
        Some(called) => read.iter().filter_map(|c| called.get(&c.name).cloned()).collect(),
        None => Vec::new(),
    };
    let identity = row_identity(rule, table, &carried)?;
    let read_identity =
        moved(&identity, |k| read.iter().position(|c| c.name == carried[k].name).unwrap_or(k));
    let mut mapped = MappedColumns {
        read: TableSchema { table: table.name.clone(), columns: read, identity: read_identity },
        target: TableSchema { table: table.name.clone(), columns: Vec::new(), identity },
        mapping: Mapping { outputs: Vec::new(), condition: rule.condition.clone(), names },
        loses: Vec::new(),
        origins: Vec::new(),
        left_out,
    };
    for column in &carried {
        let source = table.columns.iter().find(|c| c.column.name == column.name);
        let called = source.and_then(|c| c.called.as_ref()).unwrap_or(&column.name);
        mapped.carry(rule, column, source.map_or(&column.name, |c| called_by(rule, c)), called)?;
    }
    for (name, add) in &rule.add {
        mapped.add(config, name, add)?;
    }
    if rule.shape == Some(Shape::Document) {
        if rule.kept_as().keeps_deleted() {
            return Err("shape = \"document\" does not go with deletes that are ignored: what the source has no more could not be told from what differs. Take one of the two out".into());
        }
        mapped.becomes_document(table)?;
    }
    if let Some(gathered) = gathered {
        mapped.gather(gathered);
    }
    mapped.keep(&rule.kept_as(), table)?;
    Ok(mapped)
}

fn moved(identity: &RowIdentity, to: impl Fn(usize) -> usize) -> RowIdentity {
    match identity {
        RowIdentity::Key(key) => RowIdentity::Key(key.iter().map(|&k| to(k)).collect()),
        RowIdentity::DeclaredKey(key) => RowIdentity::DeclaredKey(key.iter().map(|&k| to(k)).collect()),
        RowIdentity::WholeRow => RowIdentity::WholeRow,
    }
}

impl MappedColumns {
    fn push(&mut self, column: Column, output: Output, origin: &str, loses: Option<String>) {
        self.target.columns.push(column);
        self.mapping.outputs.push(output);
        self.origins.push(origin.into());
        self.loses.push(loses);
    }

    fn carry(
        &mut self,
        rule: &TableRule,
        column: &Column,
        ruled_as: &str,
        called: &str,
    ) -> Result<(), String> {
        let at = self.read.columns.iter().position(|c| c.name == column.name).unwrap_or_default();
        let naming = rule.column_names.as_deref().map(Naming::of_columns).transpose()?;
        let by_rule = || naming.map_or_else(|| called.to_string(), |naming| naming.column(called));
        let name = rule.rename.get(ruled_as).cloned().unwrap_or_else(by_rule);
        let Some(cast) = rule.cast.get(ruled_as) else {
            let to = Column { name, ..column.clone() };
            self.push(to, Output::Column(at), &column.name, None);
            return Ok(());
        };
        let logical = cast.to.clone();
        let can = conversion(&column.logical, &logical).ok_or_else(|| {
            format!("column {}: a value of type {} cannot be cast to {logical}", column.name, column.logical)
        })?;
        let in_key = self.target.identity.key().is_some_and(|key| key.contains(&self.target.columns.len()));
        if in_key && can != Conversion::Exact {
            return Err(format!(
                "key column {}: a cast from {} to {logical} may make different keys equal, or change their order; take it out of `cast`",
                column.name, column.logical
            ));
        }
        let loses = match (can, cast.misfit) {
            (Conversion::Partial, OnMisfit::Stop) => None,
            (Conversion::Partial, OnMisfit::Null) => {
                Some(format!("a value that does not fit {logical} becomes null"))
            }
            (Conversion::Partial, OnMisfit::Nearest) => Some(match logical {
                LogicalType::Date => "the time of day is left out".into(),
                LogicalType::Time => "the day is left out".into(),
                _ => format!("a value is rounded to the nearest {logical}"),
            }),
            _ => None,
        };
        let nullable = column.nullable || cast.misfit == OnMisfit::Null;
        let to = Column { name, source_type: logical.to_string(), logical, nullable };
        let output = if can == Conversion::Exact && to.logical == column.logical {
            Output::Column(at)
        } else {
            Output::Cast { column: at, misfit: cast.misfit }
        };
        self.push(to, output, &column.name, loses);
        Ok(())
    }

    /// All that is mapped so far becomes a document, with a text of the key beside it.
    fn becomes_document(&mut self, table: &SourceTable) -> Result<(), Reason> {
        let Some(key) = self.target.identity.key().map(<[usize]>::to_vec) else {
            return Err("shape = \"document\" needs rows that can be told apart, and the table has no key; declare a `key` in a rule".into());
        };
        let left_out =
            |c: &Column| table.columns.iter().any(|s| s.column.name == c.name && s.may_be_left_out);
        let is_key = |c: &Column| matches!(&table.identity, LogIdentity::Key(key) if key.contains(&c.name));
        let is_whole = matches!(table.identity, LogIdentity::Full { .. });
        if let Some(column) = self.read.columns.iter().find(|c| !is_whole && left_out(c) && !is_key(c)) {
            let why = format!(
                "shape = \"document\" needs all values of a row, and the log leaves out that of column {} where it is large and did not change; leave it out with `drop`, or have the log carry whole rows",
                column.name
            );
            return Err(Reason { why, fix: table.whole_rows.clone() });
        }
        let columns = std::mem::take(&mut self.target.columns).into_iter();
        let outputs = std::mem::take(&mut self.mapping.outputs);
        let parts: Vec<Part> = columns.zip(outputs).map(|(column, output)| Part { column, output }).collect();
        if let Some(part) = parts.iter().find(|part| part.output.is_of_change()) {
            return Err(format!(
                "added column {}: a document has no value that depends on when a change came",
                part.column.name
            )
            .into());
        }
        (self.origins, self.loses) = (Vec::new(), Vec::new());
        self.target.identity = moved(&self.target.identity, |_| 0);
        let one = |identity: &mut Vec<usize>| identity.truncate(1);
        match &mut self.target.identity {
            RowIdentity::Key(key) | RowIdentity::DeclaredKey(key) => one(key),
            RowIdentity::WholeRow => {}
        }
        let of_key = key.iter().map(|&k| parts[k].clone()).collect();
        let [_, key_name, row_name] = Shape::DOCUMENT;
        let column = |name: &str, logical: LogicalType, nullable| Column {
            name: name.into(),
            source_type: logical.to_string(),
            logical,
            nullable,
        };
        self.push(column(key_name, LogicalType::Text, false), Output::DocumentKey(of_key), key_name, None);
        self.push(column(row_name, LogicalType::Json, false), Output::Document(parts), row_name, None);
        Ok(())
    }

    /// The column that says where a row came from.
    fn gather(&mut self, gathered: &Gathered) {
        let (name, logical) = (gathered.column.clone(), LogicalType::Text);
        let column =
            Column { name: name.clone(), source_type: logical.to_string(), logical, nullable: false };
        let at = self.target.columns.len();
        self.push(column, Output::Constant(gathered.from.clone()), &name, None);
        if let (RowIdentity::Key(key) | RowIdentity::DeclaredKey(key), false) =
            (&mut self.target.identity, gathered.disjoint)
        {
            key.push(at);
        }
    }

    /// The columns that what the table keeps adds.
    fn keep(&mut self, kept_as: &KeptAs, table: &SourceTable) -> Result<(), Reason> {
        let what = match kept_as.keep {
            Keep::Versions => Some("keep = \"versions\" needs"),
            Keep::Current if kept_as.deletes != Deletes::Remove => {
                Some("rows that stay when they are deleted need")
            }
            Keep::Current if !kept_as.is_exact() => Some("`operations` needs"),
            _ => None,
        };
        if let Some(what) = what.filter(|_| self.target.identity == RowIdentity::WholeRow) {
            let what = format!(
                "{what} rows that can be told apart, and the table has no key; declare a `key` in a rule, or keep \"changes\""
            );
            return Err(what.into());
        }
        let is_whole = matches!(table.identity, LogIdentity::Full { .. });
        if kept_as.keep == Keep::Changes && self.mapping.condition.is_some() && !is_whole {
            let why = "keep = \"changes\" with a `where` needs whole old rows, which the source's log does not carry: otherwise it cannot be told whether a row that is outside was inside before";
            return Err(Reason { why: why.into(), fix: table.whole_rows.clone() });
        }
        if kept_as.old_values {
            if !is_whole {
                let why = "`old_values` needs whole old rows, which the source's log does not carry";
                return Err(Reason { why: why.into(), fix: table.whole_rows.clone() });
            }
            for at in 0..self.target.columns.len() {
                let of = &self.target.columns[at];
                let column = Column { name: old_name(&of.name), nullable: true, ..of.clone() };
                self.push(column.clone(), Output::Old(at), &column.name, None);
            }
        }
        for added in kept_as.adds() {
            let (name, logical) = (kept_as.name(added).to_string(), kept_as.logical(added));
            let column = Column {
                name: name.clone(),
                source_type: logical.to_string(),
                logical,
                nullable: !added.is_needed(),
            };
            self.push(column, Output::Added(added), &name, None);
        }
        Ok(())
    }

    fn add(&mut self, config: &PipelineConfig, name: &str, add: &Addition) -> Result<(), String> {
        let (logical, output) = match add {
            Addition::Expression(text) => {
                let expr = Expr::parse(text, &self.mapping.named(&self.read.columns))
                    .map_err(|why| format!("added column {name}: {why}"))?;
                (expr.logical().clone(), Output::Expression(text.clone()))
            }
            Addition::Constant(Constant::Bool(b)) => (LogicalType::Bool, Output::Constant(b.to_string())),
            Addition::Constant(Constant::Int(i)) => (LogicalType::Int64, Output::Constant(i.to_string())),
            Addition::Constant(Constant::Float(f)) => {
                (LogicalType::Float64, Output::Constant(format!("{f:?}")))
            }
            Addition::Constant(Constant::Text(text)) => (LogicalType::Text, Output::Constant(text.clone())),
            Addition::Stamp(stamp) => {
                let value = match stamp {
                    Stamp::Source => Some(config.source.get_ref().clone()),
                    Stamp::Table => Some(self.read.table.to_string()),
                    Stamp::CommittedAt | Stamp::Position => None,
                };
                let logical =
                    if *stamp == Stamp::CommittedAt { LogicalType::TimestampTz } else { LogicalType::Text };
                (logical, Output::Stamp { stamp: *stamp, value })
            }
        };
        if output.is_of_change() && self.target.identity == RowIdentity::WholeRow {
            return Err(format!(
                "added column {name}: rows are told apart by all columns, and this one depends on when a change came; declare a `key` in the rule"
            ));
        }
        let source_type = logical.to_string();
        let column = Column { name: name.into(), logical, source_type, nullable: true };
        self.push(column, output, name, None);
        Ok(())
    }
}

/// What a rule calls a column: as it was called when the table was first planned, if the rule does so still.
fn called_by<'a>(rule: &TableRule, column: &'a SourceColumn) -> &'a str {
    let earlier = column.known_as.as_ref().filter(|name| rule.names(name));
    earlier.unwrap_or(&column.column.name)
}

fn check_names(rule: &TableRule, table: &SourceTable) -> Result<(), String> {
    let known: HashSet<&str> = table.columns.iter().map(|c| called_by(rule, c)).collect();
    let lists = rule.drop.iter().chain(rule.key.iter().flatten()).chain(rule.only.iter().flatten());
    let mut named = lists.chain(rule.rename.keys()).chain(rule.cast.keys());
    match named.find(|n| !known.contains(n.as_str())) {
        Some(name) => {
            let near = near(name, known);
            let hint =
                if near.is_empty() { String::new() } else { format!("; there is {}", near.join(", ")) };
            Err(format!(
                "a rule of the project file names column {name}, which the table does not have{hint}"
            ))
        }
        None => Ok(()),
    }
}

/// By name, what expressions call columns.
type Called = HashMap<String, String>;

/// Columns by the names that they had when the table was first planned. Where one has another one's name by now, it has none
/// here that an expression could have.
fn as_first_planned(table: &SourceTable, columns: &[Column]) -> Option<Vec<Column>> {
    let known_as = |c: &Column| table.columns.iter().find(|s| s.column.name == c.name)?.known_as.clone();
    let taken: Vec<String> = columns.iter().filter_map(known_as).collect();
    let named = |c: &Column| match known_as(c) {
        Some(name) => name,
        None if taken.contains(&c.name) => format!("\0{}", c.name),
        None => c.name.clone(),
    };
    let named = columns.iter().map(|c| Column { name: named(c), ..c.clone() });
    (!taken.is_empty()).then(|| named.collect())
}

/// The columns that the filter and computed columns read, which the log must always carry, and what these call them if that is
/// not what they are called.
fn used_by_expressions(
    rule: &TableRule,
    table: &SourceTable,
    readable: &[Column],
    generated: &[&SourceColumn],
) -> Result<(HashSet<String>, Option<Called>, WithGenerated), Reason> {
    if let Some(earlier) = as_first_planned(table, readable) {
        let with = with_generated(rule, table, (readable, &earlier), generated);
        // Whoever has changed the file since names columns as they are.
        if let Ok(used) = used_where_named(&with.0, table, readable, &earlier) {
            let called = readable.iter().zip(earlier).map(|(c, earlier)| (c.name.clone(), earlier.name));
            return Ok((used, Some(called.collect()), with));
        }
    }
    let now = |name: &str| {
        let column = table.columns.iter().find(|c| c.known_as.as_deref() == Some(name))?;
        Some(column.column.name.clone())
    };
    let named_now = |column: &&SourceColumn| {
        let expression = column.expression.as_deref().map(|text| with_names(text, now));
        SourceColumn { expression, ..(*column).clone() }
    };
    let generated: Vec<SourceColumn> = generated.iter().map(named_now).collect();
    let with = with_generated(rule, table, (readable, readable), &generated.iter().collect::<Vec<_>>());
    used_where_named(&with.0, table, readable, readable).map(|used| (used, None, with))
}

/// A rule with generated columns that are computed, and those that are not.
type WithGenerated = (TableRule, Vec<(String, String)>);

fn used_where_named(
    rule: &TableRule,
    table: &SourceTable,
    readable: &[Column],
    named: &[Column],
) -> Result<HashSet<String>, Reason> {
    let mut used = HashSet::new();
    let key: &[String] = match &table.identity {
        LogIdentity::Key(key) => key,
        _ => &[],
    };
    let mut see = |place: &str, expr: Expr| -> Result<(), Reason> {
        for at in expr.columns() {
            let name = &readable[at].name;
            let left_out = table.columns.iter().any(|c| c.column.name == *name && c.may_be_left_out);
            if left_out && !key.contains(name) {
                let why = format!(
                    "{place} reads column {name}, whose value the log leaves out where it is large and did not change"
                );
                return Err(Reason { why, fix: table.whole_rows.clone() });
            }
            used.insert(name.clone());
        }
        Ok(())
    };
    if let Some(text) = &rule.condition {
        let expr = Expr::parse_condition(text, named).map_err(|why| format!("where: {why}"))?;
        see("where", expr)?;
    }
    for (name, add) in &rule.add {
        if let Addition::Expression(text) = add {
            let place = format!("added column {name}");
            let expr = Expr::parse(text, named).map_err(|why| format!("{place}: {why}"))?;
            see(&place, expr)?;
        }
    }
    Ok(used)
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
fn row_identity(rule: &TableRule, table: &SourceTable, columns: &[Column]) -> Result<RowIdentity, Reason> {
    let indexes = |names: &[String]| -> Result<Vec<usize>, String> {
        let index = |n: &String| {
            columns.iter().position(|c| c.name == *n).ok_or_else(|| {
                if table.columns.iter().any(|c| c.generated && c.column.name == *n) {
                    return format!("key column {n} is generated, and generated columns are not carried; name other columns that tell rows apart as `key` in a rule");
                }
                format!("key column {n} is not carried; a table's key must be, so take it out of `drop`, or into `only`")
            })
        };
        names.iter().map(index).collect()
    };
    let declared = rule.key.as_ref().map(|key| {
        let now = |name: &String| table.columns.iter().find(|c| called_by(rule, c) == name);
        key.iter().map(|n| now(n).map_or_else(|| n.clone(), |c| c.column.name.clone())).collect::<Vec<_>>()
    });
    match (&table.identity, &declared) {
        (LogIdentity::None(Reason { why, fix }), _) => Err(Reason {
            why: format!(
                "{why}: the log would not say which row was updated or deleted, and publishing the table would make the application's own updates and deletes fail"
            ),
            fix: fix.clone(),
        }),
        (LogIdentity::Key(key), None) | (LogIdentity::Full { key: Some(key) }, None) => {
            Ok(RowIdentity::Key(indexes(key)?))
        }
        (LogIdentity::Key(key), Some(declared)) if same(key, declared) => Ok(RowIdentity::Key(indexes(key)?)),
        (LogIdentity::Key(key), Some(_)) => Err(Reason {
            why: format!(
                "the project file declares a key, but the source's log identifies rows by ({}); take `key` out of the rule, or have the log carry whole rows",
                key.join(", ")
            ),
            fix: table.whole_rows.clone(),
        }),
        (LogIdentity::Full { .. }, Some(declared)) if declared.is_empty() => {
            Err("the declared key has no columns".into())
        }
        (LogIdentity::Full { .. }, Some(declared)) => Ok(RowIdentity::DeclaredKey(indexes(declared)?)),
        (LogIdentity::Full { key: None }, None) => {
            let carried = |name: &str| columns.iter().any(|c| c.name == name);
            match table.columns.iter().any(|c| !c.generated && !carried(&c.column.name)) {
                true => Err("columns are left out by a rule, but rows are told apart by all columns; declare a `key` in the rule".into()),
                false => Ok(RowIdentity::WholeRow),
            }
        }
    }
}

fn same(a: &[String], b: &[String]) -> bool {
    a.iter().collect::<HashSet<_>>() == b.iter().collect::<HashSet<_>>()
}

//! Tables whose rows stand together in one target table: which, and whether they fit each other.

use crate::model::described::{LogIdentity, SourceTable};
use crate::model::finding::Reason;
use crate::model::gathered::{Gathered, PartOf};
use crate::model::kept_as::{Deletes, Keep};
use crate::model::name::TableName;
use crate::model::policy::{ExistingRows, Shape};
use crate::pick::naming::Naming;
use crate::pick::rule::TableRule;
use crate::plan::dialect::TargetDialect;
use crate::plan::table::{PlannedColumn, TablePlan};
use crate::project::config::PipelineConfig;
use std::collections::HashMap;

/// How a table stands together with others in a target table; none if it stands there alone.
///
/// The column that says where a row came from is part of the key, unless the file says that keys are disjoint. That is so of
/// partitions, too, whose keys the source may see to: a row that goes from one to another is a delete in the one and an insert in the
/// other, and these are never in each other's way then, also while one of the two is read again.
pub(super) fn gathered(
    config: &PipelineConfig,
    rule: &TableRule,
    (table, name): (&SourceTable, &TableName),
    part_of: Option<&PartOf>,
    into: &str,
) -> Result<Option<Gathered>, Reason> {
    let is_document = rule.shape == Some(Shape::Document);
    let gathers = rule.gather == Some(true) || is_document;
    if !gathers && part_of.is_none() {
        return Ok(None);
    }
    refuse_combination(rule)?;
    let from = rule.from_name.as_deref().unwrap_or(Gathered::FROM);
    let from = Naming::of_origin(from, config.source.get_ref())?.name(name);
    if from.is_empty() || from.contains('\0') {
        return Err("`from_name` would say nothing of where its rows come from".into());
    }
    let kept_as = rule.kept_as();
    let has_key = !matches!(table.identity, LogIdentity::Full { key: None }) || rule.key.is_some();
    let disjoint = rule.disjoint_keys == Some(true);
    if disjoint && kept_as.deletes == Deletes::Ignore {
        return Err("`disjoint_keys` cannot be checked where deleted rows stay (`deletes`, `operations`): one of another table may be new. Take one of the two out".into());
    }
    if disjoint && kept_as.keep == Keep::Changes {
        return Err("`disjoint_keys` cannot be checked in a table that keeps changes, which has rows of one key; take it out: the column that says where a row came from is part of the key then".into());
    }
    Ok(Some(Gathered {
        into: into.into(),
        column: rule.from_column.clone().unwrap_or_else(|| {
            let named = if is_document { Shape::DOCUMENT[0] } else { Gathered::COLUMN };
            named.into()
        }),
        from,
        disjoint: disjoint && has_key,
        root: part_of.map(|part| part.root.clone()),
    }))
}

fn refuse_combination(rule: &TableRule) -> Result<(), Reason> {
    match rule.existing_rows {
        Some(ExistingRows::Keep) => Err("tables that are gathered need a target table that Moorage made, and existing_rows = \"keep\" leaves rows of others in it; change `into`, or take one of the two out".into()),
        _ => Ok(()),
    }
}

/// Of tables that are to stand together, those that do not fit one before them, with why.
pub(super) fn disagreeing(tables: &[TablePlan], dialect: &dyn TargetDialect) -> Vec<(TableName, String)> {
    let mut found: Vec<(TableName, String)> = Vec::new();
    let mut together: HashMap<String, Vec<(&TableName, &TablePlan)>> = HashMap::new();
    let forms = tables.iter().flat_map(|table| table.forms().map(move |form| (table.table(), form)));
    for (table, form) in forms.filter(|(_, form)| form.gathered.is_some()) {
        let all = together.entry(dialect.fold(form.stands_in())).or_default();
        let others = all.iter().filter(|(other, _)| *other != table);
        let why = others.filter_map(|(_, other)| disagreement(other, form, dialect)).next();
        found.extend(
            why.filter(|_| found.iter().all(|(known, _)| known != table)).map(|why| (table.clone(), why)),
        );
        all.push((table, form));
    }
    found
}

/// Why a table cannot stand together with another one, if so.
fn disagreement(one: &TablePlan, other: &TablePlan, dialect: &dyn TargetDialect) -> Option<String> {
    let (first, into) = (one.table(), one.stands_in());
    let (a, b) = (one.gathered.as_ref()?, other.gathered.as_ref()?);
    let say = |what: String| Some(format!("it is to stand in {into} together with {first}, and {what}"));
    if a.from == b.from {
        return say(format!(
            "rows of both would be said to come from {}: change `from_name` in a rule, to \"{{source}}.{{schema}}.{{table}}\" for example",
            a.from
        ));
    }
    let fold = |name: &str| dialect.fold(name);
    say(other_type(one, other, &fold).or_else(|| misfit(one, other, &fold))?)
}

/// A column that is of another type in the other table.
fn other_type(one: &TablePlan, other: &TablePlan, fold: &dyn Fn(&str) -> String) -> Option<String> {
    for column in &other.columns {
        let same = |c: &&PlannedColumn| fold(&c.name) == fold(&column.name);
        let Some(there) = one.columns.iter().find(same) else { continue };
        if there.declared.sql != column.declared.sql || there.name != column.name {
            return Some(format!(
                "column {} would be {} for one and {} for the other: have them the same with `cast`, `rename` or `drop` in a rule",
                column.name, there.declared.sql, column.declared.sql
            ));
        }
    }
    None
}

/// In what two tables that stand together differ, whatever they are called; `fold` gives what the target makes of a name.
fn misfit(one: &TablePlan, other: &TablePlan, fold: &dyn Fn(&str) -> String) -> Option<String> {
    let (a, b) = (one.gathered.as_ref()?, other.gathered.as_ref()?);
    if (fold(&a.column), a.disjoint) != (fold(&b.column), b.disjoint) {
        return Some(
            "the project file says otherwise of one of them (`from_column`, `disjoint_keys`)".into(),
        );
    }
    if one.kept_as != other.kept_as {
        return Some("the project file has them keep other things (`keep`, `deletes`, `operations`, `old_values`, `view`)".into());
    }
    let key = |plan: &TablePlan| -> Vec<String> {
        let mut names: Vec<String> = plan.key().iter().map(|&k| plan.columns[k].name.clone()).collect();
        names.sort();
        names
    };
    if key(one) != key(other) {
        let list = |names: Vec<String>| if names.is_empty() { "none".into() } else { names.join(", ") };
        return Some(format!(
            "their keys are other ones ({} and {}): declare the same `key` in a rule",
            list(key(one)),
            list(key(other))
        ));
    }
    let names = |plan: &TablePlan| -> Vec<String> {
        let mut names: Vec<String> = plan.columns.iter().map(|c| c.name.clone()).collect();
        names.sort();
        names
    };
    if one.key().is_empty() && names(one) != names(other) {
        return Some("they have no key and not the same columns, so equal rows could not be found: declare a `key` in a rule, or carry the same columns with `only`".into());
    }
    None
}

/// What there is already where a table is to stand together with others.
pub struct Place<'a> {
    /// The pipeline that is planned.
    pub pipeline: &'a str,
    /// The pipeline that has rows there already which are said to come from the same place.
    pub of_rows: Option<&'a str>,
    /// The tables that stand together there, but for the one that is planned.
    pub others: &'a [TablePlan],
    /// The pipeline that has the target table, alone or as the first one.
    pub of_table: Option<&'a str>,
}

/// Why a table cannot join others in a target table that is there, in words with the way out, if so. `unfit` gives the type of
/// a column that is there, if that can neither hold the planned one's values nor come to do so; `fold` what the target makes of a name.
pub fn cannot_join(
    plan: &TablePlan,
    there: &Place<'_>,
    unfit: impl Fn(&PlannedColumn) -> Option<String>,
    fold: impl Fn(&str) -> String,
) -> Option<String> {
    let (_, from) = plan.member()?;
    match (there.of_rows, there.of_table) {
        (Some(owner), _) if owner != there.pipeline => {
            return Some(format!(
                "pipeline {owner} already writes rows there that are said to come from {from}; have one of the two say otherwise, with from_name = \"{{source}}.{{schema}}.{{table}}\" in a rule for example"
            ));
        }
        (Some(_), _) => {}
        _ if !there.others.is_empty() => {}
        (_, Some(owner)) => {
            return Some(format!(
                "pipeline {owner} has one table in it, and nothing says where its rows came from. Give the tables that are gathered another one with `into` in a rule"
            ));
        }
        (_, None) => {
            return Some("it is already there, and tables are gathered in one that Moorage made. Rename or drop it, or change `into`".into());
        }
    }
    let misfit = there.others.iter().find_map(|other| Some((other, misfit(other, plan, &fold)?)));
    if let Some((other, what)) = misfit {
        return Some(format!("{} stands there already, and {what}", other.table()));
    }
    plan.columns.iter().find_map(|column| {
        let (name, sql, table) = (&column.name, &column.declared.sql, plan.table());
        let there = unfit(column)?;
        Some(format!(
            "column {name} is of type {there} there, for other tables that stand in it, and would be {sql} for {table}: have it the same with `cast` in a rule, or call it otherwise with `rename`"
        ))
    })
}

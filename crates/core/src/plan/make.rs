//! The plan: what a run makes in the target for each picked table, and what it refuses.

use super::{columns, names};
use crate::model::described::{SourceTable, TableKind};
use crate::model::finding::Reason;
use crate::model::gathered::{Gathered, PartOf};
use crate::model::kept_as::{Deletes, Keep, KeptAs, Operation};
use crate::model::name::TableName;
use crate::model::policy::{ExistingRows, Mismatch, OnReject};
use crate::model::structure::Structure;
use crate::pick::naming::Naming;
use crate::pick::picker::Picker;
use crate::pick::rule::{AlsoKept, TableRule};
use crate::plan::dialect::{Declared, TargetDialect};
use crate::plan::gather::{disagreeing, gathered};
use crate::plan::table::{PlannedColumn, TablePlan};
use crate::project::config::PipelineConfig;
use std::collections::HashMap;
use std::sync::Arc;

/// A picked table that cannot be carried.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Refused {
    /// The table.
    pub table: TableName,
    /// Why, and the way out.
    pub reason: Reason,
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
    let picker = config.picker();
    let mut picked: Vec<&SourceTable> = found.iter().filter(|t| picker.takes(t)).collect();
    picked.sort_by(|a, b| a.name.cmp(&b.name));
    let mut plan = Plan::default();
    for table in picked {
        // Its partitions stand for it.
        if table.kind == TableKind::Partitioned && picker.takes_together(&table.name) {
            continue;
        }
        match plan_picked(config, &picker, table, &table.name, target) {
            Ok(planned) => plan.tables.push(planned),
            Err(reason) => plan.refused.push(Refused { table: table.name.clone(), reason }),
        }
    }
    let disagreeing = disagreeing(&plan.tables, target);
    plan.tables.retain(|table| disagreeing.iter().all(|(refused, _)| refused != table.table()));
    let refused = disagreeing.into_iter().map(|(table, why)| Refused { table, reason: why.into() });
    plan.refused.extend(refused);
    refuse_collisions(&mut plan, target);
    plan
}

/// Plans a table that is followed from the structure that it is known to have, by the rules as the file has them now.
///
/// # Errors
/// Why it cannot be carried.
pub fn plan_known(
    config: &PipelineConfig,
    structure: &Structure,
    target: &dyn TargetDialect,
) -> Result<TablePlan, Reason> {
    let name = structure.ruled_as();
    let mut plan = plan_picked(config, &config.picker(), &structure.table(), name, target)?;
    plan.structure = Some(Arc::new(carried_so(structure.clone(), plan.root().is_some())));
    Ok(plan)
}

/// A partition that was carried as a table of its own stays one, whatever the file says of later ones.
fn carried_so(mut structure: Structure, is_part: bool) -> Structure {
    if let Some(part) = &mut structure.part_of {
        part.apart = !is_part;
    }
    structure
}

/// Plans a table that rules know by a name.
fn plan_picked(
    config: &PipelineConfig,
    picker: &Picker,
    table: &SourceTable,
    name: &TableName,
    dialect: &dyn TargetDialect,
) -> Result<TablePlan, Reason> {
    let part_of = picker.part_of(table);
    let rule = picker.rule_within(name, part_of.map(|part| &part.root));
    plan_table(config, &rule, &Named { table, name, part_of }, dialect)
}

/// A table as rules know it.
struct Named<'a> {
    table: &'a SourceTable,
    name: &'a TableName,
    /// The table among whose rows its own stand, where that is so.
    part_of: Option<&'a PartOf>,
}

impl Named<'_> {
    /// What target tables are named after.
    fn stands_for(&self) -> &TableName {
        self.part_of.map_or(self.name, |part| &part.root)
    }
}

fn plan_table(
    config: &PipelineConfig,
    rule: &TableRule,
    named: &Named<'_>,
    dialect: &dyn TargetDialect,
) -> Result<TablePlan, Reason> {
    let (table, ruled_as) = (named.table, named.stands_for());
    if let Some(why) = table.kind.why_not() {
        return Err(why.into());
    }
    if let Some(why) = table.refused.as_ref().or(table.uncaptured.as_ref()) {
        return Err(why.clone());
    }
    let into = rule.into.as_ref().unwrap_or(config.into.get_ref());
    let (schema, name) = Naming::parse(into)?.place(ruled_as);
    if name.is_empty() || name.contains('\0') || schema.as_ref().is_some_and(String::is_empty) {
        return Err("the target table would have no name; change `into`".into());
    }
    let target = dialect.place(schema.as_deref(), &name);
    if let Some(why) = dialect.reserved(&target) {
        return Err(format!("the target table would be named {target}: {why}; change `into`").into());
    }
    let gathered = gathered(config, rule, (table, named.name), named.part_of, &target)?;
    let mapped = columns::map(config, rule, table, gathered.as_ref())?;
    names::check(&mapped, rule, gathered.as_ref(), dialect)?;
    let key = mapped.target.identity.key().unwrap_or(&[]);
    let names = mapped.target.columns.iter().zip(mapped.loses).enumerate();
    let planned: Vec<PlannedColumn> = names
        .map(|(i, (c, loses))| PlannedColumn {
            name: c.name.clone(),
            declared: match mapped.mapping.outputs[i].is_of_keeping() {
                // What people should know of such values they know of our own.
                true => Declared { note: None, ..dialect.declare(c, false) },
                false => dialect.declare(c, key.contains(&i)),
            },
            loses,
            comment: table
                .columns
                .iter()
                .find(|s| s.column.name == mapped.origins[i])
                .and_then(|s| s.comment.clone()),
        })
        .collect();
    let kept_as = kept_as(rule, ruled_as, (schema.as_deref(), &name), dialect)?;
    let is_part = gathered.as_ref().is_some_and(|gathered| gathered.root.is_some());
    let plan = TablePlan {
        schema: Arc::new(mapped.read),
        mapped: Arc::new(mapped.target),
        mapping: mapped.mapping,
        source_id: table.id,
        target: gathered.as_ref().map_or(target, Gathered::unit),
        gathered,
        columns: planned,
        left_out: mapped.left_out,
        existing_rows: rule.existing_rows,
        ddl: None,
        on_reject: rule.on_reject.unwrap_or_default(),
        mismatch: rule.mismatch.unwrap_or_default(),
        comment: table.comment.clone(),
        kept_as,
        also: Vec::new(),
        beside: None,
        fingerprint: table.fingerprint(),
        structure: Some(Arc::new(carried_so(Structure::of(table), is_part))),
        each_change: false,
    };
    plan.mapper()?;
    let Some(also) = &rule.also else { return Ok(plan) };
    let form = |form: &AlsoKept| -> Result<Arc<TablePlan>, Reason> {
        let of_form = plan_table(config, &form.rule(rule), named, dialect);
        let of_form =
            of_form.map_err(|Reason { why, fix }| Reason { why: format!("in `also`: {why}"), fix })?;
        // What the first one has stands for all of them.
        let (beside, structure) = (Some(plan.target.clone()), None);
        Ok(Arc::new(TablePlan { beside, structure, left_out: Vec::new(), ..of_form }))
    };
    let also = also.iter().map(form).collect::<Result<_, _>>()?;
    Ok(TablePlan { also, ..plan })
}

/// What does not go together, whatever the table:
///
/// | keep | deletes = "mark" | deletes = "ignore" | operations without update | without insert | without delete |
/// |---|---|---|---|---|---|
/// | current | | | only if deletes are ignored too | refused | deletes are ignored |
/// | changes | refused | deletes are left out | | | |
/// | versions | refused | versions end by the next one alone | refused | refused | deletes are ignored |
fn refuse_combination(kept_as: &KeptAs) -> Result<(), Reason> {
    let without = |operation| kept_as.leaves_out(operation);
    let why = match kept_as.keep {
        Keep::Changes if kept_as.deletes == Deletes::Mark => {
            "keep = \"changes\" has a row for each delete, so there is nothing to mark; take deletes = \"mark\" out"
        }
        Keep::Versions if kept_as.deletes == Deletes::Mark => {
            "keep = \"versions\" ends the version of a row that is deleted, so there is nothing to mark; take deletes = \"mark\" out"
        }
        Keep::Current | Keep::Versions if without(Operation::Insert) => {
            "without \"insert\" among `operations` updates and deletes would be of rows that never came; add it, or keep \"changes\""
        }
        Keep::Versions if without(Operation::Update) => {
            "keep = \"versions\" without \"update\" among `operations` would have nothing to keep; add it, or keep \"changes\""
        }
        Keep::Current if without(Operation::Update) && !without(Operation::Delete) => {
            "without \"update\" among `operations` a row whose key was changed could not be found when it is deleted; add it, or take \"delete\" out"
        }
        _ => return Ok(()),
    };
    Err(why.into())
}

/// How a table keeps rows: refused by name where that does not go together with what else the file says.
fn kept_as(
    rule: &TableRule,
    ruled_as: &TableName,
    (schema, name): (Option<&str>, &str),
    dialect: &dyn TargetDialect,
) -> Result<KeptAs, Reason> {
    let mut kept_as = rule.kept_as();
    if kept_as.is_plain() {
        return Ok(kept_as);
    }
    let word = match kept_as.keep {
        Keep::Current if kept_as.deletes == Deletes::Remove => "operations".to_string(),
        Keep::Current => "deletes that leave rows".into(),
        keep => format!("keep = \"{}\"", keep.word()),
    };
    refuse_combination(&kept_as)?;
    if rule.existing_rows == Some(ExistingRows::Keep) {
        return Err(format!(
            "{word} needs a table of its own, and existing_rows = \"keep\" leaves rows of others in it; change `into`, or take one of the two out"
        )
        .into());
    }
    if rule.on_reject == Some(OnReject::SetAside) {
        return Err(format!(
            "{word} with on_reject = \"set_aside\" would leave changes out of what is kept; take one of the two out"
        )
        .into());
    }
    if rule.mismatch == Some(Mismatch::Adjust) && kept_as.keep == Keep::Changes {
        return Err("keep = \"changes\" assumes nothing of the rows before, so there is nothing for mismatch = \"adjust\"; take one of the two out".into());
    }
    // Of a trail that leaves changes out nobody can say what the rows are now.
    if kept_as.keep == Keep::Changes && kept_as.leaves_out.is_empty() {
        let (of_view, view) = match rule.view.as_ref() {
            Some(rule) => Naming::parse(rule)?.place(ruled_as),
            None => (schema.map(str::to_string), format!("{name}_current")),
        };
        if view.is_empty() || view.contains('\0') || of_view.as_ref().is_some_and(String::is_empty) {
            return Err("the view of current rows would have no name; change `view`".into());
        }
        let view = dialect.place(of_view.as_deref(), &view);
        if let Some(why) = dialect.reserved(&view) {
            return Err(
                format!("the view of current rows would be named {view}: {why}; change `view`").into()
            );
        }
        kept_as.view = Some(view);
    }
    Ok(kept_as)
}

/// Two tables that would share a target table are both refused, but for those that stand together in one.
fn refuse_collisions(plan: &mut Plan, dialect: &dyn TargetDialect) {
    /// What is made under a name.
    struct Made<'a> {
        by: &'a TableName,
        /// The table that is gathered there, if one is.
        gathered: Option<&'a str>,
    }
    let mut by_name: HashMap<String, Vec<Made<'_>>> = HashMap::new();
    for table in &plan.tables {
        for (form, name) in table.forms().flat_map(|form| form.makes_itself().map(move |name| (form, name))) {
            let gathered = form.gathered.as_ref().map(|gathered| gathered.into.as_str());
            by_name.entry(dialect.fold(name)).or_default().push(Made { by: table.table(), gathered });
        }
    }
    let shared = |name: &str| {
        let all = &by_name[&dialect.fold(name)];
        let together = all.iter().all(|made| made.gathered.is_some() && made.gathered == all[0].gathered);
        if together { &[] } else { all.as_slice() }
    };
    let mut colliding = Vec::new();
    for table in &plan.tables {
        if table.makes().all(|name| shared(name).len() < 2) {
            continue;
        }
        let of_name = table.makes().flat_map(shared).map(|made| made.by).filter(|by| *by != table.table());
        let mut others: Vec<String> = of_name.map(ToString::to_string).collect();
        others.dedup();
        if others.is_empty() {
            others.push("another form of the same table".into());
        }
        let way_out = match others.len() {
            _ if table.gathered.is_some() => "",
            1 => "; or have both in it, with `gather = true` in a rule",
            _ => "; or have all of them in it, with `gather = true` in a rule",
        };
        let reason = format!(
            "its target table {} would be shared with {}; exclude one, or change `into`{way_out}",
            table.makes().collect::<Vec<_>>().join(" or view "),
            others.join(", ")
        );
        colliding.push(Refused { table: table.table().clone(), reason: reason.into() });
    }
    plan.tables.retain(|table| !colliding.iter().any(|refused| refused.table == *table.table()));
    plan.refused.extend(colliding);
}

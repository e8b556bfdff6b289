//! Two plans of a table side by side: what leads from the target's table of the one to that of the other.

use crate::change::structure::{OfType, TypeChange};
use crate::drift::alter::AlterStep;
use crate::drift::difference::Difference;
use crate::expr::Expr;
use crate::mapping::mapper::Mapper;
use crate::mapping::outputs::{Mapping, Output, Part};
use crate::model::kept_as::Added;
use crate::model::policy::OnMisfit;
use crate::model::schema::{RowIdentity, TableSchema};
use crate::model::structure::Structure;
use crate::model::types::LogicalType;
use crate::plan::dialect::TargetDialect;
use crate::plan::table::TablePlan;
use arrow::array::{Array, RecordBatch};
use std::sync::Arc;

pub(super) struct Compared<'a> {
    pub(super) before: &'a Arc<TablePlan>,
    pub(super) known: &'a Structure,
    pub(super) plan: &'a TablePlan,
    pub(super) after: &'a Structure,
    pub(super) types: &'a [OfType],
}

/// What a target column is made from.
#[derive(PartialEq)]
enum Origin<'a> {
    Numbered(u32),
    Named(&'a str),
    Made(&'a str, &'a Output),
    Old(Box<Origin<'a>>),
    Added(Added),
    /// The values in a document, by their names.
    Document(Vec<(&'a str, Origin<'a>, &'a LogicalType, Option<OnMisfit>)>),
}

impl Origin<'_> {
    /// Whether rows that were made from the one have the same values made from the other, where that has none that is new.
    fn goes_on_as(&self, later: &Self) -> bool {
        let (Self::Document(parts), Self::Document(later)) = (self, later) else { return self == later };
        let same_type = |a: &LogicalType, b: &LogicalType| a == b || (a.is_integer() && b.is_integer());
        parts.iter().all(|(name, origin, logical, misfit)| {
            let is_it = |(n, o, l, m): &(&str, Origin<'_>, &LogicalType, Option<OnMisfit>)| {
                (n, o, m) == (name, origin, misfit) && same_type(logical, l)
            };
            later.iter().any(is_it)
        })
    }
}

fn origin<'a>(plan: &'a TablePlan, structure: &Structure, at: usize) -> Origin<'a> {
    origin_of(plan, structure, &plan.columns[at].name, &plan.mapping.outputs[at])
}

fn origin_of<'a>(
    plan: &'a TablePlan,
    structure: &Structure,
    name: &'a str,
    output: &'a Output,
) -> Origin<'a> {
    match output {
        Output::Column(c) | Output::Cast { column: c, .. } => {
            let name = plan.schema.columns[*c].name.as_str();
            let number = structure.columns.iter().find(|c| c.column.name == name).and_then(|c| c.number);
            number.map_or(Origin::Named(name), Origin::Numbered)
        }
        Output::Added(added) => Origin::Added(*added),
        Output::Old(of) => Origin::Old(Box::new(origin(plan, structure, *of))),
        Output::Document(parts) | Output::DocumentKey(parts) => {
            let part = |part: &'a Part| {
                let misfit = match &part.output {
                    Output::Cast { misfit, .. } => Some(*misfit),
                    _ => None,
                };
                let name = part.column.name.as_str();
                (name, origin_of(plan, structure, name, &part.output), &part.column.logical, misfit)
            };
            Origin::Document(parts.iter().map(part).collect())
        }
        output => Origin::Made(name, output),
    }
}

impl Compared<'_> {
    fn was(&self, at: usize) -> Origin<'_> {
        origin(self.before, self.known, at)
    }

    fn is(&self, at: usize) -> Origin<'_> {
        origin(self.plan, self.after, at)
    }

    /// The place that a target column had.
    fn place_before(&self, at: usize) -> Option<usize> {
        let made_from_it = |&was: &usize| {
            self.was(was).goes_on_as(&self.is(at)) && self.is_document_key(was, at).is_none_or(|same| same)
        };
        (0..self.before.columns.len()).find(made_from_it)
    }

    /// Of two texts of keys whether they are of the same values; none if one of them is none.
    fn is_document_key(&self, was: usize, is: usize) -> Option<bool> {
        match (&self.before.mapping.outputs[was], &self.plan.mapping.outputs[is]) {
            (Output::DocumentKey(_), Output::DocumentKey(_)) => Some(self.was(was) == self.is(is)),
            (Output::DocumentKey(_), _) | (_, Output::DocumentKey(_)) => Some(false),
            _ => None,
        }
    }

    /// Whether a document gets values, and rows that are there have none of them.
    fn gains_nothing(&self, before: usize, at: usize, values: Option<&RecordBatch>) -> bool {
        let (Output::Document(parts), Origin::Document(was)) =
            (&self.plan.mapping.outputs[at], self.was(before))
        else {
            return true;
        };
        let is_new = |part: &&Part| !was.iter().any(|(name, ..)| *name == part.column.name);
        let is_null = |part: &Part| match (&part.output, values) {
            (Output::Column(_), None) => true,
            (Output::Column(place), Some(values)) => {
                let name = &self.plan.schema.columns[*place].name;
                values.schema().index_of(name).is_ok_and(|at| values.column(at).is_null(0))
            }
            _ => false,
        };
        parts.iter().filter(is_new).all(is_null)
    }

    /// Whether the mapping sees a difference.
    pub(super) fn sees(&self, difference: &Difference) -> bool {
        let reads = |plan: &TablePlan, name: &str| plan.schema.columns.iter().any(|c| c.name == name);
        match difference {
            Difference::Added(c) | Difference::ValueRenamed(c, ..) | Difference::Allowed(c, _) => {
                reads(self.plan, &c.column.name)
            }
            Difference::Dropped(c) | Difference::Retyped(c, _) => reads(self.before, &c.column.name),
            Difference::Renamed(..) => self.renames(difference),
            Difference::Generated(c) => {
                reads(self.plan, &c.column.name)
                    || self.known.same(c).is_some_and(|c| reads(self.before, &c.column.name))
            }
            Difference::Key => !self.same_key(),
            Difference::Table(..) => true,
            Difference::Values(unknown) => {
                let reads = |plan: &TablePlan, of: &Structure| {
                    let number =
                        |name: &str| of.columns.iter().find(|c| c.column.name == name).and_then(|c| c.number);
                    plan.schema.columns.iter().any(|c| unknown.includes(number(&c.name)))
                };
                reads(self.plan, self.after) || reads(self.before, self.known)
            }
        }
    }

    /// Whether the target's column would get another name.
    fn renames(&self, difference: &Difference) -> bool {
        let Some(number) = difference.column().and_then(|c| c.number) else { return true };
        let at = (0..self.plan.columns.len()).find(|&at| self.is(at) == Origin::Numbered(number));
        let before = at.and_then(|at| self.place_before(at));
        at.zip(before)
            .is_some_and(|(at, before)| self.plan.columns[at].name != self.before.columns[before].name)
    }

    pub(super) fn same_key(&self) -> bool {
        let (was, is) = (&self.before.mapped.identity, &self.plan.mapped.identity);
        match (was, is) {
            (RowIdentity::WholeRow, RowIdentity::WholeRow) => true,
            (RowIdentity::Key(was), RowIdentity::Key(is))
            | (RowIdentity::DeclaredKey(was), RowIdentity::DeclaredKey(is)) => {
                was.len() == is.len() && was.iter().zip(is).all(|(&was, &is)| self.was(was) == self.is(is))
            }
            _ => false,
        }
    }

    /// Whether every row goes to the same target row with the same values in the columns that both plans have, and no column
    /// comes.
    pub(super) fn maps_rows_alike(&self) -> bool {
        let output = |plan: &TablePlan, at: usize| match &plan.mapping.outputs[at] {
            Output::Cast { misfit, .. } => Some((*misfit, plan.mapped.columns[at].logical.clone())),
            _ => None,
        };
        let same = |at: usize| {
            let is_same = |before: usize| match self.is(at) {
                Origin::Document(_) => self.was(before) == self.is(at),
                _ => output(self.before, before) == output(self.plan, at),
            };
            self.place_before(at).is_some_and(is_same)
        };
        let conditions = [&self.before.mapping.condition, &self.plan.mapping.condition];
        conditions[0] == conditions[1] && self.same_key() && (0..self.plan.columns.len()).all(same)
    }

    /// The steps; none if rows would have to be read for them.
    pub(super) fn steps(
        &self,
        drops: bool,
        dialect: &dyn TargetDialect,
        values: Option<&RecordBatch>,
    ) -> Option<Vec<AlterStep>> {
        let mut renames = Vec::new();
        let mut others = Vec::new();
        let mut kept = vec![false; self.before.columns.len()];
        for (at, column) in self.plan.columns.iter().enumerate() {
            let Some(before) = self.place_before(at) else {
                others.push(AlterStep::Add { column: at, value: self.value(at, values)? });
                continue;
            };
            if !self.gains_nothing(before, at, values) {
                return None;
            }
            kept[before] = true;
            let was = &self.before.columns[before];
            if was.name != column.name {
                renames.push((was.name.clone(), column.name.clone()));
            }
            if was.declared.sql != column.declared.sql {
                if !dialect.widens_at_once(&was.declared.sql, &column.declared.sql) {
                    return None;
                }
                others.push(AlterStep::Widen { column: at });
            }
        }
        others.extend(self.relabels()?);
        let drops = drops && dialect.drops_at_once();
        let gone = self.before.columns.iter().zip(kept).filter(|(_, kept)| !kept).map(|(c, _)| &c.name);
        let gone = gone.filter(|_| drops).map(|name| AlterStep::Drop { name: name.clone() });
        // What goes makes room for names, and what is renamed for what comes.
        let steps: Vec<AlterStep> = gone.chain(in_order(renames)).chain(others).collect();
        let behind: Vec<String> = self.left_behind(&steps).iter().map(|name| dialect.fold(name)).collect();
        // A column that was left is in the way of another one of its name: read again, the table is made without it.
        self.plan.columns.iter().all(|c| !behind.contains(&dialect.fold(&c.name))).then_some(steps)
    }

    /// The place of a numbered column among those that are read.
    fn read_at(&self, number: u32) -> Option<usize> {
        let column = self.after.columns.iter().find(|c| c.number == Some(number))?;
        self.plan.schema.columns.iter().position(|c| c.name == column.column.name)
    }

    /// Whether an expression of the project file may name a value that is called otherwise now.
    pub(super) fn breaks(&self, difference: &Difference) -> bool {
        let Difference::ValueRenamed(column, ..) = difference else { return false };
        let place = column.number.and_then(|number| self.read_at(number));
        place.is_some_and(|place| is_computed_with(self.plan, place))
    }

    /// The steps for values that are called otherwise; none if rows are told apart by them, or made from them.
    fn relabels(&self) -> Option<Vec<AlterStep>> {
        let mut steps = Vec::new();
        for of in self.types {
            let TypeChange::Renamed { from, to } = &of.what else { continue };
            let Some(place) = self.read_at(of.column) else { continue };
            let tells_apart = match &self.plan.schema.identity {
                RowIdentity::Key(key) | RowIdentity::DeclaredKey(key) => key.contains(&place),
                RowIdentity::WholeRow => true,
            };
            let is_cast = |o: &Output| matches!(o, Output::Cast { column, .. } if *column == place);
            let mapping = &self.plan.mapping;
            if tells_apart || mapping.outputs.iter().any(is_cast) || is_computed_with(self.plan, place) {
                return None;
            }
            let outputs = mapping.outputs.iter().enumerate();
            let of_it = outputs.filter(|(_, output)| **output == Output::Column(place));
            steps.extend(of_it.map(|(column, _)| AlterStep::Relabel {
                column,
                from: from.clone(),
                to: to.clone(),
            }));
        }
        Some(steps)
    }

    /// The columns that the target's table has behind these steps, and that nothing is written to any more.
    pub(super) fn left_behind(&self, steps: &[AlterStep]) -> Vec<String> {
        let stays = |was: usize| (0..self.plan.columns.len()).any(|at| self.place_before(at) == Some(was));
        let gone = (0..self.before.columns.len()).filter(|was| !stays(*was));
        let gone = gone.map(|was| &self.before.columns[was].name);
        let is_dropped =
            |name: &String| steps.iter().any(|step| matches!(step, AlterStep::Drop { name: n } if n == name));
        self.known.left_behind.iter().chain(gone).filter(|name| !is_dropped(name)).cloned().collect()
    }

    /// The value that rows which are there have in a column that comes; none if rows would have to be read for it.
    #[expect(clippy::option_option, reason = "not known, or known to be null")]
    fn value(&self, at: usize, values: Option<&RecordBatch>) -> Option<Option<RecordBatch>> {
        let (column, output) = (&self.plan.mapped.columns[at], &self.plan.mapping.outputs[at]);
        let place = match output {
            Output::Column(place) | Output::Cast { column: place, .. } => *place,
            // What a row was before changes that came before the column is not known.
            Output::Old(_) => return Some(None),
            Output::Document(_) | Output::DocumentKey(_) => return None,
            Output::Stamp { .. } | Output::Constant(_) | Output::Expression(_) | Output::Added(_) => {
                return None;
            }
        };
        let Some(values) = values else { return Some(None) };
        let read = self.plan.schema.columns.iter().map(|c| values.schema().index_of(&c.name).ok());
        let values = values.project(&read.collect::<Option<Vec<usize>>>()?).ok()?;
        if values.column(place).is_null(0) {
            return Some(None);
        }
        let mapped = TableSchema {
            table: self.plan.table().clone(),
            columns: vec![column.clone()],
            identity: RowIdentity::WholeRow,
        };
        if let Output::Column(_) = output {
            return Some(Some(
                RecordBatch::try_new(mapped.arrow(), vec![values.column(place).clone()]).ok()?,
            ));
        }
        let mapping = Mapping { outputs: vec![output.clone()], ..Mapping::default() };
        let mapper = Mapper::new(&self.plan.schema, &Arc::new(mapped), &mapping).ok()??;
        Some(Some(mapper.rows(&values).ok()?))
    }
}

/// Whether an expression reads the column at a place.
pub(super) fn is_computed_with(plan: &TablePlan, place: usize) -> bool {
    let outputs = plan.mapping.outputs.iter();
    let all = outputs.flat_map(|output| match output {
        Output::Document(parts) => parts.iter().map(|part| &part.output).collect(),
        output => vec![output],
    });
    let expressions = all.filter_map(|output| match output {
        Output::Expression(text) => Some(text),
        _ => None,
    });
    let is_part = |part: &Part| matches!(part.output, Output::Column(column) | Output::Cast { column, .. } if column == place);
    let in_document = |output: &Output| match output {
        Output::Document(parts) | Output::DocumentKey(parts) => parts.iter().any(is_part),
        _ => false,
    };
    if plan.mapping.outputs.iter().any(in_document) {
        return true;
    }
    let reads = |text: &String| {
        let columns = plan.mapping.named(&plan.schema.columns);
        Expr::parse(text, &columns).map_or(true, |expr| expr.columns().contains(&place))
    };
    plan.mapping.condition.iter().chain(expressions).any(reads)
}

/// Renames such that no name is given before it is free: where names go round in a circle, one column is called something
/// else in between.
fn in_order(mut renames: Vec<(String, String)>) -> Vec<AlterStep> {
    let mut steps = Vec::new();
    while !renames.is_empty() {
        let free = renames.iter().position(|(_, to)| !renames.iter().any(|(from, _)| from == to));
        let (from, to) = match free {
            Some(at) => renames.remove(at),
            None => {
                let between = format!("moorage_between_{}", steps.len());
                let from = std::mem::replace(&mut renames[0].0, between.clone());
                (from, between)
            }
        };
        steps.push(AlterStep::Rename { from, to });
    }
    steps
}

//! Differences × policies: what becomes of a target table when its source's structure has changed.
//!
//! Only what the mapping sees counts: a column that is not carried may come, go and change as it likes. In this order:
//!
//! | | |
//! |---|---|
//! | a policy says `stop` | stop |
//! | the table cannot be carried any more, a value that an expression may name is called otherwise, or a policy says `hold` | hold, until someone decides |
//! | a policy says `reread`, values are not known, or the target cannot change at once what is followed | read again |
//! | otherwise | alter: with no step where nothing of the target changes |

use crate::change::structure::{OfType, Step, TypeChange};
use crate::drift::alter::{AlterStep, Alteration, Then};
use crate::drift::difference::{Difference, differences};
use crate::expr::Expr;
use crate::mapping::mapper::Mapper;
use crate::mapping::outputs::{Mapping, Output};
use crate::model::drift::{DriftKind, DriftPolicies, DriftPolicy};
use crate::model::schema::{RowIdentity, TableSchema};
use crate::model::structure::Structure;
use crate::pick::rule::TableRule;
use crate::plan::dialect::TargetDialect;
use crate::plan::make::plan_known;
use crate::plan::table::TablePlan;
use crate::project::config::PipelineConfig;
use arrow::array::{Array, RecordBatch};
use std::sync::Arc;

/// What becomes of it.
#[derive(Clone, Debug)]
#[must_use]
pub enum Decision {
    /// The target table is altered, held or read again.
    Alter(Alteration),
    /// The pipeline does not go on as it is.
    Stop {
        /// What changed, for people.
        what: String,
    },
}

/// What is decided with.
#[derive(Clone, Copy)]
pub struct By<'a> {
    /// What the project file says.
    pub config: &'a PipelineConfig,
    /// The target's dialect.
    pub dialect: &'a dyn TargetDialect,
    /// Whether the target can alter tables that have rows.
    pub alters: bool,
    /// What someone has decided about what the project file has held; none if nobody has.
    pub decision: Option<DriftPolicy>,
}

impl By<'_> {
    fn policy(&self, policies: &DriftPolicies, kind: DriftKind) -> DriftPolicy {
        match (policies.of(kind), self.decision) {
            (DriftPolicy::Hold, Some(decision)) => kind.decided(decision),
            (policy, _) => policy,
        }
    }
}

/// Decides.
pub fn decide(before: &Arc<TablePlan>, step: &Arc<Step>, by: &By<'_>) -> Decision {
    let held = |what: String| {
        let (before, after) = (before.clone(), before.clone());
        let (then, step) = (Then::Holds, step.clone());
        Decision::Alter(Alteration { before, after, steps: Vec::new(), then, what, id: 0, step })
    };
    let Some(known) = before.structure.as_deref() else {
        return held("its structure was changed".into());
    };
    let rule = by.config.picker().rule(known.ruled_as());
    let all = differences(known, step);
    let after = carried_on(before, known, step, &all, &rule, by);
    let mut plan = match plan_known(by.config, &after, by.dialect) {
        Ok(plan) => plan,
        Err(why) => return held(format!("{}; as it is now it cannot be carried: {why}", words(&all))),
    };
    plan.target.clone_from(&before.target);
    plan.each_change = before.each_change;
    let compared = Compared { before, known, plan: &plan, after: &after, types: &step.types };
    let seen: Vec<&Difference> = all.iter().filter(|d| compared.sees(d)).collect();
    let what = if seen.is_empty() { words(&all) } else { words(seen.iter().copied()) };
    let policy = |d: &&Difference| by.policy(&rule.drift, d.kind(step.unknown.as_ref()));
    if seen.iter().any(|d| policy(d) == DriftPolicy::Stop) {
        return Decision::Stop { what };
    }
    let breaks = |d: &Difference| by.decision.is_none() && compared.breaks(d);
    if seen.iter().any(|d| policy(d) == DriftPolicy::Hold || breaks(d)) {
        return held(what);
    }
    let asked = seen.iter().any(|d| policy(d) == DriftPolicy::Reread || d.needs_rows());
    let drops = by.policy(&rule.drift, DriftKind::ColumnDropped) == DriftPolicy::Follow;
    let steps = compared.steps(drops, by.dialect, step.values.as_ref());
    let steps = steps.filter(|steps| !asked && (by.alters || steps.is_empty()));
    let then = if steps.is_some() { Then::Merges } else { Then::Rereads };
    let left_behind = steps.as_ref().map(|steps| compared.left_behind(steps)).unwrap_or_default();
    plan.structure = Some(Arc::new(Structure { left_behind, ..after }));
    let (before, after, step) = (before.clone(), Arc::new(plan), step.clone());
    Decision::Alter(Alteration { before, after, steps: steps.unwrap_or_default(), then, what, id: 0, step })
}

fn words<'a>(all: impl IntoIterator<Item = &'a Difference>) -> String {
    all.into_iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}

/// The structure to plan with: what is known of columns and table beside what the catalogue says goes on.
fn carried_on(
    before: &TablePlan,
    known: &Structure,
    step: &Step,
    all: &[Difference],
    rule: &TableRule,
    by: &By<'_>,
) -> Structure {
    let read_before = |name: &str| {
        let place = before.schema.columns.iter().position(|c| c.name == name);
        place.is_some_and(|place| is_computed_with(before, place))
    };
    let mut after = Structure::of(&step.after);
    if known.ruled_as() != &after.name {
        after.known_as = Some(known.ruled_as().clone());
    }
    let leaves = by.policy(&rule.drift, DriftKind::ColumnAdded) == DriftPolicy::Leave;
    let leaves_names = by.policy(&rule.drift, DriftKind::ColumnRenamed) == DriftPolicy::Leave;
    for column in &mut after.columns {
        match known.same(column) {
            Some(was) => {
                column.left = was.left;
                let ruled_as = was.ruled_as();
                let is_named = rule.names(ruled_as) || read_before(&was.column.name);
                if ruled_as != column.column.name && is_named {
                    column.known_as = Some(ruled_as.into());
                }
                let renamed = was.column.name != column.column.name;
                column.called = match (&was.called, renamed && leaves_names) {
                    (Some(called), _) => Some(called.clone()),
                    (None, true) => Some(was.column.name.clone()),
                    (None, false) => None,
                };
            }
            None => {
                column.left = leaves && all.iter().any(|d| matches!(d, Difference::Added(c) if c == column))
            }
        }
    }
    after
}

impl Difference {
    /// Whether only reading the table again tells what its rows hold.
    fn needs_rows(&self) -> bool {
        matches!(self, Self::Generated(_) | Self::Values(_))
    }
}

struct Compared<'a> {
    before: &'a Arc<TablePlan>,
    known: &'a Structure,
    plan: &'a TablePlan,
    after: &'a Structure,
    types: &'a [OfType],
}

/// What a target column is made from.
#[derive(PartialEq)]
enum Origin<'a> {
    Numbered(u32),
    Named(&'a str),
    Made(&'a str, &'a Output),
}

fn origin<'a>(plan: &'a TablePlan, structure: &Structure, at: usize) -> Origin<'a> {
    match &plan.mapping.outputs[at] {
        Output::Column(c) | Output::Cast { column: c, .. } => {
            let name = plan.schema.columns[*c].name.as_str();
            let number = structure.columns.iter().find(|c| c.column.name == name).and_then(|c| c.number);
            number.map_or(Origin::Named(name), Origin::Numbered)
        }
        output => Origin::Made(&plan.columns[at].name, output),
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
        (0..self.before.columns.len()).find(|&was| self.was(was) == self.is(at))
    }

    /// Whether the mapping sees a difference.
    fn sees(&self, difference: &Difference) -> bool {
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

    fn same_key(&self) -> bool {
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

    /// The steps; none if rows would have to be read for them.
    fn steps(
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
    fn breaks(&self, difference: &Difference) -> bool {
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
    fn left_behind(&self, steps: &[AlterStep]) -> Vec<String> {
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
            Output::Stamp { .. } | Output::Constant(_) | Output::Expression(_) => return None,
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
fn is_computed_with(plan: &TablePlan, place: usize) -> bool {
    let outputs = plan.mapping.outputs.iter();
    let expressions = outputs.filter_map(|output| match output {
        Output::Expression(text) => Some(text),
        _ => None,
    });
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

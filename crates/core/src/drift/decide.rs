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

use crate::change::structure::Step;
use crate::drift::alter::{AlterStep, Alteration, Then};
use crate::drift::compared::{Compared, is_computed_with};
use crate::drift::difference::{Difference, differences};
use crate::expr::with_names;
use crate::model::drift::{DriftKind, DriftPolicies, DriftPolicy};
use crate::model::finding::Reason;
use crate::model::structure::Structure;
use crate::pick::rule::TableRule;
use crate::plan::dialect::TargetDialect;
use crate::plan::make::plan_known;
use crate::plan::table::TablePlan;
use crate::project::config::PipelineConfig;
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
        let (steps, also) = (Vec::new(), Vec::new());
        let held = Alteration { before, after, steps, then, what, id: 0, step, would: None, also };
        Decision::Alter(held.of_forms(|_, _| Vec::new()))
    };
    let Some(known) = before.structure.as_deref() else {
        return held("its structure was changed".into());
    };
    let rule = rule_of(by.config, known);
    let all = differences(known, step);
    let after = carried_on(before, known, step, &all, &rule, by);
    let mut plan = match plan_known(by.config, &after, by.dialect) {
        Ok(plan) => plan,
        Err(why) => return held(format!("{}; as it is now it cannot be carried: {why}", words(&all))),
    };
    plan.target.clone_from(&before.target);
    plan.gathered.clone_from(&before.gathered);
    for form in &mut plan.also {
        Arc::make_mut(form).beside = Some(before.target.clone());
    }
    plan.each_change = before.each_change;
    let after_structure = after.clone();
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
    let steps_of = |before: &Arc<TablePlan>, plan: &Arc<TablePlan>| {
        let compared = Compared { before, known, plan, after: &after_structure, types: &step.types };
        compared.steps(drops, by.dialect, step.values.as_ref())
    };
    let steps = steps.filter(|_| forms_follow(before, &plan, by, steps_of));
    let then = if steps.is_some() { Then::Merges } else { Then::Rereads };
    let left_behind = steps.as_ref().map(|steps| compared.left_behind(steps)).unwrap_or_default();
    plan.structure = Some(Arc::new(Structure { left_behind, ..after }));
    let (before, after) = (before.clone(), Arc::new(plan));
    let (steps, also) = (steps.unwrap_or_default(), Vec::new());
    let alteration =
        Alteration { before, after, steps, then, what, id: 0, step: step.clone(), would: None, also };
    Decision::Alter(alteration.of_forms(|before, after| steps_of(before, after).unwrap_or_default()))
}

/// Whether every form of the table that is to be was there before, and can be altered to what it is to be.
fn forms_follow(
    before: &TablePlan,
    plan: &TablePlan,
    by: &By<'_>,
    steps: impl Fn(&Arc<TablePlan>, &Arc<TablePlan>) -> Option<Vec<AlterStep>>,
) -> bool {
    plan.also.iter().all(|form| {
        let was = before.also.iter().find(|was| was.target == form.target);
        let steps = was.and_then(|was| steps(was, form));
        steps.is_some_and(|steps| by.alters || steps.is_empty())
    })
}

/// What the project file says of a table that is known by its structure.
fn rule_of(config: &PipelineConfig, known: &Structure) -> TableRule {
    let picker = config.picker();
    let table = known.table();
    picker.rule_within(known.ruled_as(), picker.part_of(&table).map(|part| &part.root))
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
    let mut after = Structure { part_of: known.part_of.clone(), ..Structure::of(&step.after) };
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
    // By the names that rules know the columns by: those that it had when it was first planned.
    let ruled = after.columns.clone();
    let called = |name: &str| ruled.iter().find(|c| c.column.name == name)?.known_as.clone();
    for column in after.columns.iter_mut().filter(|c| c.generated) {
        let was = known.same(column).and_then(|was| was.expression.clone());
        column.expression = column.expression.as_deref().map(|text| with_names(text, called)).or(was);
    }
    after
}

impl Difference {
    /// Whether only reading the table again tells what its rows hold.
    fn needs_rows(&self) -> bool {
        matches!(self, Self::Generated(_) | Self::Values(_))
    }
}

/// What becomes of a followed table whose project file maps it in another way than its rows were read, with nothing changed in
/// the source: columns that are not carried any more stay or go as dropped ones do, and where the target's rows lack something
/// that only the source has, it is read again.
///
/// # Errors
/// Why it cannot be carried so.
pub fn remap(before: &Arc<TablePlan>, by: &By<'_>) -> Result<Alteration, Reason> {
    let known =
        before.structure.as_deref().ok_or("an earlier version read it, and it has to be read again")?;
    let mut plan = plan_known(by.config, known, by.dialect)?;
    plan.each_change = before.each_change;
    let compared = Compared { before, known, plan: &plan, after: known, types: &[] };
    let rule = rule_of(by.config, known);
    let drops = by.policy(&rule.drift, DriftKind::ColumnDropped) == DriftPolicy::Follow;
    let steps =
        Some(compared.steps(drops, by.dialect, None)).filter(|_| compared.maps_rows_alike()).flatten();
    let steps = steps.filter(|steps| by.alters || steps.is_empty());
    let steps_of = |before: &Arc<TablePlan>, plan: &Arc<TablePlan>| {
        let compared = Compared { before, known, plan, after: known, types: &[] };
        compared.maps_rows_alike().then(|| compared.steps(drops, by.dialect, None)).flatten()
    };
    let steps = steps.filter(|_| forms_follow(before, &plan, by, steps_of));
    let then = if steps.is_some() { Then::Merges } else { Then::Rereads };
    let left_behind = steps.as_ref().map(|steps| compared.left_behind(steps)).unwrap_or_default();
    plan.structure = Some(Arc::new(Structure { left_behind, ..known.clone() }));
    let step = Step {
        after: Arc::new(known.table()),
        schema: before.schema.clone(),
        values: None,
        unknown: None,
        types: Vec::new(),
    };
    let what = "the project file maps it in another way".into();
    let (before, after, step) = (before.clone(), Arc::new(plan), Arc::new(step));
    let (steps, also) = (steps.unwrap_or_default(), Vec::new());
    let alteration = Alteration { before, after, steps, then, what, id: 0, step, would: None, also };
    Ok(alteration.of_forms(|before, after| steps_of(before, after).unwrap_or_default()))
}

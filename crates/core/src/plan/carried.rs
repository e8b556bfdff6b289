//! The tables that a run carries.

use super::table::TablePlan;
use crate::model::name::TableName;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

/// The plans of all tables that a run carries. A copy costs nothing, and neither finding one does, however many there are.
#[derive(Clone, Debug, Default)]
pub struct CarriedTables(Arc<Carried>);

#[derive(Debug, Default)]
struct Carried {
    plans: Vec<Arc<TablePlan>>,
    places: HashMap<TableName, usize>,
    /// Those whose changes are kept and not merged.
    held: HashSet<TableName>,
}

impl CarriedTables {
    /// A table's plan, with its place among all.
    pub fn of(&self, table: &TableName) -> Option<(usize, &Arc<TablePlan>)> {
        let place = *self.0.places.get(table)?;
        Some((place, &self.0.plans[place]))
    }

    /// The same with another plan in the place of one of a table, whose changes are kept from then on, or are not.
    #[must_use]
    pub fn with(&self, before: &TablePlan, after: Arc<TablePlan>, held: bool) -> Self {
        let mut plans = self.0.plans.clone();
        let mut all_held = self.0.held.clone();
        all_held.remove(before.table());
        if held {
            all_held.insert(after.table().clone());
        }
        match self.0.places.get(before.table()) {
            Some(&place) => plans[place] = after,
            None => plans.push(after),
        }
        Self::of_plans(plans, all_held)
    }

    fn of_plans(plans: Vec<Arc<TablePlan>>, held: HashSet<TableName>) -> Self {
        let places = plans.iter().enumerate().map(|(place, plan)| (plan.table().clone(), place)).collect();
        Self(Arc::new(Carried { plans, places, held }))
    }

    /// The same with these tables held.
    #[must_use]
    pub fn holding(&self, held: impl IntoIterator<Item = TableName>) -> Self {
        Self::of_plans(self.0.plans.clone(), held.into_iter().collect())
    }

    /// Whether a table's changes are kept and not merged.
    pub fn is_held(&self, table: &TableName) -> bool {
        !self.0.held.is_empty() && self.0.held.contains(table)
    }

    /// The plan at a place.
    pub fn at(&self, place: usize) -> Option<&Arc<TablePlan>> {
        self.0.plans.get(place)
    }

    /// All plans, in the order in which they were given.
    pub fn iter(&self) -> impl Iterator<Item = &Arc<TablePlan>> {
        self.0.plans.iter()
    }
}

impl FromIterator<TablePlan> for CarriedTables {
    fn from_iter<T: IntoIterator<Item = TablePlan>>(plans: T) -> Self {
        Self::of_plans(plans.into_iter().map(Arc::new).collect(), HashSet::new())
    }
}

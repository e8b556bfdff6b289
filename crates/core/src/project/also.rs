//! Other forms in which a table is kept beside the first one.

use crate::model::kept_as::{Deletes, Keep, Operation};
use crate::pick::rule::{AlsoKept, TableRule};
use crate::project::error::Mistake;
use serde::Deserialize;
use toml::Spanned;

/// One form: what it keeps, and into which table.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AlsoConfig {
    /// What the target table holds; current rows if not given.
    pub keep: Option<Keep>,
    /// How the target table is named.
    pub into: Spanned<String>,
    /// Whether a table that keeps changes has old values beside the new ones.
    pub old_values: Option<bool>,
    /// The operations whose changes are applied; all if not given.
    pub operations: Option<Spanned<Vec<Operation>>>,
    /// What becomes of rows that were deleted in the source; `remove` if not given.
    pub deletes: Option<Deletes>,
    /// How the view of current rows beside a table that keeps changes is named.
    pub view: Option<Spanned<String>>,
}

impl AlsoConfig {
    pub(super) fn check(&self) -> Result<(), Mistake> {
        check_operations(self.operations.as_ref())
    }

    /// The names that it gives, for checking them.
    pub(super) fn names(&self) -> impl Iterator<Item = &Spanned<String>> {
        std::iter::once(&self.into).chain(&self.view)
    }

    pub(super) fn kept(&self) -> AlsoKept {
        let text = |text: &Spanned<String>| text.get_ref().clone();
        AlsoKept(TableRule {
            into: Some(text(&self.into)),
            keep: Some(self.keep.unwrap_or_default()),
            old_values: self.old_values,
            operations: self.operations.as_ref().map(|o| o.get_ref().clone()),
            deletes: self.deletes,
            view: self.view.as_ref().map(text),
            ..TableRule::default()
        })
    }
}

/// Checks that a list of operations has some, and none that is not a change of a row.
pub(super) fn check_operations(operations: Option<&Spanned<Vec<Operation>>>) -> Result<(), Mistake> {
    let Some(operations) = operations else { return Ok(()) };
    let expected = "some of \"insert\", \"update\" and \"delete\"";
    let wrong = |what: String| Mistake::at(operations.span(), what, expected);
    match operations.get_ref().iter().find(|o| matches!(o, Operation::Snapshot | Operation::Truncate)) {
        Some(other) => Err(wrong(format!("`operations` cannot have \"{}\"", other.word()))),
        None if operations.get_ref().is_empty() => {
            Err(wrong("`operations` is empty: nothing would be applied".into()))
        }
        None => Ok(()),
    }
}

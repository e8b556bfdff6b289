//! What would become of changes of structure, before there are any: policies × what the target is able to do, in words.

use crate::model::drift::{DriftKind, DriftPolicy};
use crate::model::name::TableName;
use crate::plan::dialect::TargetDialect;
use crate::plan::table::TablePlan;
use crate::project::config::PipelineConfig;

/// What would become of a kind of change.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Outlook {
    /// The kind.
    pub kind: DriftKind,
    /// What the project file says of it, or the default.
    pub policy: DriftPolicy,
    /// What that comes to, for people.
    pub what: &'static str,
    /// The tables for which it is so; none if it is so for all.
    pub tables: Vec<TableName>,
}

/// What would become of each kind for these tables, in the order of the kinds. `alters` says whether the target can alter
/// tables that have rows.
pub fn outlook(
    config: &PipelineConfig,
    plans: &[TablePlan],
    dialect: &dyn TargetDialect,
    alters: bool,
) -> Vec<Outlook> {
    let mut all: Vec<Outlook> = Vec::new();
    let policies: Vec<_> = plans
        .iter()
        .map(|plan| {
            let name = plan.structure.as_deref().map_or_else(|| plan.table(), |known| known.ruled_as());
            (plan, config.picker().rule_within(name, plan.root()).drift)
        })
        .collect();
    for kind in DriftKind::ALL {
        let begin = all.len();
        for (plan, policies) in &policies {
            let (table, is_partition) = (plan.table(), plan.root().is_some());
            let policy = if is_partition { policies.of_partition(kind) } else { policies.of(kind) };
            let what = match (plan.gathered.is_some(), policy, kind) {
                (true, DriftPolicy::Follow, DriftKind::TableDropped) => "its rows go, and no others",
                (true, DriftPolicy::Leave, DriftKind::TableDropped) => "its rows stay",
                _ => comes_to(kind, policy, dialect, alters),
            };
            match all[begin..].iter_mut().find(|outlook| (outlook.policy, outlook.what) == (policy, what)) {
                Some(outlook) => outlook.tables.push(table.clone()),
                None => {
                    let tables = vec![table.clone()];
                    all.push(Outlook { kind, policy, what, tables });
                }
            }
        }
        if all.len() == begin + 1 {
            all[begin].tables.clear();
        }
    }
    all
}

fn comes_to(kind: DriftKind, policy: DriftPolicy, dialect: &dyn TargetDialect, alters: bool) -> &'static str {
    const READ: &str = "the table is read again beside the running stream";
    match (policy, kind) {
        (DriftPolicy::Stop, _) => "the pipeline stops before it",
        (DriftPolicy::Hold, DriftKind::TableAdded) => "it joins once someone decides",
        (DriftPolicy::Hold, _) => "the table's changes are kept until someone decides",
        (DriftPolicy::Reread, _) => READ,
        (DriftPolicy::Leave, DriftKind::ColumnDropped) => {
            "the target's column stays, and is null in later rows"
        }
        (DriftPolicy::Leave, DriftKind::ColumnRenamed) => "the target's column keeps its name",
        (DriftPolicy::Leave, DriftKind::TableDropped) => "the target table stays as it is",
        (DriftPolicy::Leave, _) => "it is not carried",
        (DriftPolicy::Follow, DriftKind::TableDropped) => "the target table is dropped",
        (DriftPolicy::Follow, DriftKind::TableAdded) => "it is read, and joins",
        (DriftPolicy::Follow, DriftKind::TableRenamed) => "the target table keeps its name",
        (DriftPolicy::Follow, DriftKind::ValuesAllowed) => "nothing changes in the target",
        (DriftPolicy::Follow, _) if !alters => READ,
        (DriftPolicy::Follow, DriftKind::ColumnAdded) => {
            "the target gets it, with the value that rows have which were there"
        }
        (DriftPolicy::Follow, DriftKind::ColumnDropped) if dialect.drops_at_once() => {
            "the target's column is dropped"
        }
        (DriftPolicy::Follow, DriftKind::ColumnDropped) => {
            "the target's column stays: this target cannot drop it at once"
        }
        (DriftPolicy::Follow, DriftKind::ColumnRenamed) => "the target's column is renamed",
        (DriftPolicy::Follow, DriftKind::ValueRenamed) => "it is renamed in the target's rows",
        (DriftPolicy::Follow, _) => {
            "the target's column is widened, or the table read again where that takes time"
        }
    }
}

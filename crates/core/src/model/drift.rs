//! Kinds of changes of structure, and what a project file may say becomes of each.

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// What is done about a change of structure.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum DriftPolicy {
    /// The target's table is changed likewise, in the same commit as the rows around it.
    Follow,
    /// The target's table stays as it is.
    Leave,
    /// The table's changes are kept beside the rows until someone decides; everything else goes on.
    Hold,
    /// The table is read again beside the running stream.
    Reread,
    /// The pipeline stops before it.
    Stop,
}

impl DriftPolicy {
    /// What someone may decide about a change that is held, by its word.
    pub fn of_decision(word: &str) -> Option<Self> {
        [Self::Follow, Self::Leave, Self::Reread].into_iter().find(|policy| policy.word() == word)
    }

    /// The word in the project file.
    pub fn word(self) -> &'static str {
        match self {
            Self::Follow => "follow",
            Self::Leave => "leave",
            Self::Hold => "hold",
            Self::Reread => "reread",
            Self::Stop => "stop",
        }
    }
}

/// A kind of change of structure.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum DriftKind {
    /// A column came.
    ColumnAdded,
    /// A column went.
    ColumnDropped,
    /// A column is called otherwise.
    ColumnRenamed,
    /// A column's type holds more, and no value became another one.
    TypeWidened,
    /// A column has another type, in any other way.
    TypeChanged,
    /// A value of an enumerated type is called otherwise.
    ValueRenamed,
    /// A column's type allows other values than before.
    ValuesAllowed,
    /// Values of rows that were there may have become other ones, and no log says which.
    ValuesChanged,
    /// Rows are told apart by other columns.
    KeyChanged,
    /// The table is called otherwise, or stands in another schema.
    TableRenamed,
    /// The table went.
    TableDropped,
    /// The table went, and another one of its name came.
    TableMadeAgain,
    /// A table came that the pipeline picks.
    TableAdded,
}

impl DriftKind {
    /// All kinds.
    pub const ALL: [Self; 13] = [
        Self::ColumnAdded,
        Self::ColumnDropped,
        Self::ColumnRenamed,
        Self::TypeWidened,
        Self::TypeChanged,
        Self::ValueRenamed,
        Self::ValuesAllowed,
        Self::ValuesChanged,
        Self::KeyChanged,
        Self::TableRenamed,
        Self::TableDropped,
        Self::TableMadeAgain,
        Self::TableAdded,
    ];

    /// The word in the project file.
    pub fn word(self) -> &'static str {
        match self {
            Self::ColumnAdded => "column_added",
            Self::ColumnDropped => "column_dropped",
            Self::ColumnRenamed => "column_renamed",
            Self::TypeWidened => "type_widened",
            Self::TypeChanged => "type_changed",
            Self::ValueRenamed => "value_renamed",
            Self::ValuesAllowed => "values_allowed",
            Self::ValuesChanged => "values_changed",
            Self::KeyChanged => "key_changed",
            Self::TableRenamed => "table_renamed",
            Self::TableDropped => "table_dropped",
            Self::TableMadeAgain => "table_made_again",
            Self::TableAdded => "table_added",
        }
    }

    /// What may be done about it, the default first.
    pub fn policies(self) -> &'static [DriftPolicy] {
        use DriftPolicy::{Follow, Hold, Leave, Reread, Stop};
        match self {
            Self::ColumnAdded => &[Follow, Leave, Hold, Reread, Stop],
            Self::ColumnDropped => &[Leave, Follow, Hold, Reread, Stop],
            Self::ColumnRenamed => &[Hold, Follow, Leave, Reread, Stop],
            Self::TypeWidened | Self::ValueRenamed => &[Follow, Hold, Reread, Stop],
            Self::TypeChanged | Self::KeyChanged => &[Hold, Reread, Stop],
            Self::ValuesChanged => &[Reread, Hold, Stop],
            Self::TableRenamed | Self::ValuesAllowed => &[Follow, Hold, Stop],
            Self::TableDropped => &[Leave, Follow, Stop],
            Self::TableMadeAgain => &[Reread, Stop],
            Self::TableAdded => &[Follow, Leave, Hold],
        }
    }

    /// What is done about it when someone decides, who may say more than the kind has: what cannot be followed or left is
    /// read again, or followed.
    pub fn decided(self, decision: DriftPolicy) -> DriftPolicy {
        let may = self.policies();
        let instead = [decision, DriftPolicy::Reread, DriftPolicy::Follow];
        instead.into_iter().find(|policy| may.contains(policy)).unwrap_or(decision)
    }

    /// Why the default is what it is, in a sentence.
    pub fn why_default(self) -> &'static str {
        match self {
            Self::ColumnAdded => {
                "nothing is lost by it, and the value that rows have which were there before is known"
            }
            Self::ColumnDropped => "the target keeps the values that it has, and nobody's query breaks",
            Self::ColumnRenamed => "queries of the target name the column, so someone should know first",
            Self::TypeWidened => "every value stays what it is",
            Self::TypeChanged => {
                "the target's values have to be made anew, and queries may depend on the type"
            }
            Self::ValueRenamed => "every row that has the value is known, and so is what it is called now",
            Self::ValuesAllowed => {
                "no value that is there changes, and the target takes any value of the type"
            }
            Self::ValuesChanged => "only reading the table again tells what its rows hold now",
            Self::KeyChanged => "the target's rows are told apart by the key, so someone should look at it",
            Self::TableRenamed => "it is the same table, and its target table keeps its name",
            Self::TableDropped => "its target table may be all that is left of its rows",
            Self::TableMadeAgain => "its target table holds rows of the one that is gone",
            Self::TableAdded => "a pattern that picks tables means those that come, too",
        }
    }
}

/// What a project file says of drift; what it does not say is the default.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct DriftPolicies(BTreeMap<DriftKind, DriftPolicy>);

impl DriftPolicies {
    /// What is done about a kind.
    pub fn of(&self, kind: DriftKind) -> DriftPolicy {
        self.0.get(&kind).copied().unwrap_or(kind.policies()[0])
    }

    /// What is done about a kind, of a partition of a table that is one in the target: it takes its rows along when it goes.
    pub fn of_partition(&self, kind: DriftKind) -> DriftPolicy {
        match (kind, self.0.get(&kind)) {
            (DriftKind::TableDropped, None) => DriftPolicy::Follow,
            _ => self.of(kind),
        }
    }

    /// Says what is done about a kind; later words win.
    pub fn set(&mut self, kind: DriftKind, policy: DriftPolicy) {
        self.0.insert(kind, policy);
    }

    /// Adds what a later table of the file says, which wins.
    pub fn overlay(&mut self, later: &Self) {
        self.0.extend(&later.0);
    }
}

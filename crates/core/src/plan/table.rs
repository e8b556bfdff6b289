//! How one table is carried, and that as targets keep it.

use crate::mapping::mapper::Mapper;
use crate::mapping::outputs::{Mapping, Output};
use crate::mapping::snapshot::with_added;
use crate::model::described::{LogIdentity, SourceColumn, SourceTable};
use crate::model::finding::Fix;
use crate::model::gathered::Gathered;
use crate::model::kept_as::{Added, Keep, KeptAs};
use crate::model::name::TableName;
use crate::model::policy::{ExistingRows, Mismatch, OnReject};
use crate::model::schema::{Column, RowIdentity, TableSchema};
use crate::model::structure::Structure;
use crate::plan::dialect::Declared;
use crate::value::moment::Moment;
use arrow::array::RecordBatch;
use arrow::error::ArrowError;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// A carried column.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlannedColumn {
    /// Its name in the target.
    pub name: String,
    /// How the target declares it.
    pub declared: Declared,
    /// What a conversion loses, if the project file asked for one that may.
    #[serde(default)]
    pub loses: Option<String>,
    /// What people wrote about it in the source.
    #[serde(default)]
    pub comment: Option<String>,
}

/// A table that will be carried. `columns`, the outputs of `mapping` and the columns of `mapped` correspond one
/// by one.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "StoredPlan", into = "StoredPlan")]
pub struct TablePlan {
    /// The source's structure, only the columns that are read.
    pub schema: Arc<TableSchema>,
    /// The target's structure, under the source table's name: what reaches the target has it.
    pub mapped: Arc<TableSchema>,
    /// How the one becomes the other.
    pub mapping: Mapping,
    /// The source's own number for the table.
    pub source_id: u64,
    /// By what it is known in the target: the name of the target table, or, where that has rows of others too, [a
    /// unit](Gathered::unit) of it. What stands in statements is [`TablePlan::stands_in`].
    pub target: String,
    /// How it stands together with other tables in one target table.
    pub gathered: Option<Gathered>,
    /// Its columns.
    pub columns: Vec<PlannedColumn>,
    /// Columns of the source that are not carried, with the reason.
    pub left_out: Vec<(String, String)>,
    /// What to do with rows that were there before.
    pub existing_rows: Option<ExistingRows>,
    /// Statements, written by people, that make the target table instead of the ones Moorage would use.
    pub ddl: Option<String>,
    /// What becomes of a change that the target refuses.
    pub on_reject: OnReject,
    /// What becomes of a change whose row the target holds otherwise.
    pub mismatch: Mismatch,
    /// What people wrote about the table in the source.
    pub comment: Option<String>,
    /// What the target table keeps of rows. Columns that this adds stand behind all others.
    pub kept_as: KeptAs,
    /// The same table in other forms, each in a target table of its own, from one capture: all of them are read, merged,
    /// altered and held together. Their columns of the row are those of this one.
    pub also: Vec<Arc<TablePlan>>,
    /// Of such a form, the target table of the first one.
    pub beside: Option<String>,
    /// The structure this plan was made from, as an earlier version kept it.
    pub fingerprint: String,
    /// The structure this plan was made from; none in a plan that an earlier version made.
    pub structure: Option<Arc<Structure>>,
    /// Whether the source has to tell every change by itself, and the very same ones when it is asked again; otherwise it may
    /// tell what a stretch of them came to. Said anew whenever a plan is made, and not stored.
    pub each_change: bool,
}

impl TablePlan {
    /// The source table.
    pub fn table(&self) -> &TableName {
        &self.schema.table
    }

    /// What carries the mapping out; none if rows go over as they are read.
    ///
    /// # Errors
    /// If an expression does not fit the columns; in words.
    pub fn mapper(&self) -> Result<Option<Mapper>, String> {
        let mapper = Mapper::new(&self.schema, &self.mapped, &self.mapping)?;
        Ok(mapper.map(|mapper| mapper.keeping(&self.kept_as)))
    }

    /// The source's table as far as the plan knows it.
    pub fn source_table(&self) -> SourceTable {
        let column = |c: &Column| SourceColumn::of(c.clone());
        let structure = || Structure {
            name: self.table().clone(),
            id: self.source_id,
            columns: self.schema.columns.iter().map(column).collect(),
            identity: LogIdentity::Full { key: None },
            whole_rows: Fix::none(),
            state: String::new(),
            known_as: None,
            part_of: None,
            uncaptured: None,
            left_behind: Vec::new(),
        };
        self.structure.as_deref().map_or_else(|| structure().table(), Structure::table)
    }

    /// The target table, by the name that it has there.
    pub fn stands_in(&self) -> &str {
        self.gathered.as_ref().map_or(&self.target, |gathered| &gathered.into)
    }

    /// Whether the target table has the rows of this table as they are now, and nothing else.
    pub fn is_a_copy(&self) -> bool {
        self.kept_as.is_plain() && self.gathered.is_none()
    }

    /// Where the target table has rows of others, too: the column that says whose they are, and what it says of these.
    pub fn member(&self) -> Option<(&str, &str)> {
        self.gathered.as_ref().map(|gathered| (gathered.column.as_str(), gathered.from.as_str()))
    }

    /// The partitioned table that it is a partition of, where its rows stand among those of all partitions.
    pub fn root(&self) -> Option<&TableName> {
        self.gathered.as_ref().and_then(|gathered| gathered.root.as_ref())
    }

    /// Whether both are of the same source table, whatever it is called: by its number, or by its name where the source does
    /// not number tables.
    pub fn is_of_same(&self, other: &Self) -> bool {
        self.source_id == other.source_id && (self.source_id != 0 || self.table() == other.table())
    }

    /// Whether a table goes by this name: the source's or the target's.
    pub fn goes_by(&self, name: &str) -> bool {
        self.table().goes_by(name)
            || self.target == name
            || self.stands_in() == name
            || self.root().is_some_and(|root| root.goes_by(name))
    }

    /// Whether the source's table had a column of this name when the plan was made.
    pub fn knows(&self, column: &str) -> bool {
        let left_out = self.left_out.iter().map(|(name, _)| name.as_str());
        self.schema.columns.iter().map(|c| c.name.as_str()).chain(left_out).any(|name| name == column)
    }

    /// What is another way in the source's table than when the plan was made, for people; none if nothing is. `otherwise`
    /// is said where no carried column differs.
    pub fn what_changed(&self, now: &SourceTable, otherwise: &str) -> Option<String> {
        if now.id != self.source_id {
            return Some("it was dropped and made again".into());
        }
        if now.fingerprint() == self.fingerprint {
            return None;
        }
        let found = |name: &str| now.columns.iter().map(|c| &c.column).find(|c| c.name == name);
        let added = now.columns.iter().map(|c| &c.column.name).filter(|name| !self.knows(name));
        let added = added.map(|name| format!("column {name} was added"));
        let others = self.schema.columns.iter().filter_map(|was| match found(&was.name) {
            None => Some(format!("column {} is not there any more", was.name)),
            Some(now) if now.source_type != was.source_type => {
                let (name, now, was) = (&was.name, &now.source_type, &was.source_type);
                Some(format!("column {name} is of type {now} and was of type {was}"))
            }
            Some(_) => None,
        });
        let changes: Vec<String> = added.chain(others).collect();
        match changes.is_empty() {
            true => Some(otherwise.into()),
            false => Some(changes.join(", ")),
        }
    }

    /// Whether both carry the same rows in the same way. What to do with existing rows, and the statements that
    /// make the table, only matter when it is made; what to do with refused changes only while merging.
    pub fn maps_like(&self, other: &Self) -> bool {
        let bare = |plan: &Self| Self {
            existing_rows: None,
            ddl: None,
            on_reject: OnReject::default(),
            mismatch: Mismatch::default(),
            comment: None,
            structure: None,
            each_change: false,
            columns: plan.columns.iter().map(|c| PlannedColumn { comment: None, ..c.clone() }).collect(),
            also: Vec::new(),
            ..plan.clone()
        };
        let also = |plan: &Self| -> Vec<Self> { plan.also.iter().map(|form| bare(form)).collect() };
        bare(self) == bare(other) && also(self) == also(other)
    }

    /// Where a target column comes from, for people: the source's column, or what the project file says.
    pub fn source_column(&self, at: usize) -> String {
        match &self.mapping.outputs[at] {
            Output::Column(c) | Output::Cast { column: c, .. } => self.schema.columns[*c].name.clone(),
            Output::Stamp { stamp, .. } => stamp.word().into(),
            Output::Constant(text) => format!("'{text}'"),
            Output::Expression(text) => text.clone(),
            Output::Added(added) => added.words().into(),
            Output::Old(of) => format!("{} before the change", self.source_column(*of)),
            Output::Document(parts) | Output::DocumentKey(parts) => {
                parts.iter().map(|part| part.column.name.as_str()).collect::<Vec<_>>().join(", ")
            }
        }
    }

    /// All forms in which the table is kept, this one first.
    pub fn forms(&self) -> impl Iterator<Item = &Self> {
        std::iter::once(self).chain(self.also.iter().map(AsRef::as_ref))
    }

    /// The names of what is made of it in the target: its tables, and the views beside them.
    pub fn makes(&self) -> impl Iterator<Item = &str> {
        self.forms().flat_map(Self::makes_itself)
    }

    /// The same of this form alone.
    pub fn makes_itself(&self) -> impl Iterator<Item = &str> {
        std::iter::once(self.stands_in()).chain(self.view())
    }

    /// The view beside the target table.
    pub fn view(&self) -> Option<&str> {
        self.kept_as.view.as_deref()
    }

    /// The target table by which the table is known: that of its first form.
    pub fn unit(&self) -> &str {
        self.beside.as_ref().unwrap_or(&self.target)
    }

    /// Whether all its forms are the rows as they are now, and nothing more.
    pub fn is_plain(&self) -> bool {
        self.kept_as.is_plain() && self.also.iter().all(|form| form.kept_as.is_plain())
    }

    /// Whether one of its forms keeps versions.
    pub fn keeps_versions(&self) -> bool {
        std::iter::once(self)
            .chain(self.also.iter().map(AsRef::as_ref))
            .any(|form| form.kept_as.keep == Keep::Versions)
    }

    /// Rows of a snapshot, mapped for the first form of a table, as another form of the table has them, where they count from a moment on.
    ///
    /// # Errors
    /// If they are of another table.
    pub fn snapshot_rows(
        form: &Self,
        rows: &RecordBatch,
        valid_from: Moment,
    ) -> Result<RecordBatch, ArrowError> {
        with_added((&form.mapped, &form.mapping.outputs), &form.kept_as, rows, valid_from)
    }

    /// How many of its columns are those of the row itself; behind them stand those that what it keeps adds.
    pub fn width(&self) -> usize {
        self.mapping.outputs.iter().take_while(|output| !output.is_of_keeping()).count()
    }

    /// The place of a column that what it keeps adds, if it does.
    pub fn place_of(&self, added: Added) -> Option<usize> {
        self.mapping.outputs.iter().position(|output| *output == Output::Added(added))
    }

    /// The columns by which merges find the rows of a table that keeps more than the current ones; of one that keeps those
    /// alone, too. Empty where the whole row is compared.
    pub fn key(&self) -> &[usize] {
        self.mapped.identity.key().unwrap_or(&[])
    }

    /// The columns that have a value in every row of the target table.
    pub fn needed(&self) -> Vec<usize> {
        let key = self.key().iter().copied().filter(|_| self.kept_as.keep != Keep::Changes);
        let is_needed =
            |c: &usize| matches!(self.mapping.outputs[*c], Output::Added(added) if added.is_needed());
        key.chain((self.width()..self.columns.len()).filter(is_needed)).collect()
    }

    /// The plan of a table of the same rows that holds the current ones alone.
    #[must_use]
    pub fn of_current(&self) -> Self {
        Self { kept_as: KeptAs::default(), also: Vec::new(), ..self.without(Output::is_of_keeping) }
    }

    /// Whether rows are told apart by a text of their key, whose order is not that of the key's values.
    pub fn is_keyed_by_text(&self) -> bool {
        let is_text = |&at: &usize| matches!(self.mapping.outputs.get(at), Some(Output::DocumentKey(_)));
        self.mapped.identity.key().is_some_and(|key| key.iter().any(is_text))
    }

    /// The plan without columns that depend on when a change came: these cannot be compared. What it keeps is told still.
    #[must_use]
    pub fn comparable(&self) -> Self {
        self.without(Output::is_of_change)
    }

    /// The plan without some columns, none of which is of the key.
    fn without(&self, goes: impl Fn(&Output) -> bool) -> Self {
        let keep: Vec<usize> = (0..self.columns.len()).filter(|&c| !goes(&self.mapping.outputs[c])).collect();
        if keep.len() == self.columns.len() {
            return self.clone();
        }
        let at = |old: &usize| keep.iter().position(|k| k == old).unwrap_or_default();
        let identity = match &self.mapped.identity {
            RowIdentity::Key(key) => RowIdentity::Key(key.iter().map(at).collect()),
            RowIdentity::DeclaredKey(key) => RowIdentity::DeclaredKey(key.iter().map(at).collect()),
            RowIdentity::WholeRow => RowIdentity::WholeRow,
        };
        let columns = keep.iter().map(|&c| self.mapped.columns[c].clone()).collect();
        let outputs = keep.iter().map(|&c| self.mapping.outputs[c].clone()).collect();
        Self {
            mapped: Arc::new(TableSchema { table: self.table().clone(), columns, identity }),
            mapping: Mapping { outputs, ..self.mapping.clone() },
            columns: keep.iter().map(|&c| self.columns[c].clone()).collect(),
            ..self.clone()
        }
    }

    /// A plan that reads all columns of a table as they are: for looking at it.
    pub fn as_it_is(table: &SourceTable) -> Self {
        let columns: Vec<Column> =
            table.columns.iter().filter(|c| !c.generated).map(|c| c.column.clone()).collect();
        let schema =
            Arc::new(TableSchema { table: table.name.clone(), columns, identity: RowIdentity::WholeRow });
        let declared = Declared { sql: String::new(), note: None };
        let column = |c: &Column| PlannedColumn {
            name: c.name.clone(),
            declared: declared.clone(),
            loses: None,
            comment: None,
        };
        Self {
            mapped: schema.clone(),
            mapping: Mapping::plain(schema.columns.len()),
            source_id: table.id,
            target: table.name.to_string(),
            gathered: None,
            columns: schema.columns.iter().map(column).collect(),
            left_out: Vec::new(),
            existing_rows: None,
            ddl: None,
            on_reject: OnReject::default(),
            mismatch: Mismatch::default(),
            comment: None,
            kept_as: KeptAs::default(),
            also: Vec::new(),
            beside: None,
            fingerprint: table.fingerprint(),
            structure: Some(Arc::new(Structure::of(table))),
            each_change: false,
            schema,
        }
    }
}

/// The form in which plans are stored. Forms 1 (which names no form) to 4 are read; a change of what is written, other
/// than a key that may be missing, is a new form, and reading the ones before goes on. The texts are pinned by a test, so
/// that no renaming in the code changes them.
const FORM: u32 = 4;
/// The form of plans of tables that keep more than the current rows, in a target table of their own.
const KEEPING_FORM: u32 = 3;
/// The form of plans of tables that hold the current rows and nothing more: what has been in use before 3.
const PLAIN_FORM: u32 = 2;

/// A plan as it is stored.
#[derive(Serialize, Deserialize)]
struct StoredPlan {
    #[serde(default)]
    form: u32,
    schema: Arc<TableSchema>,
    /// Missing in form 1 where rows went over as they were.
    mapped: Option<Arc<TableSchema>>,
    mapping: Option<Mapping>,
    source_id: u64,
    target: String,
    /// Missing in forms before 4.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    gathered: Option<Gathered>,
    columns: Vec<PlannedColumn>,
    left_out: Vec<(String, String)>,
    existing_rows: Option<ExistingRows>,
    ddl: Option<String>,
    #[serde(default)]
    on_reject: OnReject,
    #[serde(default)]
    mismatch: Mismatch,
    comment: Option<String>,
    /// Missing in forms before 3, as the next ones.
    #[serde(default, skip_serializing_if = "KeptAs::is_plain")]
    kept_as: KeptAs,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    also: Vec<Arc<TablePlan>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    beside: Option<String>,
    fingerprint: String,
    /// Missing in what earlier versions stored.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    structure: Option<Arc<Structure>>,
}

impl From<TablePlan> for StoredPlan {
    fn from(plan: TablePlan) -> Self {
        Self {
            form: match (plan.is_plain() && plan.also.is_empty() && plan.beside.is_none(), &plan.gathered) {
                (_, Some(_)) => FORM,
                (true, None) => PLAIN_FORM,
                (false, None) => KEEPING_FORM,
            },
            schema: plan.schema,
            mapped: Some(plan.mapped),
            mapping: Some(plan.mapping),
            source_id: plan.source_id,
            target: plan.target,
            gathered: plan.gathered,
            columns: plan.columns,
            left_out: plan.left_out,
            existing_rows: plan.existing_rows,
            ddl: plan.ddl,
            on_reject: plan.on_reject,
            mismatch: plan.mismatch,
            comment: plan.comment,
            kept_as: plan.kept_as,
            also: plan.also,
            beside: plan.beside,
            fingerprint: plan.fingerprint,
            structure: plan.structure,
        }
    }
}

impl TryFrom<StoredPlan> for TablePlan {
    type Error = String;

    fn try_from(kept: StoredPlan) -> Result<Self, String> {
        if kept.form > FORM {
            return Err(format!(
                "the plan of {} was stored by a later version of Moorage (form {}, and this version reads up to {FORM}): use that version",
                kept.target, kept.form
            ));
        }
        let renamed = || {
            let named = kept.schema.columns.iter().zip(&kept.columns);
            let columns = named.map(|(c, to)| Column { name: to.name.clone(), ..c.clone() }).collect();
            Arc::new(TableSchema { columns, ..(*kept.schema).clone() })
        };
        let mapped = kept.mapped.clone().unwrap_or_else(renamed);
        let plain = Mapping::plain(kept.schema.columns.len());
        Ok(Self {
            mapped,
            mapping: kept.mapping.unwrap_or(plain),
            schema: kept.schema,
            source_id: kept.source_id,
            target: kept.target,
            gathered: kept.gathered,
            columns: kept.columns,
            left_out: kept.left_out,
            existing_rows: kept.existing_rows,
            ddl: kept.ddl,
            on_reject: kept.on_reject,
            mismatch: kept.mismatch,
            comment: kept.comment,
            kept_as: kept.kept_as,
            also: kept.also,
            beside: kept.beside,
            fingerprint: kept.fingerprint,
            structure: kept.structure,
            each_change: false,
        })
    }
}

#[cfg(test)]
mod tests;

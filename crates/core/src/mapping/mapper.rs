//! Carrying a mapping out, over whole columns.

use crate::change::block::{ChangeBlock, MappedChange};
use crate::change::counters::Operations;
use crate::change::describe::as_json;
use crate::change::kind::Change;
use crate::expr::{EvalError, Expr};
use crate::mapping::outputs::{Mapping, Output, Part};
use crate::mapping::routes::Routes;
use crate::mapping::snapshot::with_added;
use crate::model::kept_as::KeptAs;
use crate::model::policy::{OnMisfit, Stamp};
use crate::model::schema::{RowIdentity, TableSchema};
use crate::model::types::LogicalType;
use crate::value::column::{ColumnBuilder, Value, value_at, value_text};
use crate::value::convert::convert;
use crate::value::moment::Moment;
use arrow::array::{
    Array, ArrayRef, BooleanArray, RecordBatch, RecordBatchOptions, UInt32Array, new_null_array,
};
use arrow::compute::{concat_batches, filter_record_batch, take_record_batch};
use arrow::datatypes::SchemaRef;
use serde_json::value::{RawValue, to_raw_value};
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

/// Why a row cannot be mapped.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{what}{row}")]
pub struct MapError {
    /// What is wrong: with which column, and with which value.
    pub what: String,
    /// Which row, in words; empty if that is not known.
    pub row: String,
    /// What in the project file to change, for people; empty if nothing there is wrong.
    pub way_out: &'static str,
}

const OF_CAST: &str = "Change the cast in the project file (another type, or `misfit = \"null\"` or \"nearest\" beside its `to`), or leave such rows out with a `where`";
const OF_EXPRESSION: &str =
    "Change the expression in the project file, or leave such rows out with a `where`";
const OF_WHERE: &str = "Change the `where` in the project file";

/// A mapping, ready to be carried out.
#[derive(Clone, Debug)]
pub struct Mapper {
    schema: Arc<TableSchema>,
    mapped: Arc<TableSchema>,
    /// What record batches of `mapped` have: making it takes longer than mapping a small one.
    arrow: SchemaRef,
    outputs: Vec<(Output, Option<Expr>)>,
    /// How many columns go over as they are read, if those are all but what the table adds for what it keeps.
    plain: Option<usize>,
    /// For outputs that are documents what makes their parts: by their place.
    documents: HashMap<usize, Parts>,
    condition: Option<Expr>,
    kept_as: KeptAs,
    /// From when on rows of a snapshot count.
    valid_from: Moment,
}

type Mapped<T> = Result<T, MapError>;

fn failed(error: arrow::error::ArrowError) -> MapError {
    MapError { what: error.to_string(), row: String::new(), way_out: "" }
}

impl Mapper {
    /// From a table's structures in the source and in the target; none if its rows go over as they are read.
    ///
    /// # Errors
    /// If an expression does not fit the columns; in words.
    pub fn new(
        schema: &Arc<TableSchema>,
        mapped: &Arc<TableSchema>,
        mapping: &Mapping,
    ) -> Result<Option<Self>, String> {
        if mapping.is_plain() {
            return Ok(None);
        }
        Self::over(schema, mapped, mapping).map(Some)
    }

    fn over(schema: &Arc<TableSchema>, mapped: &Arc<TableSchema>, mapping: &Mapping) -> Result<Self, String> {
        let columns = &*mapping.named(&schema.columns);
        let compile = |output: &Output| match output {
            Output::Expression(text) => Expr::parse(text, columns).map(Some),
            _ => Ok(None),
        };
        let outputs = mapping.outputs.iter().map(|o| Ok((o.clone(), compile(o)?)));
        let condition = mapping.condition.as_deref();
        let mut documents = HashMap::new();
        for (at, output) in mapping.outputs.iter().enumerate() {
            if let Output::Document(parts) | Output::DocumentKey(parts) = output {
                documents.insert(at, Parts::new(schema, mapping, parts)?);
            }
        }
        Ok(Self {
            documents,
            schema: schema.clone(),
            mapped: mapped.clone(),
            arrow: mapped.arrow(),
            plain: mapping.plain_but_for_keeping().filter(|&width| width == schema.columns.len()),
            outputs: outputs.collect::<Result<_, String>>()?,
            condition: condition.map(|text| Expr::parse_condition(text, columns)).transpose()?,
            kept_as: KeptAs::default(),
            valid_from: Moment::default(),
        })
    }

    /// The same for a table that keeps rows so.
    #[must_use]
    pub fn keeping(self, kept_as: &KeptAs) -> Self {
        Self { kept_as: kept_as.clone(), ..self }
    }

    /// The same where rows of a snapshot count from a moment on.
    #[must_use]
    pub fn reading_at(self, valid_from: Moment) -> Self {
        Self { valid_from, ..self }
    }

    /// Whether some rows are not carried.
    pub fn filters(&self) -> bool {
        self.condition.is_some()
    }

    /// Rows of a snapshot, or as they are in the source now.
    ///
    /// # Errors
    /// For the first row that cannot be mapped.
    pub fn rows(&self, rows: &RecordBatch) -> Mapped<RecordBatch> {
        let kept = match &self.condition {
            None => rows.clone(),
            Some(_) => filter_record_batch(rows, &self.passing(rows)?).map_err(failed)?,
        };
        self.of_snapshot(&self.outputs(&kept, &mut |_, _| None)?)
    }

    /// The rows with what a snapshot adds to them.
    fn of_snapshot(&self, rows: &RecordBatch) -> Mapped<RecordBatch> {
        if self.kept_as.is_plain() {
            return Ok(rows.clone());
        }
        let outputs: Vec<Output> = self.outputs.iter().map(|(output, _)| output.clone()).collect();
        with_added((&self.mapped, &outputs), &self.kept_as, rows, self.valid_from).map_err(failed)
    }

    fn passing(&self, rows: &RecordBatch) -> Mapped<BooleanArray> {
        match &self.condition {
            Some(condition) => condition.holds(rows).map_err(|e| self.eval_error("where", OF_WHERE, rows, e)),
            None => Ok(BooleanArray::from(vec![true; rows.num_rows()])),
        }
    }

    fn eval_error(
        &self,
        what: &str,
        way_out: &'static str,
        rows: &RecordBatch,
        error: EvalError,
    ) -> MapError {
        MapError { what: format!("{what}: {}", error.what), row: self.row_words(rows, error.row), way_out }
    }

    /// ` (row id = 7)`
    fn row_words(&self, rows: &RecordBatch, row: usize) -> String {
        let columns = &self.schema.columns;
        let all: Vec<usize> = (0..columns.len().min(3)).collect();
        let named =
            self.schema.identity.key().unwrap_or(&all).iter().filter(|_| row < rows.num_rows()).map(|&c| {
                let value =
                    value_text(value_at(rows.column(c).as_ref(), row)).unwrap_or_else(|| "null".into());
                format!("{} = {value}", columns[c].name)
            });
        let named: Vec<String> = named.collect();
        if named.is_empty() { String::new() } else { format!(" (row {})", named.join(", ")) }
    }

    /// The target's columns of all rows; `stamp` gives what depends on the change of a row.
    fn outputs(
        &self,
        rows: &RecordBatch,
        stamp: &mut dyn FnMut(Stamp, usize) -> Option<String>,
    ) -> Mapped<RecordBatch> {
        let columns = self
            .outputs
            .iter()
            .enumerate()
            .map(|(at, (output, expr))| self.output(at, output, expr.as_ref(), rows, stamp));
        self.batch(columns.collect::<Mapped<_>>()?, rows.num_rows())
    }

    fn batch(&self, columns: Vec<ArrayRef>, rows: usize) -> Mapped<RecordBatch> {
        let options = RecordBatchOptions::new().with_row_count(Some(rows));
        RecordBatch::try_new_with_options(self.arrow.clone(), columns, &options).map_err(failed)
    }

    fn output(
        &self,
        at: usize,
        output: &Output,
        expr: Option<&Expr>,
        rows: &RecordBatch,
        stamp: &mut dyn FnMut(Stamp, usize) -> Option<String>,
    ) -> Mapped<ArrayRef> {
        let to = &self.mapped.columns[at];
        let count = rows.num_rows();
        let of_texts = |texts: &mut dyn FnMut(usize) -> Option<String>| {
            let mut out = ColumnBuilder::new(&to.logical);
            for row in 0..count {
                let text = texts(row);
                let value = text.as_deref().map_or(Value::Null, Value::Text);
                convert(value, &LogicalType::Text, &to.logical, false, &mut out).map_err(|what| {
                    let what = format!("column {}: {what}", to.name);
                    MapError { what, row: String::new(), way_out: OF_EXPRESSION }
                })?;
            }
            Ok(out.finish())
        };
        match (output, expr) {
            (Output::Column(column), _) => Ok(rows.column(*column).clone()),
            (Output::Cast { column, misfit }, _) => self.cast(*column, &to.logical, *misfit, rows),
            (Output::Stamp { stamp: which, value: None }, _) => of_texts(&mut |row| stamp(*which, row)),
            (Output::Stamp { value: Some(text), .. } | Output::Constant(text), _) => {
                of_texts(&mut |_| Some(text.clone()))
            }
            (Output::Expression(_), Some(expr)) => {
                let what = format!("column {}", to.name);
                expr.evaluate(rows).map_err(|e| self.eval_error(&what, OF_EXPRESSION, rows, e))
            }
            (Output::Document(_) | Output::DocumentKey(_), _) => match self.documents.get(&at) {
                Some(parts) => {
                    parts.documents(rows, matches!(output, Output::DocumentKey(_)), &to.logical, stamp)
                }
                None => Ok(new_null_array(&to.logical.base(), count)),
            },
            // What a change adds to its row is added when it is written.
            (Output::Expression(_) | Output::Added(_) | Output::Old(_), None) => {
                Ok(new_null_array(&to.logical.base(), count))
            }
            (Output::Added(_) | Output::Old(_), Some(_)) => Ok(new_null_array(&to.logical.base(), count)),
        }
    }

    fn cast(
        &self,
        column: usize,
        to: &LogicalType,
        misfit: OnMisfit,
        rows: &RecordBatch,
    ) -> Mapped<ArrayRef> {
        let from = &self.schema.columns[column];
        let values = rows.column(column);
        let mut out = ColumnBuilder::new(to);
        for row in 0..rows.num_rows() {
            let value = value_at(values.as_ref(), row);
            match convert(value, &from.logical, to, misfit == OnMisfit::Nearest, &mut out) {
                Ok(()) => {}
                Err(_) if misfit == OnMisfit::Null => out.push_null(),
                Err(what) => {
                    let what = format!("column {}: {what}", from.name);
                    return Err(MapError { what, row: self.row_words(rows, row), way_out: OF_CAST });
                }
            }
        }
        Ok(out.finish())
    }

    /// Captured changes.
    ///
    /// # Errors
    /// For the first row that cannot be mapped. Rows that the filter keeps away never are an error.
    pub fn block(&self, block: ChangeBlock) -> Mapped<ChangeBlock> {
        match self.plain {
            Some(width) => block.in_form(&self.mapped, &self.arrow, width).map_err(failed),
            None => self.changed(&block),
        }
    }

    fn changed(&self, block: &ChangeBlock) -> Mapped<ChangeBlock> {
        let new = self.completed(block)?;
        // An old image that is only a key has no values to filter by, or to compute with.
        let whole = block.changes().all(|c| c.old.is_none() || c.old_is_whole);
        let new_passes = self.passing(&new)?;
        let old_passes = if whole { Some(self.passing(block.old_rows())?) } else { None };
        let mut out =
            Routes { changes: Vec::new(), new: Vec::new(), old: Vec::new(), keys: Vec::new(), blind: false };
        let mut read = Operations::default();
        for (at, change) in block.changes().enumerate() {
            read.count(change.kind);
            let now = change.new.is_some_and(|row| new_passes.value(row));
            let before = change.old.zip(old_passes.as_ref()).map(|(row, passes)| passes.value(row));
            out.push(at, &change, now, before, self.condition.is_some());
        }
        let mut stamps = |stamp, row: usize| {
            let transaction = block.transaction(out.new[row].1)?;
            match stamp {
                Stamp::CommittedAt => Some(transaction.committed_at.to_rfc3339()),
                Stamp::Position => Some(transaction.position.to_string()),
                Stamp::Source | Stamp::Table => None,
            }
        };
        let new_rows = self.outputs(&take(&new, out.new.iter().map(|n| n.0))?, &mut stamps)?;
        let old_rows = take(block.old_rows(), out.old.iter().copied())?;
        let old_rows = if whole { self.outputs(&old_rows, &mut |_, _| None)? } else { self.keys(&old_rows)? };
        let keys = self.keys(&take(&new, out.keys.iter().copied())?)?;
        let old_count = out.old.len();
        let old_rows = concat_batches(&self.arrow, [&old_rows, &keys]).map_err(failed)?;
        let changes = out.changes.into_iter().map(|change| MappedChange {
            old: change.old.map(|(row, of_new)| if of_new { old_count + row } else { row }),
            unchanged: change.unchanged.map(|u| self.unchanged(&u)),
            at: change.at,
            kind: change.kind,
            new: change.new,
            old_is_whole: whole && change.old.is_some_and(|(_, of_new)| !of_new),
        });
        Ok(block.mapped(self.mapped.clone(), changes.collect(), new_rows, old_rows, read, out.blind))
    }

    fn unchanged(&self, of_source: &[bool]) -> Box<[bool]> {
        let is = |(output, _): &(Output, Option<Expr>)| match output {
            Output::Column(column) | Output::Cast { column, .. } => of_source[*column],
            _ => false,
        };
        self.outputs.iter().map(is).collect()
    }

    /// Only the key's columns; nulls in the others.
    fn keys(&self, rows: &RecordBatch) -> Mapped<RecordBatch> {
        let key = self.mapped.identity.key().unwrap_or(&[]);
        let columns = self.outputs.iter().enumerate().map(|(at, (output, expr))| match key.contains(&at) {
            true => self.output(at, output, expr.as_ref(), rows, &mut |_, _| None),
            false => Ok(new_null_array(&self.mapped.columns[at].logical.base(), rows.num_rows())),
        });
        self.batch(columns.collect::<Mapped<_>>()?, rows.num_rows())
    }

    /// The new images with values that the log left out taken from the old ones, where these have them.
    fn completed(&self, block: &ChangeBlock) -> Mapped<RecordBatch> {
        let key = self.schema.identity.key().unwrap_or(&[]);
        let has =
            |change: &Change<'_>, c: usize| change.old.is_some() && (change.old_is_whole || key.contains(&c));
        let mut columns: Vec<ArrayRef> = block.new_rows().columns().to_vec();
        for (c, column) in columns.iter_mut().enumerate() {
            let missing: Vec<(usize, usize)> = block
                .changes()
                .filter(|change| change.unchanged.is_some_and(|u| u[c]) && has(change, c))
                .filter_map(|change| change.new.zip(change.old))
                .collect();
            if missing.is_empty() {
                continue;
            }
            let mut places: Vec<(usize, usize)> = (0..column.len()).map(|row| (0, row)).collect();
            missing.into_iter().for_each(|(new, old)| places[new] = (1, old));
            let old = block.old_rows().column(c);
            *column =
                arrow::compute::interleave(&[column.as_ref(), old.as_ref()], &places).map_err(failed)?;
        }
        let options = RecordBatchOptions::new().with_row_count(Some(block.new_rows().num_rows()));
        RecordBatch::try_new_with_options(block.new_rows().schema(), columns, &options).map_err(failed)
    }
}

/// What makes the parts of a document.
#[derive(Clone, Debug)]
struct Parts {
    schema: Arc<TableSchema>,
    /// None if they are the columns as they are read.
    mapper: Option<Box<Mapper>>,
}

impl Parts {
    fn new(read: &Arc<TableSchema>, mapping: &Mapping, parts: &[Part]) -> Result<Self, String> {
        let schema = Arc::new(TableSchema {
            table: read.table.clone(),
            columns: parts.iter().map(|part| part.column.clone()).collect(),
            identity: RowIdentity::WholeRow,
        });
        let outputs = parts.iter().map(|part| part.output.clone()).collect();
        let mapping = Mapping { outputs, condition: None, names: mapping.names.clone() };
        // One that has fewer is not the same, whatever the mapping says.
        let is_same = mapping.is_plain() && parts.len() == read.columns.len();
        let mapper = if is_same { None } else { Mapper::over(read, &schema, &mapping).map(Some)? };
        Ok(Self { schema, mapper: mapper.map(Box::new) })
    }

    fn documents(
        &self,
        rows: &RecordBatch,
        of_key: bool,
        logical: &LogicalType,
        stamp: &mut dyn FnMut(Stamp, usize) -> Option<String>,
    ) -> Mapped<ArrayRef> {
        let parts = match &self.mapper {
            Some(mapper) => mapper.outputs(rows, stamp)?,
            None => rows.clone(),
        };
        let columns = &self.schema.columns;
        let value = |at: usize, row: usize| value_at(parts.column(at).as_ref(), row);
        let mut out = ColumnBuilder::new(logical);
        for row in 0..parts.num_rows() {
            let text = match (of_key, columns.len()) {
                (true, 1) => value_text(value(0, row)),
                (true, _) => {
                    let texts: Vec<Option<String>> =
                        (0..columns.len()).map(|at| value_text(value(at, row))).collect();
                    Some(serde_json::json!(texts).to_string())
                }
                (false, _) => {
                    let part = |at: usize| match value(at, row) {
                        Value::Null => None,
                        value => Some((columns[at].name.clone(), raw_json(&columns[at].logical, value)?)),
                    };
                    // In the order of their names, whatever a JSON library makes of objects.
                    let document: BTreeMap<String, Box<RawValue>> =
                        (0..columns.len()).filter_map(part).collect();
                    serde_json::to_string(&document).ok()
                }
            };
            if !out.push(text.as_deref().map_or(Value::Null, Value::Text)) {
                let what = format!("a document is not of type {logical}");
                return Err(MapError { what, row: String::new(), way_out: "" });
            }
        }
        Ok(out.finish())
    }
}

/// A value in a document. One that is JSON itself stands there letter by letter: a parser here would round its numbers.
fn raw_json(logical: &LogicalType, value: Value<'_>) -> Option<Box<RawValue>> {
    let own = match value {
        Value::Text(text) if *logical == LogicalType::Json => RawValue::from_string(text.into()).ok(),
        _ => None,
    };
    own.or_else(|| to_raw_value(&as_json(logical, value)).ok())
}

fn take(rows: &RecordBatch, which: impl Iterator<Item = usize>) -> Mapped<RecordBatch> {
    let which: UInt32Array = which.map(|row| row as u32).collect();
    take_record_batch(rows, &which).map_err(failed)
}

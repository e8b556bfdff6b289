//! One state of a lake: every table at the version that the ledger names, which nobody changes any more.

use crate::as_target::place::LakeTarget;
use crate::as_target::values::{from_lake_rows, lake_column};
use crate::rows::key::Keys;
use crate::rows::read::{Reading, Which};
use crate::table::find::At;
use crate::table::open::{KeyOf, Live, Table, blocking};
use crate::table::scan::broken_file;
use crate::table::sorted::{Batches, Compare, Part, merged};
use crate::table::work::Work;
use arrow::array::{RecordBatch, RecordBatchOptions, UInt32Array};
use arrow::compute::{concat_batches, take_record_batch};
use async_trait::async_trait;
use moorage_adapter::{AdapterError, Doing, Result, RowOrder, Sample, StoredTable, TargetLook};
use moorage_core::LogicalType;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::compare::rows::LookedRows;
use moorage_core::plan::table::TablePlan;
use moorage_core::value::canonical::order;
use moorage_core::value::column::{ColumnBuilder, Value, value_at};
use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex, PoisonError};
use tokio::sync::mpsc;

/// Rows of a file that are read at once where many are read side by side.
const SIDE_ROWS: usize = 1024;

/// A look.
pub(crate) struct LakeLook {
    target: LakeTarget,
    checkpoint: Option<Checkpoint>,
    tables: Vec<StoredTable>,
    /// By target table: its version, and its files whose rows were there before.
    versions: BTreeMap<String, (Option<u64>, BTreeSet<String>)>,
}

fn parsed<'a>(logical: &LogicalType, text: &'a str) -> Option<Value<'a>> {
    use arrow::datatypes::DataType;
    Some(match logical.base() {
        DataType::Boolean => Value::Bool(match text {
            "true" | "t" | "1" => true,
            "false" | "f" | "0" => false,
            _ => return None,
        }),
        DataType::Int16 | DataType::Int32 | DataType::Int64 => Value::Int(text.parse().ok()?),
        DataType::Float32 => Value::Float32(text.parse().ok()?),
        DataType::Float64 => Value::Float64(text.parse().ok()?),
        DataType::Utf8 => Value::Text(text),
        _ => return None,
    })
}

impl LakeLook {
    /// Fixes the state of the lake now; none if the pipeline has nothing there.
    pub(crate) async fn open(target: &LakeTarget, pipeline: &str) -> Result<Option<Self>> {
        let Some(ledger) = target.ledger(pipeline).await? else { return Ok(None) };
        let (mut tables, mut versions) = (Vec::new(), BTreeMap::new());
        for (of, plan) in ledger.tables()? {
            versions.insert(plan.target.clone(), (of.version, of.kept.clone()));
            tables.push(of.stored(plan));
        }
        Ok(Some(Self { target: target.clone(), checkpoint: ledger.checkpoint()?, tables, versions }))
    }

    /// A table as it was, with the places of the planned columns in it, and its files whose rows are kept.
    async fn table(&self, plan: &TablePlan) -> Result<(Table, Vec<usize>, BTreeSet<String>)> {
        let what = || Doing::to("looking at the lake table", &plan.target);
        let (version, kept) = self.versions.get(&plan.target).cloned().unwrap_or_default();
        let log = self.target.log(&plan.target, version).await?;
        let log = log.ok_or_else(|| AdapterError::refused(what(), "it is not there"))?;
        let key = KeyOf::Nothing;
        let mut table = Table::new(log, key, self.target.key_cache("", ""))?;
        table.look_at_files().await?;
        let place = |name: &str| table.schema.fields.iter().position(|field| field.name == name);
        let column = |c: &moorage_core::plan::table::PlannedColumn| {
            place(&c.name)
                .ok_or_else(|| AdapterError::refused(what(), format!("it has no column {}", c.name)))
        };
        let columns = plan.columns.iter().map(column).collect::<Result<Vec<_>>>()?;
        Ok((table, columns, kept))
    }
}

fn looked(rows: RecordBatch, kept: Vec<bool>) -> LookedRows {
    let kept = if kept.contains(&true) { kept } else { Vec::new() };
    LookedRows { rows, misfits: Vec::new(), kept }
}

/// The rows of a file that live, as their source has them.
fn batches(
    path: &std::path::Path,
    table: &Table,
    live: &Live,
    columns: &[usize],
    plan: &TablePlan,
) -> Result<Batches> {
    let name = live.name.clone();
    let failed = move |e: parquet::errors::ParquetError| broken_file(&name, &e);
    let file = std::fs::File::open(path).map_err(|e| AdapterError::Io {
        doing: Doing::to("reading", path.display()),
        reason: e.to_string(),
    })?;
    let reading =
        Reading::open(file, &table.schema, columns, Which::Not(&live.dead), SIDE_ROWS).map_err(&failed)?;
    let plan = plan.clone();
    Ok(Box::new(reading.map(move |batch| from_lake_rows(&plan, &batch.map_err(&failed)?))))
}

/// The order in which rows are compared.
fn by_key(plan: &TablePlan) -> Compare {
    let key: Vec<(usize, LogicalType)> =
        plan.key().iter().map(|&c| (c, plan.mapped.columns[c].logical.clone())).collect();
    Box::new(move |a, b| {
        let of = |(c, logical): &(usize, LogicalType)| {
            order(logical, value_at(a.0.column(*c).as_ref(), a.1), value_at(b.0.column(*c).as_ref(), b.1))
        };
        key.iter().map(of).find(|o| *o != Ordering::Equal).unwrap_or(Ordering::Equal)
    })
}

#[async_trait]
impl TargetLook for LakeLook {
    fn checkpoint(&self) -> Option<&Checkpoint> {
        self.checkpoint.as_ref()
    }

    fn tables(&self) -> &[StoredTable] {
        &self.tables
    }

    async fn rows(
        &mut self,
        plan: &TablePlan,
        order: RowOrder,
        sender: mpsc::Sender<LookedRows>,
    ) -> Result<()> {
        let (table, columns, kept) = self.table(plan).await?;
        if order == RowOrder::Any || plan.key().is_empty() {
            for live in table.files.values() {
                let (plan, sender, is_kept) = (plan.clone(), sender.clone(), kept.contains(&live.add.path));
                let (broken, listening) = (Arc::new(Mutex::new(None)), sender.clone());
                let into = broken.clone();
                let take = move |rows: RecordBatch| match from_lake_rows(&plan, &rows) {
                    Ok(rows) => {
                        let kept = vec![is_kept; rows.num_rows()];
                        sender.blocking_send(looked(rows, kept)).is_ok()
                    }
                    Err(error) => {
                        *into.lock().unwrap_or_else(PoisonError::into_inner) = Some(error);
                        false
                    }
                };
                table.scan(live, &columns, take).await?;
                if let Some(error) = broken.lock().unwrap_or_else(PoisonError::into_inner).take() {
                    return Err(error);
                }
                if listening.is_closed() {
                    break;
                }
            }
            return Ok(());
        }
        let plan = plan.clone();
        let folder = self.target.store.as_folder().map(std::path::Path::to_path_buf).unwrap_or_default();
        blocking(move || {
            let table = Arc::new(table);
            let parts = table.files.values().map(|live| {
                let (path, of, live) = (folder.join(&live.name), table.clone(), live.clone());
                let (columns, plan, is_kept) = (columns.clone(), plan.clone(), kept.contains(&live.add.path));
                let open = Box::new(move || batches(&path, &of, &live, &columns, &plan));
                Part { open, kept: is_kept }
            });
            let parts = parts.collect();
            let take = |rows, kept| sender.blocking_send(looked(rows, kept)).is_ok();
            merged(&plan.mapped.arrow(), parts, &by_key(&plan), take)
        })
        .await?
    }

    async fn count(&mut self, plan: &TablePlan) -> Result<(u64, u64)> {
        let (table, _, kept) = self.table(plan).await?;
        let of_kept = table.files.values().filter(|live| kept.contains(&live.add.path));
        let of_kept: u64 = of_kept.map(|live| live.rows - live.dead.len().min(live.rows)).sum();
        Ok((table.rows() - of_kept, of_kept))
    }

    async fn row(&mut self, plan: &TablePlan, key: &[String]) -> Result<LookedRows> {
        let wrong = |what: String| AdapterError::Value { table: plan.table().to_string(), what };
        if key.len() != plan.key().len() {
            let (has, given) = (plan.key().len(), key.len());
            let names = plan.mapped.key_names().join(", ");
            return Err(wrong(format!("its key has {has} values ({names}), not {given}")));
        }
        let mut values = Vec::with_capacity(key.len());
        for (&c, text) in plan.key().iter().zip(key) {
            let column = &plan.mapped.columns[c];
            let mut builder = ColumnBuilder::new(&column.logical);
            let fits = parsed(&column.logical, text).is_some_and(|value| builder.push(value));
            if !fits {
                return Err(wrong(format!(
                    "{text:?} is not a value of key column {} ({})",
                    column.name, column.logical
                )));
            }
            values.push(lake_column(plan, c, &builder.finish(), |_| text.clone())?);
        }
        let (table, columns, kept) = self.table(plan).await?;
        let key = KeyOf::Columns(plan.key().iter().map(|&c| columns[c]).collect());
        let cache = self.target.key_cache(&table.log.folder, &LakeTarget::key_words(plan));
        let mut work = Work::on(Table { key, cache, ..table }).await?;
        let found: Vec<At> = work.find(Keys::of_columns(&values)).await?.into_iter().flatten().collect();
        let rows = match found.is_empty() {
            true => RecordBatch::new_empty(plan.mapped.arrow()),
            false => from_lake_rows(plan, &work.read(&found, &columns).await?)?,
        };
        let is_kept = |at: &At| matches!(at, At::There(path, _) if kept.contains(path.as_ref()));
        Ok(looked(rows, found.iter().map(is_kept).collect()))
    }

    async fn sample(&mut self, plan: &TablePlan, which: Sample) -> Result<LookedRows> {
        let (table, columns, kept) = self.table(plan).await?;
        let mut files: Vec<Live> = table.files.values().cloned().collect();
        let (count, newest) = match which {
            Sample::First(count) => (count, false),
            Sample::Newest(count) => (count, true),
        };
        files.sort_by_key(|live| live.add.modification_time);
        if newest {
            files.reverse();
        }
        let (mut found, mut of_kept) = (Vec::new(), Vec::new());
        for live in files {
            if of_kept.len() >= count {
                break;
            }
            let (rows, missing): (Arc<Mutex<Vec<RecordBatch>>>, usize) =
                (Arc::default(), count - of_kept.len());
            let into = rows.clone();
            let take = move |batch: RecordBatch| {
                let mut all = into.lock().unwrap_or_else(PoisonError::into_inner);
                all.push(batch);
                newest || all.iter().map(RecordBatch::num_rows).sum::<usize>() < missing
            };
            table.scan(&live, &columns, take).await?;
            let rows = std::mem::take(&mut *rows.lock().unwrap_or_else(PoisonError::into_inner));
            let Some(first) = rows.first() else { continue };
            let all = concat_batches(&first.schema(), &rows)?;
            let (from, len) = (all.num_rows().saturating_sub(missing), all.num_rows().min(missing));
            let wanted: Vec<u32> = match newest {
                true => (from..from + len).rev().map(|at| at as u32).collect(),
                false => (0..len as u32).collect(),
            };
            of_kept.extend(vec![kept.contains(&live.add.path); wanted.len()]);
            found.push(from_lake_rows(plan, &take_record_batch(&all, &UInt32Array::from(wanted))?)?);
        }
        let options = RecordBatchOptions::new().with_row_count(Some(0));
        let rows = match found.first() {
            Some(first) => concat_batches(&first.schema(), &found)?,
            None if plan.columns.is_empty() => {
                RecordBatch::try_new_with_options(plan.mapped.arrow(), Vec::new(), &options)?
            }
            None => RecordBatch::new_empty(plan.mapped.arrow()),
        };
        Ok(looked(rows, of_kept))
    }
}

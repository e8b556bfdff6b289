//! The lake against the suite for targets.

use crate::LakeTarget;
use crate::format::action;
use crate::format::names::folder_of;
use crate::format::schema::{LakeSchema, LakeType};
use crate::rows::convert::from_lake;
use crate::rows::write::data_file;
use crate::store::Store;
use crate::table::key_cache::KeyCache;
use crate::table::log::Log;
use crate::table::{KeyOf, Table};
use arrow::array::{ArrayRef, AsArray, Int64Array, RecordBatch, StringArray};
use arrow::datatypes::Int64Type;
use moorage_adapter::{InspectTarget, Target};
use moorage_core::LogicalType;
use moorage_core::model::schema::TableSchema;
use moorage_core::plan::table::TablePlan;
use moorage_testkit::Row;
use moorage_testkit::conformance::{TargetUnderTest, check_target};
use std::path::PathBuf;
use std::sync::{Arc, Mutex};

struct Lake {
    target: Arc<LakeTarget>,
    path: PathBuf,
    vectors: bool,
}

fn target(path: &PathBuf, vectors: bool) -> LakeTarget {
    let target = LakeTarget::folder(path, None);
    if vectors { target } else { target.without_vectors() }
}

/// Runs what waits from a test that does not.
fn now<T: Send + 'static>(work: impl Future<Output = T> + Send + 'static) -> T {
    let run = || tokio::runtime::Runtime::new().unwrap().block_on(work);
    std::thread::scope(|scope| scope.spawn(run).join().unwrap())
}

/// Makes a table of berths with rows, as another program would.
pub(crate) async fn put_in(store: Arc<Store>, plan: &TablePlan, rows: &[Row]) {
    let schema = LakeSchema::of(plan.columns.iter().map(|c| c.name.as_str()).zip(&plan.mapped.columns));
    assert_eq!(schema.fields[0].lake_type(), Some(LakeType::Long));
    let columns: Vec<ArrayRef> = vec![
        Arc::new(Int64Array::from_iter_values(rows.iter().map(|r| r.0))),
        Arc::new(StringArray::from_iter(rows.iter().map(|r| r.1.clone()))),
        Arc::new(StringArray::from_iter(rows.iter().map(|r| r.2.clone()))),
    ];
    let rows = RecordBatch::try_new(schema.arrow(), columns).unwrap();
    let file = data_file(&schema.arrow(), &rows).unwrap();
    // As an older program makes them: without a list of features.
    let protocol = action::Protocol { min_reader_version: 1, min_writer_version: 2, ..Default::default() };
    let schema_string = schema.text();
    let metadata = action::Metadata { id: "theirs".into(), schema_string, ..action::Metadata::default() };
    let size = file.bytes.len() as i64;
    let add =
        action::Add { path: "theirs.parquet".into(), size, data_change: true, ..action::Add::default() };
    let folder = folder_of(&plan.target);
    store.put(&format!("{folder}/theirs.parquet"), file.bytes.into()).await.unwrap();
    let lines = vec![protocol.into(), metadata.into(), add.into()];
    let _ = Log::new(store, &folder).try_commit("theirs", lines).await.unwrap();
}

/// The rows of a table of berths as it is now, sorted.
pub(crate) async fn rows_in(store: Arc<Store>, table: &str) -> Vec<Row> {
    let Some(log) = Log::open(store, &folder_of(table), None).await.unwrap() else { return Vec::new() };
    let mut table = Table::new(log, KeyOf::Nothing, KeyCache::new(None, "")).unwrap();
    table.look_at_files().await.unwrap();
    let found: Arc<Mutex<Vec<Row>>> = Arc::default();
    for live in table.files.values() {
        let into = found.clone();
        let take = move |rows: RecordBatch| {
            let text = |at: usize| from_lake(rows.column(at), &LogicalType::Text).unwrap();
            let (ids, names, notes) = (rows.column(0).as_primitive::<Int64Type>(), text(1), text(2));
            let cell =
                |of: &ArrayRef, at: usize| of.as_string::<i32>().iter().nth(at).unwrap().map(str::to_string);
            let row = |at: usize| Row(ids.value(at), cell(&names, at), cell(&notes, at));
            into.lock().unwrap().extend((0..rows.num_rows()).map(row));
            true
        };
        table.scan(live, &[0, 1, 2], take).await.unwrap();
    }
    let mut rows = std::mem::take(&mut *found.lock().unwrap());
    rows.sort();
    rows
}

impl TargetUnderTest for Lake {
    fn target(&self) -> Arc<dyn Target> {
        self.target.clone()
    }

    fn another(&self) -> Arc<dyn Target> {
        Arc::new(target(&self.path, self.vectors))
    }

    fn rows(&self, table: &str) -> Vec<Row> {
        let (store, table) = (Arc::new(Store::folder(&self.path)), table.to_string());
        now(async move { rows_in(store, &table).await })
    }

    /// A decimal column takes no name that is no number: there is nothing more to forbid.
    fn forbid(&self, _: &str, _: &str) {}

    fn strict(&self, plan: TablePlan) -> TablePlan {
        let mut columns = plan.schema.columns.clone();
        columns[1].logical = LogicalType::Decimal { precision: Some(6), scale: Some(0) };
        let schema = Arc::new(TableSchema { columns, ..(*plan.schema).clone() });
        let mut plan = TablePlan { mapped: schema.clone(), schema, ..plan };
        plan.columns[1].declared = self.target.dialect().declare(&plan.schema.columns[1], false);
        plan
    }

    fn put(&self, plan: &TablePlan, rows: &[Row]) {
        let (store, plan, rows) = (Arc::new(Store::folder(&self.path)), plan.clone(), rows.to_vec());
        now(async move { put_in(store, &plan, &rows).await });
    }
}

#[rstest::rstest]
#[case::with_vectors(true)]
#[case::written_again(false)]
#[tokio::test]
async fn a_lake_does_what_is_asked_of_a_target(#[case] vectors: bool) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("lake");
    check_target(&Lake { target: Arc::new(target(&path, vectors)), path, vectors }).await;
}

//! What the suite for targets is made of: the target under test, and what it is handed.

use crate::rows::{Op, Row, berths_schema, block_of, rows_of_batch};
use moorage_adapter::{
    CountsFrom, Events, Holder, LoadedTable, Merge, SnapshotMark, TableState, TakeFrom, Target, Turn,
};
use moorage_core::apply::prepare::TableBatch;
use moorage_core::change::block::ChangeBlock;
use moorage_core::change::kind::Transaction;
use moorage_core::checkpoint::stored::{Checkpoint, Stage};
use moorage_core::mapping::outputs::Mapping;
use moorage_core::model::described::SourceIdentity;
use moorage_core::model::kept_as::KeptAs;
use moorage_core::model::schema::RowIdentity;
use moorage_core::plan::table::{PlannedColumn, TablePlan};
use moorage_core::value::moment::Moment;
use moorage_core::{Position, TableName, TableSchema};
use std::sync::Arc;

/// A target with a way to read and to spoil it.
pub trait TargetUnderTest {
    /// The target, empty at first.
    fn target(&self) -> Arc<dyn Target>;
    /// The same target as another process has it.
    fn another(&self) -> Arc<dyn Target>;
    /// A table's rows as any reader sees them now, sorted; none if it is not there.
    fn rows(&self, table: &str) -> Vec<Row>;
    /// Makes a table of the planned form with rows, as someone else would have.
    fn put(&self, plan: &TablePlan, rows: &[Row]);
    /// Has the target refuse rows with this name in a table, from now on.
    fn forbid(&self, table: &str, name: &str);
    /// The plan of the table that is to refuse a name that is no number; another one where columns refuse by their type alone.
    fn strict(&self, plan: TablePlan) -> TablePlan {
        plan
    }
}

/// The pipeline of the suite.
pub const PIPELINE: &str = "conformance";

/// The plan of a table of berths.
pub fn plan(target: &dyn Target, name: &str, identity: RowIdentity) -> TablePlan {
    let table = TableName::new("public", name);
    let schema = Arc::new(TableSchema { table, ..(*berths_schema(identity)).clone() });
    let columns = schema.columns.iter().map(|c| PlannedColumn {
        name: c.name.clone(),
        declared: target.dialect().declare(c, false),
        loses: None,
        comment: None,
    });
    TablePlan {
        columns: columns.collect(),
        mapped: schema.clone(),
        mapping: Mapping::plain(schema.columns.len()),
        schema,
        source_id: 1,
        target: name.into(),
        gathered: None,
        left_out: Vec::new(),
        existing_rows: None,
        ddl: None,
        on_reject: Default::default(),
        mismatch: Default::default(),
        comment: None,
        kept_as: KeptAs::default(),
        also: Vec::new(),
        beside: None,
        fingerprint: String::new(),
        structure: None,
        each_change: false,
    }
}

/// A checkpoint at a position.
pub fn checkpoint(position: &str) -> Checkpoint {
    let word = || "test".to_string();
    Checkpoint {
        pipeline: PIPELINE.into(),
        identity: SourceIdentity { kind: word(), system: word(), database: word(), timeline: word() },
        capture_point: word(),
        token: word(),
        stage: Stage::Following,
        changes_only: false,
        starts_at: None,
        position: position.into(),
        proof: String::new(),
        sequence: 0,
        valid_from: Moment::default(),
        committed_at: None,
        captured_at: None,
        merged_at: None,
    }
}

/// The end of a load, behind which a table is live.
pub fn live() -> LoadedTable {
    let mark = SnapshotMark { text: "m".into(), complete_at: Position::new(&[3], "3") };
    LoadedTable {
        from: CountsFrom::default(),
        state: TableState::Live,
        mark: Some(mark),
        captured_by: Some("by a trigger".into()),
    }
}

/// Makes a table and loads rows into it.
pub async fn loaded(target: &dyn Target, plan: &TablePlan, rows: &[Row]) {
    target.create(PIPELINE, plan).await.unwrap();
    target.load(plan, rows_of_batch(&plan.schema, rows)).await.unwrap();
    target.finish_load(PIPELINE, plan, live()).await.unwrap();
}

/// A batch that goes on from what the target holds.
pub async fn begun(target: &dyn Target) -> Box<dyn Merge> {
    let from = target.checkpoint(PIPELINE).await.unwrap().expect("a checkpoint");
    target.begin(&from).await.unwrap()
}

pub(super) async fn merged(
    target: &dyn Target,
    plan: &TablePlan,
    position: &str,
    ops: &[Op],
    old: impl Fn(i64) -> Row,
) {
    let transaction = transaction(position);
    let mut merge = begun(target).await;
    let block = block_of(&plan.schema, &transaction, &mut 0, ops, old);
    merge.write(prepared(plan, block)).await.unwrap();
    let (durable, _) = merge.commit_durably(checkpoint(position)).await.unwrap();
    assert_eq!(durable.checkpoint().position, position);
}

/// A batch of changes of one table, as it is handed to a target.
pub fn prepared(plan: &TablePlan, block: ChangeBlock) -> Arc<[TableBatch]> {
    Arc::new([TableBatch::of(Arc::new(plan.clone()), vec![block], false).unwrap()])
}

/// A transaction that ends at a position.
pub fn transaction(position: &str) -> Arc<Transaction> {
    Arc::new(Transaction {
        position: Position::new(&[position.parse().unwrap()], position),
        proof: String::new(),
        committed_at: chrono::DateTime::UNIX_EPOCH,
        found: None,
    })
}

pub(super) fn no_old(_: i64) -> Row {
    panic!("a keyed table needs no old row")
}

/// A process.
pub fn holder(id: &str) -> Holder {
    let since = chrono::DateTime::UNIX_EPOCH;
    Holder { id: id.into(), pid: 1, host: "quay".into(), place: String::new(), started: String::new(), since }
}

/// What comes of taking the turn.
pub async fn taken(target: &dyn Target, holder: &Holder, from: TakeFrom<'_>, make: bool) -> Turn {
    let silent: Events = Arc::new(|_| {});
    target.take_turn(PIPELINE, holder, from, make, &silent).await.unwrap()
}

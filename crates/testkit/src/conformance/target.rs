//! What is asked of every target. The table is made from `public.berths`.

use super::handed::{
    PIPELINE, TargetUnderTest, begun, checkpoint, holder, loaded, merged, no_old, plan, prepared, taken,
    transaction,
};
use super::promises::{
    altering, lacking, loads_at_once, looks, recalling, rejects, remembering, several_tables,
    truncate_beside_kept_rows,
};
use crate::rows::{Op, Row, block_of, row, rows_of_batch};
use moorage_adapter::{
    AdapterError, CountsFrom, LoadedTable, MemoKind, Replacement, SnapshotMark, TableState, TakeFrom, Target,
    Turn,
};
use moorage_core::Position;
use moorage_core::apply::prepare::TableBatch;
use moorage_core::model::policy::{ExistingRows, Mismatch};
use moorage_core::model::schema::RowIdentity;
use std::sync::Arc;

/// Asks everything of a target.
pub async fn check_target(under_test: &dyn TargetUnderTest) {
    let target = under_test.target();
    let target = target.as_ref();
    assert!(target.checkpoint(PIPELINE).await.unwrap().is_none(), "empty at first");
    assert_eq!(taken(target, &holder("first"), TakeFrom::Nobody, false).await, Turn::NothingThere);
    assert!(target.save_checkpoint(&checkpoint("1")).await.is_err(), "nothing is written without the turn");
    assert_eq!(taken(target, &holder("first"), TakeFrom::Nobody, true).await, Turn::Taken);
    target.save_checkpoint(&checkpoint("1")).await.unwrap();
    loading(under_test, target).await;
    merging(under_test, target).await;
    without_key(under_test, target).await;
    differing(under_test, target).await;
    existing_rows(under_test, target).await;
    reading_again(under_test, target).await;
    one_writer(under_test, target).await;
    several_tables(under_test, target).await;
    truncate_beside_kept_rows(under_test, target).await;
    loads_at_once(under_test, target).await;
    looks(under_test, target).await;
    rejects(under_test, target).await;
    remembering(under_test, target).await;
    recalling(target).await;
    altering(under_test, target).await;
    lacking(target).await;
    forgetting(under_test, target).await;
}

/// Whoever has lost the turn writes nothing, whichever way it tries, also into a batch that it had begun; and no batch
/// goes on from another checkpoint than the one that is there.
async fn one_writer(under_test: &dyn TargetUnderTest, target: &dyn Target) {
    let berths = plan(target, "berths", RowIdentity::Key(vec![0]));
    let (before, at) = (under_test.rows("berths"), target.checkpoint(PIPELINE).await.unwrap().unwrap());
    let other = under_test.another();
    let (first, second) = (holder("first"), holder("second"));
    assert_eq!(target.holder(PIPELINE).await.unwrap().as_ref(), Some(&first));
    assert_eq!(taken(other.as_ref(), &second, TakeFrom::Nobody, true).await, Turn::Held(first.clone()));
    assert_eq!(taken(other.as_ref(), &second, TakeFrom::Gone(&first), true).await, Turn::Taken);
    let lost = |done: Result<(), AdapterError>, what: &str| match done {
        // Its session may have been ended, and it has not looked why yet.
        Err(error) if error.is_transient() || matches!(error, AdapterError::TurnLost { .. }) => {}
        other => panic!("{what}: {other:?}"),
    };
    lost(
        target.renew_turn(PIPELINE).await.and(target.save_checkpoint(&at).await.map(|_| ())),
        "a checkpoint",
    );
    lost(target.create(PIPELINE, &berths).await, "making a table");
    lost(target.create_again(PIPELINE, &berths).await, "making room beside a table");
    lost(target.forget(PIPELINE, &["berths".into()], true).await, "forgetting");
    lost(target.begin(&at).await.map(|_| ()), "a batch");
    lost(target.teardown(PIPELINE, false).await.map(|_| ()), "removing all");
    assert_eq!((under_test.rows("berths"), target.checkpoint(PIPELINE).await.unwrap()), (before, Some(at)));

    assert_eq!(taken(target, &first, TakeFrom::Gone(&second), true).await, Turn::Taken);
    let elsewhere = target.begin(&checkpoint("999")).await;
    assert!(matches!(elsewhere, Err(AdapterError::CheckpointMoved { .. })), "another checkpoint");
    other.end_turn(PIPELINE).await.unwrap();
    target.renew_turn(PIPELINE).await.unwrap();
    assert_eq!(target.holder(PIPELINE).await.unwrap(), Some(first), "what was lost cannot be given back");
}

async fn loading(under_test: &dyn TargetUnderTest, target: &dyn Target) {
    let berths = plan(target, "berths", RowIdentity::Key(vec![0]));
    target.create(PIPELINE, &berths).await.unwrap();
    target.load(&berths, rows_of_batch(&berths.schema, &[row(8, "half")])).await.unwrap();
    assert!(target.tables(PIPELINE).await.unwrap()[0].state.is_unread());
    loaded(target, &berths, &[row(1, "north"), row(2, "south")]).await;
    assert_eq!(
        under_test.rows("berths"),
        [row(1, "north"), row(2, "south")],
        "a broken-off load starts from empty"
    );
    let stored = &target.tables(PIPELINE).await.unwrap()[0];
    assert_eq!((stored.state, stored.snapshot_rows, &stored.plan), (TableState::Live, 2, &berths));
    assert_eq!(stored.mark, Some(("m".into(), "3".into())), "the mark is kept with the rows");
    assert_eq!(stored.captured_by.as_deref(), Some("by a trigger"));
    target.remember_captured_by(PIPELINE, &[("berths".into(), "by two".into())]).await.unwrap();
    assert_eq!(target.tables(PIPELINE).await.unwrap()[0].captured_by.as_deref(), Some("by two"));
}

async fn merging(under_test: &dyn TargetUnderTest, target: &dyn Target) {
    let berths = plan(target, "berths", RowIdentity::Key(vec![0]));
    let noted = |id, name: &str, note: &str| Row(id, Some(name.into()), Some(note.into()));
    merged(
        target,
        &berths,
        "5",
        &[Op::Insert(noted(3, "east", "deep")), Op::Update(1, row(1, "North")), Op::Delete(2)],
        no_old,
    )
    .await;
    assert_eq!(under_test.rows("berths"), [row(1, "North"), noted(3, "east", "deep")]);

    // A value that the log left out stays, also when the key changes, and keys may be swapped.
    merged(
        target,
        &berths,
        "6",
        &[
            Op::Update(3, noted(7, "East", "~")),
            Op::Update(1, row(3, "three")),
            Op::Update(7, noted(1, "One", "~")),
        ],
        no_old,
    )
    .await;
    assert_eq!(under_test.rows("berths"), [noted(1, "One", "deep"), row(3, "three")]);

    // Nothing of an open batch is seen, and nothing of a dropped one stays.
    let before = under_test.rows("berths");
    let transaction = transaction("1");
    let block =
        block_of(&berths.schema, &transaction, &mut 0, &[Op::Truncate, Op::Insert(row(9, "nine"))], no_old);
    let mut merge = begun(target).await;
    merge.write(prepared(&berths, block)).await.unwrap();
    assert_eq!(under_test.rows("berths"), before, "readers see whole batches");
    drop(merge);
    assert_eq!(under_test.rows("berths"), before);
    assert_eq!(
        target.checkpoint(PIPELINE).await.unwrap().unwrap().position,
        "6",
        "the checkpoint goes with the data"
    );

    merged(
        target,
        &berths,
        "7",
        &[Op::Truncate, Op::Insert(row(9, "nine")), Op::Insert(row(10, "ten")), Op::Delete(10)],
        no_old,
    )
    .await;
    assert_eq!(under_test.rows("berths"), [row(9, "nine")]);
    let counters = target.tables(PIPELINE).await.unwrap()[0].counters;
    assert_eq!(
        (counters.read.inserts, counters.read.updates, counters.read.deletes, counters.read.truncates),
        (3, 4, 2, 1)
    );
    assert_eq!(counters.read.total(), counters.merged + counters.reduced, "counters reconcile");
}

async fn without_key(under_test: &dyn TargetUnderTest, target: &dyn Target) {
    let log = plan(target, "gate_log", RowIdentity::WholeRow);
    loaded(target, &log, &[row(1, "in"), row(1, "in"), row(2, "out")]).await;
    merged(target, &log, "8", &[Op::Delete(1), Op::Insert(row(3, "in"))], |id| row(id, "in")).await;
    assert_eq!(
        under_test.rows("gate_log"),
        [row(1, "in"), row(2, "out"), row(3, "in")],
        "one of two equal rows goes"
    );
    merged(target, &log, "9", &[Op::Update(2, row(2, "in"))], |id| row(id, "out")).await;
    assert_eq!(under_test.rows("gate_log"), [row(1, "in"), row(2, "in"), row(3, "in")]);
}

/// A change that assumes another row than the target has stops the batch and is named; where the plan says that such
/// rows are adjusted, it is applied, and counted.
async fn differing(under_test: &dyn TargetUnderTest, target: &dyn Target) {
    let mut odd = plan(target, "odd_berths", RowIdentity::Key(vec![0]));
    let there = [row(1, "one"), row(2, "two")];
    loaded(target, &odd, &there).await;
    let transaction = transaction("1");
    let ops = [Op::Update(7, row(7, "seven")), Op::Insert(row(1, "uno")), Op::Delete(8)];
    for op in &ops {
        let block = block_of(&odd.schema, &transaction, &mut 0, std::slice::from_ref(op), no_old);
        let mut merge = begun(target).await;
        let refused = merge.write(prepared(&odd, block)).await;
        drop(merge);
        target.renew_turn(PIPELINE).await.unwrap();
        let words = refused.expect_err("a difference").to_string();
        assert!(words.contains("odd_berths") && words.contains("id = "), "{op:?}: {words}");
        assert_eq!(under_test.rows("odd_berths"), there, "{op:?}");
    }
    odd.mismatch = Mismatch::Adjust;
    merged(target, &odd, "9", &ops, no_old).await;
    assert_eq!(under_test.rows("odd_berths"), [row(1, "uno"), row(2, "two"), row(7, "seven")]);
    let tables = target.tables(PIPELINE).await.unwrap();
    let adjusted = tables.iter().find(|t| t.plan.target == "odd_berths").unwrap().counters.adjusted;
    assert_eq!(
        (adjusted.updates_of_missing, adjusted.inserts_of_present, adjusted.deletes_of_missing),
        (1, 1, 1)
    );
}

async fn existing_rows(under_test: &dyn TargetUnderTest, target: &dyn Target) {
    let mut old = plan(target, "old_berths", RowIdentity::Key(vec![0]));
    under_test.put(&old, &[row(1, "before"), row(2, "before")]);
    assert!(target.check(PIPELINE, &old).await.is_err(), "rows of others are not touched without a word");
    assert!(target.create(PIPELINE, &old).await.is_err());
    assert_eq!(under_test.rows("old_berths").len(), 2);
    old.existing_rows = Some(ExistingRows::Keep);
    loaded(target, &old, &[row(2, "after"), row(3, "after")]).await;
    assert_eq!(under_test.rows("old_berths"), [row(1, "before"), row(2, "after"), row(3, "after")]);
    let mut replaced = plan(target, "older_berths", RowIdentity::Key(vec![0]));
    under_test.put(&replaced, &[row(1, "before")]);
    replaced.existing_rows = Some(ExistingRows::Replace);
    loaded(target, &replaced, &[row(5, "after")]).await;
    assert_eq!(under_test.rows("older_berths"), [row(5, "after")]);
}

/// A table is read again beside its old rows: readers see these until one batch puts the new ones in their
/// place, together with what changed since their snapshot.
async fn reading_again(under_test: &dyn TargetUnderTest, target: &dyn Target) {
    let berths = plan(target, "berths", RowIdentity::Key(vec![0]));
    let old = under_test.rows("berths");
    target.create_again(PIPELINE, &berths).await.unwrap();
    target.load(&berths, rows_of_batch(&berths.schema, &[row(70, "broken off")])).await.unwrap();
    target.create_again(PIPELINE, &berths).await.unwrap();
    target.load(&berths, rows_of_batch(&berths.schema, &[row(50, "read"), row(51, "read")])).await.unwrap();
    target.ready_again(&berths).await.unwrap();
    assert_eq!(under_test.rows("berths"), old, "the old rows stay");
    merged(target, &berths, "10", &[Op::Insert(row(60, "meanwhile"))], no_old).await;
    assert!(under_test.rows("berths").contains(&row(60, "meanwhile")), "and are followed");

    let transaction = transaction("11");
    let ops = [Op::Insert(row(60, "meanwhile")), Op::Delete(51)];
    let mark = SnapshotMark { text: "m2".into(), complete_at: Position::new(&[9], "9") };
    for commits in [false, true] {
        let later = block_of(&berths.schema, &transaction, &mut 0, &ops, no_old);
        let later = TableBatch::of(Arc::new(berths.clone()), vec![later], false).unwrap();
        let end = LoadedTable {
            from: CountsFrom::default(),
            state: TableState::Live,
            mark: Some(mark.clone()),
            captured_by: Some("by another".into()),
        };
        let mut merge = begun(target).await;
        let later = Box::new(std::iter::once(Ok(later)));
        merge.replace(vec![Replacement { plan: &berths, later, end }]).await.unwrap();
        if commits {
            let _durable = merge.commit_durably(checkpoint("11")).await.unwrap();
        } else {
            drop(merge);
            assert!(!under_test.rows("berths").contains(&row(50, "read")), "nothing before the commit");
            target.create_again(PIPELINE, &berths).await.unwrap();
            let rows = rows_of_batch(&berths.schema, &[row(50, "read"), row(51, "read")]);
            target.load(&berths, rows).await.unwrap();
            target.ready_again(&berths).await.unwrap();
        }
    }
    assert_eq!(under_test.rows("berths"), [row(50, "read"), row(60, "meanwhile")]);
    let tables = target.tables(PIPELINE).await.unwrap();
    let stored = tables.iter().find(|s| s.plan.target == "berths").unwrap();
    assert_eq!(stored.mark, Some(("m2".into(), "9".into())));
    assert_eq!(stored.captured_by.as_deref(), Some("by another"));
    let read = stored.counters.read;
    assert_eq!((stored.snapshot_rows, read.inserts, read.deletes), (2, 1, 1), "counters begin anew");
}

async fn forgetting(under_test: &dyn TargetUnderTest, target: &dyn Target) {
    let berths = plan(target, "berths", RowIdentity::Key(vec![0]));
    target.forget(PIPELINE, &["berths".into()], false).await.unwrap();
    let stored = target.tables(PIPELINE).await.unwrap();
    assert_eq!(stored.iter().find(|s| s.plan.target == "berths").unwrap().state, TableState::NeedsResnapshot);
    loaded(target, &berths, &[row(4, "again")]).await;
    assert_eq!(under_test.rows("berths"), [row(4, "again")]);

    let state = async |name: &str| {
        let tables = target.tables(PIPELINE).await.unwrap();
        tables.iter().find(|s| s.plan.target == name).map(|s| s.state)
    };
    target.leave(PIPELINE, &["gate_log".into()]).await.unwrap();
    assert_eq!(state("gate_log").await, Some(TableState::Gone));
    assert!(!under_test.rows("gate_log").is_empty(), "its rows stay");
    target.let_go(PIPELINE, &["gate_log".into()], false).await.unwrap();
    assert_eq!((state("gate_log").await, under_test.rows("gate_log").is_empty()), (None, false));
    target.let_go(PIPELINE, &["odd_berths".into()], true).await.unwrap();
    assert_eq!((state("odd_berths").await, under_test.rows("odd_berths").is_empty()), (None, true));

    let listed = target.teardown(PIPELINE, true).await.unwrap();
    assert_eq!(under_test.rows("berths"), [row(4, "again")], "a dry run changes nothing");
    assert!(!listed.is_empty());
    target.teardown(PIPELINE, false).await.unwrap();
    assert!(under_test.rows("berths").is_empty() && target.tables(PIPELINE).await.unwrap().is_empty());
    assert!(target.checkpoint(PIPELINE).await.unwrap().is_none());
    assert!(target.memos(PIPELINE, MemoKind::Structure).await.unwrap().is_empty());
    assert_eq!(under_test.rows("old_berths").len(), 3, "a table that was there before stays");
}

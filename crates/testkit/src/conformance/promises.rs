//! What a target promises beside applying changes: whole batches over all tables, what it remembers, looks, rejects; and
//! that it says what it lacks.

use super::handed::{
    PIPELINE, TargetUnderTest, begun, checkpoint, live, loaded, merged, no_old, plan, prepared, transaction,
};
use crate::rows::{Op, Row, block_of, row, row_at, rows_of_batch};
use arrow::array::{RecordBatch, StringArray};
use moorage_adapter::{AdapterError, Lack, Memo, MemoKind, RowOrder, Sample, Settle, TableState, Target};
use moorage_core::change::structure::Step;
use moorage_core::compare::rows::LookedRows;
use moorage_core::drift::alter::{AlterStep, Alteration, Then};
use moorage_core::mapping::outputs::Mapping;
use moorage_core::model::policy::{ExistingRows, OnReject};
use moorage_core::model::schema::RowIdentity;
use moorage_core::plan::table::{PlannedColumn, TablePlan};
use moorage_core::{Column, TableSchema};
use std::sync::Arc;

/// What stands beside the rows comes with its batch, is the same when it comes again, and is gone with the pipeline.
pub(super) async fn remembering(under_test: &dyn TargetUnderTest, target: &dyn Target) {
    let memo = |name: &str, content: Option<&[u8]>| Memo {
        kind: MemoKind::Structure,
        name: name.into(),
        content: content.map(<[u8]>::to_vec),
    };
    let all = async |of: &dyn Target| of.memos(PIPELINE, MemoKind::Structure).await.unwrap();
    let mut dropped = begun(target).await;
    dropped.remember(&[memo("never", Some(b"0"))]).await.unwrap();
    drop(dropped);
    for _ in 0..2 {
        let mut batch = begun(target).await;
        batch.remember(&[memo("b", Some(&[0, 255])), memo("a", Some(b"")), memo("c", None)]).await.unwrap();
        let _durable = batch.commit_durably(checkpoint("11")).await.unwrap();
        assert_eq!(all(target).await, [("a".into(), vec![]), ("b".into(), vec![0, 255])]);
    }
    assert_eq!(all(under_test.another().as_ref()).await.len(), 2, "it is in the target, not in this process");
    assert!(target.memos(PIPELINE, MemoKind::Held).await.unwrap().is_empty(), "kinds are apart");
    assert!(target.memos("another", MemoKind::Structure).await.unwrap().is_empty(), "pipelines are apart");
    let mut batch = begun(target).await;
    batch.remember(&[memo("b", Some(b"other")), memo("a", None)]).await.unwrap();
    let _durable = batch.commit_durably(checkpoint("11")).await.unwrap();
    assert_eq!(all(target).await, [("b".into(), b"other".to_vec())]);
}

/// Some of what is remembered is read within a batch, as it has it.
pub(super) async fn recalling(target: &dyn Target) {
    let memo = |name: String, content: Option<Vec<u8>>| Memo { kind: MemoKind::Held, name, content };
    let mut batch = begun(target).await;
    let all: Vec<Memo> = (0..40).map(|at| memo(format!("berths\n{at:03}"), Some(vec![at]))).collect();
    batch.remember(&all).await.unwrap();
    batch
        .remember(&[memo("quays\n000".into(), Some(vec![1])), memo("berths\n001".into(), None)])
        .await
        .unwrap();
    let (mut found, mut after) = (Vec::new(), String::new());
    loop {
        let some = batch.recall(MemoKind::Held, "berths\n", &after).await.unwrap();
        let Some((last, _)) = some.last() else { break };
        after.clone_from(last);
        found.extend(some.into_iter().map(|(_, content)| content[0]));
    }
    assert_eq!(found, (0..40).filter(|at| *at != 1).collect::<Vec<u8>>(), "in order, and no other's");
    let _durable = batch.commit_durably(checkpoint("11")).await.unwrap();
    let one = |name| target.memo(PIPELINE, MemoKind::Held, name);
    assert_eq!(one("berths\n007").await.unwrap(), Some(vec![7]));
    assert_eq!(one("berths\n001").await.unwrap(), None);
    let mut batch = begun(target).await;
    let again = [memo("berths\n002".into(), Some(vec![7])), memo("berths\n002".into(), None)];
    batch.remember(&again).await.unwrap();
    batch
        .remember(&[memo("berths\n003".into(), None), memo("berths\n003".into(), Some(vec![8]))])
        .await
        .unwrap();
    let found = batch.recall(MemoKind::Held, "berths\n00", "berths\n000").await.unwrap();
    assert_eq!(found[0], ("berths\n003".into(), vec![8]), "of several of a name the last one counts");
    batch.forget(MemoKind::Held, "berths\n").await.unwrap();
    batch.forget(MemoKind::Structure, "quays\n").await.unwrap();
    assert_eq!(batch.recall(MemoKind::Held, "", "").await.unwrap(), [("quays\n000".to_string(), vec![1])]);
    let _durable = batch.commit_durably(checkpoint("11")).await.unwrap();
    assert_eq!(one("quays\n000").await.unwrap(), Some(vec![1]), "and no other's");
    let mut batch = begun(target).await;
    batch.remember(&[memo("quays\n000".into(), None)]).await.unwrap();
    let _durable = batch.commit_durably(checkpoint("11")).await.unwrap();
    assert!(target.memos(PIPELINE, MemoKind::Held).await.unwrap().is_empty());
}

/// A table is altered with the batch, in order with its rows, and not at all if the batch is given up; its plan and how it
/// goes on are kept with it.
pub(super) async fn altering(under_test: &dyn TargetUnderTest, target: &dyn Target) {
    let before = Arc::new(plan(target, "altered_berths", RowIdentity::Key(vec![0])));
    loaded(target, &before, &[row(1, "one")]).await;
    let width = before.columns.len();
    let added = Column { name: "depth".into(), nullable: true, ..before.schema.columns[1].clone() };
    let mut columns = before.schema.columns.clone();
    columns.push(added.clone());
    let schema = Arc::new(TableSchema { columns, ..(*before.schema).clone() });
    let mut after = TablePlan { schema: schema.clone(), mapped: schema.clone(), ..(*before).clone() };
    after.mapping = Mapping::plain(width + 1);
    let declared = target.dialect().declare(&added, false);
    after.columns.push(PlannedColumn { name: "depth".into(), declared, loses: None, comment: None });
    let value = TableSchema { columns: vec![added], ..(*schema).clone() };
    let value = RecordBatch::try_new(value.arrow(), vec![Arc::new(StringArray::from(vec!["deep"]))]).unwrap();
    let step = Step {
        after: Arc::new(before.source_table()),
        schema,
        values: None,
        unknown: None,
        types: Vec::new(),
    };
    let alteration = Alteration {
        before: before.clone(),
        after: Arc::new(after.clone()),
        steps: vec![AlterStep::Add { column: width, value: Some(value) }],
        then: Then::Merges,
        what: "column depth was added".into(),
        id: 1,
        step: Arc::new(step),
        would: None,
        also: Vec::new(),
    };
    let stored = async || {
        let tables = target.tables(PIPELINE).await.unwrap();
        let found = tables.into_iter().find(|t| t.plan.target == "altered_berths").unwrap();
        (found.plan.columns.len(), found.state)
    };
    if target.guarantees().lacks.contains(&Lack::Altering) {
        let error = begun(target).await.alter(&alteration).await.err();
        assert!(matches!(error, Some(AdapterError::Lacking { lack: Lack::Altering, .. })), "{error:?}");
    } else {
        assert!(!target.alteration(&alteration).is_empty());
        for commits in [false, true] {
            let mut batch = begun(target).await;
            batch.reserve(&[&before]).await.unwrap();
            let block = |ops: &[Op]| block_of(&before.schema, &transaction("16"), &mut 0, ops, no_old);
            batch.write(prepared(&before, block(&[Op::Insert(row(2, "two"))]))).await.unwrap();
            batch.alter(&alteration).await.unwrap();
            if commits {
                let _durable = batch.commit_durably(checkpoint("16")).await.unwrap();
            } else {
                drop(batch);
                assert_eq!(
                    stored().await,
                    (width, TableState::Live),
                    "nothing stays of a batch that was given up"
                );
            }
        }
        assert_eq!(stored().await, (width + 1, TableState::Live));
        let columns = target.describe("altered_berths").await.unwrap().expect("it is there").columns;
        assert!(columns.iter().any(|(name, _)| name == "depth"), "{columns:?}");
        assert_eq!(under_test.rows("altered_berths"), [row(1, "one"), row(2, "two")]);
    }
    for (then, state) in [
        (Then::Holds, TableState::Held),
        (Then::Merges, TableState::Live),
        (Then::Rereads, TableState::NeedsResnapshot),
    ] {
        let mut batch = begun(target).await;
        batch.alter(&Alteration { steps: Vec::new(), then, ..alteration.clone() }).await.unwrap();
        let _durable = batch.commit_durably(checkpoint("16")).await.unwrap();
        assert_eq!(stored().await, (width + 1, state));
    }
}

/// What is lacking is said with a type, and not by an empty answer.
pub(super) async fn lacking(target: &dyn Target) {
    let lacks = |lack| target.guarantees().lacks.contains(&lack);
    let error = target.look(PIPELINE).await.err();
    let says = matches!(error, Some(AdapterError::Lacking { lack: Lack::Looks, .. }));
    assert_eq!(says, lacks(Lack::Looks), "{error:?}");
    let error = target.settle(PIPELINE, None, Settle::Retry).await.err();
    let says = matches!(error, Some(AdapterError::Lacking { lack: Lack::SettingAside, .. }));
    assert_eq!(says, lacks(Lack::SettingAside), "{error:?}");
    assert!(target.settled(PIPELINE).await.unwrap().is_none(), "every batch has ended");
}

/// A batch over several tables in several parts is seen whole, or not at all.
pub(super) async fn several_tables(under_test: &dyn TargetUnderTest, target: &dyn Target) {
    let plans = ["piers", "jetties"].map(|name| plan(target, name, RowIdentity::Key(vec![0])));
    for plan in &plans {
        loaded(target, plan, &[row(1, "one")]).await;
    }
    let rows = || plans.each_ref().map(|plan| under_test.rows(&plan.target));
    let before = rows();
    for commits in [false, true] {
        let mut batch = begun(target).await;
        let mut order = 0;
        // A transaction that is longer than a part: first both tables, then one of them once more.
        for (ops, whose) in [
            (vec![Op::Insert(row(2, "two"))], 0),
            (vec![Op::Delete(1), Op::Insert(row(3, "three"))], 1),
            (vec![Op::Update(2, row(2, "Two")), Op::Insert(row(4, "four"))], 0),
        ] {
            let block = block_of(&plans[whose].schema, &transaction("12"), &mut order, &ops, no_old);
            batch.write(prepared(&plans[whose], block)).await.unwrap();
            assert_eq!(rows(), before, "a part is not seen");
        }
        if commits {
            let (_durable, progress) = batch.commit_durably(checkpoint("12")).await.unwrap();
            assert_eq!(progress.len(), 2, "{progress:?}");
        } else {
            drop(batch);
            assert_eq!(rows(), before, "nothing stays of a batch that was given up");
        }
    }
    let expected = [vec![row(1, "one"), row(2, "Two"), row(4, "four")], vec![row(3, "three")]];
    assert_eq!(rows(), expected);
}

/// Rows of others that are kept are not removed with those of the pipeline; what would remove them is refused, and nothing
/// of its batch stays.
pub(super) async fn truncate_beside_kept_rows(under_test: &dyn TargetUnderTest, target: &dyn Target) {
    let mut kept = plan(target, "kept_berths", RowIdentity::Key(vec![0]));
    kept.existing_rows = Some(ExistingRows::Keep);
    under_test.put(&kept, &[row(1, "before")]);
    loaded(target, &kept, &[row(2, "ours")]).await;
    let before = under_test.rows("kept_berths");
    let block = block_of(&kept.schema, &transaction("12"), &mut 0, &[Op::Truncate], no_old);
    let mut batch = begun(target).await;
    let refused = batch.write(prepared(&kept, block)).await.expect_err("it keeps rows").to_string();
    assert!(refused.contains("kept_berths") && refused.contains("resnapshot"), "{refused}");
    drop(batch);
    target.renew_turn(PIPELINE).await.unwrap();
    assert_eq!(under_test.rows("kept_berths"), before);
}

/// Chunks of several tables come from several tasks at once; each is there once.
pub(super) async fn loads_at_once(under_test: &dyn TargetUnderTest, target: &dyn Target) {
    let plans = ["moles", "quays"].map(|name| plan(target, name, RowIdentity::Key(vec![0])));
    for plan in &plans {
        target.create(PIPELINE, plan).await.unwrap();
    }
    let chunk = |plan: &TablePlan, at: i64| {
        let rows: Vec<Row> = (at * 100..at * 100 + 100).map(|id| row(id, "new")).collect();
        rows_of_batch(&plan.schema, &rows)
    };
    let all = (0..8).flat_map(|at| plans.iter().map(move |plan| (plan, at)));
    let loads = all.map(|(plan, at)| target.load(plan, chunk(plan, at)));
    futures_util::future::try_join_all(loads).await.unwrap();
    for plan in &plans {
        target.finish_load(PIPELINE, plan, live()).await.unwrap();
        let ids: Vec<i64> = under_test.rows(&plan.target).iter().map(|r| r.0).collect();
        assert_eq!(ids, (0..800).collect::<Vec<_>>());
        assert_eq!(target.count(plan).await.unwrap(), 800);
    }
}

/// A look sees one state, whatever is written meanwhile: rows in order of the key, counts, single rows and samples.
pub(super) async fn looks(under_test: &dyn TargetUnderTest, target: &dyn Target) {
    if target.guarantees().lacks.contains(&Lack::Looks) {
        return;
    }
    let seen = plan(target, "seen_berths", RowIdentity::Key(vec![0]));
    loaded(target, &seen, &[row(10, "ten"), row(9, "nine"), row(100, "hundred")]).await;
    let mut look = target.look(PIPELINE).await.unwrap().expect("something is there");
    let at = look.checkpoint().cloned();
    assert_eq!(at, target.checkpoint(PIPELINE).await.unwrap());
    assert!(look.tables().iter().any(|s| s.plan == seen));
    let read = |rows: &LookedRows| -> Vec<Row> {
        assert!(rows.misfits.is_empty() && !rows.kept.contains(&true));
        (0..rows.rows.num_rows()).map(|at| row_at(&rows.rows, at)).collect()
    };
    assert_eq!(look.count(&seen).await.unwrap(), (3, 0), "it sees what is there now");
    merged(target, &seen, "13", &[Op::Insert(row(11, "eleven")), Op::Delete(9)], no_old).await;
    assert_eq!(under_test.rows("seen_berths").len(), 3);
    let (sender, mut chunks) = tokio::sync::mpsc::channel(16);
    look.rows(&seen, RowOrder::Key, sender).await.unwrap();
    let mut rows = Vec::new();
    while let Some(chunk) = chunks.recv().await {
        rows.extend(read(&chunk));
    }
    assert_eq!(rows, [row(9, "nine"), row(10, "ten"), row(100, "hundred")], "as it was, by value");
    assert_eq!(read(&look.row(&seen, &["9".into()]).await.unwrap()), [row(9, "nine")]);
    assert!(read(&look.row(&seen, &["11".into()]).await.unwrap()).is_empty());
    assert_eq!(read(&look.sample(&seen, Sample::First(2)).await.unwrap()).len(), 2);
    let newest = look.sample(&seen, Sample::Newest(1)).await.unwrap();
    assert_eq!(read(&newest), [row(100, "hundred")], "the one that came last");
}

/// What the target refuses stops the batch, by name; or it is set aside, with what comes behind it, until it is tried again.
pub(super) async fn rejects(under_test: &dyn TargetUnderTest, target: &dyn Target) {
    let mut strict = under_test.strict(plan(target, "strict_berths", RowIdentity::Key(vec![0])));
    loaded(target, &strict, &[row(1, "1")]).await;
    under_test.forbid("strict_berths", "bad");
    let ops = [Op::Insert(row(2, "bad")), Op::Insert(row(3, "3")), Op::Update(2, row(2, "bad"))];
    let block = || block_of(&strict.schema, &transaction("14"), &mut 0, &ops, no_old);
    let mut batch = begun(target).await;
    let refused = batch.write(prepared(&strict, block())).await.expect_err("a refused row").to_string();
    assert!(refused.contains("strict_berths"), "{refused}");
    drop(batch);
    target.renew_turn(PIPELINE).await.unwrap();
    assert_eq!(under_test.rows("strict_berths"), [row(1, "1")], "nothing of the batch stays");
    assert!(target.rejects(PIPELINE).await.unwrap().is_empty());
    if target.guarantees().lacks.contains(&Lack::SettingAside) {
        return;
    }

    strict.on_reject = OnReject::SetAside;
    merged(target, &strict, "14", &ops, no_old).await;
    assert_eq!(under_test.rows("strict_berths"), [row(1, "1"), row(3, "3")], "all but those are applied");
    let aside = target.rejects(PIPELINE).await.unwrap();
    assert!(!aside.is_empty() && aside.iter().all(|r| r.key.contains("id = 2")), "{aside:?}");
    let (reject, change) = target.reject(PIPELINE, aside[0].id).await.unwrap().expect("one of them");
    assert_eq!((reject.operation.as_str(), change.len()), ("insert", 1));
    // Behind a reject its row's later changes wait.
    merged(target, &strict, "15", &[Op::Update(2, row(2, "4"))], no_old).await;
    assert_eq!(target.rejects(PIPELINE).await.unwrap().len(), aside.len() + 1);
    assert!(target.settle(PIPELINE, Some(&[-1]), Settle::Drop).await.is_err(), "a number that is none");
    let settled = target.settle(PIPELINE, None, Settle::Retry).await.unwrap();
    assert_eq!((settled.applied as usize, settled.refused.len()), (aside.len() + 1, 0), "{settled:?}");
    assert_eq!(under_test.rows("strict_berths"), [row(1, "1"), row(2, "4"), row(3, "3")]);
    assert!(target.rejects(PIPELINE).await.unwrap().is_empty());
}

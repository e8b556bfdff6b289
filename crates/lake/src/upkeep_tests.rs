//! Files are put together beside merges, and old ones removed: the rows stay what they are.

use crate::LakeTarget;
use crate::as_target::ledger::STATE;
use crate::conformance::rows_in;
use crate::rows::key::Keys;
use crate::store::{PutNew, Store};
use crate::table::key_cache::KeyCache;
use crate::table::log::{Committed, Log};
use crate::table::work::Work;
use crate::table::{KeyOf, Table};
use arrow::array::Int64Array;
use moorage_adapter::{TakeFrom, Turn, WriteTarget};
use moorage_core::model::schema::RowIdentity;
use moorage_testkit::conformance::handed::{
    PIPELINE, begun, checkpoint, holder, loaded, plan, prepared, taken, transaction,
};
use moorage_testkit::{Op, Row, block_of, row};
use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

/// What an application may do with a few rows; what does not fit is left out.
fn ops(rows: &mut BTreeMap<i64, Row>, draws: &[(i64, i64, u8)]) -> Vec<Op> {
    let mut all = Vec::new();
    for (at, &(id, to, what)) in draws.iter().enumerate() {
        match (what % 4, rows.contains_key(&id), rows.contains_key(&to)) {
            (0 | 1, false, _) => {
                rows.insert(id, row(id, &format!("new {at}")));
                all.push(Op::Insert(rows[&id].clone()));
            }
            (0 | 1, true, _) => {
                rows.insert(id, row(id, &format!("named {at} {to}")));
                all.push(Op::Update(id, rows[&id].clone()));
            }
            (2, true, _) => {
                rows.remove(&id);
                all.push(Op::Delete(id));
            }
            (3, true, false) => {
                rows.remove(&id);
                rows.insert(to, row(to, "moved"));
                all.push(Op::Update(id, rows[&to].clone()));
            }
            _ => {}
        }
    }
    all
}

async fn log_of(path: &Path, folder: &str) -> Log {
    Log::open(Arc::new(Store::folder(path)), folder, None).await.unwrap().unwrap()
}

/// The files in a folder of the lake that are no log's.
fn files_in(path: &Path) -> usize {
    let entries = std::fs::read_dir(path).unwrap().map(|entry| entry.unwrap().path());
    entries.filter(|path| path.is_file()).count()
}

/// What another program does meanwhile: it puts all files together, or deletes a row.
async fn theirs(path: &Path, delete: Option<i64>) {
    let log = log_of(path, "berths").await;
    let mut table = Table::open(log, KeyOf::Columns(vec![0]), KeyCache::new(None, "")).await.unwrap();
    table.know_keys().await.unwrap();
    let lines = match delete {
        None => {
            let Some(all) = table.to_compact(0, &BTreeSet::new()) else { return };
            let mut compacted = table.compact(all).await.unwrap();
            table.exchange(&mut compacted).await.unwrap().unwrap()
        }
        Some(id) => {
            let mut work = Work::on(table.clone()).await.unwrap();
            let found = work.take(Keys::of_columns(&[Arc::new(Int64Array::from(vec![id]))])).await.unwrap();
            assert!(found[0].is_some(), "{id} is there");
            let (table, mut finished) = work.finish().await.unwrap();
            table.actions(&mut finished).await.unwrap()
        }
    };
    assert!(matches!(table.log.try_commit("theirs", lines).await.unwrap(), Committed::At(_)));
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 10, ..ProptestConfig::default() })]
    #[test]
    fn rows_that_others_move_or_delete_meanwhile_are_found_where_they_are(
        rounds in proptest::collection::vec((proptest::collection::vec((0i64..60, 0i64..60, any::<u8>()), 1..12), 0u8..4), 10..20),
        vectors in any::<bool>(),
    ) {
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
        runtime.block_on(async {
            let folder = tempfile::tempdir().unwrap();
            let path = folder.path().join("lake");
            let target = LakeTarget::folder(&path, Some(folder.path().join("keys"))).looking_after(6, Duration::ZERO);
            let target = if vectors { target } else { target.without_vectors() };
            assert_eq!(taken(&target, &holder("one"), TakeFrom::Nobody, true).await, Turn::Taken);
            target.save_checkpoint(&checkpoint("0")).await.unwrap();
            let berths = plan(&target, "berths", RowIdentity::Key(vec![0]));
            let mut rows: BTreeMap<i64, Row> = (0..30).map(|id| (id, row(id, "first"))).collect();
            loaded(&target, &berths, &rows.values().cloned().collect::<Vec<_>>()).await;
            let mut position = 0;
            for (draws, what) in &rounds {
                let before = rows.clone();
                let ops = ops(&mut rows, draws);
                // What they delete is a row that the batch does not touch, or one that it does.
                let deleted = before.keys().copied().find(|id| (*what == 1) == (rows.get(id) == before.get(id)));
                let mut tries = 0;
                loop {
                    position += 1;
                    let block = block_of(&berths.schema, &transaction(&position.to_string()), &mut 0, &ops, |_| unreachable!());
                    let mut merge = begun(&target).await;
                    merge.write(prepared(&berths, block)).await.unwrap();
                    match (what, tries) {
                        (0, 0) => theirs(&path, None).await,
                        (1 | 2, 0) if vectors => {
                            if let Some(id) = deleted {
                                theirs(&path, Some(id)).await;
                                if *what == 1 {
                                    rows.remove(&id);
                                }
                            }
                        }
                        _ => {}
                    }
                    match merge.commit_durably(checkpoint(&position.to_string())).await {
                        Ok(_durable) => break,
                        // Files that were written again are others now: the batch is done again.
                        Err(error) => assert!(error.is_transient() && !vectors && tries == 0, "{error}"),
                    }
                    tries += 1;
                    assert_eq!(taken(&target, &holder("one"), TakeFrom::Nobody, true).await, Turn::Taken);
                }
                let store = Arc::new(Store::folder(&path));
                assert_eq!(rows_in(store, "berths").await, rows.values().cloned().collect::<Vec<_>>(), "{what}");
            }
        });
    }

    #[test]
    fn one_of_two_that_make_the_same_version_does(count in 2usize..6) {
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
        runtime.block_on(async {
            let folder = tempfile::tempdir().unwrap();
            let store = Arc::new(Store::folder(folder.path()));
            let tries = (0..count).map(|at| {
                let store = store.clone();
                tokio::spawn(async move { store.put_new("t/version", format!("by {at}").into()).await.unwrap() })
            });
            let tries: Vec<_> = tries.collect();
            let mut done = 0;
            for tried in tries {
                done += usize::from(tried.await.unwrap() == PutNew::Done);
            }
            assert_eq!(done, 1);
        });
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 12, ..ProptestConfig::default() })]
    #[test]
    fn rows_stay_what_they_are_while_files_are_put_together(
        rounds in proptest::collection::vec((proptest::collection::vec((0i64..60, 0i64..60, any::<u8>()), 1..12), any::<bool>()), 20..40),
        keyless in any::<bool>(),
    ) {
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
        runtime.block_on(async {
            let folder = tempfile::tempdir().unwrap();
            let path = folder.path().join("lake");
            let target = LakeTarget::folder(&path, Some(folder.path().join("keys"))).looking_after(3, Duration::ZERO);
            assert_eq!(taken(&target, &holder("one"), TakeFrom::Nobody, true).await, Turn::Taken);
            target.save_checkpoint(&checkpoint("0")).await.unwrap();
            let berths = plan(&target, "berths", if keyless { RowIdentity::WholeRow } else { RowIdentity::Key(vec![0]) });
            let mut rows: BTreeMap<i64, Row> = (0..30).map(|id| (id, row(id, "first"))).collect();
            loaded(&target, &berths, &rows.values().cloned().collect::<Vec<_>>()).await;
            for (at, (draws, waits)) in rounds.iter().enumerate() {
                let (before, position) = (rows.clone(), (at + 1).to_string());
                let mut ops = ops(&mut rows, draws);
                if keyless {
                    // Without a key, old images are of the rows before the transaction: one change of each.
                    rows.clone_from(&before);
                    let mut seen = std::collections::BTreeSet::new();
                    ops.retain(|op| matches!(op, Op::Delete(id) | Op::Update(id, _) if before.contains_key(id) && seen.insert(*id)));
                    for op in &ops {
                        match op {
                            Op::Delete(id) => drop(rows.remove(id)),
                            Op::Update(id, to) if to.0 == *id => drop(rows.insert(*id, to.clone())),
                            _ => {}
                        }
                    }
                    ops.retain(|op| !matches!(op, Op::Update(id, to) if to.0 != *id));
                }
                let block = block_of(&berths.schema, &transaction(&position), &mut 0, &ops, |id| before[&id].clone());
                let mut merge = begun(&target).await;
                merge.write(prepared(&berths, block)).await.unwrap();
                // What is put together is exchanged in the middle of a batch, or it goes on beside it.
                while *waits && !target.looked_after.lock().unwrap().is_empty() {
                    tokio::task::yield_now().await;
                }
                let _durable = merge.commit_durably(checkpoint(&position)).await.unwrap();
                let store = Arc::new(Store::folder(&path));
                assert_eq!(rows_in(store, "berths").await, rows.values().cloned().collect::<Vec<_>>(), "round {at}");
            }
            while !target.looked_after.lock().unwrap().is_empty() {
                tokio::task::yield_now().await;
            }
            let log = log_of(&path, "berths").await;
            assert!(log.state.files.len() < 12, "{} files", log.state.files.len());
            let removed = log.vacuum(i64::MAX, true).await.unwrap();
            assert_eq!(log.vacuum(i64::MAX, false).await.unwrap(), removed);
            assert_eq!(rows_in(log.store.clone(), "berths").await, rows.values().cloned().collect::<Vec<_>>());
            assert!(files_in(&path.join("berths")) <= 2 * log.state.files.len(), "files and their vectors are left");
            let ledger = log_of(&path, &format!("{STATE}/{PIPELINE}/checkpoint")).await;
            ledger.vacuum(i64::MAX, false).await.unwrap();
            assert_eq!(files_in(&path.join(STATE).join(PIPELINE).join("checkpoint")), 1);
        });
    }
}

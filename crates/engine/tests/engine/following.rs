//! A target whose tables are written one after the other, and whose checkpoint follows them: the power goes before each
//! of its steps in turn. After every break each table stands at one of two places, and the next run, which collects other
//! batches, ends as if nothing had happened.

use crate::ends::{caught_up, caught_up_reading_again, pipeline};
use moorage_adapter::RecallTarget;
use moorage_engine::{Counting, Pipeline, status};
use moorage_testkit::{FolderTarget, MemorySource, Op, Row, row};
use std::path::Path;
use std::sync::Arc;

const TABLES: [&str; 3] = ["berths", "jetties", "moles"];

fn target_table(at: usize) -> String {
    format!("public_{}", TABLES[at])
}

/// The source with what its tables were behind each transaction.
struct Recorded {
    source: MemorySource,
    states: Vec<[Vec<Row>; 3]>,
    /// How many changes were committed to each table.
    changes: [u64; 3],
}

impl Recorded {
    fn commit(&mut self, ops: &[(usize, Op)]) {
        self.source.commit_in(ops);
        ops.iter().for_each(|(table, _)| self.changes[*table] += 1);
        // Notes, too, are transactions; they change nothing.
        let before = self.states.last().cloned().unwrap_or_default();
        self.states.resize(self.source.end(), before);
        self.states.push([0, 1, 2].map(|table| self.source.rows_in(table)));
    }

    /// A table's rows at a position.
    fn at(&self, position: &str, table: usize) -> &[Row] {
        let at = position.parse::<usize>().unwrap();
        &self.states.get(at).or(self.states.last()).unwrap()[table]
    }

    /// Each table is where the checkpoint says, or where the batch was to end.
    async fn assert_at_one_of_two_places(&self, target: &FolderTarget, steps: usize) {
        let checkpoint = target.checkpoint("p").await.unwrap().unwrap();
        let settled = target.settled("p").await.unwrap();
        for (at, name) in [0, 1, 2].map(|at| (at, target_table(at))) {
            let rows = target.rows(&name);
            let ends = settled.iter().any(|s| rows == self.at(&s.position, at));
            let stays = rows == self.at(&checkpoint.position, at);
            assert!(stays || ends, "{steps} steps: {name} is at neither place: {rows:?}");
        }
    }

    /// Changes that make themselves felt if they are applied twice, or left out.
    fn work(&mut self, round: i64) {
        let old = round - 1;
        self.commit(&[
            (0, Op::Insert(row(round, "new"))),
            (1, Op::Insert(row(round, "new"))),
            (0, Op::Update(old, row(-round, "moved"))),
            (2, Op::Insert(row(round, "new"))),
        ]);
        self.commit(&[(1, Op::Delete(old)), (2, Op::Truncate), (2, Op::Insert(row(round, "again")))]);
        self.commit(&[(2, Op::Update(round, row(round, "named")))]);
    }
}

fn between(recorded: &Recorded, target: &FolderTarget, folder: &Path) -> Pipeline {
    pipeline(Arc::new(recorded.source.clone()), Arc::new(target.clone()), folder)
}

#[rstest::rstest]
#[tokio::test(flavor = "multi_thread")]
async fn wherever_the_power_goes_the_next_run_ends_the_same(#[values(false, true)] reads_again: bool) {
    for steps in 0.. {
        let folder = tempfile::tempdir().unwrap();
        let (there, state) = (folder.path().join("there"), folder.path().join("state"));
        let source = MemorySource::with_tables(&TABLES);
        let mut recorded = Recorded { source, states: Vec::new(), changes: [0; 3] };
        recorded.commit(&[0, 1, 2].map(|table| (table, Op::Insert(row(0, "there")))));
        caught_up(&between(&recorded, &FolderTarget::new(&there), &state)).await.unwrap();

        recorded.work(1);
        let dark = FolderTarget::with_power(&there, steps);
        let broken = between(&recorded, &dark, &state);
        let done = match reads_again {
            true => caught_up_reading_again(&broken, "jetties").await.0.is_ok(),
            false => caught_up(&broken).await.is_ok(),
        };
        recorded.assert_at_one_of_two_places(&dark, steps).await;
        dark.end_process("p");
        // More has come by now: what is collected now would end elsewhere.
        recorded.work(2);
        // And the power goes once more.
        let dark_again = FolderTarget::with_power(&there, steps);
        let _ = caught_up(&between(&recorded, &dark_again, &state)).await;
        recorded.assert_at_one_of_two_places(&dark_again, steps).await;
        dark_again.end_process("p");
        recorded.work(3);
        let target = FolderTarget::new(&there);
        let mended = between(&recorded, &target, &state);
        caught_up(&mended).await.unwrap_or_else(|error| panic!("{steps} steps: {error}"));
        assert!(target.settled("p").await.unwrap().is_none(), "{steps} steps");
        let counted = status(&mended, Counting::Exactly).await.unwrap().tables;
        for (at, name) in [0, 1, 2].map(|at| (at, target_table(at))) {
            assert_eq!(target.rows(&name), recorded.source.rows_in(at), "{steps} steps: {name}");
            let table = counted.iter().find(|t| t.target == name).unwrap();
            let read = table.changes.read.total();
            // Counting begins anew where a table was read again.
            let exact = read == recorded.changes[at] - 1;
            assert!(
                exact || (reads_again && at == 1 && read < recorded.changes[at]),
                "{steps} steps: {name}: {read}"
            );
        }
        if done && !dark.is_dark() {
            assert!(steps > 6, "every step has failed in turn: {steps}");
            return;
        }
    }
}

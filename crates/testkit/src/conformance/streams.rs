//! What a source promises of its streams: ends that are settled, transactions longer than a segment, writers during a
//! snapshot, and changes of structure in their place.

use super::asked::{SourceUnderTest, capture};
use crate::rows::{Op, Row, row, row_at};
use arrow::array::RecordBatch;
use async_trait::async_trait;
use moorage_adapter::{Events, Result, SnapshotMark, SnapshotSink, Source, StreamStart, StreamTable};
use moorage_core::Position;
use moorage_core::change::kind::ChangeKind;
use moorage_core::change::segment::Segment;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::plan::table::TablePlan;
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::sync::Notify;

/// Rows of a transaction that is longer than a segment of any source, with as many bytes each.
const LONG: usize = 3000;
const WIDE: usize = 1000;

/// A source that is asked, and the place that its stream is read from.
pub(super) struct Streaming<'a> {
    pub(super) under_test: &'a dyn SourceUnderTest,
    pub(super) source: &'a Arc<dyn Source>,
    pub(super) plan: &'a TablePlan,
    pub(super) from: &'a Checkpoint,
}

/// A change: what was done, and the new row's values, or the key of the old one.
type Seen = (ChangeKind, Row);

fn changes_of(segments: &[Segment]) -> Vec<Seen> {
    let of_block = |block: &moorage_core::change::block::ChangeBlock| -> Vec<Seen> {
        let rows = |c: moorage_core::change::kind::Change<'_>| match (c.new, c.old) {
            (Some(new), _) => row_at(block.new_rows(), new),
            (None, Some(old)) => Row(row_at(block.old_rows(), old).0, None, None),
            (None, None) => row(0, "truncate"),
        };
        block.changes().map(|c| (c.kind, rows(c))).collect()
    };
    segments.iter().flat_map(|s| &s.blocks).flat_map(of_block).collect()
}

impl Streaming<'_> {
    /// Reads until a note arrives or the structure changes. Nothing is acknowledged.
    async fn read(&self, settled: Option<Position>, mark: Option<SnapshotMark>, note: &str) -> Vec<Segment> {
        let silent: Events = Arc::new(|_| {});
        let tables = vec![StreamTable { plan: self.plan.clone(), mark }];
        let captured_by = Vec::new();
        let start =
            StreamStart { checkpoint: self.from.clone(), capture: capture(), tables, captured_by, settled };
        let mut stream = self.source.changes(start, &silent).await.unwrap();
        self.source.send_note(note).await.unwrap();
        let mut segments: Vec<Segment> = Vec::new();
        let ends =
            |s: &Segment| s.schema.iter().any(|c| c.step.is_none()) || s.notes.iter().any(|n| n == note);
        while !segments.last().is_some_and(ends) {
            segments.push(stream.next().await.unwrap().segment);
        }
        stream.close().await;
        segments
    }

    /// While nothing comes, the source says again and again that nothing was missing, and of a later time each time; what
    /// was committed before comes before it is said. Once what captures the tables is not what it was, it says so no more.
    pub(super) async fn nothing_is_missing(&self) {
        let silent: Events = Arc::new(|_| {});
        let (source, plan) = (self.source, self.plan.clone());
        let captured_by = source.captured_by(&capture(), std::slice::from_ref(&plan)).await.unwrap();
        let tables = vec![StreamTable { plan, mark: None }];
        let start = |captured_by| StreamStart {
            checkpoint: self.from.clone(),
            capture: capture(),
            tables: tables.clone(),
            captured_by,
            settled: None,
        };
        let mut stream = source.changes(start(captured_by.clone()), &silent).await.unwrap();
        self.under_test.commit(&[Op::Insert(row(301, "there"))]);
        let committed = chrono::Utc::now();
        let (mut came, mut said) = (Vec::new(), Vec::new());
        while said.len() < 3 {
            let segment = stream.next().await.unwrap().segment;
            said.extend(segment.seen_at.filter(|at| *at > committed));
            came.push(segment);
            let is_there = || changes_of(&came).iter().any(|(_, row)| row.0 == 301);
            assert!(said.is_empty() || is_there(), "said before the row came");
        }
        assert!(said.is_sorted(), "{said:?}");
        stream.close().await;
        if captured_by.iter().flatten().next().is_some_and(|by| !source.is_unbroken("another", by)) {
            let mut stream = source.changes(start(vec![Some("another".into())]), &silent).await.unwrap();
            source.send_note("later").await.unwrap();
            loop {
                let segment = stream.next().await.unwrap().segment;
                assert_eq!(segment.seen_at, None, "said although what captures the table is another");
                if segment.notes.iter().any(|note| note == "later") {
                    break;
                }
            }
            stream.close().await;
        }
        self.under_test.commit(&[Op::Delete(301)]);
    }

    /// A stretch that was read once, and ended somewhere, can be read again to the very same end, whatever came since.
    pub(super) async fn settled_end(&self) {
        self.under_test.commit(&[Op::Insert(row(101, "one")), Op::Update(101, row(101, "One"))]);
        self.under_test.commit(&[Op::Insert(row(102, "two"))]);
        let first = self.read(None, None, "settling").await;
        let end = first.iter().rev().find_map(|s| s.last_commit.clone()).expect("an end").position.clone();
        self.under_test.commit(&[Op::Delete(102)]);
        self.under_test.commit(&[Op::Insert(row(103, "three"))]);
        let again = self.read(Some(end.clone()), None, "settled").await;
        let ends = |s: &Segment| s.last_commit.as_ref().is_some_and(|t| t.position == end);
        let at = again.iter().position(ends).expect("a segment ends where the first stretch did");
        assert!(!again[at].in_transaction);
        assert_eq!(changes_of(&again[..=at]), changes_of(&first), "neither more nor less");
        let behind = [(ChangeKind::Delete, Row(102, None, None)), (ChangeKind::Insert, row(103, "three"))];
        assert_eq!(changes_of(&again[at + 1..]), behind);
    }

    /// A transaction that is longer than a segment comes in parts that say so, with one end.
    pub(super) async fn long_transaction(&self) {
        let wide = |id| Row(id, Some("wide".into()), Some("w".repeat(WIDE)));
        let rows: Vec<Row> = (1000..1000 + LONG as i64).map(wide).collect();
        let before = changes_of(&self.read(None, None, "before a long one").await).len();
        self.under_test.commit(&rows.iter().cloned().map(Op::Insert).collect::<Vec<_>>());
        let segments = self.read(None, None, "a long one").await;
        let changes = changes_of(&segments);
        let inserted: Vec<Seen> = rows.into_iter().map(|row| (ChangeKind::Insert, row)).collect();
        assert!(changes[before..] == inserted, "every row once, in order");
        let of_it = |s: &Segment| s.blocks.iter().any(|b| b.new_rows().num_rows() > before);
        let parts: Vec<&Segment> = segments.iter().filter(|s| of_it(s)).collect();
        assert!(parts.len() > 1, "it is longer than a segment");
        let open = &parts[..parts.len() - 1];
        assert!(open.iter().all(|part| part.in_transaction), "its parts say that more follows");
        let ends: usize = parts[1..].iter().filter(|s| s.last_commit.is_some()).count();
        assert!(ends <= 1, "it ends once");
    }

    /// What is written while a snapshot is taken is in its rows or in the stream behind its mark, and never in both.
    pub(super) async fn writers_during_a_snapshot(&self) {
        let silent: Events = Arc::new(|_| {});
        self.under_test.commit(&[Op::Truncate]);
        let rows = (1..=9).map(|id| Op::Insert(row(id, "before")));
        self.under_test.commit(&rows.collect::<Vec<_>>());
        let gate = Arc::new(Gate::default());
        let sink = Arc::new(Writing { gate: Mutex::new(Some(gate.clone())), ..Writing::default() });
        let tables = [self.plan.clone()];
        let capture = capture();
        let reading = self.source.snapshot(&tables, Some(&capture), sink.clone(), &silent);
        let writing = async {
            gate.opened.notified().await;
            self.under_test.commit(&[
                Op::Update(1, row(1, "during")),
                Op::Delete(2),
                Op::Update(3, row(30, "during")),
                Op::Insert(row(10, "during")),
            ]);
            gate.passed.notify_one();
        };
        let (read, ()) = tokio::join!(reading, writing);
        read.unwrap();
        self.under_test.commit(&[Op::Update(9, row(9, "after"))]);
        let mark = sink.mark.lock().unwrap().clone();
        assert!(mark.is_some(), "the table was finished");
        let mut there: BTreeMap<i64, Row> =
            sink.rows.lock().unwrap().iter().map(|row| (row.0, row.clone())).collect();
        for (kind, row) in changes_of(&self.read(None, mark, "written meanwhile").await) {
            match kind {
                ChangeKind::Insert => {
                    assert!(there.insert(row.0, row).is_none(), "in the rows and in the stream")
                }
                ChangeKind::Delete => assert!(there.remove(&row.0).is_some(), "in neither"),
                // The old key is not among the values that are compared here.
                ChangeKind::Update => {
                    if row.0 == 30 {
                        assert!(there.remove(&3).is_some(), "in neither");
                    }
                    there.insert(row.0, row);
                }
                ChangeKind::Truncate => panic!("it was emptied before the snapshot"),
            }
        }
        let mut expected: BTreeMap<i64, Row> = (4..=8).map(|id| (id, row(id, "before"))).collect();
        for row in [row(1, "during"), row(30, "during"), row(10, "during"), row(9, "after")] {
            expected.insert(row.0, row);
        }
        assert_eq!(there, expected);
    }

    /// Rows that are read while the stream is behind them, and what it then gives that their mark does not cover, come to what
    /// there is; also where the source tells only what the changes of a stretch came to, and a stretch began before them.
    pub(super) async fn read_again_beside(&self) {
        let silent: Events = Arc::new(|_| {});
        self.under_test.commit(&[Op::Truncate]);
        self.under_test.commit(&[
            Op::Insert(row(1, "stays")),
            Op::Insert(row(2, "leaves")),
            Op::Insert(row(3, "moves")),
        ]);
        let tables = [self.plan.clone()];
        let start = StreamStart {
            checkpoint: self.from.clone(),
            capture: capture(),
            tables: vec![StreamTable { plan: self.plan.clone(), mark: None }],
            captured_by: Vec::new(),
            settled: None,
        };
        let mut stream = self.source.changes(start, &silent).await.unwrap();
        let gauge = stream.gauge();
        let mut wide = 1000..;
        // What comes now is read by a later look, if the source looks.
        while gauge.stalled_since().is_none() {
            let some = wide.by_ref().take(500).map(|id| Op::Insert(Row(id, None, Some("w".repeat(WIDE)))));
            self.under_test.commit(&some.collect::<Vec<_>>());
            tokio::time::sleep(Duration::from_millis(1)).await;
        }
        let fleeting = row(10, "comes and goes");
        self.under_test.commit(&[
            Op::Insert(fleeting.clone()),
            Op::Delete(2),
            Op::Update(3, row(30, "moved")),
        ]);
        let sink = Arc::new(Writing::default());
        self.source.snapshot(&tables, Some(&capture()), sink.clone(), &silent).await.unwrap();
        self.under_test.commit(&[
            Op::Delete(10),
            Op::Update(30, row(31, "further")),
            Op::Insert(row(2, "comes back")),
            Op::Insert(row(11, "new")),
        ]);
        self.source.send_note("read beside").await.unwrap();
        let mark = sink.mark.lock().unwrap().clone().expect("the table was finished");
        let mut there: BTreeMap<i64, Row> =
            sink.rows.lock().unwrap().iter().map(|row| (row.0, row.clone())).collect();
        assert_eq!(there.get(&10), Some(&fleeting));
        loop {
            let segment = stream.next().await.unwrap().segment;
            for block in segment.blocks.iter().chain(&segment.fleeting) {
                let block = block.clone().only(|transaction| !self.source.covers(&mark, transaction));
                for change in block.changes() {
                    let old = change.old.map(|old| row_at(block.old_rows(), old));
                    old.inspect(|old| drop(there.remove(&old.0)));
                    let new = change.new.map(|new| row_at(block.new_rows(), new));
                    new.into_iter().for_each(|new| drop(there.insert(new.0, new)));
                }
            }
            if segment.notes.iter().any(|note| note == "read beside") {
                break;
            }
        }
        stream.close().await;
        let few: Vec<Row> = there.range(..1000).map(|(_, row)| row.clone()).collect();
        assert_eq!(few, [row(1, "stays"), row(2, "comes back"), row(11, "new"), row(31, "further")]);
        assert_eq!(there.len() - few.len(), wide.start as usize - 1000);
    }

    /// A change of structure is an item of the stream, in its place. What was made behind it comes with the structure that it
    /// leads to, or not at all where the source does not tell of that.
    pub(super) async fn structure(&self) {
        let before = changes_of(&self.read(None, None, "one structure").await).len();
        self.under_test.commit(&[Op::Insert(row(201, "before"))]);
        self.under_test.add_column();
        self.under_test.commit(&[Op::Insert(row(202, "behind"))]);
        let segments = self.read(None, None, "another structure").await;
        let is_news = |s: &Segment| s.schema.iter().any(|change| !change.what.is_empty());
        let at = segments.iter().position(is_news).expect("a change of structure");
        let change = segments[at].schema.last().unwrap();
        assert_eq!(change.table, *self.plan.table());
        assert!(segments[at].blocks.is_empty() || !self.source.tells_of_structure(), "by itself");
        let older = changes_of(&segments[..=at]);
        assert!(older.iter().all(|(_, row)| row.0 != 202), "made behind it: {older:?}");
        let later = changes_of(&segments[at + 1..]);
        let Some(step) = &change.step else {
            assert!(change.what.contains("depth") && later.is_empty(), "{} {later:?}", change.what);
            return;
        };
        assert!(self.source.tells_of_structure());
        for columns in [&step.schema.columns, &step.after.columns.iter().map(|c| c.column.clone()).collect()]
        {
            assert!(columns.iter().any(|c| c.name == "depth"), "{columns:?}");
        }
        assert_eq!(later.iter().filter(|(_, row)| row.0 == 202).count(), 1, "{later:?}");
        assert!(segments[at + 1..].iter().flat_map(|s| &s.blocks).all(|b| b.schema() == &step.schema));
        assert_eq!(older.len() + later.len(), before + 2, "every change once");
    }
}

/// Where a snapshot waits for a writer.
#[derive(Default)]
struct Gate {
    opened: Notify,
    passed: Notify,
}

/// Takes a snapshot, and has someone write once the first rows are there.
#[derive(Default)]
struct Writing {
    rows: Mutex<Vec<Row>>,
    mark: Mutex<Option<SnapshotMark>>,
    gate: Mutex<Option<Arc<Gate>>>,
}

#[async_trait]
impl SnapshotSink for Writing {
    async fn rows(&self, _: usize, rows: RecordBatch) -> Result<()> {
        let gate = self.gate.lock().unwrap().take();
        if let Some(gate) = gate {
            gate.opened.notify_one();
            gate.passed.notified().await;
        }
        self.rows.lock().unwrap().extend((0..rows.num_rows()).map(|at| row_at(&rows, at)));
        Ok(())
    }

    async fn finished(&self, _: usize, mark: SnapshotMark) -> Result<()> {
        assert!(self.mark.lock().unwrap().replace(mark).is_none(), "a table finishes once");
        Ok(())
    }
}

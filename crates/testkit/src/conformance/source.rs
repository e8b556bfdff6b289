//! What is asked of every source. The table is `berths`, in whatever schema, with the key `id`.

use super::asked::{SourceUnderTest, capture};
use super::streams::Streaming;
use crate::memory_target::MemoryTarget;
use crate::rows::{AnyKind, Op, Row, row, row_at};
use arrow::array::RecordBatch;
use async_trait::async_trait;
use moorage_adapter::{
    AdapterError, Durable, Events, Holder, InspectTarget, Lack, Result, RowOrder, SnapshotMark, SnapshotSink,
    Source, StreamStart, StreamTable, TailFrom, TakeFrom, Turn, WriteTarget,
};
use moorage_core::change::kind::{ChangeKind, Transaction};
use moorage_core::change::segment::Segment;
use moorage_core::checkpoint::decide::Refusal;
use moorage_core::checkpoint::stored::{Checkpoint, Stage};
use moorage_core::plan::make::plan;
use moorage_core::plan::table::TablePlan;
use moorage_core::project::config::Project;
use moorage_core::value::moment::Moment;
use std::sync::{Arc, Mutex};
use tokio::sync::mpsc;

#[derive(Default)]
struct Sink {
    rows: Mutex<Vec<Row>>,
    mark: Mutex<Option<SnapshotMark>>,
}

#[async_trait]
impl SnapshotSink for Sink {
    async fn rows(&self, _: usize, rows: RecordBatch) -> Result<()> {
        self.rows.lock().unwrap().extend((0..rows.num_rows()).map(|at| row_at(&rows, at)));
        Ok(())
    }
    async fn finished(&self, _: usize, mark: SnapshotMark) -> Result<()> {
        assert!(self.mark.lock().unwrap().replace(mark).is_none(), "a table finishes once");
        Ok(())
    }
}

async fn planned(source: &Arc<dyn Source>) -> TablePlan {
    let text = "[sources.s]\nkind=\"memory\"\n[targets.t]\nkind=\"memory\"\n[pipelines.p]\nsource=\"s\"\ntarget=\"t\"\ninclude=[\"*.berths\"]";
    let project = Project::parse("f", text, &AnyKind).unwrap();
    let found = source.discover().await.unwrap();
    let mut plan = plan(&project.pipelines["p"], &found, MemoryTarget::default().dialect());
    assert!(plan.refused.is_empty(), "{:?}", plan.refused);
    // All that a source promises is asked for.
    TablePlan { each_change: true, ..plan.tables.remove(0) }
}

fn checkpoint(source_state: &moorage_adapter::CaptureState, position: String) -> Checkpoint {
    Checkpoint {
        pipeline: "conformance".into(),
        identity: source_state.identity.clone(),
        capture_point: capture().name,
        token: capture().token,
        stage: Stage::Following,
        changes_only: false,
        starts_at: None,
        position,
        proof: String::new(),
        sequence: 0,
        valid_from: Moment::default(),
        committed_at: None,
        captured_at: None,
        merged_at: None,
    }
}

/// Evidence that a target has committed everything up to a checkpoint, which only a target can give.
async fn evidence_of(checkpoint: Checkpoint) -> Durable {
    let target = MemoryTarget::default();
    let holder = Holder {
        id: "evidence".into(),
        pid: 1,
        host: "quay".into(),
        place: String::new(),
        started: String::new(),
        since: chrono::Utc::now(),
    };
    let silent: Events = Arc::new(|_| {});
    let turn =
        target.take_turn(&checkpoint.pipeline, &holder, TakeFrom::Nobody, true, &silent).await.unwrap();
    assert_eq!(turn, Turn::Taken);
    target.save_checkpoint(&checkpoint).await.unwrap();
    let batch = target.begin(&checkpoint).await.unwrap();
    batch.commit_durably(checkpoint).await.unwrap().0
}

/// Reads until a note arrives, and acknowledges that; gives the changes and the last transaction.
async fn read_until(
    source: &Arc<dyn Source>,
    start: StreamStart,
    note: &str,
) -> Result<(Vec<(ChangeKind, Row)>, Arc<Transaction>)> {
    let silent: Events = Arc::new(|_| {});
    let checkpoint = start.checkpoint.clone();
    let mut stream = source.changes(start, &silent).await?;
    source.send_note(note).await?;
    let mut seen = Vec::new();
    let mut last_order = 0;
    let mut last = None;
    loop {
        let segment: Segment = stream.next().await?.segment;
        last = segment.last_commit.clone().or(last);
        for block in &segment.blocks {
            for change in block.changes() {
                assert!(change.order > last_order, "changes of a table come in order");
                last_order = change.order;
                let row = match (change.new, change.old) {
                    (Some(new), _) => row_at(block.new_rows(), new),
                    (None, Some(old)) => row_at(block.old_rows(), old),
                    (None, None) => row(0, "truncate"),
                };
                seen.push((change.kind, row));
            }
        }
        if segment.notes.iter().any(|n| n == note) {
            assert!(!segment.in_transaction);
            let last = last.expect("what was committed before the note has arrived");
            let done =
                Checkpoint { position: last.position.to_string(), proof: last.proof.clone(), ..checkpoint };
            stream.acknowledge(&evidence_of(done).await);
            stream.close().await;
            return Ok((seen, last));
        }
    }
}

/// All changes behind a checkpoint, each with its place: what is not acknowledged comes again, the same and in the same order.
async fn read_twice(source: &Arc<dyn Source>, start: &StreamStart) {
    let silent: Events = Arc::new(|_| {});
    let mut readings = Vec::new();
    for note in ["once", "twice"] {
        let mut stream = source.changes(start.clone(), &silent).await.unwrap();
        source.send_note(note).await.unwrap();
        let mut seen = Vec::new();
        let mut places = Vec::new();
        loop {
            let segment: Segment = stream.next().await.unwrap().segment;
            for block in &segment.blocks {
                for (at, change) in block.changes().enumerate() {
                    let position = block.transaction(at).unwrap().position.clone();
                    places.push((position, change.order));
                    seen.push((
                        change.kind,
                        change.new.map(|new| row_at(block.new_rows(), new)),
                        change.order,
                    ));
                }
            }
            if segment.notes.iter().any(|n| n == note) {
                break;
            }
        }
        // In a source's own order, which positions and numbers within them say as well.
        assert!(places.windows(2).all(|two| two[0] < two[1]), "{places:?}");
        readings.push(seen);
        stream.close().await;
    }
    assert!(!readings[0].is_empty(), "there was something to read");
    assert_eq!(readings[0], readings[1], "what is read again is the same, in the same order");
}

/// Asks everything of a source.
pub async fn check_source(under_test: &dyn SourceUnderTest) {
    let source = under_test.source();
    let silent: Events = Arc::new(|_| {});
    let plan = planned(&source).await;
    assert_eq!(plan.schema.key_names(), ["id"], "the key is found");

    assert!(source.capture_state(&capture()).await.unwrap().point.is_none(), "nothing is made by looking");
    let tables = [plan.clone()];
    let prepared = source.prepare(&capture(), &tables, false, &silent).await.unwrap();
    let state = source.capture_state(&capture()).await.unwrap();
    assert_eq!(state.point.expect("made").token.as_deref(), Some("t1"), "the capture point is known again");
    let text = prepared.position.to_string();
    assert_eq!(source.parse_position(&text).unwrap(), prepared.position, "positions are read back");

    // Rows before the mark come by snapshot, all others by stream, each once.
    under_test.commit(&[Op::Insert(row(1, "north")), Op::Insert(row(2, "south"))]);
    under_test.commit(&[Op::Update(2, row(2, "South"))]);
    let sink = Arc::new(Sink::default());
    source.snapshot(&tables, Some(&capture()), sink.clone(), &silent).await.unwrap();
    let mut rows = sink.rows.lock().unwrap().clone();
    rows.sort();
    assert_eq!(rows, [row(1, "north"), row(2, "South")]);
    let mark = sink.mark.lock().unwrap().clone();
    assert!(mark.is_some(), "the table was finished");

    under_test.commit(&[Op::Insert(row(3, "east")), Op::Update(3, row(3, "East")), Op::Delete(3)]);
    under_test.roll_back(&[Op::Insert(row(9, "never"))]);
    let state = source.capture_state(&capture()).await.unwrap();
    let start = |checkpoint: Checkpoint| StreamStart {
        checkpoint,
        capture: capture(),
        tables: vec![StreamTable { plan: plan.clone(), mark: mark.clone() }],
        captured_by: Vec::new(),
        settled: None,
    };
    let first = checkpoint(&state, text);
    read_twice(&source, &start(first.clone())).await;
    let (seen, last) = read_until(&source, start(first.clone()), "one").await.unwrap();
    let kinds: Vec<ChangeKind> = seen.iter().map(|s| s.0).collect();
    assert_eq!(
        kinds,
        [ChangeKind::Insert, ChangeKind::Update, ChangeKind::Delete],
        "what the mark covers is left out"
    );

    // Resuming repeats nothing and leaves nothing out.
    under_test.commit(&[Op::Update(1, row(4, "moved"))]);
    under_test.commit(&[Op::Truncate]);
    let resumed =
        Checkpoint { position: last.position.to_string(), proof: last.proof.clone(), ..first.clone() };
    let (seen, last) = read_until(&source, start(resumed), "two").await.unwrap();
    let truncates = !source.lacks().contains(&Lack::Truncates);
    let emptied = match truncates {
        true => (ChangeKind::Truncate, row(0, "truncate")),
        // Moved to 4, then deleted with the other one, in some order.
        false => seen.last().cloned().unwrap(),
    };
    assert_eq!((&seen[0], seen.last().unwrap()), (&(ChangeKind::Update, row(4, "moved")), &emptied));
    assert!(truncates || seen[1..].iter().all(|s| s.0 == ChangeKind::Delete), "{seen:?}");

    if source.lacks().contains(&Lack::Looks) {
        check_no_looks(source.as_ref(), &plan).await;
    } else {
        let held =
            Checkpoint { position: last.position.to_string(), proof: last.proof.clone(), ..first.clone() };
        check_looks(under_test, &source, &plan, &held).await;
    }

    // A history that is not the checkpoint's is refused, and so is a proof that cannot be read.
    for proof in [other_proof(&last.proof), "?".into()] {
        let other = Checkpoint { position: last.position.to_string(), proof, ..first.clone() };
        let refused = read_until(&source, start(other), "three").await.unwrap_err();
        assert!(matches!(refused, AdapterError::History(Refusal::OtherHistory { .. })), "{refused}");
    }

    let behind = |last: &Transaction| Checkpoint {
        position: last.position.to_string(),
        proof: last.proof.clone(),
        ..first.clone()
    };
    let (_, last) = read_until(&source, start(behind(&last)), "four").await.unwrap();
    let from = behind(&last);
    let streaming = Streaming { under_test, source: &source, plan: &plan, from: &from };
    streaming.nothing_is_missing().await;
    streaming.settled_end().await;
    streaming.long_transaction().await;
    streaming.writers_during_a_snapshot().await;
    streaming.structure().await;
    let plan = TablePlan { each_change: false, ..planned(&source).await };
    let prepared = source.prepare(&capture(), std::slice::from_ref(&plan), true, &silent).await.unwrap();
    let state = source.capture_state(&capture()).await.unwrap();
    let from = checkpoint(&state, prepared.position.to_string());
    Streaming { under_test, source: &source, plan: &plan, from: &from }.read_again_beside().await;

    let listed = source.teardown(&capture(), true, &silent).await.unwrap();
    assert!(
        !listed.proved_gone && source.capture_state(&capture()).await.unwrap().point.is_some(),
        "a dry run"
    );
    assert!(source.teardown(&capture(), false, &silent).await.unwrap().proved_gone);
    assert!(source.capture_state(&capture()).await.unwrap().point.is_none());
}

/// The changes of a tail until there are so many.
async fn tail_of(source: &Arc<dyn Source>, plan: &TablePlan, from: &TailFrom, count: usize) -> Vec<Row> {
    let mut tail = source.tail(&capture(), std::slice::from_ref(plan), from).await.unwrap();
    let mut seen = Vec::new();
    while seen.len() < count {
        for block in tail.stream.next().await.unwrap().segment.blocks {
            let of = |c: moorage_core::change::kind::Change<'_>| match (c.new, c.old) {
                (Some(new), _) => row_at(block.new_rows(), new),
                (None, Some(old)) => row_at(block.old_rows(), old),
                (None, None) => row(0, "truncate"),
            };
            seen.extend(block.changes().map(of));
        }
    }
    seen
}

/// Looks see one state, in order of the key, and exactly the changes between the target's and it; rows can be
/// read by key; tails begin where they are asked to.
async fn check_looks(
    under_test: &dyn SourceUnderTest,
    source: &Arc<dyn Source>,
    plan: &TablePlan,
    held: &Checkpoint,
) {
    under_test.commit(&[Op::Insert(row(12, "twelve")), Op::Insert(row(5, "five"))]);
    let tables = [StreamTable { plan: plan.clone(), mark: None }];
    let mut look = source.look(Some(&capture()), &tables).await.unwrap();
    look.fix(Some(held)).await.unwrap();
    under_test.commit(&[Op::Insert(row(7, "seven")), Op::Delete(5)]);
    let (sender, mut blocks) = mpsc::channel(16);
    look.between(sender).await.unwrap();
    let mut between = Vec::new();
    while let Some(block) = blocks.recv().await {
        between.extend(block.changes().map(|c| row_at(block.new_rows(), c.new.unwrap())));
    }
    assert_eq!(
        between,
        [row(12, "twelve"), row(5, "five")],
        "what was committed after the look is not in it"
    );
    let (sender, mut chunks) = mpsc::channel(16);
    look.rows(0, RowOrder::Key, sender).await.unwrap();
    let rows = chunks.recv().await.unwrap().rows;
    let rows: Vec<Row> = (0..rows.num_rows()).map(|at| row_at(&rows, at)).collect();
    assert_eq!(rows, [row(5, "five"), row(12, "twelve")], "in order of the key, by value");
    assert_eq!(look.count(0).await.unwrap(), 2);
    drop(look);

    let read = source.row(plan, &["12".into()]).await.unwrap();
    assert_eq!((read.num_rows(), row_at(&read, 0)), (1, row(12, "twelve")));
    assert_eq!(source.row(plan, &["5".into()]).await.unwrap().num_rows(), 0);
    assert!(
        source.row(plan, &["5".into(), "6".into()]).await.is_err(),
        "a key has as many values as columns"
    );
    assert_eq!(source.sample(plan, 1).await.unwrap().num_rows(), 1);

    let position = source.parse_position(&held.position).unwrap();
    let behind = tail_of(source, plan, &TailFrom::Behind(position), 4).await;
    assert_eq!(behind[..2], [row(12, "twelve"), row(5, "five")]);
    let mut tail = source.tail(&capture(), std::slice::from_ref(plan), &TailFrom::Now).await.unwrap();
    under_test.commit(&[Op::Insert(row(20, "new"))]);
    let first = tail.stream.next().await.unwrap().segment;
    assert_eq!(row_at(first.blocks[0].new_rows(), 0), row(20, "new"), "nothing from before");
    let unmoved = source.capture_state(&capture()).await.unwrap().point.unwrap().reaches_back_to.unwrap();
    let kept = source.parse_position(&held.position).unwrap();
    assert!(unmoved <= kept, "following beside a pipeline does not move its capture point");
}

/// What is lacking is said with a type, and not by an empty answer.
async fn check_no_looks(source: &dyn Source, plan: &TablePlan) {
    let plans = std::slice::from_ref(plan);
    let errors = [
        source.look(Some(&capture()), &[]).await.err(),
        source.tail(&capture(), plans, &TailFrom::Now).await.err(),
        source.row(plan, &["1".into()]).await.err(),
    ];
    for error in errors {
        assert!(matches!(error, Some(AdapterError::Lacking { lack: Lack::Looks, .. })), "{error:?}");
    }
}

/// The same proof with another last digit, which it may have in any form.
fn other_proof(proof: &str) -> String {
    let (head, digit) = proof.split_at(proof.len() - 1);
    format!("{head}{}", if digit == "0" { "1" } else { "0" })
}

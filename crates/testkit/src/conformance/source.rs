//! What is asked of every source. The table is `public.berths`, with the key `id`.

use crate::memory_target::MemoryTarget;
use crate::rows::{Op, Row, row, row_at};
use arrow::array::RecordBatch;
use async_trait::async_trait;
use moorage_adapter::{
    AdapterError, CapturePlan, Events, Result, SnapshotMark, SnapshotSink, Source, StreamStart, StreamTable,
    Target,
};
use moorage_core::change::{ChangeKind, Segment, Transaction};
use moorage_core::checkpoint::{Checkpoint, Durable, Refusal, Stage};
use moorage_core::plan::{TablePlan, plan};
use moorage_core::project::Project;
use std::sync::{Arc, Mutex};

/// A source with a way to change its table.
pub trait SourceUnderTest {
    /// The source, whose table `public.berths` is there and empty.
    fn source(&self) -> Arc<dyn Source>;
    /// Commits a transaction.
    fn commit(&self, ops: &[Op]);
    /// Begins a transaction with these changes and rolls it back.
    fn roll_back(&self, ops: &[Op]);
}

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

fn capture() -> CapturePlan {
    let name = || "moorage_conformance".to_string();
    CapturePlan {
        slot: name(),
        publication: name(),
        slot_named: false,
        publication_named: false,
        token: "t1".into(),
    }
}

async fn planned(source: &Arc<dyn Source>) -> TablePlan {
    let text = "[sources.s]\nkind=\"postgres\"\nurl=\"x\"\n[targets.t]\nkind=\"sqlite\"\npath=\"x\"\n[pipelines.p]\nsource=\"s\"\ntarget=\"t\"\ninclude=[\"public.berths\"]";
    let project = Project::parse("f", text).unwrap();
    let found = source.discover().await.unwrap();
    let mut plan = plan(&project.pipelines["p"], &found, MemoryTarget::default().dialect());
    assert!(plan.refused.is_empty(), "{:?}", plan.refused);
    plan.tables.remove(0)
}

fn checkpoint(source_state: &moorage_adapter::CaptureState, position: String) -> Checkpoint {
    Checkpoint {
        pipeline: "conformance".into(),
        identity: source_state.identity.clone(),
        capture_point: capture().slot,
        token: capture().token,
        stage: Stage::Following,
        changes_only: false,
        position,
        proof: String::new(),
        committed_at: None,
        captured_at: None,
        merged_at: None,
    }
}

/// Reads until a note arrives; gives the changes and the last transaction.
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
    loop {
        let segment: Segment = stream.next().await?.segment;
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
            let last = segment.last_commit.expect("a note ends with its transaction");
            let done =
                Checkpoint { position: last.position.to_string(), proof: last.proof.clone(), ..checkpoint };
            stream.acknowledge(&Durable::committed(done));
            stream.close().await;
            return Ok((seen, last));
        }
    }
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
    };
    let first = checkpoint(&state, text);
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
    assert_eq!(seen, [(ChangeKind::Update, row(4, "moved")), (ChangeKind::Truncate, row(0, "truncate"))]);

    // A history that is not the checkpoint's is refused.
    let other = Checkpoint { position: last.position.to_string(), proof: other_proof(&last.proof), ..first };
    let refused = read_until(&source, start(other), "three").await.unwrap_err();
    assert!(matches!(refused, AdapterError::History(Refusal::OtherHistory { .. })), "{refused}");

    let listed = source.teardown(&capture(), true).await.unwrap();
    assert!(
        !listed.proved_gone && source.capture_state(&capture()).await.unwrap().point.is_some(),
        "a dry run"
    );
    assert!(source.teardown(&capture(), false).await.unwrap().proved_gone);
    assert!(source.capture_state(&capture()).await.unwrap().point.is_none());
}

/// The same proof with another last digit.
fn other_proof(proof: &str) -> String {
    let (head, digit) = proof.split_at(proof.len() - 1);
    format!("{head}{}", (digit.parse::<u32>().unwrap() + 1) % 10)
}

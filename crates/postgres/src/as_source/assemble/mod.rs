//! Putting segments together from the plug-in's messages.
//!
//! The assembler is fed one message after the other and knows, for each carried table, its structure and its
//! snapshot mark. Its invariant: a change is left out if and only if the table is not carried, its mark covers the
//! transaction, or it was said that the table is to be read again and this is not known yet
//! ([`Table`]).
//!
//! Where structures are followed, the reader asks before each row what has to be settled first ([`Assembler::asks`]), and
//! tells it; a change of structure is handed on in a segment of its own. Elsewhere a structure that is not the planned one
//! is an error, when a change of it is not left out.

mod asking;

use crate::as_source::carried::{
    Carried, Known, Structure, announced, difference, identity_difference, push_tuple,
};
use crate::as_source::describing::Describing;
use crate::as_source::mark::Mark;
use crate::as_source::named::NOTE_PREFIX;
use crate::as_source::structure::state::State;
use crate::as_source::structure::table::Table;
use crate::as_source::structure::types::PresentNames;
use crate::wire::lsn;
use crate::wire::pgoutput::{Message, OldTuple, Relation, Tuple};
use crate::wire::replication::EPOCH_2000_US;
use chrono::{DateTime, Utc};
use moorage_adapter::{AdapterError, Result, StreamTable};
use moorage_core::change::builder::{ChangeBlockBuilder, Images};
use moorage_core::change::kind::{ChangeKind, Transaction};
use moorage_core::change::segment::Segment;
use moorage_core::checkpoint::decide::Refusal;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::model::described::SourceTable;
use moorage_core::model::structure::Structure as PlannedStructure;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

struct Open {
    transaction: Arc<Transaction>,
    commit_lsn: u64,
    xid: u32,
    /// The checkpoint's own transaction, sent once more as proof, or one that is not wanted: nothing of it
    /// is used.
    is_proof: bool,
    /// How many there were, with it.
    count: u64,
}

/// Makes segments.
pub(crate) struct Assembler {
    tables: HashMap<u32, Carried>,
    /// The tables whose structure was announced, carried or not.
    announced: HashSet<u32>,
    /// Just behind the last commit.
    last_end: u64,
    /// The checkpoint's last transaction until the server has shown it to us again.
    proof: Option<Proof>,
    open: Option<Open>,
    /// The transactions so far.
    transactions: u64,
    /// Whether no look says anything about what was before the open transaction.
    is_clear: bool,
    /// How many tables wait for a look to settle what was announced of them.
    unsettled: usize,
    /// The number of the last look that all tables have passed.
    passed: u64,
    order: u64,
    bytes: usize,
    segment: Segment,
    /// Whether structures are followed.
    follows: bool,
    /// By commit position and number, whether nothing of a transaction is wanted.
    leaves_out: Option<Box<dyn Fn(u64, u32) -> bool + Send>>,
    /// Just behind the transaction that a segment has to end with.
    settled: Option<u64>,
}

/// What must come first in a resumed stream.
struct Proof {
    commit_lsn: u64,
    xid: u32,
    position: String,
}

/// The text in a checkpoint from which the proof is asked for again.
pub(crate) fn proof_text(commit_lsn: u64, xid: u32) -> String {
    format!("{} {xid}", lsn::text(commit_lsn))
}

/// The place of the proof's commit record.
pub(crate) fn proof_parts(text: &str) -> Option<(u64, u32)> {
    let (at, xid) = text.split_once(' ')?;
    Some((lsn::parse(at)?, xid.parse().ok()?))
}

impl Assembler {
    /// For these tables, following their structures from those of their plans on.
    pub(crate) fn new(tables: Vec<(StreamTable, Table)>, checkpoint: &Checkpoint) -> Result<Self> {
        let position = checkpoint.position.clone();
        let proof = match (checkpoint.proof.as_str(), proof_parts(&checkpoint.proof)) {
            ("", _) => None,
            (_, Some((commit_lsn, xid))) => Some(Proof { commit_lsn, xid, position }),
            // What cannot be read proves nothing.
            (unreadable, None) => {
                let found = format!("the target keeps {unreadable:?}, which cannot be read");
                return Err(Refusal::OtherHistory { position, found }.into());
            }
        };
        let tables = tables.into_iter().map(|(table, of)| (table, Known::Followed(Box::new(of), None)));
        Ok(Self { proof, follows: true, ..Self::carrying(tables)? })
    }

    /// For these tables, wherever the stream begins, for as long as their structures are as planned; the names and type
    /// numbers of the columns that the log carries stand beside each.
    pub(crate) fn following(tables: Vec<(StreamTable, Vec<(String, u32)>)>) -> Result<Self> {
        Self::carrying(tables.into_iter().map(|(table, columns)| (table, Known::Planned(columns))))
    }

    /// For these tables, wherever the stream begins, with whatever columns the log announces.
    pub(crate) fn describing(tables: Vec<(StreamTable, Vec<(String, u32)>)>) -> Result<Self> {
        let described = |(table, types): (StreamTable, Vec<(String, u32)>)| {
            let planned = table.plan.schema.clone();
            (table, Known::Described(Describing { planned, types }))
        };
        Self::carrying(tables.into_iter().map(described))
    }

    fn carrying(tables: impl Iterator<Item = (StreamTable, Known)>) -> Result<Self> {
        let tables = tables
            .map(|(table, known)| {
                let mark = match &table.mark {
                    None => None,
                    Some(mark) => {
                        Some(Mark::from_snapshot_mark(mark).ok_or_else(|| AdapterError::Value {
                            table: table.plan.table().to_string(),
                            what: format!(
                                "the snapshot mark {:?} kept in the target cannot be read",
                                mark.text
                            ),
                        })?)
                    }
                };
                let schema = table.plan.schema.clone();
                let fills = table.plan.mapping.condition.is_some();
                let carried =
                    Carried { schema, mark, known, structure: None, block: None, fills, asked_in: 0 };
                Ok((table.plan.source_id as u32, carried))
            })
            .collect::<Result<_>>()?;
        Ok(Self {
            tables,
            announced: HashSet::new(),
            last_end: 0,
            proof: None,
            open: None,
            transactions: 0,
            is_clear: false,
            unsettled: 0,
            passed: 0,
            order: 0,
            bytes: 0,
            segment: Segment::default(),
            follows: false,
            leaves_out: None,
            settled: None,
        })
    }

    /// Uses nothing of the transactions that `leaves_out` names by their commit position and number.
    pub(crate) fn leaving_out(mut self, leaves_out: impl Fn(u64, u32) -> bool + Send + 'static) -> Self {
        self.leaves_out = Some(Box::new(leaves_out));
        self
    }

    /// Has a segment end just behind a transaction.
    pub(crate) fn settling(mut self, end: Option<u64>) -> Self {
        self.settled = end;
        self
    }

    /// Whether a segment has to end here.
    pub(crate) fn is_settled(&self) -> bool {
        self.settled == Some(self.last_end)
    }

    /// Bytes collected since the last segment.
    pub(crate) fn bytes(&self) -> usize {
        self.bytes
    }

    /// Just behind the last commit.
    pub(crate) fn last_end(&self) -> u64 {
        self.last_end
    }

    /// Whether a transaction is open.
    pub(crate) fn in_transaction(&self) -> bool {
        self.open.is_some()
    }

    /// Whether there is nothing to send on.
    pub(crate) fn is_empty(&self) -> bool {
        self.bytes == 0 && self.segment.last_commit.is_none() && self.segment.notes.is_empty()
    }

    /// Everything that was committed before a moment has been fed.
    pub(crate) fn seen_at(&mut self, at: DateTime<Utc>) {
        self.segment.seen_at = Some(at);
    }

    /// Takes what was collected.
    pub(crate) fn take(&mut self) -> Result<Segment> {
        let mut segment = std::mem::take(&mut self.segment);
        for carried in self.tables.values_mut() {
            if let Some(block) = carried.block.take() {
                segment.blocks.push(block.finish()?);
            }
        }
        segment.in_transaction = self.is_inside();
        self.bytes = 0;
        Ok(segment)
    }

    /// Takes in one message. `size` is its size in bytes.
    pub(crate) fn feed(&mut self, message: Message<'_>, size: usize) -> Result<()> {
        match message {
            Message::Begin { commit_lsn, committed_us, xid } => self.begin(commit_lsn, committed_us, xid),
            Message::Commit { commit_lsn, end_lsn, .. } => self.commit(commit_lsn, end_lsn),
            Message::Relation(relation) => self.relation(&relation),
            Message::LogMessage { transactional: true, prefix, content } => {
                if prefix == NOTE_PREFIX.as_bytes() && self.open.as_ref().is_some_and(|o| !o.is_proof) {
                    self.segment.notes.push(String::from_utf8_lossy(content).into_owned());
                }
                Ok(())
            }
            Message::Insert { relation, new } => {
                self.row(relation, ChangeKind::Insert, Some(new), None, size)
            }
            Message::Update { relation, old, new } => {
                self.row(relation, ChangeKind::Update, Some(new), old, size)
            }
            Message::Delete { relation, old } => {
                self.row(relation, ChangeKind::Delete, None, Some(old), size)
            }
            Message::Truncate { relations } => {
                relations.into_iter().try_for_each(|id| self.row(id, ChangeKind::Truncate, None, None, size))
            }
            Message::Origin | Message::Type | Message::LogMessage { .. } => Ok(()),
        }
    }

    fn begin(&mut self, commit_lsn: u64, committed_us: i64, xid: u32) -> Result<()> {
        if self.open.is_some() {
            return Err(wrong(format!("transaction {xid} begins inside another one")));
        }
        let mut is_proof = false;
        if let Some(proof) = self.proof.take() {
            if (proof.commit_lsn, proof.xid) != (commit_lsn, xid) {
                let found = format!("transaction {xid} committed at {}", lsn::text(commit_lsn));
                return Err(Refusal::OtherHistory { position: proof.position, found }.into());
            }
            is_proof = true;
        }
        is_proof |= self.leaves_out.as_ref().is_some_and(|leaves_out| leaves_out(commit_lsn, xid));
        let committed_at =
            DateTime::from_timestamp_micros(committed_us.saturating_add(EPOCH_2000_US)).unwrap_or_default();
        // The position is only known at the commit, and only read after it.
        let proof = proof_text(commit_lsn, xid);
        let transaction =
            Arc::new(Transaction { position: lsn::position(commit_lsn), proof, committed_at, found: None });
        self.transactions += 1;
        self.open = Some(Open { transaction, commit_lsn, xid, is_proof, count: self.transactions });
        Ok(())
    }

    /// A commit that does not fit what came before is no commit: its position would be told to the source as done.
    fn commit(&mut self, commit_lsn: u64, end_lsn: u64) -> Result<()> {
        let Some(open) = self.open.take() else {
            return Err(wrong(format!("a commit at {} without a transaction", lsn::text(commit_lsn))));
        };
        let record = end_lsn.saturating_sub(commit_lsn);
        if open.commit_lsn != commit_lsn
            || record == 0
            || record > MOST_RECORD_BYTES
            || end_lsn <= self.last_end
        {
            return Err(wrong(format!(
                "the transaction that was to commit at {} commits at {} and ends at {}, after one that ended at {}",
                lsn::text(open.commit_lsn),
                lsn::text(commit_lsn),
                lsn::text(end_lsn),
                lsn::text(self.last_end)
            )));
        }
        self.last_end = end_lsn;
        if !open.is_proof {
            let position = lsn::position(end_lsn);
            self.segment.last_commit =
                Some(Arc::new(Transaction { position, ..(*open.transaction).clone() }));
            self.segment.commits += 1;
        }
        Ok(())
    }

    fn relation(&mut self, relation: &Relation<'_>) -> Result<()> {
        self.announced.insert(relation.id);
        let Some(carried) = self.tables.get_mut(&relation.id) else { return Ok(()) };
        let expected = match &mut carried.known {
            Known::Planned(expected) => expected,
            Known::Followed(_, message) => {
                self.unsettled += usize::from(message.is_none());
                *message = Some(announced(relation));
                carried.structure = None;
                return Ok(());
            }
            Known::Described(described) => {
                let schema = described.schema(relation);
                if schema != *carried.schema {
                    if let Some(block) = carried.block.take() {
                        self.segment.blocks.push(block.finish()?);
                    }
                    carried.schema = Arc::new(schema);
                }
                let columns = (0..relation.columns.len()).map(Some).collect();
                carried.structure = Some(Structure { columns, drift: None, names: PresentNames::default() });
                return Ok(());
            }
        };
        let found: Vec<(String, u32)> =
            relation.columns.iter().map(|c| (c.name.to_string(), c.type_id)).collect();
        let drift = difference(expected, &found).or_else(|| identity_difference(&carried.schema, relation));
        let index = |name: &str| carried.schema.columns.iter().position(|c| c.name == name);
        let columns = relation.columns.iter().map(|c| index(c.name)).collect();
        carried.structure = Some(Structure { columns, drift, names: PresentNames::default() });
        Ok(())
    }

    /// Whether what is handed on now stands inside a transaction that is used.
    pub(crate) fn is_inside(&self) -> bool {
        self.open.as_ref().is_some_and(|o| !o.is_proof)
    }

    fn row(
        &mut self,
        relation: u32,
        kind: ChangeKind,
        new: Option<Tuple<'_>>,
        old: Option<OldTuple<'_>>,
        size: usize,
    ) -> Result<()> {
        let Some(open) = &self.open else {
            return Err(wrong(format!("a change of relation {relation} outside of a transaction")));
        };
        if !self.announced.contains(&relation) {
            return Err(wrong(format!("a change of relation {relation}, which was never announced")));
        }
        let Some(carried) = self.tables.get_mut(&relation) else { return Ok(()) };
        if let (ChangeKind::Truncate, Known::Followed(table, _)) = (kind, &mut carried.known) {
            table.is_truncated();
        }
        if open.is_proof || carried.mark.as_ref().is_some_and(|m| m.covers(open.xid, open.commit_lsn)) {
            return Ok(());
        }
        if let Known::Followed(table, _) = &carried.known
            && (table.is_gone() || carried.structure.is_none())
        {
            // It was said, and is read again or left behind.
            return Ok(());
        }
        let table = || carried.schema.table.to_string();
        let structure = carried.structure.as_ref().ok_or_else(|| AdapterError::Value {
            table: table(),
            what: "a change came before the table's structure".into(),
        })?;
        if let Some(what) = &structure.drift {
            return Err(AdapterError::Drift { table: carried.schema.table.clone(), what: what.clone() });
        }
        let schema = carried.schema.clone();
        let block = carried.block.get_or_insert_with(|| ChangeBlockBuilder::new(schema.clone()));
        let wrong = |what: String| AdapterError::Value {
            table: schema.table.to_string(),
            what: format!("{what}, in the transaction that committed at {}", lsn::text(open.commit_lsn)),
        };
        let mut images = Images::default();
        if let Some(tuple) = new {
            images.new = true;
            let whole = old.as_ref().filter(|o| o.whole && carried.fills).map(|o| o.tuple);
            images.unchanged = push_tuple(&mut block.new, structure, tuple, whole).map_err(wrong)?;
        }
        if let Some(old) = old {
            images.old = Some(old.whole);
            push_tuple(&mut block.old, structure, old.tuple, None).map_err(wrong)?;
        }
        self.order += 1;
        self.bytes += size;
        block.push(kind, self.order, &open.transaction, images, size);
        Ok(())
    }
}

/// A table to follow from its plan's structure on.
pub(crate) fn followed(table: &StreamTable, first: Option<&SourceTable>) -> Table {
    let planned = table.plan.structure.as_deref().map(PlannedStructure::table);
    let now = planned.filter(|t| State::read(&t.state).is_some()).or_else(|| first.cloned());
    let now = now.unwrap_or_else(|| table.plan.source_table());
    let state = State::read(&now.state).unwrap_or_default();
    Table::new(now, state)
}

/// The longest commit record: a record of the log has at most 1 GiB (PostgreSQL source, `XLogRecordMaxSize`).
const MOST_RECORD_BYTES: u64 = 1 << 30;

fn wrong(what: String) -> AdapterError {
    AdapterError::Protocol { address: "the replication stream".into(), what }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn begin(commit_lsn: u64) -> Message<'static> {
        Message::Begin { commit_lsn, committed_us: 0, xid: 7 }
    }

    fn commit(commit_lsn: u64, end_lsn: u64) -> Message<'static> {
        Message::Commit { commit_lsn, end_lsn, committed_us: 0 }
    }

    /// A.7: what a server cannot have said is an error, and never a position that is told to it as done.
    #[rstest]
    #[case::never_announced(vec![begin(100), Message::Truncate { relations: vec![9] }], "never announced")]
    #[case::outside(vec![Message::Truncate { relations: vec![9] }], "outside of a transaction")]
    #[case::another_commit(vec![begin(100), commit(101, 120)], "was to commit at 0/64 commits at 0/65")]
    #[case::beyond(vec![begin(100), commit(100, u64::MAX)], "ends at FFFFFFFF/FFFFFFFF")]
    #[case::before_itself(vec![begin(100), commit(100, 100)], "ends at 0/64")]
    #[case::backwards(vec![begin(100), commit(100, 120), begin(50), commit(50, 60)], "after one that ended at 0/78")]
    #[case::without_begin(vec![commit(100, 120)], "without a transaction")]
    #[case::inside(vec![begin(100), begin(200)], "begins inside another one")]
    fn a_stream_that_does_not_fit_is_an_error(#[case] messages: Vec<Message<'static>>, #[case] words: &str) {
        let mut assembler = Assembler::following(Vec::new()).unwrap();
        let fed = messages.into_iter().try_for_each(|message| assembler.feed(message, 1));
        let error = fed.unwrap_err().to_string();
        assert!(error.contains(words), "{error}");
    }

    #[test]
    fn a_stream_that_fits_is_taken() {
        let mut assembler = Assembler::following(Vec::new()).unwrap();
        for message in [begin(100), commit(100, 120), begin(130), commit(130, 150)] {
            assembler.feed(message, 1).unwrap();
        }
        let segment = assembler.take().unwrap();
        assert_eq!((segment.commits, segment.last_commit.unwrap().position.to_string()), (2, "0/96".into()));
    }
}

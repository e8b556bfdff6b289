//! The changes of held tables as a run keeps them, batch by batch: [`Keeping`].
//!
//! How they are kept, and what the names say, stands in [`super::holding`]. What was kept of a table is read once; from then
//! on it is known here, so that a batch costs one statement more for each held table. A batch of a change or two is kept by
//! itself, in a block that is mostly frame; many of those become one, which replaces them.

use crate::pipeline::mappers::Mappers;
use crate::run::holding::{
    HeldTotals, begin, one, read_totals, record_memo, records, step_name, unreadable, written,
};
use moorage_adapter::{Memo, MemoKind, Merge, Result};
use moorage_core::apply::prepare::TableBatch;
use moorage_core::change::block::ChangeBlock;
use moorage_core::drift::alter::Alteration;
use moorage_core::drift::held::Release;
use moorage_core::drift::record::DriftState;
use std::collections::{HashMap, HashSet};

/// Blocks of fewer bytes are joined.
const JOINED_BELOW: usize = 32 << 10;

/// So many small blocks become one. With more, the batch that joins them is felt by the tables that are not held (256: some 14 ms
/// where a batch takes 3, in PostgreSQL); with fewer, what is left is mostly frame.
const SMALL_BLOCKS: usize = 32;

/// So many bytes of small blocks become one block, however few they are.
const SMALL_BYTES: usize = 512 << 10;

/// So many small blocks of all tables are known at most, some tens of MiB: with hundreds of tables held at once, the rest stay as
/// they are.
const KNOWN_BLOCKS: usize = 4096;

/// What is kept of held tables, as the open batch has it.
#[derive(Debug, Default)]
pub(crate) struct Keeping {
    /// By their names in the target.
    tails: HashMap<String, Tail>,
    /// The number of the last transaction in front of the open batch.
    batch: u64,
    /// Target tables of which there was more than there is room for, until they are read again.
    given_up: HashSet<String>,
    /// The same of a batch that another run may have kept already, because its target commits in parts.
    replays: Option<u64>,
}

/// What has to be known of a table to keep more of it.
#[derive(Debug, Default)]
struct Tail {
    totals: HeldTotals,
    /// The last blocks, if they are small and of this run.
    small: Vec<Small>,
    /// The batch that another run has kept: all of it, as memos go together.
    has: Option<u64>,
}

#[derive(Debug)]
struct Small {
    name: String,
    bytes: usize,
    block: ChangeBlock,
}

/// What came of keeping changes.
#[must_use]
pub(crate) enum Kept {
    /// They are kept, or the table is not held any more.
    Done,
    /// There is no room: what was kept is gone.
    Full,
}

impl Keeping {
    /// What a run knows at its begin. The first batch, behind the transaction of number `from`, is one that may have been
    /// kept before if it `replays`.
    pub(crate) fn new(from: u64, replays: bool) -> Self {
        Self { replays: replays.then_some(from), ..Self::default() }
    }

    /// What is kept from here on belongs to the batch behind the transaction of this number.
    pub(crate) fn begin(&mut self, batch: u64) {
        self.batch = batch;
    }

    /// Whether nothing is written to a target table or kept of it any more, because there was no room for what was held.
    pub(crate) fn has_given_up(&self, target: &str) -> bool {
        self.given_up.contains(target)
    }

    /// A target table has all rows again.
    pub(crate) fn takes_again(&mut self, target: &str) {
        self.given_up.remove(target);
    }

    /// What is known of a table; none if nothing is kept of it.
    async fn tail(&mut self, merge: &mut dyn Merge, target: &str) -> Result<Option<&mut Tail>> {
        if !self.tails.contains_key(target) {
            let Some(content) = one(merge, MemoKind::Held, &begin(target)).await? else { return Ok(None) };
            let totals = read_totals(&content)?;
            let has = self.replays.filter(|batch| totals.batch == *batch);
            self.tails.insert(target.into(), Tail { totals, has, small: Vec::new() });
        }
        Ok(self.tails.get_mut(target))
    }

    /// Keeps a change of structure of a held table; gives its place among them.
    pub(crate) async fn keep_step(&mut self, merge: &mut dyn Merge, alteration: &Alteration) -> Result<u32> {
        let target = &alteration.before.target;
        if self.tail(merge, target).await?.is_none() {
            self.tails.insert(target.clone(), Tail::default());
        }
        let batch = self.batch;
        let tail = self.tails.entry(target.clone()).or_default();
        if tail.has == Some(batch) {
            return Ok(tail.totals.steps.saturating_sub(1));
        }
        let place = tail.totals.steps;
        let (name, content) = (step_name(target, place), alteration.step.to_bytes().map_err(written)?);
        (tail.totals.steps, tail.totals.batch) = (place + 1, batch);
        // What comes is of another structure.
        tail.small.clear();
        let step = Memo { kind: MemoKind::Structure, name, content: Some(content) };
        let memos = [step, totals_memo(target, &tail.totals)?];
        merge.remember(&memos).await?;
        Ok(place)
    }

    /// Keeps changes of a held table, `limit` bytes at most.
    pub(crate) async fn keep(
        &mut self,
        merge: &mut dyn Merge,
        target: &str,
        blocks: &[ChangeBlock],
        limit: u64,
    ) -> Result<Kept> {
        let batch = self.batch;
        let Some(tail) = self.tail(merge, target).await? else { return Ok(Kept::Done) };
        if tail.has == Some(batch) {
            return Ok(Kept::Done);
        }
        tail.totals.batch = batch;
        let Some(block) = ChangeBlock::joined(&blocks.iter().collect::<Vec<_>>()).map_err(written)? else {
            return Ok(Kept::Done);
        };
        let mut memos = tail.push(target, block)?;
        if tail.totals.bytes > limit {
            self.clear(merge, target).await?;
            self.given_up.insert(target.into());
            return Ok(Kept::Full);
        }
        memos.push(totals_memo(target, &tail.totals)?);
        merge.remember(&memos).await?;
        if self.tails.values().map(|tail| tail.small.len()).sum::<usize>() > KNOWN_BLOCKS {
            self.tails.values_mut().for_each(|tail| tail.small.clear());
        }
        Ok(Kept::Done)
    }

    /// Takes away all that is kept of a table.
    async fn forget(&mut self, merge: &mut dyn Merge, target: &str) -> Result<()> {
        self.tails.remove(target);
        merge.forget(MemoKind::Held, &begin(target)).await?;
        merge.forget(MemoKind::Structure, &format!("step {}", begin(target))).await
    }

    /// Takes away all that is kept of a table that is read again instead, and has its records say so.
    pub(crate) async fn clear(&mut self, merge: &mut dyn Merge, target: &str) -> Result<()> {
        self.forget(merge, target).await?;
        let mut after = String::new();
        loop {
            let found = merge.recall(MemoKind::Structure, "drift ", &after).await?;
            let Some((last, _)) = found.last() else { return Ok(()) };
            after.clone_from(last);
            for mut record in records(&found)? {
                if record.target == target && record.state == DriftState::Held {
                    (record.state, record.held_place) = (DriftState::Rereading, None);
                    merge.remember(&[record_memo(&record)?]).await?;
                }
            }
        }
    }

    /// Applies what was kept of a table, in order, and takes it away.
    pub(crate) async fn release(&mut self, merge: &mut dyn Merge, release: &Release) -> Result<()> {
        let Some((before, _)) = release.plans() else { return Ok(()) };
        let target = before.target.clone();
        if let Some(last) = release.alterations.last().filter(|_| release.rereads()) {
            // All of it is in what will be read.
            merge.alter(&last.unread()).await?;
            return self.forget(merge, &target).await;
        }
        for (place, alteration) in release.alterations.iter().enumerate() {
            merge.alter(alteration).await?;
            let mappers = Mappers::new([alteration.after.as_ref()])?;
            let begin = format!("{}{:06} ", begin(&target), place + 1);
            loop {
                let found = merge.recall(MemoKind::Held, &begin, "").await?;
                if found.is_empty() {
                    break;
                }
                let (mut gone, mut blocks) =
                    (Vec::with_capacity(found.len()), Vec::with_capacity(found.len()));
                for (name, content) in found {
                    let block = ChangeBlock::from_bytes(alteration.step.schema.clone(), &content)
                        .map_err(|e| unreadable("held changes", e))?;
                    blocks.push(mappers.block(mappers.read_block(block)?)?);
                    gone.push(Memo { kind: MemoKind::Held, name, content: None });
                }
                let batches = TableBatch::of_forms(&alteration.after, blocks, true)?;
                merge.write(batches.into()).await?;
                merge.remember(&gone).await?;
            }
        }
        self.forget(merge, &target).await
    }
}

impl Tail {
    /// Adds a block; gives what has to be remembered and what is to go.
    fn push(&mut self, target: &str, block: ChangeBlock) -> Result<Vec<Memo>> {
        if self.totals.changes == 0 {
            self.totals.first_at =
                block.by_transaction().map(|(transaction, _)| transaction.committed_at).next();
        }
        self.totals.changes += block.len() as u64;
        let content = block.to_bytes().map_err(written)?;
        let bytes = content.len();
        let mut memos = Vec::new();
        let small: usize = self.small.iter().map(|small| small.bytes).sum();
        if bytes >= JOINED_BELOW || self.small.len() >= SMALL_BLOCKS || small >= SMALL_BYTES {
            memos = self.join()?;
        }
        let name = format!("{}{:06} {:012}", begin(target), self.totals.steps, self.totals.next);
        self.totals.next += 1;
        self.totals.bytes += bytes as u64;
        memos.push(Memo { kind: MemoKind::Held, name: name.clone(), content: Some(content) });
        if bytes < JOINED_BELOW {
            self.small.push(Small { name, bytes, block });
        }
        Ok(memos)
    }

    /// Makes one block of the small ones, in the place of the first.
    fn join(&mut self) -> Result<Vec<Memo>> {
        let small = std::mem::take(&mut self.small);
        let [first, .., _] = &small[..] else { return Ok(Vec::new()) };
        let blocks: Vec<&ChangeBlock> = small.iter().map(|small| &small.block).collect();
        let joined = ChangeBlock::joined(&blocks).map_err(written)?;
        let content =
            joined.map(|joined| joined.to_bytes()).transpose().map_err(written)?.unwrap_or_default();
        self.totals.bytes += content.len() as u64;
        let kind = MemoKind::Held;
        let joined = Memo { kind, name: first.name.clone(), content: Some(content) };
        self.totals.bytes -= small.iter().map(|small| small.bytes as u64).sum::<u64>();
        let gone = small.into_iter().skip(1).map(|small| Memo { kind, name: small.name, content: None });
        Ok(std::iter::once(joined).chain(gone).collect())
    }
}

fn totals_memo(target: &str, totals: &HeldTotals) -> Result<Memo> {
    let content = serde_json::to_vec(totals).map_err(written)?;
    Ok(Memo { kind: MemoKind::Held, name: begin(target), content: Some(content) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use async_trait::async_trait;
    use moorage_adapter::{Replacement, TableProgress};
    use moorage_core::apply::prepare::TableBatch;
    use moorage_core::change::kind::Transaction;
    use moorage_core::checkpoint::stored::Checkpoint;
    use moorage_core::model::schema::RowIdentity;
    use moorage_core::plan::table::TablePlan;
    use moorage_core::{Position, TableSchema};
    use moorage_testkit::{Op, berths_schema, block_of, row, row_at};
    use std::collections::BTreeMap;
    use std::sync::Arc;

    /// Memos alone, and how often some were handed over.
    #[derive(Default)]
    struct Memos(BTreeMap<(MemoKind, String), Vec<u8>>, usize);

    #[async_trait]
    impl Merge for Memos {
        async fn write(&mut self, _: Arc<[TableBatch]>) -> Result<()> {
            unreachable!("nothing is merged")
        }
        async fn reserve(&mut self, _: &[&TablePlan]) -> Result<()> {
            unreachable!("nothing is altered")
        }
        async fn alter(&mut self, _: &Alteration) -> Result<()> {
            unreachable!("nothing is altered")
        }
        async fn replace(&mut self, _: Vec<Replacement<'_>>) -> Result<()> {
            unreachable!("nothing is replaced")
        }
        async fn remember(&mut self, memos: &[Memo]) -> Result<()> {
            self.1 += 1;
            for Memo { kind, name, content } in memos.iter().cloned() {
                match content {
                    Some(content) => self.0.insert((kind, name), content),
                    None => self.0.remove(&(kind, name)),
                };
            }
            Ok(())
        }
        async fn forget(&mut self, kind: MemoKind, begin: &str) -> Result<()> {
            self.0.retain(|(of, name), _| *of != kind || !name.starts_with(begin));
            Ok(())
        }
        async fn recall(
            &mut self,
            kind: MemoKind,
            begin: &str,
            after: &str,
        ) -> Result<Vec<(String, Vec<u8>)>> {
            let wanted = self
                .0
                .iter()
                .filter(|((of, name), _)| *of == kind && name.starts_with(begin) && name.as_str() > after);
            Ok(wanted.map(|((_, name), content)| (name.clone(), content.clone())).take(3).collect())
        }
        async fn commit(self: Box<Self>, _: &Checkpoint) -> Result<Vec<TableProgress>> {
            unreachable!("nothing is committed")
        }
    }

    impl Memos {
        /// A table that is held, of which nothing is kept yet.
        fn held() -> Self {
            let totals = HeldTotals { steps: 1, ..HeldTotals::default() };
            let content = totals_memo("berths", &totals).unwrap().content.unwrap();
            Self([((MemoKind::Held, begin("berths")), content)].into(), 0)
        }

        fn totals(&self) -> HeldTotals {
            read_totals(&self.0[&(MemoKind::Held, begin("berths"))]).unwrap()
        }

        /// The blocks, as bytes, in order.
        fn blocks(&self) -> Vec<&Vec<u8>> {
            self.0
                .iter()
                .filter(|((_, name), _)| name.len() > begin("berths").len())
                .map(|(_, c)| c)
                .collect()
        }

        /// The keys of the rows that are kept, in order.
        fn keys(&self) -> Vec<i64> {
            let blocks =
                self.blocks().into_iter().map(|bytes| ChangeBlock::from_bytes(schema(), bytes).unwrap());
            let of = |block: ChangeBlock| {
                (0..block.len()).map(|at| row_at(block.new_rows(), at).0).collect::<Vec<_>>()
            };
            blocks.flat_map(of).collect()
        }
    }

    fn schema() -> Arc<TableSchema> {
        berths_schema(RowIdentity::Key(vec![0]))
    }

    fn block(id: i64) -> ChangeBlock {
        let position = Position::new(&[id as u64], id.to_string());
        let (proof, committed_at) = (String::new(), chrono::DateTime::UNIX_EPOCH);
        let transaction = Arc::new(Transaction { position, proof, committed_at, found: None });
        block_of(&schema(), &transaction, &mut 0, &[Op::Insert(row(id, "x"))], |_| row(0, ""))
    }

    async fn keep(keeping: &mut Keeping, memos: &mut Memos, id: i64, limit: u64) -> bool {
        matches!(keeping.keep(memos, "berths", &[block(id)], limit).await.unwrap(), Kept::Full)
    }

    #[tokio::test]
    async fn small_blocks_become_one_and_nothing_is_lost_or_moved() {
        let (mut keeping, mut memos) = (Keeping::new(0, false), Memos::held());
        let small = SMALL_BLOCKS as i64;
        for id in 0..small * 2 + 9 {
            // A run in the middle ends, and another one goes on.
            if id == small + 20 {
                keeping = Keeping::new(id as u64, false);
            }
            keeping.begin(id as u64);
            assert!(!keep(&mut keeping, &mut memos, id, u64::MAX).await);
        }
        assert_eq!(memos.keys(), (0..small * 2 + 9).collect::<Vec<_>>());
        assert_eq!(
            memos.blocks().len() as i64,
            1 + 20 + small - 11,
            "those of a run that ended stay as they are"
        );
        assert_eq!(memos.1 as i64, small * 2 + 9, "one call a batch");
        let (bytes, changes) =
            (memos.blocks().iter().map(|block| block.len() as u64).sum(), memos.keys().len() as u64);
        assert_eq!((memos.totals().bytes, memos.totals().changes), (bytes, changes));
    }

    #[tokio::test]
    async fn a_batch_that_was_kept_before_its_checkpoint_was_is_not_kept_again() {
        let mut memos = Memos::held();
        for replays in [false, true] {
            let mut keeping = Keeping::new(6, replays);
            for (batch, id) in [(6, 7), (6, 8), (9, 9)].into_iter().take(if replays { 3 } else { 2 }) {
                keeping.begin(batch);
                assert!(!keep(&mut keeping, &mut memos, id, u64::MAX).await);
            }
        }
        assert_eq!(memos.keys(), [7, 8, 9]);
    }

    #[tokio::test]
    async fn without_room_all_of_it_goes_and_no_other_tables() {
        let (mut keeping, mut memos) = (Keeping::new(0, false), Memos::held());
        let other = (MemoKind::Held, begin("berths_2"));
        memos.0.insert(other.clone(), b"{}".to_vec());
        let room = 3 * block(0).to_bytes().unwrap().len() as u64;
        for (id, is_full) in [(1, false), (2, false), (3, false), (4, true), (5, false)] {
            assert_eq!(keep(&mut keeping, &mut memos, id, room).await, is_full, "{id}");
        }
        assert_eq!(memos.0.into_keys().collect::<Vec<_>>(), [other]);
    }
}

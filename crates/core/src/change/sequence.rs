//! Numbering transactions: for targets that need a number as a version.

use crate::change::block::ChangeBlock;
use crate::model::position::Position;

/// Counts the transactions of a pipeline's stream, from its checkpoint on. A position alone may be more than one number.
#[derive(Clone, Debug, Default)]
pub struct Sequence {
    last: u64,
    /// Of which transaction that is: it may go on in what comes next.
    of: Option<Position>,
}

impl Sequence {
    /// Goes on behind the last number that a checkpoint knows.
    pub fn behind(last: u64) -> Self {
        Self { last, of: None }
    }

    /// Goes on behind this number, if it has not come there yet.
    pub fn skip_to(&mut self, number: u64) {
        self.last = self.last.max(number);
    }

    /// The last number that was given.
    pub fn last(&self) -> u64 {
        self.last
    }

    /// Numbers the transactions of a stretch of the stream: in the order of their changes, over all tables. What is read
    /// again from the same checkpoint is numbered the same.
    pub fn number(&mut self, blocks: &mut [ChangeBlock]) {
        let mut spans: Vec<(u64, usize, usize)> = Vec::new();
        for (b, block) in blocks.iter().enumerate() {
            let order = |first: usize| block.entries.get(first).map_or(0, |entry| entry.order);
            let of_block = block.transactions.iter().enumerate();
            spans.extend(of_block.map(|(at, span)| (order(span.first), b, at)));
        }
        spans.sort_unstable();
        for (_, b, at) in spans {
            let span = &mut blocks[b].transactions[at];
            if self.of.as_ref() != Some(&span.transaction.position) {
                self.of = Some(span.transaction.position.clone());
                self.last += 1;
            }
            span.sequence = self.last;
        }
    }
}

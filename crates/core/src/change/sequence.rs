//! Numbering transactions: for targets that need a number as a version, and for tables that tell when a row was valid.

use crate::change::block::ChangeBlock;
use crate::change::place::Place;
use crate::model::position::Position;
use crate::value::moment::Moment;

/// Counts the transactions of a pipeline's stream, from its checkpoint on. A position alone may be more than one number.
#[derive(Clone, Debug, Default)]
pub struct Sequence {
    /// Of the last transaction.
    last: Place,
    /// Of which transaction that is: it may go on in what comes next.
    of: Option<Position>,
}

impl Sequence {
    /// Goes on behind the last number that a checkpoint knows, and the time from which on what has it is valid.
    pub fn behind(sequence: u64, valid_from: Moment) -> Self {
        Self { last: Place { sequence, valid_from, first_order: 0 }, of: None }
    }

    /// Goes on behind this number, if it has not come there yet.
    pub fn skip_to(&mut self, number: u64) {
        self.last.sequence = self.last.sequence.max(number);
    }

    /// The place of the last transaction that was numbered.
    pub fn last(&self) -> Place {
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
        for (first_order, b, at) in spans {
            let span = &mut blocks[b].transactions[at];
            if self.of.as_ref() != Some(&span.transaction.position) {
                self.of = Some(span.transaction.position.clone());
                let committed = Moment::of(span.transaction.committed_at);
                let valid_from = committed.max(self.last.valid_from.next());
                self.last = Place { sequence: self.last.sequence + 1, valid_from, first_order };
            }
            span.place = self.last;
        }
    }
}

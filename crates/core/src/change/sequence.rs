//! Numbering transactions: for targets that need a number as a version, and for tables that tell when a row was valid.

use crate::change::block::ChangeBlock;
use crate::change::kind::{FoundIn, Transaction};
use crate::change::place::Place;
use crate::model::position::Position;
use crate::value::moment::Moment;
use std::collections::HashMap;

/// Counts the transactions of a pipeline's stream, from its checkpoint on. A position alone may be more than one number.
#[derive(Clone, Debug, Default)]
pub struct Sequence {
    /// Of the last transaction.
    last: Place,
    /// Of which transaction that is: it may go on in what comes next.
    of: Option<Position>,
    /// The last look of the source, if it is looked at.
    look: Option<Look>,
}

/// The times of what one look found.
#[derive(Clone, Debug)]
struct Look {
    ends: Position,
    /// The first time that is not taken.
    free: Moment,
    /// By the order of transactions in it, when each is valid from.
    times: HashMap<u64, Moment>,
}

impl Look {
    /// From when on what a transaction made is valid. Both times grow with its order, so this does.
    fn valid_from(&mut self, found: &FoundIn) -> Moment {
        let earliest = self.free.plus(found.nth);
        *self.times.entry(found.nth).or_insert_with(|| Moment::of(found.at).max(earliest))
    }
}

impl Sequence {
    /// Goes on behind the last number that a checkpoint knows, and the time from which on what has it is valid.
    pub fn behind(sequence: u64, valid_from: Moment) -> Self {
        Self { last: Place { sequence, valid_from, first_order: 0 }, of: None, look: None }
    }

    /// Goes on behind this number, if it has not come there yet.
    pub fn skip_to(&mut self, number: u64) {
        self.last.sequence = self.last.sequence.max(number);
    }

    /// Lets a moment pass in which something is done between transactions: nothing that was numbered may wait to be applied.
    pub fn tick(&mut self) -> Place {
        self.last.valid_from = self.last.valid_from.next();
        self.last
    }

    /// Comes to a transaction of which everything was numbered that is carried, if anything is: what is done between it and the
    /// next one is later than it, too.
    pub fn reach(&mut self, transaction: &Transaction) {
        if self.of.as_ref() == Some(&transaction.position) {
            return;
        }
        self.of = Some(transaction.position.clone());
        let valid_from = match &transaction.found {
            Some(found) => self.look_of(found).valid_from(found),
            None => Moment::of(transaction.committed_at).max(self.last.valid_from.next()),
        };
        self.last.valid_from = self.last.valid_from.max(valid_from);
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
            let is_new = self.of.as_ref() != Some(&span.transaction.position);
            if is_new {
                self.of = Some(span.transaction.position.clone());
                self.last.sequence += 1;
            }
            match &span.transaction.found {
                // Its changes are numbered once and for all, and may come in any order.
                Some(found) => {
                    let valid_from = self.look_of(found).valid_from(found);
                    self.last.first_order = 0;
                    self.last.valid_from = self.last.valid_from.max(valid_from);
                    span.place = Place { valid_from, ..self.last };
                }
                None => {
                    if is_new {
                        let committed = Moment::of(span.transaction.committed_at);
                        self.last.valid_from = committed.max(self.last.valid_from.next());
                        self.last.first_order = first_order;
                    }
                    span.place = self.last;
                }
            }
        }
    }

    fn look_of(&mut self, found: &FoundIn) -> &mut Look {
        let free = self.last.valid_from.next();
        let new = || Look { ends: found.ends.clone(), free, times: HashMap::new() };
        let look = self.look.take().filter(|look| look.ends == found.ends);
        self.look.insert(look.unwrap_or_else(new))
    }
}

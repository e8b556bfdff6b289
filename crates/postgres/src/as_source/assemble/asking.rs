//! What the assembler has to be told of structures before it can take a row: [`Ask`].

use super::Assembler;
use crate::as_source::carried::{Known, make_room};
use crate::as_source::structure::event::{self, TellsOf};
use crate::as_source::structure::looks::Look;
use crate::wire::pgoutput::Message;
use moorage_adapter::Result;
use moorage_core::change::structure::SchemaChange;
use std::sync::Arc;

/// What has to be told before a row can be taken.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Ask {
    /// The row's transaction.
    pub(crate) xid: u32,
    pub(crate) commit_lsn: u64,
    /// Its table.
    pub(crate) relation: u32,
    /// Whether a look that sees the transaction is needed; otherwise just those that do not see it.
    pub(crate) settles: bool,
}

impl Assembler {
    /// The number of the last look that all tables have passed.
    pub(crate) fn passed(&self) -> u64 {
        self.passed
    }

    /// A transaction begins; `is_clear` says whether no look behind [`passed`](Self::passed) is about what was before it.
    pub(crate) fn begins(&mut self, is_clear: bool) {
        self.is_clear = is_clear;
    }

    /// What has to be told before this message can be fed; nothing where structures are not followed.
    pub(crate) fn asks(&self, message: &Message<'_>) -> Vec<Ask> {
        let relations: &[u32] = match message {
            Message::Insert { relation, .. }
            | Message::Update { relation, .. }
            | Message::Delete { relation, .. } => std::slice::from_ref(relation),
            Message::Truncate { relations } => relations,
            _ => return Vec::new(),
        };
        if self.is_clear && self.unsettled == 0 {
            // So it is with nearly every row.
            return Vec::new();
        }
        let Some(open) = self.open.as_ref().filter(|open| self.follows && !open.is_proof) else {
            return Vec::new();
        };
        let ask = |relation: &u32| {
            let carried = self.tables.get(relation)?;
            let is_first = carried.asked_in != open.count;
            let Known::Followed(table, message) = &carried.known else { return None };
            let covered = carried.mark.as_ref().is_some_and(|m| m.covers(open.xid, open.commit_lsn));
            let settles = message.is_some();
            let needed = (is_first || settles) && !covered && !table.is_gone();
            needed.then_some(Ask { xid: open.xid, commit_lsn: open.commit_lsn, relation: *relation, settles })
        };
        relations.iter().filter_map(ask).collect()
    }

    /// Tells what was asked for: the looks that do not see the transaction, and the first that does, if that was needed.
    /// Gives the changes of structure that this shows; what was collected has to be taken before they are handed on.
    ///
    /// # Errors
    /// If a look has a value that is not one of its type.
    pub(crate) fn told(
        &mut self,
        ask: Ask,
        before: &[Arc<Look>],
        seeing: Option<&Look>,
    ) -> Result<Vec<SchemaChange>> {
        let mut changes = Vec::new();
        if let (Some(open), Some(carried)) = (&self.open, self.tables.get_mut(&ask.relation)) {
            carried.asked_in = open.count;
        }
        for look in before {
            make_room(&mut self.tables, look, ask.relation, &mut changes);
            let Some(carried) = self.tables.get_mut(&ask.relation) else { break };
            changes.extend(carried.pass(look)?);
        }
        let carried = self.tables.get_mut(&ask.relation);
        if let (Some(look), Some(carried)) = (seeing, carried) {
            self.unsettled -= usize::from(carried.is_unsettled());
            changes.extend(carried.settle(look)?);
        }
        Ok(changes)
    }

    /// Of a message of an event trigger about a table that is followed: what it tells, and what has to be told before it is taken.
    pub(crate) fn hears(&self, message: &Message<'_>) -> Option<(TellsOf, Ask)> {
        let Message::LogMessage { transactional: true, prefix, content } = message else { return None };
        let open = self.open.as_ref().filter(|o| self.follows && !o.is_proof)?;
        let told = (*prefix == event::PREFIX.as_bytes()).then(|| event::read(content)).flatten()?;
        let carried = self.tables.get(&told.table)?;
        let Known::Followed(table, _) = &carried.known else { return None };
        let covered = carried.mark.as_ref().is_some_and(|m| m.covers(open.xid, open.commit_lsn));
        let ask = Ask { xid: open.xid, commit_lsn: open.commit_lsn, relation: told.table, settles: false };
        (!covered && !table.is_gone()).then_some((told, ask))
    }

    /// Takes what an event trigger tells of a table's structure; what was collected has to be taken before it is handed on.
    ///
    /// # Errors
    /// If a value that rows have from before a column is not one of its type.
    pub(crate) fn tells(&mut self, told: &TellsOf, ask: Ask) -> Result<Option<SchemaChange>> {
        let Some(carried) = self.tables.get_mut(&ask.relation) else { return Ok(None) };
        let Known::Followed(table, message) = &mut carried.known else { return Ok(None) };
        let (change, is_open) = (table.is_told(told, (ask.xid, ask.commit_lsn))?, message.is_some());
        carried.adopt(change.as_ref(), is_open);
        Ok(change)
    }

    /// The transaction that is open is the first to end behind these looks.
    ///
    /// # Errors
    /// Likewise.
    pub(crate) fn passes(&mut self, looks: &[Arc<Look>]) -> Result<Vec<SchemaChange>> {
        let mut changes = Vec::new();
        if looks.is_empty() {
            return Ok(changes);
        }
        let ids: Vec<u32> = self.tables.keys().copied().collect();
        for look in looks {
            self.passed = look.number;
            for id in &ids {
                make_room(&mut self.tables, look, *id, &mut changes);
                let Some(carried) = self.tables.get_mut(id) else { continue };
                changes.extend(carried.pass(look)?);
            }
        }
        Ok(changes)
    }
}

//! What a target in memory holds.

use crate::carry_out::TextRow;
use crate::rows::Op;
use moorage_adapter::{AdapterError, Holder, MemoKind, Result, StoredTable};
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::plan::table::TablePlan;
use std::collections::BTreeMap;

#[derive(Clone, Debug)]
pub(crate) struct Table {
    pub(crate) rows: Vec<TextRow>,
    pub(crate) stored: Option<StoredTable>,
    pub(crate) adopted: bool,
    /// Rows that are being loaded again beside these.
    pub(crate) again: Option<Vec<TextRow>>,
}

#[derive(Clone, Debug, Default)]
pub(crate) struct Inner {
    pub(crate) tables: BTreeMap<String, Table>,
    pub(crate) checkpoint: Option<Checkpoint>,
    pub(crate) memos: BTreeMap<(String, MemoKind, String), Vec<u8>>,
    pub(crate) seen: Vec<Op>,
    /// A table and the name of rows that it refuses.
    pub(crate) forbidden: Option<(String, String)>,
    /// Who has the turn.
    pub(crate) holder: Option<Holder>,
}

pub(crate) fn refused(what: &str) -> AdapterError {
    AdapterError::refused("memory", what)
}

impl Inner {
    pub(crate) fn check(&self, plan: &TablePlan) -> Result<()> {
        match self.tables.get(&plan.target) {
            Some(t) if t.stored.is_none() && !t.rows.is_empty() && plan.existing_rows.is_none() => {
                Err(refused(&format!("{} holds rows; existing_rows says nothing", plan.target)))
            }
            _ => Ok(()),
        }
    }

    pub(crate) fn fence(&self, mine: Option<&Holder>) -> Result<()> {
        match mine {
            Some(_) if mine == self.holder.as_ref() => Ok(()),
            _ => Err(AdapterError::turn_lost("p", self.holder.as_ref())),
        }
    }

    pub(crate) fn refuse_forbidden(&mut self, target: &str) -> Result<()> {
        let Some((table, name)) = self.forbidden.clone().filter(|(table, _)| table == target) else {
            return Ok(());
        };
        match self.table(target).rows.iter().any(|r| r[1].as_ref() == Some(&name)) {
            true => Err(refused(&format!("{table} refuses {name}"))),
            false => Ok(()),
        }
    }

    pub(crate) fn table(&mut self, name: &str) -> &mut Table {
        self.tables.get_mut(name).expect("the table was created")
    }
}

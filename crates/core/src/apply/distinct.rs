//! Whether a declared key tells rows apart at every moment.
//!
//! No constraint may stand behind a key that is declared in the project file, or one that is checked only when a transaction
//! ends. Then two rows may have one key for a while: `UPDATE t SET k = 3 - k` swaps two rows, and its first change gives the
//! second one's key to the first. All that is done by key (reduction, trails, versions) would take one of them for the other
//! from then on. Such a batch is refused: a declared key comes with whole old rows, and each change of a row that the batch
//! wrote before has to name that very row as the old one.
//!
//! What stands in the target from before the batch is not looked at here: whether a row that comes finds its key taken there,
//! the target sees.

use crate::apply::net::{Cells, ReduceError, key_text, new_cells, old_cells, same_row, write_keys};
use crate::change::block::ChangeBlock;
use crate::change::kind::{Change, ChangeKind};
use crate::model::schema::RowIdentity;
use crate::plan::table::TablePlan;
use hashbrown::HashMap;

/// Looks at the changes of one table, given in order.
///
/// # Errors
/// [`ReduceError::TwoAtOnce`], and [`ReduceError::DuplicateKey`].
pub(super) fn distinct(plan: &TablePlan, blocks: &[ChangeBlock]) -> Result<(), ReduceError> {
    let is_declared = matches!(plan.mapped.identity, RowIdentity::DeclaredKey(_));
    // A filter that is blind says that rows go which were never there.
    if !is_declared || blocks.iter().any(ChangeBlock::is_blind) {
        return Ok(());
    }
    let mut rows = Rows { plan, blocks: blocks.iter().collect(), met: HashMap::new() };
    for (b, block) in blocks.iter().enumerate() {
        for change in block.changes() {
            rows.change(b as u32, &change)?;
        }
    }
    Ok(())
}

struct Rows<'a> {
    plan: &'a TablePlan,
    blocks: Vec<&'a ChangeBlock>,
    /// The row at each key that the batch met; none if it went.
    met: HashMap<Vec<u8>, Option<Cells>>,
}

impl Rows<'_> {
    fn change(&mut self, block: u32, change: &Change<'_>) -> Result<(), ReduceError> {
        if change.kind == ChangeKind::Truncate {
            self.met.clear();
        }
        if change.old.is_some() {
            self.goes(&old_cells(block, change), change.old_is_whole)?;
        }
        if change.new.is_none() {
            return Ok(());
        }
        let row = new_cells(block, change, self.plan.width(), self.plan.key());
        match (change.kind, change.old) {
            // The row stays where it is.
            (ChangeKind::Update, None) => {
                self.met.insert(self.key_of(&row)?, Some(row));
                Ok(())
            }
            _ => self.comes(row),
        }
    }

    fn goes(&mut self, row: &Cells, is_whole: bool) -> Result<(), ReduceError> {
        let table = || self.plan.table().to_string();
        match self.met.insert(self.key_of(row)?, None) {
            Some(Some(there)) if is_whole && !self.is_same(&there, row) => {
                Err(ReduceError::TwoAtOnce { table: table(), key: self.key_text(row) })
            }
            Some(None) => Err(ReduceError::TwoAtOnce { table: table(), key: self.key_text(row) }),
            _ => Ok(()),
        }
    }

    fn comes(&mut self, row: Cells) -> Result<(), ReduceError> {
        let key = self.key_of(&row)?;
        match self.met.insert(key, Some(row.clone())) {
            Some(Some(_)) => {
                let table = self.plan.table().to_string();
                Err(ReduceError::DuplicateKey { table, key: self.key_text(&row) })
            }
            _ => Ok(()),
        }
    }

    /// Whether two images are of one row, as far as the batch carries their values. What depends on when a change came
    /// says nothing about that.
    fn is_same(&self, one: &Cells, other: &Cells) -> bool {
        let outputs = &self.plan.mapping.outputs;
        let of_row = |c: &usize| outputs.get(*c).is_none_or(|output| !output.is_of_change());
        same_row(&self.blocks, one, other, (0..self.plan.width()).filter(of_row)) != Some(false)
    }

    fn key_of(&self, row: &Cells) -> Result<Vec<u8>, ReduceError> {
        let mut bytes = Vec::new();
        write_keys(&self.blocks, row, self.plan.key(), &mut bytes)?;
        Ok(bytes)
    }

    fn key_text(&self, row: &Cells) -> String {
        key_text(&self.blocks, row, self.plan.key())
    }
}

//! Carrying out a write set on rows that are held as texts: the plain and slow way, for targets of tests.

use crate::rows::Row;
use arrow::array::RecordBatch;
use moorage_adapter::{AdapterError, Lack, Result};
use moorage_core::Column;
use moorage_core::apply::net::Cells;
use moorage_core::apply::prepare::TableBatch;
use moorage_core::apply::write_set::Write;
use moorage_core::change::block::ChangeBlock;
use moorage_core::change::counters::{Adjusted, TableCounters};
use moorage_core::model::policy::Mismatch;
use moorage_core::plan::dialect::{Declared, TargetDialect};
use moorage_core::plan::table::TablePlan;
use moorage_core::value::column::{value_at, value_text};
use std::collections::BTreeMap;

/// A row: each column's text, none for null.
pub(crate) type TextRow = Vec<Option<String>>;

/// Declares logical types by their words, tells all names apart, and reserves none.
pub(crate) struct TextDialect;

impl TargetDialect for TextDialect {
    fn declare(&self, column: &Column, _: bool) -> Declared {
        Declared { sql: column.logical.to_string(), note: None }
    }
    fn fold(&self, identifier: &str) -> String {
        identifier.into()
    }
    fn reserved(&self, _: &str) -> Option<String> {
        None
    }
}

/// A berth as texts.
pub(crate) fn texts(row: &Row) -> TextRow {
    vec![Some(row.0.to_string()), row.1.clone(), row.2.clone()]
}

/// A berth from its texts.
pub(crate) fn berth(row: &TextRow) -> Row {
    Row(row[0].as_ref().expect("a key").parse().unwrap(), row[1].clone(), row[2].clone())
}

/// Adds the rows of a snapshot; with a key, over those that are there.
pub(crate) fn load(rows: &mut Vec<TextRow>, plan: &TablePlan, new: &RecordBatch) {
    for at in 0..new.num_rows() {
        let row: TextRow = new.columns().iter().map(|c| value_text(value_at(c.as_ref(), at))).collect();
        if plan.mapped.identity.key().is_some() {
            rows.retain(|r| key_of(r, plan) != key_of(&row, plan));
        }
        rows.push(row);
    }
}

fn key_of<'a>(row: &'a TextRow, plan: &TablePlan) -> Vec<&'a Option<String>> {
    let all = (0..row.len()).collect::<Vec<_>>();
    plan.mapped.identity.key().unwrap_or(&all).iter().map(|&c| &row[c]).collect()
}

/// The text of a column; none where the batch does not carry it.
fn text(cells: &Cells, blocks: &[&ChangeBlock], column: usize) -> Option<Option<String>> {
    cells.at(column).map(|image| value_text(image.value(blocks, column)))
}

/// A row that is not as the changes assume: refused, or counted.
fn differs(count: &mut u64, plan: &TablePlan, key: &TextRow) -> Result<()> {
    *count += 1;
    if plan.mismatch == Mismatch::Adjust {
        return Ok(());
    }
    let named = plan.mapped.key_names().into_iter().zip(key);
    let named: Vec<String> =
        named.map(|(name, text)| format!("{name} = {}", text.as_deref().unwrap_or("null"))).collect();
    let reason = format!("the row {} is not as assumed", named.join(", "));
    Err(AdapterError::refused(plan.target.clone(), reason))
}

/// Carries a batch out on a table's rows; gives its counters.
pub(crate) fn carry_out(rows: &mut Vec<TextRow>, batch: &TableBatch) -> Result<TableCounters> {
    let (plan, set) = (batch.plan.as_ref(), &batch.set);
    let blocks = &batch.blocks.iter().collect::<Vec<_>>()[..];
    let key = |cells: &Cells| -> TextRow {
        let columns = plan.mapped.identity.key().unwrap_or_default();
        columns.iter().map(|&c| text(cells, blocks, c).expect("a key has all its values")).collect()
    };
    let same = |row: &TextRow, key: &TextRow| key_of(row, plan) == key.iter().collect::<Vec<_>>();
    let find = |rows: &[TextRow], key: &TextRow| rows.iter().find(|row| same(row, key)).cloned();
    let mut adjusted = Adjusted::default();
    let borrowed: BTreeMap<usize, Option<TextRow>> =
        set.borrowed().map(|(at, cells)| (at, find(rows, &key(cells)))).collect();
    let built = |at: usize, base: Option<TextRow>| -> TextRow {
        let cells = &set.rows[at].cells;
        let base = |c: usize| base.as_ref().and_then(|b| b[c].clone());
        (0..plan.columns.len()).map(|c| text(cells, blocks, c).unwrap_or_else(|| base(c))).collect()
    };
    for step in set.steps() {
        match step {
            Write::Empty => rows.clear(),
            Write::Remove(gone) => {
                for row in gone {
                    let key = key(&row.key);
                    if row.was_there && find(rows, &key).is_none() {
                        differs(&mut adjusted.deletes_of_missing, plan, &key)?;
                    }
                    rows.retain(|r| !same(r, &key));
                }
            }
            Write::RemoveEqual(gone) => {
                for row in gone {
                    let whole: TextRow =
                        (0..plan.columns.len()).map(|c| text(&row.key, blocks, c).flatten()).collect();
                    let missing = || AdapterError::refused(plan.target.clone(), "no such row");
                    let at = rows.iter().position(|r| *r == whole).ok_or_else(missing)?;
                    rows.remove(at);
                }
            }
            Write::End(..) | Write::EndRest(_) | Write::Mark(_) => {
                return Err(AdapterError::Lacking { system: "tests".into(), lack: Lack::Keeping });
            }
            Write::Append(new) => rows.extend(new.into_iter().map(|at| built(at, None))),
            Write::Put(some) | Write::Patch(some) => {
                for at in some {
                    let key = key(&set.rows[at].cells);
                    let there = find(rows, &key);
                    match (there.is_some(), set.rows[at].was_there) {
                        (false, true) => differs(&mut adjusted.updates_of_missing, plan, &key)?,
                        (true, false) => differs(&mut adjusted.inserts_of_present, plan, &key)?,
                        _ => {}
                    }
                    let new = built(at, borrowed.get(&at).cloned().unwrap_or(there));
                    rows.retain(|r| !same(r, &key));
                    rows.push(new);
                }
            }
        }
    }
    Ok(TableCounters { adjusted, ..set.counters })
}

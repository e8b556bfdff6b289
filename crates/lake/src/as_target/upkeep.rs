//! Looking after tables beside merges: files are put together when there are many small ones or such as have lost many rows; what no
//! version names that is to be kept is removed.

use crate::as_target::ledger::Entries;
use crate::as_target::memos::OPEN_AS;
use crate::as_target::place::{LakeTarget, Writer};
use crate::as_target::remembered::Remembered;
use crate::table::Table;
use crate::table::compact::Chosen;
use crate::table::log::{CHECKPOINT_EVERY, Committed, Log};
use moorage_adapter::Result;
use std::sync::PoisonError;
use std::time::Instant;

/// Of the time for which versions are kept, how often it is looked for what is older.
const LOOKS: u32 = 8;

impl LakeTarget {
    /// Whether rows are loaded beside a table: their files are named by nothing yet, however old they become.
    fn is_loading(&self, name: &str) -> bool {
        self.loading.lock().unwrap_or_else(PoisonError::into_inner).contains_key(name)
    }

    /// Begins to remove what no version of a table names that is to be kept, unless that was done not long ago. It begins when the
    /// log was put into one file, without which its old commits are needed still.
    fn remove_old(&self, log: &Log) {
        if !log.state.version.is_some_and(|version| version > 0 && version.is_multiple_of(CHECKPOINT_EVERY)) {
            return;
        }
        let mut looked = self.looked_for_old.lock().unwrap_or_else(PoisonError::into_inner);
        let every = self.upkeep.keep_for / LOOKS;
        if looked.get(&log.folder).is_some_and(|at| at.elapsed() < every) {
            return;
        }
        looked.insert(log.folder.clone(), Instant::now());
        let (log, since_ms) = (log.clone(), self.upkeep.since_ms());
        tokio::spawn(async move {
            if let Err(error) = log.vacuum(since_ms, false).await {
                tracing::debug!("old files of {} were not removed: {error}", log.folder);
            }
        });
    }

    /// Begins what there is to do for tables that were just committed. At most one of each target is looked after at a time.
    pub(crate) fn look_after(&self, writer: &Writer, names: &[String]) {
        self.remove_old(&writer.ledger.log);
        if let Some(memos) = writer.tables.get(OPEN_AS) {
            self.remove_old(&memos.log);
        }
        for name in names {
            let (Some(table), Ok(of)) = (writer.tables.get(name), writer.ledger.table(name)) else {
                continue;
            };
            if !self.is_loading(name) {
                self.remove_old(&table.log);
            }
            let kept = of.map(|of| of.kept).unwrap_or_default();
            let Some(chosen) = table.to_compact(self.upkeep.small_files, &kept) else { continue };
            let mut busy = self.looked_after.lock().unwrap_or_else(PoisonError::into_inner);
            if !busy.insert(name.clone()) {
                continue;
            }
            let (target, table, name, epoch) = (self.clone(), table.clone(), name.clone(), writer.mine.epoch);
            tokio::spawn(async move {
                if let Err(error) = target.compact(&name, table, chosen, epoch).await {
                    // It is begun again behind the next merge.
                    tracing::debug!("files of lake table {name} were not put together: {error}");
                }
                target.looked_after.lock().unwrap_or_else(PoisonError::into_inner).remove(&name);
            });
        }
    }

    /// Puts files of a table together.
    async fn compact(&self, name: &str, table: Table, chosen: Chosen, epoch: u64) -> Result<()> {
        let mut compacted = table.compact(chosen).await?;
        let mut writer = self.writing().await?;
        // A table that may be ahead of the ledger is not for this: its versions are not what the ledger says.
        if writer.mine.epoch != epoch || writer.ahead {
            return Ok(());
        }
        let taken = writer.tables.remove(name);
        let is_free = taken.is_some();
        let mut table = taken.unwrap_or(table);
        table.log.refresh().await?;
        table.look_at_files().await?;
        let unsure = std::mem::replace(&mut writer.unsure, true);
        for _ in 0..8 {
            let Some(lines) = table.exchange(&mut compacted).await? else { break };
            let lines = [vec![writer.turn_txn()], lines].concat();
            match table.log.try_commit("compact", lines).await? {
                Committed::At(version) => {
                    table.take_up_exchange(compacted);
                    // The rows are those that the ledger knows of, and the version that it names is not to be kept for ever.
                    if let Some(of) = writer.ledger.table(name)? {
                        let of = Remembered { version: Some(version), ..of };
                        let entries = Entries { tables: vec![(name.into(), Some(of))], ..Entries::default() };
                        writer.note("compact", &entries).await?;
                    }
                    break;
                }
                Committed::Overtaken(lines) => {
                    writer.is_overtaken_by_us(&lines).await?;
                    table.look_at_files().await?;
                }
            }
        }
        writer.unsure = unsure;
        if is_free {
            writer.tables.insert(name.into(), table);
        }
        Ok(())
    }
}

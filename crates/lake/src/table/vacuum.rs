//! Removing what no version names that is to be kept: files of the table, and the log's own of versions that are older.

use crate::format::action::{Line, VectorPlace};
use crate::format::names::{LOG, LogFile};
use crate::format::vector::Found;
use crate::table::log::Log;
use moorage_adapter::Result;
use std::collections::HashSet;

/// What was removed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Removed {
    pub(crate) files: u64,
    pub(crate) bytes: u64,
}

fn name_of(path: &str) -> String {
    percent_encoding::percent_decode_str(path).decode_utf8_lossy().into_owned()
}

/// What a version names: a data file, and perhaps a file with its vector.
fn named(path: &str, vector: Option<&VectorPlace>, into: &mut HashSet<String>) {
    into.insert(name_of(path));
    if let Some(Ok(Found::InFile(name, ..))) = vector.map(VectorPlace::find) {
        into.insert(name);
    }
}

impl Log {
    /// Removes files that no version names which was the newest at `since` or later (in milliseconds since 1970), and that are older
    /// than that themselves: what a batch has written and not committed yet is young. With `dry`, says what it would remove.
    pub(crate) async fn vacuum(&self, since_ms: i64, dry: bool) -> Result<Removed> {
        let listed = self.store.list(&self.folder).await?;
        let in_log =
            |name: &str| name.strip_prefix(LOG).and_then(|rest| rest.strip_prefix('/')).map(str::to_string);
        let log: Vec<_> =
            listed.iter().filter_map(|f| Some((LogFile::parse(&in_log(&f.name)?)?, f))).collect();
        // Whatever an older version named is named still, or by a removal since then.
        let mut keeps = HashSet::new();
        for add in self.state.files.values() {
            named(&add.path, add.deletion_vector.as_ref(), &mut keeps);
        }
        let mut oldest = self.state.version.unwrap_or(0);
        for (file, of) in &log {
            let LogFile::Commit(version) = file else { continue };
            if of.modified_ms < since_ms {
                continue;
            }
            oldest = oldest.min(*version);
            for line in self.commit(*version).await?.into_iter().flatten() {
                let Line { add, remove, .. } = line;
                if let Some(remove) = remove {
                    named(&remove.path, remove.deletion_vector.as_ref(), &mut keeps);
                }
                if let Some(add) = add {
                    named(&add.path, add.deletion_vector.as_ref(), &mut keeps);
                }
            }
        }
        // The version that was the newest at that time is the one before the first since then: it is begun with at a checkpoint.
        let first = oldest.saturating_sub(1);
        let base = log.iter().filter_map(|(file, _)| match file {
            LogFile::Checkpoint(version) if *version <= first => Some(*version),
            _ => None,
        });
        let base = base.max();
        let is_old_log = |file: &LogFile| match (file, base) {
            (
                LogFile::Commit(version) | LogFile::Checkpoint(version) | LogFile::Part(version, ..),
                Some(base),
            ) => *version < base,
            _ => false,
        };
        let mut gone: Vec<_> = log.iter().filter(|(file, _)| is_old_log(file)).map(|(_, of)| *of).collect();
        let is_ours = |name: &str| {
            let begins = name.starts_with("part-") && name.ends_with(".parquet");
            (begins || (name.starts_with("deletion_vector_") && name.ends_with(".bin")))
                && !name.contains('/')
        };
        gone.extend(
            listed
                .iter()
                .filter(|f| is_ours(&f.name) && f.modified_ms < since_ms && !keeps.contains(&f.name)),
        );
        let removed = Removed { files: gone.len() as u64, bytes: gone.iter().map(|f| f.size).sum() };
        if !dry {
            let names: Vec<String> = gone.iter().map(|f| format!("{}/{}", self.folder, f.name)).collect();
            self.store.remove(&names).await?;
        }
        Ok(removed)
    }
}

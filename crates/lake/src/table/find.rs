//! Finding rows by their keys, in one key file after the other.

use crate::rows::key::Keys;
use crate::rows::key_file::{Finder, KeyFile};
use roaring::RoaringBitmap;
use std::collections::BTreeMap;
use std::sync::Arc;

/// Where a row is.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum At {
    /// In a file of the table.
    There(Arc<str>, u32),
    /// In a file that this work wrote: which one, and which row.
    Made(usize, u32),
    /// Among the rows that are not written yet: which batch, and which row.
    Coming(usize, u32),
}

/// A file in which keys are looked for.
pub(crate) struct Searched {
    pub(crate) place: Place,
    pub(crate) keys: Arc<KeyFile>,
}

pub(crate) enum Place {
    /// In the table: its path, and which rows are deleted there before this work.
    There(Arc<str>, Arc<RoaringBitmap>),
    Made(usize),
}

/// Looks for keys, given by their numbers in ascending order, in one file after the other; each row that is found is deleted.
pub(crate) fn look_up(
    files: &[Searched],
    keys: &Keys,
    mut wanted: Vec<u32>,
    found: &mut [Option<At>],
    dead: &mut BTreeMap<Arc<str>, RoaringBitmap>,
    made_dead: &mut [RoaringBitmap],
) -> std::io::Result<()> {
    for Searched { place, keys: file } in files {
        let Some((first, last)) = file.ends() else { continue };
        let from = wanted.partition_point(|&at| keys.get(at as usize) < first);
        let to = wanted.partition_point(|&at| keys.get(at as usize) <= last);
        let (mut finder, mut hits) = (Finder::new(file), false);
        for &at in &wanted[from..to] {
            let is_alive = |candidate: &&u32| match place {
                Place::There(path, before) => !dead
                    .get(path)
                    .map_or_else(|| before.contains(**candidate), |dead| dead.contains(**candidate)),
                Place::Made(file) => !made_dead[*file].contains(**candidate),
            };
            let row = finder.find(keys.get(at as usize))?.iter().find(is_alive).copied();
            let Some(row) = row else { continue };
            hits = true;
            found[at as usize] = Some(match place {
                Place::There(path, before) => {
                    dead.entry(path.clone()).or_insert_with(|| before.as_ref().clone()).insert(row);
                    At::There(path.clone(), row)
                }
                Place::Made(file) => {
                    made_dead[*file].insert(row);
                    At::Made(*file, row)
                }
            });
        }
        if hits {
            wanted.retain(|&at| found[at as usize].is_none());
        }
    }
    Ok(())
}

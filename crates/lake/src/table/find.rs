//! Finding rows by their keys, in one key file after the other.

use crate::rows::key::Keys;
use crate::rows::key_file::{Finder, KeyFile};
use roaring::RoaringBitmap;
use std::cmp::Reverse;
use std::collections::{BTreeMap, BinaryHeap};
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

impl Place {
    /// Whether a row of it lives, where these are deleted by now.
    fn is_alive(
        &self,
        row: u32,
        dead: &BTreeMap<Arc<str>, RoaringBitmap>,
        made_dead: &[RoaringBitmap],
    ) -> bool {
        match self {
            Self::There(path, before) => {
                !dead.get(path).map_or_else(|| before.contains(row), |dead| dead.contains(row))
            }
            Self::Made(file) => !made_dead[*file].contains(row),
        }
    }
}

/// Whether two rows that live have the same key, in one file or in two: all are gone through at once, in order.
pub(crate) fn has_twice(
    files: &[Searched],
    dead: &BTreeMap<Arc<str>, RoaringBitmap>,
    made_dead: &[RoaringBitmap],
) -> std::io::Result<bool> {
    let mut finders: Vec<Finder<'_>> = files.iter().map(|of| Finder::new(&of.keys)).collect();
    let mut heap: BinaryHeap<Reverse<(Vec<u8>, usize)>> = BinaryHeap::new();
    let mut next = |at: usize| -> std::io::Result<Option<Vec<u8>>> {
        while let Some((key, row)) = finders[at].next()? {
            if files[at].place.is_alive(row, dead, made_dead) {
                return Ok(Some(key.to_vec()));
            }
        }
        Ok(None)
    };
    for at in 0..files.len() {
        heap.extend(next(at)?.map(|key| Reverse((key, at))));
    }
    let mut before: Option<Vec<u8>> = None;
    while let Some(Reverse((key, at))) = heap.pop() {
        if before.as_ref() == Some(&key) {
            return Ok(true);
        }
        before = Some(key);
        heap.extend(next(at)?.map(|key| Reverse((key, at))));
    }
    Ok(false)
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
            let is_alive = |candidate: &&u32| place.is_alive(**candidate, dead, made_dead);
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

//! Hashes under which both sides meet.

use crate::model::schema::Column;
use crate::value::canonical::write_key;
use crate::value::column::Value;
use std::hash::{BuildHasher, Hasher};

/// A 128-bit hash of what `write` writes.
pub(crate) fn hash(write: impl Fn(&mut Vec<u8>), scratch: &mut Vec<u8>) -> u128 {
    scratch.clear();
    write(scratch);
    let half = |seed: u64| {
        let mut hasher = std::hash::BuildHasherDefault::<std::hash::DefaultHasher>::new().build_hasher();
        hasher.write_u64(seed);
        hasher.write(scratch);
        u128::from(hasher.finish())
    };
    half(0x6d6f_6f72) << 64 | half(0x6167_6521)
}

/// Gives the hash of a key, or of a whole row, under which both sides and the captured changes meet.
pub struct KeyHasher<'a> {
    columns: &'a [Column],
    key: &'a [usize],
    scratch: Vec<u8>,
}

impl<'a> KeyHasher<'a> {
    /// For these columns of a table.
    pub fn new(columns: &'a [Column], key: &'a [usize]) -> Self {
        Self { columns, key, scratch: Vec::new() }
    }

    /// The hash of the values that `value` gives for each column.
    pub fn hash<'v>(&mut self, value: impl Fn(usize) -> Value<'v>) -> u128 {
        let (columns, key) = (self.columns, self.key);
        hash(|out| key.iter().for_each(|&k| write_key(&columns[k].logical, value(k), out)), &mut self.scratch)
    }
}

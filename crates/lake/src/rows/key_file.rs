//! Key files: the keys of a data file in order, each with the place of its row, so that a key is found with one small read.
//!
//! They are made once for a data file and never change; whether a row that is found lives is said by the table's deletion
//! vectors. So nothing is to be kept in step with commits, and losing them costs no more than making them again.
//!
//! Form: blocks of about [`BLOCK`] bytes with a check sum each, then the index (the last key of all, and the first one of every block), then the tail. In a
//! block a key stands as how many bytes it shares with the one before it, how many it has of its own, how far its row lies
//! from the row of the one before it, and its own bytes.

use crate::rows::key::Keys;
use bytes::Bytes;
use std::cmp::Ordering;
use std::fs::File;
use std::io::{Error, ErrorKind, Result};
use std::ops::Range;
use std::os::unix::fs::FileExt;

/// Bytes of a block, about. Smaller ones are gone through sooner, and there are more of them to remember: a disk reads more at once
/// anyway.
const BLOCK: usize = 1024;
/// The last bytes of a file of this form.
const MAGIC: [u8; 8] = *b"MOORKEY1";
/// The tail: where the index begins (8 bytes), its check sum (4), how many keys (4), [`MAGIC`].
const TAIL: usize = 24;

fn broken(what: &str) -> Error {
    Error::new(ErrorKind::InvalidData, format!("a key file is broken: {what}"))
}

fn put_number(mut number: u32, out: &mut Vec<u8>) {
    while number >= 128 {
        out.push(number as u8 | 128);
        number >>= 7;
    }
    out.push(number as u8);
}

fn take_number(bytes: &mut &[u8]) -> Result<u32> {
    let mut number = 0u64;
    for shift in (0..35).step_by(7) {
        let (&b, rest) = bytes.split_first().ok_or_else(|| broken("it is cut off"))?;
        *bytes = rest;
        number |= u64::from(b & 127) << shift;
        if b < 128 {
            return u32::try_from(number).map_err(|_| broken("a number is too large"));
        }
    }
    Err(broken("a number has no end"))
}

fn take<'a>(bytes: &mut &'a [u8], count: u32) -> Result<&'a [u8]> {
    let (taken, rest) = bytes.split_at_checked(count as usize).ok_or_else(|| broken("it is cut off"))?;
    *bytes = rest;
    Ok(taken)
}

/// A difference that may be below zero, small ones as small numbers.
fn zigzag(difference: i32) -> u32 {
    ((difference << 1) ^ (difference >> 31)) as u32
}

fn unzigzag(number: u32) -> i32 {
    (number >> 1) as i32 ^ -((number & 1) as i32)
}

/// Writes the keys of a data file, given in the order of its rows. Rows without a key are left out.
pub(crate) fn write(keys: &Keys) -> Vec<u8> {
    let order = keys.order().unwrap_or_else(|| (0..keys.len() as u32).collect());
    let (mut out, mut index, mut count) = (Vec::with_capacity(keys.len() * 8), Vec::new(), 0u32);
    let mut block = Vec::with_capacity(BLOCK + 64);
    let (mut before, mut row_before): (&[u8], u32) = (&[], 0);
    let end_block = |block: &mut Vec<u8>, out: &mut Vec<u8>| {
        let sum = crc32fast::hash(block);
        out.append(block);
        out.extend_from_slice(&sum.to_le_bytes());
    };
    for row in order {
        let key = keys.get(row as usize);
        if key.is_empty() {
            continue;
        }
        if block.is_empty() {
            put_number(key.len() as u32, &mut index);
            index.extend_from_slice(key);
            index.extend_from_slice(&(out.len() as u64).to_le_bytes());
            (before, row_before) = (&[], 0);
        }
        let shared = before.iter().zip(key).take_while(|(a, b)| a == b).count();
        put_number(shared as u32, &mut block);
        put_number((key.len() - shared) as u32, &mut block);
        // In a sorted file each row lies behind the one before it: that is a zero.
        put_number(zigzag((row as i32).wrapping_sub(row_before as i32).wrapping_sub(1)), &mut block);
        block.extend_from_slice(&key[shared..]);
        (before, row_before) = (key, row);
        count += 1;
        if block.len() >= BLOCK {
            end_block(&mut block, &mut out);
        }
    }
    if !block.is_empty() {
        end_block(&mut block, &mut out);
    }
    let begins = out.len() as u64;
    let mut last = Vec::with_capacity(before.len() + 2);
    put_number(before.len() as u32, &mut last);
    last.extend_from_slice(before);
    last.append(&mut index);
    let mut index = last;
    let sum = crc32fast::hash(&index);
    out.append(&mut index);
    out.extend_from_slice(&begins.to_le_bytes());
    out.extend_from_slice(&sum.to_le_bytes());
    out.extend_from_slice(&count.to_le_bytes());
    out.extend_from_slice(&MAGIC);
    out
}

/// Where the blocks are.
#[derive(Debug)]
enum Held {
    Memory(Bytes),
    File(File),
}

/// The last key, the first keys, and the blocks.
type Index = (Vec<u8>, Vec<u8>, Vec<(u32, u64)>);

/// An opened key file. In memory it has the first key of every block.
#[derive(Debug)]
pub(crate) struct KeyFile {
    held: Held,
    /// The first keys, one behind the other.
    firsts: Vec<u8>,
    /// For each block where its first key ends, and where its bytes begin.
    blocks: Vec<(u32, u64)>,
    /// The last key of all; no bytes where there is none.
    last: Vec<u8>,
    /// Where the last block ends.
    end: u64,
    #[cfg_attr(not(test), expect(dead_code, reason = "read by tests alone"))]
    count: u32,
}

impl KeyFile {
    /// Opens one that is in memory.
    ///
    /// # Errors
    /// If it is none.
    pub(crate) fn in_memory(bytes: Vec<u8>) -> Result<Self> {
        let tail = bytes.len().checked_sub(TAIL).ok_or_else(|| broken("it is cut off"))?;
        let (begins, sum, count) = Self::tail(&bytes[tail..])?;
        let index = usize::try_from(begins).ok().and_then(|b| bytes.get(b..tail));
        let index = index.ok_or_else(|| broken("its index is not there"))?;
        let (last, firsts, blocks) = Self::index(index, sum, begins)?;
        Ok(Self { held: Held::Memory(bytes.into()), firsts, blocks, last, end: begins, count })
    }

    /// Opens one on a disk.
    ///
    /// # Errors
    /// If it is none, or cannot be read.
    pub(crate) fn on_disk(file: File) -> Result<Self> {
        let size = file.metadata()?.len();
        let tail_at = size.checked_sub(TAIL as u64).ok_or_else(|| broken("it is cut off"))?;
        let mut tail = [0; TAIL];
        file.read_exact_at(&mut tail, tail_at)?;
        let (begins, sum, count) = Self::tail(&tail)?;
        let length = tail_at.checked_sub(begins).ok_or_else(|| broken("its index is not there"))?;
        let mut index = vec![0; length as usize];
        file.read_exact_at(&mut index, begins)?;
        let (last, firsts, blocks) = Self::index(&index, sum, begins)?;
        Ok(Self { held: Held::File(file), firsts, blocks, last, end: begins, count })
    }

    fn tail(tail: &[u8]) -> Result<(u64, u32, u32)> {
        let (begins, rest) = tail.split_first_chunk().ok_or_else(|| broken("it is cut off"))?;
        let (sum, rest) = rest.split_first_chunk().ok_or_else(|| broken("it is cut off"))?;
        let (count, magic) = rest.split_first_chunk().ok_or_else(|| broken("it is cut off"))?;
        if magic != MAGIC {
            return Err(broken("it does not end as key files do"));
        }
        Ok((u64::from_le_bytes(*begins), u32::from_le_bytes(*sum), u32::from_le_bytes(*count)))
    }

    fn index(mut index: &[u8], sum: u32, end: u64) -> Result<Index> {
        if crc32fast::hash(index) != sum {
            return Err(broken("the check sum of its index is another one"));
        }
        let length = take_number(&mut index)?;
        let last = take(&mut index, length)?.to_vec();
        let (mut firsts, mut blocks) = (Vec::new(), Vec::new());
        while !index.is_empty() {
            let length = take_number(&mut index)?;
            firsts.extend_from_slice(take(&mut index, length)?);
            let (at, rest) = index.split_first_chunk().ok_or_else(|| broken("it is cut off"))?;
            let at = u64::from_le_bytes(*at);
            if at >= end || blocks.last().is_some_and(|&(_, before)| before >= at) {
                return Err(broken("a block is not there"));
            }
            blocks.push((firsts.len() as u32, at));
            index = rest;
        }
        firsts.shrink_to_fit();
        Ok((last, firsts, blocks))
    }

    /// The first and the last of its keys; none if it has none.
    pub(crate) fn ends(&self) -> Option<(&[u8], &[u8])> {
        (!self.blocks.is_empty()).then(|| (self.first(0), self.last.as_slice()))
    }

    /// How many keys it has.
    #[cfg(test)]
    fn len(&self) -> u32 {
        self.count
    }

    /// Whether its blocks are on a disk.
    pub(crate) fn is_on_disk(&self) -> bool {
        matches!(self.held, Held::File(_))
    }

    fn first(&self, block: usize) -> &[u8] {
        let from = block.checked_sub(1).map_or(0, |before| self.blocks[before].0 as usize);
        &self.firsts[from..self.blocks[block].0 as usize]
    }

    fn block(&self, at: usize, buffer: &mut Vec<u8>) -> Result<()> {
        let from = self.blocks[at].1;
        let to = self.blocks.get(at + 1).map_or(self.end, |next| next.1);
        buffer.clear();
        match &self.held {
            Held::Memory(bytes) => buffer.extend_from_slice(&bytes[from as usize..to as usize]),
            Held::File(file) => {
                buffer.resize((to - from) as usize, 0);
                file.read_exact_at(buffer, from)?;
            }
        }
        let (content, sum) = buffer.split_last_chunk().ok_or_else(|| broken("a block is cut off"))?;
        if crc32fast::hash(content) != u32::from_le_bytes(*sum) {
            return Err(broken("the check sum of a block is another one"));
        }
        buffer.truncate(buffer.len() - 4);
        Ok(())
    }

    /// The blocks in which a key may be: where it first can, and all behind it that begin with it.
    fn blocks_of(&self, key: &[u8]) -> Range<usize> {
        let (mut low, mut high) = (0, self.blocks.len());
        while low < high {
            let middle = low + (high - low) / 2;
            if self.first(middle) < key { low = middle + 1 } else { high = middle }
        }
        let mut end = low;
        while end < self.blocks.len() && self.first(end) == key {
            end += 1;
        }
        low.saturating_sub(1)..end
    }
}

/// Looks keys up, one after the other. Of ascending ones each goes on where the one before it ended, so that a block is read and gone
/// through once, however many of them are in it.
pub(crate) struct Finder<'a> {
    file: &'a KeyFile,
    /// The block that was read, and how far it was gone through: up to this entry, which is the next to be looked at.
    block: Option<usize>,
    buffer: Vec<u8>,
    at: usize,
    key: Vec<u8>,
    row: u32,
    is_at_end: bool,
    /// What was looked for last, and its rows.
    last: Vec<u8>,
    rows: Vec<u32>,
}

impl<'a> Finder<'a> {
    pub(crate) fn new(file: &'a KeyFile) -> Self {
        let (buffer, key, last, rows) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
        Self { file, block: None, buffer, at: 0, key, row: 0, is_at_end: true, last, rows }
    }

    /// Every row with a key.
    ///
    /// # Errors
    /// If the file cannot be read, or is broken.
    pub(crate) fn find(&mut self, key: &[u8]) -> Result<&[u32]> {
        if self.block.is_some() && self.last == key {
            return Ok(&self.rows);
        }
        self.rows.clear();
        let blocks = self.file.blocks_of(key);
        if blocks.is_empty() {
            return Ok(&self.rows);
        }
        let goes_on = self.last.as_slice() < key && self.block.is_some_and(|block| block >= blocks.start);
        if !goes_on {
            self.open(blocks.start)?;
        }
        self.last.clear();
        self.last.extend_from_slice(key);
        loop {
            if self.is_at_end {
                match self.block.map(|block| block + 1).filter(|next| blocks.contains(next)) {
                    Some(next) => self.open(next)?,
                    None => return Ok(&self.rows),
                }
                continue;
            }
            match self.key.as_slice().cmp(key) {
                Ordering::Less => {}
                Ordering::Equal => self.rows.push(self.row),
                Ordering::Greater => return Ok(&self.rows),
            }
            self.step()?;
        }
    }

    /// Gives every key with its row, in ascending order.
    ///
    /// # Errors
    /// If the file cannot be read, or is broken.
    pub(crate) fn all(&mut self, mut row: impl FnMut(&[u8], u32)) -> Result<()> {
        self.block = None;
        while let Some((key, at)) = self.next()? {
            row(key, at);
        }
        Ok(())
    }

    /// The next key with its row, of a finder that has looked for none; none behind the last.
    ///
    /// # Errors
    /// If the file cannot be read, or is broken.
    pub(crate) fn next(&mut self) -> Result<Option<(&[u8], u32)>> {
        match self.block {
            Some(_) if !self.is_at_end => self.step()?,
            _ => {}
        }
        while self.block.is_none() || self.is_at_end {
            let block = self.block.map_or(0, |block| block + 1);
            if block >= self.file.blocks.len() {
                return Ok(None);
            }
            self.open(block)?;
        }
        Ok(Some((&self.key, self.row)))
    }

    /// Goes to the first entry of a block.
    fn open(&mut self, block: usize) -> Result<()> {
        // What fails half-way is read again.
        self.block = None;
        self.file.block(block, &mut self.buffer)?;
        self.block = Some(block);
        (self.at, self.row) = (0, 0);
        self.key.clear();
        self.step()
    }

    /// Goes to the next entry.
    fn step(&mut self) -> Result<()> {
        let mut rest = self.buffer.get(self.at..).unwrap_or_default();
        self.is_at_end = rest.is_empty();
        if self.is_at_end {
            return Ok(());
        }
        let shared = take_number(&mut rest)? as usize;
        let own = take_number(&mut rest)?;
        let step = unzigzag(take_number(&mut rest)?);
        let own = take(&mut rest, own)?;
        if shared > self.key.len() {
            return Err(broken("a key shares more than there is"));
        }
        self.key.truncate(shared);
        self.key.extend_from_slice(own);
        self.row = (self.row as i32).wrapping_add(step).wrapping_add(1) as u32;
        self.at = self.buffer.len() - rest.len();
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeMap;
    use std::io::Write;

    fn keys(all: impl IntoIterator<Item = Vec<u8>>) -> Keys {
        let mut keys = Keys::default();
        all.into_iter().for_each(|key| keys.push(&key));
        keys
    }

    fn on_disk(bytes: &[u8]) -> Result<KeyFile> {
        let mut file = tempfile::tempfile().unwrap();
        file.write_all(bytes).unwrap();
        KeyFile::on_disk(file)
    }

    fn found(file: &KeyFile, key: &[u8]) -> Vec<u32> {
        Finder::new(file).find(key).unwrap().to_vec()
    }

    proptest! {
        #[test]
        fn every_row_with_a_key_is_found_and_no_other(
            all in proptest::collection::vec(proptest::collection::vec(0u8..3, 0..5), 0..3000),
            looked in proptest::collection::vec(proptest::collection::vec(0u8..4, 1..6), 0..40),
            sorted in any::<bool>(),
        ) {
            let mut all = all;
            if sorted {
                all.sort();
            }
            let mut plain: BTreeMap<Vec<u8>, Vec<u32>> = BTreeMap::new();
            for (row, key) in all.iter().enumerate().filter(|(_, key)| !key.is_empty()) {
                plain.entry(key.clone()).or_default().push(row as u32);
            }
            let bytes = write(&keys(all));
            for file in [on_disk(&bytes).unwrap(), KeyFile::in_memory(bytes).unwrap()] {
                prop_assert_eq!(file.len() as usize, plain.values().map(Vec::len).sum::<usize>());
                let mut finder = Finder::new(&file);
                for (key, rows) in &plain {
                    prop_assert_eq!(finder.find(key).unwrap(), rows);
                }
                // In any order, and such as are not there, too.
                for key in looked.iter() {
                    let expected = plain.get(key).cloned().unwrap_or_default();
                    prop_assert_eq!(finder.find(key).unwrap(), &expected);
                }
                let mut walked: BTreeMap<Vec<u8>, Vec<u32>> = BTreeMap::new();
                finder.all(|key, row| walked.entry(key.to_vec()).or_default().push(row)).unwrap();
                prop_assert_eq!(walked, plain.clone());
                let ends = plain.keys().next().zip(plain.keys().last());
                prop_assert_eq!(file.ends(), ends.map(|(a, b)| (a.as_slice(), b.as_slice())));
                prop_assert!(found(&file, &[7]).is_empty() && found(&file, &[0, 0, 0, 0, 0, 0]).is_empty());
            }
        }

        #[test]
        fn what_is_broken_is_noticed(at in 0usize..20_000, bit in 0u8..8, cut in 0usize..20_000) {
            let all = keys((0..4000u32).map(|n| n.to_be_bytes().to_vec()));
            let whole = write(&all);
            let mut spoilt = whole.clone();
            let at = at % spoilt.len();
            spoilt[at] ^= 1 << bit;
            let looked = KeyFile::in_memory(spoilt).and_then(|file| {
                let mut count = 0;
                Finder::new(&file).all(|_, _| count += 1)?;
                Ok((count, file.len()))
            });
            prop_assert!(!matches!(looked, Ok((4000, 4000))), "at {}", at);
            prop_assert!(KeyFile::in_memory(whole[..cut % whole.len()].to_vec()).is_err());
        }
    }

    #[test]
    fn whole_numbers_in_order_take_few_bytes() {
        let bytes = write(&keys((0..250_000u64).map(|n| (n * 3).to_be_bytes().to_vec())));
        assert!(bytes.len() < 250_000 * 6, "{} bytes", bytes.len());
        let file = KeyFile::in_memory(bytes).unwrap();
        assert_eq!(
            (found(&file, &600_000u64.to_be_bytes()), found(&file, &[0; 8])),
            (vec![200_000], vec![0])
        );
    }
}

//! Comparing the rows of two sides, in bounded memory.
//!
//! A table with a key is compared by [`KeyedCompare`](keyed::KeyedCompare): both sides come in order of the key, as
//! [`crate::value::canonical::order`] defines it, and are walked along together. A table without one is compared as
//! a multiset by [`Tally`](tally::Tally): rows are counted by a 128-bit hash of their canonical form, a share of all
//! hashes at a time, so that memory does not depend on the table's size.
//!
//! Invariant: a row is reported as missing, extra or different if and only if the two sides differ in it and
//! the caller does not know of a captured change to that very key between its two looks.

pub mod difference;
pub mod hash;
pub mod keyed;
pub mod rows;
pub mod tally;

#[cfg(test)]
mod tests;

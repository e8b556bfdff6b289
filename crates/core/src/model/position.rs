//! A place in a source's change log: opaque to everyone but the source, totally ordered within one source.
//!
//! A source may need more than one number for a place: one a partition, or what tells sets of transactions apart. Nobody
//! else computes with them; how far one place lies behind another is asked of the source.

use serde::{Deserialize, Serialize};
use std::cmp::Ordering;
use std::fmt;
use std::hash::{Hash, Hasher};
use std::sync::Arc;

/// A position. Two are equal if their numbers are, whatever their texts.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(from = "Stored")]
pub struct Position {
    numbers: Arc<[u64]>,
    text: Arc<str>,
}

/// A position as it is kept. Earlier versions had one number of 128 bits, which was two if it was large.
#[derive(Deserialize)]
struct Stored {
    numbers: Option<Arc<[u64]>>,
    rank: Option<u128>,
    text: Arc<str>,
}

impl From<Stored> for Position {
    fn from(Stored { numbers, rank, text }: Stored) -> Self {
        let rank = rank.unwrap_or_default();
        let (high, low) = ((rank >> 64) as u64, rank as u64);
        let of_rank = || if high == 0 { Arc::from([low]) } else { Arc::from([high, low]) };
        Self { numbers: numbers.unwrap_or_else(of_rank), text }
    }
}

impl Position {
    /// One that is ordered by these numbers, the first counting most. All positions of a source have as many. The text is
    /// for people, and read back by the source.
    pub fn new(numbers: &[u64], text: impl Into<Arc<str>>) -> Self {
        Self { numbers: numbers.into(), text: text.into() }
    }

    /// The numbers, for the source alone.
    pub fn numbers(&self) -> &[u64] {
        &self.numbers
    }

    /// The first number; 0 if there is none. For the source alone.
    pub fn first(&self) -> u64 {
        self.numbers.first().copied().unwrap_or_default()
    }

    /// The text for people.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// A text that sorts as positions do, byte by byte: each number in 16 hexadecimal digits.
    pub fn sortable(&self) -> String {
        let mut out = String::with_capacity(self.numbers.len() * 17);
        for (at, number) in self.numbers.iter().enumerate() {
            if at > 0 {
                out.push('.');
            }
            let digits =
                (0..16).rev().filter_map(|place| char::from_digit((number >> (place * 4)) as u32 & 15, 16));
            out.extend(digits);
        }
        out
    }
}

impl fmt::Display for Position {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl PartialEq for Position {
    fn eq(&self, other: &Self) -> bool {
        self.numbers == other.numbers
    }
}

impl Eq for Position {}

impl Hash for Position {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.numbers.hash(state);
    }
}

impl PartialOrd for Position {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Position {
    fn cmp(&self, other: &Self) -> Ordering {
        self.numbers.cmp(&other.numbers)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn the_sortable_text_sorts_as_positions_do(
            a in prop::collection::vec(prop_oneof![0..3u64, any::<u64>()], 2),
            b in prop::collection::vec(prop_oneof![0..3u64, any::<u64>()], 2),
        ) {
            let (a, b) = (Position::new(&a, "a"), Position::new(&b, "b"));
            prop_assert_eq!(a.cmp(&b), a.sortable().cmp(&b.sortable()));
            let kept: Position = serde_json::from_str(&serde_json::to_string(&a).unwrap()).unwrap();
            prop_assert_eq!((kept.cmp(&a), kept.as_str()), (Ordering::Equal, "a"));
        }
    }

    #[test]
    fn positions_of_earlier_versions_are_read() {
        let read = |text: &str| serde_json::from_str::<Position>(text).unwrap();
        assert_eq!(read(r#"{"rank":382252872,"text":"0/16C8B748"}"#).numbers(), [382_252_872]);
        let two = read(r#"{"rank":221360928884514619391,"text":"12:12:"}"#);
        assert_eq!((two.numbers(), two.as_str()), (&[11, u64::MAX - 1 + 1][..], "12:12:"));
    }
}

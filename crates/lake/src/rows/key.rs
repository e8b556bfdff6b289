//! Keys as bytes: equal for equal values of one type, different for all others, and in the order in which readers of data files
//! compare values, so that files sorted by them can be skipped.

use arrow::array::{Array, ArrayRef, AsArray};
use arrow::datatypes::{
    DataType, Date32Type, Decimal128Type, Float32Type, Float64Type, Int16Type, Int32Type, Int64Type,
    TimeUnit, TimestampMicrosecondType,
};
use ring::digest::{SHA256, digest};

/// Keys of rows, one behind the other.
#[derive(Clone, Debug, Default)]
pub(crate) struct Keys {
    bytes: Vec<u8>,
    ends: Vec<usize>,
}

impl Keys {
    /// How many.
    pub(crate) fn len(&self) -> usize {
        self.ends.len()
    }

    /// One of them. No bytes: the row has no key, as a part of it is missing.
    pub(crate) fn get(&self, at: usize) -> &[u8] {
        let from = at.checked_sub(1).map_or(0, |before| self.ends[before]);
        &self.bytes[from..self.ends[at]]
    }

    /// All of them.
    pub(crate) fn iter(&self) -> impl Iterator<Item = &[u8]> {
        (0..self.len()).map(|at| self.get(at))
    }

    /// Puts one behind them.
    pub(crate) fn push(&mut self, key: &[u8]) {
        self.bytes.extend_from_slice(key);
        self.ends.push(self.bytes.len());
    }

    /// In which order they ascend; none if they do as they stand. Equal ones stay in the order in which they stand.
    pub(crate) fn order(&self) -> Option<Vec<u32>> {
        if (1..self.len()).all(|at| self.get(at - 1) <= self.get(at)) {
            return None;
        }
        let mut order: Vec<u32> = (0..self.len() as u32).collect();
        order.sort_by(|&a, &b| self.get(a as usize).cmp(self.get(b as usize)));
        Some(order)
    }

    /// The keys of rows, from their key columns as data files hold them. None can be made of a type that none of ours has.
    pub(crate) fn of_columns(columns: &[ArrayRef]) -> Self {
        let rows = columns.first().map_or(0, |c| c.len());
        let mut keys =
            Self { bytes: Vec::with_capacity(rows * 9 * columns.len()), ends: Vec::with_capacity(rows) };
        for row in 0..rows {
            let from = keys.bytes.len();
            let mut whole = true;
            for (at, column) in columns.iter().enumerate() {
                whole &= write(column, row, at + 1 == columns.len(), &mut keys.bytes);
            }
            if !whole {
                keys.bytes.truncate(from);
            }
            keys.ends.push(keys.bytes.len());
        }
        keys
    }

    /// For rows without a key of their own: a digest of all their values, which no two different rows share.
    pub(crate) fn of_rows(columns: &[ArrayRef], rows: usize) -> Self {
        let mut keys = Self::default();
        let mut row_bytes = Vec::new();
        for row in 0..rows {
            row_bytes.clear();
            for column in columns {
                row_bytes.push(u8::from(column.is_valid(row)));
                write(column, row, false, &mut row_bytes);
            }
            // 128 bits: two of as many rows as there can be collide less often than memory fails.
            keys.push(&digest(&SHA256, &row_bytes).as_ref()[..16]);
        }
        keys
    }
}

/// Writes a value; `false`, and nothing written, if there is none.
fn write(column: &ArrayRef, row: usize, last: bool, out: &mut Vec<u8>) -> bool {
    if column.is_null(row) {
        return false;
    }
    match column.data_type() {
        DataType::Boolean => out.push(u8::from(column.as_boolean().value(row))),
        DataType::Int16 => {
            out.extend_from_slice(&(column.as_primitive::<Int16Type>().value(row) ^ i16::MIN).to_be_bytes());
        }
        DataType::Int32 => signed(column.as_primitive::<Int32Type>().value(row), out),
        DataType::Date32 => signed(column.as_primitive::<Date32Type>().value(row), out),
        DataType::Int64 => signed_long(column.as_primitive::<Int64Type>().value(row), out),
        DataType::Timestamp(TimeUnit::Microsecond, _) => {
            signed_long(column.as_primitive::<TimestampMicrosecondType>().value(row), out);
        }
        DataType::Decimal128(..) => {
            let value = column.as_primitive::<Decimal128Type>().value(row);
            out.extend_from_slice(&(value ^ i128::MIN).to_be_bytes());
        }
        DataType::Float32 => {
            let bits = column.as_primitive::<Float32Type>().value(row).to_bits();
            let bits = if bits >> 31 == 1 { !bits } else { bits | 1 << 31 };
            out.extend_from_slice(&bits.to_be_bytes());
        }
        DataType::Float64 => {
            let bits = column.as_primitive::<Float64Type>().value(row).to_bits();
            let bits = if bits >> 63 == 1 { !bits } else { bits | 1 << 63 };
            out.extend_from_slice(&bits.to_be_bytes());
        }
        DataType::Utf8 => bytes(column.as_string::<i32>().value(row).as_bytes(), last, out),
        DataType::Binary => bytes(column.as_binary::<i32>().value(row), last, out),
        _ => return false,
    }
    true
}

fn signed(value: i32, out: &mut Vec<u8>) {
    out.extend_from_slice(&(value ^ i32::MIN).to_be_bytes());
}

fn signed_long(value: i64, out: &mut Vec<u8>) {
    out.extend_from_slice(&(value ^ i64::MIN).to_be_bytes());
}

/// Bytes of any length, such that shorter ones come first and what follows cannot be taken for a part of them. A zero stands as
/// 0, 255 and the end as 0, 1; the last ones need no end, but a beginning, as no bytes at all mean no key.
fn bytes(value: &[u8], last: bool, out: &mut Vec<u8>) {
    if last {
        out.push(1);
        out.extend_from_slice(value);
        return;
    }
    for &b in value {
        out.push(b);
        if b == 0 {
            out.push(255);
        }
    }
    out.extend_from_slice(&[0, 1]);
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow::array::{Float64Array, Int32Array, Int64Array, StringArray};
    use proptest::prelude::*;
    use std::sync::Arc;

    proptest! {
        #[test]
        fn keys_are_ordered_and_told_apart_as_values_are(
            rows in proptest::collection::vec((any::<i32>(), "[\\x00-\\x02a]{0,3}", any::<i64>(), "[\\x00-\\x02a]{0,3}"), 2..40),
        ) {
            let columns: Vec<ArrayRef> = vec![
                Arc::new(Int32Array::from(rows.iter().map(|r| r.0 % 3).collect::<Vec<_>>())),
                Arc::new(StringArray::from(rows.iter().map(|r| r.1.as_str()).collect::<Vec<_>>())),
                Arc::new(Int64Array::from(rows.iter().map(|r| r.2 % 3).collect::<Vec<_>>())),
                Arc::new(StringArray::from(rows.iter().map(|r| r.3.as_str()).collect::<Vec<_>>())),
            ];
            let keys = Keys::of_columns(&columns);
            let plain = |at: usize| (rows[at].0 % 3, rows[at].1.as_bytes(), rows[at].2 % 3, rows[at].3.as_bytes());
            for a in 0..rows.len() {
                for b in 0..rows.len() {
                    prop_assert_eq!(keys.get(a).cmp(keys.get(b)), plain(a).cmp(&plain(b)));
                }
            }
            let order = keys.order().unwrap_or_else(|| (0..rows.len() as u32).collect());
            prop_assert!(order.windows(2).all(|w| plain(w[0] as usize) <= plain(w[1] as usize)));
            let hashed = Keys::of_rows(&columns, rows.len());
            for at in 1..rows.len() {
                prop_assert_eq!(hashed.get(at) == hashed.get(0), plain(at) == plain(0));
            }
        }

        #[test]
        fn floats_ascend(a in any::<f64>(), b in any::<f64>()) {
            let keys = Keys::of_columns(&[Arc::new(Float64Array::from(vec![a, b]))]);
            prop_assert_eq!(keys.get(0).cmp(keys.get(1)), a.total_cmp(&b));
        }
    }

    #[test]
    fn a_row_that_lacks_a_part_of_its_key_has_none() {
        let keys = Keys::of_columns(&[
            Arc::new(Int32Array::from(vec![Some(1), None, Some(1)])) as ArrayRef,
            Arc::new(StringArray::from(vec![Some("a"), Some("a"), Some("")])),
        ]);
        assert_eq!(keys.iter().map(<[u8]>::len).collect::<Vec<_>>(), [6, 0, 5]);
        let rows = Keys::of_rows(&[Arc::new(StringArray::from(vec![Some(""), None])) as ArrayRef], 2);
        assert_ne!(rows.get(0), rows.get(1), "empty is not null");
    }
}

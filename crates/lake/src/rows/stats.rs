//! What the log says of a data file's values (protocol, "Per-file Statistics"), so that readers can skip files.

use arrow::array::{Array, ArrayRef, AsArray, RecordBatch};
use arrow::compute::{max, max_string, min, min_string};
use arrow::datatypes::{
    DataType, Date32Type, Decimal128Type, Int16Type, Int32Type, Int64Type, TimeUnit, TimestampMicrosecondType,
};
use chrono::DateTime;
use serde_json::{Map, Value, json};

/// The characters of a text that are told; the upper end is the next longer text.
const TEXT: usize = 32;
/// Columns that are told of at most: the first ones, as in other writers.
const COLUMNS: usize = 32;
const MICROS: i64 = 1000;

/// The least and the greatest value of columns so far, and how many are missing.
#[derive(Default)]
pub(crate) struct Stats {
    rows: u64,
    least: Map<String, Value>,
    greatest: Map<String, Value>,
    missing: Map<String, Value>,
}

impl Stats {
    /// Of the rows of a file.
    pub(crate) fn of(rows: &RecordBatch) -> Self {
        let mut stats = Self { rows: rows.num_rows() as u64, ..Self::default() };
        let schema = rows.schema();
        for (field, column) in schema.fields().iter().zip(rows.columns()).take(COLUMNS) {
            stats.missing.insert(field.name().clone(), column.null_count().into());
            if let Some((least, greatest)) = ends(column) {
                stats.least.insert(field.name().clone(), least);
                stats.greatest.insert(field.name().clone(), greatest);
            }
        }
        stats
    }

    /// As the log has it: `tight` while no row of the file is deleted.
    pub(crate) fn text(&self, tight: bool) -> String {
        let all = json!({
            "numRecords": self.rows,
            "minValues": self.least,
            "maxValues": self.greatest,
            "nullCount": self.missing,
            "tightBounds": tight,
        });
        all.to_string()
    }
}

/// The same statistics of a file some of whose rows are deleted by now; as they are, if they cannot be read.
pub(crate) fn loosened(stats: &str) -> String {
    match serde_json::from_str::<Map<String, Value>>(stats) {
        Ok(mut all) => {
            all.insert("tightBounds".into(), false.into());
            Value::Object(all).to_string()
        }
        Err(_) => stats.into(),
    }
}

/// How many rows statistics tell of.
pub(crate) fn rows_of(stats: &str) -> Option<u64> {
    serde_json::from_str::<Value>(stats).ok()?.get("numRecords")?.as_u64()
}

fn ends(column: &ArrayRef) -> Option<(Value, Value)> {
    macro_rules! both {
        ($of:ty, $value:expr) => {{
            let column = column.as_primitive::<$of>();
            Some(($value(min(column)?, false)?, $value(max(column)?, true)?))
        }};
    }
    match column.data_type() {
        DataType::Int16 => both!(Int16Type, |v: i16, _| Some(Value::from(v))),
        DataType::Int32 => both!(Int32Type, |v: i32, _| Some(Value::from(v))),
        DataType::Int64 => both!(Int64Type, |v: i64, _| Some(Value::from(v))),
        DataType::Date32 => both!(Date32Type, |v: i32, _| {
            Some(Value::from(
                DateTime::from_timestamp(i64::from(v) * 86_400, 0)?.format("%Y-%m-%d").to_string(),
            ))
        }),
        // Readers compare them with milliseconds: the ends are moved outwards to whole ones.
        DataType::Timestamp(TimeUnit::Microsecond, zone) => {
            let zone = if zone.is_some() { "Z" } else { "" };
            both!(TimestampMicrosecondType, |v: i64, upper: bool| {
                let up = i64::from(upper && v.rem_euclid(MICROS) != 0);
                let at = DateTime::from_timestamp_millis(v.div_euclid(MICROS) + up)?;
                Some(Value::from(format!("{}{zone}", at.format("%Y-%m-%dT%H:%M:%S%.3f"))))
            })
        }
        // A number of JSON has as many digits as a double for most readers: longer ones are not told.
        DataType::Decimal128(_, scale) => both!(Decimal128Type, |v: i128, _| {
            (v.unsigned_abs() < 1 << 53).then(|| Value::from(v as f64 / 10f64.powi((*scale).into())))
        }),
        DataType::Utf8 => {
            let column = column.as_string::<i32>();
            let (least, greatest) = (min_string(column)?, max_string(column)?);
            Some((cut(least).into(), above(greatest)?.into()))
        }
        _ => None,
    }
}

fn cut(text: &str) -> &str {
    text.char_indices().nth(TEXT).map_or(text, |(end, _)| &text[..end])
}

/// A text of so many characters at most that is not below this one; none if there is none.
fn above(text: &str) -> Option<String> {
    let begin = cut(text);
    if begin.len() == text.len() {
        return Some(text.into());
    }
    let mut chars: Vec<char> = begin.chars().collect();
    while let Some(last) = chars.pop() {
        let next = (u32::from(last) + 1..=0x10_FFFF).find_map(char::from_u32);
        if let Some(next) = next {
            chars.push(next);
            return Some(chars.into_iter().collect());
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow::array::{Date32Array, Decimal128Array, Int64Array, StringArray, TimestampMicrosecondArray};
    use std::sync::Arc;

    #[test]
    fn ends_enclose_all_values() {
        let long = "ä".repeat(40);
        let times = TimestampMicrosecondArray::from(vec![Some(-1), Some(1_500), None]).with_timezone("UTC");
        let rows = RecordBatch::try_from_iter([
            ("id", Arc::new(Int64Array::from(vec![3, i64::MIN, 9])) as ArrayRef),
            ("name", Arc::new(StringArray::from(vec![Some("b"), None, Some(long.as_str())]))),
            ("at", Arc::new(times)),
            ("day", Arc::new(Date32Array::from(vec![0, -1, 5]))),
            (
                "sum",
                Arc::new(Decimal128Array::from(vec![1250, -7, 3]).with_precision_and_scale(9, 2).unwrap()),
            ),
        ]);
        let text = Stats::of(&rows.unwrap()).text(true);
        let told: Value = serde_json::from_str(&text).unwrap();
        let both = |name: &str| (told["minValues"][name].clone(), told["maxValues"][name].clone());
        assert_eq!(both("id"), (i64::MIN.into(), 9.into()));
        assert_eq!(both("name"), ("b".into(), format!("{}å", "ä".repeat(31)).into()));
        assert_eq!(both("at"), ("1969-12-31T23:59:59.999Z".into(), "1970-01-01T00:00:00.002Z".into()));
        assert_eq!(both("day"), ("1969-12-31".into(), "1970-01-06".into()));
        assert_eq!(both("sum"), ((-0.07).into(), 12.5.into()));
        assert_eq!((told["nullCount"]["name"].clone(), rows_of(&text)), (1.into(), Some(3)));
        assert!(loosened(&text).contains("\"tightBounds\":false") && rows_of(&loosened(&text)) == Some(3));
        assert_eq!(loosened("{"), "{");
    }
}

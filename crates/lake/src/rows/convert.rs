//! Values on their way into data files and back: exactly, or not at all.

use crate::format::schema::LakeType;
use arrow::array::{
    Array, ArrayRef, AsArray, Date32Array, Decimal128Array, StringArray, StringBuilder,
    TimestampMicrosecondArray, new_null_array,
};
use arrow::compute::cast;
use arrow::datatypes::{DataType, Date32Type, Decimal128Type, TimeUnit, TimestampMicrosecondType};
use arrow::error::ArrowError;
use chrono::{DateTime, Datelike, NaiveDate};
use moorage_core::LogicalType;
use moorage_core::value::moment::Moment;
use std::sync::Arc;

/// A value that a column cannot hold exactly.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Unfit {
    /// Its row.
    pub(crate) row: usize,
    /// Why, in words.
    pub(crate) what: String,
}

/// Days from year 1 to 1970.
const EPOCH_DAY: i32 = 719_163;
const MICROS_A_DAY: i64 = 86_400_000_000;

/// A column of a batch as a data file holds it.
///
/// # Errors
/// With the first value that does not fit.
pub(crate) fn to_lake(column: &ArrayRef, of: LakeType) -> Result<ArrayRef, Unfit> {
    let Some(texts) = column.as_string_opt::<i32>() else { return Ok(column.clone()) };
    Ok(match of {
        LakeType::Decimal(precision, scale) => {
            let values = each(texts, |text| decimal(text, precision, scale))?;
            let values = Decimal128Array::from(values).with_precision_and_scale(precision, scale as i8);
            Arc::new(values.map_err(|e| Unfit { row: 0, what: e.to_string() })?)
        }
        LakeType::Date => Arc::new(Date32Array::from(each(texts, day)?)),
        LakeType::Timestamp => {
            Arc::new(TimestampMicrosecondArray::from(each(texts, instant)?).with_timezone("UTC"))
        }
        LakeType::TimestampNtz => Arc::new(TimestampMicrosecondArray::from(each(texts, moment)?)),
        _ => column.clone(),
    })
}

fn each<T>(texts: &StringArray, of: impl Fn(&str) -> Result<T, String>) -> Result<Vec<Option<T>>, Unfit> {
    let value = |(row, text): (usize, Option<&str>)| match text {
        None => Ok(None),
        Some(text) => of(text).map(Some).map_err(|what| Unfit { row, what }),
    };
    texts.iter().enumerate().map(value).collect()
}

/// A decimal number without its point, with so many digits behind where that was.
fn decimal(text: &str, precision: u8, scale: u8) -> Result<i128, String> {
    let unfit = || format!("{text} is no number of {precision} digits, {scale} of them behind the point");
    let (negative, digits) = match text.as_bytes() {
        [b'-', rest @ ..] => (true, rest),
        rest => (false, rest.strip_prefix(b"+").unwrap_or(rest)),
    };
    let (mut value, mut behind, mut any) = (0i128, None, false);
    for &b in digits {
        match (b, behind) {
            (b'.', None) => behind = Some(0u8),
            (b'0', Some(places)) if places == scale => any = true,
            (b'0'..=b'9', places) if places.is_none_or(|places| places < scale) => {
                any = true;
                let ten = value.checked_mul(10).and_then(|v| v.checked_add(i128::from(b - b'0')));
                value = ten.ok_or_else(unfit)?;
                behind = places.map(|places| places + 1);
            }
            _ => return Err(unfit()),
        }
    }
    let missing = u32::from(scale - behind.unwrap_or(0));
    let value = 10i128.checked_pow(missing).and_then(|ten| value.checked_mul(ten));
    // 10 to the 38th is the largest power of ten that there is room for.
    let value = value.filter(|v| any && *v < 10i128.pow(u32::from(precision))).ok_or_else(unfit)?;
    Ok(if negative { -value } else { value })
}

/// So many ASCII digits as a number.
fn number(bytes: &[u8]) -> Option<u32> {
    bytes.iter().try_fold(0, |n, b| b.is_ascii_digit().then(|| n * 10 + u32::from(b - b'0')))
}

/// Days since 1970, of years 1 to 9999.
fn day(text: &str) -> Result<i32, String> {
    let parse = |bytes: &[u8]| {
        let [y0, y1, y2, y3, b'-', m0, m1, b'-', d0, d1] = bytes else { return None };
        let date = NaiveDate::from_ymd_opt(
            number(&[*y0, *y1, *y2, *y3])? as i32,
            number(&[*m0, *m1])?,
            number(&[*d0, *d1])?,
        )?;
        (date.year() > 0).then(|| date.num_days_from_ce() - EPOCH_DAY)
    };
    parse(text.as_bytes()).ok_or_else(|| format!("{text} is no date of the years 1 to 9999"))
}

/// Microseconds since midnight.
fn time(bytes: &[u8]) -> Option<i64> {
    let (clock, rest) = bytes.split_at_checked(8)?;
    let [h0, h1, b':', m0, m1, b':', s0, s1] = clock else { return None };
    let (hour, minute, second) = (number(&[*h0, *h1])?, number(&[*m0, *m1])?, number(&[*s0, *s1])?);
    let micros = match rest {
        [] => 0,
        [b'.', digits @ ..] => {
            // What is finer than a microsecond would be lost.
            let (micros, finer) = digits.split_at(digits.len().min(6));
            if micros.is_empty() || finer.iter().any(|&b| b != b'0') {
                return None;
            }
            number(micros)? * 10u32.pow(6 - micros.len() as u32)
        }
        _ => return None,
    };
    let fits = hour < 24 && minute < 60 && second < 60;
    fits.then(|| {
        (i64::from(hour) * 3600 + i64::from(minute) * 60 + i64::from(second)) * 1_000_000 + i64::from(micros)
    })
}

/// Microseconds since 1970, of a date and a time without zone.
fn moment(text: &str) -> Result<i64, String> {
    let parse = || {
        let (date, rest) = text.split_at_checked(10)?;
        let days = day(date).ok()?;
        Some(i64::from(days) * MICROS_A_DAY + time(rest.strip_prefix(' ')?.as_bytes())?)
    };
    parse().ok_or_else(|| format!("{text} is no time of the years 1 to 9999 in microseconds"))
}

/// Microseconds since 1970 UTC, of an instant.
fn instant(text: &str) -> Result<i64, String> {
    if let Some(utc) = text.strip_suffix("+00:00") {
        return moment(utc).map_err(|_| format!("{text} is no time of the years 1 to 9999 in microseconds"));
    }
    let at = DateTime::parse_from_str(text, "%Y-%m-%d %H:%M:%S%.f%:z").ok().map(|at| at.to_utc());
    let at = at.filter(|at| (1..=9999).contains(&at.year()) && at.timestamp_subsec_nanos() % 1000 == 0);
    at.map(|at| at.timestamp_micros())
        .ok_or_else(|| format!("{text} is no time of the years 1 to 9999 in microseconds"))
}

/// A column of a data file as values of a logical type, in its canonical form.
///
/// # Errors
/// If its values are of a type from which there is no way.
pub(crate) fn from_lake(column: &ArrayRef, logical: &LogicalType) -> Result<ArrayRef, ArrowError> {
    let base = logical.base();
    if column.data_type() == &base {
        return Ok(column.clone());
    }
    if base != DataType::Utf8 {
        return cast(column, &base);
    }
    match column.data_type() {
        DataType::Null => Ok(new_null_array(&base, column.len())),
        DataType::Decimal128(_, scale) => {
            let (values, scale) = (column.as_primitive::<Decimal128Type>(), *scale);
            Ok(texts(values.iter(), |value| decimal_text(value, scale)))
        }
        DataType::Date32 => Ok(texts(column.as_primitive::<Date32Type>().iter(), day_text)),
        DataType::Timestamp(TimeUnit::Microsecond, zone) => {
            let zoned = zone.is_some();
            let values = column.as_primitive::<TimestampMicrosecondType>();
            Ok(texts(values.iter(), |value| time_text(value, zoned)))
        }
        _ => cast(column, &base),
    }
}

fn texts<T>(values: impl Iterator<Item = Option<T>>, text: impl Fn(T) -> String) -> ArrayRef {
    let mut out = StringBuilder::new();
    values.for_each(|value| out.append_option(value.map(&text)));
    Arc::new(out.finish())
}

fn decimal_text(value: i128, scale: i8) -> String {
    let (sign, digits) = (if value < 0 { "-" } else { "" }, value.unsigned_abs().to_string());
    let scale = usize::try_from(scale).unwrap_or(0);
    if scale == 0 {
        return format!("{sign}{digits}");
    }
    let digits = format!("{digits:0>width$}", width = scale + 1);
    let (whole, behind) = digits.split_at(digits.len() - scale);
    format!("{sign}{whole}.{behind}")
}

fn day_text(day: i32) -> String {
    let date = day.checked_add(EPOCH_DAY).and_then(NaiveDate::from_num_days_from_ce_opt);
    date.map_or_else(|| format!("day {day}"), |date| date.format("%Y-%m-%d").to_string())
}

fn time_text(micros: i64, zoned: bool) -> String {
    let Some(time) = DateTime::from_timestamp_micros(micros) else { return format!("microsecond {micros}") };
    let text = Moment::of(time).to_string();
    match (zoned, text.strip_suffix("+00:00")) {
        (false, Some(plain)) => plain.to_string(),
        _ => text,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use moorage_core::value::canonical::same;
    use moorage_core::value::column::value_at;
    use proptest::prelude::*;
    use rstest::rstest;

    fn there(text: &str, of: LakeType) -> Result<ArrayRef, Unfit> {
        to_lake(&(Arc::new(StringArray::from(vec![text])) as ArrayRef), of)
    }

    fn logical(of: LakeType) -> LogicalType {
        match of {
            LakeType::Decimal(precision, scale) => {
                LogicalType::Decimal { precision: Some(precision.into()), scale: Some(scale.into()) }
            }
            LakeType::Date => LogicalType::Date,
            LakeType::Timestamp => LogicalType::TimestampTz,
            _ => LogicalType::Timestamp,
        }
    }

    const CENTS: LakeType = LakeType::Decimal(6, 2);

    #[rstest]
    #[case(CENTS, "12.5", "12.50")]
    #[case(CENTS, "-0.07", "-0.07")]
    #[case(CENTS, "9999.99", "9999.99")]
    #[case(CENTS, "+1.5000", "1.50")]
    #[case(
        LakeType::Decimal(38, 0),
        "99999999999999999999999999999999999999",
        "99999999999999999999999999999999999999"
    )]
    #[case(
        LakeType::Decimal(38, 38),
        "-0.00000000000000000000000000000000000001",
        "-0.00000000000000000000000000000000000001"
    )]
    #[case(LakeType::Date, "0001-01-01", "0001-01-01")]
    #[case(LakeType::Date, "9999-12-31", "9999-12-31")]
    #[case(LakeType::Timestamp, "2026-06-01 06:00:00.5+00:00", "2026-06-01 06:00:00.5+00:00")]
    #[case(LakeType::Timestamp, "2026-06-01 08:00:00+02:00", "2026-06-01 06:00:00+00:00")]
    #[case(LakeType::TimestampNtz, "1969-12-31 23:59:59.999999", "1969-12-31 23:59:59.999999")]
    fn values_go_there_and_back(#[case] of: LakeType, #[case] text: &str, #[case] expected: &str) {
        let back = from_lake(&there(text, of).unwrap(), &logical(of)).unwrap();
        assert_eq!(back.as_string::<i32>().value(0), expected);
    }

    #[rstest]
    #[case(CENTS, "10000.00")]
    #[case(CENTS, "1.234")]
    #[case(CENTS, "NaN")]
    #[case(CENTS, "-")]
    #[case(CENTS, "1.2.3")]
    #[case(CENTS, "99999999999999999999999999999999999999999999")]
    #[case(LakeType::Date, "infinity")]
    #[case(LakeType::Date, "0044-03-15 BC")]
    #[case(LakeType::Date, "10000-01-01")]
    #[case(LakeType::Date, "2026-02-30")]
    #[case(LakeType::Timestamp, "-infinity")]
    #[case(LakeType::Timestamp, "294276-06-01 06:00:00+00:00")]
    #[case(LakeType::TimestampNtz, "2026-06-01 06:00:00.1234567")]
    #[case(LakeType::TimestampNtz, "2026-06-01 24:00:00")]
    #[case(LakeType::TimestampNtz, "ä026-06-01 06:00:00")]
    fn what_does_not_fit_is_named(#[case] of: LakeType, #[case] text: &str) {
        assert!(there(text, of).unwrap_err().what.starts_with(text));
    }

    proptest! {
        #[test]
        fn no_text_is_taken_for_another_value(text in "[-+0-9.: ]{0,30}|[0-9]{4}-[01][0-9]-[0-3][0-9]( [0-2][0-9]:[0-5][0-9]:[0-5][0-9](\\.[0-9]{1,7})?(\\+00:00)?)?") {
            for of in [CENTS, LakeType::Decimal(38, 7), LakeType::Date, LakeType::Timestamp, LakeType::TimestampNtz] {
                if let Ok(column) = there(&text, of) {
                    let (logical, before) = (logical(of), StringArray::from(vec![text.as_str()]));
                    let back = from_lake(&column, &logical).unwrap();
                    prop_assert!(same(&logical, value_at(&before, 0), value_at(back.as_ref(), 0)), "{} {}", of, back.as_string::<i32>().value(0));
                }
            }
        }
    }
}

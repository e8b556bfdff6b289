//! Values in the server's binary form (PostgreSQL manual, page COPY, section "Binary Format"; the forms of the
//! types are those of their `send` functions in the server's sources).

use moorage_core::LogicalType;
use moorage_core::value::column::Value;

/// The binary form of a column's type.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Form {
    Bool,
    Int16,
    Int32,
    Int64,
    Float32,
    Float64,
    Text,
    Bytes,
    Jsonb,
    Uuid,
    Date,
    Time,
    Timestamp,
    Numeric,
}

impl Form {
    /// The form in which a column of the server's type `id` takes values of `logical`, if there is one here.
    pub(crate) fn of(logical: &LogicalType, id: u32) -> Option<Self> {
        use LogicalType as L;
        Some(match (id, logical) {
            (16, L::Bool) => Self::Bool,
            (21, L::Int16) => Self::Int16,
            (23, L::Int16 | L::Int32) => Self::Int32,
            (20, L::Int16 | L::Int32 | L::Int64) => Self::Int64,
            (700, L::Float32) => Self::Float32,
            (701, L::Float32 | L::Float64) => Self::Float64,
            (25 | 1043, L::Text | L::Json | L::Other { .. }) | (114, L::Json) => Self::Text,
            (17, L::Bytes) => Self::Bytes,
            (3802, L::Json) => Self::Jsonb,
            (2950, L::Uuid) => Self::Uuid,
            (1082, L::Date) => Self::Date,
            (1083, L::Time) => Self::Time,
            (1114, L::Timestamp) | (1184, L::TimestampTz) => Self::Timestamp,
            (1700, L::Decimal { .. }) => Self::Numeric,
            _ => return None,
        })
    }

    /// Appends a value with its length before it; `None`, and an unfinished value appended, if it has no such form.
    pub(crate) fn put(self, out: &mut Vec<u8>, value: Value<'_>) -> Option<()> {
        if let Value::Null = value {
            out.extend_from_slice(&(-1i32).to_be_bytes());
            return Some(());
        }
        let at = out.len();
        out.extend_from_slice(&[0; 4]);
        match (self, value) {
            (Self::Bool, Value::Bool(b)) => out.push(b.into()),
            (Self::Int16, Value::Int(i)) => out.extend_from_slice(&i16::try_from(i).ok()?.to_be_bytes()),
            (Self::Int32, Value::Int(i)) => out.extend_from_slice(&i32::try_from(i).ok()?.to_be_bytes()),
            (Self::Int64, Value::Int(i)) => out.extend_from_slice(&i.to_be_bytes()),
            (Self::Float32, Value::Float32(f)) => out.extend_from_slice(&f.to_be_bytes()),
            // The double whose text is the single's, which is what the server itself would store for the text.
            (Self::Float64, Value::Float32(f)) => {
                out.extend_from_slice(&f.to_string().parse::<f64>().ok()?.to_be_bytes());
            }
            (Self::Float64, Value::Float64(f)) => out.extend_from_slice(&f.to_be_bytes()),
            (Self::Text, Value::Text(t)) => out.extend_from_slice(t.as_bytes()),
            (Self::Bytes, Value::Bytes(b)) => out.extend_from_slice(b),
            (Self::Jsonb, Value::Text(t)) => {
                out.push(1);
                out.extend_from_slice(t.as_bytes());
            }
            (Self::Uuid, Value::Text(t)) => out.extend_from_slice(uuid::Uuid::parse_str(t).ok()?.as_bytes()),
            (Self::Date, Value::Text(t)) => out.extend_from_slice(&date(t)?.to_be_bytes()),
            (Self::Time, Value::Text(t)) => out.extend_from_slice(&time(t)?.to_be_bytes()),
            (Self::Timestamp, Value::Text(t)) => out.extend_from_slice(&timestamp(t)?.to_be_bytes()),
            (Self::Numeric, Value::Text(t)) => numeric(t, out)?,
            _ => return None,
        }
        let length = i32::try_from(out.len() - at - 4).ok()?;
        out[at..at + 4].copy_from_slice(&length.to_be_bytes());
        Some(())
    }
}

const DAY_US: i64 = 86_400_000_000;

fn digits(text: &str) -> Option<i64> {
    let all = !text.is_empty() && text.len() < 12 && text.bytes().all(|b| b.is_ascii_digit());
    all.then(|| text.bytes().fold(0, |n, b| n * 10 + i64::from(b - b'0')))
}

/// Days from 2000-01-01 to a day of the proleptic Gregorian calendar, by Howard Hinnant's `days_from_civil`
/// (<https://howardhinnant.github.io/date_algorithms.html>). Year 0 is 1 BC.
fn days(year: i64, month: i64, day: i64) -> i64 {
    let y = if month <= 2 { year - 1 } else { year };
    let era = y.div_euclid(400);
    let year_of_era = y - era * 400;
    let day_of_year = (153 * (month + if month > 2 { -3 } else { 9 }) + 2) / 5 + day - 1;
    let day_of_era = year_of_era * 365 + year_of_era / 4 - year_of_era / 100 + day_of_year;
    era * 146_097 + day_of_era - 719_468 - 10_957
}

/// `YYYY-MM-DD` as days; `bc` if the text had that behind it.
fn day(text: &str, bc: bool) -> Option<i64> {
    let (year, rest) = text.split_once('-')?;
    let (month, day) = rest.split_once('-')?;
    let (year, month, day) = (digits(year)?, digits(month)?, digits(day)?);
    let fits = (1..=12).contains(&month) && (1..=31).contains(&day);
    fits.then(|| days(if bc { 1 - year } else { year }, month, day))
}

fn without_bc(text: &str) -> (&str, bool) {
    text.strip_suffix(" BC").map_or((text, false), |t| (t, true))
}

fn date(text: &str) -> Option<i32> {
    match text {
        "infinity" => Some(i32::MAX),
        "-infinity" => Some(i32::MIN),
        _ => {
            let (text, bc) = without_bc(text);
            i32::try_from(day(text, bc)?).ok()
        }
    }
}

/// `HH:MM:SS[.ffffff]` as microseconds.
fn time(text: &str) -> Option<i64> {
    let bytes = text.as_bytes();
    if bytes.len() < 8 || bytes[2] != b':' || bytes[5] != b':' {
        return None;
    }
    let (hours, minutes, seconds) =
        (digits(text.get(..2)?)?, digits(text.get(3..5)?)?, digits(text.get(6..8)?)?);
    let fraction = match text.get(8..)? {
        "" => 0,
        rest => {
            let fraction = rest.strip_prefix('.')?;
            (fraction.len() <= 6).then_some(())?;
            digits(fraction)? * 10i64.pow(6 - fraction.len() as u32)
        }
    };
    Some(((hours * 60 + minutes) * 60 + seconds) * 1_000_000 + fraction)
}

/// A timestamp, with or without `+00:00`, as microseconds since 2000.
fn timestamp(text: &str) -> Option<i64> {
    match text {
        "infinity" => Some(i64::MAX),
        "-infinity" => Some(i64::MIN),
        _ => {
            let (text, bc) = without_bc(text);
            let (date, clock) = text.split_once(' ')?;
            let clock = clock.strip_suffix("+00:00").unwrap_or(clock);
            day(date, bc)?.checked_mul(DAY_US)?.checked_add(time(clock)?)
        }
    }
}

/// Digits in base 10,000 with weight, sign and scale (`numeric_send` in `numeric.c`).
fn numeric(text: &str, out: &mut Vec<u8>) -> Option<()> {
    let put = |out: &mut Vec<u8>, values: [u16; 4]| {
        values.into_iter().for_each(|v| out.extend_from_slice(&v.to_be_bytes()));
    };
    let special = match text {
        "NaN" => Some(0xC000),
        "Infinity" => Some(0xD000),
        "-Infinity" => Some(0xF000),
        _ => None,
    };
    if let Some(sign) = special {
        put(out, [0, 0, sign, 0]);
        return Some(());
    }
    let (negative, text) = text.strip_prefix('-').map_or((false, text), |t| (true, t));
    let (whole, fraction) = text.split_once('.').unwrap_or((text, ""));
    let plain = |t: &str| t.bytes().all(|b| b.is_ascii_digit());
    if (whole.is_empty() && fraction.is_empty()) || !plain(whole) || !plain(fraction) {
        return None;
    }
    let scale = u16::try_from(fraction.len()).ok()?;
    let header = out.len();
    put(out, [0; 4]);
    let whole = whole.trim_start_matches('0').as_bytes();
    let mut weight = whole.len().div_ceil(4) as i64 - 1;
    let mut count = 0u16;
    let mut group = |bytes: &[u8], shift: usize| {
        let value = bytes.iter().fold(0u16, |n, b| n * 10 + u16::from(b - b'0')) * 10u16.pow(shift as u32);
        // Zeros at the front are not written.
        if value == 0 && count == 0 {
            weight -= 1;
        } else {
            out.extend_from_slice(&value.to_be_bytes());
            count += 1;
        }
    };
    let first = whole.len() % 4;
    if first > 0 {
        group(&whole[..first], 0);
    }
    whole[first..].chunks(4).for_each(|g| group(g, 0));
    fraction.as_bytes().chunks(4).for_each(|g| group(g, 4 - g.len()));
    // Neither are zeros at the end.
    while count > 0 && out.ends_with(&[0, 0]) {
        out.truncate(out.len() - 2);
        count -= 1;
    }
    let weight = if count == 0 { 0 } else { i16::try_from(weight).ok()? };
    let sign = if negative && count > 0 { 0x4000 } else { 0 };
    for (at, value) in [count, weight as u16, sign, scale].into_iter().enumerate() {
        out[header + at * 2..header + at * 2 + 2].copy_from_slice(&value.to_be_bytes());
    }
    Some(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("2000-01-01 00:00:00", 0)]
    #[case("1999-12-31 23:59:59.5+00:00", -500_000)]
    #[case("2024-02-29 00:00:00.000001", 762_480_000_000_001)]
    #[case("0001-01-01 00:00:00 BC", -63_113_904_000_000_000)]
    fn times_count_from_2000(#[case] text: &str, #[case] expected: i64) {
        assert_eq!(timestamp(text), Some(expected));
    }

    #[rstest]
    #[case("2026-06-01T00:00:00")]
    #[case("soon")]
    #[case("2026-06-01 06:00")]
    fn what_is_no_time_has_no_form(#[case] text: &str) {
        assert_eq!(timestamp(text), None);
    }

    #[rstest]
    #[case("0", &[0, 0, 0, 0])]
    #[case("12345.678", &[3, 1, 0, 3, 1, 2345, 6780])]
    #[case("-0.00012", &[2, 0xFFFF, 0x4000, 5, 1, 2000])]
    #[case("10000", &[1, 1, 0, 0, 1])]
    #[case("NaN", &[0, 0, 0xC000, 0])]
    fn decimals_are_groups_of_four_digits(#[case] text: &str, #[case] expected: &[u16]) {
        let mut out = Vec::new();
        numeric(text, &mut out).unwrap();
        let found: Vec<u16> = out.chunks(2).map(|p| u16::from_be_bytes([p[0], p[1]])).collect();
        assert_eq!(found, expected);
    }
}

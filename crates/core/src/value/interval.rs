//! Intervals, as ISO 8601 durations whose parts have signs.

/// How long an interval is, in microseconds, where a month has 30 days and a day 24 hours: so PostgreSQL compares them (manual,
/// 8.5.4 and 9.9). None if the text is no interval, or one beyond all measure.
pub fn length(text: &str) -> Option<i128> {
    const SECOND: i128 = 1_000_000;
    const DAY: i128 = 86_400 * SECOND;
    let (days, time) = text.strip_prefix('P')?.split_once('T').unwrap_or((text.strip_prefix('P')?, ""));
    let of = |unit| match unit {
        'Y' => Some(360 * DAY),
        'M' => Some(30 * DAY),
        'W' => Some(7 * DAY),
        'D' => Some(DAY),
        _ => None,
    };
    let of_time = |unit| match unit {
        'H' => Some(3600 * SECOND),
        'M' => Some(60 * SECOND),
        'S' => Some(SECOND),
        _ => None,
    };
    sum(days, of)?.checked_add(sum(time, of_time)?)
}

/// The sum of parts, each a number in front of its unit.
fn sum(mut parts: &str, of: impl Fn(char) -> Option<i128>) -> Option<i128> {
    let mut total = 0_i128;
    while let Some(end) = parts.find(|c: char| c.is_ascii_alphabetic()) {
        let unit = of(parts[end..].chars().next()?)?;
        total = total.checked_add(micros(&parts[..end], unit)?)?;
        parts = &parts[end + 1..];
    }
    parts.is_empty().then_some(total)
}

/// A number with at most six decimal places, times a unit.
fn micros(number: &str, unit: i128) -> Option<i128> {
    let (whole, fraction) = number.split_once('.').unwrap_or((number, ""));
    if fraction.len() > 6 || !fraction.bytes().all(|b| b.is_ascii_digit()) {
        return None;
    }
    let whole_units = whole.parse::<i128>().ok()?.checked_mul(unit)?;
    let millionths: i128 = format!("{fraction:0<6}").parse().ok()?;
    let rest = millionths.checked_mul(unit)? / 1_000_000;
    whole_units.checked_add(if whole.starts_with('-') { -rest } else { rest })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[rstest::rstest]
    #[case("P1M", "P30D", true)]
    #[case("P1Y", "P12M", true)]
    #[case("P30D", "PT720H", true)]
    #[case("P1DT-24H", "PT0S", true)]
    #[case("PT-0.5S", "PT-0.500000S", true)]
    #[case("PT-1M", "PT-60S", true)]
    #[case("PT-0.5S", "PT0.5S", false)]
    #[case("P1M", "PT1M", false)]
    fn intervals_are_as_long_as_their_parts(#[case] one: &str, #[case] other: &str, #[case] equal: bool) {
        assert_eq!(length(one).unwrap() == length(other).unwrap(), equal);
    }

    #[rstest::rstest]
    #[case("")]
    #[case("1 mon")]
    #[case("P1")]
    #[case("PM")]
    #[case("P1H")]
    #[case("PT1.1234567S")]
    #[case("P99999999999999999999999999999999999999Y")]
    fn what_is_no_interval_has_no_length(#[case] text: &str) {
        assert_eq!(length(text), None);
    }
}

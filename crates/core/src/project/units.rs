//! Durations and sizes, as people write them.

use std::time::Duration;

/// The longest duration: ten years.
const LONGEST: Duration = Duration::from_secs(10 * 366 * 24 * 3600);

/// Reads a duration: a whole number and one of `ms`, `s`, `m`, `h`, `d`; at most ten years.
pub fn parse_duration(text: &str) -> Option<Duration> {
    let text = text.trim();
    let at = text.find(|c: char| !c.is_ascii_digit())?;
    let number: u64 = text[..at].parse().ok()?;
    let found = match text[at..].trim() {
        "ms" => Duration::from_millis(number),
        "s" => Duration::from_secs(number),
        "m" => Duration::from_secs(number.checked_mul(60)?),
        "h" => Duration::from_secs(number.checked_mul(3600)?),
        "d" => Duration::from_secs(number.checked_mul(24 * 3600)?),
        _ => return None,
    };
    // Clocks cannot count for ever.
    (found <= LONGEST).then_some(found)
}

/// Reads a size: a whole number and one of `KiB`, `MiB`, `GiB`.
pub fn parse_size(text: &str) -> Option<u64> {
    let text = text.trim();
    let at = text.find(|c: char| !c.is_ascii_digit())?;
    let number: u64 = text[..at].parse().ok()?;
    let shift = match text[at..].trim() {
        "KiB" => 10,
        "MiB" => 20,
        "GiB" => 30,
        _ => return None,
    };
    number.checked_mul(1 << shift)
}

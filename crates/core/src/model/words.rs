//! Numbers, sizes and times as people read them.

/// `1,204,331`
pub fn number(n: u64) -> String {
    let digits = n.to_string();
    let mut out = String::with_capacity(digits.len() + digits.len() / 3);
    for (i, digit) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

/// `1 merge`, `1,204 merges`
pub fn counted(n: u64, one: &str) -> String {
    let s = if n == 1 { "" } else { "s" };
    format!("{} {one}{s}", number(n))
}

/// `3.4 MiB`
pub fn size(bytes: u64) -> String {
    const UNITS: [&str; 5] = ["B", "KiB", "MiB", "GiB", "TiB"];
    let mut value = bytes as f64;
    let mut unit = 0;
    while value >= 1024.0 && unit + 1 < UNITS.len() {
        value /= 1024.0;
        unit += 1;
    }
    if unit == 0 { format!("{bytes} B") } else { format!("{value:.1} {}", UNITS[unit]) }
}

/// `340 ms`, `12.3 s`, `4 min 10 s`, `2 h 5 min`
pub fn span(ms: u64) -> String {
    match ms {
        0..1000 => format!("{ms} ms"),
        1000..120_000 => format!("{:.1} s", ms as f64 / 1000.0),
        120_000..7_200_000 => format!("{} min {} s", ms / 60_000, ms / 1000 % 60),
        _ => format!("{} h {} min", ms / 3_600_000, ms / 60_000 % 60),
    }
}

/// A whole time, as it is set: `500 ms`, `30 s`, `5 min`, `4 h`.
pub fn set_span(ms: u64) -> String {
    match ms {
        _ if !ms.is_multiple_of(1000) => format!("{ms} ms"),
        _ if ms == 0 || !ms.is_multiple_of(60_000) => format!("{} s", ms / 1000),
        _ if !ms.is_multiple_of(3_600_000) => format!("{} min", ms / 60_000),
        _ => format!("{} h", ms / 3_600_000),
    }
}

/// `340 µs`, `7.4 ms`, and from a second on as [`span`].
pub fn micros(us: u64) -> String {
    match us {
        0..1000 => format!("{us} µs"),
        1000..100_000 => format!("{:.1} ms", us as f64 / 1000.0),
        _ => span(us / 1000),
    }
}

/// A number not below this one that is 1, 2 or 5 times a power of ten.
pub fn round_up(value: f64) -> f64 {
    let power = 10_f64.powf(value.max(1e-6).log10().floor());
    [1.0, 2.0, 5.0, 10.0].into_iter().map(|of| of * power).find(|round| *round >= value).unwrap_or(value)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_sizes_and_spans_are_for_people() {
        assert_eq!((number(7), number(1_204_331)), ("7".into(), "1,204,331".into()));
        assert_eq!((size(900), size(3_565_158)), ("900 B".into(), "3.4 MiB".into()));
        assert_eq!(
            [span(340), span(12_300), span(250_000), span(7_500_000)],
            ["340 ms", "12.3 s", "4 min 10 s", "2 h 5 min"]
        );
    }
}

//! Exact decimal numbers of any length, as text: their value, order and size.

use std::cmp::Ordering;

/// A decimal number taken apart: `0.DIGITS × 10^exponent`, without zeros at either end of the digits.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Decimal<'a> {
    negative: bool,
    /// The digits before the point (without leading zeros), then those behind it.
    whole: &'a str,
    fraction: &'a str,
    exponent: i64,
}

/// What a decimal's text can be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Number<'a> {
    /// A finite number.
    Finite(Decimal<'a>),
    /// Not a number.
    NaN,
    /// Infinity, and whether it is the negative one.
    Infinite(bool),
}

/// Reads `[-+]digits[.digits][e[-+]digits]`, `NaN`, `Infinity` or `-Infinity`.
pub fn parse(text: &str) -> Option<Number<'_>> {
    match text {
        "NaN" => return Some(Number::NaN),
        "Infinity" => return Some(Number::Infinite(false)),
        "-Infinity" => return Some(Number::Infinite(true)),
        _ => {}
    }
    let (negative, rest) = match text.strip_prefix('-') {
        Some(rest) => (true, rest),
        None => (false, text.strip_prefix('+').unwrap_or(text)),
    };
    let (number, power) = match rest.split_once(['e', 'E']) {
        Some((number, power)) => (number, power.parse::<i64>().ok()?),
        None => (rest, 0),
    };
    let (whole, fraction) = number.split_once('.').unwrap_or((number, ""));
    let digits = |t: &str| t.bytes().all(|b| b.is_ascii_digit());
    if whole.len() + fraction.len() == 0 || !digits(whole) || !digits(fraction) {
        return None;
    }
    let whole = whole.trim_start_matches('0');
    let fraction = fraction.trim_end_matches('0');
    let mut exponent = i64::try_from(whole.len()).ok()?.checked_add(power)?;
    let (mut w, mut f) = (whole, fraction);
    if w.is_empty() {
        let kept = f.trim_start_matches('0');
        exponent -= (f.len() - kept.len()) as i64;
        f = kept;
    }
    if f.is_empty() {
        w = w.trim_end_matches('0');
    }
    if w.is_empty() && f.is_empty() {
        return Some(Number::Finite(Decimal { negative: false, whole: "", fraction: "", exponent: 0 }));
    }
    Some(Number::Finite(Decimal { negative, whole: w, fraction: f, exponent }))
}

/// The most digits of a number that is computed with, on both sides of the point: more than any database keeps.
pub const MOST_DIGITS: u64 = 200_000;

impl Decimal<'_> {
    /// Whether it can be written out with at most [`MOST_DIGITS`] digits.
    pub fn has_room(&self) -> bool {
        let digits = (self.whole.len() + self.fraction.len()) as u64;
        digits + self.exponent.unsigned_abs() <= MOST_DIGITS
    }

    fn digits(&self) -> impl Iterator<Item = u8> {
        self.whole.bytes().chain(self.fraction.bytes())
    }

    fn sign(&self) -> i8 {
        match (self.whole.is_empty() && self.fraction.is_empty(), self.negative) {
            (true, _) => 0,
            (false, true) => -1,
            (false, false) => 1,
        }
    }

    /// Whether `precision` digits, `scale` of them behind the point, hold it exactly.
    pub fn fits(&self, precision: i64, scale: i64) -> bool {
        let count = self.digits().count() as i64;
        count == 0 || (count - self.exponent <= scale && self.exponent <= precision - scale)
    }

    /// The same text for the same value.
    fn write_normal(&self, out: &mut String) {
        if self.negative {
            out.push('-');
        }
        out.extend(self.digits().map(char::from));
        out.push('e');
        out.push_str(&self.exponent.to_string());
    }
}

fn compare_finite(a: &Decimal<'_>, b: &Decimal<'_>) -> Ordering {
    let by_sign = a.sign().cmp(&b.sign());
    if by_sign != Ordering::Equal || a.sign() == 0 {
        return by_sign;
    }
    let size = a.exponent.cmp(&b.exponent).then_with(|| a.digits().cmp(b.digits()));
    if a.negative { size.reverse() } else { size }
}

/// Orders by value: negative infinity, finite numbers, infinity, then NaN, which is equal to itself.
pub fn compare(a: &Number<'_>, b: &Number<'_>) -> Ordering {
    let class = |n: &Number<'_>| match n {
        Number::Infinite(true) => 0,
        Number::Finite(_) => 1,
        Number::Infinite(false) => 2,
        Number::NaN => 3,
    };
    match (a, b) {
        (Number::Finite(a), Number::Finite(b)) => compare_finite(a, b),
        _ => class(a).cmp(&class(b)),
    }
}

/// The same text for the same value; a text that is no number as it is.
pub fn normal(text: &str) -> String {
    match parse(text) {
        Some(Number::Finite(decimal)) => {
            let mut out = String::with_capacity(text.len() + 4);
            decimal.write_normal(&mut out);
            out
        }
        _ => text.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[rstest::rstest]
    #[case("1.50", "1.5", Ordering::Equal)]
    #[case("-0.00", "0", Ordering::Equal)]
    #[case("1e3", "1000", Ordering::Equal)]
    #[case("0.0012", "12e-4", Ordering::Equal)]
    #[case("100", "20", Ordering::Greater)]
    #[case("-100", "-20", Ordering::Less)]
    #[case("0.09", "0.1", Ordering::Less)]
    #[case("Infinity", "9e999", Ordering::Greater)]
    #[case("NaN", "Infinity", Ordering::Greater)]
    #[case("-Infinity", "-9e999", Ordering::Less)]
    fn decimals_compare_by_value(#[case] a: &str, #[case] b: &str, #[case] expected: Ordering) {
        assert_eq!(compare(&parse(a).unwrap(), &parse(b).unwrap()), expected);
        assert_eq!(normal(a) == normal(b), expected == Ordering::Equal);
    }

    #[rstest::rstest]
    #[case("12.34", 4, 2, true)]
    #[case("12.345", 10, 2, false)]
    #[case("123.4", 4, 2, false)]
    #[case("1200", 2, -2, true)]
    fn a_decimal_fits_its_declaration_or_not(
        #[case] text: &str,
        #[case] p: i64,
        #[case] s: i64,
        #[case] fits: bool,
    ) {
        let Some(Number::Finite(decimal)) = parse(text) else { panic!("a number") };
        assert_eq!(decimal.fits(p, s), fits);
    }

    #[test]
    fn what_is_no_number_is_refused() {
        for text in ["", ".", "-", "1.2.3", "1e", "0x1", "1 "] {
            assert_eq!(parse(text), None, "{text}");
        }
    }

    proptest! {
        #[test]
        fn order_is_that_of_integers(a in -10_000_000i64..10_000_000, b in -10_000_000i64..10_000_000, scale in 0u32..6) {
            let text = |n: i64| {
                let ten = 10i64.pow(scale);
                format!("{}{}.{:0width$}", if n < 0 { "-" } else { "" }, n.abs() / ten, n.abs() % ten, width = scale as usize)
            };
            let (ta, tb) = (text(a), text(b));
            prop_assert_eq!(compare(&parse(&ta).unwrap(), &parse(&tb).unwrap()), a.cmp(&b));
        }
    }
}

//! How samples are thinned with age.
//!
//! Each tier has stretches of one length, and what has grown too old for it is made one with its neighbours in the next. Stretches
//! begin at multiples of their length since 1970, so that whoever thins later comes to the same.

/// A length of stretches, and for how long they are kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Tier {
    /// Their length in seconds.
    pub span_s: i64,
    /// How old they may become, in seconds.
    pub keep_s: i64,
}

const HOUR: i64 = 3600;
const DAY: i64 = 24 * HOUR;
const YEAR: i64 = 366 * DAY;

/// Of a pipeline: seconds for an hour, minutes for a day, hours for a year.
pub const OF_PIPELINE: [Tier; 3] =
    [Tier { span_s: 1, keep_s: HOUR }, Tier { span_s: 60, keep_s: DAY }, Tier { span_s: HOUR, keep_s: YEAR }];

/// Of its tables: minutes for a day, hours for a year, and days where there are more hours than the store has room for.
pub const OF_TABLES: [Tier; 3] = [
    Tier { span_s: 60, keep_s: DAY },
    Tier { span_s: HOUR, keep_s: YEAR },
    Tier { span_s: DAY, keep_s: YEAR },
];

/// When the stretch that holds a moment begins; both in seconds since 1970.
pub fn begin_of(at_s: i64, span_s: i64) -> i64 {
    at_s - at_s.rem_euclid(span_s)
}

/// What of a tier begins before this, in seconds since 1970, is too old for it. It goes into the next tier, of which no stretch
/// is begun that more will come for.
pub fn too_old(tier: Tier, next: Option<Tier>, now_s: i64) -> i64 {
    begin_of(now_s - tier.keep_s, next.map_or(tier.span_s, |next| next.span_s))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_whole_stretches_of_the_next_tier_are_too_old() {
        let [seconds, minutes, hours] = OF_PIPELINE;
        let now = 1_000_000 * HOUR + 61;
        assert_eq!(too_old(seconds, Some(minutes), now), 999_999 * HOUR + 60);
        assert_eq!(too_old(minutes, Some(hours), now), 999_976 * HOUR);
        assert_eq!(begin_of(-1, 60), -60);
    }
}

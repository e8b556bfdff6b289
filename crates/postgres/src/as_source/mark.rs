//! Snapshot marks: which transactions a snapshot already holds.
//!
//! A mark is `pg_current_snapshot()` of the transaction that read the rows, and a position L behind
//! which no covered transaction commits. A streamed transaction is covered if and only if its number,
//! extended to 64 bits, is visible in the snapshot (PostgreSQL manual, section 9.27.7.1); beyond L
//! nothing needs to be asked.

use crate::as_source::structure::types::Horizon;
use crate::wire::lsn;
use moorage_adapter::SnapshotMark;

/// A mark, ready to ask.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Mark {
    xmin: u64,
    xmax: u64,
    in_progress: Vec<u64>,
    complete_at: u64,
}

impl Mark {
    /// From the server's text `xmin:xmax:xip,xip,…` and L.
    pub(crate) fn parse(snapshot: &str, complete_at: u64) -> Option<Self> {
        let mut parts = snapshot.split(':');
        let (xmin, xmax) = (parts.next()?.parse().ok()?, parts.next()?.parse().ok()?);
        let list = parts.next()?;
        let numbers = list.split(',').filter(|n| !n.is_empty()).map(str::parse);
        let mut in_progress = numbers.collect::<Result<Vec<u64>, _>>().ok()?;
        in_progress.sort_unstable();
        parts.next().is_none().then_some(Self { xmin, xmax, in_progress, complete_at })
    }

    /// From what the target kept.
    pub(crate) fn from_snapshot_mark(mark: &SnapshotMark) -> Option<Self> {
        Self::parse(&mark.text, lsn::of(&mark.complete_at))
    }

    /// Whether the snapshot holds the transaction that committed at `commit_lsn`.
    pub(crate) fn covers(&self, xid: u32, commit_lsn: u64) -> bool {
        if commit_lsn > self.complete_at {
            return false;
        }
        let full = self.extend(xid);
        full < self.xmin || (full < self.xmax && self.in_progress.binary_search(&full).is_err())
    }

    /// The first transaction that may have been open, and the first that had not begun.
    pub(crate) fn horizon(&self) -> Horizon {
        Horizon { first_open: self.xmin, next: self.xmax }
    }

    /// The 64-bit number whose low half is `xid` and that is nearest to the snapshot: numbers in use at
    /// one time lie within 2^31 of each other (PostgreSQL manual, section 25.1.5).
    fn extend(&self, xid: u32) -> u64 {
        let distance = xid.wrapping_sub(self.xmax as u32) as i32;
        self.xmax.saturating_add_signed(i64::from(distance))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_transaction_is_covered_iff_it_is_visible_and_not_after_the_mark() {
        let mark = Mark::parse("100:110:102,105", 1000).unwrap();
        for (xid, covered) in
            [(99, true), (100, true), (102, false), (105, false), (109, true), (110, false), (111, false)]
        {
            assert_eq!(mark.covers(xid, 1000), covered, "{xid}");
        }
        assert!(!mark.covers(99, 1001), "committed after the mark was complete");
    }

    #[test]
    fn numbers_are_extended_over_the_wrap() {
        let epoch = 1u64 << 32;
        let mark = Mark::parse(&format!("{}:{}:", epoch - 5, epoch + 5), 1000).unwrap();
        assert!(mark.covers(u32::MAX - 10, 1), "before the wrap");
        assert!(mark.covers(3, 1), "after the wrap, before xmax");
        assert!(!mark.covers(7, 1), "after xmax");
    }

    #[test]
    fn what_is_not_a_snapshot_is_refused() {
        for text in ["", "1:2", "1:2:x", "1:2:3:4"] {
            assert_eq!(Mark::parse(text, 1), None, "{text}");
        }
    }
}

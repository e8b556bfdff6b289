//! Log sequence numbers: byte positions in the write-ahead log, written as two hexadecimal halves
//! (PostgreSQL manual, section 8.20).

use moorage_core::Position;

/// Reads `16/B374D848`.
pub(crate) fn parse(text: &str) -> Option<u64> {
    let (high, low) = text.split_once('/')?;
    if high.len() > 8 || low.len() > 8 {
        return None;
    }
    Some(u64::from_str_radix(high, 16).ok()? << 32 | u64::from_str_radix(low, 16).ok()?)
}

pub(crate) fn text(lsn: u64) -> String {
    format!("{:X}/{:X}", lsn >> 32, lsn & 0xffff_ffff)
}

pub(crate) fn position(lsn: u64) -> Position {
    Position::new(&[lsn], text(lsn))
}

pub(crate) fn of(position: &Position) -> u64 {
    position.first()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_halves_go_there_and_back() {
        assert_eq!(parse("16/B374D848"), Some(0x16_B374_D848));
        assert_eq!(text(0x16_B374_D848), "16/B374D848");
        assert_eq!(
            (parse("16"), parse("16/"), parse("1G/0"), parse("1/123456789")),
            (None, None, None, None)
        );
    }
}

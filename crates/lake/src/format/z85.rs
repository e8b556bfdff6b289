//! Bytes as text (ZeroMQ RFC 32, "Z85"), as the format writes names and small deletion vectors.

const DIGITS: &[u8; 85] =
    b"0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ.-:+=^!/*?&<>()[]{}@%$#";

/// The text; bytes are filled up with zeros to a multiple of 4.
pub(crate) fn encode(bytes: &[u8]) -> String {
    let mut out = String::with_capacity(bytes.len().div_ceil(4) * 5);
    for four in bytes.chunks(4) {
        let mut word = [0; 4];
        word[..four.len()].copy_from_slice(four);
        let mut rest = u32::from_be_bytes(word);
        let mut five = [0u8; 5];
        for digit in five.iter_mut().rev() {
            *digit = DIGITS[(rest % 85) as usize];
            rest /= 85;
        }
        out.extend(five.map(char::from));
    }
    out
}

/// The bytes, with those that it was filled up with; none if it is no such text.
pub(crate) fn decode(text: &str) -> Option<Vec<u8>> {
    if !text.len().is_multiple_of(5) {
        return None;
    }
    let mut out = Vec::with_capacity(text.len() / 5 * 4);
    for five in text.as_bytes().chunks(5) {
        let mut word = 0u32;
        for byte in five {
            let digit = DIGITS.iter().position(|d| d == byte)? as u32;
            word = word.checked_mul(85)?.checked_add(digit)?;
        }
        out.extend_from_slice(&word.to_be_bytes());
    }
    Some(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_example_of_the_standard() {
        let bytes = [0x86, 0x4F, 0xD2, 0x6F, 0xB5, 0x59, 0xF7, 0x5B];
        assert_eq!(encode(&bytes), "HelloWorld");
        assert_eq!(decode("HelloWorld").as_deref(), Some(&bytes[..]));
        assert_eq!((decode("Hello World"), decode("####~"), decode("#####")), (None, None, None));
    }

    proptest! {
        #[test]
        fn bytes_come_back(bytes in proptest::collection::vec(any::<u8>(), 0..64)) {
            let back = decode(&encode(&bytes)).unwrap();
            prop_assert_eq!(&back[..bytes.len()], &bytes[..]);
        }
        #[test]
        fn no_text_panics(text in "\\PC*") {
            let _ = decode(&text);
        }
    }
}

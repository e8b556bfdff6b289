//! Making visible what a terminal would obey and a reader would not see: names, values and messages come from outside.

use std::borrow::Cow;

/// Whether a character is not shown as itself: control characters, line and paragraph separators, marks that change the
/// direction of text, and ones without width (Unicode, UAX #9 and general categories Cc, Zl, Zp, Cf).
fn is_hidden(c: char) -> bool {
    c.is_control()
        || matches!(c,
            '\u{ad}' | '\u{61c}' | '\u{180e}' | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}'
            | '\u{2060}'..='\u{206f}' | '\u{feff}' | '\u{fff9}'..='\u{fffb}' | '\u{e0000}'..='\u{e007f}')
}

/// A text with hidden characters written out, as `\u{1b}`; line breaks stay where `lines` says so.
pub fn visible(text: &str, lines: bool) -> Cow<'_, str> {
    let plain = |c: char| !is_hidden(c) || (lines && c == '\n');
    if text.chars().all(plain) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 16);
    for c in text.chars() {
        match c {
            c if plain(c) => out.push(c),
            '\n' => out.push_str("\\n"),
            '\r' => out.push_str("\\r"),
            '\t' => out.push_str("\\t"),
            c => out.extend(c.escape_unicode()),
        }
    }
    Cow::Owned(out)
}

/// A JSON document in which hidden characters are escaped. They can only stand within texts, where such an escape means
/// the same (RFC 8259, section 7).
pub fn visible_json(document: &str) -> Cow<'_, str> {
    let plain = |c: char| !is_hidden(c) || matches!(c, '\n' | '\r' | '\t');
    if document.chars().all(plain) {
        return Cow::Borrowed(document);
    }
    let mut out = String::with_capacity(document.len() + 16);
    for c in document.chars() {
        if plain(c) {
            out.push(c);
            continue;
        }
        let mut units = [0; 2];
        for unit in c.encode_utf16(&mut units) {
            out.push_str(&format!("\\u{unit:04x}"));
        }
    }
    Cow::Owned(out)
}

/// A file's bytes as text.
///
/// # Errors
/// With line and column of the first byte that is no UTF-8 (RFC 3629), in words.
pub fn text(bytes: Vec<u8>) -> Result<String, String> {
    String::from_utf8(bytes).map_err(|error| {
        let good = &error.as_bytes()[..error.utf8_error().valid_up_to()];
        let good = String::from_utf8_lossy(good);
        let column = good.rsplit('\n').next().unwrap_or_default().chars().count() + 1;
        let line = good.matches('\n').count() + 1;
        let byte = error.as_bytes().get(good.len()).copied().unwrap_or_default();
        format!("line {line}, column {column}: byte {byte:#04x} is no UTF-8; save the file in that encoding")
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_hidden_is_written_out() {
        assert_eq!(visible("Größe 船 ñ", false), "Größe 船 ñ");
        assert_eq!(visible("a\u{1b}[31mb\u{202e}c\td\ne", false), "a\\u{1b}[31mb\\u{202e}c\\td\\ne");
        assert_eq!(visible("a\nb\r", true), "a\nb\\r");
        let json = serde_json::json!({ "a\u{202e}": "\u{1b}\u{7f}\u{e0001}\n" }).to_string();
        let shown = visible_json(&json);
        assert!(shown.chars().all(|c| !is_hidden(c)), "{shown}");
        let back: serde_json::Value = serde_json::from_str(&shown).unwrap();
        assert_eq!(back, serde_json::from_str::<serde_json::Value>(&json).unwrap());
    }
}

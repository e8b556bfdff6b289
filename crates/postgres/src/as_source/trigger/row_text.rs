//! Whole rows as text: what the server writes for a row (PostgreSQL manual, section 8.16.6), and which of its values
//! belongs to which column.

use std::borrow::Cow;

/// A value without its quotes; none for null.
pub(crate) type Value<'a> = Option<Cow<'a, [u8]>>;

/// The values of a row's text, in the order of its columns; none for null.
///
/// # Errors
/// In words, if the text is not a row's.
pub(crate) fn values(text: &[u8]) -> Result<Vec<Value<'_>>, String> {
    let inner =
        text.strip_prefix(b"(").and_then(|t| t.strip_suffix(b")")).ok_or("a row without parentheses")?;
    let mut all = Vec::new();
    let mut at = 0;
    loop {
        let (value, end) = value(inner, at)?;
        all.push(value);
        match inner.get(end) {
            None => return Ok(all),
            Some(b',') => at = end + 1,
            Some(_) => return Err("a row with something behind a quoted value".into()),
        }
    }
}

/// One value from a place on, and the place behind it.
fn value(inner: &[u8], from: usize) -> Result<(Value<'_>, usize), String> {
    if inner.get(from) != Some(&b'"') {
        let end = inner[from..].iter().position(|b| *b == b',').map_or(inner.len(), |length| from + length);
        let plain = &inner[from..end];
        return Ok(((!plain.is_empty()).then_some(Cow::Borrowed(plain)), end));
    }
    let mut out = Vec::new();
    let mut at = from + 1;
    loop {
        match (inner.get(at), inner.get(at + 1)) {
            // Quotes and backslashes are doubled.
            (Some(b'"'), Some(b'"')) => (out.push(b'"'), at += 2),
            (Some(b'\\'), Some(next)) => (out.push(*next), at += 2),
            (Some(b'"'), _) => return Ok((Some(Cow::Owned(out)), at + 1)),
            (Some(byte), _) => (out.push(*byte), at += 1),
            (None, _) => return Err("a row with a quoted value that does not end".into()),
        };
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn values_are_read_as_the_server_writes_them() {
        let row = br#"(1,,"","a ""b"" \\c","(x,y)")"#;
        let texts: Vec<Option<String>> = values(row)
            .unwrap()
            .into_iter()
            .map(|v| v.map(|v| String::from_utf8(v.into_owned()).unwrap()))
            .collect();
        let expected = [Some("1"), None, Some(""), Some("a \"b\" \\c"), Some("(x,y)")];
        assert_eq!(texts, expected.map(|v| v.map(str::to_string)));
        assert_eq!(values(b"()").unwrap(), [None], "one column that is null, or none");
        for broken in ["", "(", "1,2", "(\"a)", "(\"a\"b)"] {
            assert!(values(broken.as_bytes()).is_err(), "{broken}");
        }
    }

    proptest! {
        #[test]
        fn whatever_was_quoted_comes_back(row in prop::collection::vec(prop::option::of(".{0,8}"), 1..6)) {
            let quoted = |v: &Option<String>| v.as_ref().map_or(String::new(), |v| {
                format!("\"{}\"", v.replace('\\', "\\\\").replace('"', "\"\""))
            });
            let text = format!("({})", row.iter().map(quoted).collect::<Vec<_>>().join(","));
            let found = values(text.as_bytes()).unwrap();
            let found: Vec<_> = found.into_iter().map(|v| v.map(|v| String::from_utf8(v.into_owned()).unwrap())).collect();
            prop_assert_eq!(found, row);
        }

        #[test]
        fn no_text_makes_it_panic(text in prop::collection::vec(any::<u8>(), 0..40)) {
            let _ = values(&text);
        }
    }
}

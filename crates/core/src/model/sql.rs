//! The little SQL text that every dialect of the standard shares.

/// Quotes an identifier as ISO/IEC 9075-2, section 5.2 (delimited identifier): in double quotes,
/// with each double quote doubled.
pub fn quote_ident(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// Quotes a character string literal (section 5.3): in single quotes, each one inside doubled.
pub fn quote_literal(text: &str) -> String {
    format!("'{}'", text.replace('\'', "''"))
}

/// A text for a comment that ends with its line: whatever would end it, or is not seen, is written out.
pub fn in_comment(text: &str) -> String {
    crate::model::visible::visible(text, false).into_owned()
}

/// A word for a POSIX shell: in single quotes (IEEE Std 1003.1, Shell & Utilities, section 2.2.2).
pub fn shell_word(text: &str) -> String {
    format!("'{}'", text.replace('\'', "'\\''"))
}

/// A comma-separated list of quoted identifiers.
pub fn quote_list<'a>(names: impl IntoIterator<Item = &'a str>) -> String {
    names.into_iter().map(quote_ident).collect::<Vec<_>>().join(", ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn quotes_inside_names_and_texts_are_doubled() {
        assert_eq!(quote_list(["a\"b", "Größe"]), "\"a\"\"b\", \"Größe\"");
        assert_eq!(quote_literal("it's"), "'it''s'");
    }
}

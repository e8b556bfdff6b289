//! Patterns as regular expressions, for a server that has to decide by itself which tables are meant.

use crate::pick::pattern::{Part, Pattern};

/// A pattern in the words of POSIX (IEEE Std 1003.1, section 9.4, with `(?:…)` for groups), each for a whole name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PosixPattern {
    /// For the schema; none if any is meant.
    pub schema: Option<String>,
    /// For the table.
    pub table: String,
}

impl Pattern {
    /// The pattern as regular expressions; `None` if it has signs that they have no words for: `**` and empty alternatives.
    pub fn posix(&self) -> Option<PosixPattern> {
        let schema = match &self.schema {
            Some(part) => Some(part.posix()?),
            None => None,
        };
        Some(PosixPattern { schema, table: self.table.posix()? })
    }
}

impl Part {
    fn posix(&self) -> Option<String> {
        let mut out = String::from("^");
        match self {
            Self::Exact(text) => text.chars().for_each(|c| literally(&mut out, c)),
            Self::Glob(glob) => translate(glob.glob().glob(), &mut out)?,
        }
        out.push('$');
        Some(out)
    }
}

fn literally(out: &mut String, c: char) {
    if c.is_ascii_punctuation() {
        out.push('\\');
    }
    out.push(c);
}

fn translate(glob: &str, out: &mut String) -> Option<()> {
    if ["**", "{,", ",,", ",}", "{}"].iter().any(|sign| glob.contains(sign)) {
        return None;
    }
    let mut braces = 0;
    let mut signs = glob.chars();
    while let Some(sign) = signs.next() {
        match sign {
            '*' => out.push_str(".*"),
            '?' => out.push('.'),
            '\\' => literally(out, signs.next()?),
            '{' => {
                braces += 1;
                out.push_str("(?:");
            }
            '}' => {
                braces -= 1;
                out.push(')');
            }
            ',' if braces > 0 => out.push('|'),
            '[' => one_of(&mut signs, out)?,
            other => literally(out, other),
        }
    }
    Some(())
}

/// What stands in square brackets, up to the end of them.
fn one_of(signs: &mut std::str::Chars<'_>, out: &mut String) -> Option<()> {
    out.push('[');
    if let Some(rest) = signs.as_str().strip_prefix(['!', '^']) {
        *signs = rest.chars();
        out.push('^');
    }
    let mut is_first = true;
    loop {
        match signs.next()? {
            ']' if !is_first => break,
            // What has a meaning of its own there.
            sign @ ('\\' | '[' | ']' | '^') => out.extend(['\\', sign]),
            other => out.push(other),
        }
        is_first = false;
    }
    out.push(']');
    Some(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("public.*", Some("^public$"), "^.*$")]
    #[case("berths", None, "^berths$")]
    #[case("*.{stays,berths_?}", Some("^.*$"), "^(?:stays|berths\\_.)$")]
    #[case("public.[!a-c]*", Some("^public$"), "^[^a-c].*$")]
    #[case("\"a.b\".\"*(\"", Some("^a\\.b$"), "^\\*\\($")]
    #[case("public.a\\*b", Some("^public$"), "^a\\*b$")]
    fn a_pattern_becomes_regular_expressions(
        #[case] pattern: &str,
        #[case] schema: Option<&str>,
        #[case] table: &str,
    ) {
        let expected = PosixPattern { schema: schema.map(str::to_string), table: table.into() };
        assert_eq!(Pattern::parse(pattern).unwrap().posix(), Some(expected));
    }

    #[rstest]
    #[case("public.**")]
    #[case("public.{,a}")]
    fn what_has_no_words_there_is_none(#[case] pattern: &str) {
        assert_eq!(Pattern::parse(pattern).unwrap().posix(), None);
    }
}

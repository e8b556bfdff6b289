//! Mistakes in a project file, shown with the place they are in.

use std::fmt;
use std::ops::Range;

/// A mistake in a project file: where it is, what it is, what was expected.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ProjectError {
    file: String,
    line: usize,
    column: usize,
    text: String,
    width: usize,
    what: String,
    expected: String,
}

impl ProjectError {
    /// A mistake at a span of bytes of `text`.
    pub fn at(file: &str, text: &str, span: Range<usize>, what: String, expected: String) -> Self {
        let start = span.start.min(text.len());
        let line_start = text[..start].rfind('\n').map_or(0, |i| i + 1);
        let line_text = text[line_start..].lines().next().unwrap_or_default();
        let column = text[line_start..start].chars().count() + 1;
        let spanned = text.get(start..span.end.min(text.len())).unwrap_or_default();
        Self {
            file: file.into(),
            line: text[..start].matches('\n').count() + 1,
            column,
            text: without_passwords(line_text),
            width: spanned.lines().next().map_or(1, |l| l.chars().count()).max(1),
            what,
            expected,
        }
    }

    /// Puts the TOML reader's message into this form.
    pub(crate) fn from_toml(file: &str, text: &str, error: &toml::de::Error) -> Self {
        let (what, expected) = match error.message().split_once(", expected ") {
            Some((what, expected)) => (what, expected.trim_start_matches("one of ")),
            None => (error.message(), ""),
        };
        let what = what
            .replace("unknown field", "unknown key")
            .replace("missing field", "missing key")
            .replace("unknown variant", "unknown value");
        Self::at(file, text, error.span().unwrap_or(0..0), what, expected.into())
    }
}

/// The line with a password in an address made unreadable, at the same length.
fn without_passwords(line: &str) -> String {
    let Some(start) = line.find("://").map(|i| i + 3) else { return line.into() };
    let Some(end) = line[start..].find('@').map(|i| start + i) else { return line.into() };
    let Some(colon) = line[start..end].find(':').map(|i| start + i + 1) else { return line.into() };
    format!("{}{}{}", &line[..colon], "*".repeat(line[colon..end].chars().count()), &line[end..])
}

impl fmt::Display for ProjectError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let number = self.line.to_string();
        let pad = " ".repeat(number.len());
        writeln!(f, "{}:{}:{}: {}", self.file, self.line, self.column, self.what)?;
        writeln!(f, " {number} | {}", self.text)?;
        write!(f, " {pad} | {}{}", " ".repeat(self.column - 1), "^".repeat(self.width))?;
        if !self.expected.is_empty() {
            write!(f, "\nexpected {}", self.expected)?;
        }
        Ok(())
    }
}

impl std::error::Error for ProjectError {}

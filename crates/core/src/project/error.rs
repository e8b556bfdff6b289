//! Mistakes in a project file, shown with the place they are in.

use std::fmt;
use std::ops::Range;

/// What is wrong in a project file, before it is shown.
#[derive(Clone, Debug)]
pub enum Mistake {
    /// As the reader of the text found it.
    Read(toml::de::Error),
    /// What the text says cannot be meant.
    At {
        /// Where, in bytes of the text.
        span: Range<usize>,
        /// What is wrong.
        what: String,
        /// What was expected.
        expected: String,
    },
}

impl Mistake {
    /// One at a span of bytes of the file's text.
    pub fn at(span: Range<usize>, what: impl Into<String>, expected: impl Into<String>) -> Self {
        Self::At { span, what: what.into(), expected: expected.into() }
    }
}

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
    /// A mistake with the place in `text` that it is about. `file` is only used in messages.
    pub fn new(file: &str, text: &str, mistake: Mistake) -> Self {
        match mistake {
            Mistake::Read(error) => Self::from_toml(file, text, &error),
            Mistake::At { span, what, expected } => {
                let (before, line) = line_at(text, span.start);
                let secret = may_hold_a_secret(before, line);
                let what = if secret { without_values(&what, line) } else { what };
                Self::at(file, text, span, what, expected)
            }
        }
    }

    fn at(file: &str, text: &str, span: Range<usize>, what: String, expected: String) -> Self {
        let start = span.start.min(text.len());
        let (before, line_text) = line_at(text, start);
        let secret = may_hold_a_secret(before, line_text);
        let column = text[before.len()..start].chars().count() + 1;
        let spanned = text.get(start..span.end.min(text.len())).unwrap_or_default();
        Self {
            file: file.into(),
            line: text[..start].matches('\n').count() + 1,
            column,
            text: if secret { masked(line_text) } else { line_text.into() },
            width: spanned.lines().next().map_or(1, |l| l.chars().count()).max(1),
            what,
            expected,
        }
    }

    /// Puts the TOML reader's message into this form.
    fn from_toml(file: &str, text: &str, error: &toml::de::Error) -> Self {
        let (what, expected) = match error.message().split_once(", expected ") {
            Some((what, expected)) => (what, expected.trim_start_matches("one of ")),
            None => (error.message(), ""),
        };
        let mut what = what
            .replace("unknown field", "unknown key")
            .replace("missing field", "missing key")
            .replace("unknown variant", "unknown value");
        let mut expected = plain_words(expected);
        let span = error.span().unwrap_or(0..0);
        let (before, line) = line_at(text, span.start);
        if may_hold_a_secret(before, line) {
            // The reader's words may hold the value itself, or what stands beside it.
            let of_key =
                what.starts_with("missing key") || (what.starts_with("unknown key") && !is_password(line));
            if !of_key {
                what = if what.starts_with("invalid type")
                    || what.starts_with("unknown value")
                    || what.starts_with("invalid value")
                {
                    "this is not what is expected here".into()
                } else if what.starts_with("unknown key") {
                    "an unknown key".into()
                } else {
                    "this line cannot be read".into()
                };
            }
        } else if let Some((what_is, _)) = what.clone().split_once(", expected") {
            what = what_is.to_string();
        }
        if expected.is_empty() && what == "this line cannot be read" {
            expected = "KEY = VALUE, with texts in double quotes".into();
        }
        Self::at(file, text, span, plain_words(&what), expected)
    }
}

/// The line that a byte of a text is in, and everything before that line.
fn line_at(text: &str, at: usize) -> (&str, &str) {
    let start = text[..at.min(text.len())].rfind('\n').map_or(0, |i| i + 1);
    (&text[..start], text[start..].lines().next().unwrap_or_default())
}

/// The TOML reader's own words for what people write.
fn plain_words(text: &str) -> String {
    let pairs = [
        ("struct SecretConfig", "{ env = \"…\" }, { file = \"…\" } or { command = [\"…\"] }"),
        ("struct AddConfig", "{ from = … }, { constant = … } or { expression = … }"),
        (
            "data did not match any variant of untagged enum Constant",
            "this is not a value that a column can hold",
        ),
        ("internally tagged enum ", ""),
        ("untagged enum ", ""),
        ("a sequence", "a list: [\"…\", \"…\"]"),
        ("a map", "a table: { … }"),
        ("a string", "a text in double quotes"),
        ("sequence", "list"),
    ];
    let mut text = text.to_string();
    for (from, to) in pairs {
        text = text.replace(from, to);
    }
    match text.find("struct ") {
        Some(at) => {
            let end = text[at + 7..].find(|c: char| !c.is_alphanumeric()).map_or(text.len(), |i| at + 7 + i);
            format!("{}a table{}", &text[..at], &text[end..])
        }
        None => text,
    }
}

/// Keys of sources, targets and receivers whose values are no secrets.
const PLAIN: [&str; 16] = [
    "kind",
    "capture",
    "sslmode",
    "sslrootcert",
    "sslcert",
    "sslkey",
    "channel_binding",
    "path",
    "schema",
    "lock_timeout",
    "statement_timeout",
    "change_table_limit",
    "connections",
    "role",
    "encryption",
    "timeout",
];

/// The key of a line, as it stands before the equals sign.
fn key_of(line: &str) -> &str {
    line.split_once('=').map_or("", |(key, _)| key.trim())
}

fn is_password(line: &str) -> bool {
    key_of(line).rsplit('.').next().is_some_and(|key| key.trim_matches(['"', '\'', ' ']) == "password")
}

/// Whether a line may hold a secret: all but plainly harmless ones of sources and targets, and whatever looks like an
/// address or speaks of secrets.
fn may_hold_a_secret(before: &str, line: &str) -> bool {
    let lower = line.to_ascii_lowercase();
    let suspicious = ["passw", "secret", "token", "//", "@", "pwd", "credential"];
    if suspicious.iter().any(|word| lower.contains(word)) {
        return true;
    }
    if header(line).is_some() {
        return false;
    }
    // Only lines of pipelines and alerts are plain for sure: a header that is misspelt may be that of a source.
    let section = before.lines().rev().find_map(header).unwrap_or_default();
    // Values of harmless keys are words, numbers and paths.
    let value = line.split_once('=').map_or("", |(_, value)| value);
    let is_word = value.chars().all(|c| c.is_ascii_alphanumeric() || "_-./ \"'".contains(c));
    !(section.starts_with("pipelines") || section == "alert" || PLAIN.contains(&key_of(line)) && is_word)
}

/// What stands in a header of a section, if a line is one: `[sources.harbour]`. A line that begins with a bracket may also
/// be part of a list.
fn header(line: &str) -> Option<&str> {
    let line = line.split('#').next().unwrap_or_default().trim();
    let name = line.strip_prefix('[')?.strip_suffix(']')?;
    let name = name.strip_prefix('[').map_or(Some(name), |name| name.strip_suffix(']'))?.trim();
    let bare = |c: char| c.is_ascii_alphanumeric() || "_-".contains(c);
    let first = name.split('.').next().unwrap_or_default().trim();
    (!first.is_empty() && first.chars().all(bare) && !name.contains(['=', ',', '[', ']'])).then_some(name)
}

/// The line with all that stands behind its key made unreadable, at the same length.
fn masked(line: &str) -> String {
    let stars = |text: &str| text.chars().map(|c| if c == ' ' { ' ' } else { '*' }).collect::<String>();
    match line.split_once('=') {
        Some((key, value)) if key.trim().chars().all(|c| c.is_ascii_alphanumeric() || "_.- ".contains(c)) => {
            format!("{key}={}", stars(value))
        }
        _ => stars(line),
    }
}

/// What is said of a line without the values that are quoted from it: only keys stay.
fn without_values(what: &str, line: &str) -> String {
    let keys = line.split_once('=').map_or("", |(keys, _)| keys);
    let part = |(at, part): (usize, &str)| match at % 2 {
        0 => part.to_string(),
        _ if keys.contains(part) => format!("`{part}`"),
        _ => "`…`".into(),
    };
    what.split('`').enumerate().map(part).collect()
}

/// How many characters of a line are shown at most.
const MOST_SHOWN: usize = 120;

/// The part of a line around a place.
struct Shown {
    text: String,
    at: usize,
    width: usize,
}

impl Shown {
    /// `at` and `width` count characters from 0.
    fn of(line: &str, at: usize, width: usize) -> Self {
        let length = line.chars().count();
        if length <= MOST_SHOWN {
            return Self { text: line.into(), at, width: width.min(MOST_SHOWN) };
        }
        let begin = at.saturating_sub(MOST_SHOWN / 3).min(length - MOST_SHOWN);
        let part: String = line.chars().skip(begin).take(MOST_SHOWN).collect();
        let (before, behind) =
            (if begin > 0 { "…" } else { "" }, if begin + MOST_SHOWN < length { "…" } else { "" });
        let at = at.min(begin + MOST_SHOWN) - begin;
        Self {
            text: format!("{before}{part}{behind}"),
            at: at + before.chars().count(),
            width: width.min(MOST_SHOWN - at).max(1),
        }
    }
}

impl fmt::Display for ProjectError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let number = self.line.to_string();
        let pad = " ".repeat(number.len());
        writeln!(f, "{}:{}:{}: {}", self.file, self.line, self.column, self.what)?;
        let shown = Shown::of(&self.text, self.column - 1, self.width);
        writeln!(f, " {number} | {}", shown.text)?;
        write!(f, " {pad} | {}{}", " ".repeat(shown.at), "^".repeat(shown.width))?;
        if !self.expected.is_empty() {
            write!(f, "\nexpected {}", self.expected)?;
        }
        Ok(())
    }
}

impl std::error::Error for ProjectError {}

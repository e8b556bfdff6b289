//! Patterns on table names, and names as people write and paste them.
//!
//! A pattern has two parts with a dot between: one for the schema, one for the table. In each, `*` stands for
//! any characters, `?` for one, `[ab]` for one of several, `{a,b}` for one of several texts. A part in double
//! quotes is meant letter by letter, also its dots and stars. Without a dot the pattern is for tables of that
//! name in any schema.

use crate::model::name::TableName;
use globset::{Glob, GlobMatcher};

/// A pattern that can be understood.
#[derive(Clone, Debug)]
pub struct Pattern {
    text: String,
    pub(super) schema: Option<Part>,
    pub(super) table: Part,
}

/// The longest part of a pattern with signs in it, in bytes.
const MOST_BYTES: usize = 4096;
/// The most lists of alternatives in it.
const MOST_BRACES: usize = 16;

#[derive(Clone, Debug)]
pub(super) enum Part {
    Exact(String),
    Glob(GlobMatcher),
}

impl Part {
    fn new(text: &str, quoted: bool) -> Option<Self> {
        if quoted || !text.contains(['*', '?', '[', ']', '{', '}', '\\']) {
            return (quoted || !text.is_empty()).then(|| Self::Exact(text.into()));
        }
        // No name is so long; alternatives in alternatives would take memory without end.
        if text.len() > MOST_BYTES || text.matches('{').count() > MOST_BRACES {
            return None;
        }
        Some(Self::Glob(Glob::new(text).ok()?.compile_matcher()))
    }

    fn matches(&self, name: &str, any_case: bool) -> bool {
        match self {
            Self::Exact(text) if any_case => text.to_lowercase() == name.to_lowercase(),
            Self::Exact(text) => text == name,
            Self::Glob(glob) if any_case => Glob::new(&glob.glob().glob().to_lowercase())
                .is_ok_and(|g| g.compile_matcher().is_match(name.to_lowercase())),
            Self::Glob(glob) => glob.is_match(name),
        }
    }
}

/// Takes a quoted name off the front: what it says, and what follows.
fn take_quoted(text: &str) -> Option<(String, &str)> {
    let mut name = String::new();
    let mut rest = text.strip_prefix('"')?;
    loop {
        let (before, after) = rest.split_once('"')?;
        name.push_str(before);
        match after.strip_prefix('"') {
            Some(more) => {
                name.push('"');
                rest = more;
            }
            None => return Some((name, after)),
        }
    }
}

/// A part, whether it was quoted, and what follows behind the dot.
fn take_part(text: &str, last: bool) -> Option<(String, bool, Option<&str>)> {
    if text.starts_with('"') {
        let (name, rest) = take_quoted(text)?;
        return match rest {
            "" => Some((name, true, None)),
            _ => Some((name, true, Some(rest.strip_prefix('.')?))),
        };
    }
    match text.split_once('.') {
        Some((first, rest)) if !last => Some((first.into(), false, Some(rest))),
        _ => Some((text.into(), false, None)),
    }
}

impl Pattern {
    /// Reads a pattern; `None` if it is none.
    pub fn parse(text: &str) -> Option<Self> {
        let text = text.trim();
        let (first, quoted, rest) = take_part(text, false)?;
        let first = Part::new(&first, quoted)?;
        let text = text.to_string();
        let Some(rest) = rest else { return Some(Self { text, schema: None, table: first }) };
        let (second, quoted, rest) = take_part(rest, true)?;
        match rest {
            None => Some(Self { text, schema: Some(first), table: Part::new(&second, quoted)? }),
            Some(_) => None,
        }
    }

    /// As it was written.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Whether a table is meant.
    pub fn matches(&self, table: &TableName) -> bool {
        self.schema.as_ref().is_none_or(|s| s.matches(&table.schema, false))
            && self.table.matches(&table.name, false)
    }

    /// Whether a table would be meant if upper and lower case were the same.
    pub fn matches_in_any_case(&self, table: &TableName) -> bool {
        self.schema.as_ref().is_none_or(|s| s.matches(&table.schema, true))
            && self.table.matches(&table.name, true)
    }

    /// Whether it names a table letter by letter.
    pub fn is_name(&self) -> bool {
        !matches!(self.schema, Some(Part::Glob(_))) && matches!(self.table, Part::Exact(_))
    }
}

/// The names in a pasted list: separated by commas, semicolons, blanks or line ends, none of which counts
/// inside double quotes. Each as it stands; twice the same only once.
pub fn names_of_list(text: &str) -> Vec<String> {
    let mut found: Vec<String> = Vec::new();
    let mut name = String::new();
    let mut quoted = false;
    for c in text.chars().chain([' ']) {
        quoted ^= c == '"';
        if quoted || !(c.is_whitespace() || c == ',' || c == ';') {
            name.push(c);
            continue;
        }
        if !name.is_empty() && !found.contains(&name) {
            found.push(std::mem::take(&mut name));
        }
        name.clear();
    }
    // A quote that never ends: what stands there is no name, and is said when it is read as a pattern.
    found.extend((!name.trim().is_empty()).then(|| name.trim().to_string()));
    found
}

/// The two parts of a name as it is shown, quotes taken off; `None` if there are not two.
pub fn shown_parts(text: &str) -> Option<(String, String)> {
    let (first, _, rest) = take_part(text, false)?;
    let (second, _, end) = take_part(rest?, true)?;
    end.is_none().then_some((first, second))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("public.*", "public", "berths", true)]
    #[case("public.*", "public", "a.b", true)]
    #[case("public.*", "public.old", "berths", false)]
    #[case("\"public.old\".*", "public.old", "berths", true)]
    #[case("public.a.b", "public", "a.b", true)]
    #[case("public.\"a.b\"", "public", "a.b", true)]
    #[case("\"a\"\"b\".\"*\"", "a\"b", "*", true)]
    #[case("\"a\"\"b\".\"*\"", "a\"b", "x", false)]
    #[case("berths", "any", "berths", true)]
    #[case("*_tmp", "any", "x_tmp", true)]
    #[case("*.{stays,berths}", "public", "stays", true)]
    #[case("public.stay?", "public", "stays", true)]
    #[case("public.Stays", "public", "stays", false)]
    fn a_pattern_means_tables(
        #[case] pattern: &str,
        #[case] schema: &str,
        #[case] name: &str,
        #[case] expected: bool,
    ) {
        assert_eq!(Pattern::parse(pattern).unwrap().matches(&TableName::new(schema, name)), expected);
    }

    #[rstest]
    #[case("public", "a b.c")]
    #[case("ha\"rbour", "*")]
    #[case("", "Größe 🛥")]
    fn a_name_as_it_is_shown_means_itself(#[case] schema: &str, #[case] name: &str) {
        let table = TableName::new(schema, name);
        let pattern = Pattern::parse(&table.to_string()).unwrap();
        assert!(pattern.matches(&table) && pattern.is_name(), "{table}");
        assert_eq!(names_of_list(&table.to_string()), [table.to_string()]);
    }

    #[test]
    fn a_pasted_list_is_taken_apart() {
        let list = "public.berths, public.vessels;\n  \"odd. one\".x\tpublic.berths\n";
        assert_eq!(names_of_list(list), ["public.berths", "public.vessels", "\"odd. one\".x"]);
        for bad in ["", "\"a", "a.", ".b", "\"a\"b.c", "public.[", "\"a\".\"b\".\"c\""] {
            assert!(Pattern::parse(bad).is_none(), "{bad}");
        }
    }
}

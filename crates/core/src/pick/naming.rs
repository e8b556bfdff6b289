//! How target tables are named: a text with placeholders, and finding such a text from one example.
//!
//! `{schema}` and `{table}` stand for the source's names. Behind a colon each can be changed: `:lower`,
//! `:upper`, `:snake` (`VesselStays` becomes `vessel_stays`), `:after(X)` (without X at its beginning) and
//! `:before(X)` (without X at its end), several one behind the other. `{{` and `}}` are plain braces.

use crate::model::name::TableName;
use std::fmt;

/// A naming rule.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Naming(Vec<Piece>);

#[derive(Clone, Debug, PartialEq, Eq)]
enum Piece {
    Text(String),
    Name { of_schema: bool, changes: Vec<Change> },
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Change {
    Lower,
    Upper,
    Snake,
    After(String),
    Before(String),
}

impl Change {
    fn parse(text: &str) -> Option<Self> {
        let argument =
            |word: &str| text.strip_prefix(word)?.strip_prefix('(')?.strip_suffix(')').map(str::to_string);
        Some(match text {
            "lower" => Self::Lower,
            "upper" => Self::Upper,
            "snake" => Self::Snake,
            _ => match (argument("after"), argument("before")) {
                (Some(x), _) => Self::After(x),
                (_, Some(x)) => Self::Before(x),
                _ => return None,
            },
        })
    }

    fn apply(&self, name: &str) -> String {
        match self {
            Self::Lower => name.to_lowercase(),
            Self::Upper => name.to_uppercase(),
            Self::Snake => snake(name),
            Self::After(x) => name.strip_prefix(x.as_str()).filter(|n| !n.is_empty()).unwrap_or(name).into(),
            Self::Before(x) => name.strip_suffix(x.as_str()).filter(|n| !n.is_empty()).unwrap_or(name).into(),
        }
    }
}

impl fmt::Display for Change {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Lower => f.write_str("lower"),
            Self::Upper => f.write_str("upper"),
            Self::Snake => f.write_str("snake"),
            Self::After(x) => write!(f, "after({x})"),
            Self::Before(x) => write!(f, "before({x})"),
        }
    }
}

/// Words in lower case with underscores between: a word begins with an upper-case letter behind another, or
/// before a lower-case one.
fn snake(name: &str) -> String {
    let letters: Vec<char> = name.chars().collect();
    let mut out = String::new();
    for (i, c) in letters.iter().enumerate() {
        if c.is_whitespace() || *c == '-' {
            out.push('_');
            continue;
        }
        let before = i.checked_sub(1).map(|b| letters[b]);
        let begins = c.is_uppercase()
            && before.is_some_and(|b| {
                b.is_lowercase()
                    || b.is_ascii_digit()
                    || (b.is_uppercase() && letters.get(i + 1).is_some_and(|n| n.is_lowercase()))
            });
        if begins {
            out.push('_');
        }
        out.extend(c.to_lowercase());
    }
    out
}

impl Naming {
    /// Reads a naming rule.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub fn parse(text: &str) -> Result<Self, String> {
        let mut pieces = Vec::new();
        let mut plain = String::new();
        let mut rest = text;
        while let Some(at) = rest.find(['{', '}']) {
            plain.push_str(&rest[..at]);
            let doubled = ["{{", "}}"].into_iter().find(|d| rest[at..].starts_with(d));
            if let Some(doubled) = doubled {
                plain.push_str(&doubled[..1]);
                rest = &rest[at + 2..];
                continue;
            }
            let inside = rest[at..].strip_prefix('{').and_then(|r| r.split_once('}'));
            let (name, after) = inside.ok_or_else(|| format!("`{text}` has a brace without its partner"))?;
            if !plain.is_empty() {
                pieces.push(Piece::Text(std::mem::take(&mut plain)));
            }
            pieces.push(placeholder(name)?);
            rest = after;
        }
        plain.push_str(rest);
        if !plain.is_empty() {
            pieces.push(Piece::Text(plain));
        }
        if pieces.is_empty() { Err("a target table needs a name".into()) } else { Ok(Self(pieces)) }
    }

    /// Reads a naming rule for columns: `{column}` stands for the name.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub fn of_columns(text: &str) -> Result<Self, String> {
        if text.contains("{schema") || text.contains("{table") {
            return Err(format!("`{text}` names columns, and only {{column}} stands for something there"));
        }
        let in_words = |what: String| {
            what.replace("{schema} and {table}", "{column}")
                .replace("{table", "{column")
                .replace("target table", "column")
        };
        let naming = Self::parse(&text.replace("{column", "{table")).map_err(in_words)?;
        match naming.0.iter().any(|piece| matches!(piece, Piece::Name { .. })) {
            true => Ok(naming),
            false => Err(format!("`{text}` would give all columns the same name: it needs {{column}}")),
        }
    }

    /// Reads a rule for saying where a row came from, in which `{source}` stands for the source's name.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub fn of_origin(text: &str, source: &str) -> Result<Self, String> {
        let in_words = |what: String| what.replace("there is {schema}", "there is {source}, {schema}");
        let source = source.replace('{', "{{").replace('}', "}}");
        Self::parse(&text.replace("{source}", &source)).map_err(in_words)
    }

    /// A column's name by such a rule. Dots are part of it.
    pub fn column(&self, name: &str) -> String {
        let piece = |piece: &Piece| match piece {
            Piece::Text(text) => text.clone(),
            Piece::Name { changes, .. } => {
                changes.iter().fold(name.to_string(), |name, change| change.apply(&name))
            }
        };
        self.0.iter().map(piece).collect()
    }

    /// The target table's name.
    pub fn name(&self, table: &TableName) -> String {
        match self.place(table) {
            (Some(schema), name) => format!("{schema}.{name}"),
            (None, name) => name,
        }
    }

    /// The target table's schema, if the rule itself has a dot, and its name. Dots in the source's names do not
    /// count.
    pub fn place(&self, table: &TableName) -> (Option<String>, String) {
        let (mut schema, mut name) = (None, String::new());
        for piece in &self.0 {
            match piece {
                Piece::Text(text) => match text.split_once('.').filter(|_| schema.is_none()) {
                    Some((before, after)) => {
                        name.push_str(before);
                        schema = Some(std::mem::replace(&mut name, after.into()));
                    }
                    None => name.push_str(text),
                },
                Piece::Name { of_schema, changes } => {
                    let from = if *of_schema { &table.schema } else { &table.name };
                    name.push_str(&changes.iter().fold(from.clone(), |name, change| change.apply(&name)));
                }
            }
        }
        (schema, name)
    }

    /// Whether all tables would get one name.
    pub fn is_constant(&self) -> bool {
        !self.0.iter().any(|p| matches!(p, Piece::Name { .. }))
    }

    /// Rules under which `table` is named `target`, the simplest first.
    pub fn from_example(table: &TableName, target: &str) -> Vec<Self> {
        let mut found: Vec<(usize, Self)> = Vec::new();
        for (cost, changes) in changes_of(&table.name) {
            let text = changes.iter().fold(table.name.clone(), |name, change| change.apply(&name));
            if text.is_empty() {
                continue;
            }
            for (at, _) in target.match_indices(text.as_str()) {
                let name = Piece::Name { of_schema: false, changes: changes.clone() };
                for (more, before) in with_schema(&target[..at], &table.schema) {
                    let mut pieces = before;
                    pieces.push(name.clone());
                    let after = &target[at + text.len()..];
                    if !after.is_empty() {
                        pieces.push(Piece::Text(after.into()));
                    }
                    found.push((cost + more, Self(pieces)));
                }
            }
        }
        found.sort_by_key(|(cost, _)| *cost);
        let mut rules: Vec<Self> = Vec::new();
        for (_, rule) in found {
            if !rules.contains(&rule) {
                rules.push(rule);
            }
        }
        rules
    }
}

/// Changes of a table's name worth trying, each with how far-fetched it is.
fn changes_of(name: &str) -> Vec<(usize, Vec<Change>)> {
    let mut cuts: Vec<(usize, Vec<Change>)> = vec![(0, Vec::new())];
    for (at, c) in name.char_indices().filter(|(_, c)| matches!(c, '_' | '-')) {
        let behind = at + c.len_utf8();
        cuts.push((10 + behind, vec![Change::After(name[..behind].into())]));
        cuts.push((10 + name.len() - at, vec![Change::Before(name[at..].into())]));
    }
    let cases = [(0, None), (1, Some(Change::Lower)), (2, Some(Change::Upper)), (3, Some(Change::Snake))];
    let mut all = Vec::new();
    for (cut_cost, cut) in &cuts {
        for (case_cost, case) in &cases {
            let changes = cut.iter().cloned().chain(case.clone()).collect();
            all.push((cut_cost + case_cost, changes));
        }
    }
    all
}

/// The text before a table's name, also with the schema's name found in it.
fn with_schema(before: &str, schema: &str) -> Vec<(usize, Vec<Piece>)> {
    let text = |t: &str| (!t.is_empty()).then(|| Piece::Text(t.into()));
    // A text that stays is a little less likely than one that comes from the schema.
    let mut all = vec![(if before.is_empty() { 0 } else { 4 }, text(before).into_iter().collect())];
    for (cost, change) in
        [(0, None), (1, Some(Change::Lower)), (2, Some(Change::Upper)), (3, Some(Change::Snake))]
    {
        let shown = change.as_ref().map_or(schema.to_string(), |c| c.apply(schema));
        if let Some(at) = before.find(&shown).filter(|_| !shown.is_empty()) {
            let name = Piece::Name { of_schema: true, changes: change.into_iter().collect() };
            let pieces =
                text(&before[..at]).into_iter().chain([name]).chain(text(&before[at + shown.len()..]));
            all.push((cost, pieces.collect()));
        }
    }
    all
}

fn placeholder(text: &str) -> Result<Piece, String> {
    let mut parts = text.split(':');
    let of_schema = match parts.next() {
        Some("schema") => true,
        Some("table") => false,
        _ => return Err(format!("there is no placeholder {{{text}}}; there is {{schema}} and {{table}}")),
    };
    let changes = parts
        .map(|c| {
            Change::parse(c).ok_or_else(|| {
                format!("there is no change `{c}` in {{{text}}}; there is lower, upper, snake, after(X) and before(X)")
            })
        })
        .collect::<Result<_, _>>()?;
    Ok(Piece::Name { of_schema, changes })
}

impl fmt::Display for Naming {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for piece in &self.0 {
            match piece {
                Piece::Text(text) => f.write_str(&text.replace('{', "{{").replace('}', "}}"))?,
                Piece::Name { of_schema, changes } => {
                    f.write_str(if *of_schema { "{schema" } else { "{table" })?;
                    changes.iter().try_for_each(|c| write!(f, ":{c}"))?;
                    f.write_str("}")?;
                }
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("{schema}_{table}", "Public_VesselStays")]
    #[case("{table:snake}", "vessel_stays")]
    #[case("q_{table:after(Vessel):upper}{{x}}", "q_STAYS{x}")]
    #[case("{table:before(Stays)}", "Vessel")]
    fn a_rule_names_a_table(#[case] rule: &str, #[case] expected: &str) {
        let naming = Naming::parse(rule).unwrap();
        assert_eq!(naming.name(&TableName::new("Public", "VesselStays")), expected);
        assert_eq!(naming.to_string(), rule);
    }

    #[rstest]
    #[case("{tabel}", "no placeholder {tabel}")]
    #[case("{table", "without its partner")]
    #[case("{table:loud}", "no change `loud`")]
    #[case("", "needs a name")]
    fn a_rule_that_cannot_be_understood_is_refused(#[case] rule: &str, #[case] why: &str) {
        assert!(Naming::parse(rule).unwrap_err().contains(why));
    }

    #[rstest]
    #[case("public", "vessels", "mart.quay_vessels", "mart.quay_{table}")]
    #[case("public", "vessels", "public_vessels", "{schema}_{table}")]
    #[case("public", "Vessels", "VESSELS_now", "{table:upper}_now")]
    #[case("public", "VesselStays", "q_vessel_stays", "q_{table:snake}")]
    #[case("public", "tbl_vessels", "vessels", "{table:after(tbl_)}")]
    #[case("Quay", "t_stays_v1", "quay_t_stays", "{schema:lower}_{table:before(_v1)}")]
    fn a_rule_is_found_from_an_example(
        #[case] schema: &str,
        #[case] table: &str,
        #[case] target: &str,
        #[case] expected: &str,
    ) {
        let table = TableName::new(schema, table);
        let found = Naming::from_example(&table, target);
        assert!(found.iter().all(|rule| rule.name(&table) == target));
        assert_eq!(found[0].to_string(), expected);
    }
}

//! Writing a project file from answers: commented, and readable by [`crate::project::config::Project::parse`].

use crate::project::edit::include_line;
use toml_edit::{Key, Value};

/// What is written of a source or target.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct EndAnswer {
    /// Its kind.
    pub kind: &'static str,
    /// What is to be known of it, as a sentence; may be empty.
    pub about: &'static str,
    /// Its keys: first the one that says where it is.
    pub keys: Vec<KeyAnswer>,
    /// Where its password comes from.
    pub password: Option<PasswordAnswer>,
}

/// A key with its value.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KeyAnswer {
    /// The key.
    pub key: &'static str,
    /// Its value, a text.
    pub value: String,
    /// What it is for, as a sentence; may be empty.
    pub about: &'static str,
}

impl KeyAnswer {
    /// A key that needs no word.
    pub fn plain(key: &'static str, value: impl Into<String>) -> Self {
        Self { key, value: value.into(), about: "" }
    }
}

/// Where a password comes from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PasswordAnswer {
    /// An environment variable.
    Env(String),
    /// A file.
    File(String),
    /// What a program prints.
    Command(Vec<String>),
}

/// All that a project file says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Answers {
    /// The source's name.
    pub source_name: String,
    /// The source.
    pub source: EndAnswer,
    /// The target's name.
    pub target_name: String,
    /// The target.
    pub target: EndAnswer,
    /// The pipeline's name.
    pub pipeline: String,
    /// Patterns of tables that are carried; all if there is none.
    pub include: Vec<String>,
    /// Patterns of tables that are not.
    pub exclude: Vec<String>,
    /// How target tables are named.
    pub into: String,
}

/// A name that can stand for something else's: lower-case letters, digits and underscores.
pub fn plain_name(text: &str) -> String {
    let plain: String =
        text.to_lowercase().chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '_' }).collect();
    let trimmed = plain.trim_matches('_');
    if trimmed.is_empty() { "source".into() } else { trimmed.chars().take(40).collect() }
}

/// A text as TOML writes it, in quotes.
pub fn quoted(text: &str) -> String {
    Value::from(text).to_string()
}

/// A name as TOML writes it in front of `=`: in quotes where it needs them.
pub fn key(name: &str) -> String {
    Key::new(name).to_string()
}

/// The project file's text.
pub fn project_text(answers: &Answers) -> String {
    let mut lines = vec![
        "# What Moorage carries, from where to where. `moorage check` says whether both ends are ready,"
            .to_string(),
        "# `moorage plan` what a run will make, `moorage run` does it. All keys: docs/project-file.md."
            .into(),
        String::new(),
    ];
    end_lines(&mut lines, "# Where rows come from.", "sources", &answers.source_name, &answers.source);
    lines.push(String::new());
    end_lines(&mut lines, "# Where rows go.", "targets", &answers.target_name, &answers.target);
    lines.push(String::new());
    lines.push("# What is carried, together and consistently.".into());
    lines.push(format!("[pipelines.{}]", key(&answers.pipeline)));
    lines.push(format!("source = {}", quoted(&answers.source_name)));
    lines.push(format!("target = {}", quoted(&answers.target_name)));
    if !answers.include.is_empty() {
        lines.push("# Which tables: names or patterns on schema.table, * for any characters.".into());
        lines.push(include_line(&answers.include));
    }
    if !answers.exclude.is_empty() {
        lines.push(include_line(&answers.exclude).replacen("include", "exclude", 1));
    }
    lines.push(
        "# How target tables are named; {schema} and {table} can be changed, as in {table:lower}.".into(),
    );
    lines.push(format!("into = {}", quoted(&answers.into)));
    lines.push(
        "# How long changes are collected before a merge: raise it where every merge costs money.".into(),
    );
    lines.push("merge_every = \"1s\"".into());
    lines.push(String::new());
    lines.push("# Exceptions for some tables; later ones win. For example:".into());
    lines.push(format!("# [[pipelines.{}.rule]]", key(&answers.pipeline)));
    lines.push("# match = \"*.stays\"".into());
    lines.push("# drop = [\"note\"]                        # columns that are not carried".into());
    lines.push("# rename = { fee = \"fee_eur\" }".into());
    lines.push("# where = \"state <> 'cancelled'\"         # a condition in SQL".into());
    lines.join("\n") + "\n"
}

fn end_lines(lines: &mut Vec<String>, what: &str, list: &str, name: &str, end: &EndAnswer) {
    lines.push(format!("{what} {}", end.about).trim_end().into());
    lines.push(format!("[{list}.{}]", key(name)));
    lines.push(format!("kind = {}", quoted(end.kind)));
    for (at, KeyAnswer { key, value, about }) in end.keys.iter().enumerate() {
        if !about.is_empty() {
            lines.push(format!("# {about}"));
        }
        lines.push(format!("{key} = {}", quoted(value)));
        if let Some(password) = end.password.as_ref().filter(|_| at == 0) {
            lines.push("# The password never stands in this file, only where it comes from.".into());
            lines.push(format!("password = {}", password_text(password)));
        }
    }
}

fn password_text(password: &PasswordAnswer) -> String {
    match password {
        PasswordAnswer::Env(name) => format!("{{ env = {} }}", quoted(name)),
        PasswordAnswer::File(path) => format!("{{ file = {} }}", quoted(path)),
        PasswordAnswer::Command(words) => {
            let words: Vec<String> = words.iter().map(|w| quoted(w)).collect();
            format!("{{ command = [{}] }}", words.join(", "))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::project::config::Project;
    use crate::project::section::tests::AnyKind;

    #[test]
    fn what_is_written_can_be_read() {
        let end = |kind, keys: &[(&'static str, &str)]| EndAnswer {
            kind,
            about: "Said once.",
            keys: keys.iter().map(|(key, value)| KeyAnswer::plain(key, *value)).collect(),
            password: Some(PasswordAnswer::Command(vec!["pass".into(), "show \"x\"".into()])),
        };
        let answers = Answers {
            source_name: "harbour".into(),
            source: end("quay", &[("at", "db.example \"x\""), ("how", "by hand")]),
            target_name: "ware house".into(),
            target: end("shed", &[("path", "ware house.db")]),
            pipeline: "quay side".into(),
            include: vec!["public.*".into(), "\"odd.one\".x".into()],
            exclude: vec!["*_tmp".into()],
            into: "{table:lower}".into(),
        };
        let project = Project::parse("f", &project_text(&answers), &AnyKind).unwrap();
        let pipeline = &project.pipelines["quay side"];
        assert_eq!(*pipeline.include.get_ref(), answers.include);
        assert_eq!(*pipeline.exclude.get_ref(), answers.exclude);
        assert_eq!(project.targets["ware house"].section.text("path").unwrap(), "ware house.db");
        assert_eq!(project.sources["harbour"].section.text("at").unwrap(), "db.example \"x\"");
        let all = Answers { include: vec![], ..answers };
        assert!(Project::parse("f", &project_text(&all), &AnyKind).is_ok());
        assert_eq!(
            (plain_name("Harbour-DB.1").as_str(), plain_name("🛥").as_str()),
            ("harbour_db_1", "source")
        );
    }
}

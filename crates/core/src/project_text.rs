//! Writing a project file from answers: commented, and readable by [`crate::project::Project::parse`].

use crate::project_edit::include_line;
use toml_edit::{Key, Value};

/// Where rows come from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SourceAnswer {
    /// A PostgreSQL server.
    Postgres {
        /// Its address, without a password.
        url: String,
        /// Where the password comes from.
        password: Option<PasswordAnswer>,
        /// Whether changes are captured by triggers.
        by_trigger: bool,
    },
    /// A SQLite file.
    Sqlite {
        /// Its path.
        path: String,
    },
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
    pub source: SourceAnswer,
    /// The target's name.
    pub target_name: String,
    /// The target's SQLite file, or the address of a PostgreSQL database, without a password.
    pub target: String,
    /// Where the target's password comes from.
    pub target_password: Option<PasswordAnswer>,
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

fn quoted(text: &str) -> String {
    Value::from(text).to_string()
}

fn key(name: &str) -> String {
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
        "# Where rows come from.".into(),
        format!("[sources.{}]", key(&answers.source_name)),
    ];
    match &answers.source {
        SourceAnswer::Postgres { url, password, by_trigger } => {
            lines.push("kind = \"postgres\"".into());
            lines.push(format!("url = {}", quoted(url)));
            if let Some(password) = password {
                lines.push("# The password never stands in this file, only where it comes from.".into());
                lines.push(format!("password = {}", password_text(password)));
            }
            if *by_trigger {
                lines.push("# Triggers write each change into change tables; without this line the server's log is read.".into());
                lines.push("capture = \"trigger\"".into());
            }
        }
        SourceAnswer::Sqlite { path } => {
            lines.push("kind = \"sqlite\"".into());
            lines.push(format!("path = {}", quoted(path)));
        }
    }
    lines.push(String::new());
    lines.extend(target_lines(answers));
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

/// Whether a text is a server's address and no file.
pub fn is_address(text: &str) -> bool {
    text.starts_with("postgres://") || text.starts_with("postgresql://")
}

fn target_lines(answers: &Answers) -> Vec<String> {
    let head = format!("[targets.{}]", key(&answers.target_name));
    let (name, target) = (quoted(&answers.target), &answers.target_password);
    if !is_address(&answers.target) {
        let what =
            "# Where rows go. The first run makes the file; any program that reads SQLite can look at it.";
        return vec![what.into(), head, "kind = \"sqlite\"".into(), format!("path = {name}")];
    }
    let what = "# Where rows go. `schema` is that of tables for which `into` names none.";
    let mut lines = vec![what.into(), head, "kind = \"postgres\"".into(), format!("url = {name}")];
    lines.extend(target.as_ref().map(|password| format!("password = {}", password_text(password))));
    lines.push("schema = \"public\"".into());
    lines
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
    use crate::project::Project;

    #[test]
    fn what_is_written_can_be_read() {
        let answers = Answers {
            source_name: "harbour".into(),
            source: SourceAnswer::Postgres {
                url: "postgres://moorage@db.example/harbour".into(),
                password: Some(PasswordAnswer::Command(vec!["pass".into(), "show \"x\"".into()])),
                by_trigger: true,
            },
            target_name: "warehouse".into(),
            target: "ware house.db".into(),
            target_password: None,
            pipeline: "quay side".into(),
            include: vec!["public.*".into(), "\"odd.one\".x".into()],
            exclude: vec!["*_tmp".into()],
            into: "{table:lower}".into(),
        };
        let project = Project::parse("f", &project_text(&answers)).unwrap();
        let pipeline = &project.pipelines["quay side"];
        assert_eq!(*pipeline.include.get_ref(), answers.include);
        assert_eq!(*pipeline.exclude.get_ref(), answers.exclude);
        assert_eq!(project.targets["warehouse"].path.as_ref().unwrap().get_ref(), &answers.target);
        let file = Answers {
            source: SourceAnswer::Sqlite { path: "harbour.db".into() },
            include: vec![],
            ..answers
        };
        assert!(Project::parse("f", &project_text(&file)).is_ok());
        let server = Answers {
            target: "postgres://moorage@wh.example/quay".into(),
            target_password: Some(PasswordAnswer::Env("WH".into())),
            ..file
        };
        let project = Project::parse("f", &project_text(&server)).unwrap();
        assert_eq!(project.targets["warehouse"].url.as_ref().unwrap().get_ref(), &server.target);
        assert_eq!(
            (plain_name("Harbour-DB.1").as_str(), plain_name("🛥").as_str()),
            ("harbour_db_1", "source")
        );
    }
}

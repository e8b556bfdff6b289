//! Arguments of what comes before the first run: `init`, `check`, `tables`, `plan`.

use super::common::Pipelines;
use clap::builder::{PossibleValue, PossibleValuesParser};
use clap::{Args as ClapArgs, ValueEnum};
use moorage_systems::source_kinds;
use std::path::PathBuf;

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum ScriptOf {
    /// The source's server
    Source,
    /// The target's server
    Target,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum ScriptPart {
    /// PostgreSQL by its log: an event trigger that tells of changes of structure in their place
    EventTrigger,
    /// PostgreSQL: a function that lets tables be carried that are made later and that the patterns mean
    NewTables,
}

#[derive(Debug, ClapArgs)]
pub struct CheckArgs {
    #[command(flatten)]
    pub pipelines: Pipelines,
    /// Print the script for the administrator of one end instead
    #[arg(long, value_enum, value_name = "END")]
    pub sql: Option<ScriptOf>,
    /// Print this part of the source's script alone, which can be done without
    #[arg(long, value_enum, value_name = "PART", requires = "sql")]
    pub part: Option<ScriptPart>,
    /// Print what takes back what the script did
    #[arg(long, requires = "sql")]
    pub undo: bool,
    /// Log in as this user to look around, with the password in MOORAGE_PASSWORD if it has one
    #[arg(long = "as", value_name = "USER", requires = "sql")]
    pub log_in_as: Option<String>,
    /// The role that the script is for, if not the one of the project file
    #[arg(long, value_name = "NAME", requires = "sql")]
    pub role: Option<String>,
}

#[derive(Debug, ClapArgs)]
pub struct TablesArgs {
    #[command(flatten)]
    pub pipelines: Pipelines,
    /// List columns too
    #[arg(long)]
    pub columns: bool,
    /// Try this pattern in place of the project file's; may be given several times
    #[arg(long, value_name = "PATTERN")]
    pub include: Vec<String>,
    /// Exclude by this pattern too; may be given several times
    #[arg(long, value_name = "PATTERN")]
    pub exclude: Vec<String>,
    /// Turn a list of names (separated by commas, blanks or lines; - for standard input) into an include list
    #[arg(long, value_name = "FILE", conflicts_with_all = ["include", "exclude", "columns"])]
    pub from_list: Option<PathBuf>,
    /// Write the list into the project file
    #[arg(long, requires = "from_list")]
    pub write: bool,
}

#[derive(Debug, ClapArgs)]
pub struct PlanArgs {
    #[command(flatten)]
    pub pipelines: Pipelines,
    /// Print the statements that make the target tables
    #[arg(long)]
    pub ddl: bool,
    /// Write them into this folder, one file a table; files that were changed by hand are left alone
    #[arg(long, value_name = "DIR", conflicts_with = "ddl")]
    pub ddl_dir: Option<PathBuf>,
    /// Find the naming rule behind one example, and try it on all picked tables
    #[arg(long, value_name = "TABLE=TARGET", conflicts_with_all = ["ddl", "ddl_dir"])]
    pub example: Option<String>,
    /// Write the rule that was found into the project file
    #[arg(long, requires = "example")]
    pub write: bool,
}

#[derive(Debug, Default, ClapArgs)]
pub struct InitArgs {
    /// Which system rows come from
    #[arg(long, value_parser = PossibleValuesParser::new(source_words()))]
    pub kind: Option<String>,
    /// The address of a source that is a server, such as postgres://user@host:port/database
    #[arg(long, conflicts_with = "path")]
    pub url: Option<String>,
    /// The path of a source that is a file
    #[arg(long, value_name = "FILE")]
    pub path: Option<String>,
    /// The environment variable with the password
    #[arg(long, value_name = "NAME", group = "password")]
    pub password_env: Option<String>,
    /// The file with the password
    #[arg(long, value_name = "FILE", group = "password")]
    pub password_file: Option<String>,
    /// The program, with arguments, that prints the password
    #[arg(long, value_name = "COMMAND", group = "password")]
    pub password_command: Option<String>,
    /// How changes are captured
    #[arg(long, value_parser = ["log", "trigger"])]
    pub capture: Option<String>,
    /// Tables that are carried; may be given several times
    #[arg(long, value_name = "PATTERN")]
    pub include: Vec<String>,
    /// Tables that are not; may be given several times
    #[arg(long, value_name = "PATTERN")]
    pub exclude: Vec<String>,
    /// Where rows go: a file, a folder of lake tables such as lake/, or a server's address such as postgres://user@host:port/database
    #[arg(long, value_name = "FILE|ADDRESS")]
    pub target: Option<String>,
    /// The environment variable with the target's password
    #[arg(long, value_name = "NAME")]
    pub target_password_env: Option<String>,
    /// How target tables are named, such as {schema}_{table}
    #[arg(long, value_name = "NAMING")]
    pub into: Option<String>,
    /// The pipeline's name
    #[arg(long, value_name = "NAME")]
    pub pipeline: Option<String>,
    /// Write the file without trying the connection
    #[arg(long)]
    pub no_connection: bool,
    /// Replace a project file that is there
    #[arg(long)]
    pub force: bool,
}

/// The kinds of sources, as an option names them.
fn source_words() -> Vec<PossibleValue> {
    source_kinds().map(|(kind, _)| PossibleValue::new(kind.word()).help(kind.about())).collect()
}

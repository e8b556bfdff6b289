//! The command line. Doc comments here are the help texts.

use clap::{Args as ClapArgs, Parser, Subcommand, ValueEnum};
use std::path::PathBuf;
use std::time::Duration;

/// Keeps tables of operational databases mirrored in a warehouse.
///
/// Moorage reads a first snapshot of the tables you pick, then follows the source's own change log and
/// merges inserts, updates and deletes into the target, exactly and in order. Stopping it at any moment,
/// however rudely, and starting it again gives the same target as never stopping.
#[derive(Debug, Parser)]
#[command(
    name = "moorage",
    version,
    after_help = "\
Getting started:
  moorage demo                       all of it on made-up data, with nothing to install
  moorage init                       write a project file: asks, and tests the connection
  moorage check                      are both ends ready?
  moorage plan                       what will be made in the target?
  moorage run --until caught-up      copy, catch up, and end
  moorage run                        copy what is missing, then follow changes until stopped
  moorage status                     how far is it? (also while nothing runs)
  moorage verify                     do both sides agree?

Exit codes: 0 done, 1 failed, 2 wrong usage or project file, 3 a check, plan or comparison found something."
)]
pub struct Args {
    #[command(flatten)]
    pub global: Global,
    #[command(subcommand)]
    pub command: Command,
}

#[derive(Clone, Debug, ClapArgs)]
#[command(next_help_heading = "Global options")]
pub struct Global {
    /// The project file
    #[arg(short, long, global = true, env = "MOORAGE_FILE", default_value = "moorage.toml")]
    pub file: PathBuf,
    /// How results are written; `run` writes one JSON document a line
    #[arg(long, global = true, value_enum, default_value = "text")]
    pub format: Format,
    /// When to use colour (NO_COLOR is respected too)
    #[arg(long, global = true, value_enum, default_value = "auto")]
    pub color: Color,
    /// Say only what went wrong
    #[arg(short, long, global = true)]
    pub quiet: bool,
    /// Say more; twice for diagnostics
    #[arg(short, long, global = true, action = clap::ArgAction::Count)]
    pub verbose: u8,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Format {
    Text,
    Json,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Color {
    Auto,
    Always,
    Never,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    /// Write a commented project file: asks on a terminal, or takes everything from options
    #[command(after_help = "\
Examples:
  moorage init                                     asks, and tests the connection at once
  moorage init --kind postgres --url postgres://moorage@db.example/harbour --password-env HARBOUR_PASSWORD \\
               --include 'public.*' --target warehouse.db --into '{table}'
  moorage init --kind sqlite --path harbour.db --target warehouse.db

A password is never written: the file says where it comes from.")]
    Init(InitArgs),
    /// Are both ends ready? What was found, why it matters, what mends it
    #[command(after_help = "\
Examples:
  moorage check                        every finding, grouped by end
  moorage check --sql source > source.sql     the script that makes a role with just the rights it needs
  moorage check --sql source --as postgres    asks as an administrator, while that role is not there yet
  moorage check --sql target > target.sql     likewise for the target's server
  moorage check --sql source --undo           and what takes that back

Safe beside a live run: what it tries, it takes back. Exit code 3: there is a blocker.")]
    Check(CheckArgs),
    /// What is in the source: keys, rows, sizes, columns, and what the pipeline picks
    #[command(after_help = "\
Examples:
  moorage tables                                  schemas first, then tables
  moorage tables --columns
  moorage tables --include 'public.*' --exclude '*_tmp'    tries patterns before they are written
  cat list | moorage tables --from-list -         a pasted list of names as an include list
  moorage tables --from-list wanted.txt --write   and into the project file with it

A pattern that means no table is an error that names near misses.")]
    Tables(TablesArgs),
    /// What a run will create, map and refuse
    #[command(after_help = "\
Examples:
  moorage plan                                    tables, columns, types, and how long it will take
  moorage plan --ddl                              the statements that make the target tables
  moorage plan --ddl-dir ddl                      one file a table; what is changed there by hand is used
  moorage plan --example main.vessels=quay_vessels          the naming rule behind one example
  moorage plan --example main.vessels=quay_vessels --write  and into the project file with it

Exit code 3: a table is blocked.")]
    Plan(PlanArgs),
    /// Copy what is missing, then follow changes until stopped
    #[command(after_help = "\
Examples:
  moorage run                          all pipelines of the project file, until Ctrl-C
  moorage run quayside --for 10m       one pipeline, for ten minutes
  moorage run --until caught-up        end when all that is committed now is in the target
  moorage run --snapshot-only          copy once, follow nothing, leave nothing in the source
  moorage run --start now              no copy: only the changes from now on

Ctrl-C finishes the batch in hand, saves and ends; a second one ends at once. Either way nothing is lost.")]
    Run(RunArgs),
    /// How far each pipeline and table is, also while nothing runs
    Status(Pipelines),
    /// The first rows of a table, mapped as the target will hold them
    #[command(after_help = "\
Examples:
  moorage preview                      the first rows of every picked table
  moorage preview vessels --rows 20    of one table
  moorage preview stays --source       as they are, before they are mapped
  moorage preview stays --target --newest 10    what the target holds")]
    Preview(PreviewArgs),
    /// One row on both sides, side by side
    #[command(after_help = "\
Examples:
  moorage row vessels 7
  moorage row meter_readings 3 '2026-06-01 06:00:00'    a key of two columns
  moorage row vessels 7 --wait         until both sides agree, with the time at each step

Needs the right to read, nothing else. Exit code 3: the two sides differ.")]
    Row(RowArgs),
    /// Follow a table's changes as they are captured
    #[command(after_help = "\
Examples:
  moorage changes stays                            from now on, until Ctrl-C
  moorage changes stays --from start               with all that the source still keeps
  moorage changes stays --from 2026-06-01T14:00:00Z --limit 20
  moorage changes stays --format json | jq .key    one JSON document a line

The pipeline's own position does not move, whether it runs or not.")]
    Changes(ChangesArgs),
    /// Compare both sides row by row, also while changes go on
    #[command(after_help = "\
Examples:
  moorage verify                       every row of every table
  moorage verify --table stays         one table
  moorage verify --counts-only         row counts, which must differ by exactly what is on its way

A row that differs is set aside as on its way only if a captured change to that very key lies between the two
looks. Exit code 3: a difference was found.")]
    Verify(VerifyArgs),
    /// Read tables again while the others go on
    #[command(after_help = "\
Examples:
  moorage resnapshot public.berths     one table; its old rows can be read until the new ones are complete
  moorage resnapshot --all             all tables, with a new slot: after a restore, or a lost slot")]
    Resnapshot(ResnapshotArgs),
    /// List, show, retry or drop the changes that the target refused
    ///
    /// With `on_reject = "set_aside"` in the project file, a change that the target refuses is kept there with its
    /// reason, and everything else is applied. Later changes of the same row wait behind it, and are applied in
    /// their order once it is retried or dropped. A pipeline may go on running meanwhile.
    #[command(after_help = "\
Examples:
  moorage rejects                      all that is set aside
  moorage rejects show 12              one change with its values
  moorage rejects retry 12             after mending what refused it
  moorage rejects retry --all
  moorage rejects drop 12              give it up; what waits behind it is applied

Exit code 3: something was tried and is still refused.")]
    Rejects(RejectsArgs),
    /// Keep a source busy with the demo's business, or with your own statements
    #[command(after_help = "\
Examples:
  moorage churn harbour                              twenty transactions a second until Ctrl-C
  moorage churn harbour --rate 300 --for 1m          three hundred, for a minute
  moorage churn harbour --rate 0 --until 100000      as fast as the source takes them
  moorage churn harbour --script busy.sql            your own statements, again and again")]
    Churn(ChurnArgs),
    /// The whole thing on made-up data, with nothing to install
    #[command(after_help = "\
Examples:
  moorage demo                         in the folder pellow-quay, in well under a minute
  moorage demo /tmp/quay --rows 1000000 --seconds 30
  moorage demo --keep-running          goes on until Ctrl-C, to look at from a second terminal

Killed, and started again on the same folder, it goes on. Exit code 3: the two sides differed.")]
    Demo(DemoArgs),
    /// List, then remove, what Moorage made in the source (and, if asked, the target)
    Teardown(TeardownArgs),
}

#[derive(Clone, Debug, ClapArgs)]
pub struct Pipelines {
    /// Names from the project file; all if none is given
    #[arg(value_name = "PIPELINE")]
    pub pipelines: Vec<String>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum ScriptOf {
    /// The source's server
    Source,
    /// The target's server
    Target,
}

#[derive(Debug, ClapArgs)]
pub struct CheckArgs {
    #[command(flatten)]
    pub pipelines: Pipelines,
    /// Print the script for the administrator of one end instead
    #[arg(long, value_enum, value_name = "END")]
    pub sql: Option<ScriptOf>,
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

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Kind {
    /// A PostgreSQL server
    Postgres,
    /// A SQLite file
    Sqlite,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum CaptureWay {
    /// From the source's own log
    Log,
    /// From change tables that triggers fill
    Trigger,
}

#[derive(Debug, Default, ClapArgs)]
pub struct InitArgs {
    /// Which system rows come from
    #[arg(long, value_enum)]
    pub kind: Option<Kind>,
    /// Where a PostgreSQL source is: postgres://user@host:port/database
    #[arg(long, conflicts_with = "path")]
    pub url: Option<String>,
    /// Where a SQLite source is
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
    #[arg(long, value_enum)]
    pub capture: Option<CaptureWay>,
    /// Tables that are carried; may be given several times
    #[arg(long, value_name = "PATTERN")]
    pub include: Vec<String>,
    /// Tables that are not; may be given several times
    #[arg(long, value_name = "PATTERN")]
    pub exclude: Vec<String>,
    /// Where rows go: a SQLite file, or postgres://user@host:port/database
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

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Until {
    /// Everything that was committed when the run began is in the target
    CaughtUp,
}

#[derive(Debug, ClapArgs)]
pub struct RunArgs {
    #[command(flatten)]
    pub pipelines: Pipelines,
    /// End when this is reached
    #[arg(long, value_enum, value_name = "WHAT")]
    pub until: Option<Until>,
    /// End after this time, such as 30s, 10m or 2h
    #[arg(long = "for", value_name = "TIME", value_parser = duration)]
    pub duration: Option<Duration>,
    /// Copy the tables once and end; needs no replication right and leaves nothing in the source
    #[arg(long, conflicts_with_all = ["until", "start"])]
    pub snapshot_only: bool,
    /// End when standard input is closed: for programs that start this one
    #[arg(long, hide = true)]
    pub with_stdin: bool,
    /// Begin a new pipeline without a copy: `now`, or a position that an existing slot still reaches
    #[arg(long, value_name = "now|POSITION")]
    pub start: Option<String>,
}

#[derive(Debug, ClapArgs)]
pub struct PreviewArgs {
    /// A table of the source; every picked one if none is given
    #[arg(value_name = "TABLE")]
    pub table: Option<String>,
    /// How many rows
    #[arg(long, value_name = "N", default_value_t = 5)]
    pub rows: usize,
    /// Show the source's rows as they are, without mapping
    #[arg(long, conflicts_with = "target")]
    pub source: bool,
    /// Show what the target holds instead
    #[arg(long)]
    pub target: bool,
    /// The rows that came into the target last, the newest first
    #[arg(long, value_name = "N", requires = "target", conflicts_with = "rows")]
    pub newest: Option<usize>,
    /// The pipeline, where the project file has several
    #[arg(long)]
    pub pipeline: Option<String>,
}

#[derive(Debug, ClapArgs)]
pub struct RowArgs {
    /// A table of the source
    #[arg(value_name = "TABLE")]
    pub table: String,
    /// The values of the key's columns
    #[arg(value_name = "KEY", required = true, allow_negative_numbers = true)]
    pub key: Vec<String>,
    /// Follow the row until both sides agree
    #[arg(long)]
    pub wait: bool,
    /// Wait no longer than this
    #[arg(long = "for", value_name = "TIME", value_parser = duration, requires = "wait")]
    pub duration: Option<Duration>,
    /// The pipeline, where the project file has several
    #[arg(long)]
    pub pipeline: Option<String>,
}

#[derive(Debug, ClapArgs)]
pub struct ChangesArgs {
    /// A table of the source
    #[arg(value_name = "TABLE")]
    pub table: String,
    /// Where to begin: now, start, a position, or a time as 2026-06-01T14:00:00Z
    #[arg(long, value_name = "WHERE", default_value = "now")]
    pub from: String,
    /// End after so many changes
    #[arg(long, value_name = "N")]
    pub limit: Option<u64>,
    /// End after this time
    #[arg(long = "for", value_name = "TIME", value_parser = duration)]
    pub duration: Option<Duration>,
    /// The pipeline, where the project file has several
    #[arg(long)]
    pub pipeline: Option<String>,
}

#[derive(Debug, ClapArgs)]
pub struct VerifyArgs {
    #[command(flatten)]
    pub pipelines: Pipelines,
    /// Only this table; may be given several times
    #[arg(long, value_name = "TABLE")]
    pub table: Vec<String>,
    /// Only count rows
    #[arg(long)]
    pub counts_only: bool,
    /// How many differing rows of a table are shown
    #[arg(long, value_name = "ROWS", default_value_t = 5)]
    pub show: usize,
}

#[derive(Debug, ClapArgs)]
pub struct ChurnArgs {
    /// A source of the project file; the only one if there is one
    #[arg(value_name = "SOURCE")]
    pub source: Option<String>,
    /// Transactions a second; 0 for as many as the source takes
    #[arg(long, value_name = "N", default_value_t = 20.0, value_parser = rate)]
    pub rate: f64,
    /// Every ten seconds so many transactions more at once
    #[arg(long, value_name = "N", default_value_t = 0)]
    pub burst: u64,
    /// End after this time, such as 30s, 10m or 2h
    #[arg(long = "for", value_name = "TIME", value_parser = duration)]
    pub duration: Option<Duration>,
    /// End after so many transactions
    #[arg(long, value_name = "N")]
    pub until: Option<u64>,
    /// The same seed on the same rows does the same
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub seed: u64,
    /// Rows of a large transaction, of which there is one in a thousand
    #[arg(long, value_name = "ROWS", default_value_t = 2000)]
    pub large: u64,
    /// A file of SQL statements to run again and again instead
    #[arg(long, value_name = "FILE")]
    pub script: Option<PathBuf>,
}

#[derive(Debug, ClapArgs)]
pub struct DemoArgs {
    /// The folder it is written to; it is made if it is missing
    #[arg(value_name = "DIR", default_value = "pellow-quay")]
    pub folder: PathBuf,
    /// Rows of the source to begin with
    #[arg(long, value_name = "N", default_value_t = 20_000, value_parser = clap::value_parser!(u64).range(1_000..=10_000_000))]
    pub rows: u64,
    /// How long changes go on
    #[arg(long, value_name = "N", default_value_t = 8, value_parser = clap::value_parser!(u64).range(2..=3600))]
    pub seconds: u64,
    /// The same seed gives the same data
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub seed: u64,
    /// Go on with changes and merges afterwards, until Ctrl-C
    #[arg(long)]
    pub keep_running: bool,
}

#[derive(Debug, ClapArgs)]
pub struct ResnapshotArgs {
    /// Tables of the source, as schema.table
    #[arg(value_name = "TABLE", required_unless_present = "all", conflicts_with = "all")]
    pub tables: Vec<String>,
    /// All tables, with a new slot
    #[arg(long)]
    pub all: bool,
    /// The pipeline, where the project file has several
    #[arg(long)]
    pub pipeline: Option<String>,
}

#[derive(Debug, ClapArgs)]
#[command(args_conflicts_with_subcommands = true)]
pub struct RejectsArgs {
    #[command(subcommand)]
    pub action: Option<RejectsAction>,
    /// Only those of this table of the source
    #[arg(value_name = "TABLE")]
    pub table: Option<String>,
    /// The pipeline, where the project file has several
    #[arg(long, global = true)]
    pub pipeline: Option<String>,
}

#[derive(Debug, Subcommand)]
pub enum RejectsAction {
    /// Show one change with its values
    Show {
        /// Its number in the list
        #[arg(value_name = "NUMBER")]
        id: i64,
    },
    /// Apply changes again, those that wait behind them too
    Retry(Which),
    /// Give changes up, and apply what waits behind them
    Drop(Which),
}

#[derive(Debug, ClapArgs)]
pub struct Which {
    /// Numbers in the list
    #[arg(value_name = "NUMBER", required_unless_present = "all", conflicts_with = "all")]
    pub ids: Vec<i64>,
    /// All of them
    #[arg(long)]
    pub all: bool,
}

#[derive(Debug, ClapArgs)]
pub struct TeardownArgs {
    #[command(flatten)]
    pub pipelines: Pipelines,
    /// Also remove the target's tables and checkpoint
    #[arg(long)]
    pub target: bool,
    /// Only list what would be removed
    #[arg(long)]
    pub dry_run: bool,
    /// Let go of a table that is not in the source or not picked any more, and of nothing else; with --target its
    /// target table is removed
    #[arg(long = "table", value_name = "TABLE", conflicts_with = "dry_run")]
    pub tables: Vec<String>,
}

fn rate(text: &str) -> Result<f64, String> {
    match text.parse::<f64>() {
        Ok(rate) if (0.0..=1e6).contains(&rate) => Ok(rate),
        _ => Err("a number from 0 to 1000000".into()),
    }
}

fn duration(text: &str) -> Result<Duration, String> {
    moorage_core::project::parse_duration(text)
        .ok_or_else(|| "a number with ms, s, m or h, such as 10m".into())
}

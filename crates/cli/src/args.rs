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
  write moorage.toml (see README.md), then
  moorage check                      are both ends ready?
  moorage plan                       what will be made in the target?
  moorage run --until caught-up      copy, catch up, and end
  moorage run                        copy what is missing, then follow changes until stopped
  moorage status                     how far is it? (also while nothing runs)

Exit codes: 0 done, 1 failed, 2 wrong usage or project file, 3 a check or plan found something."
)]
pub struct Args {
    #[command(flatten)]
    pub global: Global,
    #[command(subcommand)]
    pub command: Command,
}

#[derive(Clone, Debug, ClapArgs)]
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
    /// Are both ends ready? One row a finding: what, why it matters, what mends it
    Check(Pipelines),
    /// What is in the source: keys, rows, sizes, and what the pipeline picks
    Tables(Pipelines),
    /// What a run will create, map and refuse
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
    /// Have the next run read tables again from empty
    #[command(after_help = "\
Examples:
  moorage resnapshot public.berths     one table; the others just go on
  moorage resnapshot --all             all tables, with a new slot: after a restore, or a lost slot")]
    Resnapshot(ResnapshotArgs),
    /// List, then remove, what Moorage made in the source (and, if asked, the target)
    Teardown(TeardownArgs),
}

#[derive(Clone, Debug, ClapArgs)]
pub struct Pipelines {
    /// Names from the project file; all if none is given
    #[arg(value_name = "PIPELINE")]
    pub pipelines: Vec<String>,
}

#[derive(Debug, ClapArgs)]
pub struct PlanArgs {
    #[command(flatten)]
    pub pipelines: Pipelines,
    /// Print the statements that make the target tables
    #[arg(long)]
    pub ddl: bool,
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
    /// Begin a new pipeline without a copy: `now`, or a position that an existing slot still reaches
    #[arg(long, value_name = "now|POSITION")]
    pub start: Option<String>,
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
pub struct TeardownArgs {
    #[command(flatten)]
    pub pipelines: Pipelines,
    /// Also remove the target's tables and checkpoint
    #[arg(long)]
    pub target: bool,
    /// Only list what would be removed
    #[arg(long)]
    pub dry_run: bool,
}

fn duration(text: &str) -> Result<Duration, String> {
    moorage_core::project::parse_duration(text)
        .ok_or_else(|| "a number with ms, s, m or h, such as 10m".into())
}

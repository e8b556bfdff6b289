//! The command line. Doc comments here are the help texts.

mod alerts;
mod before;
mod common;
mod demo;
mod drift;
mod look;
mod watch;

use crate::args::common::{duration, listen_address};
pub use alerts::{AlertsAction, AlertsArgs, AlertsCheckArgs};
pub use before::{CheckArgs, InitArgs, PlanArgs, ScriptOf, ScriptPart, TablesArgs};
pub use common::{Color, Format, Global, Pipelines};
pub use demo::{ChurnArgs, DemoArgs};
pub use drift::{DriftAction, DriftArgs, DriftWhich};
pub use look::{ChangesArgs, PreviewArgs, RowArgs, VerifyArgs};
pub use watch::{HistoryArgs, LagArgs, LagBy, ReportArgs, StatusArgs, WatchArgs};

use clap::{Args as ClapArgs, Parser, Subcommand, ValueEnum};
use std::net::SocketAddr;
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
    Init(Box<InitArgs>),
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
  moorage run --listen 9187            with figures at http://127.0.0.1:9187/metrics

Ctrl-C finishes the batch in hand, saves and ends; a second one ends at once. Either way nothing is lost.")]
    Run(RunArgs),
    /// How far each pipeline and table is, also while nothing runs
    ///
    /// What is wrong comes first. With -v also what reads, queues and writes, how fast, and what each waits for.
    #[command(after_help = "\
Examples:
  moorage status                       what is wrong, how far behind, and a line a table
  moorage status -v                    with reader, queue and writer
  moorage status --count               with the rows of every target table, however long that takes")]
    Status(StatusArgs),
    /// How far behind: now, and over the last minute, hour, day and week
    ///
    /// Lag is the time from a commit in the source until the target holds it. It is made of capture (until it was read),
    /// queue (until its batch was taken up) and apply (until the target had committed).
    #[command(after_help = "\
Examples:
  moorage lag                          now, quantiles, the slowest and the last transactions
  moorage lag --by table               a line a table
  moorage lag --over 2s --since 7d     the slowest of a week, and where their time went
  moorage lag --format csv --since 1d  points over time, for a chart of your own")]
    Lag(LagArgs),
    /// The same, live on the terminal
    ///
    /// All pipelines, and one with its lag over time, its rates, its tables and its last transactions.
    /// It only reads what runs publish, and slows none. Keys stand in the last line; q ends.
    #[command(after_help = "\
Examples:
  moorage watch                        beside a run that goes on in another terminal
  moorage watch quayside")]
    Watch(WatchArgs),
    /// Who is told when something is wrong, and what is raised now
    ///
    /// Alerts stand in the project file. A run looks at them while it goes on; `alerts check` looks from outside.
    #[command(after_help = "\
Examples:
  moorage alerts                       what is raised, the alerts there are, and their receivers
  moorage alerts test duty             send a test, and see the answer
  moorage alerts check                 for cron: look from outside, tell, and end with 3 if anything is raised

Exit code 3 (check): something is raised.")]
    Alerts(AlertsArgs),
    /// Past runs, and what happened in them
    #[command(after_help = "\
Examples:
  moorage history                      the last runs: begin, end, outcome, rows, reason
  moorage history 12                   everything that happened in run 12, in order
  moorage history --errors --since 7d  what went wrong in a week")]
    History(HistoryArgs),
    /// A stretch of time as one HTML file
    ///
    /// Lag, throughput, what the source kept, tables, drift, rejects, alerts and runs.
    /// It needs no network and no script, in a browser or on paper.
    #[command(after_help = "\
Examples:
  moorage report                       the last day, as moorage-report.html
  moorage report --since 7d -o week.html
  moorage report quayside --since 2026-06-01 --until 2026-06-02")]
    Report(ReportArgs),
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
  moorage resnapshot --all             all tables, with a new capture point: after a restore, or a lost slot")]
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
    /// Changes of structure that were met: what was done, and what waits for a decision
    ///
    /// A column that comes, goes or is changed in the source is followed in the target, in its place among the rows,
    /// left, held until someone decides, or stops the pipeline: as the project file says. While a table is held, its
    /// changes are kept beside its rows, and everything else goes on.
    #[command(after_help = drift::help())]
    Drift(DriftArgs),
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
    /// Fold what is old in tables that keep changes
    ///
    /// A row of a snapshot stands for all before it. What the table comes to stays the same, at that moment and at each later one; a run may go on beside it. Ended in
    /// between, what was done is done, and the rest is done the next time.
    #[command(after_help = "\
Examples:
  moorage tidy --older-than 90d --dry-run    how many rows would go
  moorage tidy quayside --older-than 90d
  moorage tidy                               as old as `tidy_after` in the project file says; a run does so by itself")]
    Tidy(TidyArgs),
    /// List, then remove, what Moorage made in the source (and, if asked, the target)
    Teardown(TeardownArgs),
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
    /// Serve figures by HTTP while it runs: /metrics, /healthz, /readyz and /status. A port, or an address and a port; a port alone is
    /// only reached from this machine
    #[arg(long, value_name = "ADDRESS", value_parser = listen_address)]
    pub listen: Option<SocketAddr>,
    /// End when standard input is closed: for programs that start this one
    #[arg(long, hide = true)]
    pub with_stdin: bool,
    /// Begin a new pipeline without a copy: `now`, or a position, or a commit time as 2026-11-01T03:00:00Z, that an existing
    /// capture point still reaches
    #[arg(long, value_name = "now|POSITION|TIME")]
    pub start: Option<String>,
}

#[derive(Debug, ClapArgs)]
pub struct ResnapshotArgs {
    /// Tables of the source, as schema.table
    #[arg(value_name = "TABLE", required_unless_present = "all", conflicts_with = "all")]
    pub tables: Vec<String>,
    /// All tables, with a new capture point
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
pub struct TidyArgs {
    #[command(flatten)]
    pub pipelines: Pipelines,
    /// How old changes are that are folded, such as 90d; if not given, as the project file says
    #[arg(long, value_name = "TIME", value_parser = duration)]
    pub older_than: Option<Duration>,
    /// Only say what would be done
    #[arg(long)]
    pub dry_run: bool,
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

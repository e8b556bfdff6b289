//! Arguments of `drift`.

use clap::{Args as ClapArgs, Subcommand};
use moorage_core::model::drift::DriftKind;

/// What stands below the help: every kind with its policies, the default first, and why.
pub(super) fn help() -> String {
    let mut text = String::from(
        "What can be done, by kind, the default first ([pipelines.NAME.drift], or `drift` in a rule):\n",
    );
    for kind in DriftKind::ALL {
        let words: Vec<&str> = kind.policies().iter().map(|p| p.word()).collect();
        text.push_str(&format!("  {:<16} {}\n", kind.word(), words.join(", ")));
        text.push_str(&format!("  {:<16}   {}: {}\n", "", words[0], kind.why_default()));
    }
    text.push_str(
        "\nExamples:
  moorage drift                    what was met last, and what waits for a decision
  moorage drift show 12            the structure before and after, and the target's statements
  moorage drift follow 12          the target changes likewise, and the table catches up
  moorage drift leave 12           the target stays as it is, and the table catches up
  moorage drift reread --all       all tables that wait are read again

A running pipeline does it at once, otherwise the next run does. Exit code 3: something waits.",
    );
    text
}

#[derive(Debug, ClapArgs)]
#[command(args_conflicts_with_subcommands = true)]
pub struct DriftArgs {
    #[command(subcommand)]
    pub action: Option<DriftAction>,
    /// Only that of this table of the source
    #[arg(value_name = "TABLE")]
    pub table: Option<String>,
    /// All that was ever met, not only the last
    #[arg(long)]
    pub all: bool,
    /// The pipeline, where the project file has several
    #[arg(long, global = true)]
    pub pipeline: Option<String>,
}

#[derive(Debug, Subcommand)]
pub enum DriftAction {
    /// Show one change: the structure before and after, and the target's statements
    Show {
        /// Its number in the list
        #[arg(value_name = "NUMBER")]
        id: u64,
    },
    /// Have the target change likewise, and the table catch up
    Follow(DriftWhich),
    /// Leave the target as it is, and have the table catch up
    Leave(DriftWhich),
    /// Have the table read again
    Reread(DriftWhich),
}

#[derive(Debug, ClapArgs)]
pub struct DriftWhich {
    /// Numbers in the list
    #[arg(value_name = "NUMBER", required_unless_present = "all", conflicts_with = "all")]
    pub ids: Vec<u64>,
    /// All that wait
    #[arg(long)]
    pub all: bool,
}

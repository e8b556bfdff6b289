//! Arguments of `alerts`.

use super::common::Pipelines;
use clap::{Args as ClapArgs, Subcommand};

#[derive(Debug, ClapArgs)]
pub struct AlertsArgs {
    #[command(subcommand)]
    pub action: Option<AlertsAction>,
}

#[derive(Debug, Subcommand)]
pub enum AlertsAction {
    /// Send a message that says that it is a test, and say what was answered
    Test {
        /// An alert: all its receivers; or a receiver
        #[arg(value_name = "NAME")]
        name: String,
    },
    /// Look now, from outside of any run, send what is to be sent, and end with 3 if anything is raised
    ///
    /// For cron, every minute: a pipeline that is stopped or stands still cannot tell of itself. What a run has told already is not
    /// told again.
    Check(AlertsCheckArgs),
}

#[derive(Debug, ClapArgs)]
pub struct AlertsCheckArgs {
    #[command(flatten)]
    pub pipelines: Pipelines,
    /// Only look: send nothing. What is to be sent waits for a run, or for a check that sends
    #[arg(long)]
    pub no_send: bool,
}

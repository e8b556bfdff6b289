//! One file a command.

mod alerts;
mod changes;
mod check;
mod churn;
mod demo;
mod drift;
mod history;
mod init;
mod lag;
mod plan;
mod preview;
mod rejects;
mod report;
mod resnapshot;
mod row;
mod run;
mod status;
mod tables;
mod teardown;
mod tidy;
mod verify;
mod watch;

use crate::args::Format;
use crate::args::{Args, Command};
use crate::exit;
use crate::failure::Failure;
use crate::signals::Held;
use std::process::ExitCode;

/// Carries out a command.
pub async fn carry_out(args: Args, held: Held) -> ExitCode {
    let global = &args.global;
    // Whoever does not hear them is ended by them, or asks for them in time.
    let held = Some(held).filter(|_| matches!(args.command, Command::Run(_) | Command::Watch(_)));
    let has_csv = matches!(args.command, Command::Lag(_) | Command::History(_));
    if global.format == Format::Csv && !has_csv {
        return exit::failed(
            global,
            &Failure::usage("--format csv is for `lag` and `history`; others write text or json"),
        );
    }
    let done = match args.command {
        Command::Init(which) => init::init(global, &which).await,
        Command::Check(which) => check::check(global, &which).await,
        Command::Tables(which) => tables::tables(global, &which).await,
        Command::Plan(which) => plan::plan(global, &which).await,
        Command::Run(which) => run::run(global, &which, held).await,
        Command::Status(which) => status::status(global, &which).await,
        Command::Lag(which) => lag::lag(global, &which).await,
        Command::Report(which) => report::report(global, &which).await,
        Command::Watch(which) => watch::watch(global, &which, held).await,
        Command::Alerts(which) => alerts::alerts(global, &which).await,
        Command::History(which) => history::history(global, &which).await,
        Command::Preview(which) => preview::preview(global, &which).await,
        Command::Row(which) => row::row(global, &which).await,
        Command::Changes(which) => changes::changes(global, &which).await,
        Command::Verify(which) => verify::verify(global, &which).await,
        Command::Churn(which) => churn::churn(global, &which).await,
        Command::Demo(which) => demo::demo(global, &which).await,
        Command::Resnapshot(which) => resnapshot::resnapshot(global, &which).await,
        Command::Rejects(which) => rejects::rejects(global, &which).await,
        Command::Drift(which) => drift::drift(global, &which).await,
        Command::Tidy(which) => tidy::tidy(global, &which).await,
        Command::Teardown(which) => teardown::teardown(global, &which).await,
    };
    exit::code(&args.global, done)
}

//! The program: reads the command line, calls the engine, renders what it says. No logic of its own.

mod args;
mod commands;
mod edit;
mod exit;
mod failure;
mod load;
mod render;
mod signals;

use clap::Parser;
use failure::Failure;

fn main() -> std::process::ExitCode {
    let args = match args::Args::try_parse() {
        Ok(args) => args,
        Err(error) => return exit::not_understood(&error),
    };
    let held = signals::hold();
    start_log(&args.global);
    // What the command line says of colour counts more than NO_COLOR, also for the library that draws tables.
    if args.global.color == args::Color::Always {
        crossterm::style::force_color_output(true);
    }
    let runtime = match tokio::runtime::Builder::new_multi_thread().enable_all().build() {
        Ok(runtime) => runtime,
        Err(error) => {
            return exit::failed(
                &args.global,
                &Failure::failed(format!("the runtime did not start: {error}")),
            );
        }
    };
    // A fault of ours is said in words, and ends like any other failure.
    std::panic::set_hook(Box::new(|fault| render::note(exit::fault_words(fault))));
    let carried_out = std::panic::AssertUnwindSafe(|| runtime.block_on(commands::carry_out(args, held)));
    let code = std::panic::catch_unwind(carried_out).unwrap_or(std::process::ExitCode::from(1));
    // Blocking work that is still going on (an index being built, say) is safe to be cut off.
    runtime.shutdown_background();
    code
}

/// Diagnostics go to stderr; `-v` asks for more of them.
fn start_log(global: &args::Global) {
    let level = match (global.quiet, global.verbose) {
        (true, _) => "error".to_string(),
        (false, 0) => "warn".into(),
        (false, 1) => "info".into(),
        (false, _) => {
            let adapters = moorage_systems::KINDS.iter().map(|kind| kind.crate_name());
            let crates: Vec<&str> = ["moorage", "moorage_engine"].into_iter().chain(adapters).collect();
            format!("{}=debug,info", crates.join("=debug,"))
        }
    };
    tracing_subscriber::fmt()
        .with_env_filter(tracing_subscriber::EnvFilter::new(level))
        .with_writer(std::io::stderr)
        // It would be told where it could not be written.
        .log_internal_errors(false)
        .with_target(false)
        .init();
}

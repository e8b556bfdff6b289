//! The program: reads the command line, calls the engine, renders what it says. No logic of its own.

mod args;
mod commands;
mod edit;
mod exit;
mod load;
mod render;

use clap::Parser;

fn main() -> std::process::ExitCode {
    let args = args::Args::parse();
    start_log(&args.global);
    let runtime = match tokio::runtime::Builder::new_multi_thread().enable_all().build() {
        Ok(runtime) => runtime,
        Err(error) => return exit::failed(&format!("the runtime did not start: {error}")),
    };
    let code = runtime.block_on(commands::carry_out(args));
    // Blocking work that is still going on (an index being built, say) is safe to be cut off.
    runtime.shutdown_background();
    code
}

/// Diagnostics go to stderr; `-v` asks for more of them.
fn start_log(global: &args::Global) {
    let level = match (global.quiet, global.verbose) {
        (true, _) => "error",
        (false, 0) => "warn",
        (false, 1) => "info",
        (false, _) => "moorage=debug,moorage_engine=debug,moorage_postgres=debug,moorage_sqlite=debug,info",
    };
    tracing_subscriber::fmt()
        .with_env_filter(tracing_subscriber::EnvFilter::new(level))
        .with_writer(std::io::stderr)
        .with_target(false)
        .init();
}

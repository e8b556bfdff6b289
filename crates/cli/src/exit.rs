//! Errors as exit codes and words: the one place where the two meet.

use crate::args::Global;
use crate::failure::Failure;
use crate::render;
use std::process::ExitCode;

/// What a command that did its work ends with.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Finished {
    /// All well.
    Clean,
    /// A check or plan found something.
    Found,
}

/// Says what failed and gives the exit code for it.
pub fn failed(global: &Global, failure: &Failure) -> ExitCode {
    render::failure(global, None, failure);
    ExitCode::from(if failure.is_usage { 2 } else { 1 })
}

/// Says what of the command line cannot be understood, as JSON where it asks for that; or the help that was asked for.
pub fn not_understood(error: &clap::Error) -> ExitCode {
    let given: Vec<_> = std::env::args_os().map(|a| a.to_string_lossy().into_owned()).collect();
    let json =
        given.windows(2).any(|two| two == ["--format", "json"]) || given.iter().any(|a| a == "--format=json");
    if error.use_stderr() && json {
        render::failure_as_json(None, &Failure::usage(error.to_string().trim()));
    } else if error.print().is_err() {
        return ExitCode::from(1);
    }
    ExitCode::from(error.exit_code() as u8)
}

/// The exit code of a command.
pub fn code(global: &Global, done: Result<Finished, Failure>) -> ExitCode {
    match done {
        Ok(_) if !render::all_written() => {
            failed(global, &Failure::failed("not everything could be written to standard output"))
        }
        Ok(Finished::Clean) => ExitCode::SUCCESS,
        Ok(Finished::Found) => ExitCode::from(3),
        Err(failure) => failed(global, &failure),
    }
}

/// What is said of a fault that stopped the program, or one pipeline of it.
pub fn fault_words(fault: &std::panic::PanicHookInfo<'_>) -> String {
    let rest = "Nothing of an open batch was applied";
    // The client library's own words where a column is not of the type that the statement gives it.
    let answer =
        fault.payload().downcast_ref::<String>().filter(|s| s.starts_with("error retrieving column"));
    match answer {
        Some(answer) => format!(
            "error: a server answered with other types than PostgreSQL does ({answer}). {rest}. Is it one, of version 14 or later, with nothing in between that changes answers?"
        ),
        None => format!("error: a fault of Moorage itself: {fault}. {rest}; please report it"),
    }
}

//! Errors as exit codes and words: the one place where the two meet.

use crate::render;
use std::process::ExitCode;

/// Why a command ends without success.
#[derive(Debug)]
pub enum Failure {
    /// The project file or the command line is wrong.
    Usage(String),
    /// It was tried and failed.
    Failed(String),
}

impl Failure {
    /// What it says.
    pub fn words(&self) -> &str {
        match self {
            Self::Usage(words) | Self::Failed(words) => words,
        }
    }
}

impl From<moorage_engine::EngineError> for Failure {
    fn from(error: moorage_engine::EngineError) -> Self {
        use moorage_engine::EngineError as E;
        match error {
            // What was named on the command line is not there, or is no such thing.
            E::UnknownTable { .. }
            | E::NoSuchTable { .. }
            | E::UnknownReject { .. }
            | E::NotAPosition { .. }
            | E::NotABeginning { .. }
            | E::WrongKey { .. } => Self::Usage(error.to_string()),
            _ => Self::Failed(error.to_string()),
        }
    }
}

impl From<moorage_adapter::AdapterError> for Failure {
    fn from(error: moorage_adapter::AdapterError) -> Self {
        Self::Failed(error.to_string())
    }
}

/// What a command that did its work ends with.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Finished {
    /// All well.
    Clean,
    /// A check or plan found something.
    Found,
}

/// Says what failed and gives code 1.
pub fn failed(message: &str) -> ExitCode {
    render::note(format!("error: {message}"));
    ExitCode::from(1)
}

/// The exit code of a command.
pub fn code(done: Result<Finished, Failure>) -> ExitCode {
    match done {
        Ok(_) if !render::all_written() => failed("not everything could be written to standard output"),
        Ok(Finished::Clean) => ExitCode::SUCCESS,
        Ok(Finished::Found) => ExitCode::from(3),
        Err(Failure::Failed(message)) => failed(&message),
        Err(Failure::Usage(message)) => {
            render::note(format!("error: {message}"));
            ExitCode::from(2)
        }
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

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

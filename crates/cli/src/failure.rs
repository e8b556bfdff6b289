//! Why a command ends without success.

/// Why a command ends without success.
#[derive(Clone, Debug)]
pub struct Failure {
    /// Whether the project file or the command line is wrong; otherwise it was tried, and failed.
    pub is_usage: bool,
    /// A word for programs, which stays the same.
    pub code: &'static str,
    /// What it says.
    pub words: String,
    /// What it is about, where that is one thing: `table public.berths`.
    pub object: Option<String>,
}

impl Failure {
    /// The project file or the command line is wrong.
    pub fn usage(words: impl Into<String>) -> Self {
        Self { is_usage: true, code: "usage", words: words.into(), object: None }
    }

    /// It was tried and failed.
    pub fn failed(words: impl Into<String>) -> Self {
        Self { is_usage: false, code: "failed", words: words.into(), object: None }
    }
}

impl From<moorage_engine::EngineError> for Failure {
    fn from(error: moorage_engine::EngineError) -> Self {
        use moorage_engine::EngineError as E;
        // What was named on the command line is not there, or is no such thing.
        let is_usage = matches!(
            error,
            E::UnknownTable { .. }
                | E::NoSuchTable { .. }
                | E::UnknownReject { .. }
                | E::NotAPosition { .. }
                | E::NotABeginning { .. }
                | E::WrongKey { .. }
                | E::NoHorizon { .. }
        );
        Self { is_usage, code: error.code(), object: error.object(), words: error.to_string() }
    }
}

impl From<moorage_adapter::AdapterError> for Failure {
    fn from(error: moorage_adapter::AdapterError) -> Self {
        Self { is_usage: false, code: error.code(), object: error.object(), words: error.to_string() }
    }
}

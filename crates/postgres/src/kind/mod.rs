//! PostgreSQL as a kind of system: its sections of the project file, and what `init` asks.

mod log_in;
mod source;
mod target;

use moorage_adapter::kind::{Kind, SourceKind, TargetKind};

/// PostgreSQL servers.
pub struct Postgres;

impl Kind for Postgres {
    fn word(&self) -> &'static str {
        "postgres"
    }

    fn about(&self) -> &'static str {
        "a PostgreSQL server"
    }

    fn crate_name(&self) -> &'static str {
        "moorage_postgres"
    }

    fn as_source(&self) -> Option<&dyn SourceKind> {
        Some(&source::Sources)
    }

    fn as_target(&self) -> Option<&dyn TargetKind> {
        Some(&target::Targets)
    }
}

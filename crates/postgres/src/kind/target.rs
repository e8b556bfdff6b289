//! Sections of targets.

use super::log_in::{ADDRESS, KEYS as LOG_IN, LogIn, findings};
use super::source::without_password;
use crate::as_target::PostgresTarget;
use crate::as_target::settings::TargetSettings;
use moorage_adapter::Target;
use moorage_adapter::kind::{Answered, Key, Opening, TargetKind, TargetSection, names};
use moorage_core::model::finding::Finding;
use moorage_core::project::error::Mistake;
use moorage_core::project::section::EndSection;
use moorage_core::project::text::{EndAnswer, KeyAnswer};
use moorage_core::project::units::parse_duration;
use serde::Deserialize;
use std::sync::Arc;
use std::time::Duration;
use toml::Spanned;

/// The keys, with their meaning.
const KEYS: [Key; 10] = [
    Key { names: &["url"], meaning: "as for a source" },
    Key {
        names: &["schema"],
        meaning: "the schema of target tables for which `into` names none; `\"public\"` if not given. What is missing is made",
    },
    Key {
        names: &["lock_timeout"],
        meaning: "how long a statement waits for a lock before the batch is tried again; `\"30s\"` if not given, `\"0s\"` for ever",
    },
    Key {
        names: &["statement_timeout"],
        meaning: "how long a statement of a merge may take before the batch is tried again; for ever if not given",
    },
    LOG_IN[0],
    LOG_IN[1],
    LOG_IN[2],
    LOG_IN[3],
    LOG_IN[4],
    LOG_IN[5],
];

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Keys {
    url: Option<String>,
    schema: Option<Spanned<String>>,
    lock_timeout: Option<Spanned<String>>,
    statement_timeout: Option<Spanned<String>>,
}

/// A target as its section describes it.
struct Described {
    /// `target warehouse`
    end: String,
    url: String,
    log_in: LogIn,
    schema: String,
    lock_timeout: Duration,
    statement_timeout: Duration,
}

/// Servers as targets.
pub(super) struct Targets;

fn duration(given: Option<Spanned<String>>, default: Duration) -> Result<Duration, Mistake> {
    let Some(given) = given else { return Ok(default) };
    parse_duration(given.get_ref()).ok_or_else(|| {
        let what = format!("`{}` is not a duration", given.get_ref());
        Mistake::at(given.span(), what, "a number with ms, s, m, h or d, such as \"30s\"")
    })
}

impl TargetKind for Targets {
    fn read(&self, name: &str, end: &EndSection) -> Result<Box<dyn TargetSection>, Mistake> {
        let called = format!("target {name}");
        end.refuse_unknown(&called, names(&KEYS))?;
        let (log_in, own) = LogIn::read(&called, &end.section)?;
        let keys: Keys = own.read()?;
        let nowhere =
            || Mistake::at(end.kind.span(), format!("{called} says nothing about where it is"), ADDRESS);
        let url = keys.url.ok_or_else(nowhere)?;
        if let Some(schema) = keys.schema.as_ref().filter(|s| s.get_ref().is_empty()) {
            return Err(Mistake::at(schema.span(), "a schema has a name", "schema = \"public\""));
        }
        Ok(Box::new(Described {
            end: called,
            url,
            log_in,
            schema: keys.schema.map_or_else(|| "public".into(), Spanned::into_inner),
            lock_timeout: duration(keys.lock_timeout, Duration::from_secs(30))?,
            statement_timeout: duration(keys.statement_timeout, Duration::ZERO)?,
        }))
    }

    fn keys(&self) -> &'static [Key] {
        &KEYS
    }

    fn sets_aside(&self) -> bool {
        true
    }

    fn place(&self) -> &'static str {
        "postgres://…"
    }

    fn answer(&self, place: &str) -> Option<Result<Answered, String>> {
        if !(place.starts_with("postgres://") || place.starts_with("postgresql://")) {
            return None;
        }
        let (url, password) = without_password(place);
        let keys = vec![KeyAnswer::plain("url", url), KeyAnswer::plain("schema", "public")];
        let about = "`schema` is that of tables for which `into` names none.";
        let end = EndAnswer { kind: "postgres", about, keys, password: None };
        Some(Ok(Answered { end, name: "warehouse".into(), has_password: true, password }))
    }
}

impl TargetSection for Described {
    fn open(&self, opening: Opening<'_>) -> Result<Arc<dyn Target>, String> {
        let settings = TargetSettings {
            schema: self.schema.clone(),
            lock_timeout: self.lock_timeout,
            statement_timeout: self.statement_timeout,
            connections: opening.connections,
        };
        Ok(Arc::new(PostgresTarget::new(self.log_in.address(&self.end, &self.url, opening)?, settings)))
    }

    fn findings(&self) -> Vec<Finding> {
        findings(&self.end, &self.url)
    }
}

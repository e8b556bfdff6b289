//! Sections of sources, and the keys of their pipelines.

use super::log_in::{ADDRESS, KEYS as LOG_IN, LogIn, findings};
use crate::as_source::PostgresSource;
use crate::as_source::named::Named;
use crate::as_source::trigger::PostgresTriggerSource;
use crate::wire::address::{Password, PostgresAddress};
use moorage_adapter::kind::{Answered, Given, Key, Opening, Question, SourceKind, SourceSection, names};
use moorage_adapter::{Result as Done, Source};
use moorage_core::model::finding::Finding;
use moorage_core::project::error::Mistake;
use moorage_core::project::section::{EndSection, Section};
use moorage_core::project::text::{EndAnswer, KeyAnswer};
use moorage_core::project::units::parse_size;
use secrecy::SecretString;
use serde::Deserialize;
use std::path::Path;
use std::sync::Arc;
use toml::Spanned;

/// The keys, with their meaning.
const KEYS: [Key; 9] = [
    Key {
        names: &["url"],
        meaning: "`postgres://user@host:port/database`; parameters `host` (a folder names a Unix socket), `port`, `user`, `dbname`, `sslmode`, `sslrootcert`, `sslcert`, `sslkey`, `channel_binding`, `connect_timeout` (seconds, 5 if not given)",
    },
    Key {
        names: &["capture"],
        meaning: "`\"log\"` (if not given) reads the server's own log, `\"trigger\"` change tables that triggers fill ([capture.md](capture.md))",
    },
    Key {
        names: &["change_table_limit"],
        meaning: "with `capture = \"trigger\"`: how large each change table may grow, `\"512MiB\"`; 1 GiB if not given",
    },
    LOG_IN[0],
    LOG_IN[1],
    LOG_IN[2],
    LOG_IN[3],
    LOG_IN[4],
    LOG_IN[5],
];

/// How changes are read.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
enum Capture {
    /// From the server's own log.
    Log,
    /// From change tables that triggers fill.
    Trigger,
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Keys {
    url: Option<String>,
    capture: Option<Capture>,
    change_table_limit: Option<Spanned<String>>,
}

/// A source as its section describes it.
struct Described {
    /// `source harbour`
    end: String,
    url: String,
    capture: Capture,
    change_table_bytes: u64,
    log_in: LogIn,
}

/// Servers as sources.
pub(super) struct Sources;

impl SourceKind for Sources {
    fn read(&self, name: &str, end: &EndSection) -> Result<Box<dyn SourceSection>, Mistake> {
        let kind = end.kind.span();
        let called = format!("source {name}");
        end.refuse_unknown(&called, names(&KEYS))?;
        let (log_in, own) = LogIn::read(&called, &end.section)?;
        let keys: Keys = own.read()?;
        let nowhere = || Mistake::at(kind, format!("{called} says nothing about where it is"), ADDRESS);
        let url = keys.url.ok_or_else(nowhere)?;
        let capture = keys.capture.unwrap_or(Capture::Log);
        let change_table_bytes = match keys.change_table_limit {
            None => 1 << 30,
            Some(limit) if capture == Capture::Log => {
                let what = format!("{called} has no change tables with a limit");
                return Err(Mistake::at(limit.span(), what, "this key only beside capture = \"trigger\""));
            }
            Some(limit) => parse_size(limit.get_ref()).ok_or_else(|| {
                let what = format!("`{}` is not a size", limit.get_ref());
                Mistake::at(limit.span(), what, "a number with KiB, MiB or GiB, such as \"512MiB\"")
            })?,
        };
        Ok(Box::new(Described { end: called, url, capture, change_table_bytes, log_in }))
    }

    fn pipeline_keys(&self) -> &'static [&'static str] {
        &["slot", "publication"]
    }

    fn keys(&self) -> &'static [Key] {
        &KEYS
    }

    fn questions(&self) -> &'static [Question] {
        &[
            Question {
                name: "host",
                text: "On which host? (a folder names a Unix socket's)",
                default: "localhost",
            },
            Question { name: "port", text: "On which port?", default: "5432" },
            Question { name: "database", text: "Which database?", default: "" },
            Question { name: "user", text: "As which user?", default: "moorage" },
        ]
    }

    fn options(&self) -> &'static [&'static str] {
        &["url"]
    }

    fn answer(&self, given: &Given) -> Result<Answered, String> {
        let url = given.get("url").cloned().unwrap_or_else(|| url_of(given));
        let (url, password) = without_password(&url);
        let database = PostgresAddress::parse(&url).map_err(|e| e.to_string())?.database;
        let mut keys = vec![KeyAnswer::plain("url", url)];
        match given.get("capture").map(String::as_str) {
            None | Some("log") => {}
            Some("trigger") => keys.push(KeyAnswer {
                about: "Triggers write each change into change tables; without this line the server's log is read.",
                ..KeyAnswer::plain("capture", "trigger")
            }),
            Some(other) => return Err(format!("changes are captured by log or trigger, not by {other}")),
        }
        let end = EndAnswer { kind: "postgres", keys, ..EndAnswer::default() };
        Ok(Answered { end, name: database, has_password: true, password })
    }

    fn make(&self, _: &Path) -> Option<Done<Arc<dyn Source>>> {
        None
    }
}

/// The address that answers describe.
fn url_of(given: &Given) -> String {
    let answer = |name: &str| given.get(name).map_or("", String::as_str);
    let encoded = |name: &str| {
        percent_encoding::utf8_percent_encode(answer(name), percent_encoding::NON_ALPHANUMERIC).to_string()
    };
    let (host, port, database, user) = (answer("host"), answer("port"), encoded("database"), encoded("user"));
    if host.starts_with('/') {
        format!("postgres:///{database}?host={host}&port={port}&user={user}")
    } else {
        format!("postgres://{user}@{host}:{port}/{database}")
    }
}

/// An address taken apart into what may be written and the password, which may not.
pub(super) fn without_password(url: &str) -> (String, Option<SecretString>) {
    let Some((scheme, rest)) = url.split_once("://") else { return (url.into(), None) };
    let Some((user_info, host)) = rest.split_once('@') else { return (url.into(), None) };
    let Some((user, _)) = user_info.split_once(':') else { return (url.into(), None) };
    let password = PostgresAddress::parse(url).ok().and_then(|a| a.password);
    (format!("{scheme}://{user}@{host}"), password.and_then(Password::given))
}

impl SourceSection for Described {
    fn check_pipeline(&self, name: &str, keys: &Section) -> Result<(), Mistake> {
        let named: Named = keys.read()?;
        let Some((_, span)) = keys.first_key().filter(|_| self.capture == Capture::Trigger) else {
            return Ok(());
        };
        drop(named);
        let what = format!("pipeline {name} names a slot or publication");
        Err(Mistake::at(span, what, "none, because its source is captured by triggers"))
    }

    fn open(&self, opening: Opening<'_>) -> Result<Arc<dyn Source>, String> {
        let connections = opening.connections;
        let named = opening.of_pipeline.map(Section::read::<Named>).transpose();
        let named = named.map_err(|_| "the keys of its pipeline cannot be read")?.unwrap_or_default();
        let address = self.log_in.address(&self.end, &self.url, opening)?;
        Ok(match self.capture {
            Capture::Log => Arc::new(PostgresSource::new(address, connections).reading_through(named)),
            Capture::Trigger => {
                Arc::new(PostgresTriggerSource::new(address, connections, self.change_table_bytes))
            }
        })
    }

    fn findings(&self) -> Vec<Finding> {
        findings(&self.end, &self.url)
    }

    fn user(&self) -> Option<String> {
        PostgresAddress::parse(&self.url).ok().map(|address| address.user)
    }
}

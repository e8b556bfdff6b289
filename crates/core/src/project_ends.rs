//! Both ends in the project file: where a source or a target is, and how to log in there.

use crate::finding::{End, Finding, Fix};
use crate::project::parse_duration;
use serde::Deserialize;
use std::ops::Range;
use std::time::Duration;
use toml::Spanned;

/// The systems that rows can come from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum SourceKind {
    /// PostgreSQL, through its logical replication stream or triggers.
    Postgres,
    /// A SQLite file, through triggers.
    Sqlite,
}

/// How changes are read from a source.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Capture {
    /// From the source's own change log.
    Log,
    /// From change tables that triggers fill.
    Trigger,
}

/// The systems that rows can go to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum TargetKind {
    /// A SQLite file.
    Sqlite,
    /// A PostgreSQL database.
    Postgres,
}

/// How a connection to a server is protected; the words are those of the server's own connection strings.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum SslMode {
    /// Never encrypted.
    Disable,
    /// Encrypted if the server can.
    Prefer,
    /// Encrypted, whoever the server is.
    Require,
    /// Encrypted, and the server's certificate is signed by a trusted authority.
    VerifyCa,
    /// Likewise, and the certificate is for the host that was asked for.
    VerifyFull,
}

/// Whether a log-in is bound to the encrypted channel (RFC 5802, section 6), so that nobody in between can pass it on.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ChannelBinding {
    /// Never.
    Disable,
    /// Where both sides can.
    #[default]
    Prefer,
    /// Always; a log-in without is refused.
    Require,
}

/// How to log in to a server, beside its address. The words are those of the server's own connection strings.
#[derive(Clone, Debug, Default)]
pub struct LogIn<'a> {
    /// Where the password comes from.
    pub password: Option<&'a SecretConfig>,
    /// How the connection is protected.
    pub sslmode: Option<SslMode>,
    /// A file with the certificates of trusted authorities.
    pub sslrootcert: Option<&'a str>,
    /// A file with our own certificate.
    pub sslcert: Option<&'a str>,
    /// A file with the key of our own certificate.
    pub sslkey: Option<&'a str>,
    /// Whether the log-in is bound to the channel.
    pub channel_binding: Option<ChannelBinding>,
    /// The role that sessions take on.
    pub role: Option<&'a str>,
}

/// Where a password comes from. Exactly one of the three must be given.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SecretConfig {
    /// The name of an environment variable.
    pub env: Option<String>,
    /// A file's path; one newline at its end is left out.
    pub file: Option<String>,
    /// A program and its arguments; what it prints is the secret.
    pub command: Option<Vec<String>>,
}

/// A source.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SourceConfig {
    /// Which system.
    pub kind: Spanned<SourceKind>,
    /// Where a server is: `postgres://user@host:port/database`; `?host=/folder` names a Unix socket's folder.
    pub url: Option<Spanned<String>>,
    /// Where a file is, relative to the project file.
    pub path: Option<Spanned<String>>,
    /// How changes are read; the best way the system has if not given.
    pub capture: Option<Spanned<Capture>>,
    /// How large each change table of a capture by triggers may grow, such as `512MiB`; 1 GiB if not given.
    pub change_table_limit: Option<Spanned<String>>,
    /// The password, if one is needed.
    pub password: Option<Spanned<SecretConfig>>,
    /// How the connection is protected; `prefer` if not given here or in the address.
    pub sslmode: Option<SslMode>,
    /// A file with the certificates of trusted authorities, in PEM; the system's own otherwise.
    pub sslrootcert: Option<String>,
    /// A file with our own certificate, in PEM, to log in with.
    pub sslcert: Option<Spanned<String>>,
    /// The file with its key, in PEM.
    pub sslkey: Option<Spanned<String>>,
    /// Whether the log-in is bound to the encrypted channel; `prefer` if not given here or in the address.
    pub channel_binding: Option<Spanned<ChannelBinding>>,
    /// The role that sessions take on, so that what they make belongs to it; the user itself otherwise.
    pub role: Option<Spanned<String>>,
}

/// A target.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TargetConfig {
    /// Which system.
    pub kind: Spanned<TargetKind>,
    /// Where a file is, relative to the project file.
    pub path: Option<Spanned<String>>,
    /// Where a server is, as for a source.
    pub url: Option<Spanned<String>>,
    /// The schema of tables for which `into` names none; `public` if not given.
    pub schema: Option<Spanned<String>>,
    /// How long a statement waits for a lock before the batch is tried again; 30 s if not given, `0s` for ever.
    pub lock_timeout: Option<Spanned<String>>,
    /// How long a statement of a merge may take before the batch is tried again; `0s`, for ever, if not given.
    pub statement_timeout: Option<Spanned<String>>,
    /// The password, if one is needed.
    pub password: Option<Spanned<SecretConfig>>,
    /// How the connection is protected; `prefer` if not given here or in the address.
    pub sslmode: Option<SslMode>,
    /// A file with the certificates of trusted authorities, in PEM; the system's own otherwise.
    pub sslrootcert: Option<String>,
    /// A file with our own certificate, in PEM, to log in with.
    pub sslcert: Option<Spanned<String>>,
    /// The file with its key, in PEM.
    pub sslkey: Option<Spanned<String>>,
    /// Whether the log-in is bound to the encrypted channel; `prefer` if not given here or in the address.
    pub channel_binding: Option<Spanned<ChannelBinding>>,
    /// The role that sessions take on, so that what they make belongs to it; the user itself otherwise.
    pub role: Option<Spanned<String>>,
}

/// A mistake: where, what, and what was expected.
type Wrong = (Range<usize>, String, &'static str);

const ADDRESS: &str = "url = \"postgres://user@host:5432/database\"";

fn wrong_password(end: &str, password: Option<&Spanned<SecretConfig>>) -> Option<Wrong> {
    let password = password?;
    let p = password.get_ref();
    let given = [p.env.is_some(), p.file.is_some(), p.command.is_some()].iter().filter(|x| **x).count();
    let expected = "{ env = \"NAME\" }, { file = \"path\" } or { command = [\"program\", \"argument\"] }";
    let what = || format!("the password of {end} must come from exactly one place");
    (given != 1).then(|| (password.span(), what(), expected))
}

/// What sources and targets say of logging in, and what may be wrong with it.
macro_rules! logs_in {
    ($config:ty) => {
        impl $config {
            /// How to log in.
            pub fn log_in(&self) -> LogIn<'_> {
                fn text(value: &Option<Spanned<String>>) -> Option<&str> {
                    value.as_ref().map(|v| v.get_ref().as_str())
                }
                LogIn {
                    password: self.password.as_ref().map(Spanned::get_ref),
                    sslmode: self.sslmode,
                    sslrootcert: self.sslrootcert.as_deref(),
                    sslcert: text(&self.sslcert),
                    sslkey: text(&self.sslkey),
                    channel_binding: self.channel_binding.as_ref().map(|c| *c.get_ref()),
                    role: text(&self.role),
                }
            }

            fn wrong_log_in(&self, end: &str, is_server: bool) -> Option<Wrong> {
                let texts = [("sslcert", &self.sslcert), ("sslkey", &self.sslkey), ("role", &self.role)];
                let texts = texts.map(|(key, value)| (key, value.as_ref().map(Spanned::span)));
                let binding = ("channel_binding", self.channel_binding.as_ref().map(Spanned::span));
                let mut given =
                    texts.into_iter().chain([binding]).filter_map(|(key, span)| Some((key, span?)));
                if !is_server && let Some((key, span)) = given.next() {
                    return Some((span, format!("{end} is a file: there is no `{key}`"), "no such key"));
                }
                let both = "sslcert and sslkey together: the files of our certificate and of its key";
                match (&self.sslcert, &self.sslkey) {
                    (Some(cert), None) => {
                        Some((cert.span(), format!("{end} has `sslcert` without `sslkey`"), both))
                    }
                    (None, Some(key)) => {
                        Some((key.span(), format!("{end} has `sslkey` without `sslcert`"), both))
                    }
                    _ => wrong_password(end, self.password.as_ref()),
                }
            }
        }
    };
}

logs_in!(SourceConfig);
logs_in!(TargetConfig);

impl TargetConfig {
    /// The first mistake.
    pub(crate) fn wrong(&self, name: &str) -> Option<Wrong> {
        let end = format!("target {name}");
        let kind = self.kind.span();
        let (needed, example) = match self.kind.get_ref() {
            TargetKind::Postgres => (&self.url, ADDRESS),
            TargetKind::Sqlite => (&self.path, "path = \"warehouse.db\""),
        };
        if needed.is_none() {
            return Some((kind, format!("{end} says nothing about where it is"), example));
        }
        let foreign = match self.kind.get_ref() {
            TargetKind::Postgres => vec![&self.path],
            TargetKind::Sqlite => vec![&self.url, &self.schema, &self.lock_timeout, &self.statement_timeout],
        };
        if let Some(key) = foreign.into_iter().flatten().next() {
            return Some((key.span(), format!("{end} is of another kind than this key is for"), example));
        }
        let mut times = [&self.lock_timeout, &self.statement_timeout].into_iter().flatten();
        if let Some(time) = times.find(|t| parse_duration(t.get_ref()).is_none()) {
            let what = format!("`{}` is not a duration", time.get_ref());
            return Some((time.span(), what, "a number with ms, s, m or h, such as \"30s\""));
        }
        if let Some(schema) = self.schema.as_ref().filter(|s| s.get_ref().is_empty()) {
            return Some((schema.span(), "a schema has a name".into(), "schema = \"public\""));
        }
        self.wrong_log_in(&end, *self.kind.get_ref() == TargetKind::Postgres)
    }

    /// How long a statement waits for a lock; zero for ever.
    pub fn lock_timeout(&self) -> Duration {
        let given = self.lock_timeout.as_ref().and_then(|t| parse_duration(t.get_ref()));
        given.unwrap_or(Duration::from_secs(30))
    }

    /// How long a statement of a merge may take; zero for ever.
    pub fn statement_timeout(&self) -> Duration {
        let given = self.statement_timeout.as_ref().and_then(|t| parse_duration(t.get_ref()));
        given.unwrap_or_default()
    }
}

/// A server has an address, a file a path; each key only where it means something.
fn wrong_place(name: &str, source: &SourceConfig) -> Option<Wrong> {
    let (needed, other, example) = match source.kind.get_ref() {
        SourceKind::Postgres => (&source.url, &source.path, ADDRESS),
        SourceKind::Sqlite => (&source.path, &source.url, "path = \"harbour.db\""),
    };
    if needed.is_none() {
        let what = format!("source {name} says nothing about where it is");
        return Some((source.kind.span(), what, example));
    }
    if let Some(other) = other {
        return Some((
            other.span(),
            format!("source {name} is of another kind than this key is for"),
            example,
        ));
    }
    let no_log = match (&source.capture, source.kind.get_ref()) {
        (Some(capture), SourceKind::Sqlite) if *capture.get_ref() == Capture::Log => Some((
            capture.span(),
            format!("source {name}: a SQLite file has no log that can be read"),
            "capture = \"trigger\", or no such key",
        )),
        _ => None,
    };
    no_log.or_else(|| wrong_limit(name, source))
}

fn wrong_limit(name: &str, source: &SourceConfig) -> Option<Wrong> {
    let limit = source.change_table_limit.as_ref()?;
    let by_trigger = source.capture.as_ref().is_some_and(|c| *c.get_ref() == Capture::Trigger);
    if *source.kind.get_ref() != SourceKind::Postgres || !by_trigger {
        let what = format!("source {name} has no change tables with a limit");
        return Some((
            limit.span(),
            what,
            "this key only beside kind = \"postgres\" and capture = \"trigger\"",
        ));
    }
    let what = format!("`{}` is not a size", limit.get_ref());
    let wrong = (limit.span(), what, "a number with KiB, MiB or GiB, such as \"512MiB\"");
    parse_size(limit.get_ref()).is_none().then_some(wrong)
}

impl SourceConfig {
    /// The first mistake.
    pub(crate) fn wrong(&self, name: &str) -> Option<Wrong> {
        let is_server = *self.kind.get_ref() == SourceKind::Postgres;
        wrong_place(name, self).or_else(|| self.wrong_log_in(&format!("source {name}"), is_server))
    }

    /// How changes are read.
    pub fn captured_by(&self) -> Capture {
        match (&self.capture, self.kind.get_ref()) {
            (Some(capture), _) => *capture.get_ref(),
            (None, SourceKind::Postgres) => Capture::Log,
            (None, SourceKind::Sqlite) => Capture::Trigger,
        }
    }

    /// How many bytes each change table may grow to.
    pub fn change_table_bytes(&self) -> u64 {
        self.change_table_limit.as_ref().and_then(|l| parse_size(l.get_ref())).unwrap_or(1 << 30)
    }
}

/// What is to be said of an end's part of the project file, such as `source harbour`: secrets that stand in it.
pub fn findings(end: &str, url: Option<&Spanned<String>>) -> Vec<Finding> {
    let url = url.map_or("", |u| u.get_ref().as_str());
    let user_info = url.split_once("://").and_then(|(_, rest)| rest.split_once('@')).map(|(user, _)| user);
    let in_address = user_info.is_some_and(|user| user.contains(':')) || url.contains("password=");
    if !in_address {
        let found = format!("{end}: no password stands in the file");
        return vec![Finding::ok(End::Project, "secrets", found)];
    }
    let (kind, name) = end.split_once(' ').unwrap_or((end, end));
    let variable: String =
        name.chars().map(|c| if c.is_ascii_alphanumeric() { c.to_ascii_uppercase() } else { '_' }).collect();
    let fix = format!(
        "take it out of `url`, and write in [{kind}s.{name}]: password = {{ env = \"{variable}_PASSWORD\" }}"
    );
    let why = "whoever reads the file, or its history, has the password";
    let found = format!("{end}: a password stands in the address");
    vec![Finding::warning(End::Project, "secrets", found, why, Fix::step(fix))]
}

/// Reads a size: a whole number and one of `KiB`, `MiB`, `GiB`.
pub fn parse_size(text: &str) -> Option<u64> {
    let text = text.trim();
    let at = text.find(|c: char| !c.is_ascii_digit())?;
    let number: u64 = text[..at].parse().ok()?;
    let shift = match text[at..].trim() {
        "KiB" => 10,
        "MiB" => 20,
        "GiB" => 30,
        _ => return None,
    };
    number.checked_mul(1 << shift)
}

//! Who is told: `[receivers.NAME]` of the project file.

use super::mail::{Encryption, Mail};
use super::message::{Message, Template};
use super::program::Program;
use super::webhook::{Address, Webhook, parse_url};
use lettre::message::Mailbox;
use moorage_adapter::kind::Key;
use moorage_adapter::secret::SecretConfig;
use moorage_core::model::visible::visible;
use moorage_core::project::error::Mistake;
use moorage_core::project::section::EndSection;
use moorage_core::project::units::parse_duration;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::Duration;
use toml::Spanned;

/// How long a receiver may take, if the file does not say.
const PATIENCE: Duration = Duration::from_secs(10);
/// How long looking up its secrets may take beside that: programs may print them.
const SECRET_PATIENCE: Duration = Duration::from_secs(60);
/// How long it may take at most: messages behind it wait for it.
const MOST_PATIENCE: Duration = Duration::from_secs(300);

/// The longest template.
const MOST_BODY_BYTES: usize = 64 << 10;

/// A receiver of alerts.
#[derive(Clone, Debug)]
pub struct Receiver {
    /// Its name.
    pub name: String,
    /// What paths are relative to.
    folder: PathBuf,
    by: By,
}

#[derive(Clone, Debug)]
enum By {
    Webhook(Box<Webhook>),
    Mail(Box<Mail>),
    Program(Program),
}

/// The kinds of receivers, with their keys and what those mean.
pub const RECEIVER_KINDS: [(&str, &[Key]); 3] = [
    (
        "webhook",
        &[
            Key {
                names: &["url"],
                meaning: "where messages are sent (POST): an address, or, if whoever knows it may send, `{ env = \"NAME\" }`, `{ file = \"path\" }` or `{ command = [\"program\"] }`",
            },
            Key {
                names: &["secret"],
                meaning: "where the key is that bodies are signed with (as for a password): header `Moorage-Signature: sha256=` with the HMAC-SHA256 of the body in hexadecimal digits",
            },
            Key {
                names: &["token"],
                meaning: "where the token is that goes along as `Authorization: Bearer` (as for a password)",
            },
            Key {
                names: &["body"],
                meaning: "another form than CloudEvents: a text with `{words}` in it ([monitoring.md](monitoring.md#alerts))",
            },
            Key {
                names: &["content_type"],
                meaning: "of `body`; `\"application/json\"` if not given. By it, values are escaped",
            },
            Key {
                names: &["states"],
                meaning: "other words for `{state}` in `body`: `{ raised = \"open\", cleared = \"close\" }`",
            },
            Key {
                names: &["ca_file"],
                meaning: "PEM file with the certificates of trusted authorities; the system's own if not given",
            },
            Key { names: &["timeout"], meaning: "how long it may take; `\"10s\"` if not given" },
        ],
    ),
    (
        "mail",
        &[
            Key {
                names: &["server"],
                meaning: "`\"mail.example\"`, or with a port: `\"mail.example:2525\"`",
            },
            Key {
                names: &["encryption"],
                meaning: "`\"starttls\"` (if not given; port 587), `\"tls\"` (port 465) or `\"none\"` (port 25)",
            },
            Key {
                names: &["user", "password"],
                meaning: "to log in with; the password from `{ env = \"NAME\" }`, `{ file = \"path\" }` or `{ command = [\"program\"] }`. Not without encryption",
            },
            Key { names: &["from"], meaning: "`\"moorage@quay.example\"`" },
            Key { names: &["to"], meaning: "a list of addresses" },
            Key { names: &["ca_file"], meaning: "as for a webhook" },
            Key { names: &["timeout"], meaning: "as for a webhook" },
        ],
    ),
    (
        "program",
        &[
            Key {
                names: &["command"],
                meaning: "a program and its arguments; it is started for each message, which it gets as one line of JSON (CloudEvents) on its standard input. Anything but exit code 0 is a failure",
            },
            Key { names: &["timeout"], meaning: "as for a webhook; then it is killed" },
        ],
    ),
];

#[derive(Deserialize)]
#[serde(
    untagged,
    expecting = "a text in double quotes, { env = \"…\" }, { file = \"…\" } or { command = [\"…\"] }"
)]
enum UrlConfig {
    Text(String),
    Secret(SecretConfig),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct WebhookConfig {
    url: Spanned<UrlConfig>,
    secret: Option<Spanned<SecretConfig>>,
    token: Option<Spanned<SecretConfig>>,
    body: Option<Spanned<String>>,
    content_type: Option<Spanned<String>>,
    #[serde(default)]
    states: BTreeMap<Spanned<String>, String>,
    ca_file: Option<PathBuf>,
    timeout: Option<Spanned<String>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct MailConfig {
    server: Spanned<String>,
    #[serde(default)]
    encryption: Encryption,
    user: Option<Spanned<String>>,
    password: Option<Spanned<SecretConfig>>,
    from: Spanned<String>,
    to: Spanned<Vec<Spanned<String>>>,
    ca_file: Option<PathBuf>,
    timeout: Option<Spanned<String>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct ProgramConfig {
    command: Spanned<Vec<String>>,
    timeout: Option<Spanned<String>>,
}

fn timeout(text: Option<&Spanned<String>>) -> Result<Duration, Mistake> {
    let Some(text) = text else { return Ok(PATIENCE) };
    let range = Duration::from_millis(100)..=MOST_PATIENCE;
    let found = parse_duration(text.get_ref()).filter(|time| range.contains(time));
    let what = || format!("`{}` is no time-out", text.get_ref());
    found.ok_or_else(|| Mistake::at(text.span(), what(), "a time from \"100ms\" to \"5m\", such as \"10s\""))
}

fn mailbox(text: &Spanned<String>) -> Result<Mailbox, Mistake> {
    let what = || format!("`{}` is no address of mail", text.get_ref());
    text.get_ref().parse().map_err(|_| Mistake::at(text.span(), what(), "such as \"duty@quay.example\""))
}

impl Receiver {
    /// Reads a section `[receivers.NAME]`.
    ///
    /// # Errors
    /// With the place of what cannot be meant.
    pub fn read(name: &str, section: &EndSection) -> Result<Self, Mistake> {
        let end = format!("receiver {name}");
        let kind = section.kind.get_ref().as_str();
        let keys = RECEIVER_KINDS.iter().find(|(word, _)| *word == kind).map_or(&[][..], |(_, keys)| keys);
        section.refuse_unknown(&end, keys.iter().flat_map(|key| key.names.iter().copied()))?;
        let by = match kind {
            "mail" => By::Mail(Box::new(mail(&end, section.section.read()?)?)),
            "program" => By::Program(program(&end, section.section.read()?)?),
            _ => By::Webhook(Box::new(webhook(&end, section.section.read()?)?)),
        };
        Ok(Self { name: name.into(), folder: PathBuf::from("."), by })
    }

    /// With the folder that its paths are relative to.
    #[must_use]
    pub fn in_folder(self, folder: &Path) -> Self {
        Self { folder: folder.into(), ..self }
    }

    /// The word for its kind.
    pub fn kind(&self) -> &'static str {
        match &self.by {
            By::Webhook(_) => "webhook",
            By::Mail(_) => "mail",
            By::Program(_) => "program",
        }
    }

    /// Where it is, for people; nothing of it is a secret.
    pub fn place(&self) -> String {
        match &self.by {
            By::Webhook(webhook) => webhook.place(),
            By::Mail(mail) => mail.place(),
            By::Program(program) => program.place(),
        }
    }

    /// How long sending it a message takes at most, looking up its secrets included.
    pub(crate) fn longest(&self) -> Duration {
        let timeout = match &self.by {
            By::Webhook(webhook) => webhook.timeout,
            By::Mail(mail) => mail.timeout,
            By::Program(program) => program.timeout,
        };
        timeout + SECRET_PATIENCE
    }

    /// Sends it a message, and gives its answer, for people.
    ///
    /// # Errors
    /// If it did not take it, in words.
    pub(crate) async fn send(&self, message: &Message) -> Result<String, String> {
        let sent = async {
            match &self.by {
                By::Webhook(webhook) => webhook.send(message, &self.folder).await,
                By::Mail(mail) => mail.send(message, &self.folder).await,
                By::Program(program) => program.send(message, &self.folder).await,
            }
        };
        let sent = tokio::time::timeout(self.longest(), sent).await;
        let sent = sent.unwrap_or_else(|_| Err("its secrets could not be looked up in time".into()));
        sent.map(|answer| visible(&answer, false).into_owned())
            .map_err(|why| visible(&why, false).into_owned())
    }
}

fn secret_of(
    end: &str,
    what: &str,
    given: Option<&Spanned<SecretConfig>>,
) -> Result<Option<SecretConfig>, Mistake> {
    SecretConfig::check_one(&format!("the {what} of {end}"), given)?;
    Ok(given.map(|secret| secret.get_ref().clone()))
}

fn webhook(end: &str, config: WebhookConfig) -> Result<Webhook, Mistake> {
    let expected = "an address that begins with http:// or https://";
    let span = config.url.span();
    let url = match config.url.into_inner() {
        UrlConfig::Text(text) => {
            // The text may be a secret, whether or not it is an address.
            let wrong = || Mistake::at(span, format!("the url of {end} is none"), expected);
            Address::Written(parse_url(&text).ok_or_else(wrong)?)
        }
        UrlConfig::Secret(secret) => {
            let secret = Spanned::new(span, secret);
            SecretConfig::check_one(&format!("the url of {end}"), Some(&secret))?;
            Address::Secret(secret.into_inner())
        }
    };
    if let (None, Some(beside)) = (&config.body, config.content_type.as_ref()) {
        let what = format!("{end} has `content_type` without `body`");
        return Err(Mistake::at(beside.span(), what, "both, or none"));
    }
    let known = ["raised", "repeated", "cleared", "happened", "test"];
    if let Some(state) = config.states.keys().find(|state| !known.contains(&state.get_ref().as_str())) {
        let what = format!("{end}: there is no state `{}`", state.get_ref());
        return Err(Mistake::at(state.span(), what, known.map(|s| format!("`{s}`")).join(", ")));
    }
    if let Some(body) = config.body.as_ref().filter(|body| body.get_ref().len() > MOST_BODY_BYTES) {
        return Err(Mistake::at(body.span(), format!("the body of {end} is too long"), "64 KiB at most"));
    }
    let states = config.states.into_iter().map(|(state, word)| (state.into_inner(), word)).collect();
    let content_type = config.content_type.as_ref().map_or("application/json", |text| text.get_ref());
    if let Some(text) = config
        .content_type
        .as_ref()
        .filter(|text| text.get_ref().chars().any(|c| c.is_control() || !c.is_ascii()))
    {
        return Err(Mistake::at(
            text.span(),
            format!("the content type of {end} is none"),
            "such as \"text/plain\"",
        ));
    }
    let template = |body: &Spanned<String>| {
        Template::new(body.get_ref(), content_type, states).map_err(|word| {
            let what = format!("{end}: no word is called `{{{word}}}`");
            Mistake::at(body.span(), what, Template::WORDS.map(|w| format!("{{{w}}}")).join(", "))
        })
    };
    Ok(Webhook {
        url,
        secret: secret_of(end, "secret", config.secret.as_ref())?,
        token: secret_of(end, "token", config.token.as_ref())?,
        template: config.body.as_ref().map(template).transpose()?,
        timeout: timeout(config.timeout.as_ref())?,
        ca_file: config.ca_file,
    })
}

fn mail(end: &str, config: MailConfig) -> Result<Mail, Mistake> {
    let server = config.server.get_ref().trim();
    let (host, port) = match server.rsplit_once(':') {
        Some((host, port)) if !host.contains(':') => (host, Some(port.parse::<u16>())),
        _ => (server, None),
    };
    let host = host.trim_start_matches('[').trim_end_matches(']');
    let port = port.transpose().ok().filter(|port| *port != Some(0));
    let is_plain =
        !host.is_empty() && !host.contains(|c: char| c.is_whitespace() || c.is_control() || "/@".contains(c));
    let Some(port) = port.filter(|_| is_plain) else {
        let what = format!("`{server}` is no server of mail");
        return Err(Mistake::at(
            config.server.span(),
            what,
            "a name, or a name and a port: \"mail.example:2525\"",
        ));
    };
    let password = secret_of(end, "password", config.password.as_ref())?;
    match (&config.user, &config.password) {
        (Some(user), None) => {
            return Err(Mistake::at(
                user.span(),
                format!("{end} has `user` without `password`"),
                "both, or none",
            ));
        }
        (None, Some(password)) => {
            let what = format!("{end} has `password` without `user`");
            return Err(Mistake::at(password.span(), what, "both, or none"));
        }
        (Some(user), Some(_)) if config.encryption == Encryption::None => {
            let what = format!("{end} would send its password for everybody to read");
            return Err(Mistake::at(user.span(), what, "encryption = \"starttls\" or \"tls\", or no user"));
        }
        _ => {}
    }
    if config.to.get_ref().is_empty() {
        return Err(Mistake::at(config.to.span(), format!("{end} sends mail to nobody"), "addresses"));
    }
    Ok(Mail {
        host: host.into(),
        port,
        encryption: config.encryption,
        user: config.user.map(Spanned::into_inner),
        password,
        from: mailbox(&config.from)?,
        to: config.to.get_ref().iter().map(mailbox).collect::<Result<_, _>>()?,
        timeout: timeout(config.timeout.as_ref())?,
        ca_file: config.ca_file,
    })
}

fn program(end: &str, config: ProgramConfig) -> Result<Program, Mistake> {
    if config.command.get_ref().first().is_none_or(String::is_empty) {
        let what = format!("{end} starts no program");
        return Err(Mistake::at(config.command.span(), what, "[\"program\", \"argument\"]"));
    }
    Ok(Program { command: config.command.into_inner(), timeout: timeout(config.timeout.as_ref())? })
}

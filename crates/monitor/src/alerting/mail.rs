//! A message by mail (SMTP).

use super::message::Message;
use super::secrets::look_up;
use super::tls;
use lettre::message::Mailbox;
use lettre::message::header::ContentType;
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::client::{Certificate, CertificateStore, Tls, TlsParameters};
use lettre::{AsyncSmtpTransport, AsyncTransport, Tokio1Executor};
use moorage_adapter::secret::SecretConfig;
use moorage_core::model::visible::visible;
use secrecy::ExposeSecret;
use serde::Deserialize;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// How the connection is encrypted.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(super) enum Encryption {
    /// By STARTTLS (RFC 3207), or not at all.
    #[default]
    Starttls,
    /// From its first byte (RFC 8314).
    Tls,
    /// Not.
    None,
}

impl Encryption {
    /// The port if none is given.
    fn port(self) -> u16 {
        match self {
            Self::Starttls => 587,
            Self::Tls => 465,
            Self::None => 25,
        }
    }
}

/// A receiver by mail.
#[derive(Clone, Debug)]
pub(super) struct Mail {
    pub(super) host: String,
    pub(super) port: Option<u16>,
    pub(super) encryption: Encryption,
    pub(super) user: Option<String>,
    pub(super) password: Option<SecretConfig>,
    pub(super) from: Mailbox,
    pub(super) to: Vec<Mailbox>,
    pub(super) timeout: Duration,
    pub(super) ca_file: Option<PathBuf>,
}

/// How long a line of a subject may get: more than that nobody reads in a list.
const LONGEST_SUBJECT: usize = 160;

impl Mail {
    fn port(&self) -> u16 {
        self.port.unwrap_or_else(|| self.encryption.port())
    }

    /// Where it goes.
    pub(super) fn place(&self) -> String {
        let to: Vec<String> = self.to.iter().map(|to| to.email.to_string()).collect();
        format!("{} by {}:{}", to.join(", "), self.host, self.port())
    }

    async fn transport(&self, folder: &Path) -> Result<AsyncSmtpTransport<Tokio1Executor>, String> {
        let tls = match self.encryption {
            Encryption::None => Tls::None,
            by => {
                let mut parameters = TlsParameters::builder(self.host.clone());
                if let Some(path) = &self.ca_file {
                    parameters = parameters.certificate_store(CertificateStore::None);
                    for certificate in tls::certificates(&folder.join(path))? {
                        let certificate =
                            Certificate::from_der(certificate.to_vec()).map_err(|e| e.to_string())?;
                        parameters = parameters.add_root_certificate(certificate);
                    }
                }
                let parameters = parameters.build_rustls().map_err(|e| e.to_string())?;
                if by == Encryption::Tls { Tls::Wrapper(parameters) } else { Tls::Required(parameters) }
            }
        };
        let mut transport = AsyncSmtpTransport::<Tokio1Executor>::builder_dangerous(&self.host)
            .port(self.port())
            .tls(tls)
            .timeout(Some(self.timeout));
        if let Some((user, password)) = self.user.as_ref().zip(self.password.as_ref()) {
            let password = look_up(password, folder).await?;
            transport =
                transport.credentials(Credentials::new(user.clone(), password.expose_secret().into()));
        }
        Ok(transport.build())
    }

    /// Sends a message; gives the answer.
    pub(super) async fn send(&self, message: &Message, folder: &Path) -> Result<String, String> {
        let subject: String = visible(&message.summary(), false).chars().take(LONGEST_SUBJECT).collect();
        let mut mail = lettre::Message::builder()
            .from(self.from.clone())
            .subject(format!("[moorage] {subject}"))
            // The same however often it is sent, so that it is one message for whoever sorts them.
            .message_id(Some(format!("<{}@moorage>", message.id)))
            .header(ContentType::TEXT_PLAIN);
        for to in &self.to {
            mail = mail.to(to.clone());
        }
        let mail = mail.body(visible(&message.text(), true).into_owned()).map_err(|e| e.to_string())?;
        let transport = self.transport(folder).await?;
        let sent = transport.send(mail);
        // The library's limit is for each answer of the server.
        match tokio::time::timeout(self.timeout, sent).await {
            Err(_) => Err("no answer in time".into()),
            Ok(Err(error)) => Err(told(&error)),
            Ok(Ok(answer)) => {
                let words = answer.message().collect::<Vec<_>>().join(" ");
                Ok(format!("{} {words}", answer.code()).trim().into())
            }
        }
    }
}

fn told(error: &lettre::transport::smtp::Error) -> String {
    let mut words = error.to_string();
    let mut next = std::error::Error::source(error);
    while let Some(cause) = next {
        let cause_words = cause.to_string();
        if !words.contains(&cause_words) {
            words = format!("{words}: {cause_words}");
        }
        next = cause.source();
    }
    words
}

//! A message by mail (SMTP).

use super::message::Message;
use super::secrets::look_up;
use super::tls;
use lettre::message::Mailbox;
use lettre::message::header::ContentType;
use lettre::transport::smtp::authentication::{Credentials, Mechanism};
use lettre::transport::smtp::client::{
    AsyncSmtpConnection, AsyncTokioStream, Certificate, CertificateStore, TlsParameters,
};
use lettre::transport::smtp::extension::ClientId;
use moorage_adapter::secret::SecretConfig;
use moorage_core::model::visible::visible;
use rustls_pki_types::ServerName;
use secrecy::ExposeSecret;
use serde::Deserialize;
use std::io;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll, ready};
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;

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

/// How many bytes a server may say.
const MOST_BYTES: usize = 64 << 10;
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

    /// A connection that is encrypted and logged in as it is to be.
    async fn connect(&self, folder: &Path) -> Result<AsyncSmtpConnection, String> {
        let stream = TcpStream::connect((self.host.as_str(), self.port())).await;
        let stream = Bounded {
            stream: stream.map_err(|e| format!("no connection: {e}"))?,
            left: MOST_BYTES,
            has_yielded: false,
            turns: (self.encryption == Encryption::Starttls).then(Turns::default),
        };
        let (hello, ca_file) = (ClientId::default(), self.ca_file.as_ref().map(|path| folder.join(path)));
        let mut connection = match self.encryption {
            Encryption::Tls => {
                let config = TlsConnector::from(Arc::new(tls::client_config(ca_file.as_deref())?));
                let name =
                    ServerName::try_from(self.host.clone()).map_err(|e| format!("{}: {e}", self.host))?;
                let stream = config.connect(name, stream).await.map_err(|e| format!("no encryption: {e}"))?;
                AsyncSmtpConnection::connect_with_transport(Box::new(Encrypted(stream)), &hello).await
            }
            Encryption::Starttls | Encryption::None => {
                AsyncSmtpConnection::connect_with_transport(Box::new(stream), &hello).await
            }
        }
        .map_err(|e| told(&e))?;
        if self.encryption == Encryption::Starttls {
            if !connection.can_starttls() {
                return Err("the server does not offer STARTTLS".into());
            }
            connection
                .starttls(self.tls_parameters(ca_file.as_deref())?, &hello)
                .await
                .map_err(|e| told(&e))?;
        }
        if let Some((user, password)) = self.user.as_ref().zip(self.password.as_ref()) {
            let password = look_up(password, folder).await?;
            let credentials = Credentials::new(user.clone(), password.expose_secret().into());
            let by = [Mechanism::Plain, Mechanism::Login];
            connection.auth(&by, &credentials).await.map_err(|e| told(&e))?;
        }
        Ok(connection)
    }

    fn tls_parameters(&self, ca_file: Option<&Path>) -> Result<TlsParameters, String> {
        let mut parameters = TlsParameters::builder(self.host.clone());
        if let Some(path) = ca_file {
            parameters = parameters.certificate_store(CertificateStore::None);
            for certificate in tls::certificates(path)? {
                let certificate = Certificate::from_der(certificate.to_vec()).map_err(|e| e.to_string())?;
                parameters = parameters.add_root_certificate(certificate);
            }
        }
        parameters.build_rustls().map_err(|e| e.to_string())
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
        let send = async {
            let mut connection = self.connect(folder).await?;
            let answer = connection.send(mail.envelope(), &mail.formatted()).await.map_err(|e| told(&e))?;
            // It has it; whether it says goodbye is all the same.
            let _ = connection.quit().await;
            let words = answer.message().collect::<Vec<_>>().join(" ");
            Ok(format!("{} {words}", answer.code()).trim().to_string())
        };
        tokio::time::timeout(self.timeout, send).await.unwrap_or_else(|_| Err("no answer in time".into()))
    }
}

/// A stream that a server cannot fill memory with: lines are read as long as they come.
#[derive(Debug)]
struct Bounded {
    stream: TcpStream,
    left: usize,
    /// Whether others had their turn since the last read. What is read is looked at for long, and the end of its time is seen only
    /// in between.
    has_yielded: bool,
    /// While the connection is to be encrypted and is not yet.
    turns: Option<Turns>,
}

/// Whose turn it is to speak before a connection is encrypted. What a server says behind its answer is read as its answers to
/// what is asked once the connection is encrypted, and anyone in between could have said it.
#[derive(Debug, Default)]
struct Turns {
    /// How much of its line was said.
    in_line: usize,
    /// Whether that is the last line of an answer (RFC 5321, section 4.2.1: a space behind its code).
    is_last: bool,
    has_answered: bool,
}

impl Turns {
    /// Whether the server speaks in its turn.
    fn hears(&mut self, said: &[u8]) -> bool {
        for byte in said {
            if self.has_answered {
                return false;
            }
            self.is_last |= self.in_line == 3 && *byte != b'-';
            self.in_line += 1;
            if *byte == b'\n' {
                self.has_answered = self.is_last;
                self.in_line = 0;
            }
        }
        true
    }
}

/// The first byte of an encrypted connection: a record of a handshake (RFC 8446, section 5.1).
const HANDSHAKE: u8 = 22;

impl AsyncRead for Bounded {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        if !std::mem::replace(&mut self.has_yielded, true) {
            context.waker().wake_by_ref();
            return Poll::Pending;
        }
        let before = buffer.filled().len();
        let read = ready!(Pin::new(&mut self.stream).poll_read(context, buffer));
        self.has_yielded = false;
        let came = buffer.filled().len() - before;
        if self.turns.as_mut().is_some_and(|turns| !turns.hears(&buffer.filled()[before..])) {
            let what = "the server says more than it was asked before the connection is encrypted";
            return Poll::Ready(Err(io::Error::other(what)));
        }
        self.left = match self.left.checked_sub(came) {
            Some(left) => left,
            None => return Poll::Ready(Err(io::Error::other("the server says too much"))),
        };
        Poll::Ready(read)
    }
}

impl AsyncWrite for Bounded {
    fn poll_write(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        bytes: &[u8],
    ) -> Poll<io::Result<usize>> {
        self.turns =
            self.turns.take().filter(|_| bytes.first() != Some(&HANDSHAKE)).map(|_| Turns::default());
        Pin::new(&mut self.stream).poll_write(context, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(context)
    }
}

impl AsyncTokioStream for Bounded {
    fn peer_addr(&self) -> io::Result<SocketAddr> {
        self.stream.peer_addr()
    }
}

/// The same, encrypted from its first byte.
#[derive(Debug)]
struct Encrypted(TlsStream<Bounded>);

impl AsyncRead for Encrypted {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        Pin::new(&mut self.0).poll_read(context, buffer)
    }
}

impl AsyncWrite for Encrypted {
    fn poll_write(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        bytes: &[u8],
    ) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.0).poll_write(context, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.0).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.0).poll_shutdown(context)
    }
}

impl AsyncTokioStream for Encrypted {
    fn peer_addr(&self) -> io::Result<SocketAddr> {
        self.0.get_ref().0.peer_addr()
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

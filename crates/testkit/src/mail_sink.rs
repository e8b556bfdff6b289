//! A mail server on loopback that keeps what is sent to it, in the open or encrypted.

use crate::receivers::Shared;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::{ServerConfig, ServerConnection, StreamOwned};
use std::io::{BufRead, BufReader, Error, Read, Result, Write};
use std::net::TcpStream;
use std::sync::Arc;

/// A mail that came.
#[derive(Clone, Debug, Default)]
pub struct Mailed {
    /// Whether it came over an encrypted connection.
    pub encrypted: bool,
    /// How its sender logged in: the line as it came.
    pub login: Option<String>,
    /// From whom, as the envelope says.
    pub from: String,
    /// To whom, as the envelope says.
    pub to: Vec<String>,
    /// The message, with its headers.
    pub text: String,
}

/// A mail server (RFC 5321) that keeps what is sent. It ends when it is dropped.
pub struct MailSink(Arc<Shared<Mailed>>);

/// When the connection is encrypted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Encrypts {
    /// From its first byte (RFC 8314).
    AtOnce,
    /// When it is asked by STARTTLS (RFC 3207).
    WhenAsked,
    /// Likewise, but someone in between has said in the open what it may answer then.
    WithWordsBefore,
}

impl MailSink {
    /// At a free port, without encryption.
    pub fn start() -> Self {
        Self::with(None)
    }

    /// At a free port, with a certificate and its key in PEM.
    pub fn encrypting(when: Encrypts, certificate: &str, key: &str) -> Self {
        let certificate = CertificateDer::from_pem_slice(certificate.as_bytes()).expect("a certificate");
        let key = PrivateKeyDer::from_pem_slice(key.as_bytes()).expect("a key");
        let config = ServerConfig::builder_with_provider(Arc::new(rustls::crypto::ring::default_provider()))
            .with_safe_default_protocol_versions()
            .and_then(|b| b.with_no_client_auth().with_single_cert(vec![certificate], key));
        Self::with(Some((when, Arc::new(config.expect("a certificate with its key")))))
    }

    fn with(encryption: Option<(Encrypts, Arc<ServerConfig>)>) -> Self {
        Self(Shared::listen(0, move |shared: &Shared<Mailed>, stream| {
            // Whoever hangs up in the middle has sent nothing.
            let _ = take_mails(shared, stream, encryption.as_ref());
        }))
    }

    /// Its port.
    pub fn port(&self) -> u16 {
        self.0.address.port()
    }

    /// What came, in order.
    pub fn got(&self) -> Vec<Mailed> {
        self.0.got.lock().expect("nobody panicked").clone()
    }
}

impl Drop for MailSink {
    fn drop(&mut self) {
        self.0.end();
    }
}

trait Wire: Read + Write {}
impl<T: Read + Write> Wire for T {}

fn encrypt(stream: TcpStream, config: &Arc<ServerConfig>) -> Result<Box<dyn Wire>> {
    let connection = ServerConnection::new(config.clone()).map_err(Error::other)?;
    Ok(Box::new(StreamOwned::new(connection, stream)))
}

fn take_mails(
    shared: &Shared<Mailed>,
    stream: TcpStream,
    encryption: Option<&(Encrypts, Arc<ServerConfig>)>,
) -> Result<()> {
    let mut encrypted = false;
    let mut wire: BufReader<Box<dyn Wire>> = BufReader::new(match encryption {
        Some((Encrypts::AtOnce, config)) => {
            encrypted = true;
            encrypt(stream.try_clone()?, config)?
        }
        _ => Box::new(stream.try_clone()?),
    });
    wire.get_mut().write_all(b"220 sink\r\n")?;
    let (mut mail, mut login) = (Mailed::default(), None);
    while let Some(line) = next_line(&mut wire)? {
        let upper = line.to_uppercase();
        let within = |line: &str| line.split(['<', '>']).nth(1).unwrap_or_default().to_string();
        let answer = if upper.starts_with("EHLO") {
            match encryption {
                Some((Encrypts::WhenAsked | Encrypts::WithWordsBefore, _)) if !encrypted => {
                    "250-sink\r\n250 STARTTLS\r\n"
                }
                _ => "250-sink\r\n250-AUTH PLAIN\r\n250 8BITMIME\r\n",
            }
        } else if let ("STARTTLS", Some((when, config))) = (upper.as_str(), encryption) {
            let words: &[u8] = match when {
                Encrypts::WithWordsBefore => b"220 go on\r\n250 sink\r\n250 kept\r\n",
                _ => b"220 go on\r\n",
            };
            wire.get_mut().write_all(words)?;
            wire = BufReader::new(encrypt(stream.try_clone()?, config)?);
            encrypted = true;
            continue;
        } else if upper.starts_with("AUTH") {
            login = Some(line);
            "235 welcome\r\n"
        } else if upper.starts_with("MAIL FROM") {
            mail = Mailed { encrypted, login: login.clone(), from: within(&line), ..Mailed::default() };
            "250 so be it\r\n"
        } else if upper.starts_with("RCPT TO") {
            mail.to.push(within(&line));
            "250 so be it\r\n"
        } else if upper == "DATA" {
            wire.get_mut().write_all(b"354 go on\r\n")?;
            while let Some(line) = next_line(&mut wire)?.filter(|line| line != ".") {
                mail.text.push_str(line.strip_prefix('.').unwrap_or(&line));
                mail.text.push('\n');
            }
            shared.keep(std::mem::take(&mut mail));
            "250 kept\r\n"
        } else if upper == "QUIT" {
            return wire.get_mut().write_all(b"221 bye\r\n");
        } else {
            "250 so be it\r\n"
        };
        wire.get_mut().write_all(answer.as_bytes())?;
    }
    Ok(())
}

/// A line without its end; none at the end of all.
fn next_line(wire: &mut impl BufRead) -> Result<Option<String>> {
    let mut line = String::new();
    let read = wire.read_line(&mut line)?;
    Ok((read > 0).then(|| line.trim_end_matches(['\r', '\n']).to_string()))
}

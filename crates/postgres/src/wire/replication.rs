//! Our own replication connection: start-up, log-in, and the messages on it
//! (PostgreSQL manual, sections 55.2, 55.4 and 55.7).

use crate::wire::address::{ChannelBinding, PostgresAddress};
use crate::wire::connect::{self, SESSION};
use crate::wire::error::{PASSWORD_MISSING, ServerError, UNBOUND};
use crate::wire::link::{self, Wire};
use bytes::{Buf, Bytes, BytesMut};
use fallible_iterator::FallibleIterator;
use moorage_adapter::{AdapterError, Doing, Layer, Result};
use postgres_protocol::authentication::md5_hash;
use postgres_protocol::authentication::sasl::{self, SCRAM_SHA_256, SCRAM_SHA_256_PLUS, ScramSha256};
use postgres_protocol::message::backend::{Header, Message};
use postgres_protocol::message::frontend;
use secrecy::{ExposeSecret, SecretString};
use std::time::{Duration, Instant};
use tokio::io::{AsyncReadExt, AsyncWriteExt, ReadHalf, WriteHalf};
use tokio::time::timeout;

/// A message may not be larger than this: the server's own limit for a value is 1 GiB.
const MAX_MESSAGE: usize = (1 << 30) + (1 << 20);

/// What arrives once the stream runs.
pub(crate) enum StreamMessage {
    /// A part of the log, as the plug-in writes it.
    Data {
        /// The end of the server's log when it was sent.
        server_end: u64,
        /// The plug-in's message.
        payload: Bytes,
    },
    /// A sign of life.
    Keepalive {
        /// The end of the server's log when it was sent.
        server_end: u64,
        /// Whether the server wants an answer at once.
        reply: bool,
    },
}

/// The reading end.
///
/// The server sends every change in a packet of its own. Reading each as it comes would wake this process and
/// the server's for each of them; so once the stream runs, the thread sleeps for a moment between two reads, and
/// finds many messages at once. A thread that reads must therefore have nothing else to do.
pub(crate) struct ReplicationReader {
    socket: ReadHalf<Wire>,
    buffer: BytesMut,
    /// Whether the buffer was made larger for one message.
    was_large: bool,
    address: String,
    /// When something was last read, and how much; none before the stream runs.
    last_read: Option<(Instant, usize)>,
}

/// How long packets gather. A quiet stream is read at once.
const GATHER_PACKETS: Duration = Duration::from_micros(500);
/// A message of more than so many bytes has a buffer made for it.
const LARGE_BUFFER: usize = 4 << 20;
/// After a read of so many bytes more are there already.
const MANY_BYTES: usize = 32 << 10;

/// The writing end.
pub(crate) struct ReplicationWriter {
    socket: WriteHalf<Wire>,
    address: String,
}

fn lost(address: &str, reason: impl ToString) -> AdapterError {
    AdapterError::Lost { address: address.into(), reason: reason.to_string() }
}

/// Connects and logs in for logical replication.
pub(crate) async fn connect(address: &PostgresAddress) -> Result<(ReplicationReader, ReplicationWriter)> {
    let password = connect::password(address).await?;
    let (wire, gate, link) = link::open(address).await?;
    connect::may_be_bound(address, &link)?;
    let (read, write) = tokio::io::split(wire);
    let text = address.text();
    let mut reader = ReplicationReader {
        socket: read,
        buffer: BytesMut::with_capacity(64 * 1024),
        was_large: false,
        address: text.clone(),
        last_read: None,
    };
    let mut writer = ReplicationWriter { socket: write, address: text };
    let end_point = link.tls.and_then(|tls| tls.end_point);
    let asked = Asked { address, password, end_point };
    let log_in = timeout(address.connect_timeout, asked.log_in(&mut reader, &mut writer)).await;
    log_in.unwrap_or_else(|_| {
        Err(AdapterError::Connect {
            address: address.text(),
            layer: Layer::TimedOut,
            reason: "no answer to the log-in".into(),
        })
    })?;
    gate.open();
    Ok((reader, writer))
}

/// What a log-in has to show.
struct Asked<'a> {
    address: &'a PostgresAddress,
    password: Option<SecretString>,
    /// What the log-in can be bound to.
    end_point: Option<Vec<u8>>,
}

impl Asked<'_> {
    async fn log_in(&self, reader: &mut ReplicationReader, writer: &mut ReplicationWriter) -> Result<()> {
        let user = self.address.user.as_str();
        let mut parameters = vec![
            ("user", user),
            ("database", self.address.database.as_str()),
            ("replication", "database"),
            ("application_name", "moorage"),
            ("client_encoding", "UTF8"),
        ];
        parameters.extend(SESSION);
        writer.send(|b| frontend::startup_message(parameters, b)).await?;
        let mut bound = false;
        loop {
            match reader.next().await? {
                Message::AuthenticationOk => self.may_be_unbound(bound)?,
                Message::ParameterStatus(_) | Message::BackendKeyData(_) | Message::NoticeResponse(_) => {}
                Message::ReadyForQuery(_) => return Ok(()),
                Message::AuthenticationCleartextPassword => {
                    self.may_be_unbound(false)?;
                    let password = self.password()?;
                    writer.send(|b| frontend::password_message(password, b)).await?;
                }
                Message::AuthenticationMd5Password(body) => {
                    self.may_be_unbound(false)?;
                    let hash = md5_hash(user.as_bytes(), self.password()?, body.salt());
                    writer.send(|b| frontend::password_message(hash.as_bytes(), b)).await?;
                }
                Message::AuthenticationSasl(body) => {
                    let offered: Vec<String> =
                        body.mechanisms().map(|m| Ok(m.to_string())).collect().unwrap_or_default();
                    bound = self.scram(&offered, reader, writer).await?;
                }
                Message::ErrorResponse(body) => {
                    return Err(ServerError::read(&body).into_connect(&self.address.text()));
                }
                _ => return Err(self.failed(UNKNOWN_LOG_IN)),
            }
        }
    }

    /// SCRAM-SHA-256 (RFC 7677), bound to the channel where both sides can (RFC 5802, section 6). Gives whether it was.
    async fn scram(
        &self,
        offered: &[String],
        reader: &mut ReplicationReader,
        writer: &mut ReplicationWriter,
    ) -> Result<bool> {
        let has = |mechanism: &str| offered.iter().any(|o| o == mechanism);
        let wanted = self.address.channel_binding != ChannelBinding::Disable;
        let end_point = self.end_point.clone().filter(|_| wanted);
        let (binding, mechanism) = match (end_point, has(SCRAM_SHA_256_PLUS)) {
            (Some(data), true) => (sasl::ChannelBinding::tls_server_end_point(data), SCRAM_SHA_256_PLUS),
            // Told that we could: a server that can too knows that someone took its offer away.
            (Some(_), false) => (sasl::ChannelBinding::unrequested(), SCRAM_SHA_256),
            (None, _) => (sasl::ChannelBinding::unsupported(), SCRAM_SHA_256),
        };
        if !has(mechanism) {
            return Err(self.failed(UNKNOWN_LOG_IN));
        }
        let bound = mechanism == SCRAM_SHA_256_PLUS;
        self.may_be_unbound(bound)?;
        let failed = |e: std::io::Error| self.failed(e.to_string());
        let mut scram = ScramSha256::new(self.password()?, binding);
        let first = scram.message().to_vec();
        writer.send(|b| frontend::sasl_initial_response(mechanism, &first, b)).await?;
        match reader.next().await? {
            Message::AuthenticationSaslContinue(body) => scram.update(body.data()).map_err(failed)?,
            other => return Err(self.broken_off(&other)),
        }
        let second = scram.message().to_vec();
        writer.send(|b| frontend::sasl_response(&second, b)).await?;
        match reader.next().await? {
            Message::AuthenticationSaslFinal(body) => scram.finish(body.data()).map_err(failed)?,
            other => return Err(self.broken_off(&other)),
        }
        Ok(bound)
    }

    fn broken_off(&self, message: &Message) -> AdapterError {
        match message {
            Message::ErrorResponse(body) => ServerError::read(body).into_connect(&self.address.text()),
            _ => self.failed("the server broke off the log-in"),
        }
    }

    /// A log-in that is not bound is refused where it has to be.
    fn may_be_unbound(&self, bound: bool) -> Result<()> {
        let refused = self.address.channel_binding == ChannelBinding::Require && !bound;
        if refused { Err(self.failed(UNBOUND)) } else { Ok(()) }
    }

    fn password(&self) -> Result<&[u8]> {
        let given = self.password.as_ref().map(|p| p.expose_secret().as_bytes());
        given.ok_or_else(|| self.failed(PASSWORD_MISSING))
    }

    fn failed(&self, reason: impl Into<String>) -> AdapterError {
        link::failed(self.address, Layer::LogIn, reason)
    }
}

const UNKNOWN_LOG_IN: &str = "the server asks for a log-in that is not known here";

impl ReplicationWriter {
    async fn send(&mut self, write: impl FnOnce(&mut BytesMut) -> std::io::Result<()>) -> Result<()> {
        let mut buffer = BytesMut::new();
        write(&mut buffer).map_err(|e| lost(&self.address, e))?;
        self.socket.write_all(&buffer).await.map_err(|e| lost(&self.address, e))?;
        self.socket.flush().await.map_err(|e| lost(&self.address, e))
    }

    /// Sends a statement.
    pub(crate) async fn query(&mut self, sql: &str) -> Result<()> {
        self.send(|b| frontend::query(sql, b)).await
    }

    /// Tells the server how far we have come (standby status update): received, and made durable; 0 tells
    /// nothing about the latter and leaves the slot where it is.
    pub(crate) async fn status(&mut self, received: u64, durable: u64, reply: bool) -> Result<()> {
        let mut body = Vec::with_capacity(34);
        body.push(b'r');
        for number in [received, durable, durable] {
            body.extend_from_slice(&number.to_be_bytes());
        }
        body.extend_from_slice(&microseconds_since_2000().to_be_bytes());
        body.push(reply.into());
        self.send(|b| frontend::CopyData::new(&body[..]).map(|data| data.write(b))).await
    }

    /// Ends the stream from our side.
    pub(crate) async fn done(&mut self) -> Result<()> {
        self.send(|b| {
            frontend::copy_done(b);
            frontend::terminate(b);
            Ok(())
        })
        .await
    }
}

/// The server's clock starts at 2000-01-01 (PostgreSQL manual, section 55.4).
pub(crate) const EPOCH_2000_US: i64 = 946_684_800_000_000;

fn microseconds_since_2000() -> i64 {
    chrono::Utc::now().timestamp_micros() - EPOCH_2000_US
}

impl ReplicationReader {
    /// Waits until a whole message is in the buffer, and gives its tag. May be cancelled without loss.
    async fn fill(&mut self) -> Result<u8> {
        // What a large message needed is given back when it was read.
        if self.was_large && self.buffer.len() < LARGE_BUFFER {
            self.buffer = BytesMut::from(&self.buffer[..]);
            self.was_large = false;
        }
        loop {
            let header = Header::parse(&self.buffer).map_err(|e| lost(&self.address, e))?;
            if let Some(header) = header {
                let length = header.len() as usize + 1;
                if length > MAX_MESSAGE {
                    let what = format!("a message of {length} bytes");
                    return Err(AdapterError::Protocol { address: self.address.clone(), what });
                }
                if self.buffer.len() >= length {
                    return Ok(header.tag());
                }
                self.was_large |= length > LARGE_BUFFER;
                self.buffer.reserve(length - self.buffer.len());
            } else {
                self.buffer.reserve(256 * 1024);
            }
            if let Some((at, bytes)) = self.last_read
                && bytes < MANY_BYTES
                && at.elapsed() < GATHER_PACKETS
            {
                std::thread::sleep(GATHER_PACKETS);
            }
            let read = self.socket.read_buf(&mut self.buffer).await.map_err(|e| lost(&self.address, e))?;
            self.last_read = self.last_read.map(|_| (Instant::now(), read));
            if read == 0 {
                return Err(lost(&self.address, "closed by the server"));
            }
        }
    }

    async fn next(&mut self) -> Result<Message> {
        self.fill().await?;
        let message = Message::parse(&mut self.buffer).map_err(|e| lost(&self.address, e))?;
        message.ok_or_else(|| lost(&self.address, "an incomplete message"))
    }

    /// Waits for a statement to end; rows that it gives are not looked at.
    pub(crate) async fn statement_ends(&mut self, doing: impl Into<Doing>) -> Result<()> {
        let doing = doing.into();
        let mut failed = None;
        loop {
            match self.next().await? {
                Message::ErrorResponse(body) => {
                    failed = Some(ServerError::read(&body).into_adapter(&self.address, &doing));
                }
                Message::ReadyForQuery(_) => return failed.map_or(Ok(()), Err),
                _ => {}
            }
        }
    }

    /// Waits for the server to begin the stream: CopyBothResponse, tag W, which the message parser that
    /// we borrow does not know.
    pub(crate) async fn stream_begins(&mut self, doing: impl Into<Doing>) -> Result<()> {
        let doing = doing.into();
        loop {
            if self.fill().await? == b'W' {
                let length = Header::parse(&self.buffer).ok().flatten().map_or(0, |h| h.len() as usize + 1);
                self.buffer.advance(length);
                self.last_read = Some((Instant::now(), 0));
                return Ok(());
            }
            match self.next().await? {
                Message::ErrorResponse(body) => {
                    let error = ServerError::read(&body);
                    return Err(match error.code.as_str() {
                        // Object in use: a stream of ours that was closed may not have ended in a busy server yet.
                        "55006" => AdapterError::Busy { doing, reason: error.text() },
                        _ => error.into_adapter(&self.address, doing),
                    });
                }
                Message::NoticeResponse(_) | Message::ParameterStatus(_) => {}
                _ => {
                    let what = "no stream was begun".to_string();
                    return Err(AdapterError::Protocol { address: self.address.clone(), what });
                }
            }
        }
    }

    /// The next message of the running stream; `None` when the server ends it in good order.
    pub(crate) async fn stream_next(&mut self) -> Result<Option<StreamMessage>> {
        loop {
            match self.next().await? {
                Message::CopyData(body) => return self.unwrap_data(body.into_bytes()).map(Some),
                Message::ErrorResponse(body) => {
                    let error = ServerError::read(&body);
                    return Err(error.into_adapter(&self.address, "reading the replication stream"));
                }
                Message::CopyDone => return Ok(None),
                _ => {}
            }
        }
    }

    fn unwrap_data(&self, mut bytes: Bytes) -> Result<StreamMessage> {
        let malformed = || AdapterError::Protocol {
            address: self.address.clone(),
            what: "a message of the replication stream that is too short or of an unknown kind".into(),
        };
        match (bytes.first().copied(), bytes.len()) {
            (Some(b'w'), 25..) => {
                bytes.advance(9);
                let server_end = bytes.get_u64();
                bytes.advance(8);
                Ok(StreamMessage::Data { server_end, payload: bytes })
            }
            (Some(b'k'), 18) => {
                bytes.advance(1);
                let server_end = bytes.get_u64();
                bytes.advance(8);
                Ok(StreamMessage::Keepalive { server_end, reply: bytes.get_u8() == 1 })
            }
            _ => Err(malformed()),
        }
    }
}

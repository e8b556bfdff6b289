//! The socket below a session: who is at its ends, whether it is encrypted, and how much may come over it before
//! the server has let us in.

use crate::wire::address::{PostgresAddress, SslMode};
use crate::wire::certificate::{self, Certificate};
use crate::wire::tls::{self, Refused};
use moorage_adapter::{AdapterError, Layer, Result, UsageCounter};
use rustls_pki_types::ServerName;
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::task::{Context, Poll};
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt, ReadBuf};
use tokio::net::{TcpStream, UnixStream};
use tokio::time::timeout;
use tokio_postgres::tls::{ChannelBinding, TlsConnect, TlsStream};

/// A connected socket, encrypted or not.
trait Socket: AsyncRead + AsyncWrite + Unpin + Send {}
impl<T: AsyncRead + AsyncWrite + Unpin + Send> Socket for T {}

/// What a connection goes over.
#[derive(Clone, Debug, Default)]
pub(crate) struct Link {
    /// Our end and the server's; none for a Unix socket.
    pub(crate) ends: Option<(SocketAddr, SocketAddr)>,
    /// Every address that the server's name has.
    pub(crate) addresses: Vec<SocketAddr>,
    /// How it is encrypted, if it is.
    pub(crate) tls: Option<Tls>,
}

/// An encryption that was agreed on.
#[derive(Clone, Debug)]
pub(crate) struct Tls {
    /// `TLS 1.3`.
    pub(crate) version: &'static str,
    /// The server's certificate, where it can be read.
    pub(crate) certificate: Option<Certificate>,
    /// What a log-in is bound to, where the certificate gives it.
    pub(crate) end_point: Option<Vec<u8>>,
}

/// How many bytes a server may send before it has let us in: nobody knows who it is until then.
const MOST_BEFORE_LOG_IN: usize = 1 << 20;

/// A socket on which little may arrive until the log-in is done.
pub(crate) struct Wire {
    socket: Box<dyn Socket>,
    /// How much may still arrive; `usize::MAX`: as much as will.
    left: Arc<AtomicUsize>,
    /// What a log-in can be bound to.
    end_point: Option<Vec<u8>>,
    usage: UsageCounter,
}

/// Lets as much arrive as will.
pub(crate) struct Gate(Arc<AtomicUsize>);

impl Gate {
    /// The server has let us in.
    pub(crate) fn open(self) {
        self.0.store(usize::MAX, Ordering::Relaxed);
    }
}

impl AsyncRead for Wire {
    fn poll_read(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let left = self.left.load(Ordering::Relaxed);
        let before = buf.filled().len();
        let polled = Pin::new(&mut self.socket).poll_read(cx, buf);
        self.usage.receives(buf.filled().len() - before);
        if left == usize::MAX || !matches!(polled, Poll::Ready(Ok(()))) {
            return polled;
        }
        let read = buf.filled().len() - before;
        if read > left {
            let words =
                format!("the server sent more than {} MiB before it let us in", MOST_BEFORE_LOG_IN >> 20);
            return Poll::Ready(Err(io::Error::other(words)));
        }
        // If it was opened meanwhile it stays open.
        let _ = self.left.compare_exchange(left, left - read, Ordering::Relaxed, Ordering::Relaxed);
        polled
    }
}

impl AsyncWrite for Wire {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        let polled = Pin::new(&mut self.socket).poll_write(cx, bytes);
        if let Poll::Ready(Ok(written)) = &polled {
            self.usage.sends(*written);
        }
        polled
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.socket).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.socket).poll_shutdown(cx)
    }
}

impl TlsStream for Wire {
    fn channel_binding(&self) -> ChannelBinding {
        self.end_point.clone().map_or_else(ChannelBinding::none, ChannelBinding::tls_server_end_point)
    }
}

/// For the client library, which wants to encrypt: the socket is encrypted already.
pub(crate) struct Encrypted;

impl TlsConnect<Wire> for Encrypted {
    type Stream = Wire;
    type Error = io::Error;
    type Future = std::future::Ready<io::Result<Wire>>;

    fn connect(self, wire: Wire) -> Self::Future {
        std::future::ready(Ok(wire))
    }
}

/// Opens a socket and agrees on encryption. No name, nobody there, no answer, no encryption: each is
/// told apart.
pub(crate) async fn open(address: &PostgresAddress) -> Result<(Wire, Gate, Link)> {
    // An authority's certificates that cannot be read are a mistake also where nobody would look at them.
    tls::readable(address).map_err(|reason| failed(address, Layer::Tls, reason))?;
    let mut link = Link::default();
    let attempt = timeout(address.connect_timeout, connect(address, &mut link)).await;
    let socket = attempt.unwrap_or_else(|_| {
        let reason = format!("no answer within {} s", address.connect_timeout.as_secs());
        Err(failed(address, Layer::TimedOut, reason))
    });
    let socket = socket.map_err(|error| with_addresses(error, &link))?;
    let left = Arc::new(AtomicUsize::new(MOST_BEFORE_LOG_IN));
    let end_point = link.tls.as_ref().and_then(|tls| tls.end_point.clone());
    address.usage.connects();
    let usage = address.usage.clone();
    Ok((Wire { socket, left: left.clone(), end_point, usage }, Gate(left), link))
}

pub(crate) fn failed(address: &PostgresAddress, layer: Layer, reason: impl Into<String>) -> AdapterError {
    AdapterError::Connect { address: address.text(), layer, reason: reason.into() }
}

fn io_failed(address: &PostgresAddress, error: &io::Error) -> AdapterError {
    let layer = match error.kind() {
        io::ErrorKind::ConnectionRefused | io::ErrorKind::NotFound => Layer::Refused,
        io::ErrorKind::TimedOut => Layer::TimedOut,
        _ => Layer::Network,
    };
    failed(address, layer, error.to_string())
}

/// What nobody answered may be an allow-list that does not have us: both ends are named for whoever keeps it.
fn with_addresses(error: AdapterError, link: &Link) -> AdapterError {
    let AdapterError::Connect {
        address,
        layer: layer @ (Layer::Refused | Layer::TimedOut | Layer::Network),
        reason,
    } = error
    else {
        return error;
    };
    let Some(peer) = link.addresses.first() else { return AdapterError::Connect { address, layer, reason } };
    let own = own_address(*peer).map_or_else(|| "here".into(), |own| own.to_string());
    let reason = format!("{reason}; from {own} to {}", listed(&link.addresses));
    AdapterError::Connect { address, layer, reason }
}

/// The address that this machine has towards another. Nothing is sent.
fn own_address(peer: SocketAddr) -> Option<IpAddr> {
    let any: SocketAddr = if peer.is_ipv4() { "0.0.0.0:0".parse().ok()? } else { "[::]:0".parse().ok()? };
    let socket = std::net::UdpSocket::bind(any).ok()?;
    socket.connect(peer).ok()?;
    Some(socket.local_addr().ok()?.ip())
}

/// `10.1.2.3, 10.1.2.4 port 5432`.
pub(crate) fn listed(addresses: &[SocketAddr]) -> String {
    let Some(first) = addresses.first() else { return String::new() };
    let hosts: Vec<String> = addresses.iter().map(|a| a.ip().to_string()).collect();
    format!("{} port {}", hosts.join(", "), first.port())
}

async fn connect(address: &PostgresAddress, link: &mut Link) -> Result<Box<dyn Socket>> {
    if let Some(path) = address.socket() {
        let socket = UnixStream::connect(&path).await.map_err(|e| io_failed(address, &e))?;
        return Ok(Box::new(socket));
    }
    link.addresses = tokio::net::lookup_host((address.host.as_str(), address.port))
        .await
        .map_err(|e| failed(address, Layer::NameLookup, e.to_string()))?
        .collect();
    let socket = TcpStream::connect(link.addresses.as_slice()).await.map_err(|e| io_failed(address, &e))?;
    link.ends = socket.local_addr().ok().zip(socket.peer_addr().ok());
    socket.set_nodelay(true).map_err(|e| io_failed(address, &e))?;
    let keepalive = socket2::TcpKeepalive::new()
        .with_time(Duration::from_secs(30))
        .with_interval(Duration::from_secs(10));
    let tuned = socket2::SockRef::from(&socket);
    tuned.set_tcp_keepalive(&keepalive).map_err(|e| io_failed(address, &e))?;
    // What was sent and is never received is noticed too, not only silence.
    #[cfg(target_os = "linux")]
    tuned.set_tcp_user_timeout(Some(Duration::from_secs(60))).map_err(|e| io_failed(address, &e))?;
    if address.sslmode == SslMode::Disable {
        return Ok(Box::new(socket));
    }
    encrypt(address, socket, link).await
}

/// Asks for encryption (PostgreSQL manual, section 55.2.10).
async fn encrypt(
    address: &PostgresAddress,
    mut socket: TcpStream,
    link: &mut Link,
) -> Result<Box<dyn Socket>> {
    let mut request = bytes::BytesMut::new();
    postgres_protocol::message::frontend::ssl_request(&mut request);
    socket.write_all(&request).await.map_err(|e| io_failed(address, &e))?;
    // One byte and no more: what a stranger sent before the encryption is none of the server's words.
    let answer = socket.read_u8().await.map_err(|e| io_failed(address, &e))?;
    if answer != b'S' {
        return match address.sslmode {
            SslMode::Prefer => Ok(Box::new(socket)),
            _ => Err(failed(
                address,
                Layer::Tls,
                "the server does not offer encryption, which sslmode asks for",
            )),
        };
    }
    let config = tls::client_config(address).map_err(|reason| failed(address, Layer::Tls, reason))?;
    let name = ServerName::try_from(address.host.clone()).map_err(|_| {
        failed(address, Layer::Tls, format!("{} is not a name that a certificate can have", address.host))
    })?;
    let connector = tokio_rustls::TlsConnector::from(Arc::new(config));
    let encrypted =
        connector.connect(name, socket).await.map_err(|e| failed(address, Layer::Tls, tls_words(&e)))?;
    let session = encrypted.get_ref().1;
    let der = session.peer_certificates().and_then(|chain| chain.first());
    link.tls = Some(Tls {
        version: match session.protocol_version() {
            Some(rustls::ProtocolVersion::TLSv1_3) => "TLS 1.3",
            _ => "TLS 1.2",
        },
        certificate: der.and_then(|der| Certificate::read(der).ok()),
        end_point: der.and_then(certificate::end_point),
    });
    Ok(Box::new(encrypted))
}

/// What went wrong in agreeing on encryption, or after it.
pub(crate) fn tls_words(error: &io::Error) -> String {
    let inner = error.get_ref().and_then(|e| e.downcast_ref::<rustls::Error>());
    match inner {
        Some(rustls::Error::InvalidCertificate(rustls::CertificateError::Other(other))) => other
            .0
            .downcast_ref::<Refused>()
            .map_or_else(|| other.to_string(), |Refused(words)| words.clone()),
        Some(rustls::Error::AlertReceived(alert)) => format!(
            "the server refuses our certificate, or that we have none ({alert:?}): name one that it trusts with sslcert and sslkey"
        ),
        _ => error.to_string(),
    }
}

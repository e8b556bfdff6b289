//! Connections: the socket with its encryption, and ordinary sessions on it.

use crate::address::PostgresAddress;
use crate::error::{log_in_error, statement_error};
use crate::tls;
use moorage_adapter::{AdapterError, Layer, Result};
use moorage_core::project::SslMode;
use rustls_pki_types::ServerName;
use secrecy::ExposeSecret;
use std::collections::HashMap;
use std::io;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::{TcpStream, UnixStream};
use tokio::time::timeout;
use tokio_postgres::types::ToSql;
use tokio_postgres::{Client, Row, Statement};

/// A connected socket, encrypted or not.
pub(crate) trait Socket: AsyncRead + AsyncWrite + Unpin + Send {}
impl<T: AsyncRead + AsyncWrite + Unpin + Send> Socket for T {}

/// Session settings under which all text that the server sends is canonical. The stream and the
/// snapshot use the same, so that a value looks the same whichever way it comes.
pub(crate) const SESSION: [(&str, &str); 12] = [
    ("DateStyle", "ISO, YMD"),
    ("TimeZone", "UTC"),
    ("IntervalStyle", "iso_8601"),
    ("extra_float_digits", "3"),
    ("bytea_output", "hex"),
    ("lc_monetary", "C"),
    ("search_path", "pg_catalog"),
    ("statement_timeout", "0"),
    ("idle_in_transaction_session_timeout", "0"),
    ("lock_timeout", "0"),
    ("default_transaction_read_only", "off"),
    // The server notices within a second that Moorage is gone, also while it waits for something.
    ("client_connection_check_interval", "1000"),
];

/// Opens a socket and agrees on encryption. No name, nobody there, no answer, no encryption: each is
/// told apart.
pub(crate) async fn open_socket(address: &PostgresAddress) -> Result<Box<dyn Socket>> {
    let attempt = timeout(address.connect_timeout, open(address)).await;
    attempt.unwrap_or_else(|_| {
        let reason = format!("no answer within {} s", address.connect_timeout.as_secs());
        Err(failed(address, Layer::TimedOut, reason))
    })
}

fn failed(address: &PostgresAddress, layer: Layer, reason: impl Into<String>) -> AdapterError {
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

async fn open(address: &PostgresAddress) -> Result<Box<dyn Socket>> {
    if let Some(path) = address.socket() {
        let socket = UnixStream::connect(&path).await.map_err(|e| io_failed(address, &e))?;
        return Ok(Box::new(socket));
    }
    let found: Vec<_> = tokio::net::lookup_host((address.host.as_str(), address.port))
        .await
        .map_err(|e| failed(address, Layer::NameLookup, e.to_string()))?
        .collect();
    let socket = TcpStream::connect(found.as_slice()).await.map_err(|e| io_failed(address, &e))?;
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
    encrypt(address, socket).await
}

/// Asks for encryption (PostgreSQL manual, section 55.2.10).
async fn encrypt(address: &PostgresAddress, mut socket: TcpStream) -> Result<Box<dyn Socket>> {
    let mut request = bytes::BytesMut::new();
    postgres_protocol::message::frontend::ssl_request(&mut request);
    socket.write_all(&request).await.map_err(|e| io_failed(address, &e))?;
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
        connector.connect(name, socket).await.map_err(|e| failed(address, Layer::Tls, e.to_string()))?;
    Ok(Box::new(encrypted))
}

/// How long logging in may take, whatever the address says.
const MOST_TO_LOG_IN: Duration = Duration::from_secs(120);
/// After how long a silence it is seen whether the server is still there.
const SILENCE: Duration = Duration::from_secs(20);

/// Waits for work that a server does. A long statement is no silence: as long as the server lets us in anew, or says why
/// not, it is waited for; otherwise the connection counts as lost.
pub(crate) async fn watched<T>(
    address: &PostgresAddress,
    doing: &str,
    work: impl Future<Output = Result<T>>,
) -> Result<T> {
    let mut work = std::pin::pin!(work);
    loop {
        tokio::select! {
            done = &mut work => return done,
            () = tokio::time::sleep(SILENCE) => {}
        }
        let there = tokio::select! {
            done = &mut work => return done,
            // The type of a future that waits for itself needs a box.
            again = Box::pin(Session::open(address)) => again,
        };
        let gone = match there {
            Err(
                error @ AdapterError::Connect {
                    layer: Layer::TimedOut | Layer::Refused | Layer::NameLookup,
                    ..
                },
            ) => error,
            _ => continue,
        };
        return Err(AdapterError::Lost {
            address: address.text(),
            reason: format!("{doing}: no answer for {} s, and {gone}", SILENCE.as_secs()),
        });
    }
}

/// How many prepared statements a session keeps.
const MOST_PREPARED: usize = 1000;

/// An ordinary session. Dropping it closes the connection.
pub(crate) struct Session {
    client: Client,
    place: PostgresAddress,
    address: String,
    pid: i32,
    /// Statements that were prepared once, by their text.
    prepared: Mutex<HashMap<String, Statement>>,
}

impl Session {
    /// Connects and logs in.
    pub(crate) async fn open(address: &PostgresAddress) -> Result<Self> {
        // Also one who logs us in and then says nothing.
        let most = address.connect_timeout.saturating_mul(2).min(MOST_TO_LOG_IN);
        let opened = timeout(most, Self::log_in(address)).await;
        opened.unwrap_or_else(|_| Err(failed(address, Layer::TimedOut, "no answer behind the log-in")))
    }

    async fn log_in(address: &PostgresAddress) -> Result<Self> {
        let socket = open_socket(address).await?;
        let mut config = tokio_postgres::Config::new();
        let options: Vec<String> =
            SESSION.iter().map(|(name, value)| format!("-c {name}={}", value.replace(' ', "\\ "))).collect();
        config
            .user(&address.user)
            .dbname(&address.database)
            .application_name("moorage")
            .options(options.join(" "))
            .ssl_mode(tokio_postgres::config::SslMode::Disable);
        if let Some(password) = &address.password {
            config.password(password.expose_secret());
        }
        let text = address.text();
        let log_in =
            timeout(address.connect_timeout, config.connect_raw(socket, tokio_postgres::NoTls)).await;
        let (client, connection) = match log_in {
            Err(_) => return Err(failed(address, Layer::TimedOut, "no answer to the log-in")),
            Ok(done) => done.map_err(|e| log_in_error(&text, &e))?,
        };
        tokio::spawn(async move {
            if let Err(error) = connection.await {
                tracing::debug!("connection ended: {error}");
            }
        });
        let mut session =
            Self { client, place: address.clone(), address: text, pid: 0, prepared: Mutex::default() };
        let asked = session.client.query_one("SELECT pg_backend_pid()", &[]).await;
        session.pid = asked.map_err(|e| session.error("asking for the session's number", &e))?.get(0);
        Ok(session)
    }

    /// The server's number of this session.
    pub(crate) fn pid(&self) -> i32 {
        self.pid
    }

    /// The client itself, for what the methods here do not cover.
    pub(crate) fn client(&self) -> &Client {
        &self.client
    }

    /// Wraps an error.
    pub(crate) fn error(&self, doing: &str, error: &tokio_postgres::Error) -> AdapterError {
        statement_error(&self.address, doing, error)
    }

    /// Waits for an answer, for as long as the server is there.
    async fn answer<T>(
        &self,
        doing: &str,
        work: impl Future<Output = std::result::Result<T, tokio_postgres::Error>>,
    ) -> Result<T> {
        watched(&self.place, doing, async { work.await.map_err(|e| self.error(doing, &e)) }).await
    }

    /// Runs statements without parameters.
    pub(crate) async fn run(&self, doing: &str, sql: &str) -> Result<()> {
        self.answer(doing, self.client.batch_execute(sql)).await
    }

    /// Asks for rows.
    pub(crate) async fn rows(
        &self,
        doing: &str,
        sql: &str,
        parameters: &[&(dyn ToSql + Sync)],
    ) -> Result<Vec<Row>> {
        self.answer(doing, self.client.query(sql, parameters)).await
    }

    /// The statement, prepared the first time it is asked for.
    pub(crate) async fn statement(&self, sql: &str) -> std::result::Result<Statement, tokio_postgres::Error> {
        let known = self.prepared.lock().unwrap_or_else(PoisonError::into_inner).get(sql).cloned();
        if let Some(statement) = known {
            return Ok(statement);
        }
        let statement = self.client.prepare(sql).await?;
        let mut prepared = self.prepared.lock().unwrap_or_else(PoisonError::into_inner);
        if prepared.len() >= MOST_PREPARED {
            prepared.clear();
        }
        prepared.insert(sql.to_string(), statement.clone());
        Ok(statement)
    }

    /// Asks for rows with a statement that is used often.
    pub(crate) async fn cached(
        &self,
        doing: &str,
        sql: &str,
        parameters: &[&(dyn ToSql + Sync)],
    ) -> Result<Vec<Row>> {
        self.answer(doing, async {
            let statement = self.statement(sql).await?;
            self.client.query(&statement, parameters).await
        })
        .await
    }

    /// Runs a statement; gives how many rows it touched.
    pub(crate) async fn execute(
        &self,
        doing: &str,
        sql: &str,
        parameters: &[&(dyn ToSql + Sync)],
    ) -> Result<u64> {
        self.answer(doing, self.client.execute(sql, parameters)).await
    }

    /// Host, database and user.
    pub(crate) fn address(&self) -> &str {
        &self.address
    }

    /// Asks for exactly one row.
    pub(crate) async fn one(
        &self,
        doing: &str,
        sql: &str,
        parameters: &[&(dyn ToSql + Sync)],
    ) -> Result<Row> {
        self.answer(doing, self.client.query_one(sql, parameters)).await
    }

    /// Asks for a row that may be missing.
    pub(crate) async fn maybe(
        &self,
        doing: &str,
        sql: &str,
        parameters: &[&(dyn ToSql + Sync)],
    ) -> Result<Option<Row>> {
        self.answer(doing, self.client.query_opt(sql, parameters)).await
    }
}

//! Ordinary sessions.

use crate::wire::address::{ChannelBinding, PostgresAddress};
use crate::wire::error::{log_in_error, statement_error};
use crate::wire::link::{self, Encrypted, Link, failed};
use moorage_adapter::{AdapterError, Doing, Layer, Result};
use moorage_core::model::sql::quote_literal;
use secrecy::{ExposeSecret, SecretString};
use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;
use tokio::time::timeout;
use tokio_postgres::config;
use tokio_postgres::types::ToSql;
use tokio_postgres::{Client, Row, Statement};

/// Session settings under which all text that the server sends is canonical. The stream and the
/// snapshot use the same, so that a value looks the same whichever way it comes.
pub(crate) const SESSION: [(&str, &str); 13] = [
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
    // Compiling the queries of the catalogue takes a hundred times as long as running them does.
    ("jit", "off"),
];

/// Those on which it depends what values look like.
pub(crate) const ABOUT_VALUES: [&str; 6] =
    ["DateStyle", "TimeZone", "IntervalStyle", "extra_float_digits", "bytea_output", "lc_monetary"];

/// How long logging in may take, whatever the address says.
const MOST_TO_LOG_IN: Duration = Duration::from_secs(120);
/// After how long a silence it is seen whether the server is still there.
const SILENCE: Duration = Duration::from_secs(20);

/// Waits for work that a server does. A long statement is no silence: as long as the server lets us in anew, or says why
/// not, it is waited for; otherwise the connection counts as lost.
pub(crate) async fn watched<T>(
    address: &PostgresAddress,
    doing: impl Into<Doing>,
    work: impl Future<Output = Result<T>>,
) -> Result<T> {
    let doing = doing.into();
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

/// The password for the next connection, if there is one.
pub(crate) async fn password(address: &PostgresAddress) -> Result<Option<SecretString>> {
    match &address.password {
        None => Ok(None),
        Some(password) => password.get().await.map(Some).map_err(|what| failed(address, Layer::LogIn, what)),
    }
}

/// Refuses to log in over a connection to which the log-in cannot be bound although it has to be.
pub(crate) fn may_be_bound(address: &PostgresAddress, link: &Link) -> Result<()> {
    if address.channel_binding != ChannelBinding::Require || link.tls.is_some() {
        return Ok(());
    }
    let reason = match address.socket() {
        Some(_) => {
            "channel_binding = \"require\" needs an encrypted connection, and a Unix socket is none: take it out, or name the host in `url`"
        }
        None => {
            "channel_binding = \"require\" needs an encrypted connection, and this one is not: set sslmode = \"require\" or better, on a server with ssl = on"
        }
    };
    Err(failed(address, Layer::Tls, reason))
}

/// How many prepared statements a session keeps.
const MOST_PREPARED: usize = 1000;

/// An ordinary session. Dropping it closes the connection.
pub(crate) struct Session {
    client: Client,
    place: PostgresAddress,
    address: String,
    pid: i32,
    link: Link,
    /// Statements that were prepared once, by their text.
    prepared: Mutex<HashMap<String, Statement>>,
}

impl Session {
    /// Connects and logs in.
    pub(crate) async fn open(address: &PostgresAddress) -> Result<Self> {
        let password = password(address).await?;
        // Also one who logs us in and then says nothing.
        let most = address.connect_timeout.saturating_mul(2).min(MOST_TO_LOG_IN);
        let opened = timeout(most, Self::log_in(address, password)).await;
        opened.unwrap_or_else(|_| Err(failed(address, Layer::TimedOut, "no answer behind the log-in")))
    }

    async fn log_in(address: &PostgresAddress, password: Option<SecretString>) -> Result<Self> {
        let (wire, gate, link) = link::open(address).await?;
        may_be_bound(address, &link)?;
        let mut config = config::Config::new();
        let role = address.role_taken().map(|role| ("role", role));
        let options: Vec<String> = SESSION
            .iter()
            .copied()
            .chain(role)
            .map(|(name, value)| format!("-c {name}={}", value.replace('\\', "\\\\").replace(' ', "\\ ")))
            .collect();
        config
            .user(&address.user)
            .dbname(&address.database)
            .application_name("moorage")
            .options(options.join(" "))
            .channel_binding(match address.channel_binding {
                ChannelBinding::Disable => config::ChannelBinding::Disable,
                ChannelBinding::Prefer => config::ChannelBinding::Prefer,
                ChannelBinding::Require => config::ChannelBinding::Require,
            });
        // The encryption is there already; the client library only learns what it can bind the log-in to.
        match link.tls {
            None => config.ssl_mode(config::SslMode::Disable),
            Some(_) => {
                config.ssl_mode(config::SslMode::Require).ssl_negotiation(config::SslNegotiation::Direct)
            }
        };
        if let Some(password) = &password {
            config.password(password.expose_secret());
        }
        let text = address.text();
        let log_in = timeout(address.connect_timeout, config.connect_raw(wire, Encrypted)).await;
        let (client, connection) = match log_in {
            Err(_) => return Err(failed(address, Layer::TimedOut, "no answer to the log-in")),
            Ok(done) => done.map_err(|e| log_in_error(&text, &e))?,
        };
        gate.open();
        tokio::spawn(async move {
            if let Err(error) = connection.await {
                tracing::debug!("connection ended: {error}");
            }
        });
        let mut session =
            Self { client, place: address.clone(), address: text, pid: 0, link, prepared: Mutex::default() };
        let names: Vec<&str> =
            SESSION.iter().map(|(name, _)| *name).filter(|n| ABOUT_VALUES.contains(n)).collect();
        let sql = "SELECT pg_backend_pid(), ARRAY(SELECT current_setting(name) FROM unnest($1::text[]) name)";
        let asked = session.client.query_one(sql, &[&names]).await;
        let row = asked.map_err(|e| session.error("asking for the session's number", &e))?;
        session.pid = row.get(0);
        session.insist(&names, &row.get::<_, Vec<String>>(1)).await?;
        Ok(session)
    }

    /// Asks once more for what values look like, where it is not so: something between, such as a pool of connections, may
    /// leave out what a session asks for when it connects.
    async fn insist(&self, names: &[&str], found: &[String]) -> Result<()> {
        let wanted = |name: &str| SESSION.iter().find(|(n, _)| *n == name).map_or("", |(_, value)| *value);
        let differ = names.iter().zip(found).filter(|(name, found)| wanted(name) != found.as_str());
        let set: Vec<String> =
            differ.map(|(name, _)| format!("SET {name} = {}", quote_literal(wanted(name)))).collect();
        if set.is_empty() { Ok(()) } else { self.run("setting up the session", &set.join("; ")).await }
    }

    /// The server's number of this session.
    pub(crate) fn pid(&self) -> i32 {
        self.pid
    }

    /// What the session goes over.
    pub(crate) fn link(&self) -> &Link {
        &self.link
    }

    /// The client itself, for what the methods here do not cover.
    pub(crate) fn client(&self) -> &Client {
        self.place.usage.asks();
        &self.client
    }

    /// Wraps an error.
    pub(crate) fn error(&self, doing: impl Into<Doing>, error: &tokio_postgres::Error) -> AdapterError {
        statement_error(&self.address, doing.into(), error)
    }

    /// Waits for an answer, for as long as the server is there.
    async fn answer<T>(
        &self,
        doing: impl Into<Doing>,
        work: impl Future<Output = std::result::Result<T, tokio_postgres::Error>>,
    ) -> Result<T> {
        let doing = doing.into();
        self.place.usage.asks();
        watched(&self.place, &doing, async { work.await.map_err(|e| self.error(&doing, &e)) }).await
    }

    /// Does something with the rights of the user itself: replicating is a right of users, which a role that the session
    /// has taken on need not have.
    pub(crate) async fn as_user<T>(&self, work: impl Future<Output = Result<T>>) -> Result<T> {
        if self.place.role_taken().is_none() {
            return work.await;
        }
        self.run("setting the role aside", "SET ROLE NONE").await?;
        let done = work.await;
        // Back to what the connection began with.
        let back = self.run("taking on the role again", "RESET ROLE").await;
        done.and_then(|done| back.map(|()| done))
    }

    /// Runs statements without parameters.
    pub(crate) async fn run(&self, doing: impl Into<Doing>, sql: &str) -> Result<()> {
        self.answer(doing, self.client.batch_execute(sql)).await
    }

    /// Asks for rows.
    pub(crate) async fn rows(
        &self,
        doing: impl Into<Doing>,
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
        doing: impl Into<Doing>,
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
        doing: impl Into<Doing>,
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
        doing: impl Into<Doing>,
        sql: &str,
        parameters: &[&(dyn ToSql + Sync)],
    ) -> Result<Row> {
        self.answer(doing, self.client.query_one(sql, parameters)).await
    }

    /// Asks for a row that may be missing.
    pub(crate) async fn maybe(
        &self,
        doing: impl Into<Doing>,
        sql: &str,
        parameters: &[&(dyn ToSql + Sync)],
    ) -> Result<Option<Row>> {
        self.answer(doing, self.client.query_opt(sql, parameters)).await
    }
}

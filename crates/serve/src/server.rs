//! The server itself: connections are few at a time, and each is bounded in what it may send and how long it may take.

use crate::answers::{Served, Token, router};
use hyper::server::conn::http1;
use hyper_util::rt::{TokioIo, TokioTimer};
use hyper_util::service::TowerToHyperService;
use moorage_engine::Pipeline;
use moorage_monitor::{Alerts, ListenSettings};
use std::net::SocketAddr;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::sync::Semaphore;
use tokio::task::JoinHandle;

/// How many connections there may be at a time. More wait to be taken.
const MOST_CONNECTIONS: usize = 32;
/// How long whoever is connected may take to say what is wanted.
const PATIENCE: Duration = Duration::from_secs(10);
/// How long a connection is kept, whatever is asked on it.
const LONGEST: Duration = Duration::from_secs(120);
/// How large what is asked may be.
const MOST_HEADER_BYTES: usize = 16 << 10;

/// Why nothing is served.
#[derive(Debug)]
pub enum ServeError {
    /// The address cannot be listened at.
    Address {
        /// The address.
        address: SocketAddr,
        /// Why.
        reason: String,
    },
    /// The token cannot be looked up.
    Token(String),
}

impl std::fmt::Display for ServeError {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Address { address, reason } => {
                write!(
                    f,
                    "figures cannot be served at {address}: {reason}. Choose another address with --listen"
                )
            }
            Self::Token(reason) => write!(f, "the token of [listen]: {reason}"),
        }
    }
}

impl std::error::Error for ServeError {}

/// Figures that are served until this is dropped.
#[derive(Debug)]
pub struct Serving {
    /// Where.
    pub address: SocketAddr,
    /// Whether everybody who reaches that address sees them.
    pub is_open: bool,
    task: JoinHandle<()>,
}

impl Drop for Serving {
    fn drop(&mut self) {
        self.task.abort();
    }
}

/// Serves the figures of pipelines that this process runs. `folder` is what paths of the settings are relative to.
///
/// # Errors
/// If the address cannot be listened at, or the token cannot be looked up.
pub async fn serve(
    address: SocketAddr,
    settings: &ListenSettings,
    folder: &Path,
    pipelines: &[Pipeline],
    alerts: &Alerts,
) -> Result<Serving, ServeError> {
    let failed = |reason: std::io::Error| ServeError::Address { address, reason: reason.to_string() };
    let token = match &settings.token {
        None => None,
        Some(secret) => {
            let token = secret.look_up(folder).map_err(ServeError::Token)?;
            Some(Token::new(&token).ok_or_else(|| ServeError::Token("there is no randomness".into()))?)
        }
    };
    let of = |pipeline: &Pipeline| {
        let rules = alerts.rules.iter().filter(|rule| rule.is_of(&pipeline.name));
        rules.map(|rule| (rule.name.clone(), pipeline.name.clone())).collect::<Vec<_>>()
    };
    let served = Served {
        state_folder: pipelines.first().map(|p| p.state_folder.clone()).unwrap_or_default(),
        alerts: pipelines.iter().flat_map(of).collect(),
        pipelines: pipelines.into(),
        tables: settings.tables,
        token,
        looks: Semaphore::new(1),
        asks: Semaphore::new(1),
    };
    let listener = TcpListener::bind(address).await.map_err(failed)?;
    let address = listener.local_addr().map_err(failed)?;
    let is_open = !address.ip().is_loopback() && settings.token.is_none();
    let task = tokio::spawn(take(listener, Arc::new(served)));
    Ok(Serving { address, is_open, task })
}

async fn take(listener: TcpListener, served: Arc<Served>) {
    let (room, service) = (Arc::new(Semaphore::new(MOST_CONNECTIONS)), router(served));
    // Connections end with the task that takes them.
    let mut connections = tokio::task::JoinSet::new();
    loop {
        let Ok(place) = room.clone().acquire_owned().await else { return };
        let stream = match listener.accept().await {
            Ok((stream, _)) => stream,
            Err(error) => {
                // Too many open files, mostly: it passes.
                tracing::debug!("a connection could not be taken: {error}");
                tokio::time::sleep(Duration::from_millis(100)).await;
                continue;
            }
        };
        while connections.try_join_next().is_some() {}
        let service = TowerToHyperService::new(service.clone());
        connections.spawn(async move {
            let _place = place;
            let mut http = http1::Builder::new();
            http.timer(TokioTimer::new()).header_read_timeout(PATIENCE).max_buf_size(MOST_HEADER_BYTES);
            let connection = http.serve_connection(TokioIo::new(stream), service);
            // Whoever asked may have gone, or asked for ever.
            let _ = tokio::time::timeout(LONGEST, connection).await;
        });
    }
}

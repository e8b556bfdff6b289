//! What is asked for, and what is answered.

use crate::encode::{Form, encode};
use crate::figures::{Known, figures};
use axum::Json;
use axum::Router;
use axum::extract::State;
use axum::http::header::{ACCEPT, AUTHORIZATION, CONTENT_TYPE, WWW_AUTHENTICATE};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use chrono::Utc;
use moorage_core::watch::alerts::seen::Stands;
use moorage_engine::{Counting, Pipeline, status};
use moorage_monitor::{Result as StoreResult, StateStore, seen};
use ring::hmac;
use secrecy::{ExposeSecret, SecretString};
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::Semaphore;

/// What answers are made from.
pub(crate) struct Served {
    pub(crate) pipelines: Vec<Pipeline>,
    pub(crate) state_folder: PathBuf,
    /// The names of alerts, with the pipelines they are about.
    pub(crate) alerts: Vec<(String, String)>,
    pub(crate) tables: usize,
    pub(crate) token: Option<Token>,
    /// One at a time looks at the store: more would be told the same, and cost as much each.
    pub(crate) looks: Semaphore,
    /// And one at a time asks the target, which may be slow, or silent.
    pub(crate) asks: Semaphore,
}

/// How long the ends of pipelines may take to say how they stand.
const STATUS_PATIENCE: Duration = Duration::from_secs(20);

/// A token, compared in the same time whatever is given.
pub(crate) struct Token {
    key: hmac::Key,
    wanted: hmac::Tag,
}

impl Token {
    pub(crate) fn new(token: &SecretString) -> Option<Self> {
        let key = hmac::Key::generate(hmac::HMAC_SHA256, &ring::rand::SystemRandom::new()).ok()?;
        let wanted = hmac::sign(&key, token.expose_secret().as_bytes());
        Some(Self { key, wanted })
    }

    fn is_given(&self, headers: &HeaderMap) -> bool {
        let given = headers.get(AUTHORIZATION).and_then(|value| value.to_str().ok());
        let given = given.and_then(|value| value.split_once(' '));
        let given = given.filter(|(scheme, _)| scheme.eq_ignore_ascii_case("bearer"));
        given.is_some_and(|(_, token)| {
            hmac::verify(&self.key, token.trim().as_bytes(), self.wanted.as_ref()).is_ok()
        })
    }
}

/// The paths there are.
pub(crate) fn router(served: Arc<Served>) -> Router {
    Router::new()
        .route("/metrics", get(metrics))
        .route("/healthz", get(async || "alive\n"))
        .route("/readyz", get(ready))
        .route("/status", get(whole_status))
        .fallback(async || (StatusCode::NOT_FOUND, "there is /metrics, /healthz, /readyz and /status\n"))
        .with_state(served)
}

impl Served {
    fn is_allowed(&self, headers: &HeaderMap) -> bool {
        self.token.as_ref().is_none_or(|token| token.is_given(headers))
    }

    fn known(&self) -> StoreResult<Vec<Known>> {
        let state = StateStore::open(&self.state_folder)?;
        let now = Utc::now();
        let mut all = Vec::new();
        for pipeline in &self.pipelines {
            let name = &pipeline.name;
            let of = self.alerts.iter().filter(|(_, of)| of == name);
            let mut alerts: BTreeMap<String, u64> = of.map(|(alert, _)| (alert.clone(), 0)).collect();
            let raised =
                state.alert_memory(name)?.standings.into_iter().filter(|(_, s)| s.raised_at.is_some());
            for (key, _) in raised {
                alerts.entry(key.alert).and_modify(|count| *count += 1);
            }
            all.push(Known {
                pipeline: name.clone(),
                seen: seen(&state, name, now)?,
                published: state.published_by_newest(name)?.map(|(_, said)| said).unwrap_or_default(),
                tables: state.published_tables(name)?,
                standings: state.standings(name)?.unwrap_or_default(),
                alerts,
            });
        }
        Ok(all)
    }

    /// Why a pipeline is not ready: nothing but following changes, and having said so, is.
    fn not_ready(&self) -> StoreResult<Vec<(String, String)>> {
        let state = StateStore::open(&self.state_folder)?;
        let mut all = Vec::new();
        for pipeline in &self.pipelines {
            let name = &pipeline.name;
            let follows = state.published_by_newest(name)?.is_some_and(|(_, said)| said.reader.is_some());
            let why = match seen(&state, name, Utc::now())?.stands {
                Some(Stands::Runs) if follows => continue,
                Some(Stands::Runs) | None => "it does not follow changes yet".into(),
                Some(Stands::Retries { why, .. }) => format!("it tries again: {why}"),
                Some(Stands::Stopped { why, .. }) => why,
            };
            all.push((name.clone(), why));
        }
        Ok(all)
    }
}

fn locked() -> Response {
    let challenge = [(WWW_AUTHENTICATE, "Bearer realm=\"moorage\"")];
    (StatusCode::UNAUTHORIZED, challenge, "a token is needed: Authorization: Bearer\n").into_response()
}

fn failed(why: impl std::fmt::Display) -> Response {
    (StatusCode::INTERNAL_SERVER_ERROR, format!("{why}\n")).into_response()
}

/// Reads the store apart from what carries changes: a disk may be slow.
async fn look<T: Send + 'static>(
    served: &Arc<Served>,
    look: impl FnOnce(&Served) -> StoreResult<T> + Send + 'static,
) -> Result<T, Response> {
    let _turn = served.looks.acquire().await.map_err(failed)?;
    let served = served.clone();
    let looked = tokio::task::spawn_blocking(move || look(&served)).await;
    looked.map_err(failed)?.map_err(failed)
}

async fn metrics(State(served): State<Arc<Served>>, headers: HeaderMap) -> Response {
    if !served.is_allowed(&headers) {
        return locked();
    }
    let accept = headers.get(ACCEPT).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let (form, tables) = (Form::of(accept), served.tables);
    let known = match look(&served, Served::known).await {
        Ok(known) => known,
        Err(answer) => return answer,
    };
    match encode(figures(&known, tables), form) {
        Ok(text) => ([(CONTENT_TYPE, form.content_type())], text).into_response(),
        Err(error) => failed(error),
    }
}

async fn ready(State(served): State<Arc<Served>>, headers: HeaderMap) -> Response {
    let not_ready = match look(&served, Served::not_ready).await {
        Ok(not_ready) => not_ready,
        Err(answer) => return answer,
    };
    if not_ready.is_empty() {
        return "ready\n".into_response();
    }
    // Why, is for those alone who may know names.
    let lines = not_ready.iter().map(|(pipeline, why)| format!("{pipeline}: {why}\n"));
    let words = if served.is_allowed(&headers) { lines.collect() } else { "not ready\n".to_string() };
    (StatusCode::SERVICE_UNAVAILABLE, words).into_response()
}

async fn whole_status(State(served): State<Arc<Served>>, headers: HeaderMap) -> Response {
    if !served.is_allowed(&headers) {
        return locked();
    }
    let ask = async {
        let Ok(_turn) = served.asks.acquire().await else { return failed("it is ending") };
        let mut all = Vec::new();
        for pipeline in &served.pipelines {
            match status(pipeline, Counting::No).await {
                Ok(status) => all.push(status),
                Err(error) => return failed(format!("{}: {error}", pipeline.name)),
            }
        }
        Json(all).into_response()
    };
    let silent = (StatusCode::GATEWAY_TIMEOUT, "an end of a pipeline does not answer\n");
    tokio::time::timeout(STATUS_PATIENCE, ask).await.unwrap_or_else(|_| silent.into_response())
}

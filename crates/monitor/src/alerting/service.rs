//! Alerts beside the pipelines that a process runs: a thread of its own, which no pipeline waits for, and which asks nothing but
//! the state store.

use super::receiver::Receiver;
use super::seen::seen;
use super::sending::{send_due, send_next};
use crate::error::{Result, StoreError};
use crate::store::base::StateStore;
use chrono::{DateTime, Utc};
use moorage_core::project::alert::{AlertRule, LOG};
use moorage_core::watch::alerts::seen::Seen;
use moorage_core::watch::alerts::step::Notice;
use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::oneshot;
use tokio::task::JoinSet;
use tokio::time::MissedTickBehavior;

/// How often is looked.
const LOOK_EVERY: Duration = Duration::from_secs(1);
/// How long the end of a process waits for messages to be taken.
const END_PATIENCE: Duration = Duration::from_secs(5);

/// Where what goes to the log is said, each with one line.
pub type Say = Box<dyn Fn(String) + Send>;

/// What a project file says of alerts.
#[derive(Clone, Debug, Default)]
pub struct Alerts {
    /// What is to be told.
    pub rules: Vec<AlertRule>,
    /// Who is told.
    pub receivers: Vec<Receiver>,
}

/// Alerts of the pipelines that this process runs.
pub struct AlertService {
    stop: oneshot::Sender<()>,
    ended: oneshot::Receiver<()>,
}

/// One line for a log.
pub fn log_line(notice: &Notice) -> String {
    let about = match &notice.key.table {
        Some(table) => format!("{}, {table}", notice.key.pipeline),
        None => notice.key.pipeline.clone(),
    };
    format!(
        "alert {} {}: {about}: {}. Next: {}",
        notice.key.alert,
        notice.said.word(),
        notice.what,
        notice.next
    )
}

impl AlertService {
    /// Begins to look at pipelines; none if there is no alert about any of them.
    ///
    /// # Errors
    /// If the state folder cannot be used.
    pub fn begin(alerts: &Alerts, folder: &Path, pipelines: &[String], say: Say) -> Result<Option<Self>> {
        if !alerts.rules.iter().any(|rule| pipelines.iter().any(|pipeline| rule.is_of(pipeline))) {
            return Ok(None);
        }
        let looks = Looks {
            state: Arc::new(StateStore::open(folder)?),
            folder: folder.into(),
            alerts: alerts.clone(),
            pipelines: pipelines.into(),
            say,
            began: Utc::now(),
            is_blind: false,
            sends: JoinSet::new(),
            busy: HashSet::new(),
        };
        let (stop, stopped) = oneshot::channel();
        let (tell, ended) = oneshot::channel();
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
        let failed = |e: std::io::Error| StoreError { path: folder.into(), reason: e.to_string() };
        let runtime = runtime.map_err(failed)?;
        let thread = std::thread::Builder::new().name("alerts".into()).spawn(move || {
            runtime.block_on(looks.go_on(stopped));
            // A program that prints a secret may still be at it.
            runtime.shutdown_background();
            // Nobody waits any more if it took too long.
            let _ = tell.send(());
        });
        thread.map_err(failed)?;
        Ok(Some(Self { stop, ended }))
    }

    /// Looks once more, and gives what is to be sent a few seconds.
    pub async fn end(self) {
        let _ = self.stop.send(());
        if tokio::time::timeout(END_PATIENCE + LOOK_EVERY, self.ended).await.is_err() {
            tracing::debug!("alerts did not end in time");
        }
    }
}

/// What the thread has.
struct Looks {
    state: Arc<StateStore>,
    folder: PathBuf,
    alerts: Alerts,
    pipelines: Vec<String>,
    say: Say,
    /// Runs of this process begin behind that.
    began: DateTime<Utc>,
    /// Whether it was said that alerts cannot be looked at.
    is_blind: bool,
    /// Messages that are being sent, by their receivers.
    sends: JoinSet<String>,
    busy: HashSet<String>,
}

impl Looks {
    async fn go_on(mut self, mut stopped: oneshot::Receiver<()>) {
        let mut every = tokio::time::interval(LOOK_EVERY);
        every.set_missed_tick_behavior(MissedTickBehavior::Delay);
        loop {
            tokio::select! {
                _ = &mut stopped => break,
                _ = every.tick() => self.look(),
                Some(sent) = self.sends.join_next() => self.is_free(sent),
            }
            self.send();
        }
        self.look();
        // What is not taken by then waits for the next run, or for `alerts check`.
        let _ = tokio::time::timeout(END_PATIENCE, self.send_rest()).await;
    }

    /// Looks at all pipelines.
    fn look(&mut self) {
        // Someone may have removed the folder beside the run.
        if !self.state.is_in_place() {
            match StateStore::open(&self.folder) {
                Ok(state) => self.state = Arc::new(state),
                Err(error) => return self.sees_nothing(&error),
            }
        }
        let (now, mut trouble) = (Utc::now(), None);
        for pipeline in &self.pipelines {
            let seen = self.seen(pipeline, now);
            let told = seen.and_then(|seen| self.state.alert_step(&self.alerts.rules, &seen, now));
            match told {
                Ok(notices) => {
                    notices.iter().filter(|n| self.goes_to_log(n)).for_each(|n| (self.say)(log_line(n)))
                }
                Err(error) => trouble = Some(error),
            }
        }
        match trouble {
            Some(error) => self.sees_nothing(&error),
            None => self.is_blind = false,
        }
    }

    /// Alerts are remembered in the store: without it nobody is told of anything. That is said once, until it is over.
    fn sees_nothing(&mut self, error: &StoreError) {
        if !std::mem::replace(&mut self.is_blind, true) {
            (self.say)(format!("warning: alerts are not looked at as long as this lasts: {error}"));
        }
    }

    /// How a pipeline stands. Before its run has begun here, earlier ones say nothing of whether it runs.
    fn seen(&self, pipeline: &str, now: DateTime<Utc>) -> Result<Seen> {
        let run = self.state.last_run(pipeline)?;
        let began = run.and_then(|run| DateTime::parse_from_rfc3339(&run.started_at).ok());
        let seen = seen(&self.state, pipeline, now)?;
        let is_ours = began.is_some_and(|began| began.to_utc() >= self.began);
        Ok(Seen { stands: seen.stands.filter(|_| is_ours), ..seen })
    }

    fn goes_to_log(&self, notice: &Notice) -> bool {
        let rule = self.alerts.rules.iter().find(|rule| rule.name == notice.key.alert);
        rule.is_some_and(|rule| rule.to.iter().any(|to| to == LOG))
    }

    /// Begins to send the next message of each receiver that has one and is free.
    fn send(&mut self) {
        for receiver in &self.alerts.receivers {
            let (name, now) = (&receiver.name, Utc::now());
            if self.busy.contains(name) || !self.state.has_message(name, now).unwrap_or_default() {
                continue;
            }
            self.busy.insert(name.clone());
            let (state, receiver) = (self.state.clone(), receiver.clone());
            self.sends.spawn(async move {
                if let Err(error) = send_next(&state, &receiver).await {
                    tracing::debug!("{error}");
                }
                receiver.name
            });
        }
    }

    fn is_free(&mut self, sent: std::result::Result<String, tokio::task::JoinError>) {
        match sent {
            Ok(receiver) => drop(self.busy.remove(&receiver)),
            // A fault of ours: which one it was is not known, and each claims its message by itself.
            Err(_) => self.busy.clear(),
        }
    }

    async fn send_rest(&mut self) {
        while self.sends.join_next().await.is_some() {}
        let mut rest = JoinSet::new();
        for receiver in self.alerts.receivers.clone() {
            let state = self.state.clone();
            rest.spawn(async move { send_due(&state, &receiver).await.map(drop) });
        }
        while rest.join_next().await.is_some() {}
    }
}

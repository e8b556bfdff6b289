//! Alerts from outside of any run: looking, telling, and who is told.

use crate::look::alerting::{RaisedAlert, raised, seen};
use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::Result;
use chrono::Utc;
use futures_util::future::join_all;
use moorage_core::watch::alerts::step::Notice;
use moorage_monitor::{Alerts, Receiver, ReceiverStanding, StateStore, send_due};
use serde::Serialize;
use std::path::Path;

/// What an alert check has seen of a pipeline.
#[derive(Clone, Debug, Serialize)]
pub struct CheckedAlerts {
    /// The pipeline.
    pub pipeline: String,
    /// What is raised.
    pub raised: Vec<RaisedAlert>,
    /// What is said now.
    #[serde(skip)]
    pub said: Vec<Notice>,
    /// Why not everything is known; none if it is. What is not known is neither raised nor cleared.
    pub problem: Option<String>,
}

/// Looks at a pipeline from outside, and remembers and queues what came of it. Its ends are asked where no run says how it stands.
///
/// # Errors
/// If the state folder cannot be used.
pub async fn check_alerts(pipeline: &Pipeline, alerts: &Alerts) -> Result<CheckedAlerts> {
    let state = StateStore::open(&pipeline.state_folder)?;
    let (seen, problem) = seen(pipeline, &state).await?;
    let said = state.alert_step(&alerts.rules, &seen, Utc::now())?;
    Ok(CheckedAlerts { pipeline: pipeline.name.clone(), raised: raised(pipeline)?, said, problem })
}

/// What came of sending a receiver what was due.
#[derive(Clone, Debug, Serialize)]
pub struct SentTo {
    /// The receiver.
    pub receiver: String,
    /// How many messages it took.
    pub taken: u32,
    /// Why it took no more; none if it took all.
    pub problem: Option<String>,
}

/// Sends every receiver what is due, all of them at once.
///
/// # Errors
/// If the state folder cannot be used.
pub async fn send_alerts(state_folder: &Path, alerts: &Alerts) -> Result<Vec<SentTo>> {
    let state = StateStore::open(state_folder)?;
    let send = async |receiver: &Receiver| {
        let (taken, problem) = send_due(&state, receiver).await?;
        Ok(SentTo { receiver: receiver.name.clone(), taken, problem })
    };
    join_all(alerts.receivers.iter().map(send)).await.into_iter().collect()
}

/// A receiver, and how it stands.
#[derive(Clone, Debug, Serialize)]
pub struct StandingReceiver {
    /// Its name.
    pub receiver: String,
    /// The word for its kind.
    pub kind: &'static str,
    /// Where it is.
    pub place: String,
    /// How it stands.
    #[serde(flatten)]
    pub standing: ReceiverStanding,
}

/// The receivers of alerts, and how each stands.
///
/// # Errors
/// If the state folder cannot be used.
pub fn receivers(state_folder: &Path, alerts: &Alerts) -> Result<Vec<StandingReceiver>> {
    let state = StateStore::open(state_folder)?;
    let standing = |receiver: &Receiver| {
        Ok(StandingReceiver {
            receiver: receiver.name.clone(),
            kind: receiver.kind(),
            place: receiver.place(),
            standing: state.receiver_standing(&receiver.name)?,
        })
    };
    alerts.receivers.iter().map(standing).collect()
}

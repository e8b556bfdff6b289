//! Sending what is queued: for each receiver one message after the other, whatever becomes of the other receivers.

use super::message::Message;
use super::receiver::Receiver;
use crate::error::Result;
use crate::store::base::StateStore;
use chrono::Utc;
use moorage_core::watch::alerts::step::{Key, Notice, Said};
use std::time::Duration;

fn message(id: String, notice: Notice) -> Message {
    Message { id, host: gethostname::gethostname().to_string_lossy().into_owned(), notice }
}

/// Sends a receiver its next message if it is time for it; none if there was nothing to do.
///
/// # Errors
/// If the store cannot be read or written. That a receiver did not take it is no error: it is noted.
pub(super) async fn send_next(state: &StateStore, receiver: &Receiver) -> Result<Option<Answer>> {
    let Some(waiting) = state.claim_message(&receiver.name, Utc::now(), receiver.longest() + AFTERWARDS)?
    else {
        return Ok(None);
    };
    let sent = receiver.send(&message(waiting.id.clone(), waiting.notice.clone())).await;
    state.message_sent(&receiver.name, &waiting, &sent, Utc::now());
    Ok(Some(sent))
}

/// For how long a message is ours behind the time that sending it may take: to note what came of it.
const AFTERWARDS: Duration = Duration::from_secs(10);

/// A receiver's answer, or why it did not take a message.
type Answer = std::result::Result<String, String>;

/// Sends a receiver everything that is due, until it does not take one; gives how many it took, and what went wrong.
///
/// # Errors
/// If the store cannot be read or written.
pub async fn send_due(state: &StateStore, receiver: &Receiver) -> Result<(u32, Option<String>)> {
    let mut taken = 0;
    while let Some(sent) = send_next(state, receiver).await? {
        match sent {
            Ok(_) => taken += 1,
            Err(why) => return Ok((taken, Some(why))),
        }
    }
    Ok((taken, None))
}

/// Sends a receiver a message that says that it is a test, past all that waits; gives its answer.
///
/// # Errors
/// If it did not take it, in words.
pub async fn send_test(receiver: &Receiver, alert: &str, condition: &str) -> Answer {
    let now = Utc::now();
    let notice = Notice {
        key: Key { alert: alert.into(), pipeline: "none".into(), table: None },
        condition: condition.into(),
        said: Said::Test,
        what: "nothing is wrong, someone wants to see whether this arrives".into(),
        since: now,
        at: now,
        next: "moorage alerts".into(),
        drift: None,
    };
    receiver.send(&message(uuid::Uuid::new_v4().to_string(), notice)).await
}

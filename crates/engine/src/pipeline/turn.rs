//! Taking a pipeline's turn to write, from whoever does not have it any more.

use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::{EngineError, Result};
use crate::pipeline::process::{Life, life};
use moorage_adapter::{AdapterError, Event, Events, Holder, RENEW_EVERY, TakeFrom, Turn};
use std::convert::Infallible;
use std::time::{Duration, Instant};

/// How long the end of a process that cannot be seen from here may take to reach the target.
const PATIENCE: Duration = Duration::from_secs(5);

/// Takes the turn; `false` if the target remembers nothing yet and nothing was to be made.
pub(crate) async fn take(pipeline: &Pipeline, me: &Holder, make: bool, events: &Events) -> Result<bool> {
    let begun = Instant::now();
    let mut gone: Option<Holder> = None;
    loop {
        let from = gone.as_ref().map_or(TakeFrom::Nobody, TakeFrom::Gone);
        let held = match pipeline.target.take_turn(&pipeline.name, me, from, make, events).await? {
            Turn::Taken => return Ok(true),
            Turn::NothingThere => return Ok(false),
            Turn::Held(held) => held,
        };
        let life = if held.id == me.id { Life::Gone } else { life(&held) };
        match life {
            Life::Gone if gone.as_ref() != Some(&held) => {
                gone = Some(held);
                continue;
            }
            Life::There => return Err(EngineError::held(pipeline, &held)),
            Life::Gone | Life::Unknown if begun.elapsed() >= PATIENCE => {
                return Err(EngineError::held(pipeline, &held));
            }
            Life::Gone | Life::Unknown => {}
        }
        let waited_ms = begun.elapsed().as_millis() as u64;
        if waited_ms >= 1000 {
            let what = format!("taking the turn to write: {} has it", held.words());
            events(Event::Waiting { what, waited_ms });
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

/// Keeps saying that the turn's holder is alive; ends when the turn is lost.
pub(crate) async fn keep(pipeline: &Pipeline) -> std::result::Result<Infallible, AdapterError> {
    loop {
        tokio::time::sleep(RENEW_EVERY).await;
        match pipeline.target.renew_turn(&pipeline.name).await {
            Err(error @ AdapterError::TurnLost { .. }) => return Err(error),
            // Whoever writes sees any other trouble too, and knows what to do about it.
            Err(error) => tracing::debug!("the turn was not renewed: {error}"),
            Ok(()) => {}
        }
    }
}

/// Gives the turn back. What cannot be given back now ends by itself.
pub(crate) async fn end(pipeline: &Pipeline) {
    match tokio::time::timeout(PATIENCE, pipeline.target.end_turn(&pipeline.name)).await {
        Ok(Ok(())) => {}
        Ok(Err(error)) => tracing::debug!("the turn was not given back: {error}"),
        Err(_) => tracing::debug!("the turn was not given back: the target does not answer"),
    }
}

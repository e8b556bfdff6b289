//! One run of a pipeline, from taking its lock to letting go of it.

use crate::error::Result;
use crate::follow;
use crate::lock::PipelineLock;
use crate::pipeline::Pipeline;
use crate::prepare::{self, Ready};
use crate::process;
use crate::state::StateStore;
use crate::stop::StopSignal;
use crate::turn;
use backon::{BackoffBuilder, ExponentialBuilder};
use moorage_adapter::{Event, Events, Holder};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

/// Where a new pipeline starts.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Start {
    /// With a snapshot of every table.
    #[default]
    Snapshot,
    /// With the changes from now on.
    Now,
    /// With the changes behind a position that the capture point still reaches.
    At(String),
}

/// What a run is asked to do.
#[derive(Clone, Debug, Default)]
pub struct RunOptions {
    /// End when everything committed before the stream began is in the target.
    pub until_caught_up: bool,
    /// End after this time.
    pub duration: Option<Duration>,
    /// Copy the tables and end.
    pub snapshot_only: bool,
    /// Where a new pipeline starts.
    pub start: Start,
}

/// How a run ended.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// Everything that was committed when the stream began is in the target.
    CaughtUp,
    /// The tables were copied; nothing is followed.
    Copied,
    /// It was asked to stop.
    Stopped {
        /// By what.
        by: String,
    },
}

/// All that the parts of a run share.
pub(crate) struct Context {
    pub(crate) pipeline: Pipeline,
    pub(crate) options: RunOptions,
    pub(crate) events: Events,
    pub(crate) began: Instant,
    pub(crate) state: Arc<StateStore>,
    /// This process, as others are told of it.
    pub(crate) me: Holder,
    stop: StopSignal,
    /// Whether both ends were reached at all: only then is a lost connection tried again.
    pub(crate) reached: AtomicBool,
}

impl Context {
    /// Waits until the run is to end, and says by what.
    pub(crate) async fn asked_to_stop(&self) -> String {
        let mut stop = self.stop.clone();
        match self.options.duration {
            None => stop.asked().await,
            Some(duration) => tokio::select! {
                by = stop.asked() => by,
                () = tokio::time::sleep_until((self.began + duration).into()) => "--for".into(),
            },
        }
    }

    /// Waits until the run was to end a good while ago: the batch in hand should be done by then.
    async fn waited_long_enough(&self) -> String {
        let by = self.asked_to_stop().await;
        tokio::time::sleep(STOP_PATIENCE).await;
        by
    }

    pub(crate) fn say(&self, event: Event) {
        (self.events)(event);
    }
}

/// Runs a pipeline until it is done, stopped or fails.
///
/// # Errors
/// Of the source, the target or the state folder; the target is left as of its last checkpoint.
pub async fn run(
    pipeline: &Pipeline,
    options: &RunOptions,
    events: Events,
    stop: StopSignal,
) -> Result<Outcome> {
    let me = process::me();
    let _lock = PipelineLock::take(&pipeline.state_folder, &pipeline.name, &me)?;
    let state = Arc::new(StateStore::open(&pipeline.state_folder)?);
    let id = state.begin_run(&pipeline.name)?;
    let recording: Events = {
        let (state, name) = (state.clone(), pipeline.name.clone());
        Arc::new(move |event| {
            state.record(&name, id, &event);
            events(event);
        })
    };
    let context = Context {
        pipeline: pipeline.clone(),
        options: options.clone(),
        events: recording,
        began: Instant::now(),
        state: state.clone(),
        me,
        stop,
        reached: AtomicBool::new(false),
    };
    let done = tokio::select! {
        done = carry_out(&context) => done,
        lost = turn::keep(pipeline) => match lost {
            Err(error) => Err(error.into()),
            Ok(never) => match never {},
        },
    };
    turn::end(pipeline).await;
    match &done {
        Ok(Outcome::CaughtUp) => state.end_run(id, "done", "caught up"),
        Ok(Outcome::Copied) => state.end_run(id, "done", "copied"),
        Ok(Outcome::Stopped { by }) => state.end_run(id, "stopped", by),
        Err(error) => state.end_run(id, "failed", &error.to_string()),
    }
    done
}

/// Sets up and follows; after a lost connection, once more from the target's checkpoint.
async fn carry_out(context: &Context) -> Result<Outcome> {
    let mut backoff = fresh_backoff();
    let mut refused_since = None;
    loop {
        let attempt = tokio::select! {
            by = context.asked_to_stop() => {
                context.say(Event::Stopping { by: by.clone() });
                return Ok(Outcome::Stopped { by });
            }
            ready = prepare::prepare(context) => ready,
        };
        let (error, had_followed) = match attempt {
            Ok(Ready::Copied) => return Ok(Outcome::Copied),
            Ok(Ready::ToFollow(following)) => {
                let followed = tokio::select! {
                    followed = follow::follow(context, *following) => followed,
                    by = context.waited_long_enough() => {
                        let what = "an end did not answer while stopping; what was being merged is undone, or done, and the next run finds out";
                        context.say(Event::Warning { message: what.into() });
                        return Ok(Outcome::Stopped { by });
                    }
                };
                match followed {
                    Ok(outcome) => return Ok(outcome),
                    Err(failed) => (failed.error, failed.merged),
                }
            }
            Err(error) => (error, false),
        };
        if had_followed {
            backoff = fresh_backoff();
        }
        let refused_for =
            error.is_refused_log_in().then(|| refused_since.get_or_insert_with(Instant::now).elapsed());
        if refused_for.is_none() {
            refused_since = None;
        }
        let may_pass = error.is_transient() || refused_for.is_some_and(|time| time < LOG_IN_PATIENCE);
        if !may_pass || !context.reached.load(Ordering::Relaxed) {
            return Err(error);
        }
        let pause = backoff.next().unwrap_or(MAX_PAUSE);
        context.say(Event::Retrying { reason: error.to_string(), in_ms: pause.as_millis() as u64 });
        tokio::select! {
            by = context.asked_to_stop() => {
                context.say(Event::Stopping { by: by.clone() });
                return Ok(Outcome::Stopped { by });
            }
            () = tokio::time::sleep(pause) => {}
        }
    }
}

/// How long the batch in hand may take when the run is asked to stop.
const STOP_PATIENCE: Duration = Duration::from_secs(15);
const MAX_PAUSE: Duration = Duration::from_secs(30);
/// How long the log-ins of a run that was let in before may be refused: somebody is changing the password, here and at
/// the server, one after the other. Behind it the run ends and says so, because nobody looks at one that goes on trying.
const LOG_IN_PATIENCE: Duration = Duration::from_secs(60);

fn fresh_backoff() -> backon::ExponentialBackoff {
    ExponentialBuilder::default()
        .with_min_delay(Duration::from_millis(200))
        .with_max_delay(MAX_PAUSE)
        .without_max_times()
        .build()
}

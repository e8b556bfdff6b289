//! One run of a pipeline, from taking its lock to letting go of it.

use crate::pipeline::context::{Context, Outcome, RunOptions};
use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::{EngineError, Result};
use crate::pipeline::lock::PipelineLock;
use crate::pipeline::measuring::Measuring;
use crate::pipeline::notes::Notes;
use crate::pipeline::stop::StopSignal;
use crate::pipeline::{process, turn};
use crate::run::came_and_went::{JOINS, joins};
use crate::run::follow;
use crate::run::prepare::{self, Ready};
use crate::run::{standings, tidying};
use backon::{BackoffBuilder, ExponentialBuilder};
use moorage_adapter::{AdapterError, Event, Events};
use moorage_core::TableName;
use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

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
    let _lock = PipelineLock::take_soon(&pipeline.state_folder, &pipeline.name, &me).await?;
    let notes = Arc::new(Notes::begin(&pipeline.state_folder, &pipeline.name)?);
    let measuring = Measuring::begin();
    let recording: Events = {
        let (notes, measuring) = (notes.clone(), measuring.clone());
        Arc::new(move |event| {
            standings::note(&measuring, &event);
            notes.event(event.clone());
            events(event);
        })
    };
    let context = Context {
        pipeline: pipeline.clone(),
        options: options.clone(),
        events: recording,
        began: Instant::now(),
        notes: notes.clone(),
        measuring,
        me,
        stop,
        reached: AtomicBool::new(false),
        in_the_way: Mutex::default(),
        not_taken: Mutex::default(),
        followed: AtomicBool::new(false),
        left_out: Mutex::default(),
        decided: Mutex::default(),
        noted: Mutex::default(),
    };
    let done = tokio::select! {
        done = carry_out(&context) => done,
        lost = turn::keep(pipeline) => match lost {
            Err(error) => Err(error.into()),
            Ok(never) => match never {},
        },
        never = context.measuring.publish(pipeline, &notes) => match never {},
        never = standings::tell(&context) => match never {},
        never = tidying::go_on(&context) => match never {},
    };
    turn::end(pipeline).await;
    let (outcome, words) = match &done {
        Ok(Outcome::CaughtUp) => ("done", "caught up".into()),
        Ok(Outcome::Copied) => ("done", "copied".into()),
        Ok(Outcome::Stopped { by }) => ("stopped", by.clone()),
        Err(error) => ("failed", error.to_string()),
    };
    notes.measured(context.measuring.take(pipeline, true));
    // What a short run met is known to whoever looks behind it, too; where the target is the trouble, nobody waits for it.
    if let Ok(Ok(standings)) = tokio::time::timeout(LAST_LOOK, standings::standings_now(&context)).await {
        notes.standings(standings);
    }
    notes.end(outcome, words).await;
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
                context.followed.store(true, Ordering::Relaxed);
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
        if let EngineError::Adapter(AdapterError::Appeared { table }) = &error {
            if joins(&context.pipeline, table) {
                let (what, done) = ("it was made".into(), JOINS.into());
                context.say(Event::StructureChanged { table: table.to_string(), what, done });
            }
            continue;
        }
        if let EngineError::Adapter(AdapterError::Moved { .. }) = &error {
            continue;
        }
        if let EngineError::InTheWay { table, reason } = &error {
            // Once: then it is held, and altered no more before someone decides; where that did not help, it is read no more
            // before someone asks for it.
            let is_first = |known: &Mutex<HashMap<TableName, String>>| {
                let mut known = known.lock().unwrap_or_else(PoisonError::into_inner);
                known.insert(table.clone(), reason.clone()).is_none()
            };
            if is_first(&context.in_the_way) || is_first(&context.not_taken) {
                continue;
            }
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

/// How long the last look at how the tables stand may take.
const LAST_LOOK: Duration = Duration::from_secs(2);
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

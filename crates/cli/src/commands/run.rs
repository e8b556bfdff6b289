//! `run`: copy what is missing, then follow changes.

use crate::args::{Global, RunArgs, Until};
use crate::exit::Finished;
use crate::failure::Failure;
use crate::load::{self, Loaded};
use crate::render;
use crate::signals::Held;
use chrono::DateTime;
use moorage_adapter::{Event, Events, LeftOut};
use moorage_engine::{EngineError, Outcome, Pipeline, RunOptions, Start, StopHandle, StopSignal, stop_pair};
use moorage_monitor::{AlertService, Alerts};
use moorage_serve::Serving;
use std::io::IsTerminal;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

mod progress;

pub async fn run(global: &Global, args: &RunArgs, held: Option<Held>) -> Result<Finished, Failure> {
    let Loaded { pipelines, alerts, listen, folder } = load::whole(global, &args.pipelines.pipelines)?;
    let options = RunOptions {
        until_caught_up: args.until == Some(Until::CaughtUp),
        duration: args.duration,
        snapshot_only: args.snapshot_only,
        start: match args.start.as_deref() {
            None => Start::Snapshot,
            Some("now") => Start::Now,
            Some(text) => match DateTime::parse_from_rfc3339(text) {
                Ok(at) => Start::Time(at.to_utc()),
                Err(_) => Start::At(text.to_string()),
            },
        },
    };
    let (stopper, stop) = stop_pair();
    let stopper = Arc::new(stopper);
    if args.with_stdin {
        hear_stdin(stopper.clone());
    }
    hear_signals(stopper, held)?;
    // Until the end.
    let _serving = match args.listen {
        Some(address) => {
            let serving = moorage_serve::serve(address, &listen, &folder, &pipelines, &alerts).await;
            let serving = serving.map_err(|e| Failure::failed(e.to_string()))?;
            say_serving(global, &serving);
            Some(serving)
        }
        None => None,
    };
    let alerting = begin_alerting(global, &pipelines, &alerts)?;
    let others = pipelines.len() > 1;
    let running = start_all(global, args, pipelines, &options, &stop);
    let (failures, finished) = wait_for_all(global, running, others).await?;
    if let Some(alerting) = alerting {
        alerting.end().await;
    }
    let words: Vec<&str> = failures.iter().map(|f| f.words.as_str()).collect();
    match failures.first() {
        None => Ok(finished),
        // A pipeline that failed is no wrong usage, whatever it failed at.
        Some(first) => Err(Failure {
            code: first.code,
            object: first.object.clone(),
            ..Failure::failed(words.join("\nerror: "))
        }),
    }
}

fn say_serving(global: &Global, serving: &Serving) {
    if render::wants_json(global) {
        render::json_line(&serde_json::json!({ "listening": serving.address.to_string() }));
    } else if !global.quiet {
        render::note(format!("figures are served at http://{}/metrics", serving.address));
    }
    if serving.is_open {
        render::note(
            "warning: whoever reaches that address sees the names of tables and how they stand; `token` in [listen] of the project file closes it",
        );
    }
}

/// Alerts about the pipelines, beside them.
fn begin_alerting(
    global: &Global,
    pipelines: &[Pipeline],
    alerts: &Alerts,
) -> Result<Option<AlertService>, Failure> {
    let Some(folder) = pipelines.first().map(|pipeline| &pipeline.state_folder) else { return Ok(None) };
    let names: Vec<String> = pipelines.iter().map(|pipeline| pipeline.name.clone()).collect();
    let json = render::wants_json(global);
    let say = move |line: String| match json {
        true => render::json_line(&serde_json::json!({ "at": chrono::Utc::now(), "alert": line })),
        false => render::note(line),
    };
    AlertService::begin(alerts, folder, &names, Box::new(say)).map_err(|e| Failure::failed(e.to_string()))
}

/// Pipelines that run: each with its name, how it ended, and which picked tables are left out.
type Running = tokio::task::JoinSet<(String, Result<Outcome, Failure>, Arc<Mutex<LeftOut>>)>;

/// Starts all pipelines, each in a task of its own.
fn start_all(
    global: &Global,
    args: &RunArgs,
    pipelines: Vec<Pipeline>,
    options: &RunOptions,
    stop: &StopSignal,
) -> Running {
    // A program that starts this one may have been killed and started again: then an earlier run is just ending.
    let patience = if args.with_stdin { Duration::from_secs(10) } else { Duration::ZERO };
    let mut running = Running::new();
    for pipeline in pipelines {
        let opening = !render::wants_json(global) && !global.quiet;
        let global = global.clone();
        let left_out = Arc::<Mutex<LeftOut>>::default();
        let events = noting_left_out(renderer(&global, &pipeline.name), left_out.clone());
        let (options, stop): (RunOptions, StopSignal) = (options.clone(), stop.clone());
        let name = pipeline.name.clone();
        // A task of its own, so that no trouble of one, not even a panic, is the others'.
        let task = tokio::spawn(async move {
            if opening {
                let mut asked = stop.clone();
                let said = tokio::select! {
                    said = render::opening(&global, &pipeline, false) => said?,
                    by = asked.asked() => return Ok(Outcome::Stopped { by }),
                };
                render::note(said);
            }
            run_in_turn(&pipeline, &options, events, stop, patience).await.map_err(Failure::from)
        });
        running.spawn(async move {
            // What happened has been said already.
            let broken = |_: tokio::task::JoinError| {
                Failure::failed("it ended by that; the next run goes on from the checkpoint")
            };
            (name, task.await.map_err(broken).and_then(|done| done), left_out)
        });
    }
    running
}

/// Waits until all have ended; says of each how it did.
async fn wait_for_all(
    global: &Global,
    mut running: Running,
    others: bool,
) -> Result<(Vec<Failure>, Finished), Failure> {
    let mut failures = Vec::new();
    let mut finished = Finished::Clean;
    while let Some(ended) = running.join_next().await {
        let (name, done, left_out) = ended.map_err(|e| Failure::failed(e.to_string()))?;
        match done {
            Ok(outcome) => {
                say_outcome(global, &name, &outcome)?;
                let ended_by_itself = matches!(outcome, Outcome::CaughtUp | Outcome::Copied);
                let left_out = left_out.lock().unwrap_or_else(PoisonError::into_inner);
                if ended_by_itself && !left_out.tables().is_empty() {
                    finished = Finished::Found;
                }
            }
            // Said at once: the other pipelines may go on for days.
            Err(error) if others => {
                render::failure(global, Some(&name), &error);
                failures.push(Failure { words: format!("pipeline {name} failed, see above"), ..error });
            }
            Err(error) => failures.push(error),
        }
    }
    Ok((failures, finished))
}

/// Runs a pipeline, after whoever runs it now if that one ends in time.
async fn run_in_turn(
    pipeline: &Pipeline,
    options: &RunOptions,
    events: Events,
    stop: StopSignal,
    patience: Duration,
) -> moorage_engine::Result<Outcome> {
    let began = Instant::now();
    loop {
        match moorage_engine::run(pipeline, options, events.clone(), stop.clone()).await {
            Err(EngineError::Locked { .. }) if began.elapsed() < patience => {
                tokio::time::sleep(Duration::from_millis(100)).await;
            }
            done => return done,
        }
    }
}

/// Notes beside rendering which picked tables are left out.
fn noting_left_out(render: Events, left_out: Arc<Mutex<LeftOut>>) -> Events {
    Arc::new(move |event| {
        left_out.lock().unwrap_or_else(PoisonError::into_inner).note(&event);
        render(event);
    })
}

/// Says what a short command waits for, if it does after all.
pub fn waits(global: &Global, pipeline: &Pipeline) -> Events {
    if render::wants_json(global) || global.quiet {
        return Arc::new(|_| {});
    }
    let render = progress::renderer(&pipeline.name, false);
    Arc::new(move |event| {
        if matches!(event, Event::Waiting { .. }) {
            render(event);
        }
    })
}

fn renderer(global: &Global, pipeline: &str) -> Events {
    if render::wants_json(global) {
        let pipeline = pipeline.to_string();
        return Arc::new(move |event| {
            let line = serde_json::json!({ "pipeline": pipeline, "at": chrono::Utc::now(), "what": event });
            render::json_line(&line);
        });
    }
    if global.quiet {
        return Arc::new(|event| match event {
            Event::Warning { message } => render::note(format!("warning: {message}")),
            Event::TableLeftOut { table, why } => {
                render::note(format!("warning: {table} is left out: {why}"));
            }
            _ => {}
        });
    }
    progress::renderer(pipeline, std::io::stderr().is_terminal())
}

fn say_outcome(global: &Global, pipeline: &str, outcome: &Outcome) -> Result<(), Failure> {
    let (word, text) = match outcome {
        Outcome::CaughtUp => (
            "caught_up",
            "caught up: everything that was committed when the run began is in the target".to_string(),
        ),
        Outcome::Copied => {
            ("copied", "copied; nothing is followed and nothing was left in the source".to_string())
        }
        Outcome::Stopped { by } => ("stopped", format!("stopped by {by}; the next run goes on from here")),
    };
    if render::wants_json(global) {
        render::json_line(&serde_json::json!({ "pipeline": pipeline, "outcome": word }));
    } else if !global.quiet {
        render::out(format!("{pipeline}: {text}"));
    }
    Ok(())
}

/// The end of standard input asks to stop. Its thread is not waited for.
fn hear_stdin(stopper: Arc<StopHandle>) {
    std::thread::spawn(move || {
        // What comes is of no interest, only that nothing comes any more.
        let _ = std::io::copy(&mut std::io::stdin().lock(), &mut std::io::sink());
        stopper.stop("the end of its input");
    });
}

/// The first Ctrl-C or SIGTERM asks to stop, a second one ends at once.
fn hear_signals(stopper: Arc<StopHandle>, held: Option<Held>) -> Result<(), Failure> {
    let Some(held) = held else { return Ok(()) };
    let failed = |e: std::io::Error| Failure::failed(format!("signals cannot be heard: {e}"));
    let (mut interrupt, mut terminate) = held.hear().map_err(failed)?;
    tokio::spawn(async move {
        let mut asked = false;
        loop {
            let by = tokio::select! {
                _ = interrupt.recv() => "Ctrl-C",
                _ = terminate.recv() => "SIGTERM",
            };
            if asked {
                std::process::exit(1);
            }
            asked = true;
            stopper.stop(by);
        }
    });
    Ok(())
}

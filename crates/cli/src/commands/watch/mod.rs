//! `watch`: the live view of pipelines on a terminal. It reads what runs publish, and asks nobody else.

mod chart;
mod draw;
mod overview;
mod page;
mod parts;
mod terminal;
#[cfg(test)]
mod tests;
mod view;

use crate::args::{Format, Global, WatchArgs};
use crate::exit::Finished;
use crate::failure::Failure;
use crate::load;
use crate::render;
use crate::signals::Held;
use chrono::{TimeDelta, Utc};
use crossterm::event::{self, Event, KeyEventKind};
use moorage_monitor::{StateStore, Watched, watched};
use parts::{Look, Scene};
use std::io::IsTerminal;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};
use terminal::Screen;
use view::{Then, View};

/// How often the store is read.
const LOOK_EVERY: Duration = Duration::from_secs(1);
/// How long drawing may take to end once it is to.
const END_PATIENCE: Duration = Duration::from_secs(2);
/// How long a key is waited for before signals are looked at again.
const KEY_PATIENCE: Duration = Duration::from_millis(100);

pub async fn watch(global: &Global, args: &WatchArgs, held: Option<Held>) -> Result<Finished, Failure> {
    let pipelines = load::pipelines(global, &args.pipelines.pipelines)?;
    let is_dumb = std::env::var("TERM").is_ok_and(|term| term == "dumb");
    if global.format != Format::Text
        || is_dumb
        || !std::io::stdout().is_terminal()
        || !std::io::stdin().is_terminal()
    {
        return Err(Failure::usage(
            "watch is for a terminal; `moorage status` and `moorage lag` say the same once, also with --format json",
        ));
    }
    let Some(folder) = pipelines.first().map(|pipeline| pipeline.state_folder.clone()) else {
        return Ok(Finished::Clean);
    };
    let names: Vec<String> = pipelines.iter().map(|pipeline| pipeline.name.clone()).collect();
    drop(pipelines);
    let ends = Arc::new(AtomicBool::new(false));
    if let Some(held) = held {
        let failed = |e: std::io::Error| Failure::failed(format!("signals cannot be heard: {e}"));
        let (mut interrupt, mut terminate) = held.hear().map_err(failed)?;
        let ends = ends.clone();
        tokio::spawn(async move {
            tokio::select! {
                _ = interrupt.recv() => {}
                _ = terminate.recv() => {}
            }
            ends.store(true, Ordering::Relaxed);
            // A terminal that takes no more (Ctrl-S) would be waited for until it does.
            tokio::time::sleep(END_PATIENCE).await;
            terminal::give_back_modes();
            std::process::exit(0);
        });
    }
    let look = Look { has_colour: render::colored(global) };
    let watched = tokio::task::spawn_blocking(move || go_on(&folder, &names, look, &ends)).await;
    watched.map_err(|_| Failure::failed("the view ended by that"))??;
    Ok(Finished::Clean)
}

/// Draws and hears keys until someone wants it to end.
fn go_on(folder: &Path, names: &[String], look: Look, ends: &AtomicBool) -> Result<(), Failure> {
    let mut source = Looks::open(folder, names)?;
    let mut view = View::new(names.len());
    let mut scene = source.look(&view)?;
    let failed = |e: std::io::Error| Failure::failed(format!("the terminal does not answer: {e}"));
    let mut screen = Screen::open().map_err(failed)?;
    let (mut looked, mut is_other) = (Instant::now(), true);
    while !ends.load(Ordering::Relaxed) {
        if std::mem::take(&mut is_other) {
            screen.draw(|frame| draw::draw(frame, &mut view, &scene, look)).map_err(failed)?;
        }
        let mut wait = LOOK_EVERY.saturating_sub(looked.elapsed()).min(KEY_PATIENCE);
        // All that waits is heard before it is drawn again.
        while event::poll(wait).map_err(failed)? {
            wait = Duration::ZERO;
            is_other = true;
            let Event::Key(key) = event::read().map_err(failed)? else { continue };
            let then = if key.kind == KeyEventKind::Release { Then::GoesOn } else { view.key(key) };
            match then {
                Then::Ends => return Ok(()),
                Then::LooksAgain => (scene, looked) = (source.look(&view)?, Instant::now()),
                Then::GoesOn => {}
            }
        }
        if looked.elapsed() >= LOOK_EVERY {
            (scene, looked, is_other) = (source.look(&view)?, Instant::now(), true);
        }
    }
    Ok(())
}

/// Where is looked.
struct Looks {
    folder: PathBuf,
    names: Vec<String>,
    state: StateStore,
}

impl Looks {
    fn open(folder: &Path, names: &[String]) -> Result<Self, Failure> {
        let state = StateStore::open(folder).map_err(|e| Failure::failed(e.to_string()))?;
        Ok(Self { folder: folder.into(), names: names.into(), state })
    }

    fn look(&mut self, view: &View) -> Result<Scene, Failure> {
        // Someone may have removed the folder.
        if !self.state.is_in_place() {
            *self = Self::open(&self.folder, &self.names)?;
        }
        let now = Utc::now();
        let since = now - TimeDelta::from_std(view.span()).unwrap_or_default();
        let of = |name: &String| {
            watched(&self.state, name, since, now).map_err(|e| Failure::failed(e.to_string()))
        };
        let pipelines = self.names.iter().map(of).collect::<Result<Vec<Watched>, Failure>>()?;
        Ok(Scene { now, since, pipelines })
    }
}

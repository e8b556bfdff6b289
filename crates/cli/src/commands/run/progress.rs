//! What a run shows while it goes on: a bar and one steady line on a terminal, plain lines elsewhere.

use crate::render;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressState, ProgressStyle};
use moorage_adapter::{Event, Events};
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// A spinner and the steady line.
const LINE: &str = "{spinner} {msg}";
/// How often a plain line about merges or copied rows is written.
const PLAIN_EVERY: Duration = Duration::from_secs(5);

struct State {
    pipeline: String,
    bar: ProgressBar,
    terminal: bool,
    rows: HashMap<String, u64>,
    last_plain: Option<Instant>,
    window: Window,
}

/// Changes in the last second or so, for the rate.
struct Window {
    since: Instant,
    changes: u64,
    rate: f64,
}

impl Window {
    fn add(&mut self, changes: u64) -> f64 {
        self.changes += changes;
        let elapsed = self.since.elapsed().as_secs_f64();
        if elapsed >= 1.0 {
            self.rate = self.changes as f64 / elapsed;
            self.since = Instant::now();
            self.changes = 0;
        }
        self.rate
    }
}

/// Renders events for people.
pub fn renderer(pipeline: &str, terminal: bool) -> Events {
    let target = if terminal { ProgressDrawTarget::stderr() } else { ProgressDrawTarget::hidden() };
    let state = State {
        pipeline: pipeline.to_string(),
        bar: ProgressBar::with_draw_target(None, target),
        terminal,
        rows: HashMap::new(),
        last_plain: None,
        window: Window { since: Instant::now(), changes: 0, rate: 0.0 },
    };
    state.style(LINE);
    let state = Mutex::new(state);
    Arc::new(move |event| state.lock().unwrap_or_else(PoisonError::into_inner).show(&event))
}

impl State {
    /// A line that stays.
    fn line(&self, text: &str) {
        if self.terminal {
            self.bar.suspend(|| render::note(format!("{}: {text}", self.pipeline)));
        } else {
            let now = chrono::Utc::now().format("%Y-%m-%dT%H:%M:%SZ");
            render::note(format!("{now} {}: {text}", self.pipeline));
        }
    }

    /// A line that is replaced on a terminal, and written now and then elsewhere.
    fn steady(&mut self, text: &str) {
        let text = moorage_core::model::visible::visible(text, false);
        let text = text.as_ref();
        if self.terminal {
            self.bar.set_message(text.to_string());
            self.bar.tick();
        } else if self.last_plain.is_none_or(|at| at.elapsed() >= PLAIN_EVERY) {
            self.last_plain = Some(Instant::now());
            self.line(text);
        }
    }

    fn style(&self, template: &str) {
        if let Ok(style) = ProgressStyle::with_template(template) {
            let rate = |state: &ProgressState, out: &mut dyn std::fmt::Write| {
                // A terminal line that cannot be written is no reason to stop.
                let _ = write!(out, "{} rows/s", render::number(state.per_sec() as u64));
            };
            self.bar.set_style(style.with_key("rate", rate).progress_chars("━╸ ").tick_chars("|/-\\ "));
        }
    }

    fn show(&mut self, event: &Event) {
        match event {
            Event::Prepared { step } => self.line(&format!("{}: {}", step.what, step.outcome)),
            Event::TableLeftOut { table, why } => self.line(&format!("warning: {table} is left out: {why}")),
            Event::Waiting { what, waited_ms } => {
                self.steady(&format!("{what} ({} so far)", render::span(*waited_ms)))
            }
            Event::SnapshotStarted { tables } => self.snapshot_started(tables),
            Event::FirstRowReadable { table, elapsed_ms } => {
                self.line(&format!("first rows can be read in {table}, after {}", render::span(*elapsed_ms)));
            }
            Event::SnapshotRows { table, rows } => self.snapshot_rows(table, *rows),
            Event::SnapshotFinished { table, rows, elapsed_ms } => self.line(&format!(
                "read {table}: {} rows in {}",
                render::number(*rows),
                render::span(*elapsed_ms)
            )),
            Event::ReadingAgain { table, first: true } => {
                self.line(&format!("reading {table}, while the others are followed"));
            }
            Event::ReadingAgain { table, first: false } => {
                self.line(&format!(
                    "reading {table} again; its old rows stay until the new ones are complete"
                ));
            }
            Event::ReadAgain { table, rows, elapsed_ms, first: true } => self.line(&format!(
                "read {table}: {} rows in {}",
                render::number(*rows),
                render::span(*elapsed_ms)
            )),
            Event::ReadAgain { table, rows, elapsed_ms, first: false } => self.line(&format!(
                "read {table} again: {} rows in {}, now in the place of the old ones",
                render::number(*rows),
                render::span(*elapsed_ms)
            )),
            Event::Streaming { position } => {
                self.style(LINE);
                self.bar.set_length(0);
                self.bar.enable_steady_tick(Duration::from_millis(200));
                self.line(&format!("following changes from {position}"));
                self.steady("no change yet");
            }
            Event::Comparing { .. } => {}
            Event::Merged { .. } => self.merged(event),
            Event::Retrying { reason, in_ms } => {
                self.line(&format!("{reason}; trying again in {}", render::span(*in_ms)));
            }
            Event::Stopping { by } => {
                self.line(&format!("{by}: finishing the batch in hand"));
                self.bar.finish_and_clear();
            }
            Event::Tidied { target, removed, folded, .. } => {
                self.line(&render::tidied(target, *removed, *folded));
            }
            Event::StructureChanged { table, what, done } => self.line(&format!("{table}: {what}; {done}")),
            Event::Warning { message } => self.line(&format!("warning: {message}")),
        }
    }

    fn snapshot_started(&mut self, tables: &[(String, Option<u64>)]) {
        let estimate: u64 = tables.iter().filter_map(|t| t.1).sum();
        let names: Vec<&str> = tables.iter().map(|t| t.0.as_str()).collect();
        let about = match tables.iter().any(|t| t.1.is_none()) {
            true => "rows not counted by the source yet".to_string(),
            false => format!("about {} rows", render::number(estimate)),
        };
        let which = match names.as_slice() {
            names if names.len() <= 3 => names.join(", "),
            [first, .., last] => format!("{first} to {last}"),
            _ => String::new(),
        };
        let tables = if names.len() == 1 { "table" } else { "tables" };
        self.line(&format!("reading {} {tables}, {about}: {which}", names.len()));
        self.style("{wide_bar} {human_pos} of about {human_len} rows, {rate}, {eta} left  {msg}");
        self.bar.set_message("");
        self.bar.set_length(estimate);
        self.bar.reset_eta();
    }

    fn snapshot_rows(&mut self, table: &str, rows: u64) {
        self.rows.insert(table.to_string(), rows);
        let all: u64 = self.rows.values().sum();
        if self.bar.length().is_some_and(|length| all > length) {
            self.bar.set_length(all);
        }
        self.bar.set_position(all);
        if !self.terminal {
            self.steady(&format!("{} rows read", render::number(all)));
        }
    }

    fn merged(&mut self, event: &Event) {
        let Event::Merged { changes, committed_at, lag_ms, merge_ms, .. } = event else { return };
        let rate = self.window.add(*changes);
        self.steady(&format!(
            "following: {} changes/s, lag {}, complete up to {}, last merge {} changes in {}",
            render::number(rate as u64),
            render::span(*lag_ms),
            render::clock(*committed_at),
            render::number(*changes),
            render::span(*merge_ms)
        ));
    }
}

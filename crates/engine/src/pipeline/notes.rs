//! A thread that keeps a run's notes in the state folder, one after the other, so that no slow disk holds up changes.
//!
//! What is asked is answered in its turn: behind everything that was said before. Events are lost rather than waited for
//! where very many wait; nothing else is.

use super::error::Result;
use super::keeper::{Keeper, Measured};
use chrono::Utc;
use moorage_adapter::Event;
use moorage_core::model::drift::DriftPolicy;
use moorage_monitor::{Standings, StateStore, StoreError};
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, mpsc};
use std::time::Duration;
use tokio::sync::oneshot;

/// How many events may wait for the disk.
const MOST_EVENTS: usize = 1000;
/// How many seconds' measures may wait for it.
const MOST_MEASURED: usize = 60;
/// How long the end of a run waits for its note to be written.
const END_PATIENCE: Duration = Duration::from_secs(10);

enum Note {
    Event(Event),
    /// What was measured since the last time.
    Measured(Box<Measured>),
    /// How the tables stand.
    Standings(Box<Standings>),
    /// What came of reading a table again.
    Answer(String, String),
    /// What came of a decision.
    Decided(u64, String),
    /// What someone has asked for.
    Asked(oneshot::Sender<Result<Asked>>),
    End {
        outcome: &'static str,
        words: String,
        written: oneshot::Sender<()>,
    },
}

/// What someone has asked for, each in the order in which that was done.
#[derive(Clone, Debug, Default)]
pub(crate) struct Asked {
    /// The tables that are to be read again.
    pub(crate) tables: Vec<String>,
    /// What is to be done about changes of structure that are held, by the numbers of their records.
    pub(crate) decisions: Vec<(u64, DriftPolicy)>,
}

fn asked(state: &StateStore, pipeline: &str) -> Result<Asked> {
    Ok(Asked { tables: state.asked_again(pipeline)?, decisions: state.asked_decisions(pipeline)? })
}

/// The notes of one run.
pub(crate) struct Notes {
    sender: mpsc::Sender<Note>,
    events: Arc<AtomicUsize>,
    measured: Arc<AtomicUsize>,
}

impl Notes {
    /// Begins a run's notes.
    ///
    /// # Errors
    /// If the state folder cannot be used.
    pub(crate) fn begin(folder: &Path, pipeline: &str) -> Result<Self> {
        let state = StateStore::open(folder)?;
        let run = state.begin_run(pipeline)?;
        let (sender, notes) = mpsc::channel();
        let events = Arc::new(AtomicUsize::new(0));
        let measured = Arc::new(AtomicUsize::new(0));
        let (waiting, measuring) = (events.clone(), measured.clone());
        let mut keeper = Keeper::new(folder, state, pipeline, run);
        let keep = move || {
            for note in notes {
                match note {
                    Note::Event(event) => {
                        waiting.fetch_sub(1, Ordering::Relaxed);
                        keeper.event(&event);
                    }
                    Note::Measured(measured) => {
                        measuring.fetch_sub(1, Ordering::Relaxed);
                        keeper.measured(*measured);
                    }
                    Note::Standings(standings) => keeper.stand(Utc::now(), &standings),
                    Note::Answer(table, outcome) => {
                        keeper.state.answer_again(&keeper.pipeline, &table, &outcome)
                    }
                    // Whoever asked may have gone.
                    Note::Asked(answer) => drop(answer.send(asked(&keeper.state, &keeper.pipeline))),
                    Note::Decided(id, outcome) => {
                        keeper.state.answer_decision(&keeper.pipeline, id, &outcome)
                    }
                    Note::End { outcome, words, written } => {
                        keeper.end(outcome, &words);
                        // Nobody waits any more if it took too long.
                        let _ = written.send(());
                    }
                }
            }
        };
        let thread = std::thread::Builder::new().name("notes".into()).spawn(keep);
        thread.map_err(|e| StoreError { path: folder.into(), reason: e.to_string() })?;
        Ok(Self { sender, events, measured })
    }

    /// Notes what an event says of the run.
    pub(crate) fn event(&self, event: Event) {
        if self.events.fetch_add(1, Ordering::Relaxed) < MOST_EVENTS {
            self.send(Note::Event(event));
        } else {
            self.events.fetch_sub(1, Ordering::Relaxed);
        }
    }

    /// Notes what was measured.
    pub(crate) fn measured(&self, measured: Measured) {
        if self.measured.fetch_add(1, Ordering::Relaxed) < MOST_MEASURED {
            self.send(Note::Measured(Box::new(measured)));
        } else {
            self.measured.fetch_sub(1, Ordering::Relaxed);
        }
    }

    /// Tells how the tables stand.
    pub(crate) fn standings(&self, standings: Standings) {
        self.send(Note::Standings(Box::new(standings)));
    }

    /// Notes what came of reading a table again; empty if it was done.
    pub(crate) fn answer(&self, table: &str, outcome: &str) {
        self.send(Note::Answer(table.into(), outcome.into()));
    }

    /// Notes what came of a decision; empty if it was carried out.
    pub(crate) fn decided(&self, id: u64, outcome: &str) {
        self.send(Note::Decided(id, outcome.into()));
    }

    /// Asks what someone has asked for.
    pub(crate) fn ask(&self) -> oneshot::Receiver<Result<Asked>> {
        let (answer, asked) = oneshot::channel();
        self.send(Note::Asked(answer));
        asked
    }

    /// Notes how the run ended.
    pub(crate) async fn end(&self, outcome: &'static str, words: String) {
        let (written, noted) = oneshot::channel();
        self.send(Note::End { outcome, words, written });
        if tokio::time::timeout(END_PATIENCE, noted).await.is_err() {
            tracing::warn!("the end of the run was not noted: the state folder does not answer");
        }
    }

    /// The thread ends after everyone who sends.
    fn send(&self, note: Note) {
        drop(self.sender.send(note));
    }
}

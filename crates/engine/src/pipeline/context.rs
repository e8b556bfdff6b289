//! What a run is asked to do, what its parts share, and how it ends.

use super::ends::Pipeline;
use super::measuring::Measuring;
use super::notes::Notes;
use super::stop::StopSignal;
use chrono::{DateTime, Utc};
use moorage_adapter::{CapturePlan, Event, Events, Holder, StreamTable};
use moorage_core::TableName;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::drift::held::Held;
use moorage_core::drift::record::DriftRecord;
use moorage_core::model::described::NamedTable;
use moorage_core::model::drift::DriftPolicy;
use moorage_core::plan::table::TablePlan;
use std::collections::{HashMap, HashSet};
use std::sync::atomic::AtomicBool;
use std::sync::{Arc, Mutex};
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
    /// With what was committed at this time or later, as far back as the capture point reaches.
    Time(DateTime<Utc>),
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
    /// What is noted of the run in the state folder.
    pub(crate) notes: Arc<Notes>,
    /// What is measured of the run.
    pub(crate) measuring: Measuring,
    /// This process, as others are told of it.
    pub(crate) me: Holder,
    pub(crate) stop: StopSignal,
    /// Whether both ends were reached at all: only then is a lost connection tried again.
    pub(crate) reached: AtomicBool,
    /// Tables that the target would not alter, by their names, with what was in the way: they are held.
    pub(crate) in_the_way: Mutex<HashMap<TableName, String>>,
    /// Tables of which the target does not take what was read again, with why.
    pub(crate) not_taken: Mutex<HashMap<TableName, String>>,
    /// Whether it has followed changes: then one table that cannot join is no reason to end.
    pub(crate) followed: AtomicBool,
    /// Tables that came while it followed, and that only an administrator can let join.
    pub(crate) left_out: Mutex<HashSet<TableName>>,
    /// What someone decided about tables that came, by the numbers of their records, and is not written down yet.
    pub(crate) decided: Mutex<Vec<(u64, DriftPolicy)>>,
    /// What became of whole tables, and is not written down yet.
    pub(crate) noted: Mutex<Vec<DriftRecord>>,
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
    pub(crate) async fn waited_long_enough(&self) -> String {
        let by = self.asked_to_stop().await;
        tokio::time::sleep(STOP_PATIENCE).await;
        by
    }

    pub(crate) fn say(&self, event: Event) {
        (self.events)(event);
    }
}

/// How long the batch in hand may take when the run is asked to stop.
const STOP_PATIENCE: Duration = Duration::from_secs(15);

/// Everything needed to follow changes.
pub(crate) struct Following {
    pub(crate) checkpoint: Checkpoint,
    pub(crate) capture: CapturePlan,
    /// The tables as they are read from the stream.
    pub(crate) tables: Vec<StreamTable>,
    /// For each how it is carried.
    pub(crate) plans: Vec<TablePlan>,
    /// Those whose changes are kept and not merged.
    pub(crate) held: Vec<Held>,
    /// Those that are not read yet, by name: they are read while the others are followed.
    pub(crate) unread: Vec<TableName>,
    /// Those among them whose target tables could not be made as they are to be; what they are planned like is yet to be kept.
    pub(crate) as_they_are: Vec<TableName>,
    /// Tables that wait to be let in, by the numbers of their records.
    pub(crate) offered: HashMap<u64, String>,
    /// Those that the project file maps in another way than their rows were read, by name.
    pub(crate) remapped: Vec<TableName>,
    /// Target tables of which something is kept although they are not held any more: they were read again since.
    pub(crate) held_before: Vec<String>,
    /// The names of all tables that were in the source.
    pub(crate) found: Vec<NamedTable>,
    /// Those among them that are picked and cannot be carried.
    pub(crate) refused: Vec<TableName>,
    /// Held tables among `plans` that are not in the source any more: nothing of them comes.
    pub(crate) orphans: Vec<TableName>,
    /// The number of the next record of drift.
    pub(crate) next_drift: u64,
    /// For each table what captures its changes.
    pub(crate) captured_by: Vec<Option<String>>,
}

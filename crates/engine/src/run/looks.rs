//! Looks at the source beside the stream: how far its log has grown, and what the stream does not tell of.

use crate::pipeline::context::Context;
use crate::run::names::{Follower, Names};
use moorage_adapter::{AdapterError, CapturePlan, GONE, Head, Source};
use moorage_core::model::described::NamedTable;
use moorage_core::plan::table::TablePlan;
use moorage_core::{Position, TableName};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tokio::sync::mpsc;
use tokio::task::JoinHandle;

/// How often the source is looked at for a log that grows without our changes.
const LOOK_EVERY: Duration = Duration::from_secs(10);
/// At every how many of these looks the catalogue is read too, for structure changes that the log does not
/// tell of. Reading it costs the source more.
const CATALOGUE_EVERY: u32 = 3;

/// How often new tables are looked for, which costs the source next to nothing.
const NAMES_EVERY: Duration = Duration::from_secs(2);

/// What is looked at.
pub(crate) struct LookAt {
    pub(crate) capture: CapturePlan,
    pub(crate) plans: Vec<TablePlan>,
    /// For each table what captured its changes when following began.
    pub(crate) captured_by: Vec<Option<String>>,
    /// The names of all tables that there were.
    pub(crate) found: Vec<NamedTable>,
    /// Those among them that could not be carried.
    pub(crate) refused: Vec<TableName>,
}

/// What a look at the source found.
pub(crate) struct Look {
    pub(crate) head: Head,
    /// Why the stream cannot go on as it is.
    pub(crate) found: Option<AdapterError>,
}

impl Look {
    /// What was merged before the look must have been in the source's log.
    fn not_before(self, merged_to: Option<Position>) -> moorage_adapter::Result<Self> {
        match merged_to {
            Some(at) if at > self.head.position => Err(AdapterError::Protocol {
                address: "the source's stream".into(),
                what: format!(
                    "it has delivered changes up to {at}, and the log ends at {}",
                    self.head.position
                ),
            }),
            _ => Ok(self),
        }
    }
}

/// Looks at the source from a task of its own, so that no merge waits for it.
pub(crate) struct Looks {
    found: mpsc::Receiver<moorage_adapter::Result<Look>>,
    task: JoinHandle<()>,
    at: Arc<LookAt>,
}

impl Looks {
    pub(crate) fn start(context: &Context, at: LookAt, merged_to: Arc<Mutex<Option<Position>>>) -> Self {
        let (sender, found) = mpsc::channel(1);
        let (pipeline, events) = (context.pipeline.clone(), context.events.clone());
        let at = Arc::new(at);
        let looked_at = at.clone();
        let task = tokio::spawn(async move {
            let mut names = Names::new(&at.found, &at.refused);
            let mut round = 0u32;
            let mut looked = Instant::now();
            loop {
                tokio::time::sleep(NAMES_EVERY).await;
                let is_due = looked.elapsed() >= LOOK_EVERY;
                let by =
                    Follower { pipeline: &pipeline, events: &events, capture: &at.capture, plans: &at.plans };
                let is_round = is_due && (round + 1).is_multiple_of(CATALOGUE_EVERY);
                let appeared = names.looked_at(&by, is_round).await;
                if !is_due && matches!(&appeared, Ok(None) | Err(_)) {
                    continue;
                }
                if is_due {
                    looked = Instant::now();
                    round += 1;
                }
                let merged_to = merged_to.lock().unwrap_or_else(PoisonError::into_inner).clone();
                let look = look(pipeline.source.as_ref(), &at, is_round).await;
                let look = look.and_then(|mut look| {
                    let table: Option<AdapterError> = appeared?;
                    look.found = look.found.or(table);
                    Ok(look)
                });
                match look.and_then(|look| look.not_before(merged_to)) {
                    // The stream itself tells when the source is gone.
                    Err(error) if error.is_transient() => {}
                    found => {
                        if sender.send(found).await.is_err() {
                            return;
                        }
                    }
                }
            }
        });
        Self { found, task, at: looked_at }
    }

    /// Whether all that was read since following began was captured: asked before anybody is told that nothing is missing.
    pub(crate) async fn missed(&self, source: &dyn Source) -> moorage_adapter::Result<Option<AdapterError>> {
        missed(source, &self.at).await
    }

    pub(crate) async fn next(&mut self) -> moorage_adapter::Result<Look> {
        match self.found.recv().await {
            Some(look) => look,
            None => std::future::pending().await,
        }
    }
}

impl Drop for Looks {
    fn drop(&mut self) {
        self.task.abort();
    }
}

async fn look(source: &dyn Source, at: &LookAt, catalogue: bool) -> moorage_adapter::Result<Look> {
    let LookAt { capture, plans, .. } = at;
    let drifted = if catalogue && !source.tells_of_structure() {
        source.drifted(capture, plans).await?
    } else {
        Vec::new()
    };
    let drifted = drifted.into_iter().next();
    let mut found = drifted.map(|(schema, what)| {
        let table = schema.table.clone();
        // Setting up anew leaves such a table behind, and the others go on.
        if what == GONE { AdapterError::Gone { table } } else { AdapterError::Drift { table, what } }
    });
    if let Some(gap) = missed(source, at).await? {
        found.get_or_insert(gap);
    }
    // Asked last: everything that was found lies before it.
    let head = source.head(capture).await?;
    Ok(Look { head, found })
}

/// Whether someone has altered what captures the tables.
async fn missed(source: &dyn Source, at: &LookAt) -> moorage_adapter::Result<Option<AdapterError>> {
    let LookAt { capture, plans, captured_by, .. } = at;
    let now = source.captured_by(capture, plans).await?;
    let unbroken = |(before, now): (&Option<String>, &Option<String>)| match (before, now) {
        (Some(before), Some(now)) => source.is_unbroken(before, now),
        _ => false,
    };
    let gap = plans.iter().zip(captured_by.iter().zip(&now)).find(|(_, both)| !unbroken(*both));
    let why = "what captures them was altered by someone";
    Ok(gap.map(|(plan, _)| AdapterError::Gap { table: plan.table().clone(), why: why.into() }))
}

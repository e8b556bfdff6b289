//! Keeping a source busy: how fast, how long, in what bursts.

use crate::business::Business;
use moorage_adapter::{AdapterError, Console, Result};
use std::time::{Duration, Instant};

/// How fast and how long.
#[derive(Clone, Copy, Debug)]
pub struct Pace {
    /// Transactions a second; `None` for as fast as the source takes them.
    pub rate: Option<f64>,
    /// Every ten seconds so many transactions more, all at once; 0 for none.
    pub burst: u64,
    /// End after this time.
    pub duration: Option<Duration>,
    /// End after so many transactions.
    pub until: Option<u64>,
}

/// What was done so far.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Progress {
    /// Transactions that were committed.
    pub committed: u64,
    /// Transactions that were rolled back on purpose.
    pub rolled_back: u64,
}

impl Progress {
    fn total(self) -> u64 {
        self.committed + self.rolled_back
    }
}

/// When the next transaction is due, and whether there is one.
pub struct Busy {
    pace: Pace,
    began: Instant,
    /// Transactions of bursts, which the rate does not count.
    extra: u64,
    bursts: u64,
}

const BURST_EVERY: Duration = Duration::from_secs(10);

impl Busy {
    /// Begins now.
    pub fn new(pace: Pace) -> Self {
        Self { pace, began: Instant::now(), extra: 0, bursts: 0 }
    }

    /// When the next transaction is due after so many; `None` if there is no next one.
    fn due(&mut self, done: u64) -> Option<Instant> {
        let elapsed = self.began.elapsed();
        let over =
            self.pace.until.is_some_and(|n| done >= n) || self.pace.duration.is_some_and(|d| elapsed >= d);
        if over {
            return None;
        }
        if self.pace.burst > 0 && elapsed >= BURST_EVERY * (self.bursts as u32 + 1) {
            self.bursts += 1;
            self.extra += self.pace.burst;
        }
        let paced = done.saturating_sub(self.extra);
        Some(match self.pace.rate {
            Some(rate) => self.began + Duration::from_secs_f64(paced as f64 / rate.max(0.001)),
            None => self.began,
        })
    }

    /// Waits until the next transaction is due; `false` if there is none.
    async fn wait(&mut self, done: u64) -> bool {
        match self.due(done) {
            None => false,
            Some(due) => {
                let end = self.pace.duration.map(|d| self.began + d);
                tokio::time::sleep_until(end.map_or(due, |end| due.min(end)).into()).await;
                self.due(done).is_some()
            }
        }
    }
}

/// How often a transaction is tried again that the source was too busy for.
const ATTEMPTS: u32 = 5;

async fn patiently(console: &mut dyn Console, sql: &str) -> Result<()> {
    for _ in 1..ATTEMPTS {
        match console.run(sql).await {
            Err(error) if error.is_transient() => {}
            done => return done,
        }
    }
    console.run(sql).await
}

/// Does the marina's business. `told` hears after each transaction how far it is.
///
/// # Errors
/// If the source refuses a statement, or its tables are not the marina's.
pub async fn churn(
    console: &mut dyn Console,
    business: &mut Business,
    pace: Pace,
    told: &mut (dyn FnMut(Progress) + Send),
) -> Result<Progress> {
    let mut busy = Busy::new(pace);
    let mut progress = Progress::default();
    while busy.wait(progress.total()).await {
        let transaction = business.next_transaction();
        patiently(console, &transaction.sql).await?;
        match transaction.rolled_back {
            true => progress.rolled_back += 1,
            false => progress.committed += 1,
        }
        business.happened(transaction);
        told(progress);
    }
    Ok(progress)
}

/// The marina grows while it is open, unless it has already.
///
/// # Errors
/// If the source refuses.
pub async fn grow(console: &mut dyn Console) -> Result<()> {
    if console.rows("SELECT 1 FROM tariffs").await.is_ok() {
        return Ok(());
    }
    let statements = crate::schema::grow(console.dialect());
    patiently(console, &statements).await
}

/// Runs a script again and again; each time counts as one transaction.
///
/// # Errors
/// If the source refuses a statement of it.
pub async fn run_script(
    console: &mut dyn Console,
    script: &str,
    pace: Pace,
    told: &mut (dyn FnMut(Progress) + Send),
) -> Result<Progress> {
    if script.trim().is_empty() {
        return Err(AdapterError::refused("the script", "it is empty"));
    }
    let mut busy = Busy::new(pace);
    let mut progress = Progress::default();
    while busy.wait(progress.total()).await {
        patiently(console, script).await?;
        progress.committed += 1;
        told(progress);
    }
    Ok(progress)
}

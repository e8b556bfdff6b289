//! Looks at the catalogue, kept until the stream has come past them.
//!
//! A look is what one REPEATABLE READ transaction sees, with that transaction's snapshot and a place in the log behind which
//! nothing commits that it sees. ALTER TABLE waits for all writers of the table and is waited for by them, so a change of
//! rows whose transaction a look sees is older than no change of structure that the look does not see: the first look
//! that sees it bounds it from above, the ones before it from below.
//!
//! The second task of a stream looks every second, and at once when asked. However far the stream is behind, looks are not
//! thrown away before it has come past them; of a run of equal ones the first and the last are enough.

use super::catalogue::{Catalogue, Seen};
use super::event;
use super::types::Horizon;
use crate::as_source::capture::published_by;
use crate::as_source::catalog::{Described, IdentityBy};
use crate::as_source::mark::Mark;
use crate::as_source::named::NOTE_PREFIX;
use crate::wire::address::PostgresAddress;
use crate::wire::connect::Session;
use crate::wire::lsn;
use chrono::{DateTime, Utc};
use moorage_adapter::{AdapterError, Result};
use std::collections::VecDeque;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;
use tokio::sync::{Notify, watch};

/// How often the catalogue is looked at.
const LOOK_EVERY: Duration = Duration::from_secs(1);
/// The longest pause between looks that are waited for: a commit can be streamed before it is visible.
const MOST_PAUSE: Duration = Duration::from_millis(200);

/// A look.
#[derive(Debug)]
pub(crate) struct Look {
    /// Its number among the stream's looks, from 1.
    pub(crate) number: u64,
    /// Which transactions it sees; nothing that it sees commits behind `complete_at`.
    mark: Mark,
    complete_at: u64,
    seen: Arc<Seen>,
    /// The event trigger that tells of all changes of transactions that it does not see.
    told_by: Option<String>,
}

impl Look {
    /// The event trigger that was in force, if one was.
    pub(crate) fn told_by(&self) -> Option<&str> {
        self.told_by.as_deref()
    }

    /// What it saw of a table.
    pub(crate) fn of(&self, table: u32) -> Option<&Described> {
        self.seen.get(&table).map(AsRef::as_ref)
    }

    /// Which transactions it may not see.
    pub(crate) fn horizon(&self) -> Horizon {
        self.mark.horizon()
    }

    /// Whether it sees a transaction.
    pub(crate) fn sees(&self, xid: u32, commit_lsn: u64) -> bool {
        self.mark.covers(xid, commit_lsn)
    }
}

#[derive(Debug, Default)]
struct Kept {
    count: u64,
    looks: VecDeque<Arc<Look>>,
    /// When the end of the log was asked for, by our clock, and where it was: what was committed before lies before it.
    ends: VecDeque<(DateTime<Utc>, u64)>,
    failed: Option<AdapterError>,
}

/// How many ends of the log are remembered; of those that come behind only the last.
const ENDS: usize = 64;

/// What publishes the tables of a stream, as it was found before it began.
pub(crate) struct Publishing {
    /// The publication.
    pub(crate) publication: String,
    /// What of it publishes each table of which that is known ([`published_by`]).
    pub(crate) captured: Vec<(u32, String)>,
}

impl Publishing {
    /// Whether it is still so: only then does what has come say anything of what has not.
    async fn is_unbroken(&self, session: &Session) -> Result<bool> {
        let (ids, before): (Vec<u32>, Vec<&String>) = self.captured.iter().map(|(id, by)| (*id, by)).unzip();
        let now = published_by(session, &self.publication, &ids).await?;
        Ok(before.iter().zip(&now).all(|(before, now)| now.as_ref() == Some(before)))
    }
}

/// The looks of one stream.
#[derive(Clone)]
pub(crate) struct Looks {
    address: PostgresAddress,
    tables: Arc<[u32]>,
    publishing: Arc<Publishing>,
    kept: Arc<Mutex<Kept>>,
    wanted: Arc<Notify>,
    came: watch::Sender<u64>,
}

/// A session for looks, with what the last one saw.
struct Looker {
    session: Session,
    catalogue: Catalogue,
}

impl Looks {
    /// Looks for the first time.
    ///
    /// # Errors
    /// Of the server.
    pub(crate) async fn begin(
        address: &PostgresAddress,
        tables: Vec<u32>,
        publishing: Publishing,
    ) -> Result<Self> {
        let looks = Self {
            address: address.clone(),
            tables: tables.into(),
            publishing: Arc::new(publishing),
            kept: Arc::default(),
            wanted: Arc::default(),
            came: watch::Sender::new(0),
        };
        let mut looker = None;
        looks.look(&mut looker).await?;
        Ok(looks)
    }

    /// What the first look saw of a table.
    pub(crate) fn first(&self, table: u32) -> Option<Arc<Described>> {
        self.kept().looks.front().and_then(|look| look.seen.get(&table).cloned())
    }

    fn kept(&self) -> MutexGuard<'_, Kept> {
        self.kept.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Looks again and again, for as long as the stream lasts.
    pub(crate) async fn keep_looking(self) {
        let mut looker: Option<Looker> = None;
        let mut pause = Duration::from_millis(2);
        loop {
            let asked = tokio::select! {
                () = tokio::time::sleep(LOOK_EVERY) => false,
                () = self.wanted.notified() => true,
            };
            let done = self.look(&mut looker).await;
            if let Err(error) = done {
                looker = None;
                // Whoever waits is told; otherwise the next look may work.
                if asked {
                    self.kept().failed = Some(error);
                    self.came.send_modify(|count| *count += 1);
                }
            }
            if asked {
                tokio::time::sleep(pause).await;
                pause = (pause * 2).min(MOST_PAUSE);
            } else {
                pause = Duration::from_millis(2);
            }
        }
    }

    /// Someone is told each time that there is a look more.
    pub(crate) fn come(&self) -> watch::Receiver<u64> {
        self.came.subscribe()
    }

    /// The last moment, by our clock, before which nothing was committed that lies behind a place in the log; none if it was
    /// given before.
    pub(crate) fn seen_at(&self, place: u64) -> Option<DateTime<Utc>> {
        let mut kept = self.kept();
        let behind = kept.ends.iter().take_while(|(_, end)| *end <= place).count();
        kept.ends.drain(..behind).next_back().map(|(at, _)| at)
    }

    /// Whether the stream has not come past every end of the log that was asked for.
    pub(crate) fn is_awaited(&self) -> bool {
        !self.kept().ends.is_empty()
    }

    async fn look(&self, looker: &mut Option<Looker>) -> Result<()> {
        let looker = match looker {
            Some(looker) => looker,
            none => {
                let session = Session::open(&self.address).await?;
                none.insert(Looker { session, catalogue: Catalogue::new(IdentityBy::Log) })
            }
        };
        let before = self.kept().looks.back().map(|look| look.seen.clone());
        let session = &looker.session;
        let asked_at = Utc::now();
        session.run("looking at the catalogue", "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY").await?;
        // The end that is on disk: nothing of the log is sent before it is.
        let sql = format!(
            "SELECT pg_current_snapshot()::text, ({}), pg_current_wal_flush_lsn()::text",
            event::IN_FORCE
        );
        let row = session.one("looking at the catalogue", &sql, &[]).await?;
        let (snapshot, told_by): (String, Option<String>) = (row.get(0), row.get(1));
        let flushed = lsn::parse(row.get(2));
        let seen = looker.catalogue.look(session, &self.tables, before.as_ref()).await?;
        let is_unbroken = self.publishing.is_unbroken(session).await?;
        // Asked last: nothing that the look sees commits behind it.
        let sql = "SELECT pg_current_wal_insert_lsn()::text";
        let end: String = session.one("looking at the catalogue", sql, &[]).await?.get(0);
        session.run("looking at the catalogue", "COMMIT").await?;
        let wrong = || AdapterError::Protocol {
            address: self.address.text(),
            what: format!("{snapshot:?} at {end:?}"),
        };
        let complete_at = lsn::parse(&end).ok_or_else(wrong)?;
        let mark = Mark::parse(&snapshot, complete_at).ok_or_else(wrong)?;
        let is_other = before.is_some_and(|before| !is_same(&before, &seen));
        if let Some(end) = flushed.filter(|_| is_unbroken) {
            let mut kept = self.kept();
            kept.ends.truncate(ENDS - 1);
            kept.ends.push_back((asked_at, end));
        }
        self.keep(mark, complete_at, seen, told_by);
        if is_other {
            self.leave_a_note(&looker.session).await?;
        }
        Ok(())
    }

    /// Something for the stream to come past, where no row follows.
    pub(crate) async fn leave_a_note(&self, session: &Session) -> Result<()> {
        session.run("preparing a note", "SET synchronous_commit = local").await?;
        let sql = "SELECT pg_logical_emit_message(true, $1, 'the catalogue was looked at')";
        session.one("writing a note into the log", sql, &[&NOTE_PREFIX]).await.map(|_| ())
    }

    fn keep(&self, mark: Mark, complete_at: u64, seen: Arc<Seen>, told_by: Option<String>) {
        let mut kept = self.kept();
        kept.count += 1;
        let look = Look { number: kept.count, mark, complete_at, seen, told_by };
        let looks = &mut kept.looks;
        let is_same = |at: usize| {
            let earlier = looks.len().checked_sub(1 + at).map(|place| &looks[place]);
            earlier.is_some_and(|e| Arc::ptr_eq(&e.seen, &look.seen) && e.told_by == look.told_by)
        };
        if is_same(0) && is_same(1) {
            looks.pop_back();
        }
        looks.push_back(Arc::new(look));
        drop(kept);
        self.came.send_modify(|count| *count += 1);
    }

    /// The looks that do not see a transaction, oldest first, and the first that does. Looks until there is one.
    ///
    /// # Errors
    /// Of the server.
    pub(crate) async fn around(&self, xid: u32, commit_lsn: u64) -> Result<(Vec<Arc<Look>>, Arc<Look>)> {
        let mut came = self.came.subscribe();
        loop {
            {
                let mut kept = self.kept();
                if let Some(error) = kept.failed.take() {
                    return Err(error);
                }
                let at = kept.looks.iter().position(|look| look.sees(xid, commit_lsn));
                if let Some(at) = at {
                    let before = kept.looks.iter().take(at).cloned().collect();
                    return Ok((before, kept.looks[at].clone()));
                }
            }
            came.borrow_and_update();
            self.wanted.notify_one();
            // The sender is ours too.
            let _ = came.changed().await;
        }
    }

    /// Whether the looks behind the one of this number say nothing about what was before a transaction: there is none, or the
    /// first of them sees it.
    pub(crate) fn has_none_before(&self, xid: u32, commit_lsn: u64, passed: u64) -> bool {
        let kept = self.kept();
        let next = kept.looks.iter().find(|look| look.number > passed);
        next.is_none_or(|look| look.sees(xid, commit_lsn))
    }

    /// The looks that do not see a transaction and that are older than any that does, as far as looks were made. Does not
    /// wait.
    pub(crate) fn before(&self, xid: u32, commit_lsn: u64) -> Vec<Arc<Look>> {
        let kept = self.kept();
        kept.looks.iter().take_while(|look| !look.sees(xid, commit_lsn)).cloned().collect()
    }

    /// The looks behind the one of number `passed` of which nothing comes any more that they see, once a place in the log is
    /// reached. They are not kept any longer, but for the last one, which later ones are compared with.
    pub(crate) fn passed(&self, end_lsn: u64, passed: u64) -> Vec<Arc<Look>> {
        let mut kept = self.kept();
        let behind = kept.looks.iter().take_while(|look| look.complete_at <= end_lsn).count();
        let new = kept.looks.iter().take(behind).filter(|look| look.number > passed);
        let passed: Vec<_> = new.cloned().collect();
        let let_go = behind.min(kept.looks.len().saturating_sub(1));
        kept.looks.drain(..let_go);
        passed
    }
}

fn is_same(a: &Seen, b: &Seen) -> bool {
    let same = |id: &u32, a: &Described| {
        b.get(id).is_some_and(|b| {
            a.state == b.state && a.table.name == b.table.name && a.table.identity == b.table.identity
        })
    };
    a.len() == b.len() && a.iter().all(|(id, described)| same(id, described))
}

//! The running stream over change tables: looks, one after the other, and forgetting what was acknowledged.

use crate::as_source::assemble::followed;
use crate::as_source::catalog::IdentityBy;
use crate::as_source::structure::catalogue::{self, Catalogue};
use crate::as_source::trigger::capture;
use crate::as_source::trigger::following::Followed;
use crate::as_source::trigger::found::Read;
use crate::as_source::trigger::names::Names;
use crate::as_source::trigger::reader::{self, Stretch};
use crate::wire::address::PostgresAddress;
use crate::wire::connect::Session;
use async_trait::async_trait;
use chrono::{DateTime, Utc};
use moorage_adapter::{
    AdapterError, ChangeStream, Pace, Polled, Polling, Result, Seen, SegmentSender, StreamTable,
    WaitingNotes, Wanted,
};
use moorage_core::Position;
use moorage_core::change::block::ChangeBlock;
use moorage_core::change::kind::Transaction;
use moorage_core::change::segment::Segment;
use moorage_core::change::structure::SchemaChange;
use moorage_core::checkpoint::decide::Refusal;
use moorage_core::model::sql::quote_literal;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::mpsc;

/// How often the change tables are looked at; how often acknowledged changes are deleted, and after how long.
const PACE: Pace = Pace {
    look_every: Duration::from_millis(30),
    forget_every: Duration::from_secs(2),
    keep_for: Duration::from_secs(6),
};
/// How many marks of the history are kept.
const ANCHORS: i64 = 1000;
/// How much may wait between the stream and the batch.
const QUEUE_BYTES: usize = 8 << 20;

/// Where and what a stream reads.
pub(crate) struct Begin {
    pub(crate) address: PostgresAddress,
    pub(crate) names: Names,
    pub(crate) tables: Vec<StreamTable>,
    /// For each what captured it before the stream began.
    pub(crate) captured_by: Vec<Option<String>>,
    /// The snapshot behind which changes are read.
    pub(crate) after: String,
    pub(crate) notes: WaitingNotes,
    /// Where the first look has to end.
    pub(crate) settled: Option<Position>,
    /// Whether this is the pipeline's own stream, which marks the history and forgets what is acknowledged.
    pub(crate) owns: bool,
}

impl Begin {
    /// Whether copies of tables hold changes that lie behind the checkpoint: until it has passed them, they look as if they
    /// were waited for.
    fn copies_lie_ahead(&self) -> bool {
        let after = reader::position(&self.after);
        self.tables.iter().filter_map(|t| t.mark.as_ref()).any(|mark| reader::position(&mark.text) > after)
    }

    /// Starts the stream.
    pub(crate) async fn start(self) -> Result<Box<dyn ChangeStream>> {
        let session = Session::open(&self.address).await?;
        let structures = Structures::begin(&session, &self.tables).await?;
        let polling = Polling {
            address: "the change tables".into(),
            pace: PACE,
            queue_bytes: QUEUE_BYTES,
            notes: self.notes.clone(),
            settled: self.settled.clone(),
            moves_first: self.owns && self.copies_lie_ahead(),
            forgets: self.owns,
            polled: Looks { session, capturing: Capturing::default(), begin: self, structures },
        };
        Ok(polling.start())
    }
}

/// How often the catalogue is looked at where no change is captured.
const CATALOGUE_EVERY: Duration = Duration::from_secs(1);

/// The structures of the tables, as they are followed.
struct Structures {
    ids: Vec<u32>,
    catalogue: Catalogue,
    seen: Arc<catalogue::Seen>,
    followed: Vec<Followed>,
    looked: Instant,
    /// Whether a table is not as the catalogue has it, and the next look tells of that.
    is_other: bool,
}

impl Structures {
    async fn begin(session: &Session, tables: &[StreamTable]) -> Result<Self> {
        let ids: Vec<u32> = tables.iter().map(|t| t.plan.source_id as u32).collect();
        let mut catalogue = Catalogue::new(IdentityBy::Trigger);
        reader::begin(session, "").await?;
        let seen = catalogue.look(session, &ids, None).await?;
        reader::end(session).await?;
        let mut is_other = false;
        let followed = tables.iter().zip(&ids).map(|(table, id)| {
            let first = seen.get(id);
            let of = followed(table, first.map(|d| &d.table));
            is_other |= first.is_none_or(|first| of.is_another_than(first));
            Followed::new(of, table.plan.schema.clone())
        });
        let followed = followed.collect();
        Ok(Self { ids, catalogue, seen, followed, looked: Instant::now(), is_other })
    }

    /// Whether the catalogue is another one.
    async fn has_news(&mut self, session: &Session) -> Result<bool> {
        if self.is_other || self.looked.elapsed() < CATALOGUE_EVERY {
            return Ok(self.is_other);
        }
        self.looked = Instant::now();
        self.is_other = self.catalogue.is_other(session, &self.ids).await?;
        Ok(self.is_other)
    }

    /// Looks at the catalogue as the open look sees it; gives what is needed to follow.
    async fn look(&mut self, session: &Session) -> Result<(&mut [Followed], &catalogue::Seen)> {
        self.seen = self.catalogue.look(session, &self.ids, Some(&self.seen)).await?;
        Ok((&mut self.followed, &self.seen))
    }
}

/// Whether the tables are captured as they were when the stream began.
#[derive(Default)]
struct Capturing {
    asked: Option<Instant>,
    at: Option<DateTime<Utc>>,
}

impl Capturing {
    async fn asked(
        &mut self,
        session: &Session,
        names: &Names,
        tables: &[StreamTable],
        captured_by: &[Option<String>],
    ) -> Result<Option<DateTime<Utc>>> {
        if self.asked.is_some_and(|asked| asked.elapsed() < CATALOGUE_EVERY) {
            return Ok(self.at);
        }
        let asked_at = Utc::now();
        self.asked = Some(Instant::now());
        let ids: Vec<u64> = tables.iter().map(|t| t.plan.source_id).collect();
        let now = capture::captured_by(session, names, &ids).await?;
        let mut known =
            captured_by.iter().zip(&now).filter_map(|(before, now)| Some((before.as_ref()?, now)));
        if known.all(|(before, now)| now.as_ref().is_some_and(|now| capture::is_unbroken(before, now))) {
            self.at = Some(asked_at);
        }
        Ok(self.at)
    }
}

struct Looks {
    session: Session,
    capturing: Capturing,
    begin: Begin,
    structures: Structures,
}

#[async_trait]
impl Polled for Looks {
    async fn has_news(&mut self) -> Result<bool> {
        if self.structures.has_news(&self.session).await? {
            return Ok(true);
        }
        let Begin { names, tables, after, .. } = &self.begin;
        reader::has_news(&self.session, names, tables, after).await
    }

    async fn look(&mut self, wanted: Wanted<'_>, sender: &SegmentSender) -> Result<Seen> {
        let seen = reader::begin(&self.session, "").await?;
        // What an earlier look has seen is seen by every later one.
        let now = wanted.until.map_or(seen, |until| until.to_string());
        let wrong = || AdapterError::Protocol {
            address: "the source".into(),
            what: format!("{now:?} is not a snapshot"),
        };
        let position = reader::position(&now).ok_or_else(wrong)?;
        let (to_us, mut reads) = mpsc::channel::<Read>(2);
        let structures = Some(self.structures.look(&self.session).await?);
        let reading = async {
            let Begin { names, tables, after, .. } = &self.begin;
            let stretch = Stretch { after, now: &position, within: wanted.until.is_some() };
            let found = reader::read(&self.session, names, tables, &stretch, structures, &to_us).await;
            drop(to_us);
            found
        };
        // Whoever looks on sees it from the rows; that there are none any more has to be told.
        let owns = self.begin.owns;
        let is_told = |change: &SchemaChange| owns || change.step.is_none();
        // The last block waits, so that it can end the group.
        let sending = async {
            let mut last: Option<ChangeBlock> = None;
            while let Some(read) = reads.recv().await {
                let (before, change) = match read {
                    Read::Block(block) => (last.replace(block), None),
                    Read::Change(change) => (last.take(), Some(change)),
                };
                let blocks = before.map(|block| Segment { blocks: vec![block], ..Segment::default() });
                let change = change.filter(is_told);
                let change = change.map(|change| Segment { schema: vec![change], ..Segment::default() });
                for part in blocks.into_iter().chain(change) {
                    if !sender.send(Segment { in_transaction: true, ..part }).await {
                        return (last, false);
                    }
                }
            }
            (last, true)
        };
        let (found, (last, listening)) = tokio::join!(reading, sending);
        let found = found?;
        reader::end(&self.session).await?;
        if wanted.until.is_none() {
            self.structures.is_other = false;
        }
        let Some(found) = found.filter(|_| listening) else { return Ok(Seen::Unheard) };
        // Asked after reading: whatever was committed before the look's snapshot was captured then.
        if reader::is_full(&self.session, &self.begin.names).await? {
            return Err(full(&self.begin.names, &self.begin.after));
        }
        // Whoever sent a note may wait for the position too: tables that were read again come to their places at it.
        let moved = now != self.begin.after && (wanted.moves || wanted.until.is_some());
        let is_empty = found.changes == 0 && (found.structures == 0 || !owns);
        if is_empty && !moved {
            return Ok(Seen::All(Segment::default()));
        }
        let committed_at =
            if found.changes == 0 { reader::clock(&self.session).await? } else { found.newest };
        reader::durable(&self.session).await?;
        let proof = if self.begin.owns { self.anchor().await? } else { String::new() };
        let transaction = Transaction { position, proof, committed_at, found: None };
        self.begin.after = now;
        Ok(Seen::All(Segment {
            blocks: last.into_iter().collect(),
            commits: 1,
            last_commit: Some(Arc::new(transaction)),
            ..Segment::default()
        }))
    }

    async fn captured_at(&mut self) -> Result<Option<DateTime<Utc>>> {
        let Begin { names, tables, captured_by, .. } = &self.begin;
        self.capturing.asked(&self.session, names, tables, captured_by).await
    }

    async fn forget(&mut self, upto: &str) {
        let snapshot = quote_literal(upto);
        let names = &self.begin.names;
        let mut sql = format!(
            "UPDATE {} SET forgotten = {snapshot}::pg_snapshot WHERE forgotten::text <> {snapshot};",
            names.about()
        );
        let earlier = capture::earlier(&self.session, names).await.unwrap_or_default();
        for id in self.begin.tables.iter().map(|t| t.plan.source_id) {
            let before = earlier.contains(&id).then(|| names.earlier(id));
            for changes in before.into_iter().chain([names.rows(id)]) {
                sql.push_str(&format!(
                    "DELETE FROM {changes} WHERE pg_visible_in_snapshot(xid, {snapshot}::pg_snapshot);"
                ));
            }
        }
        if let Err(error) = self.session.run("forgetting acknowledged changes", &sql).await {
            tracing::debug!("acknowledged changes stay a little longer: {error}");
        }
    }
}

impl Looks {
    /// Leaves a random mark in the source before the target can know of it: a source that does not have it has
    /// another history.
    async fn anchor(&self) -> Result<String> {
        let mark = uuid::Uuid::new_v4().to_string();
        let anchors = self.begin.names.anchors();
        let sql = format!(
            "WITH made AS (INSERT INTO {anchors} (mark) VALUES ($1) RETURNING id), gone AS (DELETE FROM {anchors} WHERE id < (SELECT id FROM made) - {ANCHORS}) SELECT 1"
        );
        self.session.one("leaving a mark of the history", &sql, &[&mark]).await?;
        Ok(mark)
    }
}

/// Capturing has ended.
pub(crate) fn full(names: &Names, position: &str) -> AdapterError {
    let schema = &names.schema;
    let what =
        format!("capturing by triggers has ended: a change table in schema {schema} reached its limit");
    let keep_more = "raise change_table_limit in the project file to keep more";
    Refusal::CaptureEnded { what, keep_more, position: position.into() }.into()
}

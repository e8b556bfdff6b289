//! Loading a snapshot's chunks: several sessions, each with a COPY that goes on over many chunks and is committed
//! every so many bytes, together with a note of how many rows it brought.
//!
//! A commit here does not wait for the disk: the end of a load does, and with it everything before.

use super::create::Into;
use super::form::Form;
use super::turn::{self, Mine};
use crate::as_target::merge::{Arrays, rows_of};
use crate::as_target::state;
use crate::wire::address::PostgresAddress;
use crate::wire::connect::Session;
use crate::wire::trouble::{Refusal, Trouble, sort};
use arrow::array::RecordBatch;
use bytes::Bytes;
use futures_util::SinkExt;
use moorage_adapter::{AdapterError, Doing, Result};
use moorage_core::plan::table::TablePlan;
use moorage_core::value::column::value_at;
use std::collections::HashMap;
use std::pin::Pin;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use tokio::sync::Semaphore;
use tokio_postgres::CopyInSink;

/// A COPY is committed when it has this many bytes.
const COMMIT_BYTES: usize = 64 << 20;
/// Encoded rows are handed to the connection in pieces of about this size.
const PIECE_BYTES: usize = 128 << 10;

/// An open COPY.
struct Open {
    target: String,
    sink: Pin<Box<CopyInSink<Bytes>>>,
    form: Arc<Form>,
    rows: u64,
    bytes: usize,
}

/// A session that loads.
struct Loading {
    session: Session,
    /// The turn that it loads in.
    mine: Mine,
    open: Option<Open>,
}

/// The sessions, and where each table's rows go.
pub(crate) struct Loader {
    address: PostgresAddress,
    mine: Arc<Mutex<Option<Mine>>>,
    idle: Mutex<Vec<Loading>>,
    room: Semaphore,
    places: Mutex<HashMap<String, (Into, Arc<Form>)>>,
}

fn refused(plan: &TablePlan, refusal: &Refusal) -> AdapterError {
    AdapterError::refused(
        Doing::to("loading table", &plan.target),
        format!(
            "a row of {} is refused: {}. Change what refuses it in the target, leave such rows out with `where` in a rule, or mend the row in the source",
            plan.table(),
            refusal.reason
        ),
    )
}

impl Loader {
    pub(crate) fn new(address: &PostgresAddress, connections: usize, mine: Arc<Mutex<Option<Mine>>>) -> Self {
        Self {
            address: address.clone(),
            mine,
            idle: Mutex::default(),
            room: Semaphore::new(connections.max(1)),
            places: Mutex::default(),
        }
    }

    fn idle(&self) -> MutexGuard<'_, Vec<Loading>> {
        self.idle.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn places(&self) -> MutexGuard<'_, HashMap<String, (Into, Arc<Form>)>> {
        self.places.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Notes where a table's rows go from now on; what was being loaded for it is undone.
    pub(crate) fn place(&self, target: &str, into: Into, form: Form) {
        self.idle().retain(|l| l.open.as_ref().is_none_or(|o| o.target != target));
        self.places().insert(target.into(), (into, Arc::new(form)));
    }

    /// Forgets it.
    pub(crate) fn forget(&self, target: &str) {
        self.idle().retain(|l| l.open.as_ref().is_none_or(|o| o.target != target));
        self.places().remove(target);
    }

    /// Where a table's rows go.
    pub(crate) fn where_to(&self, target: &str) -> Option<Into> {
        self.places().get(target).map(|(into, _)| into.clone())
    }

    /// A session: best one whose COPY is for this table, then one without, then a new one.
    async fn take(&self, target: &str) -> Result<Loading> {
        let mine = self.mine.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let mine = mine.ok_or_else(turn::without_turn)?;
        let found = {
            let mut idle = self.idle();
            // What a broken-off load of an earlier turn gave back.
            idle.retain(|l| l.mine.token == mine.token);
            let same = idle.iter().position(|l| l.open.as_ref().is_some_and(|o| o.target == target));
            let free = idle.iter().position(|l| l.open.is_none());
            same.or(free).map(|at| idle.swap_remove(at))
        };
        if let Some(loading) = found {
            return Ok(loading);
        }
        let session = Session::open(&self.address).await?;
        session.run("setting up a loading session", "SET synchronous_commit = off; SET jit = off").await?;
        Ok(Loading { session, mine, open: None })
    }

    /// Adds rows.
    pub(crate) async fn load(&self, plan: &TablePlan, rows: &RecordBatch) -> Result<()> {
        let place = self.places().get(&plan.target).cloned();
        let (into, form) = place.ok_or_else(|| {
            AdapterError::refused(Doing::to("loading table", &plan.target), "it was not made for loading")
        })?;
        let _room = self.room.acquire().await.map_err(|e| AdapterError::refused("loading", e))?;
        let mut loading = self.take(&plan.target).await?;
        let done = match into {
            Into::Kept => loading.upsert(&form, plan, rows).await,
            Into::Table | Into::Beside => loading.copy(&form, plan, rows).await,
        };
        // A session that failed is closed, which undoes what was not committed.
        done.map_err(|trouble| match trouble {
            Trouble::Failed(error) => error,
            Trouble::Refused(refusal) => refused(plan, &refusal),
        })?;
        self.idle().push(loading);
        Ok(())
    }

    /// Commits all that was loaded of a table.
    pub(crate) async fn finish(&self, plan: &TablePlan) -> Result<()> {
        loop {
            let next = {
                let mut idle = self.idle();
                let at = idle.iter().position(|l| l.open.as_ref().is_some_and(|o| o.target == plan.target));
                at.map(|at| idle.swap_remove(at))
            };
            let Some(mut loading) = next else { return Ok(()) };
            loading.commit().await.map_err(|trouble| match trouble {
                Trouble::Failed(error) => error,
                Trouble::Refused(refusal) => refused(plan, &refusal),
            })?;
            self.idle().push(loading);
        }
    }

    /// Lets go of sessions when nothing is being loaded.
    pub(crate) fn rest(&self) {
        self.idle().retain(|l| l.open.is_some());
    }

    /// Lets go of all sessions, and so of what they have not committed.
    pub(crate) fn rest_all(&self) {
        self.idle().clear();
    }
}

/// Sends what belongs to a COPY, a large value in parts: the client library copies each once more, until it is sent.
async fn send(
    sink: &mut Pin<Box<CopyInSink<Bytes>>>,
    piece: Vec<u8>,
) -> std::result::Result<(), tokio_postgres::Error> {
    let mut piece = Bytes::from(piece);
    while !piece.is_empty() {
        let part = piece.split_to(piece.len().min(2 * PIECE_BYTES));
        sink.send(part).await?;
    }
    Ok(())
}

impl Loading {
    async fn begin(&self) -> Result<()> {
        self.session.run("opening a chunk", "BEGIN").await?;
        turn::fence(&self.session, &self.mine).await
    }

    async fn copy(
        &mut self,
        form: &Arc<Form>,
        plan: &TablePlan,
        rows: &RecordBatch,
    ) -> std::result::Result<(), Trouble> {
        let doing = Doing::to("loading table", &plan.target);
        let mut out = Vec::with_capacity(PIECE_BYTES + (16 << 10));
        if self.open.is_none() {
            self.begin().await?;
            let sink = self.session.client().copy_in(&form.copy()).await;
            let sink = sink.map_err(|e| sort(self.session.address(), &doing, &e))?;
            form.encoder.begin(&mut out);
            self.open = Some(Open {
                target: plan.target.clone(),
                sink: Box::pin(sink),
                form: form.clone(),
                rows: 0,
                bytes: 0,
            });
        }
        let Some(open) = &mut self.open else { return Ok(()) };
        for row in 0..rows.num_rows() {
            // Beside a table columns that are added for what it keeps are left out.
            let columns = rows.columns().iter().take(form.columns.len());
            let values = columns.map(|column| value_at(column.as_ref(), row));
            form.encoder.row(&mut out, values)?;
            if out.len() >= PIECE_BYTES {
                open.bytes += out.len();
                let piece = std::mem::replace(&mut out, Vec::with_capacity(PIECE_BYTES + (16 << 10)));
                let sent = send(&mut open.sink, piece).await;
                sent.map_err(|e| sort(self.session.address(), &doing, &e))?;
            }
        }
        open.bytes += out.len();
        open.rows += rows.num_rows() as u64;
        let sent = send(&mut open.sink, out).await;
        sent.map_err(|e| sort(self.session.address(), &doing, &e))?;
        if open.bytes >= COMMIT_BYTES {
            self.commit().await?;
        }
        Ok(())
    }

    async fn commit(&mut self) -> std::result::Result<(), Trouble> {
        let Some(mut open) = self.open.take() else { return Ok(()) };
        let doing = Doing::to("loading table", &open.target);
        let mut end = Vec::new();
        open.form.encoder.end(&mut end);
        let ended = async {
            open.sink.send(Bytes::from(end)).await?;
            open.sink.as_mut().finish().await
        };
        ended.await.map_err(|e| sort(self.session.address(), &doing, &e))?;
        state::note_chunk(&self.session, &open.target, open.rows).await?;
        self.session.run("committing a chunk", "COMMIT").await?;
        Ok(())
    }

    /// Rows beside others that are kept: those with the same key are overwritten.
    async fn upsert(
        &mut self,
        form: &Arc<Form>,
        plan: &TablePlan,
        rows: &RecordBatch,
    ) -> std::result::Result<(), Trouble> {
        self.begin().await?;
        let all = form.all();
        let arrays = Arrays::of_columns(&all, rows.num_rows(), |column, row| rows_of(rows, column, row));
        let sql = if form.key.is_empty() { form.insert() } else { form.upsert() };
        let doing = Doing::to("loading table", &plan.target);
        arrays.execute(&self.session, &doing, &sql, &[]).await?;
        state::note_chunk(&self.session, &plan.target, rows.num_rows() as u64).await?;
        self.session.run("committing a chunk", "COMMIT").await?;
        Ok(())
    }
}

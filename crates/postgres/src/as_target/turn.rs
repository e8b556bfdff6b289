//! The turn to write: a lock that lives as long as the writing session, and a random text that fences everything else.
//!
//! 1. The writing session holds an advisory lock of the pipeline (PostgreSQL manual, section 13.3.5). The server lets
//!    go of it when the session ends, and a session that waits in COMMIT has not ended: who gets the lock knows that
//!    no earlier writing session can still commit.
//! 2. The pipeline's row in `writers` has a new random text for each turn. Every writing transaction, of whichever
//!    session, begins by finding its own text there and holds the row against changes ([`fence`]). Taking the turn
//!    changes the row, so it waits for transactions that began before, and all that begin later fail.

use crate::as_target::state;
use crate::wire::address::PostgresAddress;
use crate::wire::connect::Session;
use crate::wire::waits::naming_waits;
use moorage_adapter::{AdapterError, Doing, Events, Holder, Result, TakeFrom, Turn};
use std::time::{Duration, Instant};

/// A turn that was taken.
#[derive(Clone, Debug)]
pub(crate) struct Mine {
    pub(crate) pipeline: String,
    /// The random text.
    pub(crate) token: String,
    pub(crate) holder: Holder,
}

const KEY: &str = "hashtextextended('moorage turn of ' || $1, 0)";

/// How long ended sessions may take to go away.
const PATIENCE: Duration = Duration::from_secs(10);

/// Gets the lock for a session that is to write; if somebody else has it, who.
async fn lock(session: &Session, pipeline: &str, from: TakeFrom<'_>) -> Result<Option<Holder>> {
    let begun = Instant::now();
    let sql = format!("SELECT pg_try_advisory_lock({KEY})");
    loop {
        if session.one("taking the turn to write", &sql, &[&pipeline]).await?.get(0) {
            return Ok(None);
        }
        let held = row(session, pipeline).await?.map(|(holder, _)| holder);
        match (&held, from) {
            (Some(held), TakeFrom::Gone(gone)) if held.id == gone.id && begun.elapsed() < PATIENCE => {
                end_session(session, pipeline).await?;
            }
            (Some(held), _) => return Ok(Some(held.clone())),
            // It has the lock and has not said who it is, or has just taken its name away.
            (None, _) if begun.elapsed() < PATIENCE => {}
            (None, _) => return Err(unknown(session, pipeline).await?),
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

const LOCKED_BY: &str = "
FROM pg_locks l JOIN pg_database d ON d.oid = l.database AND d.datname = current_database(),
     (SELECT hashtextextended('moorage turn of ' || $1, 0) AS key) k
WHERE l.locktype = 'advisory' AND l.granted AND l.objsubid = 1
  AND (l.classid::bigint << 32 | l.objid::bigint) = k.key AND l.pid <> pg_backend_pid()";

/// Ends the session that has the lock. What it waits to commit is committed or undone before it lets go.
async fn end_session(session: &Session, pipeline: &str) -> Result<()> {
    let sql = format!("SELECT count(pg_terminate_backend(l.pid)) {LOCKED_BY}");
    session.one("ending what is left of an earlier writer", &sql, &[&pipeline]).await.map(|_| ())
}

async fn unknown(session: &Session, pipeline: &str) -> Result<AdapterError> {
    let sql = format!("SELECT l.pid {LOCKED_BY}");
    let pid = session.maybe("looking who has the turn", &sql, &[&pipeline]).await?;
    let pid = pid.map_or("unknown".into(), |r| r.get::<_, i32>(0).to_string());
    Ok(AdapterError::Busy {
        doing: Doing::to("taking the turn to write pipeline", pipeline),
        reason: format!(
            "session {pid} of the target has it and does not say for whom. If it is a leftover, end it in the target: SELECT pg_terminate_backend({pid})"
        ),
    })
}

async fn row(session: &Session, pipeline: &str) -> Result<Option<(Holder, String)>> {
    if !state::has_writers(session).await? {
        return Ok(None);
    }
    let sql = "SELECT holder, turn FROM moorage_state.writers WHERE pipeline = $1";
    let row = session.maybe("looking who has the turn", sql, &[&pipeline]).await?;
    row.map(|r| Ok((state::from_json("a writer", r.get(0))?, r.get(1)))).transpose()
}

/// Who has the turn, if their session is there.
pub(crate) async fn holder(session: &Session, pipeline: &str) -> Result<Option<Holder>> {
    let Some((holder, _)) = row(session, pipeline).await? else { return Ok(None) };
    let sql = format!("SELECT l.pid {LOCKED_BY}");
    let locked = session.maybe("looking who has the turn", &sql, &[&pipeline]).await?;
    Ok(locked.map(|_| holder))
}

/// Takes the turn for a session: the lock, then the row.
pub(crate) async fn take(
    address: &PostgresAddress,
    session: &Session,
    pipeline: &str,
    holder: &Holder,
    from: TakeFrom<'_>,
    events: &Events,
) -> Result<std::result::Result<Mine, Holder>> {
    if let Some(held) = lock(session, pipeline, from).await? {
        return Ok(Err(held));
    }
    let token = format!("{}-{}", holder.id, session.pid());
    let json = state::to_json(holder)?;
    // The turn itself need not outlive the server, and a standby that does not answer must not keep it from being
    // taken: what earlier writers committed is waited for with the first commit of this one.
    session
        .run(
            "taking the turn to write",
            "BEGIN; SET LOCAL synchronous_commit = local; SET LOCAL lock_timeout = 0",
        )
        .await?;
    let sql = "INSERT INTO moorage_state.writers AS w (pipeline, turn, holder) VALUES ($1, $2, $3)
               ON CONFLICT (pipeline) DO UPDATE SET turn = excluded.turn, holder = excluded.holder, taken_at = now()";
    let doing = "taking the turn to write";
    let written = async { session.execute(doing, sql, &[&pipeline, &token, &json]).await };
    let ended = end_blockers(address, session.pid());
    let written = naming_waits(address, session.pid(), doing, events, written);
    tokio::select! {
        written = written => written?,
        never = ended => match never {},
    };
    session.run(doing, "COMMIT").await?;
    Ok(Ok(Mine { pipeline: pipeline.into(), token, holder: holder.clone() }))
}

/// Ends sessions of Moorage that hold the row. The lock was ours by then, so whoever they belong to has lost its turn.
async fn end_blockers(address: &PostgresAddress, pid: i32) -> std::convert::Infallible {
    let sql = "SELECT count(pg_terminate_backend(a.pid)) FROM pg_stat_activity a
               WHERE a.pid = ANY (pg_blocking_pids($1)) AND a.application_name = 'moorage' AND a.usename = current_user";
    let mut observer: Option<Session> = None;
    loop {
        tokio::time::sleep(Duration::from_millis(300)).await;
        if observer.is_none() {
            observer = Session::open(address).await.ok();
        }
        if let Some(session) = &observer
            && session.one("ending what is left of an earlier writer", sql, &[&pid]).await.is_err()
        {
            observer = None;
        }
    }
}

/// Gets the lock again for a new session of the same turn, if nobody has come in between.
pub(crate) async fn retake(session: &Session, mine: &Mine) -> Result<()> {
    let from = TakeFrom::Gone(&mine.holder);
    if let Some(held) = lock(session, &mine.pipeline, from).await? {
        return Err(AdapterError::turn_lost(&mine.pipeline, Some(&held)));
    }
    match row(session, &mine.pipeline).await? {
        Some((_, token)) if token == mine.token => Ok(()),
        other => Err(AdapterError::turn_lost(&mine.pipeline, other.as_ref().map(|(holder, _)| holder))),
    }
}

/// To be the first statement of every writing transaction: whether the turn is still ours, and stays so until the
/// transaction ends.
pub(crate) async fn fence(session: &Session, mine: &Mine) -> Result<()> {
    let sql = "SELECT turn FROM moorage_state.writers WHERE pipeline = $1 FOR SHARE";
    let rows = session.cached("looking whose turn it is", sql, &[&mine.pipeline]).await?;
    match rows.first().map(|r| r.get::<_, &str>(0)) {
        Some(token) if token == mine.token => Ok(()),
        _ => {
            let held = row(session, &mine.pipeline).await?.map(|(holder, _)| holder);
            Err(AdapterError::turn_lost(&mine.pipeline, held.as_ref()))
        }
    }
}

/// Gives the turn back, if it is still ours.
pub(crate) async fn end(session: &Session, mine: &Mine) -> Result<()> {
    if !state::has_writers(session).await? {
        return Ok(());
    }
    let doing = "giving the turn back";
    session.run(doing, "BEGIN; SET LOCAL synchronous_commit = local").await?;
    let sql = "DELETE FROM moorage_state.writers WHERE pipeline = $1 AND turn = $2";
    session.execute(doing, sql, &[&mine.pipeline, &mine.token]).await?;
    session.run(doing, "COMMIT").await
}

/// What `take` found, as the engine is told.
pub(crate) fn told(taken: &std::result::Result<Mine, Holder>) -> Turn {
    match taken {
        Ok(_) => Turn::Taken,
        Err(held) => Turn::Held(held.clone()),
    }
}

/// A writing call came before [`Target::take_turn`].
pub(crate) fn without_turn() -> AdapterError {
    AdapterError::refused("writing to the target", "the turn to write was not taken")
}

//! Naming what a session waits for, while it waits.

use crate::address::PostgresAddress;
use crate::connect::Session;
use moorage_adapter::{Event, Events, Result};
use std::future::Future;
use std::time::{Duration, Instant};

/// How long something may take before what it waits for is looked up, and how often again.
const PATIENCE: Duration = Duration::from_secs(1);

/// Open transactions, prepared ones included, oldest first; `$1` limits them to those that block a
/// session, 0 means all that have a number.
const BLOCKERS: &str = "
SELECT format('transaction of pid %s%s (%s), open since %s UTC', a.pid, coalesce(' ' || nullif(a.application_name, ''), ''),
              coalesce(a.state, 'no details without pg_monitor'), coalesce(to_char(a.xact_start AT TIME ZONE 'UTC', 'YYYY-MM-DD HH24:MI:SS'), '?'))
FROM pg_stat_activity a
WHERE a.pid <> pg_backend_pid() AND a.pid <> $1
  AND CASE WHEN $1 = 0 THEN a.backend_xid IS NOT NULL ELSE a.pid = ANY (pg_blocking_pids($1)) END
UNION ALL
SELECT format('prepared transaction %s, prepared at %s UTC', p.gid, to_char(p.prepared AT TIME ZONE 'UTC', 'YYYY-MM-DD HH24:MI:SS'))
FROM pg_prepared_xacts p WHERE $1 = 0 OR 0 = ANY (pg_blocking_pids($1))
LIMIT 4";

/// The transactions that block a session, or with 0 all open ones that have written, as people read them.
pub(crate) async fn blockers(session: &Session, pid: i32) -> Result<Vec<String>> {
    let rows = session.rows("looking up open transactions", BLOCKERS, &[&pid]).await?;
    Ok(rows.iter().map(|r| r.get(0)).collect())
}

/// Runs `work`, done by the session `pid`; while it takes long, says what it waits for.
pub(crate) async fn naming_waits<T>(
    address: &PostgresAddress,
    pid: i32,
    doing: &str,
    events: &Events,
    work: impl Future<Output = Result<T>>,
) -> Result<T> {
    let begun = Instant::now();
    let mut observer: Option<Session> = None;
    tokio::pin!(work);
    loop {
        tokio::select! {
            done = &mut work => return done,
            () = tokio::time::sleep(PATIENCE) => {}
        }
        if observer.is_none() {
            observer = Session::open(address).await.ok();
        }
        let found = match &observer {
            Some(session) => blockers(session, pid).await.unwrap_or_default(),
            None => Vec::new(),
        };
        let of = if found.is_empty() { "the server".into() } else { found.join("; ") };
        let waited_ms = begun.elapsed().as_millis() as u64;
        events(Event::Waiting { what: format!("{doing}: waits for {of}"), waited_ms });
    }
}

//! Naming what a session waits for, while it waits.

use crate::wire::address::PostgresAddress;
use crate::wire::connect::Session;
use moorage_adapter::{Doing, Event, Events, Result};
use std::future::Future;
use std::time::{Duration, Instant};

/// How long something may take before what it waits for is looked up, and how often again.
const PATIENCE: Duration = Duration::from_secs(1);

/// Open transactions, prepared ones included; `{who}` says which ones by their process, `{prepared}` by their number. Those
/// that wait for others come last: to end them helps only once.
fn open_transactions(who: &str, prepared: &str) -> String {
    format!(
        "SELECT found FROM (
           SELECT format('transaction of pid %s%s (%s%s), open since %s UTC', a.pid, coalesce(' ' || nullif(a.application_name, ''), ''),
                  coalesce(a.state, 'no details without pg_monitor'), CASE WHEN a.wait_event_type = 'Lock' THEN ', waits for another' END,
                  coalesce(to_char(a.xact_start AT TIME ZONE 'UTC', 'YYYY-MM-DD HH24:MI:SS'), '?')) AS found,
                  coalesce(a.wait_event_type = 'Lock', false) AS waits, a.xact_start AS since
           FROM pg_stat_activity a WHERE a.pid <> pg_backend_pid() AND {who}
           UNION ALL
           SELECT format('prepared transaction %s, prepared at %s UTC', p.gid, to_char(p.prepared AT TIME ZONE 'UTC', 'YYYY-MM-DD HH24:MI:SS')),
                  false, p.prepared
           FROM pg_prepared_xacts p WHERE {prepared}) open ORDER BY waits, since LIMIT 4"
    )
}

/// The transactions that block a session, and those that block these, or with 0 all open ones that have written, as people read
/// them.
pub(crate) async fn blockers(session: &Session, pid: i32) -> Result<Vec<String>> {
    // Prepared transactions have no process: they read as 0 (PostgreSQL manual, section 9.26, pg_blocking_pids).
    let sql = format!(
        "WITH RECURSIVE blocking (pid) AS (SELECT unnest(pg_blocking_pids($1)) WHERE $1 <> 0
           UNION SELECT unnest(pg_blocking_pids(b.pid)) FROM blocking b WHERE b.pid <> 0)
         {}",
        open_transactions(
            "a.pid <> $1 AND CASE WHEN $1 = 0 THEN a.backend_xid IS NOT NULL ELSE a.pid IN (SELECT pid FROM blocking) END",
            "$1 = 0 OR 0 IN (SELECT pid FROM blocking)",
        )
    );
    let rows = session.rows("looking up open transactions", &sql, &[&pid]).await?;
    Ok(rows.iter().map(|r| r.get(0)).collect())
}

/// The transactions that hold a lock on a table, likewise.
pub(crate) async fn holders(session: &Session, table: u64) -> Result<Vec<String>> {
    let held = "SELECT %s FROM pg_locks l WHERE l.relation = $1 AND l.granted AND l.database = (SELECT oid FROM pg_database WHERE datname = current_database())";
    // A prepared transaction has no process; it locks its own number too (PostgreSQL manual, section 54.12).
    let sql = open_transactions(
        &format!("a.pid IN ({})", held.replace("%s", "l.pid")),
        &format!(
            "p.transaction IN (SELECT x.transactionid FROM pg_locks x WHERE x.locktype = 'transactionid' AND x.pid IS NULL AND x.virtualtransaction IN ({}))",
            held.replace("%s", "l.virtualtransaction")
        ),
    );
    let rows = session.rows("looking up who has locked the table", &sql, &[&(table as u32)]).await?;
    Ok(rows.iter().map(|r| r.get(0)).collect())
}

/// Runs `work`, done by the session `pid`; while it takes long, says what it waits for.
pub(crate) async fn naming_waits<T>(
    address: &PostgresAddress,
    pid: i32,
    doing: impl Into<Doing>,
    events: &Events,
    work: impl Future<Output = Result<T>>,
) -> Result<T> {
    let doing = doing.into();
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

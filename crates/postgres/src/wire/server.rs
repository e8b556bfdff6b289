//! Which server a session is at, its clock and the end of its log.

use super::connect::Session;
use super::lsn;
use moorage_adapter::{AdapterError, Head, Result};
use moorage_core::Position;
use moorage_core::model::described::SourceIdentity;
use moorage_core::watch::lag::ClockSkew;

/// Which system and database a session is in, whatever it is used for.
pub(crate) async fn place(session: &Session) -> Result<SourceIdentity> {
    let sql = "SELECT (SELECT system_identifier::text FROM pg_control_system()),
                      (SELECT 'number ' || oid FROM pg_database WHERE datname = current_database())";
    let row = session.one("reading the server's identity", sql, &[]).await?;
    let (system, database) = (row.get(0), row.get(1));
    Ok(SourceIdentity { kind: "postgres".into(), system, database, timeline: String::new() })
}

pub(crate) async fn identity(session: &Session) -> Result<SourceIdentity> {
    let sql = "SELECT (SELECT system_identifier::text FROM pg_control_system()),
                      (SELECT 'number ' || oid FROM pg_database WHERE datname = current_database()),
                      pg_is_in_recovery()";
    let row = session.one("reading the server's identity", sql, &[]).await?;
    if row.get::<_, bool>(2) {
        return Err(AdapterError::refused(
            "the source is a standby",
            "snapshot marks taken there are wrong, so Moorage reads from primaries only. Point the project file at the primary",
        ));
    }
    // The first eight digits of a log file's name are the timeline that is being written.
    let sql =
        "SELECT ('x' || substr(pg_walfile_name(pg_current_wal_insert_lsn()), 1, 8))::bit(32)::int::text";
    let timeline = session.one("reading the timeline", sql, &[]).await?.get(0);
    Ok(SourceIdentity { kind: "postgres".into(), system: row.get(0), database: row.get(1), timeline })
}

pub(crate) async fn head(session: &Session) -> Result<Head> {
    let asked = chrono::Utc::now();
    let sql =
        "SELECT pg_current_wal_insert_lsn()::text, (extract(epoch FROM clock_timestamp()) * 1000000)::bigint";
    let row = session.one("reading the end of the log", sql, &[]).await?;
    let clock = chrono::DateTime::from_timestamp_micros(row.get(1)).unwrap_or(asked);
    let skew = ClockSkew::measure(asked, clock, chrono::Utc::now());
    Ok(Head {
        position: position(row.get(0))?,
        skew,
        holds_log_back: true,
        kept_bytes: None,
        limit_bytes: None,
    })
}

pub(crate) fn position(text: &str) -> Result<Position> {
    lsn::parse(text).map(lsn::position).ok_or_else(|| AdapterError::Protocol {
        address: "the source".into(),
        what: format!("{text:?} is not a log position"),
    })
}

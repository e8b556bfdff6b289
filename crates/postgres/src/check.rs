//! What `check` looks at in a source.

use crate::address::PostgresAddress;
use crate::connect::Session;
use moorage_adapter::{CapturePlan, Result};
use moorage_core::finding::Finding;
use moorage_core::sql::quote_ident;

/// Looks at everything that capturing needs. Reading rights suffice.
pub(crate) async fn inspect(
    address: &PostgresAddress,
    session: &Session,
    plan: &CapturePlan,
) -> Result<Vec<Finding>> {
    let mut findings = vec![server(address, session).await?];
    findings.push(log_level(session).await?);
    findings.push(replication_right(address, session).await?);
    findings.extend(slots(session, plan).await?);
    findings.push(publishing_right(address, session, plan).await?);
    Ok(findings)
}

async fn server(address: &PostgresAddress, session: &Session) -> Result<Finding> {
    let sql = "SELECT current_setting('server_version_num')::int, current_setting('server_version'), pg_is_in_recovery(), current_setting('server_encoding')";
    let row = session.one("reading the server's version", sql, &[]).await?;
    let (number, version): (i32, String) = (row.get(0), row.get(1));
    let found = format!("PostgreSQL {version} at {}", address.text());
    if row.get(2) {
        return Ok(Finding::problem(
            "connection",
            found + ", a standby",
            "snapshot marks taken on a standby are wrong",
            "point the project file at the primary",
        ));
    }
    if number < 140_000 {
        return Ok(Finding::problem(
            "connection",
            found,
            "versions 14 and later are supported",
            "upgrade the server",
        ));
    }
    if row.get::<_, String>(3) == "SQL_ASCII" {
        return Ok(Finding::note(
            "connection",
            found,
            "the database's encoding is SQL_ASCII: text that is not valid UTF-8 stops the run",
            "make sure that all text is UTF-8",
        ));
    }
    Ok(Finding::ok("connection", found))
}

async fn log_level(session: &Session) -> Result<Finding> {
    let sql = "SELECT s.setting, s.pending_restart OR coalesce((SELECT f.setting FROM pg_file_settings f WHERE f.name = 'wal_level' ORDER BY seqno DESC LIMIT 1) = 'logical', false)
               FROM pg_settings s WHERE s.name = 'wal_level'";
    let plain = "SELECT setting, pending_restart FROM pg_settings WHERE name = 'wal_level'";
    // The settings file itself is for superusers; without it, only what was reloaded is seen.
    let row = match session.client().query_one(sql, &[]).await {
        Ok(row) => row,
        Err(_) => session.one("reading wal_level", plain, &[]).await?,
    };
    let (level, set): (String, bool) = (row.get(0), row.get(1));
    let why = "without it the log does not carry changes as rows";
    Ok(match (level.as_str(), set) {
        ("logical", _) => Finding::ok("log level", "wal_level = logical"),
        (_, true) => Finding::problem(
            "log level",
            format!("wal_level = {level}; a new value is set but not yet in force"),
            why,
            "restart the server",
        ),
        (_, false) => Finding::problem(
            "log level",
            format!("wal_level = {level}"),
            why,
            "ALTER SYSTEM SET wal_level = logical;  then restart the server",
        ),
    })
}

async fn replication_right(address: &PostgresAddress, session: &Session) -> Result<Finding> {
    let sql = "SELECT rolreplication OR rolsuper FROM pg_roles WHERE rolname = current_user";
    let may: bool = session.one("reading the user's rights", sql, &[]).await?.get(0);
    Ok(if may {
        Finding::note(
            "replication right",
            format!("user {} may replicate", address.user),
            "with it the user can stream every published table of the server, also those it may not read",
            "",
        )
    } else {
        Finding::problem(
            "replication right",
            format!("user {} may not replicate", address.user),
            "it is needed to make a slot and to follow changes; a copy with --snapshot-only works without",
            format!("ALTER ROLE {} REPLICATION;", quote_ident(&address.user)),
        )
    })
}

async fn slots(session: &Session, plan: &CapturePlan) -> Result<Vec<Finding>> {
    let sql = "SELECT current_setting('max_replication_slots')::bigint, (SELECT count(*) FROM pg_replication_slots),
                      current_setting('max_wal_senders')::bigint, (SELECT count(*) FROM pg_stat_replication)";
    let row = session.one("counting slots", sql, &[]).await?;
    let counts: [i64; 4] = [row.get(0), row.get(1), row.get(2), row.get(3)];
    let sql = "SELECT active_pid, wal_status, pg_size_pretty(pg_current_wal_lsn() - restart_lsn) FROM pg_replication_slots WHERE slot_name = $1";
    let own = session.maybe("looking for the slot", sql, &[&plan.slot]).await?;
    let mut findings = Vec::new();
    let free = |used: i64, all: i64| format!("{used} of {all} in use");
    if own.is_none() && counts[1] >= counts[0] {
        findings.push(Finding::problem(
            "slots",
            free(counts[1], counts[0]),
            "a slot is needed",
            "ALTER SYSTEM SET max_replication_slots = …;  then restart the server",
        ));
    } else {
        findings.push(Finding::ok("slots", free(counts[1], counts[0])));
    }
    if counts[3] >= counts[2] {
        findings.push(Finding::problem(
            "senders",
            free(counts[3], counts[2]),
            "a sender is needed to stream",
            "ALTER SYSTEM SET max_wal_senders = …;  then restart the server",
        ));
    }
    if let Some(row) = own {
        let kept: Option<String> = row.get(2);
        let state = row
            .get::<_, Option<i32>>(0)
            .map_or("idle".to_string(), |pid| format!("in use by server process {pid}"));
        let found = format!(
            "{} is there, {state}, keeps {} of log",
            plan.slot,
            kept.unwrap_or_else(|| "none".into())
        );
        findings.push(match row.get::<_, Option<String>>(1).as_deref() {
            Some("lost") => Finding::problem(
                "slot",
                found,
                "it was invalidated: changes are gone",
                "moorage resnapshot --all",
            ),
            Some("unreserved") => Finding::note(
                "slot",
                found,
                "it will be invalidated soon, because it has fallen far behind",
                "run moorage now, or raise max_slot_wal_keep_size",
            ),
            _ => Finding::ok("slot", found),
        });
    }
    Ok(findings)
}

async fn publishing_right(
    address: &PostgresAddress,
    session: &Session,
    plan: &CapturePlan,
) -> Result<Finding> {
    let sql = "SELECT has_database_privilege(current_database(), 'CREATE'), EXISTS (SELECT FROM pg_publication WHERE pubname = $1), current_database()::text";
    let row = session.one("reading the user's rights", sql, &[&plan.publication]).await?;
    let database: String = row.get(2);
    Ok(match (row.get(1), row.get(0)) {
        (true, _) => Finding::ok("publication", format!("{} is there", plan.publication)),
        (false, true) => Finding::ok("publication", format!("{} will be made", plan.publication)),
        (false, false) => Finding::problem(
            "publication",
            format!("user {} may not make publications", address.user),
            "a publication says which tables the log's changes are sent of",
            format!(
                "GRANT CREATE ON DATABASE {} TO {};  the user must also own the tables. Or let an administrator make the publication and name it in the project file",
                quote_ident(&database),
                quote_ident(&address.user)
            ),
        ),
    })
}

//! The server itself: version, settings, slots, clock.

use crate::as_source::catalog::IdentityBy;
use crate::as_source::check::at::{Check, setting};
use crate::as_source::structure::event;
use crate::wire::error::words;
use crate::wire::server;
use crate::wire::waits::blockers;
use moorage_adapter::Result;
use moorage_core::model::finding::{End, Finding, Fix};
use moorage_core::model::sql::{quote_ident, quote_literal};
use std::collections::HashMap;

/// The oldest version whose log can be read as it is here.
const OLDEST: i32 = 140_000;
/// A clock that is further off makes times in `status` and `row` look odd.
const MOST_SKEW_US: u64 = 2_000_000;
/// Less than this kept for a slot is soon used up by one bulk load.
const LEAST_KEPT_MB: i64 = 1024;
/// How long making a slot may wait before that is a finding.
const SLOT_PATIENCE_MS: u32 = 3000;

fn ok(check: &'static str, found: impl Into<String>) -> Finding {
    Finding::ok(End::Source, check, found)
}

fn warning(check: &'static str, found: impl Into<String>, why: &str, fix: Fix) -> Finding {
    Finding::warning(End::Source, check, found, why, fix)
}

fn blocker(check: &'static str, found: impl Into<String>, why: &str, fix: Fix) -> Finding {
    Finding::blocker(End::Source, check, found, why, fix)
}

/// Settings by name, with whether a new value waits for a restart.
type Settings = HashMap<String, (String, bool)>;

pub(super) async fn inspect(at: &Check<'_>) -> Result<Vec<Finding>> {
    let settings = settings(at).await?;
    let mut found = vec![version(at).await?];
    found.extend(standby(at).await?);
    found.extend(encoding(at).await?);
    found.push(clock(server::head(at.session).await.map(|h| h.skew.source_ahead_us).unwrap_or(0)));
    found.extend(time_outs(&settings, at));
    if at.by == IdentityBy::Trigger {
        return Ok(found);
    }
    found.push(log_level(at, &settings));
    found.extend(waiting_for_restart(&settings));
    found.extend(slots(at, &settings).await?);
    found.push(kept(at, &settings));
    found.push(sender_time_out(at, &settings));
    found.push(structure(at).await?);
    found.extend(own_slot(at).await?);
    if level(&settings) == "logical" {
        found.extend(try_a_slot(at, &settings).await?);
    }
    Ok(found)
}

async fn settings(at: &Check<'_>) -> Result<Settings> {
    let sql = "SELECT name::text, coalesce(setting, ''), pending_restart FROM pg_settings
               WHERE name IN ('wal_level', 'max_replication_slots', 'max_wal_senders', 'max_slot_wal_keep_size', 'wal_sender_timeout',
                              'old_snapshot_threshold', 'idle_in_transaction_session_timeout', 'statement_timeout', 'lock_timeout', 'transaction_timeout')";
    let rows = at.session.rows("reading settings", sql, &[]).await?;
    let mut settings: Settings = rows.iter().map(|r| (r.get(0), (r.get(1), r.get(2)))).collect();
    // The settings file itself is for superusers; without it, only what was reloaded is seen.
    let sql = "SELECT DISTINCT ON (f.name) f.name::text FROM pg_file_settings f JOIN pg_settings s ON s.name = f.name
               WHERE s.context = 'postmaster' AND f.error IS NOT NULL ORDER BY f.name";
    if let Ok(rows) = at.session.client().query(sql, &[]).await {
        for row in rows {
            if let Some(setting) = settings.get_mut(row.get::<_, &str>(0)) {
                setting.1 = true;
            }
        }
    }
    Ok(settings)
}

fn number(settings: &Settings, name: &str) -> i64 {
    settings.get(name).and_then(|(value, _)| value.parse().ok()).unwrap_or(0)
}

fn level(settings: &Settings) -> &str {
    settings.get("wal_level").map_or("", |(value, _)| value)
}

async fn version(at: &Check<'_>) -> Result<Finding> {
    let sql = "SELECT current_setting('server_version_num')::int, current_setting('server_version')";
    let row = at.session.one("reading the server's version", sql, &[]).await?;
    let managed = at.managed.map_or(String::new(), |m| format!(", {}", m.words()));
    let version: String = row.get(1);
    let found = format!(
        "PostgreSQL {} at {}{managed}",
        version.split(' ').next().unwrap_or_default(),
        at.address.text()
    );
    Ok(judge_version(row.get(0), found))
}

fn judge_version(number: i32, found: String) -> Finding {
    if number < OLDEST {
        return blocker(
            "version",
            found,
            "versions 14 and later are supported",
            Fix::step("upgrade the server"),
        );
    }
    ok("version", found)
}

async fn standby(at: &Check<'_>) -> Result<Option<Finding>> {
    let standby: bool =
        at.session.one("asking for the server's part", "SELECT pg_is_in_recovery()", &[]).await?.get(0);
    Ok(standby.then(|| {
        blocker(
            "standby",
            "the server is a standby",
            "marks of a snapshot that is taken there are wrong",
            Fix::run(["SELECT pg_promote()"])
                .then("or leave it as it is, and point the project file at the primary"),
        )
    }))
}

async fn encoding(at: &Check<'_>) -> Result<Option<Finding>> {
    let sql = "SELECT current_setting('server_encoding')";
    let encoding: String = at.session.one("reading the encoding", sql, &[]).await?.get(0);
    Ok(match encoding.as_str() {
        "UTF8" => None,
        "SQL_ASCII" => Some(warning(
            "encoding",
            "the database's encoding is SQL_ASCII, which is none",
            "a text that is not valid UTF-8 stops the run",
            Fix::step("make sure that all text is UTF-8, or move to a database with encoding UTF8"),
        )),
        other => Some(ok("encoding", format!("{other}; the server hands texts over as UTF-8"))),
    })
}

fn clock(ahead_us: i64) -> Finding {
    let found = format!(
        "{:.1} s {} this machine's",
        ahead_us.unsigned_abs() as f64 / 1e6,
        if ahead_us < 0 { "behind" } else { "ahead of" }
    );
    if ahead_us.unsigned_abs() > MOST_SKEW_US {
        return warning(
            "clock",
            format!("the server's clock is {found}"),
            "commit times are the server's; lag is corrected for it, times that are shown are not",
            Fix::step("synchronize both clocks (NTP)"),
        );
    }
    ok("clock", format!("the server's is {found}"))
}

/// Moorage's sessions switch time-outs off for themselves; something between, such as a pool of connections,
/// can prevent that.
fn time_outs(settings: &Settings, at: &Check<'_>) -> Vec<Finding> {
    let in_force: Vec<&str> =
        ["idle_in_transaction_session_timeout", "statement_timeout", "lock_timeout", "transaction_timeout"]
            .into_iter()
            .filter(|name| number(settings, name) != 0)
            .collect();
    let mut found = vec![if in_force.is_empty() {
        ok("time_outs", "none is in force in Moorage's sessions")
    } else {
        blocker(
            "time_outs",
            format!("{} is in force in Moorage's sessions, which switch it off", in_force.join(", ")),
            "a snapshot is one long transaction and would be broken off",
            Fix::run(in_force.iter().map(|name| format!("ALTER ROLE {} SET {name} = 0", at.user())))
                .then("and connect to the server itself, not through a pool of connections"),
        )
    }];
    let threshold = settings.get("old_snapshot_threshold").map_or(-1, |(v, _)| v.parse().unwrap_or(-1));
    if threshold >= 0 {
        found.push(warning(
            "old_snapshot_threshold",
            format!("old_snapshot_threshold = {threshold} min"),
            "a snapshot that takes longer to read ends with \"snapshot too old\"",
            setting(at.managed, "old_snapshot_threshold", "-1", true),
        ));
    }
    found
}

fn log_level(at: &Check<'_>, settings: &Settings) -> Finding {
    let pending = settings.get("wal_level").is_some_and(|s| s.1);
    let why =
        "without it the log does not carry changes as rows (capture = \"trigger\" does without the log)";
    match (level(settings), pending) {
        ("logical", _) => ok("wal_level", "logical"),
        (level, true) => blocker(
            "wal_level",
            format!("{level}; a new value is set but not yet in force"),
            why,
            Fix::step("restart the server"),
        ),
        (level, false) => blocker("wal_level", level, why, setting(at.managed, "wal_level", "logical", true)),
    }
}

fn waiting_for_restart(settings: &Settings) -> Option<Finding> {
    let mut waiting: Vec<&str> = settings
        .iter()
        .filter(|(name, s)| s.1 && *name != "wal_level")
        .map(|(name, _)| name.as_str())
        .collect();
    waiting.sort_unstable();
    (!waiting.is_empty()).then(|| {
        warning(
            "pending_restart",
            format!("{} is set but not yet in force", waiting.join(", ")),
            "the server still works with the old value",
            Fix::step("restart the server"),
        )
    })
}

async fn slots(at: &Check<'_>, settings: &Settings) -> Result<Vec<Finding>> {
    let sql = "SELECT (SELECT count(*) FROM pg_replication_slots), (SELECT count(*) FROM pg_stat_replication), EXISTS (SELECT FROM pg_replication_slots WHERE slot_name = $1)";
    let row = at.session.one("counting slots", sql, &[&at.capture.slot]).await?;
    let (used, senders, own): (i64, i64, bool) = (row.get(0), row.get(1), row.get(2));
    let (all, all_senders) = (number(settings, "max_replication_slots"), number(settings, "max_wal_senders"));
    let more = |name: &str, used: i64| setting(at.managed, name, &(used + 5).to_string(), true);
    let found = format!("{used} of {all} in use");
    let slots = match (used >= all, own) {
        (false, _) => ok("slots", found),
        (true, false) => {
            blocker("slots", found, "a slot is needed to follow changes", more("max_replication_slots", used))
        }
        (true, true) => warning(
            "slots",
            found,
            "`verify` and `changes` make a temporary copy of the slot while they run",
            more("max_replication_slots", used),
        ),
    };
    let found = format!("{senders} of {all_senders} in use");
    let senders = if senders >= all_senders {
        blocker("senders", found, "a sender is needed to stream", more("max_wal_senders", senders))
    } else {
        ok("senders", found)
    };
    Ok(vec![slots, senders])
}

/// PostgreSQL manual, section 20.6.1: -1 keeps log for a slot without limit.
fn kept(at: &Check<'_>, settings: &Settings) -> Finding {
    let megabytes = settings.get("max_slot_wal_keep_size").map_or(-1, |(v, _)| v.parse().unwrap_or(-1));
    let fix = setting(at.managed, "max_slot_wal_keep_size", "20GB", false);
    match megabytes {
        -1 => warning(
            "max_slot_wal_keep_size",
            "-1: no limit",
            "while a pipeline is stopped the server keeps all its log; the disk can fill, and the server stops",
            fix.then("choose what the disk has room for; a pipeline that falls behind further has to read its tables again"),
        ),
        small if small < LEAST_KEPT_MB => warning(
            "max_slot_wal_keep_size",
            format!("{small} MB"),
            "a pipeline that falls behind by more log than that loses its slot and has to read its tables again",
            fix,
        ),
        enough => ok("max_slot_wal_keep_size", format!("{enough} MB")),
    }
}

fn sender_time_out(at: &Check<'_>, settings: &Settings) -> Finding {
    let fix = setting(at.managed, "wal_sender_timeout", "60s", false);
    match number(settings, "wal_sender_timeout") {
        0 => warning(
            "wal_sender_timeout",
            "0: never",
            "after a lost connection the server may think for hours that the slot is in use",
            fix,
        ),
        short if short < 10_000 => warning(
            "wal_sender_timeout",
            format!("{short} ms"),
            "a short pause of the network ends the stream",
            fix,
        ),
        enough => ok("wal_sender_timeout", format!("{} s", enough / 1000)),
    }
}

/// What tells of changes of structure.
async fn structure(at: &Check<'_>) -> Result<Finding> {
    let found = match event::is_there(at.session).await? {
        true => {
            "an event trigger tells of changes in their place in the log, and the catalogue is looked at every second"
        }
        false => {
            "told by looking at the catalogue every second (`moorage check --sql source --part event-trigger` tells more exactly)"
        }
    };
    Ok(ok("structure", found))
}

async fn own_slot(at: &Check<'_>) -> Result<Option<Finding>> {
    let sql = "SELECT active_pid, wal_status, pg_size_pretty(pg_current_wal_lsn() - restart_lsn) FROM pg_replication_slots WHERE slot_name = $1";
    // Where the log's end cannot be asked for (on a standby), that is a finding of its own.
    let Ok(Some(row)) = at.session.maybe("looking for the slot", sql, &[&at.capture.slot]).await else {
        return Ok(None);
    };
    let kept: Option<String> = row.get(2);
    let state = row
        .get::<_, Option<i32>>(0)
        .map_or("idle".to_string(), |pid| format!("in use by server process {pid}"));
    let kept = kept.unwrap_or_else(|| "none".into());
    let found = format!("{} is there, {state}, keeps {kept} of log", at.capture.slot);
    Ok(Some(match row.get::<_, Option<String>>(1).as_deref() {
        Some("lost") => blocker(
            "slot",
            found,
            "the server let go of it: changes are gone",
            Fix::step("moorage resnapshot --all"),
        ),
        Some("unreserved") => warning(
            "slot",
            found,
            "the server will let go of it soon, because it has fallen far behind",
            Fix::step("moorage run now, or raise max_slot_wal_keep_size"),
        ),
        _ => ok("slot", found),
    }))
}

/// Makes a temporary slot and drops it again. The server waits for every open transaction before it makes one.
async fn try_a_slot(at: &Check<'_>, settings: &Settings) -> Result<Option<Finding>> {
    let full = at.session.one("counting slots", "SELECT count(*) FROM pg_replication_slots", &[]).await?;
    if full.get::<_, i64>(0) >= number(settings, "max_replication_slots") {
        return Ok(None);
    }
    let name = format!("moorage_probe_{}", at.session.pid());
    at.session.run("limiting the time", &format!("SET statement_timeout = {SLOT_PATIENCE_MS}")).await?;
    let sql = format!(
        "SELECT pg_create_logical_replication_slot({0}, 'pgoutput', true); SELECT pg_drop_replication_slot({0})",
        quote_literal(&name)
    );
    let tried = at.session.as_user(async { Ok(at.session.client().batch_execute(&sql).await) }).await?;
    at.session.run("lifting the time limit", "SET statement_timeout = 0").await?;
    match tried {
        Ok(()) => Ok(Some(ok("making_a_slot", "works: a temporary one was made and dropped"))),
        Err(error) if error.code().is_some_and(|c| c.code() == "57014") => {
            let oldest = blockers(at.session, 0).await?;
            let sql = "SELECT format('SELECT pg_terminate_backend(%s)', pid) FROM pg_stat_activity
                       WHERE backend_xid IS NOT NULL AND pid <> pg_backend_pid() AND xact_start < now() - interval '1 second'
                       UNION ALL SELECT format('ROLLBACK PREPARED %L', gid) FROM pg_prepared_xacts";
            let ways = at.session.rows("looking up open transactions", sql, &[]).await?;
            let statements: Vec<String> = ways.iter().map(|r| r.get(0)).collect();
            Ok(Some(warning(
                "making_a_slot",
                format!(
                    "it waits for {}",
                    if oldest.is_empty() { "open transactions".into() } else { oldest.join("; ") }
                ),
                "a run that makes its slot, or reads a table, waits until these transactions end",
                Fix::run(statements).then("or wait for them to end"),
            )))
        }
        // The right is missing: a finding of its own.
        Err(error) if error.code().is_some_and(|c| c.code() == "42501") => Ok(None),
        Err(error) => Ok(Some(blocker(
            "making_a_slot",
            format!("it failed: {}", words(&error)),
            "a slot is needed to follow changes",
            Fix::step(format!(
                "make it possible to run: SELECT pg_create_logical_replication_slot({}, 'pgoutput')",
                quote_ident(&at.capture.slot)
            )),
        ))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use moorage_core::model::finding::Severity;

    #[test]
    fn an_old_version_and_a_clock_that_is_off_are_told() {
        assert_eq!(judge_version(130_011, "PostgreSQL 13.11".into()).severity, Severity::Blocker);
        assert_eq!(judge_version(140_000, "PostgreSQL 14".into()).severity, Severity::Ok);
        let found = clock(-3_600_000_000);
        assert_eq!(found.severity, Severity::Warning);
        assert!(found.found.contains("3600.0 s behind"), "{}", found.found);
        assert_eq!(clock(1_900_000).severity, Severity::Ok);
    }
}

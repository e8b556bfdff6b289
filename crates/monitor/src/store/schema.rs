//! The tables and views of the store, and how an earlier version's are brought up to them.

use rusqlite::Connection;

/// Past and present runs.
const RUNS: &str = "
CREATE TABLE IF NOT EXISTS runs (
  id INTEGER PRIMARY KEY, pipeline TEXT NOT NULL, pid INTEGER NOT NULL, host TEXT NOT NULL, started_at TEXT NOT NULL,
  ended_at TEXT, outcome TEXT, message TEXT, doing TEXT, doing_since TEXT,
  snapshot_rows INTEGER NOT NULL DEFAULT 0, inserts INTEGER NOT NULL DEFAULT 0, updates INTEGER NOT NULL DEFAULT 0,
  deletes INTEGER NOT NULL DEFAULT 0, truncates INTEGER NOT NULL DEFAULT 0, bytes INTEGER NOT NULL DEFAULT 0,
  transactions INTEGER NOT NULL DEFAULT 0, merges INTEGER NOT NULL DEFAULT 0, warnings INTEGER NOT NULL DEFAULT 0,
  retries INTEGER NOT NULL DEFAULT 0);
CREATE INDEX IF NOT EXISTS runs_of_pipeline ON runs (pipeline, id);";

/// What happened in them.
const EVENTS: &str = "
CREATE TABLE IF NOT EXISTS events (
  id INTEGER PRIMARY KEY, pipeline TEXT NOT NULL, run INTEGER NOT NULL, at TEXT NOT NULL, severity TEXT NOT NULL, event TEXT NOT NULL);
CREATE INDEX IF NOT EXISTS events_of_run ON events (run, id);
CREATE INDEX IF NOT EXISTS events_of_pipeline ON events (pipeline, id);";

/// What people ask a run to do.
const REQUESTS: &str = "
CREATE TABLE IF NOT EXISTS asked_again (
  pipeline TEXT NOT NULL, source_table TEXT NOT NULL, asked_at TEXT NOT NULL, outcome TEXT, PRIMARY KEY (pipeline, source_table));
CREATE TABLE IF NOT EXISTS asked_decisions (
  pipeline TEXT NOT NULL, id INTEGER NOT NULL, decision TEXT NOT NULL, asked_at TEXT NOT NULL, outcome TEXT,
  PRIMARY KEY (pipeline, id));";

/// What the last look at a pipeline saw.
const LOOKS: &str = "
CREATE TABLE IF NOT EXISTS table_states (
  pipeline TEXT NOT NULL, source_table TEXT NOT NULL, seen_at TEXT NOT NULL, inserts INTEGER NOT NULL,
  updates INTEGER NOT NULL, deletes INTEGER NOT NULL, truncates INTEGER NOT NULL, PRIMARY KEY (pipeline, source_table));
CREATE TABLE IF NOT EXISTS kept_in_source (
  pipeline TEXT PRIMARY KEY, seen_at TEXT NOT NULL, bytes INTEGER NOT NULL);";

/// Samples over time, which thin with age.
const SAMPLES: &str = "
CREATE TABLE IF NOT EXISTS pipelines (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE);
CREATE TABLE IF NOT EXISTS source_tables (
  id INTEGER PRIMARY KEY, pipeline INTEGER NOT NULL, name TEXT NOT NULL, UNIQUE (pipeline, name));
CREATE TABLE IF NOT EXISTS samples (
  pipeline INTEGER NOT NULL, span INTEGER NOT NULL, at INTEGER NOT NULL, seconds REAL NOT NULL,
  inserts INTEGER NOT NULL, updates INTEGER NOT NULL, deletes INTEGER NOT NULL, truncates INTEGER NOT NULL,
  bytes INTEGER NOT NULL, transactions INTEGER NOT NULL, merges INTEGER NOT NULL, merging_us INTEGER NOT NULL,
  behind_us INTEGER, unread_bytes INTEGER, kept_bytes INTEGER, limit_bytes INTEGER,
  lag_p50_us INTEGER, lag_p95_us INTEGER, lag_p99_us INTEGER, lag_max_us INTEGER,
  capture_p50_us INTEGER, queue_p50_us INTEGER, apply_p50_us INTEGER,
  lag BLOB NOT NULL, capture BLOB NOT NULL, queue BLOB NOT NULL, apply BLOB NOT NULL,
  PRIMARY KEY (pipeline, span, at)) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS table_samples (
  pipeline INTEGER NOT NULL, span INTEGER NOT NULL, at INTEGER NOT NULL, source_table INTEGER NOT NULL,
  inserts INTEGER NOT NULL, updates INTEGER NOT NULL, deletes INTEGER NOT NULL, truncates INTEGER NOT NULL,
  bytes INTEGER NOT NULL, lag_p50_us INTEGER, lag_max_us INTEGER, lag BLOB NOT NULL,
  PRIMARY KEY (pipeline, span, at, source_table)) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS slow_transactions (
  pipeline INTEGER NOT NULL, span INTEGER NOT NULL, at INTEGER NOT NULL, place INTEGER NOT NULL,
  committed_at TEXT NOT NULL, position TEXT NOT NULL, changes INTEGER NOT NULL, tables TEXT NOT NULL,
  capture_us INTEGER NOT NULL, queue_us INTEGER NOT NULL, apply_us INTEGER NOT NULL,
  PRIMARY KEY (pipeline, span, at, place)) WITHOUT ROWID;";

/// What a run says of itself.
const PUBLISHED: &str = "
CREATE TABLE IF NOT EXISTS published (pipeline INTEGER PRIMARY KEY, at TEXT NOT NULL, content TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS published_tables (
  pipeline INTEGER NOT NULL, source_table INTEGER NOT NULL, inserts INTEGER NOT NULL, updates INTEGER NOT NULL,
  deletes INTEGER NOT NULL, truncates INTEGER NOT NULL, bytes INTEGER NOT NULL, lag_us INTEGER NOT NULL, committed_at TEXT,
  PRIMARY KEY (pipeline, source_table)) WITHOUT ROWID;";

/// What is known of tables and of what waits for decisions, as the last run told it.
const STANDINGS: &str = "
CREATE TABLE IF NOT EXISTS standings (pipeline TEXT PRIMARY KEY, at TEXT NOT NULL, content TEXT NOT NULL);";

/// Alerts: what is remembered, what was said, what waits to be sent, and how those stand that it is sent to.
const ALERTS: &str = "
CREATE TABLE IF NOT EXISTS alert_memory (pipeline TEXT PRIMARY KEY, content TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS alert_notices (id INTEGER PRIMARY KEY, pipeline TEXT NOT NULL, at INTEGER NOT NULL, notice TEXT NOT NULL);
CREATE INDEX IF NOT EXISTS alert_notices_of_pipeline ON alert_notices (pipeline, at);
CREATE TABLE IF NOT EXISTS alert_messages (
  id INTEGER PRIMARY KEY AUTOINCREMENT, uid TEXT NOT NULL, receiver TEXT NOT NULL, about TEXT NOT NULL, at TEXT NOT NULL,
  notice TEXT NOT NULL, tries INTEGER NOT NULL, next_at INTEGER NOT NULL, claimed_until INTEGER NOT NULL);
CREATE INDEX IF NOT EXISTS alert_messages_of_receiver ON alert_messages (receiver, id);
CREATE TABLE IF NOT EXISTS alert_receivers (
  name TEXT PRIMARY KEY, taken_at TEXT, answer TEXT, failing_since TEXT, problem TEXT, lost INTEGER NOT NULL DEFAULT 0);";

/// Views for people's own charts: their columns stay, whatever becomes of the tables behind them. `docs/monitoring.md` has them.
const VIEWS: &str = "
DROP VIEW IF EXISTS lag_over_time;
CREATE VIEW lag_over_time AS
SELECT p.name AS pipeline, strftime('%Y-%m-%dT%H:%M:%SZ', s.at, 'unixepoch') AS at, s.span AS seconds,
  s.transactions, s.behind_us / 1e6 AS behind_s,
  s.lag_p50_us / 1e6 AS lag_p50_s, s.lag_p95_us / 1e6 AS lag_p95_s, s.lag_p99_us / 1e6 AS lag_p99_s, s.lag_max_us / 1e6 AS lag_max_s,
  s.capture_p50_us / 1e6 AS capture_p50_s, s.queue_p50_us / 1e6 AS queue_p50_s, s.apply_p50_us / 1e6 AS apply_p50_s
FROM samples s JOIN pipelines p ON p.id = s.pipeline;
DROP VIEW IF EXISTS changes_over_time;
CREATE VIEW changes_over_time AS
SELECT p.name AS pipeline, strftime('%Y-%m-%dT%H:%M:%SZ', s.at, 'unixepoch') AS at, s.span AS seconds,
  s.inserts, s.updates, s.deletes, s.truncates, s.bytes, s.merges, s.merging_us / 1e6 AS merging_s,
  s.unread_bytes, s.kept_bytes, s.limit_bytes
FROM samples s JOIN pipelines p ON p.id = s.pipeline;
DROP VIEW IF EXISTS tables_over_time;
CREATE VIEW tables_over_time AS
SELECT p.name AS pipeline, t.name AS source_table, strftime('%Y-%m-%dT%H:%M:%SZ', s.at, 'unixepoch') AS at, s.span AS seconds,
  s.inserts, s.updates, s.deletes, s.truncates, s.bytes, s.lag_p50_us / 1e6 AS lag_p50_s, s.lag_max_us / 1e6 AS lag_max_s
FROM table_samples s JOIN pipelines p ON p.id = s.pipeline JOIN source_tables t ON t.id = s.source_table;
DROP VIEW IF EXISTS slowest_transactions;
CREATE VIEW slowest_transactions AS
SELECT p.name AS pipeline, s.committed_at, s.position, s.changes, s.tables,
  (s.capture_us + s.queue_us + s.apply_us) / 1e6 AS lag_s, s.capture_us / 1e6 AS capture_s, s.queue_us / 1e6 AS queue_s, s.apply_us / 1e6 AS apply_s
FROM slow_transactions s JOIN pipelines p ON p.id = s.pipeline;
DROP VIEW IF EXISTS run_history;
CREATE VIEW run_history AS
SELECT id AS run, pipeline, host, pid, started_at, ended_at, outcome, message, snapshot_rows, inserts, updates, deletes, truncates,
  bytes, transactions, merges, warnings, retries
FROM runs;";

/// What runs have learned to note since the first form of the store.
const ADDED: [&str; 10] = [
    "snapshot_rows",
    "inserts",
    "updates",
    "deletes",
    "truncates",
    "bytes",
    "transactions",
    "merges",
    "warnings",
    "retries",
];

/// Adds what the runs of an earlier version's store lack, and takes away what is not used any more.
fn bring_up(db: &Connection) -> rusqlite::Result<()> {
    let columns: Vec<String> = db
        .prepare("SELECT name FROM pragma_table_info('runs')")?
        .query_map([], |r| r.get(0))?
        .collect::<rusqlite::Result<_>>()?;
    if columns.is_empty() {
        return Ok(());
    }
    for column in ADDED.iter().filter(|added| !columns.iter().any(|c| c == *added)) {
        db.execute_batch(&format!("ALTER TABLE runs ADD COLUMN {column} INTEGER NOT NULL DEFAULT 0"))?;
    }
    db.execute_batch("DROP TABLE IF EXISTS positions")
}

/// What this version's tables are like. An earlier version's are brought up to it; those of a later one are taken as they are.
const FORM: i64 = 2;

/// Makes what is missing. What is there already is only looked at, so that whoever looks does not wait for a run that writes.
pub(super) fn set_up(db: &Connection) -> rusqlite::Result<()> {
    let form: i64 = db.query_row("PRAGMA user_version", [], |r| r.get(0))?;
    if form >= FORM {
        return Ok(());
    }
    db.execute_batch("BEGIN IMMEDIATE")?;
    let parts = [RUNS, EVENTS, REQUESTS, LOOKS, SAMPLES, PUBLISHED, STANDINGS, ALERTS, VIEWS];
    let made = bring_up(db)
        .and_then(|()| parts.iter().try_for_each(|part| db.execute_batch(part)))
        .and_then(|()| db.pragma_update(None, "user_version", FORM));
    db.execute_batch(if made.is_ok() { "COMMIT" } else { "ROLLBACK" })?;
    made
}

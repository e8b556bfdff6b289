//! Views for people's own charts: their columns stay, whatever becomes of the tables behind them. `docs/monitoring.md` has them.

pub(super) const SCHEMA: &str = "
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

//! The marina's tables, in the dialects of the sources.

use moorage_adapter::ConsoleDialect;

/// The tables' names.
pub const TABLES: [&str; 8] =
    ["berths", "vessels", "stays", "meter_readings", "invoices", "invoice_lines", "gate_log", "incidents"];

/// Gives the word of a dialect.
fn picker(dialect: ConsoleDialect) -> impl Fn(&'static str, &'static str) -> &'static str {
    move |in_sqlite, in_postgres| match dialect {
        ConsoleDialect::Sqlite => in_sqlite,
        ConsoleDialect::Postgres => in_postgres,
    }
}

/// The statements by which the marina grows while it is open: vessels get a column, and a table comes.
pub fn grow(dialect: ConsoleDialect) -> String {
    let id = picker(dialect)("INTEGER PRIMARY KEY", "int PRIMARY KEY");
    format!(
        "BEGIN;
ALTER TABLE vessels ADD COLUMN insured TEXT DEFAULT 'not asked';
CREATE TABLE tariffs (id {id}, season TEXT NOT NULL, per_metre DECIMAL(6,2) NOT NULL);
INSERT INTO tariffs VALUES (1, 'summer', 4.20), (2, 'winter', 2.10), (3, 'regatta', 6.50);
COMMIT"
    )
}

/// The statements that make the tables.
pub fn create(dialect: ConsoleDialect) -> String {
    let pick = picker(dialect);
    let (id, int) = (pick("INTEGER PRIMARY KEY", "int PRIMARY KEY"), pick("INTEGER", "int"));
    let (time, float) = (pick("DATETIME", "timestamptz"), pick("REAL", "real"));
    let (bytes, json) = (pick("BLOB", "bytea"), pick("JSON", "jsonb"));
    let full = pick("", "ALTER TABLE gate_log REPLICA IDENTITY FULL;");
    format!(
        "CREATE TABLE berths (id {id}, pontoon TEXT NOT NULL, length_m DECIMAL(5,2) NOT NULL, has_power BOOLEAN NOT NULL);
CREATE TABLE vessels (id {id}, name TEXT NOT NULL, length_m DECIMAL(5,2), draught_m {float}, papers {json});
CREATE TABLE stays (id {id}, berth_id {int} NOT NULL, vessel_id {int} NOT NULL, state TEXT NOT NULL, arrives {time} NOT NULL, leaves {time} NOT NULL);
CREATE TABLE meter_readings (berth_id {int} NOT NULL, read_at {time} NOT NULL, kwh DECIMAL(10,3) NOT NULL, raw_payload {bytes}, PRIMARY KEY (berth_id, read_at));
CREATE TABLE invoices (id {id}, stay_id {int} NOT NULL, total DECIMAL(10,2) NOT NULL, paid_at {time});
CREATE TABLE invoice_lines (invoice_id {int} NOT NULL, line {int} NOT NULL, what TEXT NOT NULL, amount DECIMAL(10,2) NOT NULL, PRIMARY KEY (invoice_id, line));
CREATE TABLE gate_log (at {time}, gate TEXT, direction TEXT);
CREATE TABLE incidents (id {id}, at {time} NOT NULL, note TEXT NOT NULL);
{full}"
    )
}

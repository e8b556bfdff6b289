//! The marina's tables, in the dialects of the sources.

use moorage_adapter::ConsoleDialect;

/// The tables' names.
pub const TABLES: [&str; 8] =
    ["berths", "vessels", "stays", "meter_readings", "invoices", "invoice_lines", "gate_log", "incidents"];

/// The statements that make the tables.
pub fn create(dialect: ConsoleDialect) -> String {
    let sqlite = dialect == ConsoleDialect::Sqlite;
    let pick =
        |in_sqlite: &'static str, in_postgres: &'static str| if sqlite { in_sqlite } else { in_postgres };
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

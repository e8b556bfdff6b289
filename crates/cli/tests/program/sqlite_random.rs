//! Random statements against a SQLite source: conflicts with every way to resolve them, statements that fail half way,
//! cascades, savepoints, settings that change what triggers hear of.

use crate::harness::Quay;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng as StdRng;

const TABLES: [(&str, &[&str]); 7] = [
    ("slips", &["id", "name", "depth", "plan"]),
    ("codes", &["code", "number", "note"]),
    ("marks", &["number", "note"]),
    ("pairs", &["a", "b", "note"]),
    ("owners", &["id", "note"]),
    ("boats", &["id", "owner", "second"]),
    ("log", &["number", "note"]),
];

const SCHEMA: &str = "CREATE TABLE slips (id INTEGER PRIMARY KEY, name TEXT UNIQUE, depth REAL, plan BLOB);
    CREATE TABLE codes (code TEXT PRIMARY KEY NOT NULL, number INTEGER UNIQUE, note TEXT);
    CREATE TABLE marks (number INTEGER, note TEXT, UNIQUE (number));
    CREATE TABLE pairs (a INTEGER, b TEXT, note TEXT, PRIMARY KEY (a, b));
    CREATE TABLE owners (id INTEGER PRIMARY KEY, note TEXT);
    CREATE TABLE boats (id INTEGER PRIMARY KEY, owner INTEGER REFERENCES owners ON DELETE CASCADE,
      second INTEGER REFERENCES owners ON DELETE SET NULL);
    CREATE TABLE log (number INTEGER, note TEXT);";

/// Few different values, so that statements meet.
fn value(random: &mut StdRng, column: &str) -> String {
    let n = random.random_range(0..8);
    if random.random_range(0..8) == 0 && !["id", "code"].contains(&column) {
        return "NULL".into();
    }
    match column {
        "name" | "code" | "note" | "b" => {
            format!("'{}{}'", ["x", "X", "x ", "é", "", "a''b", "z"][n % 7], n % 4)
        }
        "depth" => ["0.0", "-0.0", "1.5", "1e300"][n % 4].into(),
        "plan" => format!("x'{n:02x}00ff'"),
        _ => n.to_string(),
    }
}

fn values(random: &mut StdRng, columns: &[&str]) -> String {
    let all: Vec<String> = columns.iter().map(|c| value(random, c)).collect();
    format!("({})", all.join(", "))
}

fn on_data(random: &mut StdRng) -> String {
    let (table, columns) = TABLES[random.random_range(0..TABLES.len())];
    let column = columns[random.random_range(0..columns.len())];
    let way = ["", "OR REPLACE", "OR IGNORE", "OR FAIL", "OR ROLLBACK"][random.random_range(0..5)];
    let list = columns.join(", ");
    match random.random_range(0..10) {
        0..=3 => {
            let (one, two) = (values(random, columns), values(random, columns));
            format!("INSERT {way} INTO {table} ({list}) VALUES {one}, {two}")
        }
        4 => {
            let new = values(random, columns);
            format!(
                "INSERT INTO {table} ({list}) VALUES {new} ON CONFLICT DO UPDATE SET {column} = excluded.{column}"
            )
        }
        5 => format!("UPDATE {way} {table} SET {0} = {0} + 1 WHERE {column} IS NOT NULL", columns[0]),
        6..=8 => {
            let other = columns[random.random_range(0..columns.len())];
            let sign = ["=", "<", ">="][random.random_range(0..3)];
            let (new, bound) = (value(random, column), value(random, other));
            format!("UPDATE {way} {table} SET {column} = {new} WHERE {other} {sign} {bound}")
        }
        _ => format!("DELETE FROM {table} WHERE {column} = {}", value(random, column)),
    }
}

fn statement(random: &mut StdRng) -> String {
    let switch = ["ON", "OFF"][random.random_range(0..2)];
    match random.random_range(0..50) {
        0..=2 => "BEGIN".into(),
        3 => "COMMIT".into(),
        4 => "ROLLBACK".into(),
        5 => "SAVEPOINT s".into(),
        6 => "ROLLBACK TO s".into(),
        7 => "RELEASE s".into(),
        8 => format!("PRAGMA recursive_triggers = {switch}"),
        9 => format!("PRAGMA foreign_keys = {switch}"),
        _ => on_data(random),
    }
}

#[rstest::rstest]
fn whatever_statements_do_arrives(#[values(1, 4, 19)] seed: u64) {
    let quay = Quay::new(SCHEMA);
    quay.catch_up();
    let tables = TABLES.map(|(name, _)| name);
    let mut random = StdRng::seed_from_u64(seed);
    let db = quay.harbour();
    for _ in 0..8 {
        for _ in 0..random.random_range(1..30) {
            // Many of them fail, and the application goes on.
            let sql = statement(&mut random);
            let _failed_or_done = db.execute_batch(&sql);
        }
        if !db.is_autocommit() {
            db.execute_batch(["COMMIT", "ROLLBACK"][random.random_range(0..2)]).unwrap();
        }
        quay.assert_follows(&tables);
    }
}

//! Random sequences of changes of structure and rows against a SQLite file as a source, with kills: the target is compared
//! at every checkpoint that is met, with a journal of the source.
//!
//! One application writes to all tables, one in each of its transactions, and writes down what the table holds then and which
//! number the last captured change has. A checkpoint of the target is such a number.

use crate::harness::{Folder, Quay, Running};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng as StdRng;
use rusqlite::types::Value;
use rusqlite::{Connection, OptionalExtension};
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use std::time::Duration;

const TABLES: usize = 6;

type Rows = Vec<Vec<String>>;

/// What a table held.
#[derive(Clone, Debug)]
struct Entry {
    /// The number of the last captured change before the transaction, and behind it.
    head: (i64, i64),
    columns: Vec<String>,
    rows: Rows,
    done: String,
}

type Journal = Arc<Mutex<BTreeMap<String, Vec<Entry>>>>;

fn rows_of(db: &Connection, table: &str, columns: &[String]) -> Rows {
    let mut query = db.prepare(&format!("SELECT {} FROM {table}", columns.join(", "))).unwrap();
    let row = |r: &rusqlite::Row<'_>| {
        let value = |i: usize| Ok(format!("{:?}", r.get::<_, Value>(i)?));
        (0..columns.len()).map(value).collect::<rusqlite::Result<Vec<String>>>()
    };
    let mut rows: Rows = query.query_map([], row).unwrap().map(Result::unwrap).collect();
    rows.sort();
    rows
}

fn columns_of(db: &Connection, table: &str) -> Vec<String> {
    let mut query = db.prepare("SELECT name FROM pragma_table_info(?1)").unwrap();
    query.query_map([table], |r| r.get(0)).unwrap().map(Result::unwrap).collect()
}

/// What writes to a file.
struct Application {
    random: StdRng,
    db: Connection,
    /// Of each table the columns but for the key.
    columns: Vec<Vec<(String, &'static str)>>,
    names: u32,
    next_id: i64,
    /// Whether it makes tables anew.
    rebuilds: bool,
}

impl Application {
    fn new_name(&mut self) -> String {
        self.names += 1;
        // Few names, so that some come again.
        format!("c{}", self.names % 7)
    }

    fn value(&mut self, of: &str) -> String {
        let n = self.random.random_range(0..50);
        match self.random.random_range(0..5) {
            0 => "NULL".into(),
            _ if of == "INT" => n.to_string(),
            _ => format!("'v{n}'"),
        }
    }

    fn insert(&mut self, at: usize) -> String {
        let columns = self.columns[at].clone();
        self.next_id += 1;
        let names = std::iter::once("id".to_string()).chain(columns.iter().map(|c| c.0.clone()));
        let names = names.collect::<Vec<_>>().join(", ");
        let mut values = vec![self.next_id.to_string()];
        values.extend(columns.iter().map(|(_, of)| self.value(of)));
        format!("INSERT INTO t{at} ({names}) VALUES ({})", values.join(", "))
    }

    fn of_rows(&mut self, at: usize) -> String {
        let id = self.random.random_range(0..self.next_id.max(1));
        match self.random.random_range(0..10) {
            0..=3 => self.insert(at),
            4..=6 if !self.columns[at].is_empty() => {
                let which = self.random.random_range(0..self.columns[at].len());
                let (name, of) = self.columns[at][which].clone();
                let value = self.value(of);
                format!("UPDATE t{at} SET {name} = {value} WHERE id % 3 = {}", id % 3)
            }
            7 => format!("UPDATE OR REPLACE t{at} SET id = id + 1 WHERE id = {id}"),
            8 => format!("UPDATE t{at} SET id = -id WHERE id = {id}"),
            _ => format!("DELETE FROM t{at} WHERE id = {id}"),
        }
    }

    fn of_structure(&mut self, at: usize) -> String {
        let count = self.columns[at].len();
        let some = (count > 0).then(|| self.random.random_range(0..count));
        match (self.random.random_range(0..10), some) {
            (0..=3, _) | (_, None) => {
                let (name, of) = (self.new_name(), ["INT", "TEXT"][self.random.random_range(0..2)]);
                if self.columns[at].iter().any(|c| c.0 == name) {
                    return "SELECT 1".into();
                }
                let rest = match self.random.random_range(0..3) {
                    0 => format!(" DEFAULT {}", self.value(of)),
                    1 => format!(" NOT NULL DEFAULT {}", if of == "INT" { "5" } else { "'x'" }),
                    _ => String::new(),
                };
                self.columns[at].push((name.clone(), of));
                format!("ALTER TABLE t{at} ADD COLUMN {name} {of}{rest}")
            }
            (4..=5, Some(which)) => {
                format!("ALTER TABLE t{at} DROP COLUMN {}", self.columns[at].remove(which).0)
            }
            (6..=7, Some(which)) => {
                let name = self.new_name();
                if self.columns[at].iter().any(|c| c.0 == name) {
                    return "SELECT 1".into();
                }
                let was = std::mem::replace(&mut self.columns[at][which].0, name.clone());
                format!("ALTER TABLE t{at} RENAME COLUMN {was} TO {name}")
            }
            (8, _) => format!("CREATE INDEX IF NOT EXISTS i{at} ON t{at} (id)"),
            (_, Some(_)) if !self.rebuilds => "SELECT 1".into(),
            (_, Some(_)) => {
                let kept: Vec<String> = self.columns[at].iter().map(|c| c.0.clone()).collect();
                let declared: Vec<String> =
                    self.columns[at].iter().map(|(name, of)| format!("{name} {of}")).collect();
                let (kept, declared) = (kept.join(", "), declared.join(", "));
                format!(
                    "CREATE TABLE anew (id INTEGER PRIMARY KEY, {declared}); INSERT INTO anew (id, {kept}) SELECT id, {kept} FROM t{at}; DROP TABLE t{at}; ALTER TABLE anew RENAME TO t{at}"
                )
            }
        }
    }

    fn head(&self) -> i64 {
        let sql = "SELECT seq FROM sqlite_sequence WHERE name = 'moorage_quayside_changes'";
        self.db.query_row(sql, [], |r| r.get(0)).optional().unwrap().unwrap_or(0)
    }

    fn write_down(&self, journal: &Journal, at: usize, (before, done): (i64, String)) {
        let table = format!("t{at}");
        let columns = columns_of(&self.db, &table);
        let entry =
            Entry { head: (before, self.head()), rows: rows_of(&self.db, &table, &columns), columns, done };
        journal.lock().unwrap().entry(table).or_default().push(entry);
    }

    fn work(mut self, journal: &Journal, transactions: u32) {
        for _ in 0..transactions {
            let at = self.random.random_range(0..TABLES);
            let before = self.columns.clone();
            let mut all = vec!["BEGIN IMMEDIATE".to_string()];
            for part in 0..self.random.random_range(1..=4) {
                for _ in 0..self.random.random_range(0..3) {
                    all.push(self.of_rows(at));
                }
                if part > 0 && self.random.random_bool(0.6) {
                    all.push(self.of_structure(at));
                }
            }
            // Not null without a value, a key that another row has: the application's own affair. Nothing else may fail.
            let mut head = 0;
            let failed = all.iter().enumerate().find_map(|(i, sql)| {
                let done = self.db.execute_batch(sql);
                head = if i == 0 { self.head() } else { head };
                done.err()
            });
            if let Some(failed) = failed {
                let own = ["NOT NULL constraint", &format!("UNIQUE constraint failed: t{at}.id")];
                assert!(own.iter().any(|own| failed.to_string().contains(own)), "{failed} in {all:?}");
                self.db.execute_batch("ROLLBACK").unwrap();
                self.columns = before;
                continue;
            }
            // Read inside the transaction: nobody else can write meanwhile.
            self.write_down(journal, at, (head, all.join("; ")));
            self.db.execute_batch("COMMIT").unwrap();
            std::thread::sleep(Duration::from_millis(self.random.random_range(0..60)));
        }
    }
}

/// Compares the target at its checkpoint; gives how many tables were.
fn compare(quay: &Quay, journal: &Journal) -> Result<usize, String> {
    let db = quay.warehouse();
    db.execute_batch("BEGIN").unwrap();
    let at = "SELECT position FROM moorage_checkpoints";
    let at: i64 = db.query_row(at, [], |r| r.get::<_, String>(0)).unwrap().parse().unwrap();
    let mut query = db
        .prepare("SELECT target, mark_position FROM moorage_tables WHERE state = 'live' ORDER BY 1")
        .unwrap();
    let live = query.query_map([], |r| Ok((r.get::<_, String>(0)?, r.get::<_, Option<String>>(1)?))).unwrap();
    let mut compared = 0;
    for (table, mark) in live.map(Result::unwrap) {
        // One that was just read may be ahead of the checkpoint.
        if mark.is_some_and(|mark| mark.parse::<i64>().unwrap() > at) {
            continue;
        }
        let has = columns_of(&db, &table);
        let entries = journal.lock().unwrap()[&table].clone();
        let Some(last) = entries.iter().rposition(|e| e.head.1 <= at) else { continue };
        // Of a transaction without captured changes it is not known whether it was seen.
        let is_open = |e: &Entry| e.head.0 == e.head.1 && e.head.1 == at;
        let first = (0..=last).rev().find(|i| !is_open(&entries[*i])).unwrap_or(0);
        let may_be: Vec<&Entry> = entries[first..=last].iter().collect();
        let last = &entries[last];
        let equals = |entry: &&&Entry| {
            let there: Vec<usize> =
                (0..entry.columns.len()).filter(|&c| has.contains(&entry.columns[c])).collect();
            let columns: Vec<String> = there.iter().map(|&c| entry.columns[c].clone()).collect();
            let mut expected: Rows =
                entry.rows.iter().map(|row| there.iter().map(|&c| row[c].clone()).collect()).collect();
            expected.sort();
            rows_of(&db, &table, &columns) == expected
        };
        if may_be.iter().find(equals).is_none() {
            let found = rows_of(&db, &table, &has);
            let done: Vec<&str> = entries.iter().map(|e| e.done.as_str()).collect();
            return Err(format!(
                "{table} at {at}: has {has:?} {found:?}\nexpected {last:?}\nmade by {}",
                done.join("; COMMIT;\n")
            ));
        }
        compared += 1;
    }
    Ok(compared)
}

fn start(folder: &Folder) -> Running {
    let mut running = folder.start(&["run"]);
    running.wait_for("following changes");
    running
}

#[expect(clippy::print_stdout, reason = "a measurement, and what is needed to understand a failure")]
fn one(seed: u64) {
    let table = |i| {
        format!(
            "CREATE TABLE t{i} (id INTEGER PRIMARY KEY, a INT, b TEXT); INSERT INTO t{i} SELECT value, value, 'x' || value FROM json_each('[1,2,3,4,5,6,7,8,9,10]')"
        )
    };
    let quay = Quay::new(&(0..TABLES).map(table).collect::<Vec<_>>().join("; "));
    quay.add("[pipelines.quayside.drift]\ncolumn_renamed = \"follow\"");
    let journal: Journal = Arc::default();
    let mut random = StdRng::seed_from_u64(seed);
    let columns = vec![vec![("a".to_string(), "INT"), ("b".to_string(), "TEXT")]; TABLES];
    let application = Application {
        random: StdRng::seed_from_u64(seed + 1000),
        db: quay.harbour(),
        columns,
        names: 0,
        next_id: 10,
        rebuilds: seed.is_multiple_of(3),
    };
    quay.catch_up();
    (0..TABLES).for_each(|at| application.write_down(&journal, at, (0, String::new())));
    let mut running = start(&quay);
    let written = journal.clone();
    let working = std::thread::spawn(move || application.work(&written, 80));
    let (mut compared, mut logs) = (0, String::new());
    while !working.is_finished() {
        compared += compare(&quay, &journal)
            .unwrap_or_else(|differs| panic!("seed {seed}: {differs}\n{logs}{}", running.log()));
        if random.random_range(0..60) == 0 {
            logs += &running.log();
            running.kill();
            running = start(&quay);
        }
        std::thread::sleep(Duration::from_millis(15));
    }
    working.join().unwrap();
    logs += &running.log();
    running.signal("INT");
    assert_eq!(running.end(), 0, "{}", running.log());
    logs += &quay.catch_up().all();
    // What is still to be read again takes another run.
    logs += &quay.catch_up().all();
    compare(&quay, &journal).unwrap_or_else(|differs| panic!("seed {seed}: {differs}\n{logs}"));
    for i in 0..TABLES {
        let table = format!("t{i}");
        let last = journal.lock().unwrap()[&table].last().unwrap().clone();
        let has = columns_of(&quay.warehouse(), &table);
        assert!(
            last.columns.iter().all(|c| has.contains(c)),
            "seed {seed}: {table} has {has:?} for {last:?}\n{logs}"
        );
        let found = rows_of(&quay.warehouse(), &table, &last.columns);
        assert_eq!(found, last.rows, "seed {seed}: {table}\n{logs}");
    }
    quay.moorage(&["verify"]).expect(0, &["both sides agree"]);
    let reread = (0..TABLES).filter(|i| {
        let of =
            logs.lines().filter(|l| l.contains(&format!("main.t{i}:")) || l.contains(&format!("main.t{i} ")));
        of.into_iter().any(|l| l.contains("is read again"))
    });
    if std::env::var_os("MOORAGE_TELL").is_some() {
        println!("{logs}");
    }
    println!("seed {seed}: {compared} comparisons, {} of {TABLES} tables read again", reread.count());
}

/// Ten seeds; with `MOORAGE_DRIFT_SEEDS=FROM..TO` others.
#[rstest::rstest]
fn random_changes_of_structure_are_followed(#[values(1, 2, 3, 4, 5, 6, 7, 8, 9, 10)] seed: u64) {
    let Ok(range) = std::env::var("MOORAGE_DRIFT_SEEDS") else { return one(seed) };
    let (from, to) = range.split_once("..").unwrap();
    let (from, to): (u64, u64) = (from.parse().unwrap(), to.parse().unwrap());
    (from..to).filter(|s| s % 10 == seed % 10).for_each(one);
}

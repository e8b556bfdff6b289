//! The marina's first rows.

use crate::schema::create;
use moorage_adapter::{Console, ConsoleDialect, Result};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use std::fmt::Write;

/// Rows of one INSERT.
const AT_ONCE: u64 = 500;
/// INSERTs of one transaction.
const PER_TRANSACTION: u64 = 40;

/// How many rows each table begins with.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Sizes {
    /// Berths, at least 12.
    pub berths: u64,
    /// Vessels.
    pub vessels: u64,
    /// Stays.
    pub stays: u64,
    /// Meter readings.
    pub readings: u64,
    /// Invoices, each with two or three lines.
    pub invoices: u64,
    /// Passages through the gates.
    pub passages: u64,
}

impl Sizes {
    /// Shares a number of rows (1,000 to 10,000,000) among the tables.
    pub fn of(rows: u64) -> Self {
        Self {
            berths: (rows / 200).clamp(12, 2_000),
            vessels: rows / 20,
            stays: rows / 8,
            readings: rows * 9 / 20,
            invoices: rows / 12,
            passages: rows / 10,
        }
    }
}

/// A time of the marina's calendar, which begins on 2026-06-01, in minutes since then.
pub(crate) fn clock(dialect: ConsoleDialect, minutes: i64) -> String {
    let begin = chrono::DateTime::UNIX_EPOCH + chrono::TimeDelta::days(20_605);
    let at = begin + chrono::TimeDelta::minutes(minutes);
    match dialect {
        ConsoleDialect::Sqlite => at.format("'%Y-%m-%d %H:%M:%S'").to_string(),
        ConsoleDialect::Postgres => at.format("'%Y-%m-%d %H:%M:%S+00'").to_string(),
    }
}

pub(crate) const NAMES: [&str; 16] = [
    "Curlew",
    "Sanderling",
    "Blue Gannet",
    "Morning Tide",
    "Little Tern",
    "Sea Campion",
    "Wrackline",
    "Pellow Lass",
    "Turnstone",
    "Kittiwake",
    "Slack Water",
    "Samphire",
    "Oystercatcher",
    "Grey Heron",
    "Limpet",
    "Spindrift",
];

pub(crate) fn bytes(dialect: ConsoleDialect, rng: &mut impl Rng) -> String {
    let hex = format!("{:016x}{:08x}", rng.random::<u64>(), rng.random::<u32>());
    match dialect {
        ConsoleDialect::Sqlite => format!("x'{hex}'"),
        ConsoleDialect::Postgres => format!("'\\x{hex}'"),
    }
}

pub(crate) fn cents(amount: u64) -> String {
    format!("{}.{:02}", amount / 100, amount % 100)
}

/// Makes the tables and fills them. `done` is told how many rows there are so far.
///
/// # Errors
/// If the source refuses a statement, as when a table is there already.
pub async fn fill(
    console: &mut dyn Console,
    seed: u64,
    sizes: Sizes,
    done: &mut (dyn FnMut(u64) + Send),
) -> Result<()> {
    let dialect = console.dialect();
    console.run(&create(dialect)).await?;
    let mut filler = Filler { console, rows: 0, done };
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let berths = sizes.berths;
    filler
        .table("berths", berths, |i, out| {
            let (pontoon, length) = (char::from(b'A' + (i % 8) as u8), 800 + (i % 13) * 125);
            let _ = write!(
                out,
                "({}, '{pontoon}', {}, {})",
                i + 1,
                cents(length),
                if i % 3 == 0 { "FALSE" } else { "TRUE" }
            );
        })
        .await?;
    filler
        .table("vessels", sizes.vessels, |i, out| {
            let name = NAMES[rng.random_range(0..NAMES.len())];
            let (length, draught) =
                (rng.random_range(600..1_800), f32::from(rng.random_range(8u8..26)) / 8.0);
            let flag = ["PQ", "LN", "TB"][(i % 3) as usize];
            let _ = write!(
                out,
                "({}, '{name} {}', {}, {draught:?}, '{{\"flag\": \"{flag}\", \"crew\": {}}}')",
                i + 1,
                i + 1,
                cents(length),
                1 + i % 6
            );
        })
        .await?;
    let vessels = sizes.vessels.max(1);
    let rounds = sizes.stays / berths + 1;
    filler
        .table("stays", sizes.stays, |i, out| {
            // Each berth has one stay after the other: four days, of which the vessel is there for less than three.
            let (berth, round) = (i % berths, i / berths);
            let arrives = round as i64 * 4 * 1440 + rng.random_range(0..600);
            let leaves = arrives + rng.random_range(600..4_000);
            let state = match (rounds - round, rng.random_range(0..20)) {
                (_, 0) => "cancelled",
                (1, _) => "booked",
                (2, _) => "alongside",
                _ => "departed",
            };
            let (arrives, leaves) = (clock(dialect, arrives), clock(dialect, leaves));
            let vessel = rng.random_range(1..=vessels);
            let _ = write!(out, "({}, {}, {vessel}, '{state}', {arrives}, {leaves})", i + 1, berth + 1);
        })
        .await?;
    filler
        .table("meter_readings", sizes.readings, |i, out| {
            let (berth, hour) = (i % berths, (i / berths) as i64);
            let kwh = 3_125 * (berth + 1) + 750 * hour as u64;
            let payload = bytes(dialect, &mut rng);
            let _ = write!(
                out,
                "({}, {}, {}.{:03}, {payload})",
                berth + 1,
                clock(dialect, hour * 60),
                kwh / 1000,
                kwh % 1000
            );
        })
        .await?;
    let lines = |i: u64| 2 + i % 2;
    let amount = |i: u64, line: u64| 1_235 * (line + 1) + i % 4_000;
    filler
        .table("invoices", sizes.invoices, |i, out| {
            let total: u64 = (0..lines(i)).map(|l| amount(i, l)).sum();
            let paid = if i % 4 == 0 { "NULL".into() } else { clock(dialect, i as i64) };
            let _ = write!(out, "({}, {}, {}, {paid})", i + 1, i + 1, cents(total));
        })
        .await?;
    filler
        .table("invoice_lines", (0..sizes.invoices).map(lines).sum(), |n, out| {
            // Two invoices in a row have five lines.
            let (pair, place) = (n / 5, n % 5);
            let (i, line) = if place < 2 { (pair * 2, place) } else { (pair * 2 + 1, place - 2) };
            let what = ["berth", "power", "water"][line as usize];
            let _ = write!(out, "({}, {}, '{what}', {})", i + 1, line + 1, cents(amount(i, line)));
        })
        .await?;
    filler
        .table("gate_log", sizes.passages, |i, out| {
            let gate = ["north", "south", "fuel dock"][rng.random_range(0..3)];
            // Now and then the barrier writes the same passage twice: rows without a key may be equal.
            let at = clock(dialect, (i - i % 50 / 49) as i64 * 7);
            let _ = write!(out, "({at}, '{gate}', '{}')", if rng.random() { "in" } else { "out" });
        })
        .await
}

struct Filler<'a> {
    console: &'a mut dyn Console,
    rows: u64,
    done: &'a mut (dyn FnMut(u64) + Send),
}

impl Filler<'_> {
    async fn table(
        &mut self,
        name: &str,
        rows: u64,
        mut row: impl FnMut(u64, &mut String) + Send,
    ) -> Result<()> {
        let mut at = 0;
        while at < rows {
            let mut sql = String::from("BEGIN;");
            for _ in 0..PER_TRANSACTION {
                if at >= rows {
                    break;
                }
                let _ = write!(sql, "INSERT INTO {name} VALUES ");
                let end = (at + AT_ONCE).min(rows);
                for i in at..end {
                    if i > at {
                        sql.push(',');
                    }
                    row(i, &mut sql);
                }
                sql.push(';');
                self.rows += end - at;
                at = end;
            }
            sql.push_str("COMMIT");
            self.console.run(&sql).await?;
            (self.done)(self.rows);
        }
        Ok(())
    }
}

//! A day at the marina: which transactions happen, with what statements.
//!
//! Invariants of every commit: no two stays that are not cancelled overlap in a berth; an invoice's total is the
//! sum of its lines. What a transaction changes in memory is taken over only when it was committed.

use crate::fill::{NAMES, bytes, cents, clock};
use moorage_adapter::{Console, ConsoleDialect, Result};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use std::collections::VecDeque;

/// How many of each kind are kept in mind.
const IN_MIND: usize = 5_000;

/// One invoice with its lines, in cents.
#[derive(Clone, Debug)]
struct Invoice {
    id: i64,
    lines: Vec<u64>,
}

/// What the harbour master knows.
#[derive(Clone, Debug)]
struct Mind {
    /// Per berth, from 1: when the last stay ends, in minutes of the marina's calendar.
    free_from: Vec<i64>,
    booked: VecDeque<i64>,
    alongside: VecDeque<i64>,
    cancelled: VecDeque<i64>,
    invoices: VecDeque<Invoice>,
    next_vessel: i64,
    next_stay: i64,
    next_invoice: i64,
    next_incident: i64,
    /// Minutes of the calendar, for readings and the gate.
    now: i64,
}

/// The marina's business, as transactions from a seed.
pub struct Business {
    rng: ChaCha8Rng,
    dialect: ConsoleDialect,
    mind: Mind,
    /// Rows of a large transaction.
    large: u64,
}

/// One transaction.
pub struct Transaction {
    /// Its statements, with BEGIN and an end.
    pub sql: String,
    /// Whether it is rolled back.
    pub rolled_back: bool,
    after: Mind,
}

impl Business {
    /// Looks at what there is and begins.
    ///
    /// # Errors
    /// If the tables are not there or cannot be read.
    pub async fn begin(console: &mut dyn Console, seed: u64, large: u64) -> Result<Self> {
        let dialect = console.dialect();
        let minutes = |column: &str| match dialect {
            ConsoleDialect::Sqlite => {
                format!("CAST((julianday({column}) - julianday('2026-06-01')) * 1440 + 0.5 AS INTEGER)")
            }
            ConsoleDialect::Postgres => {
                format!("(extract(epoch FROM {column} - timestamptz '2026-06-01 00:00+00') / 60)::bigint")
            }
        };
        let number = |rows: Vec<Vec<Option<String>>>| -> i64 {
            rows.first().and_then(|r| r.first()?.as_ref()?.parse().ok()).unwrap_or(0)
        };
        let berths = number(console.rows("SELECT coalesce(max(id), 0) FROM berths").await?).max(0) as usize;
        let mut free_from = vec![0; berths];
        let last = format!("SELECT berth_id, max({}) FROM stays GROUP BY berth_id", minutes("leaves"));
        for row in console.rows(&last).await? {
            let value = |i: usize| row.get(i).and_then(|v| v.as_ref()?.parse::<i64>().ok());
            if let (Some(berth), Some(until)) = (value(0), value(1))
                && let Some(free) = free_from.get_mut((berth - 1).max(0) as usize)
            {
                *free = until;
            }
        }
        let mut next = [0; 4];
        for (next, table) in next.iter_mut().zip(["vessels", "stays", "invoices", "incidents"]) {
            *next = number(console.rows(&format!("SELECT coalesce(max(id), 0) + 1 FROM {table}")).await?);
        }
        let [next_vessel, next_stay, next_invoice, next_incident] = next;
        let newest = format!("SELECT coalesce(max({}), 0) FROM meter_readings", minutes("read_at"));
        let now = number(console.rows(&newest).await?) + 60;
        let mut of_state = async |state: &str| -> Result<VecDeque<i64>> {
            let sql =
                format!("SELECT id FROM stays WHERE state = '{state}' ORDER BY id DESC LIMIT {IN_MIND}");
            let rows = console.rows(&sql).await?;
            Ok(rows.iter().rev().filter_map(|r| r.first()?.as_ref()?.parse().ok()).collect())
        };
        let (booked, alongside, cancelled) =
            (of_state("booked").await?, of_state("alongside").await?, of_state("cancelled").await?);
        let invoices = invoices(console).await?;
        let mind = Mind {
            free_from,
            booked,
            alongside,
            cancelled,
            invoices,
            next_vessel,
            next_stay,
            next_invoice,
            next_incident,
            now,
        };
        // What was done before is part of what happens next: a second run does not repeat the first.
        let rng = ChaCha8Rng::seed_from_u64(seed ^ (next_stay as u64).rotate_left(32) ^ now as u64);
        Ok(Self { rng, dialect, mind, large: large.max(1) })
    }

    /// The next transaction.
    pub fn next_transaction(&mut self) -> Transaction {
        let rolled_back = self.rng.random_ratio(1, 100);
        let mut day = Day {
            rng: &mut self.rng,
            dialect: self.dialect,
            mind: self.mind.clone(),
            large: self.large,
            sql: Vec::new(),
        };
        day.happen();
        let (after, statements) = (day.mind, day.sql);
        let end = if rolled_back { "ROLLBACK" } else { "COMMIT" };
        let begin = if self.dialect == ConsoleDialect::Sqlite { "BEGIN IMMEDIATE" } else { "BEGIN" };
        Transaction { sql: format!("{begin};{};{end}", statements.join(";")), rolled_back, after }
    }

    /// Takes note that a transaction went through.
    pub fn happened(&mut self, transaction: Transaction) {
        if !transaction.rolled_back {
            self.mind = transaction.after;
        }
    }
}

async fn invoices(console: &mut dyn Console) -> Result<VecDeque<Invoice>> {
    let sql = "SELECT invoice_id, line, amount FROM invoice_lines WHERE invoice_id > (SELECT coalesce(max(id), 0) - 500 FROM invoices) ORDER BY invoice_id, line";
    let mut found: VecDeque<Invoice> = VecDeque::new();
    for row in console.rows(sql).await? {
        let text = |i: usize| row.get(i).and_then(|v| v.as_deref()).unwrap_or_default();
        let (id, line) = (text(0).parse().unwrap_or(0), text(1).parse::<usize>().unwrap_or(1));
        let amount = (text(2).parse::<f64>().unwrap_or(0.0) * 100.0).round() as u64;
        if found.back().is_none_or(|last| last.id != id) {
            found.push_back(Invoice { id, lines: Vec::new() });
        }
        if let Some(invoice) = found.back_mut() {
            // Lines are numbered from 1 without gaps: a line is only ever taken away at the end.
            invoice.lines.resize(line.max(1) - 1, 0);
            invoice.lines.push(amount);
        }
    }
    Ok(found)
}

/// One transaction in the making.
struct Day<'a> {
    rng: &'a mut ChaCha8Rng,
    dialect: ConsoleDialect,
    mind: Mind,
    large: u64,
    sql: Vec<String>,
}

impl Day<'_> {
    fn happen(&mut self) {
        match self.rng.random_range(0..1000) {
            0..250 => self.book(),
            250..400 => self.check_in(),
            400..550 => self.check_out(),
            550..650 => self.pay(),
            650..740 => self.correct_invoice(),
            740..880 => self.read_meters(),
            880..920 => self.rename_vessel(),
            920..945 => self.new_vessel(),
            945..970 => self.cancel(),
            970..980 => self.forget_passage(),
            980..988 => self.report_incident(),
            988..994 => self.move_vessel(),
            994..999 => self.correct_reading_time(),
            _ => self.recalibrate(),
        }
        if self.sql.is_empty() {
            self.pass_gate("north", "in");
        }
    }

    fn say(&mut self, sql: String) {
        self.sql.push(sql);
    }

    fn at(&self, minutes: i64) -> String {
        clock(self.dialect, minutes)
    }

    fn some_vessel(&mut self) -> i64 {
        self.rng.random_range(1..self.mind.next_vessel.max(2))
    }

    fn book(&mut self) {
        if self.mind.free_from.is_empty() {
            return;
        }
        let berth = self.rng.random_range(0..self.mind.free_from.len());
        let arrives = self.mind.free_from[berth] + self.rng.random_range(60..2_880);
        let leaves = arrives + self.rng.random_range(720..10_080);
        self.mind.free_from[berth] = leaves;
        let (id, vessel) = (self.mind.next_stay, self.some_vessel());
        self.mind.next_stay += 1;
        remember(&mut self.mind.booked, id);
        let (arrives, leaves) = (self.at(arrives), self.at(leaves));
        self.say(format!(
            "INSERT INTO stays VALUES ({id}, {}, {vessel}, 'booked', {arrives}, {leaves})",
            berth + 1
        ));
    }

    fn pass_gate(&mut self, gate: &str, direction: &str) {
        let at = self.at(self.mind.now);
        self.say(format!("INSERT INTO gate_log VALUES ({at}, '{gate}', '{direction}')"));
    }

    fn check_in(&mut self) {
        let Some(stay) = self.mind.booked.pop_front() else { return self.book() };
        self.say(format!("UPDATE stays SET state = 'alongside' WHERE id = {stay}"));
        remember(&mut self.mind.alongside, stay);
        self.pass_gate("north", "in");
    }

    fn check_out(&mut self) {
        let Some(stay) = self.mind.alongside.pop_front() else { return self.check_in() };
        self.say(format!("UPDATE stays SET state = 'departed' WHERE id = {stay}"));
        self.pass_gate("south", "out");
        let id = self.mind.next_invoice;
        self.mind.next_invoice += 1;
        let count = self.rng.random_range(1..=4);
        let lines: Vec<u64> = (0..count).map(|_| self.rng.random_range(500..40_000)).collect();
        self.say(format!("INSERT INTO invoices VALUES ({id}, {stay}, {}, NULL)", cents(lines.iter().sum())));
        for (i, amount) in lines.iter().enumerate() {
            let what = ["berth", "power", "water", "lift"][i % 4];
            self.say(format!(
                "INSERT INTO invoice_lines VALUES ({id}, {}, '{what}', {})",
                i + 1,
                cents(*amount)
            ));
        }
        self.mind.invoices.push_back(Invoice { id, lines });
        if self.mind.invoices.len() > 500 {
            self.mind.invoices.pop_front();
        }
    }

    fn some_invoice(&mut self) -> Option<usize> {
        let count = self.mind.invoices.len();
        (count > 0).then(|| self.rng.random_range(0..count))
    }

    fn pay(&mut self) {
        let Some(at) = self.some_invoice() else { return };
        let (id, when) = (self.mind.invoices[at].id, self.at(self.mind.now));
        self.say(format!("UPDATE invoices SET paid_at = {when} WHERE id = {id}"));
    }

    /// A line comes, goes or changes, and the total with it.
    fn correct_invoice(&mut self) {
        let Some(at) = self.some_invoice() else { return };
        let amount = self.rng.random_range(100..25_000);
        let kind = self.rng.random_range(0..3);
        let Invoice { id, lines } = &mut self.mind.invoices[at];
        let (id, count) = (*id, lines.len());
        let line = match (kind, count) {
            (0, 1..9) => {
                lines.push(amount);
                format!("INSERT INTO invoice_lines VALUES ({id}, {}, 'extra', {})", count + 1, cents(amount))
            }
            (1, 2..) => {
                lines.pop();
                format!("DELETE FROM invoice_lines WHERE invoice_id = {id} AND line = {count}")
            }
            (_, 1..) => {
                lines[0] = amount;
                format!(
                    "UPDATE invoice_lines SET amount = {} WHERE invoice_id = {id} AND line = 1",
                    cents(amount)
                )
            }
            _ => return,
        };
        let total: u64 = lines.iter().sum();
        self.say(line);
        self.say(format!("UPDATE invoices SET total = {} WHERE id = {id}", cents(total)));
    }

    fn read_meters(&mut self) {
        let berths = self.mind.free_from.len().max(1);
        self.mind.now += self.rng.random_range(1..10);
        let at = self.at(self.mind.now);
        let first = self.rng.random_range(0..berths);
        let count = self.rng.random_range(1..=berths.min(6));
        for i in 0..count {
            let (berth, kwh) = ((first + i) % berths + 1, self.rng.random_range(0..9_000_000u64));
            let payload = bytes(self.dialect, self.rng);
            self.say(format!(
                "INSERT INTO meter_readings VALUES ({berth}, {at}, {}.{:03}, {payload})",
                kwh / 1000,
                kwh % 1000
            ));
        }
    }

    fn rename_vessel(&mut self) {
        let (id, name) = (self.some_vessel(), NAMES[self.rng.random_range(0..NAMES.len())]);
        let crew = self.rng.random_range(1..9);
        self.say(format!("UPDATE vessels SET name = '{name} {id}', papers = '{{\"flag\": \"PQ\", \"crew\": {crew}}}' WHERE id = {id}"));
    }

    fn new_vessel(&mut self) {
        let id = self.mind.next_vessel;
        self.mind.next_vessel += 1;
        let (name, length) =
            (NAMES[self.rng.random_range(0..NAMES.len())], self.rng.random_range(600..1_800));
        self.say(format!("INSERT INTO vessels (id, name, length_m, draught_m, papers) VALUES ({id}, '{name} {id}', {}, NULL, NULL)", cents(length)));
    }

    /// A booking is cancelled; an older cancelled one is deleted.
    fn cancel(&mut self) {
        if let Some(stay) = self.mind.booked.pop_back() {
            self.say(format!("UPDATE stays SET state = 'cancelled' WHERE id = {stay}"));
            remember(&mut self.mind.cancelled, stay);
        }
        if self.mind.cancelled.len() > 5
            && let Some(old) = self.mind.cancelled.pop_front()
        {
            self.say(format!("DELETE FROM stays WHERE id = {old}"));
        }
    }

    /// One row of a table without a key goes, perhaps one of several equal ones.
    fn forget_passage(&mut self) {
        let row = match self.dialect {
            ConsoleDialect::Sqlite => "rowid",
            ConsoleDialect::Postgres => "ctid",
        };
        let gate = ["north", "south"][self.rng.random_range(0..2)];
        self.say(format!(
            "DELETE FROM gate_log WHERE {row} = (SELECT {row} FROM gate_log WHERE gate = '{gate}' LIMIT 1)"
        ));
    }

    fn report_incident(&mut self) {
        let (id, at) = (self.mind.next_incident, self.at(self.mind.now));
        self.mind.next_incident += 1;
        let note = ["fender lost", "line parted", "lamp out on pontoon C", "gull in the fuel dock"]
            [self.rng.random_range(0..4)];
        self.say(format!("INSERT INTO incidents VALUES ({id}, {at}, '{note}')"));
    }

    /// A vessel gets a new number: its key changes, and its stays follow.
    fn move_vessel(&mut self) {
        let (from, to) = (self.some_vessel(), self.mind.next_vessel);
        self.mind.next_vessel += 1;
        self.say(format!("UPDATE vessels SET id = {to} WHERE id = {from}"));
        self.say(format!(
            "UPDATE stays SET vessel_id = {to} WHERE vessel_id = {from} AND state IN ('booked', 'alongside')"
        ));
    }

    /// Readings of a berth were taken a minute later than written: part of a composite key changes.
    fn correct_reading_time(&mut self) {
        let berth = self.rng.random_range(1..=self.mind.free_from.len().max(1));
        self.mind.now += 10;
        let at = self.at(self.mind.now - 5);
        self.say(format!(
            "UPDATE meter_readings SET read_at = {at} WHERE berth_id = {berth} AND read_at = (SELECT max(read_at) FROM meter_readings WHERE berth_id = {berth})"
        ));
    }

    /// A large transaction: many readings at once.
    fn recalibrate(&mut self) {
        let berths = self.mind.free_from.len().max(1) as u64;
        let berth = self.rng.random_range(1..=berths);
        let count = self.large;
        let some = match self.dialect {
            ConsoleDialect::Sqlite => "rowid IN (SELECT rowid",
            ConsoleDialect::Postgres => "(berth_id, read_at) IN (SELECT berth_id, read_at",
        };
        self.say(format!(
            "UPDATE meter_readings SET kwh = round(kwh + 0.125, 3) WHERE {some} FROM meter_readings WHERE berth_id >= {berth} AND kwh < 9000000 LIMIT {count})"
        ));
    }
}

fn remember(list: &mut VecDeque<i64>, id: i64) {
    list.push_back(id);
    if list.len() > IN_MIND {
        list.pop_front();
    }
}

//! Random load against random faults, seeded: at the end both sides are the same, compared by code that shares nothing
//! with `verify`.
//!
//! A few cycles with fixed seeds run in the ordinary suite; `scripts/soak` runs many. A cycle prints its seed, and runs the
//! same load and faults again with it, but for what depends on time.

use crate::harness::{Folder, Running};
use moorage_testkit::{PostgresServer, Proxy, Session, Weather};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng as StdRng;
use rstest::rstest;
use rusqlite::Connection;
use std::io::{Write, stderr};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

#[derive(Clone, Copy, Debug, PartialEq)]
enum From {
    Log,
    Trigger,
    File,
}

#[derive(Clone, Copy, Debug, PartialEq)]
enum To {
    Server,
    File,
}

const TABLES: [&str; 4] = ["vessels", "stays", "gate_log", "notes"];

/// Both ends, a network to each server, and a project.
struct World {
    folder: Folder,
    from: From,
    database: String,
    source: Option<PostgresServer>,
    target: Option<PostgresServer>,
    to_source: Option<Proxy>,
    to_target: Option<Proxy>,
}

impl World {
    fn new(from: From, to: To, seed: u64) -> Self {
        let database = format!("soak_{seed}");
        let settings = ["max_prepared_transactions = 20", "fsync = on"];
        let source = (from != From::File).then(|| PostgresServer::start(&settings));
        let target = (to == To::Server).then(|| PostgresServer::start(&settings));
        let (to_source, to_target) =
            (source.as_ref().map(|s| Proxy::to(s.port())), target.as_ref().map(|t| Proxy::to(t.port())));
        let url = |proxy: &Proxy, database: &str| {
            format!("postgres://postgres@127.0.0.1:{}/{database}?connect_timeout=3", proxy.port())
        };
        let source_lines = match &to_source {
            None => "kind = \"sqlite\"\npath = \"harbour.db\"".to_string(),
            Some(proxy) => {
                let capture = if from == From::Trigger { "\ncapture = \"trigger\"" } else { "" };
                format!("kind = \"postgres\"\nurl = \"{}\"{capture}", url(proxy, &database))
            }
        };
        let target_lines = match &to_target {
            None => "kind = \"sqlite\"\npath = \"warehouse.db\"".to_string(),
            Some(proxy) => {
                format!("kind = \"postgres\"\nurl = \"{}\"\nschema = \"mirror\"", url(proxy, &database))
            }
        };
        let folder = Folder::with(&format!(
            "[sources.harbour]\n{source_lines}\n\n[targets.warehouse]\n{target_lines}\n\n[pipelines.quay]\nsource = \"harbour\"\ntarget = \"warehouse\"\ninto = \"{{table}}\"\nmerge_every = \"0s\"\n"
        ));
        for server in [&source, &target].into_iter().flatten() {
            server.session("postgres").run(&format!("CREATE DATABASE {database}"));
        }
        let world = Self { folder, from, database, source, target, to_source, to_target };
        world.set_up();
        world
    }

    fn set_up(&self) {
        let integer = if self.from == From::File { "INTEGER" } else { "int" };
        let statements = format!(
            "CREATE TABLE vessels (id {integer} PRIMARY KEY, name text, n int); CREATE TABLE stays (vessel int, night int, note text, PRIMARY KEY (vessel, night));
             CREATE TABLE gate_log (n int, what text); CREATE TABLE notes (id {integer} PRIMARY KEY, body text, n int)"
        );
        match &self.source {
            None => {
                let db = self.harbour();
                db.execute_batch(&format!("PRAGMA journal_mode = WAL; {statements}")).unwrap();
            }
            Some(_) => {
                let session = self.session();
                session.run(&format!("{statements}; ALTER TABLE notes ALTER body SET STORAGE EXTERNAL; ALTER TABLE gate_log REPLICA IDENTITY FULL"));
                session.run("INSERT INTO vessels SELECT i, 'v' || i, 0 FROM generate_series(1, 3000) i; INSERT INTO gate_log SELECT i % 50, 'in' FROM generate_series(1, 3000) i; INSERT INTO notes SELECT i, repeat(md5(i::text), 100), 0 FROM generate_series(1, 60) i");
            }
        }
    }

    fn harbour(&self) -> Connection {
        let db = Connection::open(self.folder.path("harbour.db")).unwrap();
        db.busy_timeout(Duration::from_secs(60)).unwrap();
        db
    }

    fn session(&self) -> Session {
        self.source.as_ref().unwrap().session(&self.database)
    }

    /// A way to run statements of the application, that may fail.
    fn application(&self) -> Box<dyn FnMut(&str) + Send> {
        match &self.source {
            None => {
                let db = self.harbour();
                Box::new(move |sql| {
                    if db.execute_batch(sql).is_err() && !db.is_autocommit() {
                        db.execute_batch("ROLLBACK").unwrap();
                    }
                })
            }
            Some(server) => {
                let (at, mut session) = (server.place(&self.database), None);
                Box::new(move |sql| {
                    let open = session.take().or_else(|| Session::try_open(&at));
                    match open {
                        None => std::thread::sleep(Duration::from_millis(50)),
                        Some(open) => {
                            if open.try_run(sql).is_err() && open.try_run("ROLLBACK").is_err() {
                                return;
                            }
                            session = Some(open);
                        }
                    }
                })
            }
        }
    }

    /// Prepared transactions that a crash left behind are nobody's.
    fn roll_back_prepared(&self) {
        let Some(server) = &self.source else { return };
        let session = server.session(&self.database);
        for row in session.rows("SELECT gid FROM pg_prepared_xacts WHERE database = current_database()") {
            // Its owner may just have committed it.
            let _ = session.try_run(&format!("ROLLBACK PREPARED '{}'", row.get::<_, String>(0)));
        }
    }

    /// Every row of a table as texts, sorted.
    fn rows(&self, table: &str, source: bool) -> Vec<String> {
        let columns = match table {
            "vessels" => ["id", "name", "n"],
            "stays" => ["vessel", "night", "note"],
            "gate_log" => ["n", "what", "n"],
            _ => ["id", "body", "n"],
        };
        let list = columns.map(|c| format!("coalesce(CAST({c} AS text), '(null)')")).join(" || '|' || ");
        let server = if source { &self.source } else { &self.target };
        let mut rows: Vec<String> = match server {
            Some(server) => {
                let table = if source { table.to_string() } else { format!("mirror.{table}") };
                let session = server.session(&self.database);
                session.rows(&format!("SELECT {list} FROM {table}")).iter().map(|r| r.get(0)).collect()
            }
            None => {
                let file = if source { "harbour.db" } else { "warehouse.db" };
                let db = Connection::open(self.folder.path(file)).unwrap();
                let mut query = db.prepare(&format!("SELECT {list} FROM {table}")).unwrap();
                query.query_map([], |r| r.get(0)).unwrap().map(Result::unwrap).collect()
            }
        };
        rows.sort();
        rows
    }
}

/// One transaction of the application.
fn transaction(random: &mut StdRng, from: From) -> String {
    let mut all = vec!["BEGIN".to_string()];
    for _ in 0..random.random_range(1..6) {
        let (a, b) = (random.random_range(1..3500), random.random_range(1..3500));
        let (v, night) = (a % 40, b % 30);
        all.push(match random.random_range(0..16) {
            0 => format!("INSERT INTO vessels VALUES ({}, 'new', {b})", 4000 + a * 7 + b),
            1 => format!("DELETE FROM vessels WHERE id = {a}"),
            2 => format!("UPDATE vessels SET id = id + 100000 WHERE id = {a}; UPDATE vessels SET id = {a} WHERE id = {b}; UPDATE vessels SET id = {b} WHERE id = {a} + 100000"),
            3 => format!("UPDATE vessels SET n = n + 1, name = name || 'x' WHERE id BETWEEN {a} AND {a} + 20"),
            4 => format!("DELETE FROM vessels WHERE id = {a}; INSERT INTO vessels VALUES ({a}, 'again', {b})"),
            5 => format!("DELETE FROM stays WHERE vessel = {v} AND night = {night}; INSERT INTO stays VALUES ({v}, {night}, 'n{b}')"),
            6 => format!("UPDATE stays SET night = night + 100 WHERE vessel = {v} AND night < 100"),
            7 => format!("DELETE FROM stays WHERE night >= 100 AND vessel = {v}"),
            8 => format!("INSERT INTO gate_log VALUES ({}, 'in'), ({}, 'in'), ({}, NULL)", a % 50, a % 50, b % 50),
            9 if from == From::File => format!("DELETE FROM gate_log WHERE rowid = (SELECT min(rowid) FROM gate_log WHERE n = {})", a % 50),
            9 => format!("DELETE FROM gate_log WHERE ctid = (SELECT min(ctid) FROM gate_log WHERE n = {})", a % 50),
            10 => format!("UPDATE gate_log SET what = 'out' WHERE n = {}", a % 50),
            11 => format!("UPDATE notes SET n = n + 1 WHERE id = {}", a % 70),
            12 => format!("UPDATE notes SET id = id + 1000 WHERE id = {}; UPDATE notes SET body = body || 'y' WHERE id = {}", a % 70, b % 70),
            13 => format!("DELETE FROM notes WHERE id = {0}; INSERT INTO notes VALUES ({0}, '{1}', 1)", a % 70, "z".repeat(3000)),
            14 => format!("SAVEPOINT s; UPDATE vessels SET n = -1 WHERE id < {a}; ROLLBACK TO s; INSERT INTO gate_log VALUES ({}, 'kept')", b % 50),
            _ if random.random_range(0..3) == 0 && from == From::File => format!("INSERT OR REPLACE INTO vessels VALUES ({a}, 'replaced', {b}), ({b}, NULL, {a}); UPDATE OR IGNORE vessels SET id = id + 1 WHERE id < {a}; INSERT OR REPLACE INTO stays VALUES ({v}, {night}, 'r')"),
            _ if random.random_range(0..12) == 0 && from != From::File => "TRUNCATE gate_log; INSERT INTO gate_log VALUES (1, 'first')".to_string(),
            _ if random.random_range(0..10) == 0 && from != From::File => format!("INSERT INTO vessels SELECT i, 'bulk', 0 FROM generate_series({0}, {0} + 4000) i ON CONFLICT DO NOTHING; DELETE FROM vessels WHERE id BETWEEN {0} + 10 AND {0} + 3900", 200_000 + a),
            _ => format!("UPDATE vessels SET name = NULL WHERE id = {a}"),
        });
    }
    all.push(match random.random_range(0..20) {
        0 => "ROLLBACK".to_string(),
        1 if from != From::File => {
            let name = random.random_range(0..1_000_000_000u32);
            format!("PREPARE TRANSACTION 'p{name}'|COMMIT PREPARED 'p{name}'")
        }
        _ => "COMMIT".into(),
    });
    all.join("; ")
}

/// A run that outlives a limit on the size of its files.
fn start(world: &World) -> Running {
    world.folder.start_by(&["/bin/bash", "-c", "trap '' XFSZ; exec \"$0\" run"])
}

/// The size of files that a process may write, which stands for the end of the disk; none for any.
fn limit_files(running: &Running, bytes: Option<u64>) {
    let limit = bytes.map_or("unlimited".to_string(), |bytes| bytes.to_string());
    let pid = running.child.id().to_string();
    // It may have ended meanwhile.
    let _ =
        std::process::Command::new("prlimit").args([&format!("--fsize={limit}:"), "--pid", &pid]).output();
}

/// Makes trouble for a while, and undoes it. The program may be another process afterwards.
fn trouble(world: &mut World, random: &mut StdRng, running: &mut Option<Running>, told: &mut Vec<String>) {
    let pause = Duration::from_millis(random.random_range(20..900));
    let what = random.random_range(0..15);
    let proxies: Vec<Proxy> = [&world.to_source, &world.to_target].into_iter().flatten().cloned().collect();
    let proxy = (!proxies.is_empty()).then(|| proxies[random.random_range(0..proxies.len())].clone());
    told.push(format!("{what} for {pause:?}"));
    match (what, proxy) {
        (0..=3, _) => {
            if let Some(running) = running.take() {
                running.kill();
            }
            std::thread::sleep(pause / 4);
            if random.random_range(0..5) == 0 {
                let _ = std::fs::remove_dir_all(world.folder.path(".moorage"));
            }
            *running = Some(start(world));
            std::thread::sleep(pause);
        }
        (4, _) => {
            if let Some(running) = running.as_ref().filter(|r| r.is_alive()) {
                running.signal("STOP");
                std::thread::sleep(pause);
                running.signal("CONT");
            }
        }
        (5, Some(proxy)) => proxy.cut(),
        (6, Some(proxy)) => {
            proxy.set(Weather::Slow(Duration::from_millis(random.random_range(1..60))));
            std::thread::sleep(pause);
            proxy.set(Weather::Fair);
        }
        (7, Some(proxy)) => {
            proxy.set(Weather::Silent);
            std::thread::sleep(pause);
            proxy.set(Weather::Fair);
        }
        (8, Some(proxy)) => {
            proxy.half_close();
            std::thread::sleep(pause);
            proxy.cut();
        }
        (9, Some(_)) => {
            let server = match (&mut world.source, &mut world.target, random.random_range(0..2)) {
                (Some(server), _, 0) | (Some(server), None, _) | (_, Some(server), _) => server,
                _ => return,
            };
            server.restart();
            world.roll_back_prepared();
        }
        (10, Some(_)) => {
            // The answer of a commit is lost while it waits for a standby that never comes.
            if let (Some(server), Some(proxy)) = (&world.target, &world.to_target) {
                server.set("synchronous_standby_names", "nosuch");
                std::thread::sleep(pause);
                proxy.cut();
                std::thread::sleep(pause / 2);
                server.set("synchronous_standby_names", "");
            }
        }
        (11, _) => {
            let other = world.folder.elsewhere();
            let mut second = other.start(&["run"]);
            std::thread::sleep(pause);
            second.signal_if_alive("KILL");
            second.end();
        }
        (12 | 13, _) => {
            let table = TABLES[random.random_range(0..TABLES.len())];
            let mut asking = world.folder.start(&["resnapshot", table]);
            std::thread::sleep(pause);
            asking.signal_if_alive("KILL");
            asking.end();
        }
        (14, _) => {
            if let Some(running) = running.as_ref() {
                limit_files(running, Some(random.random_range(4 << 10..4 << 20)));
                std::thread::sleep(pause);
                limit_files(running, None);
            }
        }
        _ => std::thread::sleep(pause),
    }
    if running.as_mut().is_none_or(|r| !r.is_alive()) {
        *running = Some(start(world));
    }
}

fn cycle(from: From, to: To, seed: u64) {
    let mut random = StdRng::seed_from_u64(seed);
    let mut world = World::new(from, to, seed);
    let stop = Arc::new(AtomicBool::new(false));
    let loads: Vec<_> = (0..2)
        .map(|number| {
            let (stop, mut run) = (stop.clone(), world.application());
            let mut random = StdRng::seed_from_u64(seed * 31 + number);
            std::thread::spawn(move || {
                while !stop.load(Ordering::Relaxed) {
                    let text = transaction(&mut random, from);
                    text.split('|').for_each(&mut run);
                    std::thread::sleep(Duration::from_millis(random.random_range(0..15)));
                }
            })
        })
        .collect();
    let mut running = Some(start(&world));
    let mut told = Vec::new();
    let begun = Instant::now();
    while begun.elapsed() < Duration::from_secs(10) {
        trouble(&mut world, &mut random, &mut running, &mut told);
    }
    stop.store(true, Ordering::Relaxed);
    while !loads.iter().all(JoinHandle::is_finished) {
        // What a crash left prepared holds rows that the application waits for.
        world.roll_back_prepared();
        std::thread::sleep(Duration::from_millis(50));
    }
    loads.into_iter().for_each(|load| load.join().unwrap());
    world.roll_back_prepared();
    let mut last = String::new();
    if let Some(mut running) = running {
        // Not INT: it may just have been started, and a shell has what it starts in the background ignore that one.
        running.signal_if_alive("TERM");
        running.end();
        last = running.log();
    }
    let what = format!("seed {seed}, {from:?} to {to:?}: {told:?}\n{last}");
    let ended = world.folder.moorage(&["run", "--until", "caught-up"]);
    assert_eq!(ended.code, 0, "{what}\n{}", ended.all());
    for table in TABLES {
        let (expected, found) = (world.rows(table, true), world.rows(table, false));
        if expected != found {
            let some = |a: &[String], b: &[String]| {
                a.iter().filter(|r| !b.contains(r)).take(5).cloned().collect::<Vec<_>>()
            };
            panic!(
                "{what}\n{table}: {} and {} rows; missing {:?}; extra {:?}",
                expected.len(),
                found.len(),
                some(&expected, &found),
                some(&found, &expected)
            );
        }
    }
    world.folder.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// `MOORAGE_SOAK` is how many cycles each pair of ends goes through, `MOORAGE_SEED` where their seeds begin.
fn asked(name: &str, otherwise: u64) -> u64 {
    std::env::var(name).ok().and_then(|v| v.parse().ok()).unwrap_or(otherwise)
}

#[rstest]
#[case(From::Log, To::Server, 100)]
#[case(From::Log, To::File, 200)]
#[case(From::Trigger, To::Server, 300)]
#[case(From::Trigger, To::File, 400)]
#[case(From::File, To::Server, 500)]
#[case(From::File, To::File, 600)]
fn whatever_fails_both_sides_end_the_same(#[case] from: From, #[case] to: To, #[case] first: u64) {
    let first = first + asked("MOORAGE_SEED", 0);
    for seed in first..first + asked("MOORAGE_SOAK", 1) {
        let begun = Instant::now();
        cycle(from, to, seed);
        if std::env::var_os("MOORAGE_SOAK").is_some() {
            let seconds = begun.elapsed().as_secs_f64();
            writeln!(stderr(), "seed {seed}, {from:?} to {to:?}: equal, after {seconds:.1} s").unwrap();
        }
    }
}

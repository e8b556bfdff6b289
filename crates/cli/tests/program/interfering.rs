//! Someone alters what a run rests on, between any two of its messages to the servers, while it starts and catches up: what was
//! missed is read again, and nothing is taken for what it was.

use crate::harness::Mirror;
use moorage_testkit::{PostgresServer, Proxy, Session};

const TABLES: &str = "
CREATE TABLE berths (id int PRIMARY KEY, n int); INSERT INTO berths VALUES (1, 0), (2, 0); CREATE TABLE stays (id int PRIMARY KEY, n int); INSERT INTO stays VALUES (1, 100);
CREATE TABLE quays (id int PRIMARY KEY, n int, a int); INSERT INTO quays VALUES (1, 0, 7)";

/// What someone does at a time; all of it leaves everything shaped as it was.
fn interfere(someone: &Session, n: u64, (name, capture): (&str, &str)) {
    let publication = || {
        someone.value::<String>(&format!(
            "SELECT pubname::text FROM pg_publication WHERE pubname LIKE '%{name}%'"
        ))
    };
    let missed = "UPDATE berths SET n = n + 1";
    let statements = match (n % 4, capture) {
        (0, "log") => {
            let publication = publication();
            format!("ALTER PUBLICATION {publication} DROP TABLE berths; {missed}; ALTER PUBLICATION {publication} ADD TABLE berths")
        }
        (0, _) => format!("ALTER TABLE berths DISABLE TRIGGER ALL; {missed}; ALTER TABLE berths ENABLE TRIGGER ALL"),
        (1, _) => format!(
            "DROP TABLE stays; CREATE TABLE stays (id int PRIMARY KEY, n int); INSERT INTO stays VALUES (1, {n}), (2, {n})"
        ),
        (2, _) => "ALTER TABLE berths RENAME TO between; ALTER TABLE stays RENAME TO berths; ALTER TABLE between RENAME TO stays; UPDATE stays SET n = n + 1".into(),
        _ => format!("ALTER TABLE quays DROP a; ALTER TABLE quays ADD a int DEFAULT {n}; UPDATE quays SET n = {n}"),
    };
    // What Moorage holds locked is not waited for: it waits for us.
    for statement in statements.split("; ") {
        someone.run("BEGIN; SET LOCAL lock_timeout = '200ms'");
        let end = if someone.try_run(statement).is_ok() { "COMMIT" } else { "ROLLBACK" };
        someone.run(end);
    }
}

fn interfered_with_at_every(stride: u64, capture: &str) -> u64 {
    let server = PostgresServer::shared();
    let name = format!("interfering_{capture}");
    let mirror = Mirror::new(&name, TABLES);
    let proxy = Proxy::to(server.port());
    mirror.replace("[sources.harbour]", &format!("[sources.harbour]\ncapture = \"{capture}\""));
    mirror.add(&format!("[pipelines.{name}.drift]\ncolumn_dropped = \"follow\""));
    let text = std::fs::read_to_string(mirror.path("moorage.toml")).unwrap();
    let through = text.replace(&format!(":{}/", server.port()), &format!(":{}/", proxy.port()));
    std::fs::write(mirror.path("moorage.toml"), through).unwrap();
    mirror.catch_up();
    let someone = mirror.another_session();
    let mut times = 0;
    for n in 0.. {
        mirror
            .source
            .run("UPDATE berths SET n = n + 1; UPDATE stays SET n = n + 1; UPDATE quays SET n = n + 1");
        proxy.falls_silent_after(1 + n * stride);
        let mut run = mirror.start(&["run", "--until", "caught-up"]);
        while !proxy.is_silent() && run.is_alive() {
            std::thread::sleep(std::time::Duration::from_millis(2));
        }
        let was_met = proxy.is_silent() && run.is_alive();
        interfere(&someone, n, (&name, capture));
        proxy.goes_on();
        let code = run.end();
        assert_eq!(code, 0, "{n}: {}", run.log());
        let log = run.log() + &mirror.catch_up().all();
        for table in ["berths", "stays", "quays"] {
            let rows = |of: &Session, table: &str| {
                of.value::<Option<String>>(&format!(
                    "SELECT string_agg(t::text, ' ' ORDER BY t::text) FROM (SELECT * FROM {table}) t"
                ))
            };
            let (source, target) = (
                rows(&mirror.source, table),
                rows(&mirror.target, &format!("mirror.{}", target_of(&mirror, table))),
            );
            assert_eq!(source, target, "{n}, {table}: {log}");
        }
        mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
        if !was_met {
            return times;
        }
        times += 1;
    }
    times
}

/// Tables that swap their names keep their target tables.
fn target_of(mirror: &Mirror, table: &str) -> String {
    let sql =
        format!("SELECT substr(target, 8) FROM moorage_state.tables WHERE source_table = 'public.{table}'");
    mirror.target.value(&sql)
}

/// At every one of `MOORAGE_INTERFERED` messages, else at a few.
#[rstest::rstest]
#[case::by_the_log("log")]
#[case::by_triggers("trigger")]
fn someone_alters_what_a_run_rests_on(#[case] capture: &str) {
    let every = std::env::var("MOORAGE_INTERFERED").ok().map(|every| every.parse::<u64>().unwrap());
    let times = interfered_with_at_every(every.unwrap_or(97), capture);
    assert!(times > 2, "it was met {times} times");
}

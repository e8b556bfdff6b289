//! Killed with each message to the servers, whatever it says, while changes of structure of every kind are followed: the message
//! arrives, its answer does not, and the next run ends where it would have ended without.

use crate::harness::{Mirror, ident};
use moorage_testkit::{PostgresServer, Proxy};

const TABLES: &str = "
CREATE TYPE state AS ENUM ('s0');
CREATE TABLE added (id int PRIMARY KEY, a int); CREATE TABLE dropped (id int PRIMARY KEY, a0 int, b int); CREATE TABLE renamed (id int PRIMARY KEY, a0 int);
CREATE TABLE widened (id int PRIMARY KEY, a numeric(6,2)); CREATE TABLE rewritten (id int PRIMARY KEY, a int); CREATE TABLE relabelled (id int PRIMARY KEY, a state);
CREATE TABLE rekeyed (id int PRIMARY KEY, a int NOT NULL); CREATE TABLE held (id int PRIMARY KEY, a0 int); CREATE TABLE again (id int PRIMARY KEY, a int);
CREATE TABLE moved_0 (id int PRIMARY KEY, a int); CREATE TABLE plain (id int PRIMARY KEY, a int);
INSERT INTO added VALUES (1, 1); INSERT INTO dropped VALUES (1, 1, 1); INSERT INTO renamed VALUES (1, 1); INSERT INTO widened VALUES (1, 1); INSERT INTO rewritten VALUES (1, 1);
INSERT INTO relabelled VALUES (1, 's0'); INSERT INTO rekeyed VALUES (1, 1); INSERT INTO held VALUES (1, 1); INSERT INTO again VALUES (1, 1); INSERT INTO moved_0 VALUES (1, 1)";

/// A round: every kind, with rows before and behind.
fn round(n: u32) -> String {
    let (next, id, digits) = (n + 1, n + 2, 7 + n % 900);
    let (key, other) = if n.is_multiple_of(2) { ("a", "id") } else { ("id", "a") };
    // Else each round would have more messages than the last one.
    let last = n.saturating_sub(1);
    format!(
        "DROP TABLE IF EXISTS new_{last}; UPDATE plain SET a = a + 1; INSERT INTO plain VALUES ({id}, {id});
         UPDATE added SET a = a + 1; ALTER TABLE added ADD c{n} int DEFAULT {n}; INSERT INTO added (id, c{n}) VALUES ({id}, NULL);
         UPDATE dropped SET b = b + 1; ALTER TABLE dropped DROP a{n}; ALTER TABLE dropped ADD a{next} int DEFAULT {n}; INSERT INTO dropped VALUES ({id}, 1, 1);
         ALTER TABLE renamed RENAME a{n} TO a{next}; INSERT INTO renamed VALUES ({id}, {id});
         ALTER TABLE widened ALTER a TYPE numeric({digits}, 2); INSERT INTO widened VALUES ({id}, {id}.25);
         ALTER TABLE rewritten ALTER a TYPE int USING a + 1; INSERT INTO rewritten VALUES ({id}, 0);
         ALTER TYPE state RENAME VALUE 's{n}' TO 's{next}'; INSERT INTO relabelled VALUES ({id}, 's{next}');
         ALTER TABLE rekeyed DROP CONSTRAINT rekeyed_pkey, ADD PRIMARY KEY ({key}); INSERT INTO rekeyed VALUES ({id}, {id}); UPDATE rekeyed SET {other} = {other} + 1000 WHERE {key} = {id};
         UPDATE held SET a{n} = a{n} + 1; ALTER TABLE held RENAME a{n} TO a{next}; INSERT INTO held VALUES ({id}, {id});
         DROP TABLE again; CREATE TABLE again (id int PRIMARY KEY, a int); INSERT INTO again VALUES ({n}, {n});
         ALTER TABLE moved_{n} RENAME TO moved_{next}; INSERT INTO moved_{next} VALUES ({id}, {id});
         CREATE TABLE new_{n} (id int PRIMARY KEY); INSERT INTO new_{n} VALUES ({n}); UPDATE plain SET a = a + 1"
    )
}

/// How many messages a run writes is counted by going on until one ends by itself.
fn killed_with_every(stride: u64, capture: &str) -> u32 {
    let server = PostgresServer::shared();
    let name = format!("killed_{capture}");
    let mirror = Mirror::new(&name, TABLES);
    let proxy = Proxy::to(server.port());
    mirror.replace("[sources.harbour]", &format!("[sources.harbour]\ncapture = \"{capture}\""));
    mirror.add(&format!(
        "[pipelines.{name}.drift]\ncolumn_renamed = \"follow\"\ncolumn_dropped = \"follow\"\nkey_changed = \"reread\"\n\n\
         [[pipelines.{name}.rule]]\nmatch = \"public.held\"\ndrift = {{ column_renamed = \"hold\" }}"
    ));
    let text = std::fs::read_to_string(mirror.path("moorage.toml")).unwrap();
    let through = text.replace(&format!(":{}/", server.port()), &format!(":{}/", proxy.port()));
    std::fs::write(mirror.path("moorage.toml"), through).unwrap();
    mirror.catch_up();
    let mut pieces = 1;
    for n in 0.. {
        mirror.source.run(&round(n));
        mirror.moorage(&["drift", "follow", "--all"]);
        proxy.falls_silent_after(pieces);
        let mut run = mirror.start(&["run", "--until", "caught-up"]);
        while !proxy.is_silent() && run.is_alive() {
            std::thread::sleep(std::time::Duration::from_millis(2));
        }
        let was_killed = proxy.is_silent();
        if was_killed {
            run.kill();
        } else {
            assert_eq!(run.end(), 0, "{}", run.log());
        }
        proxy.clears_up();
        // What was in the way of the killed one may end a moment later.
        mirror.catch_up();
        for table in
            ["plain", "added", "dropped", "renamed", "widened", "rewritten", "relabelled", "rekeyed", "again"]
        {
            mirror.assert_same(table);
        }
        for (target, table) in
            [("moved_0".to_string(), format!("moved_{}", n + 1)), (format!("new_{n}"), format!("new_{n}"))]
        {
            let rows = |of: &moorage_testkit::Session, table: &str| {
                of.value::<String>(&format!(
                    "SELECT string_agg(t::text, ' ' ORDER BY t::text) FROM {table} t"
                ))
            };
            assert_eq!(
                rows(&mirror.target, &format!("mirror.{}", ident(&target))),
                rows(&mirror.source, &table)
            );
        }
        if !was_killed {
            mirror.moorage(&["drift", "follow", "--all"]);
            mirror.catch_up();
            mirror.assert_same("held");
            mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
            return n;
        }
        pieces += stride;
    }
    0
}

/// With every one of `MOORAGE_KILLED` messages, else with a few.
#[rstest::rstest]
#[case::by_the_log("log")]
#[case::by_triggers("trigger")]
fn killed_with_a_message_it_ends_the_same(#[case] capture: &str) {
    let every = std::env::var("MOORAGE_KILLED").ok().map(|every| every.parse::<u64>().unwrap());
    let kills = killed_with_every(every.unwrap_or(450), capture);
    assert!(kills > 1, "it was killed {kills} times");
}

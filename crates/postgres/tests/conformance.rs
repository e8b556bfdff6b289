//! The PostgreSQL source against the suite for sources.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    reason = "test code stops at the first surprise"
)]

use moorage_adapter::Source;
use moorage_postgres::{PostgresAddress, PostgresSource, PostgresTriggerSource};
use moorage_testkit::conformance::{SourceUnderTest, check_source};
use moorage_testkit::{Op, PostgresServer, Session};
use std::sync::Arc;

struct Postgres {
    source: Arc<dyn Source>,
    session: Session,
}

fn text(value: &Option<String>) -> String {
    value.as_ref().map_or("NULL".into(), |v| format!("'{v}'"))
}

fn statement(op: &Op) -> String {
    match op {
        Op::Insert(r) => format!("INSERT INTO berths VALUES ({}, {}, {})", r.0, text(&r.1), text(&r.2)),
        Op::Update(key, r) => {
            format!(
                "UPDATE berths SET id = {}, name = {}, note = {} WHERE id = {key}",
                r.0,
                text(&r.1),
                text(&r.2)
            )
        }
        Op::Delete(key) => format!("DELETE FROM berths WHERE id = {key}"),
        Op::Truncate => "TRUNCATE berths".into(),
    }
}

impl Postgres {
    fn transaction(&self, ops: &[Op], end: &str) {
        let statements: Vec<String> = ops.iter().map(statement).collect();
        self.session.run(&format!("BEGIN; {}; {end}", statements.join("; ")));
    }
}

impl SourceUnderTest for Postgres {
    fn source(&self) -> Arc<dyn Source> {
        self.source.clone()
    }
    fn commit(&self, ops: &[Op]) {
        self.transaction(ops, "COMMIT");
    }
    fn roll_back(&self, ops: &[Op]) {
        self.transaction(ops, "ROLLBACK");
    }
}

#[tokio::test]
async fn postgres_does_what_is_asked_of_a_source() {
    let server = PostgresServer::shared();
    let session = server.database("conformance");
    session.run("CREATE TABLE berths (id bigint PRIMARY KEY, name text, note text)");
    let address = PostgresAddress::parse(&server.url("conformance")).unwrap();
    let source = Arc::new(PostgresSource::new(address, 2));
    check_source(&Postgres { source, session }).await;
}

#[tokio::test]
async fn postgres_captured_by_triggers_does_the_same() {
    let server = PostgresServer::shared();
    let session = server.database("conformance_triggers");
    session.run("CREATE TABLE berths (id bigint PRIMARY KEY, name text, note text)");
    let address = PostgresAddress::parse(&server.url("conformance_triggers")).unwrap();
    let source = Arc::new(PostgresTriggerSource::new(address, 2, 1 << 30));
    check_source(&Postgres { source, session }).await;
}

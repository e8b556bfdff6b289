//! The PostgreSQL source and target against the suites.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    reason = "test code stops at the first surprise"
)]

use moorage_adapter::{InspectTarget, Source, Target};
use moorage_core::plan::table::TablePlan;
use moorage_postgres::{
    PostgresAddress, PostgresSource, PostgresTarget, PostgresTriggerSource, TargetSettings,
};
use moorage_testkit::conformance::{SourceUnderTest, TargetUnderTest, check_source, check_target};
use moorage_testkit::{Op, PostgresServer, Row, Session};
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
    fn add_column(&self) {
        self.session.run("ALTER TABLE berths ADD COLUMN depth integer");
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

struct Warehouse {
    target: Arc<PostgresTarget>,
    address: PostgresAddress,
    session: Session,
}

impl TargetUnderTest for Warehouse {
    fn target(&self) -> Arc<dyn Target> {
        self.target.clone()
    }
    fn another(&self) -> Arc<dyn Target> {
        Arc::new(PostgresTarget::new(self.address.clone(), TargetSettings::default()))
    }

    fn rows(&self, table: &str) -> Vec<Row> {
        let there: bool = self.session.value(&format!("SELECT to_regclass('{table}') IS NOT NULL"));
        if !there {
            return Vec::new();
        }
        let rows = self.session.rows(&format!("SELECT id, name, note FROM {table}"));
        let mut rows: Vec<Row> = rows.iter().map(|r| Row(r.get(0), r.get(1), r.get(2))).collect();
        rows.sort();
        rows
    }

    fn forbid(&self, table: &str, name: &str) {
        self.session.run(&format!("ALTER TABLE {table} ADD CONSTRAINT forbidden CHECK (name <> '{name}')"));
    }

    fn put(&self, plan: &TablePlan, rows: &[Row]) {
        self.session.run(&self.target.definition(plan));
        for r in rows {
            let values = format!("({}, {}, {})", r.0, text(&r.1), text(&r.2));
            self.session.run(&format!("INSERT INTO {} VALUES {values}", plan.target));
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn postgres_does_what_is_asked_of_a_target() {
    let server = PostgresServer::shared();
    let session = server.database("conformance_target");
    let address = PostgresAddress::parse(&server.url("conformance_target")).unwrap();
    let target = Arc::new(PostgresTarget::new(address.clone(), TargetSettings::default()));
    check_target(&Warehouse { target, address, session }).await;
}

//! Connecting: what is refused says at which layer, and every way of logging in works.

use crate::harness::Project;
use moorage_testkit::{PostgresServer, pool_before};
use rstest::rstest;

const BERTHS: &str = "CREATE TABLE berths (id int PRIMARY KEY); INSERT INTO berths VALUES (1)";

#[rstest]
#[case::name("postgres://postgres@no-such-host.invalid/x", "(name look-up)")]
#[case::refused("postgres://postgres@127.0.0.1:1/x", "(connection refused)")]
#[case::socket("postgres://postgres@/x?host=/nowhere", "(connection refused)")]
#[case::silence("postgres://postgres@127.0.0.1:SILENT/x?connect_timeout=1", "(timed out)")]
#[case::database("postgres://postgres@127.0.0.1:PORT/no_such_database", "(database)")]
#[case::user("postgres://nobody@127.0.0.1:PORT/postgres", "(log-in)")]
#[case::tls("postgres://postgres@127.0.0.1:PORT/postgres?sslmode=require", "(TLS)")]
fn a_first_connection_fails_at_once_and_names_the_layer(#[case] url: &str, #[case] layer: &str) {
    let server = PostgresServer::shared();
    let project = Project::new(&format!("layer_{}", layer.len() * 1000 + url.len()));
    let silent = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let url = url
        .replace("PORT", &server.port().to_string())
        .replace("SILENT", &silent.local_addr().unwrap().port().to_string());
    project.write(&url, "p", "");
    let begun = std::time::Instant::now();
    project.refuses(&["cannot connect to", layer]);
    assert!(begun.elapsed().as_secs() < 8, "not tried again");
    project.moorage(&["check"]).expect(3, &["blocker", layer]);
    assert!(!project.path("warehouse.db").exists());
}

#[test]
fn every_way_of_logging_in_works_and_a_wrong_password_is_named_without_being_shown() {
    let mut server = PostgresServer::start(&[]);
    server.session("postgres").run("SET password_encryption = 'md5'; CREATE ROLE by_md5 LOGIN SUPERUSER PASSWORD 'pass-md5'; SET password_encryption = 'scram-sha-256'; CREATE ROLE by_scram LOGIN SUPERUSER PASSWORD 'pass-scram'; CREATE ROLE by_plain LOGIN SUPERUSER PASSWORD 'pass-plain'");
    server.access_rules(&[
        "local all postgres trust",
        "local all by_scram scram-sha-256",
        "host all by_md5 all md5",
        "host all by_scram all scram-sha-256",
        "host all by_plain all password",
    ]);
    let project = Project::on(&server, "logins");
    project.session.run(BERTHS);
    server.restart();
    for user in ["by_md5", "by_scram", "by_plain"] {
        let password = user.replace("by_", "pass-");
        project.write(&server.url("logins").replace("postgres@", &format!("{user}@")), "logins", "");
        project.refuses(&["(log-in)"]);
        project.replace("[targets", "password = { env = \"SECRET\" }\n[targets");
        let run = |secret: &str| {
            project.command(&["run", "--until", "caught-up"]).env("SECRET", secret).output().unwrap()
        };
        assert!(
            run(&password).status.success(),
            "{user}: {}",
            String::from_utf8_lossy(&run(&password).stderr)
        );
        let wrong = run("not-the-password");
        let words = String::from_utf8(wrong.stderr).unwrap();
        assert!(
            !wrong.status.success() && words.contains("(log-in)") && !words.contains("not-the-password"),
            "{words}"
        );
    }
    std::fs::write(project.path("secret.txt"), "pass-scram\n").unwrap();
    let socket = format!(
        "postgres://by_scram@/logins?host={}&port={}",
        server.socket_folder().display(),
        server.port()
    );
    project.write(&socket, "logins", "");
    project.replace("[targets", "password = { file = \"secret.txt\" }\n[targets");
    project.catch_up();
    project.replace("{ file = \"secret.txt\" }", "{ command = [\"/bin/cat\", \"secret.txt\"] }");
    project.catch_up();
    project.replace("/bin/cat", "/bin/false");
    project.refuses(&["the password of source harbour", "/bin/false"]);
}

/// A pool of connections leaves out what a session asks for when it connects: values look the same all the same.
#[rstest]
#[case::log("")]
#[case::trigger("\ncapture = \"trigger\"")]
fn values_look_the_same_behind_a_pool_of_connections(#[case] capture: &str) {
    let server = PostgresServer::start(&[]);
    let project = Project::on(&server, "pooled");
    for setting in [
        "DateStyle = 'SQL, DMY'",
        "TimeZone = 'Asia/Kathmandu'",
        "IntervalStyle = 'sql_standard'",
        "extra_float_digits = -10",
        "bytea_output = 'escape'",
    ] {
        project.session.run(&format!("ALTER DATABASE pooled SET {setting}"));
    }
    project.session.run("CREATE TABLE t (id int PRIMARY KEY, day date, at timestamptz, span interval, f float8, b bytea);
        INSERT INTO t VALUES (1, '2026-04-03', '2026-04-03 01:02:03.4+00', '1 mon 2 days 3 hours', 0.1::float8 + 0.2, '\\x00ff5c')");
    project.replace("kind = \"postgres\"", &format!("kind = \"postgres\"{capture}"));
    project.replace(&format!(":{}/", server.port()), &format!(":{}/", pool_before(server.port())));
    project.catch_up();
    project.session.run("INSERT INTO t SELECT id + 1, day, at, span, f, b FROM t");
    project.catch_up();
    for id in [1, 2] {
        let row = "SELECT day || ' ' || at || ' ' || span || ' ' || (f = 0.1 + 0.2) || ' ' || hex(b) FROM t WHERE id = ";
        let found: String = project.value(&format!("{row}{id}"));
        assert_eq!(found, "2026-04-03 2026-04-03 01:02:03.4+00:00 P1M2DT3H 1 00FF5C", "row {id}");
    }
    project.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

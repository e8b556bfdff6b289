//! Figures by HTTP, as collectors read them.

use crate::harness::{Folder, Mirror, Project, Quay, Running};
use moorage_testkit::{PostgresServer, Proxy, Weather, wait_until};
use openmetrics_parser::openmetrics::parse_openmetrics;
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::process::{Command, Stdio};

/// A run that serves its figures, and where.
fn start(folder: &Folder) -> (Running, SocketAddr) {
    let mut run = folder.start(&["run", "--listen", "0"]);
    run.wait_for("following changes");
    let log = run.log();
    let (_, rest) = log.split_once("figures are served at http://").expect("where it listens");
    let address = rest.split('/').next().unwrap().parse().unwrap();
    (run, address)
}

/// The status, headers and body of an answer.
fn ask(at: SocketAddr, path: &str, headers: &str) -> (u16, String, String) {
    let mut stream = TcpStream::connect(at).unwrap();
    write!(stream, "GET {path} HTTP/1.1\r\nHost: quay\r\nConnection: close\r\n{headers}\r\n").unwrap();
    let mut answer = String::new();
    stream.read_to_string(&mut answer).unwrap();
    let (head, body) = answer.split_once("\r\n\r\n").unwrap_or_else(|| panic!("{path}: {answer:?}"));
    (head.split(' ').nth(1).unwrap().parse().unwrap(), head.to_lowercase(), body.into())
}

const OPEN_METRICS: &str = "Accept: application/openmetrics-text; version=1.0.0\r\n";

/// The value of a line; none if there is no such line.
fn value(metrics: &str, line: &str) -> Option<f64> {
    metrics.lines().find_map(|l| l.strip_prefix(line)?.trim().parse().ok())
}

fn promtool(arguments: &[&str], input: &str) {
    let mut child = Command::new("promtool")
        .args(arguments)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("scripts/test installs prometheus");
    child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
    let done = child.wait_with_output().unwrap();
    let said = format!("{}{}", String::from_utf8_lossy(&done.stdout), String::from_utf8_lossy(&done.stderr));
    assert!(done.status.success(), "{said}\n{input}");
}

fn rules() -> String {
    concat!(env!("CARGO_MANIFEST_DIR"), "/../../contrib/moorage-rules.yaml").into()
}

/// What is served says what was done; in both forms, by parsers that others wrote; and the rules ask for what there is.
#[test]
fn metrics_are_what_was_done_and_what_rules_ask_for() {
    let mirror = Mirror::new(
        "serve_metrics",
        "CREATE TABLE berths (id int PRIMARY KEY, name text); INSERT INTO berths VALUES (1, 'north');
         CREATE TABLE \"odd \\ \"\"name\"\" {x}\n\" (id int PRIMARY KEY)",
    );
    mirror.append("[[alert]]\nname = \"still\"\nwhen = \"not_running\"\nto = [\"log\"]\n");
    // That no run was known before it is no alarm.
    let first = mirror.catch_up();
    assert!(!first.all().contains("alert"), "{}", first.all());
    let (run, at) = start(&mirror);
    mirror.source.run(
        "INSERT INTO berths VALUES (2, 'south'), (3, 'east'); UPDATE berths SET name = 'x' WHERE id = 1; DELETE FROM berths WHERE id = 3;
         INSERT INTO \"odd \\ \"\"name\"\" {x}\n\" VALUES (1)",
    );
    let metrics = || ask(at, "/metrics", OPEN_METRICS).2;
    wait_until("the changes are counted", || {
        value(&metrics(), "moorage_changes_applied_total{pipeline=\"serve_metrics\",operation=\"insert\"}")
            == Some(3.0)
    });
    wait_until("it is near", || {
        value(&metrics(), "moorage_behind_seconds{pipeline=\"serve_metrics\"}").is_some_and(|s| s < 3.0)
    });
    let (status, head, text) = ask(at, "/metrics", OPEN_METRICS);
    assert_eq!(status, 200);
    assert!(head.contains("application/openmetrics-text; version=1.0.0"), "{head}");
    let parsed = parse_openmetrics(&text).unwrap_or_else(|e| panic!("{e}\n{text}"));
    let of =
        |line: &str| value(&text, &format!("moorage_{line}")).unwrap_or_else(|| panic!("{line} in\n{text}"));
    assert_eq!(of("pipeline_running{pipeline=\"serve_metrics\"}"), 1.0);
    assert_eq!(of("changes_applied_total{pipeline=\"serve_metrics\",operation=\"delete\"}"), 1.0);
    assert_eq!(
        of(
            "table_changes_applied_total{pipeline=\"serve_metrics\",table=\"public.berths\",operation=\"update\"}"
        ),
        1.0
    );
    let transactions = of("transaction_lag_seconds_count{pipeline=\"serve_metrics\"}");
    assert_eq!(transactions, of("transactions_applied_total{pipeline=\"serve_metrics\"}"));
    assert_eq!(transactions, of("transaction_lag_seconds_bucket{le=\"+Inf\",pipeline=\"serve_metrics\"}"));
    assert_eq!(of("alerts_raised{pipeline=\"serve_metrics\",alert=\"still\"}"), 0.0);
    assert_eq!(of("tables{pipeline=\"serve_metrics\",state=\"live\"}"), 2.0);
    // The older form, and the rules.
    wait_until("the source was asked what it keeps", || metrics().contains("moorage_unread_bytes{"));
    let (status, head, text) = ask(at, "/metrics", "");
    assert_eq!(status, 200);
    assert!(head.contains("text/plain; version=0.0.4"), "{head}");
    promtool(&["check", "metrics"], &text);
    promtool(&["check", "rules", &rules()], "");
    let rules = std::fs::read_to_string(rules()).unwrap();
    let words = rules.split(|c: char| !c.is_ascii_alphanumeric() && c != '_');
    let asked: Vec<&str> = words.filter(|word| word.starts_with("moorage_")).collect();
    assert!(asked.len() > 8, "{asked:?}");
    // With triggers or a limit some of them come; what a server without a limit does not say is named here.
    let served = |name: &str| text.lines().any(|line| line.starts_with(name) && !line.starts_with('#'));
    let missing: Vec<&&str> =
        asked.iter().filter(|name| !served(name) && **name != "moorage_source_limit_bytes").collect();
    assert!(missing.is_empty(), "{missing:?} in\n{text}");
    assert!(parsed.families.len() > 20);
    run.stop();
}

/// Tables beyond the limit are counted, and a limit that the source has is served.
#[test]
fn labels_are_bounded() {
    let quay = Quay::new(
        "CREATE TABLE a (id INTEGER PRIMARY KEY); CREATE TABLE b (id INTEGER PRIMARY KEY); CREATE TABLE c (id INTEGER PRIMARY KEY)",
    );
    quay.append("[listen]\ntables = 2\n");
    quay.catch_up();
    let (run, at) = start(&quay);
    quay.change("INSERT INTO a VALUES (1); INSERT INTO b VALUES (1); INSERT INTO c VALUES (1)");
    wait_until("all is counted", || {
        let text = ask(at, "/metrics", "").2;
        value(&text, "moorage_tables_not_shown{pipeline=\"quayside\"}") == Some(1.0)
            && text.contains("table=\"main.a\"")
            && text.contains("table=\"main.b\"")
            && !text.contains("table=\"main.c\"")
    });
    run.stop();
    quay.replace("tables = 2", "tables = 20000");
    quay.moorage(&["status"]).expect(2, &["tables = 20000 is out of range", "0 to 10000"]);
}

#[test]
fn health_readiness_and_status_are_told_to_those_who_may_know() {
    let server = PostgresServer::shared();
    let proxy = Proxy::to(server.port());
    let project = Project::new("serve_ready");
    project.session.run("CREATE TABLE berths (id int PRIMARY KEY); INSERT INTO berths VALUES (1)");
    project.replace(&server.port().to_string(), &proxy.port().to_string());
    project.append("[listen]\ntoken = { file = \"token\" }\n");
    std::fs::write(project.path("token"), "sesame\n").unwrap();
    project.catch_up();
    let (run, at) = start(&project);
    wait_until("it is ready", || ask(at, "/readyz", "").0 == 200);
    assert_eq!(ask(at, "/healthz", "").0, 200);
    for path in ["/metrics", "/status"] {
        for headers in ["", "Authorization: Bearer sesam\r\n", "Authorization: Basic sesame\r\n"] {
            let (status, head, body) = ask(at, path, headers);
            assert_eq!(status, 401, "{path} {headers}");
            assert!(head.contains("www-authenticate: bearer") && !body.contains("berths"), "{head}{body}");
        }
        assert_eq!(ask(at, path, "Authorization: bearer sesame\r\n").0, 200);
    }
    let status: serde_json::Value =
        serde_json::from_str(&ask(at, "/status", "Authorization: Bearer sesame\r\n").2).unwrap();
    let printed = project.moorage(&["status", "--format", "json"]).expect(0, &[]).out;
    let printed: serde_json::Value = serde_json::from_str(&printed).unwrap();
    let keys = |of: &serde_json::Value| of[0].as_object().unwrap().keys().cloned().collect::<Vec<_>>();
    assert_eq!(keys(&status), keys(&printed));
    assert_eq!(status[0]["tables"][0]["table"], "public.berths");
    assert_eq!(status[0]["tables"][0]["rows"], serde_json::Value::Null, "nothing is counted for it");
    assert_eq!(ask(at, "/elsewhere", "").0, 404);
    // What is silent, or too long, holds nobody up.
    let silent: Vec<TcpStream> = (0..10).map(|_| TcpStream::connect(at).unwrap()).collect();
    assert_eq!(ask(at, "/healthz", "").0, 200);
    let mut long = TcpStream::connect(at).unwrap();
    // It hangs up as soon as it is too much.
    let _ = write!(long, "GET /healthz HTTP/1.1\r\nHost: quay\r\nX: {}\r\n\r\n", "x".repeat(4_000_000));
    let mut answer = Vec::new();
    let _ = long.read_to_end(&mut answer);
    assert!(!answer.starts_with(b"HTTP/1.1 200"), "{}", String::from_utf8_lossy(&answer));
    drop(silent);
    // A source that cannot be reached is tried again, and that is not ready.
    proxy.set(Weather::Closed);
    proxy.cut();
    wait_until("it is not ready", || ask(at, "/readyz", "").0 == 503);
    assert!(!ask(at, "/readyz", "").2.contains("serve_ready"), "names are not for everybody");
    assert!(ask(at, "/readyz", "Authorization: Bearer sesame\r\n").2.contains("serve_ready: it tries again"));
    proxy.set(Weather::Fair);
    wait_until("it is ready again", || ask(at, "/readyz", "").0 == 200);
    // Somebody is there already.
    let other = project.elsewhere();
    std::fs::write(other.path("token"), "sesame").unwrap();
    other
        .moorage(&["run", "--listen", &at.to_string()])
        .expect(1, &["figures cannot be served at", "in use", "--listen"]);
    other.moorage(&["run", "--listen", "quay"]).expect(2, &["a port, such as 9187"]);
    run.stop();
}

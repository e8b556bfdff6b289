//! Connecting: what is refused says at which layer, and every way of logging in works.

use crate::harness::Project;
use moorage_testkit::PostgresServer;
use rcgen::{BasicConstraints, CertificateParams, IsCa, Issuer, KeyPair};
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

#[test]
fn encryption_checks_what_its_mode_says() {
    let ca_key = KeyPair::generate().unwrap();
    let mut params = CertificateParams::new(Vec::new()).unwrap();
    params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    let ca = params.self_signed(&ca_key).unwrap();
    let issuer = Issuer::new(params, ca_key);
    let key = KeyPair::generate().unwrap();
    let certificate =
        CertificateParams::new(vec!["localhost".to_string()]).unwrap().signed_by(&key, &issuer).unwrap();
    let mut server = PostgresServer::start(&[]);
    server.private_file("server.crt", &certificate.pem());
    server.private_file("server.key", &key.serialize_pem());
    server.configure(&["ssl = on"]);
    server.access_rules(&["local all all trust", "hostssl all all all trust"]);
    let project = Project::on(&server, "encrypted");
    project.session.run(BERTHS);
    server.restart();
    std::fs::write(project.path("ca.pem"), ca.pem()).unwrap();
    let other_key = KeyPair::generate().unwrap();
    let mut other = CertificateParams::new(Vec::new()).unwrap();
    other.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    std::fs::write(project.path("other.pem"), other.self_signed(&other_key).unwrap().pem()).unwrap();
    let named = server.url("encrypted").replace("127.0.0.1", "localhost");
    let by_number = server.url("encrypted");
    for (url, mode, root, works) in [
        (&named, "disable", "ca.pem", false),
        (&by_number, "prefer", "", true),
        (&by_number, "require", "", true),
        (&by_number, "verify-ca", "ca.pem", true),
        (&by_number, "verify-ca", "other.pem", false),
        (&named, "verify-full", "ca.pem", true),
        (&by_number, "verify-full", "ca.pem", false),
        (&named, "verify-full", "other.pem", false),
    ] {
        project.write(url, "encrypted", "");
        let root = if root.is_empty() { String::new() } else { format!("sslrootcert = \"{root}\"\n") };
        project.replace("[targets", &format!("sslmode = \"{mode}\"\n{root}[targets"));
        let ran = project.moorage(&["run", "--until", "caught-up"]);
        assert_eq!(ran.code == 0, works, "{mode} {url} {root}: {}", ran.all());
        if !works && mode != "disable" {
            assert!(ran.err.contains("(TLS)"), "{}", ran.err);
        }
    }
    assert_eq!(project.value::<i64>("SELECT count(*) FROM berths"), 1);
}

//! Encryption: what each mode checks, certificates of both ends, log-ins bound to their channel.

use crate::authority::Authority;
use crate::harness::{Mirror, Project, Ran};
use moorage_testkit::{PostgresServer, wait_until};
use rcgen::{CertificateParams, KeyPair};
use rstest::rstest;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName};
use std::process::Command;
use std::sync::Arc;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};

const BERTHS: &str = "CREATE TABLE berths (id int PRIMARY KEY); INSERT INTO berths VALUES (1)";

/// A server that encrypts, with a certificate for a name; it lets connections over TCP in by a rule.
fn encrypted(authority: &Authority, name: &str, rule: &str) -> PostgresServer {
    let mut server = PostgresServer::start(&[]);
    let (certificate, key) = authority.signs(name);
    server.private_file("server.crt", &certificate);
    server.private_file("server.key", &key);
    server.configure(&["ssl = on"]);
    server.access_rules(&["local all all trust", rule]);
    server.restart();
    server
}

#[test]
fn encryption_checks_what_its_mode_says() {
    let authority = Authority::new();
    let server = encrypted(&authority, "localhost", "hostssl all all all trust");
    let project = Project::on(&server, "encrypted");
    project.session.run(BERTHS);
    authority.write(&project, "ca.pem");
    Authority::new().write(&project, "other.pem");
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

/// C.23: a wrong file is an error in every mode, also in those that would not look into it.
#[rstest]
#[case::missing(None, "No such file")]
#[case::empty(Some(""), "there is no certificate in it")]
#[case::no_certificate(Some("hello"), "there is no certificate in it")]
#[case::broken(
    Some("-----BEGIN CERTIFICATE-----\naGVsbG8=\n-----END CERTIFICATE-----\n"),
    "not a certificate"
)]
fn a_file_of_authorities_that_cannot_be_read_is_an_error_in_every_mode(
    #[case] content: Option<&str>,
    #[case] words: &str,
) {
    let project = Project::new(&format!("roots_{}", words.len() + content.map_or(0, str::len)));
    if let Some(content) = content {
        std::fs::write(project.path("ca.pem"), content).unwrap();
    }
    project.replace("[targets", "sslmode = \"disable\"\nsslrootcert = \"ca.pem\"\n[targets");
    let mut last = "disable";
    for mode in ["disable", "prefer", "require", "verify-ca", "verify-full"] {
        project.replace(&format!("\"{last}\""), &format!("\"{mode}\""));
        last = mode;
        project.refuses(&["(TLS)", "sslrootcert", "ca.pem", words]);
    }
}

fn openssl(project: &Project, arguments: &str) {
    let ran = Command::new("sh")
        .args(["-c", &format!("openssl {arguments}")])
        .current_dir(project.folder())
        .output()
        .unwrap();
    assert!(ran.status.success(), "{arguments}: {}", String::from_utf8_lossy(&ran.stderr));
}

/// C.23: what is refused says why in words, and the statement in it, carried out as it stands, mends it.
#[rstest]
#[case::version_1(
    "x509 -req -in server.csr -CA root.crt -CAkey root.key -CAcreateserial -days 9 -out server.crt",
    "is of version 1"
)]
#[case::expired(
    "x509 -req -in server.csr -CA root.crt -CAkey root.key -CAcreateserial -days -1 -extfile server.ext -out server.crt",
    "expired on"
)]
#[case::an_authoritys(
    "x509 -req -in server.csr -CA root.crt -CAkey root.key -CAcreateserial -days 9 -extfile ca.ext -out server.crt",
    "is that of an authority"
)]
fn a_refused_certificate_is_named_with_the_statement_that_makes_a_right_one(
    #[case] made_by: &str,
    #[case] words: &str,
) {
    let mut server = PostgresServer::start(&[]);
    let project = Project::on(&server, "refused");
    project.session.run(BERTHS);
    openssl(&project, "req -new -x509 -days 99 -nodes -subj /CN=authority -keyout root.key -out root.crt");
    std::fs::write(project.path("server.ext"), "subjectAltName=DNS:localhost").unwrap();
    std::fs::write(project.path("ca.ext"), "basicConstraints=CA:TRUE\nsubjectAltName=DNS:localhost").unwrap();
    openssl(&project, "req -new -nodes -subj /CN=localhost -keyout server.key -out server.csr");
    openssl(&project, made_by);
    let read = |name: &str| std::fs::read_to_string(project.path(name)).unwrap();
    server.access_rules(&["local all all trust", "hostssl all all all trust"]);
    server.configure(&["ssl = on"]);
    let put_in_place = |server: &mut PostgresServer| {
        server.private_file("server.crt", &read("server.crt"));
        server.private_file("server.key", &read("server.key"));
        server.restart();
    };
    put_in_place(&mut server);
    project.write(&server.url("refused").replace("127.0.0.1", "localhost"), "refused", "");
    project.replace("[targets", "sslmode = \"verify-full\"\nsslrootcert = \"root.crt\"\n[targets");
    let refused = project.refuses(&["(TLS)", "the server's certificate (CN=localhost)", words]);
    // Whoever does not ask who the server is gets in all the same.
    project.replace("sslmode = \"verify-full\"\nsslrootcert = \"root.crt\"", "sslmode = \"require\"");
    project.catch_up();
    project.replace("sslmode = \"require\"", "sslmode = \"verify-full\"\nsslrootcert = \"root.crt\"");
    let statement = refused.err.split_once("data folder by: ").unwrap().1.lines().next().unwrap();
    openssl(&project, statement.strip_prefix("openssl ").unwrap());
    put_in_place(&mut server);
    project.catch_up();
}

/// C.23: made as the server's manual says, and named as trusted itself, as the server's own client library takes it.
#[test]
fn a_server_may_show_the_certificate_that_was_named_as_trusted() {
    let mut server = PostgresServer::start(&[]);
    let project = Project::on(&server, "pinned");
    project.session.run(BERTHS);
    openssl(&project, "req -new -x509 -days 9 -nodes -subj /CN=localhost -keyout server.key -out server.crt");
    for name in ["server.crt", "server.key"] {
        server.private_file(name, &std::fs::read_to_string(project.path(name)).unwrap());
    }
    server.configure(&["ssl = on"]);
    server.access_rules(&["local all all trust", "hostssl all all all trust"]);
    server.restart();
    let named = server.url("pinned").replace("127.0.0.1", "localhost");
    project.write(&named, "pinned", "");
    project.replace("[targets", "sslmode = \"verify-full\"\nsslrootcert = \"server.crt\"\n[targets");
    project.catch_up();
    project.replace("localhost", "127.0.0.1");
    project.refuses(&["is for localhost, not for 127.0.0.1", "verify-ca"]);
    project.replace("verify-full", "verify-ca");
    project.catch_up();
}

/// C.23: also one that is named itself counts within its time only, and it is said which side of it this is.
#[rstest]
#[case::not_yet((2100, 2101), "counts from 2100-01-01 on: is the clock of this machine right?")]
#[case::no_longer((2001, 2002), "expired on 2002-01-01")]
fn a_certificate_that_is_named_itself_counts_within_its_time(#[case] years: (i32, i32), #[case] words: &str) {
    let mut server = PostgresServer::start(&[]);
    let project = Project::on(&server, "untimely");
    let key = KeyPair::generate().unwrap();
    let mut params = CertificateParams::new(vec!["127.0.0.1".to_string()]).unwrap();
    params.not_before = rcgen::date_time_ymd(years.0, 1, 1);
    params.not_after = rcgen::date_time_ymd(years.1, 1, 1);
    let certificate = params.self_signed(&key).unwrap().pem();
    std::fs::write(project.path("server.crt"), &certificate).unwrap();
    server.private_file("server.crt", &certificate);
    server.private_file("server.key", &key.serialize_pem());
    server.configure(&["ssl = on"]);
    server.access_rules(&["local all all trust", "hostssl all all all trust"]);
    server.restart();
    project.write(&server.url("untimely"), "untimely", "");
    project.replace("[targets", "sslmode = \"verify-full\"\nsslrootcert = \"server.crt\"\n[targets");
    project.refuses(&["(TLS)", words]);
}

/// C.23: `check` says who is at both ends, how it is encrypted, and until when certificates count.
#[test]
fn both_ends_of_a_connection_and_the_life_of_its_certificates_are_told() {
    let authority = Authority::new();
    let server = encrypted(&authority, "localhost", "hostssl all all all trust");
    let project = Project::on(&server, "described");
    project.session.run(BERTHS);
    let port = server.port();
    project.moorage(&["check"]).expect(
        0,
        &[
            "encrypted (TLS 1.3), from 127.0.0.1 to 127.0.0.1",
            &format!("port {port}"),
            "the server's certificate (CN=localhost) is good until 4096-01-01",
        ],
    );
    project.replace(&format!(":{port}"), ":1");
    project.moorage(&["check"]).expect(3, &["from 127.0.0.1 to 127.0.0.1 port 1"]);
}

/// C.23: logging in by our own certificate.
#[test]
fn a_certificate_of_ours_logs_in() {
    let authority = Authority::new();
    let mut server = encrypted(&authority, "localhost", "hostssl all all all cert");
    server.private_file("ca.crt", &authority.pem);
    server.configure(&["ssl_ca_file = 'ca.crt'"]);
    server.restart();
    let project = Project::on(&server, "by_certificate");
    project.session.run(BERTHS);
    let write = |cert: &str, authority: &Authority| {
        let (certificate, key) = authority.signs("postgres");
        std::fs::write(project.path(&format!("{cert}.crt")), certificate).unwrap();
        std::fs::write(project.path(&format!("{cert}.key")), key).unwrap();
        chmod(&project, &format!("{cert}.key"), 0o600);
    };
    write("ours", &authority);
    write("strange", &Authority::new());
    project.refuses(&["(log-in)", "requires a valid client certificate"]);
    project.replace("[targets", "sslcert = \"ours.crt\"\n[targets");
    project.moorage(&["run"]).expect(2, &["source harbour has `sslcert` without `sslkey`"]);
    project.replace("sslcert = \"ours.crt\"\n", "sslcert = \"ours.crt\"\nsslkey = \"ours.key\"\n");
    project.catch_up();
    project.moorage(&["check"]).expect(0, &["our own certificate (CN=postgres) is good until"]);
    chmod(&project, "ours.key", 0o644);
    let refused = project.refuses(&["(TLS)", "may be read by others", "chmod 600"]);
    let advice = refused.err.lines().find_map(|l| l.split_once("chmod ")).unwrap().1;
    assert!(
        Command::new("chmod")
            .args(advice.split(' '))
            .current_dir(project.folder())
            .status()
            .unwrap()
            .success()
    );
    project.catch_up();
    project.replace("ours.", "strange.");
    project.refuses(&["the server refuses our certificate"]);
    project.replace("sslkey = \"strange.key\"", "sslkey = \"ours.key\"");
    project.refuses(&["do not go together"]);
}

fn chmod(project: &Project, name: &str, mode: u32) {
    use std::os::unix::fs::PermissionsExt;
    std::fs::set_permissions(project.path(name), std::fs::Permissions::from_mode(mode)).unwrap();
}

/// Someone in between, who has a certificate too, decrypts everything and passes it on.
fn in_between(own: &Authority, server: &PostgresServer, trusted: &Authority) -> u16 {
    let provider = || Arc::new(rustls::crypto::ring::default_provider());
    let (certificate, key) = own.signs("localhost");
    let accepts = rustls::ServerConfig::builder_with_provider(provider())
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_no_client_auth()
        .with_single_cert(
            vec![CertificateDer::from_pem_slice(certificate.as_bytes()).unwrap()],
            PrivateKeyDer::from_pem_slice(key.as_bytes()).unwrap(),
        )
        .unwrap();
    let mut roots = rustls::RootCertStore::empty();
    roots.add(CertificateDer::from_pem_slice(trusted.pem.as_bytes()).unwrap()).unwrap();
    let connects = rustls::ClientConfig::builder_with_provider(provider())
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_root_certificates(roots)
        .with_no_client_auth();
    let (accepts, connects) = (Arc::new(accepts), Arc::new(connects));
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    listener.set_nonblocking(true).unwrap();
    let (port, behind) = (listener.local_addr().unwrap().port(), server.port());
    std::thread::spawn(move || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let listener = TcpListener::from_std(listener).unwrap();
            while let Ok((mut client, _)) = listener.accept().await {
                let (accepts, connects) = (accepts.clone(), connects.clone());
                tokio::spawn(async move {
                    let mut request = [0; 8];
                    client.read_exact(&mut request).await?;
                    client.write_all(b"S").await?;
                    let mut client: Box<dyn Both> =
                        Box::new(tokio_rustls::TlsAcceptor::from(accepts).accept(client).await?);
                    let mut server = TcpStream::connect(("127.0.0.1", behind)).await?;
                    server.write_all(&request).await?;
                    server.read_u8().await?;
                    let name = ServerName::try_from("localhost").unwrap();
                    let mut server: Box<dyn Both> =
                        Box::new(tokio_rustls::TlsConnector::from(connects).connect(name, server).await?);
                    tokio::io::copy_bidirectional(&mut client, &mut server).await
                });
            }
        });
    });
    port
}

trait Both: AsyncRead + AsyncWrite + Unpin + Send {}
impl<T: AsyncRead + AsyncWrite + Unpin + Send> Both for T {}

/// C.23: what both sides know of the channel is part of the log-in, so that nobody in between can pass it on.
#[test]
fn a_log_in_is_bound_to_its_channel() {
    let authority = Authority::new();
    let mut server = encrypted(&authority, "localhost", "hostssl all all all scram-sha-256");
    let project = Project::on(&server, "bound");
    project.session.run(BERTHS);
    project.session.run("CREATE ROLE mover LOGIN SUPERUSER PASSWORD 'pass-word'");
    let direct = server.url("bound").replace("postgres@", "mover:pass-word@");
    let diverted = direct.replace(
        &format!(":{}", server.port()),
        &format!(":{}", in_between(&Authority::new(), &server, &authority)),
    );
    let run = |url: &str, with: &str| -> Ran {
        project.write(&format!("{url}?sslmode=require&channel_binding={with}"), "bound", "");
        project.moorage(&["run", "--until", "caught-up"])
    };
    run(&direct, "require").expect(0, &["caught up"]);
    project.session.run("INSERT INTO berths VALUES (2)");
    run(&direct, "prefer").expect(0, &["caught up"]);
    // It does work as a go-between where nobody looks.
    project.session.run("INSERT INTO berths VALUES (3)");
    run(&diverted, "disable").expect(0, &["caught up"]);
    for with in ["prefer", "require"] {
        run(&diverted, with).expect(1, &["(log-in)", "channel binding check failed"]);
    }
    assert_eq!(project.value::<i64>("SELECT count(*) FROM berths"), 3);
    // A log-in that is not bound does not do where it has to be.
    project.write(&format!("{direct}?sslmode=disable&channel_binding=require"), "bound", "");
    project.refuses(&["(TLS)", "needs an encrypted connection"]);
    for way in ["password", "trust"] {
        server.access_rules(&["local all all trust", &format!("hostssl all all all {way}")]);
        server.restart();
        run(&direct, "prefer").expect(0, &["caught up"]);
        run(&direct, "require").expect(1, &["(log-in)", "the server lets us in without"]);
    }
}

/// C.23: a token that is good for minutes is asked for anew; one that is changed at the server first is waited for.
#[test]
fn a_password_is_asked_for_anew_for_every_connection() {
    let mut server = PostgresServer::start(&[]);
    let project = Project::on(&server, "tokens");
    project.session.run(BERTHS);
    project.session.run("CREATE ROLE mover LOGIN SUPERUSER PASSWORD 'token-1'");
    server.access_rules(&["local all postgres trust", "host all mover all scram-sha-256"]);
    server.restart();
    std::fs::write(project.path("token"), "token-1\n").unwrap();
    project.write(&server.url("tokens").replace("postgres@", "mover@"), "tokens", "");
    project.replace("[targets", "password = { command = [\"/bin/cat\", \"token\"] }\n[targets");
    let mut running = project.start(&["run"]);
    running.wait_for("following changes");
    let admin = server.session("tokens");
    admin.run("ALTER ROLE mover PASSWORD 'token-2'");
    admin.run("INSERT INTO berths VALUES (2); SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename = 'mover'");
    running.wait_for("password authentication failed");
    std::fs::write(project.path("token"), "token-2\n").unwrap();
    wait_until("the change behind the new log-in", || {
        project.value::<i64>("SELECT count(*) FROM berths") == 2
    });
}

/// C.24: what sessions make belongs to the role that they take on, with the script's rights and no more.
#[test]
fn a_role_that_is_taken_on_owns_what_is_made() {
    let server = PostgresServer::start(&[]);
    let mirror = Mirror::between((&server, ""), (&server, ""), "taken", BERTHS);
    for session in [&mirror.source, &mirror.target] {
        session.run("REVOKE ALL ON SCHEMA public FROM PUBLIC");
    }
    mirror.source.run("CREATE ROLE harbour_owner NOLOGIN; GRANT CREATE ON DATABASE taken TO harbour_owner; ALTER TABLE berths OWNER TO harbour_owner");
    mirror.replace("[targets", "role = \"harbour_owner\"\n[targets");
    mirror.replace("[pipelines", "role = \"quay\"\n[pipelines");
    mirror.replace("postgres@", "mover@");
    // It is not there yet, and neither is the variable with its password: who asks for the script is told how.
    mirror.replace("[targets", "password = { env = \"NOT_YET\" }\n[targets");
    mirror.moorage(&["check", "--sql", "source"]).expect(1, &["NOT_YET is not set", "--as ADMINISTRATOR"]);
    mirror.moorage(&["check", "--sql", "source", "--as", "postgres"]).expect(0, &["CREATE ROLE"]);
    mirror.replace("password = { env = \"NOT_YET\" }\n[targets", "[targets");
    let said = mirror.moorage(&["check", "--sql", "source"]).expect(1, &["(log-in)", "--as ADMINISTRATOR"]);
    assert!(said.err.contains("moorage check --sql source --as"), "{}", said.err);
    mirror.moorage(&["check"]).expect(3, &["moorage check --sql source --as", "moorage check --sql target"]);
    let source = mirror
        .moorage(&["check", "--sql", "source", "--as", "postgres"])
        .expect(0, &["GRANT \"harbour_owner\" TO \"mover\""]);
    let target = mirror.moorage(&["check", "--sql", "target"]).expect(0, &["GRANT \"quay\" TO \"mover\""]);
    assert!(
        !source.out.contains("moorage_state") && !target.out.contains("REPLICATION"),
        "a text for each end"
    );
    // In the wrong database each of them does nothing.
    assert!(mirror.source.try_run(&target.out).unwrap_err().contains("this script is for database taken_w"));
    assert!(mirror.target.try_run(&source.out).unwrap_err().contains("this script is for database taken"));
    assert_eq!(
        mirror.source.value::<i64>("SELECT count(*) FROM pg_roles WHERE rolname IN ('mover', 'quay')"),
        0
    );
    // A slot cannot be made beside other statements of one transaction: statement by statement, as psql does it.
    let psql = |script: &str, database: &str| {
        std::fs::write(mirror.path("script.sql"), script).unwrap();
        let file = mirror.path("script.sql").display().to_string();
        let ran =
            server.tool("psql", &["-v", "ON_ERROR_STOP=1", "-q", "-f", &file], database).output().unwrap();
        assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
    };
    psql(&source.out, "taken");
    psql(&target.out, "taken_w");
    mirror.source.run("SELECT pg_drop_replication_slot(slot_name) FROM pg_replication_slots; DROP PUBLICATION moorage_taken__taken");
    mirror.moorage(&["check"]).expect(0, &["ready"]);
    mirror.assert_follows(&["berths"]);
    mirror.source.run("INSERT INTO berths VALUES (2)");
    mirror.assert_follows(&["berths"]);
    let owner = |session: &moorage_testkit::Session, sql: &str| session.value::<String>(sql);
    assert_eq!(
        owner(&mirror.target, "SELECT tableowner::text FROM pg_tables WHERE schemaname = 'mirror'"),
        "quay"
    );
    assert_eq!(owner(&mirror.source, "SELECT pubowner::regrole::text FROM pg_publication"), "harbour_owner");
    mirror.moorage(&["teardown", "--target"]).expect(0, &[]);
    mirror.source.run("CREATE ROLE stranger");
    mirror.replace("harbour_owner", "stranger");
    mirror.refuses(&["permission denied to set role", "GRANT"]);
}

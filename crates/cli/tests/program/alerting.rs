//! Alerts, as their receivers see them.

use crate::authority::Authority;
use crate::harness::{Mirror, Quay};
use moorage_testkit::{Encrypts, HttpReceiver, MailSink, Posted, PostgresServer, wait_until};
use ring::hmac;
use rstest::rstest;
use serde_json::Value;

const TABLE: &str =
    "CREATE TABLE berths (id int PRIMARY KEY, name text); INSERT INTO berths VALUES (1, 'north')";

/// The state and the data of each event that came.
fn events(got: &[Posted]) -> Vec<(String, Value)> {
    let event = |posted: &Posted| {
        let event: Value = serde_json::from_str(&posted.body).unwrap();
        (event["data"]["state"].as_str().unwrap().to_string(), event)
    };
    got.iter().map(event).collect()
}

fn states(receiver: &HttpReceiver) -> Vec<String> {
    events(&receiver.got()).into_iter().map(|(state, _)| state).collect()
}

fn lock(name: &str) -> moorage_testkit::Session {
    let blocker = PostgresServer::shared().session(&format!("{name}_w"));
    blocker.run("BEGIN; LOCK TABLE mirror.berths IN ACCESS EXCLUSIVE MODE");
    blocker
}

/// A target that is locked: raised, told again, cleared; the receiver down in between; signed; in the form of CloudEvents.
#[test]
fn lag_is_raised_told_again_and_cleared() {
    let mirror = Mirror::new("alert_lag", TABLE);
    let receiver = HttpReceiver::start();
    mirror.append(&format!(
        "[receivers.duty]\nkind = \"webhook\"\nurl = \"http://127.0.0.1:{}/hook?x=1\"\nsecret = {{ env = \"KEY\" }}\ntoken = {{ env = \"KEY\" }}\n\
         [[alert]]\nname = \"behind\"\nwhen = \"lag\"\nover = \"2s\"\nfor = \"1s\"\nrepeat_every = \"2s\"\nto = [\"duty\", \"log\"]\n",
        receiver.port()
    ));
    mirror.catch_up();
    let mut run = mirror.start_by(&["/bin/sh", "-c", "KEY=sesame exec \"$1\" run", "sh"]);
    run.wait_for("following changes");
    let blocker = lock("alert_lag");
    mirror.source.run("INSERT INTO berths VALUES (2, 'south')");
    wait_until("it is raised and told again", || receiver.got().len() >= 3);
    // It is down for a while, and what is said meanwhile comes behind it.
    let port = receiver.port();
    let before = receiver.got();
    drop(receiver);
    blocker.run("COMMIT");
    run.wait_for("alert behind cleared");
    wait_until("it is shown that it is down", || {
        let shown = mirror.moorage(&["alerts"]).expect(0, &["duty"]).out;
        shown.contains("failing since") && shown.contains("no connection") && !shown.contains("hook?x")
    });
    let receiver = HttpReceiver::start_at(port);
    wait_until("what waited came", || states(&receiver).last().is_some_and(|state| state == "cleared"));
    run.stop();
    let all = events(&before);
    assert_eq!(all[0].0, "raised");
    assert!(all[1..].iter().all(|(state, _)| state == "repeated"), "{all:?}");
    let later = states(&receiver);
    assert_eq!(later.iter().filter(|state| *state == "cleared").count(), 1, "{later:?}");
    assert!(later.len() <= 2, "what was still so is told once behind a pause: {later:?}");
    let mut ids: Vec<String> = Vec::new();
    for posted in before.iter().chain(&receiver.got()) {
        let key = hmac::Key::new(hmac::HMAC_SHA256, b"sesame");
        let signed: String =
            hmac::sign(&key, posted.body.as_bytes()).as_ref().iter().map(|b| format!("{b:02x}")).collect();
        assert_eq!(posted.header("moorage-signature"), Some(format!("sha256={signed}").as_str()));
        assert_eq!(posted.header("authorization"), Some("Bearer sesame"));
        assert_eq!(posted.header("content-type"), Some("application/cloudevents+json; charset=utf-8"));
        assert_eq!(posted.path, "/hook?x=1");
        ids.push(serde_json::from_str::<Value>(&posted.body).unwrap()["id"].as_str().unwrap().into());
    }
    let count = ids.len();
    ids.sort();
    ids.dedup();
    assert_eq!(ids.len(), count, "no message came twice");
    let event = &all[0].1;
    assert_eq!(event["specversion"], "1.0");
    assert_eq!(event["type"], "moorage.alert.raised");
    assert_eq!(event["subject"], "alert_lag");
    let data = &event["data"];
    assert_eq!(
        (data["alert"].as_str(), data["next"].as_str()),
        (Some("behind"), Some("moorage lag alert_lag"))
    );
    assert!(data["what"].as_str().unwrap().contains("the target has been at a batch since"), "{data}");
}

/// Nobody who is told slows those who work.
#[test]
fn a_dead_receiver_holds_nobody_up() {
    let mirror = Mirror::new("alert_dead", TABLE);
    // It takes connections, and never answers.
    let dead = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let alive = HttpReceiver::start();
    mirror.append(&format!(
        "[receivers.dead]\nkind = \"webhook\"\nurl = \"http://{}\"\n[receivers.alive]\nkind = \"webhook\"\nurl = \"http://127.0.0.1:{}\"\n\
         [[alert]]\nname = \"changed\"\nwhen = \"drift\"\nto = [\"dead\", \"alive\"]\n",
        dead.local_addr().unwrap(),
        alive.port()
    ));
    mirror.catch_up();
    let run = mirror.follow();
    for column in ["draught", "beam", "mooring"] {
        mirror.source.run(&format!("ALTER TABLE berths ADD {column} int; UPDATE berths SET {column} = 3"));
    }
    wait_until("the one that lives was told of all", || alive.got().len() == 3);
    wait_until("all was carried", || {
        mirror.target.value::<i64>("SELECT count(*) FROM mirror.berths WHERE mooring = 3") == 1
    });
    let told = events(&alive.got());
    assert!(told.iter().all(|(state, _)| state == "happened"), "{told:?}");
    let drift = &told[0].1["data"]["drift"];
    assert_eq!(drift["columns"], serde_json::json!([{ "before": null, "after": "draught integer" }]));
    assert_eq!(drift["done"], "followed");
    run.stop();
    // Behind a restart nothing of it is told again.
    let run = mirror.follow();
    mirror.source.run("ALTER TABLE berths ADD length int; INSERT INTO berths (id) VALUES (7)");
    wait_until("only what is new is told", || alive.got().len() == 4);
    run.stop();
    assert_eq!(alive.got().len(), 4);
}

/// A pipeline that cannot tell of itself.
#[test]
fn what_stands_still_is_told_from_outside() {
    let mirror = Mirror::new("alert_outside", TABLE);
    mirror.append(
        "[[alert]]\nname = \"still\"\nwhen = \"not_running\"\nfor = \"0s\"\nto = [\"log\"]\n\
         [[alert]]\nname = \"behind\"\nwhen = \"lag\"\nover = \"3s\"\nfor = \"0s\"\nto = [\"log\"]\n",
    );
    mirror
        .moorage(&["alerts", "check"])
        .expect(3, &["alert still raised", "nothing runs, and no run of it is known here"]);
    mirror.catch_up();
    let run = mirror.follow();
    wait_until("all is well", || mirror.moorage(&["alerts", "check"]).code == 0);
    run.signal("STOP");
    mirror.source.run("INSERT INTO berths VALUES (2, 'south')");
    wait_until("both are noticed", || {
        let checked = mirror.moorage(&["alerts", "check", "--format", "json"]);
        let said: Value = serde_json::from_str(&checked.out).unwrap();
        let raised = said["pipelines"][0]["raised"].as_array().unwrap();
        let names: Vec<&str> = raised.iter().map(|alert| alert["alert"].as_str().unwrap()).collect();
        checked.code == 3 && names == ["still", "behind"]
    });
    // Its folder is gone, too.
    std::fs::remove_dir_all(mirror.path(".moorage")).unwrap();
    mirror.moorage(&["alerts", "check"]).expect(3, &["was stopped by a signal"]);
    run.signal("CONT");
    wait_until("all is well again", || mirror.moorage(&["alerts", "check"]).code == 0);
    run.stop();
    std::fs::remove_dir_all(mirror.path(".moorage")).unwrap();
    mirror.moorage(&["alerts", "check", "--no-send"]).expect(3, &["alert still raised"]);
}

/// A mail, a program, a body of another form; and tests of each.
#[test]
fn messages_arrive_in_every_form() {
    let quay = Quay::new("CREATE TABLE berths (id INTEGER PRIMARY KEY, name TEXT)");
    let (sink, hook) = (MailSink::start(), HttpReceiver::start());
    quay.append(&format!(
        r#"[receivers.duty]
kind = "mail"
server = "127.0.0.1:{}"
encryption = "none"
from = "Quay <moorage@quay.example>"
to = ["duty@quay.example", "harbour@quay.example"]
[receivers.pager]
kind = "program"
command = ["sh", "-c", "cat > told.json; echo understood >&2"]
[receivers.chat]
kind = "webhook"
url = {{ file = "address" }}
body = '''{{"text": "{{summary}}", "state": "{{state}}", "key": "{{key}}"}}'''
states = {{ raised = "open" }}
[[alert]]
name = "a \"still\" one"
when = "not_running"
to = ["duty", "pager", "chat"]
"#,
        sink.port()
    ));
    std::fs::write(quay.path("address"), format!("http://127.0.0.1:{}/chat\n", hook.port())).unwrap();
    quay.moorage(&["alerts", "test", "duty"]).expect(0, &["duty: taken, 250 kept"]);
    quay.moorage(&["alerts", "test", "pager"]).expect(0, &["pager: taken", "understood"]);
    quay.moorage(&["alerts", "test", "chta"])
        .expect(2, &["no alert and no receiver chta", "chat, duty, pager"]);
    quay.moorage(&["alerts", "check"]).expect(3, &["no run of it is known here", "moorage run quayside"]);
    let mails = sink.got();
    assert_eq!(mails.len(), 2, "a test and an alert");
    assert_eq!(mails[1].to, ["duty@quay.example", "harbour@quay.example"]);
    assert!(
        mails[1].text.contains("Subject: [moorage] quayside: nothing runs, and no run of it is known here"),
        "{}",
        mails[1].text
    );
    assert!(mails[1].text.contains("next      moorage run quayside"), "{}", mails[1].text);
    let told: Value =
        serde_json::from_str(&std::fs::read_to_string(quay.path("told.json")).unwrap()).unwrap();
    assert_eq!(told["data"]["alert"], "a \"still\" one");
    let chat: Value = serde_json::from_str(&hook.got()[0].body).unwrap();
    assert_eq!(chat["text"], "quayside: nothing runs, and no run of it is known here");
    assert_eq!(chat["state"], "open");
    assert_eq!(chat["key"], "quayside/a%20%22still%22%20one");
    assert_eq!(hook.got()[0].header("content-type"), Some("application/json"));
    // Told once, whoever looks how often.
    quay.moorage(&["alerts", "check"]).expect(3, &["nothing runs, and no run of it is known here"]);
    assert_eq!((sink.got().len(), hook.got().len()), (2, 1));
    // What goes wrong is said, and is no success.
    hook.answers(302);
    quay.moorage(&["alerts", "test", "chat"]).expect(1, &["not taken", "302", "did not take the test"]);
    hook.answers(500);
    quay.moorage(&["alerts", "test", "a \"still\" one"])
        .expect(1, &["duty: taken", "500", "said by the receiver"]);
    quay.replace("cat > told.json; echo understood >&2", "exit 4");
    quay.moorage(&["alerts", "test", "pager"]).expect(1, &["not taken", "exit status: 4"]);
}

/// A password and a message go to nobody but the server whose certificate says that it is meant.
#[rstest]
#[case::at_once("tls", Encrypts::AtOnce)]
#[case::when_asked("starttls", Encrypts::WhenAsked)]
fn mail_is_encrypted_before_anything_is_told(#[case] encryption: &str, #[case] when: Encrypts) {
    let (authority, quay) = (Authority::new(), Quay::new("CREATE TABLE berths (id INTEGER PRIMARY KEY)"));
    authority.write(&quay, "ca.pem");
    Authority::new().write(&quay, "other.pem");
    let (certificate, key) = authority.signs("localhost");
    let (sink, open) = (MailSink::encrypting(when, &certificate, &key), MailSink::start());
    quay.append(&format!(
        r#"[receivers.duty]
kind = "mail"
server = "localhost:{}"
encryption = "{encryption}"
user = "quay"
password = {{ file = "secret" }}
ca_file = "ca.pem"
from = "moorage@quay.example"
to = ["duty@quay.example"]
"#,
        sink.port()
    ));
    std::fs::write(quay.path("secret"), "gullcry\n").unwrap();
    quay.moorage(&["alerts", "test", "duty"]).expect(0, &["duty: taken, 250 kept"]);
    // RFC 4616: two NULs, the user and the password in between, in base64.
    let login = "AUTH PLAIN AHF1YXkAZ3VsbGNyeQ==";
    let got = sink.got();
    assert_eq!((got.len(), got[0].encrypted, got[0].login.as_deref()), (1, true, Some(login)));
    for (right, wrong, told) in [
        ("ca.pem", "other.pem", "invalid peer certificate"),
        ("server = \"localhost", "server = \"127.0.0.1", "certificate not valid for name"),
    ] {
        quay.replace(right, wrong);
        let ran = quay.moorage(&["alerts", "test", "duty"]).expect(1, &["duty: not taken", told]);
        assert!(!ran.all().contains("gullcry"), "{}", ran.all());
        quay.replace(wrong, right);
    }
    // Somebody in between who leaves encryption out.
    quay.replace(&sink.port().to_string(), &open.port().to_string());
    quay.moorage(&["alerts", "test", "duty"]).expect(1, &["duty: not taken"]);
    assert_eq!((sink.got().len(), open.got().len()), (1, 0));
}

#[test]
fn what_is_said_in_the_open_is_no_answer_to_what_was_encrypted() {
    let (authority, quay) = (Authority::new(), Quay::new("CREATE TABLE berths (id INTEGER PRIMARY KEY)"));
    authority.write(&quay, "ca.pem");
    let (certificate, key) = authority.signs("localhost");
    let sink = MailSink::encrypting(Encrypts::WithWordsBefore, &certificate, &key);
    quay.append(&format!(
        "[receivers.duty]\nkind = \"mail\"\nserver = \"localhost:{}\"\nca_file = \"ca.pem\"\nfrom = \"moorage@quay.example\"\nto = [\"duty@quay.example\"]\n",
        sink.port()
    ));
    quay.moorage(&["alerts", "test", "duty"])
        .expect(1, &["duty: not taken", "more than it was asked before"]);
    assert!(sink.got().is_empty());
}

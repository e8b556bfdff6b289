//! What goes out, how it is queued, and what the project file may say of receivers.

use super::message::{Message, Template};
use super::receiver::{RECEIVER_KINDS, Receiver};
use super::webhook::signature;
use crate::store::base::StateStore;
use chrono::{DateTime, TimeDelta, Utc};
use moorage_core::project::alert::AlertRule;
use moorage_core::project::config::Project;
use moorage_core::project::section::Kinds;
use moorage_core::watch::alerts::seen::Seen;
use moorage_core::watch::alerts::step::{Key, Notice, Said};
use rstest::rstest;
use std::collections::BTreeMap;
use std::time::Duration;

struct Known;

impl Kinds for Known {
    fn sources(&self) -> Vec<&'static str> {
        vec!["quay"]
    }

    fn targets(&self) -> Vec<&'static str> {
        vec!["shed"]
    }

    fn pipeline_keys(&self, _: &str) -> &'static [&'static str] {
        &[]
    }

    fn receivers(&self) -> Vec<&'static str> {
        RECEIVER_KINDS.iter().map(|(kind, _)| *kind).collect()
    }
}

fn at(s: i64) -> DateTime<Utc> {
    DateTime::from_timestamp(1_800_000_000 + s, 0).unwrap()
}

fn message(what: &str) -> Message {
    let key =
        Key { alert: "behind".into(), pipeline: "quay \"side\"".into(), table: Some("public.berths".into()) };
    let notice = Notice {
        key,
        condition: "lag".into(),
        said: Said::Raised,
        what: what.into(),
        since: at(0),
        at: at(5),
        next: "moorage lag".into(),
        drift: None,
    };
    Message { id: "1".into(), host: "quay 7".into(), notice }
}

#[rstest]
#[case::json(
    "application/json",
    r#"{"a": "{what}", "b": {"c": "{state}"}}"#,
    r#"{"a": "2\" \\ \n{what}", "b": {"c": "open"}}"#
)]
#[case::json_of_another_name("application/vnd.x+json; charset=utf-8", "{what}", r#"2\" \\ \n{what}"#)]
#[case::form("application/x-www-form-urlencoded", "text={what}&x=1", "text=2%22%20%5C%20%0A%7Bwhat%7D&x=1")]
#[case::plain("text/plain", "{ {what} {}", "{ 2\" \\ \n{what} {}")]
fn values_in_a_template_stay_values(#[case] content_type: &str, #[case] text: &str, #[case] body: &str) {
    let states = BTreeMap::from([("raised".to_string(), "open".to_string())]);
    let template = Template::new(text, content_type, states).unwrap();
    assert_eq!(template.render(&message("2\" \\ \n{what}")), body);
}

/// RFC 4231, test case 2.
#[test]
fn a_body_is_signed_as_the_standard_says() {
    let signed = signature(&"Jefe".into(), b"what do ya want for nothing?");
    assert_eq!(signed, "sha256=5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843");
}

#[test]
fn an_event_names_everything() {
    let event = message("2 s behind").event();
    assert_eq!(event["source"], "/moorage/quay%207");
    assert_eq!(event["type"], "moorage.alert.raised");
    assert_eq!(event["subject"], "quay \"side\"/public.berths");
    assert_eq!(event["time"], "2027-01-15T08:00:05.000Z");
    assert_eq!(event["data"]["since"], "2027-01-15T08:00:00Z");
    assert_eq!(event["data"]["summary"], "quay \"side\", public.berths: 2 s behind");
}

fn read(receiver: &str) -> Result<Vec<AlertRule>, String> {
    let text = format!("[receivers.duty]\n{receiver}");
    let shown = |mistake| moorage_core::project::error::ProjectError::new("f", &text, mistake).to_string();
    let project = Project::parse("f", &text, &Known).map_err(|e| e.to_string())?;
    Receiver::read("duty", &project.receivers["duty"]).map_err(shown)?;
    Ok(project.alerts)
}

#[rstest]
#[case("kind = \"webhook\"", "f:1:1: missing key `url`", "")]
#[case("kind = \"webhook\"\nurl = \"ftp://x\"", "f:3:7: the url of receiver duty is none", "https://")]
#[case(
    "kind = \"webhook\"\nurl = {}",
    "f:3:7: the url of receiver duty must come from exactly one place",
    "env"
)]
#[case(
    "kind = \"webhook\"\nurl = \"http://x\"\nsecret = \"sesame\"",
    "f:4:10: this is not what is expected here",
    "env"
)]
#[case(
    "kind = \"webhook\"\nurl = \"http://x\"\nhost = \"x\"",
    "f:4:1: receiver duty is of kind webhook, which has no key `host`",
    "`url`"
)]
#[case(
    "kind = \"webhook\"\nurl = \"http://x\"\nbody = \"{whta}\"",
    "f:4:8: receiver duty: no word is called `",
    "{what}"
)]
#[case(
    "kind = \"webhook\"\nurl = \"http://x\"\ncontent_type = \"text/plain\"",
    "f:4:16: receiver duty has `content_type` without",
    "both"
)]
#[case(
    "kind = \"webhook\"\nurl = \"http://x\"\nbody = \"x\"\ncontent_type = \"a\\nb\"",
    "f:5:16: the content type",
    "text/plain"
)]
#[case(
    "kind = \"webhook\"\nurl = \"http://x\"\nstates = { open = \"x\" }",
    "f:4:12: receiver duty: there is no state `",
    "raised"
)]
#[case("kind = \"webhook\"\nurl = \"http://x\"\ntimeout = \"1h\"", "f:4:11: `1h` is no time-out", "5m")]
#[case(
    "kind = \"mail\"\nserver = \"a b\"\nfrom = \"a@b.example\"\nto = [\"c@d.example\"]",
    "f:3:10: `",
    "mail.example:2525"
)]
#[case(
    "kind = \"mail\"\nserver = \"a\"\nfrom = \"ab\"\nto = [\"c@d.example\"]",
    "f:4:8: `",
    "duty@quay.example"
)]
#[case(
    "kind = \"mail\"\nserver = \"a\"\nfrom = \"a@b.example\"\nto = []",
    "f:5:6: receiver duty sends mail to nobody",
    "addresses"
)]
#[case(
    "kind = \"mail\"\nserver = \"a\"\nfrom = \"a@b.example\"\nto = [\"c@d.example\"]\nuser = \"u\"",
    "f:6:8: receiver duty has `",
    "both"
)]
#[case(
    "kind = \"mail\"\nserver = \"a\"\nfrom = \"a@b.example\"\nto = [\"c@d.example\"]\nuser = \"u\"\nencryption = \"none\"\npassword = { env = \"X\" }",
    "f:6:8: receiver duty would send its password",
    "starttls"
)]
#[case("kind = \"program\"\ncommand = []", "f:3:11: receiver duty starts no program", "argument")]
fn a_mistake_in_a_receiver_is_named_with_its_line(
    #[case] receiver: &str,
    #[case] message: &str,
    #[case] expected: &str,
) {
    let shown = read(receiver).expect_err("it is read");
    assert!(shown.starts_with(message) && shown.contains(expected), "{shown}");
    assert!(!shown.contains("sesame"), "{shown}");
}

/// A store, and an alert that is raised in it with every other step.
struct Quay {
    folder: tempfile::TempDir,
    rules: Vec<AlertRule>,
}

impl Quay {
    fn new() -> Self {
        let text = "[[alert]]\nname = \"behind\"\nwhen = \"lag\"\nover = \"10s\"\nfor = \"0s\"\nrepeat_every = \"1s\"\nto = [\"duty\", \"log\", \"chat\"]\n\
            [receivers.duty]\nkind = \"program\"\n[receivers.chat]\nkind = \"program\"";
        let rules = Project::parse("f", text, &Known).unwrap().alerts;
        Self { folder: tempfile::tempdir().unwrap(), rules }
    }

    fn store(&self) -> StateStore {
        StateStore::open(self.folder.path()).unwrap()
    }

    fn step(&self, pipeline: &str, behind: u64, s: i64) -> Vec<Said> {
        let seen = Seen { behind: Some(Duration::from_secs(behind)), ..Seen::nothing(pipeline) };
        let notices = self.store().alert_step(&self.rules, &seen, at(s)).unwrap();
        notices.iter().map(|notice| notice.said).collect()
    }
}

const LONG: Duration = Duration::from_secs(500);

#[test]
fn messages_are_sent_in_order_and_each_by_one() {
    let quay = Quay::new();
    assert_eq!(quay.step("quayside", 20, 0), [Said::Raised]);
    // Whoever else looks at the same time tells nothing twice.
    assert_eq!(quay.step("quayside", 20, 0), []);
    assert_eq!(quay.step("quayside", 20, 1), [Said::Repeated]);
    assert_eq!(quay.step("quayside", 1, 2), [Said::Cleared]);
    let (one, other) = (quay.store(), quay.store());
    let first = one.claim_message("duty", at(3), LONG).unwrap().unwrap();
    assert_eq!(first.notice.said, Said::Raised);
    assert!(other.claim_message("duty", at(3), LONG).unwrap().is_none(), "it is at it");
    assert!(other.claim_message("chat", at(3), LONG).unwrap().is_some(), "another one is not held up");
    one.message_sent("duty", &first, &Err("no connection".into()), at(3));
    assert!(other.claim_message("duty", at(3), LONG).unwrap().is_none(), "not at once");
    let again = other.claim_message("duty", at(4), LONG).unwrap().unwrap();
    assert_eq!((again.id.as_str(), again.tries), (first.id.as_str(), 1), "the same message, by its number");
    let standing = one.receiver_standing("duty").unwrap();
    assert_eq!((standing.waiting, standing.problem.as_deref()), (2, Some("no connection")));
    other.message_sent("duty", &again, &Ok("taken".into()), at(4));
    // That it was still so was not queued behind what said that it is.
    let last = one.claim_message("duty", at(5), LONG).unwrap().unwrap();
    assert_eq!(last.notice.said, Said::Cleared);
    one.message_sent("duty", &last, &Ok("taken".into()), at(5));
    let standing = one.receiver_standing("duty").unwrap();
    assert_eq!((standing.waiting, standing.problem, standing.failing_since), (0, None, None));
    assert_eq!(one.notices("quayside", at(0), at(9)).unwrap().len(), 3);
}

/// Whoever was at a message may have been killed, and a clock may have been set back.
#[test]
fn a_message_that_was_left_is_sent_by_the_next() {
    let quay = Quay::new();
    assert_eq!(quay.step("quayside", 20, 0), [Said::Raised]);
    let store = quay.store();
    let first = store.claim_message("duty", at(0), LONG).unwrap().unwrap();
    assert!(store.claim_message("duty", at(499), LONG).unwrap().is_none());
    assert_eq!(store.claim_message("duty", at(501), LONG).unwrap().unwrap().id, first.id);
    assert_eq!(store.claim_message("duty", at(-86_400), LONG).unwrap().unwrap().id, first.id);
    store.message_sent("duty", &first, &Err("no".into()), at(0));
    assert_eq!(store.claim_message("duty", at(-86_400), LONG).unwrap().unwrap().id, first.id);
}

#[test]
fn what_waits_is_bounded_and_what_is_lost_is_counted() {
    let quay = Quay::new();
    for pipeline in 0..1_010 {
        assert_eq!(quay.step(&pipeline.to_string(), 20, 0), [Said::Raised]);
    }
    let store = quay.store();
    let standing = store.receiver_standing("duty").unwrap();
    assert_eq!((standing.waiting, standing.lost), (1_000, 10));
    let first = store.claim_message("duty", at(0), LONG).unwrap().unwrap();
    assert_eq!(first.notice.key.pipeline, "10", "the oldest are lost");
    let tomorrow = at(0) + TimeDelta::days(2);
    store.message_sent("duty", &first, &Err("no".into()), tomorrow);
    let standing = store.receiver_standing("duty").unwrap();
    assert_eq!((standing.waiting, standing.lost), (0, 1_010), "and what is of no interest any more");
}

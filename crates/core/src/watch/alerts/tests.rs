//! What is told when, as a story over time.

use super::seen::{DriftSeen, Seen, Stands, TableSeen, Undecided};
use super::step::{Memory, Notice, Said, step};
use crate::project::alert::AlertRule;
use crate::project::config::Project;
use crate::project::section::tests::AnyKind;
use chrono::{DateTime, TimeDelta, Utc};
use rstest::rstest;
use std::time::Duration;

fn at(s: i64) -> DateTime<Utc> {
    DateTime::from_timestamp(1_800_000_000 + s, 0).unwrap()
}

fn rules(text: &str) -> Vec<AlertRule> {
    let ends = "[sources.a]\nkind = \"quay\"\n[targets.b]\nkind = \"shed\"\n[pipelines.quayside]\nsource = \"a\"\ntarget = \"b\"\n";
    Project::parse("f", &format!("{ends}{text}"), &AnyKind).unwrap_or_else(|e| panic!("{e}")).alerts
}

fn rule(keys: &str) -> Vec<AlertRule> {
    rules(&format!("[[alert]]\nname = \"a\"\nto = [\"log\"]\n{keys}"))
}

fn said(notices: &[Notice]) -> Vec<Said> {
    notices.iter().map(|notice| notice.said).collect()
}

/// What is said each second; `behind` has the lag at each, none where it is not known.
fn over_time(rules: &[AlertRule], behind: &[Option<u64>]) -> Vec<(usize, Said)> {
    let mut memory = Memory::default();
    let mut all = Vec::new();
    for (second, behind) in behind.iter().enumerate() {
        let seen = Seen { behind: behind.map(Duration::from_secs), ..Seen::nothing("quayside") };
        let notices = step(&mut memory, rules, &seen, at(second as i64));
        all.extend(notices.iter().map(|notice| (second, notice.said)));
    }
    all
}

#[rstest]
#[case::at_once("for = \"0s\"", &[Some(9), Some(10), Some(11), Some(2)], &[(1, Said::Raised), (3, Said::Cleared)])]
#[case::it_must_last("for = \"2s\"", &[Some(10), Some(11), Some(12), Some(13)], &[(2, Said::Raised)])]
#[case::a_peak_is_nothing("for = \"2s\"", &[Some(11), Some(2), Some(11), Some(2), Some(11)], &[])]
#[case::it_is_older_than_anyone_looks("for = \"5m\"", &[Some(310)], &[(0, Said::Raised)])]
#[case::it_is_told_again("for = \"0s\"\nrepeat_every = \"2s\"", &[Some(10); 6],
    &[(0, Said::Raised), (2, Said::Repeated), (4, Said::Repeated)])]
#[case::what_is_not_known_is_not_gone("for = \"0s\"", &[Some(10), None, None, Some(2)], &[(0, Said::Raised), (3, Said::Cleared)])]
#[case::what_is_not_known_is_not_raised("for = \"0s\"", &[None, None], &[])]
#[case::it_must_be_gone_for_a_while("for = \"0s\"\nclear_after = \"2s\"",
    &[Some(10), Some(2), Some(10), Some(2), Some(2), Some(2), Some(2)], &[(0, Said::Raised), (5, Said::Cleared)])]
fn a_state_is_raised_told_again_and_cleared(
    #[case] keys: &str,
    #[case] behind: &[Option<u64>],
    #[case] told: &[(usize, Said)],
) {
    let rules = rule(&format!("when = \"lag\"\nover = \"10s\"\n{keys}"));
    assert_eq!(over_time(&rules, behind), told);
}

#[test]
fn a_clock_that_is_set_back_raises_nothing_and_clears_nothing() {
    let rules = rule("when = \"lag\"\nover = \"10s\"\nfor = \"0s\"\nrepeat_every = \"1m\"");
    let mut memory = Memory::default();
    let seen = Seen { behind: Some(Duration::from_secs(20)), ..Seen::nothing("quayside") };
    assert_eq!(said(&step(&mut memory, &rules, &seen, at(0))), [Said::Raised]);
    assert_eq!(step(&mut memory, &rules, &seen, at(-3600)), []);
    assert_eq!(said(&step(&mut memory, &rules, &seen, at(60))), [Said::Repeated]);
}

fn stopped(since: Option<i64>) -> Seen {
    let stands = Stands::Stopped { since: since.map(at), why: "nothing runs".into() };
    Seen { stands: Some(stands), ..Seen::nothing("quayside") }
}

#[rstest]
#[case::since_long(Some(-600), true)]
#[case::since_now(Some(0), false)]
#[case::nobody_knows(None, true)]
fn what_does_not_run_is_told_by_since_when(#[case] since: Option<i64>, #[case] raised: bool) {
    let rules = rule("when = \"not_running\"\nfor = \"5m\"");
    let told = step(&mut Memory::default(), &rules, &stopped(since), at(0));
    assert_eq!(!told.is_empty(), raised, "{told:?}");
}

/// Whatever waits: as long as anything is carried it is no standstill.
#[test]
fn a_standstill_is_waiting_without_anything_being_carried() {
    let rules = rule("when = \"no_progress\"\nfor = \"3s\"");
    let mut memory = Memory::default();
    let mut told = Vec::new();
    for (second, (progress, waits)) in
        [(1, true), (2, true), (2, true), (2, true), (2, true), (2, true), (3, true), (3, false), (3, false)]
            .into_iter()
            .enumerate()
    {
        let seen = Seen { progress: Some(progress), waits: Some(waits), ..Seen::nothing("quayside") };
        let notices = step(&mut memory, &rules, &seen, at(second as i64));
        told.extend(notices.iter().map(|n| (second, n.said)));
    }
    assert_eq!(told, [(4, Said::Raised), (6, Said::Cleared)]);
}

fn table(table: &str, rejects: u64) -> TableSeen {
    TableSeen { table: table.into(), rejects, ..TableSeen::default() }
}

#[test]
fn each_table_is_told_of_by_itself() {
    let rules = rule("when = \"rejects\"\nover = 1\ntables = [\"public.*\"]");
    let mut memory = Memory::default();
    let mut tell = |second: i64, tables: Vec<TableSeen>| {
        let seen = Seen { tables: Some(tables), ..Seen::nothing("quayside") };
        let notices = step(&mut memory, &rules, &seen, at(second));
        notices.into_iter().map(|n| (n.key.table.unwrap(), n.said)).collect::<Vec<_>>()
    };
    let (berths, stays) = ("public.berths".to_string(), "public.stays".to_string());
    assert_eq!(
        tell(0, vec![table("public.berths", 2), table("public.stays", 1), table("old.stays", 9)]),
        [(berths.clone(), Said::Raised)]
    );
    assert_eq!(
        tell(1, vec![table("public.berths", 0), table("public.stays", 2)]),
        [(stays, Said::Raised), (berths, Said::Cleared)]
    );
}

#[test]
fn what_waits_for_a_decision_is_one_alert_a_table() {
    let rules = rule("when = \"decision\"");
    let waits =
        |id| Undecided { id, table: "public.stays".into(), what: format!("change {id}"), since: at(-5) };
    let seen = Seen { undecided: Some(vec![waits(3), waits(4)]), ..Seen::nothing("quayside") };
    let told = step(&mut Memory::default(), &rules, &seen, at(0));
    assert_eq!(said(&told), [Said::Raised]);
    assert_eq!((told[0].what.as_str(), told[0].since), ("waits for a decision: change 3; change 4", at(-5)));
    assert!(told[0].next.contains("drift show 3"), "{}", told[0].next);
}

#[test]
fn a_change_of_structure_is_told_once() {
    let rules = rule("when = \"drift\"\ntables = [\"*.stays\"]");
    let drift = |id, table: &str, s| DriftSeen {
        id,
        table: table.into(),
        what: format!("change {id}"),
        columns: Vec::new(),
        done: "the target follows".into(),
        at: at(s),
    };
    let mut memory = Memory::default();
    let mut tell = |second, drift: Option<Vec<DriftSeen>>| {
        let seen = Seen { drift, ..Seen::nothing("quayside") };
        let notices = step(&mut memory, &rules, &seen, at(second));
        notices.iter().map(|n| n.drift.as_ref().unwrap().id).collect::<Vec<_>>()
    };
    let mut all = vec![drift(1, "public.stays", -7200), drift(2, "public.stays", -30)];
    assert_eq!(tell(0, Some(all.clone())), [2], "of long ago nothing is told where nothing is remembered");
    assert_eq!(tell(1, Some(all.clone())), [0; 0]);
    assert_eq!(tell(2, None), [0; 0]);
    all.extend([drift(3, "public.stays", 2), drift(4, "public.berths", 2), drift(5, "public.stays", -9000)]);
    assert_eq!(tell(3, Some(all)), [3, 5], "what was not told is told, whatever the clock said");
    assert_eq!(tell(4, Some(vec![drift(1, "public.stays", 4)])), [1], "numbers begin anew");
}

/// What changes all the time is remembered, and so written down, only where it is asked for.
#[test]
fn a_pipeline_that_is_well_changes_no_memory() {
    let rules = rule("when = \"lag\"\nover = \"10s\"");
    let mut memory = Memory::default();
    for progress in 0..3 {
        let seen =
            Seen { progress: Some(progress), behind: Some(Duration::ZERO), ..Seen::nothing("quayside") };
        assert_eq!(step(&mut memory, &rules, &seen, at(0)), []);
        assert_eq!(memory, Memory::default());
    }
}

/// Memory goes through a store as it is.
#[test]
fn an_alert_survives_a_restart() {
    let rules = rule("when = \"lag\"\nover = \"10s\"\nfor = \"0s\"");
    let seen = |behind| Seen { behind: Some(Duration::from_secs(behind)), ..Seen::nothing("quayside") };
    let mut memory = Memory::default();
    assert_eq!(said(&step(&mut memory, &rules, &seen(10), at(0))), [Said::Raised]);
    let mut memory: Memory = serde_json::from_str(&serde_json::to_string(&memory).unwrap()).unwrap();
    assert_eq!(step(&mut memory, &rules, &seen(11), at(1)), []);
    // A rule that is gone from the file is forgotten; one of the same name with another threshold goes on.
    assert_eq!(said(&step(&mut memory, &rules, &seen(2), at(2))), [Said::Cleared]);
    let _ = step(&mut memory, &rules, &seen(20), at(3));
    assert_eq!(step(&mut memory, &[], &seen(20), at(4)), []);
    assert_eq!(memory.standings, []);
}

#[test]
fn since_when_is_the_earliest_that_is_known() {
    let rules = rule("when = \"lag\"\nover = \"10s\"\nfor = \"0s\"");
    let seen = |behind| Seen { behind: Some(Duration::from_secs(behind)), ..Seen::nothing("quayside") };
    let mut memory = Memory::default();
    let told = step(&mut memory, &rules, &seen(25), at(0));
    assert_eq!(told[0].since, at(0) - TimeDelta::seconds(15));
    let told = step(&mut memory, &rules, &seen(2), at(5));
    assert_eq!((told[0].said, told[0].since), (Said::Cleared, at(-15)));
}

#[rstest]
#[case("when = \"lag\"", "f:11:8: alert a says no `over`", "30s")]
#[case("when = \"lagg\"\nover = \"1s\"", "f:11:8: alert a: there is no condition `lagg`", "`lag`")]
#[case("when = \"lag\"\nover = 30", "f:12:8: `30` is no threshold", "30s")]
#[case("when = \"source_room\"\nover = \"100%\"", "f:12:8: `100%` is no threshold", "99%")]
#[case("when = \"rejects\"\nover = \"3\"", "f:12:8: `3` is no threshold", "without quotes")]
#[case("when = \"drift\"\nover = 3", "f:12:8: alert a: `drift` has no threshold", "no `over`")]
#[case("when = \"drift\"\nfor = \"3s\"", "f:12:7: alert a: `drift` is told when it happens", "decision")]
#[case("when = \"drift\"\nrepeat_every = \"0s\"", "f:12:16: alert a: `0s` is too often", "1s")]
#[case(
    "when = \"not_running\"\ntables = [\"a.*\"]",
    "f:12:11: alert a: `not_running` is about the whole",
    "no `tables`"
)]
#[case(
    "when = \"not_running\"\npipelines = [\"quaysid\"]",
    "f:12:14: alert a is about pipeline `quaysid`",
    "`quayside`"
)]
#[case("when = \"not_running\"\nfor = \"soon\"", "f:12:7: `soon` is not a duration", "2m")]
#[case(
    "when = \"not_running\"\n[[alert]]\nname = \"a\"\nwhen = \"drift\"\nto = [\"log\"]",
    "f:13:8: there are two alerts `a`",
    "each"
)]
#[case(
    "when = \"drift\"\n[[alert]]\nname = \"b\"\nwhen = \"drift\"\nto = [\"duty\"]",
    "f:15:7: alert b goes to receiver `duty`",
    "`log`"
)]
#[case(
    "when = \"drift\"\n[[alert]]\nname = \"b\"\nwhen = \"drift\"\nto = []",
    "f:15:6: alert b goes to nobody",
    "receivers"
)]
#[case(
    "when = \"drift\"\n[receivers.log]\nkind = \"flag\"",
    "f:12:12: receiver `log` is there without",
    "another name"
)]
#[case("when = \"drift\"\n[receivers.x]\nkind = \"flagg\"", "f:13:8: unknown value `flagg`", "`flag`")]
fn a_mistake_in_an_alert_is_named_with_its_line(
    #[case] keys: &str,
    #[case] message: &str,
    #[case] expected: &str,
) {
    let text = format!(
        "[sources.a]\nkind = \"quay\"\n[targets.b]\nkind = \"shed\"\n[pipelines.quayside]\nsource = \"a\"\ntarget = \"b\"\n[[alert]]\nname = \"a\"\nto = [\"log\"]\n{keys}"
    );
    let Err(error) = Project::parse("f", &text, &AnyKind) else { panic!("{keys} is read") };
    let shown = error.to_string();
    assert!(shown.starts_with(message) && shown.contains(expected), "{shown}");
}

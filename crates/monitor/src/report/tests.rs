//! A page stays a page, whatever is reported.

use super::{DriftLine, PipelineReport, RejectLine, Report, RunLine, html};
use crate::store::periods::Period;
use chrono::{DateTime, TimeDelta, Utc};
use moorage_core::watch::sample::Sample;
use rstest::rstest;
use std::time::Duration;

fn at(minutes: i64) -> DateTime<Utc> {
    DateTime::from_timestamp(1_800_000_000, 0).unwrap() + TimeDelta::minutes(minutes)
}

/// An hour of which every other ten minutes nothing ran.
fn report(name: &str) -> Report {
    let point = |n: i64| {
        let sample = Sample {
            span: Duration::from_secs(60),
            behind: Some(Duration::from_secs(3)),
            ..Sample::begin(at(n))
        };
        Period::of(at(n), at(n + 1), if n / 10 % 2 == 0 { std::slice::from_ref(&sample) } else { &[] })
    };
    let points: Vec<Period> = (0..60).map(point).collect();
    let whole =
        Period { measured_s: 1800.0, behind_max_us: Some(3_000_000), ..Period::of(at(0), at(60), &[]) };
    let line = || name.to_string();
    let pipeline = PipelineReport {
        pipeline: line(),
        source: line(),
        target: line(),
        whole,
        points,
        kept: Vec::new(),
        limit_bytes: None,
        tables: Vec::new(),
        slowest: Vec::new(),
        runs: vec![RunLine {
            run: 3,
            began: line(),
            took_ms: None,
            outcome: "killed",
            is_bad: true,
            rows: 0,
            changes: 0,
            merges: 0,
            warnings: 0,
            reason: line(),
        }],
        drift: vec![DriftLine { at: at(1), table: line(), what: line(), done: line(), waits: true }],
        rejects: vec![RejectLine {
            at: line(),
            table: line(),
            key: line(),
            operation: line(),
            reason: line(),
        }],
        notices: Vec::new(),
        unknown: vec![line()],
    };
    Report { made_at: at(60), host: line(), from: at(0), to: at(60), pipelines: vec![pipeline] }
}

#[rstest]
#[case("<script>alert(1)</script>")]
#[case("\"><img src=x onerror=y>")]
#[case("'--></style></svg>&amp;\u{202e}\u{1b}[31m\0\n")]
#[case("var(--ink)#010203{}")]
fn what_comes_from_outside_is_text(#[case] name: &str) {
    let tags = |html: &str| {
        html.split('<')
            .skip(1)
            .map(|tag| tag.split(['>', ' ']).next().unwrap().to_string())
            .collect::<Vec<_>>()
    };
    let page = html(&report(name));
    assert_eq!(tags(&page), tags(&html(&report("plain"))), "{page}");
    assert!(!page.contains(['\u{202e}', '\u{1b}', '\0']));
}

/// No network, no script: whatever is needed is in it.
#[test]
fn a_page_needs_nothing_else() {
    let page = html(&report("quayside"));
    for needed in ["http://", "https://", "<script", "<link", "<img", "url(", "@import", "onload"] {
        let allowed = page.replace("http://www.w3.org/2000/svg", "");
        assert!(!allowed.contains(needed), "{needed} in {page}");
    }
    assert_eq!(page.matches("<svg").count(), 2);
    // Gaps stay gaps: three stretches in which something ran.
    assert_eq!(page.matches("<polygon").count(), 3);
    assert!(page.contains("var(--series-1)") && !page.contains("#0102"), "colours are the page's");
}

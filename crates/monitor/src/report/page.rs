//! The page: what is reported, as HTML. Everything that comes from outside is text, and nothing else.

use super::chart::{Series, stretches, svg};
use super::reported::{DriftLine, PipelineReport, RejectLine, Report};
use crate::store::periods::{Period, Quantiles};
use chrono::{DateTime, Local, TimeDelta, Utc};
use moorage_core::model::visible::visible;
use moorage_core::model::words::{counted, micros, number, round_up, size, span};
use moorage_core::watch::alerts::step::Said;
use std::fmt::Write;

/// How many lines each table has at most: a page is read by people.
const MOST_LINES: usize = 200;

/// A text within HTML (HTML standard, 13.1.2 and 13.1.4): hidden characters are written out, and nothing in it is markup.
pub(super) fn text(text: &str) -> String {
    let mut out = String::new();
    for c in visible(text, false).chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\'' => out.push_str("&#39;"),
            c => out.push(c),
        }
    }
    out
}

fn clock(at: DateTime<Utc>) -> String {
    at.with_timezone(&Local).format("%Y-%m-%d %H:%M:%S").to_string()
}

fn clock_text(at: &str) -> String {
    DateTime::parse_from_rfc3339(at).map_or_else(|_| text(at), |at| clock(at.to_utc()))
}

const STYLE: &str = "
:root { color-scheme: light dark; --paper: #fff; --ink: #1c2733; --soft: #5c6b7a; --grid: #d5dde5; --card: #f4f7fa;
  --series-1: #0b6fb8; --series-2: #c2571a; --series-3: #2a8a57; --limit: #b3261e; --bad: #b3261e; }
@media (prefers-color-scheme: dark) { :root { --paper: #12161c; --ink: #dbe2ea; --soft: #93a1b0; --grid: #333d49; --card: #1a2029;
  --series-1: #5cb3f0; --series-2: #f0a060; --series-3: #5fd096; --limit: #ff8a80; --bad: #ff8a80; } }
@media print { :root { color-scheme: light; --paper: #fff; --ink: #000; --soft: #444; --grid: #bbb; --card: #fff;
  --series-1: #0b6fb8; --series-2: #c2571a; --series-3: #2a8a57; --limit: #b3261e; --bad: #b3261e; }
  section, figure, tr { break-inside: avoid; } .card { border: 1px solid var(--grid); } }
* { box-sizing: border-box; }
body { margin: 0 auto; max-width: 68rem; padding: 1.5rem; background: var(--paper); color: var(--ink);
  font: 15px/1.45 system-ui, sans-serif; font-variant-numeric: tabular-nums; }
h1 { font-size: 1.5rem; margin: 0; } h2 { font-size: 1.25rem; margin: 2.2rem 0 .2rem; } h3 { font-size: 1rem; margin: 1.4rem 0 .3rem; }
p { margin: .2rem 0; } .soft { color: var(--soft); font-weight: 400; } .bad { color: var(--bad); font-weight: 600; }
.cards { display: flex; flex-wrap: wrap; gap: .6rem; margin: .8rem 0; }
.card { background: var(--card); border-radius: .4rem; padding: .5rem .8rem; min-width: 8.2rem; }
.card b { display: block; font-size: 1.2rem; } .card span { color: var(--soft); font-size: .85rem; }
figure { margin: 0; } figcaption { display: flex; flex-wrap: wrap; gap: .2rem 1rem; align-items: baseline; }
figcaption h3 { margin-bottom: 0; } .key::before { content: ''; display: inline-block; width: .9rem; height: .2rem;
  margin-right: .35rem; vertical-align: middle; background: var(--of); }
svg { display: block; width: 100%; height: auto; overflow: visible; }
.wide { overflow-x: auto; } table { border-collapse: collapse; width: 100%; font-size: .9rem; }
th { text-align: left; color: var(--soft); font-weight: 500; } td, th { padding: .22rem .7rem .22rem 0; vertical-align: top;
  border-bottom: 1px solid var(--grid); } .n { text-align: right; white-space: nowrap; } td.t { white-space: nowrap; } .w { overflow-wrap: anywhere; }
";

/// The whole report as one HTML file.
pub fn html(report: &Report) -> String {
    let mut out = String::new();
    let names: Vec<String> = report.pipelines.iter().map(|p| text(&p.pipeline)).collect();
    let long = span((report.to - report.from).num_milliseconds().max(0) as u64);
    let zone = Local::now().format("UTC%:z");
    // Into memory nothing fails.
    let _ = write!(
        out,
        "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<meta name=\"viewport\" content=\"width=device-width\">\n\
         <title>Moorage: {}, {}</title>\n<style>{STYLE}</style>\n</head>\n<body>\n<header>\n<h1>Replication report</h1>\n\
         <p>{} to {} <span class=\"soft\">({long}; times are of {zone})</span></p>\n\
         <p class=\"soft\">made {} by Moorage {} on {}</p>\n</header>\n",
        names.join(", "),
        clock(report.from),
        clock(report.from),
        clock(report.to),
        clock(report.made_at),
        env!("CARGO_PKG_VERSION"),
        text(&report.host),
    );
    for pipeline in &report.pipelines {
        out.push_str(&of_pipeline(report, pipeline));
    }
    out.push_str("</body>\n</html>\n");
    out
}

fn of_pipeline(report: &Report, of: &PipelineReport) -> String {
    let mut out = format!(
        "<h2>{}</h2>\n<p class=\"soft\">{} → {}</p>\n",
        text(&of.pipeline),
        text(&of.source),
        text(&of.target)
    );
    for unknown in &of.unknown {
        let _ = writeln!(out, "<p class=\"bad\">{}</p>", text(unknown));
    }
    out.push_str(&cards(of));
    if of.whole.measured_s == 0.0 {
        out.push_str("<p class=\"soft\">No run measured anything in this time.</p>\n");
    } else {
        out.push_str(&lag_chart(report, of));
        out.push_str(&changes_chart(report, of));
        out.push_str(&kept_chart(report, of));
    }
    out.push_str(&tables(of));
    out.push_str(&slowest(of));
    out.push_str(&drift(of));
    out.push_str(&rejects(of));
    out.push_str(&notices(of));
    out.push_str(&runs(of));
    out
}

fn cards(of: &PipelineReport) -> String {
    let whole = &of.whole;
    let lag = |which: fn(&Quantiles) -> u64| whole.lag.as_ref().map_or("-".into(), |lag| micros(which(lag)));
    let cards = [
        ("changes", number(whole.operations.total())),
        ("transactions", number(whole.transactions)),
        ("merges", number(whole.merges)),
        ("read from the source", size(whole.bytes)),
        ("lag, half within", lag(|lag| lag.p50_us)),
        ("lag, 95 % within", lag(|lag| lag.p95_us)),
        ("lag, 99 % within", lag(|lag| lag.p99_us)),
        ("furthest behind", whole.behind_max_us.map_or("-".into(), micros)),
        ("measured", span((whole.measured_s * 1000.0) as u64)),
    ];
    let card = |(word, value): (&str, String)| {
        format!("<div class=\"card\"><b>{value}</b><span>{word}</span></div>\n")
    };
    format!("<div class=\"cards\">\n{}</div>\n", cards.map(card).concat())
}

/// A chart with its heading and what its colours mean.
fn figure(title: &str, keys: &[(usize, &str)], svg: &str) -> String {
    let key = |(colour, word): &(usize, &str)| {
        let name = if *colour == LIMIT { "limit".to_string() } else { format!("series-{colour}") };
        format!("<span class=\"key\" style=\"--of: var(--{name})\">{word}</span>")
    };
    let keys: String = keys.iter().map(key).collect();
    format!("<figure>\n<figcaption><h3>{title}</h3>{keys}</figcaption>\n{svg}</figure>\n")
}

/// The colour of what must not be reached.
const LIMIT: usize = 4;

fn seconds(value: f64) -> String {
    if value == 0.0 { "0".into() } else { micros((value * 1e6) as u64) }
}

/// A size not below this one that is a power of two: then the marks below it are round ones, too.
fn round_size(bytes: f64) -> f64 {
    bytes.max(1.0).log2().ceil().exp2()
}

fn line(
    of: &PipelineReport,
    colour: usize,
    is_filled: bool,
    value: impl Fn(&Period) -> Option<f64>,
) -> Series {
    let points = of.points.iter().map(|point| (point.from, point.to - point.from, value(point)));
    Series { colour, is_filled, stretches: stretches(points) }
}

fn lag_chart(report: &Report, of: &PipelineReport) -> String {
    let us = |value: Option<u64>| value.map(|us| us as f64 / 1e6);
    let series = [
        line(of, 1, true, |point| us(point.behind_max_us)),
        line(of, 2, false, |point| us(point.lag.as_ref().map(|lag| lag.p95_us))),
    ];
    let svg = svg(
        "how far the target was behind, over time",
        (report.from, report.to),
        &series,
        (0.01, round_up),
        seconds,
    );
    figure("Lag", &[(1, "furthest behind"), (2, "transactions: 95 % within")], &svg)
}

fn changes_chart(report: &Report, of: &PipelineReport) -> String {
    let rate = |point: &Period, count: u64| {
        let long = (point.to - point.from).as_seconds_f64().max(1.0);
        (point.measured_s > 0.0).then_some(count as f64 / long)
    };
    let series = [
        line(of, 1, false, |point| rate(point, point.operations.inserts)),
        line(of, 2, false, |point| rate(point, point.operations.updates)),
        line(of, 3, false, |point| rate(point, point.operations.deletes)),
    ];
    let shown = |value: f64| match value {
        _ if value >= 10.0 || value == 0.0 => number(value.round() as u64),
        _ => format!("{value:.1}"),
    };
    let svg =
        svg("changes in a second, over time", (report.from, report.to), &series, (1.0, round_up), shown);
    figure("Changes in a second", &[(1, "inserts"), (2, "updates"), (3, "deletes")], &svg)
}

/// What the source kept, beside its limit where that is near enough to be seen.
fn kept_chart(report: &Report, of: &PipelineReport) -> String {
    let points = of.kept.iter().map(|point| {
        let long = TimeDelta::from_std(point.span).unwrap_or_default();
        (point.at.max(report.from), long, point.kept_bytes.map(|bytes| bytes as f64))
    });
    let kept = stretches(points);
    let most = kept.iter().flatten().map(|(_, bytes)| *bytes).fold(0.0, f64::max);
    if most == 0.0 {
        return String::new();
    }
    let limit = of.limit_bytes.map(|bytes| bytes as f64);
    let mut series = vec![Series { colour: 1, is_filled: true, stretches: kept }];
    let mut keys = vec![(1, "kept")];
    if let Some(limit) = limit.filter(|limit| most * 10.0 >= *limit) {
        series.push(Series {
            colour: LIMIT,
            is_filled: false,
            stretches: vec![vec![(report.from, limit), (report.to, limit)]],
        });
        keys.push((LIMIT, "limit"));
    }
    let svg = svg(
        "what the source kept, over time",
        (report.from, report.to),
        &series,
        (1024.0, round_size),
        |bytes| size(bytes as u64),
    );
    let of_limit = of.limit_bytes.map(|limit| format!(" of {} that it may", size(limit))).unwrap_or_default();
    let title =
        format!("What the source kept <span class=\"soft\">at most {}{of_limit}</span>", size(most as u64));
    figure(&title, &keys, &svg)
}

/// A table under a heading (heads with `>` are flush right, with `@` times), with so many lines at most; nothing where there is none, but for a word if that is worth one.
fn table(title: &str, heads: &[&str], rows: &[Vec<String>], none: &str) -> String {
    if rows.is_empty() {
        return if none.is_empty() {
            String::new()
        } else {
            format!("<h3>{title}</h3>\n<p class=\"soft\">{none}</p>\n")
        };
    }
    let head = |head: &&str| match head.strip_prefix('>') {
        Some(head) => format!("<th class=\"n\">{head}</th>"),
        None => format!("<th>{}</th>", head.trim_start_matches('@')),
    };
    let class = |head: &str| match head.chars().next() {
        Some('>') => "n",
        Some('@') => "t",
        _ => "w",
    };
    let row = |row: &Vec<String>| {
        let cells =
            heads.iter().zip(row).map(|(head, cell)| format!("<td class=\"{}\">{cell}</td>", class(head)));
        format!("<tr>{}</tr>\n", cells.collect::<String>())
    };
    let more = match rows.len().saturating_sub(MOST_LINES) {
        0 => String::new(),
        more => format!("<p class=\"soft\">and {} more</p>\n", number(more as u64)),
    };
    format!(
        "<section>\n<h3>{title}</h3>\n<div class=\"wide\"><table>\n<tr>{}</tr>\n{}</table></div>\n{more}</section>\n",
        heads.iter().map(head).collect::<String>(),
        rows.iter().take(MOST_LINES).map(row).collect::<String>(),
    )
}

fn tables(of: &PipelineReport) -> String {
    let mut tables: Vec<_> = of.tables.iter().collect();
    tables.sort_by_key(|table| (std::cmp::Reverse(table.operations.total()), table.table.clone()));
    let row = |table: &&crate::store::periods::TablePeriod| {
        let lag =
            |which: fn(&Quantiles) -> u64| table.lag.as_ref().map_or("-".into(), |lag| micros(which(lag)));
        let of = &table.operations;
        vec![
            text(&table.table),
            number(of.inserts),
            number(of.updates),
            number(of.deletes),
            number(of.truncates),
            size(table.bytes),
            lag(|lag| lag.p50_us),
            lag(|lag| lag.p95_us),
            lag(|lag| lag.max_us),
        ]
    };
    let heads =
        ["table", ">inserts", ">updates", ">deletes", ">truncates", ">bytes", ">lag, half", ">95 %", ">most"];
    table("By table", &heads, &tables.iter().map(row).collect::<Vec<_>>(), "no table was changed")
}

fn slowest(of: &PipelineReport) -> String {
    let rows = of.slowest.iter().map(|slow| {
        let tables: Vec<String> = slow
            .tables
            .iter()
            .map(|(table, count)| format!("{} ({})", text(table), number(*count)))
            .collect();
        vec![
            clock(slow.committed_at),
            number(slow.changes),
            micros(slow.lag_us()),
            micros(slow.capture_us),
            micros(slow.queue_us),
            micros(slow.apply_us),
            tables.join(", "),
        ]
    });
    let heads = ["@committed", ">changes", ">lag", ">capture", ">queue", ">apply", "tables"];
    table("Slowest transactions", &heads, &rows.collect::<Vec<_>>(), "")
}

/// A word that is bad, or not.
fn marked(word: &str, is_bad: bool) -> String {
    if is_bad { format!("<span class=\"bad\">{}</span>", text(word)) } else { text(word) }
}

fn drift(of: &PipelineReport) -> String {
    let row = |drift: &DriftLine| {
        vec![clock(drift.at), text(&drift.table), text(&drift.what), marked(&drift.done, drift.waits)]
    };
    let rows: Vec<_> = of.drift.iter().map(row).collect();
    table(
        "Changes of structure",
        &["@met", "table", "what changed", "what became of it"],
        &rows,
        "no structure changed",
    )
}

fn rejects(of: &PipelineReport) -> String {
    let row = |reject: &RejectLine| {
        let RejectLine { at, table, key, operation, reason } = reject;
        vec![clock_text(at), text(table), text(key), text(operation), text(reason)]
    };
    let rows: Vec<_> = of.rejects.iter().map(row).collect();
    let title = match rows.len() as u64 {
        0 => "Changes set aside".into(),
        count => format!("{} set aside", counted(count, "change")),
    };
    table(&title, &["@set aside", "table", "row", "operation", "reason"], &rows, "nothing is set aside")
}

fn notices(of: &PipelineReport) -> String {
    let rows = of.notices.iter().map(|notice| {
        let is_bad = matches!(notice.said, Said::Raised | Said::Repeated);
        vec![
            clock(notice.at),
            text(&notice.key.alert),
            marked(notice.said.word(), is_bad),
            notice.key.table.as_deref().map(text).unwrap_or_default(),
            text(&notice.what),
        ]
    });
    let heads = ["@when", "alert", "", "table", "what"];
    table("Alerts", &heads, &rows.collect::<Vec<_>>(), "no alert was raised")
}

fn runs(of: &PipelineReport) -> String {
    let rows = of.runs.iter().map(|run| {
        vec![
            number(run.run.unsigned_abs()),
            clock_text(&run.began),
            run.took_ms.map_or("?".into(), span),
            marked(run.outcome, run.is_bad),
            number(run.rows),
            number(run.changes),
            number(run.merges),
            number(run.warnings),
            text(&run.reason),
        ]
    });
    let heads =
        [">run", "@began", ">took", "outcome", ">rows read", ">changes", ">merges", ">warnings", "reason"];
    table("Runs", &heads, &rows.collect::<Vec<_>>(), "nothing ran")
}

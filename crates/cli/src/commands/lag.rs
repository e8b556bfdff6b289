//! `lag`: how far behind, now and over time.

use crate::args::{Format, Global, LagArgs, LagBy};
use crate::exit::Finished;
use crate::failure::Failure;
use crate::{load, render};
use moorage_core::change::counters::Operations;
use moorage_core::watch::sample::AppliedTransaction;
use moorage_engine::{Behind, LagView, WantedLag};
use moorage_monitor::{Period, Quantiles};

/// Into how many stretches the time is cut: a character each on a terminal, a line each in CSV.
const POINTS: u32 = 60;

pub async fn lag(global: &Global, args: &LagArgs) -> Result<Finished, Failure> {
    let wanted = WantedLag {
        since: args.since,
        by_table: args.by == Some(LagBy::Table),
        over: args.over,
        most: args.limit,
        points: POINTS,
    };
    let mut all = Vec::new();
    for pipeline in load::pipelines(global, &args.pipelines.pipelines)? {
        all.push(moorage_engine::lag(&pipeline, &wanted).await?);
    }
    match global.format {
        Format::Json => render::json(&all)?,
        Format::Csv if wanted.by_table => csv_by_table(&all)?,
        Format::Csv => csv(&all)?,
        Format::Text => {
            for (at, view) in all.iter().enumerate() {
                if at > 0 {
                    render::out("");
                }
                show(global, view, args);
            }
        }
    }
    Ok(Finished::Clean)
}

fn show(global: &Global, view: &LagView, args: &LagArgs) {
    let head = format!("{}: ", view.pipeline);
    render::out(render::bold(global, &head).and(&now(&view.now)));
    if let Some(why) = &view.now.why {
        render::out(render::plain("  ").then(render::coloured(global, why, render::RED)));
    }
    for line in more(&view.now) {
        render::out(format!("  {line}"));
    }
    if let Some(line) = spark(&view.points) {
        render::out(format!("  {line}"));
    }
    periods(global, view);
    if let Some(tables) = &view.tables {
        by_table(global, view, tables);
    }
    let over = match args.over.is_zero() {
        true => String::new(),
        false => format!(" with {} or more", render::micros(args.over.as_micros() as u64)),
    };
    transactions(global, &format!("Slowest transactions{over}"), &view.slowest);
    transactions(global, "Last transactions", &view.recent);
}

/// `0.8 s behind, complete up to 14:03:21`
fn now(now: &Behind) -> String {
    let until =
        now.complete_until.map(|at| format!(", complete up to {}", render::clock(at))).unwrap_or_default();
    let stopped = if now.running.is_none() { "; not running" } else { "" };
    match now.behind_us {
        Some(0) if now.running.is_none() => format!("nothing waits in the source{stopped}"),
        Some(us) => format!("{} behind{until}{stopped}", render::micros(us)),
        None => match &now.running {
            Some(running) => format!("not known yet; process {} on {} runs it", running.pid, running.host),
            None => "nothing is known of it yet; not running; `moorage run` begins".into(),
        },
    }
}

/// What else is known of now.
fn more(now: &Behind) -> Vec<String> {
    let mut lines = Vec::new();
    if let Some(skew) = now.clock_skew_us.filter(|skew| skew.abs() >= 1000) {
        let way = if skew > 0 { "ahead of" } else { "behind" };
        let by = render::micros(skew.unsigned_abs());
        lines.push(format!("the source's clock is {by} {way} this one, which is taken into account"));
    }
    if let Some(unread) = now.unread_bytes.filter(|bytes| *bytes > 0) {
        lines.push(format!("{} of log to read", render::size(unread)));
    }
    if let Some(kept) = now.kept_bytes {
        let limit =
            now.limit_bytes.map(|limit| format!(" of {} at most", render::size(limit))).unwrap_or_default();
        let full = now.full_in_s.map(|s| format!("; full in {} as it grows now", render::span(s * 1000)));
        lines.push(format!("the source keeps {}{limit}{}", render::size(kept), full.unwrap_or_default()));
    }
    for held in &now.held {
        lines.push(format!(
            "{} is held; its first change that waits was committed at {}",
            held.table,
            render::clock(held.since)
        ));
    }
    if let Some(problem) = &now.source_problem {
        lines.push(format!("the source could not be asked what waits: {problem}"));
    }
    lines
}

/// The furthest that the target was behind, over time; none if nothing was measured.
fn spark(points: &[Period]) -> Option<String> {
    let most = points.iter().filter_map(|p| p.behind_max_us).max()?;
    let values: Vec<Option<f64>> = points.iter().map(|p| p.behind_max_us.map(|us| us as f64)).collect();
    let line = render::bars(&values);
    let (from, to) = (points.first()?.from, points.last()?.to);
    Some(format!("{} {line} {}, {} at most", render::clock(from), render::clock(to), render::micros(most)))
}

fn periods(global: &Global, view: &LagView) {
    let head = [
        "",
        ">transactions",
        ">p50",
        ">p95",
        ">p99",
        ">longest",
        ">capture p50",
        ">queue p50",
        ">apply p50",
        ">furthest behind",
    ];
    let mut table = render::table(global, &head);
    for named in &view.periods {
        let p = &named.period;
        let of = |q: &Option<Quantiles>, which: fn(&Quantiles) -> u64| {
            render::right(q.as_ref().map_or("-".into(), |q| render::micros(which(q))))
        };
        table.add_row([
            named.name.as_str().into(),
            render::right(render::number(p.transactions)),
            of(&p.lag, |q| q.p50_us),
            of(&p.lag, |q| q.p95_us),
            of(&p.lag, |q| q.p99_us),
            of(&p.lag, |q| q.max_us),
            of(&p.capture, |q| q.p50_us),
            of(&p.queue, |q| q.p50_us),
            of(&p.apply, |q| q.p50_us),
            render::right(p.behind_max_us.map_or("-".into(), render::micros)),
        ]);
    }
    render::out("");
    render::out(table.trim_fmt());
}

fn by_table(global: &Global, view: &LagView, tables: &[moorage_monitor::TablePeriod]) {
    let period = view.periods.iter().find(|p| p.name == "last hour").or(view.periods.first());
    render::out("");
    render::out(render::bold(global, &format!("By table, {}", period.map_or("", |p| p.name.as_str()))));
    if tables.is_empty() {
        return render::out("  nothing was applied");
    }
    let head = ["table", ">inserts", ">updates", ">deletes", ">bytes", ">p50", ">p95", ">p99", ">longest"];
    let mut grid = render::table(global, &head);
    for t in tables {
        let of = |which: fn(&Quantiles) -> u64| {
            render::right(t.lag.as_ref().map_or("-".into(), |q| render::micros(which(q))))
        };
        grid.add_row([
            t.table.as_str().into(),
            render::right(render::number(t.operations.inserts)),
            render::right(render::number(t.operations.updates)),
            render::right(render::number(t.operations.deletes)),
            render::right(render::size(t.bytes)),
            of(|q| q.p50_us),
            of(|q| q.p95_us),
            of(|q| q.p99_us),
            of(|q| q.max_us),
        ]);
    }
    render::out(grid.trim_fmt());
}

fn transactions(global: &Global, title: &str, all: &[AppliedTransaction]) {
    render::out("");
    render::out(render::bold(global, title));
    if all.is_empty() {
        return render::out("  none");
    }
    let head = ["committed", ">lag", ">capture", ">queue", ">apply", ">changes", "tables", "position"];
    let mut table = render::table(global, &head);
    for t in all {
        table.add_row([
            render::clock_ms(t.committed_at).into(),
            render::right(render::micros(t.lag_us())),
            render::right(render::micros(t.capture_us)),
            render::right(render::micros(t.queue_us)),
            render::right(render::micros(t.apply_us)),
            render::right(render::number(t.changes)),
            tables_of(t).into(),
            t.position.as_str().into(),
        ]);
    }
    render::out(table.trim_fmt());
}

fn tables_of(transaction: &AppliedTransaction) -> String {
    let names: Vec<&str> = transaction.tables.iter().take(3).map(|(table, _)| table.as_str()).collect();
    match transaction.tables.len() {
        0..=3 => names.join(", "),
        many => format!("{} and {} more", names.join(", "), many - 3),
    }
}

/// The heads of counts and of the quantiles of lag.
const COUNTS: [&str; 5] = ["inserts", "updates", "deletes", "truncates", "bytes"];
const QUANTILES: [&str; 4] = ["lag_p50_us", "lag_p95_us", "lag_p99_us", "lag_max_us"];

fn counts(of: &Operations, bytes: u64) -> impl Iterator<Item = String> {
    [of.inserts, of.updates, of.deletes, of.truncates, bytes].map(|n| n.to_string()).into_iter()
}

fn quantiles(lag: Option<&Quantiles>) -> impl Iterator<Item = String> {
    let of = |which: fn(&Quantiles) -> u64| optional(lag.map(which));
    [of(|q| q.p50_us), of(|q| q.p95_us), of(|q| q.p99_us), of(|q| q.max_us)].into_iter()
}

/// Points over time.
fn csv(all: &[LagView]) -> Result<(), Failure> {
    let steps = ["capture_p50_us", "queue_p50_us", "apply_p50_us", "behind_max_us"];
    let first = ["pipeline", "from", "to", "transactions"];
    let mut lines = render::Lines::new(&[&first[..], &COUNTS, &QUANTILES, &steps].concat());
    for view in all {
        for p in &view.points {
            let transactions = p.transactions.to_string();
            let mut line =
                vec![view.pipeline.clone(), render::rfc3339(p.from), render::rfc3339(p.to), transactions];
            line.extend(counts(&p.operations, p.bytes));
            line.extend(quantiles(p.lag.as_ref()));
            line.extend(
                [&p.capture, &p.queue, &p.apply].map(|step| optional(step.as_ref().map(|q| q.p50_us))),
            );
            line.push(optional(p.behind_max_us));
            lines.add(line)?;
        }
    }
    lines.out()
}

fn csv_by_table(all: &[LagView]) -> Result<(), Failure> {
    let mut lines = render::Lines::new(&[&["pipeline", "table"][..], &COUNTS, &QUANTILES].concat());
    for view in all {
        for t in view.tables.iter().flatten() {
            let mut line = vec![view.pipeline.clone(), t.table.clone()];
            line.extend(counts(&t.operations, t.bytes));
            line.extend(quantiles(t.lag.as_ref()));
            lines.add(line)?;
        }
    }
    lines.out()
}

fn optional(value: Option<u64>) -> String {
    value.map(|v| v.to_string()).unwrap_or_default()
}

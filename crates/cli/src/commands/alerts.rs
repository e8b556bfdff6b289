//! `alerts`: who is told when something is wrong, and what is raised now.

use crate::args::{AlertsAction, AlertsArgs, AlertsCheckArgs, Global};
use crate::exit::Finished;
use crate::failure::Failure;
use crate::load::{self, Loaded};
use crate::render;
use comfy_table::Color;
use moorage_core::project::alert::{AlertRule, Condition, LOG};
use moorage_engine::{CheckedAlerts, RaisedAlert, SentTo, StandingReceiver};
use moorage_monitor::{log_line, send_test};
use serde::Serialize;

pub async fn alerts(global: &Global, args: &AlertsArgs) -> Result<Finished, Failure> {
    match &args.action {
        None => list(global, &load::whole(global, &[])?),
        Some(AlertsAction::Test { name }) => test(global, &load::whole(global, &[])?, name).await,
        Some(AlertsAction::Check(which)) => {
            check(global, &load::whole(global, &which.pipelines.pipelines)?, which).await
        }
    }
}

/// An alert as it is shown.
#[derive(Serialize)]
struct ShownRule<'a> {
    alert: &'a str,
    condition: &'static str,
    over: Option<String>,
    for_ms: u64,
    clear_after_ms: u64,
    repeat_every_ms: Option<u64>,
    pipelines: &'a [String],
    tables: Vec<&'a str>,
    to: &'a [String],
}

impl<'a> From<&'a AlertRule> for ShownRule<'a> {
    fn from(rule: &'a AlertRule) -> Self {
        Self {
            alert: &rule.name,
            condition: rule.condition.word(),
            over: over(rule.condition),
            for_ms: rule.lasting.as_millis() as u64,
            clear_after_ms: rule.clear_after.as_millis() as u64,
            repeat_every_ms: rule.repeat_every.map(|every| every.as_millis() as u64),
            pipelines: &rule.pipelines,
            tables: rule.tables.iter().map(|pattern| pattern.text()).collect(),
            to: &rule.to,
        }
    }
}

fn over(condition: Condition) -> Option<String> {
    match condition {
        Condition::Lag(over) => Some(render::set_span(over.as_millis() as u64)),
        Condition::SourceRoom(percent) => Some(format!("{percent} %")),
        Condition::Rejects(over) => Some(over.to_string()),
        _ => None,
    }
}

fn list(global: &Global, loaded: &Loaded) -> Result<Finished, Failure> {
    let rules: Vec<ShownRule<'_>> = loaded.alerts.rules.iter().map(ShownRule::from).collect();
    let mut raised = Vec::new();
    for pipeline in &loaded.pipelines {
        raised.extend(moorage_engine::raised(pipeline)?);
    }
    let receivers = moorage_engine::receivers(&loaded.pipelines[0].state_folder, &loaded.alerts)?;
    if render::wants_json(global) {
        let all = serde_json::json!({ "raised": raised, "alerts": rules, "receivers": receivers });
        render::json(&all)?;
        return Ok(Finished::Clean);
    }
    if rules.is_empty() {
        render::out("there is no alert in the project file; docs/monitoring.md has some to begin with");
    } else {
        show_raised(global, &raised);
        show_rules(global, &rules);
    }
    if !receivers.is_empty() {
        show_receivers(global, &receivers);
    }
    Ok(Finished::Clean)
}

fn show_raised(global: &Global, raised: &[RaisedAlert]) {
    if raised.is_empty() {
        return render::out("nothing is raised");
    }
    let mut table = render::table(global, &["raised", "pipeline", "table", "since", "what", "next"]);
    for alert in raised {
        table.add_row([
            render::tinted(global, &alert.alert, Color::Red),
            alert.pipeline.as_str().into(),
            alert.table.as_deref().unwrap_or_default().into(),
            render::clock(alert.since).into(),
            render::cut(&alert.what, 90).into(),
            alert.next.as_str().into(),
        ]);
    }
    render::tighten(&mut table);
    render::out(table.trim_fmt());
}

fn show_rules(global: &Global, rules: &[ShownRule<'_>]) {
    let mut table = render::table(global, &["alert", "when", "for", "again", "of", "to"]);
    let time = |ms: u64| if ms == 0 { "at once".into() } else { render::set_span(ms) };
    for rule in rules {
        let over = rule.over.as_ref().map(|over| format!(" over {over}")).unwrap_or_default();
        let mut of = if rule.pipelines.is_empty() { "all".to_string() } else { rule.pipelines.join(", ") };
        if !rule.tables.is_empty() {
            of = format!("{of}: {}", rule.tables.join(", "));
        }
        table.add_row([
            rule.alert.to_string(),
            format!("{}{over}", rule.condition),
            time(rule.for_ms),
            rule.repeat_every_ms.map_or("never".into(), |ms| format!("every {}", render::set_span(ms))),
            of,
            rule.to.join(", "),
        ]);
    }
    render::out("");
    render::out(table.trim_fmt());
}

fn show_receivers(global: &Global, receivers: &[StandingReceiver]) {
    let mut table = render::table(global, &["receiver", "kind", "where", ">waiting", "last taken", "answer"]);
    for of in receivers {
        let standing = &of.standing;
        let lost = match standing.lost {
            0 => String::new(),
            lost => format!(" ({} lost)", render::number(lost.into())),
        };
        let answer = match (&standing.problem, &standing.failing_since) {
            (Some(problem), Some(since)) => {
                let words =
                    format!("failing since {}: {}", render::clock_text(since), render::cut(problem, 90));
                render::tinted(global, &words, Color::Red)
            }
            _ => render::cut(standing.answer.as_deref().unwrap_or_default(), 60).into(),
        };
        table.add_row([
            of.receiver.as_str().into(),
            of.kind.into(),
            render::cut(&of.place, 60).into(),
            render::right(format!("{}{lost}", render::number(standing.waiting.into()))),
            standing.taken_at.as_deref().map_or("never".into(), render::clock_text).into(),
            answer,
        ]);
    }
    render::tighten(&mut table);
    render::out("");
    render::out(table.trim_fmt());
}

/// What a receiver said to a test.
#[derive(Serialize)]
struct Tested<'a> {
    receiver: &'a str,
    taken: bool,
    answer: String,
}

async fn test(global: &Global, loaded: &Loaded, name: &str) -> Result<Finished, Failure> {
    let (rules, receivers) = (&loaded.alerts.rules, &loaded.alerts.receivers);
    let rule = rules.iter().find(|rule| rule.name == name);
    let to: Vec<&str> = match rule {
        Some(rule) => rule.to.iter().map(String::as_str).collect(),
        None => receivers.iter().map(|r| r.name.as_str()).filter(|receiver| *receiver == name).collect(),
    };
    if to.is_empty() {
        let names = rules.iter().map(|rule| &rule.name).chain(receivers.iter().map(|r| &r.name));
        let names: Vec<&str> = names.map(String::as_str).collect();
        let known =
            if names.is_empty() { "there is none".into() } else { format!("there is {}", names.join(", ")) };
        return Err(Failure::usage(format!("there is no alert and no receiver {name}; {known}")));
    }
    let condition = rule.map_or("test", |rule| rule.condition.word());
    let mut all = Vec::new();
    for receiver in to {
        let answer = match receivers.iter().find(|known| known.name == receiver) {
            Some(receiver) => send_test(receiver, rule.map_or("test", |rule| &rule.name), condition).await,
            None => {
                render::note(format!("alert {name} test: this is what `{LOG}` writes"));
                Ok("written on standard error".into())
            }
        };
        let taken = answer.is_ok();
        all.push(Tested { receiver, taken, answer: answer.unwrap_or_else(|why| why) });
    }
    if render::wants_json(global) {
        render::json(&all)?;
    } else {
        for tested in &all {
            let (word, colour) =
                if tested.taken { ("taken", render::GREEN) } else { ("not taken", render::RED) };
            render::out(
                render::plain(&format!("{}: ", tested.receiver))
                    .then(render::coloured(global, word, colour))
                    .and(&format!(", {}", tested.answer)),
            );
        }
    }
    match all.iter().find(|tested| !tested.taken) {
        None => Ok(Finished::Clean),
        Some(tested) => Err(Failure::failed(format!("receiver {} did not take the test", tested.receiver))),
    }
}

async fn check(global: &Global, loaded: &Loaded, which: &AlertsCheckArgs) -> Result<Finished, Failure> {
    if loaded.alerts.rules.is_empty() {
        let words = format!("{}: there is no alert in it; add one as [[alert]]", global.file.display());
        return Err(Failure::usage(words));
    }
    let mut checked = Vec::new();
    for pipeline in &loaded.pipelines {
        checked.push(moorage_engine::check_alerts(pipeline, &loaded.alerts).await?);
    }
    let sent = match which.no_send {
        true => Vec::new(),
        false => moorage_engine::send_alerts(&loaded.pipelines[0].state_folder, &loaded.alerts).await?,
    };
    say_checked(global, loaded, &checked, &sent)?;
    if checked.iter().any(|checked| !checked.raised.is_empty()) {
        return Ok(Finished::Found);
    }
    let unknown = checked.iter().filter_map(|c| Some(format!("{}: {}", c.pipeline, c.problem.as_ref()?)));
    let untold =
        sent.iter().filter_map(|s| Some(format!("receiver {}: {}", s.receiver, s.problem.as_ref()?)));
    let problems: Vec<String> = unknown.chain(untold).collect();
    match problems.is_empty() {
        true => Ok(Finished::Clean),
        false => {
            Err(Failure::failed(format!("nothing is raised as far as is known, but {}", problems.join("; "))))
        }
    }
}

fn say_checked(
    global: &Global,
    loaded: &Loaded,
    checked: &[CheckedAlerts],
    sent: &[SentTo],
) -> Result<(), Failure> {
    if render::wants_json(global) {
        return render::json(&serde_json::json!({ "pipelines": checked, "receivers": sent }));
    }
    let log = |alert: &str| {
        let rule = loaded.alerts.rules.iter().find(|rule| rule.name == alert);
        rule.is_some_and(|rule| rule.to.iter().any(|to| to == LOG))
    };
    for notice in checked.iter().flat_map(|checked| &checked.said).filter(|notice| log(&notice.key.alert)) {
        render::note(log_line(notice));
    }
    let raised: Vec<RaisedAlert> = checked.iter().flat_map(|checked| checked.raised.clone()).collect();
    if !global.quiet || !raised.is_empty() {
        show_raised(global, &raised);
    }
    for CheckedAlerts { pipeline, problem, .. } in checked.iter().filter(|_| !raised.is_empty()) {
        if let Some(problem) = problem {
            render::note(format!("warning: not all of {pipeline} is known: {problem}"));
        }
    }
    for SentTo { receiver, taken, problem } in sent {
        if let Some(problem) = problem.as_ref().filter(|_| !raised.is_empty()) {
            render::note(format!("warning: receiver {receiver} did not take a message: {problem}"));
        }
        if *taken > 0 && !global.quiet {
            render::note(format!("{receiver}: {} taken", render::counted(u64::from(*taken), "message")));
        }
    }
    Ok(())
}

//! What is wrong with a pipeline, in words, with the next command.

use super::behind::Behind;
use super::tables::TableStatus;
use moorage_adapter::TableState;
use serde::Serialize;

use ProblemKind as Kind;

/// From which share of its limit on, of 100, what the source keeps is a trouble.
const FULL_PERCENT: u64 = 80;

/// What a problem is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum ProblemKind {
    /// The run that goes on is behind, or the last one ended badly.
    Run,
    /// The source cannot be asked.
    Source,
    /// A table is held.
    Held,
    /// A table is to be read again.
    Unread,
    /// Changes of a table are set aside.
    Rejects,
    /// A table is not carried.
    LeftOut,
    /// What the source keeps comes to its limit.
    Room,
}

/// Something that is wrong.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Problem {
    /// What it is about.
    pub kind: ProblemKind,
    /// The source table, where it is about one.
    pub table: Option<String>,
    /// What.
    pub what: String,
    /// What to do next: a command.
    pub next: String,
}

impl Problem {
    fn new(kind: ProblemKind, what: impl Into<String>, next: &str) -> Self {
        Self { kind, table: None, what: what.into(), next: next.into() }
    }

    fn of(kind: ProblemKind, table: &str, what: impl Into<String>, next: impl Into<String>) -> Self {
        Self { kind, table: Some(table.into()), what: what.into(), next: next.into() }
    }
}

/// What is wrong, the worst first: what stops everything, then what stops a table, then what will.
pub(super) fn problems(
    behind: &Behind,
    tables: &[TableStatus],
    source_problem: Option<&str>,
    left_out: &[(String, String)],
) -> Vec<Problem> {
    let mut all = Vec::new();
    all.extend(of_the_run(behind));
    if let Some(why) = source_problem {
        all.push(Problem::new(Kind::Source, format!("the source cannot be asked: {why}"), "moorage check"));
    }
    for table in tables {
        all.extend(of_a_table(table, behind.running.is_some()));
    }
    let is_carried = |table: &String| tables.iter().any(|t| t.table == *table && t.state == TableState::Live);
    for (table, why) in left_out.iter().filter(|(table, _)| !is_carried(table)) {
        all.push(Problem::of(Kind::LeftOut, table, format!("it is left out: {why}"), "moorage plan"));
    }
    all.extend(of_the_room(behind));
    all
}

fn of_the_run(behind: &Behind) -> Option<Problem> {
    if behind.running.is_some() {
        let lag = behind.behind_us.unwrap_or(0) / 1_000_000;
        return behind
            .why
            .as_ref()
            .map(|why| Problem::new(Kind::Run, format!("{lag} s behind: {why}"), "moorage lag"));
    }
    let run = behind.last_run.as_ref()?;
    let message = run.message.iter().flat_map(|m| m.lines()).collect::<Vec<_>>().join(" ");
    match run.outcome.as_deref() {
        Some("failed") => {
            Some(Problem::new(Kind::Run, format!("the last run failed: {message}"), "moorage run"))
        }
        Some(_) => None,
        None => Some(Problem::new(Kind::Run, "the last run was killed: it left no word", "moorage run")),
    }
}

fn of_a_table(table: &TableStatus, is_running: bool) -> Vec<Problem> {
    let mut all = Vec::new();
    if let Some(held) = &table.held {
        let first = held.waits_for.first().map_or(String::new(), |id| format!(" show {id}"));
        all.push(Problem::of(
            Kind::Held,
            &table.table,
            format!("held: {}", held.detail),
            format!("moorage drift{first}"),
        ));
    }
    if table.state == TableState::NeedsResnapshot {
        let next =
            if is_running { format!("moorage resnapshot {}", table.table) } else { "moorage run".into() };
        all.push(Problem::of(Kind::Unread, &table.table, "it is to be read again", next));
    }
    if table.changes.rejected > 0 {
        let what = match table.changes.rejected {
            1 => "1 change is set aside".into(),
            many => format!("{many} changes are set aside"),
        };
        all.push(Problem::of(Kind::Rejects, &table.table, what, "moorage rejects"));
    }
    all
}

fn of_the_room(behind: &Behind) -> Option<Problem> {
    let (kept, limit) = (behind.kept_bytes?, behind.limit_bytes.filter(|limit| *limit > 0)?);
    let percent = kept.saturating_mul(100) / limit;
    let full =
        behind.full_in_s.map(|s| format!(", full in {} min as it grows now", s / 60)).unwrap_or_default();
    let what = format!("the source keeps {percent} % of what it may for this pipeline{full}");
    (percent >= FULL_PERCENT).then(|| Problem::new(Kind::Room, what, "moorage run"))
}

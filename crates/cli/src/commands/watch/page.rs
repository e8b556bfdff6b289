//! One pipeline: how far it is, what is wrong, lag over time, its tables, its last transactions, what its parts wait for.

use super::chart::{chart, plain, spark};
use super::parts::{Cell, Column, Look, Scene, bad, behind, columns, dim, good, head, rate, shown, stands};
use super::view::{List, View, is_troubled};
use crate::render;
use moorage_core::watch::alerts::seen::Stands;
use moorage_core::watch::sample::AppliedTransaction;
use moorage_monitor::{Standing, Watched, WatchedTable};
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Block, Borders, Paragraph};

/// From this height on there is a chart.
const CHART_FROM: u16 = 20;
/// From this width on lists stand side by side.
const WIDE_FROM: u16 = 130;

pub(super) fn draw(
    frame: &mut Frame<'_>,
    area: Rect,
    view: &mut View,
    scene: &Scene,
    of: &Watched,
    look: Look,
) {
    let troubles = troubles(of, area, look);
    let parts = parts(of, area, look);
    let tall = area.height + 2 >= CHART_FROM;
    let heights = [
        1,
        troubles.len() as u16,
        if tall { (area.height / 4).clamp(6, 14) } else { 1 },
        // Three lines each where there is room for them.
        if tall { parts.len() as u16 } else { 0 },
    ];
    let [title, wrong, lag, below, lists] = Layout::vertical([
        Constraint::Length(heights[0]),
        Constraint::Length(heights[1]),
        Constraint::Length(heights[2]),
        Constraint::Length(heights[3]),
        Constraint::Min(0),
    ])
    .areas(area);
    frame.render_widget(Line::from(title_line(of, look)), title);
    frame.render_widget(Paragraph::new(troubles), wrong);
    if tall {
        chart(frame, lag, look, scene, of, view.span_word());
        frame.render_widget(Paragraph::new(parts), below);
    } else {
        let line = spark(scene, of, usize::from(lag.width.saturating_sub(20)));
        let words = format!(" behind, {}", view.span_word());
        frame.render_widget(
            Line::from(vec![Span::styled(line, good(look)), Span::styled(words, dim(look))]),
            lag,
        );
    }
    draw_lists(frame, lists, view, of, look);
}

fn draw_lists(frame: &mut Frame<'_>, area: Rect, view: &mut View, of: &Watched, look: Look) {
    if area.width >= WIDE_FROM {
        let [left, right] =
            Layout::horizontal([Constraint::Percentage(55), Constraint::Percentage(45)]).areas(area);
        tables(frame, left, view, of, look);
        transactions(frame, right, view, of, look);
    } else if area.height >= 14 {
        let least = (of.said.recent.len() as u16 + 2).min(area.height / 3);
        let [above, below] = match view.list {
            List::Tables => Layout::vertical([Constraint::Min(0), Constraint::Length(least)]),
            List::Transactions => Layout::vertical([Constraint::Length(area.height / 3), Constraint::Min(0)]),
        }
        .areas(area);
        tables(frame, above, view, of, look);
        transactions(frame, below, view, of, look);
    } else {
        match view.list {
            List::Tables => tables(frame, area, view, of, look),
            List::Transactions => transactions(frame, area, view, of, look),
        }
    }
}

fn title_line(of: &Watched, look: Look) -> Vec<Span<'static>> {
    let (word, is_bad) = stands(of);
    let mut parts = vec![
        Span::styled(shown(&of.pipeline), head(look)),
        Span::raw("  "),
        Span::styled(word, if is_bad { bad(look) } else { good(look) }),
    ];
    if of.is_running() {
        parts.push(Span::raw(format!("  {} behind", behind(of))));
    }
    if let Some(until) = of.said.complete_until {
        parts.push(Span::styled(format!("  complete up to {}", render::clock(until)), dim(look)));
    }
    parts
}

/// What is wrong, each with the next command; as much of it as there is room for.
fn troubles(of: &Watched, area: Rect, look: Look) -> Vec<Line<'static>> {
    let all = of.troubles();
    let room = usize::from(area.height / 5).clamp(1, 6);
    let mut lines: Vec<Line<'static>> = Vec::new();
    if let Some(why) = of.seen.why.as_ref().filter(|_| of.is_running()) {
        lines.push(Line::styled(shown(why), bad(look)));
    }
    // Why nothing runs, also where that is as it should be.
    if let Some(Stands::Stopped { why, .. }) = of.seen.stands.as_ref().filter(|_| !of.stopped_badly()) {
        lines.push(Line::styled(shown(why), dim(look)));
    }
    for (what, next) in &all {
        let next = format!("  {next}");
        let what = render::cut(
            &shown(what),
            usize::from(area.width).saturating_sub(next.chars().count() + 1).max(20),
        );
        lines.push(Line::from(vec![Span::styled(what, bad(look)), Span::styled(next, dim(look))]));
    }
    if lines.len() > room {
        let more = lines.len() - (room - 1).max(1);
        lines.truncate((room - 1).max(1));
        if room > 1 {
            lines.push(Line::styled(
                format!("and {more} more: moorage status {}", shown(&of.pipeline)),
                bad(look),
            ));
        }
    }
    lines
}

/// Rates by operation, and what the reader, the queue and the writer are at.
fn parts(of: &Watched, area: Rect, look: Look) -> Vec<Line<'static>> {
    let rates = &of.rates;
    let by_operation = [("inserts", rates.inserts), ("updates", rates.updates), ("deletes", rates.deletes)];
    let mut first = vec![Span::styled("rates    ", dim(look))];
    for (word, value) in by_operation {
        first.push(Span::raw(format!("{} ", rate(value))));
        first.push(Span::styled(format!("{word}/s  "), dim(look)));
    }
    first.push(Span::raw(rate(of.said.rates.merges)));
    first.push(Span::styled(" merges/s  ", dim(look)));
    first.push(Span::raw(format!("{}/s", render::size(of.said.rates.read_bytes as u64))));
    first.push(Span::styled(" read", dim(look)));
    let mut lines = vec![Line::from(first)];
    if !of.is_running() {
        return vec![];
    }
    let part = |name: &'static str, standing: &Option<Standing>, more: String| {
        let standing = standing.as_ref()?;
        let since = format!(" since {}", render::clock(standing.since));
        Some(vec![
            Span::styled(format!("{name:<9}"), dim(look)),
            Span::raw(standing.doing.clone()),
            Span::styled(since, dim(look)),
            Span::raw(more),
        ])
    };
    let (changes, bytes) = of.said.on_the_way;
    let queued = if changes == 0 {
        String::new()
    } else {
        format!("  {} changes, {}", render::number(changes), render::size(bytes))
    };
    let unread = of.said.unread_bytes.filter(|bytes| *bytes > 0);
    let unread = unread.map(|bytes| format!("  {} to read", render::size(bytes))).unwrap_or_default();
    let all = [
        part("reader", &of.said.reader, unread),
        part("queue", &of.said.queue, queued),
        part("writer", &of.said.writer, String::new()),
    ];
    let all: Vec<Vec<Span<'static>>> = all.into_iter().flatten().collect();
    match area.width >= WIDE_FROM {
        true => lines.push(Line::from(
            all.into_iter()
                .flat_map(|mut part| {
                    part.push(Span::raw("    "));
                    part
                })
                .collect::<Vec<_>>(),
        )),
        false => lines.extend(all.into_iter().map(Line::from)),
    }
    lines
}

const TABLES: [Column; 8] = [
    Column { head: "table", is_right: false, from: 0 },
    Column { head: "state", is_right: false, from: 0 },
    Column { head: "lag", is_right: true, from: 0 },
    Column { head: "inserts", is_right: true, from: 70 },
    Column { head: "updates", is_right: true, from: 70 },
    Column { head: "deletes", is_right: true, from: 70 },
    Column { head: "rejects", is_right: true, from: 78 },
    Column { head: "changes", is_right: true, from: 0 },
];

fn table_row(table: &WatchedTable, is_running: bool, look: Look) -> Vec<Cell> {
    let (seen, totals) = (&table.seen, &table.totals);
    let state = match (table.percent, table.reading) {
        (Some(percent), _) => format!("reading {percent} %"),
        (None, Some(rows)) => format!("reading, {} rows", render::number(rows)),
        _ if seen.state.is_empty() && seen.failed.is_some() => "left out".into(),
        _ if seen.state.is_empty() => "-".into(),
        _ => seen.state.clone(),
    };
    let style = if seen.held.is_some() || seen.failed.is_some() { bad(look) } else { plain() };
    let number = |n: u64| (if n == 0 { "-".to_string() } else { render::number(n) }, plain());
    let lag =
        totals.committed_at.filter(|_| is_running).map_or("-".into(), |_| render::micros(totals.lag_us));
    let rejects = if seen.rejects > 0 { bad(look) } else { plain() };
    vec![
        (shown(&seen.table), if is_troubled(table) { bad(look) } else { plain() }),
        (state, style),
        (lag, plain()),
        number(totals.operations.inserts),
        number(totals.operations.updates),
        number(totals.operations.deletes),
        (number(seen.rejects).0, rejects),
        number(totals.operations.total()),
    ]
}

/// A list under a heading, from the line on that it is scrolled to.
fn list(
    frame: &mut Frame<'_>,
    area: Rect,
    (title, is_scrolled): (Vec<Span<'static>>, bool),
    (head_line, lines): (Line<'static>, Vec<Line<'static>>),
    (view, look): (&mut View, Look),
) {
    let block = Block::new().borders(Borders::TOP).border_style(dim(look)).title(Line::from(title));
    let inner = block.inner(area);
    frame.render_widget(block, area);
    let room = usize::from(inner.height.saturating_sub(1));
    let first = if is_scrolled {
        (view.shown, view.scroll) = (room.max(1), view.scroll.min(lines.len().saturating_sub(room)));
        view.scroll
    } else {
        0
    };
    let shown: Vec<Line<'static>> =
        [head_line].into_iter().chain(lines.into_iter().skip(first).take(room)).collect();
    frame.render_widget(Paragraph::new(shown), inner);
}

fn tables(frame: &mut Frame<'_>, area: Rect, view: &mut View, of: &Watched, look: Look) {
    let meant = view.tables(&of.tables);
    let count = match meant.len() == of.tables.len() {
        true => format!("{} tables", meant.len()),
        false => format!("{} of {} tables", meant.len(), of.tables.len()),
    };
    let mut title = vec![Span::styled(format!(" {count} "), head(look))];
    if view.is_typing || !view.filter.is_empty() {
        let cursor = if view.is_typing { "▏" } else { "" };
        title.push(Span::styled(format!("/{}{cursor} ", shown(&view.filter)), good(look)));
    }
    let rows: Vec<_> = meant.iter().map(|table| table_row(table, of.is_running(), look)).collect();
    let lines = columns(&TABLES, &rows, area.width, look);
    let is_scrolled = view.list == List::Tables;
    list(frame, area, (title, is_scrolled), lines, (view, look));
}

/// The step that most of the time went into.
fn mostly(applied: &AppliedTransaction) -> &'static str {
    let steps = [(applied.capture_us, "capture"), (applied.queue_us, "queue"), (applied.apply_us, "apply")];
    steps.into_iter().max_by_key(|(us, _)| *us).map_or("", |(_, word)| word)
}

const TRANSACTIONS: [Column; 8] = [
    Column { head: "tables", is_right: false, from: 0 },
    Column { head: "committed", is_right: false, from: 0 },
    Column { head: "changes", is_right: true, from: 0 },
    Column { head: "lag", is_right: true, from: 0 },
    Column { head: "mostly", is_right: false, from: 50 },
    Column { head: "capture", is_right: true, from: 76 },
    Column { head: "queue", is_right: true, from: 76 },
    Column { head: "apply", is_right: true, from: 76 },
];

fn transaction_row(applied: &AppliedTransaction) -> Vec<Cell> {
    let tables: Vec<String> = applied.tables.iter().map(|(table, _)| shown(table)).collect();
    let cell = |text: String| (text, plain());
    vec![
        cell(tables.join(", ")),
        cell(render::clock_ms(applied.committed_at)),
        cell(render::number(applied.changes)),
        cell(render::micros(applied.lag_us())),
        cell(mostly(applied).into()),
        cell(render::micros(applied.capture_us)),
        cell(render::micros(applied.queue_us)),
        cell(render::micros(applied.apply_us)),
    ]
}

fn transactions(frame: &mut Frame<'_>, area: Rect, view: &mut View, of: &Watched, look: Look) {
    let title = vec![Span::styled(" last transactions ", head(look))];
    let rows: Vec<_> = of.said.recent.iter().map(transaction_row).collect();
    let lines = columns(&TRANSACTIONS, &rows, area.width, look);
    let is_scrolled = view.list == List::Transactions;
    list(frame, area, (title, is_scrolled), lines, (view, look));
}

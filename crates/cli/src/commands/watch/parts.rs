//! What both pages share: how words are styled, how a pipeline stands, columns.

use crate::render;
use chrono::{DateTime, Utc};
use moorage_core::model::visible::visible;
use moorage_core::watch::alerts::seen::Stands;
use moorage_monitor::Watched;
use ratatui::style::{Color, Modifier, Style};
use ratatui::text::{Line, Span};

/// Whether there is colour.
#[derive(Clone, Copy, Debug)]
pub(super) struct Look {
    pub(super) has_colour: bool,
}

/// What there is to draw.
pub(super) struct Scene {
    pub(super) now: DateTime<Utc>,
    /// From when on there are samples.
    pub(super) since: DateTime<Utc>,
    pub(super) pipelines: Vec<Watched>,
}

fn coloured(look: Look, colour: Color) -> Style {
    if look.has_colour { Style::new().fg(colour) } else { Style::new() }
}

pub(super) fn bad(look: Look) -> Style {
    coloured(look, Color::Red).add_modifier(Modifier::BOLD)
}

pub(super) fn good(look: Look) -> Style {
    coloured(look, Color::Cyan)
}

pub(super) fn dim(look: Look) -> Style {
    if look.has_colour { Style::new().fg(Color::DarkGray) } else { Style::new() }
}

pub(super) fn head(_: Look) -> Style {
    Style::new().add_modifier(Modifier::BOLD)
}

/// What comes from outside, on one line.
pub(super) fn shown(text: &str) -> String {
    visible(text, false).into_owned()
}

/// How a pipeline stands, in a word and since when; and whether that is a trouble.
pub(super) fn stands(pipeline: &Watched) -> (String, bool) {
    let since = |at: DateTime<Utc>| format!(" since {}", render::clock(at));
    let run = pipeline.run.as_ref();
    let words = match &pipeline.seen.stands {
        Some(Stands::Stopped { since: at, .. }) => match run.map(|run| run.outcome.as_deref()) {
            None => "never ran".into(),
            Some(None) => format!("silent{}", at.map(since).unwrap_or_default()),
            Some(Some(outcome)) => {
                format!("{outcome}{}", at.map(|at| format!(" {}", render::clock(at))).unwrap_or_default())
            }
        },
        Some(Stands::Retries { since: at, .. }) => return (format!("tries again{}", since(*at)), true),
        Some(Stands::Runs) if !pipeline.said.reading.is_empty() => {
            let count = pipeline.said.reading.len();
            format!("reads {count} table{}", if count == 1 { "" } else { "s" })
        }
        Some(Stands::Runs) if pipeline.said.reader.is_none() => "begins".into(),
        Some(Stands::Runs) | None => "follows".into(),
    };
    (words, pipeline.stopped_badly())
}

/// How far it is behind.
pub(super) fn behind(pipeline: &Watched) -> String {
    pipeline.behind.map_or("-".into(), |behind| render::micros(behind.as_micros() as u64))
}

/// A number of changes in a second.
pub(super) fn rate(value: f64) -> String {
    if value >= 100.0 || value == 0.0 { render::number(value.round() as u64) } else { format!("{value:.1}") }
}

/// A column: its head, whether it is flush right, and how wide it is at least.
pub(super) struct Column {
    pub(super) head: &'static str,
    pub(super) is_right: bool,
    /// The narrowest screen that has it.
    pub(super) from: u16,
}

/// A cell with its style.
pub(super) type Cell = (String, Style);

/// Lines of cells in columns as wide as what is in them; the first takes what is over or gives what is missing.
pub(super) fn columns(
    columns: &[Column],
    rows: &[Vec<Cell>],
    width: u16,
    look: Look,
) -> (Line<'static>, Vec<Line<'static>>) {
    let kept: Vec<usize> = (0..columns.len()).filter(|at| columns[*at].from <= width).collect();
    let chars = |text: &str| text.chars().count();
    let mut widths: Vec<usize> = kept
        .iter()
        .map(|at| {
            rows.iter().map(|row| chars(&row[*at].0)).chain([chars(columns[*at].head)]).max().unwrap_or(0)
        })
        .collect();
    let rest: usize = widths.iter().skip(1).sum::<usize>() + 2 * widths.len().saturating_sub(1);
    let room = usize::from(width).saturating_sub(rest).max(8);
    if let Some(first) = widths.first_mut() {
        *first = (*first).min(room);
    }
    let fit = |text: &str, width: usize, is_right: bool| {
        let text =
            if chars(text) > width { render::cut(text, width.saturating_sub(1)) } else { text.to_string() };
        let blanks = " ".repeat(width.saturating_sub(chars(&text)));
        if is_right { blanks + &text } else { text + &blanks }
    };
    let line = |cells: Vec<(String, Style)>| {
        let spans = cells.into_iter().flat_map(|(text, style)| [Span::styled(text, style), Span::raw("  ")]);
        Line::from(spans.collect::<Vec<_>>())
    };
    let heads = kept
        .iter()
        .zip(&widths)
        .map(|(at, width)| (fit(columns[*at].head, *width, columns[*at].is_right), dim(look)));
    let lines = rows.iter().map(|row| {
        let cells = kept
            .iter()
            .zip(&widths)
            .map(|(at, width)| (fit(&row[*at].0, *width, columns[*at].is_right), row[*at].1));
        line(cells.collect())
    });
    (line(heads.collect()), lines.collect())
}

//! All pipelines, a line each, and what is wrong.

use super::chart::{chart, plain, spark};
use super::parts::{Column, Look, Scene, bad, behind, columns, dim, good, head, rate, shown, stands};
use super::view::View;
use crate::render;
use moorage_monitor::Watched;
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::Style;
use ratatui::text::Line;
use ratatui::widgets::Paragraph;

const COLUMNS: [Column; 7] = [
    Column { head: "  pipeline", is_right: false, from: 0 },
    Column { head: "state", is_right: false, from: 0 },
    Column { head: "behind", is_right: true, from: 0 },
    Column { head: "changes/s", is_right: true, from: 0 },
    Column { head: "tables", is_right: true, from: 70 },
    Column { head: "wrong", is_right: true, from: 50 },
    Column { head: "behind over time", is_right: false, from: 90 },
];

/// How wide the line of lag over time is.
const SPARK: usize = 24;

fn row(pipeline: &Watched, is_chosen: bool, scene: &Scene, look: Look) -> Vec<(String, Style)> {
    let (word, is_bad) = stands(pipeline);
    let rates = &pipeline.rates;
    let troubles = pipeline.troubles().len();
    let wrong = if troubles == 0 { "-".to_string() } else { troubles.to_string() };
    vec![
        (
            format!("{}{}", if is_chosen { "▸ " } else { "  " }, shown(&pipeline.pipeline)),
            if is_chosen { head(look) } else { plain() },
        ),
        (word, if is_bad { bad(look) } else { plain() }),
        (behind(pipeline), plain()),
        (rate(rates.inserts + rates.updates + rates.deletes + rates.truncates), plain()),
        (render::number(pipeline.tables.len() as u64), plain()),
        (wrong, if troubles == 0 { dim(look) } else { bad(look) }),
        (spark(scene, pipeline, SPARK), good(look)),
    ]
}

/// How high the chart of the chosen pipeline is, where there is room for it.
const CHART: u16 = 14;

pub(super) fn draw(frame: &mut Frame<'_>, area: Rect, view: &mut View, scene: &Scene, look: Look) {
    let troubles = troubles(scene, look);
    let rows: Vec<_> = scene
        .pipelines
        .iter()
        .enumerate()
        .map(|(at, pipeline)| row(pipeline, at == view.chosen, scene, look))
        .collect();
    // What is wrong has a third of the screen at most, and no more than it needs.
    let wrong = (troubles.len() as u16).min(area.height / 3);
    let listed = (rows.len() as u16 + 1).min(area.height.saturating_sub(wrong + 1)).max(2);
    let [list, _, below, _, lag] = Layout::vertical([
        Constraint::Length(listed),
        Constraint::Length(1),
        Constraint::Length(wrong),
        Constraint::Min(0),
        Constraint::Max(CHART),
    ])
    .areas(area);
    let (head, lines) = columns(&COLUMNS, &rows, list.width, look);
    let most = usize::from(list.height.saturating_sub(1)).max(1);
    view.shown = most;
    let first = view.chosen.saturating_sub(most - 1);
    let shown: Vec<Line<'_>> = [head].into_iter().chain(lines.into_iter().skip(first).take(most)).collect();
    frame.render_widget(Paragraph::new(shown), list);
    frame.render_widget(Paragraph::new(troubles), below);
    if let Some(pipeline) = scene.pipelines.get(view.chosen).filter(|_| lag.height >= CHART / 2) {
        chart(frame, lag, look, scene, pipeline, view.span_word());
    }
}

fn troubles(scene: &Scene, look: Look) -> Vec<Line<'static>> {
    let of = |pipeline: &Watched| {
        let name = shown(&pipeline.pipeline);
        let line =
            move |(what, _): (String, String)| Line::styled(format!("{name}: {}", shown(&what)), bad(look));
        pipeline.troubles().into_iter().map(line).collect::<Vec<_>>()
    };
    scene.pipelines.iter().flat_map(of).collect()
}

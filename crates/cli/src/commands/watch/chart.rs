//! Lag over time, as a chart, or as a line of characters where there is no room for one.

use super::parts::{Look, Scene, dim, good, head, shown};
use crate::render;
use chrono::{DateTime, Local, TimeDelta, Utc};
use moorage_core::model::words::round_up;
use moorage_monitor::{Point, Watched};
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::symbols::Marker;
use ratatui::text::{Line, Span};
use ratatui::widgets::{Axis, Block, Borders, Chart, Dataset, GraphType};

/// Where no sample is for longer than this many of its lengths, the line is broken.
const GAP: i64 = 4;

/// Stretches without a gap: seconds before now, and seconds behind.
fn stretches(scene: &Scene, points: &[Point]) -> Vec<Vec<(f64, f64)>> {
    let mut all: Vec<Vec<(f64, f64)>> = Vec::new();
    let mut before: Option<&Point> = None;
    for point in points.iter().filter(|point| point.at >= scene.since) {
        let Some(behind) = point.behind else {
            before = None;
            continue;
        };
        let is_on = before.is_some_and(|before| {
            let most = GAP * (before.span.max(point.span).as_secs() as i64).max(1);
            (point.at - before.at).num_seconds() <= most
        });
        if !is_on {
            all.push(Vec::new());
        }
        if let Some(stretch) = all.last_mut() {
            stretch.push((-(scene.now - point.at).as_seconds_f64(), behind.as_secs_f64()));
        }
        before = Some(point);
    }
    all
}

fn seconds(value: f64) -> String {
    render::micros((value * 1e6) as u64)
}

fn clock(at: DateTime<Utc>) -> String {
    at.with_timezone(&Local).format("%H:%M:%S").to_string()
}

/// How far the target was behind, over time.
pub(super) fn chart(frame: &mut Frame<'_>, area: Rect, look: Look, scene: &Scene, of: &Watched, span: &str) {
    let block = Block::new()
        .borders(Borders::TOP)
        .border_style(dim(look))
        .title(Span::styled(format!(" {}: behind, last {span} ", shown(&of.pipeline)), head(look)));
    let stretches = stretches(scene, &of.points);
    let most = stretches.iter().flatten().map(|(_, behind)| *behind).fold(0.0, f64::max);
    if stretches.is_empty() {
        let inner = block.inner(area);
        frame.render_widget(block, area);
        return frame.render_widget(Line::styled("no samples in this time", dim(look)), inner);
    }
    let top = round_up(most * 1.05);
    // What began a short while ago is not drawn in a corner.
    let first = of.points.iter().find(|point| point.at >= scene.since).map_or(scene.since, |point| point.at);
    let begin = first.min(scene.now - TimeDelta::minutes(1)).max(scene.since);
    let middle = begin + (scene.now - begin) / 2;
    let datasets = stretches.iter().map(|stretch| {
        let set = Dataset::default().graph_type(GraphType::Line).marker(Marker::Braille);
        set.style(good(look)).data(stretch)
    });
    let width = (scene.now - begin).as_seconds_f64();
    let x = Axis::default().style(dim(look)).bounds([-width, 0.0]).labels([
        clock(begin),
        clock(middle),
        clock(scene.now),
    ]);
    let y = Axis::default().style(dim(look)).bounds([0.0, top]).labels([
        "0".to_string(),
        seconds(top / 2.0),
        seconds(top),
    ]);
    let chart = Chart::new(datasets.collect()).block(block).x_axis(x).y_axis(y).legend_position(None);
    frame.render_widget(chart, area);
}

/// The same in one line, so many characters wide.
pub(super) fn spark(scene: &Scene, of: &Watched, width: usize) -> String {
    let whole = (scene.now - scene.since).as_seconds_f64().max(1.0);
    let mut places: Vec<Option<f64>> = vec![None; width];
    for point in of.points.iter().filter(|point| point.at >= scene.since) {
        let share = (point.at - scene.since).as_seconds_f64() / whole;
        let at = ((share * width as f64) as usize).min(width.saturating_sub(1));
        if let (Some(place), Some(behind)) = (places.get_mut(at), point.behind) {
            *place = Some(place.unwrap_or(0.0).max(behind.as_secs_f64()));
        }
    }
    render::bars(&places)
}

/// The style that nothing has.
pub(super) fn plain() -> Style {
    Style::new()
}

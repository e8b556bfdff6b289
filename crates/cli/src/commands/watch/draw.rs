//! The whole screen: the first line, a page, and the keys in the last line.

use super::parts::{Look, Scene, bad, dim, head};
use super::view::{List, View};
use super::{overview, page};
use chrono::Local;
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::text::{Line, Span};

/// Draws everything.
pub(super) fn draw(frame: &mut Frame<'_>, view: &mut View, scene: &Scene, look: Look) {
    let [top, middle, bottom] =
        Layout::vertical([Constraint::Length(1), Constraint::Min(0), Constraint::Length(1)])
            .areas(frame.area());
    first_line(frame, top, scene, look);
    match scene.pipelines.get(view.chosen).filter(|_| view.is_page) {
        Some(pipeline) => page::draw(frame, middle, view, scene, pipeline, look),
        None => overview::draw(frame, middle, view, scene, look),
    }
    frame.render_widget(Line::from(keys(view, (scene.pipelines.len(), bottom.width), look)), bottom);
}

fn first_line(frame: &mut Frame<'_>, area: Rect, scene: &Scene, look: Look) {
    let wrong = scene.pipelines.iter().filter(|pipeline| !pipeline.troubles().is_empty()).count();
    let count = scene.pipelines.len();
    let s = if count == 1 { "" } else { "s" };
    let clock = scene.now.with_timezone(&Local).format("%H:%M:%S").to_string();
    let mut parts =
        vec![Span::styled("moorage", head(look)), Span::raw(format!("  {clock}  {count} pipeline{s}, "))];
    parts.push(match wrong {
        0 => Span::raw("nothing is wrong"),
        1 if count == 1 => Span::styled("something is wrong", bad(look)),
        wrong => Span::styled(format!("{wrong} with something wrong"), bad(look)),
    });
    frame.render_widget(Line::from(parts), area);
}

/// From this width on there is room for the last pair of keys.
const SPAN_KEYS_FROM: u16 = 72;

/// The keys that do something now.
fn keys(view: &View, (pipelines, width): (usize, u16), look: Look) -> Vec<Span<'static>> {
    let keys: Vec<(String, String)> = if view.is_typing {
        vec![("Enter".into(), "keep".into()), ("Esc".into(), "clear".into()), ("Ctrl-C".into(), "end".into())]
    } else if view.is_page {
        let other = if view.list == List::Tables { "transactions" } else { "tables" };
        let mut keys = vec![("q".to_string(), "end".to_string())];
        if pipelines > 1 || !view.filter.is_empty() {
            keys.push(("Esc".into(), "back".into()));
        }
        keys.extend([
            ("↑↓".into(), "scroll".into()),
            ("s".into(), format!("by {}", view.sort.word())),
            ("/".into(), "filter".into()),
            ("Tab".into(), other.into()),
        ]);
        if width >= SPAN_KEYS_FROM {
            keys.push(("+-".into(), view.span_word().into()));
        }
        keys
    } else {
        vec![
            ("q".into(), "end".into()),
            ("↑↓".into(), "choose".into()),
            ("Enter".into(), "open".into()),
            ("+-".into(), view.span_word().into()),
        ]
    };
    let pair = |(key, word): (String, String)| {
        [Span::styled(key, head(look)), Span::styled(format!(" {word}  "), dim(look))]
    };
    keys.into_iter().flat_map(pair).collect()
}

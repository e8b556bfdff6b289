//! Charts as SVG that follows the colours of the page around it, light, dark or on paper.

use chrono::{DateTime, Local, TimeDelta, Utc};
use plotters::coord::Shift;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};

/// A line of a chart.
pub(super) struct Series {
    /// The name of its colour, from 1 on: `--series-1` of the page.
    pub(super) colour: usize,
    /// Stretches without a gap: times, and values.
    pub(super) stretches: Vec<Vec<(DateTime<Utc>, f64)>>,
    /// Whether what is below it is filled.
    pub(super) is_filled: bool,
}

/// How large a chart is drawn; the page scales it.
const SIZE: (u32, u32) = (960, 220);

/// Colours that are written into the SVG, and the page's own that stand for them. The library knows only numbers.
const STANDS_FOR: [(RGBColor, &str); 6] = [
    (RGBColor(1, 2, 3), "var(--ink)"),
    (RGBColor(1, 2, 4), "var(--grid)"),
    (RGBColor(1, 2, 5), "var(--series-1)"),
    (RGBColor(1, 2, 6), "var(--series-2)"),
    (RGBColor(1, 2, 7), "var(--series-3)"),
    (RGBColor(1, 2, 8), "var(--limit)"),
];
const INK: RGBColor = STANDS_FOR[0].0;
const GRID: RGBColor = STANDS_FOR[1].0;

fn colour(of: usize) -> RGBColor {
    STANDS_FOR[(of + 1).min(STANDS_FOR.len() - 1)].0
}

/// Steps between marks of time, in seconds, from a second to a quarter of a year.
const STEPS: [i64; 19] = [
    1, 5, 15, 30, 60, 300, 900, 1800, 3600, 7200, 14_400, 21_600, 43_200, 86_400, 172_800, 604_800,
    1_209_600, 2_592_000, 7_776_000,
];
/// How many marks of time there are at most.
const MOST_MARKS: i64 = 8;

/// How a time is written where marks are so far apart.
fn time_mark(at: DateTime<Utc>, step_s: i64) -> String {
    let form = match step_s {
        ..60 => "%H:%M:%S",
        60..43_200 => "%H:%M",
        43_200..86_400 => "%d %b %H:%M",
        _ => "%d %b",
    };
    at.with_timezone(&Local).format(form).to_string()
}

/// A chart over a stretch of time, whose values are written by `shown`; the top is `least` or more, and what `round`
/// makes of it. It is called
/// `title` for those who hear it.
pub(super) fn svg(
    title: &str,
    (from, to): (DateTime<Utc>, DateTime<Utc>),
    series: &[Series],
    (least, round): (f64, fn(f64) -> f64),
    shown: impl Fn(f64) -> String,
) -> String {
    let most =
        series.iter().flat_map(|s| s.stretches.iter().flatten()).map(|(_, value)| *value).fold(0.0, f64::max);
    let top = round((most * 1.02).max(least));
    let mut out = String::new();
    let drawn = {
        let area = SVGBackend::with_string(&mut out, SIZE).into_drawing_area();
        draw(&area, (from, to), series, top, shown).and_then(|()| area.present())
    };
    if drawn.is_err() {
        // Into memory nothing fails; what cannot be drawn is not shown.
        return String::new();
    }
    for (number, name) in STANDS_FOR {
        out = out.replace(&format!("#{:02X}{:02X}{:02X}", number.0, number.1, number.2), name);
    }
    let head = format!("<svg role=\"img\" aria-label=\"{title}\" preserveAspectRatio=\"none\" ");
    // The page decides how wide it is.
    out.replacen("<svg ", &head, 1).replacen(&format!("width=\"{}\" height=\"{}\" ", SIZE.0, SIZE.1), "", 1)
}

type Drawn = Result<(), DrawingAreaErrorKind<std::io::Error>>;

fn draw(
    area: &DrawingArea<SVGBackend<'_>, Shift>,
    (from, to): (DateTime<Utc>, DateTime<Utc>),
    series: &[Series],
    top: f64,
    shown: impl Fn(f64) -> String,
) -> Drawn {
    let whole = (to - from).num_seconds().max(1);
    let step = STEPS.into_iter().find(|step| whole / step <= MOST_MARKS).unwrap_or(whole / MOST_MARKS);
    let seconds = |at: DateTime<Utc>| (at - from).as_seconds_f64();
    let mut chart = ChartBuilder::on(area)
        .margin(8)
        .margin_right(18)
        .x_label_area_size(22)
        .y_label_area_size(76)
        .build_cartesian_2d(0.0..whole as f64, 0.0..top)?;
    let label = ("sans-serif", 13).into_font().color(&INK);
    // The library knows round numbers of its own, which are none in other units.
    for value in [0.0, top / 2.0, top] {
        let (left, right) = (chart.backend_coord(&(0.0, value)), chart.backend_coord(&(whole as f64, value)));
        area.draw(&PathElement::new([left, right], GRID))?;
        area.draw(&Text::new(
            shown(value),
            (left.0 - 8, left.1),
            label.pos(Pos::new(HPos::Right, VPos::Center)),
        ))?;
    }
    // Marks of time stand at round times of the reader's clock, which the library does not know.
    let local = i64::from(Local::now().offset().local_minus_utc());
    let first = (from.timestamp() + local).div_euclid(step) * step + step - local;
    for at in (0..=MOST_MARKS)
        .map(|n| first + n * step)
        .filter_map(|s| DateTime::from_timestamp(s, 0))
        .filter(|at| *at <= to)
    {
        let (x, y) = chart.backend_coord(&(seconds(at), 0.0));
        let text = time_mark(at, step);
        let centred = label.pos(Pos::new(HPos::Center, VPos::Top));
        area.draw(&PathElement::new([(x, y), (x, y + 4)], GRID))?;
        area.draw(&Text::new(text, (x, y + 7), centred))?;
    }
    for of in series {
        let line = colour(of.colour);
        for stretch in &of.stretches {
            let points = stretch.iter().map(|(at, value)| (seconds(*at), *value));
            if of.is_filled {
                chart.draw_series(AreaSeries::new(points.clone(), 0.0, line.mix(0.18)))?;
            }
            chart.draw_series(LineSeries::new(points, line.stroke_width(2)))?;
        }
    }
    Ok(())
}

/// Points without those of which there is no value, in stretches without a gap.
pub(super) fn stretches(
    points: impl Iterator<Item = (DateTime<Utc>, TimeDelta, Option<f64>)>,
) -> Vec<Vec<(DateTime<Utc>, f64)>> {
    let mut all: Vec<Vec<(DateTime<Utc>, f64)>> = Vec::new();
    let mut is_on = false;
    for (at, long, value) in points {
        let Some(value) = value else {
            is_on = false;
            continue;
        };
        if !is_on {
            all.push(Vec::new());
        }
        is_on = true;
        if let Some(stretch) = all.last_mut() {
            // A single point is as long as it is.
            if stretch.is_empty() {
                stretch.push((at, value));
            }
            stretch.push((at + long, value));
        }
    }
    all
}

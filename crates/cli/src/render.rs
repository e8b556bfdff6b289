//! How things look: tables, numbers, times, colour, JSON.

use crate::args::{Color, Format, Global};
use crate::failure::Failure;
use chrono::{DateTime, Local, SecondsFormat, Utc};
use comfy_table::{Attribute, Cell, CellAlignment, ContentArrangement, Row, Table};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use moorage_core::model::visible::{visible, visible_json};
pub use moorage_core::model::words::{counted, micros, number, set_span, size, span};
use moorage_engine::Pipeline;
use serde::Serialize;
use std::borrow::Cow;
use std::io::{IsTerminal, Write};
use std::sync::atomic::{AtomicBool, Ordering};

/// Whether something could not be written to stdout.
static UNWRITTEN: AtomicBool = AtomicBool::new(false);

/// Whether all results reached stdout. A reader that went away, or a full disk, is no success.
pub fn all_written() -> bool {
    std::io::stdout().flush().is_ok() && !UNWRITTEN.load(Ordering::Relaxed)
}

/// A text that may hold escape sequences, which are ours.
pub struct Styled(String);

impl Styled {
    /// With a plain text behind it.
    #[must_use]
    pub fn and(self, text: &str) -> Self {
        Self(self.0 + &visible(text, true))
    }

    /// With another one behind it.
    #[must_use]
    pub fn then(self, other: Self) -> Self {
        Self(self.0 + &other.0)
    }
}

/// Colours of words (ISO/IEC 6429, select graphic rendition).
pub const RED: u8 = 31;
pub const GREEN: u8 = 32;
pub const CYAN: u8 = 36;

/// A text without style, to begin one that has some.
pub fn plain(text: &str) -> Styled {
    Styled(visible(text, true).into_owned())
}

/// A word in a colour, where there is colour.
pub fn coloured(global: &Global, text: &str, colour: u8) -> Styled {
    let text = visible(text, false);
    Styled(if colored(global) { format!("\u{1b}[{colour}m{text}\u{1b}[0m") } else { text.into_owned() })
}

/// Something to show: what is not styled by us has nothing hidden in it.
pub enum Shown<'a> {
    Plain(Cow<'a, str>),
    Styled(Styled),
}

impl<'a, T: AsRef<str> + ?Sized> From<&'a T> for Shown<'a> {
    fn from(text: &'a T) -> Self {
        Self::Plain(visible(text.as_ref(), true))
    }
}

impl From<String> for Shown<'_> {
    fn from(text: String) -> Self {
        Self::Plain(Cow::Owned(visible(&text, true).into_owned()))
    }
}

impl From<Styled> for Shown<'_> {
    fn from(text: Styled) -> Self {
        Self::Styled(text)
    }
}

impl AsRef<str> for Shown<'_> {
    fn as_ref(&self) -> &str {
        match self {
            Self::Plain(text) => text,
            Self::Styled(Styled(text)) => text,
        }
    }
}

/// Writes a result to stdout.
pub fn out<'a>(text: impl Into<Shown<'a>>) {
    if writeln!(std::io::stdout().lock(), "{}", text.into().as_ref()).is_err() {
        UNWRITTEN.store(true, Ordering::Relaxed);
    }
}

/// Writes a script to stdout, which is to be run as it is: only on a terminal is what is hidden in it written out.
pub fn script(text: String) {
    if std::io::stdout().is_terminal() { out(text) } else { out(Styled(text)) }
}

/// Writes a page to stdout, as it is: what is hidden in it was written out when it was made.
pub fn page(html: String) {
    out(Styled(html));
}

/// Writes progress to stderr. Where that cannot be written, nothing better can be done.
pub fn note<'a>(text: impl Into<Shown<'a>>) {
    let _ = writeln!(std::io::stderr().lock(), "{}", text.into().as_ref());
}

/// Says why something failed: in words, or as a JSON document on a line of its own. `pipeline` where others go on.
pub fn failure(global: &Global, pipeline: Option<&str>, failure: &Failure) {
    if !wants_json(global) {
        let of = pipeline.map_or(String::new(), |name| format!("{name}: "));
        return note(format!("error: {of}{}", failure.words));
    }
    failure_as_json(pipeline, failure);
}

/// Says it as a JSON document.
pub fn failure_as_json(pipeline: Option<&str>, Failure { code, words, object, .. }: &Failure) {
    let error = serde_json::json!({ "code": code, "pipeline": pipeline, "object": object, "message": words });
    let document = serde_json::json!({ "error": error });
    note(Styled(visible_json(&document.to_string()).into_owned()));
}

/// The least width of a column on the average, in characters, that lines are broken for: less breaks words.
const LEAST_COLUMN: usize = 12;

/// A table whose cells have nothing hidden in them.
pub struct Grid(Table);

impl Grid {
    /// Adds a row. A cell with something hidden in it loses its colour.
    pub fn add_row(&mut self, row: impl Into<Row>) {
        let row: Row = row.into();
        let cells = row.cell_iter().map(|cell| match visible(&cell.content(), true) {
            Cow::Borrowed(_) => cell.clone(),
            Cow::Owned(text) => Cell::new(text),
        });
        self.0.add_row(cells.collect::<Vec<_>>());
    }

    /// How it looks.
    pub fn trim_fmt(&self) -> Styled {
        let width = self.0.width().map_or(usize::MAX, usize::from);
        if width >= LEAST_COLUMN * self.0.column_iter().count() {
            return Styled(self.0.trim_fmt());
        }
        // Too narrow for columns: lines run on, which a terminal can be scrolled or copied for.
        let mut whole = self.0.clone();
        whole.set_content_arrangement(ContentArrangement::Disabled);
        Styled(whole.trim_fmt())
    }
}

/// Writes a JSON document to stdout.
///
/// # Errors
/// If the value has no JSON form.
pub fn json(value: &impl Serialize) -> Result<(), Failure> {
    let text = serde_json::to_string_pretty(value).map_err(|e| Failure::failed(e.to_string()))?;
    out(Styled(visible_json(&text).into_owned()));
    Ok(())
}

/// Writes a JSON document on a line of its own to stdout.
pub fn json_line(document: &serde_json::Value) {
    out(Styled(visible_json(&document.to_string()).into_owned()));
}

/// Whether the user wants JSON.
pub fn wants_json(global: &Global) -> bool {
    global.format == Format::Json
}

/// Whether to colour what goes to stdout.
pub fn colored(global: &Global) -> bool {
    let allowed = std::env::var_os("NO_COLOR").is_none_or(|v| v.is_empty());
    match global.color {
        Color::Always => true,
        Color::Never => false,
        Color::Auto => allowed && std::io::stdout().is_terminal(),
    }
}

/// A table without lines, as wide as the terminal, with a bold head if colour is on. A head that begins
/// with `>` is of a column of numbers and stands to the right.
pub fn table(global: &Global, head: &[&str]) -> Grid {
    let mut table = Table::new();
    table.load_style(comfy_table::presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic);
    if colored(global) {
        table.enforce_styling();
    } else {
        table.force_no_tty();
    }
    let bold = colored(global);
    let head = head.iter().map(|h| {
        let cell = match h.strip_prefix('>') {
            Some(number) => right(number),
            None => Cell::new(h),
        };
        if bold { cell.add_attribute(Attribute::Bold) } else { cell }
    });
    if head.len() > 0 {
        table.set_header(head);
    }
    if !std::io::stdout().is_terminal() {
        table.set_width(4000);
    }
    let mut table = Grid(table);
    tighten(&mut table);
    table
}

/// Two blanks between columns; columns are there once a head or a row is.
pub fn tighten(table: &mut Grid) {
    for column in table.0.column_iter_mut() {
        column.set_padding((0, 2));
    }
}

/// A heading on stdout.
pub fn bold(global: &Global, text: &str) -> Styled {
    let text = visible(text, false);
    Styled(if colored(global) { format!("\u{1b}[1m{text}\u{1b}[0m") } else { text.into_owned() })
}

/// A step of something longer, with the command it stands for; a line of its own on stderr.
pub fn heading(global: &Global, what: &str, command: &str) -> Styled {
    let (what, command) = (visible(what, false), visible(command, false));
    let allowed = std::env::var_os("NO_COLOR").is_none_or(|v| v.is_empty());
    let bold = match global.color {
        Color::Always => true,
        Color::Never => false,
        Color::Auto => allowed && std::io::stderr().is_terminal(),
    };
    Styled(if bold { format!("\n\u{1b}[1m{what}\u{1b}[0m{command}") } else { format!("\n{what}{command}") })
}

/// A bar, or a line that moves; hidden where nobody looks.
pub fn bar(global: &Global, template: &str, rows: Option<u64>) -> ProgressBar {
    let shown = !global.quiet && std::io::stderr().is_terminal();
    let target = if shown { ProgressDrawTarget::stderr() } else { ProgressDrawTarget::hidden() };
    let bar = ProgressBar::with_draw_target(rows, target);
    match ProgressStyle::with_template(template) {
        Ok(style) => bar.with_style(style.progress_chars("━╸ ").tick_chars("|/-\\ ")),
        Err(_) => bar,
    }
}

/// A right-aligned cell.
pub fn right(text: impl ToString) -> Cell {
    Cell::new(text.to_string()).set_alignment(CellAlignment::Right)
}

/// A cell in colour: for what is good, worth knowing, or bad.
pub fn tinted(global: &Global, text: &str, color: comfy_table::Color) -> Cell {
    let cell = Cell::new(text);
    if colored(global) { cell.fg(color) } else { cell }
}

/// A text of at most so many characters, on one line.
pub fn cut(text: &str, most: usize) -> String {
    let line: String = text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
    match line.char_indices().nth(most) {
        None => line,
        Some((at, _)) => format!("{}…", &line[..at]),
    }
}

/// Values as a line of characters, the highest a whole one; blank where there is none.
pub fn bars(values: &[Option<f64>]) -> String {
    const HEIGHTS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    let most = values.iter().flatten().copied().fold(f64::MIN_POSITIVE, f64::max);
    let bar = |value: &Option<f64>| {
        value.map_or(' ', |value| HEIGHTS[((value / most * 7.0).round() as usize).min(7)])
    };
    values.iter().map(bar).collect()
}

/// RFC 3339, to the second.
pub fn rfc3339(at: DateTime<Utc>) -> String {
    at.to_rfc3339_opts(SecondsFormat::Secs, true)
}

/// What folding a trail did.
pub fn tidied(target: &str, removed: u64, folded: u64) -> String {
    let (removed, folded) = (number(removed), number(folded));
    format!("{target}: what is old was folded: {removed} rows removed, {folded} are rows of a snapshot now")
}

/// A time with its milliseconds.
pub fn clock_ms(at: DateTime<Utc>) -> String {
    format!("{}.{:03}", clock(at), at.timestamp_subsec_millis())
}

/// Lines of values separated by commas (RFC 4180).
pub struct Lines(csv::Writer<Vec<u8>>);

impl Lines {
    /// With these heads.
    pub fn new(heads: &[&str]) -> Self {
        let mut lines = Self(csv::Writer::from_writer(Vec::new()));
        // Into memory.
        let _ = lines.0.write_record(heads);
        lines
    }

    /// Adds a line.
    ///
    /// # Errors
    /// If it has another number of values than there are heads.
    pub fn add(&mut self, values: Vec<String>) -> Result<(), Failure> {
        let shown = values.iter().map(|value| visible(value, false).into_owned());
        self.0.write_record(shown).map_err(|e| Failure::failed(e.to_string()))
    }

    /// Writes them to stdout.
    ///
    /// # Errors
    /// If they are no text.
    pub fn out(self) -> Result<(), Failure> {
        let bytes = self.0.into_inner().map_err(|e| Failure::failed(e.to_string()))?;
        let text = String::from_utf8(bytes).map_err(|e| Failure::failed(e.to_string()))?;
        out(Styled(text.trim_end().into()));
        Ok(())
    }
}

/// A time as the user's clock shows it; with the day if that is not today.
pub fn clock(at: DateTime<Utc>) -> String {
    let local = at.with_timezone(&Local);
    if local.date_naive() == Local::now().date_naive() {
        local.format("%H:%M:%S").to_string()
    } else {
        local.format("%Y-%m-%d %H:%M:%S").to_string()
    }
}

/// A time from RFC 3339, likewise.
pub fn clock_text(text: &str) -> String {
    DateTime::parse_from_rfc3339(text).map_or_else(|_| text.to_string(), |t| clock(t.to_utc()))
}

/// The lines that `run`, `status` and `teardown` open with.
///
/// # Errors
/// If the source cannot be reached, unless `lenient`.
pub async fn opening(global: &Global, pipeline: &Pipeline, lenient: bool) -> Result<String, Failure> {
    let source = match pipeline.source.address().await {
        Ok(a) if a.host.is_empty() => format!("{} file {}", a.system, a.database),
        Ok(a) => format!("{} at {}, database {}, user {}", a.system, a.host, a.database, a.user),
        Err(error) if lenient => format!("not reached: {error}"),
        Err(error) => return Err(error.into()),
    };
    let to = pipeline.target.address();
    let target = if to.host.is_empty() {
        format!("{} file {}", to.system, to.database)
    } else {
        format!("{} at {}, database {}, user {}", to.system, to.host, to.database, to.user)
    };
    Ok(format!(
        "{}: pipeline {}\n  source  {source}\n  target  {target}",
        global.file.display(),
        pipeline.name,
    ))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// D.30: a terminal that is too narrow for columns breaks no words.
    #[test]
    fn a_narrow_terminal_breaks_no_words() {
        let mut table = Grid(Table::new());
        table
            .0
            .load_style(comfy_table::presets::NOTHING)
            .set_content_arrangement(ContentArrangement::Dynamic);
        table.add_row(["meter_readings", "live", "1,273 rows", "waiting", "position"]);
        for width in [10, 30, 59] {
            table.0.set_width(width);
            let shown = table.trim_fmt().0;
            assert!(shown.contains("meter_readings") && shown.contains("1,273 rows"), "{width}:\n{shown}");
        }
    }
}

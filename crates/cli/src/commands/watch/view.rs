//! What is shown, and what keys do to it. Knows no terminal.

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use moorage_monitor::WatchedTable;
use std::cmp::Reverse;
use std::time::Duration;

/// Over what times lag is drawn.
const SPANS: [(Duration, &str); 4] = [
    (Duration::from_secs(600), "10 min"),
    (Duration::from_secs(3600), "1 h"),
    (Duration::from_secs(6 * 3600), "6 h"),
    (Duration::from_secs(24 * 3600), "24 h"),
];

/// By what tables are sorted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Sort {
    /// What is wrong first, then by name.
    Trouble,
    /// By name.
    Name,
    /// The most lag first.
    Lag,
    /// The most changes first.
    Changes,
}

impl Sort {
    const ALL: [Self; 4] = [Self::Trouble, Self::Name, Self::Lag, Self::Changes];

    pub(super) fn word(self) -> &'static str {
        match self {
            Self::Trouble => "trouble",
            Self::Name => "name",
            Self::Lag => "lag",
            Self::Changes => "changes",
        }
    }

    fn next(self) -> Self {
        let at = Self::ALL.iter().position(|sort| *sort == self).unwrap_or_default();
        Self::ALL[(at + 1) % Self::ALL.len()]
    }
}

/// Which list is scrolled.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum List {
    Tables,
    Transactions,
}

/// What a key asks for beyond the view itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Then {
    GoesOn,
    /// Other samples are wanted.
    LooksAgain,
    Ends,
}

/// What is shown.
#[derive(Debug)]
pub(super) struct View {
    pipelines: usize,
    /// One pipeline; otherwise all.
    pub(super) is_page: bool,
    /// Which pipeline is chosen.
    pub(super) chosen: usize,
    pub(super) sort: Sort,
    pub(super) list: List,
    /// The first line of the list that is shown. Bounded where it is drawn.
    pub(super) scroll: usize,
    /// How many lines of it were drawn.
    pub(super) shown: usize,
    /// Only tables with this in their names.
    pub(super) filter: String,
    /// Whether keys are letters of it.
    pub(super) is_typing: bool,
    span: usize,
}

/// The longest filter: no name has more.
const LONGEST_FILTER: usize = 130;

impl View {
    pub(super) fn new(pipelines: usize) -> Self {
        Self {
            pipelines,
            is_page: pipelines == 1,
            chosen: 0,
            sort: Sort::Trouble,
            list: List::Tables,
            scroll: 0,
            shown: 1,
            filter: String::new(),
            is_typing: false,
            span: 0,
        }
    }

    /// Over what time lag is drawn.
    pub(super) fn span(&self) -> Duration {
        SPANS[self.span].0
    }

    pub(super) fn span_word(&self) -> &'static str {
        SPANS[self.span].1
    }

    /// Hears a key.
    pub(super) fn key(&mut self, key: KeyEvent) -> Then {
        let is_control = key.modifiers.contains(KeyModifiers::CONTROL);
        if is_control && matches!(key.code, KeyCode::Char('c' | 'd')) {
            return Then::Ends;
        }
        if self.is_typing {
            return self.types(key.code, is_control);
        }
        match key.code {
            KeyCode::Char('q') => return Then::Ends,
            KeyCode::Up | KeyCode::Char('k') => self.moves(-1),
            KeyCode::Down | KeyCode::Char('j') => self.moves(1),
            KeyCode::PageUp => self.moves(-(self.shown as isize)),
            KeyCode::PageDown | KeyCode::Char(' ') => self.moves(self.shown as isize),
            KeyCode::Home => self.moves(isize::MIN / 2),
            KeyCode::End => self.moves(isize::MAX / 2),
            KeyCode::Char('+') => return self.spans(1),
            KeyCode::Char('-') => return self.spans(-1),
            KeyCode::Enter | KeyCode::Right if !self.is_page => self.opens(),
            KeyCode::Esc | KeyCode::Left | KeyCode::Backspace if self.is_page => self.closes(),
            KeyCode::Char('s') if self.is_page => (self.sort, self.scroll) = (self.sort.next(), 0),
            KeyCode::Char('/') if self.is_page => {
                (self.is_typing, self.list, self.scroll) = (true, List::Tables, 0);
            }
            KeyCode::Tab if self.is_page => {
                self.list = if self.list == List::Tables { List::Transactions } else { List::Tables };
                self.scroll = 0;
            }
            _ => {}
        }
        Then::GoesOn
    }

    fn types(&mut self, code: KeyCode, is_control: bool) -> Then {
        match code {
            KeyCode::Enter => self.is_typing = false,
            KeyCode::Esc => {
                self.is_typing = false;
                self.filter.clear();
            }
            KeyCode::Backspace => drop(self.filter.pop()),
            KeyCode::Char('u') if is_control => self.filter.clear(),
            KeyCode::Char(c) if !is_control && self.filter.len() < LONGEST_FILTER => self.filter.push(c),
            _ => {}
        }
        self.scroll = 0;
        Then::GoesOn
    }

    fn moves(&mut self, by: isize) {
        match self.is_page {
            true => self.scroll = self.scroll.saturating_add_signed(by),
            false => {
                let last = self.pipelines.saturating_sub(1);
                self.chosen = self.chosen.saturating_add_signed(by).min(last);
            }
        }
    }

    fn opens(&mut self) {
        (self.is_page, self.scroll) = (true, 0);
    }

    fn closes(&mut self) {
        match self.filter.is_empty() {
            // Where there is but one, there is nothing to go back to.
            true => self.is_page = self.pipelines == 1,
            false => self.filter.clear(),
        }
        self.scroll = 0;
    }

    fn spans(&mut self, by: isize) -> Then {
        self.span = self.span.saturating_add_signed(by).min(SPANS.len() - 1);
        Then::LooksAgain
    }

    /// The tables that are meant, in their order.
    pub(super) fn tables<'t>(&self, all: &'t [WatchedTable]) -> Vec<&'t WatchedTable> {
        let wanted = self.filter.to_lowercase();
        let is_meant = |t: &&WatchedTable| {
            [&t.seen.table, &t.seen.target].iter().any(|name| name.to_lowercase().contains(&wanted))
        };
        let mut meant: Vec<&WatchedTable> = all.iter().filter(is_meant).collect();
        match self.sort {
            Sort::Name => meant.sort_by_key(|t| t.seen.table.clone()),
            Sort::Trouble => meant.sort_by_key(|t| (!is_troubled(t), t.seen.table.clone())),
            Sort::Lag => meant.sort_by_key(|t| (Reverse(t.totals.lag_us), t.seen.table.clone())),
            Sort::Changes => {
                meant.sort_by_key(|t| (Reverse(t.totals.operations.total()), t.seen.table.clone()));
            }
        }
        meant
    }
}

/// Whether something is wrong with a table.
pub(super) fn is_troubled(table: &WatchedTable) -> bool {
    table.seen.held.is_some() || table.seen.failed.is_some() || table.seen.rejects > 0
}

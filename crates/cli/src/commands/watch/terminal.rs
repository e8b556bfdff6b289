//! The terminal while the view has it: what it was like before comes back, however the view ends.

use crossterm::cursor::Show;
use crossterm::execute;
use crossterm::terminal::{EnterAlternateScreen, LeaveAlternateScreen, disable_raw_mode, enable_raw_mode};
use ratatui::backend::CrosstermBackend;
use ratatui::{Frame, Terminal};
use std::io::{Result, Stdout, stdout};
use std::sync::Once;

/// The terminal, ours as long as this lives.
pub(super) struct Screen(Terminal<CrosstermBackend<Stdout>>);

/// Gives back what needs no writing.
pub(super) fn give_back_modes() {
    let _ = disable_raw_mode();
}

/// Gives it back. What cannot be written there any more needs no giving back.
fn give_back() {
    give_back_modes();
    let _ = execute!(stdout(), LeaveAlternateScreen, Show);
}

impl Screen {
    /// Takes the terminal.
    pub(super) fn open() -> Result<Self> {
        // A fault is told on the terminal as it was before.
        static ONCE: Once = Once::new();
        ONCE.call_once(|| {
            let tell = std::panic::take_hook();
            std::panic::set_hook(Box::new(move |fault| {
                give_back();
                tell(fault);
            }));
        });
        enable_raw_mode()?;
        // From here on it is given back, whatever happens.
        let opened = execute!(stdout(), EnterAlternateScreen)
            .and_then(|()| Terminal::new(CrosstermBackend::new(stdout())));
        opened.map(Self).inspect_err(|_| give_back())
    }

    /// Draws; in the size that the terminal has now.
    pub(super) fn draw(&mut self, draw: impl FnOnce(&mut Frame<'_>)) -> Result<()> {
        self.0.draw(draw).map(drop)
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        give_back();
    }
}

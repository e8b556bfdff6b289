//! Ctrl-C and SIGTERM. One that comes while it is being arranged to hear them must not get lost: the program would be told to
//! stop, and go on. So they are held back from the very start until someone hears them.

use nix::sys::signal::{SigSet, Signal as Kind};
use std::io;
use tokio::signal::unix::{Signal, SignalKind, signal};

/// Both are held back from this thread, and all it starts, as long as this lives.
pub struct Held(SigSet);

/// Holds both back. Programs that are started meanwhile are not concerned: they begin with no signal held back.
pub fn hold() -> Held {
    let mut both = SigSet::empty();
    both.add(Kind::SIGINT);
    both.add(Kind::SIGTERM);
    // It can only fail for a number that is no signal.
    let _ = both.thread_block();
    Held(both)
}

impl Held {
    /// Hears both from now on, the ones held back too. To be called in the thread that holds them back.
    ///
    /// # Errors
    /// If the system does not let us.
    pub fn hear(self) -> io::Result<(Signal, Signal)> {
        Ok((signal(SignalKind::interrupt())?, signal(SignalKind::terminate())?))
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        let _ = self.0.thread_unblock();
    }
}

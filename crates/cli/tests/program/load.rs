//! An application that goes on writing while a test does something else.

use moorage_testkit::Session;
use std::sync::mpsc::{Sender, TryRecvError, channel};
use std::thread::JoinHandle;

/// Statements that run again and again. Letting go of it waits for the last one, and fails if one did.
pub struct Load {
    stop: Option<Sender<()>>,
    thread: Option<JoinHandle<()>>,
}

impl Load {
    pub fn start(session: Session, statements: &'static str) -> Self {
        let (stop, stopped) = channel::<()>();
        let thread = std::thread::spawn(move || {
            // Nothing is ever sent: the other end goes away.
            while stopped.try_recv() == Err(TryRecvError::Empty) {
                session.run(statements);
            }
        });
        Self { stop: Some(stop), thread: Some(thread) }
    }
}

impl Drop for Load {
    fn drop(&mut self) {
        self.stop.take();
        let ended = self.thread.take().is_none_or(|thread| thread.join().is_ok());
        assert!(ended || std::thread::panicking(), "a statement of the load failed");
    }
}

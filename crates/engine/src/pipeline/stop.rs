//! Asking a run to stop.

use tokio::sync::watch;

/// Asks a run to stop.
pub struct StopHandle(watch::Sender<Option<String>>);

/// Hears it.
#[derive(Clone)]
pub struct StopSignal(watch::Receiver<Option<String>>);

/// A handle and a signal that hears it.
pub fn stop_pair() -> (StopHandle, StopSignal) {
    let (sender, receiver) = watch::channel(None);
    (StopHandle(sender), StopSignal(receiver))
}

impl StopHandle {
    /// Asks; `by` says what asks: `Ctrl-C`.
    pub fn stop(&self, by: &str) {
        self.0.send_replace(Some(by.to_string()));
    }
}

impl StopSignal {
    /// Waits until asked, and says by what. Never ends if the handle is gone.
    pub async fn asked(&mut self) -> String {
        let by = self.0.wait_for(Option::is_some).await.ok().and_then(|by| by.clone());
        match by {
            Some(by) => by,
            None => std::future::pending().await,
        }
    }
}

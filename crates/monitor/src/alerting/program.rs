//! A message on a program's standard input.

use super::message::Message;
use std::path::Path;
use std::process::Stdio;
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::process::Command;

/// A program that is started for each message.
#[derive(Clone, Debug)]
pub(super) struct Program {
    pub(super) command: Vec<String>,
    pub(super) timeout: Duration,
}

/// How much of what it says on its standard error is told.
const MOST_SAID: usize = 500;

impl Program {
    /// What is started.
    pub(super) fn place(&self) -> String {
        self.command.first().cloned().unwrap_or_default()
    }

    /// Starts it, and gives it a message as one line of JSON.
    pub(super) async fn send(&self, message: &Message, folder: &Path) -> Result<String, String> {
        let Some((program, arguments)) = self.command.split_first() else { return Err("it is empty".into()) };
        let mut child = Command::new(program)
            .args(arguments)
            .current_dir(folder)
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .stderr(Stdio::piped())
            .kill_on_drop(true)
            .spawn()
            .map_err(|e| format!("{program} cannot be started: {e}"))?;
        let line = format!("{}\n", message.event());
        let (stdin, stderr) = (child.stdin.take(), child.stderr.take());
        let tell = async {
            if let Some(mut stdin) = stdin {
                // Whoever does not read it decides by its exit code.
                let _ = stdin.write_all(line.as_bytes()).await;
            }
        };
        let hear = async {
            let mut said = Vec::new();
            if let Some(mut stderr) = stderr {
                let mut some = [0; MOST_SAID];
                // All of it is taken, so that it can go on, and the beginning is kept.
                while let Ok(read @ 1..) = stderr.read(&mut some).await {
                    let room = MOST_SAID - said.len();
                    said.extend_from_slice(&some[..read.min(room)]);
                }
            }
            said
        };
        let ended = tokio::time::timeout(self.timeout, async {
            let ((), said) = tokio::join!(tell, hear);
            (child.wait().await, said)
        });
        let Ok((ended, said)) = ended.await else {
            return Err(format!("{program} did not end within {} s, and was killed", self.timeout.as_secs()));
        };
        let ended = ended.map_err(|e| format!("{program}: {e}"))?;
        let said = String::from_utf8_lossy(&said).split_whitespace().collect::<Vec<_>>().join(" ");
        let said = if said.is_empty() { said } else { format!(": {said}") };
        match ended.success() {
            true => Ok(format!("{ended}{said}")),
            false => Err(format!("{program} ended with {ended}{said}")),
        }
    }
}

//! Secrets: never in the project file, only where they come from.

use moorage_core::model::visible;
use moorage_core::project::error::Mistake;
use secrecy::SecretString;
use serde::Deserialize;
use std::io::Read;
use std::path::Path;
use std::sync::mpsc;
use std::time::Duration;
use toml::Spanned;

/// Where a secret comes from. Exactly one of the three must be given.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SecretConfig {
    /// The name of an environment variable.
    pub env: Option<String>,
    /// A file's path; one newline at its end is left out.
    pub file: Option<String>,
    /// A program and its arguments; what it prints is the secret.
    pub command: Option<Vec<String>>,
}

/// The largest secret, in bytes.
const MOST_BYTES: u64 = 64 << 10;
/// How long a program that prints a secret may take.
const PATIENCE: Duration = Duration::from_secs(60);

impl SecretConfig {
    /// Checks that exactly one place is given for the password of `end`, such as `source harbour`.
    ///
    /// # Errors
    /// If none or several are.
    pub fn check(end: &str, given: Option<&Spanned<Self>>) -> Result<(), Mistake> {
        Self::check_one(&format!("the password of {end}"), given)
    }

    /// Checks that exactly one place is given for something, such as `the token of receiver duty`.
    ///
    /// # Errors
    /// If none or several are.
    pub fn check_one(what: &str, given: Option<&Spanned<Self>>) -> Result<(), Mistake> {
        let Some(given) = given else { return Ok(()) };
        let p = given.get_ref();
        if [p.env.is_some(), p.file.is_some(), p.command.is_some()].iter().filter(|x| **x).count() == 1 {
            return Ok(());
        }
        let expected = "{ env = \"NAME\" }, { file = \"path\" } or { command = [\"program\", \"argument\"] }";
        let what = format!("{what} must come from exactly one place");
        Err(Mistake::at(given.span(), what, expected))
    }

    /// Looks it up. Paths are relative to `folder`. What is in a file, or printed by a program, may be a token that is
    /// good for minutes: to be asked again for every connection.
    ///
    /// # Errors
    /// If it is not there; in words.
    pub fn look_up(&self, folder: &Path) -> Result<SecretString, String> {
        if let Some(name) = &self.env {
            let found = std::env::var(name);
            return found.map(Into::into).map_err(|_| format!("the environment variable {name} is not set"));
        }
        if let Some(path) = &self.file {
            let path = folder.join(path);
            let text = read_bounded(&path, MOST_BYTES).map_err(|e| format!("{}: {e}", path.display()))?;
            return Ok(text.strip_suffix('\n').unwrap_or(&text).into());
        }
        let Some((program, arguments)) = self.command.as_deref().and_then(<[String]>::split_first) else {
            return Err("the command is empty".into());
        };
        let text = printed_by(program, arguments, folder).map_err(|e| format!("{program}: {e}"))?;
        Ok(text.trim_end_matches('\n').into())
    }
}

/// Reads a file of at most so many bytes: it may be a device that never ends.
///
/// # Errors
/// If it cannot be read, is larger, or is no UTF-8.
pub fn read_bounded(path: &Path, most: u64) -> std::io::Result<String> {
    let mut bytes = Vec::new();
    let read = std::fs::File::open(path)?.take(most + 1).read_to_end(&mut bytes)?;
    if read as u64 > most {
        return Err(std::io::Error::other(format!("it has more than {most} bytes")));
    }
    visible::text(bytes).map_err(std::io::Error::other)
}

/// What a program prints, at most a secret's size, within a time.
fn printed_by(program: &str, arguments: &[String], folder: &Path) -> Result<String, String> {
    let mut child = std::process::Command::new(program)
        .args(arguments)
        .current_dir(folder)
        .stdin(std::process::Stdio::null())
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::inherit())
        .spawn()
        .map_err(|e| e.to_string())?;
    let Some(printed) = child.stdout.take() else { return Err("its output cannot be read".into()) };
    let (sender, receiver) = mpsc::channel();
    std::thread::spawn(move || {
        let mut bytes = Vec::new();
        let read = printed.take(MOST_BYTES + 1).read_to_end(&mut bytes);
        // Nobody waits for it any more if it took too long.
        let _ = sender.send(read.map(|_| bytes));
    });
    let read = receiver.recv_timeout(PATIENCE);
    let too_much = |bytes: &[u8]| bytes.len() as u64 > MOST_BYTES;
    let ended = match &read {
        Ok(Ok(bytes)) if !too_much(bytes) => child.wait().map_err(|e| e.to_string())?,
        _ => {
            // It is of no use any more, and may go on for ever.
            let _ = child.kill();
            let _ = child.wait();
            return Err(match read {
                Ok(Ok(_)) => format!("it printed more than {MOST_BYTES} bytes"),
                Ok(Err(error)) => error.to_string(),
                Err(_) => format!("it printed no end within {} s", PATIENCE.as_secs()),
            });
        }
    };
    if !ended.success() {
        return Err(format!("it ended with {ended}"));
    }
    let bytes = read.map_err(|e| e.to_string())?.map_err(|e| e.to_string())?;
    String::from_utf8(bytes).map_err(|_| "it printed no UTF-8".into())
}

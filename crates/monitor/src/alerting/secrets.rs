//! Secrets of receivers, looked up for each message anew.

use moorage_adapter::secret::SecretConfig;
use secrecy::SecretString;
use std::path::Path;

/// Looks a secret up without holding up other receivers: a program may print it, and take its time.
///
/// # Errors
/// If it is not there; in words.
pub(super) async fn look_up(secret: &SecretConfig, folder: &Path) -> Result<SecretString, String> {
    let (secret, folder) = (secret.clone(), folder.to_path_buf());
    let found = tokio::task::spawn_blocking(move || secret.look_up(&folder)).await;
    found.map_err(|_| "looking up its secret failed".to_string())?
}

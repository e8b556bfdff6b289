//! The project's folder for local state: only its owner may look into it, names from outside are encoded, and links
//! are not followed.

use crate::error::{Result, StoreError};
use std::fs::{DirBuilder, File, OpenOptions, Permissions};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

/// The longest encoded name that is used as it is: file names may have 255 bytes, and something is put behind.
const LONGEST: usize = 100;

/// A pipeline's file. Names may hold anything, also what is special in paths.
pub fn file(folder: &Path, pipeline: &str, what: &str) -> PathBuf {
    let mut name = String::new();
    for byte in pipeline.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'_' | b'-' => name.push(char::from(byte)),
            other => name.push_str(&format!("%{other:02x}")),
        }
    }
    if name.len() > LONGEST {
        name.truncate(LONGEST);
        name.push_str(&format!("-{:016x}", fnv(pipeline)));
    }
    folder.join(format!("{name}.{what}"))
}

/// FNV-1a, 64 bits (draft-eastlake-fnv): only to tell long names apart.
fn fnv(text: &str) -> u64 {
    text.bytes()
        .fold(0xcbf2_9ce4_8422_2325, |hash, byte| (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3))
}

/// Makes the folder if it is missing; takes everybody else's rights away if it is there.
///
/// # Errors
/// If it cannot be made, or is something else.
pub fn make(folder: &Path) -> Result<()> {
    let failed = |e: std::io::Error| StoreError { path: folder.into(), reason: e.to_string() };
    refuse_link(folder).map_err(failed)?;
    DirBuilder::new().recursive(true).mode(0o700).create(folder).map_err(failed)?;
    let mode = std::fs::metadata(folder).map_err(failed)?.permissions().mode();
    if mode & 0o077 != 0
        && let Err(error) = std::fs::set_permissions(folder, Permissions::from_mode(0o700))
    {
        // It belongs to someone else, who has let this user write there.
        tracing::debug!("{}: its rights stay as they are: {error}", folder.display());
    }
    Ok(())
}

/// Opens a file of ours for writing, or makes it. Never what a link points at.
///
/// # Errors
/// If it cannot be opened, or is a link.
pub fn open(path: &Path) -> std::io::Result<File> {
    let mut options = OpenOptions::new();
    options.create(true).truncate(false).read(true).write(true).mode(0o600).custom_flags(no_follow());
    options.open(path).map_err(|e| of_link(path, e))
}

/// Opens a file of ours for reading.
///
/// # Errors
/// If it cannot be opened, or is a link.
pub fn open_for_reading(path: &Path) -> std::io::Result<File> {
    OpenOptions::new().read(true).custom_flags(no_follow()).open(path).map_err(|e| of_link(path, e))
}

fn no_follow() -> i32 {
    rustix::fs::OFlags::NOFOLLOW.bits() as i32
}

fn of_link(path: &Path, error: std::io::Error) -> std::io::Error {
    refuse_link(path).err().unwrap_or(error)
}

/// Refuses what is a link: it may have come with the project, and point anywhere.
///
/// # Errors
/// If it is one.
pub fn refuse_link(path: &Path) -> std::io::Result<()> {
    match std::fs::symlink_metadata(path) {
        Ok(found) if found.is_symlink() => Err(std::io::Error::other(
            "it is a link, and Moorage does not write through links here. Remove it",
        )),
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_name_leaves_the_folder_and_no_two_share_a_file() {
        let names =
            ["quayside", "/etc/x", "../x", "a/b", "a%2fb", "a.b", "", ".", "..", "\0", &"x".repeat(4000)];
        let files: Vec<PathBuf> = names.iter().map(|n| file(Path::new("f"), n, "lock")).collect();
        for (at, path) in files.iter().enumerate() {
            assert_eq!(path.parent(), Some(Path::new("f")), "{path:?}");
            assert!(path.file_name().is_some_and(|n| n.len() < 200), "{path:?}");
            assert!(!files[..at].contains(path), "{path:?} twice");
        }
        assert_eq!(files[0], Path::new("f/quayside.lock"), "plain names stay as they were");
    }
}

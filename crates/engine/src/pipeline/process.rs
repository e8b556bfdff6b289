//! Which process this is, and whether another one is still there.

use chrono::Utc;
use moorage_adapter::Holder;

/// This process, beginning a run.
pub(crate) fn me() -> Holder {
    Holder {
        id: uuid::Uuid::new_v4().to_string(),
        pid: std::process::id(),
        host: gethostname::gethostname().to_string_lossy().into_owned(),
        place: place().unwrap_or_default(),
        started: started(std::process::id()).unwrap_or_default(),
        since: Utc::now(),
    }
}

/// A boot of a machine, and a space of process numbers on it: only within both do the numbers mean the same.
fn place() -> Option<String> {
    let boot = std::fs::read_to_string("/proc/sys/kernel/random/boot_id").ok()?;
    let space = std::fs::read_link("/proc/self/ns/pid").ok()?;
    Some(format!("{} {}", boot.trim(), space.display()))
}

/// When a process began, in ticks since the boot: the 22nd field of its `stat` (proc(5)). Its second field, the
/// program's name in parentheses, may hold anything.
fn started(pid: u32) -> Option<String> {
    let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    let fields = stat.rsplit_once(") ")?.1;
    // A zombie is gone, and only not yet asked for.
    (!fields.starts_with('Z')).then(|| fields.split(' ').nth(19).map(str::to_string)).flatten()
}

/// Whether a process of this machine was stopped by a signal, and goes on by another one: state `T` of its `stat` (proc(5)).
pub(crate) fn is_asleep(of: &Holder) -> bool {
    let stat = std::fs::read_to_string(format!("/proc/{}/stat", of.pid)).unwrap_or_default();
    let is_stopped = stat.rsplit_once(") ").is_some_and(|(_, fields)| fields.starts_with('T'));
    is_stopped && life(of) == Life::There
}

/// What can be told of a process from here.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Life {
    /// It is there, awake or not.
    There,
    /// It has ended.
    Gone,
    /// It is somewhere else.
    Unknown,
}

/// Whether a process is still there.
pub(crate) fn life(of: &Holder) -> Life {
    match place() {
        Some(here) if here == of.place && !of.started.is_empty() => match started(of.pid) {
            Some(started) if started == of.started => Life::There,
            _ => Life::Gone,
        },
        _ => Life::Unknown,
    }
}

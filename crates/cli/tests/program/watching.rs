//! The live view, in a terminal of its own.

use crate::harness::{Folder, Quay};
use moorage_testkit::wait_until;
use rexpect::session::PtySession;
use rstest::rstest;
use std::process::Command;

const TABLE: &str =
    "CREATE TABLE berths (id INTEGER PRIMARY KEY, name TEXT); INSERT INTO berths VALUES (1, 'north')";

/// A shell in a terminal that says what the terminal is like before and behind the view, and with what it ended.
fn watch(folder: &Folder, arguments: &str) -> PtySession {
    let view = format!("sh -c 'echo $$ > pid; exec {} watch {arguments}'", env!("CARGO_BIN_EXE_moorage"));
    let script = format!(
        "stty rows 24 cols 80; stty -g > before; {view}; echo \"ended with $?\"; stty -g > behind; echo done"
    );
    let mut command = Command::new("/bin/bash");
    command
        .args(["-c", &script])
        .current_dir(folder.folder())
        .env("TERM", "xterm-256color")
        .env_remove("NO_COLOR");
    rexpect::session::spawn_command(command, Some(60_000)).unwrap()
}

/// Everything that belongs to the terminal is as it was.
fn is_as_it_was(folder: &Folder, terminal: &mut PtySession, code: &str) {
    // The other screen is left, and the cursor seen again.
    terminal.exp_string("\u{1b}[?1049l").unwrap();
    terminal.exp_string("\u{1b}[?25h").unwrap();
    terminal.exp_string(&format!("ended with {code}")).unwrap();
    terminal.exp_string("done").unwrap();
    let read = |name: &str| std::fs::read_to_string(folder.path(name)).unwrap();
    assert_eq!(read("behind"), read("before"));
}

#[rstest]
#[case::by_its_key("q")]
#[case::by_control_c("\u{3}")]
#[case::by_sigterm("")]
fn the_terminal_is_left_as_it_was_found(#[case] key: &str) {
    let quay = Quay::new(TABLE);
    quay.catch_up();
    let run = quay.follow();
    let mut terminal = watch(&quay, "");
    terminal.exp_string("\u{1b}[?1049h").unwrap();
    terminal.exp_string("follows").unwrap();
    terminal.exp_string("main.berths").unwrap();
    // What happens is seen without a key.
    quay.change("WITH RECURSIVE n(i) AS (VALUES (2) UNION ALL SELECT i + 1 FROM n WHERE i < 4322) INSERT INTO berths SELECT i, 'south' FROM n");
    terminal.exp_string("4,321").unwrap();
    if key.is_empty() {
        let pid = std::fs::read_to_string(quay.path("pid")).unwrap();
        assert!(Command::new("kill").arg(pid.trim()).status().unwrap().success());
    } else {
        terminal.send(key).unwrap();
        terminal.flush().unwrap();
    }
    is_as_it_was(&quay, &mut terminal, "0");
    run.stop();
}

/// What does not run is shown as that, also when its folder is removed while someone looks; and a new run is seen.
#[test]
fn what_stops_and_begins_is_seen() {
    let quay = Quay::new(TABLE);
    let mut terminal = watch(&quay, "");
    terminal.exp_string("never ran").unwrap();
    let run = quay.follow();
    terminal.exp_string("follows").unwrap();
    std::fs::remove_dir_all(quay.path(".moorage")).unwrap();
    wait_until("the run goes on in a new folder", || quay.path(".moorage/state.db").exists());
    run.stop();
    terminal.exp_string("stopped").unwrap();
    terminal.send("q").unwrap();
    terminal.flush().unwrap();
    is_as_it_was(&quay, &mut terminal, "0");
}

#[test]
fn without_a_terminal_it_says_what_says_the_same() {
    let quay = Quay::new(TABLE);
    quay.moorage(&["watch"]).expect(2, &["watch is for a terminal", "moorage status"]);
    let mut terminal = watch(&quay, "nowhere");
    terminal.exp_string("there is no pipeline nowhere").unwrap();
    terminal.exp_string("ended with 2").unwrap();
}

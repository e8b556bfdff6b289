//! What is drawn in which size, and what keys do.

use super::draw::draw;
use super::parts::{Look, Scene};
use super::view::{List, Sort, Then, View};
use chrono::{DateTime, TimeDelta, Utc};
use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use moorage_core::change::counters::Operations;
use moorage_core::watch::alerts::seen::{Seen, Stands, TableSeen, Trouble};
use moorage_core::watch::meter::TableTotals;
use moorage_monitor::{OperationRates, Point, Published, Standing, Watched, WatchedTable};
use ratatui::Terminal;
use ratatui::backend::TestBackend;
use rstest::rstest;
use std::time::Duration;

fn now() -> DateTime<Utc> {
    DateTime::from_timestamp(1_800_000_000, 0).unwrap()
}

fn table(name: &str, lag_ms: u64, inserts: u64) -> WatchedTable {
    let operations = Operations { inserts, ..Operations::default() };
    let totals = TableTotals {
        operations,
        lag_us: lag_ms * 1000,
        committed_at: Some(now()),
        ..TableTotals::default()
    };
    let seen = TableSeen { table: name.into(), state: "live".into(), ..TableSeen::default() };
    WatchedTable { seen, percent: None, reading: None, totals }
}

fn pipeline(name: &str) -> Watched {
    let standing = |doing: &str| Some(Standing { doing: doing.into(), since: now() });
    let said = Published {
        reader: standing("waits for the source"),
        queue: standing("is empty"),
        writer: standing("waits for a batch"),
        complete_until: Some(now()),
        ..Published::default()
    };
    let point = |ago: i64| Point {
        at: now() - TimeDelta::seconds(ago),
        span: Duration::from_secs(1),
        behind: Some(Duration::from_millis(300 + 5 * ago as u64)),
        lag_p50: None,
        lag_p95: None,
        operations: Operations::default(),
        kept_bytes: None,
        merges: 0,
    };
    let mut held = table("public.stays", 5, 1);
    let trouble =
        Trouble { what: "held: \u{1b}[31mcolumn".into(), since: None, next: "moorage drift show 3".into() };
    (held.seen.state, held.seen.held) = ("held".into(), Some(trouble));
    Watched {
        pipeline: name.into(),
        seen: Seen { stands: Some(Stands::Runs), ..Seen::nothing(name) },
        behind: Some(Duration::from_millis(420)),
        run: None,
        said,
        tables: vec![table("public.berths", 40, 7), table("public.invoices", 900, 3000), held],
        points: (0..300).rev().map(point).collect(),
        rates: OperationRates { inserts: 512.4, ..OperationRates::default() },
        raised: Vec::new(),
    }
}

fn scene(pipelines: &[&str]) -> Scene {
    let pipelines = pipelines.iter().map(|name| pipeline(name)).collect();
    Scene { now: now(), since: now() - TimeDelta::minutes(10), pipelines }
}

/// The lines that are drawn.
fn drawn(view: &mut View, scene: &Scene, (width, height): (u16, u16)) -> Vec<String> {
    let mut terminal = Terminal::new(TestBackend::new(width, height)).unwrap();
    terminal.draw(|frame| draw(frame, view, scene, Look { has_colour: true })).unwrap();
    let buffer = terminal.backend().buffer().clone();
    let line = |y| (0..width).map(|x| buffer[(x, y)].symbol()).collect::<String>().trim_end().to_string();
    (0..height).map(line).collect()
}

fn press(view: &mut View, keys: &str) -> Then {
    let code = |c| match c {
        '\n' => KeyCode::Enter,
        '\t' => KeyCode::Tab,
        '<' => KeyCode::Esc,
        'V' => KeyCode::Down,
        c => KeyCode::Char(c),
    };
    keys.chars().map(|c| view.key(KeyEvent::new(code(c), KeyModifiers::NONE))).last().unwrap()
}

/// In every size there are the keys, what is wrong, and every table; and nothing breaks in one that is far too small.
#[rstest]
#[case::usual(80, 24, &["reader", "queue", "inserts/s", "main 420 ms behind"])]
#[case::wide(200, 50, &["reader", "queue", "last transactions", "capture"])]
#[case::small(60, 15, &["behind, 10 min"])]
fn a_page_is_right_in_every_size(#[case] width: u16, #[case] height: u16, #[case] texts: &[&str]) {
    let lines = drawn(&mut View::new(1), &scene(&["quayside"]), (width, height));
    let all = lines.join("\n");
    for text in texts.iter().map(|text| text.trim_start_matches("main ")) {
        assert!(all.contains(text), "no {text} in\n{all}");
    }
    for text in [
        "quayside",
        "follows",
        "420 ms behind",
        "moorage drift show 3",
        "public.berths",
        "public.stays",
        "held",
    ] {
        assert!(all.contains(text), "no {text} in\n{all}");
    }
    assert!(lines.last().unwrap().starts_with("q end"), "{all}");
    assert!(!all.contains('\u{1b}'), "what comes from outside is shown, not obeyed: {all:?}");
    assert!(lines.iter().all(|line| line.chars().count() <= width as usize));
}

#[test]
fn nothing_breaks_where_there_is_no_room() {
    for (width, height) in [(1, 1), (2, 3), (10, 4), (20, 9), (300, 2), (3, 100)] {
        for pipelines in [&["quayside"][..], &["quayside", "attic", "never"]] {
            let mut view = View::new(pipelines.len());
            drawn(&mut view, &scene(pipelines), (width, height));
            press(&mut view, "VV\n/x");
            drawn(&mut view, &scene(pipelines), (width, height));
        }
    }
}

#[test]
fn pipelines_are_chosen_opened_and_closed() {
    let (mut view, scene) = (View::new(2), scene(&["quayside", "attic"]));
    let all = drawn(&mut view, &scene, (80, 24)).join("\n");
    assert!(
        all.contains("▸ quayside") && all.contains("  attic") && all.contains("2 with something wrong"),
        "{all}"
    );
    assert_eq!(press(&mut view, "VVV\n"), Then::GoesOn);
    let lines = drawn(&mut view, &scene, (80, 24));
    assert!(lines[1].starts_with("attic  follows"), "{lines:?}");
    press(&mut view, "<");
    assert!(!view.is_page);
    assert_eq!(press(&mut view, "q"), Then::Ends);
    assert_eq!(view.key(KeyEvent::new(KeyCode::Char('c'), KeyModifiers::CONTROL)), Then::Ends);
    assert_eq!(press(&mut view, "+"), Then::LooksAgain);
    assert_eq!(view.span(), Duration::from_secs(3600));
}

#[test]
fn tables_are_sorted_and_filtered_as_it_is_typed() {
    let (mut view, scene) = (View::new(1), scene(&["quayside"]));
    let names = |view: &View| {
        let tables = view.tables(&scene.pipelines[0].tables);
        tables.iter().map(|t| t.seen.table.trim_start_matches("public.").to_string()).collect::<Vec<_>>()
    };
    assert_eq!(
        (view.sort, names(&view)),
        (Sort::Trouble, vec!["stays".into(), "berths".into(), "invoices".into()])
    );
    press(&mut view, "ss");
    assert_eq!((view.sort, names(&view)[0].as_str()), (Sort::Lag, "invoices"));
    press(&mut view, "/IN");
    // Letters are letters, whatever they mean elsewhere.
    press(&mut view, "v");
    assert_eq!((view.filter.as_str(), names(&view)), ("INv", vec!["invoices".to_string()]));
    let all = drawn(&mut view, &scene, (80, 24)).join("\n");
    assert!(all.contains("1 of 3 tables /INv▏") && !all.contains("public.berths"), "{all}");
    press(&mut view, "q\n");
    assert_eq!((view.filter.as_str(), view.is_typing), ("INvq", false));
    press(&mut view, "<");
    assert_eq!((view.filter.as_str(), view.is_page), ("", true));
    press(&mut view, "\t");
    assert_eq!(view.list, List::Transactions);
}

#[test]
fn a_list_is_never_scrolled_out_of_sight() {
    let (mut view, mut scene) = (View::new(1), scene(&["quayside"]));
    scene.pipelines[0].tables = (0..100).map(|n| table(&format!("public.t{n:02}"), n, n)).collect();
    view.key(KeyEvent::new(KeyCode::End, KeyModifiers::NONE));
    let all = drawn(&mut view, &scene, (80, 24)).join("\n");
    assert!(all.contains("public.t99") && !all.contains("public.t00"), "{all}");
    press(&mut view, "VVV");
    view.key(KeyEvent::new(KeyCode::PageUp, KeyModifiers::NONE));
    let all = drawn(&mut view, &scene, (80, 24)).join("\n");
    assert!(!all.contains("public.t99"), "a page back from the end, and not from beyond it: {all}");
    view.key(KeyEvent::new(KeyCode::Home, KeyModifiers::NONE));
    assert!(drawn(&mut view, &scene, (80, 24)).join("\n").contains("public.t00"));
}

#[test]
fn what_does_not_run_says_so() {
    let mut scene = scene(&["quayside", "attic"]);
    let stopped = Stands::Stopped { since: Some(now()), why: "nothing runs".into() };
    scene.pipelines[1].seen.stands = Some(stopped);
    scene.pipelines[1].behind = None;
    let mut view = View::new(2);
    let all = drawn(&mut view, &scene, (80, 24)).join("\n");
    assert!(all.contains("never ran"), "{all}");
    press(&mut view, "V\n");
    let all = drawn(&mut view, &scene, (80, 24)).join("\n");
    assert!(all.contains("nothing runs"), "and why: {all}");
}

/// A fault is told on the terminal as it was before, behind the other screen.
#[test]
fn a_panic_gives_the_terminal_back() {
    if std::env::var_os("MOORAGE_TEST_TAKES_THE_TERMINAL").is_some() {
        let _screen = super::terminal::Screen::open().unwrap();
        panic!("a fault in the midst of drawing");
    }
    let folder = tempfile::tempdir().unwrap();
    let program = std::env::current_exe().unwrap();
    let script = format!(
        "stty -g > before; {} --exact commands::watch::tests::a_panic_gives_the_terminal_back --nocapture; stty -g > behind; echo done",
        program.display()
    );
    let mut command = std::process::Command::new("/bin/bash");
    command.args(["-c", &script]).current_dir(folder.path()).env("MOORAGE_TEST_TAKES_THE_TERMINAL", "1");
    let mut terminal = rexpect::session::spawn_command(command, Some(60_000)).unwrap();
    for told in ["\u{1b}[?1049h", "\u{1b}[?1049l", "\u{1b}[?25h", "a fault in the midst of drawing", "done"] {
        terminal.exp_string(told).unwrap();
    }
    let read = |name: &str| std::fs::read_to_string(folder.path().join(name)).unwrap();
    assert_eq!(read("behind"), read("before"));
}

//! D.27, D.28, D.30: what is wrong names its place and the way out, and the way out mends it; small things of output.

use crate::harness::{Folder, Mirror, Quay};

const BERTHS: &str =
    "CREATE TABLE berths (id INTEGER PRIMARY KEY, name TEXT); INSERT INTO berths VALUES (1, 'north')";

/// D.27: bytes that are no text are named with file, line and column.
#[test]
fn bytes_that_are_no_text_are_named_with_their_place() {
    let quay = Quay::new(BERTHS);
    quay.moorage(&["plan", "--ddl-dir", "ddl"]).expect(0, &["ddl/berths.sql: written"]);
    quay.replace("into = ", "ddl_dir = \"ddl\"\ninto = ");
    let good = std::fs::read(quay.path("ddl/berths.sql")).unwrap();
    std::fs::write(quay.path("ddl/berths.sql"), [&good[..], b"-- caf\xe9\n"].concat()).unwrap();
    let place = format!("line {}, column 7: byte 0xe9 is no UTF-8", good.split(|b| *b == b'\n').count());
    let refused = quay.refuses(&["ddl/berths.sql", &place]);
    assert!(!refused.err.contains("state folder"), "{}", refused.err);
    // The advice: removed, and written anew.
    std::fs::remove_file(quay.path("ddl/berths.sql")).unwrap();
    quay.catch_up();
    let file = quay.path("moorage.toml");
    let text = std::fs::read(&file).unwrap();
    std::fs::write(&file, [b"# \xff\n", &text[..]].concat()).unwrap();
    let refused =
        quay.moorage(&["run"]).expect(2, &["moorage.toml: line 1, column 3: byte 0xff is no UTF-8"]);
    assert!(!refused.err.contains("init"), "it is there: {}", refused.err);
}

/// D.28: the state folder may be lost, and whoever reads that it is damaged is told so.
#[test]
fn a_damaged_state_store_says_that_it_may_be_removed() {
    let quay = Quay::new(BERTHS);
    quay.catch_up();
    let damage = |folder: &Folder| {
        for name in ["state.db-wal", "state.db-shm"] {
            let _ = std::fs::remove_file(folder.path(&format!(".moorage/{name}")));
        }
        std::fs::write(folder.path(".moorage/state.db"), vec![b'x'; 9000]).unwrap();
    };
    damage(&quay);
    quay.change("INSERT INTO berths VALUES (2, 'south')");
    quay.refuses(&[".moorage/state.db", "Remove this file and run again", "no data is lost"]);
    std::fs::remove_file(quay.path(".moorage/state.db")).unwrap();
    quay.assert_follows(&["berths"]);
}

/// D.28: a target table that someone removed.
#[test]
fn a_target_table_that_is_gone_says_how_it_comes_back() {
    let quay = Quay::new(BERTHS);
    quay.catch_up();
    quay.tamper("DROP TABLE berths");
    quay.change("INSERT INTO berths VALUES (2, 'south')");
    quay.refuses(&["berths", "`moorage resnapshot"]);
    quay.moorage(&["resnapshot", "main.berths"]).expect(0, &[]);
    quay.assert_follows(&["berths"]);
    let mirror =
        Mirror::new("gone_table", "CREATE TABLE berths (id int PRIMARY KEY); INSERT INTO berths VALUES (1)");
    mirror.catch_up();
    mirror.target.run("DROP TABLE mirror.berths");
    mirror.source.run("INSERT INTO berths VALUES (2)");
    mirror.refuses(&["berths", "`moorage resnapshot"]);
    mirror.moorage(&["resnapshot", "public.berths"]).expect(0, &[]);
    mirror.assert_follows(&["berths"]);
}

/// D.28: a right that was taken away, and a slot.
#[test]
fn a_right_and_a_slot_that_are_gone_say_the_way_out() {
    let mirror =
        Mirror::new("gone_right", "CREATE TABLE berths (id int PRIMARY KEY); INSERT INTO berths VALUES (1)");
    mirror.catch_up();
    let keeper = "CREATE ROLE gone_right_keeper LOGIN; GRANT ALL ON DATABASE gone_right_w TO gone_right_keeper; GRANT ALL ON SCHEMA mirror, moorage_state TO gone_right_keeper";
    mirror.target.run(keeper);
    let text = std::fs::read_to_string(mirror.path("moorage.toml")).unwrap();
    let (before, after) = text.split_once("[targets").unwrap();
    let changed = format!("{before}[targets{}", after.replace("postgres@", "gone_right_keeper@"));
    std::fs::write(mirror.path("moorage.toml"), changed).unwrap();
    mirror.refuses(&[
        "permission denied",
        "`moorage check --sql target`",
        "GRANT SELECT, INSERT, UPDATE, DELETE",
    ]);
    std::fs::write(mirror.path("moorage.toml"), text).unwrap();
    mirror.catch_up();
    mirror.source.run("SELECT pg_drop_replication_slot('moorage_gone_right__gone_right')");
    mirror.moorage(&["verify"]).expect(1, &["does not exist", "`moorage resnapshot --all`"]);
    mirror.moorage(&["resnapshot", "--all"]).expect(0, &[]);
    mirror.assert_follows(&["berths"]);
}

/// D.30: every form of the plan as JSON; `--color` counts more than NO_COLOR.
#[test]
fn output_is_in_the_form_that_was_asked_for() {
    let quay = Quay::new(BERTHS);
    let json = |arguments: &[&str]| -> serde_json::Value {
        let out = quay.moorage(&[&["--format", "json"], arguments].concat()).expect(0, &[]).out;
        serde_json::from_str(&out).unwrap_or_else(|e| panic!("{e}: {out}"))
    };
    let defined = json(&["plan", "--ddl"]);
    assert_eq!((&defined[0]["table"], &defined[0]["target"]), (&"main.berths".into(), &"berths".into()));
    assert!(defined[0]["definition"].as_str().unwrap().contains("CREATE TABLE"));
    assert_eq!(json(&["plan", "--ddl-dir", "ddl"])[0]["outcome"], "written");
    for (color, no_color, colored) in
        [("always", "1", true), ("always", "", true), ("never", "", false), ("auto", "", false)]
    {
        let out = quay.command(&["--color", color, "check"]).env("NO_COLOR", no_color).output().unwrap();
        let out = String::from_utf8(out.stdout).unwrap();
        assert_eq!(out.contains("\u{1b}[1m"), colored, "{color} {no_color:?} {out}");
        assert_eq!(
            out.contains("\u{1b}[38;5;10m") || out.contains("\u{1b}[32m"),
            colored,
            "{color} {no_color:?} {out:?}"
        );
    }
}

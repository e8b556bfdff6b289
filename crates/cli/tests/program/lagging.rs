//! Lag on real servers: where it comes from, and that nothing that stands still looks near.

use crate::checking::libfaketime;
use crate::harness::{Folder, Mirror};
use moorage_testkit::wait_until;
use rstest::rstest;
use serde_json::Value;
use std::cell::RefCell;
use std::io::{Write, stderr};
use std::time::Instant;

const TABLE: &str =
    "CREATE TABLE berths (id int PRIMARY KEY, name text); INSERT INTO berths VALUES (1, 'north')";

/// What `lag` says.
fn lag(folder: &Folder, arguments: &[&str]) -> Value {
    let ran = folder.moorage(&[&["lag", "--format", "json"], arguments].concat()).expect(0, &[]);
    serde_json::from_str::<Value>(&ran.out).unwrap()[0].take()
}

/// Asks for the lag until it is as it should be.
fn until(folder: &Folder, what: &str, is_so: impl Fn(&Value) -> bool) -> Value {
    let last = RefCell::new(Value::Null);
    wait_until(what, || {
        let now = lag(folder, &[]);
        let so = is_so(&now);
        *last.borrow_mut() = now;
        so
    });
    last.into_inner()
}

fn behind_s(lag: &Value) -> f64 {
    lag["now"]["behind_us"].as_f64().map_or(f64::INFINITY, |us| us / 1e6)
}

fn why(lag: &Value) -> &str {
    lag["now"]["why"].as_str().unwrap_or_default()
}

/// Moorage's clock is ten minutes off, the target takes three seconds, and a transaction was open for four.
#[rstest]
#[case::by_log("")]
#[case::by_triggers("capture = \"trigger\"")]
fn lag_is_told_apart_whatever_the_clocks_say(#[case] capture: &str) {
    let mirror = Mirror::new(if capture.is_empty() { "lag_steps" } else { "lag_steps_triggers" }, TABLE);
    mirror.replace("[targets", &format!("{capture}\n\n[targets"));
    mirror.catch_up();
    mirror.target.run(
        "CREATE FUNCTION slow() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN PERFORM pg_sleep(3); RETURN NULL; END';
         CREATE TRIGGER slow AFTER INSERT ON mirror.berths EXECUTE FUNCTION slow()",
    );
    let fake = libfaketime();
    let clock = format!("LD_PRELOAD={fake} FAKETIME=+10m FAKETIME_DONT_FAKE_MONOTONIC=1 exec \"$1\" run");
    let mut running = mirror.start_by(&["/bin/sh", "-c", &clock, "sh"]);
    running.wait_for("following changes");
    mirror.source.run("BEGIN; INSERT INTO berths VALUES (2, 'south'); SELECT pg_sleep(4); COMMIT");
    let lag_of_run = || {
        let mut command = mirror.command(&["lag", "--format", "json"]);
        let out = command
            .envs([
                ("LD_PRELOAD", fake.as_str()),
                ("FAKETIME", "+10m"),
                ("FAKETIME_DONT_FAKE_MONOTONIC", "1"),
            ])
            .output()
            .unwrap();
        serde_json::from_slice::<Value>(&out.stdout).unwrap()[0].take()
    };
    wait_until("the transaction is applied", || {
        lag_of_run()["recent"].as_array().is_some_and(|r| !r.is_empty())
    });
    let lag = lag_of_run();
    let step = |name: &str| lag["recent"][0][name].as_f64().unwrap() / 1e6;
    let told = format!(
        "capture {} s, queue {} s, apply {} s",
        step("capture_us"),
        step("queue_us"),
        step("apply_us")
    );
    assert!(step("apply_us") >= 3.0, "{told}");
    assert!(step("capture_us") + step("queue_us") < 3.0, "{told}");
    let skew = lag["now"]["clock_skew_us"].as_f64().unwrap() / 1e6;
    assert!((skew + 600.0).abs() < 5.0, "{skew} s");
    running.stop();
}

/// What stands still, how it goes on, and what is said of why.
#[rstest]
#[case::the_walsender("lag_walsender")]
#[case::the_target("lag_target")]
#[case::all_tables("lag_held")]
#[case::the_run("lag_stopped")]
fn nothing_that_stands_still_looks_near(#[case] name: &str) {
    let mirror = Mirror::new(name, TABLE);
    mirror.replace(
        "merge_every = \"0s\"",
        "merge_every = \"0s\"\n[pipelines.NAME.drift]\ncolumn_added = \"hold\""
            .replace("NAME", name)
            .as_str(),
    );
    mirror.catch_up();
    let running = mirror.follow();
    until(&mirror, "it is near", |lag| behind_s(lag) < 2.0);
    let blocker = moorage_testkit::PostgresServer::shared().session(&format!("{name}_w"));
    let signal = |pid: &str, signal: &str| {
        assert!(std::process::Command::new("kill").args(["-s", signal, pid]).status().unwrap().success());
    };
    let sender: String = mirror.source.value(&format!(
        "SELECT active_pid::text FROM pg_replication_slots WHERE slot_name LIKE '%{name}' AND active"
    ));
    let own = running.child.id().to_string();
    let words = match name {
        "lag_walsender" => {
            signal(&sender, "STOP");
            "nothing has come from the source since"
        }
        "lag_target" => {
            blocker.run("BEGIN; LOCK TABLE mirror.berths");
            "the target has been at a batch since"
        }
        "lag_held" => {
            mirror.source.run("ALTER TABLE berths ADD COLUMN depth int");
            "all tables are held"
        }
        _ => {
            signal(&own, "STOP");
            "it has said nothing since"
        }
    };
    mirror.source.run("INSERT INTO berths VALUES (2, 'south')");
    let far = until(&mirror, "it says so", |lag| behind_s(lag) > 6.0 && why(lag).contains(words));
    let later = until(&mirror, "it is ever further", |lag| behind_s(lag) > behind_s(&far) + 1.0);
    assert!(why(&later).contains(words), "{later}");
    mirror.moorage(&["lag"]).expect(0, &[words]);
    match name {
        "lag_walsender" => signal(&sender, "CONT"),
        "lag_target" => blocker.run("ROLLBACK"),
        "lag_held" => drop(mirror.moorage(&["drift", "follow", "1"]).expect(0, &[])),
        _ => signal(&own, "CONT"),
    }
    until(&mirror, "it is near again", |lag| behind_s(lag) < 2.0 && why(lag).is_empty());
    running.stop();
    mirror.assert_follows(&["berths"]);
}

/// A table that is not published any more, where only an administrator can put that right: the target is complete up to a moment
/// when it still was, whatever else is said of what waits.
#[test]
fn a_table_that_is_not_captured_any_more_is_not_near() {
    let mirror = Mirror::new("lag_unpublished", TABLE);
    mirror
        .source
        .run("CREATE TABLE moles (id int PRIMARY KEY); CREATE PUBLICATION quay FOR TABLE berths, moles");
    mirror.source.run("CREATE ROLE lag_app LOGIN REPLICATION; GRANT SELECT ON berths, moles TO lag_app");
    mirror.replace("include = ", "publication = \"quay\"\ninclude = ");
    mirror.replace(
        "[sources.harbour]\nkind = \"postgres\"\nurl = \"postgres://postgres",
        "[sources.harbour]\nkind = \"postgres\"\nurl = \"postgres://lag_app",
    );
    mirror.catch_up();
    let mut running = mirror.follow();
    let near = until(&mirror, "it is near", |lag| behind_s(lag) < 2.0);
    mirror.source.run("ALTER PUBLICATION quay DROP TABLE berths; INSERT INTO berths VALUES (2, 'south')");
    let until_then = |lag: &Value| lag["now"]["complete_until"].as_str().unwrap().to_string();
    assert_eq!(running.end(), 1, "{}", running.log());
    let far = until(&mirror, "it is further", |lag| behind_s(lag) > 3.0);
    assert!(why(&far).contains("to be read again: public.berths"), "{far}");
    let later = until(&mirror, "it is ever further", |lag| behind_s(lag) > behind_s(&far) + 1.0);
    assert_eq!(until_then(&far), until_then(&later));
    assert!(until_then(&far) >= until_then(&near));
    mirror.source.run("ALTER PUBLICATION quay ADD TABLE berths");
    mirror.assert_follows(&["berths", "moles"]);
    until(&mirror, "it is near again", |lag| behind_s(lag) < 2.0 && why(lag).is_empty());
}

/// A source of which nothing comes, while its other tables are busy: the target is complete until a moment ago, and the source
/// can let go of its log.
#[test]
fn an_idle_pipeline_beside_a_busy_application_is_near_and_the_slot_moves_on() {
    let mirror = Mirror::new("lag_idle", TABLE);
    mirror.source.run("CREATE SCHEMA other; CREATE TABLE other.busy (id bigint, filler text)");
    mirror.replace("include = [\"public.*\"]", "include = [\"public.berths\"]");
    mirror.catch_up();
    let running = mirror.follow();
    let soak: Option<u64> = std::env::var("MOORAGE_IDLE").ok().and_then(|seconds| seconds.parse().ok());
    // For minutes, an application that leaves some of the machine to others.
    let load = mirror.load(match soak {
        None => "INSERT INTO other.busy SELECT n, repeat('x', 500) FROM generate_series(1, 500) n",
        Some(_) => {
            "INSERT INTO other.busy SELECT n, repeat('x', 500) FROM generate_series(1, 500) n; SELECT pg_sleep(0.02)"
        }
    });
    let slot = || -> i64 {
        mirror.source.value(
            "SELECT (confirmed_flush_lsn - '0/0')::bigint FROM pg_replication_slots WHERE slot_name LIKE '%lag_idle'",
        )
    };
    let (mut complete, mut near, moved) = (String::new(), 0, slot());
    wait_until("it is near again and again, and the slot moves on", || {
        let now = lag(&mirror, &[]);
        let until = now["now"]["complete_until"].as_str().unwrap_or_default().to_string();
        if behind_s(&now) < 2.0 && until > complete {
            (complete, near) = (until, near + 1);
        }
        near >= 5 && slot() > moved + (4 << 20)
    });
    // `scripts/soak idle SECONDS`: near at every look, for as long as that.
    if let Some(seconds) = soak {
        let (begun, moved, mut looks, mut furthest) = (Instant::now(), slot(), 0, 0.0_f64);
        while begun.elapsed().as_secs() < seconds {
            let now = lag(&mirror, &[]);
            (looks, furthest) = (looks + 1, furthest.max(behind_s(&now)));
            assert!(behind_s(&now) < 2.0, "{:?} in: {now}", begun.elapsed());
        }
        let passed = slot() - moved;
        let told = writeln!(
            stderr(),
            "{looks} looks in {seconds} s, at most {furthest:.2} s behind, {} MiB of log passed",
            passed >> 20
        );
        told.unwrap();
        assert!(passed > 0);
    }
    drop(load);
    running.stop();
}

/// The folder of local state is removed beside a live run: it goes on there, and is heard and asked through a new one.
#[test]
fn a_run_whose_folder_was_removed_goes_on_in_a_new_one() {
    let mirror = Mirror::new("lag_removed", TABLE);
    mirror.catch_up();
    let running = mirror.follow();
    until(&mirror, "it is near", |lag| behind_s(lag) < 2.0);
    std::fs::remove_dir_all(mirror.path(".moorage")).unwrap();
    until(&mirror, "it is near again", |lag| lag["now"]["said_at"].is_string() && behind_s(lag) < 2.0);
    mirror.moorage(&["history"]).expect(0, &["running"]);
    mirror.moorage(&["status"]).expect(0, &["what was known of it before was removed"]);
    running.stop();
    mirror.assert_follows(&["berths"]);
}

/// All tables are held, nothing runs, and only the target knows: what is kept was committed then, and waits ever since.
#[test]
fn what_is_held_waits_also_while_nothing_runs() {
    let mirror = Mirror::new("lag_held_alone", TABLE);
    mirror.replace(
        "merge_every = \"0s\"",
        "merge_every = \"0s\"\n[pipelines.lag_held_alone.drift]\ncolumn_added = \"hold\"",
    );
    mirror.catch_up();
    mirror.source.run("ALTER TABLE berths ADD COLUMN depth int; INSERT INTO berths VALUES (2, 'south', 3)");
    mirror.catch_up();
    std::fs::remove_dir_all(mirror.path(".moorage")).unwrap();
    let first = until(&mirror, "it is behind", |lag| behind_s(lag) > 0.0);
    assert_eq!(
        (&first["now"]["waiting"]["changes"], &first["now"]["held"][0]["table"]),
        (&0.into(), &"public.berths".into())
    );
    until(&mirror, "it is ever further", |lag| behind_s(lag) > behind_s(&first) + 1.0);
    mirror.moorage(&["drift", "follow", "1"]);
    mirror.catch_up();
    until(&mirror, "it is near", |lag| behind_s(lag) < 0.001);
}

#[test]
fn a_run_from_another_folder_is_not_taken_for_a_silent_one() {
    let mirror = Mirror::new("lag_elsewhere", TABLE);
    mirror.catch_up();
    let running = mirror.follow();
    let other = mirror.elsewhere();
    mirror.source.run("INSERT INTO berths VALUES (2, 'south')");
    let now =
        until(&other, "its commit is seen in the target", |lag| lag["now"]["complete_until"].is_string());
    assert_eq!((&now["now"]["silent"], &now["now"]["elsewhere"]), (&false.into(), &true.into()), "{now}");
    until(&other, "it says where it runs", |lag| why(lag).contains("runs it from another folder or machine"));
    running.stop();
}

/// Also without a word of a run: from the target and the source.
#[test]
fn what_is_not_known_here_is_asked_of_both_ends() {
    let mirror = Mirror::new("lag_ends", TABLE);
    mirror.moorage(&["lag"]).expect(0, &["nothing is known of it yet; not running"]);
    mirror.catch_up();
    mirror.source.run("INSERT INTO berths VALUES (2, 'south')");
    mirror.catch_up();
    std::fs::remove_dir_all(mirror.path(".moorage")).unwrap();
    mirror.moorage(&["lag"]).expect(0, &["nothing waits in the source; not running"]);
    mirror.source.run("INSERT INTO berths VALUES (3, 'east')");
    let now = lag(&mirror, &[]);
    assert_eq!(now["now"]["waiting"]["changes"], 1, "{now}");
    assert!(now["now"]["behind_us"].as_u64().is_some_and(|us| us > 0), "{now}");
    assert_eq!(now["now"]["why"].as_str().unwrap_or("nothing runs"), "nothing runs");
}

#[test]
fn points_and_tables_come_as_lines_of_values_and_runs_with_what_happened_in_them() {
    let mirror = Mirror::new("lag_lines", TABLE);
    mirror.catch_up();
    mirror.source.run("INSERT INTO berths VALUES (2, 'south')");
    mirror.catch_up();
    let csv = mirror
        .moorage(&["lag", "--format", "csv", "--since", "1h"])
        .expect(0, &["pipeline,from,to,transactions"]);
    let sum: u64 =
        csv.out.lines().skip(1).map(|l| l.split(',').nth(3).unwrap().parse::<u64>().unwrap()).sum();
    assert_eq!((csv.out.lines().count(), sum), (61, 1), "{}", csv.out);
    mirror
        .moorage(&["lag", "--by", "table", "--format", "csv"])
        .expect(0, &["lag_lines,public.berths,1,0,0,0,"]);
    mirror.moorage(&["status", "--format", "csv"]).expect(2, &["csv is for `lag` and `history`"]);
    mirror.moorage(&["lag", "--since", "yesterday"]).expect(2, &["a time ago, such as 30m"]);
    mirror
        .moorage(&["history", "1"])
        .expect(0, &["run 1 of lag_lines", "public.berths: 1 row read in", "caught up"]);
    mirror.moorage(&["history", "77"]).expect(2, &["there is no run 77", "moorage history"]);
    mirror.moorage(&["history", "--errors"]).expect(0, &["no such run"]);
    mirror.replace("into = \"{table}\"", "into = \"{table}\"\nmerge_every = \"no time\"");
    mirror.moorage(&["history"]).expect(2, &["merge_every"]);
    mirror.replace("\nmerge_every = \"no time\"", "");
    mirror.source.run("UPDATE berths SET name = 'x'");
    mirror.target.run("DROP TABLE mirror.berths");
    mirror.moorage(&["run", "--until", "caught-up"]);
    let failed: Value = serde_json::from_str(
        &mirror.moorage(&["history", "--errors", "--format", "json"]).expect(0, &[]).out,
    )
    .unwrap();
    assert_eq!(
        (failed[0]["run"].as_i64(), failed[0]["state"].as_str()),
        (Some(3), Some("failed")),
        "{failed}"
    );
}

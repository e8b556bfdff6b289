//! Types that columns are of change, and nothing of their tables does.

use crate::harness::{Folder, Mirror, Project};
use moorage_testkit::{Session, wait_until};
use rstest::rstest;

const TABLES: &str = "
CREATE TYPE state AS ENUM ('booked', 'paid'); CREATE TYPE place AS (pier text, berth int);
CREATE DOMAIN metres AS numeric(5,2); CREATE DOMAIN agreed AS state;
CREATE TABLE stays (id int PRIMARY KEY, state state, again agreed); CREATE TABLE prices (state state PRIMARY KEY, price int);
CREATE TABLE lists (id int PRIMARY KEY, states state[]); CREATE TABLE berths (id int PRIMARY KEY, place place, depth metres);
INSERT INTO stays VALUES (1, 'booked', 'paid'), (2, 'paid', 'booked'), (3, NULL, 'booked'); INSERT INTO prices VALUES ('booked', 10), ('paid', 0);
INSERT INTO lists VALUES (1, '{booked,paid}'); INSERT INTO berths VALUES (1, '(north,3)', 2.5), (2, NULL, NULL)";

const ALL: [&str; 4] = ["stays", "prices", "lists", "berths"];

/// Carries changes of types, live and while nothing runs.
fn follow(folder: &Folder, session: &Session, other: &Session, assert_same: impl Fn()) {
    let is_met = |words: &str| folder.moorage(&["drift"]).all().contains(words);
    folder.catch_up();
    let mut running = folder.start(&["run"]);
    running.wait_for("following changes");
    // Writes before the value is renamed, and commits long after that was met.
    other.run("BEGIN; INSERT INTO stays VALUES (10, 'booked', 'booked'); UPDATE stays SET state = 'booked' WHERE id = 3");
    session.run(
        "INSERT INTO stays VALUES (4, 'booked', 'paid'); ALTER TYPE state RENAME VALUE 'booked' TO 'it''s \\ open';
         INSERT INTO stays VALUES (5, 'it''s \\ open', 'paid'); UPDATE stays SET again = 'paid' WHERE id = 2",
    );
    wait_until("it is met that a value is called otherwise", || is_met("is called"));
    other.run("UPDATE stays SET again = 'paid' WHERE id = 10; COMMIT");
    session.run(
        "ALTER TYPE state ADD VALUE 'cancelled'; ALTER DOMAIN metres ADD CHECK (VALUE > 0); ALTER DOMAIN metres ADD CONSTRAINT deep CHECK (VALUE < 90)",
    );
    session.run("INSERT INTO stays VALUES (6, 'cancelled', NULL)");
    wait_until("it is met that other values are allowed", || {
        is_met("the value \"cancelled\" more") && is_met("the rules of its domain")
    });
    session.run("ALTER TYPE place ADD ATTRIBUTE side text; UPDATE berths SET depth = 3 WHERE id = 2");
    wait_until("it is met that a composite type was changed", || is_met("a composite type of column place"));
    running.signal("INT");
    assert_eq!(running.end(), 0, "{}", running.log());
    folder.catch_up();
    assert_same();
    // While nothing runs, and with a name that comes to be another value's.
    session.run("ALTER TYPE state RENAME VALUE 'paid' TO 'settled'; INSERT INTO stays VALUES (7, 'settled', 'cancelled')");
    folder.catch_up();
    assert_same();
    session.run("ALTER TYPE state RENAME VALUE 'cancelled' TO 'void'; ALTER TYPE state RENAME VALUE 'settled' TO 'cancelled'; INSERT INTO stays VALUES (8, 'void', 'cancelled')");
    folder.catch_up();
    assert_same();
    folder.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

#[rstest]
#[case::by_the_log("log")]
#[case::by_triggers("trigger")]
fn values_of_types_are_followed_wherever_they_are_in(#[case] capture: &str) {
    let mirror = Mirror::new(&format!("types_{capture}"), TABLES);
    mirror.replace("[sources.harbour]", &format!("[sources.harbour]\ncapture = \"{capture}\""));
    let assert_same = || ALL.iter().for_each(|table| mirror.assert_same(table));
    follow(&mirror, &mirror.source, &mirror.another_session(), assert_same);
}

#[rstest]
#[case::by_the_log("log")]
#[case::by_triggers("trigger")]
fn values_of_types_are_followed_into_a_file(#[case] capture: &str) {
    let project = Project::new(&format!("types_file_{capture}"));
    project.replace("kind = \"postgres\"", &format!("kind = \"postgres\"\ncapture = \"{capture}\""));
    project.session.run(TABLES);
    let assert_same = || ALL.iter().for_each(|table| project.assert_same(table, table));
    follow(&project, &project.session, &project.another_session(), assert_same);
}

/// What people made of the target table does not take the new name: the table is held, the others go on, and once that is
/// gone from the way it goes on with every change.
#[test]
fn a_target_that_refuses_the_new_name_has_its_table_held() {
    let mirror = Mirror::new("types_refused", TABLES);
    mirror.catch_up();
    mirror.target.run("ALTER TABLE mirror.stays ADD CONSTRAINT known CHECK (state IN ('booked', 'paid'))");
    let mut running = mirror.start(&["run"]);
    running.wait_for("following changes");
    mirror.source.run("ALTER TYPE state RENAME VALUE 'paid' TO 'settled'");
    running.wait_for("known");
    mirror
        .source
        .run("INSERT INTO stays VALUES (4, 'settled', 'booked'); INSERT INTO lists VALUES (2, '{settled}')");
    wait_until("the others go on", || mirror.target.value::<i64>("SELECT count(*) FROM mirror.lists") == 2);
    mirror.moorage(&["drift"]).expect(3, &["public.stays", "held", "known"]);
    mirror.target.run("ALTER TABLE mirror.stays DROP CONSTRAINT known");
    mirror.moorage(&["drift", "follow", "--all"]).expect(0, &["the pipeline goes on"]);
    running.signal("INT");
    assert_eq!(running.end(), 0, "{}", running.log());
    mirror.assert_follows(&ALL);
}

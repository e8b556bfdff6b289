//! Every kind of drift with everything that a project file may say of it, on the program: what becomes of the target, what is
//! listed, and that the table agrees once it goes on.

use crate::harness::Mirror;
use moorage_core::model::drift::{DriftKind, DriftPolicy};
use rstest::rstest;
use serde_json::Value;

/// What is done to the table `T`, which is `(id int PRIMARY KEY, a int NOT NULL, b text, n numeric(6,2), s T_s)` with three rows.
const CHANGES: [(DriftKind, &str); 13] = [
    (
        DriftKind::ColumnAdded,
        "ALTER TABLE T ADD c int DEFAULT 5; INSERT INTO T (id, a, c) VALUES (4, 4, NULL)",
    ),
    (DriftKind::ColumnDropped, "ALTER TABLE T DROP b; INSERT INTO T (id, a) VALUES (4, 4)"),
    (DriftKind::ColumnRenamed, "ALTER TABLE T RENAME b TO z; INSERT INTO T (id, a, z) VALUES (4, 4, 'd')"),
    (
        DriftKind::TypeWidened,
        "ALTER TABLE T ALTER n TYPE numeric(9,2); INSERT INTO T (id, a, n) VALUES (4, 4, 123456.25)",
    ),
    (
        DriftKind::TypeChanged,
        "ALTER TABLE T ALTER n TYPE text USING n::text || ' m'; INSERT INTO T (id, a, n) VALUES (4, 4, 'deep')",
    ),
    (
        DriftKind::ValueRenamed,
        "ALTER TYPE T_s RENAME VALUE 'booked' TO 'open'; INSERT INTO T (id, a, s) VALUES (4, 4, 'open')",
    ),
    (DriftKind::ValuesAllowed, "ALTER TYPE T_s ADD VALUE 'void'; INSERT INTO T (id, a) VALUES (4, 4)"),
    (
        DriftKind::ValuesChanged,
        "ALTER TABLE T ALTER a TYPE int USING a + 100; INSERT INTO T (id, a) VALUES (4, 4)",
    ),
    (
        DriftKind::KeyChanged,
        "ALTER TABLE T DROP CONSTRAINT T_pkey, ADD PRIMARY KEY (a); INSERT INTO T (id, a) VALUES (1, 4)",
    ),
    (
        DriftKind::TableRenamed,
        "ALTER TABLE T RENAME TO T_2; INSERT INTO T_2 (id, a) VALUES (4, 4); UPDATE T_2 SET b = 'x' WHERE id = 1",
    ),
    (DriftKind::TableDropped, "DROP TABLE T"),
    (
        DriftKind::TableMadeAgain,
        "DROP TABLE T; CREATE TABLE T (id int PRIMARY KEY, x text); INSERT INTO T VALUES (9, 'new')",
    ),
    (DriftKind::TableAdded, "CREATE TABLE T_new (id int PRIMARY KEY); INSERT INTO T_new VALUES (1)"),
];

/// What types become, and names of tables, is met a moment later: what came meanwhile is there.
const AT_A_LOOK: [DriftKind; 3] =
    [DriftKind::ValueRenamed, DriftKind::ValuesAllowed, DriftKind::TableRenamed];

fn in_words(kind: DriftKind, sql: &str) -> String {
    let word = kind.word();
    sql.replace("T_", &format!("{word}_"))
        .replace("TABLE T", &format!("TABLE {word}"))
        .replace("INTO T ", &format!("INTO {word} "))
        .replace("ALTER TYPE T", &format!("ALTER TYPE {word}"))
}

fn kinds_with(policy: DriftPolicy) -> impl Iterator<Item = (DriftKind, String)> {
    let with = CHANGES.iter().filter(move |(kind, _)| kind.policies().contains(&policy));
    with.map(|(kind, sql)| (*kind, in_words(*kind, sql)))
}

/// A pipeline over one table a kind, all of which have the policy.
fn mirror(policy: DriftPolicy, name: &str) -> Mirror {
    let table = |(kind, _): (DriftKind, String)| {
        in_words(kind, "CREATE TYPE T_s AS ENUM ('booked'); CREATE TABLE T (id int PRIMARY KEY, a int NOT NULL, b text, n numeric(6,2), s T_s);
                        INSERT INTO T VALUES (1, 1, 'a', 1.5, 'booked'), (2, 2, 'b', NULL, NULL), (3, 3, NULL, 3, 'booked');")
    };
    let name = format!("policy_{name}");
    let mirror = Mirror::new(&name, &kinds_with(policy).map(table).collect::<String>());
    let says = kinds_with(policy).map(|(kind, _)| format!("\n{} = \"{}\"", kind.word(), policy.word()));
    mirror.add(&format!("[pipelines.{name}.drift]{}", says.collect::<String>()));
    mirror.catch_up();
    mirror
}

/// What is listed of a kind: its number, and what became of it.
fn listed(mirror: &Mirror, kind: DriftKind) -> Option<(u64, String)> {
    let out = mirror.moorage(&["drift", "--all", "--format", "json"]).out;
    let all: Value = serde_json::from_str(&out).unwrap();
    let is_it = |one: &&Value| one["table"].as_str().unwrap().starts_with(&format!("public.{}", kind.word()));
    let one = all.as_array().unwrap().iter().find(is_it)?;
    assert!(one["kind"].as_str().unwrap().contains(kind.word()), "{one}");
    Some((one["id"].as_u64().unwrap(), one["state"].as_str().unwrap().into()))
}

/// The rows of a kind's target table, all columns.
fn rows(mirror: &Mirror, kind: DriftKind) -> String {
    mirror.target.value(&format!(
        "SELECT coalesce(string_agg(t::text, ' ' ORDER BY t::text), '') FROM mirror.{} t",
        kind.word()
    ))
}

fn assert_same(mirror: &Mirror, kind: DriftKind) {
    let word = kind.word();
    match kind {
        DriftKind::TableRenamed => {
            let sql = "SELECT string_agg(t::text, ' ' ORDER BY t::text) FROM";
            assert_eq!(rows(mirror, kind), mirror.source.value::<String>(&format!("{sql} {word}_2 t")));
        }
        DriftKind::TableAdded => mirror.assert_same(&format!("{word}_new")),
        DriftKind::TableDropped => {
            assert!(mirror.target.value::<bool>(&format!("SELECT to_regclass('mirror.{word}') IS NULL")));
        }
        _ => mirror.assert_same(word),
    }
}

#[test]
fn what_is_followed_agrees() {
    let mirror = mirror(DriftPolicy::Follow, "follow");
    kinds_with(DriftPolicy::Follow).for_each(|(_, sql)| mirror.source.run(&sql));
    mirror.catch_up();
    for (kind, _) in kinds_with(DriftPolicy::Follow) {
        let (_, state) = listed(&mirror, kind).unwrap();
        // Where nothing of the target changes, it is as it was left.
        let as_it_was = [DriftKind::TableRenamed, DriftKind::ValuesAllowed].contains(&kind);
        assert_eq!(state, if as_it_was { "left" } else { "followed" }, "{kind:?}");
        assert_same(&mirror, kind);
    }
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

#[test]
fn what_is_left_stays_as_it_was_and_later_rows_come() {
    let mirror = mirror(DriftPolicy::Leave, "leave");
    kinds_with(DriftPolicy::Leave).for_each(|(_, sql)| mirror.source.run(&sql));
    mirror.catch_up();
    for (kind, _) in kinds_with(DriftPolicy::Leave) {
        let expected = match kind {
            DriftKind::ColumnAdded | DriftKind::ColumnDropped => {
                "(1,1,a,1.50,booked) (2,2,b,,) (3,3,,3.00,booked) (4,4,,,)"
            }
            DriftKind::ColumnRenamed => "(1,1,a,1.50,booked) (2,2,b,,) (3,3,,3.00,booked) (4,4,d,,)",
            DriftKind::TableDropped => "(1,1,a,1.50,booked) (2,2,b,,) (3,3,,3.00,booked)",
            DriftKind::TableAdded => {
                assert!(mirror.target.value::<bool>("SELECT to_regclass('mirror.table_added_new') IS NULL"));
                continue;
            }
            other => panic!("{other:?}"),
        };
        assert_eq!(rows(&mirror, kind), expected, "{kind:?}");
        assert_eq!(listed(&mirror, kind).unwrap().1, "left", "{kind:?}");
    }
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

#[test]
fn what_is_read_again_agrees() {
    let mirror = mirror(DriftPolicy::Reread, "reread");
    kinds_with(DriftPolicy::Reread).for_each(|(_, sql)| mirror.source.run(&sql));
    mirror.catch_up();
    for (kind, _) in kinds_with(DriftPolicy::Reread) {
        assert_eq!(listed(&mirror, kind).unwrap().1, "rereading", "{kind:?}");
        assert_same(&mirror, kind);
    }
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

#[rstest]
#[case::follow("follow")]
#[case::reread("reread")]
fn what_is_held_waits_as_it_was_and_agrees_once_it_is_decided(#[case] decision: &str) {
    let mirror = mirror(DriftPolicy::Hold, &format!("hold_{decision}"));
    let before: Vec<String> = kinds_with(DriftPolicy::Hold).map(|(kind, _)| rows(&mirror, kind)).collect();
    kinds_with(DriftPolicy::Hold).for_each(|(_, sql)| mirror.source.run(&sql));
    mirror.catch_up();
    for ((kind, _), before) in kinds_with(DriftPolicy::Hold).zip(before) {
        let (id, state) = listed(&mirror, kind).unwrap();
        assert_eq!(state, "held", "{kind:?}");
        if !AT_A_LOOK.contains(&kind) {
            assert_eq!(rows(&mirror, kind), before, "{kind:?}");
        }
        mirror.moorage(&["drift", decision, &id.to_string()]).expect(0, &["the next run does it"]);
    }
    mirror.moorage(&["drift"]).expect(3, &[]);
    mirror.catch_up();
    mirror.catch_up();
    kinds_with(DriftPolicy::Hold).for_each(|(kind, _)| assert_same(&mirror, kind));
    mirror.moorage(&["drift"]).expect(0, &[]);
    mirror.moorage(&["verify"]).expect(0, &["both sides agree"]);
}

/// Nothing behind the change is applied, and saying otherwise is the way out.
#[test]
fn what_is_to_stop_stops_by_its_kind() {
    let mirror = mirror(DriftPolicy::Stop, "stop");
    // What becomes of rows that were written anew is asked of other changes, too.
    let mut kinds: Vec<_> = kinds_with(DriftPolicy::Stop).collect();
    kinds.sort_by_key(|(kind, _)| *kind != DriftKind::ValuesChanged);
    for (kind, sql) in kinds {
        let before = rows(&mirror, kind);
        mirror.source.run(&sql);
        for _ in 0..2 {
            mirror.refuses(&[&format!("public.{}", kind.word())]);
            mirror.moorage(&["drift"]).expect(3, &["stopped", "the next run goes on"]);
        }
        let out = mirror.moorage(&["drift", "--all", "--format", "json"]).out;
        let stops = out.matches(&format!("\"public.{}\"", kind.word())).count();
        assert_eq!((stops, listed(&mirror, kind).unwrap().1), (1, "stopped".into()), "{kind:?}: {out}");
        if !AT_A_LOOK.contains(&kind) {
            assert_eq!(rows(&mirror, kind), before, "{kind:?}");
        }
        let instead = kind.policies()[0].word();
        mirror.replace(&format!("{} = \"stop\"", kind.word()), &format!("{} = \"{instead}\"", kind.word()));
        mirror.catch_up();
        mirror.moorage(&["drift", "follow", "--all"]);
        mirror.catch_up();
        match kind {
            DriftKind::ColumnDropped | DriftKind::TableDropped => assert_ne!(rows(&mirror, kind), ""),
            _ => assert_same(&mirror, kind),
        }
    }
}

#[test]
fn every_kind_is_tried() {
    assert_eq!(CHANGES.map(|(kind, _)| kind), DriftKind::ALL);
}

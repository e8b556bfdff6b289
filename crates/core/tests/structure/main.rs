//! The house keeps its shape: no circle of files within a crate, no arrow upwards between crates or between rooms.
//!
//! An arrow goes from a file to another that it names: in a `use`, or by a path in its code. A name that a file only
//! hands on (`pub use`) counts for the file that defines it. Code for tests alone is left out.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test ends here")]

mod arrows;

use arrows::{Arrow, House};

/// Crates from the ground up; those on one floor do not know each other.
const FLOORS: [&[&str]; 6] = [
    &["core"],
    &["adapter"],
    &["monitor"],
    &["postgres", "sqlite", "lake", "engine", "demo", "testkit"],
    &["serve", "systems"],
    &["cli"],
];

/// The rooms of a crate from the ground up: each knows only those before it. Only the roof of a crate
/// (`lib.rs`) is in no room, and no room knows it.
const ROOMS: [(&str, &[&[&str]]); 6] = [
    (
        "core",
        &[
            &["model"],
            &["value"],
            &["change"],
            &["expr"],
            &["pick"],
            &["project"],
            &["mapping"],
            &["plan"],
            &["drift"],
            &["apply"],
            &["checkpoint"],
            &["compare"],
            &["watch"],
            &["follow"],
        ],
    ),
    ("engine", &[&["pipeline"], &["before"], &["run"], &["look"], &["decide"]]),
    (
        "monitor",
        &[&["error"], &["folder"], &["listen"], &["store"], &["alerting"], &["watching"], &["report"]],
    ),
    ("postgres", &[&["wire"], &["as_source", "as_target"], &["kind"]]),
    ("sqlite", &[&["file"], &["as_source", "as_target"], &["kind"]]),
    ("lake", &[&["format"], &["rows"], &["store"], &["table"], &["as_target"], &["kind"]]),
];

fn told(arrows: impl Iterator<Item = Arrow>) -> String {
    arrows.map(|arrow| format!("\n  {arrow}")).collect()
}

fn floor(floors: &[&[&str]], name: &str) -> Option<usize> {
    floors.iter().position(|on| on.contains(&name))
}

#[test]
fn no_files_of_a_crate_go_round_in_a_circle() {
    let house = House::read();
    let circles: Vec<String> = house.circles().into_iter().map(|c| told(c.into_iter())).collect();
    assert!(circles.is_empty(), "{} circles:\n{}", circles.len(), circles.join("\n"));
}

#[test]
fn no_crate_knows_one_on_its_own_floor_or_above() {
    let house = House::read();
    let on = |name: &str| floor(&FLOORS, name).unwrap_or_else(|| panic!("crate {name} has no floor"));
    let up = house.arrows().filter(|a| a.from[0] != a.to[0] && on(&a.from[0]) <= on(&a.to[0]));
    assert_eq!(told(up), "");
}

#[test]
fn no_room_knows_one_beside_or_above_it() {
    let house = House::read();
    for (name, rooms) in ROOMS {
        let room = |module: &[String]| module.get(1).and_then(|room| floor(rooms, room));
        let up = house.arrows().filter(|a| a.from[0] == name && a.to[0] == name).filter(|a| {
            match (room(&a.from), room(&a.to)) {
                (Some(from), Some(to)) => a.from[1] != a.to[1] && from <= to,
                // Only the roof of the crate is outside of its rooms.
                _ => a.to.len() == 1,
            }
        });
        assert_eq!(told(up), "", "in crate {name}");
        let outside = house.modules().find(|m| m[0] == name && m.len() > 1 && room(m).is_none());
        assert_eq!(outside, None, "in no room of crate {name}");
        for rooms in rooms.iter().flat_map(|on| on.iter()) {
            assert!(house.has_module(&[name, rooms]), "crate {name} has no room {rooms}");
        }
    }
}

/// Tools take such a folder for what a compiler left there.
#[test]
fn no_folder_of_sources_is_called_target() {
    let house = House::read();
    let called: Vec<_> = house.folders.iter().filter(|folder| folder.ends_with("target")).collect();
    assert!(called.is_empty(), "{called:?}");
}

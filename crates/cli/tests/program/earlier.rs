//! What an earlier version wrote is gone on with: no table drifts, none is read again, counts and rejects go on.
//!
//! The files in `earlier/` were written by the version before a pipeline's plan had a form of its own: a source that is
//! a file with its change table, and beside it a target of each kind, in the middle of its life.

use crate::harness::Folder;
use moorage_testkit::PostgresServer;
use rusqlite::Connection;

const FILE: [(&str, &[u8]); 2] = [
    ("harbour.db", include_bytes!("earlier/sqlite/harbour.db")),
    ("warehouse.db", include_bytes!("earlier/sqlite/warehouse.db")),
];

/// Changes to every table, those that a filter and a reject are about among them.
const CHANGES: &str = "UPDATE stays SET state = 'cancelled' WHERE berth_id = 1;
    INSERT INTO stays VALUES (4, '2026-11-04', 'booked', 99.99, 'y'); DELETE FROM gate_log WHERE rowid = 1;
    INSERT INTO berths VALUES (4, 'North 4', 10); UPDATE berths SET length_m = 9 WHERE id = 2;";

fn change(folder: &Folder) {
    Connection::open(folder.path("harbour.db")).unwrap().execute_batch(CHANGES).unwrap();
}

/// Nothing of an earlier version is taken for something else.
#[track_caller]
fn goes_on(folder: &Folder) {
    let ran = folder.catch_up();
    for word in ["drift", "again", "read main", "warning"] {
        assert!(!ran.all().contains(word), "{word}: {}", ran.all());
    }
}

#[test]
fn a_target_file_of_an_earlier_version_is_gone_on_with() {
    let folder = Folder::with(include_str!("earlier/sqlite/moorage.toml"));
    FILE.iter().for_each(|(name, bytes)| std::fs::write(folder.path(name), bytes).unwrap());
    folder.moorage(&["status"]).expect(0, &["0 changes wait"]);
    goes_on(&folder);
    change(&folder);
    goes_on(&folder);
    folder.moorage(&["verify"]).expect(0, &["both sides agree: 9 rows in 3 tables"]);
    // Counted on from where the earlier version had come.
    let counted = "SELECT group_concat(inserts || ' ' || updates || ' ' || deletes, ', ') FROM (SELECT * FROM moorage_tables ORDER BY target)";
    assert_eq!(folder.value::<String>(counted), "1 2 0, 1 0 1, 1 2 1");
}

#[test]
fn a_target_database_of_an_earlier_version_is_gone_on_with() {
    let server = PostgresServer::shared();
    let target = server.database("earlier_version");
    target.run(include_str!("earlier/postgres/warehouse.sql"));
    let folder = Folder::with(include_str!("earlier/postgres/moorage.toml"));
    folder.replace("TARGET", &server.url("earlier_version"));
    std::fs::write(folder.path("harbour.db"), include_bytes!("earlier/postgres/harbour.db")).unwrap();
    goes_on(&folder);
    change(&folder);
    // The earlier version set a change of berth 2 aside: the new one waits behind it.
    folder.catch_up();
    folder.moorage(&["rejects"]).expect(0, &["berths_name_check", "2  main.berths"]);
    target.run("ALTER TABLE mirror.berths DROP CONSTRAINT berths_name_check");
    folder.moorage(&["rejects", "retry", "--all"]).expect(0, &["2 changes applied"]);
    folder.moorage(&["verify"]).expect(0, &["both sides agree: 9 rows in 3 tables"]);
}

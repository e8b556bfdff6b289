//! Reports, as files.

use crate::harness::{Mirror, Quay};
use std::os::unix::fs::FileTypeExt;

#[test]
fn a_report_has_what_happened() {
    let mirror = Mirror::new(
        "report",
        "CREATE TABLE berths (id int PRIMARY KEY, name varchar(5)); INSERT INTO berths VALUES (1, 'north')",
    );
    mirror.replace(
        "merge_every = \"0s\"",
        "merge_every = \"0s\"\non_reject = \"set_aside\"\n[pipelines.report.drift]\ncolumn_added = \"hold\"",
    );
    mirror.append("[[alert]]\nname = \"set aside\"\nwhen = \"rejects\"\nto = [\"log\"]\n[[alert]]\nname = \"odd <b>\"\nwhen = \"decision\"\nto = [\"log\"]\n");
    mirror.catch_up();
    mirror.target.run("ALTER TABLE mirror.berths ADD CHECK (name <> 'no<i>')");
    mirror.source.run("INSERT INTO berths VALUES (2, 'no<i>'), (3, 'east')");
    mirror.catch_up();
    mirror.source.run("ALTER TABLE berths ADD draught int; INSERT INTO berths VALUES (4, 'west', 3)");
    mirror.moorage(&["run", "--until", "caught-up"]);
    mirror.moorage(&["report", "--since", "1h", "-o", "hour.html"]).expect(0, &["hour.html is written"]);
    let page = std::fs::read_to_string(mirror.path("hour.html")).unwrap();
    for text in [
        "<h2>report</h2>",
        "public.berths",
        "column draught was added",
        "1 change set aside",
        "id = 2",
        "caught up",
        "odd &lt;b&gt;",
        "waits for a decision",
    ] {
        assert!(page.contains(text), "no {text} in {page}");
    }
    assert!(!page.contains("<i>") && !page.contains("<script"), "{page}");
    // Nothing is left beside it, and standard output will do, too.
    let left = std::fs::read_dir(mirror.folder())
        .unwrap()
        .filter(|e| e.as_ref().unwrap().path().display().to_string().contains(".part"));
    assert_eq!(left.count(), 0);
    let printed = mirror.moorage(&["report", "-o", "-"]).expect(0, &[]).out;
    assert!(printed.starts_with("<!DOCTYPE html>") && printed.trim_end().ends_with("</html>"), "{printed}");
    // A target that cannot be asked is said to be missing, and the rest is reported.
    mirror.replace("report_w", "report_gone");
    mirror.moorage(&["report", "-o", "without.html"]).expect(0, &[]);
    let page = std::fs::read_to_string(mirror.path("without.html")).unwrap();
    assert!(
        page.contains("changes of structure cannot be asked for now") && page.contains("public.berths"),
        "{page}"
    );
}

#[test]
fn a_report_that_cannot_be_made_says_why() {
    let quay = Quay::new("CREATE TABLE berths (id INTEGER PRIMARY KEY)");
    quay.moorage(&["report", "--since", "1h", "--until", "2h"]).expect(2, &["no time between them"]);
    quay.moorage(&["report", "-o", "no/where.html"]).expect(1, &["no/where.html cannot be written"]);
    quay.moorage(&["report"]).expect(0, &["moorage-report.html is written"]);
    let page = std::fs::read_to_string(quay.path("moorage-report.html")).unwrap();
    assert!(page.contains("No run measured anything") && page.contains("nothing ran"), "{page}");
    // What is no file is written to as it is.
    quay.moorage(&["report", "-o", "/dev/null"]).expect(0, &[]);
    assert!(std::fs::metadata("/dev/null").unwrap().file_type().is_char_device());
}

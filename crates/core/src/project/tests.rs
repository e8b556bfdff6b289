//! Mistakes in project files.

use super::config::Project;
use super::section::tests::AnyKind;
use std::collections::BTreeMap;
use std::time::Duration;

const GOOD: &str = r#"
[sources.harbour]
kind = "quay"
url = "quay://moorage@db.example:5432/harbour"
password = { env = "HARBOUR_PASSWORD" }

[targets.warehouse]
kind = "shed"
path = "warehouse.db"

[pipelines.quayside]
source = "harbour"
target = "warehouse"
include = ["public.*"]
merge_every = "250ms"

[[pipelines.quayside.rule]]
match = "public.meter_readings"
key = ["berth_id", "read_at"]
drop = ["raw_payload"]
rename = { amt = "amount" }
"#;

#[test]
fn a_good_file_is_read_with_its_defaults() {
    let project = Project::parse("moorage.toml", GOOD, &AnyKind).unwrap();
    let pipeline = &project.pipelines["quayside"];
    assert_eq!(pipeline.merge_age(), Duration::from_millis(250));
    assert_eq!(pipeline.into.get_ref(), "{schema}_{table}");
    assert_eq!(pipeline.rule[0].rename["amt"], "amount");
}

/// A line of a pasted list or expression may have any length: only what stands around the place is shown.
#[rstest::rstest]
fn a_mistake_in_a_long_line_is_shown_with_what_stands_around_it(#[values(0, 30, 5000)] before: usize) {
    let list = |n: usize| format!("{:?}, ", "public.berths").repeat(n);
    let wrong = format!("merge_every = \"1s\"\ninclude = [{}3, {}\"x\"]", list(before), list(9000));
    let text = GOOD.replace("merge_every = \"250ms\"", &wrong).replace("include = [\"public.*\"]\n", "");
    let shown = Project::parse("f", &text, &AnyKind).unwrap_err().to_string();
    let lines: Vec<&str> = shown.lines().collect();
    assert!(lines.iter().all(|l| l.chars().count() < 150), "{shown}");
    let place = lines[2].chars().position(|c| c == '^').unwrap();
    assert_eq!(lines[1].chars().nth(place), Some('3'), "{shown}");
}

/// What belongs to an adapter is not looked at here, but found again, with its place in the file.
#[test]
fn sections_of_adapters_are_handed_on_as_they_stand() {
    #[derive(Debug, serde::Deserialize)]
    #[serde(deny_unknown_fields)]
    struct Quay {
        url: toml::Spanned<String>,
        password: BTreeMap<String, String>,
    }
    let text = GOOD.replace("merge_every", "berth = \"mine\"\nmerge_every");
    let project = Project::parse("f", &text, &AnyKind).unwrap();
    let (quay, pipeline) = (&project.sources["harbour"], &project.pipelines["quayside"]);
    let read: Quay = quay.section.read().unwrap();
    assert_eq!(&text[read.url.span()], "\"quay://moorage@db.example:5432/harbour\"");
    assert_eq!(read.password["env"], "HARBOUR_PASSWORD");
    let (key, span) = pipeline.of_source.first_key().unwrap();
    assert_eq!((key.as_str(), &text[span]), ("berth", "berth"));
    assert_eq!(pipeline.of_source.text("berth").as_deref(), Some("mine"));
    let (secret, rest) = quay.section.parted(&["password"]);
    assert!(secret.read::<Quay>().is_err() && rest.text("password").is_none() && rest.text("kind").is_none());
    // Another key than those of its kind: what may be meant, and nothing that may be a secret.
    let refused = |key: &str| {
        let text = text.replace("password", key);
        let project = Project::parse("f", &text, &AnyKind).unwrap();
        let wrong =
            project.sources["harbour"].refuse_unknown("source harbour", ["url", "password"]).unwrap_err();
        crate::project::error::ProjectError::new("f", &text, wrong).to_string()
    };
    let shown = refused("pasword");
    assert!(shown.contains("f:5:1: source harbour is of kind quay, which has no key `pasword`"), "{shown}");
    assert!(shown.contains("expected `password`"), "{shown}");
    assert!(!refused("\"quay://me:sesame@x\"").contains("sesame"));
}

#[rstest::rstest]
#[case(
    "include = [\"public.*\"]",
    "includ = [\"public.*\"]",
    "moorage.toml:14:1: unknown key `includ`",
    "`include`"
)]
#[case(
    "merge_every = \"250ms\"",
    "merge_every = 3",
    "moorage.toml:15:15: invalid type: integer `3`",
    "a text in double quotes"
)]
#[case(
    "merge_every = \"250ms\"",
    "merge_every = \"soon\"",
    "moorage.toml:15:15: `soon` is not a duration",
    "500ms"
)]
#[case(
    "source = \"harbour\"",
    "source = \"harbor\"",
    "moorage.toml:12:10: pipeline quayside reads from source `harbor`",
    "`harbour`"
)]
#[case("source = \"harbour\"\n", "", "moorage.toml:11:1: missing key `source`", "")]
#[case("kind = \"shed\"", "kind = \"shet\"", "moorage.toml:8:8: unknown value `shet`", "`shed`")]
#[case("[\"public.*\"]", "[\"public.[\"]", "moorage.toml:14:11: `public.[` is not a pattern", "public.*")]
#[case("path = \"warehouse.db\"", "path = ", "moorage.toml:9:", "")]
#[case(
    "merge_every",
    "into = \"{tabel}\"\nmerge_every",
    "moorage.toml:15:8: there is no placeholder {tabel}",
    "{table:lower}"
)]
#[case(
    "drop = [",
    "add = { x = { from = \"table\", constant = 1 } }\ndrop = [",
    "moorage.toml:20:7: column x of `add`",
    "expression"
)]
#[case(
    "drop = [",
    "cast = { x = \"nubmer\" }\ndrop = [",
    "moorage.toml:20:8: column x of `cast`",
    "decimal(10,2)"
)]
#[case(
    "amt = \"amount\"",
    "amt = \"a\\u0000\"",
    "moorage.toml:21:20: a text with the character NUL",
    "no such"
)]
#[case("merge_every", "slip = 1\nmerge_every", "moorage.toml:15:1: unknown key `slip`", "`include`")]
#[case(
    "[sources.harbour]",
    "[sauces.x]\n[sources.harbour]",
    "moorage.toml:2:2: unknown key `sauces`",
    "`sources`"
)]
#[case("kind = \"quay\"\n", "", "moorage.toml:2:1: missing key `kind`", "")]
#[case(
    "[pipelines.quayside]\n",
    "[pipelines]\nx = 1\n[pipelines.quayside]\n",
    "moorage.toml:12:5: this is no pipeline",
    "a table"
)]
fn a_mistake_is_named_with_its_line(
    #[case] good: &str,
    #[case] bad: &str,
    #[case] message: &str,
    #[case] expected: &str,
) {
    let error = Project::parse("moorage.toml", &GOOD.replace(good, bad), &AnyKind).unwrap_err().to_string();
    assert!(error.starts_with(message), "{error}");
    assert!(error.contains(expected), "{error}");
}

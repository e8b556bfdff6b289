//! What expressions mean, and what is refused before the first row.

use super::*;
use crate::model::schema::Column;
use crate::model::types::LogicalType;
use crate::value::column::{ColumnBuilder, Value, value_at, value_text};
use arrow::array::RecordBatch;
use arrow::datatypes::{Field, Schema};
use rstest::rstest;
use std::sync::Arc;

fn columns() -> Vec<Column> {
    let column = |name: &str, logical| Column {
        name: name.into(),
        logical,
        source_type: String::new(),
        nullable: true,
    };
    vec![
        column("id", LogicalType::Int32),
        column("Name", LogicalType::Text),
        column("price", LogicalType::Decimal { precision: Some(10), scale: Some(2) }),
        column("rate", LogicalType::Float64),
        column("paid", LogicalType::Bool),
        column("at", LogicalType::TimestampTz),
        column("day", LogicalType::Date),
        column("state", LogicalType::Other { name: "stay_state".into() }),
        column("nothing", LogicalType::Text),
    ]
}

/// Two rows; everything in the second one is null but its id, which is 0.
fn rows() -> RecordBatch {
    let first = [
        Value::Int(7),
        Value::Text("Grey Heron"),
        Value::Text("12.50"),
        Value::Float64(0.5),
        Value::Bool(true),
        Value::Text("2026-06-01 06:00:00.25+00:00"),
        Value::Text("0044-03-15 BC"),
        Value::Text("booked"),
        Value::Null,
    ];
    let fields: Vec<Field> = columns().iter().map(|c| Field::new(&c.name, c.logical.base(), true)).collect();
    let arrays = columns()
        .iter()
        .zip(first)
        .map(|(c, value)| {
            let mut out = ColumnBuilder::new(&c.logical);
            assert!(out.push(value));
            assert!(out.push(if c.name == "id" { Value::Int(0) } else { Value::Null }));
            out.finish()
        })
        .collect();
    RecordBatch::try_new(Arc::new(Schema::new(fields)), arrays).unwrap()
}

#[rstest]
#[case("id * 2 + 1", Some("15"), Some("1"))]
#[case("price * 3 - 0.25", Some("37.25"), None)]
#[case("rate / 2", Some("0.25"), None)]
#[case("upper(name) || '!'", Some("GREY HERON!"), None)]
#[case("substring(\"Name\" from 6 for 3)", Some("Her"), None)]
#[case("char_length(name)", Some("10"), None)]
#[case("coalesce(name, 'no name')", Some("Grey Heron"), Some("no name"))]
#[case("nullif(id, 0)", Some("7"), None)]
#[case("case when id = 0 then 0 else 100 % id end", Some("2"), Some("0"))]
#[case("case state when 'booked' then 'b' end", Some("b"), None)]
#[case("round(price * 1.005, 1)", Some("12.6"), None)]
#[case("cast(price as integer) is null", None, None)]
#[case("cast(id as text)", Some("7"), Some("0"))]
#[case("extract(year from day)", Some("-44"), None)]
#[case("extract(second from at)", Some("0.25"), None)]
#[case("paid and id > 5", Some("true"), Some("false"))]
#[case("paid or id = 0", Some("true"), Some("true"))]
#[case("not paid", Some("false"), None)]
#[case("paid is not true", Some("false"), Some("true"))]
#[case("price >= 12.5", Some("true"), None)]
#[case("price between 12 and 12.5", Some("true"), None)]
#[case("state in ('booked', 'alongside')", Some("true"), None)]
#[case("state not in ('booked', null)", Some("false"), None)]
#[case("name like 'Grey%n'", Some("true"), None)]
#[case("name not like 'gre_ %'", Some("true"), None)]
#[case("name like 'Grey!%%' escape '!'", Some("false"), None)]
#[case("at > '2026-06-01T08:00:00+02:00'", Some("true"), None)]
#[case("day < date '0001-01-01'", Some("true"), None)]
#[case("nothing is distinct from name", Some("true"), Some("false"))]
#[case("rate > price", Some("false"), None)]
fn an_expression_has_a_value_for_each_row(
    #[case] text: &str,
    #[case] first: Option<&str>,
    #[case] second: Option<&str>,
) {
    let expr = Expr::parse(text, &columns()).unwrap();
    match expr.evaluate(&rows()) {
        Ok(found) => {
            let of = |row| value_text(value_at(found.as_ref(), row));
            assert_eq!((of(0).as_deref(), of(1).as_deref()), (first, second), "{text}");
        }
        // The one that has none: 12.50 is not a whole number.
        Err(error) => assert_eq!((error.row, text.contains("as integer")), (0, true), "{error:?}"),
    }
}

#[rstest]
#[case("nme = 'x'", "there is no column nme; there is Name")]
#[case("\"name\" = 'x'", "there is no column name; there is Name")]
#[case("id = 'x'", "int32 and text do not go together")]
#[case("id / 2 = 3", "/ wants floats")]
#[case("name + 1 > 2", "cannot be computed with")]
#[case("id", "not a condition")]
#[case("name = ", "Expected")]
#[case("id = 1; drop table x", "Expected")]
#[case("id = (select 1)", "not offered")]
#[case("soundex(name) = 'x'", "there is no function SOUNDEX")]
#[case("at > 'yesterday'", "\"yesterday\" does not fit timestamp with zone")]
#[case("count(*) > 1", "COUNT")]
fn what_does_not_fit_together_is_refused_before_the_first_row(#[case] text: &str, #[case] why: &str) {
    let error = Expr::parse_condition(text, &columns()).unwrap_err();
    assert!(error.contains(why), "{error}");
}

#[rstest]
#[case("9223372036854775807 + id", 0, "does not fit")]
#[case("10 % id", 1, "division by zero")]
#[case("cast(name as integer)", 0, "\"Grey Heron\" does not fit int32")]
fn a_row_without_a_value_is_named(#[case] text: &str, #[case] row: usize, #[case] what: &str) {
    let error = Expr::parse(text, &columns()).unwrap().evaluate(&rows()).unwrap_err();
    assert_eq!(error.row, row);
    assert!(error.what.contains(what), "{error:?}");
}

/// C.20: long lists are not deep trees.
#[rstest]
#[case("IN")]
#[case("OR")]
#[case("AND")]
#[case("||")]
fn twenty_thousand_values_are_read_and_evaluated(#[case] how: &str) {
    let many =
        |glue: &str, part: &dyn Fn(u32) -> String| (10..20_010).map(part).collect::<Vec<_>>().join(glue);
    let text = match how {
        "IN" => format!("id IN ({}, 7)", many(", ", &|i| i.to_string())),
        "OR" => format!("{} OR id = 7", many(" OR ", &|i| format!("id = {i}"))),
        "AND" => many(" AND ", &|i| format!("id <> {i}")),
        _ => format!("char_length({}) = 20000", many(" || ", &|_| "'x'".into())),
    };
    let expr = Expr::parse_condition(&text, &columns()).unwrap();
    let held = expr.holds(&rows()).unwrap();
    assert_eq!((held.value(0), held.value(1)), (true, how != "IN" && how != "OR"));
    let copy = expr.clone();
    assert_eq!(copy.columns().len(), usize::from(how != "||"));
}

/// C.20: what is too deep, too long or too large is an error in words, soon.
#[rstest]
#[case(format!("{}1{}", "(".repeat(3000), ")".repeat(3000)))]
#[case((0..60_000).map(|_| "1").collect::<Vec<_>>().join("+"))]
#[case("- ".repeat(20_000) + "1")]
#[case("not ".repeat(20_000) + "true")]
#[case(format!("'{}'", "x".repeat(2 << 20)))]
#[case("case ".repeat(10_000))]
#[case((0..40).fold("id".to_string(), |inner, _| format!("nullif({inner}, 1)")) + " + '1e999999999'::numeric")]
fn what_is_too_much_is_refused(#[case] text: String) {
    let begun = std::time::Instant::now();
    let found = Expr::parse(&text, &columns()).and_then(|e| e.evaluate(&rows()).map_err(|e| e.what));
    assert!(found.is_err(), "{}", text.len());
    assert!(begun.elapsed().as_secs() < 60, "exponential");
}

/// C.20: operands are computed once, so nesting costs no more than its length.
#[test]
fn nesting_is_not_exponential() {
    let nested = (0..45).fold("id".to_string(), |inner, _| format!("nullif({inner}, 3)"));
    let between = (0..12)
        .fold("id".to_string(), |inner, _| format!("(case when {inner} between 1 and 9 then 5 else 0 end)"));
    let switch = (0..12)
        .fold("id".to_string(), |inner, _| format!("(case {inner} when 1 then 2 when 7 then 7 else 3 end)"));
    for text in [nested, between, switch] {
        Expr::parse(&text, &columns()).unwrap().evaluate(&rows()).unwrap();
    }
    let grown = (0..30).fold("name".to_string(), |inner, _| format!("replace({inner}, 'e', 'eeeeeeeeee')"));
    let error = Expr::parse(&grown, &columns()).unwrap().evaluate(&rows()).unwrap_err();
    assert!(error.what.contains("bytes, and may have"), "{}", error.what);
    for text in [
        "cast('1e400000' as numeric) * 2",
        "cast('1e-999999999999' as numeric) + 1",
        "abs(cast('9e99999999' as numeric))",
    ] {
        let found = Expr::parse(text, &columns()).and_then(|e| e.evaluate(&rows()).map_err(|e| e.what));
        assert!(found.is_err(), "{text}");
    }
}

/// What would not be the same in every database is told.
#[rstest]
#[case("id * 2 + price", None)]
#[case("coalesce(\"Name\", 'none') || '-' || CAST(id AS TEXT)", None)]
#[case("CASE WHEN id > 7 AND \"Name\" = 'x' THEN 1 WHEN \"Name\" LIKE 'G%' THEN 2 END", None)]
#[case("rate * 2", None)]
#[case("round(price, 1)", None)]
#[case("upper(\"Name\")", Some("locale"))]
#[case("CASE WHEN \"Name\" < 'x' THEN 1 END", Some("collation"))]
#[case("\"Name\" BETWEEN 'a' AND 'b'", Some("collation"))]
#[case("rate / 2", Some("divides"))]
#[case("CAST(rate AS TEXT)", Some("a float"))]
#[case("CAST(rate AS REAL) * 2", Some("floats of four bytes"))]
fn what_is_the_same_everywhere_is_known(#[case] text: &str, #[case] why: Option<&str>) {
    let told = computes_like(&Expr::parse(text, &columns()).unwrap()).err();
    match why {
        None => assert_eq!(told, None),
        Some(why) => assert!(told.is_some_and(|told| told.contains(why)), "{told:?}"),
    }
}

/// Names of columns are other ones afterwards, and what only looks like one is not.
#[test]
fn columns_are_called_otherwise_in_a_text() {
    let called = |name: &str| match name {
        "net" => Some("a mount".to_string()),
        "text" | "round" => Some("other".to_string()),
        _ => None,
    };
    let text = "round((net * 1.5), 2)::text || 'net' || \"net\" || text || round";
    let expected = "round((\"a mount\" * 1.5), 2)::text || 'net' || \"a mount\" || \"other\" || \"other\"";
    assert_eq!(with_names(text, called), expected);
    assert_eq!(with_names("'never ends", called), "'never ends");
}

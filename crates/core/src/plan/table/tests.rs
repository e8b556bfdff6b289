//! What targets keep of plans reads as it always did.

use super::*;
use crate::mapping::outputs::Mapping;
use crate::model::kept_as::Keep;
use crate::model::policy::{OnMisfit, Stamp};
use crate::model::types::LogicalType;
use serde_json::json;

fn column(name: &str, logical: LogicalType) -> Column {
    Column { name: name.into(), logical, source_type: "t".into(), nullable: true }
}

/// Every type there is, as it is stored.
fn types() -> Vec<(LogicalType, serde_json::Value)> {
    let plain = |logical, word: &str| (logical, json!({ "type": word }));
    vec![
        plain(LogicalType::Bool, "bool"),
        plain(LogicalType::Int16, "int16"),
        plain(LogicalType::Int32, "int32"),
        plain(LogicalType::Int64, "int64"),
        plain(LogicalType::Float32, "float32"),
        plain(LogicalType::Float64, "float64"),
        (
            LogicalType::Decimal { precision: Some(10), scale: Some(-2) },
            json!({ "type": "decimal", "precision": 10, "scale": -2 }),
        ),
        (
            LogicalType::Decimal { precision: None, scale: None },
            json!({ "type": "decimal", "precision": null, "scale": null }),
        ),
        plain(LogicalType::Text, "text"),
        plain(LogicalType::Bytes, "bytes"),
        plain(LogicalType::Date, "date"),
        plain(LogicalType::Time, "time"),
        plain(LogicalType::Timestamp, "timestamp"),
        plain(LogicalType::TimestampTz, "timestamp_tz"),
        plain(LogicalType::Interval, "interval"),
        plain(LogicalType::Uuid, "uuid"),
        plain(LogicalType::Json, "json"),
        (LogicalType::Other { name: "inet".into() }, json!({ "type": "other", "name": "inet" })),
    ]
}

/// Every output there is, as it is stored.
fn outputs() -> Vec<(Output, serde_json::Value)> {
    vec![
        (Output::Column(0), json!({ "column": 0 })),
        (Output::Constant("quay".into()), json!({ "constant": "quay" })),
        (Output::Expression("id + 1".into()), json!({ "expression": "id + 1" })),
        (
            Output::Cast { column: 1, misfit: OnMisfit::Stop },
            json!({ "cast": { "column": 1, "misfit": "stop" } }),
        ),
        (
            Output::Stamp { stamp: Stamp::Source, value: Some("harbour".into()) },
            json!({ "stamp": { "stamp": "source", "value": "harbour" } }),
        ),
    ]
}

fn plan() -> TablePlan {
    let identity = RowIdentity::DeclaredKey(vec![0]);
    let table = TableName::new("public", "berths");
    let columns: Vec<Column> = types().into_iter().map(|(logical, _)| column("c", logical)).collect();
    let schema = Arc::new(TableSchema { table, columns, identity });
    TablePlan {
        mapped: schema.clone(),
        mapping: Mapping {
            outputs: outputs().into_iter().map(|o| o.0).collect(),
            condition: Some("id > 3".into()),
            ..Mapping::default()
        },
        schema,
        source_id: 7,
        target: "public_berths".into(),
        gathered: None,
        columns: vec![PlannedColumn {
            name: "c".into(),
            declared: Declared { sql: "boolean".into(), note: Some("n".into()) },
            loses: Some("l".into()),
            comment: Some("k".into()),
        }],
        left_out: vec![("d".into(), "why".into())],
        existing_rows: Some(ExistingRows::Keep),
        ddl: Some("CREATE".into()),
        on_reject: OnReject::SetAside,
        mismatch: Mismatch::Adjust,
        comment: Some("about".into()),
        kept_as: KeptAs::default(),
        also: Vec::new(),
        beside: None,
        fingerprint: "7: c t".into(),
        structure: None,
        each_change: false,
    }
}

fn stored() -> serde_json::Value {
    let columns: Vec<serde_json::Value> = types()
        .into_iter()
        .map(|(_, stored)| json!({ "name": "c", "logical": stored, "source_type": "t", "nullable": true }))
        .collect();
    let schema = json!({
        "table": { "schema": "public", "name": "berths" },
        "columns": columns,
        "identity": { "kind": "declared_key", "columns": [0] },
    });
    json!({
        "form": 2,
        "schema": schema,
        "mapped": schema,
        "mapping": {
            "outputs": outputs().into_iter().map(|o| o.1).collect::<Vec<_>>(),
            "condition": "id > 3",
        },
        "source_id": 7,
        "target": "public_berths",
        "columns": [{
            "name": "c",
            "declared": { "sql": "boolean", "note": "n" },
            "loses": "l",
            "comment": "k",
        }],
        "left_out": [["d", "why"]],
        "existing_rows": "keep",
        "ddl": "CREATE",
        "on_reject": "set_aside",
        "mismatch": "adjust",
        "comment": "about",
        "fingerprint": "7: c t",
    })
}

#[test]
fn a_plan_is_stored_as_it_always_was_and_read_back() {
    assert_eq!(serde_json::to_value(plan()).unwrap(), stored());
    assert_eq!(serde_json::from_value::<TablePlan>(stored()).unwrap(), plan());
}

/// Versions that know nothing of it must not take such a table for one of current rows.
#[test]
fn a_plan_of_a_table_that_keeps_more_is_of_another_form() {
    let kept_as = KeptAs {
        keep: Keep::Changes,
        old_values: true,
        view: Some("berths_current".into()),
        ..KeptAs::default()
    };
    let kept = TablePlan { kept_as, ..plan() };
    let told = serde_json::to_value(&kept).unwrap();
    assert_eq!(told["form"], 3);
    assert_eq!(told["kept_as"], json!({ "keep": "changes", "old_values": true, "view": "berths_current" }));
    assert_eq!(serde_json::from_value::<TablePlan>(told).unwrap(), kept);
    let added: Vec<Output> =
        [Keep::Changes, Keep::Versions].into_iter().flat_map(Keep::adds).map(|a| Output::Added(*a)).collect();
    let words = json!([
        { "added": "operation" }, { "added": "committed_at" }, { "added": "position" }, { "added": "order" },
        { "added": "unchanged" }, { "added": "since" }, { "added": "until" }, { "old": 1 },
    ]);
    assert_eq!(
        serde_json::to_value(added.into_iter().chain([Output::Old(1)]).collect::<Vec<_>>()).unwrap(),
        words
    );
}

/// Nor one whose rows stand among those of others for the only one there.
#[test]
fn a_plan_of_a_table_that_stands_with_others_is_of_another_form() {
    let gathered = Gathered {
        into: "all".into(),
        column: "moorage_from".into(),
        from: "quay.berths".into(),
        disjoint: true,
        root: Some(TableName::new("quay", "berths_of_all")),
    };
    let plan = TablePlan { target: gathered.unit(), gathered: Some(gathered), ..plan() };
    let told = serde_json::to_value(&plan).unwrap();
    assert_eq!(told["form"], 4);
    let expected = json!({ "into": "all", "column": "moorage_from", "from": "quay.berths", "disjoint": true,
        "root": told["gathered"]["root"] });
    assert_eq!((&told["target"], &told["gathered"]), (&json!("all (quay.berths)"), &expected));
    assert_eq!(serde_json::from_value::<TablePlan>(told).unwrap(), plan);
}

#[test]
fn a_plan_of_a_later_form_is_refused_with_the_way_out() {
    let mut later = stored();
    later["form"] = json!(5);
    let refused = serde_json::from_value::<TablePlan>(later).unwrap_err().to_string();
    assert!(refused.contains("public_berths") && refused.contains("a later version of Moorage"), "{refused}");
}

#[test]
fn words_of_policies_and_identities_are_what_they_were() {
    let words = json!([
        serde_json::to_value([ExistingRows::Replace, ExistingRows::Keep]).unwrap(),
        serde_json::to_value([OnReject::Stop, OnReject::SetAside]).unwrap(),
        serde_json::to_value([Mismatch::Reject, Mismatch::Adjust]).unwrap(),
        serde_json::to_value([RowIdentity::Key(vec![1]), RowIdentity::WholeRow]).unwrap(),
        serde_json::to_value([Stamp::Source, Stamp::Table, Stamp::CommittedAt, Stamp::Position]).unwrap(),
    ]);
    let expected = json!([
        ["replace", "keep"],
        ["stop", "set_aside"],
        ["reject", "adjust"],
        [{ "kind": "key", "columns": [1] }, { "kind": "whole_row" }],
        ["source", "table", "committed_at", "position"],
    ]);
    assert_eq!(words, expected);
}

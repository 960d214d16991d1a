//! Plans that somebody brings.

use anyhow::Result;
use reqwest::{Method, StatusCode};
use serde_json::json;

use crate::common::Hurnix;

const IN_FULL: &str = "Aggregate  (cost=40.00..40.01 rows=1 width=8) (actual time=9.0..9.0 rows=1 loops=1)
  ->  Seq Scan on passage_leg  (cost=0.00..35.00 rows=10 width=8) (actual time=0.1..8.0 rows=4000 loops=1)
        Filter: ((state = 'waiting'::text) AND (crossing_id = 7))
Execution Time: 9.5 ms";
const BY_INDEX: &str = r#"[{ "Plan": { "Node Type": "Aggregate", "Strategy": "Plain", "Partial Mode": "Simple",
    "Startup Cost": 8.0, "Total Cost": 8.0, "Plan Rows": 1, "Plan Width": 8, "Plans": [
    { "Node Type": "Index Scan", "Index Name": "passage_leg_crossing", "Relation Name": "passage_leg",
      "Alias": "passage_leg", "Startup Cost": 0.3, "Total Cost": 7.0, "Plan Rows": 10, "Plan Width": 8 }] } }]"#;

#[tokio::test]
async fn two_plans_are_one_tree_and_what_is_none_is_refused() -> Result<()> {
    let hurnix = Hurnix::start().await?;
    let body = json!({ "first_plan": IN_FULL, "second_plan": BY_INDEX });
    let (status, read) = hurnix.send(Method::POST, "plans/read", Some(body)).await?;
    assert_eq!(status, StatusCode::OK, "{read}");
    let scan = &read["first"]["steps"][1];
    assert_eq!((scan["name"].as_str(), scan["depth"].as_u64()), (Some("Seq Scan on passage_leg"), Some(1)));
    assert_eq!((scan["expected_rows"].as_f64(), scan["rows"].as_f64()), (Some(10.0), Some(4000.0)));
    assert_eq!(
        scan["details"],
        json!([{ "name": "Filter", "text": "((state = 'waiting'::text) AND (crossing_id = 7))" }])
    );
    assert_eq!(read["first"]["execution_ms"], json!(9.5));
    let wrong = json!([{ "step": 1, "expected_rows": 10.0, "rows": 4000.0, "why": "correlated_columns" }]);
    assert_eq!(read["first"]["wrong"], wrong);
    let merged = json!([
        { "depth": 0, "first": 0, "second": 0, "likeness": "same_step" },
        { "depth": 1, "first": 1, "second": 1, "likeness": "in_place" },
    ]);
    assert_eq!(read["merged"], merged);
    let costs: f64 =
        read["second"]["steps"].as_array().unwrap().iter().filter_map(|step| step["cost_share"].as_f64()).sum();
    assert!((costs - 1.0).abs() < 1e-9, "{costs}");

    let body = json!({ "first_plan": IN_FULL, "second_plan": "SELECT 1" });
    let (status, problem) = hurnix.send(Method::POST, "plans/read", Some(body)).await?;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{problem}");
    assert_eq!(
        (&problem["errors"][0]["field"], &problem["errors"][0]["value"]),
        (&json!("second_plan"), &json!("SELECT 1"))
    );
    let wide = format!(
        "Append  (cost=0.00..1.00 rows=1 width=8)\n{}",
        "  ->  Seq Scan on gate_scan  (cost=0.00..1.00 rows=1 width=8)\n".repeat(5000)
    );
    let (status, read) = hurnix.send(Method::POST, "plans/read", Some(json!({ "first_plan": wide }))).await?;
    assert_eq!((status, read["first"]["steps"].as_array().map(Vec::len)), (StatusCode::OK, Some(5001)));
    Ok(())
}

//! Plans as the server tells them, and what tells them apart: rule 10.

use anyhow::{Context, Result, bail};
use hurnix_core::findings::plan_difference::{Likeness, difference};
use hurnix_core::readings::plan::{Node, Plan};
use hurnix_source::postgres::PostgresSource;
use hurnix_source::{Planned, Source};
use sqlx::{AssertSqlSafe, Connection, Executor, PgConnection, Row};

use super::servers::{ACCOUNT, DATABASE, Watched};

/// Statements of every operator that is met in practice.
const STATEMENTS: &[&str] = &[
    "SELECT 1",
    "SELECT * FROM deck WHERE deck_id = 7",
    "SELECT deck_id FROM deck WHERE deck_id < 90 ORDER BY deck_id DESC LIMIT 3",
    "SELECT * FROM deck WHERE metres IN (3, 8) AND deck_id % 2 = 0",
    "SELECT * FROM deck d JOIN \"Ramp of deck\" r USING (deck_id) WHERE r.\"Side\" = 'port'",
    "SELECT * FROM deck d LEFT JOIN \"Ramp of deck\" r USING (deck_id)",
    "SELECT * FROM deck d WHERE EXISTS (SELECT FROM \"Ramp of deck\" r WHERE r.deck_id = d.metres)",
    "SELECT * FROM deck d WHERE NOT EXISTS (SELECT FROM \"Ramp of deck\" r WHERE r.deck_id = d.deck_id)",
    "SELECT a.deck_id FROM deck a FULL JOIN deck b ON a.deck_id = b.metres",
    "SELECT deck_id, (SELECT max(\"Side\") FROM \"Ramp of deck\" r WHERE r.deck_id = d.deck_id) FROM deck d WHERE metres = 4",
    "SELECT * FROM deck WHERE metres > (SELECT avg(metres) FROM deck)",
    "WITH long AS MATERIALIZED (SELECT * FROM deck WHERE metres > 80) SELECT * FROM long a JOIN long b USING (deck_id)",
    "WITH RECURSIVE up(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM up WHERE n < 9) SELECT sum(n) FROM up",
    "SELECT metres, count(*) FROM deck GROUP BY metres",
    "SELECT metres, deck_id, count(*) FROM deck GROUP BY GROUPING SETS ((metres), (deck_id), ())",
    "SELECT DISTINCT metres FROM deck ORDER BY metres",
    "SELECT metres, row_number() OVER (PARTITION BY metres ORDER BY deck_id) FROM deck",
    "SELECT deck_id FROM deck EXCEPT SELECT deck_id FROM \"Ramp of deck\"",
    "SELECT deck_id FROM deck UNION SELECT metres FROM deck",
    "SELECT * FROM generate_series(1, 5) n JOIN (VALUES (1, 'a'), (2, 'b')) AS named(n, name) USING (n)",
    "SELECT * FROM deck d CROSS JOIN LATERAL (SELECT * FROM deck b WHERE b.deck_id = d.metres LIMIT 1) nearest LIMIT 5",
    "SELECT * FROM berth WHERE moored_on < '2026-03-01' AND berth_id = 3",
    "INSERT INTO \"Ramp of deck\" SELECT deck_id, 'aft' FROM deck WHERE deck_id < 3",
    "UPDATE deck SET metres = metres WHERE deck_id = 3",
    "DELETE FROM deck d USING \"Ramp of deck\" r WHERE r.deck_id = d.deck_id AND r.\"Side\" = 'none'",
];
/// A large table is read by several processes, and two in order are merged.
const OTHER_WAYS: [&str; 3] = [
    "SELECT 1",
    "SET enable_hashjoin = off; SET enable_nestloop = off; SET enable_hashagg = off; SET enable_seqscan = off",
    "SET parallel_setup_cost = 0; SET parallel_tuple_cost = 0; SET min_parallel_table_scan_size = 0;
     SET min_parallel_index_scan_size = 0; SET max_parallel_workers_per_gather = 2",
];

async fn explain(admin: &mut PgConnection, options: &str, statement: &str) -> Result<Plan> {
    let rows = admin.fetch_all(AssertSqlSafe(format!("EXPLAIN ({options}) {statement}"))).await?;
    let line = |row: &sqlx::postgres::PgRow| match row.try_get::<String, _>(0) {
        Ok(text) => text,
        Err(_) => row.get::<serde_json::Value, _>(0).to_string(),
    };
    let told: Vec<String> = rows.iter().map(line).collect();
    Plan::read(&told.join("\n")).with_context(|| format!("{statement}: {told:?}"))
}

async fn prepare(admin: &mut PgConnection) -> Result<()> {
    admin
        .execute(
            "CREATE TABLE \"Ramp of deck\" (deck_id int NOT NULL, \"Side\" text NOT NULL);
             INSERT INTO \"Ramp of deck\" SELECT n, CASE n % 2 WHEN 0 THEN 'port' ELSE 'starboard' END FROM generate_series(1, 500) n;
             CREATE TABLE berth (berth_id int NOT NULL, moored_on date NOT NULL) PARTITION BY RANGE (moored_on);
             CREATE TABLE berth_january PARTITION OF berth FOR VALUES FROM ('2026-01-01') TO ('2026-02-01');
             CREATE TABLE berth_february PARTITION OF berth FOR VALUES FROM ('2026-02-01') TO ('2026-03-01');
             CREATE TABLE berth_march PARTITION OF berth FOR VALUES FROM ('2026-03-01') TO ('2026-04-01');
             CREATE INDEX ON berth (berth_id);
             INSERT INTO berth SELECT n, date '2026-01-01' + n % 90 FROM generate_series(1, 9000) n;
             ANALYZE",
        )
        .await?;
    Ok(())
}

/// Both forms tell the same of every operator, however a statement is planned.
async fn both_forms_tell_the_same(admin: &mut PgConnection) -> Result<()> {
    for way in OTHER_WAYS {
        admin.execute(way).await?;
        for statement in STATEMENTS {
            let text = explain(admin, "FORMAT TEXT", statement).await?;
            let json = explain(admin, "FORMAT JSON", statement).await?;
            let told = |plan: &Plan| -> Vec<_> {
                let node = |node: &Node| (node.depth, node.role.clone(), node.name(), node.estimate);
                plan.nodes.iter().map(node).collect()
            };
            assert_eq!(told(&text), told(&json), "{statement}");
            assert_eq!(text.identity(), json.identity(), "{statement}");
            let is_same = difference(&text, &json).iter().all(|step| step.likeness == Likeness::Same);
            assert!(is_same, "{statement}");
            if way == OTHER_WAYS[0] {
                admin.execute("BEGIN").await?;
                let run = |form: &str| format!("ANALYZE, BUFFERS, TIMING OFF, FORMAT {form}");
                let text = explain(admin, &run("TEXT"), statement).await?;
                let json = explain(admin, &run("JSON"), statement).await?;
                admin.execute("ROLLBACK").await?;
                let rows = |plan: &Plan| -> Vec<_> {
                    plan.nodes.iter().map(|node| node.actual.map(|actual| (actual.rows, actual.loops))).collect()
                };
                assert_eq!(rows(&text), rows(&json), "{statement}");
                assert!(text.nodes.iter().all(|node| node.actual.is_some()), "{statement}");
                assert!(text.execution_ms.is_some() && json.execution_ms.is_some(), "{statement}");
                let asked = |plan: &Plan| plan.nodes[0].pages.map_or(0, |pages| pages.hit + pages.read) > 0;
                assert_eq!(asked(&text), asked(&json), "{statement}");
            }
        }
        admin.execute("RESET ALL").await?;
    }
    Ok(())
}

async fn mark(source: &mut PostgresSource, statement: &str) -> Result<(i64, String)> {
    match source.plan(statement).await? {
        Planned::Made { text, identity } => Ok((identity, text)),
        Planned::Absent(reason) => bail!("{statement}: {reason}"),
    }
}

/// The same plan under other literals, other costs, other partitions.
async fn the_same_stays_the_same(source: &mut PostgresSource, admin: &mut PgConnection) -> Result<()> {
    let deck = |id: usize| format!("SELECT metres FROM deck WHERE deck_id = {id}");
    assert_eq!(mark(source, &deck(3)).await?.0, mark(source, &deck(19_000)).await?.0);
    let cheap = explain(admin, "FORMAT TEXT", &deck(3)).await?;
    admin.execute("SET random_page_cost = 3.9").await?;
    let other = explain(admin, "FORMAT TEXT", &deck(3)).await?;
    admin.execute("RESET random_page_cost").await?;
    assert_ne!(cheap.nodes[0].estimate, other.nodes[0].estimate);
    assert_eq!(cheap.identity(), other.identity());

    let berth = |from: &str, to: &str| {
        format!(
            "SELECT * FROM berth WHERE berth_id = 40 AND moored_on >= date '2026-{from}' AND moored_on < date '2026-{to}'"
        )
    };
    let (january, text) = mark(source, &berth("01-01", "01-15")).await?;
    assert!(text.contains("berth_january") && !text.contains("berth_march"), "{text}");
    for (from, to) in [("03-01", "03-15"), ("02-01", "04-01"), ("01-01", "04-01")] {
        assert_eq!(mark(source, &berth(from, to)).await?.0, january, "{from} {to}");
    }
    Ok(())
}

/// Told apart after an index, growth, fresh statistics, a setting.
async fn others_are_told_apart(source: &mut PostgresSource, admin: &mut PgConnection) -> Result<()> {
    let looked_up = "SELECT * FROM crate WHERE crate_id = 5";
    let of_kind = "SELECT * FROM crate WHERE kind = 1";
    admin
        .execute(
            "CREATE TABLE crate (crate_id int, kind int);
             INSERT INTO crate VALUES (1, 1), (2, 2), (3, 3);
             CREATE INDEX crate_number ON crate (crate_id); CREATE INDEX crate_kind ON crate (kind); ANALYZE crate",
        )
        .await?;
    let mut seen = vec![mark(source, looked_up).await?];
    assert!(seen[0].1.starts_with("Seq Scan"), "few rows: {seen:?}");
    admin.execute("INSERT INTO crate SELECT n, n FROM generate_series(4, 20000) n").await?;
    seen.push(mark(source, looked_up).await?);
    assert_ne!(seen[0].0, seen[1].0, "grown: {seen:?}");
    admin.execute("ANALYZE crate").await?;
    let by_kind = mark(source, of_kind).await?;
    assert!(by_kind.1.contains("crate_kind"), "{by_kind:?}");
    admin.execute("UPDATE crate SET kind = 1").await?;
    assert_eq!(mark(source, of_kind).await?.0, by_kind.0, "as the statistics still have it");
    admin.execute("ANALYZE crate").await?;
    let in_full = mark(source, of_kind).await?;
    assert_ne!(in_full.0, by_kind.0, "fresh statistics: {in_full:?}");
    admin.execute("DROP INDEX crate_number").await?;
    let without = mark(source, looked_up).await?;
    assert_ne!(without.0, seen[1].0, "without its index: {without:?}");

    let joined = "SELECT * FROM deck a JOIN crate b ON a.deck_id = b.crate_id";
    let before = explain(admin, "FORMAT JSON", joined).await?;
    admin.execute("SET enable_hashjoin = off").await?;
    let after = explain(admin, "FORMAT JSON", joined).await?;
    admin.execute("RESET enable_hashjoin").await?;
    assert_ne!(before.identity(), after.identity());
    let likeness: Vec<Likeness> = difference(&before, &after).into_iter().map(|step| step.likeness).collect();
    assert!(likeness.contains(&Likeness::Same), "what it joins is read as before: {likeness:?}");
    assert!(likeness.contains(&Likeness::InPlace), "another join in its place: {likeness:?}");
    Ok(())
}

pub async fn are_read_and_told_apart(server: &Watched) -> Result<()> {
    let mut source = server.source().await?;
    let mut admin = server.cluster.connect(DATABASE).await?;
    admin.execute(AssertSqlSafe(format!("ALTER DEFAULT PRIVILEGES GRANT SELECT ON TABLES TO \"{ACCOUNT}\""))).await?;
    prepare(&mut admin).await?;
    both_forms_tell_the_same(&mut admin).await?;
    the_same_stays_the_same(&mut source, &mut admin).await?;
    others_are_told_apart(&mut source, &mut admin).await?;
    admin
        .execute(AssertSqlSafe(format!("ALTER DEFAULT PRIVILEGES REVOKE SELECT ON TABLES FROM \"{ACCOUNT}\"")))
        .await?;
    admin.execute("DROP TABLE \"Ramp of deck\", berth, crate").await?;
    Ok(admin.close().await?)
}

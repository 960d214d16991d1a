//! Statements on a real server, and every index tried that could help one of them: what the best one brings is known,
//! and the advice is held against it.

mod families;
mod schema;

use std::collections::BTreeSet;

use anyhow::{Context, Result};
use hurnix_cluster::{Cluster, SUPERUSER, Setup};
use hurnix_core::access::tls_mode::TlsMode;
use hurnix_core::changes::advice::missing_index::{MissingIndex, missing_indexes, not_understood};
use hurnix_core::changes::advice::{Advice, FamilyCost};
use hurnix_core::readings::catalog::Catalog;
use hurnix_source::Source;
use hurnix_source::postgres::{Address, Piece, PostgresSource, statement_to_run};
use sqlx::{AssertSqlSafe, Executor, PgConnection, Row};

use families::Family;

/// A family is worth an index where the best one saves this share of its time,
const WORTH_AN_INDEX: f64 = 0.1;
/// and where a call takes as long as this, in milliseconds: nobody waits for less.
const LEAST_MS: f64 = 0.2;
/// Runs of each statement, of which the quickest counts.
const RUNS: usize = 3;

/// A family with what an index does for it.
#[derive(Debug, Clone)]
pub struct Tried {
    /// What kind of statement it is.
    pub form: &'static str,
    /// One of its statements.
    pub statement: String,
    /// Time of its statements together, in milliseconds.
    pub now_ms: f64,
    /// The best index that was tried, and the time with it; nothing where none helps.
    pub best: Option<(String, f64)>,
    /// What was advised.
    pub advised: Option<Advised>,
    /// Why the statement was not understood.
    pub not_understood: Option<String>,
}

/// The first index that is advised for a family.
#[derive(Debug, Clone)]
pub struct Advised {
    /// The statement that makes it.
    pub made_by: String,
    /// Time of its statements with it, in milliseconds.
    pub ms: f64,
    /// What was predicted for that.
    pub predicted_ms: f64,
    /// Its size in bytes.
    pub bytes: f64,
    /// What was predicted for that.
    pub predicted_bytes: f64,
}

impl Tried {
    /// Share of the best index's gain that the advised one reaches; nothing where no index helps.
    pub fn reached(&self) -> Option<f64> {
        let (_, best_ms) = self.best.as_ref()?;
        let ms = self.advised.as_ref().map_or(self.now_ms, |advised| advised.ms);
        Some((self.now_ms - ms) / (self.now_ms - best_ms))
    }

    /// Whether something is advised that does not help.
    pub fn is_useless(&self) -> bool {
        self.advised.as_ref().is_some_and(|advised| advised.ms > self.now_ms * (1.0 - WORTH_AN_INDEX))
    }
}

/// What indexes do for every so many-th family of a seed, on a schema `scale` times as large as usual.
pub async fn index_trial(seed: u64, scale: f64, every: usize) -> Result<Vec<Tried>> {
    let settings = [
        ("shared_preload_libraries", "pg_stat_statements"),
        ("shared_buffers", "512MB"),
        ("max_parallel_workers_per_gather", "0"),
        ("jit", "off"),
        ("autovacuum", "off"),
    ];
    let cluster = Cluster::temporary(Setup { settings: &settings, password_accounts: &[], version: None })?;
    let mut server = Server { connection: cluster.connect("postgres").await? };
    server.run("CREATE EXTENSION pg_stat_statements").await?;
    for statement in schema::schema(seed, scale) {
        server.run(&statement).await?;
    }
    server.run("VACUUM ANALYZE").await?;
    let catalog = catalog(&cluster).await?;
    let mut tried = Vec::new();
    for family in families::families(seed, scale).into_iter().step_by(every) {
        tried.push(server.tried(&family, &catalog).await?);
    }
    Ok(tried)
}

async fn catalog(cluster: &Cluster) -> Result<Catalog> {
    let address = Address {
        host: "127.0.0.1".into(),
        port: cluster.port(),
        database: "postgres".into(),
        account: SUPERUSER.into(),
        password: String::new(),
        tls: TlsMode::Prefer,
        tls_ca: None,
        allows_plain_password: false,
    };
    Ok(PostgresSource::connect(&address).await?.catalog().await?)
}

struct Server {
    connection: PgConnection,
}

impl Server {
    async fn run(&mut self, statement: &str) -> Result<()> {
        let run = self.connection.execute(sqlx::raw_sql(AssertSqlSafe(statement.to_owned()))).await;
        run.map(drop).with_context(|| statement.to_owned())
    }

    /// Milliseconds that the server takes for all statements of a family, in their quickest run.
    async fn time(&mut self, family: &Family) -> Result<f64> {
        let mut quickest = f64::MAX;
        for _ in 0..RUNS {
            quickest = quickest.min(self.counted(family).await?.exec_us as f64 / 1e3);
        }
        Ok(quickest)
    }

    /// What the server counted of a family's statements in one run of each; what they write is taken back.
    async fn counted(&mut self, family: &Family) -> Result<FamilyCost> {
        self.run("SELECT pg_stat_statements_reset()").await?;
        for statement in &family.statements {
            self.run("BEGIN").await?;
            self.run(statement).await?;
            self.run("ROLLBACK").await?;
        }
        let row = sqlx::query(
            "SELECT query, calls, (total_exec_time * 1000)::bigint AS exec_us, rows, shared_blks_hit AS hit_pages,
                    shared_blks_read AS read_pages
             FROM pg_stat_statements WHERE query !~ '^(BEGIN|ROLLBACK|SELECT pg_stat)' ORDER BY total_exec_time DESC LIMIT 1",
        )
        .fetch_one(&mut self.connection)
        .await?;
        Ok(FamilyCost {
            family: 1,
            text: row.get("query"),
            // Often enough that any gain is worth an index.
            calls_per_day: 1e9,
            calls: row.get("calls"),
            exec_us: row.get("exec_us"),
            rows: row.get("rows"),
            hit_pages: row.get("hit_pages"),
            read_pages: row.get("read_pages"),
        })
    }

    async fn tried(&mut self, family: &Family, catalog: &Catalog) -> Result<Tried> {
        let counted = self.counted(family).await?;
        let now_ms = self.time(family).await?;
        let mut best: Option<(String, f64)> = None;
        for on in tries(family, catalog) {
            self.run(&format!("CREATE INDEX tried ON {on}")).await?;
            if self.is_used(family, "tried").await? {
                let ms = self.time(family).await?;
                if best.as_ref().is_none_or(|(_, least)| ms < *least) {
                    best = Some((on.clone(), ms));
                }
            }
            self.run(&format!("DROP INDEX {}tried", schema_of(&on))).await?;
        }
        // The best of many is so by luck as well: it is tried once more.
        if let Some((on, ms)) = &mut best {
            self.run(&format!("CREATE INDEX tried ON {on}")).await?;
            *ms = self.time(family).await?;
            self.run(&format!("DROP INDEX {}tried", schema_of(on))).await?;
        }
        let best = best.filter(|(_, ms)| {
            now_ms >= LEAST_MS * family.statements.len() as f64 && *ms < now_ms * (1.0 - WORTH_AN_INDEX)
        });
        let seconds_per_day = counted.exec_us as f64 / 1e6 / counted.calls as f64 * counted.calls_per_day;
        let missing = missing_indexes(std::slice::from_ref(&counted), catalog, seconds_per_day);
        let advised = match missing.first() {
            Some(first) => Some(self.advised(family, first, now_ms).await?),
            None => None,
        };
        Ok(Tried {
            form: family.form,
            statement: family.statements[0].clone(),
            now_ms,
            best,
            advised,
            not_understood: not_understood(std::slice::from_ref(&counted), catalog)
                .first()
                .map(|one| one.why.to_string()),
        })
    }

    async fn advised(&mut self, family: &Family, first: &MissingIndex, now_ms: f64) -> Result<Advised> {
        let made_by = sql(first);
        self.run(&made_by).await?;
        let schema = if first.schema == "public" { String::new() } else { format!("{}.", first.schema) };
        let bytes: i64 = sqlx::query_scalar(AssertSqlSafe(format!(
            "SELECT coalesce(sum(pg_relation_size(relid))::bigint, pg_relation_size('{schema}advised'))
             FROM pg_partition_tree('{schema}advised')"
        )))
        .fetch_one(&mut self.connection)
        .await?;
        // An expression has statistics of its own once its index is there.
        self.run(&format!("ANALYZE {schema}{}", first.table)).await?;
        let ms = self.time(family).await?;
        self.run(&format!("DROP INDEX {schema}advised")).await?;
        let helped = &first.families[0];
        Ok(Advised {
            made_by,
            ms,
            predicted_ms: now_ms * helped.predicted_ms / helped.now_ms,
            bytes: bytes as f64,
            predicted_bytes: first.size_bytes,
        })
    }

    /// Whether the planner takes an index for any statement of a family.
    async fn is_used(&mut self, family: &Family, name: &str) -> Result<bool> {
        for statement in &family.statements {
            let plan: Vec<String> = sqlx::query_scalar(AssertSqlSafe(format!("EXPLAIN {statement}")))
                .fetch_all(&mut self.connection)
                .await?;
            // An index of a partitioned table has a name of its own on each partition; what else waits on a row's
            // reference is not planned here.
            let is_hidden = statement.starts_with("DELETE");
            if is_hidden || plan.iter().any(|line| line.contains(name) || line.contains("using reading_")) {
                return Ok(true);
            }
        }
        Ok(false)
    }
}

/// The schema that an index on a table is in, with a point.
fn schema_of(on: &str) -> String {
    let table = on.split([' ', '(']).next().unwrap_or_default();
    table.split_once('.').map_or(String::new(), |(schema, _)| format!("{schema}."))
}

/// Every index to try: on each of the columns, on each pair of them in both orders, and those of the family's own.
fn tries(family: &Family, catalog: &Catalog) -> Vec<String> {
    let mut tries: BTreeSet<String> = family.further.iter().cloned().collect();
    for name in &family.tables {
        let (schema, bare) = name.split_once('.').unwrap_or(("public", name));
        let Some(table) = catalog.table(Some(schema), bare) else { continue };
        let columns: Vec<&str> =
            family.columns.iter().copied().filter(|column| table.column(column).is_some()).collect();
        for one in &columns {
            tries.insert(format!("{name} ({one})"));
            let others = columns.iter().filter(|other| *other != one);
            tries.extend(others.map(|other| format!("{name} ({one}, {other})")));
        }
    }
    tries.into_iter().collect()
}

/// The statement that makes an index that is missing, under the name `advised`.
fn sql(missing: &MissingIndex) -> String {
    let pieces = statement_to_run(&Advice::MissingIndex(missing.clone()));
    let pieces = pieces.into_iter().map(|piece| match piece {
        Piece::Text(text) => text,
        Piece::Choice { .. } => String::new(),
        Piece::Name { .. } => "advised".to_owned(),
    });
    pieces.collect()
}

use std::time::{Duration, Instant};

use anyhow::{Result, ensure};
use hurnix_cluster::{Cluster, Setup};
use hurnix_core::access::tls_mode::TlsMode;
use hurnix_source::postgres::{AccountMayRead, Address, PostgresSource, account_script};
use sqlx::{AssertSqlSafe, Connection, Executor, PgConnection};

pub const ACCOUNT: &str = "harbour watch";
const PASSWORD: &str = "kelp and tern";
/// The database that is watched; nobody else connects to it but through [`Watched::client`].
pub const DATABASE: &str = "harbour";

/// A server with some tables, and an account for Hurnix that its own script has made.
pub struct Watched {
    pub version: u32,
    pub cluster: Cluster,
}

impl Watched {
    pub async fn start(version: u32) -> Result<Watched> {
        let structured = if version >= 15 { "stderr,jsonlog" } else { "stderr,csvlog" };
        let settings = [
            ("shared_preload_libraries", "pg_stat_statements"),
            ("pg_stat_statements.max", "100"),
            ("pg_stat_statements.track", "all"),
            ("track_io_timing", "on"),
            ("autovacuum", "off"),
            ("max_prepared_transactions", "5"),
            ("wal_level", "logical"),
            ("logging_collector", "on"),
            ("log_destination", structured),
        ];
        let setup = Setup { settings: &settings, password_accounts: &[ACCOUNT], version: Some(version) };
        let cluster = Cluster::temporary(setup)?;
        let server = Watched { version, cluster };
        server.cluster.ensure_database(DATABASE).await?;
        server.cluster.ensure_database("quay").await?;
        let all = AccountMayRead { tables: true, host: true, log: true, access: true };
        let mut admin = server.cluster.connect(DATABASE).await?;
        admin
            .execute(
                "CREATE ROLE crew LOGIN;
                 CREATE TABLE deck (deck_id int PRIMARY KEY, metres int NOT NULL);
                 CREATE INDEX deck_metres ON deck (metres);
                 INSERT INTO deck SELECT n, n % 90 FROM generate_series(1, 20000) n;
                 GRANT ALL ON deck TO crew",
            )
            .await?;
        admin.execute("VACUUM ANALYZE deck").await?;
        let script = account_script(version, ACCOUNT, DATABASE, all).replace('…', PASSWORD);
        admin.execute(AssertSqlSafe(script)).await?;
        admin.close().await?;
        Ok(server)
    }

    pub fn address(&self) -> Address {
        Address {
            host: "127.0.0.1".into(),
            port: self.cluster.port(),
            database: DATABASE.into(),
            account: ACCOUNT.into(),
            password: PASSWORD.into(),
            tls: TlsMode::Prefer,
            tls_ca: None,
            allows_plain_password: false,
        }
    }

    pub async fn source(&self) -> Result<PostgresSource> {
        Ok(PostgresSource::connect(&self.address()).await?)
    }

    /// A session of the account `crew`.
    pub async fn client(&self, database: &str) -> Result<PgConnection> {
        let url = self.cluster.url(database).replace("postgres://postgres@", "postgres://crew@");
        Ok(PgConnection::connect(&url).await?)
    }
}

/// Ends a session whose figures are to be seen by others: at the latest then, the server counts what it did.
pub async fn finish(client: PgConnection) -> Result<()> {
    Ok(client.close().await?)
}

/// Asks again until the answer is there; older versions count a little later than they work.
pub async fn until<T>(what: &str, mut ask: impl AsyncFnMut() -> Result<Option<T>>) -> Result<T> {
    let deadline = Instant::now() + Duration::from_secs(20);
    loop {
        if let Some(answer) = ask().await? {
            return Ok(answer);
        }
        ensure!(Instant::now() < deadline, "never came about: {what}");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

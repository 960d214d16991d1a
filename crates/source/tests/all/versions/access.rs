//! Who may read what, and what stands in the way.

use anyhow::{Context, Result};
use hurnix_core::readings::figures::Figures;
use hurnix_source::postgres::{Address, PostgresSource};
use hurnix_source::{ConnectProblem, Obstacle, Source};
use sqlx::{AssertSqlSafe, Connection, Executor, PgConnection};

use super::servers::{ACCOUNT, Watched};

/// The list in docs/versions.md, by the version from which on each is told.
const MISSING: [(u32, &str); 8] = [
    (14, "numbers of running statements"),
    (14, "statements thrown out of the list"),
    (14, "statements inside functions"),
    (14, "sessions by database"),
    (14, "progress of COPY"),
    (17, "start times of statement counters"),
    (14, "what functions ran"),
    (16, "input and output"),
];

pub async fn limits_are_those_of_the_version(server: &Watched) -> Result<()> {
    let source = server.source().await?;
    let told: Vec<&str> = source.limits().iter().map(|limit| limit.figures.as_str()).collect();
    let missing: Vec<&str> =
        MISSING.iter().filter(|(since, _)| server.version < *since).map(|(_, figures)| *figures).collect();
    assert_eq!(told, missing, "the account may read everything else");
    for limit in source.limits() {
        assert!(
            limit.by_version && !limit.reason.is_empty() && limit.remedy.contains("Upgrade the server to version 1"),
            "{limit:?}"
        );
    }
    Ok(())
}

pub async fn the_account_changes_nothing(server: &Watched) -> Result<()> {
    let address = server.address();
    let mut own = PgConnection::connect_with(
        &sqlx::postgres::PgConnectOptions::new()
            .host(&address.host)
            .port(address.port)
            .username(&address.account)
            .password(&address.password)
            .database(&address.database),
    )
    .await?;
    own.execute("SET default_transaction_read_only = off").await?;
    for change in [
        "CREATE TABLE public.mine (n int)",
        "INSERT INTO deck VALUES (0, 0)",
        "ALTER SYSTEM SET work_mem = '1GB'",
        "SELECT pg_read_file('/etc/passwd')",
        "SELECT pg_stat_reset()",
        "CREATE ROLE stowaway",
        "SELECT rolpassword FROM pg_authid",
    ] {
        // Before version 15 everybody may make tables in the schema public, whatever Hurnix asks for.
        let is_open_to_all = server.version < 15 && change.starts_with("CREATE TABLE");
        let done = own.execute(change).await;
        assert!(done.is_err() || is_open_to_all, "{change}");
        if done.is_ok() {
            own.execute("DROP TABLE public.mine").await?;
        }
    }
    Ok(own.close().await?)
}

async fn obstacle(address: &Address) -> Result<ConnectProblem> {
    PostgresSource::connect(address).await.map(|_| ()).err().context("there is an obstacle")
}

pub async fn obstacles_are_named(server: &Watched) -> Result<()> {
    let good = server.address();
    let wrong = obstacle(&Address { password: "no".into(), ..good.clone() }).await?;
    assert_eq!(wrong.obstacle, Obstacle::WrongPassword);
    let nowhere = obstacle(&Address { database: "nowhere".into(), ..good.clone() }).await?;
    assert_eq!(nowhere.obstacle, Obstacle::NoSuchDatabase);
    let mut admin = server.cluster.connect("postgres").await?;
    admin.execute(AssertSqlSafe(format!("REVOKE pg_monitor FROM \"{ACCOUNT}\""))).await?;
    let refused = obstacle(&good).await?;
    assert_eq!(refused.obstacle, Obstacle::PrivilegeMissing);
    admin.execute(AssertSqlSafe(refused.remedy)).await?;
    PostgresSource::connect(&good).await?.close().await;
    Ok(())
}

/// As an upgrade of the server leaves it: the extension stands where it was.
pub async fn an_older_extension_is_named(server: &Watched) -> Result<()> {
    server.cluster.ensure_database("archive").await?;
    let mut admin = server.cluster.connect("archive").await?;
    admin.execute("CREATE EXTENSION pg_stat_statements VERSION '1.7'").await?;
    let mut source = PostgresSource::connect(&Address { database: "archive".into(), ..server.address() }).await?;
    let of = |source: &PostgresSource, figures: &str| {
        source
            .limits()
            .iter()
            .find(|limit| limit.figures == figures)
            .map(|limit| (limit.in_whole, limit.remedy.clone()))
    };
    let (in_whole, remedy) = of(&source, "statements").context("it is told")?;
    assert!(in_whole && remedy == "ALTER EXTENSION pg_stat_statements UPDATE;", "{remedy}");
    assert_eq!(source.counters(Figures::Statements).await?, None);
    if server.version > 13 {
        admin.execute("ALTER EXTENSION pg_stat_statements UPDATE TO '1.8'").await?;
        source.look_again(false).await?;
        let part = of(&source, "statements by the latest extension");
        assert_eq!(part, Some((false, "ALTER EXTENSION pg_stat_statements UPDATE;".into())));
        assert!(source.counters(Figures::Statements).await?.is_some());
    }
    admin.execute(AssertSqlSafe(remedy)).await?;
    assert!(source.look_again(false).await?, "it is noticed");
    assert!(!source.limits().iter().any(|limit| limit.remedy.contains("ALTER EXTENSION")));
    assert!(source.counters(Figures::Statements).await?.is_some());
    Ok(())
}

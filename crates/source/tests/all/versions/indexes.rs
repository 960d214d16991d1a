//! What the catalog says of indexes, and of names without a schema.

use anyhow::{Context, Result};
use hurnix_source::Source;
use sqlx::{AssertSqlSafe, Executor};

use super::servers::{DATABASE, Watched};

/// Whether an index sorts and compares as one that says nothing of it.
pub async fn those_that_sort_otherwise_are_told_apart(server: &Watched) -> Result<()> {
    let mut admin = server.cluster.connect(DATABASE).await?;
    admin
        .execute(
            "CREATE TABLE berth_call (call_id bigint PRIMARY KEY, vessel text, berth text);
             CREATE INDEX plain_two ON berth_call (vessel, berth);
             CREATE INDEX plain_lower ON berth_call (lower(vessel));
             CREATE INDEX by_pattern ON berth_call (vessel text_pattern_ops);
             CREATE INDEX downwards ON berth_call (vessel, berth DESC);
             CREATE INDEX nulls_ahead ON berth_call (berth NULLS FIRST);
             CREATE INDEX collated ON berth_call (berth COLLATE \"C\");",
        )
        .await?;
    let catalog = server.source().await?.catalog().await?;
    let table = catalog.table(Some("public"), "berth_call").context("it is there")?;
    let named = |plain: bool| -> Vec<&str> {
        table.indexes.iter().filter(|index| index.plain == plain).map(|index| index.name.as_str()).collect()
    };
    assert_eq!(named(true), ["berth_call_pkey", "plain_lower", "plain_two"]);
    assert_eq!(named(false), ["by_pattern", "collated", "downwards", "nulls_ahead"]);
    admin.execute("DROP TABLE berth_call").await?;
    Ok(())
}

/// A name without a schema means the table that the accounts of the database find first; none where that hangs on who
/// asks.
pub async fn names_mean_what_the_search_path_says(server: &Watched) -> Result<()> {
    let mut admin = server.cluster.connect(DATABASE).await?;
    admin
        .execute(
            "CREATE SCHEMA old; CREATE SCHEMA \"Next\";
             CREATE TABLE public.pier (pier_id bigint); CREATE TABLE old.pier (pier_id bigint); CREATE TABLE \"Next\".pier (pier_id bigint);
             CREATE ROLE pilot",
        )
        .await?;
    let mut found = Vec::new();
    for setting in [
        "ALTER ROLE pilot RESET search_path".to_owned(),
        "ALTER ROLE pilot SET search_path = old, public".to_owned(),
        format!("ALTER DATABASE {DATABASE} SET search_path = \"Next\", old"),
        "ALTER ROLE pilot RESET search_path".to_owned(),
        format!(
            "ALTER DATABASE {DATABASE} RESET search_path; CREATE SCHEMA pilot; CREATE TABLE pilot.pier (pier_id bigint)"
        ),
    ] {
        sqlx::raw_sql(AssertSqlSafe(setting)).execute(&mut admin).await?;
        let catalog = server.source().await?.catalog().await?;
        found.push(catalog.table(None, "pier").map(|table| table.schema.clone()));
    }
    // What accounts find without a setting of their own; one finds another; all but one; all; one has its own.
    let found: Vec<Option<&str>> = found.iter().map(Option::as_deref).collect();
    assert_eq!(found, [Some("public"), None, None, Some("Next"), None]);
    admin.execute("DROP SCHEMA old, \"Next\", pilot CASCADE; DROP TABLE public.pier; DROP ROLE pilot").await?;
    Ok(())
}

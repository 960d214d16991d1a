//! Views for SQL: documented, and all that their account may read.

use anyhow::{Context, Result};
use hurnix_core::keeping::detail::Detail;
use hurnix_core::readings::statement_kind::StatementKind;
use hurnix_store::*;
use sqlx::{Connection, Executor, PgConnection, Row};

use crate::store::{cost, repository, window};

const PAGE: &str = include_str!("../../../../docs/formats/views.md");

#[tokio::test]
async fn every_view_is_documented_with_all_of_its_columns() -> Result<()> {
    let repository = repository().await?;
    let rows = repository
        .cluster
        .connect("hurnix")
        .await?
        .fetch_all(
            "SELECT table_name::text AS name, obj_description(('figures.' || table_name)::regclass) AS holds,
                    string_agg('`' || column_name || '`', ' ' ORDER BY ordinal_position) AS columns
             FROM information_schema.columns WHERE table_schema = 'figures' GROUP BY 1 ORDER BY 1",
        )
        .await?;
    let row = |row: &sqlx::postgres::PgRow| {
        let of = |column: &str| row.get::<String, _>(column);
        format!("| `{}` | {} | {} |", of("name"), of("holds"), of("columns"))
    };
    let missing: Vec<String> = rows.iter().map(row).filter(|row| !PAGE.contains(row)).collect();
    assert!(rows.len() > 25 && missing.is_empty(), "not in docs/formats/views.md:\n{}", missing.join("\n"));
    let documented = PAGE.lines().filter(|line| line.starts_with("| `")).count();
    assert_eq!(documented, rows.len(), "docs/formats/views.md tells of views that are not there");
    Ok(())
}

#[tokio::test]
async fn an_account_for_sql_reads_the_views_and_nothing_else() -> Result<()> {
    let repository = repository().await?;
    let leg = repository.family("select ? from passage_leg").await?;
    repository.period(10, &[(leg, cost(4, 400))]).await?;
    repository.period(20, &[(leg, cost(6, 500))]).await?;
    let store = &repository.store;
    assert!(store.make_sql_account("skerry reader", "kelp").await?);
    assert!(!store.make_sql_account("skerry reader", "kelp and tern").await?, "it gets a new password");
    let taken = store.make_sql_account("postgres", "kelp").await;
    assert!(matches!(taken, Err(StoreProblem::Taken { value, .. }) if value == "postgres"));
    let url = repository.cluster.url("hurnix").replace("postgres://postgres@", "postgres://skerry%20reader@");
    let mut reader = PgConnection::connect(&url).await?;
    let sums: (String, String, i64, i64) = sqlx::query_as(
        "SELECT text, account, sum(calls)::bigint, sum(exec_us)::bigint
         FROM statement_as_read JOIN statement USING (instance_id, family_id) GROUP BY 1, 2",
    )
    .fetch_one(&mut reader)
    .await?;
    assert_eq!(sums, ("select ? from passage_leg".into(), "desk".into(), 10, 900));
    let label: String = sqlx::query_scalar("SELECT label FROM figures.instance").fetch_one(&mut reader).await?;
    assert_eq!(label, "passage-a");
    for refused in [
        "SELECT secret_sealed FROM public.instance",
        "SELECT * FROM public.account",
        "SELECT * FROM public.family",
        "SET transaction_read_only = off; DELETE FROM figures.marker",
        "SET transaction_read_only = off; CREATE TABLE figures.own (n int)",
    ] {
        let error = reader.execute(sqlx::raw_sql(refused)).await.err().context(refused)?;
        let code = error.as_database_error().and_then(|error| error.code().map(|code| code.into_owned()));
        assert!(matches!(code.as_deref(), Some("42501" | "25006" | "25001")), "{refused}: {error}");
    }
    // Opened again, by whichever process, nothing is made anew.
    Store::open(&repository.cluster.url("hurnix"), hurnix_core::keeping::retention::Retention::default()).await?;
    Ok(())
}

#[tokio::test]
async fn what_an_earlier_version_kept_has_its_sort_and_no_spread() -> Result<()> {
    let repository = repository().await?;
    let (legs, waits) = (repository.family("select ? from passage_leg").await?, repository.family("commit").await?);
    let spread = |calls, exec_us, squared_ms| {
        let mut by = cost(calls, exec_us);
        by.squared_ms = squared_ms;
        by
    };
    repository.period(10, &[(legs, spread(10, 400_000, 17_000)), (waits, cost(5, 50))]).await?;
    let mut connection = repository.cluster.connect("hurnix").await?;
    // As an earlier version left them: no sort, and periods without squares.
    connection.execute("UPDATE family SET kind = NULL; UPDATE statement_period SET squared_ms = NULL").await?;
    repository.period(20, &[(legs, spread(10, 400_000, 17_000))]).await?;
    assert_eq!(repository.store.judge_families().await?, 2);
    assert_eq!(repository.store.judge_families().await?, 0);
    let squares = async |from, to| {
        let pieces = repository.pieces(window(from, to), Detail::Fine).await?;
        let (rows, totals) =
            repository.store.statements(repository.instance, &pieces, &StatementQuery::costliest(9)).await?;
        let row = rows.iter().find(|row| row.family_id == legs).context("it ran")?;
        assert_eq!(row.kind, Some(StatementKind::Query));
        assert_eq!(totals.counters.squared_ms, row.counters.squared_ms);
        anyhow::Ok((row.counters.squared_ms, totals.around.0))
    };
    assert_eq!(squares(0, 10).await?, (0, 1), "commits stand apart");
    assert_eq!(squares(10, 20).await?, (17_000, 0));
    // Of both together only half is known, which tells nothing of all.
    assert_eq!(squares(0, 20).await?, (0, 1));
    Ok(())
}

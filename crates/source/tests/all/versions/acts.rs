//! What is put in force, and how far it is.

use anyhow::{Context, Result};
use hurnix_core::changes::action::{Action, TableMeant};
use hurnix_source::postgres::{Outcome, PostgresSource, order};
use sqlx::{AssertSqlSafe, Executor};

use super::servers::{DATABASE, Watched, until};

fn analyze(table: &str) -> Action {
    Action::AnalyzeTable(TableMeant { database: DATABASE.into(), schema: "public".into(), table: table.into() })
}

async fn act(server: &Watched, action: &Action) -> Result<Outcome> {
    let address = server.address();
    let mut acting = PostgresSource::connect_to_act(&address).await?;
    let outcome = acting.act(&order(action).context("there is an order")?, &address.account).await?;
    acting.close().await;
    Ok(outcome)
}

/// How often a table was analyzed by hand, as soon as the server has counted it.
async fn analyzed(server: &Watched) -> Result<i64> {
    let mut admin = server.cluster.connect(DATABASE).await?;
    let count = "SELECT analyze_count FROM pg_stat_user_tables WHERE relname = 'deck'";
    Ok(sqlx::query_scalar(count).fetch_one(&mut admin).await?)
}

pub async fn a_table_is_analyzed_once_the_server_lets_hurnix(server: &Watched) -> Result<()> {
    let before = analyzed(server).await?;
    let refused = async || match act(server, &analyze("deck")).await? {
        Outcome::Refused(reason, remedy) => Ok((reason, remedy)),
        other => anyhow::bail!("the account may only watch: {other:?}"),
    };
    let (reason, remedy) = refused().await?;
    assert!(reason.contains("public.deck") && !remedy.contains("GRANT postgres"), "{reason} {remedy}");
    assert_eq!(act(server, &analyze("raft")).await?, Outcome::Gone);

    let mut admin = server.cluster.connect(DATABASE).await?;
    admin.execute("ALTER TABLE deck OWNER TO crew").await?;
    let (_, remedy) = refused().await?;
    assert!(remedy.starts_with("GRANT "), "{remedy}");
    admin.execute(AssertSqlSafe(remedy.clone())).await?;
    let done = act(server, &analyze("deck")).await?;
    assert!(matches!(&done, Outcome::Done(told) if told.contains("rows in 89 pages")), "{done:?}");
    until("it was analyzed", async || Ok((analyzed(server).await? == before + 1).then_some(()))).await?;

    // Somebody changes its definition meanwhile: it waits for its lock, but not for long.
    admin.execute("BEGIN; LOCK TABLE deck IN SHARE UPDATE EXCLUSIVE MODE").await?;
    let held_up = act(server, &analyze("deck")).await?;
    assert!(matches!(&held_up, Outcome::Refused(_, remedy) if remedy.contains("lock")), "{held_up:?}");
    admin.execute("ROLLBACK").await?;
    Ok(())
}

/// After the check before, which has given the account the right to do it.
pub async fn long_work_tells_how_far_it_is_and_can_be_stopped(server: &Watched) -> Result<()> {
    let mut admin = server.cluster.connect(DATABASE).await?;
    let slowly = "ALTER ROLE \"harbour watch\" SET vacuum_cost_delay = 80; ALTER ROLE \"harbour watch\" SET vacuum_cost_limit = 1";
    admin.execute(slowly).await?;
    let before = analyzed(server).await?;
    let address = server.address();
    let order = order(&analyze("deck")).context("there is an order")?;
    let mut acting = PostgresSource::connect_to_act(&address).await?;
    let process = acting.process().await?;
    let account = address.account.clone();
    let order_there = hurnix_source::postgres::order(&analyze("deck")).context("there is an order")?;
    let work = tokio::spawn(async move { acting.act(&order_there, &account).await });

    let mut watching = server.source().await?;
    let share = async |least: f64, watching: &mut PostgresSource| {
        let progress = watching.progress(&order, process).await?;
        Ok(progress.and_then(|progress| progress.share).filter(|share| *share > least))
    };
    let first = until("it has begun", async || share(0.0, &mut watching).await).await?;
    let second = until("it goes on", async || share(first, &mut watching).await).await?;
    assert!(first < second && second < 1.0, "{first} {second}");
    watching.stop(process).await?;
    assert_eq!(work.await??, Outcome::Stopped);
    // The server takes its progress away a moment after it has told that it stopped.
    until("nothing is under way", async || Ok(watching.progress(&order, process).await?.is_none().then_some(())))
        .await?;
    assert_eq!(analyzed(server).await?, before);
    let as_usual =
        "ALTER ROLE \"harbour watch\" RESET vacuum_cost_delay; ALTER ROLE \"harbour watch\" RESET vacuum_cost_limit";
    admin.execute(as_usual).await?;
    Ok(())
}

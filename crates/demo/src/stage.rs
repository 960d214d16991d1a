use std::time::Duration;

use anyhow::Result;
use sqlx::postgres::{PgConnectOptions, PgConnection};
use sqlx::{Connection, Executor};
use tokio::task::{JoinHandle, JoinSet};

use crate::passage::{DATABASE, USUAL_MEMORY};
use crate::story::Story;

/// How many scanners a supervisor holds up, and how fast they come.
pub(crate) const SCANNERS: i32 = 37;
const BETWEEN_SCANNERS: Duration = Duration::from_millis(500);
/// The crossing that everybody wants.
const CROSSING: i32 = 5_001;
/// How many deadlocks happen, and how far apart.
pub(crate) const DEADLOCKS: u32 = 3;
const BETWEEN_DEADLOCKS: Duration = Duration::from_secs(8);
/// The server looks for deadlocks after a second of waiting.
const BOTH_HOLD: Duration = Duration::from_millis(300);

/// Indexes that serve nothing: two that nobody reads, and one that says the same as another.
pub(crate) const IDLE_INDEXES: [(&str, &str); 3] = [
    ("gate_scan_gate", "gate_scan (gate)"),
    ("berth_call_dues", "berth_call (dues)"),
    ("passage_traveller_again", "passage (traveller_id)"),
];

/// Programs that work for an act only.
fn programs_of(story: Story) -> &'static [&'static str] {
    match story {
        Story::HoldUp => &["gate desk"],
        Story::GiantSearch => &["free-text hunt"],
        Story::Bloat => &["season report"],
        _ => &[],
    }
}

/// What happens on the server besides its traffic: the acts of the stories that are on.
#[derive(Debug)]
pub struct Stage {
    port: u16,
    acts: Vec<(Story, JoinHandle<()>)>,
}

impl Stage {
    /// The server that listens on this port of 127.0.0.1.
    pub fn new(port: u16) -> Stage {
        Stage { port, acts: Vec::new() }
    }

    /// Plays these stories and no others: those that are on go on, others end and the server is put back as it was
    /// before them.
    ///
    /// # Errors
    /// The server does not answer.
    pub async fn play(&mut self, stories: &[Story]) -> Result<()> {
        let (staying, ending) = self.acts.drain(..).partition(|(story, _)| stories.contains(story));
        self.acts = staying;
        for (story, act) in ending {
            act.abort();
            // Its connections are closed when it is gone.
            let _ = act.await;
            self.undo(story).await?;
        }
        for story in stories.iter().copied().filter(|story| *story != Story::Quiet) {
            if self.acts.iter().any(|(playing, _)| *playing == story) {
                continue;
            }
            let port = self.port;
            let act = tokio::spawn(async move {
                if let Err(error) = act(port, story).await {
                    tracing::warn!(%story, "the story broke off: {error:#}");
                }
            });
            self.acts.push((story, act));
        }
        Ok(())
    }

    /// Ends what is on, and puts the server back as it was.
    ///
    /// # Errors
    /// The server does not answer.
    pub async fn clear(&mut self) -> Result<()> {
        self.play(&[]).await
    }

    async fn undo(&self, story: Story) -> Result<()> {
        let mut admin = connect(self.port, "postgres", "skerry ops").await?;
        // A server notices that a client is gone only when it has something to tell it.
        sqlx::query("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = ANY($1)")
            .bind(programs_of(story))
            .execute(&mut admin)
            .await?;
        if story == Story::SettingChange {
            admin.execute(USUAL_MEMORY).await?;
            admin.execute("SELECT pg_reload_conf()").await?;
        }
        if story == Story::UnusedIndexes {
            for (name, _) in IDLE_INDEXES {
                admin.execute(sqlx::AssertSqlSafe(format!("DROP INDEX IF EXISTS {name}"))).await?;
            }
        }
        Ok(admin.close().await?)
    }
}

impl Drop for Stage {
    fn drop(&mut self) {
        self.acts.iter().for_each(|(_, act)| act.abort());
    }
}

async fn connect(port: u16, account: &str, program: &str) -> Result<PgConnection> {
    let options = PgConnectOptions::new_without_pgpass().host("127.0.0.1").port(port).database(DATABASE);
    Ok(PgConnection::connect_with(&options.username(account).application_name(program)).await?)
}

async fn act(port: u16, story: Story) -> Result<()> {
    match story {
        Story::Quiet | Story::GateList => Ok(()),
        Story::HoldUp => hold_up(port).await,
        Story::Deadlocks => deadlocks(port).await,
        Story::GiantSearch => giant_search(port).await,
        Story::UnusedIndexes => unused_indexes(port).await,
        Story::Bloat => bloat(port).await,
        Story::SettingChange => setting_change(port).await,
    }
}

/// A supervisor changes a crossing and goes away without ending the transaction; scanners want the same row.
async fn hold_up(port: u16) -> Result<()> {
    let mut supervisor = connect(port, "skerry_supervisor", "gate desk").await?;
    supervisor.execute("BEGIN").await?;
    sqlx::query("UPDATE crossing SET state = 'boarding' WHERE crossing_id = $1")
        .bind(CROSSING)
        .execute(&mut supervisor)
        .await?;
    let mut scanners: JoinSet<Result<()>> = JoinSet::new();
    for _ in 0..SCANNERS {
        tokio::time::sleep(BETWEEN_SCANNERS).await;
        scanners.spawn(async move {
            let mut scanner = connect(port, "skerry_gate", "gate scanner").await?;
            sqlx::query("UPDATE crossing SET state = state WHERE crossing_id = $1")
                .bind(CROSSING)
                .execute(&mut scanner)
                .await?;
            Ok(())
        });
    }
    // Nobody goes on until the story ends, and the supervisor's connection with it.
    while scanners.join_next().await.is_some() {}
    Ok(())
}

/// Two desks lock a vehicle's slot and a passage, each the other way round.
async fn deadlocks(port: u16) -> Result<()> {
    let slot = "UPDATE vehicle_slot SET changed_at = now() WHERE vehicle_slot_id = 700";
    let passage = "UPDATE passage SET booked_at = booked_at WHERE passage_id = 700";
    for _ in 0..DEADLOCKS {
        let mut one = connect(port, "skerry_deck", "deck planner").await?;
        let mut other = connect(port, "skerry_desk", "desk").await?;
        one.execute("BEGIN").await?;
        other.execute("BEGIN").await?;
        one.execute(slot).await?;
        other.execute(passage).await?;
        tokio::time::sleep(BOTH_HOLD).await;
        // One of them is told that it cannot be, the other goes on.
        let _ = tokio::join!(one.execute(passage), other.execute(slot));
        let _ = tokio::join!(one.execute("ROLLBACK"), other.execute("ROLLBACK"));
        tokio::time::sleep(BETWEEN_DEADLOCKS).await;
    }
    Ok(())
}

/// A crew member hunts for a word through everything, sorted.
async fn giant_search(port: u16) -> Result<()> {
    let mut crew = connect(port, "skerry_crew", "free-text hunt").await?;
    loop {
        crew.execute(
            "SELECT count(*) FROM (SELECT l.*, season FROM passage_leg l CROSS JOIN generate_series(2019, 2026) season
             WHERE l.remark LIKE '%leg%' OR l.seat LIKE '%leg%' ORDER BY l.remark, season, l.boarded_at, l.passage_leg_id OFFSET 1) found",
        )
        .await?;
    }
}

/// Somebody makes indexes just in case.
async fn unused_indexes(port: u16) -> Result<()> {
    let mut admin = connect(port, "postgres", "skerry ops").await?;
    for (name, on) in IDLE_INDEXES {
        admin.execute(sqlx::AssertSqlSafe(format!("CREATE INDEX IF NOT EXISTS {name} ON {on}"))).await?;
    }
    Ok(())
}

/// A report keeps its transaction open, while planners move vehicles about all the time: the old versions of
/// rows cannot be cleaned up.
async fn bloat(port: u16) -> Result<()> {
    let mut report = connect(port, "skerry_office", "season report").await?;
    report.execute("BEGIN ISOLATION LEVEL REPEATABLE READ").await?;
    report.execute("SELECT count(*) FROM harbour").await?;
    let mut planner = connect(port, "skerry_deck", "deck planner").await?;
    for part in (0..20).cycle() {
        sqlx::query(
            "UPDATE vehicle_slot SET changed_at = now() WHERE vehicle_slot_id % 20 = $1 AND vehicle_slot_id > 1000",
        )
        .bind(part)
        .execute(&mut planner)
        .await?;
        tokio::time::sleep(Duration::from_millis(300)).await;
    }
    Ok(())
}

/// Somebody lowers the memory that sorts and hashes may take.
async fn setting_change(port: u16) -> Result<()> {
    let mut admin = connect(port, "postgres", "skerry ops").await?;
    admin.execute("ALTER SYSTEM SET work_mem = '128kB'").await?;
    admin.execute("SELECT pg_reload_conf()").await?;
    Ok(())
}

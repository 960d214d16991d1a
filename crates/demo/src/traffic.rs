use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use anyhow::Result;
use sqlx::postgres::{PgConnectOptions, PgConnection};
use sqlx::{Connection, Executor};
use tokio::sync::watch;
use tokio::task::JoinSet;

use crate::enquiries::{Enquiry, OF_CREWS, OF_HARBOURS, OF_TRAVELLERS};
use crate::passage::DATABASE;
use crate::story::Story;

/// How hard the clients work.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Pace {
    /// With long pauses: leaves nearly all of a small machine free, for tests that run several at a time.
    Gentle,
    /// With pauses, as people and devices do: takes about a third of a core.
    Paced,
    /// Without pauses, so that the server is always busy: for benches.
    Flat,
}

/// What one client does over and over.
#[derive(Debug, Clone, Copy)]
enum Part {
    /// Books passages at a desk.
    Desk,
    /// Scans travellers at a gate.
    Gate,
    /// Shows gate staff who is on the list of a crossing.
    GateList,
    /// Reserves deck metres for vehicles.
    Deck,
    /// Shows the next departures on the piers.
    Board,
    /// Adds up the day for the office.
    Office,
    /// Asks one of these at a time.
    Enquirer(&'static [Enquiry]),
}

/// How many times as long the pauses of gentle traffic are.
const GENTLE: u64 = 3;

/// (part, clients, account, program, pause in milliseconds)
const CAST: [(Part, u32, &str, &str, u64); 9] = [
    (Part::Desk, 4, "skerry_desk", "desk", 90),
    (Part::Gate, 4, "skerry_gate", "gate scanner", 60),
    (Part::GateList, 4, "skerry_gate", "gate list", 900),
    (Part::Deck, 4, "skerry_deck", "deck planner", 150),
    (Part::Board, 2, "skerry_gate", "pier board", 200),
    (Part::Office, 1, "skerry_office", "day sheet", 4000),
    (Part::Enquirer(OF_TRAVELLERS), 4, "skerry_web", "booking site", 40),
    (Part::Enquirer(OF_CREWS), 2, "skerry_crew", "duty sheet", 60),
    (Part::Enquirer(OF_HARBOURS), 3, "skerry_harbour", "harbour office", 50),
];

/// Running traffic; stops when dropped.
#[derive(Debug)]
pub struct Traffic {
    stories: watch::Sender<Vec<Story>>,
    transactions: Arc<AtomicU64>,
    stopping: Arc<AtomicBool>,
    clients: JoinSet<()>,
}

impl Traffic {
    /// Starts the clients on the server that listens on this port of 127.0.0.1.
    pub fn start(port: u16, pace: Pace, seed: u64) -> Traffic {
        let (stories, _) = watch::channel(Vec::new());
        let (transactions, stopping) = (Arc::new(AtomicU64::new(0)), Arc::new(AtomicBool::new(false)));
        let mut clients = JoinSet::new();
        for (number, (part, account, program, pause_ms)) in CAST
            .into_iter()
            .flat_map(|(part, count, account, program, pause)| (0..count).map(move |_| (part, account, program, pause)))
            .enumerate()
        {
            let client = Client {
                part,
                options: PgConnectOptions::new_without_pgpass()
                    .host("127.0.0.1")
                    .port(port)
                    .database(DATABASE)
                    .username(account)
                    .application_name(program),
                pause: match pace {
                    Pace::Gentle => Duration::from_millis(pause_ms * GENTLE),
                    Pace::Paced => Duration::from_millis(pause_ms),
                    Pace::Flat => Duration::ZERO,
                },
                rng: Rng(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ (number as u64 + 1)),
                stories: stories.subscribe(),
                transactions: transactions.clone(),
                stopping: stopping.clone(),
            };
            clients.spawn(client.run());
        }
        Traffic { stories, transactions, stopping, clients }
    }

    /// Changes what is played from now on.
    pub fn play(&self, stories: &[Story]) {
        self.stories.send_replace(stories.to_vec());
    }

    /// Transactions that ended since the start.
    pub fn transactions(&self) -> u64 {
        self.transactions.load(Ordering::Relaxed)
    }

    /// Stops the clients, each after the transaction it is in.
    pub async fn stop(mut self) {
        self.stopping.store(true, Ordering::Relaxed);
        let all = async { while self.clients.join_next().await.is_some() {} };
        // One that hangs is dropped with the rest.
        let _ = tokio::time::timeout(Duration::from_secs(5), all).await;
    }
}

struct Client {
    part: Part,
    options: PgConnectOptions,
    pause: Duration,
    rng: Rng,
    stories: watch::Receiver<Vec<Story>>,
    transactions: Arc<AtomicU64>,
    stopping: Arc<AtomicBool>,
}

impl Client {
    async fn run(mut self) {
        while !self.stopping.load(Ordering::Relaxed) {
            if let Err(error) = self.work().await {
                // The server may be stopped on purpose: clients come back, as real ones do.
                tracing::debug!(part = ?self.part, %error, "traffic client starts over");
                tokio::time::sleep(Duration::from_millis(500)).await;
            }
        }
    }

    async fn work(&mut self) -> Result<()> {
        let mut connection = PgConnection::connect_with(&self.options).await?;
        while !self.stopping.load(Ordering::Relaxed) {
            self.once(&mut connection).await?;
            self.transactions.fetch_add(1, Ordering::Relaxed);
            if !self.pause.is_zero() {
                // Between half and one and a half pauses.
                tokio::time::sleep(self.pause.mul_f64(0.5 + self.rng.below(1000) as f64 / 1000.0)).await;
            }
        }
        connection.close().await?;
        Ok(())
    }

    async fn once(&mut self, connection: &mut PgConnection) -> Result<()> {
        match self.part {
            Part::Desk => self.book(connection).await,
            Part::Gate => self.scan(connection).await,
            Part::GateList => self.list(connection).await,
            Part::Deck => self.reserve(connection).await,
            Part::Board => self.show_departures(connection).await,
            Part::Office => self.add_up(connection).await,
            Part::Enquirer(enquiries) => {
                let Enquiry { sql, below } = enquiries[self.rng.below(enquiries.len())];
                sqlx::query(sql).bind(self.rng.below(below) as i32 + 1).fetch_all(connection).await?;
                Ok(())
            }
        }
    }

    async fn book(&mut self, connection: &mut PgConnection) -> Result<()> {
        let card = format!("SK{:08}", self.rng.below(60_000) + 1);
        let traveller: i32 = sqlx::query_scalar("SELECT traveller_id FROM traveller WHERE card = $1")
            .bind(card)
            .fetch_one(&mut *connection)
            .await?;
        sqlx::query("SELECT fare FROM fare_rule WHERE from_harbour_id = $1 AND to_harbour_id = $2")
            .bind(self.rng.below(24) as i32 + 1)
            .bind(self.rng.below(24) as i32 + 1)
            .fetch_all(&mut *connection)
            .await?;
        sqlx::query(
            "SELECT passage_id, booked_at, fare FROM passage WHERE traveller_id = $1 ORDER BY booked_at DESC LIMIT 5",
        )
        .bind(traveller)
        .fetch_all(&mut *connection)
        .await?;
        let crossings: Vec<i32> = (0..3).map(|_| self.rng.below(6000) as i32 + 1).collect();
        let mut transaction = connection.begin().await?;
        let passage: i64 = sqlx::query_scalar(
            "INSERT INTO passage (traveller_id, booked_at, fare, channel) VALUES ($1, now(), $2::int, 'desk') RETURNING passage_id",
        )
        .bind(traveller)
        .bind(self.rng.below(60) as i32)
        .fetch_one(&mut *transaction)
        .await?;
        sqlx::query(
            "INSERT INTO passage_leg (passage_id, crossing_id, traveller_id, state, seat, remark)
             SELECT $1, crossing_id, $2, 'open', 'S1', '' FROM unnest($3::int[]) AS crossing_id",
        )
        .bind(passage)
        .bind(traveller)
        .bind(&crossings)
        .execute(&mut *transaction)
        .await?;
        Ok(transaction.commit().await?)
    }

    async fn scan(&mut self, connection: &mut PgConnection) -> Result<()> {
        let leg = self.rng.below(600_000) as i64 + 1;
        let mut transaction = connection.begin().await?;
        sqlx::query("INSERT INTO gate_scan (passage_leg_id, gate, scanned_at) VALUES ($1, $2, now())")
            .bind(leg)
            .bind(format!("G{}", self.rng.below(12)))
            .execute(&mut *transaction)
            .await?;
        sqlx::query("UPDATE passage_leg SET boarded_at = now() WHERE passage_leg_id = $1")
            .bind(leg)
            .execute(&mut *transaction)
            .await?;
        Ok(transaction.commit().await?)
    }

    async fn list(&mut self, connection: &mut PgConnection) -> Result<()> {
        let any_state = self.stories.borrow().contains(&Story::GateList);
        let state = if any_state { ["boarded", "open", "missed"][self.rng.below(3)] } else { "waiting" };
        sqlx::query("SELECT passage_leg_id, traveller_id, seat, boarded_at FROM passage_leg WHERE crossing_id = $1 AND state = $2")
            .bind(self.rng.below(6000) as i32 + 1)
            .bind(state)
            .fetch_all(connection)
            .await?;
        Ok(())
    }

    async fn reserve(&mut self, connection: &mut PgConnection) -> Result<()> {
        // Everybody wants the deck of the next crossings, so planners meet at the same rows.
        let slot = self.rng.below(6) as i32 + 1;
        let mut transaction = connection.begin().await?;
        sqlx::query(
            "UPDATE vehicle_slot SET free_metres = 80 - $2::int % 60, changed_at = now() WHERE vehicle_slot_id = $1",
        )
        .bind(slot)
        .bind(self.rng.below(60) as i32)
        .execute(&mut *transaction)
        .await?;
        sqlx::query("SELECT sum(free_metres) FROM vehicle_slot WHERE crossing_id = $1")
            .bind(slot)
            .fetch_all(&mut *transaction)
            .await?;
        if !self.pause.is_zero() {
            // The planner looks at the answer before agreeing to it.
            tokio::time::sleep(Duration::from_millis(40)).await;
        }
        Ok(transaction.commit().await?)
    }

    async fn show_departures(&mut self, connection: &mut PgConnection) -> Result<()> {
        let harbour = self.rng.below(24) as i32 + 1;
        sqlx::query(
            "SELECT c.crossing_id, c.departs_at, h.name FROM crossing c JOIN harbour h ON h.harbour_id = c.to_harbour_id
             WHERE c.departs_at BETWEEN now() AND now() + interval '6 hours' ORDER BY c.departs_at",
        )
        .fetch_all(&mut *connection)
        .await?;
        sqlx::query("UPDATE pier_board SET message = $2, changed_at = now() WHERE harbour_id = $1")
            .bind(harbour)
            .bind("All crossings on time")
            .execute(&mut *connection)
            .await?;
        sqlx::query("INSERT INTO tide_reading (harbour_id, read_at, level_cm) VALUES ($1, now(), $2)")
            .bind(harbour)
            .bind(self.rng.below(400) as i32)
            .execute(&mut *connection)
            .await?;
        // The newest only, so that it costs the same however much has been read.
        sqlx::query("SELECT read_at, level_cm FROM tide_reading WHERE harbour_id = $1 ORDER BY read_at DESC LIMIT 12")
            .bind(harbour)
            .fetch_all(&mut *connection)
            .await?;
        Ok(())
    }

    async fn add_up(&mut self, connection: &mut PgConnection) -> Result<()> {
        connection
            .execute(
                "SELECT channel, traveller_id, sum(fare) FROM passage WHERE booked_at > now() - interval '7 days'
                 GROUP BY channel, traveller_id ORDER BY 3 DESC LIMIT 20",
            )
            .await?;
        // Crossings without a slot on the lower decks. With enough memory the slots are hashed once; with too little they
        // are gone through again for each crossing.
        connection
            .execute(
                "SELECT vessel_id, count(*) FROM crossing WHERE departs_at > now() - interval '2 days'
                 AND crossing_id NOT IN (SELECT crossing_id FROM vehicle_slot WHERE deck_id <= 18) GROUP BY vessel_id",
            )
            .await?;
        Ok(())
    }
}

/// Numbers that look random, the same for the same seed: xorshift64*.
#[derive(Debug)]
struct Rng(u64);

impl Rng {
    fn below(&mut self, below: usize) -> usize {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        (self.0.wrapping_mul(0x2545_f491_4f6c_dd1d) >> 33) as usize % below
    }
}

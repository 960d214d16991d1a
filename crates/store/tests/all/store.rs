//! The repository against a real PostgreSQL that each test starts for itself.

use anyhow::Result;
use hurnix_cluster::{Cluster, Setup};
use hurnix_core::access::role::Role;
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::{Days, Retention, RetentionGroup};
use hurnix_core::readings::activity::Session;
use hurnix_core::readings::counters::{Counters, StatementCounters};
use hurnix_core::{Timestamp, WaitKind, Window};
use hurnix_store::*;
use sqlx::Executor;

pub const GROUPS: [RetentionGroup; 2] = [RetentionGroup::Statements, RetentionGroup::Activity];
pub const DAYS: Days = Days { fine: 2, ten_minutes: 14, hour: 100 };

pub struct Repository {
    pub store: Store,
    pub cluster: Cluster,
    pub instance: i32,
}

pub async fn repository() -> Result<Repository> {
    let cluster = Cluster::temporary(Setup::default())?;
    cluster.ensure_database("hurnix").await?;
    let store = Store::open(&cluster.url("hurnix"), Retention::of_all(DAYS)).await?;
    let instance = store.add_instance(&new_instance("passage-a")).await?;
    Ok(Repository { store, cluster, instance })
}

pub fn new_instance(label: &str) -> NewInstance {
    NewInstance {
        label: label.into(),
        host: "127.0.0.1".into(),
        port: 5432,
        database_name: "passage".into(),
        account_name: "hurnix_watch".into(),
        secret_sealed: vec![1, 2, 3],
        tls_mode: "off".into(),
        ..NewInstance::default()
    }
}

/// The edge of an hour.
pub const START: i64 = 1_771_999_200;

/// So many seconds after the start of all tests.
pub fn second(second: i64) -> Timestamp {
    Timestamp((START + second) * 1_000_000)
}

pub fn window(from: i64, to: i64) -> Window {
    Window::new(second(from), second(to)).unwrap()
}

pub fn cost(calls: i64, exec_us: i64) -> StatementCounters {
    StatementCounters { calls, exec_us, rows: calls * 3, hit_pages: calls * 5, ..Default::default() }
}

impl Repository {
    /// What answers a window as it was read.
    pub async fn fine(&self, from: i64, to: i64) -> Result<Pieces> {
        self.pieces(window(from, to), Detail::Fine).await
    }

    pub async fn pieces(&self, window: Window, coarsest: Detail) -> Result<Pieces> {
        Ok(self.store.pieces(self.instance, &GROUPS, window, coarsest, window.to).await?)
    }

    pub async fn totals(&self, pieces: &Pieces) -> Result<StatementCounters> {
        Ok(self.store.statements(self.instance, pieces, &all()).await?.1.counters)
    }

    pub async fn family(&self, text: &str) -> Result<i64> {
        let family = NewFamily {
            fingerprint: hurnix_core::readings::family::fold(text).fingerprint(),
            text: text.into(),
            tag: None,
            sample: text.into(),
            sample_is_the_servers: true,
        };
        Ok(self.store.families(self.instance, std::slice::from_ref(&family), second(0)).await?[&family.fingerprint])
    }

    /// Writes a period of ten seconds that ends at `to`.
    pub async fn period(&self, to: i64, rows: &[(i64, StatementCounters)]) -> Result<bool> {
        self.period_in("passage", to, rows).await
    }

    pub async fn period_in(&self, database: &str, to: i64, rows: &[(i64, StatementCounters)]) -> Result<bool> {
        let names = self.store.names(self.instance, &["desk".into(), database.into()], second(0)).await?;
        let rows: Vec<_> = rows
            .iter()
            .map(|(family_id, by)| PeriodRow {
                object: StatementObject {
                    family_id: *family_id,
                    account_id: names["desk"],
                    database_id: names[database],
                },
                by: *by,
                lower_bound: false,
            })
            .collect();
        Ok(self
            .store
            .write_snapshot(self.instance, &snapshot(to, Ok(Period { from: second(to - 10), rows: &rows })))
            .await?)
    }
}

type Written<'a> = WrittenSnapshot<'a, StatementObject, StatementCounters, String>;

pub fn snapshot<'a>(to: i64, period: Result<Period<'a, StatementObject, StatementCounters>, &'a str>) -> Written<'a> {
    static AS_READ: std::sync::OnceLock<String> = std::sync::OnceLock::new();
    WrittenSnapshot {
        taken_at: second(to),
        read_ms: 1.5,
        server_started_at: second(-1000),
        reset_at: None,
        period,
        as_read: AS_READ.get_or_init(|| "as read".into()),
    }
}

pub fn all() -> StatementQuery {
    StatementQuery::costliest(100)
}

#[tokio::test]
async fn a_window_is_the_sum_of_its_periods_and_splits_into_them() -> Result<()> {
    let repository = repository().await?;
    let leg = repository.family("select ? from passage_leg").await?;
    let deck = repository.family("select ? from deck").await?;
    repository.period(10, &[(leg, cost(4, 400)), (deck, cost(1, 7))]).await?;
    repository.period(20, &[(leg, cost(6, 500))]).await?;
    repository.period(30, &[(leg, cost(5, 100)), (deck, cost(2, 9))]).await?;

    let totals = async |from, to| repository.totals(&repository.fine(from, to).await?).await;
    assert_eq!(totals(0, 30).await?, cost(18, 1016));
    assert_eq!(totals(0, 20).await?.plus(&totals(20, 30).await?), totals(0, 30).await?);
    assert_eq!(totals(10, 30).await?, cost(13, 609), "the period that ended where the window begins is not in it");

    let coverage = repository.store.coverage(repository.instance, &repository.fine(10, 30).await?).await?;
    assert_eq!(
        (coverage.from, coverage.to, coverage.seconds, coverage.periods),
        (Some(second(10)), Some(second(30)), 20.0, 2)
    );

    let series = repository.store.family_series(repository.instance, &repository.fine(0, 30).await?, 10, None).await?;
    let calls: Vec<i64> = series[&deck].iter().map(|bucket| bucket.calls).collect();
    assert_eq!(calls, [1, 0, 2], "an observed bucket without calls is a zero");
    let (seconds, exec_us) =
        (series[&deck].iter().map(|one| one.seconds), series.values().flatten().map(|one| one.exec_us));
    assert_eq!((seconds.sum::<f64>(), exec_us.sum::<i64>()), (30.0, 1016));
    Ok(())
}

#[tokio::test]
async fn statements_are_those_within_the_bounds_of_every_figure() -> Result<()> {
    use std::ops::Bound::{Excluded, Included, Unbounded};
    let repository = repository().await?;
    let leg = repository.family("select ? from passage_leg").await?;
    let deck = repository.family("select ? from deck").await?;
    // 10 calls in 0.02 s, 2 ms each; 4 calls in 0.4 s, 100 ms each.
    repository.period(10, &[(leg, cost(10, 20_000)), (deck, cost(4, 400_000))]).await?;
    let pieces = repository.fine(0, 10).await?;
    let found = async |bounds: &[(StatementOrder, _)]| {
        let query = StatementQuery { bounds: bounds.into(), ..all() };
        let (rows, totals) = repository.store.statements(repository.instance, &pieces, &query).await?;
        assert_eq!((rows.len() as i64, totals.counters.calls), (totals.matching, 14), "totals are of all");
        anyhow::Ok(rows.iter().map(|row| row.family_id).collect::<Vec<_>>())
    };
    assert_eq!(found(&[]).await?, [deck, leg]);
    assert_eq!(found(&[(StatementOrder::Calls, (Excluded(4.0), Unbounded))]).await?, [leg]);
    assert_eq!(found(&[(StatementOrder::Calls, (Included(4.0), Included(10.0)))]).await?, [deck, leg]);
    assert_eq!(found(&[(StatementOrder::Time, (Included(0.4), Unbounded))]).await?, [deck], "in seconds");
    assert_eq!(found(&[(StatementOrder::Mean, (Unbounded, Excluded(100.0)))]).await?, [leg], "in milliseconds");
    let both =
        [(StatementOrder::Mean, (Included(2.0), Unbounded)), (StatementOrder::Calls, (Unbounded, Included(4.0)))];
    assert_eq!(found(&both).await?, [deck]);
    Ok(())
}

#[tokio::test]
async fn writing_a_snapshot_twice_changes_nothing() -> Result<()> {
    let repository = repository().await?;
    let leg = repository.family("select ? from passage_leg").await?;
    assert!(repository.period(10, &[(leg, cost(4, 400))]).await?);
    assert!(!repository.period(10, &[(leg, cost(4, 400))]).await?);
    let (rows, totals) =
        repository.store.statements(repository.instance, &repository.fine(0, 10).await?, &all()).await?;
    assert_eq!((rows.len(), totals.counters), (1, cost(4, 400)));
    let mut admin = repository.cluster.connect("hurnix").await?;
    let kept: Vec<Vec<u8>> = sqlx::query_scalar("SELECT payload FROM last_read").fetch_all(&mut admin).await?;
    assert_eq!(kept, [postcard::to_stdvec("as read")?]);
    Ok(())
}

#[tokio::test]
async fn half_a_snapshot_is_never_seen() -> Result<()> {
    let repository = repository().await?;
    let leg = repository.family("select ? from passage_leg").await?;
    // The rows are refused after the snapshot itself was accepted.
    let mut admin = repository.cluster.connect("hurnix").await?;
    admin.execute("ALTER TABLE statement_period ADD CHECK (1000 > ALL (calls))").await?;
    assert!(repository.period(10, &[(leg, cost(1, 1)), (leg, cost(5000, 1))]).await.is_err());
    let coverage = repository.store.coverage(repository.instance, &repository.fine(0, 10).await?).await?;
    assert_eq!(coverage.periods, 0);
    assert!(repository.period(10, &[(leg, cost(1, 1))]).await?, "the same snapshot can still be written");
    Ok(())
}

#[tokio::test]
async fn a_period_that_does_not_follow_the_newest_snapshot_is_refused() -> Result<()> {
    let repository = repository().await?;
    let leg = repository.family("select ? from passage_leg").await?;
    repository.period(10, &[(leg, cost(1, 1))]).await?;
    // Two processes read the same instance: only one of the two periods after the first snapshot counts.
    repository.period(20, &[(leg, cost(2, 2))]).await?;
    let rows = [];
    let late = snapshot(24, Ok(Period { from: second(10), rows: &rows }));
    let refused = repository.store.write_snapshot(repository.instance, &late).await;
    assert!(matches!(refused, Err(StoreProblem::Overtaken)), "{refused:?}");
    assert_eq!(repository.store.coverage(repository.instance, &repository.fine(0, 30).await?).await?.seconds, 20.0);
    Ok(())
}

#[tokio::test]
async fn a_reading_without_difference_keeps_its_reason() -> Result<()> {
    let repository = repository().await?;
    repository.store.write_snapshot(repository.instance, &snapshot(10, Err("restarted: …"))).await?;
    let coverage = repository.store.coverage(repository.instance, &repository.fine(0, 10).await?).await?;
    assert_eq!(coverage.without, [(second(10), "restarted: …".to_owned())]);
    assert_eq!((coverage.periods, coverage.from), (0, None));
    Ok(())
}

#[tokio::test]
async fn statements_are_sorted_filtered_and_paged_by_the_server() -> Result<()> {
    let repository = repository().await?;
    let mut rows = Vec::new();
    for n in 0..30 {
        rows.push((repository.family(&format!("select col_{n:02} from deck")).await?, cost(30 - n, (n + 1) * 10)));
    }
    rows.push((repository.family("select '100%' as share").await?, cost(1, 1)));
    repository.period(10, &rows).await?;
    let pieces = repository.fine(0, 10).await?;
    let list = async |change: fn(&mut StatementQuery)| {
        let mut query = all();
        change(&mut query);
        repository.store.statements(repository.instance, &pieces, &query).await
    };

    let (by_time, totals) = list(|query| query.limit = 5).await?;
    assert_eq!((by_time.len(), totals.matching), (5, 31));
    assert_eq!(by_time[0].text, "select col_29 from deck");
    let (by_calls, _) = list(|query| (query.order, query.limit, query.offset) = (StatementOrder::Calls, 5, 5)).await?;
    assert_eq!(by_calls[0].text, "select col_05 from deck");
    let (by_text, _) = list(|query| (query.order, query.descending) = (StatementOrder::Text, false)).await?;
    assert_eq!(by_text[0].text, "select '100%' as share");

    let (found, totals) = list(|query| query.search = Some("COL_2".into())).await?;
    assert_eq!((found.len(), totals.matching), (10, 10));
    assert_eq!(totals.counters.calls, rows.iter().map(|(_, cost)| cost.calls).sum::<i64>(), "totals are of all");
    // Signs of patterns are found as they stand.
    assert_eq!(list(|query| query.search = Some("0%".into())).await?.0.len(), 1);
    assert_eq!(list(|query| query.search = Some("l_ ".into())).await?.0.len(), 0);
    assert_eq!(list(|query| query.search = Some("'; DROP TABLE family; --".into())).await?.0.len(), 0);
    Ok(())
}

pub fn session(process: i32, wait_kind: Option<WaitKind>) -> Session {
    Session {
        process,
        started_at: second(-50),
        wait_kind,
        statement_started_at: Some(second(0)),
        blocked_by: if wait_kind == Some(WaitKind::Lock) { vec![7, 8] } else { vec![] },
        ..Session::default()
    }
}

#[tokio::test]
async fn load_counts_the_busy_over_the_samples_and_parts_add_up() -> Result<()> {
    let repository = repository().await?;
    let leg = repository.family("select ? from passage_leg").await?;
    let name = repository.store.names(repository.instance, &["gate".into()], second(0)).await?["gate"];
    let row = |session, family_id| ActivityRow {
        session,
        event_id: None,
        family_id,
        account_id: name,
        program_id: name,
        client_id: name,
        database_id: name,
        awaited: None,
    };
    let (running, waiting, holding) =
        (session(1, Some(WaitKind::Running)), session(2, Some(WaitKind::Lock)), session(3, None));
    let samples = vec![
        (second(1), 5, vec![row(&running, Some(leg)), row(&waiting, None), row(&holding, None)]),
        (second(2), 5, vec![row(&running, Some(leg))]),
        (second(10), 5, vec![]),
        (second(11), 5, vec![row(&waiting, None)]),
    ];
    repository.store.write_activity(repository.instance, &samples).await?;
    // Once more, as after an answer that was lost: nothing doubles.
    repository.store.write_activity(repository.instance, &samples).await?;

    let pieces = repository.fine(0, 30).await?;
    let cells = repository.store.load(repository.instance, &pieces, 10, &[]).await?;
    assert_eq!(cells.len(), 2, "cells without samples are left out, not zero");
    assert_eq!(cells[0].load.samples, 3);
    assert_eq!(cells[0].load.busy_in_all(), 3, "who only holds a transaction open is not busy");
    assert_eq!(cells[0].load.mean(WaitKind::Lock), Some(1.0 / 3.0));
    let of_family = repository
        .store
        .load(repository.instance, &pieces, 10, &[OnlyPart { dimension: Dimension::Family, part: Some(leg) }])
        .await?;
    assert_eq!(of_family[0].load.busy_in_all(), 2);

    let parts = repository.store.breakdown(repository.instance, &pieces, Dimension::Family, &[], 10).await?.parts;
    let busy: Vec<(Option<i64>, i64)> = parts.iter().map(|part| (part.part, part.load.busy_in_all())).collect();
    assert_eq!(busy.iter().map(|(_, busy)| busy).sum::<i64>(), 4);
    assert!(busy.contains(&(Some(leg), 2)) && busy.contains(&(None, 2)));
    assert_eq!(parts[0].load.samples, 4);

    // Parts over time add up to what they are in all; narrowed to one, nothing else is left.
    let by_cell = async |parts: &[Option<i64>], only: &[OnlyPart]| {
        let found = repository.store.busy_by_cell(repository.instance, &pieces, 10, Dimension::Family, parts, only);
        found.await.map(|cells| cells.values().sum::<i64>())
    };
    let family = |part| OnlyPart { dimension: Dimension::Family, part };
    assert_eq!(by_cell(&[Some(leg), None], &[]).await?, 4);
    assert_eq!(by_cell(&[None], &[]).await?, 2);
    assert_eq!(by_cell(&[Some(leg), None], &[family(Some(leg))]).await?, 2);
    assert_eq!(by_cell(&[Some(leg), None], &[family(Some(leg)), family(None)]).await?, 4, "each of several counts");
    let window = Window { from: second(0), to: second(30) };
    let (looks, seen) = repository.store.seen_waiting(repository.instance, window, &[], 10).await?;
    assert_eq!((looks.len(), seen.iter().map(|one| one.at).collect::<Vec<_>>()), (4, vec![second(1), second(11)]));
    assert_eq!(repository.store.seen_waiting(repository.instance, window, &[], 1).await?.1.len(), 1);
    let split =
        repository.store.breakdown(repository.instance, &pieces, Dimension::Account, &[family(None)], 1).await?;
    assert_eq!(split.parts.iter().map(|part| part.load.busy_in_all()).sum::<i64>(), 2);
    Ok(())
}

#[tokio::test]
async fn two_databases_with_one_schema_do_not_mix() -> Result<()> {
    let repository = repository().await?;
    let (store, instance) = (&repository.store, repository.instance);
    let (leg, archived) = (repository.family("select leg").await?, repository.family("select archived").await?);
    repository.period_in("passage", 10, &[(leg, cost(4, 400))]).await?;
    repository.period_in("archive", 20, &[(leg, cost(9, 90_000)), (archived, cost(7, 7_000))]).await?;
    let pieces = repository.fine(0, 20).await?;
    for (database, of_leg, of_archived) in [("passage", 4, 0), ("archive", 9, 7)] {
        let number = store.name_id(instance, database).await?.unwrap();
        let sums = store.family_sums(instance, &pieces, Some(number)).await?;
        let calls = |family| sums.get(&family).map_or(0, |sum: &StatementCounters| sum.calls);
        assert_eq!((calls(leg), calls(archived)), (of_leg, of_archived), "{database}");
        let series = store.family_series(instance, &pieces, 10, Some(number)).await?;
        let calls = |family| series.get(&family).map_or(0, |all| all.iter().map(|one| one.calls).sum());
        assert_eq!((calls(leg), calls(archived)), (of_leg, of_archived), "{database}");
    }
    // The connection is to the database passage: what ran elsewhere alone is not planned there.
    let wanted = store.families_without_plan(instance, window(0, 20), second(0), 9).await?;
    assert_eq!(wanted.into_iter().map(|(family, _)| family).collect::<Vec<_>>(), [leg]);
    Ok(())
}

#[tokio::test]
async fn sessions_end_and_labels_and_names_are_taken_once() -> Result<()> {
    let repository = repository().await?;
    let store = &repository.store;
    assert!(matches!(store.add_instance(&new_instance("passage-a")).await, Err(StoreProblem::Taken { .. })));
    let groups = ["sea".to_owned()];
    let new = |name, role, groups| NewAccount { name, role, password_hash: "hash", one_time: true, groups };
    let admin = store.add_account(&new("admin", Role::Administrator, &[])).await?;
    let again = store.add_account(&new("admin", Role::Reader, &[])).await;
    assert!(matches!(again, Err(StoreProblem::Taken { .. })));
    let begin = async |account_id, token_hash: &'static [u8], expires_at| {
        let (csrf_token, client, program) = ("csrf", "192.0.2.7", "a browser");
        store.begin_session(&NewSession { account_id, token_hash, csrf_token, client, program, expires_at }).await
    };
    let never = Timestamp(4_000_000_000_000_000);
    begin(admin, b"over", second(0)).await?;
    assert_eq!(store.caller_by_session(b"over").await?, None, "a session that ended is none");
    let session_id = begin(admin, b"on", never).await?;
    assert_eq!(store.caller_by_session(b"on").await?.expect("it goes on").name, "admin");
    assert!(store.is_known_client("admin", "192.0.2.7").await?);
    assert!(!store.is_known_client("admin", "192.0.2.8").await?);

    // The only administrator stays one, also when two are taken away at once.
    assert!(matches!(store.remove_account(admin).await, Err(StoreProblem::LastAdministrator)));
    assert!(matches!(store.change_account(admin, Role::Tuner, &[]).await, Err(StoreProblem::LastAdministrator)));
    let second = store.add_account(&new("second", Role::Administrator, &[])).await?;
    let both = tokio::join!(store.remove_account(admin), store.change_account(second, Role::Reader, &groups));
    assert!(both.0.is_ok() != both.1.is_ok(), "{both:?}");
    assert_eq!(store.accounts().await?.iter().filter(|(account, _)| account.role == Role::Administrator).count(), 1);

    // A token may what both it and its account may, and goes with it.
    let limited = store.add_account(&new("limited", Role::Tuner, &groups)).await?;
    store.add_token(limited, "nightly", Role::Administrator, b"token", never).await?;
    store.add_token(limited, "old", Role::Reader, b"old", Timestamp(0)).await?;
    let caller = store.caller_by_token(b"token").await?.expect("it opens");
    assert_eq!((caller.role, &caller.means), (Role::Tuner, &Means::Token("nightly".into())));
    assert_eq!([None, Some("shore"), Some("sea")].map(|group| caller.sees(group)), [false, false, true]);
    assert_eq!(store.caller_by_token(b"old").await?, None, "a token that ended opens nothing");
    let taken = store.add_token(limited, "old", Role::Reader, b"another", never).await;
    assert!(matches!(taken, Err(StoreProblem::Taken { .. })));
    store.remove_account(limited).await?;
    assert_eq!(store.caller_by_token(b"token").await?, None);

    // Another password ends all sessions but one; a session ends by its account's hand only.
    let third = store.add_account(&new("third", Role::Reader, &[])).await?;
    let kept = begin(third, b"kept", never).await?;
    begin(third, b"elsewhere", never).await?;
    assert!(!store.end_session(third, session_id).await?);
    store.set_password(third, "another hash", false, Some(kept)).await?;
    let left: Vec<i32> = store.sessions(third).await?.into_iter().map(|session| session.session_id).collect();
    assert_eq!(left, [kept]);
    assert!(store.end_session(third, kept).await?);
    assert_eq!(store.caller_by_session(b"kept").await?, None);
    Ok(())
}

#[tokio::test]
async fn settings_are_kept_when_they_change() -> Result<()> {
    let repository = repository().await?;
    let setting = |value: &str| SettingRow {
        name: "work_mem".into(),
        value: Some(value.into()),
        unit: Some("kB".into()),
        source: "configuration file".into(),
        pending_restart: false,
    };
    let write = async |at, value: &str| {
        repository.store.write_settings(repository.instance, second(at), &[setting(value)]).await
    };
    assert_eq!(write(0, "4096").await?, []);
    assert_eq!(write(60, "4096").await?, []);
    assert_eq!(write(120, "64").await?, [("work_mem".to_owned(), Some("4096".to_owned()), Some("64".to_owned()))]);
    Ok(())
}

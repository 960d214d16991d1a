//! Laws of simulated servers, whatever their model.

use hurnix_core::findings::hold_up::{Look, Party, SessionKey, Tree, Who};
use hurnix_core::readings::activity::Session;
use hurnix_core::readings::counters::{Counters, StatementCounters};
use hurnix_core::readings::difference::between;
use hurnix_core::readings::figures::{Figures, Shape as FiguresShape};
use hurnix_core::{Timestamp, WaitKind};
use hurnix_source::simulated::{
    Connections, Cost, Event, FamilyModel, Happening, HoldUp, Host, How, IndexModel, Model, Shape, SimulatedSource,
    Stand, TableModel, Touch,
};
use hurnix_source::{ReadCounters, Source};
use proptest::prelude::*;
use tokio::runtime::Runtime;

const BEGAN: Timestamp = Timestamp(1_795_608_000_000_000);

fn model(seed: u64, per_second: f64, ms: f64) -> Model {
    let index = IndexModel {
        name: "deck_pkey".into(),
        keys: vec!["deck_id".into()],
        unique: true,
        constraint: true,
        entry_bytes: 20.0,
    };
    Model {
        seed,
        began_at: BEGAN,
        version: "15.8".into(),
        databases: vec!["passage".into()],
        tables: vec![TableModel {
            name: "deck".into(),
            rows: 1e5,
            row_bytes: 90.0,
            columns: vec![("deck_id".into(), "integer".into(), -1.0)],
            indexes: vec![index],
        }],
        families: vec![FamilyModel {
            text: "SELECT metres FROM deck WHERE deck_id = $1".into(),
            variants: 3,
            account: "skerry_deck".into(),
            program: "deck planner".into(),
            client: "10.1.1.1".into(),
            database: 0,
            shape: Shape::steady(),
            per_second,
            cost: Cost { ms, rows: 1.0, hit_pages: 4.0, ..Cost::default() },
            waits: vec![(WaitKind::StorageRead, "IO:DataFileRead".into(), 0.25)],
            touches: vec![
                Touch { table: 0, how: How::ReadBy(0), rows: 1.0 },
                Touch { table: 0, how: How::Update, rows: 1.0 },
            ],
            plan: String::new(),
        }],
        settings: Vec::new(),
        connections: Connections { kept: 10, per_second: 1.0, seconds: 2.0, allowed: 100 },
        host: Host { cpus: 4, memory_bytes: 1e9, volume_bytes: 1e11, other_bytes: 1e10, watts: (50.0, 10.0) },
        lag: None,
        transactions_per_second: 5.0,
        events: Vec::new(),
    }
}

/// Everything that is counted, at a moment.
fn counted(runtime: &Runtime, source: &mut SimulatedSource, at: Timestamp) -> Vec<i64> {
    source.move_to(at);
    runtime.block_on(async {
        let mut all = Vec::new();
        macro_rules! sums {
            ($($kind:ident $stem:literal $object:literal $key:ty, $counters:ty;)+) => {$(
                if let Some(read) = source.read::<$counters>().await.unwrap() {
                    all.extend(read.rows.iter().fold(<$counters>::default(), |sum, (_, by)| sum.plus(by)).values());
                }
            )+};
        }
        hurnix_core::all_counters!(sums);
        for figures in Figures::of_shape(FiguresShape::Measures) {
            if let Some(reading) = source.measures(figures).await.unwrap() {
                all.extend(reading.counted.rows.iter().map(|(_, counters)| counters.counted));
            }
        }
        all
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    #[test]
    fn counters_hang_on_the_moment_alone_and_never_go_down(
        seed in any::<u64>(),
        mut seconds in proptest::collection::vec(1u32..20_000, 1..12),
    ) {
        let runtime = Runtime::new().unwrap();
        seconds.sort_unstable();
        let mut stepped = SimulatedSource::stopped(model(seed, 7.0, 4.0));
        let mut before: Vec<i64> = Vec::new();
        for second in &seconds {
            let now = counted(&runtime, &mut stepped, BEGAN.plus_seconds(f64::from(*second)));
            prop_assert!(before.iter().zip(&now).all(|(then, now)| now >= then), "{before:?} {now:?}");
            before = now;
        }
        let mut at_once = SimulatedSource::stopped(model(seed, 7.0, 4.0));
        let last = BEGAN.plus_seconds(f64::from(*seconds.last().unwrap()));
        prop_assert_eq!(before, counted(&runtime, &mut at_once, last));
    }

    #[test]
    fn what_is_sampled_is_what_is_counted(seed in any::<u64>(), per_second in 1.0f64..40.0, ms in 5.0f64..200.0) {
        let runtime = Runtime::new().unwrap();
        let mut source = SimulatedSource::stopped(model(seed, per_second, ms));
        let (mut busy, mut storage) = (0, 0);
        let samples = 3000;
        for second in 0..samples {
            source.move_to(BEGAN.plus_seconds(f64::from(second) * 2.0));
            let sample = runtime.block_on(source.activity()).unwrap();
            busy += sample.active.len();
            storage += sample.active.iter().filter(|session| session.wait_kind == Some(WaitKind::StorageRead)).count();
        }
        let counted = counted(&runtime, &mut source, BEGAN.plus_seconds(f64::from(samples) * 2.0));
        let by_counters = counted[1] as f64 / 1e6 / (f64::from(samples) * 2.0);
        let by_samples = busy as f64 / f64::from(samples);
        // Five standard errors of what chance does to the samples, and what minutes differ by.
        let tolerance = 5.0 * (by_counters / f64::from(samples)).sqrt() + 0.05 * by_counters;
        prop_assert!((by_samples - by_counters).abs() < tolerance, "{by_samples} sampled, {by_counters} counted");
        prop_assert!((storage as f64 / busy.max(1) as f64 - 0.25).abs() < 5.0 * (0.1875 / busy.max(1) as f64).sqrt() + 0.02);
    }
}

#[test]
fn variants_of_a_text_add_up_to_its_family() {
    let runtime = Runtime::new().unwrap();
    let mut source = SimulatedSource::stopped(model(3, 7.0, 4.0));
    runtime.block_on(async {
        source.move_to(BEGAN.plus_seconds(61.0));
        let first = source.counters(Figures::Statements).await.unwrap().unwrap();
        assert_eq!((first.texts.len(), first.of::<StatementCounters>().unwrap().rows.len()), (3, 3));
        source.move_to(BEGAN.plus_seconds(600.0));
        let second = source.counters(Figures::Statements).await.unwrap().unwrap();
        assert!(second.texts.is_empty(), "told once");
        let difference =
            between(first.of::<StatementCounters>().unwrap(), second.of::<StatementCounters>().unwrap(), 1e9).unwrap();
        let calls: i64 = difference.rows.iter().map(|row| row.by.calls).sum();
        assert!((calls as f64 / (539.0 * 7.0) - 1.0).abs() < 0.15, "{calls}");
    });
}

/// A vacuum of an hour, and a hold-up of five in it.
fn busy_hour() -> Model {
    held_up(Stand::InLine)
}

fn held_up(stand: Stand) -> Model {
    let minutes = |minutes: f64| BEGAN.plus_seconds(minutes * 60.0);
    let hold_up = HoldUp {
        family: 0,
        table: 0,
        waiters: 5,
        arrival_seconds: 1.0,
        account: "skerry_supervisor".into(),
        program: "gate desk".into(),
        text: "SELECT FROM deck FOR UPDATE".into(),
        stand,
    };
    let event = |from, to, what| Event { at: minutes(from), until: Some(minutes(to)), what };
    let events =
        vec![event(60.0, 120.0, Happening::Vacuum { table: 0 }), event(90.0, 100.0, Happening::HoldUp(hold_up))];
    Model { events, ..model(5, 20.0, 50.0) }
}

#[test]
fn a_long_vacuum_goes_forward_until_it_is_over() {
    let runtime = Runtime::new().unwrap();
    let mut source = SimulatedSource::stopped(busy_hour());
    let mut operations = |minutes: f64| {
        source.move_to(BEGAN.plus_seconds(minutes * 60.0));
        runtime.block_on(source.operations()).unwrap()
    };
    assert_eq!(operations(59.0).operations, []);
    let mut done = -1.0;
    for minute in 61..119 {
        let now = operations(f64::from(minute));
        let [vacuum] = now.operations.as_slice() else { panic!("one goes on: {now:?}") };
        let share = vacuum.done / vacuum.total.unwrap();
        assert!(vacuum.done >= done && (share - f64::from(minute - 60) / 60.0).abs() < 0.02, "{minute}: {vacuum:?}");
        assert_eq!((now.workers.0, now.tables.len()), (1, 1));
        done = vacuum.done;
    }
    assert_eq!(operations(121.0).operations, []);
}

#[test]
fn locks_are_held_by_whoever_others_wait_for() {
    let runtime = Runtime::new().unwrap();
    let mut source = SimulatedSource::stopped(busy_hour());
    source.move_to(BEGAN.plus_seconds(95.0 * 60.0));
    let locks = runtime.block_on(source.held_locks("DECK", 500)).unwrap();
    assert_eq!(locks.count, locks.locks.len() as i64);
    assert_eq!(
        (locks.locks[0].waiting, locks.locks[0].is_held),
        (4, true),
        "what most wait for comes first: {locks:?}"
    );
    let held = locks.locks.iter().find(|lock| lock.program == "gate desk" && lock.kind == "transactionid").unwrap();
    assert_eq!((held.is_idle, held.is_held, held.waiting), (true, true, 1), "{locks:?}");
    assert_eq!(locks.locks.iter().filter(|lock| !lock.is_held).count(), 5);
    assert_eq!(runtime.block_on(source.held_locks("pier", 500)).unwrap().locks, []);
    assert_eq!(runtime.block_on(source.held_locks("", 2)).unwrap().locks.len(), 2);
}

#[test]
fn those_held_up_stand_in_line_in_a_chain_or_behind_a_change() {
    let runtime = Runtime::new().unwrap();
    for (stand, depths, queued) in
        [(Stand::InLine, [1; 5], 0), (Stand::InChain, [1, 2, 3, 4, 5], 0), (Stand::BehindChange, [1; 5], 4)]
    {
        let mut source = SimulatedSource::stopped(held_up(stand));
        source.move_to(BEGAN.plus_seconds(95.0 * 60.0));
        let sample = runtime.block_on(source.activity()).unwrap();
        let party = |session: &Session| Party {
            session: SessionKey { process: session.process, started_at: session.started_at },
            who: Who::default(),
            is_idle: session.wait_kind.is_none(),
            transaction_started_at: session.transaction_started_at,
            statement_started_at: session.statement_started_at,
            family: None,
            blocked_by: session.blocked_by.clone(),
            awaited: session.awaited.clone(),
        };
        let concerned =
            sample.active.iter().filter(|session| !session.blocked_by.is_empty() || session.wait_kind.is_none());
        let look = Look::new(sample.at, 1.0, concerned.map(party).collect());
        let tree = Tree::of(look.parties());
        let mut told: Vec<usize> = tree.places.iter().flatten().map(|place| place.depth).collect();
        told.sort_unstable();
        assert_eq!(told, depths, "{stand:?}");
        assert_eq!(tree.places.iter().flatten().filter(|place| place.is_queued).count(), queued, "{stand:?}");
    }
}

//! Laws of simulated servers, whatever their model.

use hurnix_core::readings::counters::{Counters, StatementCounters};
use hurnix_core::readings::difference::between;
use hurnix_core::readings::figures::{Figures, Shape as FiguresShape};
use hurnix_core::{Timestamp, WaitKind};
use hurnix_source::simulated::{
    Connections, Cost, FamilyModel, Host, How, IndexModel, Model, Shape, SimulatedSource, TableModel, Touch,
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

//! What was found, kept in the repository: lasting changes, plans, advice.

use anyhow::Result;
use hurnix_core::WaitKind;
use hurnix_core::changes::advice::AdviceState;
use hurnix_core::findings::effect::{Effect, Verdict};
use hurnix_core::findings::lasting_change::{
    Bucket, FamilySeries, Interval, LastingChange, Look, Measured, Remembered, Side, Subject, Turnout,
};
use hurnix_core::readings::figures::Figures;
use hurnix_core::readings::metric::Metric;
use hurnix_store::*;
use serde_json::{from_value, json};

use crate::store::{cost, repository, second, session, window};

fn change(onset: i64, ratio: f64) -> LastingChange {
    let side = Side {
        typical: 1.0,
        quarter: 1.0,
        three_quarters: 1.0,
        calls_per_second: 1.0,
        rows_per_call: 1.0,
        pages_per_call: 1.0,
        seconds: 100.0,
    };
    LastingChange {
        onset: second(onset),
        onset_between: None,
        until: None,
        passed: false,
        ratio: Interval { value: ratio, low: ratio, high: ratio },
        before: side,
        after: side,
        from_time_per_call: 0.1,
        from_calls: 0.0,
        chance: 0.0,
    }
}

/// A look at the onsets within some seconds.
fn look(from: i64, to: i64, now: i64) -> Look {
    Look { tells: window(from, to), at: second(now), tolerance_seconds: 30.0, rounds: 1 }
}

fn of(family: i64, found: &[LastingChange]) -> Vec<(Subject, LastingChange)> {
    found.iter().map(|change| (Subject::of(Some(family), Measured::TimePerCall), change.clone())).collect()
}

#[tokio::test]
async fn what_the_list_of_instances_shows_is_noted_when_it_changes() -> Result<()> {
    let repository = repository().await?;
    let (store, id) = (&repository.store, repository.instance);
    let leg = repository.family("select ? from passage_leg").await?;
    let changed = async || anyhow::Ok(store.instance(id).await?.unwrap().shown_changed_at);
    let first = changed().await?;
    store.lease("quay-1", 60.0).await?;
    assert_eq!(changed().await?, first, "who collects it is not shown");
    store.note_connected(id, second(10), "15.8", &json!([])).await?;
    let connected = changed().await?;
    assert!(connected > first);
    let found =
        async |found: &[LastingChange]| store.write_changes(id, second(0), &look(0, 1000, 200), &of(leg, found)).await;
    // One that holds, one that is over, and one that is no slowdown.
    let over = LastingChange { until: Some(second(300)), ..change(100, 9.0) };
    found(&[change(100, 80.0), over, change(500, 0.1)]).await?;
    let judged = changed().await?;
    assert!(judged > connected);
    let holds = async || {
        let changes = store.changes(id, second(0), None, 10).await?;
        anyhow::Ok(changes.iter().filter(|row| row.asks() && row.kept.change.ratio.value > 1.0).count())
    };
    for _ in 0..12 {
        assert_eq!(holds().await?, 1, "one round says nothing");
        found(&[]).await?;
    }
    assert!(changed().await? > judged, "and is gone again");
    assert_eq!(holds().await?, 0);
    Ok(())
}

#[tokio::test]
async fn a_change_found_again_is_the_same_change() -> Result<()> {
    let repository = repository().await?;
    let leg = repository.family("select ? from passage_leg").await?;
    let write = async |now, drafts: &[LastingChange]| {
        repository.store.write_changes(repository.instance, second(0), &look(0, 1000, now), &of(leg, drafts)).await
    };
    write(200, &[change(100, 80.0)]).await?;
    let first = repository.store.family_changes(leg, 10).await?;
    write(300, &[change(110, 82.0), change(200, 0.01)]).await?;
    let second_time = repository.store.family_changes(leg, 10).await?;
    assert_eq!(second_time.len(), 2);
    assert_eq!(second_time[1].change_id, first[0].change_id);
    assert_eq!((second_time[1].found_at, second_time[1].kept.change.onset), (second(200), second(110)));
    let turnouts = |row: &ChangeRow| row.kept.story.iter().map(|entry| entry.turnout).collect::<Vec<_>>();
    assert_eq!(turnouts(&second_time[1]), [Turnout::Found]);

    // One round without it says nothing; after many it is withdrawn, which its family still tells.
    write(400, &[change(110, 82.0)]).await?;
    let listed = async || repository.store.changes(repository.instance, second(0), None, 10).await;
    assert_eq!(listed().await?.len(), 2);
    for round in 0..2 {
        write(500 + round, &[change(110, 82.0)]).await?;
    }
    assert_eq!(listed().await?.len(), 1);
    let rows = repository.store.family_changes(leg, 10).await?;
    let withdrawn: Vec<&ChangeRow> = rows.iter().filter(|row| row.kept.is_withdrawn()).collect();
    assert_eq!(turnouts(withdrawn[0]), [Turnout::Found, Turnout::Withdrawn]);
    // What is older than the window is kept as it is, and what was withdrawn before it is forgotten.
    repository.store.write_changes(repository.instance, second(900), &look(900, 1000, 990), &[]).await?;
    let rows = repository.store.family_changes(leg, 10).await?;
    assert_eq!((rows.len(), rows[0].kept.missed), (1, 0));
    Ok(())
}

#[tokio::test]
async fn changed_families_are_planned_first_and_then_the_costliest_without_a_fresh_plan() -> Result<()> {
    let repository = repository().await?;
    let (store, instance) = (&repository.store, repository.instance);
    let (cheap, dear, dearest) = (
        repository.family("select berth").await?,
        repository.family("select tide").await?,
        repository.family("select crossing").await?,
    );
    // Twenty more, each costlier than the cheap one: that is not among the costliest.
    let mut rows = vec![(cheap, cost(1, 10)), (dear, cost(1, 50_000)), (dearest, cost(1, 90_000))];
    for number in 0..20 {
        rows.push((repository.family(&format!("select buoy_{number} from chart")).await?, cost(1, 1000)));
    }
    repository.period(100, &rows).await?;
    let plan = async |family, at: i64| {
        let plan = Ok((7, "Seq Scan on berth".to_owned()));
        store
            .write_plan(family, &PlanRow { first_read_at: second(at), read_at: second(at), plan, database: None })
            .await
    };
    let wanted = async |stale_before: i64| {
        let wanted = store.families_without_plan(instance, window(0, 400), second(stale_before), 2).await?;
        anyhow::Ok(wanted.into_iter().map(|(family, _)| family).collect::<Vec<_>>())
    };
    assert_eq!(wanted(0).await?, [dearest, dear]);
    for (family, at) in [(dear, 150), (dearest, 160), (cheap, 170)] {
        plan(family, at).await?;
    }
    assert!(!wanted(0).await?.iter().any(|family| [cheap, dear, dearest].contains(family)), "theirs are fresh");

    // The cheap one changed after it was planned, however long before that the change began.
    let draft = of(cheap, &[change(-5000, 3.0)]);
    store.write_changes(instance, second(-6000), &look(-6000, 300, 300), &draft).await?;
    assert_eq!(wanted(0).await?[0], cheap);
    plan(cheap, 310).await?;
    assert!(!wanted(0).await?.contains(&cheap), "planned since");
    // Plans grow old: those of the costliest are read again, after what has none at all.
    let order = store.families_without_plan(instance, window(0, 400), second(200), 100).await?;
    let order: Vec<i64> = order.into_iter().map(|(family, _)| family).collect();
    assert_eq!((order.len(), &order[order.len() - 2..]), (20, &[dear, dearest][..]));
    Ok(())
}

#[tokio::test]
async fn a_plan_is_in_use_until_another_one_is_made_also_when_it_comes_back() -> Result<()> {
    let repository = repository().await?;
    let (store, instance) = (&repository.store, repository.instance);
    let family = repository.family("select tariff").await?;
    let made = async |identity: i64, from: i64, to: i64| {
        let plan = Ok((identity, format!("Seq Scan on tariff_{identity}")));
        store
            .write_plan(family, &PlanRow { first_read_at: second(from), read_at: second(to), plan, database: None })
            .await
    };
    let uses = async || -> Result<Vec<(i64, i64)>> {
        let uses = store.plan_uses(family, 10).await?;
        Ok(uses.iter().map(|one| (one.identity, one.from.seconds_since(second(0)) as i64)).collect())
    };
    made(7, 10, 10).await?;
    made(7, 60, 60).await?;
    assert_eq!(uses().await?, [(7, 10)]);
    assert_eq!(store.new_plans(instance, window(0, 100)).await?, [], "the first is no other");
    made(8, 120, 120).await?;
    made(7, 180, 180).await?;
    assert_eq!(uses().await?, [(7, 10), (8, 120), (7, 180)], "it came back");
    assert_eq!(store.new_plans(instance, window(100, 150)).await?, [(family, second(120))]);
    assert_eq!(store.new_plans(instance, window(100, 300)).await?, [(family, second(180))]);
    // One that is brought in from a past stands where it belongs.
    made(9, 5, 8).await?;
    assert_eq!(uses().await?[0], (9, 5));
    assert_eq!(store.plan_uses(family, 2).await?.len(), 2, "the last ones");
    for at in 0..120 {
        made(10 + at % 2, 1000 + at, 1000 + at).await?;
    }
    let kept = store.plan_uses(family, 1000).await?;
    assert_eq!((kept.len(), kept[0].from), (100, second(1020)), "the last ones are kept");
    Ok(())
}

#[tokio::test]
async fn plans_of_the_log_are_joined_and_the_oldest_go() -> Result<()> {
    let repository = repository().await?;
    let store = &repository.store;
    let family = repository.family("select tariff").await?;
    let logged = |identity: i64, at: i64, ms: f64| LoggedPlanRow {
        identity,
        first_at: second(at),
        last_at: second(at),
        times: 1,
        total_ms: ms,
        most_ms: ms,
        text: format!("Seq Scan on tariff at {at}"),
        database: "freight".into(),
    };
    store.write_logged_plans(&[(family, logged(1, 20, 300.0))]).await?;
    store.write_logged_plans(&[(family, logged(1, 10, 900.0)), (family, logged(2, 5, 100.0))]).await?;
    let [one, other] = store.logged_plans(family).await?.try_into().expect("two");
    assert_eq!((one.first_at, one.last_at, one.times), (second(10), second(20), 2));
    assert_eq!(
        (one.total_ms, one.most_ms, one.text.as_str()),
        (1200.0, 900.0, "Seq Scan on tariff at 20"),
        "the last one"
    );
    assert_eq!(other.identity, 2);
    let mut joined = logged(1, 10, 900.0);
    joined.join(logged(1, 20, 300.0));
    assert_eq!(joined, LoggedPlanRow { text: "Seq Scan on tariff at 20".into(), ..one });
    let many: Vec<_> = (10..40).map(|identity| (family, logged(identity, identity * 10, 1.0))).collect();
    store.write_logged_plans(&many).await?;
    let kept: Vec<i64> = store.logged_plans(family).await?.iter().map(|plan| plan.identity).collect();
    assert_eq!((kept.len(), kept[0], kept[19]), (20, 39, 20));
    Ok(())
}

#[tokio::test]
async fn advice_is_open_once_and_carries_its_effect_until_it_is_opened_again() -> Result<()> {
    let repository = repository().await?;
    let (store, instance) = (&repository.store, repository.instance);
    let draft = |saved: f64| AdviceDraft {
        advice: from_value(json!({
            "kind": "missing_index", "schema": "public", "table": "passage_leg", "columns": [], "families": [],
            "saved_seconds_per_day": saved, "size_bytes": 0.0, "table_rows": 0.0, "table_pages": 0,
            "indexes_present": 0, "makes_superfluous": [], "partial_indexes": [], "statistics_known": true,
        }))
        .expect("it is advice"),
        subject: "public.passage_leg (crossing_id, state)".into(),
        evidence: window(0, 60),
    };
    store.write_advice(instance, second(60), &draft(100.0)).await?;
    store.write_advice(instance, second(70), &draft(200.0)).await?;
    let open = AdviceFilter { state: Some(AdviceState::Open), by_age: false, offset: 0, limit: 10 };
    let (pages, matching) = store.advice_list(instance, &open).await?;
    let saved = pages[0].advice.told().prediction().saved_seconds_per_day;
    assert_eq!((matching, saved, pages[0].made_at), (1, 200.0, second(60)));
    let id = pages[0].advice_id;

    assert!(store.move_advice(id, AdviceState::Open, AdviceState::Applied, Some((window(60, 80), "admin"))).await?);
    assert!(!store.move_advice(id, AdviceState::Open, AdviceState::Applied, None).await?, "it is not open any more");
    let effect = Effect {
        verdict: Verdict::Confirmed,
        saved_seconds_per_day: Some(Interval { value: 150.0, low: 100.0, high: 190.0 }),
        before_ms: Some(240.0),
        after_ms: Some(3.0),
        drift: 1.0,
        drift_between: Some((0.9, 1.1)),
        controls: 4,
        after_buckets: 9,
        families: 2,
        waiting: 1,
        together_with: vec![7],
        after_until: Some(second(110)),
        meanwhile: vec!["work_mem: 4MB → 1MB".into()],
        never_read: false,
    };
    store.write_effect(id, &EffectRecord { effect: &effect, at: second(120) }).await?;
    let page = store.advice(instance, id).await?.expect("it is in the book");
    assert_eq!(
        (page.effect, page.applied_at, page.applied_by.as_deref()),
        (Some(effect), Some(second(80)), Some("admin"))
    );

    store.withhold_advice(id, second(125)).await?;
    assert_eq!(store.advice(instance, id).await?.and_then(|page| page.withheld_at), Some(second(125)));
    let [outcome] = store.advice_outcomes(instance).await?[..] else { panic!("one was carried out") };
    assert_eq!(
        (outcome.verdict, outcome.predicted_seconds_per_day, outcome.measured_seconds_per_day),
        (Verdict::Confirmed, 200.0, Some(150.0))
    );

    store.write_advice(instance, second(130), &draft(50.0)).await?;
    assert!(
        !store.move_advice(id, AdviceState::Applied, AdviceState::Open, None).await?,
        "the same advice is open already"
    );
    let (pages, _) = store.advice_list(instance, &open).await?;
    assert!(store.move_advice(pages[0].advice_id, AdviceState::Open, AdviceState::SetAside, None).await?);
    store.write_advice(instance, second(140), &draft(60.0)).await?;
    assert_eq!(store.advice_list(instance, &open).await?.1, 0, "what was set aside is not given again");
    assert!(store.move_advice(id, AdviceState::Applied, AdviceState::Open, None).await?);
    assert_eq!(store.advice(instance, id).await?.expect("it is in the book").effect, None);

    // What lapses is open no more, and may be given again.
    assert!(store.move_advice(id, AdviceState::Open, AdviceState::Lapsed, None).await?);
    assert_eq!(store.advice_list(instance, &open).await?.1, 0);
    let lapsed = AdviceFilter { state: Some(AdviceState::Lapsed), ..open };
    assert_eq!(store.advice_list(instance, &lapsed).await?.0[0].advice_id, id);
    // A later version may leave kinds that this one does not know: they are passed over.
    sqlx::query("UPDATE advice SET kind = 'sunken_index' WHERE advice_id = $1")
        .bind(id)
        .execute(&mut repository.cluster.connect("hurnix").await?)
        .await?;
    assert_eq!(store.advice_list(instance, &lapsed).await?.1, 0);
    assert_eq!(store.advice(instance, id).await?, None);
    Ok(())
}

#[tokio::test]
async fn what_changes_are_looked_for_in_is_told_by_bucket() -> Result<()> {
    let repository = repository().await?;
    let (store, id) = (&repository.store, repository.instance);
    let leg = repository.family("select ? from passage_leg").await?;
    let tide = repository.family("select ? from tide_reading").await?;
    for to in [10, 20, 30, 40, 50] {
        repository.period(to, &[(leg, cost(10, 9_900)), (tide, cost(1, 100))]).await?;
    }
    let pieces = repository.fine(0, 60).await?;
    assert_eq!(store.families_that_matter(id, &pieces, 0.5).await?, [leg]);
    assert_eq!(store.families_that_matter(id, &pieces, 0.001).await?, [leg, tide]);

    let names =
        store.names(id, &["gate desk".into(), "public.passage_leg".into(), "ShareLock".into()], second(0)).await?;
    let (desk, object, mode) = (names["gate desk"], names["public.passage_leg"], names["ShareLock"]);
    let row = |session, family_id, awaited| ActivityRow {
        session,
        event_id: None,
        family_id,
        account_id: desk,
        program_id: desk,
        client_id: desk,
        database_id: desk,
        awaited,
    };
    // Eight holds what the others wait for, and does nothing.
    let (waiting, holding) = (session(2, Some(WaitKind::Lock)), session(8, None));
    let look = || vec![row(&waiting, Some(leg), Some([mode, mode, object])), row(&holding, Some(tide), None)];
    store.write_activity(id, &[(second(12), 2, look()), (second(18), 0, vec![]), (second(45), 2, look())]).await?;
    let metric = |value| MeasureRow { metric: Metric::CpuUsed, object_id: desk, value };
    store.write_measures(id, Figures::Host, second(15), &[metric(0.5)]).await?;

    let of = |pieces: &Pieces| ToObserve {
        statements: pieces.clone(),
        activity: pieces.clone(),
        databases: pieces.clone(),
        measures: pieces.clone(),
        bucket_seconds: 20,
    };
    let observed = store.observed_series(id, &of(&pieces), &[leg]).await?;
    assert_eq!((observed.start, observed.count(), observed.families.len()), (second(0), 3, 1));
    let calls = |buckets: &[Bucket]| buckets.iter().map(|bucket| (bucket.seconds, bucket.calls)).collect::<Vec<_>>();
    assert_eq!(calls(&observed.families[0].buckets), [(20.0, 20), (20.0, 20), (10.0, 10)]);
    assert_eq!(calls(&observed.others), [(20.0, 2), (20.0, 2), (10.0, 1)], "all others together");
    let waits = &observed.families[0].waits;
    assert_eq!((waits.len(), waits[0].kind), (1, WaitKind::Lock));
    // Three looks at fifty seconds. The first bucket was looked at more often than that, the last less.
    let each = 50.0 / 3.0;
    assert_eq!(waits[0].each_seconds, each);
    assert_eq!(waits[0].seen, [20.0 / (2.0 * each), 0.0, 10.0 / each]);
    let series = |measured, object: &str| {
        let found = observed.server.iter().find(|series| series.measured == measured && series.object == object);
        found.map(|series| series.values.clone()).unwrap_or_default()
    };
    assert_eq!(series(Measured::Load, ""), [(second(0), 1.0, 2.0), (second(40), 1.0, 1.0)]);
    assert_eq!(series(Measured::Waits, "lock"), series(Measured::Load, ""));
    assert_eq!(series(Measured::Metric, "cpu_used gate desk"), [(second(0), 0.5, 1.0)]);

    // What was read in two parts shows the same, with a family that is told one by one since the second.
    let all = store.observed_series(id, &of(&pieces), &[leg, tide]).await?;
    for told in [vec![leg], vec![leg, tide]] {
        let mut remembered = Remembered {
            observed: store.observed_series(id, &of(&repository.fine(0, 60).await?), &[leg]).await?,
            to: second(80),
        };
        let again = remembered.again_from();
        assert_eq!(again, second(20));
        if told.len() > 1 {
            remembered.tell(store.observed_families(id, &of(&repository.fine(0, 20).await?), &[tide]).await?);
        }
        let newest = store.observed_series(id, &of(&repository.fine(20, 60).await?), &told).await?;
        remembered.go_on(newest, window(0, 80));
        let expected = if told.len() > 1 { &all } else { &observed };
        assert_eq!(remembered.observed.families.len(), told.len());
        assert_eq!((&remembered.observed.others, &remembered.observed.server), (&expected.others, &expected.server));
        for (read, expected) in remembered.observed.families.iter().zip(&expected.families) {
            assert_eq!((read.family, &read.buckets), (expected.family, &expected.buckets));
            let seconds = |family: &FamilySeries| -> Vec<f64> {
                let waits = family.waits.iter();
                waits.flat_map(|waits| waits.seen.iter().map(|seen| (seen * waits.each_seconds).round())).collect()
            };
            assert_eq!(seconds(read), seconds(expected));
        }
    }

    let lock = store.lock_waits(id, leg, window(0, 60)).await?.expect("it waited");
    assert_eq!((lock.object.as_deref(), lock.mode.as_deref()), (Some("public.passage_leg"), Some("ShareLock")));
    assert_eq!((lock.program.as_deref(), lock.is_idle), (Some("gate desk"), true));
    assert_eq!(lock.statement.as_deref(), Some("select ? from tide_reading"));
    assert_eq!(store.lock_waits(id, tide, window(0, 60)).await?, None);
    Ok(())
}

use anyhow::{Context, Result};
use hurnix_core::findings::figure::ServerFigure;
use hurnix_core::findings::health::Health;
use hurnix_core::findings::normal_range::{NormalRange, Side};
use hurnix_core::findings::threshold::{Scope, SetThreshold, Threshold};
use hurnix_core::readings::metric::Metric;

use crate::store::{repository, second};

fn set(scope: Scope, value: f64) -> SetThreshold {
    SetThreshold {
        threshold_id: 0,
        scope,
        is_on: true,
        threshold: Threshold {
            figure: ServerFigure::Metric(Metric::VolumeFree),
            object: Some("/data".into()),
            side: Side::Low,
            value,
            clears_at: value * 2.0,
            lasts_seconds: 600.0,
            verdict: Health::Act,
            step: "Call the pilot.".into(),
        },
    }
}

#[tokio::test]
async fn a_threshold_is_kept_once_for_each_scope_and_goes_with_its_instance() -> Result<()> {
    let repository = repository().await?;
    let (store, id) = (&repository.store, repository.instance);
    let from_the_start = store.thresholds().await?;
    assert!(!from_the_start.is_empty() && from_the_start.iter().all(|set| set.threshold.check().is_ok()));
    for scope in [Scope::All, Scope::Group("gates".into()), Scope::Instance(id)] {
        let number = store.write_threshold(None, &set(scope.clone(), 5e9)).await?.context("a number")?;
        let known = store.thresholds().await?.into_iter().find(|one| one.threshold_id == number).context("kept")?;
        assert_eq!(known, SetThreshold { threshold_id: number, ..set(scope.clone(), 5e9) });
        assert!(store.write_threshold(None, &set(scope.clone(), 6e9)).await.is_err(), "one for {scope:?}");
        assert_eq!(store.write_threshold(Some(number), &set(scope, 6e9)).await?, Some(number));
    }
    assert_eq!(store.write_threshold(Some(9_999), &set(Scope::Group("sea".into()), 1.0)).await?, None);
    assert!(store.remove_instance(id).await?);
    assert_eq!(store.thresholds().await?.len(), from_the_start.len() + 2);
    Ok(())
}

#[tokio::test]
async fn what_is_usual_is_kept_until_it_is_learnt_anew() -> Result<()> {
    let repository = repository().await?;
    let (store, id) = (&repository.store, repository.instance);
    let day: Vec<f64> = (0..144).map(|bucket| f64::from(bucket % 7)).collect();
    let range = NormalRange::learn(&day, second(0), 600.0).context("a day is enough")?;
    let lag = ServerFigure::Metric(Metric::ReplicaLag);
    let first = [(ServerFigure::Load, "", &range), (lag, "passage-b", &range)];
    store.write_usual_ranges(id, second(10), first.into_iter()).await?;
    let known = store.usual_ranges(id, &[ServerFigure::Load, lag]).await?;
    assert_eq!(known.len(), 2);
    assert_eq!(known.last(), Some(&(lag, "passage-b".to_owned(), range.clone())));
    assert_eq!(store.usual_loads(&[id], &[None]).await?, [(id, second(10), Some(range.clone()))]);
    assert_eq!(store.usual_loads(&[id], &[Some(second(10))]).await?, [(id, second(10), None)]);
    store.write_usual_ranges(id, second(20), first.into_iter().take(1)).await?;
    assert_eq!(store.usual_loads(&[id], &[Some(second(10))]).await?, [(id, second(20), Some(range.clone()))]);
    assert_eq!(store.usual_ranges(id, &[ServerFigure::Load, lag]).await?.len(), 1, "the replica is gone");
    Ok(())
}

use anyhow::{Context, Result};
use hurnix_core::findings::alarm::{Handled, Looked, NotHandled, Patience, Sign, Trouble};
use hurnix_core::findings::health::Health;
use hurnix_store::{AlarmFilter, AlarmRow, Store};

use crate::store::{repository, second};

const PATIENCE: Patience = Patience { closes_after_seconds: 30.0, reopens_within_seconds: 600.0 };

fn hold_up(verdict: Health) -> Sign {
    Sign::new(Trouble::HoldUp, "desk", verdict, "desk holds up 5 sessions.")
}

async fn look(store: &Store, id: i32, at: i64, signs: Vec<Sign>) -> Result<bool> {
    let looked = Looked { at: second(at), looked_for: &[Trouble::HoldUp, Trouble::Volume], signs };
    Ok(store.follow_alarms(id, looked, &PATIENCE).await?)
}

async fn open(store: &Store, id: i32) -> Result<Vec<AlarmRow>> {
    Ok(store.open_alarms(&[id]).await?.remove(&id).unwrap_or_default())
}

#[tokio::test]
async fn an_alarm_is_kept_from_when_its_trouble_is_seen_until_it_is_gone() -> Result<()> {
    let repository = repository().await?;
    let (store, id) = (&repository.store, repository.instance);
    assert!(look(store, id, 0, vec![hold_up(Health::Look)]).await?);
    assert!(!look(store, id, 10, vec![hold_up(Health::Look)]).await?, "the same a moment later is no news");
    let first = open(store, id).await?.pop().context("an alarm")?;
    assert_eq!((first.alarm.sign.object.as_str(), first.alarm.opened_at), ("desk", second(0)));

    let handled = store.handle_alarm(first.alarm_id, Handled::Acknowledge(true), "ada", second(12)).await?;
    assert_eq!(handled, Some(Ok(())));
    look(store, id, 20, vec![]).await?;
    assert_eq!(open(store, id).await?.len(), 1, "one look says nothing");
    look(store, id, 60, vec![]).await?;
    assert_eq!(open(store, id).await?, []);
    let filter = AlarmFilter { limit: 10, ..AlarmFilter::default() };
    let (closed, count) = store.closed_alarms(&filter).await?;
    assert_eq!((closed.len(), count, closed[0].alarm_id), (1, 1, first.alarm_id));
    let elsewhere = AlarmFilter { groups: Some(vec!["gates".into()]), ..filter };
    assert_eq!(store.closed_alarms(&elsewhere).await?.1, 0);
    let refused = store.handle_alarm(first.alarm_id, Handled::Acknowledge(true), "ada", second(70)).await?;
    assert_eq!(refused, Some(Err(NotHandled::Closed)));

    look(store, id, 100, vec![hold_up(Health::Act)]).await?;
    let again = open(store, id).await?.pop().context("an alarm")?;
    assert_eq!((again.alarm_id, again.alarm.handling.acknowledged_by), (first.alarm_id, None), "the same one again");
    assert_eq!(store.one_alarm(first.alarm_id).await?.context("an alarm")?.alarm.verdict(), Health::Act);
    assert_eq!(store.handle_alarm(999, Handled::Acknowledge(true), "ada", second(70)).await?, None);
    store.forget_old_alarms(second(86_400 * 500)).await?;
    assert_eq!(open(store, id).await?.len(), 1, "what is open is never old");
    Ok(())
}

#[tokio::test]
async fn two_processes_that_see_the_same_open_one_alarm() -> Result<()> {
    let repository = repository().await?;
    let (store, id) = (&repository.store, repository.instance);
    let see = |at| look(store, id, at, vec![hold_up(Health::Act)]);
    tokio::try_join!(see(0), see(1), see(2), see(3), see(4))?;
    assert_eq!(open(store, id).await?.len(), 1);
    Ok(())
}

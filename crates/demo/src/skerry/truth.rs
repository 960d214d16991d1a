use anyhow::{Context, Result, bail};
use hurnix_core::Timestamp;
use hurnix_core::time::SECONDS_PER_DAY;
use serde::Deserialize;

/// What happened on the simulated instances: the file that the models are made from and tests compare with.
#[derive(Debug, Clone, Deserialize)]
pub struct Truth {
    /// All stories.
    pub stories: Vec<KnownStory>,
}

/// One story and its truth.
#[derive(Debug, Clone, Deserialize)]
pub struct KnownStory {
    /// Its number in the list of stories.
    pub number: u32,
    /// Its name.
    pub name: String,
    /// Label of the instance.
    pub instance: String,
    /// What it happened to.
    pub object: String,
    /// When it began; all the time when not given.
    pub onset: Option<Onset>,
    /// How long it lasted, in minutes; for good when not given.
    pub minutes: Option<f64>,
    /// What `before` and `after` are figures of, with their unit.
    pub figure: String,
    /// The figure before it.
    pub before: f64,
    /// The figure since then.
    pub after: f64,
    /// Why.
    pub cause: String,
    /// How it is told as a lasting change; nothing where it is none.
    pub told: Option<Told>,
}

/// A lasting change.
#[derive(Debug, Clone, Deserialize)]
pub struct Told {
    /// How the statement begins that became slower.
    pub statement: Option<String>,
    /// The metric that changed, where no statement did.
    pub metric: Option<String>,
    /// What is named as its cause, by the names of causes; none of a metric.
    pub causes: Vec<String>,
}

/// A moment told by its weekday.
#[derive(Debug, Clone, Deserialize)]
pub struct Onset {
    weekday: Weekday,
    /// 1 is the last such day before the day on which the history ends.
    back: i64,
    /// Time of the day, UTC, as `hh:mm`.
    at: String,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
enum Weekday {
    Monday,
    Tuesday,
    Wednesday,
    Thursday,
    Friday,
    Saturday,
    Sunday,
}

impl Truth {
    /// The file, as it was when the program was made.
    pub fn read() -> Result<Truth> {
        serde_json::from_str(include_str!("truth.json")).context("truth.json")
    }

    /// The story of that name.
    pub fn story(&self, name: &str) -> Result<&KnownStory> {
        self.stories.iter().find(|story| story.name == name).with_context(|| format!("no story {name} in truth.json"))
    }
}

impl KnownStory {
    /// When it began, in a history that ends on the day of `end`.
    pub fn began_at(&self, end: Timestamp) -> Result<Timestamp> {
        let onset = self.onset.as_ref().with_context(|| format!("the story {} has no onset", self.name))?;
        let Some((hours, minutes)) = onset.at.split_once(':') else { bail!("{} is no time of the day", onset.at) };
        let minutes: i64 = hours.parse::<i64>()? * 60 + minutes.parse::<i64>()?;
        let last_day = midnight(end).seconds_since(Timestamp(0)) as i64 / SECONDS_PER_DAY as i64;
        // Day 0 of the epoch was a Thursday.
        let weekday = (last_day + 3).rem_euclid(7);
        let days_back = (weekday - onset.weekday as i64 - 1).rem_euclid(7) + 1 + 7 * (onset.back - 1);
        Ok(Timestamp(0).plus_seconds((last_day - days_back) as f64 * SECONDS_PER_DAY + minutes as f64 * 60.0))
    }

    /// When it ended; nothing when it lasts.
    pub fn ended_at(&self, end: Timestamp) -> Result<Option<Timestamp>> {
        let began_at = self.began_at(end)?;
        Ok(self.minutes.map(|minutes| began_at.plus_seconds(minutes * 60.0)))
    }
}

/// The beginning of a moment's day, UTC.
pub fn midnight(at: Timestamp) -> Timestamp {
    at.bucket(SECONDS_PER_DAY as i64)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn weekdays_are_counted_back_from_the_last_day() {
        // 2026-11-25 12:00, a Wednesday.
        let end = Timestamp(0).plus_seconds(20_782.5 * SECONDS_PER_DAY);
        let truth = Truth::read().unwrap();
        let day = |name: &str| {
            let began = truth.story(name).unwrap().began_at(end).unwrap();
            (midnight(end).seconds_since(midnight(began)) / SECONDS_PER_DAY) as i64
        };
        // Tuesday of the week before last, last Wednesday, last Thursday.
        assert_eq!((day("missing-index"), day("plan-change"), day("hold-up")), (8, 7, 6));
        assert!(truth.stories.iter().all(|story| story.onset.is_none() || (1..=21).contains(&day(&story.name))));
    }
}

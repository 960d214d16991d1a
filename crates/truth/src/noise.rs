use hurnix_core::findings::robust::SeededRng;
use strum::{EnumIter, IntoStaticStr};

use crate::series::{BUCKETS_A_DAY, between};

/// How the time per call scatters around its level.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, EnumIter, IntoStaticStr)]
#[strum(serialize_all = "snake_case")]
pub enum NoiseFamily {
    /// Each bucket for itself.
    Independent,
    /// From bucket to bucket, by 0.5 to 0.95.
    Correlated,
    /// Tails of Student's t with three freedoms, and one bucket in a hundred wild.
    HeavyTails,
    /// By the hour and on weekends, with some correlation.
    Seasonal,
    /// Few calls of very different length: from one in half an hour to three in ten minutes.
    FewCalls,
    /// Gaps of minutes to days, each followed by a cold cache, with some correlation.
    Gaps,
}

/// The noise of a series, drawn once: what is asked for bucket by bucket.
pub struct Noise {
    family: NoiseFamily,
    spread: f64,
    correlation: f64,
    state: f64,
    season: Option<Season>,
    /// Calls per bucket, usually.
    pub calls: f64,
    /// Spread of single calls on the log scale.
    pub of_calls: f64,
    volume_by_day: f64,
    volume_of_weekend: f64,
}

struct Season {
    daily: f64,
    twice_daily: f64,
    phase: f64,
    weekend: f64,
}

impl Noise {
    /// Noise of a family; by the hour and on weekends too where it is to have a season.
    pub fn new(family: NoiseFamily, has_season: bool, rng: &mut SeededRng) -> Noise {
        let season = (has_season || family == NoiseFamily::Seasonal).then(|| Season {
            daily: between(rng, 0.1, 0.5),
            twice_daily: between(rng, 0.0, 0.2),
            phase: rng.unit(),
            weekend: between(rng, -0.4, 0.4),
        });
        let correlation = match family {
            NoiseFamily::Correlated => between(rng, 0.5, 0.95),
            NoiseFamily::Seasonal => between(rng, 0.0, 0.6),
            NoiseFamily::Gaps => between(rng, 0.2, 0.7),
            _ => 0.0,
        };
        let calls = match family {
            NoiseFamily::FewCalls => between(rng, 0.3, 3.0),
            _ => 10f64.powf(between(rng, 1.5, 3.5)),
        };
        Noise {
            family,
            spread: between(rng, 0.06, 0.25),
            correlation,
            state: rng.normal(),
            season,
            calls,
            of_calls: between(rng, 0.4, 0.9),
            volume_by_day: between(rng, 0.1, 0.5),
            volume_of_weekend: between(rng, 0.0, 1.0),
        }
    }

    /// What the noise of the next bucket adds on the log scale, at this bucket of the week.
    pub fn next(&mut self, bucket_of_week: usize, rng: &mut SeededRng) -> f64 {
        self.scatter(rng) + self.of_season(bucket_of_week)
    }

    /// What the hour and the weekend add at this bucket of the week.
    pub fn of_season(&self, bucket_of_week: usize) -> f64 {
        self.season.as_ref().map_or(0.0, |season| season.at(bucket_of_week))
    }

    /// What the next bucket adds for itself.
    pub fn scatter(&mut self, rng: &mut SeededRng) -> f64 {
        let fresh = rng.normal();
        self.state = self.correlation * self.state + (1.0 - self.correlation * self.correlation).sqrt() * fresh;
        match self.family {
            NoiseFamily::HeavyTails => {
                let squares: f64 = (0..3).map(|_| rng.normal().powi(2)).sum();
                let wild = if rng.unit() < 0.01 { between(rng, 1.5, 3.0) } else { 0.0 };
                // Scaled to the spread of the others: a t of three freedoms has a variance of three.
                fresh / (squares / 3.0).sqrt() / 3f64.sqrt() * self.spread * 1.3 + wild
            }
            // What single calls add is noise enough.
            NoiseFamily::FewCalls => 0.05 * fresh,
            _ => self.state * self.spread,
        }
    }

    /// By what the usual number of calls is multiplied at this bucket of the week.
    pub fn volume(&self, bucket_of_week: usize) -> f64 {
        let day = angle(bucket_of_week, 0.0).sin() * self.volume_by_day;
        (day - if is_weekend(bucket_of_week) { self.volume_of_weekend } else { 0.0 }).exp()
    }
}

impl Season {
    fn at(&self, bucket_of_week: usize) -> f64 {
        let hour = angle(bucket_of_week, self.phase);
        let weekend = if is_weekend(bucket_of_week) { self.weekend } else { 0.0 };
        self.daily * hour.sin() + self.twice_daily * (2.0 * hour).sin() + weekend
    }
}

fn angle(bucket: usize, phase: f64) -> f64 {
    std::f64::consts::TAU * ((bucket % BUCKETS_A_DAY) as f64 / BUCKETS_A_DAY as f64 + phase)
}

fn is_weekend(bucket_of_week: usize) -> bool {
    bucket_of_week / BUCKETS_A_DAY % 7 >= 5
}

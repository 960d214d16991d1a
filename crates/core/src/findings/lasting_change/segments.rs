use std::ops::Range;

use super::points::Point;

/// Running sums over points: level, weight and scatter of any stretch of them in constant time.
pub struct Sums(Vec<[f64; 3]>);

impl Sums {
    /// Sums over these points.
    pub fn new(points: &[Point]) -> Sums {
        let mut sum = [0.0; 3];
        let mut sums = vec![sum];
        for Point { value, weight, .. } in points {
            sum = [sum[0] + weight, sum[1] + weight * value, sum[2] + weight * value * value];
            sums.push(sum);
        }
        Sums(sums)
    }

    fn of(&self, stretch: Range<usize>) -> [f64; 3] {
        let (from, to) = (self.0[stretch.start], self.0[stretch.end]);
        [to[0] - from[0], to[1] - from[1], to[2] - from[2]]
    }

    /// Weighted mean and weight of several stretches; of nothing, nothing.
    pub fn level(&self, stretches: impl IntoIterator<Item = Range<usize>>) -> Option<(f64, f64)> {
        let parts = stretches.into_iter().filter(|stretch| stretch.start < stretch.end).map(|stretch| self.of(stretch));
        let (weight, sum) = parts.fold((0.0, 0.0), |(weight, sum), part| (weight + part[0], sum + part[1]));
        (weight > 0.0).then(|| (sum / weight, weight))
    }

    /// Weighted squared distance of a stretch from a level.
    pub fn distance(&self, stretch: Range<usize>, level: f64) -> f64 {
        let [weight, sum, squares] = self.of(stretch);
        (squares - 2.0 * level * sum + weight * level * level).max(0.0)
    }

    fn count(&self) -> usize {
        self.0.len() - 1
    }
}

/// Stretches of one level each, one after the other, that are worth `penalty` for each cut.
///
/// Penalised least squares, solved exactly by dynamic programming with pruning (PELT: Killick, Fearnhead and Eckley
/// 2012). About linear when levels change now and then, n² at worst.
pub fn segments(sums: &Sums, penalty: f64) -> Vec<Range<usize>> {
    let count = sums.count();
    let mut previous_cut = vec![0];
    let mut starts = Starts::default();
    let mut best = -penalty;
    for end in 1..=count {
        starts.add(end - 1, sums.0[end - 1], best);
        let (least, start) = starts.least_up_to(sums.0[end]);
        best = least + penalty;
        previous_cut.push(start);
        if end % PRUNED_EVERY == 0 {
            starts.prune(best);
        }
    }
    let mut stretches = Vec::new();
    let mut end = count;
    while end > 0 {
        stretches.push(previous_cut[end]..end);
        end = previous_cut[end];
    }
    stretches.reverse();
    stretches
}

/// Starts that can lead to nothing better are left out with every so many points.
const PRUNED_EVERY: usize = 4;

/// Where the last stretch may begin: each start with the sums up to it, the best total up to it, and the total with the
/// stretch. One list for each figure, so that several starts are worked out at a time.
#[derive(Default)]
struct Starts {
    at: Vec<usize>,
    weight: Vec<f64>,
    sum: Vec<f64>,
    squares: Vec<f64>,
    best: Vec<f64>,
    total: Vec<f64>,
}

impl Starts {
    fn add(&mut self, at: usize, [weight, sum, squares]: [f64; 3], best: f64) {
        self.at.push(at);
        self.weight.push(weight);
        self.sum.push(sum);
        self.squares.push(squares);
        self.best.push(best);
        self.total.push(0.0);
    }

    /// The least total with a last stretch up to these sums, and where that begins.
    fn least_up_to(&mut self, [weight, sum, squares]: [f64; 3]) -> (f64, usize) {
        let before = self.weight.iter().zip(&self.sum).zip(self.squares.iter().zip(&self.best));
        for (total, ((weight_before, sum_before), (squares_before, best))) in self.total.iter_mut().zip(before) {
            let (weight, sum, squares) = (weight - weight_before, sum - sum_before, squares - squares_before);
            *total = best + (squares - sum * sum / weight).max(0.0);
        }
        let least = self.total.iter().copied().fold(f64::INFINITY, f64::min);
        let place = self.total.iter().position(|total| *total <= least).unwrap_or_default();
        (least, self.at[place])
    }

    fn prune(&mut self, best: f64) {
        let mut kept = 0;
        for place in 0..self.at.len() {
            if self.total[place] <= best {
                self.at[kept] = self.at[place];
                for list in [&mut self.weight, &mut self.sum, &mut self.squares, &mut self.best] {
                    list[kept] = list[place];
                }
                kept += 1;
            }
        }
        self.at.truncate(kept);
        for list in [&mut self.weight, &mut self.sum, &mut self.squares, &mut self.best, &mut self.total] {
            list.truncate(kept);
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn sums(levels: &[(usize, f64)]) -> Sums {
        let wobble = [0.0, 0.05, -0.03, 0.02, -0.05, 0.04, -0.01];
        let values = levels.iter().flat_map(|(count, level)| std::iter::repeat_n(*level, *count));
        let points: Vec<Point> = values
            .enumerate()
            .map(|(at, level)| Point { at, value: level + wobble[at % wobble.len()], weight: 1.0 })
            .collect();
        Sums::new(&points)
    }

    /// Where the stretches end that follow each other from the first point on.
    fn ends(levels: &[(usize, f64)]) -> Vec<usize> {
        let stretches = segments(&sums(levels), 0.5);
        assert!(stretches.windows(2).all(|pair| pair[0].end == pair[1].start));
        assert!(stretches.first().is_none_or(|first| first.start == 0));
        stretches.into_iter().map(|stretch| stretch.end).collect()
    }

    #[test]
    fn each_level_is_a_stretch() {
        assert_eq!(ends(&[(20, 1.0), (15, 2.0)]), [20, 35]);
        assert_eq!(ends(&[(20, 1.0), (15, 2.0), (20, 1.0)]), [20, 35, 55]);
        assert_eq!(ends(&[(50, 1.0)]), [50]);
        assert_eq!(ends(&[]), [] as [usize; 0]);
    }

    #[test]
    fn a_cut_that_is_not_worth_its_penalty_is_none() {
        assert_eq!(ends(&[(20, 1.0), (15, 1.1)]), [35]);
    }

    proptest! {
        /// No other way of cutting is cheaper.
        #[test]
        fn leaving_starts_out_loses_nothing(
            values in proptest::collection::vec((-3.0f64..3.0, 0.1f64..2.0), 1..60),
            penalty in 0.1f64..9.0,
        ) {
            let points: Vec<Point> =
                values.into_iter().enumerate().map(|(at, (value, weight))| Point { at, value, weight }).collect();
            let sums = Sums::new(&points);
            let scatter = |stretch: Range<usize>| {
                sums.distance(stretch.clone(), sums.level([stretch]).map_or(0.0, |(level, _)| level))
            };
            let mut best = vec![-penalty];
            for end in 1..=points.len() {
                let totals = (0..end).map(|start| best[start] + scatter(start..end) + penalty);
                best.push(totals.fold(f64::INFINITY, f64::min));
            }
            let found = segments(&sums, penalty);
            let total: f64 = found.iter().map(|stretch| scatter(stretch.clone()) + penalty).sum();
            prop_assert!((total - penalty - best[points.len()]).abs() < 1e-6, "{total} and {best:?}");
        }
    }

    #[test]
    fn sums_tell_level_weight_and_scatter() {
        let points = [(1.0, 1.0), (3.0, 1.0), (9.0, 2.0)].map(|(value, weight)| Point { at: 0, value, weight });
        let sums = Sums::new(&points);
        assert_eq!(sums.level([0..1, 1..2]), Some((2.0, 2.0)));
        assert_eq!(sums.level([0..1, 2..3]), Some((19.0 / 3.0, 3.0)));
        assert_eq!(sums.level([1..1, 2..2]), None);
        assert_eq!((sums.distance(0..2, 2.0), sums.distance(0..2, 0.0)), (2.0, 10.0));
    }
}

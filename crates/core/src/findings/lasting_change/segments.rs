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

    /// Weighted squared distance of a stretch from its own mean.
    pub fn scatter(&self, stretch: Range<usize>) -> f64 {
        let [weight, sum, squares] = self.of(stretch);
        if weight > 0.0 { (squares - sum * sum / weight).max(0.0) } else { 0.0 }
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
    let mut best = vec![f64::INFINITY; count + 1];
    let mut previous_cut = vec![0; count + 1];
    best[0] = -penalty;
    // Where the last stretch may begin, and the total up to its end.
    let mut candidates: Vec<(usize, f64)> = vec![(0, 0.0)];
    for end in 1..=count {
        let mut least = (f64::INFINITY, 0);
        for (start, total) in &mut candidates {
            *total = best[*start] + sums.scatter(*start..end);
            if *total < least.0 {
                least = (*total, *start);
            }
        }
        (best[end], previous_cut[end]) = (least.0 + penalty, least.1);
        candidates.retain(|(_, total)| *total <= best[end]);
        candidates.push((end, 0.0));
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

#[cfg(test)]
mod tests {
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

    #[test]
    fn sums_tell_level_weight_and_scatter() {
        let points = [(1.0, 1.0), (3.0, 1.0), (9.0, 2.0)].map(|(value, weight)| Point { at: 0, value, weight });
        let sums = Sums::new(&points);
        assert_eq!(sums.level([0..1, 1..2]), Some((2.0, 2.0)));
        assert_eq!(sums.level([0..1, 2..3]), Some((19.0 / 3.0, 3.0)));
        assert_eq!(sums.level([1..1, 2..2]), None);
        assert_eq!((sums.scatter(0..2), sums.distance(0..2, 0.0)), (2.0, 10.0));
    }
}

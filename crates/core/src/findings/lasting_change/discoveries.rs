/// Share of discoveries that may be none.
const FALSE_DISCOVERIES: f64 = 0.05;

/// The greatest chance at which a discovery is kept, when `tried` series were looked at and these are the chances that
/// noise alone shows each of what was found: of all that is kept, at most 5 % is none (Benjamini and Hochberg 1995).
/// Nothing where none is to be kept.
pub fn sure_together(chances: &[f64], tried: usize) -> Option<f64> {
    let mut sorted = chances.to_vec();
    sorted.sort_by(f64::total_cmp);
    let tried = tried.max(sorted.len()) as f64;
    let is_kept = |(rank, chance): &(usize, f64)| *chance <= FALSE_DISCOVERIES * (*rank as f64 + 1.0) / tried;
    sorted.into_iter().enumerate().rfind(is_kept).map(|(_, chance)| chance)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_more_is_tried_the_surer_each_must_be() {
        assert_eq!(sure_together(&[0.01], 1), Some(0.01));
        assert_eq!(sure_together(&[0.01], 100), None);
        assert_eq!(sure_together(&[0.0001, 0.01], 100), Some(0.0001));
        // Many at once carry each other.
        assert_eq!(sure_together(&[0.01; 40], 100), Some(0.01));
        assert_eq!(sure_together(&[], 100), None);
    }
}

//! Filters of numbers, as they are typed: `5`, `>5`, `>=5`, `<5`, `<=5` or `5..9`.

use std::ops::Bound;

use hurnix_store::Bounds;

use crate::api::base::problem::FieldProblem;

/// The bounds that a text names; nothing where it is left out or empty.
pub fn bounds(field: &str, text: Option<&str>) -> Result<Option<Bounds>, FieldProblem> {
    let Some(text) = text.map(str::trim).filter(|text| !text.is_empty()) else { return Ok(None) };
    let number = |text: &str| text.trim().parse::<f64>().ok().filter(|number| number.is_finite());
    let found = if let Some((low, high)) = text.split_once("..") {
        number(low).zip(number(high)).map(|(low, high)| (Bound::Included(low), Bound::Included(high)))
    } else if let Some(low) = text.strip_prefix(">=") {
        number(low).map(|low| (Bound::Included(low), Bound::Unbounded))
    } else if let Some(high) = text.strip_prefix("<=") {
        number(high).map(|high| (Bound::Unbounded, Bound::Included(high)))
    } else if let Some(low) = text.strip_prefix('>') {
        number(low).map(|low| (Bound::Excluded(low), Bound::Unbounded))
    } else if let Some(high) = text.strip_prefix('<') {
        number(high).map(|high| (Bound::Unbounded, Bound::Excluded(high)))
    } else {
        number(text).map(|same| (Bound::Included(same), Bound::Included(same)))
    };
    let remedy = "Give a number (5), a bound (>5, >=5, <5, <=5) or a range (5..9).";
    found.map(Some).ok_or_else(|| FieldProblem::new(field, text, remedy))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_bounds_and_ranges_are_read() {
        let read = |text| bounds("calls", Some(text)).unwrap();
        assert_eq!(read(" 5 "), Some((Bound::Included(5.0), Bound::Included(5.0))));
        assert_eq!(read(">5"), Some((Bound::Excluded(5.0), Bound::Unbounded)));
        assert_eq!(read(">= 0.5"), Some((Bound::Included(0.5), Bound::Unbounded)));
        assert_eq!(read("<-5"), Some((Bound::Unbounded, Bound::Excluded(-5.0))));
        assert_eq!(read("<=5"), Some((Bound::Unbounded, Bound::Included(5.0))));
        assert_eq!(read("2..9"), Some((Bound::Included(2.0), Bound::Included(9.0))));
        assert_eq!((read(" "), bounds("calls", None).unwrap()), (None, None));
    }

    #[test]
    fn what_is_no_number_is_told_with_its_field() {
        for text in ["many", ">", "1..", "..2", "1..2..3", ">NaN", "inf", "=5"] {
            let FieldProblem { field, value, .. } = bounds("mean", Some(text)).unwrap_err();
            assert_eq!((field.as_str(), value.as_str()), ("mean", text));
        }
    }
}

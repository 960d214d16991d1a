//! Figures of the server then and now, in one order whatever their unit: by how much of their own usual range they moved.

use std::collections::HashMap;

use super::by_most;
use crate::findings::figure::ServerFigure;
use crate::findings::moved::Moved;

/// A figure of one object in both periods.
#[derive(Debug, Clone, PartialEq)]
pub struct FigureMoved {
    /// Which figure.
    pub figure: ServerFigure,
    /// Of what; empty for the server as a whole.
    pub object: String,
    /// Its mean then.
    pub then: f64,
    /// Its mean now.
    pub now: f64,
    /// By how much it moved within what is usual of it: 1 is from the middle of its range to the end.
    pub apart: f64,
}

/// Figures that both periods tell of, those that moved most within their own usual range first. Each is held against what
/// is usual for its hours, so that other hours alone move nothing.
pub fn figures_moved(then: &[Moved], now: &[Moved]) -> Vec<FigureMoved> {
    let before: HashMap<(ServerFigure, &str), &Moved> =
        then.iter().map(|moved| ((moved.figure, moved.object.as_str()), moved)).collect();
    let both = |now: &Moved| {
        let then = before.get(&(now.figure, now.object.as_str()))?;
        Some(FigureMoved {
            figure: now.figure,
            object: now.object.clone(),
            then: then.value,
            now: now.value,
            apart: now.reach - then.reach,
        })
    };
    let mut figures: Vec<FigureMoved> = now.iter().filter_map(both).collect();
    by_most(&mut figures, |figure| figure.apart);
    figures
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::findings::normal_range::Usual;
    use crate::readings::metric::Metric;

    fn moved(figure: ServerFigure, value: f64, reach: f64) -> Moved {
        let usual = Usual { low: 0.0, middle: 1.0, high: 2.0 };
        Moved { figure, object: String::new(), value, usual, reach }
    }

    #[test]
    fn what_left_its_hours_comes_before_what_is_larger_by_the_hour() {
        let (load, read) = (ServerFigure::Load, ServerFigure::Metric(Metric::StorageRead));
        let then = [moved(load, 1.0, 0.1), moved(read, 5e7, 0.0)];
        // Load is four times as high, as it always is at that hour; reads have left their range.
        let now = [moved(load, 4.0, 0.2), moved(read, 9e7, -2.5), moved(ServerFigure::Metric(Metric::Cpus), 8.0, 0.0)];
        let told: Vec<_> = figures_moved(&then, &now).into_iter().map(|one| (one.figure, one.then, one.now)).collect();
        assert_eq!(told, [(read, 5e7, 9e7), (load, 1.0, 4.0)]);
    }
}
